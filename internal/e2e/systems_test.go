package e2e

import (
	"context"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"wexillum.example/internal/beside"
	"wexillum.example/internal/connector"
	"wexillum.example/internal/core/native"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/demo"
	"wexillum.example/internal/service"
	"wexillum.example/internal/suite"
)

// suiteKey sets the key of the demo's suite once: tests run beside each other.
var suiteKey = sync.OnceValue(func() error { return os.Setenv(demo.SuiteKey, "pass") })

func speaks(dialect, address, key string) (service.Connector, error) {
	return connector.New(dialect, address, key)
}

// withSuite lets a service work on a suite, as the demo does, where everything is so much faster.
func (r *running) withSuite(faster float64) (at map[string]string, programs map[string]*suite.Program) {
	r.t.Helper()
	check(r.t, suiteKey())
	programs, at = suite.New(suite.Options{Key: "pass", Faster: faster}), map[string]string{}
	for name, p := range programs {
		srv := httptest.NewServer(p.Handler())
		r.t.Cleanup(srv.Close)
		at[name] = srv.URL
	}
	r.svc.SetConnector(speaks)
	check(r.t, demo.Systems(context.Background(), r.svc, at))
	r.works(faster)
	return
}

// oldHarbour runs a service on nothing but an administrator's account, and beside it a suite whose harbour holds
// visitors already.
func oldHarbour(t *testing.T, visitors int) (*running, map[string]string) {
	t.Helper()
	check(t, suiteKey())
	r := startService(t, dbtest.DSN(t), func(ctx context.Context, svc *service.Service) error {
		return svc.MakeAccount(ctx, "test", "", service.Account{Name: demo.Accounts[0].Name, Role: string(service.Administrator)},
			demo.Accounts[0].Password)
	})
	p := suite.New(suite.Options{Key: "pass", Faster: 10 * demo.SuiteFaster, House: "harbour.example"})["quay"]
	check(t, p.Settled(visitors))
	check(t, p.Turn("berths.visitors", "may come aboard"))
	srv := httptest.NewServer(p.Handler())
	t.Cleanup(srv.Close)
	r.works(10 * demo.SuiteFaster)
	return r, map[string]string{"quay": srv.URL}
}

// works lets a service work on systems, where everything is so much faster, until the test ends.
func (r *running) works(faster float64) {
	r.svc.SetConnector(speaks)
	r.svc.SetFaster(faster)
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { defer close(done); r.svc.RunSystems(ctx, 50*time.Millisecond) }()
	r.t.Cleanup(func() { stop(); <-done })
}

// settled waits until a system that is carried holds what is meant.
func (r *running) settled(id string) *service.SystemView {
	r.t.Helper()
	for until := time.Now().Add(patience); ; time.Sleep(100 * time.Millisecond) {
		v, err := r.svc.SystemView(r.t.Context(), id)
		check(r.t, err)
		right := v.Reading != nil
		for _, x := range v.Settings {
			right = right && (x.State == service.StepConfirmed && x.Step.Drift == nil || x.State == service.StepByHand)
		}
		for _, k := range v.Kinds {
			right = right && k.Open+k.Drift == 0
		}
		if right {
			return v
		}
		if time.Now().After(until) {
			r.t.Fatalf("%s does not settle: %+v", id, v.Settings)
		}
	}
}

// TestSystemsInTheConsole walks the three stories: a rule is published, settles and is confirmed; what
// somebody loosens behind our back is found, counted and put back; a system that is looked at is shown
// what it would be made to hold before it is carried.
func TestSystemsInTheConsole(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	at, programs := r.withSuite(3 * demo.SuiteFaster) // an hour is twenty seconds
	r.login("harbour")
	r.settled("parley")
	p := r.page(browser(t), "harbour")
	p.goTo("/systems", "document.querySelectorAll('.system').length === 3")
	p.axe("systems")
	p.picture("systems")
	// Somebody there turns what a list means.
	check(t, turn(at["parley"], "houses", "all but: marrowby.example"))
	p.goTo("/systems/parley", "document.querySelector('.settings-found tbody tr')")
	p.presses("main", "Read now")
	p.until("document.querySelector('.settings-found .is-wrong')")
	row := "document.querySelector('.settings-found tbody tr')"
	for _, want := range []string{"Houses that we talk with", "all but: marrowby.example", "changed there"} {
		if got := p.text(".settings-found tbody tr"); !strings.Contains(got, want) {
			t.Errorf("the row lacks %q: %s", want, got)
		}
	}
	if got := p.text(".system"); !strings.Contains(got, "1 setting was changed there") || !strings.Contains(got, "typical newcomers") {
		t.Errorf("how it stands: %s", got)
	}
	p.axe("a system with drift")
	p.picture("system-drift")
	// The same question, meant and found.
	p.goTo("/ask?who="+url.QueryEscape("*@vantry.example")+"&action=chat.message&resource=person%3Ad.ekwinter",
		"document.querySelector('[data-testid=in-suite]')")
	if got := p.text("[data-testid=in-suite]"); !strings.Contains(got, "The suite lets it through all the same") {
		t.Errorf("meant and found: %s", got)
	}
	for until := time.Now().Add(patience); eval[string](p,
		"document.querySelector('.tried')?.dataset.outcome ?? ''") != "admitted"; time.Sleep(200 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatalf("it stays too early: %s", p.text(".in-suite"))
		}
		p.presses(".in-suite", "Try it there")
		p.until("document.querySelector('.tried')")
	}
	if got := p.text(".tried"); !strings.Contains(got, "let through") || !strings.Contains(got, "delivered") {
		t.Errorf("tried: %s", got)
	}
	p.axe("meant, found and tried")
	p.picture("ask-found")
	p.goTo("/", "document.querySelector('.suite-now .is-wrong')")
	// Put back.
	p.goTo("/systems/parley", row)
	p.presses(".settings-found", "Put it back")
	p.until("document.querySelector('#sd-why')")
	p.axe("putting back")
	p.fill("#sd-why", "nobody asked for it")
	p.presses(dialogue, "Put it back")
	p.until("!document.querySelector('.modal.show')")
	r.settled("parley")
	if got := programs["parley"].Counts("houses"); !strings.HasPrefix(got, "none but: ") {
		t.Errorf("put back: %s", got)
	}
	p.until("document.querySelector('.system.is-right')")
	p.presses("main", "Try it from outside")
	p.until("document.querySelector('#h-tried')")
	if got := p.text("[aria-labelledby=h-tried]"); !strings.Contains(got, "trials, which stand for") {
		t.Errorf("tried: %s", got)
	}
	p.axe("what was tried")
	p.picture("system-tried")
	// What is looked at is shown what it would be made to hold.
	p.goTo("/systems/ledger", "document.querySelector('.settings-found tbody tr')")
	p.presses("main", "Have it carried")
	p.until("document.querySelector('.steps-shown li')")
	p.picture("system-carry")
	if got := p.text(".steps-shown"); !strings.Contains(got, "Standing orders: 3 forwarders as meant here.") {
		t.Errorf("what carrying writes: %s", got)
	}
	p.fill("#sd-why", "it shall follow")
	p.presses(dialogue, "Write 5 changes")
	p.until("!document.querySelector('.modal.show')")
	p.until("document.body.innerText.includes('Carried: it is made to hold what is published.')")
}

// turn changes a setting at the page of a program of the suite, as its administrator does.
func turn(at, name, to string) error {
	resp, err := http.PostForm(at+"/desk", url.Values{"name": {name}, "to": {to}})
	if err != nil {
		return err
	}
	return resp.Body.Close()
}

// TestSystemsByClient does with the client what the console does, and what is refused.
func TestSystemsByClient(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	r.says(1, "no system was read yet", "ask", "*@vantry.example", "chat.message", "person:d.ekwinter", "--found")
	at, programs := r.withSuite(3 * demo.SuiteFaster) // an hour is twenty seconds
	r.settled("quay")
	r.settled("parley")
	if out := r.must("system", "list"); !strings.Contains(out, "as meant") || !strings.Contains(out, "look") {
		t.Errorf("the list:\n%s", out)
	}
	r.says(0, "figures.shown-by", "system", "kinds", "ledger")
	r.says(2, `"harbour" is no kind of system`, "system", "kinds", "harbour")
	r.says(1, "there is no system", "system", "show", "nowhere")
	r.says(1, "say where its key is", "system", "add", "x", "--dialect", "quay", "--address", at["quay"], "--key", "pass", "--why", "x")
	r.says(1, "one system carries a service", "system", "add", "x", "--dialect", "quay", "--address", at["quay"], "--key",
		"env:"+demo.SuiteKey, "--why", "x")
	r.says(0, "tickets", "system", "add", "x", "--dialect", "quay", "--address", at["quay"], "--key", "env:"+demo.SuiteKey, "--preview")
	// A rule is published: it settles, and is confirmed.
	r.says(0, "", "rules", "set", "files.given_to", "--default", "inside", "--why", "for the audit", "--yes")
	for until := time.Now().Add(patience); programs["quay"].Reading()["crates.handed-to"] != "crew"; time.Sleep(50 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatalf("it does not reach the system: %v", programs["quay"].Reading())
		}
	}
	r.eventually("written, expected to count", "system", "show", "quay")
	// Found differs from meant.
	check(t, turn(at["parley"], "houses", "all but: marrowby.example"))
	r.says(0, "changed there, found", "system", "read", "parley")
	r.says(3, "NO", "ask", "*@vantry.example", "chat.message", "person:d.ekwinter")
	r.says(0, "YES", "ask", "*@vantry.example", "chat.message", "person:d.ekwinter", "--found")
	r.says(0, "What the systems hold, read", "ask", "*@vantry.example", "chat.message", "person:d.ekwinter", "--found=least")
	tries := func(want string) {
		t.Helper()
		for until := time.Now().Add(patience); ; time.Sleep(200 * time.Millisecond) {
			if _, out, errs := r.client("", "ask", "*@vantry.example", "chat.message", "person:d.ekwinter", "--try"); strings.Contains(out, want) {
				return
			} else if time.Now().After(until) {
				t.Fatalf("%q is not told:\n%s%s", want, out, errs)
			}
		}
	}
	tries("tried at parley as trial-of-wexillum@vantry.example: admitted")
	r.says(0, "+ they let through besides", "diff", "*@vantry.example", "--meant-found")
	r.says(2, "leave the other side away", "diff", "*@vantry.example", "--meant-found", "--at", "+3d")
	r.says(1, "write most or least", "ask", "*@vantry.example", "chat.message", "person:d.ekwinter", "--found=some")
	r.says(1, "this changes something", "partner", "open", "vantry", "chat.in", "--found", "--why", "x", "--yes")
	r.says(1, "write a day ahead", "system", "accept", "parley", "houses", "--until", "2020-01-01", "--why", "x")
	r.says(0, "accepted until", "system", "accept", "parley", "houses", "--until", "+2d", "--why", "a fair")
	r.says(0, "waits to be written", "system", "put-back", "parley", "houses", "--why", "the fair is over")
	r.settled("parley")
	r.says(0, "the fair is over", "journal", "--kind", "system_setting")
	r.says(0, "Record of reach: wexillum evidence show", "system", "try", "quay", "--record")
	r.says(1, "there is no such partner", "system", "try", "quay", "--partner", "nobody")
	r.says(0, "Forwarded post leaves a copy", "system", "sheet", "ledger")
	r.says(0, "Nothing is to be changed", "system", "sheet", "parley")
	r.says(0, "carried", "system", "set", "parley", "--nightly", "yes", "--why", "to be sure")
	r.says(2, "write yes or no", "system", "set", "parley", "--nightly", "maybe", "--why", "x")
	// To carry shows what it writes first, and can be taken back to looking.
	if _, out, _ := r.client("n\n", "system", "carry", "ledger", "--why", "it shall follow"); !strings.Contains(out, "writes") {
		t.Errorf("carrying shows nothing first:\n%s", out)
	}
	r.says(0, "carried", "system", "carry", "ledger", "--yes", "--why", "it shall follow")
	r.says(0, "looked at", "system", "look", "ledger", "--why", "not yet")
	r.says(0, "paused", "system", "pause", "ledger", "--why", "it moves")
	r.says(1, "is paused", "system", "read", "ledger")
	r.says(0, "put back by itself", "system", "set", "parley", "--put-back", "beyond", "--minutes", "2", "--why", "nobody loosens it unasked")
	r.says(0, "stays as it is there", "system", "end", "ledger", "--why", "it is gone")
	r.login("mooring")
	r.says(1, "may not", "system", "put-back", "parley", "houses", "--why", "x")
	r.login("rigger")
	r.says(1, "may not", "system", "list")
}

// TestDescribedInTheConsole adds a system that describes itself; it is carried as any other, and when it describes itself
// otherwise it is not read until somebody has taken that.
func TestDescribedInTheConsole(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	check(t, suiteKey())
	srv := httptest.NewServer(suite.New(suite.Options{Key: "pass", Faster: 100 * demo.SuiteFaster})["parley"].Handler())
	defer srv.Close()
	c, err := connector.New("parley", srv.URL, "pass")
	check(t, err)
	known, _ := native.ByName("parley")
	d := *known
	d.Name, d.Title = "tower", "Tower, for chat and meetings"
	var mu sync.Mutex
	at := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		mu.Lock()
		now := d
		mu.Unlock()
		beside.Handler(speaker{c, &now}, "pass").ServeHTTP(w, q)
	}))
	defer at.Close()
	r.works(100 * demo.SuiteFaster)
	r.login("harbour")
	p := r.page(browser(t), "harbour")
	p.goTo("/systems", "[...document.querySelectorAll('main button')].some(b => b.innerText === 'Add one')")
	p.presses("main", "Add one")
	p.until("[...document.querySelectorAll('.modal select option')].some(o => o.value === 'open')")
	if got := eval[string](p,
		"[...document.querySelectorAll('.modal select option')].map(o => o.value).join(' ')"); strings.TrimSpace(got) != "quay parley ledger open" {
		t.Errorf("kinds: %q", got)
	}
	p.fill(".modal select", "open")
	for field, text := range map[string]string{"name": "The tower", "id": "tower", "address": at.URL, "key": "env:" + demo.SuiteKey,
		"why": "it carries chat"} {
		p.fill(".modal #sy-"+field, text)
	}
	p.presses(".modal", "Add it, and look at it")
	p.until("document.querySelector('main h1')?.innerText.includes('The tower') || document.body.innerText.includes('Tower, for chat and meetings')")
	r.says(0, "Tower, for chat and meetings", "system", "show", "tower")
	r.says(0, "chat.federation", "system", "kinds", "tower")
	r.must("system", "carry", "tower", "--why", "it shall obey", "--yes")
	r.settled("tower")

	mu.Lock()
	d.Title = "Tower, of another make"
	mu.Unlock()
	r.says(1, "it describes itself otherwise than it did", "system", "read", "tower")
	r.says(0, "Tower, of another make", "system", "set", "tower", "--describe", "--why", "a new version")
	r.says(0, "looked at: nothing is written there", "system", "show", "tower")
	r.says(0, "", "system", "read", "tower")
}
