package native

import (
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
)

// Turn says which way a change of a setting goes. Whatever may loosen is
// weighed before it is written; what only tightens goes at once.
type Turn string

// A change of words alone loosens nothing and tightens nothing.
const (
	Loosens  Turn = "loosens"
	Tightens Turn = "tightens"
	Both     Turn = "both"
	Same     Turn = "same"
	Unclear  Turn = "unclear" // one side is not understood: it is taken for a loosening
)

// Step is one setting that is to be written: its value there, and the one that
// it gets. Was is empty where there is nothing yet.
type Step struct {
	Path, Was, Becomes string
	Turn               Turn
}

// Steps compares what a system holds with what it should hold.
func (d *Dialect) Steps(read map[string]string, meant []Setting) (out []Step) {
	for _, s := range meant {
		if was := read[s.Path]; was != s.Value {
			out = append(out, Step{s.Path, was, s.Value, d.Turn(s.Path, was, s.Value)})
		}
	}
	return
}

// Turn says which way a setting goes from one value to another. Words are
// compared by what they may mean at the least and at the most: *Tightens* is
// only what is tighter however both are read.
func (d *Dialect) Turn(path, was, becomes string) Turn {
	if IsSet(path) {
		return d.turnCharter(was, becomes)
	}
	for i := range d.Dials {
		x := &d.Dials[i]
		if x.Path != path {
			continue
		}
		a0, a1, okA := x.read(was)
		b0, b1, okB := x.read(becomes)
		switch {
		case !okA || !okB:
			return Unclear
		case a0 == b0 && a1 == b1:
			return Same
		case b1 <= a0:
			return Tightens
		case b0 >= a1:
			return Loosens
		}
		return Both
	}
	for i := range d.Boards {
		b := &d.Boards[i]
		if b.Path != path {
			continue
		}
		m0, l0, err0 := ParseBoard(was)
		m1, l1, err1 := ParseBoard(becomes)
		known := func(m string) bool { return m == b.Only || m == b.But }
		if err0 != nil || err1 != nil || !known(m0) || !known(m1) {
			return Unclear
		}
		// A name that comes onto a list of those alone loosens; one that is
		// taken out of it again tightens.
		missing := func(of, in []string, out bool) bool { // those named, or taken out again
			return slices.ContainsFunc(of, func(x string) bool { return strings.HasPrefix(x, not) == out && !slices.Contains(in, x) })
		}
		come, gone := missing(l1, l0, false) || missing(l0, l1, true), missing(l0, l1, false) || missing(l1, l0, true)
		loosens, tightens := come, gone // of a list of those alone
		switch {
		case m0 == b.But && m1 == b.But:
			loosens, tightens = gone, come
		case m0 != m1 && (slices.ContainsFunc(l0, isOut) || slices.ContainsFunc(l1, isOut)):
			return Both
		case m0 == b.Only && m1 == b.But:
			loosens, tightens = true, slices.ContainsFunc(l1, func(x string) bool { return slices.Contains(l0, x) })
		case m0 == b.But && m1 == b.Only:
			loosens, tightens = slices.ContainsFunc(l1, func(x string) bool { return slices.Contains(l0, x) }), true
		}
		return turnOf(loosens, tightens)
	}
	return Unclear
}

// Opened is an opening that a partner gets.
type Opened struct {
	Partner string
	Key     catalogue.Key
	To      world.Opening
}

// Taken is what a system holds, as policy. It becomes a draft: nothing is
// published by it.
type Taken struct {
	Rules  []world.RuleSetting
	Opened []Opened
	Left   []string // what could not be said as policy, in sentences
}

// Take turns what a system holds otherwise than meant into policy, in its
// loosest faithful reading: the value where no place says anything, and
// openings of partners. With path only that setting. What cannot be said as
// policy is told in sentences (Taken.Left).
//
// A limit is moved along where the value would be looser than it.
func (d *Dialect) Take(m *Meant, read map[string]string, path string) *Taken {
	out := &Taken{}
	f := d.From(read)
	meant := map[string]string{}
	for _, s := range d.Wanted(m, read) {
		meant[s.Path] = s.Value
		if IsSet(s.Path) && read[s.Path] != s.Value && (path == "" || path == s.Path) {
			out.Left = append(out.Left, fmt.Sprintf("the set of values for %s, which is said here at the partner, the space or the person",
				strings.TrimPrefix(s.Path, charterPrefix)))
		}
	}
	wanted := func(p string) bool {
		return (path == "" || p == path) && read[p] != meant[p] && d.Turn(p, read[p], meant[p]) != Same
	}
	for i := range d.Dials {
		x := &d.Dials[i]
		r, _ := catalogue.RuleByName(x.Rule)
		if !wanted(x.Path) {
			continue
		}
		from := f.Values
		if x.Ceiling {
			from = f.Limits
		}
		v, ok := from[r.ID]
		if !ok {
			continue
		}
		limit, def := organisation(m.Policy, r)
		set := world.RuleSetting{Rule: r.ID, Limit: catalogue.Unset, Default: catalogue.Unset, Counts: catalogue.Unset}
		if k := slices.IndexFunc(out.Rules, func(y world.RuleSetting) bool { return y.Rule == r.ID }); k >= 0 {
			set = out.Rules[k]
			out.Rules = slices.Delete(out.Rules, k, k+1)
			if set.Limit != catalogue.Unset {
				limit = set.Limit
			}
			if set.Default != catalogue.Unset {
				def = set.Default
			}
		}
		if x.Ceiling {
			set.Limit = v.Most
			if r.Scale.Looser(def, v.Most) {
				set.Default = v.Most
			}
		} else {
			set.Default = v.Most
			if r.Scale.Looser(v.Most, limit) {
				set.Limit = v.Most
			}
		}
		if v.Least != v.Most {
			out.Left = append(out.Left, fmt.Sprintf("%s is %q, which may mean more or less; it is taken for %s", x.Path, read[x.Path],
				r.Scale.Format(v.Most)))
		}
		out.Rules = append(out.Rules, set)
	}
	for i := range f.Boards {
		b := &f.Boards[i]
		if !wanted(b.Board.Path) {
			continue
		}
		r, _ := catalogue.RuleByName(b.Board.Rule)
		limit, def := organisation(m.Policy, r)
		level := anyone
		if !b.But {
			if level = listed; len(b.Domains) == 0 {
				level = closed
			}
		}
		if level != def && !b.Board.Opens {
			set := world.RuleSetting{Rule: r.ID, Limit: catalogue.Unset, Default: level, Counts: catalogue.Unset}
			if r.Scale.Looser(level, limit) {
				set.Limit = level
			}
			out.Rules = append(out.Rules, set)
		}
		known := map[string]bool{}
		for k := range m.Policy.Partners {
			p := m.Policy.Partners[k]
			was := p.Opened
			if level != closed || b.Board.Opens {
				b.open(&p, true)
			}
			for key := range p.Opened {
				if p.Opened[key] != was[key] {
					out.Opened = append(out.Opened, Opened{p.ID, catalogue.Key(key), p.Opened[key]})
				}
			}
			for _, e := range p.Domains {
				known[e.Domain.String()] = true
				known["*."+e.Domain.String()] = true
			}
		}
		for _, dom := range b.Domains {
			if !known[dom] {
				out.Left = append(out.Left, fmt.Sprintf("%s names %s, which is no partner's domain", b.Board.Path, dom))
			}
		}
	}
	for _, u := range f.Unread {
		if path == "" || u.Path == path {
			out.Left = append(out.Left, fmt.Sprintf("%s is not understood: %s", u.Path, u.Why))
		}
	}
	return out
}

// turnOf puts what was found of the parts together.
func turnOf(loosens, tightens bool) Turn {
	switch {
	case loosens && tightens:
		return Both
	case loosens:
		return Loosens
	case tightens:
		return Tightens
	}
	return Same
}
