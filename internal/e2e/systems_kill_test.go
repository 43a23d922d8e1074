package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"wexillum.example/internal/demo"
	"wexillum.example/internal/freeport"
	"wexillum.example/internal/mariadb"
	"wexillum.example/internal/service"
)

// suiteBinary builds the suite once.
var suiteBinary = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "wexillum-suite-")
	if err != nil {
		return "", err
	}
	out, err := exec.Command("go", "build", "-o", filepath.Join(dir, "wexillum-suite"), "wexillum.example/cmd/wexillum-suite").CombinedOutput()
	if err != nil {
		return string(out), err
	}
	return filepath.Join(dir, "wexillum-suite"), nil
})

// suiteProcess runs the suite as a process of its own, which keeps what it holds in a directory.
func suiteProcess(t *testing.T, dir, quay string) (kill func()) {
	t.Helper()
	bin, err := suiteBinary()
	if err != nil {
		t.Fatal(bin, err)
	}
	cmd := exec.Command(bin, "--dir", dir, "--faster", "100000", "--quay", quay, "--parley", "127.0.0.1:0", "--ledger", "127.0.0.1:0")
	cmd.Env = append(os.Environ(), demo.SuiteKey+"=pass")
	out, err := cmd.StdoutPipe()
	check(t, err)
	check(t, cmd.Start())
	lines := bufio.NewScanner(out)
	for i := 0; i < 3 && lines.Scan(); i++ {
		continue
	}
	dead := false
	kill = func() {
		if !dead {
			dead = true
			_ = cmd.Process.Kill()
			_ = cmd.Wait()
		}
	}
	t.Cleanup(kill)
	return kill
}

// TestSystemsKill9 kills, at random moments and without a word: two services that carry one system, their database,
// and the system's program itself, while guests are suspended and brought back and a rule is published. In the
// end the system holds what is meant, each once, and the journal is whole.
func TestSystemsKill9(t *testing.T) {
	t.Parallel()
	check(t, suiteKey())
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	rnd := rand.New(rand.NewPCG(seed, 3))
	port, err := freeport.Find() // none that the machine gives to others: it is free again after each kill
	check(t, err)
	quay := fmt.Sprintf("127.0.0.1:%d", port)
	suiteDir, dbDir := t.TempDir(), filepath.Join(t.TempDir(), "db")
	killSuite := suiteProcess(t, suiteDir, quay)
	db, err := mariadb.Start(t.Context(), dbDir)
	check(t, err)
	defer func() { _ = db.Stop() }()
	check(t, db.Create(t.Context(), "k"))
	dsn := db.DSN("k")
	first := startService(t, dsn, func(ctx context.Context, svc *service.Service) error { return demo.Fill(ctx, svc) })
	token := first.token("harbour")
	type process struct {
		at   string
		kill func(syscall.Signal)
	}
	life := func() *process {
		at, kill, _ := startProcess(t, dsn)
		return &process{at, kill}
	}
	two := [2]*process{life(), life()}
	// call asks whichever service answers, until one does what it is asked.
	call := func(method, path, body string, fits ...int) string {
		t.Helper()
		for until := time.Now().Add(2 * time.Minute); ; time.Sleep(50 * time.Millisecond) {
			for _, p := range two {
				req, err := http.NewRequest(method, p.at+path, strings.NewReader(body))
				check(t, err)
				req.Header.Set("Authorization", "Bearer "+token)
				req.Header.Set("Content-Type", map[string]string{"PATCH": "application/merge-patch+json"}[method])
				if method != "PATCH" {
					req.Header.Set("Content-Type", "application/json")
				}
				resp, err := (&http.Client{Timeout: 20 * time.Second}).Do(req)
				if err != nil {
					continue
				}
				var doc json.RawMessage
				_ = json.NewDecoder(resp.Body).Decode(&doc)
				_ = resp.Body.Close()
				for _, f := range append(fits, 200, 201) {
					if resp.StatusCode == f {
						return string(doc)
					}
				}
				if resp.StatusCode < 500 && time.Now().After(until.Add(-time.Minute)) {
					t.Fatalf("%s %s: %d %s", method, path, resp.StatusCode, doc)
				}
			}
			if time.Now().After(until) {
				t.Fatalf("%s %s: nobody answers", method, path)
			}
		}
	}
	call("POST", "/api/v1/systems",
		fmt.Sprintf(`{"id":"quay","name":"Quay","dialect":"quay","address":"http://%s","key":"env:%s","minutes":1,"why":"x"}`, quay,
			demo.SuiteKey), 409)
	var view struct {
		Digest string
		Mode   string
	}
	for view.Mode != "carry" { // what it was read to hold may be otherwise meanwhile
		check(t, json.Unmarshal([]byte(call("GET", "/api/v1/systems/quay", "")), &view))
		call("PATCH", "/api/v1/systems/quay", fmt.Sprintf(`{"mode":"carry","brake":0,"digest":"%s","why":"it shall obey"}`, view.Digest), 409)
	}
	var listed struct{ Guests []struct{ Address string } }
	check(t, json.Unmarshal([]byte(call("GET", "/api/v1/guests?limit=60", "")), &listed))
	killed := map[string]int{}
	for round := range 9 {
		who := listed.Guests[rnd.IntN(len(listed.Guests))].Address
		do := []string{"suspend", "bring_back"}[rnd.IntN(2)]
		call("POST", "/api/v1/guests/changes", fmt.Sprintf(`{"do":"%s","addresses":["%s"],"reason":"round %d"}`, do, who, round), 409, 422)
		time.Sleep(time.Duration(rnd.IntN(400)) * time.Millisecond) // at a random moment, which is the point
		switch k := rnd.IntN(5); k {
		case 0, 1:
			two[k].kill(syscall.SIGKILL)
			two[k] = life()
			killed["service"]++
		case 2:
			_ = syscall.Kill(db.PID(), syscall.SIGKILL)
			<-db.Exited()
			killed["database"]++
			if db, err = mariadb.Start(t.Context(), dbDir); err != nil {
				t.Fatal(err)
			}
		default:
			killSuite()
			killed["suite"]++
			killSuite = suiteProcess(t, suiteDir, quay)
		}
	}
	t.Logf("killed %v", killed)
	// One more change, and nobody is killed: once it has arrived, all that came before has been looked at.
	mark := listed.Guests[0].Address
	for _, do := range []string{"bring_back", "suspend"} {
		call("POST", "/api/v1/guests/changes", fmt.Sprintf(`{"do":"%s","addresses":["%s"],"reason":"the last"}`, do, mark), 409, 422)
	}
	for until := time.Now().Add(3 * time.Minute); manifest(t, quay)[mark] == "aboard"; time.Sleep(300 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatalf("%s is still aboard", mark)
		}
	}
	// All that is on its way arrives; what a system shows is what is meant.
	for until := time.Now().Add(3 * time.Minute); ; time.Sleep(300 * time.Millisecond) {
		var v struct {
			Differ, Open, Braked int
			Problem              string
			Kinds                []struct {
				Kind                                   string
				Found, Confirmed, Open, Drift, Unknown int
			}
		}
		check(t, json.Unmarshal([]byte(call("GET", "/api/v1/systems/quay", "")), &v))
		waiting := 0
		for _, k := range v.Kinds {
			waiting += k.Drift + k.Unknown
		}
		var page struct {
			Records []struct{ State string }
		}
		for _, state := range []string{"waiting", "sent", "failed"} {
			check(t, json.Unmarshal([]byte(call("GET", "/api/v1/systems/quay/records?kind=guest&state="+state, "")), &page))
			waiting += len(page.Records)
		}
		if waiting == 0 && v.Braked == 0 && v.Problem == "" && len(manifest(t, quay)) > 100 {
			break
		}
		if time.Now().After(until) {
			t.Fatalf("it does not come to rest: %+v", v)
		}
	}
	there := manifest(t, quay)
	check(t, first.svc.Refresh(t.Context()))
	n := 0
	for mail, standing := range there {
		g, _, err := first.svc.Guest(t.Context(), mail)
		check(t, err)
		if g == nil || (g.State == 0) != (standing == "aboard") {
			t.Errorf("%s is %s there, and %+v here", mail, standing, g)
		}
		n++
	}
	if n < 100 {
		t.Errorf("%d visitors", n)
	}
	if entries, broken, err := first.st.VerifyJournal(t.Context()); err != nil || broken != nil {
		t.Errorf("the journal of %d entries: %+v %v", entries, broken, err)
	}
}

// manifest reads who is at the harbour, and how; each once.
func manifest(t *testing.T, quay string) map[string]string {
	t.Helper()
	out := map[string]string{}
	req, err := http.NewRequest("GET", "http://"+quay+"/quay/v1/manifest/visitors", nil)
	check(t, err)
	req.Header.Set("X-Quay-Pass", "pass")
	resp, err := http.DefaultClient.Do(req)
	check(t, err)
	defer resp.Body.Close()
	var page struct {
		List []struct{ Fields map[string]string }
	}
	check(t, json.NewDecoder(resp.Body).Decode(&page))
	for _, x := range page.List {
		if _, twice := out[x.Fields["mail"]]; twice {
			t.Errorf("%s is there twice", x.Fields["mail"])
		}
		out[x.Fields["mail"]] = x.Fields["standing"]
	}
	return out
}
