package e2e

import (
	"context"
	"database/sql"
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/mariadb"
	"wexillum.example/internal/service"
)

var (
	clusterFaults = flag.Int("cluster-faults", 3, "how many faults TestCluster brings about")
	clusterTime   = flag.Duration("cluster-time", 10*time.Minute, "how long TestCluster may take")
	clusterSeed   = flag.Uint64("cluster-seed", 0, "seed of TestCluster; 0 is a new one")
)

// TestCluster runs three services on three nodes of a database and writes, while nodes and services are killed and cut off, and all are
// killed in the end. Nothing that was acknowledged is lost, nothing is done twice, and the journal holds.
func TestCluster(t *testing.T) {
	t.Parallel()
	if _, err := os.Stat("/usr/lib/galera/libgalera_smm.so"); err != nil {
		t.Fatal("Debian's galera-4 is needed: make install-more")
	}
	seed := *clusterSeed
	if seed == 0 {
		seed = rand.Uint64()
	}
	t.Logf("seed %d", seed)
	draw := rand.New(rand.NewPCG(seed, 3))
	dir, err := os.MkdirTemp("", "cluster")
	check(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	ctx, cancel := context.WithTimeout(t.Context(), *clusterTime)
	defer cancel()
	nodes, apart, err := mariadb.Cluster(ctx, dir, 3)
	if apart != nil {
		t.Logf("the nodes have no network of their own, and are frozen where it would be cut: %v", apart)
	}
	t.Cleanup(func() {
		for _, x := range nodes {
			if x.Server != nil {
				x.Thaw()
				x.Kill()
			}
		}
	})
	if err != nil {
		t.Fatal(err, wrongIn(dir))
	}
	on := func(x *mariadb.Node) *sql.DB {
		db, err := sql.Open("mysql", x.DSN(""))
		check(t, err)
		t.Cleanup(func() { _ = db.Close() })
		return db
	}
	for _, q := range []string{"CREATE DATABASE wexillum", "CREATE USER wexillum@'%'", "GRANT ALL PRIVILEGES ON wexillum.* TO wexillum@'%'"} {
		_, err := on(nodes[0]).Exec(q)
		check(t, err)
	}
	var all []string
	var wires []*wire // to the database of each node
	for _, x := range nodes {
		wires = append(wires, newWire(t, x.Socket()))
		all = append(all, wires[len(wires)-1].l.Addr().String())
		if size := column(t, on(x),
			"SELECT variable_value FROM information_schema.global_status WHERE variable_name = 'wsrep_cluster_size'"); len(size) != 1 ||
			size[0] != "3" {
			t.Fatalf("the group has %v nodes\n%s", size, wrongIn(dir))
		}
	}
	dsn := "wexillum@tcp(" + strings.Join(all, ",") + ")/wexillum"
	check(t, fillDemo(dsn))
	var services []*node
	for range 3 {
		n := &node{t: t, dsn: dsn}
		n.start()
		services = append(services, n)
	}
	t.Cleanup(func() {
		for _, n := range services {
			n.end(syscall.SIGKILL)
		}
	})
	tokens := make([]string, len(services))
	for i, n := range services {
		tokens[i] = (&running{t: t, url: n.address()}).token("harbour")
	}

	// Writers write, each to any service that takes it, and remember what was acknowledged.
	var mu sync.Mutex
	acknowledged := map[string]bool{}
	var refused, tried atomic.Int64
	stalls := []time.Duration{}
	lastDone := time.Now()
	stop := make(chan struct{})
	var writers sync.WaitGroup
	client := &http.Client{Timeout: 40 * time.Second}
	for w := range 4 {
		writers.Go(func() {
			r := rand.New(rand.NewPCG(seed, uint64(w)+10))
			for n := 0; ; n++ {
				name := fmt.Sprintf("w%d-%d.example", w, n)
				for done := false; !done; {
					select {
					case <-stop:
						return
					default:
					}
					to := r.IntN(len(services))
					req, err := http.NewRequest("POST", services[to].address()+"/api/v1/bars", strings.NewReader(`{"name":"`+name+`","reason":"x"}`))
					check(t, err)
					req.Header.Set("Authorization", "Bearer "+tokens[to])
					req.Header.Set("Content-Type", "application/json")
					tried.Add(1)
					res, err := client.Do(req)
					if err != nil {
						time.Sleep(50 * time.Millisecond)
						continue
					}
					_ = res.Body.Close()
					switch {
					case res.StatusCode == 201, res.StatusCode == 409: // it was done by a try that was not answered
						done = true
						mu.Lock()
						acknowledged[name] = true
						if gap := time.Since(lastDone); gap > time.Second {
							stalls = append(stalls, gap)
						}
						lastDone = time.Now()
						mu.Unlock()
					case res.StatusCode >= 500:
						refused.Add(1)
						time.Sleep(50 * time.Millisecond)
					case res.StatusCode == 401: // a token that was made on what was never acknowledged
						t.Errorf("%s: a token does not count any more", name)
						return
					default:
						t.Errorf("%s: status %d", name, res.StatusCode)
						return
					}
				}
			}
		})
	}
	done := func() int {
		mu.Lock()
		defer mu.Unlock()
		return len(acknowledged)
	}
	// goesOn waits until more is written.
	goesOn := func(after string) {
		t.Helper()
		from, begun := done(), time.Now()
		for done() < from+20 {
			if time.Since(begun) > patience {
				t.Fatalf("%s: nothing is written for %s\n%s", after, patience, wrongIn(dir))
			}
			time.Sleep(20 * time.Millisecond)
		}
		t.Logf("%s: goes on after %.1f s", after, time.Since(begun).Seconds())
	}
	goesOn("all are well")
	kinds := []string{"the node that is written to is killed", "a service is killed", "the node that is written to is cut off from the others",
		"another node is killed", "the node that is written to is frozen"}
	for i := range *clusterFaults {
		kind := i % len(kinds)
		if kind == 2 && apart != nil {
			kind = 4
		}
		switch kind {
		case 0, 3:
			x := nodes[map[int]int{0: 0, 3: 1 + draw.IntN(2)}[kind]]
			x.Kill()
			goesOn(kinds[kind])
			check(t, x.Again(ctx, false))
			check(t, x.Joined(ctx, 3))
			goesOn("it is back")
		case 1:
			n := draw.IntN(3)
			services[n].end(syscall.SIGKILL)
			goesOn(kinds[kind])
			services[n].start()
			goesOn("it is back")
		case 2:
			// Services still reach it. What it does not know to be on the others, too, it does not acknowledge.
			check(t, nodes[0].Cut())
			goesOn(kinds[kind])
			alone := on(nodes[0])
			if _, err := alone.Exec("INSERT INTO wexillum.doctor_never (x) VALUES (1)"); err == nil || !strings.Contains(err.Error(), "1047") {
				t.Errorf("a node that is alone takes what is written: %v", err)
			}
			check(t, nodes[0].Mend())
			check(t, nodes[0].Joined(ctx, 3))
			goesOn("it is back")
		case 4:
			nodes[0].Freeze()
			goesOn(kinds[kind])
			nodes[0].Thaw()
			for _, x := range []*mariadb.Node{nodes[1], nodes[0]} { // what is thawed knows of nothing yet
				check(t, x.Joined(ctx, 3))
			}
			goesOn("it is back")
		}
	}
	// All are killed at once, as when the power goes; the one that stood last begins.
	for _, x := range nodes {
		x.Kill()
	}
	last, most := 0, int64(-2)
	for i, x := range nodes {
		n, err := x.Stands(ctx)
		check(t, err)
		if n > most {
			last, most = i, n
		}
	}
	check(t, nodes[last].Again(ctx, true))
	for i, x := range nodes {
		if i != last {
			check(t, x.Again(ctx, false))
		}
	}
	goesOn("all were killed")
	close(stop)
	writers.Wait()

	// Every node holds everything that was acknowledged, once.
	var seals []string
	for i, x := range nodes {
		db := on(x)
		_, err := db.Exec("SET GLOBAL wsrep_sync_wait = 1")
		check(t, err)
		own, err := sql.Open("mysql", x.DSN("wexillum"))
		check(t, err)
		defer own.Close()
		has := map[string]int{}
		for _, id := range column(t, own, "SELECT id FROM journal WHERE kind = 'bar'") {
			has[id]++
		}
		for name := range acknowledged {
			if has[name] != 1 {
				t.Errorf("node %d has %s %d times", i+1, name, has[name])
			}
		}
		seals = append(seals, column(t, own, "SELECT HEX(seal) FROM head")...)
	}
	if len(slices.Compact(seals)) != 1 {
		t.Errorf("the nodes hold different journals: %v", seals)
	}
	o := newOperator(t, "WEXILLUM_DATABASE="+dsn)
	r := &running{t: t, url: services[0].address()}
	if status, _, body := r.call("GET", "/api/v1/journal/verification", tokens[0], ""); status != 200 || strings.Contains(body, `"broken"`) {
		t.Errorf("the journal: %d %s", status, body)
	}
	if out, _ := o.run("doctor"); !strings.Contains(out, "3 nodes") {
		t.Error(out)
	}
	slices.Sort(stalls)
	t.Logf("%d writes acknowledged of %d tries, %d refused for a time; the longest times in which nothing was written: %v", len(acknowledged),
		tried.Load(), refused.Load(), stalls[max(0, len(stalls)-5):])
}

// wrongIn is what the nodes say of what is wrong, and of catching up.
func wrongIn(dir string) (out string) {
	for i := range 3 {
		for _, name := range []string{"error.log", "server.log"} {
			text, _ := os.ReadFile(filepath.Join(dir, fmt.Sprint("node", i+1), name))
			for line := range strings.Lines(string(text)) {
				if strings.Contains(line, "ERROR") || strings.Contains(line, "WSREP_SST") || strings.Contains(line, "sst") {
					out += fmt.Sprint("node", i+1, " ", line)
				}
			}
		}
	}
	return
}

// TestDecisionsAlone runs a service that answers decisions and does nothing else, with the right to read the database and no other: it
// follows what others change, and whatever is not a decision is refused.
func TestDecisionsAlone(t *testing.T) {
	t.Parallel()
	r := startService(t, demoDSN(t), nil)
	harbour := r.token("harbour")
	status, _, body := r.call("POST", "/api/v1/service-tokens", harbour, `{"name":"gate","purpose":"decisions","days":1}`)
	var made struct{ Token string }
	if err := json.Unmarshal([]byte(body), &made); err != nil || status != 201 || made.Token == "" {
		t.Fatal(status, body, err)
	}
	c, err := mysql.ParseDSN(r.dsn)
	check(t, err)
	db := r.st.DB()
	reader := "r" + c.DBName
	var port int
	check(t, db.QueryRow("SELECT @@port").Scan(&port))
	for _, q := range []string{"CREATE OR REPLACE USER " + reader + "@'%'", "GRANT SELECT ON `" + c.DBName + "`.* TO " + reader + "@'%'"} {
		_, err := db.Exec(q)
		check(t, err)
	}
	bin, err := binary()
	if err != nil {
		t.Fatal(bin, err)
	}
	file := filepath.Join(t.TempDir(), "snapshot")
	begin := func() (said, at string, kill func(syscall.Signal), gone <-chan struct{}) {
		return startSaying(t, bin, fmt.Sprintf("%s@tcp(127.0.0.1:%d)/%s", reader, port, c.DBName), "--only", "decisions", "--snapshot-file", file)
	}
	_, at, kill, gone := begin()
	near := &running{t: t, url: at}
	var before uint64
	check(t, db.QueryRow("SELECT seq FROM head").Scan(&before))
	who, st := "", r.svc.State()
	for _, a := range st.GuestsIn("low-water-design", r.svc.Now()) {
		act, _ := catalogue.ActionByName("spaces.enter")
		if v, err := st.Decide(&engine.Question{Subject: engine.Who{Address: a}, Action: act.ID,
			Resource: world.Resource{Kind: catalogue.Space, ID: "low-water-design"}, At: r.svc.Now()}); err == nil && v.Yes {
			who = a.String()
		}
	}
	evaluate := func() string {
		t.Helper()
		status, _, body := near.call("POST", "/access/v1/evaluation", made.Token,
			`{"subject":{"type":"party","id":"`+who+`"},"action":{"name":"spaces.enter"},"resource":{"type":"space","id":"low-water-design"}}`)
		if status != 200 {
			t.Fatal(status, body)
		}
		return body
	}
	if b := evaluate(); !strings.Contains(b, `"decision":true`) {
		t.Fatal(b)
	}
	for path, want := range map[string]int{"/readyz": 200, "/readyz/decisions": 200, "/healthz": 200,
		"/.well-known/authzen-configuration": 200, "/api/v1/session": 403, "/api/v1/guests": 403, "/api/v1/world": 403} {
		if status, _, body := near.call("GET", path, harbour, ""); status != want {
			t.Errorf("%s: %d, not %d: %s", path, status, want, body)
		}
	}
	for _, x := range [][2]string{{"/api/v1/bars", `{"name":"x.example","reason":"x"}`},
		{"/api/v1/service-tokens", `{"name":"x","purpose":"decisions","days":1}`}} {
		if status, _, body := near.call("POST", x[0], harbour, x[1]); status != 403 || !strings.Contains(body, "answers decisions alone") {
			t.Errorf("%s: %d %s", x[0], status, body)
		}
	}
	var after uint64
	if check(t, db.QueryRow("SELECT seq FROM head").Scan(&after)); after != before {
		t.Errorf("it wrote: %d entries, and were %d", after, before)
	}
	_, err = r.svc.ChangeGuests(t.Context(), service.Who{Name: "harbour", Role: service.Administrator},
		service.GuestChange{Do: service.Suspend, Addresses: []string{who}, Reason: "x"}, false)
	check(t, err)
	for until := time.Now().Add(patience); strings.Contains(evaluate(), `"decision":true`); time.Sleep(20 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatal("what others change is not followed")
		}
	}
	kill(syscall.SIGTERM)
	<-gone
	// The next one begins with the file, with what was changed since the file was written.
	_, err = r.svc.ChangeGuests(t.Context(), service.Who{Name: "harbour", Role: service.Administrator},
		service.GuestChange{Do: service.BringBack, Addresses: []string{who}, Reason: "x"}, false)
	check(t, err)
	said, at, kill, gone := begin()
	if near.url = at; !strings.Contains(said, "began with the snapshot file") {
		t.Error(said)
	}
	if b := evaluate(); !strings.Contains(b, `"decision":true`) {
		t.Error(b)
	}
	kill(syscall.SIGTERM)
	<-gone
}
