package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/chromedp/chromedp"
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
	b := browser(t)
	door := &page{t, b, r.url}
	door.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(r.url), chromedp.WaitVisible(chromedp.CSS("#name")))
	p := r.page(b, "harbour")
	take := func(name, path, ready string) {
		p.goTo(path, ready)
		p.until("document.fonts.status === 'loaded'")
		p.shot(filepath.Join(dir, name+".png"))
	}
	verdict := "document.querySelector('[data-testid=verdict]')"
	take("today", "/", "document.querySelector('.openness tbody tr')")
	take("answer-lecturer", lecturer, verdict)
	take("answer-yes", "/ask?who=%2A%40orrin.example&action=meetings.remote_control&resource=meeting%3Arigging-call", verdict)
	take("answer-freight", "/ask?who=u.vexley%40marrowby.example&action=spaces.enter&resource=space%3Acrate-logistics", verdict)
	take("partners", "/partners", "document.querySelector('.board tbody tr')")
	take("partner", "/partners/oskelund", "document.querySelector('.openings')")
	take("reach", "/reach", "document.querySelector('.reach-board tbody tr')")
	take("audience", "/audience?resource=space%3Aloan-dossier&all=true", "document.querySelector('.listing tbody tr')")
	take("difference", "/difference?who=maren.holtveig%40ilvane.example&and_who=edda.nordvane%40ilvane.example", "document.querySelector('.listing tbody tr')")
	take("rules", "/rules?service=meetings", "document.querySelector('.rule')")
	take("space", "/spaces/volunteers-handbook", "document.querySelector('.values')")
	take("person", "/people/d.ekwinter", "document.querySelector('.reached')")
	take("exceptions", "/exceptions", "document.querySelector('.time')")
	take("findings", "/findings", "document.querySelector('.findings li')")
	take("journal", "/journal", "document.querySelector('.log > li')")
	p.do(chromedp.EmulateViewport(390, 844))
	take("answer-phone", lecturer, verdict)
	p.do(chromedp.EmulateViewport(1280, 800))
	take("numbers", "/numbers", "document.querySelector('.ledger li')")
	r.login("harbour")
	r.must("draft", "new", "Lower the file limit")
	for _, set := range [][]string{{"files.given_to", "--limit", "inside", "--why", "an audit of what has left"}, {"chat.guest_delete", "--default", "on", "--why", "they mend their own messages"}} {
		r.must(append([]string{"rules", "set", "--draft", "Lower the file limit"}, set...)...)
	}
	p.goTo("/drafts", "document.querySelector('.drafts a')")
	p.do(chromedp.Click(chromedp.CSS(".drafts a")))
	p.until("document.querySelector('.keels') && document.fonts.status === 'loaded'")
	p.shot(filepath.Join(dir, "draft.png"))
}
