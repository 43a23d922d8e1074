package e2e

import (
	"context"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
)

// expecting starts a demo whose expectations two services judge.
func expecting(t *testing.T) (r *running, other *running) {
	t.Helper()
	r = demoService(t)
	other = startService(t, r.dsn, nil)
	ctx, stop := context.WithCancel(context.Background())
	var judged sync.WaitGroup
	for _, s := range []*running{r, other} {
		judged.Go(func() { s.svc.RunExpectations(ctx, 20*time.Millisecond) })
	}
	t.Cleanup(func() { stop(); judged.Wait() })
	r.login("harbour")
	return r, other
}

// stands waits until an expectation stands so, kept and with what broke it.
func (r *running) stands(id, state, by string) string {
	r.t.Helper()
	out := ""
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		_, out, _ = r.client("", "expect", "show", id, "-o", "json")
		var x struct {
			State, Since string
			BrokenBy     *struct{ Text string } `json:"broken_by"`
		}
		if json.Unmarshal([]byte(out), &x) == nil && x.State == state && x.Since != "" &&
			(by == "" || x.BrokenBy != nil && strings.Contains(x.BrokenBy.Text, by)) {
			return out
		}
	}
	r.t.Errorf("%s never becomes %s by %q: %s", id, state, by, out)
	return out
}

// TestExpectations keeps, judges and changes what is expected: with the client, on drafts and by changes of inventory, with what
// broke it, who is told, and two services that judge at once.
func TestExpectations(t *testing.T) {
	t.Parallel()
	r, other := expecting(t)
	r.says(0, "Nobody from Marrowby Freight may do anything.", "expect", "list")
	r.stands("restorers-enter", "held", "")

	for _, c := range []struct {
		says string
		args []string
	}{
		{"say what is expected", []string{"add", "--party", "partner:marrowby"}},
		{"an expectation says one thing", []string{"add", "--never", "--always"}},
		{"is no party", []string{"add", "--party", "freight", "--never"}},
		{"party \"partner:nobody\": there is no partner \"nobody\"", []string{"add", "--party", "partner:nobody", "--never"}},
		{"is no action; write one as files.open, files.* or *", []string{"add", "--action", "open", "--never"}},
		{"expect what that opens", []string{"add", "--action", "directory.invite", "--never"}},
		{"is nothing that is reached", []string{"add", "--resource", "valuations", "--never"}},
		{"is no condition", []string{"add", "--condition", "soap"}},
		{"no kind of party", []string{"add", "--party", "kind:friend", "--never"}},
		{"there is no expectation \"none\"", []string{"show", "none"}},
		{"nothing is to be otherwise", []string{"set", "restorers-enter"}},
		{"it is not proposed", []string{"proposed", "--take", "none"}},
	} {
		if status, _, errs := r.client("", append([]string{"expect"}, c.args...)...); status == 0 || !strings.Contains(errs, c.says) {
			t.Errorf("expect %v: %d %s, want %q", c.args, status, errs, c.says)
		}
	}

	// Tried before it is kept; kept with an owner who hears of it.
	r.says(0, "Nothing is kept. As things stand:", "expect", "add", "--action", "spaces.enter", "--resource", "space:loan-dossier",
		"--at-most", "25", "--preview")
	if out := r.must("expect", "list"); strings.Contains(out, "loan-dossier-at-most") {
		t.Errorf("a preview was kept: %s", out)
	}
	r.says(0, "▲ held  Only people from Tholemere Assurance may do anything in files: Valuations.", "expect", "add", "--action", "files.*",
		"--resource", "folder:loan-valuations", "--only", "partner:tholemere",
		"--id", "valuations", "--owner", "d.ekwinter", "--reason", "the insurer alone reads them", "--tell", "--yes")
	r.stands("valuations", "held", "")

	// A draft that breaks something is not published without a reason for that; it is judged alike before.
	r.must("draft", "new", "No guests")
	for _, rule := range []string{"spaces.connect=closed", "directory.guests=off"} {
		name, value, _ := strings.Cut(rule, "=")
		r.must("rules", "set", name, "--default", value, "--draft", "No guests", "--why", "the loan is over")
	}
	r.says(0, "restorers-enter  Maren Holtveig (maren.holtveig@ilvane.example) may always enter the space: Loan dossier. (1 time, 1 party)",
		"draft", "impact", "No guests")
	r.says(3, "restorers-enter          broken  1", "expect", "run", "--draft", "No guests")
	r.says(1, "It breaks what is expected: restorers-enter; to publish it all the same", "draft", "publish", "No guests", "--why",
		"the loan is over", "--yes")
	r.says(0, "Published as revision", "draft", "publish", "No guests", "--why", "the loan is over", "--despite", "they were told", "--yes")
	r.stands("restorers-enter", "broken",
		"by harbour: the loan is over (published all the same, though it breaks restorers-enter: they were told)")
	r.says(0, "Maren Holtveig (maren.holtveig@ilvane.example) may always enter the space: Loan dossier. This is broken 1 time, by 1 party",
		"finding", "list", "--kind", "expectation_broken")
	r.says(3, "restorers-enter", "expect", "run")
	// A single change is held against what is expected, too.
	r.says(0, "Published", "rules", "set", "directory.guests", "--default", "on", "--why", "the loan goes on", "--yes")
	r.says(0, "Published", "rules", "set", "spaces.connect", "--default", "listed", "--why", "the loan goes on", "--yes")
	r.stands("restorers-enter", "held", "")
	r.says(0, "Published", "rules", "set", "spaces.connect", "--default", "closed", "--why", "records alone", "--yes")
	r.says(1, "It breaks what is expected: restorers-enter", "rules", "set", "directory.guests", "--default", "off", "--why", "x", "--yes")
	r.says(0, "Published", "rules", "set", "directory.guests", "--default", "off", "--why", "an incident", "--despite",
		"first of all nobody comes in", "--yes")
	r.stands("restorers-enter", "broken",
		"an incident (published all the same, though it breaks restorers-enter: first of all nobody comes in)")
	r.says(0, "Published", "rules", "set", "directory.guests", "--default", "on", "--why", "it is over", "--yes")
	r.stands("restorers-enter", "held", "")

	// Of many changes of inventory the one is found that broke it.
	r.must("group", "add", "Printers", "--why", "they print")
	r.must("grant", "add", "vesper.larkmoor@ilvane.example", "folder:loan-valuations", "--role", "view", "--why", "she asked nicely")
	r.must("group", "add", "Binders", "--why", "they bind")
	r.stands("valuations", "broken", "by harbour: she asked nicely")
	out := r.must("expect", "show", "valuations")
	for _, want := range []string{"▼ BROKEN", "vesper.larkmoor@ilvane.example", "files.open", "history", "the insurer alone reads them"} {
		if !strings.Contains(out, want) {
			t.Errorf("it lacks %q: %s", want, out)
		}
	}
	r.must("grant", "end", "vesper.larkmoor@ilvane.example", "folder:loan-valuations", "--why", "it was not right")
	r.stands("valuations", "held", "")
	if out := r.must("expect", "show", "valuations"); strings.Count(out, "It holds.") < 2 {
		t.Errorf("its history: %s", out)
	}

	// Its owner was told: that it broke, of whom, that it holds again.
	post := r.post()
	_, err := r.svc.SendWaiting(t.Context(), post.send)
	check(t, err)
	list, _ := post.Messages()
	said := ""
	for _, m := range list {
		if slices.Contains(m.To, "d.ekwinter@brackwater.example") {
			said += m.Text + "\n"
		}
	}
	for _, want := range []string{"Only people from Tholemere Assurance", "It is broken", "she asked nicely",
		"vesper.larkmoor@ilvane.example may now.", "It is held again.", "vesper.larkmoor@ilvane.example may no longer.",
		"/expectations/valuations"} {
		if !strings.Contains(said, want) {
			t.Errorf("the owner is not told %q: %s", want, said)
		}
	}
	if out, _ := other.svc.Expectations(t.Context()); len(out) == 0 {
		t.Error("the other service expects nothing")
	}
	// What two services judged stands in the journal once.
	var entries []struct{ ID, Was, Now string }
	_, text, _ := r.client("", "journal", "--kind", "judgement", "-o", "json", "--limit", "200")
	check(t, json.Unmarshal([]byte(text), &entries))
	said = ""
	for _, e := range entries {
		if e.ID == "valuations" {
			var now struct {
				State string
				May   int
				Who   []string
			}
			check(t, json.Unmarshal([]byte(e.Now), &now))
			line := fmt.Sprint(now)
			if line == said {
				t.Errorf("twice: %s", line)
			}
			said = line
		}
	}

	// Others are told, and a program of a pipeline judges with a token for that alone.
	status, _, body := r.call("POST", "/api/v1/service-tokens", r.token("harbour"), `{"name":"pipeline","purpose":"expectations","days":1}`)
	var token struct{ Token string }
	if status != 201 || json.Unmarshal([]byte(body), &token) != nil {
		t.Fatal(status, body)
	}
	if status, _, body := r.call("POST", "/api/v1/expectations/judge", token.Token, `{"ids":["valuations"]}`); status != 200 ||
		!strings.Contains(body, `"state":"held"`) {
		t.Errorf("%d %s", status, body)
	}
	if status, _, body := r.call("GET", "/api/v1/guests", token.Token, ""); status != 403 ||
		!strings.Contains(body, "a token for expectations may not") {
		t.Errorf("%d %s", status, body)
	}
	seq := streamOf(t, r, token.Token, "expectation", 2)
	if !strings.Contains(seq, `"of":"restorers-enter","what":"added"`) || !strings.Contains(seq, `"of":"restorers-enter","what":"removed"`) {
		t.Errorf("of expectations is told: %s", seq)
	}

	// What an expectation names is not removed under it, and follows a partner that becomes another one.
	r.must("expect", "add", "--party", "group:binders", "--never", "--id", "binders-do-nothing", "--owner", "j.penhallow", "--yes")
	r.says(3, "the expectation binders-do-nothing is about it", "group", "remove", "Binders", "--why", "x")
	r.says(3, "the expectation binders-do-nothing", "person", "remove", "j.penhallow", "--why", "x")
	r.must("partner", "merge", "tholemere", "--into", "orrin", "--why", "they are one now", "--despite", "x", "--yes")
	r.says(0, "Only people from Orrin Rope & Rigging may do anything in files: Valuations.", "expect", "list")

	// What systems hold is not known where nobody looked.
	r.says(1, "no system was read yet", "expect", "run", "--found")

	r.says(2, "has a reason: give --why", "expect", "remove", "valuations", "--yes")
	r.says(0, "is expected no longer", "expect", "remove", "valuations", "--why", "the loan is over", "--yes")
	r.says(0, "Expected: Nobody from Calder & Finch Printers may do anything.", "expect", "proposed", "--take", "calderfinch-reaches-nothing",
		"--yes")
	r.says(0, "▲ held  Of people from Calder & Finch Printers, at most 3 may do anything.", "expect", "set", "calderfinch-reaches-nothing",
		"--at-most", "3", "--yes")
}

// streamOf reads so many events of a topic from the beginning of the journal.
func streamOf(t *testing.T, r *running, _ string, topic string, n int) string {
	t.Helper()
	ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
	defer stop()
	req, err := http.NewRequestWithContext(ctx, "GET", r.url+"/api/v1/changes?topic="+topic, nil)
	check(t, err)
	req.Header.Set("Authorization", "Bearer "+r.token("lantern"))
	req.Header.Set("Last-Event-ID", "1")
	resp, err := http.DefaultClient.Do(req)
	check(t, err)
	defer resp.Body.Close()
	buf, text := make([]byte, 4096), ""
	for strings.Count(text, "data: {") < n {
		k, err := resp.Body.Read(buf)
		text += string(buf[:k])
		if err != nil {
			break
		}
	}
	return text
}

// TestExpectationsOfAFile judges files as a pipeline does: what the other file breaks already is no fault of the first one.
func TestExpectationsOfAFile(t *testing.T) {
	t.Parallel()
	r := &running{t: t, home: t.TempDir()}
	dir := t.TempDir()
	world, err := os.ReadFile("../demo/world.yaml")
	check(t, err)
	more := strings.Replace(string(world), "expectations:\n",
		"expectations:\n  - {id: size, party: everybody, action: spaces.enter, resource: space:loan-dossier, expect: {at_most: 2}}\n", 1)
	main, next := filepath.Join(dir, "main.yaml"), filepath.Join(dir, "next.yaml")
	check(t, os.WriteFile(main, []byte(more), 0o644))
	looser := strings.Replace(more, "  - {id: size",
		"  - {id: inside, party: \"kind:bearer\", action: files.edit, resource: \"*\", expect: never, could: yes}\n  - {id: size", 1)
	check(t, os.WriteFile(next, []byte(looser), 0o644))
	r.says(3, "size                     broken  26", "--world", main, "expect", "run")
	r.says(0, "size                     broken already", "--world", main, "expect", "run", "--against", main)
	r.says(3, `"only_could": true`, "--world", next, "expect", "run", "inside", "-o", "json")
	r.says(2, "there is no expectation \"nothing\"", "--world", next, "expect", "run", "nothing")
	report := filepath.Join(dir, "report.xml")
	r.says(3, "restorers-enter          broken", "--world", main, "--with",
		"rules: {directory.guests: {default: off}, spaces.connect: {default: closed}}", "expect", "run", "--against", main, "--junit", report)
	text, err := os.ReadFile(report)
	check(t, err)
	var x struct {
		Tests    int `xml:"tests,attr"`
		Failures int `xml:"failures,attr"`
		Cases    []struct {
			Class   string  `xml:"classname,attr"`
			Failure *string `xml:"failure"`
		} `xml:"testcase"`
	}
	check(t, xml.Unmarshal(text, &x))
	if x.Tests != 5 || x.Failures != 1 {
		t.Errorf("%s", text)
	}
	for _, c := range x.Cases {
		if (c.Failure != nil) != strings.HasPrefix(c.Class, "expectations.restorers-") {
			t.Errorf("%+v", c)
		}
	}
}

// TestExpectationsInTheConsole makes one, sees it broken by a draft, and takes a proposal.
func TestExpectationsInTheConsole(t *testing.T) {
	t.Parallel()
	r, _ := expecting(t)
	p := r.page(browser(t), "harbour")
	p.goTo("/expectations", "document.querySelector('.expectations li') && document.querySelector('#h-proposed')")
	p.axe("expectations")
	p.presses(".page", "Expect something")
	p.until("document.querySelector('#x-set')")
	for at, value := range map[string]string{"#x-set": "kind:bearer", "#x-action": "files.edit"} {
		eval[any](p,
			`(() => { const x = document.querySelector("`+at+`"); Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(x, "`+value+`"); x.dispatchEvent(new Event('change', {bubbles: true})) })()`)
	}
	p.fill("#x-reason", "links are for reading")
	p.presses(".modal", "Is it so now?")
	p.until("document.querySelector('.modal .alert .stands.is-held')")
	p.axe("an expectation that is made")
	p.presses(".modal", "Expect it")
	p.until("document.querySelector('.quick-dialog')")
	p.publish("links are for reading")
	p.until("[...document.querySelectorAll('.expectations li')].some((x) => x.textContent.includes('No holder of a link may change any file'))")
	before := eval[int](p, "document.querySelectorAll('.is-proposed li').length")
	p.presses(".is-proposed", "Expect it")
	p.until("document.querySelector('.quick-dialog')")
	p.publish("so today")
	p.until("document.querySelectorAll('.is-proposed li').length < " + strconv.Itoa(before))

	r.must("draft", "new", "No guests")
	r.must("rules", "set", "spaces.connect", "--default", "closed", "--draft", "No guests", "--why", "x")
	r.must("rules", "set", "directory.guests", "--default", "off", "--draft", "No guests", "--why", "x")
	p.goTo("/drafts", `document.querySelector('.page a[href^="/drafts/"]')`)
	p.do(chromedp.Click(`.page a[href^="/drafts/"]`))
	p.until("document.querySelector('.breaks') && document.querySelector('#p-despite')")
	p.axe("a draft that breaks what is expected")
	// Why is answered by the draft alone, and so asked there.
	why := `[...document.querySelectorAll('.breaks a')].find(a => a.textContent === 'Why')`
	if eval[bool](p, "!!"+why) {
		t.Error("outside the draft, why is answered as things are")
	}
	p.presses(".page", "Work in this draft")
	p.until(why)
	eval[any](p, why+".click(), 0")
	p.until(verdict + "?.dataset.decision === 'no'")
	p.goTo("/drafts", `document.querySelector('.page a[href^="/drafts/"]')`)
	p.do(chromedp.Click(`.page a[href^="/drafts/"]`))
	p.until("document.querySelector('.breaks') && document.querySelector('#p-despite')")
	p.fill("#p-why", "the loan is over")
	if !eval[bool](p, "document.querySelector('.publish-form button').disabled") {
		t.Error("it is published without a reason for what it breaks")
	}
	p.fill("#p-despite", "they were told")
	p.presses(".publish-form", "Publish")
	p.until("document.querySelector('#page-title') && document.querySelector('.page').textContent.includes('Published as')")
	r.stands("restorers-enter", "broken", "they were told")
	p.goTo("/expectations/restorers-enter", "document.querySelector('.stands.is-broken') && document.querySelector('.expect-past .is-broken')")
	p.axe("an expectation that is broken")
	p.goTo("/findings", `document.querySelector('a[href="/expectations/restorers-enter"]')`)
}
