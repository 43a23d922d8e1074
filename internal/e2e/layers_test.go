package e2e

import (
	"database/sql"
	"encoding/json"
	"net/url"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// TestWorkedExample1 walks the life of a value that is held back: refused at
// entry, taken, held back by a lowered limit, still held when it is raised, and
// released.
func TestWorkedExample1(t *testing.T) {
	r := demoService(t)
	r.login("harbour")
	link := []string{"ask", "link:crate-list-link", "files.open", "file:crate-list"}
	r.says(0, "YES", link...)
	r.says(0, "", "rules", "set", "files.bearer_links", "--limit", "off", "--default", "off", "--why", "an incident")
	r.says(3, "“Links for whoever holds them” is set to off; this needs on", link...)
	out := r.says(0, "held back", "rules", "show", "files.bearer_links")
	if !strings.Contains(out, "limit    off") {
		t.Error(out)
	}
	r.says(1, `value "on": files.bearer_links: it is looser than the limit, off, which an administrator can raise`, "rules", "set",
		"files.bearer_links", "--space", "low-water-design", "--value", "on")
	r.says(0, "held back", "rules", "set", "files.bearer_links", "--space", "low-water-design", "--value", "on", "--held")
	r.says(0, "held_back", "finding", "list", "--about", "space:low-water-design")
	r.says(0, "", "rules", "set", "files.bearer_links", "--limit", "on", "--why", "over")
	r.says(3, "“Links for whoever holds them” is set to off", link...) // still held back
	r.says(0, "the limit allows it again", "finding", "list", "--kind", "held_back")
	where := "--item"
	if out := r.must("rules", "show", "files.bearer_links"); !strings.Contains(out, "crate-list") {
		where = "--space"
	}
	at := map[string]string{"--item": "file:crate-list", "--space": "crate-logistics"}[where]
	r.says(0, "on", "rules", "set", "files.bearer_links", where, at, "--value", "on", "--why", "released")
	r.says(0, "YES", link...)
	r.says(0, "released", "journal", "--limit", "1")
	r.says(0, "", "rules", "unset", "files.bearer_links", where, at)
	r.says(3, "“Links for whoever holds them” is set to off", link...)
	r.says(1, "says nothing of files.bearer_links", "rules", "unset", "files.bearer_links", where, at)
	// A layer that may not set the rule says which may.
	r.says(1, `rule "chat.guests": it cannot be set at file:crate-list; it may be set at: partner, space`, "rules", "set", "chat.guests",
		"--item", "file:crate-list", "--value", "on")
	r.says(1, "there is no such space", "rules", "set", "chat.guests", "--space", "none", "--value", "on")
	r.says(2, "there is one value: give --value", "rules", "set", "chat.guests", "--space", "crate-logistics", "--limit", "on")
	r.says(2, "--value belongs to a place", "rules", "set", "chat.guests", "--value", "on")
	// At a partner, for its people alone.
	r.says(3, "no", "ask", "maren.holtveig@ilvane.example", "chat.delete_own", "channel:loan-general")
	r.says(0, "chat.guest_delete", "rules", "set", "chat.guest_delete", "--partner", "ilvane", "--value", "on")
	r.says(0, "YES", "ask", "maren.holtveig@ilvane.example", "chat.delete_own", "channel:loan-general")
	// What can be chosen, and who can raise what stands against it.
	r.says(0, "limit says subject; administrator can raise it", "rules", "choices", "mail.calendar", "--partner", "ilvane")
	r.says(0, "partner ilvane says busy; administrator can raise it", "rules", "choices", "mail.calendar", "--person", "d.ekwinter",
		"--towards", "*@ilvane.example")
	r.says(1, "cannot be set for people", "rules", "choices", "chat.guests", "--person", "d.ekwinter")
}

// TestExceptions makes, prolongs and ends exceptions, one by one and by a list.
func TestExceptions(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	q := []string{"ask", "x@unlisted.example", "chat.message", "person:n.gravenor"}
	r.says(3, "Chat with other organisations", q...)
	r.says(0, "in force", "exception", "add", "knots", "--person", "n.gravenor", "--set", "chat.federation=any", "--until", "+3d", "--reason",
		"a question about knots")
	r.says(0, "YES", q...)
	r.says(3, "", append(q, "--at", "+4d")...)
	r.says(0, "partner:ilvane", "exception", "change", "knots", "--towards", "partner:ilvane", "--set", "chat.calls=off")
	r.says(3, "Chat with other organisations", q...)
	r.says(0, "domain:unlisted.example", "exception", "change", "knots", "--towards", "domain:unlisted.example", "--unset", "chat.calls")
	r.says(0, "YES", q...)
	r.says(2, "does not set it", "exception", "change", "knots", "--unset", "chat.calls")
	r.says(1, `there is an exception "knots" already`, "exception", "add", "knots", "--person", "n.gravenor", "--set", "chat.federation=any")
	r.says(1, "moves the end further away", "exception", "prolong", "knots", "--until", "+1d")
	r.says(0, "in force", "exception", "prolong", "knots", "--until", "+10d", "--why", "more knots")
	r.says(0, "YES", append(q, "--at", "+4d")...)
	r.says(0, "knots has ended", "exception", "end", "knots")
	r.says(3, "", q...)
	r.says(1, "is over already", "exception", "end", "knots")
	r.says(0, "over", "exception", "show", "knots")
	// One that changes nothing says so, and goes with what makes it so.
	r.says(0, "in force, changes nothing", "exception", "list", "--state", "in_force")
	r.says(0, "exception_without_effect", "finding", "list", "--about", "exception:press-chat")
	r.says(0, "", "rules", "set", "chat.federation", "--default", "closed")
	if out := r.must("finding", "list", "--kind", "exception_without_effect", "-o", "csv"); strings.Contains(out, "press-chat") {
		t.Errorf("the finding stays:\n%s", out)
	}
	// Bad ones name the field.
	r.says(1, "there is no such rule; do you mean", "exception", "add", "bad", "--person", "n.gravenor", "--set", "chat.fed=any")
	r.says(1, "name people or groups", "exception", "add", "bad", "--set", "chat.federation=any")
	r.says(1, "looser than the limit", "exception", "add", "bad", "--person", "n.gravenor", "--set", "mail.calendar=full")
	r.says(2, "--set rule=value is needed", "exception", "add", "bad", "--person", "n.gravenor")
	// Many at once.
	file := filepath.Join(t.TempDir(), "list.csv")
	list := "id,people,parties,rules,until,reason\r\nqa,n.gravenor,,chat.federation=any,+5d,first\r\nqb,nobody.here,,chat.federation=any,+5d,second\r\nqc,d.ekwinter,partner:orrin,meetings.present=on;meetings.early=on,+5d,\"third, quoted\"\r\nqa,d.ekwinter,,chat.federation=any,,twice\r\n"
	check(t, os.WriteFile(file, []byte(list), 0o600))
	out := r.says(0, "A preview; nothing was written.", "exception", "import", file, "--preview")
	for _, want := range []string{"2     qa  made", "3     qb  refused", "nobody.here", "4     qc  made", "5     qa  refused",
		"line 2 has this id already"} {
		if !strings.Contains(out, want) {
			t.Errorf("the preview lacks %q:\n%s", want, out)
		}
	}
	r.says(1, "Nothing was written: mend the lines", "exception", "import", file)
	if out := r.must("exception", "list", "-o", "csv"); strings.Contains(out, "qa,") {
		t.Error("something was written")
	}
	r.says(0, "qc  made", "exception", "import", file, "--only-good", "--why", "the fair")
	r.says(0, "meetings.early=on; meetings.present=on", "exception", "list", "--person", "d.ekwinter")
	r.says(0, "qa  unchanged", "exception", "import", file, "--only-good", "--preview")
	check(t, os.WriteFile(file, []byte("id,rule\n"), 0o600))
	r.says(1, `column "rule": the columns are`, "exception", "import", file)
	r.login("mooring")
	r.says(1, "may not", "exception", "end", "qa")
}

// TestHalves: recording what their side says changes whose turn it is, and answers.
func TestHalves(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	r.says(0, "oskelund  spaces.in     unset  refuses  shut", "partner", "halves", "oskelund")
	r.must("partner", "open", "oskelund", "spaces.in")
	r.says(0, "waits for them", "partner", "halves", "oskelund", "--show", "their-turn")
	r.says(0, "Spaces, from you to us", "partner", "sheet", "oskelund")
	r.says(0, "<h1>To the administrator of Oskelund University</h1>", "partner", "sheet", "oskelund", "--form", "html")
	p := r.page(browser(t), "harbour")
	p.goTo("/partners/oskelund", "document.querySelector('.openings')")
	p.do(chromedp.Click(chromedp.CSS("[aria-labelledby=h-letter] .btn-outline-primary")))
	p.until("document.querySelector('.letter')?.innerText.includes('Spaces, from you to us')")
	p.axe("a letter")
	p.do(chromedp.Focus(chromedp.CSS("[aria-label='mail.out, theirs']")), chromedp.KeyEvent("▽"))
	p.do(chromedp.Click(chromedp.CSS("[aria-label='Record theirs: mail.out']")))
	p.do(chromedp.SendKeys(chromedp.CSS("#said-by"), "their desk"), chromedp.Click(chromedp.CSS(".modal .btn-primary")))
	p.until("document.querySelector('[aria-label=\"mail.out, theirs\"]').value === 'refuses' && !document.querySelector('[aria-label=\"Record theirs: mail.out\"]')")
	q := []string{"ask", "person:j.penhallow", "directory.invite", "space:docent-course", "--context", "address=h.brannoch@oskelund.example"}
	r.says(3, "Oskelund University refuses spaces.in on its own side", q...)
	r.says(0, "spaces.in     opened      admits", "partner", "stance", "oskelund", "spaces.in", "admits", "--said-by", "their administrator",
		"--why", "their administrator wrote today")
	r.says(0, "YES", q...)
	r.says(0, "their administrator wrote today", "journal", "--kind", "stance", "--limit", "1")
	if out := r.must("partner", "halves", "oskelund", "--show", "mismatch"); strings.Contains(out, "spaces.in") {
		t.Error(out)
	}
	r.must("partner", "stance", "oskelund", "spaces.in", "admits", "--said-by", "their desk", "--as-of", "-200d")
	r.says(0, "unknown (admitted too long ago)", "partner", "halves", "oskelund", "--show", "unconfirmed")
	r.says(0, "counterpart_unconfirmed", q...)
}

// TestFindingsAccepted accepts a finding with a reason and an end, and takes it back.
// TestFindingsPast keeps when findings came and went, tells others, and finds what has been so for long or comes back again and again.
func TestFindingsPast(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	keep := func() {
		t.Helper()
		list, err := r.svc.Findings(t.Context())
		check(t, err)
		check(t, r.svc.KeepNoticed(t.Context(), list))
		check(t, r.svc.KeepNoticed(t.Context(), list)) // twice is once
	}
	keep()
	head := r.svc.State().Head.Seq
	r.says(0, "Nothing was noticed", "finding", "list", "--state", "gone")
	r.must("forwarder", "remove", "o.tidewell", "odile@homepost.example", "--why", "she has left it")
	r.must("partner", "set", "orrin", "--owner", "", "--why", "nobody looks after them now", "--yes")
	keep()
	out := r.must("finding", "list", "--state", "gone")
	if !strings.Contains(out, "forwarder_not_allowed") || !strings.Contains(out, "from 20") || strings.Contains(out, "partner_without_owner") {
		t.Errorf("gone is %s", out)
	}
	if out := r.must("finding", "list", "--kind", "partner_without_owner", "-o", "json"); strings.Count(out, `"since"`) != strings.Count(out,
		`"kind"`) || !strings.Contains(out, "partner:orrin") {
		t.Errorf("open is %s", out)
	}
	entries, _, err := r.svc.EventsAfter(t.Context(), head)
	check(t, err)
	said := map[string]string{}
	for _, e := range entries {
		if e.Topic == "finding" {
			said[e.Of] = e.What
		}
	}
	if len(said) < 2 || said["partner_without_owner partner:orrin"] != "added" {
		t.Errorf("told was %v", said)
	}
	for of, what := range said {
		if strings.HasPrefix(of, "forwarder_not_allowed") && what != "removed" {
			t.Errorf("%s was %s", of, what)
		}
	}
	if verified := r.must("journal", "verify"); !strings.Contains(verified, "as they were written") {
		t.Error(verified)
	}

	r.says(0, "noticed: Nobody of ours answers for ", "journal", "--kind", "noticed")
	r.says(0, "no longer: Forwarding from o.tidewell to odile@homepost.example", "journal", "--kind", "noticed")

	// What was kept long ago, and what came often.
	db, err := sql.Open("mysql", r.dsn)
	check(t, err)
	defer db.Close()
	ago := func(days int) int64 { return time.Now().AddDate(0, 0, -days).UnixMicro() }
	exec := func(q string, args ...any) {
		t.Helper()
		_, err := db.Exec(q, args...)
		check(t, err)
	}
	exec("UPDATE noticed SET came = ? WHERE kind = 'limit_loose'", ago(91))
	if out := r.must("finding", "list", "--kind", "limit_loose_long"); !strings.Contains(out, "That has been so since") {
		t.Errorf("loose for long is %s", out)
	}
	for _, days := range []int{80, 40, 2} {
		exec("INSERT INTO noticed (id, finding, kind, about, cause, came, gone) VALUES (SHA2('system_changed parley houses', 256), 'system_changed parley houses', 'system_changed', '[\"system:parley\"]', 'x', ?, ?)",
			ago(days), ago(days-1))
		if out := r.must("finding", "list", "--kind", "system_changed_again"); strings.Contains(out, "3 times") != (days == 2) {
			t.Errorf("changed %d days ago: %s", days, out)
		}
	}
}

func TestFindingsAccepted(t *testing.T) {
	r := demoService(t)
	r.login("harbour")
	id := []string{"forwarder_not_allowed", "mailbox:o.tidewell", "odile@homepost.example"}
	r.says(0, "o.tidewell", "finding", "list", "--kind", "forwarder_not_allowed")
	r.says(2, "--reason and --until are needed", append([]string{"finding", "accept"}, id...)...)
	r.says(1, "an acceptance has an end", append(append([]string{"finding", "accept"}, id...), "--reason", "x", "--until", "-1d")...)
	r.says(1, "there is no such finding", "finding", "accept", "forwarder_leaves", "x", "--reason", "x", "--until", "+1d")
	r.says(0, "Accepted.", append(append([]string{"finding", "accept"}, id...), "--reason", "she knows", "--until", "+30d")...)
	if out := r.must("finding", "list", "--kind", "forwarder_not_allowed"); strings.Contains(out, "o.tidewell") ||
		!strings.Contains(out, "p.ashdock") {
		t.Error(out)
	}
	r.says(0, "accepted until", "finding", "list", "--state", "accepted")
	r.says(0, "she knows", "journal", "--limit", "1")
	r.says(0, "Open again.", append([]string{"finding", "reopen"}, id...)...)
	r.says(1, "is not accepted", append([]string{"finding", "reopen"}, id...)...)
	// It goes by itself when it is mended.
	r.says(0, "is not forwarded", "forwarder", "remove", "o.tidewell", "odile@homepost.example", "--why", "bounces")
	if out := r.must("finding", "list", "--kind", "forwarder_not_allowed"); strings.Contains(out, "o.tidewell") {
		t.Error(out)
	}
	r.says(1, "is not forwarded to", "forwarder", "remove", "o.tidewell", "odile@homepost.example")
	out := r.must("finding", "list", "--hints", "-o", "json")
	var all []map[string]any
	if err := json.Unmarshal([]byte(out), &all); err != nil || len(all) < 30 {
		t.Errorf("%d findings, %v", len(all), err)
	}
	r.says(0, "“Forwarding mail outside” is set to any", "forwarder", "list", "--person", "m.quarrendon") // why it leaves, not whose it is
	// A link is ended, and its finding changes.
	r.says(0, "has ended", "link", "end", "crate-list-link", "--why", "found in a chat")
	r.says(3, "", "ask", "link:crate-list-link", "files.open", "file:crate-list")
	r.says(1, "has ended already", "link", "end", "crate-list-link")
	r.says(0, "crate-list-link", "link", "list", "--state", "dead")
}

// TestWouldFromTheClient says what an invitation, a bundle and a link would open.
func TestWouldFromTheClient(t *testing.T) {
	r := demoService(t)
	r.login("lantern")
	out := r.says(0, "+ opened", "ask", "h.brannoch@oskelund.example", "--would-invite", "--would-grant", "space:docent-course=view")
	for _, want := range []string{"spaces.enter", "space:docent-course", "chat.read", "channel:course-forum", "~ otherwise  chat.message",
		"accept_terms", "still closed"} {
		if !strings.Contains(out, want) {
			t.Errorf("it lacks %q:\n%s", want, out)
		}
	}
	if strings.Contains(out, "loan-dossier") {
		t.Errorf("it opens another space:\n%s", out)
	}
	r.says(3, "- closed", "ask", "maren.holtveig@ilvane.example", "files.share", "file:press-kit", "--would-grant",
		"file:press-kit=contribute", "--all")
	r.says(0, "+ opened", "ask", "new@ilvane.example", "--would-invite", "--would-bundle", "loan-desk", "--all")
	r.says(0, "files.download", "ask", "--would-link", "file:press-kit=view")
	r.says(2, "there is no such space", "ask", "a@b.example", "--would-grant", "space:none=view")
	r.says(2, "there is no such bundle", "ask", "a@b.example", "--would-bundle", "none")
	r.says(2, "write RESOURCE=ROLE", "ask", "a@b.example", "--would-grant", "space:none")
	r.says(2, "say who would be given it", "ask", "--would-invite")
	// The same without a service, from the file alone.
	file := filepath.Join(t.TempDir(), "world.yaml")
	check(t, os.WriteFile(file, []byte(r.must("dump")), 0o600))
	again := r.says(0, "+ opened", "ask", "h.brannoch@oskelund.example", "--would-invite", "--would-grant", "space:docent-course=view",
		"--world", file)
	if sorted(again) != sorted(out) {
		t.Errorf("the file says\n%s\nthe service\n%s", again, out)
	}
	r.says(0, "dead_link", "finding", "kinds", "--world", file)
	r.says(0, "decided by item", "rules", "choices", "files.bearer_links", "--item", "folder:loan-valuations", "--world", file)
}

func sorted(text string) string {
	lines := strings.Split(text, "\n")
	sort.Strings(lines)
	return strings.Join(lines, "\n")
}

// TestMemberInOwnSpaces lets a member set values in own spaces, within what the
// rules leave, and nowhere else.
func TestMemberInOwnSpaces(t *testing.T) {
	r := demoService(t)
	m := r.token("rigger") // d.ekwinter, who owns low-water-design
	value := func(where, rule, body string) (int, string) {
		status, _, text := r.call("PUT", "/api/v1/values/"+url.PathEscape(where)+"/"+rule, m, body)
		return status, text
	}
	if status, text := value("space:low-water-design", "spaces.tasks", `{"value":"off"}`); status != 200 ||
		!strings.Contains(text, `"set":"off"`) {
		t.Errorf("%d %s", status, text)
	}
	if status, text := value("space:low-water-design", "directory.invite_by", `{"value":"guests"}`); status != 400 ||
		!strings.Contains(text, "looser than the limit, staff") {
		t.Errorf("%d %s", status, text)
	}
	for where, rule := range map[string]string{"space:loan-dossier": "spaces.tasks", "partner:pallowick": "spaces.tasks",
		"folder:loan-valuations": "files.bearer_links", "meeting:loan-weekly": "meetings.early"} {
		if status, text := value(where, rule, `{"value":"off"}`); status != 403 {
			t.Errorf("%s: %d %s", where, status, text)
		}
	}
	if status, text := value("meeting:rigging-call", "meetings.early", `{"value":"on","why":"we begin early"}`); status != 200 {
		t.Errorf("%d %s", status, text)
	}
	if status, text := value("space:low-water-design", "spaces.pages", `{"value":"on","held":true}`); status != 400 {
		t.Errorf("%d %s", status, text)
	}
	// A change made meanwhile is not overwritten.
	status, head, _ := r.call("GET", "/api/v1/values/space:low-water-design", m, "")
	if status != 200 || head.Get("ETag") == "" {
		t.Fatal(status, head)
	}
	if status, text := value("space:low-water-design", "spaces.tasks", `{"value":"on"}`); status != 400 ||
		!strings.Contains(text, "it lets more through than before, on instead of off: say why") {
		t.Errorf("%d %s", status, text)
	}
	if status, text := value("space:low-water-design", "spaces.tasks", `{"value":"on","why":"they share the list"}`); status != 200 {
		t.Errorf("%d %s", status, text)
	}
	if status, _, text := r.call("PUT", "/api/v1/values/space:low-water-design/spaces.tasks", m, `{"value":"off"}`, "If-Match",
		head.Get("ETag")); status != 412 {
		t.Errorf("%d %s", status, text)
	}
	see := func(path string, want int, has string) {
		t.Helper()
		status, _, text := r.call("GET", path, m, "")
		if status != want || !strings.Contains(text, has) {
			t.Errorf("%s: %d, want %d with %s: %.300s", path, status, want, has, text)
		}
	}
	see("/api/v1/spaces", 200, `"id":"low-water-design"`)
	if _, _, text := r.call("GET", "/api/v1/spaces", m, ""); strings.Contains(text, "trustees") {
		t.Error("a member sees a space of others")
	}
	see("/api/v1/spaces/low-water-design", 200, `"editable":true`)
	see("/api/v1/spaces/loan-dossier", 403, "own spaces")
	see("/api/v1/people/d.ekwinter", 200, `"rigging-screen-help"`)
	see("/api/v1/people/o.tidewell", 403, "members see themselves")
	see("/api/v1/values/partner:ilvane", 403, "own spaces")
	see("/api/v1/choices?rule=spaces.pages&where=space:low-water-design", 200, `"choices"`)
	see("/api/v1/choices?rule=spaces.pages", 403, "own spaces")
	would := func(body string, want int) {
		t.Helper()
		if status, _, text := r.call("POST", "/api/v1/would", m, body); status != want {
			t.Errorf("%s: %d %.200s", body, status, text)
		}
	}
	would(`{"subject":"x@pallowick.example","invite":true,"grants":[{"resource":"space:low-water-design","role":"view"}]}`, 200)
	would(`{"subject":"x@pallowick.example","grants":[{"resource":"space:loan-dossier","role":"view"}]}`, 403)
	would(`{"subject":"x@pallowick.example","invite":true,"groups":["restorers"]}`, 403)
	would(`{"link":{"item":"file:press-kit"}}`, 403)
}

// TestConsolePlaces sets a value in a space, makes and ends an exception, accepts
// a finding, and asks what an invitation would open.
func TestConsolePlaces(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	p := r.page(browser(t), "harbour")
	p.goTo("/spaces", "document.querySelectorAll('.listing tbody tr').length >= 40")
	p.do(chromedp.SendKeys(chromedp.CSS(".tools input"), "low water"))
	p.until("document.querySelectorAll('.listing tbody tr').length === 1")
	p.do(chromedp.Click(chromedp.CSS(".listing tbody a")))
	p.until("document.querySelector('[data-rule=\"spaces.pages\"]')")
	pick := "[aria-label='spaces.pages here']"
	p.do(chromedp.Focus(chromedp.CSS(pick)), chromedp.KeyEvent("o"))
	eval[any](p,
		"(() => { const s = document.querySelector(\""+pick+"\"); Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(s, 'off'); s.dispatchEvent(new Event('change', {bubbles: true})) })()")
	p.until("document.querySelector('[data-rule=\"spaces.pages\"] .value-form button') && !document.querySelector('[data-rule=\"spaces.pages\"] .value-form button').disabled && !document.querySelector('.value-dialog')") // choosing writes nothing
	p.do(chromedp.Click(chromedp.CSS("[data-rule='spaces.pages'] .value-form button")))
	p.until("document.querySelector('.value-dialog')?.innerText.includes('spaces.pages at Low Water design: on, then off.')")
	p.axe("what a value at a space changes")
	p.do(chromedp.Click(chromedp.CSS(".value-dialog .btn-primary")))
	p.until("document.querySelector('[data-rule=\"spaces.pages\"] td:nth-child(3)').innerText.startsWith('off by space')")
	p.do(chromedp.SendKeys(chromedp.CSS("[aria-label='Who would be invited']"), "new@pallowick.example"),
		chromedp.Click(chromedp.CSS("[aria-label='Ask what an invitation would open'] button")))
	p.until("document.querySelector('[data-testid=would]')")
	if text := p.text("[data-testid=would]"); !strings.Contains(text, "▲ opened enter Low Water design") ||
		!strings.Contains(text, "Nothing was done.") {
		t.Error(text)
	}
	p.axe("what an invitation opens")
	// An exception for a person, with the choices that are there.
	p.goTo("/people/n.gravenor", "document.querySelector('.reached')")
	p.do(chromedp.Click(chromedp.CSS("a[href^='/exceptions?new=1']")))
	p.until("document.querySelector('.modal.show .chips li') && document.querySelectorAll('#e-rule-0 option').length > 20")
	eval[any](p,
		"(() => { const s = document.querySelector('#e-rule-0'); Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(s, 'chat.federation'); s.dispatchEvent(new Event('change', {bubbles: true})) })()")
	p.until("document.querySelector('#e-v-0-any')")
	p.axe("making an exception")
	p.do(chromedp.Click(chromedp.CSS("#e-v-0-any")), chromedp.SendKeys(chromedp.CSS("#e-reason"), "a question about knots"),
		chromedp.Click(chromedp.CSS(".modal .btn-primary")))
	p.publish("")
	p.until("!document.querySelector('.modal') && document.querySelector('#a-question-about-knots .time-bar')")
	p.do(chromedp.Click(chromedp.CSS("[aria-label='End now: a-question-about-knots']")))
	p.until("document.querySelector('.modal-body').innerText.includes('1 person loses chat.federation any at once')")
	p.do(chromedp.Click(chromedp.CSS(".modal .btn-danger")))
	p.publish("it is answered")
	p.until("!document.querySelector('.modal') && document.querySelector('#a-question-about-knots.is-over')")
	// A list, with a result for every line.
	p.do(chromedp.Click(chromedp.CSS(".tools .btn-outline-primary")))
	p.until("document.querySelector('#l-text')")
	eval[any](p,
		"(() => { const s = document.querySelector('#l-text'); Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, 'value').set.call(s, s.value + 'one,n.gravenor,,chat.federation=any,+3d,first\\ntwo,nobody,,chat.federation=any,+3d,second\\n'); s.dispatchEvent(new Event('input', {bubbles: true})) })()")
	p.do(chromedp.Click(chromedp.CSS(".modal-footer .btn-outline-primary")))
	p.until("document.querySelector('[data-testid=import]')?.innerText.includes('refused')")
	if text := p.text("[data-testid=import]"); !strings.Contains(text, "made") || !strings.Contains(text, "nobody") {
		t.Error(text)
	}
	p.axe("a list of exceptions")
	// Findings: one is accepted and goes from the open ones.
	p.goTo("/findings?kind=forwarder_not_allowed", "document.querySelectorAll('.findings > li').length === 2")
	p.do(chromedp.Click(chromedp.CSS(".findings > li:first-child .btn-link")))
	p.until("document.querySelector('[aria-label=\"Why it may stay\"]')")
	p.axe("accepting a finding")
	p.do(chromedp.SendKeys(chromedp.CSS("[aria-label='Why it may stay']"), "she knows"),
		chromedp.Click(chromedp.CSS(".findings button[type=submit]")))
	p.until("document.querySelectorAll('.findings > li').length === 1")
	if text := p.text(".kinds [aria-pressed=true]"); !strings.Contains(text, "1 + 1 accepted") {
		t.Error(text)
	}
}
