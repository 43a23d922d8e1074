package engine_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"
	_ "time/tzdata"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldgen"
)

// placeless leaves out the place among the grants of a record: those that cannot matter in
// time are not looked at.
func placeless(steps []engine.DueStep) []engine.DueStep {
	for i := range steps {
		steps[i].Held = min(steps[i].Held, 0)
	}
	return steps
}

// TestAhead compares what is kept of the days ahead with looking at every record, and that
// with the sequence of each, while records come, change and go.
func TestAhead(t *testing.T) {
	now := moment.Of(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC))
	tried, moved := 0, 0
	for seed := uint64(1); seed <= 6; seed++ {
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 150, Grants: 500, Spaces: 10, Items: 40, Partners: 6, People: 8, Groups: 4}, now))
		r := rand.New(rand.NewPCG(seed, 3))
		s := engine.Of(w)
		for round := range 12 {
			carried := now + moment.Moment(round)*3600e6
			from := carried + moment.Moment(r.IntN(3*86400))*1e6
			until := from + moment.Moment(1+r.IntN(25*86400))*1e6
			kept, ok := s.Ahead(from, until, carried)
			if !ok {
				t.Fatalf("seed %d, round %d: nothing is kept", seed, round)
			}
			looked := s.Scan(from, until, nil)
			var want []engine.DueStep
			q := s.Sequences()
			for i := range w.Guests {
				steps, _ := q.Of(w.Guests[i].Address)
				for _, st := range steps {
					if st.At >= from && st.At < until {
						want = append(want, st)
					}
				}
			}
			engine.SortDue(want)
			text := func(d *engine.Due) string {
				skip, limit := r.IntN(20), 1+r.IntN(60)
				all := placeless(d.Steps(0, 1<<30))
				if part := placeless(d.Steps(skip, limit)); fmt.Sprint(part) != fmt.Sprint(all[min(skip, len(all)):min(skip+limit, len(all))]) {
					t.Errorf("seed %d, round %d: %d from %d are others than in the whole list", seed, round, limit, skip)
				}
				if len(all) != d.Total() {
					t.Errorf("seed %d, round %d: %d steps, %d counted", seed, round, len(all), d.Total())
				}
				return fmt.Sprint(all)
			}
			a, b := text(kept), text(looked)
			if a != b || b != fmt.Sprint(placeless(want)) && len(want) > 0 || kept.Kinds != looked.Kinds {
				t.Fatalf("seed %d, round %d: kept %v, looked for %v, one by one %d\n%.300s\n%.300s\n%.300s", seed, round, kept.Kinds, looked.Kinds,
					len(want), a, b, fmt.Sprint(want))
			}
			tried += len(want)
			// Something happens.
			e := s.Edit()
			for range 1 + r.IntN(4) {
				g := &w.Guests[r.IntN(len(w.Guests))]
				moved++
				switch r.IntN(4) {
				case 0:
					g.Until = now + moment.Moment(r.IntN(60*86400))*1e6
					e.PutGuest(g)
				case 1:
					g.State, g.StateSince, g.Cause = world.StateSuspended, now-moment.Moment(r.IntN(29*86400))*1e6, dated.ByIdle.String()
					e.PutGuest(g)
				case 2:
					e.RemoveGuest(g.Address)
				case 3:
					e.PutGuest(g)
					e.SetGrants(g.Address.String(), []world.Grant{{Address: g.Address,
						Resource: world.Resource{Kind: w.Grants[0].Resource.Kind, ID: w.Grants[0].Resource.ID}, Role: 1, From: now - 86400e6,
						Until: now + moment.Moment(r.IntN(40*86400))*1e6, Reviewed: moment.Always}})
				}
			}
			s = e.Done()
		}
	}
	if tried < 500 || moved < 50 {
		t.Errorf("%d steps, %d changes: too few to tell", tried, moved)
	}
}

// TestScanAll finds in a world that several workers share what the records tell one by one,
// each step once.
func TestScanAll(t *testing.T) {
	now := moment.Of(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC))
	w := worldgen.Generate(5, worldgen.Size{Guests: 9000, Grants: 30_000, Spaces: 60, Items: 400, Partners: 12, People: 40, Groups: 10}, now)
	review := catalogue.MustRule("guests.review_days")
	for i := range w.Spaces { // some say something of reviews
		if i%3 == 0 {
			w.Spaces[i].Rules = append(w.Spaces[i].Rules, world.Setting{Rule: review, Value: catalogue.Value(20 + i)})
		}
	}
	for i := range w.People {
		if i%7 == 0 {
			w.People[i].Left = now - moment.Moment(i)*86400e6
		}
	}
	s := engine.Of(w)
	until := now + 90*86400e6
	d := s.Scan(now, until, nil)
	want := map[moment.Day]int{}
	total := 0
	q := s.Sequences()
	cal := moment.NewCalendar(s.Zone())
	q.Each(nil, func(_ uint32, steps []dated.Step) bool {
		for _, st := range steps {
			if st.At >= now && st.At < until {
				want[cal.DayOf(st.At)]++
				total++
			}
		}
		return true
	})
	if d.Total() != total || total < 2500 || len(d.Steps(0, 1<<30)) != total {
		t.Errorf("%d steps and %d in the list, one by one %d", d.Total(), len(d.Steps(0, 1<<30)), total)
	}
	for _, x := range d.Days() {
		n := 0
		for _, k := range x.Kinds {
			n += k
		}
		if n != want[x.Day] {
			t.Errorf("%v: %d, one by one %d", x.Day, n, want[x.Day])
		}
	}
}
