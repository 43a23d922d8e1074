package others

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/snapfile"
)

var now = moment.Of(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC))

// What is compared is the part of the model that fits into a page of any of the libraries' languages: who is suspended,
// which partner is, what is opened to it, which spaces take guests, which items are private, and what each guest was given,
// as of one moment. Layers of rules, dates, groups, links, exceptions and reasons are left out, though the engine computes
// with them all the same.

type guest struct {
	name    string
	active  bool
	partner int
	grants  []grant
}

type grant struct {
	thing int // its place in things
	role  catalogue.Role
}

type partner struct {
	name          string
	active, files bool
}

type thing struct {
	name            string // kind:id
	kind            catalogue.ResourceKind
	id              string
	space           int // place of its space, its own for a space
	guests, private bool
}

type facts struct {
	guests   []guest
	partners []partner
	things   []thing
}

// deed is an action that is asked about, and what it takes.
type deed struct {
	name string
	kind catalogue.ResourceKind
	role catalogue.Role
	file bool // only for those to whose partner files are open
	item bool // a role on the item alone will do
}

var deeds = []deed{
	{"spaces.enter", catalogue.Space, catalogue.View, false, false},
	{"chat.post", catalogue.Channel, catalogue.Contribute, false, false},
	{"spaces.edit_page", catalogue.Page, catalogue.Contribute, false, false},
	{"files.open", catalogue.Folder, catalogue.View, true, true},
	{"files.edit", catalogue.Folder, catalogue.Contribute, true, true},
}

// made makes facts about so many guests: ten grants each, a space for twenty of them, ten items in each, a partner for two
// hundred. One guest in ten is suspended, one partner in twenty; files are open to nine partners in ten; nine spaces in ten
// take guests; one item in twenty is private.
func made(n int) *facts {
	r := rand.New(rand.NewPCG(7, uint64(n)))
	one := func(in int) bool { return r.IntN(in) == 0 }
	f := &facts{}
	for i := range max(1, n/200) {
		f.partners = append(f.partners, partner{fmt.Sprintf("p%d", i), !one(20), !one(10)})
	}
	kinds := []catalogue.ResourceKind{catalogue.Channel, catalogue.Page, catalogue.Folder, catalogue.Folder, catalogue.Folder}
	for i := range max(1, n/20) {
		at, takes := len(f.things), !one(10)
		id := fmt.Sprintf("s%d", i)
		f.things = append(f.things, thing{name: "space:" + id, kind: catalogue.Space, id: id, space: at, guests: takes})
		for k := range 10 {
			x := thing{kind: kinds[k%len(kinds)], id: fmt.Sprintf("i%d-%d", i, k), space: at}
			x.private = x.kind == catalogue.Folder && one(20)
			x.name = x.kind.String() + ":" + x.id
			f.things = append(f.things, x)
		}
	}
	for i := range n {
		p := r.IntN(len(f.partners))
		g := guest{name: fmt.Sprintf("guest%d@p%d.example", i, p), active: !one(10), partner: p}
		has := map[int]bool{}
		for len(g.grants) < 10 && len(has) < len(f.things) {
			t := r.IntN(len(f.things))
			if one(2) { // half of what is given are spaces
				t = f.things[t].space
			}
			if k := f.things[t].kind; has[t] || k == catalogue.Channel || k == catalogue.Page {
				has[t] = true
				continue
			}
			has[t] = true
			g.grants = append(g.grants, grant{t, []catalogue.Role{catalogue.View, catalogue.View, catalogue.Contribute}[r.IntN(3)]})
		}
		f.guests = append(f.guests, g)
	}
	return f
}

// question asks whether a guest may do something with a thing, each by its place.
type question struct{ guest, deed, thing int }

// questions makes questions spread over everybody; three in four are about a space that the guest was given, or something
// in it.
func (f *facts) questions(n int) (out []question) {
	r := rand.New(rand.NewPCG(5, 5))
	for len(out) < n {
		q := question{guest: r.IntN(len(f.guests)), deed: r.IntN(len(deeds))}
		from := r.IntN(len(f.things))
		if g := &f.guests[q.guest]; r.IntN(4) > 0 && len(g.grants) > 0 {
			from = g.grants[r.IntN(len(g.grants))].thing
		}
		if f.things[from].kind == deeds[q.deed].kind {
			q.thing = from
			out = append(out, q)
			continue
		}
		for k := f.things[from].space; k < min(f.things[from].space+11, len(f.things)); k++ {
			if f.things[k].kind == deeds[q.deed].kind {
				q.thing = k
				out = append(out, q)
				break
			}
		}
	}
	return out
}

// copied returns the facts with texts of their own, so that whoever reads and keeps them counts for what they keep.
func (f *facts) copied() *facts {
	out := &facts{guests: slices.Clone(f.guests), partners: slices.Clone(f.partners), things: slices.Clone(f.things)}
	for i := range out.guests {
		out.guests[i].name, out.guests[i].grants = strings.Clone(out.guests[i].name), slices.Clone(out.guests[i].grants)
	}
	for i := range out.partners {
		out.partners[i].name = strings.Clone(out.partners[i].name)
	}
	for i := range out.things {
		out.things[i].name, out.things[i].id = strings.Clone(out.things[i].name), strings.Clone(out.things[i].id)
	}
	return out
}

// world writes the facts as the product keeps them.
func (f *facts) world() *world.World {
	w := &world.World{}
	domain := func(s string) addr.Domain {
		d, err := addr.ParseDomain(s)
		if err != nil {
			panic(err)
		}
		return d
	}
	w.Organisation = &world.Organisation{Name: "Many", Domains: []world.Entry{{Domain: domain("ours.example")}}, Zone: time.UTC}
	w.People = []world.Person{{ID: "uma", Name: "Uma"}}
	for _, x := range []struct{ rule, value string }{{"directory.guests", "on"}, {"spaces.pages", "on"}, {"files.domains", "listed"}} {
		rule := catalogue.MustRule(x.rule)
		v, err := rule.Get().Scale.Parse(x.value)
		if err != nil {
			panic(err)
		}
		w.Rules = append(w.Rules, world.RuleSetting{Rule: rule, Limit: v, Default: v})
	}
	on := func(v string) []world.Setting {
		rule := catalogue.MustRule("spaces.guests")
		x, err := rule.Get().Scale.Parse(v)
		if err != nil {
			panic(err)
		}
		return []world.Setting{{Rule: rule, Value: x}}
	}
	for i := range f.partners {
		p := &f.partners[i]
		x := world.Partner{ID: p.name, Name: p.name, Domains: []world.Entry{{Domain: domain(p.name + ".example")}}, StandingSince: moment.Always,
			Review: moment.Never}
		if !p.active {
			x.Standing = world.Suspended
		}
		for k := range x.Opened {
			x.Opened[k] = world.OpenYes
		}
		if !p.files {
			x.Opened[catalogue.In(catalogue.Files)] = world.OpenNo
		}
		w.Partners = append(w.Partners, x)
	}
	for i := range f.things {
		t := &f.things[i]
		if t.kind == catalogue.Space {
			w.Spaces = append(w.Spaces, world.Space{ID: t.id, Name: t.id, Owners: []string{"uma"},
				Rules: on(map[bool]string{true: "on", false: "off"}[t.guests])})
			continue
		}
		s := &w.Spaces[len(w.Spaces)-1]
		s.Items = append(s.Items, world.Item{ID: t.id, Space: s.ID, Kind: t.kind, Name: t.id, Private: t.private})
	}
	since := now - 30*86400e6
	w.Guests, w.Grants = make([]world.Guest, 0, len(f.guests)), make([]world.Grant, 0, 10*len(f.guests))
	for i := range f.guests {
		g := &f.guests[i]
		a, err := addr.Parse(g.name)
		if err != nil {
			panic(err)
		}
		x := world.Guest{Address: a, Sponsor: "uma", Since: since, Accepted: since, Renewed: since, Until: moment.Never, Terms: since,
			LastSeen: now - 86400e6, StateSince: since, State: world.StateActive}
		if !g.active {
			x.State = world.StateSuspended
		}
		w.Guests = append(w.Guests, x)
		for _, h := range g.grants {
			w.Grants = append(w.Grants, world.Grant{Address: a, Resource: f.resource(h.thing), Role: h.role, From: since,
				Until: moment.Never, Reviewed: moment.Always})
		}
	}
	return w
}

func (f *facts) resource(i int) world.Resource {
	return world.Resource{Kind: f.things[i].kind, ID: f.things[i].id}
}

// What ours made last, for the file of it.
var (
	snapshot *engine.Snapshot
	policy   *world.World
)

// fromFile is how long a start from the snapshot file takes, which is how a service starts that has run before.
func fromFile(b *testing.B) time.Duration {
	b.Helper()
	file := filepath.Join(b.TempDir(), "snapshot")
	if _, err := snapfile.Write(file, snapfile.At{Seq: 1}, snapshot.Store); err != nil {
		b.Fatal(err)
	}
	var took []time.Duration
	for range rounds {
		begin := time.Now()
		_, in, told, err := snapfile.Open(file)
		if err != nil {
			b.Fatal(err)
		}
		if _, err := engine.Stored(in, told, policy); err != nil {
			b.Fatal(err)
		}
		took = append(took, time.Since(begin))
		snapfile.Close(in)
	}
	slices.Sort(took)
	snapshot, policy = nil, nil
	return took[rounds/2]
}

// ours asks the engine.
func ours(f *facts) (asks, error) {
	w := f.world()
	e := engine.New()
	e.Add(w)
	e.SetPolicy(&world.World{Policy: w.Policy}) // as the service does: inventory is not kept twice
	s := e.Done()
	snapshot, policy = s, &world.World{Policy: w.Policy}
	return func(f *facts, q []question) func(int) bool {
		all := make([]engine.Question, len(q))
		for i, x := range q {
			a, err := addr.Parse(f.guests[x.guest].name)
			if err != nil {
				panic(err)
			}
			act, _ := catalogue.ActionByName(deeds[x.deed].name)
			all[i] = engine.Question{Subject: engine.Who{Address: a}, Action: act.ID, Resource: f.resource(x.thing), At: now}
		}
		return func(i int) bool {
			d, err := s.Decide(&all[i])
			if err != nil {
				panic(err)
			}
			return d.Yes
		}
	}, nil
}
