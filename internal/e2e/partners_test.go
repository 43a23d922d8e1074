package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"wexillum.example/internal/core/statement"
)

// TestPartnerFromTheClient keeps a partner from its first day to a merge, with a
// preview before each step.
func TestPartnerFromTheClient(t *testing.T) {
	r := demoService(t)
	r.login("harbour")
	r.says(0, "Quayside would be a partner, with quay.example. That concerns 0 guests", "partner", "add", "quay", "--name", "Quayside",
		"--domain", "quay.example", "--preview")
	r.says(1, "there is no partner", "partner", "show", "quay")
	r.must("partner", "add", "quay", "--name", "Quayside", "--domain", "quay.example", "--domain", "*.docks.quay.example", "--open", "chat.in")
	for flag, want := range map[string]string{"--statement=ftp://x": "is no address of a statement",
		"--owner=nobody": `there is no person "nobody"`, "--review=someday": `"someday" is no moment`, "--name=": "name"} {
		r.says(1, want, "partner", "set", "quay", flag)
	}
	r.says(0, "The record of Quayside would change", "partner", "set", "quay", "--note", "lamps", "--preview")
	r.says(0, "review    2030-01-31", "partner", "set", "quay", "--note", "lamps", "--review", "2030-01-31", "--contact", "a@quay.example",
		"--contact", "b@quay.example", "--also-named", "Lamps of the Quay", "--why", "known better")
	r.says(0, "quay  Quayside", "partner", "list", "--find", "lamps of")
	out := r.must("partner", "set", "quay", "--note", "")
	if strings.Contains(out, "note ") || !strings.Contains(out, "contact   a@quay.example, b@quay.example") {
		t.Errorf("a field that was not given changed, or an empty one stays:\n%s", out)
	}
	r.says(0, "guests with 0 grants in 0 spaces", "domain", "add", "new.quay.example", "--partner", "quay", "--preview")
	r.says(0, "would no longer belong", "domain", "remove", "quay.example", "--preview")
	r.says(0, "Quayside would be changed for chat.out", "partner", "open", "quay", "chat.out", "--preview")
	r.says(1, "is no service and direction", "partner", "open", "quay", "chat.sideways")
	// Split and merge again, each weighed first.
	r.says(2, "--as and --name are needed", "partner", "split", "quay", "*.docks.quay.example")
	r.says(1, "docks.quay.example is kept with its subdomains", "partner", "split", "quay", "docks.quay.example", "--as", "docks", "--name",
		"Docks")
	r.says(0, "nobody's reach changes", "partner", "split", "quay", "*.docks.quay.example", "--as", "docks", "--name", "Docks", "--preview")
	r.says(0, "Docks  docks", "partner", "split", "quay", "*.docks.quay.example", "--as", "docks", "--name", "Docks")
	r.must("partner", "open", "docks", "files.in")
	out = r.says(0, "opened files.in  yes  unset", "partner", "merge", "docks", "--into", "quay", "--preview")
	if !strings.Contains(out, "docks would become part of Quayside.") {
		t.Error(out)
	}
	r.says(2, "--into is needed", "partner", "merge", "docks")
	r.says(0, "also      Lamps of the Quay, Docks", "partner", "merge", "docks", "--into", "quay", "--why", "they are one firm")
	r.says(1, "there is no partner", "partner", "show", "docks")
	r.says(0, "they are one firm", "journal", "--kind", "partner", "--id", "docks", "--limit", "1")
	r.login("lantern")
	r.says(1, "may not", "partner", "merge", "quay", "--into", "orrin")
	r.says(1, "may not", "domain", "import", "barred", "-")
}

// TestDomainLists takes thousands of lines in and gives them out again, the same.
func TestDomainLists(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	dir := t.TempDir()
	var b strings.Builder
	b.WriteString("name,subdomains,reason\r\n")
	for i := range 5000 {
		fmt.Fprintf(&b, "n%d.junk%d.example,%s,\"from the gateway, list %d\"\r\n", i, i%50, []string{"yes", "no"}[i%2], i%7)
	}
	file := filepath.Join(dir, "barred.csv")
	check(t, os.WriteFile(file, []byte(b.String()+"clerk@brackwater.example,,\r\nn1.junk1.example,no,\r\n"), 0o600))
	r.says(3, "5000 new, 2 refused.", "domain", "import", "barred", file)
	if n := len(r.svc.State().Policy().Barred); n > 10 {
		t.Fatalf("%d bars were written with lines refused", n)
	}
	out := r.says(0, "5000 new, 2 refused. That concerns 0 guests with 0 grants in 0 spaces. Written.", "domain", "import", "barred", file,
		"--only-good", "--why", "the gateway")
	if !strings.Contains(out, "and more; -o csv prints all of them") || !strings.Contains(out, "Written.") {
		t.Error(out[len(out)-300:])
	}
	listed := r.must("domain", "list", "barred")
	check(t, os.WriteFile(file, []byte(listed), 0o600))
	r.says(0, "5003 same.", "domain", "import", "barred", file, "--replace", "--preview")
	text := r.must("domain", "list", "barred", "--form", "text")
	if !strings.Contains(text, "*.n0.junk0.example # from the gateway, list 0\n") || strings.Count(text, "\n") != 5003 {
		t.Errorf("%d lines", strings.Count(text, "\n"))
	}
	check(t, os.WriteFile(file, []byte("iivane.example\n"), 0o600))
	r.says(0, "1 changed, 5002 removed.", "domain", "import", "barred", file, "--replace", "--preview")
	var x struct{ Counts map[string]int }
	if err := json.Unmarshal([]byte(r.says(0, "", "domain", "import", "barred", file, "--replace", "-o", "json")), &x); err != nil ||
		x.Counts["removed"] != 5002 {
		t.Errorf("%v %v", err, x)
	}
	r.says(0, "No entry matches", "domain", "test", "n1.junk1.example")
	r.says(1, "a list that replaces what is kept is about one partner", "domain", "import", "partner", file, "--replace")
	r.says(1, "the list is empty", "domain", "import", "personal", os.DevNull)
	check(t, os.WriteFile(file, []byte("name,colour\n"), 0o600))
	r.says(1, `there is no column "colour"`, "domain", "import", "personal", file)
}

// TestStatementsFromTheClient: what the second organisation says is seen; it closes
// a half, rolls its key, changes it behind our back; ours is published and rolled.
func TestStatementsFromTheClient(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	r.says(0, "open: messages, voice", "partner", "halves", "ilvane")
	r.second.Say("chat.out", statement.Half{Says: "refuses"})
	r.says(0, "good until", "partner", "statement", "ilvane", "--fetch")
	r.says(0, "waits for them", "partner", "halves", "ilvane", "--show", "their-turn")
	r.says(3, "Ilvane Conservation refuses chat.in on its own side.", "ask", "*@ilvane.example", "chat.message", "person:t.wrayburn")
	check(t, r.second.Announce())
	r.must("partner", "statement", "ilvane", "--fetch")
	check(t, r.second.Roll())
	r.says(0, "good until", "partner", "statement", "ilvane", "--fetch")
	check(t, r.second.Roll())
	r.second.Say("chat.out", statement.Half{Says: "admits"})
	out := r.says(3, "key_changed", "partner", "statement", "ilvane", "--fetch")
	r.says(0, "signed with a key that nobody announced", "finding", "list", "--kind", "statement_key_changed")
	r.says(0, "waits for them", "partner", "halves", "ilvane", "--show", "their-turn") // nothing of it was taken
	key := strings.Fields(out[strings.Index(out, "its key"):])[2]
	r.says(1, "it is not the key that their statement is signed with", "partner", "statement", "ilvane", "--accept-key", "another")
	r.says(0, "good until", "partner", "statement", "ilvane", "--accept-key", key, "--why", "they confirmed it by telephone")
	r.says(0, "open: messages, voice, presence", "partner", "halves", "ilvane")
	r.says(0, "theirs", "ask", "-a", "*@ilvane.example", "chat.message", "person:t.wrayburn")
	r.says(1, "publishes none that we know of", "partner", "statement", "orrin", "--fetch")
	r.says(0, "publishes no statement that we know of", "partner", "statement", "orrin")
	// Ours.
	r.says(0, "chat.in        admits", "statement", "show", "--for", "ilvane.example")
	r.says(0, "chat.in        refuses", "statement", "show", "--for", "marrowby.example")
	r.says(1, "no key is announced", "statement", "switch")
	r.says(0, "announced", "statement", "announce")
	r.says(1, "the next key is announced already", "statement", "announce")
	r.says(0, "retired", "statement", "switch")
	if out := r.must("statement", "replace", "--why", "a laptop was lost"); strings.Contains(out, "retired") {
		t.Error(out)
	}
	if out := r.must("dump") + r.must("journal", "--limit", "500", "-o", "json"); strings.Contains(out, `"d":`) ||
		strings.Contains(out, `\"d\"`) || !strings.Contains(out, "a laptop was lost") {
		t.Error("a private key leaves the database, or the journal lacks the roll")
	}
	r.login("mooring")
	r.says(1, "may not", "statement", "replace")
	r.says(1, "may not", "partner", "statement", "ilvane", "--accept-key", key)
	for range 12 { // too often
		if status, h, _ := r.call("GET", "/.well-known/wexillum-statement?for=ilvane.example", "", ""); status == 429 {
			if h.Get("Retry-After") == "" {
				t.Error("it does not say when to come again")
			}
			return
		}
	}
	t.Error("a statement may be asked for without bounds")
}

// TestBundleCheck checks a list with a bundle in mind, with a service and offline.
func TestBundleCheck(t *testing.T) {
	r := demoService(t)
	r.login("lantern")
	dir := t.TempDir()
	list, world := filepath.Join(dir, "list.txt"), filepath.Join(dir, "world.yaml")
	check(t, os.WriteFile(list, []byte("new@ilvane.example\nx@tholemere.example\nmaren.holtveig@ilvane.example\n"), 0o600))
	check(t, os.WriteFile(world, []byte(r.must("dump")), 0o600))
	out := r.says(3, "3 addresses into bundle:loan-desk, invited by s.lindqvane: 1 yes, 1 no, 1 already.", "check", list, "--bundle",
		"loan-desk")
	if !strings.Contains(out, "not_for_bundle") {
		t.Error(out)
	}
	if again := r.says(3, "3 addresses", "check", list, "--bundle", "loan-desk", "--world", world); again != out {
		t.Errorf("the file says\n%s\nthe service\n%s", again, out)
	}
	r.says(2, "there is no such bundle", "check", list, "--bundle", "none")
	r.says(2, "--into or --bundle, one of them", "check", list, "--bundle", "loan-desk", "--into", "space:loan-dossier")
}

// TestPartnersInTheConsole walks the board and a partner's page: filters, the
// record, a list of domains, letters, the statement, split and merge.
func TestPartnersInTheConsole(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	p := r.page(browser(t), "harbour")
	rows := "document.querySelectorAll('.board tbody tr').length"
	p.goTo("/partners", rows+" === 10 && document.querySelectorAll('.pair.is-open').length > 5")
	show := func(word string) {
		eval[any](p, "[...document.querySelectorAll('[aria-label=Show] button')].find(b => b.innerText.startsWith('"+word+"')).click()")
	}
	show("waits for us")
	p.until(rows + " === 1 && document.querySelector('.board tbody th a').innerText === 'Vantry City Council'")
	show("mismatch")
	p.until(rows + " === 2")
	p.axe("the board, filtered")
	p.until("document.querySelectorAll('.open-letters li').length === 2")
	// A list of bars: weighed, then only the good ones.
	eval[any](p, "[...document.querySelectorAll('.lists button')].find(b => b.innerText.includes('Import barred domains')).click()")
	p.until("document.querySelector('#li-text')")
	p.do(chromedp.SendKeys(chromedp.CSS("#li-text"), "*.junk.example # junk\nnot a domain\n"),
		chromedp.Click(chromedp.CSS(".modal button[type=submit]")))
	p.until("document.querySelector('[data-testid=imported]')?.innerText.includes('1 new, 1 refused') && document.querySelector('[data-testid=imported] table').innerText.includes('not a domain')")
	p.axe("a list of bars")
	p.do(chromedp.Click(chromedp.CSS(".modal-footer .btn-primary")))
	p.publish("the gateway's list")
	p.until("document.querySelector('[data-testid=imported] [role=status]').innerText.includes('Written.')")
	p.do(chromedp.Click(chromedp.CSS(".modal-footer .btn-outline-secondary")))
	p.until("[...document.querySelectorAll('.bars li')].some(l => l.innerText.includes('junk.example'))")

	// The record.
	p.goTo("/partners/oskelund", "document.querySelectorAll('.openings tbody tr').length === 7 && document.querySelector('.way')")
	p.do(chromedp.Click(chromedp.CSS("[aria-labelledby=h-about] button")))
	p.until("document.querySelector('#e-review')")
	p.axe("changing the record")
	p.do(chromedp.SendKeys(chromedp.CSS("#e-review"), "someday"), chromedp.Click(chromedp.CSS(".modal .btn-primary")))
	p.until("document.querySelector('.modal .wrong').innerText.includes('someday')")
	eval[any](p, "document.querySelector('#e-review').select()")
	p.do(chromedp.KeyEvent("2031-05-06"), chromedp.Click(chromedp.CSS(".modal .btn-primary")))
	p.publish("looked through")
	p.until("!document.querySelector('.modal') && document.querySelector('[aria-labelledby=h-about]').innerText.includes('6 May 2031')")
	// Opening what they refuse waits for them; a letter is written, kept, and closes when they admit it.
	p.until("document.querySelector('[aria-label=\"spaces.in, ours\"]').closest('.opening').innerText.includes('shut')")
	p.do(chromedp.Focus(chromedp.CSS("[aria-label='spaces.in, ours']")), chromedp.KeyEvent("▲"))
	p.do(chromedp.Click(chromedp.CSS("[aria-label='Set ours: spaces.in']")))
	p.publish("the course needs it")
	p.until("document.querySelector('[aria-label=\"spaces.in, ours\"]').closest('.opening').innerText.includes('waits for them')")
	letters := "document.querySelector('[aria-labelledby=h-letter]').innerText"
	p.until(letters + ".includes('12 days without an answer')")
	p.do(chromedp.Click(chromedp.CSS("[aria-labelledby=h-letter] .btn-outline-primary")))
	p.until("document.querySelector('pre.letter')?.innerText.includes('Spaces, from you to us')")
	p.until("document.querySelector('[aria-labelledby=h-letter]').innerText.includes('Open on the same matter: oskelund-spring. This would be a second one.')")
	p.do(chromedp.Click(chromedp.CSS("[aria-labelledby=h-letter] .btn-primary")))
	p.until(letters + ".includes('In the outbox for ')")
	p.until(letters + ".includes('Kept as oskelund-2') && " + letters + ".includes('0 days without an answer')")
	p.do(chromedp.Click(chromedp.CSS("[aria-labelledby=h-letter] .letters .btn-link")))
	p.until("document.querySelector('.modal .letter')?.innerText.includes('Please quote: oskelund-spring')")
	p.axe("a kept letter")
	p.do(chromedp.Click(chromedp.CSS(".modal .btn-close")))
	p.do(chromedp.Focus(chromedp.CSS("[aria-label='spaces.in, theirs']")), chromedp.KeyEvent("△"))
	p.do(chromedp.Click(chromedp.CSS("[aria-label='Record theirs: spaces.in']")))
	p.until("document.querySelector('.modal')?.innerText.includes('It may close the letters')")
	p.axe("who said so")
	p.do(chromedp.SendKeys(chromedp.CSS("#said-by"), "the guest desk"), chromedp.Click(chromedp.CSS(".modal .btn-primary")))
	p.until(letters + ".includes('admitted after 12 days') && " + letters + ".includes('recorded, the guest desk')")

	// From a question that they refuse, and from one that they have not confirmed.
	p.goTo("/ask?who=person%3Ad.ekwinter&action=directory.invite&resource=space%3Alow-water-design&address=x%40pallowick.example",
		"document.querySelector('#h-theirs')?.innerText === 'Theirs is not known'")
	p.do(chromedp.Click(chromedp.CSS(".theirs-to-change button")))
	p.until("document.querySelector('pre.letter')?.innerText.includes('Dayo Ekwinter wanted to invite somebody')")
	p.axe("a letter from a question")

	// The statement: another key is told, accepted, and taken.
	p.goTo("/partners/ilvane", "document.querySelector('[aria-labelledby=h-statement]')?.innerText.includes('good until')")
	check(t, r.second.Roll())
	p.do(chromedp.Click(chromedp.CSS("[aria-labelledby=h-statement] .btn-outline-primary")))
	p.until("document.querySelector('[aria-labelledby=h-statement]').innerText.includes('▼ Not taken: it is signed with the key')")
	p.axe("a statement that is not taken")
	p.do(chromedp.Click(chromedp.CSS("[aria-labelledby=h-statement] .btn-outline-danger")))
	p.until("!document.querySelector('[aria-labelledby=h-statement]').innerText.includes('Not taken')")
	p.until("document.querySelectorAll('[aria-labelledby=h-people] tbody tr').length === 12")
	p.do(chromedp.SendKeys(chromedp.CSS("[aria-label='Find one of their people']"), "maren"))
	p.until("document.querySelectorAll('[aria-labelledby=h-people] tbody tr').length === 1")
	// A domain is taken away and left: whom it concerns is told first.
	p.do(chromedp.Click(chromedp.CSS("[aria-label='Remove lab.ilvane.example from Ilvane Conservation']")))
	p.until("document.querySelector('.weighed')?.innerText.includes('13 guests')")
	p.do(chromedp.Click(chromedp.CSS(".weighed .btn-link")))
	p.until("!document.querySelector('.weighed') && document.querySelectorAll('.domains li').length === 2")
	// Split, weighed first; then merged again.
	tool := func(word string) {
		eval[any](p, "[...document.querySelectorAll('.tools button')].find(b => b.innerText === '"+word+"').click()")
	}
	tool("Split")
	p.until("document.querySelector('#sp-name')")
	p.do(chromedp.Click(chromedp.CSS("[id='sp-lab.ilvane.example']")), chromedp.SendKeys(chromedp.CSS("#sp-name"), "Ilvane Laboratory"),
		chromedp.Click(chromedp.CSS(".modal .btn-primary")))
	p.until("document.querySelector('[data-testid=weighed]')?.innerText.includes('13 guests') && document.querySelector('[data-testid=weighed]').innerText.includes('They find nothing otherwise')")
	p.axe("a split, weighed")
	p.do(chromedp.Click(chromedp.CSS(".modal .btn-primary")))
	p.until("document.querySelector('h1').innerText === 'Ilvane Laboratory' && document.querySelector('.domains')?.innerText.includes('lab.ilvane.example and below')")
	tool("Merge")
	p.until("document.querySelector('.modal .combo input')")
	p.do(chromedp.SendKeys(chromedp.CSS(".modal .combo input"), "ilvane"), chromedp.Click(chromedp.CSS(".modal .modal-title")),
		chromedp.Click(chromedp.CSS(".modal .modal-footer button[type=submit]")))
	p.until("document.querySelector('[data-testid=weighed]')?.innerText.includes('13 guests')")
	p.do(chromedp.Click(chromedp.CSS(".modal .modal-footer .btn-danger")))
	p.until("document.querySelector('h1').innerText === 'Ilvane Conservation' && document.querySelector('.lead-line').innerText.includes('34 guests')")
}

// TestPartnerPatch changes one field of a partner that has every one of them, by the client, the API
// and the console: all others are what they were.
func TestPartnerPatch(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	r.must("partner", "set", "pallowick", "--also-named", "Pallowick Stands,The Studio", "--contact", "Rhona <r.larkmoor@pallowick.example>",
		"--owner", "d.ekwinter", "--review", "2027-03-01", "--note", "a note",
		"--statement", "https://collab.pallowick.example/.well-known/wexillum-statement", "--sign-in", "https://in.pallowick.example",
		"--sign-in-client", "museum", "--sign-in-unverified", "--why", "all of it", "--yes")
	fields := func() map[string]any {
		var x map[string]any
		check(t, json.Unmarshal([]byte(r.must("partner", "show", "pallowick", "-o", "json")), &x))
		for _, k := range []string{"etag", "counts", "concerns"} {
			delete(x, k)
		}
		return x
	}
	before := fields()
	for _, k := range []string{"also_named", "contacts", "owner", "review", "note", "statement", "sign_in", "sign_in_client",
		"sign_in_unverified", "opened", "rules", "domains"} {
		if before[k] == nil {
			t.Fatalf("%s is not there to be lost: %v", k, before)
		}
	}
	same := func(what string, otherwise map[string]any) {
		t.Helper()
		now := fields()
		for k, v := range otherwise {
			if fmt.Sprint(now[k]) != fmt.Sprint(v) {
				t.Errorf("%s: %s is %v, and was to be %v", what, k, now[k], v)
			}
		}
		for k := range before {
			if _, meant := otherwise[k]; !meant && fmt.Sprint(now[k]) != fmt.Sprint(before[k]) {
				t.Errorf("%s: %s was %v and is %v", what, k, before[k], now[k])
			}
		}
		before = now
	}
	r.must("partner", "set", "pallowick", "--note", "another note", "--why", "x", "--yes")
	same("the client", map[string]any{"note": "another note"})
	opened := before["opened"].(map[string]any)
	opened["mail.out"] = true
	r.must("partner", "open", "pallowick", "mail.out", "--why", "x", "--yes")
	same("an opening", map[string]any{"opened": opened})
	delete(opened, "mail.out")
	r.must("partner", "unset", "pallowick", "mail.out", "--why", "x", "--yes")
	same("an opening taken back", map[string]any{"opened": opened})
	token := r.token("harbour")
	if status, _, body := r.call("PATCH", "/api/v1/partners/pallowick", token, `{"note":null,"why":"x"}`, "Content-Type",
		"application/merge-patch+json"); status != 200 {
		t.Fatalf("%d %s", status, body)
	}
	same("the API", map[string]any{"note": nil})
	if status, _, body := r.call("PATCH", "/api/v1/partners/pallowick", token, `{"rules":{"spaces.pages":null},"why":"x"}`); status != 200 {
		t.Fatalf("%d %s", status, body)
	}
	rules := before["rules"].(map[string]any)
	delete(rules, "spaces.pages")
	same("one rule", map[string]any{"rules": rules})
	if status, _, body := r.call("PATCH", "/api/v1/partners/pallowick", token, `{"rules":null,"why":"x"}`); status != 200 {
		t.Fatalf("%d %s", status, body)
	}
	same("all rules", map[string]any{"rules": map[string]any{}})
	p := r.page(browser(t), "harbour")
	p.goTo("/partners/pallowick", `document.querySelector("h1")`)
	p.presses("main", "Change")
	p.until(`document.querySelector("#e-note")`)
	p.fill("#e-note", "from the console")
	p.do(chromedp.Click(chromedp.CSS(".modal button[type=submit]")))
	p.publish("a note from the console")
	p.until(`document.body.innerText.includes("from the console") && !document.querySelector(".modal")`)
	same("the console", map[string]any{"note": "from the console"})
}
