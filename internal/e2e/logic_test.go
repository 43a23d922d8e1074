package e2e

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"wexillum.example/internal/operations"
)

// logic calls a function of the console's own logic, in the browser, for each list of arguments.
func logic[T any](p *page, function string, calls [][]any) (out []T) {
	p.t.Helper()
	args, err := json.Marshal(calls)
	check(p.t, err)
	script := fmt.Sprintf(`import('/assets/logic.js').then(m => JSON.stringify(%s.map(a => (%s)(...a))))`, args, function)
	text, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](script, chromedp.EvalAwaitPromise))
	check(p.t, err)
	check(p.t, json.Unmarshal([]byte(text), &out))
	return
}

// TestConsoleStandsAsTheContract asks the console's logic how requests of every operation stand to
// drafts, as the table that the guard follows has it; and at which address it would send them, which
// the server takes for the same operation, whatever is in a name.
func TestConsoleStandsAsTheContract(t *testing.T) {
	r := demoService(t)
	p := r.page(browser(t), "harbour")
	type request struct {
		Key   string            `json:"key"`
		Path  map[string]string `json:"path"`
		Query map[string]any    `json:"query"`
	}
	var requests [][]any
	var want []string
	for i := range operations.All() {
		o := &operations.All()[i]
		for _, where := range []string{"partner:pallowick", "space:loan/dossier"} {
			for _, query := range []map[string]any{nil, {"preview": true}, {"why": "x & y", "preview": false, "of": []string{"a", "b"}, "q": ""}} {
				asked := request{Key: o.Key(), Path: map[string]string{}, Query: query}
				for _, part := range strings.Split(o.Pattern, "/") {
					switch name := strings.Trim(part, "{}"); {
					case name == part:
					case name == "where":
						asked.Path[name] = where
					default:
						asked.Path[name] = "a/b?c#d {e}"
					}
				}
				requests = append(requests, []any{asked})
				want = append(want, string(o.InDraft(asked.Path["where"], query["preview"] == true)))
			}
		}
	}
	stands := logic[string](p, `(s) => m.towardsDraft(s).draft`, requests)
	addresses := logic[string](p, `(s) => m.addressed(s)`, requests)
	for i := range want {
		asked := requests[i][0].(request)
		if stands[i] != want[i] {
			t.Errorf("%+v: the console takes it as %s, the contract says %s", asked, stands[i], want[i])
		}
		u, err := url.Parse(addresses[i])
		check(t, err)
		method := asked.Key[:strings.Index(asked.Key, " ")]
		if found, at := operations.Match(method, u); found == nil || found.Key() != asked.Key || at != asked.Path["where"] {
			t.Errorf("%+v is sent to %s, which is %+v at %q", asked, addresses[i], found, at)
		}
		query := map[string]string{"": "", "preview": "preview=true", "why": "of=a&of=b&why=x+%26+y"}[first(asked.Query)]
		if got := u.Query().Encode(); got != query {
			t.Errorf("%+v asks with %q, not %q", asked, got, query)
		}
	}
	if len(want) < 900 {
		t.Errorf("only %d requests were tried", len(want))
	}
}

// first is what a query is told apart by.
func first(query map[string]any) string {
	if _, is := query["why"]; is {
		return "why"
	}
	if len(query) > 0 {
		return "preview"
	}
	return ""
}

// TestConsoleDates writes moments in several zones as the service does: an end at the start of a
// day by the last day that still holds.
func TestConsoleDates(t *testing.T) {
	r := demoService(t)
	p := r.page(browser(t), "harbour")
	rnd := rand.New(rand.NewPCG(17, 8))
	for _, zone := range []string{"Europe/Lisbon", "America/Sao_Paulo", "Asia/Kathmandu", "Pacific/Apia"} {
		loc, err := time.LoadLocation(zone)
		check(t, err)
		var calls [][]any
		var when, until, since []string
		for i := range 200 {
			at := time.Date(2020+rnd.IntN(12), 1, 1+rnd.IntN(365), rnd.IntN(24), rnd.IntN(60), 0, 0, loc)
			if i%2 == 0 {
				at = time.Date(at.Year(), at.Month(), at.Day(), 0, 0, 0, 0, loc)
			}
			long, day := at.Format("2 Jan 2006, 15:04"), at.Format("2 Jan 2006")
			calls = append(calls, []any{at.UTC().Format(time.RFC3339)})
			when = append(when, long)
			if at.Format("15:04") == "00:00" {
				since, until = append(since, day), append(until, at.Add(-time.Hour).Format("2 Jan 2006"))
			} else {
				since, until = append(since, long), append(until, long)
			}
		}
		for function, want := range map[string][]string{"when": when, "since": since, "until": until} {
			got := logic[string](p, fmt.Sprintf("at => { m.setZone(%q); return m.%s(at) }", zone, function), calls)
			for i := range want {
				if got[i] != want[i] {
					t.Errorf("%s in %s of %v: %q, want %q", function, zone, calls[i], got[i], want[i])
				}
			}
		}
	}
}

// TestConsoleIDs makes ids of names: letters lose their marks and stay one word.
func TestConsoleIDs(t *testing.T) {
	r := demoService(t)
	p := r.page(browser(t), "harbour")
	want := map[string]string{"Café Ærø & Bréton": "cafe-aero-breton", " Studio  Pallowick ": "studio-pallowick", "Łódź Straße 7": "lodz-strasse-7",
		"Þórður": "thordur", "a.b_c": "a-b-c", "灯台": "", "": ""}
	var names [][]any
	for name := range want {
		names = append(names, []any{name})
	}
	for i, got := range logic[string](p, `name => m.idOf(name)`, names) {
		if name := names[i][0].(string); got != want[name] {
			t.Errorf("%q: %q, want %q", name, got, want[name])
		}
	}
}

// TestPageStaysWhereASessionEnds: a page that is there stays where its session ends, with what was typed in it; any other failure, or
// one before there was anything to show, is told in its place.
func TestPageStaysWhereASessionEnds(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	p := r.page(browser(t), "harbour")
	got := logic[bool](p, `(status, data) => m.failed({error: status ? new m.Failure({type: '', title: '', status}) : null, data: data ?? undefined})`,
		[][]any{{401, "a guest"}, {401, nil}, {404, "a guest"}, {503, "a guest"}, {0, "a guest"}})
	if fmt.Sprint(got) != "[false true true true false]" {
		t.Error(got)
	}
}
