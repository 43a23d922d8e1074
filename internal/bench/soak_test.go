package bench

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/store"
)

var (
	soakFor  = flag.Duration("soak", 30*time.Second, "how long everything is asked at once")
	soakSeed = flag.Uint64("seed", 0, "seed of what is asked; 0 for one by chance")
)

// soaked is what became of the requests of one sort.
type soaked struct {
	mu     sync.Mutex
	took   []float64 // milliseconds from the moment that they were to begin
	failed int
	why    string
}

func (x *soaked) note(begun time.Time, err error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.took = append(x.took, float64(time.Since(begun).Microseconds())/1000)
	if err != nil {
		x.failed++
		x.why = err.Error()
	}
}

// at returns the time that a share of the requests took at most.
func (x *soaked) at(share float64) float64 {
	x.mu.Lock()
	defer x.mu.Unlock()
	if len(x.took) == 0 {
		return 0
	}
	slices.Sort(x.took)
	return x.took[min(len(x.took)-1, int(float64(len(x.took))*share))]
}

// process is the program of the service on a database, and how to ask it.
type process struct {
	b     *testing.B
	at    string
	pid   int
	token string
	c     *http.Client
}

// memory returns how much of it is in memory, now or at most since it was last told to forget, in MB.
func (p *process) memory(what string) float64 {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", p.pid))
	if err != nil {
		p.b.Fatal(err)
	}
	for _, l := range strings.Split(string(b), "\n") {
		if f := strings.Fields(l); len(f) > 1 && f[0] == what+":" {
			kB, _ := strconv.ParseFloat(f[1], 64)
			return kB / 1024
		}
	}
	p.b.Fatal("there is no " + what)
	return 0
}

func (p *process) do(method, path string, body []byte) error {
	_, err := p.ask(method, path, body)
	return err
}

func (p *process) get(path string, into any) error {
	text, err := p.ask("GET", path, nil)
	if err != nil {
		return err
	}
	return json.Unmarshal(text, into)
}

func (p *process) ask(method, path string, body []byte) (text []byte, err error) {
	req, err := http.NewRequest(method, p.at+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Authorization", "Bearer "+p.token)
	if body != nil {
		req.Header.Set("Content-Type", map[bool]string{true: "application/merge-patch+json", false: "application/json"}[method == "PATCH"])
	}
	resp, err := p.c.Do(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	text, err = io.ReadAll(resp.Body)
	if err == nil && resp.StatusCode/100 != 2 {
		err = fmt.Errorf("%s %s: %d %.200s", method, path, resp.StatusCode, text)
	}
	return text, err
}

// signIn signs in anew: a publication asks for somebody who did so within 15 minutes.
func (p *process) signIn() {
	resp, err := http.Post(p.at+"/api/v1/tokens", "application/json", strings.NewReader(`{"name":"bench","password":"some-words-for-a-bench-41"}`))
	if err != nil {
		p.b.Fatal(err)
	}
	defer resp.Body.Close()
	var got struct{ Token string }
	if err := json.NewDecoder(resp.Body).Decode(&got); err != nil {
		p.b.Fatal(err)
	}
	p.token = got.Token
}

// serves builds the program and starts it on a database with a world.
func serves(b *testing.B, w *world.World) *process {
	ctx := context.Background()
	dsn := dbtest.DSN(b)
	st, err := store.Open(ctx, dsn, nil)
	fine := func(err error) {
		if err != nil {
			b.Fatal(err)
		}
	}
	fine(err)
	defer st.Close()
	fine(st.Migrate(ctx))
	begun, told := time.Now(), time.Now()
	_, err = st.Import(ctx, "bench", "bench", w, func(done, total int) {
		if time.Since(told) > 30*time.Second { // a large world takes minutes
			told = time.Now()
			fmt.Printf("# %d of %d rows into the database after %.0f s\n", done, total, time.Since(begun).Seconds())
		}
	})
	fine(err)
	bin := filepath.Join(b.TempDir(), "wexillum-service")
	if out, err := exec.Command("go", "build", "-o", bin, "wexillum.example/cmd/wexillum-service").CombinedOutput(); err != nil {
		b.Fatalf("%v\n%s", err, out)
	}
	first := exec.Command(bin, "account", "first", "bench", "--database", dsn)
	first.Stdin = strings.NewReader("some-words-for-a-bench-41\n")
	if out, err := first.CombinedOutput(); err != nil {
		b.Fatalf("%v\n%s", err, out)
	}
	cmd := exec.Command(bin, "serve", "--listen", "127.0.0.1:0", "--database", dsn)
	out, err := cmd.StderrPipe()
	fine(err)
	fine(cmd.Start())
	p := &process{b: b, pid: cmd.Process.Pid, c: &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 1024}}}
	b.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		var l struct{ Msg, Address string }
		if json.Unmarshal(lines.Bytes(), &l) == nil && l.Msg == "listening" {
			p.at = l.Address
			break
		}
	}
	if p.at == "" {
		b.Fatal("the service never listened")
	}
	go func() { _, _ = io.Copy(io.Discard, out) }()
	p.signIn()
	return p
}

// BenchmarkSoak asks a service everything at once while things change: a hundred decisions, two batches of a hundred, half a list, a third
// of a reach, a tenth of a first page and one change a second, with five hundred who follow and one who does not read. Each is counted from
// the moment that it was to begin. It prints how long half took and ninety-nine of a hundred, and what failed; decisions beside the same
// ones alone, and memory beside idle.
func BenchmarkSoak(b *testing.B) {
	seed := cmp.Or(*soakSeed, rand.Uint64())
	fmt.Printf("# seed %d\n", seed)
	w := generate(b)
	rnd := rand.New(rand.NewPCG(seed, 9))
	for i := range w.Guests { // a house that is looked after: what is to be noticed is the exception
		g := &w.Guests[i]
		if rnd.IntN(100) > 0 {
			g.Purpose, g.Location, g.Licence = "a loan", "PT", world.LicenceTheirs
			if g.Until == moment.Never {
				g.Until = now + moment.Moment(100+rnd.IntN(500))*86400e6
			}
		}
	}
	p := serves(b, w)
	var lock sync.Mutex
	some := func(n int) int { lock.Lock(); defer lock.Unlock(); return rnd.IntN(n) }
	var ones [][]byte
	for _, q := range questions(w, 5000) {
		ones = append(ones, fmt.Appendf(nil, `{"subject":{"type":"party","id":%q},"action":{"name":%q},"resource":{"type":%q,"id":%q}}`,
			q.Subject.Address, q.Action, q.Resource.Kind, q.Resource.ID))
	}
	var there struct{ Guests []struct{ Address string } } // some go when the service begins, by their dates
	if err := p.get("/api/v1/guests?limit=200", &there); err != nil || len(there.Guests) == 0 {
		b.Fatal(err, "no guests")
	}
	guest := func() string { return there.Guests[some(len(there.Guests))].Address }
	var changes atomic.Int64
	type sort struct {
		name string
		rate float64 // a second
		do   func() error
	}
	sorts := []sort{
		{"a decision", 100, func() error { return p.do("POST", "/access/v1/evaluation", ones[some(len(ones))]) }},
		{"a batch of 100", 2, func() error {
			i := some(len(ones) - 100)
			return p.do("POST", "/access/v1/evaluations", []byte(`{"evaluations":[`+string(bytes.Join(ones[i:i+100], []byte(",")))+`]}`))
		}},
		{"a reach or an audience", 1. / 3, func() error {
			if some(2) == 0 {
				return p.do("GET", "/api/v1/reach?who="+url.QueryEscape(guest()), nil)
			}
			return p.do("GET", "/api/v1/audience?limit=50&resource=space:"+url.QueryEscape(w.Spaces[some(len(w.Spaces))].ID), nil)
		}},
		{"a first page", 0.1, func() error { return p.do("GET", "/api/v1/overview", nil) }},
		{"everybody in numbers", 0.1, func() error { return p.do("GET", "/api/v1/numbers?soon=true", nil) }},
		{"findings", 0.1, func() error { return p.do("GET", "/api/v1/findings?limit=50&soon=true", nil) }},
		{"a change", 1, func() error {
			n := changes.Add(1)
			switch n % 4 {
			case 0:
				return p.do("POST", "/api/v1/bars", fmt.Appendf(nil, `{"name":"soaked%d.example","reason":"it is tried"}`, n))
			case 1:
				return p.do("POST", "/api/v1/guests/changes", fmt.Appendf(nil, `{"do":"describe","addresses":[%q],"purpose":"the soak %d"}`, guest(),
					n))
			case 2:
				return p.do("PATCH", "/api/v1/rules/spaces.tasks", fmt.Appendf(nil, `{"default":%q,"why":"it is tried"}`, []string{"on", "off"}[n/4%2]))
			}
			s := &w.Spaces[some(len(w.Spaces))]
			return p.do("PUT", "/api/v1/values/space:"+url.PathEscape(s.ID)+"/spaces.tasks",
				fmt.Appendf(nil, `{"value":%q,"why":"it is tried"}`, []string{"on", "off"}[n/4%2]))
		}},
	}
	lists := []string{"guests", "spaces", "people", "exceptions", "partners", "links", "journal"}
	for _, name := range lists {
		sorts = append(sorts, sort{"a page of " + name, 0.5 / float64(len(lists)),
			func() error { return p.do("GET", "/api/v1/"+name+"?limit=50", nil) }})
	}
	run := func(long time.Duration, which func(name string) bool) []*soaked {
		out := make([]*soaked, len(sorts))
		var all sync.WaitGroup
		begin := time.Now()
		for i, x := range sorts {
			out[i] = &soaked{}
			if !which(x.name) {
				continue
			}
			all.Go(func() {
				for n := 0; ; n++ {
					due := begin.Add(time.Duration((float64(n) + 0.5) / x.rate * float64(time.Second)))
					if due.Sub(begin) > long {
						return
					}
					time.Sleep(time.Until(due))
					all.Go(func() { out[i].note(due, x.do()) })
				}
			})
		}
		all.Wait()
		return out
	}
	alone := run(min(*soakFor, time.Minute)/2, func(name string) bool { return name == "a decision" })
	idle := p.memory("VmRSS")
	_ = os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", p.pid), []byte("5"), 0)

	// Who follows, and one who does not read what comes.
	ctx, leave := context.WithCancel(context.Background())
	defer leave()
	var heard atomic.Int64
	var following sync.WaitGroup
	for i := range 501 {
		req, err := http.NewRequestWithContext(ctx, "GET", p.at+"/api/v1/changes", nil)
		if err != nil {
			b.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+p.token)
		resp, err := p.c.Do(req)
		if err != nil || resp.StatusCode != 200 {
			b.Fatal(err, resp)
		}
		following.Go(func() {
			defer resp.Body.Close()
			if i == 500 {
				<-ctx.Done()
				return
			}
			lines := bufio.NewScanner(resp.Body)
			for lines.Scan() {
				if strings.HasPrefix(lines.Text(), "event:") {
					heard.Add(1)
				}
			}
		})
	}
	all := run(*soakFor, func(string) bool { return true })
	leave()
	following.Wait()
	peak := p.memory("VmHWM")

	fmt.Printf("%-24s %8s %8s %12s %12s %12s\n", "", "asked", "failed", "half in", "99% in", "all in")
	broken := ""
	for i, x := range sorts {
		s := all[i]
		fmt.Printf("%-24s %8d %8d %9.1f ms %9.1f ms %9.1f ms\n", x.name, len(s.took), s.failed, s.at(0.5), s.at(0.99), s.at(1))
		if s.failed > 0 {
			fmt.Printf("  %s\n", s.why)
			broken += fmt.Sprintf("%s failed %d times; ", x.name, s.failed)
		}
		if s.at(0.5) > 300 || s.at(0.99) > 1000 {
			broken += fmt.Sprintf("%s took %.0f and %.0f ms; ", x.name, s.at(0.5), s.at(0.99))
		}
	}
	ratio := all[0].at(0.99) / alone[0].at(0.99)
	fmt.Printf("decisions alone: half in %.1f ms, 99%% in %.1f ms; with everything %.1fx (at most 5x)\n", alone[0].at(0.5), alone[0].at(0.99),
		ratio)
	fmt.Printf("memory: idle %.0f MB, at most %.0f MB: %.2fx (at most 1.5x)\n", idle, peak, peak/idle)
	fmt.Printf("%d changes; the 500 who follow heard %d times\n", changes.Load(), heard.Load())
	if ratio > 5 {
		broken += fmt.Sprintf("decisions take %.1fx as long; ", ratio)
	}
	if peak > 1.5*idle {
		broken += fmt.Sprintf("memory is %.2fx; ", peak/idle)
	}
	if broken != "" {
		fmt.Println("over its bounds: " + strings.TrimSuffix(broken, "; "))
	}
	b.ReportMetric(0, "ns/op")
}
