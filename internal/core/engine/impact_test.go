package engine_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"testing"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldgen"
)

func goOn() error { return nil }

// TestImpact compares impacts of random changes of policy with asking everything on
// both sides.
func TestImpact(t *testing.T) {
	granted, pairs, otherwise, links, lowered, newcomers, outward, compared := 0, 0, 0, 0, 0, 0, 0, 0
	what := ""
	first := uint64(3000)
	if *impacts > 0 {
		if first = *randomSeed; first == 0 {
			first = uint64(time.Now().UnixNano())
		}
		defer func() { t.Logf("%d lines of impacts compared, from seed %d", compared, first) }()
	}
	for seed := first; seed < first+200 || compared < *impacts; seed++ {
		if *impacts > 0 && seed%100 == 0 {
			fmt.Fprintf(os.Stderr, "%d of %d lines of impacts, from seed %d\n", compared, *impacts, first)
		}
		r := rand.New(rand.NewPCG(seed, 7))
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 16 + 20*int(seed%3), Grants: 90, Holdings: 12, Spaces: 6, Items: 30, Partners: 4, People: 6, Groups: 3,
				Meetings: 5, Links: 40, Exceptions: 8}, now))
		stillIn(w)
		for i := range w.Links {
			w.Links[i].For = nil
		}
		if seed%2 == 0 {
			for i := range w.Rules {
				all := w.Rules[i].Rule.Get().Scale.All()
				if s := w.Rules[i].Rule.Get().Scale.Shape; s == catalogue.Level || s == catalogue.Switch {
					w.Rules[i].Limit = all[len(all)-1]
				}
			}
		}
		if seed%4 == 1 && seed%3 != 0 {
			someDates(r, w)
		} else if seed%4 > 1 || seed%3 == 0 { // nothing that is counted comes in between
			w.DatesFrom = append(w.DatesFrom, world.DatesFrom{From: now + 400*86400e6})
		}
		if seed%5 == 0 { // drives whose owners have exceptions
			for i := range w.Spaces {
				w.Spaces[i].Kind = world.Drive
			}
			for i := range w.Exceptions {
				w.Exceptions[i].Rules = []world.Setting{{Rule: catalogue.MustRule("files.drive_given_to"), Value: catalogue.Value(i % 3)}}
			}
		}
		if seed%2 == 1 {
			enrich(r, w)
		}
		before := engine.Of(w)
		next, change := altered(r, w)
		what = fmt.Sprintf("seed %d:%s", seed, change)
		e := before.Aside()
		real := before
		if seed%3 == 0 { // as it is published: what becomes too loose is held back
			for i := range w.Spaces {
				for _, x := range w.Spaces[i].Rules {
					scale := &x.Rule.Get().Scale
					for k := range next.Rules {
						if all := scale.All(); next.Rules[k].Rule == x.Rule && !x.Held && len(all) > 2 && scale.Looser(x.Value, all[1]) {
							next.Rules[k].Limit, next.Rules[k].Default, next.Rules[k].Counts = all[1], all[0], catalogue.Unset
							lowered++
						}
					}
				}
			}
			next = world.Merge(next, &world.World{})
			real = engine.Of(next)
			policy := *next
			policy.Spaces, policy.Meetings = nil, nil
			next = &policy
			e.HoldBack()
		}
		at := now + moment.Moment(r.IntN(3)-1)*20*86400e6
		e.SetPolicy(next)
		e.ActForward(at)
		after := e.Done()
		if real == before {
			real = after
		}
		want := bruteImpact(t, w, before, real, at)
		lines := map[string]int{}
		got, err := engine.ImpactOf(before, after, at, func(l *engine.ImpactLine) bool {
			if l.Wide {
				return true
			}
			for _, act := range catalogue.Actions() {
				if l.Actions.Has(act.ID) {
					lines[fmt.Sprint(l.Who, l.Change, act.Name, l.Resource)]++
				}
			}
			return true
		}, goOn, nil)
		if err != nil {
			t.Fatal(err)
		}
		for _, act := range catalogue.Actions() {
			m := engine.Moves{}
			if x := want.granted[act.ID]; x != nil {
				m = *x
			}
			if got.Granted[act.ID] != m {
				t.Fatalf("%s\n%s: %+v, asked one by one %+v", what, act.Name, got.Granted[act.ID], m)
			}
			granted += m.Gained + m.Lost
			otherwise += m.Otherwise
		}
		same := func(name string, got, want map[string]*engine.Moves) {
			t.Helper()
			for k, m := range want {
				if got[k] == nil || *got[k] != *m {
					t.Fatalf("%s\n%s %q: %+v, asked one by one %+v", what, name, k, got[k], *m)
				}
			}
			if len(got) != len(want) {
				t.Fatalf("%s\n%s: %v, asked one by one %v", what, name, got, want)
			}
		}
		same("kinds", got.Kinds, want.kinds)
		same("partners", got.Partners, want.partners)
		same("spaces", got.Spaces, want.spaces)
		for k, n := range want.lines {
			if lines[k] != n {
				t.Fatalf("%s\nno line for %s", what, k)
			}
		}
		compared += len(lines)
		if len(lines) != len(want.lines) {
			t.Fatalf("%s\n%d lines, asked one by one %d", what, len(lines), len(want.lines))
		}
		if seed%4 == 0 {
			told, asked := map[string]int{}, bruteNewcomers(w, before, real, at)
			for _, n := range got.Newcomers {
				told[fmt.Sprint(n.Newcomer.Who, n.Change, n.Action, n.Kind)] += n.Count
			}
			for k, n := range asked {
				if told[k] != n {
					t.Fatalf("%s\ntypical newcomers: %s: %d, asked one by one %d", what, k, told[k], n)
				}
			}
			if len(told) != len(asked) {
				t.Fatalf("%s\ntypical newcomers: %v, asked one by one %v", what, told, asked)
			}
			newcomers += len(asked)
		}
		if true {
			told, asked := map[string]int{}, bruteOutward(w, before, real, at)
			for _, m := range got.Outward {
				told[fmt.Sprint(m.Action, " ", m.Target.Who, " ", m.Change)] += m.People
			}
			for _, f := range got.Forwarders {
				told["forwarder "+f.Mailbox+" "+f.To.String()+" "+map[bool]string{true: "gained", false: "lost"}[f.Starts]]++
			}
			for _, m := range got.Presenters {
				if m.Pairs > 0 {
					told[fmt.Sprint("presenters ", m.Action, " ", m.Change)] += m.Pairs
				}
			}
			for k, n := range asked {
				if told[k] != n {
					t.Fatalf("%s\nof ours: %s: %d, asked one by one %d", what, k, told[k], n)
				}
			}
			if len(told) != len(asked) {
				t.Fatalf("%s\nof ours: %v, asked one by one %v", what, told, asked)
			}
			outward += len(asked)
		}
		seen := 0
		for change, sums := range map[string][]engine.WideSum{"gained": got.WideGained, "lost": got.WideLost, "otherwise": got.WideOtherwise} {
			for _, s := range sums {
				if s.Scope != "" {
					continue
				}
				seen++
				x := want.wide[fmt.Sprintf("%s %s %s", change, s.Action, s.Kind)]
				if x == nil || x.pairs != s.Pairs || len(x.parties) != s.Parties || len(x.resources) != s.Resources {
					t.Fatalf("%s\n%s %+v, asked one by one %+v", what, change, s, x)
				}
				pairs += s.Pairs
			}
		}
		if seen != len(want.wide) {
			t.Fatalf("%s\n%d wide sums, asked one by one %d", what, seen, len(want.wide))
		}
		if len(got.LinksStopped) != want.stopped || len(got.LinksStarted) != want.started {
			t.Fatalf("%s\nlinks %v stop, %v start; asked one by one %d and %d", what, got.LinksStopped, got.LinksStarted, want.stopped, want.started)
		}
		links += want.stopped + want.started
		if len(got.WideGained)+len(got.WideLost)+len(got.WideOtherwise) == seen && got.Parties != want.parties {
			t.Fatalf("%s\nparties %+v, asked one by one %+v", what, got.Parties, want.parties)
		}
		// Nothing changes from a policy to itself, and the way back is the way there.
		back, err := engine.ImpactOf(after, before, at, nil, goOn, nil)
		if err != nil {
			t.Fatal(err)
		}
		x, y := got.Total(), back.Total()
		if x.Gained != y.Lost || x.Lost != y.Gained || x.Otherwise != y.Otherwise {
			t.Fatalf("%s\nthere %+v, back %+v", what, x, y)
		}
		if none, _ := engine.ImpactOf(before, before, at, nil, goOn, nil); !none.Nothing() {
			t.Fatalf("%s: a policy differs from itself: %+v", what, none)
		}
	}
	if granted < 1000 || pairs < 2000 || otherwise < 20 || links < 5 || outward < 200 {
		t.Errorf("%d granted, %d pairs, %d otherwise, %d links, %d of ours", granted, pairs, otherwise, links, outward)
	}
	w := engine.Of(worldgen.Generate(1, worldgen.Size{Guests: 10}, now))
	enough := errors.New("enough")
	if _, err := engine.ImpactOf(w, w, now, nil, func() error { return enough }, nil); !errors.Is(err, enough) {
		t.Errorf("stopped: %v", err)
	}
}

// TestWide compares the numbers of wide actions with asking everything.
func TestWide(t *testing.T) {
	for seed := uint64(3200); seed < 3260; seed++ {
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 60, Grants: 60, Spaces: 4, Items: 8, Partners: 3, People: 6, Groups: 3, Meetings: 12, Links: 6, Exceptions: 12},
			now))
		s := engine.Of(w)
		sums, err := s.Wide(now, goOn)
		if err != nil {
			t.Fatal(err)
		}
		nothing := engine.Of(&world.World{Policy: world.Policy{Organisation: w.Organisation}})
		want := bruteImpact(t, w, nothing, s, now)
		seen := 0
		for _, x := range sums {
			if x.Scope != "" {
				continue
			}
			seen++
			y := want.wide[fmt.Sprintf("gained %s %s", x.Action, x.Kind)]
			if y == nil || y.pairs != x.Pairs || len(y.parties) != x.Parties || len(y.resources) != x.Resources {
				t.Fatalf("seed %d: %+v, asked one by one %d %d %d", seed, x, len(y.parties), len(y.resources), y.pairs)
			}
		}
		if seen != len(want.wide) {
			t.Fatalf("seed %d: %d sums, asked one by one %d", seed, seen, len(want.wide))
		}
	}
}
