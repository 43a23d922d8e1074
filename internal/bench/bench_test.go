// Package bench measures the engine and the service at the size of a large
// organisation. Each benchmark prints figures with their floors from the same
// run; nothing here passes or fails by time.
package bench

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/go-chi/chi/v5"

	"wexillum.example/internal/api"
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/frames"
	"wexillum.example/internal/service"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
	"wexillum.example/internal/worldgen"
)

var guests = flag.Int("guests", 100_000, "records of outsiders; ten grants each")

func TestMain(m *testing.M) { dbtest.Main(m) }

var now = moment.Of(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC))

func generate(b *testing.B) *world.World {
	b.Helper()
	return worldgen.Generate(1, worldgen.Size{Guests: *guests}, now)
}

// stored opens a database with a world in it, until the benchmark ends.
func stored(b *testing.B, w *world.World, clock func() time.Time) *store.Store {
	b.Helper()
	ctx := context.Background()
	st, err := store.Open(ctx, dbtest.DSN(b), clock)
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { st.Close() })
	if err := st.Migrate(ctx); err != nil {
		b.Fatal(err)
	}
	if _, err := st.Import(ctx, "bench", "bench", w, nil); err != nil {
		b.Fatal(err)
	}
	return st
}

// questions makes questions about known guests and what they have to do with,
// spread over the whole world so that little of it is cached.
func questions(w *world.World, n int) []engine.Question {
	r := rand.New(rand.NewPCG(5, 5))
	var out []engine.Question
	// Everything that somebody from outside may try by themselves.
	var acts []*catalogue.Action
	for i := range catalogue.Actions() {
		if a := &catalogue.Actions()[i]; !a.Address && !a.AreaOnly {
			acts = append(acts, a)
		}
	}
	for len(out) < n {
		g := &w.Grants[r.IntN(len(w.Grants))]
		if g.Group != "" || g.ToMany() {
			continue
		}
		act := acts[r.IntN(len(acts))]
		q := engine.Question{Subject: engine.Who{Address: g.Address}, Action: act.ID, Resource: g.Resource, At: now}
		last := act.On[len(act.On)-1]
		switch {
		case act.Takes(g.Resource.Kind):
		case last == catalogue.Person || last == catalogue.Calendar:
			q.Resource = world.Resource{Kind: last, ID: w.People[r.IntN(len(w.People))].ID}
		case act.On[0] == catalogue.Meeting:
			q.Resource = world.Resource{Kind: catalogue.Meeting, ID: w.Meetings[r.IntN(len(w.Meetings))].ID}
		case act.On[0] == catalogue.OurDirectory:
			q.Resource = world.Resource{Kind: catalogue.OurDirectory, ID: "ours"}
		default:
			continue
		}
		out = append(out, q)
	}
	// The texts of the questions one behind the other, as a request has just
	// written them: what is measured is the engine, not reading old questions.
	var buf strings.Builder
	for i := range out {
		buf.WriteString(out[i].Subject.Address.String())
		buf.WriteString(out[i].Resource.ID)
	}
	text := buf.String()
	for i := range out {
		n := len(out[i].Subject.Address.String())
		a, err := addr.Parse(text[:n])
		if err != nil {
			panic(err)
		}
		m := len(out[i].Resource.ID)
		out[i].Subject.Address, out[i].Resource.ID, text = a, text[n:n+m], text[n+m:]
	}
	return out
}

// chase is a ring of dependent loads over an array of a size: each element says
// where the next one is.
type chase []uint64

func newChase(bytes int) chase {
	c := make(chase, bytes/8)
	order := rand.New(rand.NewPCG(1, 2)).Perm(len(c) / 8) // one element a cache line
	for i := range order {
		c[order[i]*8] = uint64(order[(i+1)%len(order)] * 8)
	}
	return c
}

func (c chase) run(n int) (perLoad float64) {
	at := uint64(0)
	start := time.Now()
	for range n {
		at = c[at]
	}
	took := time.Since(start)
	if at == 1 {
		fmt.Print()
	}
	return float64(took.Nanoseconds()) / float64(n)
}

func median(xs []float64) float64 {
	sort.Float64s(xs)
	return xs[len(xs)/2]
}

func heap() uint64 {
	runtime.GC()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return m.HeapAlloc
}

// BenchmarkDecision compares a decision of a snapshot as a service holds it with
// one dependent cache-missing read over an array of the snapshot's size, in
// alternating runs, and with one of the snapshot as it was built.
func BenchmarkDecision(b *testing.B) {
	w := generate(b)
	before := heap()
	s := engine.Of(w)
	size := int(heap() - before)
	built := s
	s = frames.Hold(s)
	qs := questions(w, 200_000)
	c := newChase(size)
	names := make(map[string]int32, 1_000_000)
	keys := make([]string, 1_000_000)
	for i := range keys {
		keys[i] = fmt.Sprintf("guest%d@firm%d.example", i, i%5000)
		names[keys[i]] = int32(i)
	}
	rand.New(rand.NewPCG(8, 8)).Shuffle(len(keys), func(i, j int) { keys[i], keys[j] = keys[j], keys[i] })
	lookUp := func() float64 {
		sum := int32(0)
		start := time.Now()
		for _, k := range keys[:300_000] {
			sum += names[k]
		}
		took := time.Since(start)
		if sum == 1 {
			fmt.Print()
		}
		return float64(took.Nanoseconds()) / 300_000
	}
	decide := func(s *engine.Snapshot) float64 {
		start := time.Now()
		for i := range qs {
			if _, err := s.Decide(&qs[i]); err != nil {
				b.Fatal(err)
			}
		}
		return float64(time.Since(start).Nanoseconds()) / float64(len(qs))
	}
	explain := func() float64 {
		start := time.Now()
		for i := range qs[:20000] {
			_, _ = s.Explain(&qs[i])
		}
		return float64(time.Since(start).Nanoseconds()) / 20000
	}
	var decisions, explained, loads, ratios, lookUps, ofLookUp, ofBuilt []float64
	for range 7 {
		l := c.run(2_000_000)
		u := lookUp()
		d := decide(s)
		lookUps, ofLookUp, ofBuilt = append(lookUps, u), append(ofLookUp, d/u), append(ofBuilt, d/decide(built))
		loads, decisions, ratios = append(loads, l), append(decisions, d), append(ratios, d/l)
		explained = append(explained, explain())
	}
	i := 0
	allocs := testing.AllocsPerRun(1000, func() { _, _ = s.Decide(&qs[i%len(qs)]); i++ })
	explainAllocs := testing.AllocsPerRun(1000, func() { _, _ = s.Explain(&qs[i%len(qs)]); i++ })
	b.ReportMetric(median(decisions), "ns/decision")
	b.ReportMetric(median(loads), "ns/missing-read")
	b.ReportMetric(median(ratios), "x-missing-read")
	b.ReportMetric(median(lookUps), "ns/look-up-of-a-million")
	b.ReportMetric(median(ofLookUp), "x-look-up")
	b.ReportMetric(median(ofBuilt), "x-as-built")
	b.ReportMetric(allocs, "allocs/decision")
	b.ReportMetric(median(explained), "ns/explanation")
	b.ReportMetric(explainAllocs, "allocs/explanation")
	b.ReportMetric(float64(size)/float64(len(w.Grants)), "bytes/grant")
	b.ReportMetric(0, "ns/op")
	runtime.KeepAlive(w)
}

// BenchmarkGrowth prints how a decision grows with the world.
func BenchmarkGrowth(b *testing.B) {
	for n := 1_000; n <= *guests; n *= 10 {
		b.Run(fmt.Sprintf("guests=%d", n), func(b *testing.B) {
			w := worldgen.Generate(1, worldgen.Size{Guests: n}, now)
			s := engine.Of(w)
			qs := questions(w, 100_000)
			var ds []float64
			for range 5 {
				start := time.Now()
				for i := range qs {
					_, _ = s.Decide(&qs[i])
				}
				ds = append(ds, float64(time.Since(start).Nanoseconds())/float64(len(qs)))
			}
			b.ReportMetric(median(ds), "ns/decision")
			b.ReportMetric(0, "ns/op")
		})
	}
}

// BenchmarkChange prints what one changed grant, and one changed rule, cost a
// large snapshot.
func BenchmarkChange(b *testing.B) {
	w := generate(b)
	s := engine.Of(w)
	const n = 200
	start := time.Now()
	for i := range n {
		e := s.Edit()
		g := w.Grants[i*7]
		e.SetGrants(g.Party(), []world.Grant{g})
		s = e.Done()
	}
	b.ReportMetric(float64(time.Since(start).Microseconds())/n, "us/grant-changed")
	start = time.Now()
	for i := range 10 {
		e := s.Edit()
		next := world.Merge(s.Policy(), &world.World{Policy: world.Policy{Rules: []world.RuleSetting{{Rule: catalogue.MustRule("chat.guests"),
			Limit: catalogue.On, Default: catalogue.Value(i % 2), Counts: catalogue.Unset}}}})
		e.SetPolicy(next)
		s = e.Done()
	}
	b.ReportMetric(float64(time.Since(start).Microseconds())/10, "us/rule-changed")
	b.ReportMetric(0, "ns/op")
}

// BenchmarkReady prints the time from a file, and from a database, to a snapshot
// that answers.
func BenchmarkReady(b *testing.B) {
	w := generate(b)
	b.Run("file", func(b *testing.B) {
		text := worldfile.Write(w)
		b.ReportMetric(float64(len(text))/1e6, "MB")
		start := time.Now()
		x, err := worldfile.Read(text, worldfile.Options{Now: now})
		if err != nil {
			b.Fatal(err)
		}
		engine.Of(world.Merge(&world.World{}, x))
		b.ReportMetric(time.Since(start).Seconds(), "s/file-to-ready")
		b.ReportMetric(0, "ns/op")
	})
	b.Run("database", func(b *testing.B) {
		ctx := context.Background()
		st, err := store.Open(ctx, dbtest.DSN(b), nil)
		if err != nil {
			b.Fatal(err)
		}
		defer st.Close()
		if err := st.Migrate(ctx); err != nil {
			b.Fatal(err)
		}
		start := time.Now()
		if _, err := st.Import(ctx, "bench", "bench", w, nil); err != nil {
			b.Fatal(err)
		}
		b.ReportMetric(time.Since(start).Seconds(), "s/import")
		before := heap()
		start = time.Now()
		svc, err := service.New(ctx, st, nil, slog.New(slog.NewTextHandler(io.Discard, nil)))
		if err != nil {
			b.Fatal(err)
		}
		ready := time.Since(start).Seconds()
		b.ReportMetric(float64(heap()-before)/float64(len(w.Grants)), "bytes/grant")
		b.ReportMetric(ready, "s/database-to-ready")
		file := filepath.Join(b.TempDir(), "snapshot")
		begin := func() *service.Service {
			s, err := service.NewFrom(ctx, st, time.Now, slog.New(slog.NewTextHandler(io.Discard, nil)), file)
			if err != nil {
				b.Fatal(err)
			}
			return s
		}
		writer := begin()
		over, end := context.WithCancel(ctx)
		end()
		start = time.Now()
		writer.KeepFile(over)
		b.ReportMetric(time.Since(start).Seconds(), "s/file-written")
		if is, err := os.Stat(file); err == nil {
			b.ReportMetric(float64(is.Size())/1e6, "MB/file")
		}
		var took []float64
		for range 5 {
			before = heap()
			start = time.Now()
			s := begin()
			took = append(took, time.Since(start).Seconds())
			b.ReportMetric(float64(heap()-before)/float64(len(w.Grants)), "bytes/grant-from-the-file")
			if s.State().Counts() != svc.State().Counts() {
				b.Fatalf("%+v", s.State().Counts())
			}
		}
		slices.Sort(took)
		b.ReportMetric(took[0], "s/snapshot-file-to-ready-at-least")
		b.ReportMetric(took[len(took)-1], "s/snapshot-file-to-ready-at-most")
		b.ReportMetric(ready/median(took), "x-database-to-ready")
		runtime.GC()
		start = time.Now()
		runtime.GC()
		b.ReportMetric(float64(time.Since(start).Microseconds())/1000, "ms/full-collection-with-all-of-the-generated-world")
		// The same rows, in the same order, with no work done.
		start = time.Now()
		n := 0
		for _, q := range []string{
			"SELECT doc FROM record WHERE kind IN ('group', 'person', 'space') ORDER BY kind, id",
			"SELECT id, space, place, kind, name, private, rules FROM item ORDER BY space, place, id",
			"SELECT doc FROM record WHERE kind = 'meeting' ORDER BY id",
			"SELECT address, name, sponsor, purpose, state, cause, state_since, origins, since, accepted, renewed, ends, terms, last_seen, language, location FROM guest ORDER BY address",
			"SELECT party, resource_kind, resource, role, starts, ends, sponsor, reviewed FROM `grant` ORDER BY party, resource, resource_kind, role, starts",
			"SELECT doc FROM record WHERE kind IN ('link', 'forwarder', 'contact') ORDER BY kind, id",
			"SELECT kind, id, doc FROM policy ORDER BY kind, id",
		} {
			rows, err := st.DB().QueryContext(ctx, q)
			if err != nil {
				b.Fatal(err)
			}
			names, _ := rows.Columns()
			into := make([]any, len(names))
			for i := range into {
				into[i] = new(sql.RawBytes)
			}
			for rows.Next() {
				if err := rows.Scan(into...); err != nil {
					b.Fatal(err)
				}
				if strings.Contains(q, "`grant`") {
					n++
				}
			}
			rows.Close()
		}
		streaming := time.Since(start).Seconds()
		b.ReportMetric(streaming, "s/streaming-the-same-rows")
		b.ReportMetric(ready/streaming, "x-streaming")
		if n != len(w.Grants) || svc.State().Counts().Guests != len(w.Guests) {
			b.Fatalf("%d grants, %+v", n, svc.State().Counts())
		}
		b.ReportMetric(0, "ns/op")
	})
}

// BenchmarkHTTP prints evaluations a second, single and in batches of 100, beside
// an empty chi handler asked the same way.
func BenchmarkHTTP(b *testing.B) {
	ctx := context.Background()
	w := worldgen.Generate(1, worldgen.Size{Guests: 10_000}, now)
	st := stored(b, w, nil)
	log := slog.New(slog.NewTextHandler(io.Discard, &slog.HandlerOptions{Level: slog.LevelError}))
	svc, err := service.New(ctx, st, nil, log)
	if err != nil {
		b.Fatal(err)
	}
	if err := svc.MakeAccount(ctx, "bench", "", service.Account{Name: "bench", Role: "administrator"}, "a long password"); err != nil {
		b.Fatal(err)
	}
	token, _, err := svc.MakeToken(ctx, service.Who{Name: "bench"}, "bench", "decisions", time.Hour)
	if err != nil {
		b.Fatal(err)
	}
	h, err := api.New(api.Options{Service: svc, Store: st, Log: log})
	if err != nil {
		b.Fatal(err)
	}
	empty := chi.NewRouter()
	empty.Post("/access/v1/evaluation", func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write([]byte(`{"decision":true}`))
	})
	var single [][]byte
	qs := questions(w, 2000)
	var members []string
	for _, q := range qs {
		one := fmt.Sprintf(`"subject":{"type":"party","id":%q},"action":{"name":%q},"resource":{"type":%q,"id":%q}`, q.Subject.Address, q.Action,
			q.Resource.Kind, q.Resource.ID)
		single = append(single, []byte("{"+one+"}"))
		members = append(members, "{"+one+"}")
	}
	var batch [][]byte
	for i := 0; i+100 <= len(members); i += 100 {
		batch = append(batch, []byte(`{"evaluations":[`+strings.Join(members[i:i+100], ",")+`]}`))
	}
	rate := func(h http.Handler, path string, bodies [][]byte, each int) float64 {
		method := "POST"
		if path == "/healthz" {
			method = "GET"
		}
		srv := httptest.NewServer(h)
		defer srv.Close()
		client := srv.Client()
		done, start := 0, time.Now()
		for time.Since(start) < 2*time.Second {
			req, _ := http.NewRequest(method, srv.URL+path, bytes.NewReader(bodies[done%len(bodies)]))
			req.Header.Set("Authorization", "Bearer "+token)
			req.Header.Set("Content-Type", "application/json")
			resp, err := client.Do(req)
			if err != nil {
				b.Fatal(err)
			}
			var out struct {
				Evaluations []json.RawMessage
				Decision    *bool
			}
			text, _ := io.ReadAll(resp.Body)
			resp.Body.Close()
			if resp.StatusCode != 200 {
				b.Fatalf("%d %s", resp.StatusCode, text)
			}
			if done == 0 && json.Unmarshal(text, &out) == nil && each > 1 && len(out.Evaluations) != each {
				b.Fatalf("%d evaluations", len(out.Evaluations))
			}
			done++
		}
		return float64(done*each) / time.Since(start).Seconds()
	}
	floor := rate(empty, "/access/v1/evaluation", single, 1)
	same := rate(h, "/healthz", single, 1)
	one := rate(h, "/access/v1/evaluation", single, 1)
	hundred := rate(h, "/access/v1/evaluations", batch, 100)
	var thousands [][]byte
	for i := 0; i+1000 <= len(members); i += 1000 {
		thousands = append(thousands, []byte(`{"evaluations":[`+strings.Join(members[i:i+1000], ",")+`]}`))
	}
	thousand := rate(h, "/access/v1/evaluations", thousands, 1000)
	b.ReportMetric(1000*one/thousand, "x-single-for-1000")
	b.ReportMetric(floor, "empty-handler/s")
	b.ReportMetric(one, "evaluations/s")
	b.ReportMetric(hundred, "evaluations-in-batches/s")
	b.ReportMetric(floor/one, "x-empty-handler")
	b.ReportMetric(same, "behind-the-same-middleware/s")
	b.ReportMetric(same/one, "x-behind-the-same-middleware")
	b.ReportMetric(0, "ns/op")
}
