// Package e2e drives the real thing: the service on loopback with a database of
// its own, through the client and through the console in headless Chromium.
package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"wexillum.example/console"
	"wexillum.example/internal/api"
	"wexillum.example/internal/cli"
	"wexillum.example/internal/daemon"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/demo"
	"wexillum.example/internal/service"
	"wexillum.example/internal/standin"
	"wexillum.example/internal/statement"
	"wexillum.example/internal/store"
)

func TestMain(m *testing.M) {
	os.Unsetenv("WEXILLUM_SERVER")
	os.Unsetenv("WEXILLUM_TOKEN")
	os.Unsetenv("WEXILLUM_PASSWORD")
	service.PasswordMemory = 64 // hundreds of sign-ins; the services that are programs of their own take what is usual
	dbtest.Main(m)
}

// world is a service that runs, filled as a test wants it.
type running struct {
	t    *testing.T
	url  string
	svc  *service.Service
	st   *store.Store
	dsn  string
	home string

	second *standin.Neighbour // of the demo
}

// demoDSN makes a database with the demo world of today.
func demoDSN(t *testing.T) string {
	t.Helper()
	return dbtest.Filled(t, "demo of "+time.Now().Format(time.DateOnly), fillDemo)
}

// fillDemo brings the demo world into an empty database.
func fillDemo(dsn string) error {
	ctx := context.Background()
	st, err := store.Open(ctx, dsn, nil)
	if err != nil {
		return err
	}
	defer st.Close()
	if err := st.Migrate(ctx); err != nil {
		return err
	}
	svc, err := service.New(ctx, st, nil, quiet)
	if err != nil {
		return err
	}
	return demo.Fill(ctx, svc)
}

// demoService runs a service on the demo world.
func demoService(t *testing.T) *running {
	t.Helper()
	second, err := demo.Second()
	check(t, err)
	check(t, demo.People(second.People))
	at, stop, err := second.Listen("127.0.0.1:0")
	check(t, err)
	t.Cleanup(stop)
	r := startService(t, demoDSN(t), func(ctx context.Context, svc *service.Service) error {
		if err := demo.Neighbour(ctx, svc, at); err != nil {
			return err
		}
		if err := demo.FeedOut(ctx, svc, at, t.TempDir()); err != nil {
			return err
		}
		return svc.FetchStatement(ctx, service.By{Who: "service", Why: "statement fetched"}, fetcher, demo.NeighbourPartner)
	})
	r.second = second
	return r
}

var fetcher = &statement.Fetcher{AllowHTTP: true, AllowPrivate: true}

func startService(t *testing.T, dsn string, fill func(context.Context, *service.Service) error) *running {
	t.Helper()
	return startServiceAt(t, dsn, nil, fill)
}

// startServiceAt runs a service by a clock; nil is the system's.
func startServiceAt(t *testing.T, dsn string, clock func() time.Time, fill func(context.Context, *service.Service) error) *running {
	t.Helper()
	return startServiceWith(t, dsn, clock, 0, fill)
}

// startSecure runs a service on the demo world that takes itself to be behind https.
func startSecure(t *testing.T) *running {
	t.Helper()
	secure = true
	defer func() { secure = false }()
	return startService(t, demoDSN(t), nil)
}

var (
	secure   bool
	bodyTime time.Duration
	freshFor time.Duration
)

// startServiceWith runs a service whose sessions end after a time without activity.
func startServiceWith(t *testing.T, dsn string, clock func() time.Time, idle time.Duration,
	fill func(context.Context, *service.Service) error) *running {
	t.Helper()
	ctx := context.Background()
	st, err := store.Open(ctx, dsn, clock)
	check(t, err)
	check(t, st.Migrate(ctx))
	log := quiet
	svc, err := service.New(ctx, st, clock, log)
	check(t, err)
	if fill != nil {
		check(t, fill(ctx, svc))
	}
	fresh := 15 * time.Minute
	if clock != nil { // tests of months do not sign in anew each time
		fresh = freshFor
	}
	h, err := api.New(api.Options{Fresh: fresh, Service: svc, Store: st, Console: console.Files(), Log: log, Demo: true,
		PublishStatement: true, Fetcher: fetcher, Clock: clock, Idle: idle, SecureCookies: secure, BodyTime: bodyTime})
	check(t, err)
	srv := httptest.NewServer(h)
	svc.SetAddress(srv.URL)
	following, stop := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() { defer close(done); svc.Run(following, 20*time.Millisecond) }()
	t.Cleanup(func() {
		stop()
		<-done
		srv.CloseClientConnections()
		srv.Close()
		_ = st.Close()
	})
	return &running{t: t, url: srv.URL, svc: svc, st: st, dsn: dsn, home: t.TempDir()}
}

var quiet = slog.New(slog.NewTextHandler(io.Discard, nil))

func check(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

var environment sync.Mutex

// client runs the client and returns its status, output and errors.
func (r *running) client(stdin string, args ...string) (status int, out, errs string) {
	r.t.Helper()
	environment.Lock()
	defer environment.Unlock()
	check(r.t, os.Setenv("WEXILLUM_SESSION", filepath.Join(r.home, "session.json")))
	defer os.Unsetenv("WEXILLUM_SESSION")
	var o, e bytes.Buffer
	line := append([]string{"--server", r.url}, args...)
	if args[0] == "__complete" {
		line = append([]string{args[0], "--server", r.url}, args[1:]...)
	}
	status = cli.Main(line, strings.NewReader(stdin), &o, &e, &daemon.Program)
	return status, o.String(), e.String()
}

// login signs the client in as an account of the demo.
func (r *running) login(name string) {
	r.t.Helper()
	for _, a := range demo.Accounts {
		if a.Name == name {
			if status, _, errs := r.client(a.Password+"\n", "login", "--name", name); status != 0 {
				r.t.Fatalf("login as %s: %s", name, errs)
			}
			return
		}
	}
	r.t.Fatalf("there is no account %s in the demo", name)
}

// must runs the client and wants it to succeed.
func (r *running) must(args ...string) string {
	r.t.Helper()
	status, out, errs := r.client("", args...)
	if status != 0 {
		r.t.Fatalf("%v: status %d: %s%s", args, status, out, errs)
	}
	return out
}

// browser starts a browser and returns its context.
func browser(t *testing.T, options ...chromedp.ExecAllocatorOption) context.Context {
	t.Helper()
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/lib/chromium/chromium-headless-shell"),
		chromedp.UserDataDir(t.TempDir()), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.Flag("disable-quic", true),
		chromedp.Flag("force-prefers-reduced-motion", true), // nothing is seen half faded

		chromedp.Flag("disable-component-update", true), chromedp.Flag("no-proxy-server", true),
		chromedp.Flag("host-resolver-rules", "MAP * ~NOTFOUND, EXCLUDE 127.0.0.1"), chromedp.Flag("hide-scrollbars", true),
		chromedp.WindowSize(1280, 800))
	opts = append(opts, options...)
	actx, acancel := chromedp.NewExecAllocator(context.Background(), opts...)
	ctx, cancel := chromedp.NewContext(actx)
	t.Cleanup(func() { _ = chromedp.Cancel(ctx); cancel(); acancel() })
	check(t, chromedp.Do(ctx))
	return ctx
}

// patience is how long something is waited for before it is said that it never comes: long, for a
// machine that has much else to do. WEXILLUM_PATIENCE is another duration, as 20s.
var patience = func() time.Duration {
	if d, err := time.ParseDuration(os.Getenv("WEXILLUM_PATIENCE")); err == nil {
		return d
	}
	return 5 * time.Minute
}()

// page is a tab of a browser that is signed in.
type page struct {
	t   *testing.T
	ctx context.Context
	url string
}

func (r *running) page(ctx context.Context, name string) *page {
	r.t.Helper()
	p := &page{r.t, ctx, r.url}
	p.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(r.url+"/"), chromedp.WaitVisible(chromedp.CSS("#name")))
	for _, a := range demo.Accounts {
		if a.Name == name {
			p.do(chromedp.SendKeys(chromedp.CSS("#name"), a.Name), chromedp.SendKeys(chromedp.CSS("#password"), a.Password),
				chromedp.Click(chromedp.CSS("button[type=submit]")), chromedp.WaitVisible(chromedp.CSS(".askbar")))
		}
	}
	return p
}

func (p *page) do(actions ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	if err := chromedp.Do(ctx, actions...); err != nil {
		body, _ := chromedp.Run(p.ctx, chromedp.Evaluate[string]("document.body.innerText"))
		p.t.Fatalf("%v; the page says: %.1500s", err, body)
	}
}

// eval evaluates an expression in the page.
func eval[T any](p *page, expression string) T {
	p.t.Helper()
	v, err := chromedp.Run(p.ctx, chromedp.Evaluate[T](expression))
	check(p.t, err)
	return v
}

// until waits for an expression to become true, with every change of the page.
func (p *page) until(expression string) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	script := `new Promise(done => { const is = () => { try { return Boolean(` + expression + `) } catch { return false } }; if (is()) return done(true);
	const o = new MutationObserver(() => { if (is()) { o.disconnect(); done(true) } }); o.observe(document, {subtree: true, childList: true, attributes: true, characterData: true}) })`
	if _, err := chromedp.Run(ctx, chromedp.Evaluate[bool](script, chromedp.EvalAwaitPromise)); err != nil {
		body, _ := chromedp.Run(p.ctx, chromedp.Evaluate[string]("document.body.innerText"))
		p.t.Fatalf("never: %s; %v; the page says: %.1500s", expression, err, body)
	}
}

func (p *page) goTo(path, ready string) {
	p.t.Helper()
	p.do(chromedp.Navigate(p.url + path))
	p.until(ready)
}

func (p *page) shot(file string) {
	p.t.Helper()
	png, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
	check(p.t, err)
	check(p.t, os.MkdirAll(filepath.Dir(file), 0o755))
	check(p.t, os.WriteFile(file, png, 0o644))
}

// call makes one request with a token and returns status and body.
func (r *running) call(method, path, token string, body string, headers ...string) (int, http.Header, string) {
	r.t.Helper()
	req, err := http.NewRequest(method, r.url+path, strings.NewReader(body))
	check(r.t, err)
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	if body != "" {
		req.Header.Set("Content-Type", map[bool]string{false: "application/json", true: "application/merge-patch+json"}[method == "PATCH"])
	}
	for i := 0; i+1 < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	resp, err := http.DefaultClient.Do(req)
	check(r.t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	check(r.t, err)
	holds(r.t, resp.Request, resp.StatusCode, resp.Header, string(b))
	return resp.StatusCode, resp.Header, string(b)
}

// token returns a client's token for an account of the demo.
func (r *running) token(name string) string {
	r.t.Helper()
	for _, a := range demo.Accounts {
		if a.Name == name {
			b, _ := json.Marshal(map[string]string{"name": a.Name, "password": a.Password})
			status, _, body := r.call("POST", "/api/v1/tokens", "", string(b))
			var t struct{ Token string }
			if status != 201 || json.Unmarshal([]byte(body), &t) != nil {
				r.t.Fatalf("no token for %s: %d %s", name, status, body)
			}
			return t.Token
		}
	}
	r.t.Fatalf("there is no account %s", name)
	return ""
}

func dsnOf(t *testing.T) string { return dbtest.DSN(t) }

func accountOf(a demo.Account) service.Account {
	return service.Account{Name: a.Name, Role: a.Role}
}
