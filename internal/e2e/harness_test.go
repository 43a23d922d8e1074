package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"wexillum.example/internal/demo"
	"wexillum.example/internal/mariadb"
	"wexillum.example/internal/service"
	"wexillum.example/internal/store"
)

var (
	faults    = flag.Int("faults", 8, "how many faults TestFaults brings about")
	faultSeed = flag.Uint64("fault-seed", 0, "seed of TestFaults; 0 is a new one")
)

// wire stands between a service and its database: it lets through, holds back, slows down or
// cuts.
type wire struct {
	l      net.Listener
	to     string // a socket
	held   atomic.Bool
	slow   atomic.Bool
	mu     sync.Mutex
	across map[net.Conn]bool
}

func newWire(t *testing.T, socket string) *wire {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	check(t, err)
	w := &wire{l: l, to: socket, across: map[net.Conn]bool{}}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go w.join(c)
		}
	}()
	t.Cleanup(func() { _ = l.Close(); w.cut() })
	return w
}

func (w *wire) join(c net.Conn) {
	d, err := net.Dial("unix", w.to)
	if err != nil {
		_ = c.Close()
		return
	}
	w.mu.Lock()
	w.across[c], w.across[d] = true, true
	w.mu.Unlock()
	var wg sync.WaitGroup
	carry := func(from, to net.Conn) {
		b := make([]byte, 1<<15)
		for {
			n, err := from.Read(b)
			for w.held.Load() {
				time.Sleep(10 * time.Millisecond)
			}
			if w.slow.Load() {
				time.Sleep(20 * time.Millisecond)
			}
			if n > 0 {
				if _, err := to.Write(b[:n]); err != nil {
					break
				}
			}
			if err != nil {
				break
			}
		}
		_, _ = from.Close(), to.Close()
	}
	wg.Go(func() { carry(c, d) })
	wg.Go(func() { carry(d, c) })
	wg.Wait()
	w.mu.Lock()
	delete(w.across, c)
	delete(w.across, d)
	w.mu.Unlock()
}

func (w *wire) cut() {
	w.mu.Lock()
	defer w.mu.Unlock()
	for c := range w.across {
		_ = c.Close()
	}
}

// node is a service process that is started again whenever it ends.
type node struct {
	t    *testing.T
	wire *wire
	dsn  string
	mu   sync.Mutex
	at   string
	kill func(syscall.Signal)
	gone <-chan struct{}
}

func (n *node) start() { n.startAs(binary) }

func (n *node) startAs(program func() (string, error)) {
	bin, err := program()
	if err != nil {
		n.t.Fatal(bin, err)
	}
	at, kill, gone := startProgram(n.t, bin, n.dsn)
	n.mu.Lock()
	n.at, n.kill, n.gone = at, kill, gone
	n.mu.Unlock()
}

func (n *node) address() string {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.at
}

// end ends the process and waits until it has.
func (n *node) end(sig syscall.Signal) {
	n.mu.Lock()
	kill, gone := n.kill, n.gone
	n.mu.Unlock()
	kill(sig)
	<-gone
}

// ending is how many guests' records end while TestFaults runs, and ends the document with them.
const ending = 400

func ends(now time.Time, every time.Duration) []byte {
	var b strings.Builder
	b.WriteString("wexillum: 1\nsettings: {brake: none}\nguests:\n") // more end in a day than the brake would let
	for i := range ending {
		fmt.Fprintf(&b,
			"  - {address: ends%d@ilvane.example, sponsor: s.lindqvane, purpose: x, state: active, since: %[2]s, accepted: %[2]s, last_seen: %[2]s, until: %[3]s}\n",
			i, now.AddDate(0, 0, -1).Format(time.DateOnly), now.Add(time.Duration(i)*every).UTC().Format(time.RFC3339))
	}
	return []byte(b.String())
}

// killMigrating starts a program on a database of the version before and kills it somewhere on the
// way, again and again.
func killMigrating(t *testing.T, rnd *rand.Rand, dsn string) {
	t.Helper()
	st, err := store.Open(t.Context(), dsn, nil)
	check(t, err)
	defer st.Close()
	now, err := st.SchemaVersion(t.Context())
	check(t, err)
	check(t, st.MigrateDown(t.Context(), 4))
	bin, err := binary()
	if err != nil {
		t.Fatal(bin, err)
	}
	for range 6 {
		cmd := exec.Command(bin, "serve", "--listen", "127.0.0.1:0", "--database", dsn)
		check(t, cmd.Start())
		time.Sleep(time.Duration(20+rnd.IntN(400)) * time.Millisecond)
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}
	at, err := st.SchemaVersion(t.Context())
	t.Logf("killed on the way from version 4 to %d; the last left it at %d, %v", now, at, err)
}

// publisher works on drafts: each bars a domain, is weighed and published.
type publisher struct {
	client *http.Client
	token  string
	still  *atomic.Bool // others begin nothing while it is set: what was weighed would not hold
}

// publish returns whether the answer said it was done, and what it was.
func (p *publisher) publish(at func() string, name string) (done bool, last string) {
	do := func(method, path, draft, body string) (int, string) {
		req, _ := http.NewRequest(method, at()+path, strings.NewReader(body))
		req.Header.Set("Authorization", "Bearer "+p.token)
		req.Header.Set("Content-Type", "application/json")
		if draft != "" {
			req.Header.Set("Wexillum-Draft", draft)
		}
		resp, err := p.client.Do(req)
		if err != nil {
			return 0, err.Error()
		}
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		if err != nil {
			return 0, err.Error()
		}
		return resp.StatusCode, string(b)
	}
	draft := strings.TrimSuffix(name, ".example")
	if status, b := do("POST", "/api/v1/drafts", "", fmt.Sprintf(`{"name":%q}`, draft)); status != 201 {
		return false, b
	}
	if status, b := do("POST", "/api/v1/bars", draft, fmt.Sprintf(`{"name":%q,"reason":"x"}`, name)); status != 201 && status != 200 {
		return false, b
	}
	p.still.Store(true)
	defer p.still.Store(false)
	for range 20 {
		status, b := do("GET", "/api/v1/drafts/"+draft+"/impact", "", "")
		var x struct{ Digest string }
		if status != 200 || json.Unmarshal([]byte(b), &x) != nil {
			return false, b
		}
		status, b = do("POST", "/api/v1/drafts/"+draft+"/publish", "", fmt.Sprintf(`{"why":"x","digest":%q}`, x.Digest))
		if status != 409 && status != 412 {
			return status == 200, b
		}
		last = b
	}
	return false, last
}

// TestFaults lets writers and a publisher work on three services over one database, while records
// come to their end, and services and the database are killed, stopped and started, frozen, cut
// off, held up, slowed down, put on a wrong clock, killed while they bring the schema up to date.
// What was acknowledged is there, once; what was refused with nothing changed is not; each step is
// carried out once and not before its time; the journal is whole. make faults does the same for
// longer.
func TestFaults(t *testing.T) {
	t.Parallel()
	seed := *faultSeed
	if seed == 0 {
		seed = rand.Uint64()
	}
	t.Logf("seed %d, %d faults", seed, *faults)
	rnd := rand.New(rand.NewPCG(seed, 16))
	dir := filepath.Join(t.TempDir(), "db")
	server, err := mariadb.Start(t.Context(), dir)
	check(t, err)
	check(t, server.Create(t.Context(), "w"))
	socket := regexp.MustCompile(`@unix\(([^)]+)\)`).FindStringSubmatch(server.DSN("w"))
	if socket == nil {
		t.Fatalf("no socket in %s", server.DSN("w"))
	}
	filled := func() {
		st, err := store.Open(t.Context(), server.DSN("w"), nil)
		check(t, err)
		defer st.Close()
		check(t, st.Migrate(t.Context()))
		svc, err := service.New(t.Context(), st, nil, quiet)
		check(t, err)
		check(t, demo.Fill(t.Context(), svc))
	}
	filled()
	began := time.Now()
	{
		st, err := store.Open(t.Context(), server.DSN("w"), nil)
		check(t, err)
		svc, err := service.New(t.Context(), st, nil, quiet)
		check(t, err)
		_, err = svc.Load(t.Context(), "tests", "records that end", "ends.yaml",
			ends(began.Add(5*time.Second), time.Duration(*faults)*5*time.Millisecond), false)
		check(t, err)
		check(t, st.Close())
	}
	nodes := make([]*node, 3)
	for i := range nodes {
		w := newWire(t, socket[1])
		nodes[i] = &node{t: t, wire: w, dsn: strings.Replace(server.DSN("w"), socket[0], "@tcp("+w.l.Addr().String()+")", 1)}
		nodes[i].start()
	}
	body, _ := json.Marshal(map[string]string{"name": demo.Accounts[0].Name, "password": demo.Accounts[0].Password})
	token := ""
	for until := time.Now().Add(patience); token == "" && time.Now().Before(until); {
		if resp, err := http.Post(nodes[0].address()+"/api/v1/tokens", "application/json", bytes.NewReader(body)); err == nil {
			var x struct{ Token string }
			_ = json.NewDecoder(resp.Body).Decode(&x)
			_ = resp.Body.Close()
			token = x.Token
		}
	}
	var mu sync.Mutex
	acknowledged, refused := []string{}, map[string]string{}
	var unknown int
	var still atomic.Bool
	ctx, stop := context.WithCancel(t.Context())
	var writers sync.WaitGroup
	client := &http.Client{Timeout: 40 * time.Second}
	for w := range 6 {
		writers.Go(func() {
			for i := 0; ctx.Err() == nil; i++ {
				for still.Load() && ctx.Err() == nil {
					time.Sleep(5 * time.Millisecond)
				}
				name := fmt.Sprintf("w%d-%d.example", w, i)
				req, _ := http.NewRequest("POST", nodes[(w+i)%len(nodes)].address()+"/api/v1/bars",
					strings.NewReader(fmt.Sprintf(`{"name":%q,"reason":"x"}`, name)))
				req.Header.Set("Authorization", "Bearer "+token)
				req.Header.Set("Content-Type", "application/json")
				resp, err := client.Do(req)
				if err != nil {
					mu.Lock()
					unknown++
					mu.Unlock()
					time.Sleep(20 * time.Millisecond)
					continue
				}
				b, readErr := io.ReadAll(resp.Body)
				_ = resp.Body.Close()
				mu.Lock()
				switch {
				case readErr == nil && resp.StatusCode == 201 && len(b) > 0, strings.Contains(string(b), "/problems/done"):
					acknowledged = append(acknowledged, name)
				case resp.StatusCode == 503 && strings.Contains(string(b), "/problems/") && !strings.Contains(string(b), "/problems/unknown"):
					refused[name] = string(b)
				case resp.StatusCode < 300 && (len(b) == 0 || readErr != nil):
					t.Errorf("%s was answered %d with %q, %v", name, resp.StatusCode, b, readErr)
				case resp.StatusCode == 500, resp.StatusCode == 401, resp.StatusCode == 403:
					t.Errorf("%s: %d %s", name, resp.StatusCode, b)
				default:
					unknown++
				}
				mu.Unlock()
			}
		})
	}
	published := 0
	writers.Go(func() {
		p := &publisher{client: client, token: token, still: &still}
		for i := 0; ctx.Err() == nil; i++ {
			name := fmt.Sprintf("wp-%d.example", i)
			done, _ := p.publish(func() string { return nodes[i%len(nodes)].address() }, name)
			mu.Lock()
			if done {
				published++
				acknowledged = append(acknowledged, name)
			}
			mu.Unlock()
			time.Sleep(300 * time.Millisecond)
		}
	})
	restart := func(n *node, sig syscall.Signal) {
		n.end(sig)
		n.start()
	}
	kinds := []struct {
		name string
		do   func(*node)
	}{
		{"a service is killed", func(n *node) { restart(n, syscall.SIGKILL) }},
		{"a service is stopped", func(n *node) { restart(n, syscall.SIGTERM) }},
		{"a service is frozen", func(n *node) {
			n.kill(syscall.SIGSTOP)
			time.Sleep(2 * time.Second)
			n.kill(syscall.SIGCONT)
		}},
		{"the database is killed", func(*node) {
			_ = syscall.Kill(server.PID(), syscall.SIGKILL)
			<-server.Exited()
			var err error
			server, err = mariadb.Start(t.Context(), dir)
			check(t, err)
		}},
		{"the wire is cut", func(n *node) { n.wire.cut() }},
		{"the wire is held", func(n *node) {
			n.wire.held.Store(true)
			time.Sleep(2 * time.Second)
			n.wire.held.Store(false)
		}},
		{"the wire is slow", func(n *node) {
			n.wire.slow.Store(true)
			time.Sleep(2 * time.Second)
			n.wire.slow.Store(false)
		}},
		{"a service has a wrong clock", func(n *node) {
			n.end(syscall.SIGTERM)
			n.startAs(shifted)
			time.Sleep(2 * time.Second)
			restart(n, syscall.SIGTERM)
		}},
		{"killed while migrating", func(*node) {
			for _, n := range nodes {
				n.end(syscall.SIGKILL)
			}
			killMigrating(t, rnd, server.DSN("w"))
			for _, n := range nodes {
				n.start()
			}
		}},
		{"everything is killed", func(*node) {
			for _, n := range nodes {
				n.end(syscall.SIGKILL)
			}
			_ = syscall.Kill(server.PID(), syscall.SIGKILL)
			<-server.Exited()
			var err error
			server, err = mariadb.Start(t.Context(), dir)
			check(t, err)
			for _, n := range nodes {
				n.start()
			}
		}},
	}
	for i := range *faults {
		k := kinds[i%len(kinds)] // each as often, in a new order every round
		if i%len(kinds) == 0 {
			rnd.Shuffle(len(kinds), func(a, b int) { kinds[a], kinds[b] = kinds[b], kinds[a] })
			k = kinds[0]
		}
		n := nodes[rnd.IntN(len(nodes))]
		time.Sleep(time.Duration(100+rnd.IntN(600)) * time.Millisecond)
		t.Logf("%d: %s", i+1, k.name)
		k.do(n)
	}
	mu.Lock()
	before := len(acknowledged)
	mu.Unlock()
	for until := time.Now().Add(patience); ; time.Sleep(50 * time.Millisecond) { // all write again
		mu.Lock()
		now := len(acknowledged)
		mu.Unlock()
		if now >= before+30 {
			break
		}
		if time.Now().After(until) {
			t.Error("after the faults nobody writes")
			break
		}
	}
	stop()
	writers.Wait()
	stepsOnce(t, server.DSN("w"), began.Add(5*time.Second), time.Duration(*faults)*5*time.Millisecond)
	st, err := store.Open(t.Context(), server.DSN("w"), nil)
	check(t, err)
	defer func() { _ = st.Close(); _ = server.Stop() }()
	times := map[string]int{}
	rows, err := st.DB().QueryContext(t.Context(), "SELECT id FROM journal WHERE kind = 'bar' AND id LIKE 'w%'")
	check(t, err)
	for rows.Next() {
		var id string
		check(t, rows.Scan(&id))
		times[id]++
	}
	check(t, rows.Err())
	for _, name := range acknowledged {
		if times[name] != 1 {
			t.Errorf("%s was acknowledged, and is there %d times", name, times[name])
		}
	}
	for name, why := range refused {
		if times[name] != 0 {
			t.Errorf("%s was refused, and is there: %s", name, why)
		}
	}
	if entries, broken, err := st.VerifyJournal(t.Context()); err != nil || broken != nil {
		t.Errorf("the journal of %d entries: %+v %v", entries, broken, err)
	}
	if len(acknowledged) == 0 {
		t.Error("nothing was acknowledged")
	}
	if published == 0 && *faults >= 8 {
		t.Error("nothing was published")
	}
	t.Logf("%d acknowledged, %d of them published drafts, %d refused, %d unknown", len(acknowledged), published, len(refused), unknown)
}

// stepsOnce waits until every record of ends has ended, and looks that each did so once and not
// before its time.
func stepsOnce(t *testing.T, dsn string, from time.Time, every time.Duration) {
	t.Helper()
	st, err := store.Open(t.Context(), dsn, nil)
	check(t, err)
	defer st.Close()
	until := time.Now().Add(patience)
	if last := from.Add(ending * every); time.Until(last) > 0 {
		until = last.Add(patience)
	}
	for n := 0; n < ending; time.Sleep(50 * time.Millisecond) {
		check(t, st.DB().QueryRowContext(t.Context(), "SELECT COUNT(DISTINCT id) FROM journal WHERE kind = 'step' AND id LIKE 'ends%'").Scan(&n))
		if time.Now().After(until) {
			t.Errorf("%d of %d records have ended", n, ending)
			break
		}
	}
	rows, err := st.DB().QueryContext(t.Context(),
		"SELECT id, COUNT(*), MIN(at) FROM journal WHERE kind = 'step' AND id LIKE 'ends%' GROUP BY id, now")
	check(t, err)
	for rows.Next() {
		var id string
		var n int
		var at time.Time
		check(t, rows.Scan(&id, &n, &at))
		var i int
		_, err := fmt.Sscanf(id, "ends%d@", &i)
		check(t, err)
		if due := from.Add(time.Duration(i) * every).Truncate(time.Second); n != 1 || at.Before(due) {
			t.Errorf("%s ended %d times, at %v, and is due at %v", id, n, at, due)
		}
	}
	check(t, rows.Err())
}
