package e2e

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// TestSignUpAtTheDoor walks with somebody who signs up, on a phone: they prove the address, answer, wait, are let
// in by whoever the settings name, and sign in; then with a student who joins a course.
func TestSignUpAtTheDoor(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	post := r.post()
	r.login("harbour")
	r.must("rules", "set", "directory.self_signup", "--limit", "on", "--default", "on", "--why", "an open house", "--yes")
	admin := r.page(browser(t), "harbour")
	admin.goTo("/settings", "document.querySelector('#set-asks')")
	admin.fill("#set-asks", "Which firm are you with?\nWhat brings you here?")
	admin.fill("[aria-labelledby=h-signup] [role=combobox]", "d.ekwinter")
	admin.picture("settings-signup")
	admin.presses("[aria-labelledby=h-signup]", "Save")
	admin.until("document.querySelector('.quick-dialog .quick-publish')")
	admin.picture("settings-weighed")
	admin.publish("we want to know who comes")
	r.says(0, "settings.sign_up_asks", "settings", "show")
	r.says(0, "Which firm are you with? | What brings you here?", "settings", "show")

	guest := &page{t, browser(t), r.url}
	at := func(path string) {
		t.Helper()
		guest.do(chromedp.EmulateViewport(390, 844), chromedp.Navigate(r.url+path), chromedp.WaitVisible(chromedp.CSS("#door-address")))
	}
	prove := func(who string) {
		t.Helper()
		guest.fill("#door-address", who)
		guest.presses(".sill", "Send me the code")
		guest.do(chromedp.WaitVisible(chromedp.CSS("#door-code")))
		guest.fill("#door-code", codeIn.FindString(post.next(who).Text))
		guest.presses(".sill", "Enter")
	}
	const who = "pella.nim@ilvane.example"
	at("/door")
	prove(who)
	guest.until("document.querySelector('#door-q1')")
	guest.axe("questions")
	guest.fill("#door-q0", "Ilvane Conservation")
	guest.fill("#door-q1", "The open house")
	guest.picture("door-questions")
	guest.presses(".sill", "Send")
	guest.until("document.querySelector('.sill h1')?.innerText === 'You have asked to come in'")
	guest.picture("door-waiting")
	guest.presses(".sill", "Português")
	guest.until("document.querySelector('.sill h1')?.innerText === 'Pediu para entrar'")
	if m := post.next("d.ekwinter@brackwater.example"); m.Subject != who+" asks to come in" ||
		!strings.Contains(m.Text, "> Which firm are you with? Ilvane Conservation; What brings you here? The open\n> house") &&
			!strings.Contains(m.Text, "> Which firm are you with? Ilvane Conservation; What brings you here? The open house") {
		t.Errorf("to who decides: %s\n%s", m.Subject, m.Text)
	}

	admin.goTo("/", "document.querySelector('.requests')")
	if got := admin.text(".requests li"); !strings.Contains(got, "Let "+who+" in as a guest") ||
		!strings.Contains(got, "It goes to Dayo Ekwinter") || strings.Contains(got, "Answer\n") {
		t.Error(got)
	}
	admin.presses(".requests", "Let them in")
	admin.until("document.querySelector('.modal .said')?.innerText.includes('The open house') && document.querySelector('.modal').innerText.includes('sign in')")
	admin.picture("let-in")
	admin.axe("let in")
	admin.presses(".modal", "Let them in")
	admin.until("document.querySelector('.modal')?.innerText.includes('They may come in') || !document.querySelector('.requests')")
	if m := post.next(who); m.Subject != "Brackwater Museum of Navigation: you may come in" || !strings.Contains(m.Text, r.url+"/door") {
		t.Errorf("to who asked: %s\n%s", m.Subject, m.Text)
	}
	at("/door")
	prove(who)
	guest.until("document.querySelector('#own-agree')")
	r.says(0, "Which firm are you with? Ilvane Conservation", "guest", "show", who)

	// Somebody of whom nobody heard joins a course where it may be joined, and has no page here.
	r.must("rules", "set", "spaces.join_in", "--limit", "any", "--why", "an open house", "--yes")
	r.must("rules", "set", "spaces.connect", "--limit", "any", "--why", "an open house", "--yes")
	for _, rule := range []string{"spaces.join_in", "spaces.connect"} {
		r.must("rules", "set", rule, "--space", "docent-course", "--value", "any", "--why", "an open house", "--yes")
	}
	r.must("space", "set", "docent-course", "--joinable", "yes", "--joins-as", "contribute", "--why", "they work on it", "--yes")
	student := &page{t, browser(t), r.url}
	guest = student
	at("/door?join=docent-course")
	guest.until("document.querySelector('.sill h1').innerText === 'Join a course'")
	prove("nils@unlisted.example")
	guest.until("document.querySelector('.sill h1').innerText === 'You have joined Docent course'")
	guest.picture("door-joined")
	r.says(0, "Docent course", "reach", "nils@unlisted.example")
	r.says(0, "joined by themselves", "journal", "--kind", "grant")
}
