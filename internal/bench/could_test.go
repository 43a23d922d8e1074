package bench

import (
	"slices"
	"testing"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/could"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
)

// BenchmarkCould measures what could come to be beside what is: of a party against its reach, of everybody against one count of everybody,
// a way and its cuts in milliseconds.
func BenchmarkCould(b *testing.B) {
	w := world.Merge(&world.World{}, generate(b))
	s := engine.Of(w)
	never := func() error { return nil }
	guest := engine.Who{Address: w.Guests[len(w.Guests)/2].Address}
	enter, _ := catalogue.ActionByName("spaces.enter")
	space := world.Resource{Kind: catalogue.Space, ID: w.Spaces[len(w.Spaces)/2].ID}
	all := func(p *engine.Potential, of world.PartyRef) (n int) {
		scope := engine.Scope{Party: engine.Parties{Of: of}, Actions: engine.InwardActions}
		_ = p.EachYes(&scope, never, func(y *engine.Yes) error { n += y.Pairs; return nil })
		return
	}
	figures := map[string][]float64{}
	note := func(name string, v float64) { figures[name] = append(figures[name], v) }
	note("tables_ms", clock(func() { s.Potential(now) }))
	for range 5 {
		reach := clock(func() { _, _, _ = s.Reach(guest, now) })
		note("party/reach", clock(func() { all(s.Potential(now), world.PartyRef{Address: guest.Address}) })/reach)
		count := clock(func() {
			s.Population(now, nil)
			_, _ = s.Wide(now, never)
		})
		note("count_ms", count)
		var pairs int
		note("everybody/count", clock(func() { pairs = all(s.Potential(now), world.PartyRef{}) })/count)
		note("pairs", float64(pairs))
		note("way_ms", clock(func() { _ = could.Find(s, now, could.Target{Who: guest, Action: enter.ID, Resource: space}) }))
		note("cuts_ms", clock(func() {
			_, _, _ = could.Cuts(s, now, could.Target{Who: guest, Action: enter.ID, Resource: space}, never)
		}))
	}
	for name, list := range figures {
		b.ReportMetric(median(list), name)
	}
	b.ReportMetric(0, "ns/op")
}

// BenchmarkSpare measures what is spare beside the impact of one rule that all spaces ask: it is found by a handful of impacts,
// whatever the number of partners.
func BenchmarkSpare(b *testing.B) {
	w := generate(b)
	s := engine.Of(w)
	next := world.World{Policy: w.Policy}
	next.Rules = slices.Clone(w.Rules)
	for i := range next.Rules {
		if next.Rules[i].Rule == catalogue.MustRule("spaces.guests") {
			next.Rules[i].Limit, next.Rules[i].Default = 0, 0
		}
	}
	e := s.Aside()
	e.SetPolicy(&next)
	after := e.Done()
	impact := clock(func() {
		if _, err := engine.ImpactOf(s, after, now, nil, func() error { return nil }, nil); err != nil {
			b.Fatal(err)
		}
	})
	var parts []could.Part
	took := clock(func() {
		var err error
		if parts, err = could.Spare(s, now, func() error { return nil }); err != nil {
			b.Fatal(err)
		}
	})
	page := clock(func() { // with what it takes from what could come to be
		if _, _, err := answer.Spare(s, now, func() error { return nil }); err != nil {
			b.Fatal(err)
		}
	})
	b.ReportMetric(page/1000, "page_s")
	b.ReportMetric(float64(len(parts)), "parts")
	b.ReportMetric(took/1000, "spare_s")
	b.ReportMetric(took/impact, "x_impact")
}
