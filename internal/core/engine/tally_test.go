package engine_test

import (
	"math/rand/v2"
	"testing"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldgen"
)

// TestTally compares what masks make of whole reaches with asking everything, one
// question after the other, at several moments of random worlds.
func TestTally(t *testing.T) {
	yes, conditions := map[catalogue.ActionID]int{}, map[catalogue.Condition]int{}
	homes := 0
	for seed := uint64(2000); seed < 2072; seed++ {
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 40, Grants: 200, Spaces: 9, Items: 60, Partners: 6, People: 6, Groups: 4, Meetings: 8, Links: 20, Exceptions: 20},
			now))
		stillIn(w)
		if seed%3 == 0 {
			someDates(rand.New(rand.NewPCG(seed, 17)), w)
		} else {
			w.DatesFrom = append(w.DatesFrom, world.DatesFrom{From: now + 400*86400e6})
		}
		if seed%2 == 0 { // more is open
			for i := range w.Rules {
				if r := w.Rules[i].Rule.Get(); r.Scale.Shape == catalogue.Level || r.Scale.Shape == catalogue.Switch {
					all := r.Scale.All()
					w.Rules[i].Limit = all[len(all)-1]
				}
			}
		}
		switch seed % 4 {
		case 1: // many private addresses, which directory.personal lets in or not
			for i := range 2 {
				w.Personal = append(w.Personal, w.Partners[i].Domains...)
				w.Partners[i].Domains = nil
			}
			for i := range w.Rules {
				if w.Rules[i].Rule == catalogue.MustRule("directory.personal") {
					w.Rules[i].Limit, w.Rules[i].Default = catalogue.On, catalogue.Value(seed/4%2)
				}
			}
		case 2: // many who come with accounts of their own, whose side ages
			w.Guests = w.Guests[:5]
			for i := range w.Rules {
				if w.Rules[i].Rule == catalogue.MustRule("spaces.connect") {
					w.Rules[i].Limit, w.Rules[i].Default = catalogue.Value(2), catalogue.Value(2)
				}
			}
			for i := range w.Partners {
				p := &w.Partners[i]
				p.Standing, p.Opened = world.Active, [catalogue.NumKeys]world.Opening{}
				p.Stance = []world.Stance{{Key: catalogue.In(catalogue.Spaces), Says: world.SaysAdmits, Source: "recorded", AsOf: now - 100*86400e6,
					Until: now + moment.Moment(i*5)*86400e6}}
			}
		case 3: // drives whose owners have exceptions, their own and those of their groups
			for i := range w.Spaces {
				w.Spaces[i].Kind = world.Drive
			}
			for i := range w.People {
				w.People[i].Groups = []string{w.Groups[i%len(w.Groups)].ID}
			}
			for i := range w.Exceptions {
				x := &w.Exceptions[i]
				x.Rules = []world.Setting{{Rule: catalogue.MustRule("files.drive_given_to"), Value: catalogue.Value((i / 2) % 3)}}
				if x.Groups = nil; i%2 == 0 {
					x.People, x.Groups = nil, []string{w.Groups[i/2%len(w.Groups)].ID}
				}
				if i%3 != 0 {
					x.Parties = nil
				}
			}
			for i := range w.Rules {
				if w.Rules[i].Rule == catalogue.MustRule("files.drive_given_to") {
					w.Rules[i].Limit, w.Rules[i].Default = catalogue.Value(2), catalogue.Value(seed/4%3)
				}
			}
		}
		s := engine.Of(w)
		all := resourcesOf(w)
		for _, at := range []moment.Moment{now, now - 40*86400e6, now + 12*86400e6} {
			tally := s.Tally(at)
			population := s.Population(at, nil)
			var total engine.Sum
			known := map[engine.Who]bool{}
			everybody, _, err := s.Group("everybody", at)
			if err != nil {
				t.Fatal(err)
			}
			for _, who := range everybody {
				known[who] = true
			}
			kinds, partners, spaces := map[string]int{}, map[string]int{}, map[string]int{}
			for _, name := range outsiders(w, s) {
				who, err := engine.ParseWho(name)
				if err != nil {
					t.Fatal(err)
				}
				if who.Kind == engine.ByAddress && !known[who] {
					continue // typical newcomers stand for them
				}
				type answer struct {
					set        engine.Actions
					home       engine.Actions
					conditions map[catalogue.ActionID]catalogue.Condition
				}
				want := map[world.Resource]*answer{}
				n, kind, partner := 0, "", ""
				for _, act := range catalogue.Actions() {
					for _, r := range all {
						if act.Address || act.Asks[catalogue.Ours] != nil && act.Asks[catalogue.Record] == nil || !act.Takes(r.Kind) ||
							!byRole(&act, r.Kind) {
							continue
						}
						q := engine.Question{Subject: who, Action: act.ID, Resource: r, At: at}
						v, err := s.Decide(&q)
						if err == nil {
							kind = v.Kind.String()
						}
						if err != nil || !v.Yes {
							continue
						}
						x := want[r]
						if x == nil {
							x = &answer{conditions: map[catalogue.ActionID]catalogue.Condition{}}
							want[r] = x
						}
						x.set |= 1 << act.ID
						if v.Account == engine.HomeAccount && v.Conditions&catalogue.BecomesGuest == 0 {
							x.home |= 1 << act.ID
							homes++
						}
						x.conditions[act.ID] = v.Conditions
						conditions[v.Conditions]++
						yes[act.ID]++
						n++
						total.Actions[act.ID]++
						space := r.ID
						if r.Kind.IsItem() {
							space = s.SpaceOf(r.ID)
						} else if r.Kind == catalogue.Meeting {
							for i := range w.Meetings {
								if w.Meetings[i].ID == r.ID {
									space = w.Meetings[i].Space
								}
							}
						}
						spaces[space]++
					}
				}
				if who.Kind == engine.ByAddress {
					if m := s.Match(who.Address); m.Partner != nil {
						partner = m.Partner.ID
					}
					for _, g := range tally.Reach(who.Address, nil) {
						x := want[tally.Resource(&g)]
						if x == nil || x.set != g.All() || x.home != g.Home {
							t.Fatalf("seed %d at %s: %s on %s: masks say %b (home %b), asked one by one: %+v", seed, at, name, tally.Resource(&g), g.All(),
								g.Home, x)
						}
						for a, c := range x.conditions {
							if got := tally.Conditions(who.Address, a, g.Home.Has(a)); got != c {
								t.Fatalf("seed %d at %s: %s %s %s: conditions %v, asked: %v", seed, at, name, a, tally.Resource(&g), got, c)
							}
						}
						delete(want, tally.Resource(&g))
					}
					for r, x := range want {
						t.Fatalf("seed %d at %s: %s may do %b with %s, and masks say nothing", seed, at, name, x.set, r)
					}
				}
				kinds[kind] += n
				partners[partner] += n
			}
			if total.Actions != population.All.Actions {
				t.Fatalf("seed %d at %s: counted\n%v, asked one by one\n%v", seed, at, population.All.Actions, total.Actions)
			}
			for k, n := range kinds {
				if x := population.Kinds[k]; n > 0 && (x == nil || x.Total() != n) {
					t.Fatalf("seed %d at %s: kind %s: %+v, asked %d", seed, at, k, x, n)
				}
			}
			for k, n := range partners {
				if x := population.Partners[k]; n > 0 && (x == nil || x.Total() != n) {
					t.Fatalf("seed %d at %s: partner %q: %+v, asked %d", seed, at, k, x, n)
				}
			}
			for k, n := range spaces {
				if population.Spaces[k] != n {
					t.Fatalf("seed %d at %s: space %s: %d, asked %d", seed, at, k, population.Spaces[k], n)
				}
			}
		}
	}
	for _, act := range catalogue.Actions() {
		for _, k := range act.On {
			if !act.Address && !(act.Asks[catalogue.Ours] != nil && act.Asks[catalogue.Record] == nil) && byRole(&act, k) && yes[act.ID] < 20 {
				t.Errorf("%s was a yes %d times", act.Name, yes[act.ID])
			}
		}
	}
	if homes < 100 || len(conditions) < 8 {
		t.Errorf("%d by home accounts, %d sets of conditions", homes, len(conditions))
	}
}

// byRole reports whether every account needs a role or a link for an action.
func byRole(act *catalogue.Action, k catalogue.ResourceKind) bool {
	some := false
	for c, a := range act.Rows(k) {
		if a != nil && catalogue.Class(c) != catalogue.Ours {
			if some = true; a.Holding != catalogue.ByRole && a.Holding != catalogue.ByLink {
				return false
			}
		}
	}
	return some
}
