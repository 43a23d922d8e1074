package e2e

import (
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

const volunteers = `# volunteers for the handbook
Ella Brook <ella@homepost.example>, Tom <tom@parlourmail.example>
hester.jennaway@homepost.example
ella@HOMEPOST.example
new@ilvane.example; x@iivane.example
x@marrowby.example
nobody-here
d.ekwinter@brackwater.example
h.brannoch@oskelund.example
stranger@unlisted.example
`

// TestCheckFromTheClient tells of every address what stands in the way, the same
// with a service and on a file alone.
func TestCheckFromTheClient(t *testing.T) {
	r := demoService(t)
	r.login("lantern")
	dir := t.TempDir()
	list, world := filepath.Join(dir, "list.txt"), filepath.Join(dir, "world.yaml")
	check(t, os.WriteFile(list, []byte(volunteers), 0o600))
	check(t, os.WriteFile(world, []byte(r.must("dump")), 0o600))
	out := r.says(3,
		"11 addresses into space:volunteers-handbook, invited by j.penhallow: 3 yes, 4 no, 1 already, 1 duplicate, 1 own, 1 malformed.", "check",
		list, "--into", "space:volunteers-handbook")
	for _, want := range []string{"It stands in line 2 already.", "A member already, with the role view.", "barred_domain not_listed",
		"not_opened theirs_refuses", "ours theirs", "there is no @", "Bring the partner Marrowby Freight back"} {
		if !strings.Contains(out, want) {
			t.Errorf("it lacks %q:\n%s", want, out)
		}
	}
	if again := r.says(3, "11 addresses", "check", list, "--into", "space:volunteers-handbook", "--world", world); again != out {
		t.Errorf("the file says\n%s\nthe service\n%s", again, out)
	}
	got := r.says(3, "", "check", list, "--into", "space:volunteers-handbook", "-o", "csv")
	rows, err := csv.NewReader(strings.NewReader(got)).ReadAll()
	if err != nil || len(rows) != 12 || rows[1][1] != "yes" || rows[1][8] != "Ella Brook <ella@homepost.example>" {
		t.Errorf("%v %v", err, rows)
	}
	// A column of a CSV file; what makes no sense is wrong use.
	table := filepath.Join(dir, "list.csv")
	check(t, os.WriteFile(table, []byte("\ufeffname,Mail\r\n\"Brook, Ella\",ella@homepost.example\r\n,\r\nNew,new@ilvane.example\r\n"), 0o600))
	r.says(0, "2 addresses", "check", table, "--column", "mail", "--into", "space:volunteers-handbook")
	r.says(2, "the columns are name, Mail", "check", table, "--column", "address", "--into", "space:volunteers-handbook")
	r.says(2, "there is no such space", "check", list, "--into", "space:none")
	r.says(2, "there is no such person", "check", list, "--as", "nobody")
	r.says(1, "no such file", "check", filepath.Join(dir, "none.txt"))
	check(t, os.WriteFile(list, nil, 0o600))
	r.says(1, "the list is empty", "check", list)
	// A member checks for own spaces, as themselves.
	m := r.token("rigger")
	if status, _, text := r.call("POST", "/api/v1/check?into=space:low-water-design", m, "x@pallowick.example"); status != 200 ||
		!strings.Contains(text, `"as":"d.ekwinter"`) {
		t.Errorf("%d %s", status, text)
	}
	for _, q := range []string{"into=space:loan-dossier", "into=space:low-water-design&as=o.tidewell"} {
		if status, _, text := r.call("POST", "/api/v1/check?"+q, m, "x@pallowick.example"); status != 403 {
			t.Errorf("%s: %d %s", q, status, text)
		}
	}
}

// TestCheckRefusedKeepsTheConnection: a list that is refused while it is still being sent leaves
// nothing behind that reads the next request on its connection.
func TestCheckRefusedKeepsTheConnection(t *testing.T) {
	r := demoService(t)
	token := r.token("lantern")
	list := "name,mail\n" + strings.Repeat("New,new@ilvane.example\n", 400)
	for range 300 {
		if status, _, text := r.call("POST", "/api/v1/check?column=address", token, list); status != 400 ||
			!strings.Contains(text, "the columns are name, mail") {
			t.Fatalf("%d %s", status, text)
		}
		if status, _, text := r.call("POST", "/api/v1/check?into=space:none", token, list); status != 400 ||
			!strings.Contains(text, "there is no such space") {
			t.Fatalf("%d %s", status, text)
		}
	}
}

// TestCheckLong streams a list far longer than any buffer.
func TestCheckLong(t *testing.T) {
	r := demoService(t)
	r.login("lantern")
	var b strings.Builder
	const n = 60000
	for i := range n {
		fmt.Fprintf(&b, "person%d@ilvane.example\n", i%(n-10))
	}
	file := filepath.Join(t.TempDir(), "long.txt")
	check(t, os.WriteFile(file, []byte(b.String()), 0o600))
	out := r.says(0, "60000 addresses into space:loan-dossier, invited by s.lindqvane: 59990 yes, 10 duplicate.", "check", file, "--into",
		"space:loan-dossier")
	if !strings.Contains(out, "… and 59500 more; -o csv prints all of them.") {
		t.Errorf("%.300s", out)
	}
}

// TestConsoleCheck pastes a list, reads what was found, and narrows it down.
func TestConsoleCheck(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	p := r.page(browser(t), "harbour")
	p.goTo("/check", "document.querySelector('#c-list')")
	p.axe("an empty check")
	p.do(chromedp.SendKeys(chromedp.CSS(".plain-combo input"), "space:volunteers-handbook"))
	eval[any](p,
		"(() => { const s = document.querySelector('#c-list'); Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, 'value').set.call(s, "+quote(volunteers)+"); s.dispatchEvent(new Event('input', {bubbles: true})) })()")
	p.until("document.querySelector('.plain-combo [role=listbox]').hidden")
	eval[any](p, "document.querySelector('.check-side > button[type=submit]').click()") // suggestions may come late, and lie over it
	p.until("document.querySelector('[data-testid=checked]')")
	if text := p.text("[data-testid=checked]"); !strings.Contains(text,
		"11 addresses into space:volunteers-handbook, invited by j.penhallow") ||
		!strings.Contains(text, "Oskelund University refuses directory.in") && !strings.Contains(text, "refuses spaces.in on its own side") {
		t.Error(text)
	}
	p.axe("a checked list")
	eval[any](p, "[...document.querySelectorAll('.account')].find(b => b.innerText.startsWith('not opened')).click()")
	p.until("document.querySelectorAll('.listing tbody tr').length === 1")
	if text := p.text(".listing tbody"); !strings.Contains(text, "h.brannoch@oskelund.example") || !strings.Contains(text, "theirs") {
		t.Error(text)
	}
	p.do(chromedp.EmulateViewport(390, 800))
	p.axe("a checked list on a phone")
	if over := eval[int](p, "document.documentElement.scrollWidth - window.innerWidth"); over > 0 {
		t.Errorf("%d pixels wider than the window", over)
	}
}
