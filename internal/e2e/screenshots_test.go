package e2e

import (
	"context"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/chromedp/chromedp"
	"wexillum.example/internal/demo"
	"wexillum.example/internal/service"
)

const lecturer = "/ask?who=person%3Aj.penhallow&action=directory.invite&resource=space%3Adocent-course&address=h.brannoch%40oskelund.example"

// TestScreenshots takes the pictures of the documentation from the demo world.
// It runs only where WEXILLUM_SCREENSHOTS names a folder.
func TestScreenshots(t *testing.T) {
	dir := os.Getenv("WEXILLUM_SCREENSHOTS")
	if dir == "" {
		t.Skip("WEXILLUM_SCREENSHOTS names no folder")
	}
	r := demoService(t)
	at, _ := r.withSuite(10 * demo.SuiteFaster)
	r.settled("quay")
	r.settled("parley")
	ctx := context.Background()
	b := browser(t)
	door := &page{t, b, r.url}
	door.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(r.url), chromedp.WaitVisible(chromedp.CSS("#name")))
	p := r.page(b, "harbour")
	take := func(name, path, ready string) {
		p.goTo(path, ready)
		p.until("document.fonts.status === 'loaded'")
		p.shot(filepath.Join(dir, name+".png"))
	}
	verdict := "document.querySelector('[data-testid=verdict]') && document.querySelector('[data-testid=in-suite]')"
	take("today", "/", "document.querySelector('.openness tbody tr') && document.querySelector('.suite-now li')")
	take("answer-lecturer", lecturer, verdict)
	take("partners", "/partners", "document.querySelector('.board tbody tr')")
	take("partner", "/partners/oskelund", "document.querySelector('.openings')")
	take("reach", "/reach", "document.querySelector('.reach-board tbody tr')")
	take("could", "/could?who=*@sandrill.example&action=spaces.enter&resource=space:loan-dossier",
		"document.querySelector('.way-line li') && document.querySelector('.remedy')")
	take("rules", "/rules?service=meetings", "document.querySelector('.rule')")
	take("space", "/spaces/volunteers-handbook", "document.querySelector('.values')")
	list, err := r.svc.Findings(ctx) // since when they are there is kept as the service keeps it
	check(t, err)
	check(t, r.svc.KeepNoticed(ctx, list))
	take("findings", "/findings", "document.querySelector('.findings li')")
	r.login("harbour")
	r.must("expect", "add", "--party", "kind:bearer", "--action", "files.*", "--condition", "password", "--id", "links-with-password",
		"--owner", "p.ashdock", "--reason", "links travel", "--yes")
	check(t, r.svc.KeepJudged(ctx))
	take("expectations", "/expectations", "document.querySelector('.expectations li') && document.querySelector('#h-proposed')")
	check(t, turn(at["parley"], "houses", "all but: marrowby.example"))
	_, err = r.svc.ReadSystem(context.Background(), service.Who{Name: "harbour", Role: service.Administrator}, "parley")
	check(t, err)
	take("system", "/systems/parley", "document.querySelector('.settings-found .is-wrong')")
	for _, who := range []string{"sanne.brue@ilvane.example", "vesper.larkmoor@ilvane.example"} {
		r.must("bundle", "ask", "loan-desk", who, "--answer", "The oar of Sandrill", "--purpose", "they pack the second crate")
		_, err = r.svc.DoRequest(ctx, service.Who{Name: "mooring", Role: service.Keeper, Person: "s.lindqvane"}, r.first("request", "list"), "",
			false, service.BundleApproval{})
		check(t, err)
	}
	take("bundle", "/bundles/loan-desk", "document.querySelectorAll('[aria-labelledby=h-held] tbody tr').length === 2")
	r.must("review", "start", "Before the loan ends", "--space", "loan-dossier", "--until", "+20d", "--why",
		"the lender asks who still needs it")
	r.must("review", "answer", r.first("review", "list"), "--keep", "--line", "2", "--line", "3")
	r.must("review", "answer", r.first("review", "list"), "--narrower", "view", "--line", "1", "--why", "looking is enough")
	take("review", "/reviews/"+r.first("review", "list"), "document.querySelector('.review-lines li')")
	post := r.post()
	_, err = r.svc.CarryOut(ctx)
	check(t, err)
	take("guests", "/guests", "document.querySelector('.tide rect') && document.querySelectorAll('.guests tbody tr').length > 10")
	take("guest", "/guests/maren.holtveig@ilvane.example", "document.querySelector('.tide-knot')")
	p.goTo("/invite?into=space:loan-dossier&list="+url.QueryEscape("Nilda Fossen <n.fossen@ilvane.example>\nosric.tarn@homepost.example\nh.brannoch@oskelund.example"),
		"document.querySelector('#i-purpose')")
	p.do(chromedp.SendKeys(chromedp.CSS("#i-purpose"), "restoring the astrolabe"),
		chromedp.SendKeys(chromedp.CSS("#i-text"), "We look forward to working with you."),
		chromedp.Click(chromedp.CSS(".invite-do .btn[type=submit]")))
	p.until("document.querySelectorAll('.outcomes li').length === 3")
	p.shot(filepath.Join(dir, "invite.png"))
	p.do(chromedp.Click(chromedp.CSS(".invite-do .btn:not([type=submit])")))
	p.until("document.querySelector('#h-outcome')?.innerText === 'Sent'")
	link := regexp.MustCompile(`http://\S+/door/invited#\S+`).FindString(post.next("n.fossen@ilvane.example").Text)
	guest := &page{t, browser(t), r.url}
	guest.do(chromedp.EmulateViewport(390, 844), chromedp.Navigate(link))
	guest.until("document.querySelector('.sill').innerText.includes('n…@ilvane.example')")
	guest.do(chromedp.Click(chromedp.CSS(".sill button[type=submit]")), chromedp.WaitVisible(chromedp.CSS("#door-code")))
	guest.do(chromedp.SendKeys(chromedp.CSS("#door-code"), codeIn.FindString(post.next("n.fossen@ilvane.example").Text)),
		chromedp.Click(chromedp.CSS(".sill button[type=submit]")))
	guest.until("document.querySelector('#own-agree')")
	guest.do(chromedp.Click(chromedp.CSS("#own-agree")), chromedp.Click(chromedp.CSS(".sill form button[type=submit]")))
	guest.until("document.querySelector('#own-stay')")
	guest.shot(filepath.Join(dir, "own.png"))
	r.login("harbour")
	r.must("draft", "new", "Lower the file limit")
	for _, set := range [][]string{{"files.given_to", "--limit", "inside", "--why", "an audit of what has left"},
		{"chat.guest_delete", "--default", "on", "--why", "they mend their own messages"}} {
		r.must(append([]string{"rules", "set", "--draft", "Lower the file limit"}, set...)...)
	}
	p.goTo("/drafts", "document.querySelector('.drafts a')")
	p.do(chromedp.Click(chromedp.CSS(".drafts a")))
	p.until("document.querySelector('.keels') && document.fonts.status === 'loaded'")
	p.shot(filepath.Join(dir, "draft.png"))
}
