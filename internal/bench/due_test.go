package bench

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"runtime"
	"slices"
	"sort"
	"sync/atomic"
	"testing"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/service"
	"wexillum.example/internal/store"
)

// lookedAfter makes a world one whose reviews are answered and whose guests come back now
// and then, so that what is due lies ahead and not behind.
func lookedAfter(w *world.World) {
	rule := catalogue.MustRule("guests.review_days")
	half := world.RuleSetting{Rule: rule, Limit: catalogue.NoLimit, Default: 180, Counts: catalogue.Unset}
	last := world.RuleSetting{Rule: catalogue.MustRule("guests.after_last_grant"), Limit: 1, Default: 1, Counts: catalogue.Unset}
	w.Rules = append(w.Rules, last)
	w.Rules = append(slices.DeleteFunc(w.Rules, func(s world.RuleSetting) bool { return s.Rule == rule }), half)
	said := func(list *[]world.Setting) { // some say it themselves, and as often
		*list = slices.Clone(*list)
		for i := range *list {
			if (*list)[i].Rule == rule {
				(*list)[i].Value = 180
			}
		}
	}
	for i := range w.Partners {
		if p := &w.Partners[i]; p.Standing == world.Ended {
			p.Standing = world.Active
		}
		said(&w.Partners[i].Rules)
	}
	for i := range w.Spaces {
		said(&w.Spaces[i].Rules)
	}
	r := rand.New(rand.NewPCG(9, 9))
	ago := func(days int) moment.Moment {
		return now - moment.Moment(r.IntN(days))*86400e6 - moment.Moment(r.IntN(86400))*1e6
	}
	for i := range w.Grants {
		if g := &w.Grants[i]; g.Until > now {
			g.Reviewed = ago(179)
		}
	}
	for i := range w.Guests {
		g := &w.Guests[i]
		g.StateSince = ago(25)
		if g.State == world.StateInvited {
			g.Since = ago(12)
		}
		if g.State == world.StateActive {
			g.StateSince = moment.Always
			g.Renewed, g.LastSeen = ago(360), ago(85)
			if g.Until <= now {
				g.Until = moment.Never
			}
		}
	}
}

// BenchmarkDue measures what is due in 90 days against reading all grants once, and in 30
// days from the days that are kept against looking at every record for it.
func BenchmarkDue(b *testing.B) {
	w := generate(b)
	lookedAfter(w)
	s := engine.Of(w)
	cal := moment.DayOf(now, s.Zone())
	in := func(days int) moment.Moment { return moment.EndOfDays(cal, days, s.Zone()) }
	type grant struct {
		from, until moment.Moment
		resource    uint32
		rest        uint64
	}
	grants := make([]grant, len(w.Grants)) // as large as the engine's, read in order
	for i := range grants {
		grants[i] = grant{w.Grants[i].From, w.Grants[i].Until, uint32(i), 0}
	}
	var read, scan, month, kept []float64
	live, steps, monthSteps := 0, 0, 0
	w = nil // a service keeps no such lists
	runtime.GC()
	s.Ahead(now, in(30), now)
	for range 7 {
		start := time.Now()
		for i := range grants {
			if g := &grants[i]; g.from <= now && now < g.until {
				live++
			}
		}
		read = append(read, float64(time.Since(start)))
		start = time.Now()
		steps = s.Scan(now, in(90), nil).Total()
		scan = append(scan, float64(time.Since(start)))
		start = time.Now()
		d := s.Scan(now, in(30), nil)
		monthSteps = d.Total()
		first := d.Steps(0, 200)
		month = append(month, float64(time.Since(start)))
		k, ok := s.Ahead(now, in(30), now)
		if !ok || k.Total() != monthSteps || fmt.Sprint(k.Steps(0, 200)) != fmt.Sprint(first) {
			b.Fatalf("kept: %t, %d steps, looked for: %d", ok, k.Total(), monthSteps)
		}
		start = time.Now()
		k, _ = s.Ahead(now, in(30), now)
		_ = k.Total()
		k.Steps(0, 200)
		kept = append(kept, float64(time.Since(start)))
	}
	r, x, m, k := median(read), median(scan), median(month), median(kept)
	fmt.Printf("due: %d grants read once %.1f ms (%d live); 90 days %.1f ms, %.1fx, %d steps; 30 days by looking %.1f ms, from what is kept %.2f ms, %.0fx faster, %d steps\n",
		len(grants), r/1e6, live/7, x/1e6, x/r, steps, m/1e6, k/1e6, m/k, monthSteps)
}

// BenchmarkCarryOut carries out 100,000 steps that are due at once, while questions are asked.
func BenchmarkCarryOut(b *testing.B) {
	const guests = 100_000
	ctx := context.Background()
	w := generate(b)
	lookedAfter(w)
	day := moment.DayOf(now, time.UTC)
	end := moment.EndOfDays(day, 0, time.UTC)
	n := 0
	for i := range w.Guests {
		if g := &w.Guests[i]; n < guests && !g.Provisioned() {
			g.State, g.Accepted, g.StateSince, g.Until = world.StateActive, g.Since, moment.Always, end
			n++
		}
	}
	at := atomic.Int64{}
	at.Store(now.Time().UnixMicro())
	clock := func() time.Time { return time.UnixMicro(at.Load()) }
	st, err := store.Open(ctx, dbtest.DSN(b), clock)
	if err != nil {
		b.Fatal(err)
	}
	defer st.Close()
	if err := st.Migrate(ctx); err != nil {
		b.Fatal(err)
	}
	s, err := service.New(ctx, st, clock, slog.New(slog.NewTextHandler(io.Discard, nil)))
	if err != nil {
		b.Fatal(err)
	}
	if err := s.Import(ctx, "bench", "", w, nil); err != nil {
		b.Fatal(err)
	}
	for { // what the world owes already
		out, err := s.CarryOut(ctx)
		if err != nil {
			b.Fatal(err)
		}
		if out.Records == 0 {
			break
		}
	}
	qs := questions(w, 4096)
	ask := func(stop <-chan struct{}) (took []float64) {
		for i := 0; ; i++ {
			select {
			case <-stop:
				sort.Float64s(took)
				return
			default:
			}
			start := time.Now()
			if _, err := s.State().Decide(&qs[i%len(qs)]); err != nil {
				b.Error(err)
				return
			}
			took = append(took, float64(time.Since(start)))
			time.Sleep(200 * time.Microsecond)
		}
	}
	stop := make(chan struct{})
	time.AfterFunc(2*time.Second, func() { close(stop) })
	alone := ask(stop)
	at99 := func(xs []float64) float64 { return xs[len(xs)*99/100] }
	// Once suspended, and once the days of grace are over removed, with grants, links and groups.
	for _, what := range []struct {
		named string
		until moment.Moment
	}{{"suspended", end}, {"removed", moment.EndOfDays(day, 30, time.UTC)}} {
		carryOut(b, s, ask, &at, what.named, what.until, func(sum service.CarriedOut, took time.Duration, busy []float64) {
			fmt.Printf("%s: %d steps in %.1f s, %.0f a second, %d transactions, the longest %.0f ms; a question alone %.1f us (99th %.1f), meanwhile %.1f us (99th %.1f), %.1fx\n",
				what.named, sum.Steps, took.Seconds(), float64(sum.Steps)/took.Seconds(), sum.Transactions, float64(sum.Longest.Microseconds())/1e3,
				median(alone)/1e3, at99(alone)/1e3, median(busy)/1e3, at99(busy)/1e3, median(busy)/median(alone))
		})
	}
}

// carryOut lets a moment come and carries out what is due, while questions are asked.
func carryOut(b *testing.B, s *service.Service, ask func(<-chan struct{}) []float64, at *atomic.Int64, named string, until moment.Moment,
	tell func(service.CarriedOut, time.Duration, []float64)) {
	ctx := context.Background()
	at.Store(until.Time().Add(time.Minute).UnixMicro())
	stop := make(chan struct{})
	during := make(chan []float64)
	go func() { during <- ask(stop) }()
	start := time.Now()
	var sum service.CarriedOut
	for {
		out, err := s.CarryOut(ctx)
		if err != nil {
			b.Fatal(err)
		}
		sum.Steps, sum.Transactions, sum.Longest = sum.Steps+out.Steps, sum.Transactions+out.Transactions, max(sum.Longest, out.Longest)
		if out.Records == 0 {
			break
		}
	}
	took := time.Since(start)
	close(stop)
	busy := <-during
	if sum.Steps == 0 {
		b.Errorf("nothing was %s", named)
	}
	tell(sum, took, busy)
}
