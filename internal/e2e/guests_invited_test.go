package e2e

import (
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// TestMemberInvites lets a member invite, extend and answer for their own guests in their
// own part of the console, and nobody else's.
func TestMemberInvites(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	p := r.page(browser(t), "rigger")
	p.goTo("/mine", "document.querySelectorAll('.guests tbody tr').length > 3")
	if got := eval[string](p,
		"[...document.querySelectorAll('.guests tbody tr td:nth-of-type(3)')].map(x => x.innerText.split('\\n')[0]).filter(x => x !== 'Dayo Ekwinter').join()"); got != "" {
		t.Errorf("guests of others: %s", got)
	}
	token := r.token("rigger")
	if status, _, body := r.call("GET", "/api/v1/guests/hester.vexley@tholemere.example", token, ""); status != 404 {
		t.Errorf("%d %s", status, body)
	}
	status, _, body := r.call("POST", "/api/v1/invitations", token,
		`{"list":"n.fossen@pallowick.example","into":"space:low-water-design","role":"view","purpose":"the loan"}`)
	var x struct {
		Counts map[string]int
		As     string
	}
	if status != 200 || json.Unmarshal([]byte(body), &x) != nil || x.Counts["invited"] != 1 || x.As != "d.ekwinter" {
		t.Errorf("%d %s", status, body)
	}
	if status, _, body := r.call("POST", "/api/v1/invitations", token,
		`{"list":"n.fossen@ilvane.example","into":"space:loan-dossier","purpose":"x","as":"t.wrayburn"}`); status != 400 ||
		!strings.Contains(body, "members invite as themselves") {
		t.Errorf("%d %s", status, body)
	}
}

// TestWhatIf tells how the dates of a guest move if something were done, and does nothing.
func TestWhatIf(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	token := r.token("lantern")
	before := r.svc.State().Head
	ask := func(do, more string) (was, will string) {
		t.Helper()
		status, _, body := r.call("POST", "/api/v1/due/supposing", token, `{"address":"hester.vexley@tholemere.example","do":"`+do+`"`+more+`}`)
		var x struct {
			Was, Will []struct{ At, Kind, Cause string }
		}
		if status != 200 || json.Unmarshal([]byte(body), &x) != nil {
			t.Fatalf("%s: %d %s", do, status, body)
		}
		tell := func(steps []struct{ At, Kind, Cause string }) (out string) {
			for _, s := range steps {
				out += s.At[:10] + " " + s.Kind + " " + s.Cause + "; "
			}
			return
		}
		return tell(x.Was), tell(x.Will)
	}
	today := time.Now().UTC().Format("2006-01-02")
	far := time.Now().AddDate(0, 0, 60).Format("2006-01-02")
	was, will := ask("extend", `,"until":"`+far+`","grants":true`)
	if was == will || strings.Contains(will, "after_last_grant") && strings.Index(will, was[:10]) == 0 {
		t.Errorf("extended: %s\nwas %s", will, was)
	}
	if was, will := ask("suspend_partner", ""); was != will {
		t.Errorf("a suspended partner moves dates: %s\nwas %s", will, was)
	}
	if _, will := ask("end_partner", ""); !strings.HasPrefix(will, today+" suspended partner_ended; ") {
		t.Errorf("the partner ended: %s", will)
	}
	if _, will := ask("end_grant", `,"resource":"folder:loan-valuations"`); !strings.HasPrefix(will,
		today+" grant_ends until; "+today+" suspended after_last_grant; ") {
		t.Errorf("the grant ended: %s", will)
	}
	if _, will := ask("suspend", ""); strings.Contains(will, "suspended") || !strings.Contains(will, "removed grace") {
		t.Errorf("suspended: %s", will)
	}
	if r.svc.State().Head != before {
		t.Error("asking changed something")
	}
	// A changed rule, as a draft would have it.
	r.login("harbour")
	r.must("draft", "new", "Shorter")
	r.must("rules", "set", "guests.idle_days", "--default", "25", "--draft", "Shorter")
	live, short := r.must("due", "hester.vexley@tholemere.example", "--within", "90d", "-o", "csv"),
		r.must("due", "hester.vexley@tholemere.example", "--within", "90d", "-o", "csv", "--draft", "Shorter")
	if live == short || !strings.Contains(short, "not seen for too long") || strings.Contains(live, "not seen for too long") {
		t.Errorf("%s\n%s", live, short)
	}
}

// TestNewcomer gives a folder to an address that nobody invited, and lets it in at the door:
// proving the mailbox makes the record.
func TestNewcomer(t *testing.T) {
	r := demoService(t)
	p := r.post()
	_, err := r.svc.SendWaiting(t.Context(), p.send)
	check(t, err)
	r.login("harbour")
	r.says(0, "Whom it names can open it.", "link", "make", "folder:condition-reports", "visitor.new@ilvane.example", "--until", "+20d")
	r.says(1, "there is no record of visitor.new@ilvane.example", "guest", "show", "visitor.new@ilvane.example")
	pg := r.page(browser(t), "mooring") // whoever sits there
	pg.do(chromedp.EmulateViewport(390, 844))
	pg.do(chromedp.Navigate(r.url+"/door"), chromedp.WaitVisible(chromedp.CSS("#door-address")))
	pg.until("document.querySelector('.sill header').innerText === 'Brackwater Museum of Navigation'")
	pg.do(chromedp.SendKeys(chromedp.CSS("#door-address"), "visitor.new@ilvane.example"),
		chromedp.Click(chromedp.CSS(".sill button[type=submit]")), chromedp.WaitVisible(chromedp.CSS("#door-code")))
	pg.do(chromedp.SendKeys(chromedp.CSS("#door-code"), codeIn.FindString(p.next("visitor.new@ilvane.example").Text)),
		chromedp.Click(chromedp.CSS(".sill button[type=submit]")))
	pg.until("document.querySelector('#own-agree') && document.querySelector('h1').innerText === 'Before you begin' && document.querySelector('.own-places').innerText.includes('Condition reports')")
	pg.axe("a newcomer before the terms")
	pg.do(chromedp.SendKeys(chromedp.CSS("#own-name"), "Vera Newcombe"), chromedp.Click(chromedp.CSS("#own-agree")),
		chromedp.Click(chromedp.CSS(".sill form button[type=submit]")))
	pg.until("document.querySelector('h1').innerText === 'Hello Vera Newcombe'")
	out := r.must("guest", "show", "visitor.new@ilvane.example")
	for _, want := range []string{"Vera Newcombe", "came by   shared", "sponsor   Soren Lindqvane",
		"opens folder:condition-reports to view until"} {
		if !strings.Contains(out, want) {
			t.Errorf("the record lacks %q: %s", want, out)
		}
	}
}

// TestListsInTheConsole takes a list in whose columns have other names: what is wrong is told
// by line and column and nothing is taken; then all of it is.
func TestListsInTheConsole(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	pg := r.page(browser(t), "mooring")
	pg.goTo("/guests", "document.querySelector('a[href=\"/lists\"]')")
	pg.do(chromedp.Click(chromedp.CSS("a[href='/lists']")), chromedp.WaitVisible(chromedp.CSS("#list-text")))
	look := ".invite-do .btn[type=submit]"
	pg.do(chromedp.SendKeys(chromedp.CSS("#list-text"),
		"mail,\"called, in full\",until,room\nn.one@ilvane.example,Nils One,+90d,12\nbroken@@x,Q,2026-13-40,3\n"))
	pg.until("document.querySelector('.gets-no')?.innerText.includes('No column of it is address')")
	choose(pg, "#map-mail", "address")
	choose(pg, "[id='map-called, in full']", "name")
	pg.do(chromedp.Click(chromedp.CSS(look)))
	pg.until("document.querySelectorAll('[data-testid=taken] tbody tr').length === 2")
	pg.axe("a list with what is wrong")
	told := eval[string](pg,
		"[...document.querySelectorAll('[data-testid=taken] tbody tr')].map(r => [...r.cells].slice(0, 3).map(c => c.innerText).join(' ')).join('; ') + ' | ' + document.querySelector('[data-testid=taken] p').innerText")
	if want := "3 address broken@@x; 3 until 2026-13-40 | 2 lines: 1 added, 0 changed, 0 as it is. 2 wrong: nothing is taken in until none is. Left out: room."; told != want {
		t.Errorf("%s\nwant %s", told, want)
	}
	r.says(1, "there is no record", "guest", "show", "n.one@ilvane.example")
	pg.until(`(() => { const e = document.querySelector("#list-text"); Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, "value").set.call(e, e.value.split("\n").slice(0, 2).join("\n")); e.dispatchEvent(new Event("input", {bubbles: true})); return !document.querySelector("[data-testid=taken]") })()`)
	pg.do(chromedp.Click(chromedp.CSS(look)))
	press(pg, "Take it in")
	pg.until("document.querySelector('[data-testid=taken]')?.innerText.includes('Taken in.')")
	r.says(0, "Nils One", "guest", "show", "n.one@ilvane.example")
}

// TestSuccession lets a sponsor leave: what they answer for is counted, a successor is asked,
// hears of it by mail and takes over on the page that waits for them; the client tells the same.
func TestSuccession(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	p := r.post()
	r.login("harbour")
	r.says(0, "Nothing is offered.", "guest", "offers")
	admin := r.page(browser(t), "harbour")
	admin.goTo("/people/d.ekwinter", "document.querySelector('.page-head')")
	press(admin, "Leaves us")
	admin.until("document.querySelector('.modal [role=status]')?.innerText.includes('15 guests')")
	admin.axe("a person who leaves")
	admin.do(chromedp.SendKeys(chromedp.CSS(".modal [role=combobox]"), "s.lindqvane"),
		chromedp.SendKeys(chromedp.CSS("#leaves-reason"), "a new post"))
	press(admin, "Note it, and ask")
	admin.until("!document.querySelector('.modal') && document.querySelector('.page-head').innerText.includes('Left us with')")
	if m := p.next("s.lindqvane@brackwater.example"); m.Subject != "Dayo Ekwinter leaves: will you answer for their guests?" ||
		!strings.Contains(m.Text, "15 guests, ") {
		t.Errorf("%s\n%s", m.Subject, m.Text)
	}
	if out := r.must("guest", "list", "--needs", "sponsor", "-o", "csv"); strings.Count(out, ",d.ekwinter,") != 15 {
		t.Errorf("whose sponsor left: %s", out)
	}
	offers := r.must("guest", "offers", "-o", "csv")
	id, _, _ := strings.Cut(strings.Split(offers, "\n")[1], ",")
	r.says(2, "say --accept or --decline", "guest", "offers", id)
	next := r.page(browser(t), "mooring")
	next.goTo("/", "document.querySelector('[aria-label=\"Guests of d.ekwinter\"]')")
	press(next, "Take over")
	next.until("!document.querySelector('[aria-label=\"Guests of d.ekwinter\"]')")
	if out := r.must("guest", "list", "--sponsor", "d.ekwinter", "-o", "csv"); strings.Count(out, "\n") != 1 {
		t.Errorf("still answered for by who left: %s", out)
	}
	r.says(1, "the offer is accepted already", "guest", "offers", id, "--decline")
	r.must("guest", "sponsor-leaves", "s.lindqvane", "--at", "+30d", "--successor", "t.wrayburn", "--reason", "a new post")
	offers = r.must("guest", "offers", "-o", "csv")
	id, _, _ = strings.Cut(strings.Split(offers, "\n")[1], ",")
	r.says(0, "t.wrayburn answers for", "guest", "offers", id, "--accept")
}

// TestInviteFile tells what becomes of each line of a file by its number there, and ends with
// the status of what was done.
func TestInviteFile(t *testing.T) {
	r := demoService(t)
	r.login("mooring")
	file := filepath.Join(t.TempDir(), "volunteers.txt")
	check(t, os.WriteFile(file, []byte("# volunteers\nNilda Fossen <n.fossen@ilvane.example>\nnobody@@x, maren.holtveig@ilvane.example\n"),
		0o600))
	out := r.must("guest", "invite", "--list", file, "k.vane@ilvane.example", "--into", "space:loan-dossier", "--purpose", "the loan", "-o",
		"csv")
	var got []string
	rows, err := csv.NewReader(strings.NewReader(out)).ReadAll()
	check(t, err)
	for _, row := range rows {
		got = append(got, strings.Join(row[:3], " "))
	}
	if want := "line address outcome; 2 n.fossen@ilvane.example invited; 3 nobody@@x malformed; 3 maren.holtveig@ilvane.example already; 5 k.vane@ilvane.example invited"; strings.Join(got,
		"; ") != want {
		t.Errorf("%s\nwant %s", strings.Join(got, "; "), want)
	}
	r.says(3, "1 already", "guest", "invite", "n.fossen@ilvane.example", "--into", "space:loan-dossier", "--purpose", "the loan")
}
