package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"wexillum.example/internal/service"
)

// delayed stands before a service and holds back answers, loses them, or refuses, as a test
// has it.
type delayed struct {
	url  string
	hold atomic.Pointer[func(*http.Request) (wait <-chan struct{}, lose bool)]
}

func (r *running) delayed() *delayed {
	r.t.Helper()
	to, err := url.Parse(r.url)
	check(r.t, err)
	d := &delayed{}
	proxy := httputil.NewSingleHostReverseProxy(to)
	proxy.FlushInterval = -1
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if f := d.hold.Load(); f != nil {
			wait, lose := (*f)(q)
			if lose { // it is done, and nobody hears of it
				proxy.ServeHTTP(&nowhere{http.Header{}}, q)
				panic(http.ErrAbortHandler)
			}
			if wait != nil {
				<-wait
			}
		}
		proxy.ServeHTTP(w, q)
	}))
	r.t.Cleanup(func() { srv.CloseClientConnections(); srv.Close() })
	d.url = srv.URL
	return d
}

type nowhere struct{ h http.Header }

func (n *nowhere) Header() http.Header         { return n.h }
func (n *nowhere) Write(b []byte) (int, error) { return len(b), nil }
func (n *nowhere) WriteHeader(int)             {}

func (d *delayed) when(f func(*http.Request) (<-chan struct{}, bool)) { d.hold.Store(&f) }

// fill types into a field as React hears it.
func (p *page) fill(selector, text string) {
	p.t.Helper()
	b, err := json.Marshal(text)
	check(p.t, err)
	eval[any](p,
		fmt.Sprintf(`(() => { const x = document.querySelector(%q); const proto = x.tagName === 'SELECT' ? HTMLSelectElement : x.tagName === 'TEXTAREA' ? HTMLTextAreaElement : HTMLInputElement; Object.getOwnPropertyDescriptor(proto.prototype, 'value').set.call(x, %s); x.dispatchEvent(new Event(x.tagName === 'SELECT' ? 'change' : 'input', {bubbles: true})) })()`,
			selector, b))
}

// presses clicks whatever button or link says something, within a part of the page.
func (p *page) presses(within, says string) {
	p.t.Helper()
	find := fmt.Sprintf(`[...document.querySelectorAll('%s button, %s a')].find(b => b.innerText.trim() === %q && !b.matches(':disabled'))`,
		within, within, says)
	p.until(find)
	eval[any](p, find+".click()")
}

const dialogue = ".modal.show"

// change weighs a change of a rule and leaves its dialogue open.
func (p *page) weighsRule() {
	p.t.Helper()
	p.goTo("/rules?rule=files.bearer_links", "document.querySelector('.rule-form')")
	now := eval[string](p, "document.querySelector('[id=\"files.bearer_links-Default\"]').value")
	p.fill("[id='files.bearer_links-Default']", map[string]string{"on": "off", "off": "on"}[now])
	p.presses(".rule-form", "Weigh and save")
	p.until("document.querySelector('#quick-why')")
	p.fill("#quick-why", "a try")
}

// TestPublishingIsTold publishes while the answer is held back or lost: the dialogue cannot be
// left meanwhile, and says what became of it.
func TestPublishingIsTold(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	d := r.delayed()
	r.url, d.url = d.url, r.url
	p := r.page(browser(t), "harbour")
	p.weighsRule()
	go_, reached := make(chan struct{}), make(chan struct{}, 8)
	d.when(func(q *http.Request) (<-chan struct{}, bool) {
		if strings.HasSuffix(q.URL.Path, "/publish") {
			reached <- struct{}{}
			return go_, false
		}
		return nil, false
	})
	eval[any](p, "(() => { const b = document.querySelector('.quick-publish'); b.click(); b.click() })()")
	<-reached
	p.until("document.querySelector('.modal.show fieldset').disabled")
	p.do(chromedp.KeyEvent("\u001b"))
	if eval[bool](p, "[...document.querySelectorAll('.modal.show button')].some(b => !b.matches(':disabled'))") {
		t.Error("the dialogue can be left while it publishes")
	}
	close(go_)
	p.until("!document.querySelector('.modal.show') && document.querySelector('.saved')?.innerText === 'Published. It counts now.'")
	if len(reached) != 0 {
		t.Errorf("a double click asked %d times more", len(reached))
	}
	// The answer is lost: what became of it is asked before anything is said.
	p.weighsRule()
	lost := false
	d.when(func(q *http.Request) (<-chan struct{}, bool) {
		lose := strings.HasSuffix(q.URL.Path, "/publish") && !lost
		lost = lost || lose
		return nil, lose
	})
	p.presses(dialogue, "Publish")
	p.until("!document.querySelector('.modal.show') && document.querySelector('.saved')?.innerText === 'Published. It counts now.'")
	if text := p.text("main"); strings.Contains(text, "Nothing was changed") {
		t.Error(text)
	}
	d.hold.Store(nil)
	// Left alone it leaves nothing: no draft, and no line in the journal.
	before := r.svc.State().Head
	p.weighsRule()
	p.presses(dialogue, "Change nothing")
	p.until("document.querySelector('.rule-form .wrong')?.innerText.includes('Nothing was changed.')")
	if now := r.svc.State().Head; now != before {
		t.Errorf("a change that was only weighed is in the journal: %v, %v", before, now)
	}
	if all, err := r.svc.Drafts(t.Context(), true); err != nil || strings.Contains(fmt.Sprint(all), "dropped") {
		t.Errorf("%v %v", all, err)
	}
	// Kept, it is a draft like others, with its reason.
	p.weighsRule()
	p.presses(dialogue, "Keep as a draft")
	p.until("document.querySelector('.rule-form .wrong')?.innerText.includes('It is kept as the draft')")
	if all, err := r.svc.Drafts(t.Context(), false); err != nil || len(all) != 1 || all[0].Aside {
		t.Errorf("%+v %v", all, err)
	}
}

// TestSessionEndsOverThePage ends a session in the middle of a form: the password is asked over
// the page, and what was typed is still there, a weighed reason too.
func TestSessionEndsOverThePage(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	p := r.page(browser(t), "harbour")
	p.weighsRule()
	if _, err := r.st.DB().ExecContext(t.Context(), "DELETE FROM sessions"); err != nil {
		t.Fatal(err)
	}
	p.presses(dialogue, "Publish")
	p.until("document.querySelector('.again-dialog #again-password')")
	p.axe("signing in again")
	p.fill("#again-password", "wrong-wrong-wrong")
	p.presses(".again-dialog", "Sign in")
	p.until("document.querySelector('.again-dialog .wrong')")
	p.fill("#again-password", "low-water-2026")
	p.presses(".again-dialog", "Sign in")
	p.until("!document.querySelector('.again-dialog') && document.querySelector('#quick-why')?.value === 'a try'")
	p.presses(dialogue, "Publish")
	p.until("document.querySelector('.saved')?.innerText === 'Published. It counts now.'")
	// The stream of changes is back, too: what somebody else does is seen.
	r.login("harbour")
	p.goTo("/partners/pallowick", "document.querySelector('#page-title')?.innerText.includes('Pallowick')")
	r.must("partner", "set", "pallowick", "--note", "seen by the stream", "--yes", "--why", "x")
	p.until("document.body.innerText.includes('seen by the stream')")
	// Somebody else signs in here: no draft, no name of before.
	r.must("draft", "new", "harbour only")
	p.goTo("/drafts", "document.querySelector('.drafts')")
	p.presses("main", "harbour only")
	p.presses("main", "Work in this draft")
	p.until("document.querySelector('.draft-bar')?.innerText.includes('harbour only')")
	p.presses(".mast-end", "Sign out")
	p.until("document.querySelector('#name') && document.title === 'Sign in · Wexillum'")
	p.fill("#name", "lantern")
	p.fill("#password", "read-the-log-2026")
	p.presses(".door", "Sign in")
	p.until("document.querySelector('.askbar') && !document.querySelector('.draft-bar')")
}

// TestDraftSaysWhatIsInIt works in a draft: what goes into it and what does not is said where it
// is done, lists and reports are answered as it, and giving it up can be taken back.
func TestDraftSaysWhatIsInIt(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	r.must("draft", "new", "tide table")
	p := r.page(browser(t), "harbour")
	p.goTo("/drafts", "document.querySelector('.drafts')")
	p.presses("main", "tide table")
	p.presses("main", "Work in this draft")
	p.until("document.querySelector('.draft-bar')?.innerText.includes('Guests, spaces and links change at once.')")
	eval[any](p, "document.querySelector('nav a[href=\"/rules\"]').click()")
	p.until("document.querySelector('.rules, main h1')?.innerText.includes('Rules')")
	p.goTo("/rules?rule=files.bearer_links", "document.querySelector('.rule-form')")
	now := eval[string](p, "document.querySelector('[id=\"files.bearer_links-Default\"]').value")
	p.fill("[id='files.bearer_links-Default']", map[string]string{"on": "off", "off": "on"}[now])
	p.presses(".rule-form", "Save in the draft")
	p.until("document.querySelector('.saved')?.innerText === 'Saved in the draft “tide table”; it counts once that is published.'")
	// What is no policy says so, where it is done.
	p.goTo("/guests/maren.holtveig%40ilvane.example", "[...document.querySelectorAll('main button')].some(b => b.innerText === 'Suspend')")
	p.presses("main", "Suspend")
	p.until("document.querySelector('.modal.show .goes-where')?.innerText === 'This changes at once. It is not part of the draft “tide table”, in which you are.'")
	p.axe("a change at once within a draft")
	p.presses(dialogue, "Leave it")
	p.goTo("/partners/pallowick", "[...document.querySelectorAll('main button')].some(b => b.innerText === 'Suspend')")
	p.presses("main", "Suspend")
	p.until("document.querySelector('.modal.show .goes-where')?.innerText === 'This goes into the draft “tide table”; nothing changes before that is published.'")
	p.fill(".modal.show input", "low tide")
	eval[any](p, "document.querySelector('.modal.show [type=submit]').click()")
	p.until("!document.querySelector('.modal.show')")
	// A report, and a list that is checked, are answered as the draft, and name it.
	report := eval[string](p,
		`fetch([...document.querySelectorAll('a')].length && '/api/v1/report/board?who=partner%3Apallowick&form=csv&draft=' + JSON.parse(sessionStorage.getItem('wexillum.draft')).id).then(r => r.text()).then(t => { document.title = 'got'; window.got = t; return t }), ''`)
	_ = report
	p.until("window.got")
	csv := eval[string](p, "window.got")
	if head, _, _ := strings.Cut(csv, "\r\n"); !strings.HasSuffix(head, ",at,draft") || !strings.Contains(csv, ",tide table\r\n") ||
		!strings.Contains(csv, "no") {
		t.Errorf("%.300s", csv)
	}
	p.goTo("/reach?of=partner%3Apallowick", "document.querySelector('a[download]')")
	if to := eval[string](p, "document.querySelector('a[download]').getAttribute('href')"); !strings.Contains(to, "draft=") {
		t.Errorf("the report leads to %s", to)
	}
	p.goTo("/check", "document.querySelector('main textarea')")
	p.fill("main textarea", "somebody.new@pallowick.example")
	eval[any](p, "document.querySelector('main form [type=submit], main button[type=submit]').click()")
	p.until("document.body.innerText.includes('suspended')")
	// Giving up asks, and is taken back.
	id := eval[string](p, "JSON.parse(sessionStorage.getItem('wexillum.draft')).id")
	p.goTo("/drafts/"+id, "document.querySelector('.edits')")
	p.presses("main", "Give up")
	p.until("document.querySelector('.modal.show')?.innerText.includes('Its 2 edits go with it')")
	p.presses(dialogue, "Give it up")
	p.until("location.pathname === '/drafts' && document.querySelector('.way-back')?.innerText.includes('tide table is given up.') && !document.body.innerText.includes('It is open again')")
	p.presses(".way-back", "Take it back")
	p.until("location.pathname === '/drafts/" + id + "' && document.querySelectorAll('.edits > li').length === 2")
	r.says(1, "is open; only what was given up is taken back", "draft", "restore", id)
	// A reason stays while it is weighed anew, and nine o'clock is the organisation's.
	p.until("document.querySelector('#p-why')")
	p.fill("#p-why", "spring tide")
	r.must("rules", "set", "files.bearer_links", "--default", now, "--limit", "on", "--why", "meanwhile", "--yes")
	p.until("document.querySelector('.conflict') || document.querySelector('#p-why')?.value === 'spring tide'")
	if eval[bool](p, "document.querySelector('.conflict') !== null") {
		p.presses(".conflict", "Keep the draft’s")
		p.until("document.querySelector('#p-why')")
		p.fill("#p-why", "spring tide")
	}
	day := time.Now().AddDate(0, 0, 40).Format("2006-01-02")
	p.fill("#p-at", day+"T09:00")
	p.until("document.querySelector('label[for=p-at]').innerText.includes('Europe/Lisbon')")
	p.presses(".publish-form", "Publish")
	p.until("document.body.innerText.includes('It will be published')")
	lisbon, err := time.LoadLocation("Europe/Lisbon")
	check(t, err)
	at, err := time.ParseInLocation("2006-01-02T15:04", day+"T09:00", lisbon)
	check(t, err)
	x, err := r.svc.Draft(t.Context(), id)
	check(t, err)
	if got, err := time.Parse(time.RFC3339, x.Weighed.PublishAt); err != nil || !got.Equal(at) {
		t.Errorf("nine o'clock in Lisbon became %s", x.Weighed.PublishAt)
	}
	// Within it: a change opens it again, and that is said before.
	p.until("document.querySelector('.draft-bar') || true")
	p.presses("main", "Work in this draft")
	p.until("document.querySelector('.draft-bar')?.innerText.includes('a change opens it again')")
}

// TestSecondPerson makes somebody else confirm, from the console alone: who must sees it on
// Today and in the menu.
func TestSecondPerson(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	check(t, r.svc.MakeAccount(t.Context(), "test", "", service.Account{Name: "quay", Role: "administrator"}, "the-second-pair-of-eyes"))
	ctx := browser(t)
	p := r.page(ctx, "harbour")
	p.goTo("/drafts", "document.querySelector('#h-two')")
	p.fill("[aria-label='Who confirms']", "always")
	p.presses("main", "Change")
	p.until("document.querySelector('#quick-why')")
	p.fill("#quick-why", "four eyes")
	p.presses(dialogue, "Publish")
	p.until("!document.querySelector('.modal.show')")
	p.weighsRule()
	p.presses(dialogue, "Ask for confirmation")
	p.until("document.querySelector('.modal.show')?.innerText.includes('Somebody else must confirm it')")
	p.presses(dialogue, "Understood")
	p.until("!document.querySelector('.saved')")
	// To turn it off needs somebody else, too.
	p.goTo("/drafts", "document.querySelector('#h-two')")
	p.fill("[aria-label='Who confirms']", "never")
	p.presses("main", "Change")
	p.until("document.querySelector('.modal.show') && document.querySelector('.quick-publish')?.innerText === 'Ask for confirmation'")
	p.presses(dialogue, "Change nothing")
	p.presses(".mast-end", "Sign out")
	p.until("document.querySelector('#name')")
	p.fill("#name", "quay")
	p.fill("#password", "the-second-pair-of-eyes")
	p.presses(".door", "Sign in")
	p.until("document.querySelector('.to-confirm')?.innerText.includes('harbour asks to publish it') && document.querySelector('.waits-count')?.innerText === '1'")
	p.axe("today with something to confirm")
	eval[any](p, "document.querySelector('.to-confirm a').click()")
	p.presses("main", "Confirm exactly this")
	p.until("document.querySelector('.lead-line')?.innerText.includes('Published as revision') && !document.querySelector('.waits-count')")
}

// TestKeysWriteNothing goes through pages by the keyboard: passing by changes nothing, and the
// focus is where the work goes on.
func TestKeysWriteNothing(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	p := r.page(browser(t), "harbour")
	p.goTo("/reach?who=maren.holtveig%40ilvane.example&at=2026-12-24", "document.querySelector('#t-range')")
	p.do(chromedp.Focus(chromedp.CSS("#t-range")), chromedp.KeyEvent("\t"), chromedp.KeyEvent("\t"))
	if at := eval[string](p, "new URLSearchParams(location.search).get('at') ?? ''"); at != "2026-12-24" {
		t.Errorf("passing by the line of time makes it %q", at)
	}
	head := r.svc.State().Head
	p.goTo("/spaces/low-water-design", "document.querySelector('.value-form select')")
	p.do(chromedp.Focus(chromedp.CSS(".value-form select")), chromedp.KeyEvent("\ue015"), chromedp.KeyEvent("\ue015"))
	if eval[bool](p, "document.querySelector('.modal.show') !== null") || r.svc.State().Head != head {
		t.Error("an arrow key writes")
	}
	p.goTo("/partners/pallowick", "document.querySelector('[aria-label=\"chat.in, ours\"]')")
	for _, pick := range []string{"chat.in, ours", "chat.in, theirs"} {
		p.do(chromedp.Focus(chromedp.CSS("[aria-label='"+pick+"']")), chromedp.KeyEvent("\ue015"), chromedp.KeyEvent("\ue013"))
		p.fill("[aria-label='"+pick+"']", map[string]string{"chat.in, ours": "no", "chat.in, theirs": "refuses"}[pick])
		if eval[bool](p, "document.querySelector('.modal.show') !== null") || r.svc.State().Head != head {
			t.Errorf("choosing %s writes", pick)
		}
	}
	// The verdict is announced, and the focus goes along with the page.
	p.goTo("/", "document.querySelector('.is-try a[href^=\"/ask\"]')")
	eval[any](p, "document.querySelector('.is-try a[href^=\"/ask\"]').click()")
	p.until("location.pathname === '/ask' && /^(Yes|No): .+ may /.test(document.querySelector('#announcer[role=status]')?.textContent)")
	if at := eval[string](p, "document.activeElement.id"); at != "main" {
		t.Errorf("on the new page the focus is at %q", at)
	}
	// What is taken away gives the focus to what is near.
	r.login("harbour")
	r.must("draft", "new", "two edits")
	r.must("rules", "set", "chat.guest_delete", "--default", "on", "--draft", "two edits", "--why", "x")
	out := r.must("draft", "list")
	id := strings.Fields(out[strings.Index(out, "\nd")+1:])[0]
	p.goTo("/drafts/"+id, "document.querySelector('.edits button')")
	p.do(chromedp.Focus(chromedp.CSS(".edits button")), chromedp.KeyEvent("\r"))
	p.until("!document.querySelector('.edits')")
	p.until("document.activeElement !== document.body")
	// The best match of a completion comes first.
	token := r.token("harbour")
	for q, want := range map[string]string{"kind=who&q=maren": "maren.holtveig@ilvane.example",
		"kind=resource&q=loan+dossier": "space:loan-dossier", "kind=rule&q=chat.guests": "chat.guests", "kind=partner&q=orrin": "orrin"} {
		_, _, body := r.call("GET", "/api/v1/complete?"+q, token, "")
		var x struct{ Items []struct{ Value string } }
		if err := json.Unmarshal([]byte(body), &x); err != nil || len(x.Items) == 0 || x.Items[0].Value != want {
			t.Errorf("%s: %.300s", q, body)
		}
	}
}

// tabs goes on by the tab key until something has the focus.
func (p *page) tabs(selector, says string) {
	p.t.Helper()
	at := ""
	for range 200 {
		if eval[bool](p, fmt.Sprintf("(x => x.matches(%q) && (%q === '' || x.innerText.trim() === %q))(document.activeElement)", selector, says,
			says)) {
			return
		}
		p.do(chromedp.KeyEvent("\t"))
		at = eval[string](p, "document.activeElement.outerHTML.slice(0, 120)")
	}
	p.t.Fatalf("the tab key never comes to %s %q; it is at %s", selector, says, at)
}

// TestKeyboardAlone signs in, asks, takes a remedy, publishes it and asks again, without a
// pointer.
func TestKeyboardAlone(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	p := &page{t, browser(t), r.url}
	keys := func(list ...string) {
		t.Helper()
		for _, k := range list {
			p.do(chromedp.KeyEvent(k))
		}
	}
	p.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(r.url+"/"), chromedp.WaitVisible(chromedp.CSS("#name")))
	p.tabs("#name", "")
	keys("harbour", "\t", "low-water-2026", "\r")
	p.until("document.querySelector('.askbar')")
	p.tabs(".askbar .combo:nth-of-type(1) input", "")
	keys("person:j.penhallow", "\t", "directory.invite", "\t", "space:docent-course", "\t", "h.brannoch@oskelund.example", "\r")
	p.until(verdict +
		"?.dataset.decision === 'no' && [...document.querySelectorAll('main button')].some(b => b.innerText === 'Make a draft of it')")
	p.tabs("button", "Make a draft of it")
	keys("\r")
	p.until("location.pathname.startsWith('/drafts/') && document.querySelector('#p-why')")
	p.tabs("#p-why", "")
	keys("she teaches here")
	p.until("!document.querySelector('.publish-form [type=submit]').disabled")
	keys("\r")
	p.until("document.querySelector('.lead-line')?.innerText.includes('Published as revision')")
	if at := eval[string](p, "document.activeElement.tagName"); at == "BODY" {
		t.Error("after publishing the focus is nowhere")
	}
}

// TestEveryFormKeepsWork ends the session in the middle of every form that writes: what was
// typed is there when the password was given again, and nothing was written meanwhile.
func TestEveryFormKeepsWork(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	p := r.page(browser(t), "harbour")
	const mark = "typed before it ended"
	button := func(says string) string {
		return fmt.Sprintf("[...document.querySelectorAll('main button')].find(b => b.innerText.trim() === %q)", says)
	}
	for _, f := range []struct{ name, path, ready, open, field, value, submit string }{
		{"a rule", "/rules?rule=files.bearer_links", "document.querySelector('.rule-form')", "", "[id='files.bearer_links-why']", mark, ""},
		{"a partner's notes", "/partners/pallowick", button("Change"), "Change", "#e-note", mark, ".modal.show [type=submit]"},
		{"a partner's standing", "/partners/pallowick", button("Suspend"), "Suspend", ".modal.show input", mark, ".modal.show [type=submit]"},
		{"a new partner", "/partners", button("Add a partner"), "Add a partner", ".modal.show input", mark, ""},
		{"a guest", "/guests/maren.holtveig%40ilvane.example", button("Suspend"), "Suspend", "#act-reason", mark, ".modal.show [type=submit]"},
		{"an invitation", "/invite", "document.querySelector('#i-purpose')", "", "#i-purpose", mark, ""},
		{"a list", "/lists?what=grants", "document.querySelector('#list-text')", "", "#list-text", mark, ""},
		{"a draft", "/drafts", "document.querySelector('.inline-form input')", "", ".inline-form input", mark, ".inline-form [type=submit]"},
		{"a password", "/account", "document.querySelector('#pw-old')", "", "#pw-old", mark, ""},
	} {
		before := r.svc.State().Head
		p.goTo(f.path, f.ready)
		if f.open != "" {
			eval[any](p, button(f.open)+".click()")
			p.until("document.querySelector('" + strings.ReplaceAll(f.field, "'", "\\'") + "')")
		}
		p.fill(f.field, f.value)
		if _, err := r.st.DB().ExecContext(t.Context(), "DELETE FROM sessions"); err != nil {
			t.Fatal(err)
		}
		if f.submit != "" {
			p.until("document.querySelector('" + f.submit + "') && !document.querySelector('" + f.submit + "').disabled")
			eval[any](p, "document.querySelector('"+f.submit+"').click()")
		} else { // something else on the page finds out
			eval[any](p, "fetch('/api/v1/session').then(() => dispatchEvent(new Event('wexillum.signed-out'))), 0")
		}
		p.until("document.querySelector('#again-password')")
		p.fill("#again-password", "low-water-2026")
		p.presses(".again-dialog", "Sign in")
		p.until("!document.querySelector('.again-dialog')")
		if got := eval[string](p, "document.querySelector('"+strings.ReplaceAll(f.field, "'", "\\'")+"')?.value ?? 'gone'"); got != mark {
			t.Errorf("%s: %q is left of what was typed", f.name, got)
		}
		before.Seq++ // signing in again
		if now := r.svc.State().Head; now != before {
			t.Errorf("%s: %v became %v", f.name, before, now)
		}
	}
}

// TestTwoAtOnce lets two administrators change one thing: the later is told in words, keeps what
// they typed, and can save it on what is there now.
func TestTwoAtOnce(t *testing.T) {
	r := demoService(t)
	r.login("harbour")
	p := r.page(browser(t), "harbour")
	p.goTo("/partners/pallowick", "[...document.querySelectorAll('main button')].some(b => b.innerText.trim() === 'Change')")
	p.presses("main", "Change")
	p.until("document.querySelector('#e-note')")
	p.fill("#e-note", "mine")
	// The other's change arrives while nobody hears of it.
	eval[any](p,
		"window.fetch = (f => (u, o) => f(u, o?.headers?.['If-Match'] ? {...o, headers: {...o.headers, 'If-Match': '\"0000000000000000\"'}} : o))(window.fetch), 0")
	eval[any](p, "document.querySelector('.modal.show [type=submit]').click()")
	p.until("document.querySelector('.modal.show .wrong')?.innerText.includes('Not saved: somebody else changed this while you were editing. What you typed is still here')")
	if got := eval[string](p, "document.querySelector('#e-note').value"); got != "mine" {
		t.Errorf("%q is left", got)
	}
	p.presses(dialogue, "Show it as it is now")
}

// TestManyPartners lists more partners than a page holds, and says of how many.
func TestManyPartners(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	var b strings.Builder
	b.WriteString("wexillum: 1\npartners:\n")
	for i := range 230 {
		fmt.Fprintf(&b, "  - {id: p%03d, name: Partner %03d, domains: [p%03d.example]}\n", i, i, i)
	}
	if _, err := r.svc.Load(t.Context(), "test", "many", "many", []byte(b.String()), false); err != nil {
		t.Fatal(err)
	}
	p := r.page(browser(t), "harbour")
	p.goTo("/partners",
		"document.querySelectorAll('.board tbody tr').length === 200 && document.querySelector('.more')?.innerText.includes('200 of 240 partners are shown.')")
	p.until("document.querySelector('.accounts button').innerText.endsWith(' 240')")
	p.presses(".more", "More partners")
	p.until("document.querySelectorAll('.board tbody tr').length === 240 && !document.querySelector('.more')")
}
