package e2e

import (
	"bufio"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
)

// begun is an installation that wexillum start runs.
type begun struct {
	*running
	began string // the address that was printed for the first administrator
	stop  func()
}

// startOn runs wexillum start on a directory and reads what it prints.
func startOn(t *testing.T, dir string) *begun {
	t.Helper()
	bin, err := binary()
	check(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	cmd := exec.CommandContext(ctx, bin, "start", "--dir", dir, "--listen", "127.0.0.1:0", "--no-color")
	cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
	out, err := cmd.StdoutPipe()
	check(t, err)
	var errs strings.Builder
	cmd.Stderr = &errs
	check(t, cmd.Start())
	x := &begun{running: &running{t: t, home: t.TempDir()}}
	stopped := false
	x.stop = func() {
		if !stopped {
			stopped = true
			cancel()
			_ = cmd.Wait()
		}
	}
	t.Cleanup(x.stop)
	at, key := regexp.MustCompile(`Wexillum runs at (http\S+)`), regexp.MustCompile(`(http\S+/begin#\S+)`)
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if m := at.FindStringSubmatch(lines.Text()); m != nil {
			x.url = m[1]
		}
		if m := key.FindStringSubmatch(lines.Text()); m != nil {
			x.began = m[1]
		}
		if strings.Contains(lines.Text(), "Ready after") {
			go func() {
				for lines.Scan() {
				}
			}()
			return x
		}
	}
	t.Fatalf("it does not start: %s", errs.String())
	return nil
}

// TestFirstHour goes from an empty machine to the first guest's role with the console alone: the first
// administrator, the organisation, a list of people, a posture, a partner, a place and an invitation.
func TestFirstHour(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "own")
	x := startOn(t, dir)
	if x.began == "" {
		t.Fatal("no address is printed for the first administrator")
	}
	status, _, body := x.call("POST", "/api/v1/begin", "", `{"key":"wrong","name":"captain","password":"four dry ropes hang"}`)
	if status != 403 || !strings.Contains(body, "this address does not work") {
		t.Errorf("a wrong key: %d %s", status, body)
	}
	ctx := browser(t)
	p := &page{t: t, ctx: ctx, url: x.url}
	p.do(chromedp.Navigate(x.began))
	p.until(`document.querySelector("#password") && !location.hash`)
	p.axe("the first administrator")
	p.picture("begin")
	p.fill("#name", "captain")
	p.fill("#password", "password1234")
	p.presses("main", "Make the administrator")
	p.until(`document.querySelector(".wrong")?.innerText.includes("too close to passwords that are tried first")`)
	p.fill("#password", "four dry ropes hang")
	p.presses("main", "Make the administrator")
	p.until(`location.pathname === "/start" && document.querySelector(".start-steps")`)
	p.axe("the beginning")
	p.picture("start-empty")
	if status, _, body := x.call("POST", "/api/v1/begin", "",
		`{"key":"`+strings.SplitN(x.began, "#", 2)[1]+`","name":"pirate","password":"four dry ropes hang"}`); status != 409 ||
		!strings.Contains(body, "there is an administrator already") {
		t.Errorf("the address works twice: %d %s", status, body)
	}
	// Who we are.
	p.fill("#org-name", "Saltmarsh Trust")
	p.do(chromedp.SendKeys(chromedp.CSS(".chips-field input"), "saltmarsh.example"), chromedp.Click(chromedp.CSS("#org-zone")))
	p.until(`document.querySelector(".chips li")?.innerText.includes("saltmarsh.example")`)
	p.presses("main", "That is us")
	p.publish("the beginning")
	p.until(`document.querySelector(".start-steps")?.innerText.includes("Your organisation: Saltmarsh Trust")`)
	// A person, by hand.
	p.goTo("/people", "document.querySelector('.tools')")
	p.presses("main", "New person")
	p.fill("#pe-name", "Ada Quill")
	p.fill("#pe-address", "ada@saltmarsh.example")
	p.do(chromedp.Click(chromedp.CSS("#pe-introducer")))
	p.until(`document.querySelector("[data-testid=ahead]") && !document.querySelector("[data-testid=ahead]").innerText.includes("Counting")`)
	p.fill("#place-why", "the first of us")
	p.presses(dialogue, "Add them")
	p.until(`location.pathname === "/people/ada-quill"`)
	// How open to begin with: seen, then published.
	p.goTo("/start", "document.querySelector('.postures')")
	p.until(`document.querySelector("#posture-guests")`)
	p.do(chromedp.Click(chromedp.CSS("#posture-guests")))
	p.picture("start-posture")
	p.presses("main", "See whom it would touch")
	p.until(`location.pathname.startsWith("/drafts/") && document.querySelector("h1")?.innerText.includes("guests we invite")`)
	p.picture("start-draft")
	x.signIn("captain", "four dry ropes hang")
	x.says(0, "ublished", "draft", "publish", "Posture: guests we invite", "--why", "to begin with", "--yes")
	// A partner, a place, the first guest.
	x.says(0, "heron", "partner", "add", "heron", "--name", "Heron Boats", "--domain", "heron.example", "--open", "directory.in,spaces.in",
		"--why", "they build our boats", "--yes")
	p.goTo("/spaces", "document.querySelector('.tools')")
	p.picture("spaces-empty")
	p.presses("main", "New space")
	p.until(`document.querySelectorAll(".modal.show input[name=sp-pattern]").length === 6`)
	p.fill("#sp-name", "Boat shed")
	p.do(chromedp.SendKeys(chromedp.CSS(".modal.show .chips-field input"), "Ada Quill"))
	p.until(`[...document.querySelectorAll(".modal.show [role=option]")].find(o => o.innerText.includes("Ada Quill"))`)
	eval[any](p, `[...document.querySelectorAll(".modal.show [role=option]")].find(o => o.innerText.includes("Ada Quill")).click()`)
	p.until(`document.querySelector("[data-testid=ahead]")?.innerText.includes("a newcomer from Heron Boats")`)
	p.fill("#place-why", "the new dinghy")
	p.presses(dialogue, "Make the space")
	p.until(`location.pathname === "/spaces/boat-shed" && document.querySelector(".next-steps")`)
	p.presses(".next-steps", "Invite the first guest")
	p.until(`location.pathname === "/invite" && document.querySelector("#i-list")`)
	p.fill("#i-list", "sten@heron.example")
	p.fill("#i-purpose", "the dinghy")
	p.presses("main", "Preview")
	p.until(`document.querySelector(".invite-weighed")?.innerText.includes("sten@heron.example")`)
	p.picture("first-invitation")
	p.presses("main", "Send to 1")
	p.until(`document.querySelector(".invite-weighed h2")?.innerText === "Sent"`)
	x.says(0, "invited", "guest", "list")
	p.goTo("/start", "document.querySelector('.start-steps')")
	p.until(`document.querySelector(".start-steps").innerText.includes("to be sent: name a mail server")`)
	p.picture("start-done")
	// It stops and goes on; no address is printed any more.
	x.stop()
	y := startOn(t, dir)
	if y.began != "" {
		t.Errorf("%s is printed again", y.began)
	}
	y.signIn("captain", "four dry ropes hang")
	y.says(0, "Boat shed", "space", "list")
	y.says(0, "Saltmarsh Trust", "settings", "show")
	y.says(0, "settings.brake", "settings", "set", "settings.brake=100", "--why", "small", "--yes")
	y.says(2, `there is no setting "settings.break"`, "settings", "set", "settings.break=1")
}

// TestFirstHourInTheClient does the same with the client alone, knowing no id beforehand.
func TestFirstHourInTheClient(t *testing.T) {
	t.Parallel()
	x := startOn(t, filepath.Join(t.TempDir(), "own"))
	if status, _, errs := x.client("short\n", "begin", x.began, "--name", "captain"); status != 2 ||
		!strings.Contains(errs, "at least 12 characters") {
		t.Errorf("%d %s", status, errs)
	}
	if status, _, errs := x.client("four dry ropes hang\n", "begin", x.url, "--name", "captain"); status != 2 ||
		!strings.Contains(errs, "write the address as it was printed") {
		t.Errorf("%d %s", status, errs)
	}
	if status, out, errs := x.client("four dry ropes hang\n", "begin", x.began, "--name", "captain"); status != 0 ||
		!strings.Contains(out, "Signed in to "+x.url+" as captain") {
		t.Fatalf("%d %s%s", status, out, errs)
	}
	x.says(0, "Saltmarsh Trust", "settings", "set", "organisation.name=Saltmarsh Trust", "organisation.domains=saltmarsh.example",
		"organisation.time_zone=Europe/Lisbon", "--why", "the beginning", "-y")
	x.says(0, "person ada-quill: made", "person", "add", "Ada Quill", "--address", "ada@saltmarsh.example", "--roles", "introducer", "--why",
		"the first of us")
	x.says(0, "guests  Guests we invite", "posture", "list")
	out := x.says(0, "Next: wexillum draft impact", "posture", "draft", "guests")
	id := regexp.MustCompile(`The draft (\S+) is made`).FindStringSubmatch(out)[1]
	x.says(0, "ublished", "draft", "publish", id, "--why", "to begin with", "-y")
	x.says(1, "the organisation stands there already", "posture", "draft", "guests")
	x.says(0, "Heron Boats", "partner", "add", "heron", "--name", "Heron Boats", "--domain", "heron.example", "--open",
		"directory.in,spaces.in", "--why", "they build our boats", "-y")
	x.says(0, "space boat-shed: made", "space", "add", "Boat shed", "--pattern", "work", "--owners", "Ada Quill", "--why", "the new dinghy")
	x.says(0, "sten@heron.example", "guest", "invite", "sten@heron.example", "--into", "space:boat-shed", "--purpose", "the dinghy")
	x.says(0, "YES  sten@heron.example", "ask", "sten@heron.example", "directory.sign_in", "directory:ours")
	x.says(3, "“Forwarding mail outside” is set to closed", "ask", "Ada Quill", "forward", "Ada Quill", "--context", "address=a@home.example")
}
