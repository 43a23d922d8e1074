package answer

import (
	"cmp"
	"encoding/binary"
	"slices"
	"strconv"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
)

// Audience is everybody outside who can do something with a resource, in the
// order of who they are: known ones first, then by address, resource and action.
// A line takes 16 bytes, of which there may be a million; what is long of it is
// written out when a page is shown (see Lines).
type Audience struct {
	whos      []listed
	resources []about
	lines     []audienceLine
	known     int // of whos
	newcomers int
}

// listed is one of an audience, and what is said of them in each of their lines.
type listed struct {
	someone
	name, partner string
}

// about is what a line is about.
type about struct {
	resource world.Resource
	title    string
}

// someone is one of an audience. A link is a known one of what it opens, and stands
// for newcomers without an account elsewhere.
type someone struct {
	who      engine.Who
	newcomer bool
}

// audienceLine is a line of an audience.
type audienceLine struct {
	who        uint32
	resource   uint32
	conditions catalogue.Condition
	action     catalogue.ActionID
	account    engine.Account
	kind       engine.Kind
	residual   bool
}

// Len is how many lines there are.
func (a *Audience) Len() int { return len(a.lines) }

// Counted counts known parties and typical newcomers.
func (a *Audience) Counted() (parties, newcomers int) { return a.known, a.newcomers }

// line writes a line out, without its cause and spell.
func (a *Audience) line(i int) engine.Reached {
	l := &a.lines[i]
	w, r := &a.whos[l.who], &a.resources[l.resource]
	return engine.Reached{Who: w.who, Name: w.name, Kind: l.kind, Partner: w.partner, Newcomer: w.newcomer, Action: l.action,
		Resource: r.resource, Title: r.title, Account: l.account, Conditions: l.conditions, Residual: l.residual}
}

// Key is what a line is known by; lines are in the order of their keys.
func (a *Audience) Key(i int) string {
	l := &a.lines[i]
	x := &a.whos[l.who]
	who, resource := x.who.String(), a.resources[l.resource].resource.String()
	b := make([]byte, 0, len(who)+len(resource)+12)
	b = strconv.AppendBool(b, x.newcomer)
	b = append(append(append(append(b, ' '), who...), ' '), resource...)
	b = append(b, ' ', '0'+byte(l.action/100), '0'+byte(l.action/10%10), '0'+byte(l.action%10))
	return string(b)
}

// Lines are those from one place to another, with causes and spells.
func (v *View) Lines(a *Audience, from, to int, stop func() error) ([]engine.Reached, error) {
	out := make([]engine.Reached, 0, to-from)
	for i := from; i < to; i++ {
		if err := stop(); err != nil {
			return nil, err
		}
		x := a.line(i)
		if err := v.Snapshot.Complete(&x, v.At); err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, nil
}

// Audience finds everybody outside who can do something with a resource. stop
// ends the work early.
func (v *View) Audience(r world.Resource, all bool, action string, f Filter, stop func() error) (*Audience, error) {
	only, err := OnlyAction(action)
	if err != nil {
		return nil, err
	}
	out := &Audience{}
	// Where nobody can hold anything, lines come party by party, and none of them
	// has to be found again.
	apart := r.Kind != catalogue.Space && r.Kind != catalogue.Meeting && !r.Kind.IsItem()
	places, things := map[someone]uint32{}, map[world.Resource]uint32{}
	var who someone // whom the line before was of
	var kept bool
	var at, on uint32
	n := 0
	err = v.Snapshot.Audience(r, all, only, v.At, func(x *engine.Reached) error {
		if n++; n%1024 == 1 {
			if err := stop(); err != nil {
				return err
			}
		}
		if is := (someone{x.Who, x.Newcomer}); n == 1 || is != who {
			who = is
			var ok bool
			if kept = f.keeps(x.Who.String(), x.Name, x.Partner, x.Kind.String()); kept {
				if !apart {
					at, ok = places[who]
				}
				if !ok {
					if at, out.whos = uint32(len(out.whos)), append(out.whos, listed{who, x.Name, x.Partner}); !apart {
						places[who] = at
					}
				}
			}
		}
		if !kept {
			return nil
		}
		if len(out.resources) == 0 || out.resources[on].resource != x.Resource {
			var ok bool
			if on, ok = things[x.Resource]; !ok {
				on = uint32(len(out.resources))
				things[x.Resource], out.resources = on, append(out.resources, about{x.Resource, x.Title})
			}
		}
		out.lines = append(out.lines, audienceLine{at, on, x.Conditions, x.Action, x.Account, x.Kind, x.Residual})
		return nil
	})
	if err != nil {
		return nil, err
	}
	for i := range out.whos {
		if is := &out.whos[i]; is.newcomer {
			if _, too := places[someone{is.who, false}]; !too {
				out.newcomers++
			}
		}
	}
	out.sort()
	return out, nil
}

// sort brings lines into the order of their keys. Parties are sorted, and not
// their lines: each has some ten.
func (a *Audience) sort() {
	type named struct {
		begins [2]uint64 // of the text, so that most are told apart without looking it up
		at     uint32
		new    bool
	}
	texts, order := make([]string, len(a.whos)), make([]named, len(a.whos))
	for i := range a.whos {
		texts[i] = a.whos[i].who.String() + " " // as in the key: what is behind the text is less than any letter
		var b [16]byte
		copy(b[:], texts[i])
		order[i] = named{[2]uint64{binary.BigEndian.Uint64(b[:8]), binary.BigEndian.Uint64(b[8:])}, uint32(i), a.whos[i].newcomer}
	}
	slices.SortFunc(order, func(x, y named) int {
		switch {
		case x.new && !y.new:
			return 1
		case y.new && !x.new:
			return -1
		case x.begins[0] != y.begins[0]:
			return cmp.Compare(x.begins[0], y.begins[0])
		case x.begins[1] != y.begins[1]:
			return cmp.Compare(x.begins[1], y.begins[1])
		}
		return strings.Compare(texts[x.at], texts[y.at])
	})
	resources := make([]string, len(a.resources))
	for i := range resources {
		resources[i] = a.resources[i].resource.String() + " "
	}
	ends := make([]uint32, len(a.whos))
	for i := range a.lines {
		ends[a.lines[i].who]++
	}
	whos, rank := make([]listed, len(a.whos)), make([]uint32, len(a.whos))
	at := uint32(0)
	for k, x := range order {
		whos[k], rank[x.at] = a.whos[x.at], uint32(k)
		if !x.new {
			a.known = k + 1
		}
		at, ends[x.at] = at+ends[x.at], at
	}
	lines := make([]audienceLine, len(a.lines))
	for i := range a.lines {
		l := a.lines[i]
		to := ends[l.who]
		ends[l.who]++
		l.who = rank[l.who]
		lines[to] = l
	}
	from := uint32(0)
	for _, x := range order {
		slices.SortFunc(lines[from:ends[x.at]], func(x, y audienceLine) int {
			return cmp.Or(strings.Compare(resources[x.resource], resources[y.resource]), cmp.Compare(x.action, y.action))
		})
		from = ends[x.at]
	}
	a.whos, a.lines = whos, lines
}
