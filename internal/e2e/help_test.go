package e2e

import (
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// TestHelpInTheConsole: the question mark opens what is about the page, links within the help stay in the console, and
// everyday words find where something is said.
func TestHelpInTheConsole(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	p := r.page(browser(t), "rigger") // members, too
	p.goTo("/spaces", "document.querySelector('.page h1')")
	p.do(chromedp.KeyEvent("?"))
	p.until(`location.pathname === '/help/places' && document.querySelector('.help-page h2')`)
	p.presses(".help aside", "Where to begin")
	p.until(`document.querySelector('#page-title').textContent === 'Where to begin'`)
	p.presses(".help-page", "Guests")
	p.until(`location.pathname === '/help/guests' && document.querySelector('.help-page #look-after-them') && document.querySelector('.help-sections a')`)
	if p.text(".help-page") == "" || eval[bool](p, `[...document.querySelectorAll('.help-page a')].some((a) => !a.getAttribute('href'))`) {
		t.Error("a link of a page leads nowhere")
	}
	p.do(chromedp.Focus(chromedp.CSS(".help input")), chromedp.KeyEvent("?upgrade tables"), chromedp.KeyEvent(kb.Enter))
	p.until(`document.querySelector('.help-found li a')?.getAttribute('href') === '/help/run#upgrade'`)
	p.presses(".help-found", "Upgrade")
	p.until(`location.hash === '#upgrade' && document.querySelector('#upgrade')`)
	p.axe("help")
}
