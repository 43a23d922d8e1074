package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"wexillum.example/internal/demo"
)

// TestDraftsFromTheClient edits, weighs, publishes and goes back; a keeper makes a draft
// that an administrator publishes; two people and two editors.
func TestDraftsFromTheClient(t *testing.T) {
	r := demoService(t)
	r.login("harbour")
	dump := r.must("dump")
	r.says(0, "changes nothing yet", "draft", "new", "Lower the file limit")
	r.says(1, "there is a draft \"Lower the file limit\" already", "draft", "new", "lower the file limit")
	r.says(0, "", "rules", "set", "files.given_to", "--limit", "inside", "--draft", "Lower the file limit", "--why", "an audit")
	r.says(1, "looser than the limit", "rules", "set", "files.given_to", "--default", "newcomers", "--draft", "Lower the file limit")
	r.says(1, "this changes at once", "forwarder", "remove", "o.tidewell", "odile@homepost.example", "--draft", "Lower the file limit")
	r.says(1, "leave out --draft", "rules", "set", "spaces.pages", "--space", "low-water-design", "--value", "off", "--draft",
		"Lower the file limit")
	r.says(1, "there is no draft \"none\"", "rules", "list", "--draft", "none")
	if out := r.must("dump"); out != dump {
		t.Error("a draft changed what is in force")
	}
	out := r.says(0, "− lost", "draft", "impact", "Lower the file limit")
	for _, want := range []string{"−80 parties, −572 granted actions", "by service: files −572", "pallowick −203",
		"values that become held back: 2", "space:loan-dossier: files.given_to newcomers becomes held back"} {
		if !strings.Contains(out, want) {
			t.Errorf("the impact lacks %q:\n%s", want, out)
		}
	}
	lines := strings.Count(r.must("draft", "impact", "Lower the file limit", "--all"), "\nlost,")
	if lines < 150 {
		t.Errorf("%d lines", lines)
	}
	var imp struct {
		Granted struct{ Lost int }
		Lines   []struct{ Actions []string }
	}
	check(t, json.Unmarshal([]byte(r.must("draft", "impact", "Lower the file limit", "-o", "json")), &imp))
	n := 0
	for _, l := range imp.Lines {
		n += len(l.Actions)
	}
	if imp.Granted.Lost != 572 || n != 572 {
		t.Errorf("%d lost, %d in the lines", imp.Granted.Lost, n)
	}
	// Ahead: what has ended by then is not lost any more.
	if out := r.must("draft", "impact", "Lower the file limit", "--at", "+300d"); strings.Contains(out, "−572") {
		t.Error(out)
	}
	r.says(2, "", "draft", "impact", "Lower the file limit", "--at", "-9d")
	r.says(2, "give --why", "draft", "publish", "Lower the file limit")
	r.says(0, "Published as revision 3.", "draft", "publish", "Lower the file limit", "--why", "an audit")
	r.says(1, "there is no draft", "draft", "publish", "Lower the file limit", "--why", "again")
	r.says(0, "an audit", "revision", "list")
	r.says(0, "set files.given_to", "revision", "show", "3")
	r.says(1, "there is no revision 99", "revision", "show", "99")
	r.says(2, "write its number", "revision", "show", "three")
	r.says(0, "files.given_to  newcomers, held back", "revision", "back", "2", "--why", "it is over")
	r.says(0, "Published as revision 4.", "draft", "publish", "Back to revision 2", "--why", "it is over")
	if got := r.must("dump"); got != dump {
		t.Errorf("going back gives another world:\n%s", diffOf(dump, got))
	}
	r.says(0, "They are the same.", "revision", "diff", "2", "4")

	// A keeper's change waits for an administrator.
	r.login("mooring")
	r.says(1, "is there for an administrator", "partner", "open", "oskelund", "spaces.in", "--why", "the course")
	out = r.says(0, "change the partner oskelund", "draft", "list")
	id := strings.Fields(out[strings.Index(out, "\nw")+1:])[0] // what was only looked at and kept
	r.says(1, "may not POST", "draft", "publish", id, "--why", "x")
	r.login("lantern")
	r.says(1, "may not POST", "draft", "new", "Not mine")
	r.login("harbour")
	r.says(0, "Published as revision 5.", "draft", "publish", id, "--why", "the course")

	// Two people.
	part := filepath.Join(t.TempDir(), "two.yaml")
	org := dump[strings.Index(dump, "organisation:"):]
	org = org[:strings.Index(org, "\nrules:")]
	if i := strings.Index(org, "\nsettings:"); i > 0 {
		org = org[:i]
	}
	check(t, os.WriteFile(part, []byte("wexillum: 1\n"+strings.Replace(org, "two_people: never", "two_people: loosening", 1)+"\n"), 0o600))
	r.says(0, "", "draft", "new", "Two people")
	r.says(0, "", "load", part, "--draft", "Two people")
	r.says(0, "Published as revision 6.", "draft", "publish", "Two people", "--why", "four eyes")
	r.says(0, "Not in force yet: somebody else must confirm it", "rules", "set", "chat.guest_delete", "--default", "on", "--why",
		"they mend their own")
	r.says(0, "off", "rules", "show", "chat.guest_delete")
	out = r.must("draft", "list")
	id = strings.Fields(out[strings.Index(out, "\nw")+1:])[0]
	r.says(1, "somebody else confirms", "draft", "confirm", id)
	if status, _, body := r.call("POST", "/api/v1/accounts", r.token("harbour"),
		`{"name":"quayside","role":"administrator","password":"another-pair-of-eyes","why":"four eyes"}`); status != 201 {
		t.Fatalf("%d %s", status, body)
	}
	if status, _, body := r.call("POST", "/api/v1/bars", r.token("harbour"), `{"name":"x.example"}`); status != 201 {
		t.Errorf("tightening needs nobody: %d %s", status, body)
	}
	if status, _, body := r.call("PATCH", "/api/v1/rules/chat.guest_delete", r.token("harbour"), `{"default":"on"}`); status != 409 ||
		!strings.Contains(body, "problems/second-person") {
		t.Errorf("loosening at once: %d %s", status, body)
	}
	r.signIn("quayside", "another-pair-of-eyes")
	r.says(1, "weighed and confirmed anew", "draft", "confirm", id) // a bar came in between
	r.login("harbour")
	r.says(0, "Not in force yet", "draft", "publish", id, "--why", "once more")
	r.signIn("quayside", "another-pair-of-eyes")
	r.says(0, "Published as revision 8.", "draft", "confirm", id)
	r.says(0, "harbour, confirmed by quayside", "revision", "list")
}

func diffOf(a, b string) string {
	x, y := strings.Split(a, "\n"), strings.Split(b, "\n")
	var out []string
	for i := 0; i < len(x) || i < len(y); i++ {
		l, m := "", ""
		if i < len(x) {
			l = x[i]
		}
		if i < len(y) {
			m = y[i]
		}
		if l != m {
			out = append(out, "- "+l, "+ "+m)
		}
	}
	return strings.Join(out[:min(20, len(out))], "\n")
}

// TestRemedyFromTheClient asks what would help, makes a draft of it, publishes, and asks
// again; a member asks for it and hears when it works.
func TestRemedyFromTheClient(t *testing.T) {
	r := demoService(t)
	r.login("rigger")
	q := []string{"r.larkmoor@pallowick.example", "chat.delete_own", "channel:design-talk"}
	r.says(3, "What would make it a yes", append(append([]string{"ask"}, q...), "--remedy")...)
	r.says(2, "give --purpose", append([]string{"request", "send"}, q...)...)
	out := r.says(0, "goes to   an administrator", append(append([]string{"request", "send"}, q...), "--purpose",
		"they mend their own words")...)
	id := strings.Fields(out)[0]
	r.says(1, "you have asked for this already", append(append([]string{"request", "send"}, q...), "--purpose", "again")...)
	r.says(1, "it is a yes already", "request", "send", "person:d.ekwinter", "directory.invite", "space:low-water-design", "--context",
		"address=new@pallowick.example", "--purpose", "x")
	r.says(1, "those who can change it answer it", "request", "answer", id, "--why", "mine")
	r.login("harbour")
	r.says(0, "they mend their own words", "request", "list")
	out = r.says(0, "For rigger: they mend their own words", "request", "draft", id)
	draft := strings.Fields(out)[0]
	r.says(0, "Impact:", "draft", "publish", draft, "--why", "they print the labels")
	r.says(0, "YES", append([]string{"ask"}, q...)...)
	check(t, r.svc.Refresh(t.Context()))
	r.login("rigger")
	r.eventually("▲ works", "request", "show", id)
	r.says(0, id, "request", "list")
	// A no has a reason.
	out = r.must("request", "send", "person:d.ekwinter", "directory.invite", "space:low-water-design", "--context",
		"address=x@marrowby.example", "--purpose", "old friends")
	no := strings.Fields(out)[0]
	r.login("harbour")
	r.says(2, "give --why", "request", "refuse", no)
	r.says(0, "▼ no", "request", "refuse", no, "--why", "not after the incident")
	r.says(1, "is over", "request", "answer", no, "--why", "well")
	r.login("rigger")
	r.says(0, "not after the incident", "request", "show", no)
	r.says(1, "there is no request", "request", "show", "r0")

	// Taken straight from the question, without a request; and on a file alone.
	r.login("harbour")
	mine := []string{"ask", "maren.holtveig@ilvane.example", "chat.delete_own", "channel:loan-general"}
	out = r.says(0, "the partner ilvane", append(mine, "--take", "1", "--name", "Their own messages")...)
	if !strings.Contains(out, "rules.chat.guest_delete") {
		t.Error(out)
	}
	r.says(0, "Published", "draft", "publish", "Their own messages", "--why", "asked for")
	r.says(0, "YES", mine...)
	r.says(3, "It opens: 16 known parties, 17 granted actions, 960 pairs of wide ones.", "ask", "r.larkmoor@pallowick.example",
		"chat.delete_own", "channel:design-talk", "--remedy", "--world", "../demo/world.yaml")
	r.says(3, "Nothing that could be changed makes it a yes", "ask", "link:crate-list-link", "files.edit", "file:crate-list", "--remedy")
}

// TestConsoleDrafts goes the whole path in a browser: question, remedy, draft, impact,
// publish, question again; then goes back.
func TestConsoleDrafts(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	b := browser(t)
	p := r.page(b, "harbour")
	ask := "/ask?who=r.larkmoor%40pallowick.example&action=chat.delete_own&resource=channel%3Adesign-talk"
	p.goTo(ask, verdict+".dataset.decision === 'no'")
	p.until("document.querySelector('.remedy-opens b')?.innerText.includes('16 known parties')")
	p.axe("remedies")
	p.do(chromedp.Click(chromedp.CSS(".remedy .btn-primary")))
	p.until("location.pathname.startsWith('/drafts/') && document.querySelector('.keels')")
	if text := p.text("main"); !strings.Contains(text, "change the partner pallowick") || !strings.Contains(text, "+17") ||
		!strings.Contains(text, "Studio Pallowick") {
		t.Errorf("%s", text)
	}
	p.axe("a draft")
	// Work in it: what is asked is answered as it would be, what is changed goes into it.
	p.do(chromedp.Click(chromedp.CSS(".page-head .btn-primary")))
	p.until("document.querySelector('.draft-bar')")
	eval[any](p, "history.pushState({}, '', '"+ask+"'); dispatchEvent(new PopStateEvent('popstate'))")
	p.until(verdict + ".dataset.decision === 'yes'")
	p.axe("in a draft")
	p.goTo("/partners/oskelund", "document.querySelector('.draft-bar') && document.querySelector('.openings')")
	p.do(chromedp.Focus(chromedp.CSS("[aria-label='chat.in, ours']")), chromedp.KeyEvent("▼"))
	p.do(chromedp.Click(chromedp.CSS("[aria-label='Set ours: chat.in']")))
	p.until("document.querySelector('[aria-label=\"chat.in, ours\"]').value === 'no' && !document.querySelector('[aria-label=\"Set ours: chat.in\"]')")
	p.do(chromedp.Click(chromedp.CSS(".draft-bar a")))
	p.until("document.querySelectorAll('.edits > li').length === 2 && document.querySelector('.keels')?.innerText.includes('Oskelund University')")
	// One edit is undone, the draft is left, and published.
	eval[any](p, "[...document.querySelectorAll('.edits button')].find(b => b.ariaLabel.includes('oskelund')).click()")
	p.until("document.querySelectorAll('.edits > li').length === 1")
	p.do(chromedp.Click(chromedp.CSS(".draft-bar button")))
	p.until("!document.querySelector('.draft-bar')")
	p.until("document.querySelector('.publish-form')")
	p.do(chromedp.SendKeys(chromedp.CSS("#p-why"), "they asked for it"), chromedp.Click(chromedp.CSS(".publish-form button")))
	p.until("document.querySelector('.lead-line').innerText.includes('Published as revision 3')")
	p.goTo(ask, verdict+".dataset.decision === 'yes'")
	// Another console hears of a revision by itself, and one goes back.
	two := r.page(browser(t), "lantern")
	two.goTo("/drafts", "document.querySelectorAll('.revisions li').length === 3")
	two.axe("revisions, as an auditor")
	p.goTo("/drafts", "document.querySelectorAll('.revisions li').length === 3")
	p.axe("drafts and revisions")
	p.do(chromedp.Click(chromedp.CSS("[aria-label='Go back to it: revision 2']")))
	p.until("location.pathname.startsWith('/drafts/') && document.querySelector('.publish-form')")
	p.do(chromedp.SendKeys(chromedp.CSS("#p-why"), "a mistake"), chromedp.Click(chromedp.CSS(".publish-form button")))
	p.until("document.querySelector('.lead-line').innerText.includes('Published as revision 4')")
	two.until("document.querySelectorAll('.revisions li').length === 4")
	p.goTo(ask, verdict+".dataset.decision === 'no'")
	p.goTo("/revisions/4?against=1", "document.querySelector('.edits')")
	p.axe("a revision")

	// A change of one thing that is not wanted after all changes nothing.
	p.goTo("/partners/oskelund", "document.querySelector('.openings')")
	p.do(chromedp.Focus(chromedp.CSS("[aria-label='chat.in, ours']")), chromedp.KeyEvent("▼"))
	p.do(chromedp.Click(chromedp.CSS("[aria-label='Set ours: chat.in']")))
	p.until("document.querySelector('.quick-dialog .keels')")
	p.axe("one change, weighed")
	eval[any](p, "[...document.querySelectorAll('.quick-dialog button')].find(b => b.innerText === 'Change nothing').click()")
	p.until("!document.querySelector('.quick-dialog')")
	r.login("harbour")
	r.says(0, "There is no draft.", "draft", "list")
	// A draft that somebody else publishes while one works in it is left by itself.
	r.must("draft", "new", "Meanwhile")
	r.must("rules", "set", "chat.guest_delete", "--default", "on", "--draft", "Meanwhile")
	p.goTo("/drafts", "document.querySelector('.drafts a')")
	p.do(chromedp.Click(chromedp.CSS(".drafts a")))
	p.until("document.querySelector('.publish-form') && document.querySelector('.page-head .btn-primary')")
	p.do(chromedp.Click(chromedp.CSS(".page-head .btn-primary")))
	p.until("document.querySelector('.draft-bar')?.innerText.includes('You are in the draft')")
	p.goTo("/rules", "document.querySelectorAll('.rule').length === 75 && document.querySelector('.draft-bar')")
	r.must("draft", "publish", "Meanwhile", "--why", "from elsewhere")
	p.until("document.querySelector('.draft-bar')?.innerText.includes('is published as revision 5')")
	p.axe("a draft that is over")
	eval[any](p, "document.querySelector('.draft-bar button').click()")
	p.until("!document.querySelector('.draft-bar')")
	// A member asks for what is refused.
	m := r.page(browser(t), "rigger")
	m.goTo("/ask?who=person%3Ad.ekwinter&action=directory.invite&resource=space%3Alow-water-design&address=new%40calderfinch.example",
		"document.querySelector('.ask-for')")
	m.do(chromedp.SendKeys(chromedp.CSS("[aria-label='What it is for']"), "labels for the loans"),
		chromedp.Click(chromedp.CSS(".ask-for button")))
	m.until("document.querySelector('.sent')")
	p.goTo("/", "document.querySelector('.requests')?.innerText.includes('labels for the loans')")
	p.axe("a request")
	p.do(chromedp.SendKeys(chromedp.CSS(".requests .form-control"), "Use the printer's portal."))
	eval[any](p, "[...document.querySelectorAll('.requests button')].find(b => b.innerText === 'Answer').click()")
	m.goTo("/", "document.querySelector('.requests')?.innerText.includes('Use the printer')")
	m.axe("a request, answered")
	// In numbers, down to the question.
	p.goTo("/numbers", "document.querySelector('.ledger li')")
	p.axe("in numbers")
	eval[any](p, "[...document.querySelectorAll('.ledger a')].find(a => a.innerText === 'Studio Pallowick').click()")
	p.until("document.querySelector('.listing tbody a[href^=\"/ask\"]')")
	p.axe("behind a number")
	p.do(chromedp.Click(chromedp.CSS(".listing tbody a[href^='/ask']")))
	p.until(verdict + ".dataset.decision === 'yes'")
}

// signIn signs in with an account that is not of the demo.
func (r *running) signIn(name, password string) {
	r.t.Helper()
	if status, _, errs := r.client(password+"\n", "login", "--name", name); status != 0 {
		r.t.Fatalf("login as %s: %s", name, errs)
	}
}

// eventually runs the client with every change of the world until its output holds a text.
func (r *running) eventually(want string, args ...string) {
	r.t.Helper()
	heads, stop := r.svc.Watch()
	defer stop()
	patience := time.After(20 * time.Second)
	for {
		_, out, errs := r.client("", args...)
		if strings.Contains(out, want) {
			return
		}
		select {
		case <-heads:
		case <-patience:
			r.t.Fatalf("%v: never %q; %s%s", args, want, out, errs)
		}
	}
}

// TestDue tells what is due from the service and from a file alike, as a draft would make
// it, and in the console day by day.
func TestDue(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("lantern")
	world := filepath.Join(t.TempDir(), "world.yaml")
	check(t, os.WriteFile(world, []byte(r.must("dump")), 0o600))
	for _, args := range [][]string{{"--within", "45d"}, {"--partner", "tholemere", "--within", "200d"},
		{"hester.vexley@tholemere.example", "--within", "400d"}} {
		a := r.must(append([]string{"due", "-o", "csv"}, args...)...)
		b := r.must(append([]string{"due", "-o", "csv", "--world", world}, args...)...)
		if a != b || strings.Count(a, "\n") < 3 {
			t.Errorf("%v: the service says\n%s\nthe file says\n%s", args, a, b)
		}
	}
	// What ours may do elsewhere is weighed too, on files alone.
	next := filepath.Join(t.TempDir(), "next.yaml")
	check(t, os.WriteFile(next, []byte(strings.Replace(string(demo.World), "mail.forward: {limit: any, default: closed}",
		"mail.forward: {limit: any, default: any}", 1)), 0o600))
	was := filepath.Join(t.TempDir(), "was.yaml")
	check(t, os.WriteFile(was, demo.World, 0o600))
	out := r.says(0, "forwarders: 2: Perrin Ashdock to desk@quennick.example starts, Odile Tidewell to odile@homepost.example starts", "draft",
		"impact", "--world", next, "--against", was)
	if !strings.Contains(out, "what ours may do elsewhere: 12: ") ||
		!strings.Contains(out, "gained mail.forward towards a private newcomer (") {
		t.Error(out)
	}
	r.says(3, "It opens: 1 thing our people may do elsewhere, until ", "ask", "person:o.tidewell", "mail.forward", "mailbox:o.tidewell",
		"--context", "address=x@homepost.example", "--remedy", "--world", was)
	r.says(0, "no grant is left", "due", "--partner", "tholemere", "--within", "200d")
	r.says(2, `partner "none": there is no such partner`, "due", "--partner", "none", "--within", "200d")
	r.says(2, `partner "none": there is no such partner`, "due", "--partner", "none", "--world", "../demo/world.yaml")
	r.says(2, "give one of them", "due", "--within", "3d", "--until", "2030-01-01")
	r.says(1, "who", "due", "nobody")
	r.login("harbour")
	r.must("draft", "new", "Short")
	r.must("rules", "set", "guests.term_days", "--limit", "30", "--default", "30", "--draft", "Short")
	if a, b := r.must("due", "-o", "csv"), r.must("due", "-o", "csv", "--draft", "Short"); a == b {
		t.Error("a draft's days change nothing")
	}
	p := r.page(browser(t), "lantern")
	p.goTo("/due", "document.querySelectorAll('.due > li').length > 5")
	p.axe("what is due")
	p.goTo("/due?partner=tholemere&until=%2B90d", "document.querySelector('.figures')?.innerText.includes('records are suspended')")
	eval[any](p, "document.querySelector('.due a').click()")
	p.until("location.pathname.startsWith('/guests/') && document.querySelector('.tide-knot')")
	p.axe("a guest")
	choose(p, ".what-if select", "extend")
	p.until("document.querySelectorAll('.what-if .tide-knot').length > 0 || document.querySelector('.what-if .gets-no')")
}
