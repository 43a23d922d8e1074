package bench

import (
	"errors"
	"math/rand/v2"
	"runtime"
	"testing"
	"time"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
)

// BenchmarkViews prints what reach, audience and pages of them cost, each beside
// its floor from the same run.
func BenchmarkViews(b *testing.B) {
	w := generate(b)
	s := engine.Of(w)
	v := &answer.View{Snapshot: s, At: now, Recorded: "now"}
	r := rand.New(rand.NewPCG(8, 8))
	never := func() error { return nil }
	granted := func(a *catalogue.Action) bool { return a.Spread == catalogue.Granted }

	start := time.Now()
	s.WorkingLinks(now)
	b.ReportMetric(float64(time.Since(start).Milliseconds()), "ms/working-links")
	start = time.Now()
	if err := s.Audience(world.Resource{Kind: catalogue.Space, ID: w.Spaces[0].ID}, false, granted, now,
		func(*engine.Reached) error { return nil }); err != nil {
		b.Fatal(err)
	}
	b.ReportMetric(float64(time.Since(start).Milliseconds()), "ms/first-audience-with-index")

	// A decision, spread over the world.
	qs := questions(w, 100_000)
	start = time.Now()
	for i := range qs {
		if _, err := s.Decide(&qs[i]); err != nil {
			var wrong *engine.WrongUse
			if !errors.As(err, &wrong) {
				b.Fatal(err)
			}
		}
	}
	decision := float64(time.Since(start).Nanoseconds()) / float64(len(qs))
	b.ReportMetric(decision, "ns/decision")

	// What a party reaches, counted service by service.
	n := 200
	start = time.Now()
	for range n {
		if _, err := s.Board(engine.Who{Address: w.Guests[r.IntN(len(w.Guests))].Address}, now); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(time.Since(start).Microseconds())/float64(n), "us/board-row")

	// The audience of a resource, granted actions, for each line that is found.
	lines := 0
	start = time.Now()
	for range n {
		sp := &w.Spaces[r.IntN(len(w.Spaces))]
		if err := s.Audience(world.Resource{Kind: catalogue.Space, ID: sp.ID}, true, granted, now, func(*engine.Reached) error {
			lines++
			return nil
		}); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(time.Since(start).Nanoseconds())/float64(max(lines, 1)), "ns/audience-line")

	// Pages, as the console asks for them.
	start = time.Now()
	meant, err := v.Meant("everybody", answer.Filter{})
	if err != nil {
		b.Fatal(err)
	}
	b.ReportMetric(float64(time.Since(start).Milliseconds()), "ms/listing-everybody")
	start = time.Now()
	if _, err := v.Rows(meant[1000:1060], never); err != nil {
		b.Fatal(err)
	}
	b.ReportMetric(float64(time.Since(start).Milliseconds()), "ms/page-of-the-board")
	start = time.Now()
	all, err := v.Audience(world.Resource{Kind: catalogue.Person, ID: w.People[0].ID}, false, "chat.message", answer.Filter{}, never)
	if err != nil {
		b.Fatal(err)
	}
	b.ReportMetric(float64(time.Since(start).Milliseconds()), "ms/who-may-write-to-a-person")
	start = time.Now()
	if _, err := v.Lines(all, 0, min(all.Len(), 200), never); err != nil {
		b.Fatal(err)
	}
	b.ReportMetric(float64(time.Since(start).Milliseconds()), "ms/page-of-an-audience")
	start = time.Now()
	runtime.GC()
	b.ReportMetric(float64(time.Since(start).Microseconds())/1000, "ms/full-collection")
	b.ReportMetric(0, "ns/op")
}
