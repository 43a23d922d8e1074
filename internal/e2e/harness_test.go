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

func (n *node) start() {
	at, kill, gone := startProcess(n.t, n.dsn)
	n.mu.Lock()
	n.at, n.kill, n.gone = at, kill, gone
	n.mu.Unlock()
}

func (n *node) address() string {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.at
}

// TestFaults lets writers work on three services over one database while services and the
// database are killed, stopped and started, frozen, cut off, held up and slowed down. What was
// acknowledged is there, once; what was refused with nothing changed is not; the journal is whole.
// make faults does the same for longer.
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
	ctx, stop := context.WithCancel(t.Context())
	var writers sync.WaitGroup
	client := &http.Client{Timeout: 40 * time.Second}
	for w := range 6 {
		writers.Go(func() {
			for i := 0; ctx.Err() == nil; i++ {
				name := fmt.Sprintf("w%d-%d.example", w, i)
				req, _ := http.NewRequest("POST", nodes[(w+i)%len(nodes)].address()+"/api/v1/bars", strings.NewReader(fmt.Sprintf(`{"name":%q,"reason":"x"}`, name)))
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
	restart := func(n *node, sig syscall.Signal) {
		n.mu.Lock()
		kill, gone := n.kill, n.gone
		n.mu.Unlock()
		kill(sig)
		<-gone
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
		{"everything is killed", func(*node) {
			for _, n := range nodes {
				n.mu.Lock()
				kill, gone := n.kill, n.gone
				n.mu.Unlock()
				kill(syscall.SIGKILL)
				<-gone
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
	t.Logf("%d acknowledged, %d refused, %d unknown", len(acknowledged), len(refused), unknown)
}
