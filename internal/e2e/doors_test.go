package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/demo"
	"wexillum.example/internal/service"
)

// place is somebody elsewhere: requests of another address of this machine, with cookies.
func place(t *testing.T, address string) *http.Client {
	t.Helper()
	jar, err := cookiejar.New(nil)
	check(t, err)
	d := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(address)}}
	return &http.Client{Jar: jar, Transport: &http.Transport{DialContext: d.DialContext},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

// sends makes a request as somebody and returns status and body.
func sends(t *testing.T, c *http.Client, method, to, body string, headers ...string) (int, string) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), method, to, strings.NewReader(body))
	check(t, err)
	r.Header.Set("Content-Type", "application/json")
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	resp, err := c.Do(r)
	check(t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	check(t, err)
	return resp.StatusCode, string(b)
}

func signInAs(t *testing.T, c *http.Client, at, name, password string) (status int, csrf string) {
	t.Helper()
	b, err := json.Marshal(map[string]string{"name": name, "password": password})
	check(t, err)
	status, body := sends(t, c, "POST", at+"/api/v1/session", string(b))
	var x struct{ Csrf string }
	_ = json.Unmarshal([]byte(body), &x)
	return status, x.Csrf
}

// TestSlashes asks for things whose names hold what an address of the web takes for its own.
func TestSlashes(t *testing.T) {
	r := startService(t, demoDSN(t), nil)
	r.login("harbour")
	address := "stern/keel%2f@pallowick.example"
	r.must("guest", "invite", address, "--purpose", "the slashes", "--sponsor", "d.ekwinter", "--yes")
	r.says(0, address, "guest", "show", address)
	token := r.token("harbour")
	if status, _, body := r.call("GET", "/api/v1/guests/"+url.PathEscape(address), token, ""); status != 200 ||
		!strings.Contains(body, address) {
		t.Errorf("%d %s", status, body)
	}
	for _, path := range []string{"/api/v1/guests/x%2Fy", "/api/v1/accounts/a%2Fb/sign-out", "/api/v1%2Faccounts", "/api/v1/%61ccounts",
		"/api//v1/accounts", "/api/v1/accounts/", "/api/v1/nothing%2Fhere", "/%61pi/v1/accounts"} {
		if status, _, body := r.call("GET", path, "", ""); status < 400 && strings.Contains(body, "harbour") {
			t.Errorf("%s without signing in: %d %s", path, status, body)
		}
	}
	p := r.page(browser(t), "harbour")
	p.goTo("/guests/"+url.PathEscape(address), "document.querySelector('main h1')?.innerText.includes('stern/keel%2f')")
}

// TestPartnerSignInAcrossSites lets a guest sign in with their own organisation in a browser
// that knows the two as different sites, and takes no address that is not verified.
func TestPartnerSignInAcrossSites(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	at := strings.Replace(r.url, "127.0.0.1", "localhost", 1)
	p := &page{t, browser(t, chromedp.Flag("host-resolver-rules", "MAP * ~NOTFOUND, EXCLUDE 127.0.0.1, EXCLUDE localhost")), at}
	in := func(ready string) {
		t.Helper()
		p.do(chromedp.Navigate(at+"/door"), chromedp.WaitVisible(chromedp.CSS("#door-address")))
		p.do(chromedp.SendKeys(chromedp.CSS("#door-address"), "maren.holtveig@ilvane.example"), chromedp.Click(chromedp.CSS("button.sill-aside")))
		p.do(chromedp.WaitVisible(chromedp.CSS("button[value=sign-in]")))
		if there := eval[string](p, "location.hostname"); there != "127.0.0.1" {
			t.Fatalf("their sign-in is at %s", there)
		}
		p.do(chromedp.Click(chromedp.CSS("button[value=sign-in]")), chromedp.WaitVisible(chromedp.CSS(ready)))
		if here := eval[string](p, "location.hostname"); here != "localhost" {
			t.Fatalf("it leads back to %s", here)
		}
	}
	in(".own-places")
	p.until("document.body.innerText.includes('Maren Holtveig')")
	eval[any](p,
		"fetch('/api/v1/session').then(r => r.json()).then(s => fetch('/api/v1/session', {method: 'DELETE', headers: {'X-CSRF-Token': s.csrf}})).then(() => { document.title = 'out' })")
	p.until("document.title === 'out'")
	// The same sign-in does not say any more that it verified the address.
	r.second.Unverified(true)
	in(".sill-wrong")
	p.until("document.body.innerText.includes('does not say that it verified your address')")
	r.login("harbour")
	r.says(0, "", "partner", "set", "ilvane", "--sign-in-unverified", "--why", "their sign-in never says", "--yes")
	r.says(0, "addresses need not be verified", "partner", "show", "ilvane")
	in(".own-places")
	// What is written of a partner besides leaves its sign-in as it is.
	r.says(0, "", "partner", "set", "ilvane", "--note", "asked twice", "--why", "a note", "--yes")
	r.says(0, "addresses need not be verified", "partner", "show", "ilvane")
}

// TestEndedForGood ends sessions and tokens in every way there is; none comes back.
func TestEndedForGood(t *testing.T) {
	r := demoService(t)
	admin := r.token("harbour")
	keeper := place(t, "127.0.0.3")
	const password = "keep-the-ropes-2026"
	alive := func(c *http.Client) bool {
		t.Helper()
		status, _ := sends(t, c, "GET", r.url+"/api/v1/session", "")
		return status == 200
	}
	in := func() string {
		t.Helper()
		status, csrf := signInAs(t, keeper, r.url, "mooring", password)
		if status != 200 || !alive(keeper) {
			t.Fatalf("signing in: %d", status)
		}
		return csrf
	}
	put := func(body string) {
		t.Helper()
		if status, _, b := r.call("PATCH", "/api/v1/accounts/mooring", admin, body); status != 200 {
			t.Fatalf("%d %s", status, b)
		}
	}
	in()
	token := r.token("mooring")
	put(`{"disabled":true,"why":"away"}`)
	put(`{"disabled":false,"why":"back"}`)
	if alive(keeper) {
		t.Error("a session outlives that its account was disabled")
	}
	if status, _, _ := r.call("GET", "/api/v1/bars", token, ""); status != 401 {
		t.Errorf("a token outlives that its account was disabled: %d", status)
	}
	in()
	put(`{"role":"keeper","password":"another-rope-to-keep-77","why":"lost"}`)
	if alive(keeper) {
		t.Error("a session outlives a new password")
	}
	put(`{"role":"keeper","password":"` + password + `","why":"found"}`)
	// A stream that listens ends with its session.
	csrf := in()
	resp, err := keeper.Get(r.url + "/api/v1/changes")
	check(t, err)
	defer resp.Body.Close()
	lines := bufio.NewReader(resp.Body)
	if _, err := lines.ReadString('\n'); err != nil {
		t.Fatal(err)
	}
	other := place(t, "127.0.0.4")
	if status, _ := signInAs(t, other, r.url, "mooring", password); status != 200 {
		t.Fatal(status)
	}
	// Changing one's own password leaves the session that did it, and no other.
	if status, body := sends(t, keeper, "PUT", r.url+"/api/v1/account/password", `{"old":"wrong-wrong-wrong","new":"yet-another-rope-78"}`,
		"X-CSRF-Token", csrf); status != 400 || !strings.Contains(body, "this is not your password") {
		t.Errorf("%d %s", status, body)
	}
	for _, weak := range []string{"password1234", "mooringmooring", "qwertyuiop12"} {
		if status, body := sends(t, keeper, "PUT", r.url+"/api/v1/account/password", `{"old":"`+password+`","new":"`+weak+`"}`, "X-CSRF-Token",
			csrf); status != 400 || !strings.Contains(body, "tried first") {
			t.Errorf("%s: %d %s", weak, status, body)
		}
	}
	if status, body := sends(t, keeper, "PUT", r.url+"/api/v1/account/password", `{"old":"`+password+`","new":"yet-another-rope-78"}`,
		"X-CSRF-Token", csrf); status != 204 {
		t.Errorf("%d %s", status, body)
	}
	if !alive(keeper) || alive(other) {
		t.Errorf("after one's own new password: here %v, elsewhere %v", alive(keeper), alive(other))
	}
	if status, _ := signInAs(t, other, r.url, "mooring", "yet-another-rope-78"); status != 200 {
		t.Fatal(status)
	}
	if status, body := sends(t, keeper, "DELETE", r.url+"/api/v1/sessions", "", "X-CSRF-Token", csrf); status != 204 {
		t.Errorf("%d %s", status, body)
	}
	if alive(keeper) || alive(other) {
		t.Error("a session outlives signing out everywhere")
	}
	if _, err := io.Copy(io.Discard, lines); err != nil && t.Context().Err() == nil {
		t.Logf("the stream ended with %v", err)
	}
	if status, _ := signInAs(t, other, r.url, "mooring", "yet-another-rope-78"); status != 200 {
		t.Fatal(status)
	}
	r.login("harbour")
	r.says(0, "mooring is signed out everywhere.", "account", "sign-out", "mooring", "--why", "a stolen laptop")
	if alive(other) {
		t.Error("a session outlives that an administrator ended all")
	}
	r.says(1, "there is no account", "account", "sign-out", "nobody")
	// Who came in, from where, and who was refused, is in the journal.
	signInAs(t, other, r.url, "mooring", "not this one")
	signInAs(t, other, r.url, "summer-holiday-77", "not this one")
	journal := r.must("journal", "--kind", "sign_in", "--limit", "4", "-o", "json")
	if strings.Contains(journal, "summer-holiday-77") || strings.Count(journal, "127.0.0.4") != 3 || strings.Count(journal, "refused") < 2 ||
		!strings.Contains(journal, "(unknown)") {
		t.Error(journal)
	}
	// The client changes its own.
	r.says(2, "two lines are needed", "account", "password")
	if status, out, errs := r.client("low-water-2026\nthe-tide-comes-in-at-7\n", "account", "password"); status != 0 {
		t.Fatal(out, errs)
	}
	r.says(1, "Sign in first", "partner", "list")
	if status, _, errs := r.client("the-tide-comes-in-at-7\n", "login", "--name", "harbour"); status != 0 {
		t.Fatal(errs)
	}
	r.says(0, "everywhere", "logout", "--everywhere")
}

// TestGuestsOutForGood ends sessions of guests who are suspended, whose partner is, and who
// are barred, also where they are brought back.
func TestGuestsOutForGood(t *testing.T) {
	r := demoService(t)
	post := r.post()
	r.login("harbour")
	const who = "maren.holtveig@ilvane.example"
	for name, way := range map[string][2][]string{
		"suspended": {{"guest", "suspend", who, "--reason", "x"}, {"guest", "back", who, "--reason", "x"}},
		"partner suspended": {{"partner", "suspend", "ilvane", "--despite", "a test", "--why", "x", "--yes"},
			{"partner", "resume", "ilvane", "--why", "x", "--yes"}},
		"barred": {{"domain", "bar", who, "--reason", "x", "--despite", "a test", "--yes"},
			{"domain", "lift", who, "--why", "x", "--yes"}},
	} {
		c := place(t, "127.0.0.5")
		if status, body := sends(t, c, "POST", r.url+"/api/v1/door/code", `{"address":"`+who+`"}`); status != 202 {
			t.Fatalf("%d %s", status, body)
		}
		if _, err := r.svc.SendWaiting(t.Context(), post.send); err != nil {
			t.Fatal(err)
		}
		code := ""
		list, _ := post.Messages()
		for _, m := range list { // what tells them that they are back comes, too
			if found := codeIn.FindString(m.Subject); found != "" {
				code = found
			}
		}
		// Whoever has the code and another browser gets in nowhere, and uses up nothing.
		stranger := place(t, "127.0.0.6")
		for range 6 {
			if status, _ := sends(t, stranger, "POST", r.url+"/api/v1/door/prove", `{"address":"`+who+`","code":"`+code+`"}`); status != 401 &&
				status != 429 {
				t.Errorf("%s: a stranger's browser: %d", name, status)
			}
		}
		if status, body := sends(t, c, "POST", r.url+"/api/v1/door/prove", `{"address":"`+who+`","code":"`+code+`"}`); status != 200 {
			t.Fatalf("%s: %d %s", name, status, body)
		}
		r.must(way[0]...)
		r.must(way[1]...)
		if status, _ := sends(t, c, "GET", r.url+"/api/v1/own", ""); status != 401 {
			t.Errorf("%s and back: the old session counts: %d", name, status)
		}
	}
}

// TestNobodyLocksOut tries one name from many places: whoever has it comes in, here as from a
// new place, and the places that tried do not.
func TestNobodyLocksOut(t *testing.T) {
	t.Parallel()
	r := startService(t, demoDSN(t), nil)
	for i := range 9 {
		c := place(t, fmt.Sprintf("127.0.1.%d", i+1))
		last := 0
		for range 14 {
			last, _ = signInAs(t, c, r.url, "harbour", "guess")
		}
		if last != 429 {
			t.Errorf("the fourteenth try from one place: %d", last)
		}
		if status, _ := signInAs(t, c, r.url, "harbour", "low-water-2026"); status != 429 {
			t.Errorf("the right password from where it was guessed: %d", status)
		}
	}
	if status, _ := signInAs(t, place(t, "127.0.2.1"), r.url, "harbour", "low-water-2026"); status != 200 {
		t.Errorf("whoever has the name, from a new place: %d", status)
	}
	// Codes, too: strangers who ask for them do not keep a guest from getting one.
	for i := range 5 {
		c := place(t, fmt.Sprintf("127.0.1.%d", i+1))
		for range 8 {
			sends(t, c, "POST", r.url+"/api/v1/door/code", `{"address":"maren.holtveig@ilvane.example"}`)
		}
	}
	if status, body := sends(t, place(t, "127.0.2.1"), "POST", r.url+"/api/v1/door/code",
		`{"address":"maren.holtveig@ilvane.example"}`); status != 202 {
		t.Errorf("a guest whose address strangers typed: %d %s", status, body)
	}
}

// TestKnownAndUnknownAlike asks for a code and tries one for an address that we know and one
// that we do not: the answers are the same, and a wrong code is written down for either.
func TestKnownAndUnknownAlike(t *testing.T) {
	r := demoService(t)
	cost := func(address string) (out []string) {
		c := place(t, "127.0.3.1")
		for _, x := range [][2]string{{"code", `{"address":"` + address + `"}`}, {"prove", `{"address":"` + address + `","code":"AAAA-AAAA"}`}} {
			status, body := sends(t, c, "POST", r.url+"/api/v1/door/"+x[0], x[1])
			out = append(out, fmt.Sprint(x[0], " ", status, " ", body))
		}
		var rows int
		check(t, r.st.DB().QueryRowContext(t.Context(), "SELECT COALESCE(SUM(tries), 0) FROM door_code WHERE address = ?", address).Scan(&rows))
		return append(out, fmt.Sprintf("%d tries counted", rows))
	}
	known, unknown := cost("maren.holtveig@ilvane.example"), cost("nobody.at.all@ilvane.example")
	if fmt.Sprint(known) != fmt.Sprint(unknown) || !strings.Contains(fmt.Sprint(known), "1 tries counted") {
		t.Errorf("known\n%v\nunknown\n%v", known, unknown)
	}
}

// TestMembersMail bounds what members send to outsiders, and what they write in it.
func TestMembersMail(t *testing.T) {
	r := demoService(t)
	r.login("harbour")
	file := filepath.Join(t.TempDir(), "set.yaml")
	check(t, os.WriteFile(file, []byte("wexillum: 1\nsettings: {member_mail: 2}\n"), 0o600))
	r.must("load", file, "--why", "few", "--yes")
	r.login("rigger")
	invite := func(address string, more ...string) []string {
		return append([]string{"guest", "invite", address, "--into", "space:low-water-design", "--role", "view", "--purpose", "a test"}, more...)
	}
	for _, text := range []string{"see https://evil.example/x", "go to www.evil.example", "look at evil.example/path",
		"or mail mailto:a@b.example"} {
		r.says(1, "leave links out", invite("one@pallowick.example", "--text", text)...)
	}
	r.says(1, "leave links out", invite("Visit evil.example now <one@pallowick.example>")...)
	r.says(1, "keepers say which licence", invite("one@pallowick.example", "--licence", "ours")...)
	post := r.post()
	r.says(0, "", invite("one@pallowick.example", "--text", "Come and see.\nIt is e.g. fine to write to me@ours.example")...)
	if m := post.next("one@pallowick.example"); !strings.Contains(m.Text, "writes:\n\n> Come and see.\n> It is e.g. fine") {
		t.Error(m.Text)
	}
	r.says(0, "", invite("two@pallowick.example")...)
	r.says(1, "members send at most 2 messages to outsiders a day", invite("three@pallowick.example")...)
	r.says(1, "there is no record of three@pallowick.example", "guest", "show", "three@pallowick.example")
	r.login("harbour")
	r.says(0, "", append(invite("three@pallowick.example"), "--yes")...)
}

// TestTwoServicesOneSession ends sessions at one service; the other knows at once.
func TestTwoServicesOneSession(t *testing.T) {
	t.Parallel()
	dsn := dbtest.DSN(t)
	a := startService(t, dsn, func(ctx context.Context, svc *service.Service) error { return demo.Fill(ctx, svc) })
	b := startService(t, dsn, nil)
	c := place(t, "127.0.0.8")
	if status, _ := signInAs(t, c, b.url, "mooring", "keep-the-ropes-2026"); status != 200 {
		t.Fatal(status)
	}
	token := b.token("mooring")
	if status, _, _ := b.call("GET", "/api/v1/bars", token, ""); status != 200 {
		t.Fatal(status)
	}
	a.login("harbour")
	a.must("account", "sign-out", "mooring", "--why", "x")
	if status, _ := sends(t, c, "GET", b.url+"/api/v1/session", ""); status != 401 {
		t.Errorf("the other service takes the session: %d", status)
	}
	heads, stop := b.svc.Watch()
	defer stop()
	var last uint64
	check(t, a.st.DB().QueryRow("SELECT seq FROM head").Scan(&last))
	for until := time.After(patience); b.svc.State().Head.Seq < last; {
		select {
		case <-heads:
		case <-until:
			t.Fatal("it does not follow")
		}
	}
	status := 0
	for until := time.Now().Add(patience); status != 401 && time.Now().Before(until); { // tokens are looked up again behind the rest
		status, _, _ = b.call("GET", "/api/v1/bars", token, "")
	}
	if status != 401 {
		t.Errorf("the other service takes the token: %d", status)
	}
}

// TestHostileSignIn names, as a partner's sign-in, what answers without end, leads to what is
// not secure, or is asked again and again.
func TestHostileSignIn(t *testing.T) {
	r := demoService(t)
	asked, mode := 0, "large"
	var evil *httptest.Server
	evil = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		asked++
		w.Header().Set("Content-Type", "application/json")
		switch mode {
		case "large":
			_, _ = fmt.Fprintf(w, `{"issuer":%q,"authorization_endpoint":%q,"token_endpoint":%q,"jwks_uri":%q,"x":"%s"}`, evil.URL, evil.URL,
				evil.URL, evil.URL, strings.Repeat("x", 1<<20))
		case "file":
			_, _ = fmt.Fprintf(w, `{"issuer":%q,"authorization_endpoint":"javascript:alert(1)","token_endpoint":%q,"jwks_uri":%q}`, evil.URL,
				evil.URL, evil.URL)
		default:
			_, _ = fmt.Fprintf(w, `{"issuer":%q,"authorization_endpoint":%q,"token_endpoint":%q,"jwks_uri":%q}`, evil.URL, evil.URL+"/a",
				evil.URL+"/t", evil.URL+"/k")
		}
	}))
	defer evil.Close()
	r.login("harbour")
	r.must("partner", "set", "ilvane", "--sign-in", evil.URL, "--sign-in-client", "us", "--why", "x", "--yes")
	c := place(t, "127.0.0.9")
	try := func() (int, string) {
		return sends(t, c, "POST", r.url+"/api/v1/door/partner", `{"address":"maren.holtveig@ilvane.example"}`)
	}
	for _, mode = range []string{"large", "file"} {
		if status, body := try(); status != 400 || !strings.Contains(body, "does not answer now") {
			t.Errorf("%s: %d %s", mode, status, body)
		}
	}
	mode, asked = "well", 0
	for range 3 {
		if status, body := try(); status != 200 || !strings.Contains(body, evil.URL+"/a?") {
			t.Errorf("%d %s", status, body)
		}
	}
	if asked != 1 {
		t.Errorf("it was asked %d times what it says of itself", asked)
	}
}
