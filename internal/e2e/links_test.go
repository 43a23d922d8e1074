package e2e

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// TestLinks makes links by client, network and console, finds them, and ends one.
func TestLinks(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("mooring")
	count := func() int {
		t.Helper()
		return strings.Count(r.must("link", "list", "-o", "csv"), "\n")
	}
	before := count()
	// The client: looked at, refused with every gate, made, found, asked about, journaled.
	r.says(0, "Nothing was made. It would be a link of p.ashdock to Press kit, view.", "link", "make", "file:press-kit", "--bearer",
		"--preview")
	r.says(3, "No link to Valuations is made: nobody could use it.", "link", "make", "folder:loan-valuations", "--bearer")
	r.says(3, "is not open for files.in", "link", "make", "file:press-kit", "news@quennick.example")
	r.says(2, "say whom the link names, or --bearer for whoever holds it, not both", "link", "make", "file:press-kit")
	r.says(1, `until "yesterday"`, "link", "make", "file:press-kit", "--bearer", "--until", "yesterday")
	if n := count(); n != before {
		t.Errorf("%d links, and there were %d", n, before)
	}
	r.says(0, "kit-for-fair opens Press kit, view. The link kit-for-fair works until the end of", "link", "make", "file:press-kit", "--bearer",
		"--no-download", "--until", "+5d", "--id", "kit-for-fair", "--why", "the fair")
	r.says(0, "whoever holds it loses", "link", "end", "kit-for-fair", "--preview")
	r.says(0, "kit-for-fair", "link", "list", "--find", "FOR-FAIR", "--who", "bearer", "--state", "works")
	r.says(0, "YES", "ask", "link:kit-for-fair", "files.open", "file:press-kit")
	r.says(3, "does not allow downloads", "ask", "link:kit-for-fair", "files.download", "file:press-kit")
	r.says(0, "the fair", "journal", "--kind", "link", "--limit", "1")
	// The network: pages of a list, a member's own links, and nobody else's.
	var page struct {
		Links []struct {
			ID string `json:"id"`
			By string `json:"by"`
		} `json:"links"`
		Next string `json:"next"`
	}
	seen, cursor := map[string]bool{}, ""
	for {
		status, _, body := r.call("GET", "/api/v1/links?limit=7&cursor="+cursor, r.token("lantern"), "")
		page.Next, page.Links = "", nil
		if status != 200 || json.Unmarshal([]byte(body), &page) != nil || len(page.Links) > 7 {
			t.Fatalf("%d %s", status, body)
		}
		for _, l := range page.Links {
			if seen[l.ID] {
				t.Errorf("%s comes twice", l.ID)
			}
			seen[l.ID] = true
		}
		if cursor = page.Next; cursor == "" {
			break
		}
	}
	if n := count(); len(seen) != n-1 { // csv has a line of columns
		t.Errorf("%d links page by page, %d at once", len(seen), n-1)
	}
	member := r.token("rigger")
	if status, _, body := r.call("POST", "/api/v1/links", member,
		`{"item":"file:hall-model","for":"emeric.mossgrove@sandrill.example","id":"hall-for-emeric"}`); status != 200 ||
		!strings.Contains(body, `"made":true`) || !strings.Contains(body, `"by":"d.ekwinter"`) {
		t.Errorf("a member's own link: %d %s", status, body)
	}
	if status, _, body := r.call("POST", "/api/v1/links", member, `{"item":"file:press-kit","bearer":true}`); status != 400 ||
		!strings.Contains(body, "they neither own nor belong to the space") {
		t.Errorf("a link into a space of others: %d %s", status, body)
	}
	if status, _, body := r.call("POST", "/api/v1/links", r.token("lantern"), `{"item":"file:press-kit","bearer":true}`); status != 403 {
		t.Errorf("an auditor makes a link: %d %s", status, body)
	}
	// The console: weighed, refused, made for those it names, ended.
	p := r.page(browser(t), "mooring")
	p.goTo("/links?make=1&item=folder:loan-valuations", "document.querySelector('#l-bearer')")
	p.do(chromedp.Click(chromedp.CSS("#l-bearer")))
	press(p, "Preview")
	p.until(`document.querySelector(".invite-weighed")?.innerText.includes("“Links for whoever holds them” is set to off; this needs on.")`)
	p.until(`[...document.querySelectorAll("button")].find(b => b.innerText === "Make it").disabled`)
	p.axe("a link that nobody could use")
	p.do(chromedp.Click(chromedp.CSS("#l-named")), chromedp.SendKeys(chromedp.CSS("#l-for"),
		"maren.holtveig@ilvane.example, news@quennick.example"))
	press(p, "Preview")
	p.until(`document.querySelector(".invite-weighed")?.innerText.includes("would be named")`)
	press(p, "Make it")
	p.until(`document.querySelector(".invite-weighed h2")?.innerText === "Made" && document.querySelectorAll(".listing tbody tr").length === 1`)
	if text := p.text(".listing tbody"); !strings.Contains(text, "maren.holtveig@ilvane.example") || strings.Contains(text, "quennick") ||
		!strings.Contains(text, "▲ yes") {
		t.Errorf("the list says %s", text)
	}
	press(p, "End")
	p.until(`document.querySelector(".modal-body")?.innerText.includes("maren.holtveig@ilvane.example can no longer open Valuations with it")`)
	p.do(chromedp.SendKeys(chromedp.CSS("#end-why"), "a mistake"))
	press(p, "End it")
	p.until(`document.querySelector(".listing tbody")?.innerText.includes("It ended.")`)
	r.says(0, "a mistake", "journal", "--kind", "link", "--limit", "1")
	// An auditor looks and is offered nothing to do.
	a := r.page(browser(t), "lantern")
	a.goTo("/links?who=bearer&state=dead", "document.querySelector('.listing')")
	a.axe("links")
	if text := a.text("main"); strings.Contains(text, "Make a link") || strings.Contains(text, "▲ yes") ||
		!strings.Contains(text, "whoever holds it") {
		t.Errorf("an auditor sees %.600s", text)
	}
}
