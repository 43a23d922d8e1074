package e2e

import (
	"strings"
	"testing"
)

// TestAwayInTheConsole lets a keeper say that they are away: a member decides for them, sees so, and approves a bundle that was asked for.
func TestAwayInTheConsole(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	post := r.post()
	r.login("harbour")
	r.must("bundle", "add", "Log books", "--id", "logbooks", "--give", "space:loan-dossier=view", "--for", "ilvane", "--approval",
		"s.lindqvane", "--term-days", "60", "--why", "they ask for it", "--yes")
	r.must("bundle", "ask", "logbooks", "e.norwell@ilvane.example", "--purpose", "the winter inventory")
	keeper := r.page(browser(t), "mooring")
	keeper.goTo("/people/s.lindqvane", "document.querySelector('#h-away')")
	keeper.presses("main", "Say when away")
	keeper.until("document.querySelector('.modal')?.innerText.includes('A keeper decides from now on: one request waits')")
	keeper.fill(".modal [role=combobox]", "person:d.ekwinter")
	keeper.until("document.querySelector('.modal')?.innerText.includes('decides from now on: one request waits for Soren Lindqvane now')")
	keeper.fill("#aw-why", "on leave")
	keeper.axe("say when away")
	keeper.picture("away-dialog")
	keeper.presses(".modal", "Say so")
	keeper.until("document.querySelector('main').innerText.includes('decides for Soren Lindqvane')")
	keeper.picture("away")
	keeper.axe("away")
	if m := post.next("d.ekwinter@brackwater.example"); !strings.Contains(m.Text, "Soren Lindqvane is away until the end of") ||
		!strings.Contains(m.Text, "one request") {
		t.Errorf("to the deputy: %s\n%s", m.Subject, m.Text)
	}
	r.says(0, "on leave", "absence", "list")
	r.says(0, "now Dayo Ekwinter", "request", "show", r.first("request", "list"))

	deputy := r.page(browser(t), "rigger")
	deputy.goTo("/", "document.querySelector('#h-stands-in')")
	deputy.until("document.querySelector('.requests button')")
	deputy.picture("away-deputy")
	deputy.axe("a deputy's first page")
	deputy.presses(".requests", "Look at it")
	deputy.until("[...document.querySelectorAll('.modal button')].some(b => b.innerText === 'Give it' && !b.disabled)")
	deputy.presses(".modal", "Give it")
	deputy.until("!document.querySelector('.requests') || document.querySelector('.requests').innerText.includes('works now')")
	r.says(0, "rigger, on", "request", "show", r.first("request", "list", "--over"))
	r.says(0, "for Soren Lindqvane", "request", "show", r.first("request", "list", "--over"))
	keeper.presses("main", "Back again")
	keeper.until("document.querySelector('main').innerText.includes('Soren Lindqvane decides on requests and reviews')")
	r.says(0, "Nobody is said to be away", "absence", "list")
}
