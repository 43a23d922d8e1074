package e2e

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"wexillum.example/internal/service"
)

// TestFeedOutOverTheNetwork keeps curators of the demo at the second organisation: by the client, with right and wrong words, and in the
// console, a few first, then one, then by itself; and tests the connection, with a token that is wrong.
func TestFeedOutOverTheNetwork(t *testing.T) {
	r := demoService(t)
	r.login("harbour")
	r.says(0, "Ilvane Conservation  held", "feed", "out", "list")
	for _, x := range []struct {
		want string
		args []string
	}{
		{`there is no such partner`, []string{"begin", "nobody", "--address", "https://x.example/scim/v2", "--key", "env:PATH"}},
		{`a feed goes to "ilvane" already; change it`, []string{"begin", "ilvane", "--address", "https://x.example/scim/v2", "--key",
			"env:PATH"}},
		{`"http://x.example/scim/v2": write https://host/path`,
			[]string{"begin", "orrin", "--address", "http://x.example/scim/v2", "--key", "env:PATH"}},
		{`write file:PATH, env:NAME or credential:NAME, never the key itself`,
			[]string{"begin", "orrin", "--address", "https://x.example/scim/v2", "--key", "secret"}},
		{`write held, on`, []string{"set", "ilvane", "--state", "off"}},
		{`every: number must be at least 1`, []string{"set", "ilvane", "--every", "0"}},
		{`there is no such group here`, []string{"set", "ilvane", "--scope", "groups", "--of", "cooks"}},
		{`the feed is not about them`, []string{"send", "ilvane", "--person", "t.wrayburn"}},
		{`there is no such person here`, []string{"send", "ilvane", "--person", "nobody"}},
		{`no feed keeps people of ours at "orrin"; begin one first`, []string{"send", "orrin"}},
	} {
		args := append([]string{"feed", "out"}, x.args...)
		if status, out, errs := r.client("", append(args, "--why", "to try")...); status == 0 || !strings.Contains(errs, x.want) {
			t.Errorf("%v: %d %s%s", x.args, status, out, errs)
		}
	}
	r.says(0, "taken over: they are there already, as p-0001", "feed", "out", "people", "ilvane")
	r.says(0, "(directory.feed_out) is off for Orrin Rope & Rigging", "feed", "out", "begin", "orrin", "--address",
		"http://127.0.0.1:1/scim/v2", "--key", "env:PATH", "--why", "to try")
	r.says(0, "in the scope are left out; why, says wexillum feed out people orrin", "feed", "out", "send", "orrin", "--why", "to try")
	r.says(0, "it is not reached: nobody listens there", "feed", "out", "test", "orrin")
	r.says(0, "Nothing more is sent to orrin.", "feed", "out", "end", "orrin", "--why", "it was to try")

	p := r.page(browser(t), "harbour")
	p.goTo("/feeds", "document.querySelectorAll('main table').length == 2")
	p.presses("main table", "Ilvane Conservation")
	p.until("document.querySelectorAll('[aria-labelledby=h-ahead] tbody tr').length == 5")
	p.picture("feed-out")
	p.axe("feed out")
	p.presses("main", "Test it")
	p.until("document.querySelector('[aria-labelledby=h-look]').innerText.includes('O. Tidewell')")
	p.presses("main", "Send now")
	p.until("document.querySelector('#fo-send-why')")
	p.fill("#fo-send-why", "to see that it is right")
	p.presses(".modal", "Send 3")
	p.until("document.querySelector('.modal [role=status]')?.innerText.includes('2 left.')")
	p.picture("feed-out-few")
	p.presses(".modal", "Close")
	p.until("document.querySelectorAll('[aria-labelledby=h-ahead] tbody tr').length == 2")
	p.presses("[aria-labelledby=h-ahead] tbody", "Now")
	p.until("document.querySelector('#fo-send-why')")
	p.fill("#fo-send-why", "they begin today")
	p.presses(".modal", "Send them now")
	p.until("document.querySelector('.modal [role=status]')?.innerText.includes('comes in: 1')")
	p.presses(".modal", "Close")
	p.presses("main", "Change")
	p.until("document.querySelector('#fo-state')")
	p.fill("#fo-state", "on")
	p.fill("#fo-change-why", "it is right")
	p.presses(".modal", "Save")
	p.until("!document.querySelector('.modal') && document.querySelector('main').innerText.includes('every 15 minutes')")
	check(t, r.svc.SendFeeds(t.Context()))
	p.goTo("/feeds/out/ilvane", "document.querySelector('main').innerText.includes('5 of ours are kept there')")
	p.until("document.querySelector('[aria-labelledby=h-sent] li')")
	p.axe("feed out, sent")
	p.picture("feed-out-on")
	var got []string
	for _, x := range r.second.People.Said() {
		got = append(got, strings.SplitN(x.UserName, "@", 2)[0]+" "+x.Name)
	}
	slices.Sort(got)
	if want := "m.quarrendon Mabel Quarrendon;maren.holtveig Maren Holtveig;o.tidewell Odile Tidewell;r.yarrowick Runa Yarrowick;runa.yarrowick Runa Yarrowick;s.saltmarsh Stellan Saltmarsh;u.larkmoor Ulla Larkmoor"; strings.Join(got,
		";") != want {
		t.Errorf("their directory: %s", got)
	}
	r.says(0, "there twice? Runa Yarrowick: r.yarrowick@brackwater.example by the feed, and runa.yarrowick@ilvane.example", "feed", "out",
		"test", "ilvane")
	r.second.People.Token = "another"
	r.says(0, "The token is not theirs, or has ended", "feed", "out", "test", "ilvane")
	p.presses("main", "Test it")
	p.until("document.querySelector('[aria-labelledby=h-look]').innerText.includes('ask their administrator for a new one')")
	r.says(0, "Nothing more is sent to ilvane.", "feed", "out", "end", "ilvane", "--why", "it was to see")
	r.says(0, "Nobody of ours is kept at a partner.", "feed", "out", "list")
}

// TestConnectInTheConsole goes from the advice on a partner's page through the steps of connecting their people for good: an opening, a
// feed.
func TestConnectInTheConsole(t *testing.T) {
	r := demoService(t)
	r.login("harbour")
	r.says(0, "Nothing is left to do", "partner", "connect", "ilvane", "--way", "federation")
	r.says(0, "wexillum grant add partner:pallowick space:low-water-design --role contribute --why …", "partner", "connect", "pallowick",
		"--space", "low-water-design", "--role", "contribute")
	r.says(1, "write federation, membership, feed", "partner", "connect", "pallowick", "--way", "mail")
	p := r.page(browser(t), "harbour")
	p.goTo("/partners/orrin", "document.querySelector('[aria-labelledby=h-advice] .way')")
	p.presses("[aria-labelledby=h-advice]", "All ways, with what they give and cost")
	p.until("[...document.querySelectorAll('[aria-labelledby=h-advice] a')].length === 3")
	p.do(chromedp.Click(chromedp.CSS(`[aria-labelledby=h-advice] a[href$="way=feed"]`)))
	p.until("document.querySelectorAll('.connect-steps li').length === 5")
	p.axe("connect")
	p.presses(".connect-steps", "Open it")
	p.until("document.querySelector('.modal')")
	p.picture("connect-open")
	p.fill(".modal input[type=text], .modal textarea, .modal input:not([type])", "their riggers change every week")
	eval[any](p, "[...document.querySelectorAll('.modal button')].find(b => b.type === 'submit').click()")
	p.until("!document.querySelector('.modal') && document.querySelector('.connect-steps li').innerText.includes('done')")
	p.presses(".connect-steps", "Let them")
	p.until("document.querySelector('.modal')")
	eval[any](p, "[...document.querySelectorAll('.modal button')].find(b => b.type === 'submit').click()")
	p.until("!document.querySelector('.modal') && [...document.querySelectorAll('.connect-steps li')][2].innerText.includes('done')")
	if text := p.text(".connect-steps"); strings.Contains(text, "See the feed") {
		t.Errorf("a link to a feed that is not there: %s", text)
	}
	p.presses(".connect-steps", "Begin the feed")
	p.until("document.querySelector('#fd-why')")
	p.fill("#fd-why", "their riggers change every week")
	p.presses(".modal", "Begin it")
	p.until("document.querySelector('.modal')?.innerText.includes('The token is shown this once')")
	p.presses(".modal", "Close")
	p.until("[...document.querySelectorAll('.connect-steps li')][3].innerText.includes('done') && document.querySelector('.connect-steps a[href=\"/feeds/orrin\"]')")
	p.goTo("/partners/pallowick/connect?way=membership&space=low-water-design&role=contribute",
		"document.querySelectorAll('[aria-labelledby=h-become] tbody tr').length > 20")
	p.axe("connect by membership")
	p.picture("connect")
}

// TestFeedOutPeer sends people to a SCIM server that others wrote: in, changed, closed, back, and taken over after what we knew of them is
// gone.
func TestFeedOutPeer(t *testing.T) {
	dir := "testdata/peer"
	if _, err := os.Stat(filepath.Join(dir, "node_modules", "scimmy")); err != nil {
		t.Skip("make install-peer installs it")
	}
	peer := exec.Command("node", "server.mjs")
	peer.Dir = dir
	peer.Env = append(os.Environ(), "PEER_TOKEN=tide", "HOST=127.0.0.1")
	out, err := peer.StdoutPipe()
	check(t, err)
	check(t, peer.Start())
	t.Cleanup(func() { _ = peer.Process.Kill(); _ = peer.Wait() })
	line, err := bufio.NewReader(out).ReadString('\n')
	check(t, err)
	at := strings.TrimSpace(line)
	r := demoService(t)
	token := filepath.Join(t.TempDir(), "token")
	check(t, os.WriteFile(token, []byte("tide"), 0o600))
	ctx, who := t.Context(), service.Who{Name: "harbour", Role: service.Administrator}
	address, key, scope := at+"/scim/v2", "file:"+token, service.ScopeGroups
	set := service.FeedOutSet{Address: &address, Key: &key, Scope: &scope, Of: &[]string{"curators"}}
	rule := func(v string) {
		t.Helper()
		r.login("harbour")
		r.must("rules", "set", "directory.feed_out", "--partner", "orrin", "--value", v, "--why", "to try", "-y")
	}
	send := func() string {
		t.Helper()
		x, err := r.svc.SendFeed(ctx, who, "orrin", "to send", 0, "")
		check(t, err)
		return strings.TrimSpace(fmt.Sprintf("%v, refused %d, left %d. %s", x.Done, x.Refused, x.Left, x.Problem)) + " "
	}
	all := func() (out []string) {
		t.Helper()
		resp, err := http.Get(at + "/all")
		check(t, err)
		defer resp.Body.Close()
		var list []struct {
			UserName, DisplayName string
			Active                bool
		}
		check(t, json.NewDecoder(resp.Body).Decode(&list))
		for _, u := range list {
			out = append(out, fmt.Sprintf("%s %s %t", strings.SplitN(u.UserName, "@", 2)[0], u.DisplayName, u.Active))
		}
		slices.Sort(out)
		return out
	}
	rule("on")
	check(t, r.svc.BeginFeedOut(ctx, who, "orrin", "to try", set))
	if got := send(); got != "map[new:5], refused 0, left 0. " {
		t.Errorf("in: %s", got)
	}
	if got := all(); len(got) != 5 || got[0] != "m.quarrendon Mabel Quarrendon true" {
		t.Errorf("there: %v", got)
	}
	_, err = r.svc.Load(ctx, "test", "", "test",
		[]byte("wexillum: 1\npeople: [{id: m.quarrendon, name: Mabel Quarrendon-Low, address: m.quarrendon@brackwater.example, groups: [curators]}]"),
		false)
	check(t, err)
	if got := send() + all()[0]; got != "map[changed:1], refused 0, left 0. m.quarrendon Mabel Quarrendon-Low true" {
		t.Errorf("changed: %s", got)
	}
	rule("off")
	if got := send() + all()[0]; got != "map[closed:5], refused 0, left 0. m.quarrendon Mabel Quarrendon-Low false" {
		t.Errorf("closed: %s", got)
	}
	rule("on")
	if got := send() + all()[0]; got != "map[back:5], refused 0, left 0. m.quarrendon Mabel Quarrendon-Low true" {
		t.Errorf("back: %s", got)
	}
	check(t, r.svc.EndFeedOut(ctx, who, "orrin", "begun anew"))
	check(t, r.svc.BeginFeedOut(ctx, who, "orrin", "to try", set))
	if got := send() + fmt.Sprint(len(all())); got != "map[taken_over:5], refused 0, left 0. 5" {
		t.Errorf("taken over: %s", got)
	}
	look, err := r.svc.LookFeed(ctx, "orrin")
	check(t, err)
	if look.Problem != "" || look.There != 5 || look.Ours != 5 || len(look.Unkept) != 0 {
		t.Errorf("a look: %+v", look)
	}
}
