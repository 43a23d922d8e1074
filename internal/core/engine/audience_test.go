package engine_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"sort"
	"strings"
	"testing"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldgen"
)

func tiny(seed uint64) *world.World {
	return world.Merge(&world.World{}, worldgen.Generate(seed,
		worldgen.Size{Guests: 14, Grants: 40, Spaces: 5, Items: 16, Partners: 3, People: 5, Groups: 2, Meetings: 3, Links: 6, Exceptions: 8},
		now))
}

// resourcesOf lists every resource of a world.
func resourcesOf(w *world.World) (out []world.Resource) {
	for i := range w.Spaces {
		out = append(out, world.Resource{Kind: catalogue.Space, ID: w.Spaces[i].ID})
		for _, it := range w.Spaces[i].Items {
			out = append(out, world.Resource{Kind: it.Kind, ID: it.ID})
		}
	}
	for i := range w.Meetings {
		out = append(out, world.Resource{Kind: catalogue.Meeting, ID: w.Meetings[i].ID})
	}
	for i := range w.People {
		for _, k := range []catalogue.ResourceKind{catalogue.Person, catalogue.Mailbox, catalogue.Calendar} {
			out = append(out, world.Resource{Kind: k, ID: w.People[i].ID})
		}
	}
	return append(out, world.Resource{Kind: catalogue.OurDirectory, ID: "ours"})
}

// outsidersAt lists everybody outside who counts as known at a moment, and typical newcomers.
func outsidersAt(w *world.World, s *engine.Snapshot, at moment.Moment) (out []string) {
	sl := &slow{w}
	apart := map[string]bool{}
	for _, n := range s.NewcomersAt(at) {
		apart[n.Who.String()] = true
	}
	for _, name := range outsiders(w, s) {
		if g := sl.guest(name); g != nil && !apart[name] {
			p := sl.party(name, at)
			met := slices.ContainsFunc(w.Contacts, func(c world.Contact) bool { return c.Accepted && c.Party.String() == name })
			given := slices.ContainsFunc(w.Links, func(l world.Link) bool {
				return slices.ContainsFunc(l.For, func(a addr.Address) bool { return a.String() == name })
			}) || len(sl.everIn(name)) > 0
			for x := range sl.held() {
				given = given || x.Address.String() == name
			}
			if p.record == nil && !met && !(given && sl.has(&p, at)) {
				continue
			}
		}
		out = append(out, name)
	}
	for name := range apart {
		if !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return
}

// outsiders lists everybody outside whom a world knows, and typical newcomers.
func outsiders(w *world.World, s *engine.Snapshot) (out []string) {
	seen := map[string]bool{}
	add := func(x string) {
		if !seen[x] {
			seen[x] = true
			out = append(out, x)
		}
	}
	for i := range w.Guests {
		add(w.Guests[i].Address.String())
	}
	for i := range w.Grants {
		if !w.Grants[i].Address.IsZero() {
			add(w.Grants[i].Address.String())
		}
	}
	for i := range w.Holdings {
		add(w.Holdings[i].Party.String())
	}
	for i := range w.Groups {
		for _, a := range w.Groups[i].Parties {
			add(a.String())
		}
	}
	for i := range w.Links {
		if w.Links[i].Bearer() {
			add("link:" + w.Links[i].ID)
		}
		for _, a := range w.Links[i].For {
			add(a.String())
		}
	}
	for i := range w.Contacts {
		if w.Contacts[i].Accepted {
			add(w.Contacts[i].Party.String())
		}
	}
	for _, n := range s.NewcomersAt(now) {
		add(n.Who.String())
	}
	return
}

// TestAudienceAgainstSlow asks the slow evaluator every triple of random worlds: the
// audience of each resource is those who get a yes and nobody else, at any moment.
func TestAudienceAgainstSlow(t *testing.T) {
	yes, asks := 0, 0
	for seed := uint64(300); seed < 306; seed++ {
		w := tiny(seed)
		s, sl := engine.Of(w), &slow{w}
		for k, at := range []moment.Moment{now, now + 20*86400e6, now - 40*86400e6} {
			who := outsidersAt(w, s, at)
			if k > 0 && seed%3 != 0 {
				continue
			}
			for _, r := range resourcesOf(w) {
				var got, want []string
				if err := s.Audience(r, false, nil, at, func(x *engine.Reached) error {
					got = append(got, x.Who.String()+" "+x.Action.String())
					return nil
				}); err != nil {
					t.Fatal(r, err)
				}
				for _, act := range catalogue.Actions() {
					if !act.Takes(r.Kind) || act.Address || act.Asks[catalogue.Ours] != nil && act.Asks[catalogue.Record] == nil {
						continue
					}
					bearers := 0
					for _, p := range who {
						if strings.HasPrefix(p, "link:") && !r.Kind.IsItem() {
							if bearers++; bearers > 1 {
								continue // one stands for all who have no account
							}
						}
						a := sl.answer(asked{who: p, action: act.Name, resource: r.String(), at: at})
						asks++
						if !a.wrong && a.accounts[0].refusing == "" {
							want = append(want, p+" "+act.Name)
							yes++
						}
					}
				}
				sort.Strings(got)
				sort.Strings(want)
				if strings.Join(got, "\n") != strings.Join(want, "\n") {
					t.Fatalf("world of seed %d, %s at %s:\n%s\nslow\n%s", seed, r, at, strings.Join(got, "\n"), strings.Join(want, "\n"))
				}
			}
		}
	}
	if yes < 200 || asks < 20000 {
		t.Errorf("only %d of %d triples were a yes", yes, asks)
	}
}

// TestSpell steps through the days around random answers: within the spell they
// stay what they are, and at its ends they change.
func TestSpell(t *testing.T) {
	tried, ends := 0, 0
	for seed := uint64(400); seed < 430; seed++ {
		w := tiny(seed)
		s := engine.Of(w)
		r := rand.New(rand.NewPCG(seed, 1))
		for range 120 {
			q, err := parse(anyQuestion(r, w, now))
			if err != nil {
				continue
			}
			q.At = now
			v, err := s.Decide(&q)
			if err != nil || !v.Yes {
				continue
			}
			since, until := s.Spell(&q, true)
			at := func(m moment.Moment) bool {
				p := q
				p.At = m
				v, err := s.Decide(&p)
				return err == nil && v.Yes
			}
			tried++
			for d := moment.Moment(-500); d < 500; d += 1 {
				m := now + d*43200e6
				if inside := m >= since && m < until; inside && !at(m) {
					t.Fatalf("seed %d: %s %s %s is a yes from %s until %s, and a no at %s", seed, q.Subject, q.Action, q.Resource, since, until, m)
				}
			}
			for _, end := range []moment.Moment{since - 1, until} {
				if since.IsSet() && end == since-1 || until.IsSet() && end == until {
					ends++
					if at(end) {
						t.Fatalf("seed %d: %s %s %s is said to be a yes from %s until %s, and is one at %s", seed, q.Subject, q.Action, q.Resource, since,
							until, end)
					}
				}
			}
		}
	}
	if tried < 100 || ends < 30 {
		t.Errorf("%d spells, %d ends", tried, ends)
	}
}

// TestBoard compares the counts of a board with asking about everything.
func TestBoard(t *testing.T) {
	some := 0
	for seed := uint64(500); seed < 512; seed++ {
		w := tiny(seed)
		s := engine.Of(w)
		all := resourcesOf(w)
		for _, name := range outsiders(w, s) {
			who, err := engine.ParseWho(name)
			if err != nil {
				t.Fatal(err)
			}
			b, err := s.Board(who, now)
			if err != nil {
				t.Fatal(err)
			}
			var sum [catalogue.NumServices]int
			for _, act := range catalogue.Actions() {
				if act.Address || act.Asks[catalogue.Ours] != nil && act.Asks[catalogue.Record] == nil {
					continue
				}
				for _, r := range all {
					if !act.Takes(r.Kind) {
						continue
					}
					q := engine.Question{Subject: who, Action: act.ID, Resource: r, At: now}
					if v, err := s.Decide(&q); err == nil && v.Yes {
						sum[act.Service()]++
						some++
					}
				}
			}
			for svc := range sum {
				if b.Granted[svc]+b.Wide[svc] != sum[svc] {
					t.Fatalf("seed %d, %s, %s: %d granted and %d wide, and asking everything gives %d", seed, name, catalogue.Service(svc), b.Granted[svc],
						b.Wide[svc], sum[svc])
				}
			}
		}
	}
	if some < 500 {
		t.Errorf("only %d were a yes", some)
	}
}

// TestDifference compares two parties, and two moments of one, with asking about
// everything on both sides.
func TestDifference(t *testing.T) {
	changes := map[string]int{}
	for seed := uint64(600); seed < 612; seed++ {
		w := tiny(seed)
		s := engine.Of(w)
		later := engine.Of(tiny(seed + 1000)) // another world: resources come and go
		who := outsiders(w, s)
		r := rand.New(rand.NewPCG(seed, 3))
		for range 30 {
			a, err := engine.ParseWho(who[r.IntN(len(who))])
			if err != nil {
				t.Fatal(err)
			}
			b := a
			left, right := engine.Asked{Snapshot: s, Who: a, At: now},
				engine.Asked{Snapshot: s, Who: b, At: now + moment.Moment(r.IntN(200)-100)*86400e6}
			switch r.IntN(3) {
			case 0:
				if b, err = engine.ParseWho(who[r.IntN(len(who))]); err != nil {
					t.Fatal(err)
				}
				right.Who, right.At = b, now
			case 1:
				if a.Kind == engine.ByAddress {
					right.Snapshot = later
				}
			}
			got := map[string]int{}
			if err := engine.Difference(left, right, func(d *engine.Differing) error {
				got[d.Action.String()+" "+d.Change()] += d.Count
				changes[d.Change()] += d.Count
				if !d.LeftMissing && d.Was.Code == 0 && d.Was.A == "" && d.Was.Gate == 0 && d.Left.Yes {
					return fmt.Errorf("%s: no cause", d.Action)
				}
				return nil
			}); err != nil {
				t.Fatal(err)
			}
			want := map[string]int{}
			seen := map[world.Resource]bool{}
			for _, res := range append(resourcesOf(w), resourcesOf(tiny(seed+1000))...) {
				if seen[res] {
					continue
				}
				seen[res] = true
				for _, act := range catalogue.Actions() {
					if act.Address || act.Asks[catalogue.Ours] != nil && act.Asks[catalogue.Record] == nil || !act.Takes(res.Kind) {
						continue
					}
					ask := func(x engine.Asked) engine.Verdict {
						q := engine.Question{Subject: x.Who, Action: act.ID, Resource: res, At: x.At}
						v, err := x.Snapshot.Decide(&q)
						if err != nil {
							return engine.Verdict{}
						}
						return v
					}
					l, rr := ask(left), ask(right)
					switch {
					case !l.Yes && rr.Yes:
						want[act.Name+" gained"]++
					case l.Yes && !rr.Yes:
						want[act.Name+" lost"]++
					case l.Yes && l.Conditions != rr.Conditions:
						want[act.Name+" otherwise"]++
					}
				}
			}
			if fmt.Sprint(got) != fmt.Sprint(want) {
				t.Fatalf("seed %d, %s against %s:\n%v\nwant\n%v", seed, left.Who, right.Who, got, want)
			}
		}
	}
	if changes["gained"] < 50 || changes["lost"] < 50 || changes["otherwise"] == 0 {
		t.Errorf("%v", changes)
	}
}

// TestGroups: who is meant by a word for several.
func TestGroups(t *testing.T) {
	w := tiny(700)
	s := engine.Of(w)
	for _, word := range []string{"everybody", "partner:" + w.Partners[0].ID, "group:" + w.Groups[0].ID, "kind:guest", "kind:bearer",
		"kind:federated", "kind:personal", w.Guests[0].Address.String()} {
		known, newcomers, err := s.Group(word, now)
		if err != nil || len(known)+len(newcomers) == 0 {
			t.Errorf("%s: %d known, %d newcomers, %v", word, len(known), len(newcomers), err)
		}
		for _, k := range known {
			if id, ok := strings.CutPrefix(word, "kind:"); ok && k.Kind == engine.ByAddress && s.KindAt(k.Address, now).String() != id {
				t.Errorf("%s holds %s", word, k)
			}
			if word == "partner:"+w.Partners[0].ID {
				if m := s.Match(k.Address); m.Partner == nil || m.Partner.ID != w.Partners[0].ID {
					t.Errorf("%s holds %s", word, k)
				}
			}
		}
	}
	for word, want := range map[string]string{"partner:none": "there is no such partner", "group:none": "there is no such group",
		"kind:odd": "kinds are guest", "nonsense": "there is no @"} {
		if _, _, err := s.Group(word, now); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", word, err)
		}
	}
	if n, err := addr.ParseDomain("unlisted-firm.example"); err != nil || len(s.Newcomers()) < 3 {
		t.Error(n, err, s.Newcomers())
	}
}

// TestAudienceOneByOne compares audiences of people, calendars, meetings and courses with asking
// everybody by themselves, line by line with all that a line says.
func TestAudienceOneByOne(t *testing.T) {
	lines, parties, joins := 0, 0, 0
	for seed := uint64(600); seed < 610; seed++ {
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 150, Grants: 500, Spaces: 20, Items: 30, Partners: 12, People: 30, Groups: 6, Meetings: 12, Links: 10,
				Exceptions: 60}, now))
		for i := range w.Spaces { // courses that people from outside may join by themselves, with some who have
			if i%3 == 0 {
				w.Spaces[i].Kind, w.Spaces[i].Joinable = world.Course, true
			}
		}
		s := engine.Of(w)
		for _, at := range []moment.Moment{now, now + 40*86400e6} {
			known, newcomers, err := s.Group("everybody", at)
			if err != nil {
				t.Fatal(err)
			}
			for _, r := range resourcesOf(w) {
				if r.Kind.IsItem() {
					continue
				}
				var got, want []string
				line := func(x *engine.Reached) string {
					return fmt.Sprintln(x.Who, x.Name, x.Kind, x.Partner, x.Newcomer, x.Action, x.Resource, x.Title, x.Account, x.Conditions, x.Residual)
				}
				if err := s.Audience(r, false, nil, at, func(x *engine.Reached) error {
					got = append(got, line(x))
					return nil
				}); err != nil {
					t.Fatal(r, err)
				}
				ask := func(who engine.Who, n *engine.Newcomer, act *catalogue.Action) {
					v, err := s.Decide(&engine.Question{Subject: who, Action: act.ID, Resource: r, At: at})
					if err != nil || !v.Yes {
						return
					}
					x := engine.Reached{Who: who, Name: s.NameOfSubject(who), Kind: v.Kind, Action: act.ID, Resource: r, Title: s.NameOf(r),
						Account: v.Account, Conditions: v.Conditions, Residual: v.Account == engine.LinkAccount}
					if n != nil {
						x.Newcomer, x.Name, x.Partner = true, n.Name, n.Partner
					}
					if who.Kind == engine.ByAddress {
						if m := s.Match(who.Address); m.Partner != nil {
							x.Partner = m.Partner.ID
							x.Residual = x.Residual || m.Bar != nil || m.Partner.Standing != world.Active
						}
					}
					want = append(want, line(&x))
					if act.Name == "spaces.join" {
						joins++
					}
				}
				for _, act := range catalogue.Actions() {
					if !act.Takes(r.Kind) || act.Address || act.Asks[catalogue.Ours] != nil && act.Asks[catalogue.Record] == nil {
						continue
					}
					for _, who := range known {
						if who.Kind == engine.ByAddress { // links are told of what they open
							ask(who, nil, &act)
						}
					}
					for i := range newcomers {
						ask(newcomers[i].Who, &newcomers[i], &act)
					}
				}
				lines, parties = lines+len(want), parties+len(known)
				sort.Strings(got)
				sort.Strings(want)
				if !slices.Equal(got, want) {
					for i := range max(len(got), len(want)) {
						if i >= len(got) || i >= len(want) || got[i] != want[i] {
							t.Fatalf("world of seed %d, %s at %s: %d lines, and %d one by one; the first that differs is\n%s\none by one\n%s", seed, r, at,
								len(got), len(want), got[min(i, len(got)-1)], want[min(i, len(want)-1)])
						}
					}
				}
			}
		}
	}
	if lines < 10000 || joins == 0 {
		t.Errorf("only %d lines of %d parties, %d of courses", lines, parties, joins)
	}
}
