package bench

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"runtime"
	"sync"
	"testing"
	"time"

	"wexillum.example/internal/core/native"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/service"
	"wexillum.example/internal/store"
)

// vast is a harbour in memory that keeps very many passes. It shows them a page at a time, as a system does,
// and takes so many calls as it is sent.
type vast struct {
	mu       sync.Mutex
	passes   int
	settings map[string]string
	kept     map[string]map[string]string
	calls    int
}

func (v *vast) Read(context.Context) (map[string]string, error) { return v.settings, nil }

func (v *vast) Write(_ context.Context, path, value string) error {
	v.settings[path] = value
	return nil
}

func (v *vast) Try(context.Context, native.Attempt) (native.Attempted, error) {
	return native.Attempted{Known: true, Admitted: true}, nil
}

func (v *vast) List(_ context.Context, kind string, fn func(native.Kept) error) error {
	if kind != "passes" {
		return nil
	}
	for i := range v.passes {
		if err := fn(native.Kept{ID: fmt.Sprintf("p-%07d", i),
			Fields: map[string]string{"mail": fmt.Sprintf("n%d@far.example", i), "place": "b-1/file:x", "may": "look"}}); err != nil {
			return err
		}
	}
	return nil
}

func (v *vast) One(_ context.Context, kind, id string) (*native.Kept, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if f := v.kept[kind+" "+id]; f != nil {
		return &native.Kept{ID: id, Fields: f}, nil
	}
	return nil, nil
}

func (v *vast) Put(_ context.Context, kind, id string, fields map[string]string) (string, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.calls++
	if id == "" {
		id = fmt.Sprintf("%s-%07d", kind[:1], v.calls)
	}
	v.kept[kind+" "+id] = fields
	return id, nil
}

func (v *vast) Drop(_ context.Context, kind, id string) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	delete(v.kept, kind+" "+id)
	return nil
}

// peak runs f and returns how long it took, and by how much the memory in use grew at most meanwhile.
func peak(f func()) (took time.Duration, grew uint64) {
	before := heap()
	stop, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		for {
			select {
			case <-stop:
				return
			case <-time.After(200 * time.Millisecond):
				var m runtime.MemStats
				runtime.ReadMemStats(&m)
				if m.HeapAlloc > before && m.HeapAlloc-before > grew {
					grew = m.HeapAlloc - before
				}
			}
		}
	}()
	began := time.Now()
	f()
	took = time.Since(began)
	close(stop)
	<-done
	return
}

// BenchmarkSystems prints what a system costs beside a large world: what it should hold and the difference
// beside one reading of the inventory, reading a million records of it, writing a hundred thousand, one step of
// life, and a plan of trials with for how many triples it stands.
func BenchmarkSystems(b *testing.B) {
	ctx := context.Background()
	must := func(err error) {
		if err != nil {
			b.Fatal(err)
		}
	}
	w := generate(b)
	st, err := store.Open(ctx, dbtest.DSN(b), nil)
	must(err)
	defer st.Close()
	must(st.Migrate(ctx))
	_, err = st.Import(ctx, "bench", "bench", w, nil)
	must(err)
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	svc, err := service.New(ctx, st, nil, log)
	must(err)
	v := &vast{settings: map[string]string{}, kept: map[string]map[string]string{}}
	d, _ := native.ByName("quay")
	for _, s := range d.To(&native.Meant{Policy: w}) {
		v.settings[s.Path] = s.Value
	}
	svc.SetConnector(func(string, string, string) (service.Connector, error) { return v, nil })
	svc.SetFaster(1e9)
	b.Setenv("BENCH_KEY", "x")
	who := service.Who{Name: "bench", Role: service.Administrator}
	began := time.Now()
	_, err = svc.AddSystem(ctx, who, "x", service.System{ID: "quay", Name: "Quay", Dialect: "quay", Address: "http://127.0.0.1:1",
		Key: "env:BENCH_KEY"})
	must(err)
	b.Run("inventory-compared", func(b *testing.B) {
		b.ReportMetric(time.Since(began).Seconds(), "s/first-comparison")
		began := time.Now()
		n := 0
		rows, err := st.DB().QueryContext(ctx,
			"SELECT party, resource_kind, resource, role, starts, ends, sponsor, reviewed FROM `grant` ORDER BY party, resource, resource_kind, role, starts")
		must(err)
		for rows.Next() {
			n++
		}
		must(rows.Close())
		b.ReportMetric(time.Since(began).Seconds(), "s/one-reading-of-the-grants")
		b.ReportMetric(float64(n), "grants")
		b.ReportMetric(0, "ns/op")
	})
	b.Run("a-million-records-read", func(b *testing.B) {
		v.passes = 1_000_000
		took, grew := peak(func() {
			_, err := svc.ReadSystem(ctx, who, "quay")
			must(err)
		})
		b.ReportMetric(took.Seconds(), "s")
		b.ReportMetric(float64(grew)/1e6, "MB-at-most")
		took, grew = peak(func() {
			_, err := svc.ReadSystem(ctx, who, "quay")
			must(err)
		})
		b.ReportMetric(took.Seconds(), "s/again")
		b.ReportMetric(float64(grew)/1e6, "MB-at-most-again")
		v.passes = 0
		b.ReportMetric(0, "ns/op")
	})
	b.Run("a-hundred-thousand-written", func(b *testing.B) {
		x, err := svc.SystemView(ctx, "quay")
		must(err)
		carry := service.ModeCarry
		_, err = svc.ChangeSystem(ctx, who, "x", "quay", service.SystemPatch{Mode: &carry, Digest: x.Digest})
		must(err)
		limited, stop := context.WithCancel(ctx)
		go func() {
			for {
				v.mu.Lock()
				n := v.calls
				v.mu.Unlock()
				if n >= 100_000 {
					stop()
					return
				}
				time.Sleep(50 * time.Millisecond)
			}
		}()
		took, grew := peak(func() {
			for limited.Err() == nil {
				_ = svc.WorkSystems(limited)
			}
		})
		b.ReportMetric(float64(v.calls)/took.Seconds(), "records/s")
		b.ReportMetric(float64(grew)/1e6, "MB-at-most")
		b.ReportMetric(0, "ns/op")
	})
	b.Run("plan", func(b *testing.B) {
		x, err := svc.System(ctx, "quay")
		must(err)
		began := time.Now()
		plan, err := svc.Plan(ctx, svc.State(), x, "")
		must(err)
		b.ReportMetric(time.Since(began).Seconds(), "s")
		n := 0
		for _, p := range plan {
			n += p.Parties * p.Resources
		}
		b.ReportMetric(float64(len(plan)), "trials")
		b.ReportMetric(float64(n), "triples")
		b.ReportMetric(0, "ns/op")
	})
}
