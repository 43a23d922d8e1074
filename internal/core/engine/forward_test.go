package engine_test

import (
	"math/rand/v2"
	"slices"
	"testing"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldgen"
)

// written returns a world in which everything that is due by a moment is written down, by the
// slow evaluator, and whose dates go on from there.
func written(w *world.World, at moment.Moment) *world.World {
	s := &slow{w}
	out := *w
	out.Guests, out.Grants, out.DatesFrom = nil, nil, slices.Clone(w.DatesFrom)
	gone := map[string]bool{}
	for i := range w.Guests {
		g := w.Guests[i]
		p := s.party(g.Address.String(), moment.Never-1)
		o, end := s.fate(&g, p.partner)
		if end <= at {
			gone[g.Address.String()] = true
			continue
		}
		if o <= at && g.State != world.StateSuspended {
			g.State, g.StateSince = world.StateSuspended, o
		}
		out.Guests = append(out.Guests, g)
	}
	for i := range w.Grants {
		x := w.Grants[i]
		if !x.Address.IsZero() {
			if gone[x.Address.String()] {
				continue
			}
			p := s.party(x.Address.String(), moment.Never-1)
			if end := s.grantEnd(s.guest(x.Address.String()), p.partner, &slowGrant{&x, catalogue.Unset}); end <= at {
				x.Until = max(min(x.Until, end), x.From)
			}
		}
		out.Grants = append(out.Grants, x)
	}
	left := func(list []addr.Address) []addr.Address {
		return slices.DeleteFunc(slices.Clone(list), func(a addr.Address) bool { return gone[a.String()] })
	}
	out.Groups, out.Links = slices.Clone(w.Groups), slices.Clone(w.Links)
	for i := range out.Groups {
		out.Groups[i].Parties = left(w.Groups[i].Parties)
	}
	for i := range out.Links {
		if w.Links[i].For != nil {
			out.Links[i].For = left(w.Links[i].For)
		}
	}
	forward := world.DatesFrom{From: at}
	for i := range out.DatesFrom {
		if f := &out.DatesFrom[i]; f.Partner == "" && f.Step == "" {
			forward.From = max(forward.From, f.From)
			f.From = forward.From
			return &out
		}
	}
	out.DatesFrom = append(out.DatesFrom, forward)
	return &out
}

// TestForward: a policy that acts forward from a moment answers, from then on, as if all that
// was due had been written down before and nothing counted fell before that moment.
func TestForward(t *testing.T) {
	asked, moved := 0, 0
	for seed := uint64(1); seed <= 30 || *impacts > 0 && seed <= 60; seed++ {
		r := rand.New(rand.NewPCG(seed, 31))
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 40, Grants: 160, Spaces: 8, Items: 30, Partners: 5, People: 8, Groups: 3, Meetings: 4, Links: 8, Exceptions: 6},
			now))
		someDates(r, w)
		waits := slices.ContainsFunc(w.DatesFrom, func(f world.DatesFrom) bool {
			return f.Partner == "" && f.Step == "" &&
				f.From == moment.Never
		})
		if waits { // what waits goes on waiting, which one floor of everybody cannot say
			for i := range w.DatesFrom {
				if f := &w.DatesFrom[i]; f.Partner == "" && f.Step == "" {
					f.From = now - 5*86400e6
				}
			}
		}
		next, _ := altered(r, w)
		for i := range next.Rules {
			if x := &next.Rules[i]; len(x.Rule.String()) > 7 && x.Rule.String()[:7] == "guests." && x.Rule.Get().Scale.Shape == catalogue.Days &&
				r.IntN(2) == 0 {
				x.Limit, x.Default, x.Counts = catalogue.NoLimit, catalogue.Value(1+r.IntN(40)), catalogue.Unset
			}
		}
		before := engine.Of(w)
		e := before.Aside()
		e.SetPolicy(next)
		e.ActForward(now)
		after := e.Done()
		then := *written(w, now)
		then.Rules, then.Partners, then.Exceptions, then.Barred, then.Settings = next.Rules, next.Partners, next.Exceptions, next.Barred,
			next.Settings
		sl, plain := &slow{&then}, engine.Of(next)
		for range 1500 {
			q := anyQuestion(r, w, now)
			q.at = now
			if r.IntN(2) == 0 {
				q.at += moment.Moment(r.IntN(60*86400)) * 1e6
			}
			got, want := ask(t, after, q), sl.answer(q)
			if got.String() != want.String() {
				t.Fatalf("seed %d: %+v\nacting forward %s\nwritten down   %s\nbefore         %s", seed, q, got, want, ask(t, before, q))
			}
			asked++
			if got.String() != ask(t, plain, q).String() {
				moved++
			}
		}
	}
	if moved < 100 {
		t.Errorf("of %d questions %d are answered otherwise than without what came before: too few to tell", asked, moved)
	}
}
