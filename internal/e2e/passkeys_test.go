package e2e

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"

	"wexillum.example/internal/service"
	"wexillum.example/internal/standin"
)

// byName is where a service is reached by the name of this machine, as passkeys want it.
func (r *running) byName() string {
	return strings.Replace(r.url, "127.0.0.1", "localhost", 1)
}

// wall is a clock that tests put forward.
type wall struct {
	sync.Mutex
	by time.Duration
}

func (w *wall) now() time.Time {
	w.Lock()
	defer w.Unlock()
	return time.Now().Add(w.by)
}

func (w *wall) forward(d time.Duration) {
	w.Lock()
	defer w.Unlock()
	w.by += d
}

// TestPasskeysInTheConsole adds a passkey with the browser's own virtual authenticator, signs in with it, and proves with it later, before
// something that weighs heavily, that it is still they; then with the password.
func TestPasskeysInTheConsole(t *testing.T) {
	clock := &wall{}
	freshFor = 15 * time.Minute
	r := startServiceAt(t, demoDSN(t), clock.now, nil)
	freshFor = 0
	b := browser(t, chromedp.Flag("host-resolver-rules", "MAP * ~NOTFOUND, EXCLUDE 127.0.0.1, EXCLUDE localhost"))
	_, err := chromedp.Call(b, webauthn.Enable, webauthn.EnableParams{})
	check(t, err)
	made, err := chromedp.Call(b, webauthn.AddVirtualAuthenticator,
		webauthn.AddVirtualAuthenticatorParams{Options: &webauthn.VirtualAuthenticatorOptions{Protocol: webauthn.AuthenticatorProtocolCtap2,
			Transport: webauthn.AuthenticatorTransportInternal, HasResidentKey: true, HasUserVerification: true, IsUserVerified: true,
			AutomaticPresenceSimulation: true}})
	check(t, err)
	at := r.url
	r.url = r.byName()
	p := r.page(b, "harbour")
	r.url = at
	p.goTo("/account", "document.querySelector('#h-passkeys')")
	p.fill("[aria-label='Name of the new passkey']", "telephone")
	p.presses("[aria-labelledby=h-passkeys]", "Add a passkey")
	p.until("document.querySelector('[aria-labelledby=h-passkeys] li')?.innerText.includes('telephone')")
	p.axe("account with a passkey")
	p.picture("passkeys")
	p.presses("header", "Sign out")
	p.until("document.querySelector('.ways-in button')")
	p.picture("sign-in")
	p.presses(".ways-in", "Sign in with a passkey")
	p.until("document.querySelector('.askbar')")
	if who := p.text("header"); !strings.Contains(who, "harbour") {
		t.Errorf("in as: %s", who)
	}

	// Sixteen minutes later a rule is changed: it asks whether it is they, and goes on where they prove it.
	clock.forward(16 * time.Minute)
	prove := func(what string, how func()) {
		t.Helper()
		p.goTo("/feeds", "document.querySelector('main table')")
		p.presses("main", "Let a partner keep its people here")
		p.until("document.querySelector('#fd-why')")
		p.fill(".modal input[role=combobox]", "partner:"+what)
		p.fill("#fd-why", "they come and go")
		p.presses(".modal", "Begin it")
		p.until("document.querySelector('#prove-title')")
		p.axe("a new proof")
		how()
		p.until("[...document.querySelectorAll('.modal')].some(m => m.innerText.includes('The token is shown this once'))")
		p.until("!document.querySelector('#prove-title')")
	}
	prove("orrin", func() {
		p.picture("prove")
		p.presses(".again-dialog", "Use your passkey")
	})
	clock.forward(16 * time.Minute)
	prove("tholemere", func() {
		p.fill("#prove-password", "wrong")
		p.presses(".again-dialog", "Go on")
		p.until("document.querySelector('.again-dialog .wrong')")
		p.fill("#prove-password", "low-water-2026")
		p.presses(".again-dialog", "Go on")
	})
	// A guest, after the first visit: by a code once, and by the passkey from then on.
	_, err = chromedp.Call(b, webauthn.ClearCredentials, webauthn.ClearCredentialsParams(made)) // another device
	check(t, err)
	post := r.post()
	guest := &page{t, b, r.byName()}
	p.presses("header", "Sign out")
	p.until("document.querySelector('.ways-in button')")
	guest.goTo("/door", "document.querySelector('#door-address')")
	guest.fill("#door-address", "maren.holtveig@ilvane.example")
	guest.presses("main", "Send me the code")
	guest.until("document.querySelector('#door-code')")
	_, err = r.svc.SendWaiting(t.Context(), post.send)
	check(t, err)
	code := ""
	list, _ := post.Messages()
	for _, m := range list {
		code = cmp.Or(codeIn.FindString(m.Subject), code)
	}
	guest.fill("#door-code", code)
	guest.presses("main", "Enter")
	guest.until("document.querySelector('[aria-labelledby=own-passkeys] button')")
	guest.presses("[aria-labelledby=own-passkeys]", "Juntar uma chave neste dispositivo") // they read Portuguese
	guest.until("document.querySelector('[aria-labelledby=own-passkeys]').innerText.match(/vale até \\d+ de \\S+ de 20\\d\\d/)")
	guest.axe("a guest's own page with a passkey")
	eval[any](guest, "document.querySelector('[aria-labelledby=own-passkeys]').scrollIntoView()")
	guest.picture("own-passkeys")
	guest.presses("footer", "Terminar sessão")
	guest.until("document.querySelector('#door-address')")
	guest.goTo("/door", "document.querySelector('#door-address')")
	guest.picture("door-passkey")
	guest.presses("main", "Sign in with a passkey")
	guest.until("document.querySelector('[aria-labelledby=own-passkeys]')")

	// The client says what to do; a token of a service, which nobody stands behind, is asked for nothing.
	r.login("harbour")
	r.must("token", "make", "pipeline", "--purpose", "expectations")
	clock.forward(16 * time.Minute)
	r.says(1, "sign in again with wexillum login, then repeat the command", "token", "make", "pipeline-2")
	r.says(1, "sign in again with wexillum login, then repeat the command", "rules", "set", "chat.push", "--default", "off", "--why", "x")
	r.says(0, "chat.push", "rules", "show", "chat.push")
}

// walker goes through redirects of sign-ins as a browser does.
type walker struct {
	t *testing.T
	c *http.Client
}

func newWalker(t *testing.T) *walker {
	jar, err := cookiejar.New(nil)
	check(t, err)
	return &walker{t, &http.Client{Jar: jar, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
}

// begins asks the service where to go, and returns the questions that the sign-in is asked.
func (w *walker) begins(r *running, body string) (url.Values, string) {
	w.t.Helper()
	resp, err := w.c.Post(r.url+"/api/v1/door/house", "application/json", strings.NewReader(body))
	check(w.t, err)
	defer resp.Body.Close()
	var x struct{ Go, Title string }
	check(w.t, json.NewDecoder(resp.Body).Decode(&x))
	if resp.StatusCode != 200 {
		return nil, x.Title
	}
	u, err := url.Parse(x.Go)
	check(w.t, err)
	return u.Query(), u.Scheme + "://" + u.Host
}

// says who they are there, and returns where that leads.
func (w *walker) says(at string, q url.Values, who string) string {
	w.t.Helper()
	form := url.Values{"who": {who}}
	for k, v := range q {
		form[k] = v
	}
	resp, err := w.c.PostForm(at+"/authorize", form)
	check(w.t, err)
	_ = resp.Body.Close()
	return resp.Header.Get("Location")
}

func (w *walker) goes(to string) string {
	w.t.Helper()
	resp, err := w.c.Get(to)
	check(w.t, err)
	_ = resp.Body.Close()
	return resp.Header.Get("Location")
}

// who is signed in with what role.
func (w *walker) who(r *running) string {
	w.t.Helper()
	resp, err := w.c.Get(r.url + "/api/v1/session")
	check(w.t, err)
	defer resp.Body.Close()
	var x struct{ Name, Role, Person string }
	_ = json.NewDecoder(resp.Body).Decode(&x)
	return strings.TrimSpace(fmt.Sprintf("%d %s %s %s", resp.StatusCode, x.Name, x.Role, x.Person))
}

// TestHouseSignIn lets people of the demo sign in with the organisation's own sign-in: roles by their groups and never more, changed with
// them; nobody without one, without the second factor that their role has to have, with a code, a state or a token of something else, or
// when it is away.
func TestHouseSignIn(t *testing.T) {
	r := demoService(t)
	h := &standin.HouseSignIn{Domain: "brackwater.example", Client: "wexillum", Secret: "tide", People: map[string]standin.HousePerson{
		"t.wrayburn": {Groups: []string{"everybody", "gate"}, Methods: []string{"pwd", "otp"}}, "d.ekwinter": {Groups: []string{"everybody"}},
		"s.lindqvane": {Groups: []string{"everybody", "watch"}, Methods: []string{"pwd"}},
		"stranger":    {Groups: []string{"none of ours"}}, "visitor": {Groups: []string{"everybody"}}, "harbour": {Groups: []string{"watch"}},
	}}
	handler, err := h.Handler()
	check(t, err)
	house := httptest.NewServer(handler)
	defer house.Close()
	t.Setenv("WEXILLUM_TEST_HOUSE", "tide")
	r.login("harbour")
	r.says(0, "no sign-in of the organisation's own", "account", "house", "show")
	for _, x := range []struct {
		want string
		args []string
	}{
		{"http is taken on this machine alone", []string{"--issuer", "http://id.brackwater.example", "--role", "gate=administrator"}},
		{`"gate=owner": write VALUE=ROLE`, []string{"--issuer", house.URL, "--role", "gate=owner"}},
		{"at least one value", []string{"--issuer", house.URL}},
		{"there is no environment variable", []string{"--issuer", house.URL, "--role", "gate=keeper", "--key", "env:NOTHING_HERE"}},
	} {
		if status, out, errs := r.client("", append([]string{"account", "house", "set", "--client", "wexillum", "--why", "x"},
			x.args...)...); status == 0 || !strings.Contains(errs, x.want) {
			t.Errorf("%v: %d %s%s", x.args, status, out, errs)
		}
	}
	r.says(0, "▲ It answers", "account", "house", "test", house.URL)
	r.says(0, "gate", "account", "house", "set", "--issuer", house.URL, "--client", "wexillum", "--key", "env:WEXILLUM_TEST_HOUSE", "--role",
		"gate=administrator", "--role", "watch=keeper", "--role", "everybody=member", "--why", "one sign-in for everything")

	in := func(who string) (*walker, string) {
		t.Helper()
		w := newWalker(t)
		q, at := w.begins(r, "{}")
		return w, w.goes(w.says(at, q, who))
	}
	for _, x := range []struct{ who, to, is string }{
		{"t.wrayburn", "/", "200 t.wrayburn administrator t.wrayburn"},
		{"d.ekwinter", "/", "200 d.ekwinter member d.ekwinter"},
		{"s.lindqvane", "/", "200 s.lindqvane keeper s.lindqvane"},
		{"stranger", "/?failed=role", "401"},
		{"visitor", "/?failed=role", "401"}, // a member has to be a person of ours
		{"nobody", "/?failed=refused", "401"},
	} {
		w, to := in(x.who)
		if got := w.who(r); to != x.to || got != x.is {
			t.Errorf("%s: led to %s, is %s", x.who, to, got)
		}
	}
	// A name that an account with a password has is another account's.
	w, _ := in("harbour")
	if got := w.who(r); !strings.HasPrefix(got, "200 harbour-") || !strings.Contains(got, " keeper") {
		t.Errorf("the same name: %s", got)
	}

	// Roles follow what is said; whoever has none any more is out at the next sign-in, and their sessions end.
	old, _ := in("s.lindqvane")
	h.People["s.lindqvane"] = standin.HousePerson{Groups: []string{"everybody"}}
	w, _ = in("s.lindqvane")
	if got := w.who(r) + "; " + old.who(r); got != "200 s.lindqvane member s.lindqvane; 401" {
		t.Errorf("another group: %s", got)
	}
	h.People["s.lindqvane"] = standin.HousePerson{}
	if _, to := in("s.lindqvane"); to != "/?failed=role" || w.who(r) != "401" {
		t.Errorf("no group: %s, %s", to, w.who(r))
	}
	r.says(1, "which says who they are and what their role is", "account", "set", "t.wrayburn", "--role", "member", "--person", "t.wrayburn",
		"--why", "x")

	// What does not hold.
	bend := func(what, want string, f func(claims map[string]any)) {
		t.Helper()
		h.Bend = f
		defer func() { h.Bend = nil }()
		if w, to := in("t.wrayburn"); to != want || w.who(r) != "401" {
			t.Errorf("%s: %s, %s", what, to, w.who(r))
		}
	}
	bend("a token for somebody else", "/?failed=refused", func(c map[string]any) { c["aud"] = "another" })
	bend("another issuer", "/?failed=refused", func(c map[string]any) { c["iss"] = "https://evil.example" })
	bend("another nonce", "/?failed=refused", func(c map[string]any) { c["nonce"] = "x" })
	bend("a token that has ended", "/?failed=refused", func(c map[string]any) { c["exp"] = time.Now().Add(-time.Hour).Unix() })
	bend("roles that are no text", "/?failed=role", func(c map[string]any) { c["groups"] = map[string]any{"gate": true} })
	bend("a role by its name", "/?failed=role", func(c map[string]any) { c["groups"] = "administrator" })
	w = newWalker(t)
	q, at := w.begins(r, "{}")
	back := w.says(at, q, "t.wrayburn")
	u, err := url.Parse(back)
	check(t, err)
	other := newWalker(t)
	other.begins(r, "{}")
	if to := other.goes(back); to != "/?failed=again" {
		t.Errorf("in another browser: %s", to)
	}
	v := u.Query()
	v.Set("iss", "https://evil.example")
	u.RawQuery = v.Encode()
	if to := w.goes(u.String()); to != "/?failed=refused" {
		t.Errorf("another server answers: %s", to)
	}
	if to := w.goes(back); to != "/?failed=again" {
		t.Errorf("a state twice: %s", to)
	}
	w = newWalker(t)
	q, at = w.begins(r, "{}")
	back = w.says(at, q, "t.wrayburn")
	if to := w.goes(back); to != "/" || w.goes(back) != "/?failed=again" {
		t.Errorf("a code twice: %s", to)
	}
	// A role that has to have a second factor comes in where it was asked for there.
	r.must("settings", "set", "settings.second_factor=administrators", "--why", "it is safer")
	bend("a password alone", "/?failed=factor", func(c map[string]any) { c["amr"] = []string{"pwd"} })
	w, _ = in("t.wrayburn")
	if got := w.who(r); got != "200 t.wrayburn administrator t.wrayburn" {
		t.Errorf("with a second factor: %s", got)
	}
	// To be proved anew: the token says when it was.
	w = newWalker(t)
	q, at = w.begins(r, `{"again":true}`)
	if q.Get("prompt") != "login" || q.Get("max_age") != "0" {
		t.Errorf("anew: %v", q)
	}
	if to := w.goes(w.says(at, q, "t.wrayburn")); to != "/proved" {
		t.Errorf("anew: %s", to)
	}
	h.Bend = func(c map[string]any) { c["auth_time"] = time.Now().Add(-time.Hour).Unix() }
	q, at = w.begins(r, `{"again":true}`)
	if to := w.goes(w.says(at, q, "t.wrayburn")); to != "/?failed=again" {
		t.Errorf("of an hour ago: %s", to)
	}
	h.Bend = nil

	// In the console.
	p := &page{t, browser(t), r.url}
	p.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(r.url+"/"))
	p.until("document.querySelector('.ways-in')?.innerText.includes('Sign in with')")
	p.axe("sign in")
	p.presses(".ways-in", "Sign in with Brackwater Museum of Navigation")
	p.do(chromedp.WaitVisible(chromedp.CSS(`button[value="t.wrayburn"]`)), chromedp.Click(chromedp.CSS(`button[value="t.wrayburn"]`)),
		chromedp.WaitVisible(chromedp.CSS(".askbar")))
	p.goTo("/account", "document.querySelector('#h-house')")
	p.until("document.querySelector('[aria-labelledby=h-house]').innerText.includes('accounts come from there')")
	p.picture("house")
	p.axe("account of the house")
	if text := p.text("main"); strings.Contains(text, "Your password") || !strings.Contains(text, "gate") {
		t.Errorf("the page: %s", text)
	}
	// It goes away: whoever is in stays, and others are told.
	house.Close()
	q, title := newWalker(t).begins(r, "{}")
	if q != nil && q.Get("state") == "" || q == nil && !strings.Contains(title, "does not answer") {
		t.Errorf("away: %v %s", q, title)
	}
	check(t, r.svc.EndHouse(t.Context(), service.Who{Name: "harbour", Role: service.Administrator}, "it was to try"))
	if got := w.who(r); got != "401" {
		t.Errorf("ended: %s", got)
	}
}
