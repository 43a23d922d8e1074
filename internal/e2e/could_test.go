package e2e

import (
	"context"
	"encoding/json"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"wexillum.example/internal/contract"
)

// said is a text that may be absent.
func said(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

// TestCould asks what could come to be of the demo, by the client, from a file and in the console; publishes a cut, after which it could
// not, and takes away what nobody uses.
func TestCould(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	ask := func(into any, args ...string) {
		t.Helper()
		check(t, json.Unmarshal([]byte(r.must(append(args, "-o", "json")...)), into))
	}

	// who could read the valuations, whom eight insurers read now
	var audience contract.Could
	ask(&audience, "audience", "folder:loan-valuations", "--could")
	if audience.PartiesNow != 8 || audience.PartiesCould < 50 || audience.Could <= audience.Now ||
		len(audience.Lines) != audience.Could-audience.Now {
		t.Fatalf("%d now, %d could; %d answers, %d could, %d lines", audience.PartiesNow, audience.PartiesCould, audience.Now, audience.Could,
			len(audience.Lines))
	}
	for _, l := range audience.Lines {
		if l.Now || strings.HasSuffix(l.Who, "@marrowby.example") {
			t.Errorf("%+v", l)
		}
	}
	var reach contract.Could
	ask(&reach, "reach", "maren.holtveig@ilvane.example", "--could")
	valuations := false
	for _, l := range reach.Lines {
		valuations = valuations || l.Resource == "folder:loan-valuations" && l.Action == "files.open"
	}
	if !valuations || reach.Now == 0 {
		t.Errorf("of Maren: %d now, %d could, valuations %t", reach.Now, reach.Could, valuations)
	}

	// the way of a link, step by step, each by somebody who may
	var way contract.CouldWay
	ask(&way, "could", "link:any", "files.open", "folder:loan-valuations")
	if len(way.Acts) != 2 || way.Acts[0].Kind != "set_value" || said(way.Acts[0].Rule) != "files.bearer_links" ||
		way.Acts[1].Kind != "make_link" || way.Acts[0].Count != 2 {
		t.Fatalf("%+v", way)
	}
	r.says(3, "No: without an administrator or keeper it could not come to be.", "could", "stranger@unlisted.example", "files.open",
		"folder:loan-valuations")
	r.says(0, "It is a yes already", "could", "maren.holtveig@ilvane.example", "spaces.enter", "space:loan-dossier")
	r.says(2, "write what somebody outside does by themselves", "could", "maren.holtveig@ilvane.example", "directory.invite",
		"space:loan-dossier")
	r.says(2, "write the address of somebody outside", "could", "d.ekwinter@brackwater.example", "files.open", "folder:loan-valuations")
	r.says(2, "there is no such folder", "audience", "folder:nothing", "--could")
	for _, n := range []string{"-1", "0"} {
		r.says(2, "--take "+n+": write the number of a cut, from 1 on", "could", "link:any", "files.open", "folder:loan-valuations", "--take", n)
	}
	r.says(1, "it says nothing of always", "expect", "add", "--party", "partner:tholemere", "--action", "files.open", "--resource",
		"folder:loan-valuations", "--always", "--could", "--reason", "x", "--yes")
	// auditors see it, members do not
	for _, step := range []struct{ who, want string }{{"lantern", "It could come to be"}, {"rigger", "may not"}} {
		r.login(step.who)
		if _, out, errs := r.client("", "could", "link:any", "files.open", "folder:loan-valuations"); !strings.Contains(out+errs, step.want) {
			t.Errorf("%s: %s%s", step.who, out, errs)
		}
	}
	r.login("harbour")

	// it is expected that no link opens them, now and ever: now it holds
	r.must("expect", "add", "--party", "kind:bearer", "--action", "files.open", "--resource", "folder:loan-valuations", "--never", "--could",
		"--id", "no-links", "--reason", "the lender asked", "--yes")
	var x contract.Expectation
	ask(&x, "expect", "show", "no-links")
	if x.State != "broken" || x.OnlyCould == nil || *x.May != 0 || len(x.Examples) != 1 || x.Examples[0].Who != "link:any" {
		t.Errorf("%+v", x)
	}
	check(t, r.svc.KeepJudged(context.Background()))
	r.says(0, "It holds now, but without an administrator or keeper it could come to be broken 1 time, by 1 party", "finding", "list",
		"--kind", "expectation_broken")

	// a cut is published as a draft, and holds
	var cuts contract.CouldCuts
	ask(&cuts, "could", "link:any", "files.open", "folder:loan-valuations", "--cuts")
	if len(cuts.Cuts) != 1 || said(cuts.Cuts[0].Parts[0].Rule) != "files.bearer_links" || said(cuts.Cuts[0].Parts[0].Value) != "off" ||
		*cuts.Cuts[0].Links != 2 || cuts.Cuts[0].Lost == 0 {
		t.Fatalf("%+v", cuts)
	}
	r.must("could", "link:any", "files.open", "folder:loan-valuations", "--take", "1", "--name", "No open links", "--why", "the lender asked")
	var d contract.Impact
	ask(&d, "draft", "impact", "No open links")
	if d.Granted.Lost != cuts.Cuts[0].Lost {
		t.Errorf("the draft takes %d, the cut says %d", d.Granted.Lost, cuts.Cuts[0].Lost)
	}
	r.must("draft", "publish", "No open links", "--why", "the lender asked", "--yes")
	ask(&x, "expect", "show", "no-links")
	if x.State != "held" {
		t.Errorf("after the cut: %+v", x)
	}
	// and a draft that would let it come about again is stopped
	r.must("draft", "new", "Links again")
	r.must("rules", "set", "--draft", "Links again", "files.bearer_links", "--limit", "on", "--why", "a wish")
	r.says(1, "no-links", "draft", "publish", "Links again", "--why", "a wish", "--yes")

	// what nobody uses: nobody loses anything
	var spare contract.Spare
	ask(&spare, "spare")
	if len(spare.Parts) < 20 || *spare.Afterwards >= *spare.Could || *spare.Parties == 0 {
		t.Errorf("%d parts, %d could, %d afterwards", len(spare.Parts), *spare.Could, *spare.Afterwards)
	}
	r.must("spare", "--take", "--name", "Less to watch", "--why", "nobody uses it")
	r.says(0, "Impact: nothing changes for anybody.", "draft", "impact", "Less to watch")
	r.must("draft", "publish", "Less to watch", "--why", "nobody uses it", "--yes")
	ask(&spare, "spare")
	for _, p := range spare.Parts {
		if p.Kind == "limit" {
			t.Errorf("still spare: %s", p.Text)
		}
	}

	// in the console, beside an audience, with the picture of the way
	p := r.page(browser(t), "harbour")
	p.goTo("/audience?resource=folder:loan-valuations", "document.querySelector('.listing tbody tr')")
	p.presses(".accounts", "What could come to be")
	p.until("document.querySelector('[aria-label=\"What could come to be\"] tbody a')")
	p.do(chromedp.Click(chromedp.CSS(`[aria-label="What could come to be"] tbody a`)))
	p.until("document.querySelectorAll('.way-line li').length >= 2 && document.querySelector('.remedy .btn')")
	p.axe("what could be")
	p.do(chromedp.Click(chromedp.CSS(".remedy .btn")))
	p.until("location.pathname.startsWith('/drafts/d')")
	p.goTo("/spare", "document.querySelector('main h1')?.innerText === 'Spare access' && !document.querySelector('.waiting')")
	p.axe("spare access")
}

// TestCouldOfAFile answers from a file as the service does.
func TestCouldOfAFile(t *testing.T) {
	t.Parallel()
	r := &running{t: t, home: t.TempDir()}
	r.says(0, "shares Valuations with somebody new at ilvane.example, with the role view.", "--world", "../demo/world.yaml", "could",
		"*@ilvane.example", "files.open", "folder:loan-valuations")
	for _, said := range []string{"  Somebody new at sandrill.example accepts the invitation.",
		"wexillum could '*@sandrill.example' spaces.enter space:loan-dossier --cuts"} {
		r.says(0, said, "--world", "../demo/world.yaml", "could", "*@sandrill.example", "spaces.enter", "space:loan-dossier")
	}
	r.says(0, "Close Ilvane Conservation for files.in.", "--world", "../demo/world.yaml", "could", "*@ilvane.example", "files.open",
		"folder:loan-valuations", "--cuts")
	r.says(0, "Lower the limit of files.reshare to off.", "--world", "../demo/world.yaml", "spare")
	r.says(2, "--take makes a draft, which a file alone has not", "--world", "../demo/world.yaml", "spare", "--take")
	r.says(2, "--could is asked for one party", "--world", "../demo/world.yaml", "reach", "--partner", "ilvane", "--could")
}
