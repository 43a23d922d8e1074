package e2e

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/demo"
	"wexillum.example/internal/service"
	"wexillum.example/internal/worldgen"
)

// TestPast asks after many changes what was so at each moment in between: the
// answers are those that were given then, also after a restart.
func TestPast(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	question := []string{"ask", "*@quayside.example", "meetings.join", "meeting:loan-weekly", "-o", "json"}
	reach := []string{"reach", "--partner", "orrin", "-o", "csv"}
	type then struct {
		at        time.Time
		ask       string
		reach     string
		audiences string
	}
	ask := func(at string) (string, string, string) {
		more := []string{}
		if at != "" {
			more = []string{"--at", at}
		}
		_, a, _ := r.client("", append(question, more...)...)
		var x struct{ Decision, Kind string }
		check(t, json.Unmarshal([]byte(a), &x))
		lines := r.must(append([]string{"audience", "space:low-water-design", "-o", "csv"}, more...)...)
		return x.Decision + " " + x.Kind, r.must(append(reach, more...)...), lines
	}
	var kept []then
	rnd := rand.New(rand.NewPCG(4, 9))
	note := func() {
		a, b, c := ask("")
		time.Sleep(3 * time.Millisecond) // the next change lies later
		kept = append(kept, then{time.Now(), a, b, c})
		time.Sleep(3 * time.Millisecond)
	}
	note()
	changes := [][]string{
		{"partner", "add", "quayside", "--name", "Quayside", "--domain", "quayside.example"},
		{"partner", "open", "quayside", "meetings.in"}, {"partner", "close", "quayside", "meetings.in"},
		{"rules", "set", "meetings.outsiders", "--default", "known"},
		{"partner", "suspend", "orrin"}, {"rules", "set", "meetings.outsiders", "--default", "signed_in"}, {"partner", "resume", "orrin"},
		{"domain", "bar", "orrin.example"},
		{"rules", "set", "spaces.guests", "--space", "low-water-design", "--value", "off"}, {"domain", "lift", "orrin.example"},
		{"rules", "set", "spaces.guests", "--space", "low-water-design", "--value", "on"},
		{"partner", "suspend", "pallowick"},
	}
	for i, c := range changes {
		if c[1] != "bar" {
			c = append(c, "--why", fmt.Sprint("step ", i))
		}
		r.must(c...)
		note()
	}
	differ := map[string]bool{}
	for _, i := range rnd.Perm(len(kept)) {
		k := kept[i]
		a, b, c := ask(k.at.UTC().Format("2006-01-02T15:04:05.000000Z"))
		cut := func(s string) string { // the moment stands in every line
			var out []string
			rows, err := csv.NewReader(strings.NewReader(s)).ReadAll()
			check(t, err)
			for _, f := range rows {
				out = append(out, strings.Join(f, ","))
			}
			return strings.Join(out, "\n")
		}
		if a != k.ask || cut(b) != cut(k.reach) || cut(c) != cut(k.audiences) {
			t.Errorf("after change %d it was %s, and is told as %s now\n%s\n%s", i-1, k.ask, a, k.reach, b)
		}
		differ[a+b+c] = true
	}
	if len(differ) < 5 {
		t.Errorf("only %d states differ; the changes change too little", len(differ))
	}
	// Before anything was recorded the first record is asked, and it is said.
	r.says(0, "Nothing was recorded yet at that moment", "audience", "space:low-water-design", "--at", "-30d")
}

// TestSearch compares every result of an AuthZEN search with evaluations, page by
// page.
func TestSearch(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	token := r.token("harbour")
	search := func(what, body string) (out []map[string]string) {
		t.Helper()
		next := ""
		for {
			var m map[string]any
			check(t, json.Unmarshal([]byte(body), &m))
			m["page"] = map[string]any{"token": next, "limit": 7}
			asks, _ := m["context"].(map[string]any)
			if asks == nil {
				asks = map[string]any{}
			}
			if _, said := asks["enforces"]; !said {
				asks["enforces"] = (^catalogue.Condition(0)).Names()
			}
			m["context"] = asks
			b, err := json.Marshal(m)
			check(t, err)
			status, _, text := r.call("POST", "/access/v1/search/"+what, token, string(b))
			var x struct {
				Results []map[string]string
				Page    struct {
					Next         string `json:"next_token"`
					Count, Total int
				}
			}
			if status != 200 || json.Unmarshal([]byte(text), &x) != nil || x.Page.Count != len(x.Results) || len(x.Results) > 7 {
				t.Fatalf("%d %s", status, text)
			}
			out = append(out, x.Results...)
			if next = x.Page.Next; next == "" {
				if len(out) != x.Page.Total {
					t.Errorf("%d of %d results came", len(out), x.Page.Total)
				}
				return
			}
		}
	}
	st := r.svc.State()
	yes := func(who, action, resource string) bool {
		w, err := engine.ParseWho(who)
		check(t, err)
		a, err := engine.ParseAction(action)
		check(t, err)
		res, err := engine.ParseResource(resource)
		check(t, err)
		v, err := st.Decide(&engine.Question{Subject: w, Action: a, Resource: res, At: r.svc.Now()})
		return err == nil && v.Yes
	}
	same := func(what string, got, want []string) {
		t.Helper()
		sort.Strings(got)
		sort.Strings(want)
		if strings.Join(got, " ") != strings.Join(want, " ") || len(want) == 0 {
			t.Errorf("%s: %v\nwant %v", what, got, want)
		}
	}
	field := func(list []map[string]string, k string) (out []string) {
		for _, x := range list {
			out = append(out, x[k])
		}
		return
	}
	var want []string
	known, newcomers, err := st.Group("everybody", r.svc.Now())
	check(t, err)
	for _, n := range newcomers {
		known = append(known, n.Who)
	}
	for _, w := range known {
		if w.Kind == engine.ByAddress && yes(w.String(), "spaces.enter", "space:loan-dossier") {
			want = append(want, w.String())
		}
	}
	same("who enters the loan dossier", field(search("subject",
		`{"subject":{"type":"party"},"action":{"name":"spaces.enter"},"resource":{"type":"space","id":"loan-dossier"}}`), "id"), want)
	want = nil
	for _, n := range st.Find("", 1<<20, "file") {
		if yes("link:crate-list-link", "files.open", n.Value) {
			want = append(want, strings.TrimPrefix(n.Value, "file:"))
		}
	}
	same("what the link opens", field(search("resource",
		`{"subject":{"type":"link","id":"crate-list-link"},"action":{"name":"files.open"},"resource":{"type":"file"}}`), "id"), want)
	want = nil
	for _, a := range catalogue.Actions() {
		if a.Takes(catalogue.Channel) && !a.Address && yes("maren.holtveig@ilvane.example", a.Name, "channel:loan-general") {
			want = append(want, a.Name)
		}
	}
	same("what the conservator may do", field(search("action",
		`{"subject":{"type":"party","id":"maren.holtveig@ilvane.example"},"resource":{"type":"channel","id":"loan-general"}}`), "name"), want)
	want = nil
	for _, n := range st.Find("", 1<<20, "person") {
		w, err := engine.ParseWho(n.Value)
		check(t, err)
		to, err := engine.ParseWho("x@pallowick.example")
		check(t, err)
		a, _ := engine.ParseAction("directory.invite")
		res, _ := engine.ParseResource("space:low-water-design")
		if v, err := st.Decide(&engine.Question{Subject: w, Action: a, Resource: res, Address: to.Address, At: r.svc.Now()}); err == nil &&
			v.Yes {
			want = append(want, w.ID)
		}
	}
	same("who of ours may invite", field(search("subject",
		`{"subject":{"type":"person"},"action":{"name":"directory.invite"},"resource":{"type":"space","id":"low-water-design"},"context":{"address":"x@pallowick.example"}}`),
		"id"), want)
	// An id of what is searched for is left out of account; what is not there is no result; who asks for what a gateway does not
	// enforce is none either.
	body := `{"subject":{"type":"party","id":"x@y.example"},"action":{"name":"spaces.enter"},"resource":{"type":"space","id":"%s"},"context":{"enforces":%s}}`
	if n := len(search("subject", fmt.Sprintf(body, "loan-dossier", `["accept_terms","one_time_code","sign_in"]`))); n < 20 {
		t.Errorf("with an id: %d", n)
	}
	if n := len(search("subject", fmt.Sprintf(body, "nowhere", "[]"))); n != 0 {
		t.Errorf("what is not there: %d", n)
	}
	some, all := len(search("subject", fmt.Sprintf(body, "loan-dossier", "[]"))),
		len(search("subject", strings.Replace(fmt.Sprintf(body, "loan-dossier", "[]"), `,"context":{"enforces":[]}`, "", 1)))
	if some >= all || some == 0 {
		t.Errorf("without enforcing anything %d, else %d", some, all)
	}
	for body, reason := range map[string]string{
		`{"subject":{"type":"party"},"action":{"name":"spaces.enter"},"resource":{"type":"space","id":"loan-dossier"},"context":{"enforces":["rain"]}}`: "conditions are sign_in, one_time_code",
		`{"subject":{"type":"robot"},"action":{"name":"spaces.enter"},"resource":{"type":"space","id":"loan-dossier"}}`:                                 "write party, person or link",
		`{"subject":{"type":"party"},"action":{"name":"spaces.entr"},"resource":{"type":"space","id":"loan-dossier"}}`:                                  "there is no such action",
		`{"subject":{"type":"party"},"action":{"name":"spaces.enter"},"resource":{"type":"space","id":"loan-dossier"},"page":{"token":"%%"}}`:           "next_token",
		`{"subject":{"type":"party"},"action":{"name":"spaces.enter"},"resource":{"type":"space","id":"loan-dossier"},"page":{"limit":5000}}`:           "write 1 to 1000",
		`{"subject":{"type":"party"},"action":{"name":"spaces.enter"},"resource":{"type":"space","id":"loan-dossier"},"context":{"at":"some day"}}`:     "at",
	} {
		if status, _, text := r.call("POST", "/access/v1/search/subject", token, body); status != 400 || !strings.Contains(text, reason) {
			t.Errorf("%s: %d %s", body, status, text)
		}
	}
	if _, _, text := r.call("GET", "/.well-known/authzen-configuration", "", ""); !strings.Contains(text, "/access/v1/search/action") {
		t.Error(text)
	}
}

func inOrder(text string) string {
	lines := strings.Split(text, "\n")
	sort.Strings(lines)
	return strings.Join(lines, "\n")
}

// TestViews: audience, board and difference through the client, on the service and
// on a file alone, as tables, CSV, JSON and pages that print.
func TestViews(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("lantern")
	dir := t.TempDir()
	world := filepath.Join(dir, "world.yaml")
	check(t, os.WriteFile(world, []byte(r.must("dump")), 0o600))
	day := (moment.DayOf(r.svc.Now(), r.svc.State().Zone()) + 1).String()
	for _, args := range [][]string{
		{"audience", "folder:loan-valuations", "-o", "csv"}, {"audience", "space:loan-dossier", "--all", "--find", "maren", "-o", "csv"},
		{"reach", "--partner", "ilvane", "-o", "csv"}, {"reach", "--kind", "bearer", "-o", "csv"},
		{"diff", "maren.holtveig@ilvane.example", "edda.nordvane@ilvane.example", "-o", "csv"},
		{"audience", "person:d.ekwinter", "--action", "chat.*", "-o", "csv"},
	} {
		at := []string{"--at", day}
		a, b := r.must(append(args, at...)...), r.must(append(append(args, at...), "--world", world)...)
		if args[0] == "diff" { // places come in the order in which they were made
			a, b = inOrder(a), inOrder(b)
		}
		if a != b || strings.Count(a, "\n") < 2 {
			t.Errorf("%v: the service says\n%.800s\nthe file\n%.800s", args, a, b)
		}
	}
	r.says(0, "8 known, 0 typical newcomers", "audience", "folder:loan-valuations")
	r.says(0, "crate-list-link", "audience", "file:crate-list")
	r.says(0, "(residual risk)", "audience", "file:crate-list")
	r.says(0, "8 known, 1 typical newcomer", "reach", "--partner", "marrowby")
	r.says(0, "links open to whoever holds one, those refused here included: crate-list-link", "reach", "--partner", "marrowby")
	r.says(0, "maren.holtveig@ilvane.example is suspended since ", "diff", "maren.holtveig@ilvane.example", "--and-at", "+100d")
	r.says(0, "Nothing differs.", "diff", "*@ilvane.example", "*@lab.ilvane.example")
	r.says(0, "First access to end:", "reach", "maren.holtveig@ilvane.example")
	for _, c := range []struct {
		want string
		args []string
	}{
		{"name one party, or one of", []string{"reach"}}, {"name one party, or one of", []string{"reach", "a@b.example", "--everybody"}},
		{"there is no such partner", []string{"reach", "--partner", "none"}}, {"kinds are guest", []string{"reach", "--kind", "odd"}},
		{"there is no such space", []string{"audience", "space:none"}},
		{"there is no such service", []string{"audience", "space:loan-dossier", "--action", "post.*"}},
		{"name another party", []string{"diff", "maren.holtveig@ilvane.example"}},
		{"name another party or another moment", []string{"diff", "maren.holtveig@ilvane.example", "maren.holtveig@ilvane.example"}},
	} {
		r.says(2, c.want, c.args...)
	}
	// A page that prints states what it is.
	for name, args := range map[string][]string{"audience": {"audience", "folder:loan-valuations"}, "board": {"reach", "--everybody"},
		"diff": {"diff", "maren.holtveig@ilvane.example", "--and-at", "+300d"}, "reach": {"reach", "maren.holtveig@ilvane.example"}} {
		for _, where := range []string{"", world} {
			file := filepath.Join(dir, name+".html")
			more := []string{"--report", file}
			if where != "" {
				more = append(more, "--world", where)
			}
			r.must(append(args, more...)...)
			text, err := os.ReadFile(file)
			check(t, err)
			for _, want := range []string{"Brackwater Museum of Navigation", "Not looked at", "every gate asked", "<th scope=\"col\">", "@page"} {
				if !strings.Contains(string(text), want) {
					t.Errorf("the page of %v lacks %s", args, want)
				}
			}
		}
	}
	token := r.token("lantern")
	status, h, text := r.call("GET", "/api/v1/report/audience?form=csv&resource=folder:loan-valuations", token, "")
	rows, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	if status != 200 || err != nil || len(rows) != 17 || rows[0][12] != "organisation" || rows[1][12] != "Brackwater Museum of Navigation" ||
		!strings.HasPrefix(h.Get("Content-Type"), "text/csv") {
		t.Errorf("%d %v %d rows\n%.400s", status, err, len(rows), text)
	}
	// A member sees the audience of own spaces and nothing else.
	member := r.token("rigger")
	for path, want := range map[string]int{"/api/v1/audience?resource=space:low-water-design": 200,
		"/api/v1/audience?resource=person:d.ekwinter": 200, "/api/v1/audience?resource=space:storage-move": 403, "/api/v1/board": 403,
		"/api/v1/report/board":                                                                403,
		"/api/v1/report/audience?resource=space:storage-move":                                 403,
		"/api/v1/diff?who=maren.holtveig@ilvane.example&and_who=edda.nordvane@ilvane.example": 403} {
		if status, _, text := r.call("GET", path, member, ""); status != want {
			t.Errorf("%s: %d, want %d %.200s", path, status, want, text)
		}
	}
}

// TestViewsInTheConsole walks reach, audience and difference: groups, a party, the
// line of time, a resource with all in it, two parties, with axe on each.
func TestViewsInTheConsole(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	p := r.page(browser(t), "harbour")
	rows := "document.querySelectorAll('.reach-board tbody tr').length"
	p.goTo("/reach", rows+" === 40 && document.querySelector('.residual').innerText.includes('crate-list-link')")
	p.axe("the board of parties")
	p.do(chromedp.Click(chromedp.CSS(".more")))
	p.until(rows + " === 80")
	eval[any](p, "[...document.querySelectorAll('[aria-label=Who] button')].find(b => b.innerText === 'links').click()")
	p.until(rows + " > 0 && [...document.querySelectorAll('.reach-board tbody .sub')].every(x => x.innerText.includes('bearer'))")
	p.do(chromedp.SendKeys(chromedp.CSS(".accounts .combo input"), "marrowby"))
	p.until(rows + " === 9")
	p.goTo("/reach", rows+" === 40")
	p.do(chromedp.SendKeys(chromedp.CSS("[aria-label='Find a party']"), "maren.holtveig"))
	p.until(rows + " === 1")
	p.do(chromedp.Click(chromedp.CSS(".plain-link")))
	p.until("document.querySelector('.figures').innerText.includes('First access to end:') && document.querySelectorAll('.service-head').length > 3")
	p.axe("what one party reaches")
	p.do(chromedp.Click(chromedp.CSS("#r-no")))
	p.until("[...document.querySelectorAll('.gets-no')].length > 3 && document.body.innerText.includes('Valuations is private: a role in the space does not open it.')")
	// Along the line of time: in a year her record is gone.
	p.do(chromedp.Focus(chromedp.CSS("#t-range")), chromedp.KeyEvent(kb.End))
	p.until("document.querySelector('.time-line-tool output').innerText === 'as far as known now' && document.body.innerText.includes('an address without a record does not sign in')")
	// From a line to who else reaches it, and to the question behind it.
	p.goTo("/reach?who=maren.holtveig%40ilvane.example", "document.querySelector('.service-head')")
	eval[any](p, "[...document.querySelectorAll('.listing a')].find(a => a.innerText === 'Loan dossier').click()")
	p.until("document.querySelector('h1').innerText === 'Who reaches Loan dossier' && document.querySelectorAll('.listing tbody tr').length > 3")
	few := eval[int](p, "document.querySelectorAll('.listing tbody tr').length")
	p.do(chromedp.Click(chromedp.CSS("#a-all")))
	p.until(fmt.Sprintf("document.querySelectorAll('.listing tbody tr').length > %d && document.querySelectorAll('.listing thead th').length === 5",
		few))
	p.axe("an audience")
	p.goTo("/reach?who=maren.holtveig%40ilvane.example", "document.querySelector('.service-head')")
	eval[any](p, "[...document.querySelectorAll('.listing a')].find(a => a.innerText === 'enter').click()")
	p.until("document.querySelector('[data-testid=verdict]')?.dataset.decision === 'yes'")
	// Why does she see it and he does not.
	p.goTo("/difference", "document.querySelector('.difference-form')")
	p.axe("nothing compared yet")
	inputs := eval[int](p, "document.querySelectorAll('.difference-form .combo input').length")
	if inputs != 2 {
		t.Fatal(inputs)
	}
	p.do(chromedp.SendKeys(chromedp.CSS(".difference-form .combo input"), "maren.holtveig@ilvane.example"))
	eval[any](p, "document.querySelectorAll('.difference-form .combo input')[1].focus()")
	p.do(chromedp.KeyEvent("edda.nordvane@ilvane.example"), chromedp.Click(chromedp.CSS(".difference-form button[type=submit]")))
	p.until("document.querySelectorAll('.listing tbody tr').length > 5 && document.querySelector('.listing').innerText.includes('is suspended since')")
	p.axe("a difference")
	p.goTo("/difference?who=maren.holtveig%40ilvane.example&and_at="+time.Now().AddDate(1, 0, 0).Format("2006-01-02"),
		"document.querySelector('.listing')?.innerText.includes('an address without a record does not sign in')")
	p.goTo("/audience", "document.querySelector('.audience-form')")
	p.do(chromedp.SendKeys(chromedp.CSS(".audience-form .combo input"), "space:none"),
		chromedp.Click(chromedp.CSS(".audience-form h1, #page-title")), chromedp.Click(chromedp.CSS(".audience-form button[type=submit]")))
	p.until("document.querySelector('.wrong')?.innerText.includes('there is no such space')")
}

// TestLargeInTheConsole walks through a world of 10,000 guests and 100,000 grants: every
// page comes, numbers lead to their lists, and a draft is weighed.
func TestLargeInTheConsole(t *testing.T) {
	t.Parallel()
	now := moment.Of(time.Now())
	w := world.Merge(&world.World{}, worldgen.Generate(5, worldgen.Size{Guests: 10_000}, now))
	r := startService(t, dbtest.DSN(t), func(ctx context.Context, svc *service.Service) error {
		if err := svc.Import(ctx, "test", "a large world", w, nil); err != nil {
			return err
		}
		a := demo.Accounts[0]
		return svc.MakeAccount(ctx, "test", "", service.Account{Name: a.Name, Role: a.Role, Person: w.People[0].ID}, a.Password)
	})
	p := r.page(browser(t), "harbour")
	p.goTo("/reach", "document.querySelectorAll('.reach-board tbody tr').length === 40")
	p.do(chromedp.Click(chromedp.CSS(".more")))
	p.until("document.querySelectorAll('.reach-board tbody tr').length === 80")
	st := r.svc.State()
	who := "" // somebody who reaches something
	_, err := st.GrantedLines(now, engine.LinesFrom{Party: 2000}, 1, func(k engine.Kind, _ string) bool { return k == engine.KindGuest }, "",
		0, func() error { return nil }, func(l *engine.GrantedLine) { who = l.Who.String() })
	check(t, err)
	p.do(chromedp.SendKeys(chromedp.CSS("[aria-label='Find a party']"), who))
	p.until("document.querySelectorAll('.reach-board tbody tr').length === 1")
	p.do(chromedp.Click(chromedp.CSS(".plain-link")))
	p.until("document.querySelectorAll('.service-head').length > 1")
	// Numbers: by partner, and from the largest down to a question.
	p.goTo("/numbers", "document.querySelectorAll('.ledger li').length > 20")
	all := st.Population(now, nil)
	if text := p.text(".impact-figures"); !strings.Contains(strings.ReplaceAll(text, ",", ""), fmt.Sprint(all.All.Parties)) {
		t.Errorf("%s, and %d parties", text, all.All.Parties)
	}
	p.do(chromedp.Click(chromedp.CSS(".ledger a")))
	p.until("document.querySelectorAll('.listing tbody tr').length === 200")
	eval[any](p, "[...document.querySelectorAll('main button')].find(b => b.innerText === 'More lines').click()")
	p.until("document.querySelectorAll('.listing tbody tr').length === 400")
	p.do(chromedp.Click(chromedp.CSS(".listing tbody a[href^='/ask']")))
	p.until(verdict + ".dataset.decision === 'yes'")
	// The space with the most, and the partners.
	best, most := "", 0
	for id, n := range all.Spaces {
		if n > most || n == most && id < best {
			best, most = id, n
		}
	}
	p.goTo("/audience?resource=space%3A"+best, "document.querySelectorAll('.listing tbody tr').length > 5")
	p.goTo("/partners", "document.querySelector('.board tbody tr')")
	// One rule for everybody, weighed before it counts.
	p.goTo("/rules?rule=spaces.guests", "document.querySelector('.rule-form') && document.querySelector('.rule-audience')")
	r.login("harbour")
	r.must("draft", "new", "No guests in spaces")
	out := r.must("rules", "set", "spaces.guests", "--limit", "off", "--default", "off", "--draft", "No guests in spaces")
	if !strings.Contains(out, "off") {
		t.Error(out)
	}
	p.goTo("/drafts", "document.querySelector('.drafts a')")
	p.do(chromedp.Click(chromedp.CSS(".drafts a")))
	p.until("document.querySelector('.keels .is-loss') && document.querySelectorAll('.listing tbody tr').length >= 50")
	p.axe("the draft of a large world")
}
