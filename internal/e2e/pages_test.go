package e2e

import (
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/demo"
	"wexillum.example/internal/service"
)

// TestPagesLoseNobody suspends somebody of the first page before the second is fetched: nobody
// else is left out, of the list of guests and of an AuthZEN search.
func TestPagesLoseNobody(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	token := r.token("harbour")
	suspend := func(address string) {
		t.Helper()
		done, err := r.svc.ChangeGuests(t.Context(), service.Who{Name: "harbour", Role: service.Administrator},
			service.GuestChange{Do: service.Suspend, Addresses: []string{address}, Reason: "test"}, false)
		check(t, err)
		if !done[0].Done {
			t.Fatal(done[0].Reason)
		}
	}
	guests := func(cursor string) (addresses []string, next string) {
		t.Helper()
		status, _, text := r.call("GET", "/api/v1/guests?state=active&limit=10&cursor="+url.QueryEscape(cursor), token, "")
		var x struct {
			Guests []struct{ Address string }
			Next   string
		}
		if err := json.Unmarshal([]byte(text), &x); status != 200 || err != nil {
			t.Fatalf("%d %s %v", status, text, err)
		}
		for _, g := range x.Guests {
			addresses = append(addresses, g.Address)
		}
		return addresses, x.Next
	}
	search := func(cursor string) (ids []string, next string) {
		t.Helper()
		page := `{"limit":5}`
		if cursor != "" {
			page = fmt.Sprintf(`{"limit":5,"token":%q}`, cursor)
		}
		status, _, text := r.call("POST", "/access/v1/search/subject", token,
			`{"subject":{"type":"party"},"action":{"name":"spaces.enter"},"resource":{"type":"space","id":"loan-dossier"},"page":`+page+`}`)
		var x struct {
			Results []struct{ ID string }
			Page    struct {
				Next string `json:"next_token"`
			}
		}
		if err := json.Unmarshal([]byte(text), &x); status != 200 || err != nil {
			t.Fatalf("%d %s %v", status, text, err)
		}
		for _, s := range x.Results {
			ids = append(ids, s.ID)
		}
		return ids, x.Page.Next
	}
	for name, fetch := range map[string]func(string) ([]string, string){"guests": guests, "search": search} {
		var before []string
		for next, more := "", true; more; more = next != "" {
			var page []string
			page, next = fetch(next)
			before = append(before, page...)
		}
		first, next := fetch("")
		suspend(first[1])
		after := first
		for next != "" {
			var page []string
			page, next = fetch(next)
			after = append(after, page...)
		}
		if len(before) < 12 || !slices.Equal(before, after) {
			t.Errorf("%s: before\n%v\nwith a suspension between two pages\n%v", name, before, after)
		}
	}
}

// TestDatesFromTheClient takes a world over into a new installation: loading tells what its
// dates would set going, nothing happens, and an administrator lets them count, a part first
// from the client and the rest in the console.
func TestDatesFromTheClient(t *testing.T) {
	r := startService(t, dbtest.DSN(t), nil)
	check(t, r.svc.MakeAccount(t.Context(), "test", "", accountOf(demo.Accounts[0]), demo.Accounts[0].Password))
	r.login("harbour")
	world := filepath.Join(t.TempDir(), "world.yaml")
	check(t, os.WriteFile(world, demo.World, 0o600))
	r.says(0, "The dates of 150 records wait, and nothing is mailed about them.", "load", world, "--preview")
	r.says(0, "Let them count with: wexillum dates release", "load", world)
	out := r.says(0, "The dates of 150 records wait. If they counted:", "dates")
	if !strings.Contains(out, "Mail about dates waits too.") || !strings.Contains(out, "organisation  waits") {
		t.Error(out)
	}
	if done, err := r.svc.CarryOut(t.Context()); err != nil || done != (service.CarriedOut{}) {
		t.Errorf("%+v were carried out, %v", done, err)
	}
	r.says(0, "YES", "ask", "zelda.nordvane@pallowick.example", "directory.sign_in", "directory:ours")
	r.says(0, "It needs --confirm: dates would begin sooner than guests are told ahead", "dates", "release", "--for", "partner:pallowick",
		"--from", "+1d", "--preview")
	r.says(2, "", "dates", "release", "--nothing")
	r.says(1, "say why", "dates", "release", "--for", "partner:pallowick")
	r.says(1, "there is no such partner", "dates", "release", "--for", "partner:tholomere", "--why", "x")
	r.says(0, "partner:pallowick counts from ", "dates", "release", "--for", "partner:pallowick", "--from", "+20d", "--why", "they were told")
	r.says(3, "is suspended since", "ask", "zelda.nordvane@pallowick.example", "directory.sign_in", "directory:ours", "--at", "+22d")
	r.says(0, "YES", "ask", "zelda.nordvane@pallowick.example", "directory.sign_in", "directory:ours", "--at", "+5d")
	r.says(0, "The dates of 124 records wait.", "dates")
	p := r.page(browser(t), "harbour")
	p.goTo("/", "document.querySelector('.dates-wait')?.innerText.includes('The dates of 124 records')")
	p.do(chromedp.Click(chromedp.CSS(".dates-wait button")))
	p.until("document.querySelector('.modal .going')")
	p.axe("letting dates count")
	p.do(chromedp.SendKeys(chromedp.CSS("#release-why"), "everybody was told"))
	p.until("!document.querySelector('.modal [type=submit]').disabled")
	p.do(chromedp.Click(chromedp.CSS(".modal [type=submit]")))
	p.until("!document.querySelector('.modal') && !document.querySelector('.dates-wait')")
	r.says(0, "No dates wait.", "dates")
	r.says(0, "everybody was told", "journal", "--kind", "dates_from", "--limit", "3")
	r.says(1, "nothing is held", "dates", "lift", "--why", "x")
}

// TestStepsLead follows next steps to where they are done: each cause leads to the page of
// the thing that its own step changes, and to no other.
func TestStepsLead(t *testing.T) {
	r := demoService(t)
	p := r.page(browser(t), "harbour")
	for question, want := range map[string]string{
		"who=person%3Ad.ekwinter&action=directory.invite&resource=space%3Alighthouse-lamps&address=new%40ropewalk.example": "/partners Go to the partners|/spaces/lighthouse-lamps Go to the space",
		"who=maren.holtveig%40ilvane.example&action=files.open&resource=folder%3Aloan-valuations":                          "/spaces/loan-dossier Go to the space",
		"who=edda.nordvane%40ilvane.example&action=spaces.enter&resource=space%3Aloan-dossier":                             "/guests/edda.nordvane%40ilvane.example Go to the guest",
		"who=person%3Ao.tidewell&action=mail.forward&resource=mailbox%3Ao.tidewell&address=x%40homepost.example":           "/people/o.tidewell Go to the person",
	} {
		p.goTo("/ask?"+question, verdict+".dataset.decision === 'no'")
		got := eval[string](p,
			"[...document.querySelectorAll('.cause-next a')].map(a => a.getAttribute('href') + ' ' + a.innerText).filter((x, i, all) => all.indexOf(x) === i).join('|')")
		if got != want {
			t.Errorf("%s leads to\n%s, want\n%s", question, got, want)
		}
	}
	p.goTo("/ask?who=maren.holtveig%40ilvane.example&action=files.open&resource=folder%3Aloan-valuations",
		"document.querySelector('.cause-next a')")
	eval[any](p, "document.querySelector('.cause-next a').click()")
	p.until("location.pathname === '/spaces/loan-dossier' && document.querySelector('.values')")
}
