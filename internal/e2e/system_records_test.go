package e2e

import (
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/demo"
	"wexillum.example/internal/suite"
)

// desk does something at the page of a program of the suite, as whoever sits there.
func desk(t *testing.T, at string, form url.Values) {
	t.Helper()
	resp, err := http.PostForm(at+"/desk", form)
	check(t, err)
	check(t, resp.Body.Close())
}

// TestRecordsInTheConsole: strangers who were let in at the harbour's own desk are found, one is taken over and
// one is ended there; a guest who was put ashore there is put back; each is weighed before.
func TestRecordsInTheConsole(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	at, programs := r.withSuite(10 * demo.SuiteFaster)
	r.settled("quay")
	quay := programs["quay"]
	for _, mail := range []string{"stranger@far.example", "nilda@ilvane.example"} {
		desk(t, at["quay"], url.Values{"kind": {"visitors"}, "f-mail": {mail}, "f-standing": {"aboard"},
			"in-the-name-of": {"d.ekwinter@brackwater.example"}})
	}
	known := quay.Things("visitors")[0]
	other := map[string]string{"aboard": "ashore", "ashore": "aboard"}[known.Fields["standing"]]
	_, err := quay.Put("visitors", known.ID, map[string]string{"standing": other}, "the desk")
	check(t, err)
	p := r.page(browser(t), "harbour")
	p.goTo("/systems/quay", "document.querySelector('[aria-label=Inventory]')")
	p.presses("main", "Read now")
	p.until("[...document.querySelectorAll('[aria-label=Inventory] .gets-no')].map(a => a.innerText).join() .includes('2')")
	p.axe("what a system keeps")
	p.picture("system-keeps")
	p.goTo("/systems/quay/guest?state=unknown", "document.querySelectorAll('[aria-label=Records] tbody tr').length === 2")
	p.axe("records")
	if got := p.text("[aria-label=Records]"); !strings.Contains(got, "nilda@ilvane.example") ||
		!strings.Contains(got, "by d.ekwinter@brackwater.example") {
		t.Errorf("unknown here: %s", got)
	}
	pick := func(name string) {
		t.Helper()
		p.until(`document.querySelector('[aria-label="` + name + `"]')`)
		eval[bool](p, `document.querySelector('[aria-label="`+name+`"]').click(), true`)
	}
	pick("nilda@ilvane.example")
	p.presses("main", "Take over 1")
	p.until("document.querySelector('#rd-why')")
	p.fill(".modal .combo input", "d.ekwinter")
	p.fill("#rd-purpose", "the survey")
	p.until("document.querySelector('.modal .steps-shown li')?.innerText.includes('nilda@ilvane.example')")
	p.axe("taking over")
	p.fill("#rd-why", "they were let in there")
	p.presses(dialogue, "Take over")
	p.until("!document.querySelector('.modal.show') && document.querySelectorAll('[aria-label=Records] tbody tr').length === 1")
	g, _, err := r.svc.Guest(t.Context(), "nilda@ilvane.example")
	check(t, err)
	if g == nil || g.Sponsor != "d.ekwinter" || g.Purpose != "the survey" {
		t.Errorf("taken over: %+v", g)
	}
	p.presses("main", "End there all")
	p.until("document.querySelector('.modal .steps-shown li')?.innerText.includes('is taken away there')")
	p.fill("#rd-why", "nobody knows them")
	p.presses(dialogue, "End there")
	p.until("document.body.innerText.includes('All that it keeps of this kind stands for something here.')")
	for until := time.Now().Add(patience); strings.Contains(visitors(quay), "stranger@far.example"); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatal("ended there, and still there")
		}
	}
	p.goTo("/systems/quay/guest?state=drift", "document.querySelectorAll('[aria-label=Records] tbody tr').length === 1")
	p.presses("main", "Put back all")
	p.until("document.querySelector('#rd-why')")
	p.fill("#rd-why", "nobody asked for it")
	p.presses(dialogue, "Put back")
	p.until("document.body.innerText.includes('Nothing of this kind.')")
	r.settled("quay")
	if got := quay.Things("visitors")[0].Fields["standing"]; got == other {
		t.Errorf("put back: %s", got)
	}
	p.goTo("/journal?kind=system_record", "document.body.innerText.includes('nobody knows them')")
	// Where links are made is changed with a reason.
	p.goTo("/systems/quay", "document.querySelector('[aria-label=Inventory]')")
	p.presses("[aria-label=Inventory]", "Change")
	p.until("document.querySelector('#kt-why')")
	p.axe("where it is made")
	p.fill("#kt-why", "people make them there")
	p.presses(dialogue, "Say so")
	p.until("document.querySelector('[aria-label=Inventory]').innerText.includes('there and here')")
	// A keeper decides about guests, and not about spaces.
	k := r.page(browser(t), "mooring")
	k.goTo("/systems/quay/guest?state=unknown", "document.body.innerText.includes('Guests in')")
	k.goTo("/systems/quay/space?state=unknown", "document.body.innerText.includes('Spaces in')")
	if eval[bool](k, "[...document.querySelectorAll('main button')].some(b => b.innerText.startsWith('Take over'))") {
		t.Error("a keeper is offered to take over spaces")
	}
	r.token("mooring")
	status, _, body := r.call("POST", "/api/v1/systems/quay/records?preview=true", r.token("mooring"),
		`{"do":"take_over","kind":"space","all":true}`)
	if status != 403 || !strings.Contains(body, "keepers decide about guests, grants and links") {
		t.Errorf("a keeper takes over spaces: %d %s", status, body)
	}
}

// visitors lists who is on the harbour's manifest.
func visitors(p *suite.Program) (out string) {
	for _, x := range p.Things("visitors") {
		out += x.Fields["mail"] + " "
	}
	return
}

// TestRecordsByClient: what is refused, and what lists say.
func TestRecordsByClient(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	at, _ := r.withSuite(10 * demo.SuiteFaster)
	r.settled("quay")
	desk(t, at["quay"], url.Values{"kind": {"visitors"}, "f-mail": {"x@brackwater.example"}, "f-standing": {"aboard"}})
	r.must("system", "read", "quay")
	r.says(0, "x@brackwater.example", "system", "records", "quay", "guest", "--state", "unknown")
	r.says(1, "The harbour keeps space, guest, grant, link", "system", "records", "quay", "boat")
	r.says(1, "value must be one of 'unknown', 'open'", "system", "records", "quay", "guest", "--state", "odd")
	r.says(2, `"take" is nothing that is done with records`, "system", "record", "quay", "take", "guest")
	r.says(1, "name the records, or all, not both", "system", "record", "quay", "take-over", "guest", "--why", "x", "--yes")
	r.says(1, "name the person of ours who answers for them", "system", "record", "quay", "take-over", "guest", "--all", "--why", "x", "--yes")
	r.says(1, "say what they are here for", "system", "record", "quay", "take-over", "guest", "--all", "--sponsor", "d.ekwinter", "--why", "x",
		"--yes")
	r.says(1, "our people do not become guests", "system", "record", "quay", "take-over", "guest", "--all", "--sponsor", "d.ekwinter",
		"--purpose", "x", "--why", "x", "--yes")
	r.says(1, "nothing of that kind is to be decided about it there", "system", "record", "quay", "end-there", "guest", "nobody@far.example",
		"--why", "x", "--yes")
	r.says(1, "nothing waits in The harbour because it is too much", "system", "record", "quay", "release", "--why", "x", "--yes")
	r.says(1, "write a day ahead, within a year", "system", "record", "quay", "accept", "guest", "--all", "--until", "2001-01-01", "--why",
		"x", "--yes")
	r.says(0, "Done with 1, not with 0.", "system", "record", "quay", "accept", "guest", "--all", "--until", "+7d", "--why",
		"a visit of the board", "--yes")
	r.says(0, "let be until", "system", "records", "quay", "guest", "--state", "unknown")
	r.says(1, "it can be the source of space, link", "system", "set", "quay", "--source", "guest", "--why", "x")
	r.says(1, "is only looked at", "system", "record", "ledger", "again", "forwarder", "--all", "--why", "x", "--yes")
	// Half a name is asked back, not taken for an id.
	r.says(2, `there is no partner called "Ilvane"; do you mean ilvane (Ilvane Conservation)?`, "grant", "add", "partner:Ilvane",
		"space:loan-dossier", "--role", "view", "--why", "x", "--yes")
}
