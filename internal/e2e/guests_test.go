package e2e

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"wexillum.example/internal/demo"
	"wexillum.example/internal/mail"
	"wexillum.example/internal/standin"
)

// settable is a clock that a test sets.
type settable struct {
	sync.Mutex
	at time.Time
}

func (c *settable) now() time.Time {
	c.Lock()
	defer c.Unlock()
	return c.at
}

func (c *settable) set(at time.Time) {
	c.Lock()
	defer c.Unlock()
	c.at = at
}

// post is a mail server beside a service, with what the service sends through.
type post struct {
	t *testing.T
	r *running
	*standin.MailServer
	send *mail.Server
	seen int
}

func (r *running) post() *post {
	r.t.Helper()
	m, err := standin.NewMailServer("127.0.0.1:0", "127.0.0.1:0")
	check(r.t, err)
	r.t.Cleanup(m.Close)
	return &post{r.t, r, m, &mail.Server{Address: m.Address, TLS: "none", From: demo.MailFrom}, 0}
}

// next sends what waits and returns what came for somebody, the newest.
func (p *post) next(to string) standin.Mail {
	p.t.Helper()
	_, err := p.r.svc.SendWaiting(context.Background(), p.send)
	check(p.t, err)
	list, _ := p.Messages()
	for i := len(list) - 1; i >= p.seen; i-- {
		if list[i].To[0] == to {
			p.seen = len(list)
			return list[i]
		}
	}
	p.t.Fatalf("no mail came for %s; %d came in all", to, len(list)-p.seen)
	return standin.Mail{}
}

var codeIn = regexp.MustCompile(`[A-Z2-9]{4}-[A-Z2-9]{4}`)

// TestLifeOfAGuest follows one guest through mail and browser: invited by a keeper, accepted
// by link and code, more time asked for and given, suspended by the calendar, brought back,
// let go, and gone.
func TestLifeOfAGuest(t *testing.T) {
	t.Parallel()
	clock := &settable{at: time.Now().UTC().Truncate(24 * time.Hour).Add(10 * time.Hour)}
	began := clock.at
	r := startServiceAt(t, dsnOf(t), clock.now, demo.Fill)
	p := r.post()
	ctx := context.Background()
	carry := func() {
		t.Helper()
		for {
			out, err := r.svc.CarryOut(ctx)
			check(t, err)
			if out.Records == 0 {
				return
			}
		}
	}
	carry()
	keeper := r.page(browser(t), "mooring")
	keeper.goTo("/invite", "document.querySelector('#i-list')")
	fill := func(pg *page, css, text string) {
		pg.do(chromedp.WaitVisible(chromedp.CSS(css)), chromedp.SendKeys(chromedp.CSS(css), text))
	}
	fill(keeper, "#i-list", "Nilda Fossen <n.fossen@ilvane.example>, nobody@@x")
	fill(keeper, "[role=combobox][placeholder^='the directory']", "space:loan-dossier")
	keeper.until("document.querySelector('#i-role')")
	choose(keeper, "#i-role", "contribute")
	fill(keeper, "#i-purpose", "the astrolabe")
	fill(keeper, "#i-text", "We look forward to working with you.")
	keeper.do(chromedp.Click(chromedp.CSS(".invite-do .btn[type=submit]")))
	keeper.until("document.querySelectorAll('.outcomes li').length === 2")
	weighed := eval[string](keeper, "document.querySelector('.invite-weighed').innerText")
	for _, want := range []string{"▲ would be invited", "n.fossen@ilvane.example", "▼ malformed", "things in spaces", "Notes on the astrolabe",
		"things stay closed", "the invitation lapses", "the role view", "open to whoever holds"} {
		if !strings.Contains(weighed, want) {
			t.Errorf("before it is sent, %q is not told: %s", want, weighed)
		}
	}
	keeper.do(chromedp.Click(chromedp.CSS(".invite-do .btn:not([type=submit])")))
	keeper.until("document.querySelector('#h-outcome')?.innerText === 'Sent'")

	letter := p.next("n.fossen@ilvane.example")
	link := regexp.MustCompile(`http://\S+/door/invited#\S+`).FindString(letter.Text)
	if letter.Subject != "Soren Lindqvane invites you to Brackwater Museum of Navigation" || link == "" ||
		!strings.Contains(letter.HTML, link) || !strings.Contains(letter.Text, "We look forward") ||
		!strings.Contains(letter.Raw, "multipart/alternative") || !strings.Contains(letter.Raw, "Auto-Submitted: auto-generated") {
		t.Errorf("the letter: %s", letter.Raw)
	}

	// The guest, in a browser of their own, at the size of a phone.
	guest := &page{t, browser(t), r.url}
	guest.do(chromedp.EmulateViewport(390, 844), chromedp.Navigate(link), chromedp.WaitVisible(chromedp.CSS(".sill button[type=submit]")))
	guest.until("document.querySelector('.sill').innerText.includes('n…@ilvane.example')")
	if at := eval[string](guest, "location.href"); strings.Contains(at, "#") {
		t.Errorf("the secret stays in the address: %s", at)
	}
	prove := func(pg *page, who string) {
		t.Helper()
		pg.do(chromedp.Click(chromedp.CSS(".sill button[type=submit]")), chromedp.WaitVisible(chromedp.CSS("#door-code")))
		m := p.next(who)
		fill(pg, "#door-code", codeIn.FindString(m.Text))
		pg.do(chromedp.Click(chromedp.CSS(".sill button[type=submit]")))
	}
	prove(guest, "n.fossen@ilvane.example")
	guest.until("document.querySelector('#own-agree')")
	said := eval[string](guest, "document.querySelector('.sill').innerText")
	for _, want := range []string{"Before you begin", "This will be open for you", "Loan dossier", "look, post and edit", "Terms of use"} {
		if !strings.Contains(said, want) {
			t.Errorf("before accepting, %q is not told: %s", want, said)
		}
	}
	guest.do(chromedp.Click(chromedp.CSS("#own-agree")), chromedp.Click(chromedp.CSS(".sill button[type=submit]")))
	guest.until("document.querySelector('#own-open')?.innerText === 'Open for you'")

	// The link is of no use any more, and a guest reaches their own page alone.
	if status, _, body := r.call("POST", "/api/v1/door/open", "", `{"key":"`+link[strings.Index(link, "#")+1:]+`"}`); status != 404 {
		t.Errorf("the link opens again: %d %s", status, body)
	}
	for _, path := range []string{"/api/v1/guests", "/api/v1/spaces", "/api/v1/partners", "/api/v1/journal", "/api/v1/due"} {
		if got := eval2(guest, `fetch("`+path+`").then(r => String(r.status))`); got != "403" {
			t.Errorf("a guest gets %s from %s", got, path)
		}
	}

	// More time.
	press(guest, "Ask for more time")
	fill(guest, "#own-why", "the brass needs another winter")
	guest.do(chromedp.Click(chromedp.CSS(".sill form button[type=submit]")))
	guest.until("document.body.innerText.includes('You asked for more time')")
	keeper.goTo("/guests/n.fossen@ilvane.example", "document.querySelector('.wish')")
	keeper.do(chromedp.Click(chromedp.CSS(".wish .btn-primary")))
	keeper.until("!document.querySelector('.wish')")
	if m := p.next("n.fossen@ilvane.example"); m.Subject != "Brackwater Museum of Navigation: you have more time" {
		t.Errorf("%s", m.Subject)
	}

	// Ninety days unseen, and the record sleeps; the sponsor and the guest heard of it before.
	clock.set(began.AddDate(0, 0, 80))
	carry()
	_, err := r.svc.Warn(ctx, true)
	check(t, err)
	if m := p.next("n.fossen@ilvane.example"); !strings.Contains(m.Subject, ": until ") ||
		!strings.Contains(m.Text, "you were not here for a long time") {
		t.Errorf("%s\n%s", m.Subject, m.Text)
	}
	list, _ := p.Messages()
	digest := ""
	for _, m := range list {
		if m.To[0] == "s.lindqvane@brackwater.example" &&
			strings.Contains(m.Text, "Nilda Fossen: the record is suspended (not seen for too long)") {
			digest = m.Subject
		}
	}
	if digest == "" {
		t.Error("the sponsor did not hear of it")
	}
	clock.set(began.AddDate(0, 0, 92))
	carry()
	if m := p.next("n.fossen@ilvane.example"); m.Subject != "Brackwater Museum of Navigation: your access has stopped" {
		t.Errorf("%s", m.Subject)
	}
	guest.do(chromedp.Navigate(r.url + "/own"))
	guest.until("document.querySelector('#door-address')")
	keeper = r.page(browser(t), "mooring")
	keeper.goTo("/guests/n.fossen@ilvane.example", "document.querySelector('.page-head')?.innerText.includes('▽ suspended')")
	press(keeper, "Bring back")
	fill(keeper, "#act-reason", "the loan goes on")
	keeper.until("document.querySelector('.act-list') && !document.querySelector('.modal-footer .btn-primary').disabled")
	keeper.do(chromedp.Click(chromedp.CSS(".modal-footer .btn-primary")))
	keeper.until("!document.querySelector('.page-head')?.innerText.includes('▽ suspended')")
	p.next("n.fossen@ilvane.example")

	// Later sign-in by a code, in Portuguese, and leaving.
	guest = &page{t, browser(t), r.url}
	guest.do(chromedp.EmulateViewport(390, 844), chromedp.Navigate(r.url+"/door"), chromedp.WaitVisible(chromedp.CSS("#door-address")))
	guest.axe("the door")
	fill(guest, "#door-address", "n.fossen@ilvane.example")
	prove(guest, "n.fossen@ilvane.example")
	guest.until("document.querySelector('#own-open')")
	guest.axe("a guest's own page")
	press(guest, "Português")
	guest.until("document.querySelector('#own-open')?.innerText === 'Aberto para si' && document.documentElement.lang === 'pt'")
	press(guest, "Sair")
	press(guest, "Sim, sair já")
	guest.until("document.body.innerText.includes('Aqui já nada está aberto')")
	if status, _, _ := r.call("GET", "/api/v1/guests/n.fossen@ilvane.example", r.token("harbour"), ""); status != 404 {
		t.Errorf("left, and the record is there: %d", status)
	}
	if n, broken, err := r.svc.VerifyJournal(ctx); err != nil || broken != nil {
		t.Errorf("the journal: %d %+v %v", n, broken, err)
	}
}

// choose picks an option of a select as somebody would.
func choose(p *page, css, value string) {
	p.t.Helper()
	p.until(`(() => { const s = document.querySelector("` + css +
		`"); Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, "` + value +
		`"); s.dispatchEvent(new Event("change", {bubbles: true})); return s.value === "` + value + `" })()`)
}

// eval2 evaluates a promise of a text.
func eval2(p *page, expression string) string {
	p.t.Helper()
	v, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](expression, chromedp.EvalAwaitPromise))
	check(p.t, err)
	return v
}

// press clicks the button that says something.
func press(p *page, text string) {
	p.t.Helper()
	p.until(`(() => { const b = [...document.querySelectorAll("button")].find(b => b.innerText.trim() === ` + fmt.Sprintf("%q", text) +
		` && !b.disabled); if (!b) return false; b.click(); return true })()`)
}

// TestPartnerSignIn lets a guest sign in with their own organisation, and keeps out who that
// organisation says is somebody else.
func TestPartnerSignIn(t *testing.T) {
	r := demoService(t)
	jar, err := cookiejar.New(nil)
	check(t, err)
	c := &http.Client{Jar: jar, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	join := ""
	start := func(address string) (go_ string, status int) {
		t.Helper()
		resp, err := c.Post(r.url+"/api/v1/door/partner", "application/json", strings.NewReader(`{"address":"`+address+`"`+join+`}`))
		check(t, err)
		defer resp.Body.Close()
		var x struct{ Go string }
		_ = json.NewDecoder(resp.Body).Decode(&x)
		return x.Go, resp.StatusCode
	}
	signIn := func(at, as string) string {
		t.Helper()
		u, err := url.Parse(at)
		check(t, err)
		f := u.Query()
		f.Set("email", as)
		f.Set("do", "sign-in")
		resp, err := c.PostForm(u.Scheme+"://"+u.Host+"/authorize", f)
		check(t, err)
		_ = resp.Body.Close()
		return resp.Header.Get("Location")
	}
	back := func(at string) string {
		t.Helper()
		resp, err := c.Get(at)
		check(t, err)
		_ = resp.Body.Close()
		return resp.Header.Get("Location")
	}
	if _, status := start("somebody@pallowick.example"); status != 404 {
		t.Errorf("a partner without a sign-in: %d", status)
	}
	at, _ := start("maren.holtveig@ilvane.example")
	if got := back(signIn(at, "nobody.known@ilvane.example")); got != "/door?step=bundles" {
		t.Errorf("somebody who may ask for something: %s", got)
	}
	check(t, r.svc.PatchBundle(t.Context(), "test", "nobody asks for it", "loan-desk", []byte(`{"closed": "yes"}`), ""))
	at, _ = start("maren.holtveig@ilvane.example")
	if got := back(signIn(at, "nobody.known@ilvane.example")); got != "/door?failed=unknown" {
		t.Errorf("somebody whom we do not know: %s", got)
	}
	at, _ = start("maren.holtveig@ilvane.example")
	if got := back(signIn(at, "x@elsewhere.example")); got != "/door?failed=refused" {
		t.Errorf("refused there: %s", got)
	}
	at, _ = start("maren.holtveig@ilvane.example")
	to := signIn(at, "maren.holtveig@ilvane.example")
	if got := back(strings.Replace(to, "state=", "state=x", 1)); got != "/door?failed=again" {
		t.Errorf("another state: %s", got)
	}
	if got := back(to); got != "/own" {
		t.Errorf("the guest: %s", got)
	}
	resp, err := c.Get(r.url + "/api/v1/own")
	check(t, err)
	var own struct{ Address, State string }
	check(t, json.NewDecoder(resp.Body).Decode(&own))
	if own.Address != "maren.holtveig@ilvane.example" || own.State != "active" {
		t.Errorf("%+v", own)
	}
	if got := back(to); got != "/door?failed=again" {
		t.Errorf("replayed: %s", got)
	}

	// Somebody of theirs whom we do not know joins a course, or meets what signing up asks: the page that it leads back to
	// asks what it is.
	met := func() string {
		t.Helper()
		resp, err := c.Post(r.url+"/api/v1/door/sign-up", "application/json", strings.NewReader(`{"language":"en"}`))
		check(t, err)
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		check(t, err)
		return fmt.Sprint(resp.StatusCode, " ", strings.TrimSpace(string(b)))
	}
	r.login("harbour")
	r.must("space", "set", "docent-course", "--joinable", "yes", "--why", "x", "--yes")
	for _, rule := range []string{"spaces.join_in", "spaces.connect"} {
		r.must("rules", "set", rule, "--limit", "any", "--why", "x", "--yes")
		r.must("rules", "set", rule, "--space", "docent-course", "--value", "any", "--why", "x", "--yes")
	}
	join = `,"join":"docent-course"`
	at, _ = start("new.one@ilvane.example")
	if got := back(signIn(at, "new.one@ilvane.example")); got != "/door?step=joined" {
		t.Errorf("joins: %s", got)
	}
	if got := met(); got != `202 {"address":"new.one@ilvane.example","space":"Docent course","step":"joined"}` {
		t.Errorf("joined: %s", got)
	}
	if got := met(); !strings.HasPrefix(got, "401 ") {
		t.Errorf("told once: %s", got)
	}
	join = ""
	r.must("rules", "set", "directory.self_signup", "--limit", "on", "--default", "on", "--why", "x", "--yes")
	r.must("settings", "set", "settings.sign_up_asks=For what?", "--why", "x")
	at, _ = start("other.one@ilvane.example")
	if got := back(signIn(at, "other.one@ilvane.example")); got != "/door?step=questions" {
		t.Errorf("signs up: %s", got)
	}
	if got := met(); got != `202 {"address":"other.one@ilvane.example","questions":["For what?"],"step":"questions"}` {
		t.Errorf("asked: %s", got)
	}
}

// TestMailEncrypted sends over TLS to a server that wants to know who sends.
func TestMailEncrypted(t *testing.T) {
	r := demoService(t)
	p := r.post()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	check(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour),
		DNSNames: []string{"mail.stand-in.example"}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	check(t, err)
	cert := tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
	p.SMTP().TLSConfig = &tls.Config{Certificates: []tls.Certificate{cert}}
	m, err := mail.Compose("code", "pt", &mail.Content{Organisation: "Museu", Code: "ABCD-2345", Minutes: 10})
	check(t, err)
	ctx := context.Background()
	send := *p.send
	send.TLS = "required"
	if err := send.Send(ctx, "a@b.example", "one@x.example", &m); err == nil {
		t.Error("an unknown certificate is taken")
	}
	send.Config = &tls.Config{InsecureSkipVerify: true} //nolint:gosec // the test's own server
	send.User, send.Password = "wexillum", "wrong"
	if err := send.Send(ctx, "a@b.example", "one@x.example", &m); err == nil {
		t.Error("a wrong password is taken")
	}
	send.Password = "right"
	check(t, send.Send(ctx, "a@b.example", "one@x.example", &m))
	list, _ := p.Messages()
	if len(list) != 1 || !list[0].TLS || list[0].User != "wexillum" || list[0].MessageID != "one@x.example" ||
		list[0].Subject != "ABCD-2345 é o seu código para Museu" {
		t.Errorf("%+v", list)
	}
}

// TestLists takes guests, grants, links, spaces and people out as CSV and in again, tells
// what is wrong line by line, and speaks SCIM of guests.
func TestLists(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		check(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	for _, what := range []string{"guests", "grants", "links", "spaces", "people"} {
		out := r.must("dump", "--csv", what)
		rows, err := csv.NewReader(strings.NewReader(out)).ReadAll()
		check(t, err)
		if len(rows) < 10 {
			t.Errorf("%s: %d rows", what, len(rows))
		}
		before := r.svc.State().Head
		if got, want := r.must("load", file(what+".csv", out), "--csv", what),
			fmt.Sprintf("%d lines taken in: 0 new, 0 changed, %d the same.\n", len(rows)-1, len(rows)-1); got != want {
			t.Errorf("%s: %s", what, got)
		}
		if r.svc.State().Head.Seq != before.Seq {
			t.Errorf("%s: taking in what is there wrote %d entries", what, r.svc.State().Head.Seq-before.Seq)
		}
	}
	scim := r.must("dump", "--scim", "guests")
	var list struct {
		Total     int `json:"totalResults"`
		Resources []struct{ UserName string }
	}
	check(t, json.Unmarshal([]byte(scim), &list))
	if list.Total < 100 || len(list.Resources) != list.Total {
		t.Errorf("SCIM: %d of %d", len(list.Resources), list.Total)
	}
	if got := r.must("load", file("g.json", scim), "--scim", "guests"); !strings.Contains(got, "0 new, 0 changed") {
		t.Errorf("SCIM: %s", got)
	}

	// Other names for columns, a column that is none of ours, and what is wrong.
	bad := file("bad.csv",
		"Mail,Who,sponsor,Shoe size\nnew.one@ilvane.example,New One,s.lindqvane,43\nt.wrayburn@brackwater.example,Ours,s.lindqvane,40\nx@@y,Bad,s.lindqvane,41\nok@ilvane.example,Ok,nobody.here,42\n")
	status, out, errs := r.client("", "load", bad, "--csv", "guests", "--map", "Mail=address,Who=name")
	if status != 1 || !strings.Contains(errs, "nothing was taken in") {
		t.Errorf("%d %s", status, errs)
	}
	for _, want := range []string{"Columns that are none of ours: Shoe size", "4     address  x@@y", "5     sponsor  nobody.here"} {
		if !strings.Contains(out, want) {
			t.Errorf("it lacks %q: %s", want, out)
		}
	}
	good := file("good.csv",
		"Mail,Who,sponsor\nnew.one@ilvane.example,New One,s.lindqvane\nmaren.holtveig@ilvane.example,Maren H.,s.lindqvane\n")
	if got := r.must("load", good, "--csv", "guests", "--map", "Mail=address,Who=name", "--preview"); !strings.Contains(got,
		"It would be: 1 new, 1 changed, 0 the same") {
		t.Errorf("%s", got)
	}
	r.must("load", good, "--csv", "guests", "--map", "Mail=address,Who=name")
	g, _, err := r.svc.Guest(context.Background(), "maren.holtveig@ilvane.example")
	check(t, err)
	if g.Name != "Maren H." || g.Purpose == "" || g.Sponsor != "s.lindqvane" { // a column that is not there changes nothing
		t.Errorf("%+v", g)
	}
	if status, _, errs := r.client("", "load", good, "--csv", "visitors"); status != 2 ||
		!strings.Contains(errs, `--csv "visitors": write guests, grants, links, spaces, people`) {
		t.Errorf("%d %s", status, errs)
	}
	own := file("own.csv", "address\nt.wrayburn@brackwater.example\n")
	if status, out, _ := r.client("", "load", own, "--csv", "guests"); status != 1 ||
		!strings.Contains(out, "our people do not become guests") && !strings.Contains(out, "one of our own") {
		t.Errorf("%d %s", status, out)
	}
	if status, _, errs := r.client("", "load", file("none.csv", "who\nx\n"), "--csv", "guests"); status != 1 ||
		!strings.Contains(errs, "a column address is needed") {
		t.Errorf("%d %s", status, errs)
	}
}

// TestMailRefused sends to a mailbox that there is none of: it is given up at once, stands in
// the list of what is to be looked at and on the guest's page, and can be tried again.
func TestMailRefused(t *testing.T) {
	r := demoService(t)
	p := r.post()
	_, err := r.svc.SendWaiting(t.Context(), p.send)
	check(t, err)
	r.login("mooring")
	const who = "no-mailbox.quillfeather@pallowick.example"
	r.says(0, "550", "guest", "mail", "--to", who)
	r.says(0, "failed", "guest", "mail", "--to", who)
	list := r.must("guest", "list", "--needs", "mail", "-o", "csv")
	if lines := strings.Split(strings.TrimSpace(list), "\n"); len(lines) != 2 || !strings.HasPrefix(lines[1], who+",") {
		t.Errorf("what does not arrive: %s", list)
	}
	list = r.must("guest", "list", "--needs", "time", "-o", "csv")
	if lines := strings.Split(strings.TrimSpace(list), "\n"); len(lines) != 3 || !strings.HasPrefix(lines[1], "imke.ekwinter@orrin.example,") {
		t.Errorf("who asks for more time: %s", list)
	}
	r.says(1, `write sponsor, grant, seen, terms, time, mail`, "guest", "list", "--needs", "help")

	keeper := r.page(browser(t), "mooring")
	keeper.goTo("/guests?needs=mail", "document.querySelectorAll('.guests tbody tr').length === 1")
	keeper.goTo("/guests/"+who, "document.querySelector('[aria-labelledby=h-mail] .gets-no')")
	press(keeper, "Try again")
	keeper.until("document.querySelector('[aria-labelledby=h-mail]').innerText.includes('invitation: waiting')")
	press(keeper, "Change")
	keeper.until("document.querySelector('#act-name')?.value === 'Quill Quillfeather'")
	keeper.do(chromedp.SendKeys(chromedp.CSS("#act-name"), " the Younger"))
	keeper.axe("what is kept of a guest")
	choose(keeper, "#act-language", "pt")
	keeper.do(chromedp.Click(chromedp.CSS(".modal-footer .btn-primary")))
	keeper.until("document.querySelector('h1').innerText === 'Quill Quillfeather the Younger' && !document.querySelector('.modal')")
	keeper.until("document.querySelector('[aria-labelledby=h-history]').innerText.includes('name: Quill Quillfeather → Quill Quillfeather the Younger')")
	said := eval[string](keeper, "document.querySelector('[aria-labelledby=h-history]').innerText")
	for _, want := range []string{"grant", "space:low-water-design", "contribute", "language: – → pt"} {
		if !strings.Contains(said, want) {
			t.Errorf("what was done lacks %q: %s", want, said)
		}
	}
	// To stop somebody on every account is something else than suspending their record.
	keeper.goTo("/guests/maren.holtveig@ilvane.example", "document.querySelector('.tide-knot')")
	press(keeper, "Suspend")
	keeper.until("document.querySelector('.modal a[href*=bar]')")
	keeper.do(chromedp.Click(chromedp.CSS(".modal a[href*=bar]")))
	keeper.until("document.querySelector('[aria-label=\"Domain or address to bar\"]')?.value === 'maren.holtveig@ilvane.example'")
}
