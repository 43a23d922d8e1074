package bench

import (
	"context"
	"io"
	"log/slog"
	"runtime"
	"testing"
	"time"

	"wexillum.example/internal/core/world"
	"wexillum.example/internal/service"
)

// BenchmarkRecord makes a record of what everybody may do, and reads it as it is handed out: how long each takes, beside one count of
// everybody, and how much more is live in memory meanwhile, in MB. Memory is looked at in a run of its own, since looking takes time.
func BenchmarkRecord(b *testing.B) {
	ctx := context.Background()
	w := world.Merge(&world.World{}, generate(b))
	clockNow := func() time.Time { return now.Time() }
	st := stored(b, w, clockNow)
	s, err := service.New(ctx, st, clockNow, slog.New(slog.NewTextHandler(io.Discard, nil)))
	if err != nil {
		b.Fatal(err)
	}
	w = nil
	scope := service.EvidenceScope{Why: "a measurement"}
	live := func() float64 {
		var m runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&m)
		return float64(m.HeapAlloc) / 1e6
	}
	// most is how much more is live at most while something is done.
	most := func(do func()) (mb float64) {
		idle, done := live(), make(chan struct{})
		go func() { defer close(done); do() }()
		for {
			select {
			case <-done:
				return
			case <-time.After(50 * time.Millisecond):
				mb = max(mb, live()-idle)
			}
		}
	}
	var made *service.Evidence
	record := func() {
		if made, err = s.MakeEvidence(ctx, service.Who{Name: "bench"}, scope); err != nil {
			b.Error(err)
		}
	}
	written := 0.0
	write := func() {
		n := counted(0)
		if err := s.WriteEvidence(ctx, made, &n); err != nil {
			b.Error(err)
		}
		written = float64(n) / 1e6
	}
	count := clock(func() {
		s.State().Population(now, nil)
		_, _ = s.State().Wide(now, func() error { return nil })
	})
	took := clock(record)
	b.ReportMetric(took/1000, "made_s")
	b.ReportMetric(took/count, "made/count")
	b.ReportMetric(clock(write)/1000, "written_s")
	b.ReportMetric(written, "written_MB")
	b.ReportMetric(most(record), "made_live_MB")
	b.ReportMetric(most(write), "written_live_MB")
	pairs := 0
	for _, t := range made.Manifest.Totals {
		pairs += t.Pairs
	}
	b.ReportMetric(float64(made.Manifest.Lines), "lines")
	b.ReportMetric(float64(pairs), "pairs")
	b.ReportMetric(0, "ns/op")
}

// counted counts what is written to it.
type counted int64

func (c *counted) Write(p []byte) (int, error) { *c += counted(len(p)); return len(p), nil }
