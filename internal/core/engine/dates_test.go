package engine_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"
	_ "time/tzdata"

	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldgen"
)

// TestAhead compares what is kept of the days ahead with looking at every record, and that
// with the sequence of each, while records come, change and go.
func TestAhead(t *testing.T) {
	now := moment.Of(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC))
	tried, moved := 0, 0
	for seed := uint64(1); seed <= 6; seed++ {
		w := world.Merge(&world.World{}, worldgen.Generate(seed, worldgen.Size{Guests: 150, Grants: 500, Spaces: 10, Items: 40, Partners: 6, People: 8, Groups: 4}, now))
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
			looked := s.Scan(from, until, carried, nil)
			var want []engine.DueStep
			q := s.Sequences(carried)
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
				all := d.Steps(0, 1<<30)
				if part := d.Steps(skip, limit); fmt.Sprint(part) != fmt.Sprint(all[min(skip, len(all)):min(skip+limit, len(all))]) {
					t.Errorf("seed %d, round %d: %d from %d are others than in the whole list", seed, round, limit, skip)
				}
				if len(all) != d.Total() {
					t.Errorf("seed %d, round %d: %d steps, %d counted", seed, round, len(all), d.Total())
				}
				return fmt.Sprint(all)
			}
			a, b := text(kept), text(looked)
			if a != b || b != fmt.Sprint(want) && len(want) > 0 || kept.Kinds != looked.Kinds {
				t.Fatalf("seed %d, round %d: kept %v, looked for %v, one by one %d\n%.300s\n%.300s\n%.300s", seed, round, kept.Kinds, looked.Kinds, len(want), a, b, fmt.Sprint(want))
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
					e.SetGrants(g.Address.String(), []world.Grant{{Address: g.Address, Resource: world.Resource{Kind: w.Grants[0].Resource.Kind, ID: w.Grants[0].Resource.ID}, Role: 1, From: now - 86400e6, Until: now + moment.Moment(r.IntN(40*86400))*1e6, Reviewed: moment.Always}})
				}
			}
			s = e.Done()
		}
	}
	if tried < 500 || moved < 50 {
		t.Errorf("%d steps, %d changes: too few to tell", tried, moved)
	}
}
