package e2e

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// picture keeps a picture of a page where somebody asked for it.
func (p *page) picture(name string) {
	if dir := os.Getenv("WEXILLUM_PICTURES"); dir != "" {
		p.shot(dir + "/" + name + ".png")
	}
}

// footed holds that the buttons of the dialogue that is open can be seen without scrolling.
func (p *page) footed() {
	p.t.Helper()
	if in := eval[bool](p,
		`[...document.querySelectorAll(".modal.show .modal-footer button")].every(b => { const r = b.getBoundingClientRect(); return r.top >= 0 && r.bottom <= document.querySelector(".modal.show .modal-content").getBoundingClientRect().bottom })`); !in {
		p.t.Error("the buttons of the dialogue are out of sight")
	}
}

// TestPlacesInTheClient makes a place for outsiders, lets the first guest in, changes and closes it,
// knowing no id but by name, and takes each change back.
func TestPlacesInTheClient(t *testing.T) {
	r := demoService(t)
	r.login("harbour")
	start := r.must("dump", "--section", "spaces", "--section", "meetings", "--section", "people", "--section", "groups", "--section",
		"contacts", "--section", "forwarders")
	r.says(0, "Guests write in the channel, edit files, pages and tasks.", "space", "patterns")
	r.says(1, "it lets somebody do more than before: say why", "space", "add", "Loan room", "--pattern", "work", "--owners", "Dayo Ekwinter")
	r.says(0, "space loan-room: would be made", "space", "add", "Loan room", "--pattern", "work", "--owners", "Dayo Ekwinter", "--preview")
	r.says(0, "space loan-room: made", "space", "add", "Loan room", "--pattern", "work", "--owners", "Dayo Ekwinter", "--why",
		"the spring loan")
	r.says(0, "item contracts: made", "item", "add", "Loan room", "Contracts", "--private", "yes")
	r.says(0, "Maren Holtveig, maren.holtveig@ilvane.example: 12 things more", "grant", "add", "maren.holtveig@ilvane.example", "Loan room",
		"--role", "contribute", "--until", "+90d", "--why", "she restores it")
	r.says(0, "YES  Maren Holtveig", "ask", "maren.holtveig@ilvane.example", "spaces.enter", "space:loan-room")
	r.says(0, "things fewer", "grant", "set", "maren.holtveig@ilvane.example", "Loan room", "--role", "view")
	r.says(0, "As of ", "space", "close", "Loan room", "--on", "+14d", "--preview")
	out := r.says(0, "space loan-room: closed", "space", "close", "Loan room")
	_ = out
	r.says(3, "NO   Maren Holtveig", "ask", "maren.holtveig@ilvane.example", "spaces.enter", "space:loan-room")
	r.says(3, "mail may not be forwarded there: “Forwarding mail outside” is set", "forwarder", "add", "Dayo Ekwinter",
		"dayo@homepost.example")
	r.says(3, "wexillum ask person:d.ekwinter mail.forward mailbox:d.ekwinter --context address=dayo@homepost.example --remedy", "forwarder",
		"add", "Dayo Ekwinter", "dayo@homepost.example")
	r.says(0, "meeting rope-talk: made", "meeting", "add", "Rope talk", "--host", "Dayo Ekwinter", "--sign-in-domains", "orrin.example",
		"--passcode", "yes", "--why", "ropes")
	r.says(0, "meeting rope-talk: changed", "meeting", "set", "Rope talk", "--add-sign-in-domains", "ilvane.example", "--why", "they come too")
	r.says(2, `--drop-sign-in-domains "x.example": it is not there; there are orrin.example, ilvane.example`, "meeting", "set", "Rope talk",
		"--drop-sign-in-domains", "x.example")
	r.says(0, "orrin.example ilvane.example", "meeting", "show", "Rope talk")
	r.says(0, "group net-makers: made", "group", "add", "Net makers", "--parties", "maren.holtveig@ilvane.example")
	r.says(0, "person zoe-quill: made", "person", "add", "Zoë Quill", "--address", "z.quill@brackwater.example", "--groups", "Net makers",
		"--why", "new here")
	r.says(3, "it is still named: the person zoe-quill", "group", "remove", "Net makers")
	r.says(0, "contact zoe-quill and maren.holtveig@ilvane.example: made", "contact", "ask", "Zoë Quill", "maren.holtveig@ilvane.example")
	r.says(0, "asked", "contact", "list", "--person", "zoe-quill")
	// the only one whose name begins so
	r.says(0, "space loan-room: would be changed", "space", "set", "loan-room", "--owners", "Jessa Pen", "--preview")
	r.says(0, "link press-kit-link: would be changed", "link", "set", "press-kit-link", "--until", "+7d", "--preview")
	r.says(3, "there is no such space; do you mean loan-dossier?", "space", "set", "loan-dosier", "--name", "x")
	r.says(2, `--joinable "maybe": write yes or no`, "space", "set", "loan-room", "--joinable", "maybe")
	r.says(2, "say what is to be otherwise", "space", "set", "loan-room")
	r.says(2, `there is no person called "Nobody Here"`, "meeting", "set", "Rope talk", "--host", "Nobody Here")
	r.says(0, "zed@elsewhere.example is at no domain of ours.", "person", "add", "Zed", "--address", "zed@elsewhere.example", "--preview")
	r.says(1, `settings.brake "many": "many" is no number: write 0 to 36500 without leading zeros, or none`, "settings", "set",
		"settings.stance_days=90", "settings.brake=many")
	r.says(1, `organisation.time_zone "Nowhere": "Nowhere" is no time zone`, "settings", "set", "organisation.time_zone=Nowhere")
	r.says(1, "there is no posture \"wide\"; there are closed, ", "posture", "draft", "wide")
	r.says(2, `"x": write the number of an entry`, "journal", "undo", "x")
	// Back, one after the other, the newest first.
	_, out, _ = r.client("", "journal", "--limit", "200", "-o", "json")
	var entries []struct {
		Seq    int    `json:"seq"`
		PartOf int    `json:"part_of"`
		Kind   string `json:"kind"`
		Who    string `json:"who"`
	}
	check(t, json.Unmarshal([]byte(out), &entries))
	done := map[int]bool{}
	for _, e := range entries {
		if done[e.PartOf] || e.Who != "harbour" {
			continue
		}
		if strings.Contains("space item meeting grant group person contact", e.Kind) {
			done[e.PartOf] = true
			b, _ := json.Marshal(e.PartOf)
			r.says(0, "Back: wexillum journal undo", "journal", "undo", string(b), "--why", "as it was")
		}
	}
	if len(done) < 10 {
		t.Errorf("%d changes", len(done))
	}
	if now := r.must("dump", "--section", "spaces", "--section", "meetings", "--section", "people", "--section", "groups", "--section",
		"contacts", "--section", "forwarders"); now != start {
		t.Error("what was made and undone is not as it was")
	}
	r.says(0, "entries are as they were written", "journal", "verify")
	// Members do in their own places what is theirs, and hear whom to ask for the rest.
	r.login("rigger")
	r.says(0, "space low-water-design: changed", "space", "set", "low-water-design", "--name", "Low water")
	r.says(1, "owners change their own spaces; ask", "space", "set", "docent-course", "--name", "X")
	r.says(1, "keepers and administrators make and remove spaces", "space", "add", "Mine", "--pattern", "work", "--owners", "d.ekwinter",
		"--why", "x")
	r.says(0, "low-water-design", "space", "list")
	// And ask for it.
	r.says(1, "To ask for it: the same command with --request", "space", "add", "Mine", "--pattern", "work", "--owners", "d.ekwinter", "--why",
		"x")
	r.says(2, "say what it is for: give --why", "space", "add", "Mine", "--pattern", "work", "--owners", "d.ekwinter", "--request")
	asked := r.says(0, "goes to   an administrator", "space", "add", "Mine", "--pattern", "work", "--owners", "d.ekwinter", "--request",
		"--why", "the autumn rigging")
	id := strings.Fields(asked)[0]
	r.says(1, "there is nothing to ask for; you may do it yourself", "space", "set", "low-water-design", "--name", "Y", "--request", "--why",
		"x")
	r.login("mooring")
	r.says(0, "Make a space Mine", "request", "list")
	r.says(0, "space mine: would be made", "request", "do", id, "--preview")
	r.says(1, "asks for a change that no draft holds", "request", "draft", id)
	r.says(0, "space mine: made", "request", "do", id)
	r.login("rigger")
	r.says(0, "▲ works", "request", "show", id)
	r.says(0, "mine", "space", "list")
}

// TestPlacesInTheConsole does the same by hand: a space from a pattern, an item, a role, a meeting, a
// person, and the way back of each.
func TestPlacesInTheConsole(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	p := r.page(browser(t), "harbour")
	p.goTo("/spaces", "document.querySelector('.listing')")
	p.axe("spaces")
	p.picture("spaces")
	p.presses("main", "New space")
	p.until(`document.querySelectorAll(".modal.show input[name=sp-pattern]").length === 6`)
	p.fill("#sp-name", "Loan room")
	p.do(chromedp.SendKeys(chromedp.CSS(".modal.show .chips-field input"), "Dayo Ekw"))
	p.until(`[...document.querySelectorAll(".modal.show [role=option]")].find(o => o.innerText.includes("Dayo Ekwinter"))`)
	eval[any](p, `[...document.querySelectorAll(".modal.show [role=option]")].find(o => o.innerText.includes("Dayo Ekwinter")).click()`)
	p.until(`document.querySelector("[data-testid=ahead]")?.innerText.includes("Typical newcomers who gain")`)
	p.footed()
	p.axe("a new space")
	p.picture("new-space")
	p.fill("#place-why", "the spring loan")
	p.presses(dialogue, "Make the space")
	p.until(`location.pathname === "/spaces/loan-room" && document.querySelector(".next-steps")?.innerText.includes("Invite the first guest")`)
	p.until(`document.querySelector(".back-bar")?.innerText.includes("Loan room: made")`)
	p.axe("a space that was just made")
	p.picture("space-made")
	p.presses("main", "New item")
	p.fill("#it-name", "Contracts")
	p.until(`document.querySelector("[data-testid=ahead]")?.innerText.includes("Nothing changes")`)
	p.presses(dialogue, "Make it")
	p.until(`document.querySelector(".items")?.innerText.includes("Contracts")`)
	p.presses("main", "Give a role")
	p.fill(".modal.show .combo input", "maren.holtveig@ilvane.example")
	p.until(`document.querySelector("[data-testid=ahead]")?.innerText.includes("Maren Holtveig, maren.holtveig@ilvane.example: ")`)
	p.picture("give-role")
	p.fill("#place-why", "she restores it")
	p.presses(dialogue, "Give it")
	p.until(`document.querySelector("[aria-label='Roles given']")?.innerText.includes("Maren Holtveig")`)
	eval[any](p, `document.querySelector("[aria-label='End the role of Maren Holtveig']").click()`)
	p.until(`document.querySelector("[data-testid=ahead]")?.innerText.includes("things fewer")`)
	p.presses(dialogue, "End it")
	p.until(`document.querySelector(".back-bar")?.innerText.match(/Maren Holtveig: (ended|removed)/)`)
	p.presses(".back-bar", "Undo")
	p.until(`document.querySelector("[data-testid=ahead]")?.innerText.includes("things more")`)
	p.axe("undoing a change")
	p.picture("undo")
	p.fill("#undo-why", "a mistake")
	p.presses(dialogue, "Undo")
	p.until(`document.querySelector(".back-bar")?.innerText.includes("Undone") && document.querySelector("[aria-label='Roles given']")?.innerText.includes("▲ yes")`)
	// What is refused is said, with what would help.
	p.goTo("/people/d.ekwinter", "document.querySelector('#h-mail')")
	p.presses("main", "Forward mail")
	p.fill("#fw-to", "dayo@homepost.example")
	p.until(`document.querySelector("[data-testid=ahead]")?.innerText.includes("“Forwarding mail outside” is set to closed")`)
	p.axe("a forwarder that is refused")
	p.picture("forwarder")
	p.presses(dialogue, "What would help")
	p.until(`location.pathname === "/ask" && document.querySelector(".verdict")`)
	// A meeting and a person, then back from the journal.
	p.goTo("/meetings", "document.querySelector('.listing')")
	p.axe("meetings")
	p.picture("meetings")
	p.presses("main", "New meeting")
	p.fill("#me-name", "Rope talk")
	p.fill(".modal.show .combo input", "")
	p.do(chromedp.SendKeys(chromedp.CSS(".modal.show .combo input"), "Dayo Ekwinter"))
	p.until(`document.querySelector(".modal.show [role=option]")?.innerText.includes("Dayo Ekwinter")`)
	p.do(chromedp.Click(chromedp.CSS("#me-pass"))) // the name stands for the one that has it
	p.until(`document.querySelector("[data-testid=ahead]") && document.querySelector(".modal.show .combo input").value === "d.ekwinter"`)
	p.axe("a new meeting")
	p.fill("#place-why", "ropes")
	p.presses(dialogue, "Make the meeting")
	p.until(`location.pathname === "/meetings/rope-talk" && document.querySelector(".values")`)
	p.axe("a meeting")
	p.picture("meeting")
	p.goTo("/people", "document.querySelector('.listing')")
	p.presses("main", "New person")
	p.fill("#pe-name", "Zoë Quill")
	p.fill("#pe-address", "z.quill@brackwater.example")
	p.until(`document.querySelector("[data-testid=ahead]")?.innerText.includes("things more")`)
	p.axe("a new person")
	p.picture("new-person")
	p.fill("#place-why", "new here")
	p.presses(dialogue, "Add them")
	p.until(`location.pathname === "/people/zoe-quill" && document.querySelector("#h-mail")`)
	p.goTo("/groups", "document.querySelector('.listing')")
	p.axe("groups")
	p.picture("groups")
	p.goTo("/journal", "document.querySelector('.log')")
	p.picture("journal")
	undo := `document.querySelector("[aria-label^='Undo the change of'][aria-label$='to zoe-quill']")`
	p.until(undo)
	eval[any](p, undo+".click()")
	p.until(`document.querySelector("[data-testid=ahead]")?.innerText.includes("things fewer")`)
	p.presses(dialogue, "Undo")
	p.until(`document.querySelector(".log li")?.innerText.includes("removed")`)
	r.login("harbour")
	r.says(1, `there is no person "zoe-quill"`, "person", "show", "zoe-quill")
	// An auditor is offered nothing of it, an owner what is theirs.
	a := r.page(browser(t), "lantern")
	a.goTo("/spaces/loan-room", "document.querySelector('.items')")
	if text := a.text("main"); strings.Contains(text, "New item") || strings.Contains(text, "Give a role") ||
		strings.Contains(text, "Change") {
		t.Errorf("an auditor is offered %.400s", text)
	}
	m := r.page(browser(t), "rigger")
	m.goTo("/spaces/low-water-design", "document.querySelector('.items')")
	m.presses("main", "Change")
	m.fill("#sp-name", "Low water")
	m.until(`document.querySelector("[data-testid=ahead]")?.innerText.includes("Nothing changes")`)
	m.presses(dialogue, "Change it")
	m.until(`document.querySelector("h1").innerText === "Low water"`)
	// What is not theirs they ask for as they filled it in, and whoever may does it with one click.
	m.goTo("/spaces", "document.querySelector('.listing')")
	m.presses("main", "New space")
	m.fill("#sp-name", "Net loft")
	m.until(`document.querySelector("[data-testid=theirs]")?.innerText.includes("keepers and administrators make and remove spaces")`)
	m.footed()
	m.axe("asking for a space")
	m.picture("ask-for-it")
	m.fill("#place-why", "the autumn rigging")
	m.presses(dialogue, "Ask for it")
	m.until(`document.querySelector(".back-bar")?.innerText.includes("Sent to an administrator")`)
	k := r.page(browser(t), "mooring")
	k.goTo("/", "document.querySelector('.requests')")
	k.picture("request-to-do")
	k.presses(".requests", "Do it")
	k.until(`document.querySelector("[data-testid=ahead]")?.innerText.includes("Typical newcomers who gain")`)
	k.axe("doing what was asked for")
	k.picture("do-it")
	k.presses(dialogue, "Do it")
	k.until(`document.querySelector(".back-bar")?.innerText.includes("Done as asked") && !document.querySelector(".requests")`)
	m.goTo("/", "document.querySelector('.requests')")
	m.until(`document.querySelector(".requests").innerText.includes("works now")`)
	m.goTo("/spaces/net-loft", "document.querySelector('.items')")
	// So is a rule's value at a place that they belong to and that is not theirs.
	const models = "/spaces/ship-models"
	m.goTo(models, "document.querySelector('table.values')")
	eval[any](m,
		`[...document.querySelectorAll("main button[aria-expanded]")].find(b => b.innerText.includes("rules that may be set here")).click()`)
	pages := "[data-rule='spaces.pages']"
	m.until(`document.querySelector("` + pages + ` select")`)
	m.fill(pages+" select", "on")
	m.until(`!document.querySelector("` + pages + ` button").disabled`)
	eval[any](m, `document.querySelector("`+pages+` button").click()`)
	m.until(`document.querySelector(".modal.show")?.innerText.includes("It goes to whoever may set it there")`)
	m.footed()
	m.axe("asking for a value")
	m.picture("ask-for-value")
	m.fill("#wanted-for", "guests write the captions")
	m.presses(dialogue, "Send it")
	m.until(`document.querySelector(".way-back")?.innerText.includes("Sent")`)
	m.picture("value-asked")
	k.goTo("/", "document.querySelector('.requests')")
	k.until(`document.querySelector(".requests").innerText.includes("Editing pages")`)
	if text := k.text(".requests"); strings.Contains(text, "Do it") {
		t.Errorf("a keeper sets no values at places, and is offered to: %s", text)
	}
	h := r.page(browser(t), "harbour")
	h.goTo("/", "document.querySelector('.requests')")
	h.picture("value-to-do")
	h.presses(".requests", "Do it")
	h.until(`document.querySelector("[data-testid=ahead]")?.innerText.includes("Set “Editing pages” to on at Ship models")`)
	h.picture("value-do-it")
	h.presses(dialogue, "Do it")
	h.until(`document.querySelector(".back-bar")?.innerText.includes("Done as asked") || !document.querySelector(".requests")`)
	m.goTo(models, "document.querySelector('table.values')")
	m.until(`document.querySelector("` + pages + `")?.innerText.startsWith("Editing pages")`)
}
