package e2e

import (
	"regexp"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

var linkIn = regexp.MustCompile(`http://\S+`)

// TestBundlesInTheConsole walks the whole way of a bundle: it is made, somebody outside proves a mailbox on a phone and asks for it,
// whoever decides comes from the mail and gives less, what is held is seen and asked about everywhere, more time is asked for and
// taken back, the bundle changes in a draft that says for whom, and it ends.
func TestBundlesInTheConsole(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	post := r.post()
	r.login("harbour")
	admin := r.page(browser(t), "harbour")
	admin.goTo("/bundles", "document.querySelectorAll('.bundles tbody tr').length === 2")
	if got := admin.text(".bundles"); !strings.Contains(got, "Loan desk") || !strings.Contains(got, "Loan dossier: contribute") ||
		!strings.Contains(got, "whoever answers for them") {
		t.Error(got)
	}
	admin.axe("bundles")
	admin.picture("bundles")
	admin.presses("main", "Make a bundle")
	admin.until("document.querySelector('#bu-name')")
	admin.fill("#bu-name", "Condition reports")
	admin.fill(".modal [role=combobox]", "condition-reports")
	admin.until("[...document.querySelectorAll('[role=option]')].some(o => o.innerText.includes('Condition reports'))")
	eval[any](admin,
		"[...document.querySelectorAll('.modal.show [role=option]')].find(o => o.innerText.includes('Condition reports')).click()")
	admin.until("document.querySelector('.modal .line-act')")
	admin.axe("make a bundle")
	admin.picture("bundle-make")
	r.must("bundle", "add", "Condition reports", "--give", "folder:condition-reports=view", "--give", "space:loan-dossier=view", "--for",
		"ilvane,tholemere", "--approval", "owner", "--question", "Which object?", "--term-days", "90", "--why", "they ask for it every week",
		"--yes")
	admin.goTo("/bundles/condition-reports", "document.querySelector('[aria-labelledby=h-opens] tbody tr')")
	if got := admin.text("[aria-labelledby=h-opens]"); !strings.Contains(got, "Ilvane") || !strings.Contains(got, "Tholemere") {
		t.Error(got)
	}
	admin.axe("bundle")
	r.says(0, "FOR A TYPICAL PERSON OF", "bundle", "show", "condition-reports")
	r.says(1, `there is no partner "nobody"`, "bundle", "add", "Wrong", "--give", "space:loan-dossier=view", "--for", "nobody", "--yes")
	r.says(1, `there is no space "none"`, "bundle", "add", "Wrong", "--give", "space:none=view", "--yes")
	r.says(2, "write RESOURCE=ROLE", "bundle", "add", "Wrong", "--give", "space:loan-dossier")

	// Somebody outside, on a phone.
	guest := &page{t, browser(t), r.url}
	prove := func(who string) {
		t.Helper()
		guest.do(chromedp.EmulateViewport(390, 844), chromedp.Navigate(r.url+"/door"), chromedp.WaitVisible(chromedp.CSS("#door-address")))
		guest.fill("#door-address", who)
		guest.presses(".sill", "Send me the code")
		guest.do(chromedp.WaitVisible(chromedp.CSS("#door-code")))
		guest.fill("#door-code", codeIn.FindString(post.next(who).Text))
		guest.presses(".sill", "Enter")
	}
	const who = "pella.nim@ilvane.example"
	prove(who)
	guest.until("document.querySelectorAll('.own-places li').length === 2")
	if got := guest.text(".sill"); !strings.Contains(got, "What you may ask for") ||
		!strings.Contains(got, "Condition reports: look at what is in it") || strings.Contains(got, "Reader of valuations") {
		t.Error(got)
	}
	guest.axe("bundles at the door")
	guest.picture("door-bundles")
	guest.presses(".own-places li:first-child", "Ask for it")
	guest.fill("#b-condition-reports-0", "The astrolabe")
	guest.fill("#b-condition-reports-why", "We look at the crack together")
	guest.picture("door-bundle-ask")
	guest.presses(".own-places li:first-child", "Ask")
	guest.until("document.querySelector('.own-places li [role=status]')?.innerText.includes('You have asked for it')")
	guest.picture("door-bundle-asked")
	guest.presses(".sill", "Português")
	guest.until("document.querySelector('.sill h1')?.innerText === 'O que pode pedir'")

	// Whoever decides comes from the mail, on a phone too.
	m := post.next("s.lindqvane@brackwater.example")
	link := strings.TrimPrefix(linkIn.FindString(m.Text), r.url)
	if !strings.Contains(m.Text, "Give "+who+" the bundle Condition reports") || !strings.Contains(m.Text, "Which object? The astrolabe") ||
		!strings.HasPrefix(link, "/?request=") {
		t.Errorf("to who decides: %s\n%s", m.Subject, m.Text)
	}
	owner := r.page(browser(t), "mooring")
	owner.do(chromedp.EmulateViewport(390, 844))
	owner.goTo(link, "document.querySelector('.modal .line-act')")
	owner.until("document.querySelector('.modal')?.innerText.includes('They may then')")
	if got := owner.text(".modal"); !strings.Contains(got, "The astrolabe") || !strings.Contains(got, who) {
		t.Error(got)
	}
	owner.axe("approve")
	owner.picture("bundle-approve")
	owner.fill(".modal .line-act:nth-child(2) select", "")
	owner.presses(".modal", "Give it")
	owner.until("!document.querySelector('.modal .line-act')")
	if m := post.next(who); !strings.Contains(m.Text, "Condition reports: ver") && !strings.Contains(m.Text, "Condition reports: ") {
		t.Errorf("to who asked: %s\n%s", m.Subject, m.Text)
	}
	r.says(0, "through the bundle Condition reports", "ask", who, "files.open", "folder:condition-reports", "-o", "json")
	if _, _, body := r.call("POST", "/access/v1/evaluation", r.token("harbour"),
		`{"subject":{"type":"party","id":"`+who+`"},"action":{"name":"files.open"},"resource":{"type":"folder","id":"condition-reports"},"context":{"enforces":["accept_terms"]}}`); !strings.Contains(body,
		`"bundle":"condition-reports"`) || !strings.Contains(body, `"decision":true`) {
		t.Errorf("as a gateway asks: %s", body)
	}
	r.says(3, "no", "ask", who, "spaces.enter", "space:loan-dossier")
	r.says(0, who, "bundle", "show", "condition-reports")
	r.says(0, "Condition reports", "reach", who)
	r.says(0, "bundle:condition-reports", "guest", "show", who)
	admin.goTo("/bundles/condition-reports", "document.querySelector('[aria-labelledby=h-held] tbody tr')")
	admin.picture("bundle")

	admin.goTo("/guests/"+who, "document.querySelector('[aria-labelledby=h-grants] a[href=\"/bundles/condition-reports\"]')")

	eval[any](admin,
		"[...document.querySelectorAll('[aria-labelledby=h-grants] tr')].find(x => x.innerText.includes('through the bundle')).querySelector('.row-acts button:last-child').click()")
	admin.until("document.querySelector('.modal')?.innerText.includes('Take it out of what') && document.querySelector('.modal').innerText.includes('loses')")
	admin.picture("bundle-take-out")
	admin.presses(".modal", "Leave it")

	// A member asks for somebody.
	member := r.page(browser(t), "rigger")
	member.goTo("/bundles", "document.querySelector('.bundles tbody tr')")
	member.presses(".bundles tbody tr:first-child", "Ask for somebody")
	member.until("document.querySelector('#ab-address')")
	member.fill("#ab-address", "sanne.brue@ilvane.example")
	member.fill("#ab-q0", "The oar")
	member.fill("#ab-why", "she packs the crate")
	member.axe("ask for somebody")
	member.picture("bundle-ask")
	member.presses(".modal", "Ask for it")
	member.until("document.querySelector('.sent')?.innerText.includes('Sent to ')")

	// On their own page: what they hold, more time, taken back.
	prove(who)
	guest.until("document.querySelector('#own-agree') || document.querySelector('#own-bundles')")
	if eval[bool](guest, "!!document.querySelector('#own-agree')") {
		guest.do(chromedp.Click(chromedp.CSS("#own-agree")))
		guest.do(chromedp.Click(chromedp.CSS(".sill form [type=submit]")))
	}
	guest.until("document.querySelector('#own-bundles')")
	guest.picture("own-bundles")
	r.says(0, "Condition reports", "bundle", "list")

	// A change of the bundle says for whom.
	r.says(0, "Condition reports", "bundle", "set", "condition-reports", "--give", "folder:condition-reports=contribute", "--why",
		"they upload them", "--yes")
	r.says(0, "", "ask", who, "files.edit", "folder:condition-reports")
	r.says(0, "closed", "bundle", "set", "condition-reports", "--closed", "--why", "enough of it", "--yes")
	r.says(1, "is closed", "bundle", "ask", "condition-reports", "ansel.drummere@ilvane.example", "--answer", "x", "--purpose", "x")
	r.says(0, "lose", "bundle", "end", "condition-reports", who, "--preview")
	r.must("bundle", "end", "condition-reports", who, "--why", "done")
	r.says(3, "", "ask", who, "files.open", "folder:condition-reports")
	r.says(1, "close", "bundle", "remove", "condition-reports", "--yes")

	r.says(0, who+",condition-reports,", "dump", "--csv", "holdings")
	// What is kept goes out and comes in.
	dump := r.must("dump")
	if !strings.Contains(dump, "holdings:") || !strings.Contains(dump, "party: "+who) {
		t.Error("the dump does not say who held what")
	}
}

// TestReviewsInTheConsole begins a round, answers as a member on a phone, many at once as a keeper, and ends it.
func TestReviewsInTheConsole(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	post := r.post()
	r.login("harbour")
	admin := r.page(browser(t), "harbour")
	admin.goTo("/reviews", "document.querySelector('main h1')?.innerText === 'Reviews'")
	admin.presses("main", "Begin a round")
	admin.until("document.querySelector('#rv-name')")
	admin.fill("#rv-name", "Before the loan ends")
	admin.fill("#rv-scope", "space")
	admin.fill(".modal [role=combobox]", "space:loan-dossier")
	admin.fill("#rv-why", "the lender asks who still needs it")
	admin.presses(".modal", "Who is asked?")
	admin.until("document.querySelector('.modal [role=status]')")
	admin.axe("begin a round")
	admin.picture("review-begin")
	admin.presses(".modal", "Begin it")
	admin.until("document.querySelector('.review-lines li')")
	admin.axe("review")
	admin.picture("review")
	if got := admin.text("main"); !strings.Contains(got, "in the space Loan dossier") || !strings.Contains(got, "It waits for ") {
		t.Error(got)
	}
	if m := post.next("s.lindqvane@brackwater.example"); !strings.Contains(m.Text, "Before the loan ends") ||
		!strings.Contains(m.Text, "/reviews/") {
		t.Errorf("to who is asked: %s\n%s", m.Subject, m.Text)
	}
	r.says(0, "Before the loan ends", "review", "list")

	keeper := r.page(browser(t), "mooring")
	keeper.do(chromedp.EmulateViewport(390, 844))
	keeper.goTo("/reviews", "document.querySelector('.rounds li')")
	keeper.presses(".rounds", "Before the loan ends")
	keeper.until("document.querySelectorAll('.review-lines li.is-open').length > 3")
	keeper.picture("review-phone")
	keeper.axe("review on a phone")
	eval[any](keeper, "document.querySelectorAll('.review-lines input')[0].click()")
	keeper.presses(".review-bar", "End")
	keeper.until("document.querySelector('.modal')?.innerText.match(/lose|loses|Nothing/)")
	keeper.picture("review-end")
	keeper.fill("#ra-why", "they have left the loan")
	keeper.presses(".modal", "End")
	keeper.until("[...document.querySelectorAll('main [role=status]')].some(x => x.innerText.includes('1 answered'))")
	eval[any](keeper, "document.querySelector('#rv-all').click()")
	keeper.presses(".review-bar", "Keep")
	keeper.until("document.querySelector('#ra-until')")
	keeper.presses(".modal", "Keep")
	keeper.until("!document.querySelector('.modal') && [...document.querySelectorAll('main [role=status]')].some(x => x.innerText.match(/4. answered/))")
	r.says(0, "ended", "review", "lines", r.first("review", "list"), "--state", "ended")
	admin.goTo("/reviews", "document.querySelector('.rounds li')")
	admin.presses(".rounds", "Before the loan ends")
	admin.until("document.querySelector('.round-progress')")
	admin.presses("main", "End it now")
	admin.until("document.querySelector('#re-why')")
	admin.fill("#re-why", "everybody has answered")
	admin.presses(".modal", "End it")
	admin.until("document.querySelector('main a[href^=\"/evidence/\"]')")
	admin.picture("review-over")
	r.says(0, "sealed as", "review", "show", r.first("review", "list"))
}

// first is the first field of the first line of what the client lists.
func (r *running) first(args ...string) string {
	r.t.Helper()
	line := strings.Split(r.must(append(args, "-o", "csv")...), "\n")[1]
	return line[:strings.IndexByte(line, ',')]
}
