package bench

import (
	"runtime"
	"slices"
	"testing"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/finding"
	"wexillum.example/internal/core/world"
)

// BenchmarkFindings measures what is noticed: of everything; after a publication, beside its impact; and after a record, grants, a link, an
// item, a space and a meeting changed, in milliseconds. Of what changed the slowest of a hundred is told, too.
func BenchmarkFindings(b *testing.B) {
	w := world.Merge(&world.World{}, generate(b))
	e := engine.Of(w).Edit()
	e.SetPolicy(&world.World{Policy: w.Policy})
	s := e.Done()
	// The rest of the world is let go, as a service does: it keeps a snapshot alone.
	w = &world.World{Policy: w.Policy, Inventory: world.Inventory{Guests: some(w.Guests), Links: some(w.Links), Spaces: some(w.Spaces),
		Meetings: some(w.Meetings)}}
	runtime.GC()
	publish := func(was *engine.Snapshot, value catalogue.Value) *engine.Snapshot { // whether guests may be let into spaces
		next := world.World{Policy: w.Policy}
		next.Rules = slices.Clone(w.Rules)
		for i := range next.Rules {
			if next.Rules[i].Rule == catalogue.MustRule("spaces.guests") {
				next.Rules[i].Limit, next.Rules[i].Default = value, value
			}
		}
		e := was.Aside()
		e.SetPolicy(&next)
		return e.Done()
	}
	figures := map[string][]float64{}
	note := func(name string, v float64) { figures[name] = append(figures[name], v) }
	var k *finding.Kept
	note("all_ms", clock(func() { k = finding.Look(s, nil, now) }))
	noticed := 0
	for _, list := range k.All() {
		noticed += len(list)
	}
	note("noticed", float64(noticed))
	for n := range 4 {
		next := publish(s, catalogue.Value(n%2))
		runtime.GC()
		impact := clock(func() {
			if _, err := engine.ImpactOf(s, next, now, nil, func() error { return nil }, nil); err != nil {
				b.Fatal(err)
			}
		})
		runtime.GC()
		if !k.GoesOn(next) {
			b.Fatal("everything would be looked at")
		}
		took := clock(func() { k.Next(next, nil, now, finding.Touched{}) })
		note("impact_ms", impact)
		note("publication_ms", took)
		note("publication/impact", took/impact)
		s = next
	}
	changes := []struct {
		name   string
		change func(n int, e *engine.Editor) finding.Touched
	}{
		{"guest", func(n int, e *engine.Editor) finding.Touched {
			g := &w.Guests[n]
			g.Purpose = map[bool]string{true: "a loan"}[g.Purpose == ""]
			e.PutGuest(g)
			return finding.Touched{Parties: []string{g.Address.String()}}
		}},
		{"grants", func(n int, e *engine.Editor) finding.Touched {
			a := w.Guests[99-n].Address.String()
			e.SetGrants(a, nil)
			return finding.Touched{Parties: []string{a}}
		}},
		{"link", func(n int, e *engine.Editor) finding.Touched {
			l := &w.Links[n]
			l.Until = now + 86400e6
			e.PutLink(l)
			return finding.Touched{Links: []string{l.ID}}
		}},
		{"item", func(n int, e *engine.Editor) finding.Touched {
			sp := &w.Spaces[n]
			if len(sp.Items) == 0 {
				return finding.Touched{}
			}
			it := &sp.Items[n%len(sp.Items)]
			it.Private = !it.Private
			e.PutItem(it)
			return finding.Touched{Items: []string{it.ID}}
		}},
		{"space", func(n int, e *engine.Editor) finding.Touched {
			sp := &w.Spaces[n]
			sp.Rules = []world.Setting{{Rule: catalogue.MustRule("spaces.guests"), Value: catalogue.Value(n % 2)}}
			e.PutSpace(sp)
			return finding.Touched{Spaces: []string{sp.ID}}
		}},
		{"meeting", func(n int, e *engine.Editor) finding.Touched {
			m := &w.Meetings[n]
			m.Rules = []world.Setting{{Rule: catalogue.MustRule("meetings.present"), Value: catalogue.Value(n % 2)}}
			e.PutMeeting(m)
			return finding.Touched{Meetings: []string{m.ID}}
		}},
	}
	for _, x := range changes {
		for n := range 100 {
			e := s.Edit()
			touched := x.change(n, e)
			s = e.Done()
			note(x.name+"_ms", clock(func() { k.Next(s, nil, now, touched) }))
		}
		note(x.name+"_most_ms", slices.Max(figures[x.name+"_ms"]))
	}
	for name, list := range figures {
		b.ReportMetric(median(list), name)
	}
	b.ReportMetric(0, "ns/op")
}

// some copies a hundred of a list, from all over it.
func some[T any](list []T) (out []T) {
	for i := range 100 {
		out = append(out, list[i*len(list)/100])
	}
	return
}
