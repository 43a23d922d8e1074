package bench

import (
	"path/filepath"
	"slices"
	"testing"
	"time"

	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/snapfile"
)

// BenchmarkSnapshotFile prints what writing the file takes and what a start from it does, apart from reading policy: mapping and checking
// it, compiling the policy, and questions, beside the same ones on what was read from rows.
func BenchmarkSnapshotFile(b *testing.B) {
	w := world.Merge(&world.World{}, generate(b))
	s := engine.Of(w)
	qs := questions(w, 100_000)
	file := filepath.Join(b.TempDir(), "snapshot")
	b.ReportMetric(0, "ns/op")
	var write, check, make, mapped, read, first []float64
	for i := range 5 {
		begin := time.Now()
		if _, err := snapfile.Write(file, snapfile.At{Seq: uint64(i + 1)}, s.Store); err != nil {
			b.Fatal(err)
		}
		write = append(write, time.Since(begin).Seconds())
		begin = time.Now()
		_, in, told, err := snapfile.Open(file)
		if err != nil {
			b.Fatal(err)
		}
		check = append(check, time.Since(begin).Seconds())
		begin = time.Now()
		x, err := engine.Stored(in, told, w)
		if err != nil {
			b.Fatal(err)
		}
		make = append(make, time.Since(begin).Seconds())
		ask := func(s *engine.Snapshot, qs []engine.Question) float64 {
			begin := time.Now()
			for j := range qs {
				if _, err := s.Decide(&qs[j]); err != nil {
					b.Fatal(err)
				}
			}
			return time.Since(begin).Seconds() * 1e6 / float64(len(qs))
		}
		first = append(first, ask(x, qs[:100]))
		ask(x, qs)
		mapped, read = append(mapped, ask(x, qs)), append(read, ask(s, qs))
	}
	for _, x := range []struct {
		name string
		xs   []float64
	}{{"s/written", write}, {"s/checked", check}, {"s/made", make}, {"us/each-of-the-first-hundred-questions", first},
		{"us/question-mapped", mapped}, {"us/question-of-rows", read}} {
		slices.Sort(x.xs)
		b.ReportMetric(x.xs[0], x.name+"-min")
		b.ReportMetric(x.xs[len(x.xs)-1], x.name+"-max")
	}
}
