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
// drafts: as the table that the guard follows has it.
func TestConsoleStandsAsTheContract(t *testing.T) {
	r := demoService(t)
	p := r.page(browser(t), "harbour")
	var calls [][]any
	var want []string
	for i := range operations.All() {
		o := &operations.All()[i]
		for _, where := range []string{"partner:pallowick", "space:loan/dossier"} {
			for _, preview := range []string{"", "?preview=true", "?why=x&preview=false"} {
				path := o.Pattern
				for strings.Contains(path, "{") {
					name := path[strings.Index(path, "{"):]
					name = name[:strings.Index(name, "}")+1]
					value := "a/b"
					if name == "{where}" {
						value = where
					}
					path = strings.Replace(path, name, url.PathEscape(value), 1)
				}
				u, err := url.Parse(path)
				check(t, err)
				if found, at := operations.Match(o.Method, u); found != o || strings.Contains(o.Pattern, "{where}") && at != where {
					t.Errorf("%s %s is matched to %+v at %q", o.Method, path, found, at)
				}
				calls = append(calls, []any{o.Method, path + preview})
				want = append(want, string(o.InDraft(map[bool]string{true: where}[strings.Contains(o.Pattern, "{where}")], preview == "?preview=true")))
			}
		}
	}
	got := logic[string](p, `(method, path) => m.towardsDraft(method, path).draft`, calls)
	for i := range want {
		if got[i] != want[i] {
			t.Errorf("%v: the console takes it as %s, the contract says %s", calls[i], got[i], want[i])
		}
	}
	if len(want) < 900 {
		t.Errorf("only %d requests were tried", len(want))
	}
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
