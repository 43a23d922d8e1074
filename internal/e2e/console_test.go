package e2e

import (
	"context"
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"wexillum.example/internal/demo"
	"wexillum.example/internal/service"
)

const verdict = "document.querySelector('[data-testid=verdict]')"

// axe wants no violation of WCAG 2 A and AA on the page as it is.
func (p *page) axe(what string) {
	p.t.Helper()
	source, err := os.ReadFile("../../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		p.t.Fatalf("axe is not installed: %v; run make console", err)
	}
	_, err = chromedp.Run(p.ctx, chromedp.Evaluate[int](string(source)+";0"))
	check(p.t, err)
	raw, err := chromedp.Run(p.ctx,
		chromedp.Evaluate[string](`axe.run(document,{runOnly:['wcag2a','wcag2aa','wcag21a','wcag21aa','best-practice']}).then(r=>JSON.stringify(r.violations.map(v=>v.id+': '+v.nodes.map(n=>n.target.join(' ')+' '+(n.any[0]?n.any[0].message:'')).join(' | '))))`,
			chromedp.EvalAwaitPromise))
	check(p.t, err)
	var violations []string
	check(p.t, json.Unmarshal([]byte(raw), &violations))
	for _, v := range violations {
		p.t.Errorf("%s: %s", what, v)
	}
}

func (p *page) text(selector string) string {
	p.t.Helper()
	return eval[string](p, "document.querySelector("+quote(selector)+")?.innerText ?? ''")
}

func quote(s string) string {
	b, _ := json.Marshal(s)
	return string(b)
}

// TestConsolePath asks, goes to what is ours, changes it, and sees the answer
// change in both open consoles without asking again.
func TestConsolePath(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	one, two := r.page(browser(t), "harbour"), r.page(browser(t), "lantern")
	two.goTo(lecturer, verdict)
	// Typing the question, with completion, by keyboard alone.
	one.do(chromedp.Focus(chromedp.CSS(".askbar .combo:nth-of-type(1) input")), chromedp.KeyEvent("person:j.penh"))
	one.until("[...document.querySelectorAll('[role=option]')].some(o => o.offsetParent && o.innerText.includes('person:j.penhallow'))")
	one.do(chromedp.KeyEvent(kb.ArrowDown))
	one.do(chromedp.KeyEvent("\r"), chromedp.KeyEvent("\t"), chromedp.KeyEvent("directory.invite"), chromedp.KeyEvent("\t"),
		chromedp.KeyEvent("space:docent-course"), chromedp.KeyEvent("\t"), chromedp.KeyEvent("h.brannoch@oskelund.example"),
		chromedp.KeyEvent("\r"))
	one.until(verdict)
	for _, p := range []*page{one, two} {
		p.until(verdict + ".dataset.decision === 'no'")
		if got := eval[string](p,
			"[...document.querySelectorAll('.pole')].map(b => b.dataset.answer).join(' ')"); got != "pass refuse refuse pass pass pass not_asked" {
			t.Errorf("the flags are %s", got)
		}
		if got := eval[string](p,
			"[...document.querySelectorAll('[data-testid=cause]')].map(b => b.dataset.code).join(' ')"); got != "not_opened theirs_refuses" {
			t.Errorf("the causes are %s", got)
		}
	}
	if text := one.text("main"); !strings.Contains(text, "2 things block this, one of them on their side") ||
		!strings.Contains(text, "Open the partner Oskelund University for spaces.in.") {
		t.Errorf("%s", text)
	}
	// The chain opens.
	one.do(chromedp.Click(chromedp.CSS(".cause.is-refusing .chain-toggle")))
	one.until("document.querySelector('.chain li.decides').innerText.includes('listed')")
	// Go to the partner and open our half.
	one.do(chromedp.Click(chromedp.CSS(".cause-next a")))
	one.until("document.querySelector('.openings')")
	one.do(chromedp.Focus(chromedp.CSS("[aria-label='spaces.in, ours']")), chromedp.KeyEvent("▲"))
	one.do(chromedp.Click(chromedp.CSS("[aria-label='Set ours: spaces.in']")))
	one.publish("the docent course begins")
	one.until("document.querySelector('[aria-label=\"spaces.in, ours\"]').value === 'yes' && !document.querySelector('[aria-label=\"Set ours: spaces.in\"]')")
	// The other console sees it by itself.
	two.until("document.querySelector('[data-testid=gate-domain]').dataset.answer === 'pass'")
	if got := eval[string](two, "document.querySelector('[data-testid=gate-counterpart]').dataset.answer"); got != "refuse" {
		t.Errorf("counterpart: %s", got)
	}
	// And the journal tells who did it.
	two.goTo("/journal", "document.querySelector('.log > li')")
	if text := two.text(".log > li"); !strings.Contains(text, "harbour") || !strings.Contains(text, "spaces.in yes") {
		t.Errorf("%s", text)
	}
}

// TestConsoleRules changes a rule on the sheet; a wrong value is told in place.
func TestConsoleRules(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	p := r.page(browser(t), "harbour")
	p.goTo("/rules", "document.querySelectorAll('.rule').length === 75")
	p.do(chromedp.SendKeys(chromedp.CSS(".tools input[type=search]"), "anonymous link"))
	p.until("document.querySelectorAll('.rule').length < 5 && document.querySelector('.rule code').innerText === 'files.bearer_links'")
	p.goTo("/rules?rule=files.link_days", "document.querySelector('.rule-form')")
	days := chromedp.CSS("[id='files.link_days-Default']")
	retype := func(text string) {
		p.do(chromedp.Focus(days))
		eval[any](p, "document.querySelector(\"[id='files.link_days-Default']\").select()")
		p.do(chromedp.KeyEvent(text), chromedp.Click(chromedp.CSS(".rule-form button[type=submit]")))
	}
	retype("soon")
	p.until("document.querySelector('.rule-form .wrong').innerText.includes('is no number of days')")
	retype("30")
	p.publish("a month is enough")
	p.until("document.querySelector('.saved')")
	if got := p.text(".rule.is-open .layer-cell:nth-of-type(3)"); !strings.Contains(got, "30") {
		t.Errorf("%s", got)
	}
}

// TestConsoleStanding suspends a partner after saying whom it concerns.
func TestConsoleStanding(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	p := r.page(browser(t), "harbour")
	p.goTo("/partners/pallowick", "document.querySelector('.openings')")
	p.do(chromedp.Click(chromedp.CSS(".tools .btn-outline-danger")))
	p.until("document.querySelector('.modal-body').innerText.includes('26 guests')")
	p.do(chromedp.SendKeys(chromedp.CSS("#s-why"), "late"), chromedp.Click(chromedp.CSS(".modal .btn-danger")))
	p.publish("")
	p.until("!document.querySelector('.modal') && document.querySelector('.standing').innerText.includes('suspended')")
	p.goTo("/ask?who=r.larkmoor%40pallowick.example&action=spaces.enter&resource=space%3Alow-water-design",
		verdict+".dataset.decision === 'no'")
	// Bars: one is added, refused where it is none, and lifted.
	p.goTo("/partners", "document.querySelectorAll('.bars li').length === 3")
	bar := chromedp.CSS("[aria-label='Domain or address to bar']")
	p.do(chromedp.SendKeys(bar, "lost@pallowick"), chromedp.Click(chromedp.CSS(".bars button[type=submit]")))
	p.until("document.querySelector('.bars .wrong').innerText.includes('a full domain has at least two labels')")
	p.do(chromedp.SendKeys(bar, ".example"), chromedp.Click(chromedp.CSS(".bars button[type=submit]")))
	p.publish("reported")
	p.until("document.querySelectorAll('.bars li').length === 4")
	p.do(chromedp.Click(chromedp.CSS("[aria-label='Lift the bar on lost@pallowick.example']")))
	p.publish("found again")
	p.until("document.querySelectorAll('.bars li').length === 3")
	// A look-alike is taken when it is said twice.
	p.do(chromedp.Click(chromedp.CSS(".tools .btn-primary")))
	p.until("document.querySelector('#p-name')")
	p.do(chromedp.SendKeys(chromedp.CSS("#p-name"), "Quayside Lamps"), chromedp.SendKeys(chromedp.CSS("#p-domains"), "ilvame.example"),
		chromedp.Click(chromedp.CSS(".modal .btn-primary")))
	p.until("document.querySelector('.modal .wrong').innerText.includes('looks like ilvane.example')")
	p.do(chromedp.Click(chromedp.CSS("#p-alike")), chromedp.Click(chromedp.CSS(".modal .btn-primary")))
	p.publish("their other name")
	p.until("!document.querySelector('.modal') && document.querySelector('.domains').innerText.includes('ilvame.example')")
	// Markup in a name stays text.
	r.login("harbour")
	r.must("partner", "add", "markup", "--name", "<img src=x onerror=document.title='taken'>Ink", "--domain", "markup.example")
	p.goTo("/partners", "document.body.innerText.includes('<img src=x')")
	if eval[string](p, "document.title") == "taken" || eval[int](p, "document.querySelectorAll('main img').length") != 0 {
		t.Error("a name is taken for markup")
	}
}

// TestConsoleLooks tries every page in light, dark and on a small phone's width: no axe
// violation, and nothing wider than the window. make walk tries every width in both.
func TestConsoleLooks(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	at, _ := r.withSuite(10 * demo.SuiteFaster)
	r.settled("parley")
	check(t, turn(at["parley"], "houses", "all but: marrowby.example"))
	_, err := r.svc.ReadSystem(context.Background(), service.Who{Name: "harbour", Role: service.Administrator}, "parley")
	check(t, err)
	b := browser(t)
	door := &page{t, b, r.url}
	door.do(chromedp.EmulateViewport(1280, 800), chromedp.Navigate(r.url), chromedp.WaitVisible(chromedp.CSS("#name")))
	door.axe("sign-in")
	p := r.page(b, "harbour")
	pages := map[string]string{
		"/": "document.querySelector('.openness tbody tr')", lecturer: verdict,
		"/ask?who=maren.holtveig%40ilvane.example&action=spaces.enter&resource=space%3Aloan-dossier": verdict,
		"/ask?who=nobody&action=spaces.enter&resource=space%3Aloan-dossier":                          "document.querySelector('.wrong')",
		"/partners": "document.querySelector('.board tbody tr')", "/partners/ilvane": "document.querySelector('.openings')",
		"/rules?rule=directory.sign_in": "document.querySelector('.rule-detail')", "/journal": "document.querySelector('.log > li')",
		"/spaces": "document.querySelector('.listing tbody tr')", "/spaces/loan-dossier": "document.querySelector('.values')",
		"/check": "document.querySelector('#c-list')", "/people": "document.querySelector('.listing tbody tr')",
		"/people/d.ekwinter": "document.querySelector('.reached')",
		"/meetings":          "document.querySelector('.listing tbody tr')", "/meetings/rigging-call": "document.querySelector('.facts')",
		"/groups": "document.querySelector('.listing tbody tr')", "/matrix": "document.querySelector('.matrix tbody tr')",
		"/start":                                "document.querySelector('.postures') || document.querySelector('.start-steps')",
		"/settings":                             "document.querySelector('#set-brake')",
		"/exceptions":                           "document.querySelector('.time')",
		"/guests":                               "document.querySelector('.tide rect') && document.querySelector('.guests tbody tr')",
		"/guests/maren.holtveig@ilvane.example": "document.querySelector('.tide-knot')", "/invite": "document.querySelector('#i-list')",
		"/lists?what=grants": "document.querySelector('#list-text')", "/due": "document.querySelector('.page li a')",
		"/links": "document.querySelector('.listing tbody tr')", "/findings": "document.querySelector('.findings li')",
		"/findings?kind=held_back": "document.querySelector('.findings li')", "/nowhere": "document.querySelector('.empty')",
		"/help": "document.querySelector('.help-page h2')", "/help/guests": "document.querySelector('.help-page pre')",
		"/help?q=suspend": "document.querySelector('.help-found li')", "/account": "document.querySelector('#pw-new')",
		"/drafts": "document.querySelector('#h-two')", "/revisions/1": "document.querySelector('main h1')",
		"/numbers": "document.querySelector('main h1')",
		"/reach":   "document.querySelector('.reach-board tbody tr')",
		"/reach?who=maren.holtveig%40ilvane.example":                                             "document.querySelector('.service-head')",
		"/audience?resource=space%3Aloan-dossier&all=true":                                       "document.querySelector('.listing tbody tr')",
		"/difference?who=maren.holtveig%40ilvane.example&and_who=edda.nordvane%40ilvane.example": "document.querySelector('.listing tbody tr')",
		"/systems": "document.querySelectorAll('.system').length === 3", "/systems/parley": "document.querySelector('.settings-found .is-wrong')",
	}
	for _, mode := range []string{"light", "dark"} {
		widths := []int64{map[string]int64{"light": 1280, "dark": 320}[mode]}
		if os.Getenv("WEXILLUM_WALK") != "" {
			widths = []int64{1280, 900, 600, 390, 360, 320}
		}
		for _, width := range widths {
			p.do(chromedp.EmulateViewport(width, 800))
			eval[any](p, "localStorage.setItem('mode', '"+mode+"')")
			for path, ready := range pages {
				p.goTo(path, ready)
				p.axe(mode + " " + path)
				if over := eval[int](p, "document.documentElement.scrollWidth - window.innerWidth"); over > 0 {
					t.Errorf("%s is %d pixels wider than a window of %d", path, over, width)
				}
			}
		}
	}
}

// TestConsoleMember shows a member what is theirs, and what is not as such.
func TestConsoleMember(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	p := r.page(browser(t), "rigger")
	if links := eval[int](p, "document.querySelectorAll('.mast-row nav a').length"); links != 4 {
		t.Errorf("a member is led to %d pages", links)
	}
	p.goTo("/spaces", "document.querySelectorAll('.listing tbody tr').length >= 3")
	p.goTo("/spaces/low-water-design", "document.querySelector('[aria-label=\"spaces.pages here\"]')")
	p.goTo("/spaces/loan-dossier", "document.querySelector('.wrong').innerText.includes('own spaces')")
	p.goTo("/people/d.ekwinter", "document.querySelector('.reached')")
	p.goTo("/ask?who=r.larkmoor%40pallowick.example&action=spaces.enter&resource=space%3Alow-water-design", verdict)
	p.goTo("/ask?who=maren.holtveig%40ilvane.example&action=spaces.enter&resource=space%3Aloan-dossier",
		"document.querySelector('.wrong').innerText.includes('members ask about themselves')")
}

// publish says yes to the impact of one change, with a reason where none was given.
func (p *page) publish(why string) {
	p.t.Helper()
	p.until("document.querySelector('.quick-dialog .quick-publish')")
	if why != "" {
		p.do(chromedp.SendKeys(chromedp.CSS("#quick-why"), why))
	}
	p.until("!document.querySelector('.quick-publish').disabled")
	p.do(chromedp.Click(chromedp.CSS(".quick-dialog .quick-publish")))
	p.until("!document.querySelector('.quick-dialog')")
}
