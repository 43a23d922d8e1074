package e2e

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
)

// TestSecondFactorEverywhere requires one-time codes of administrators, sets them up in the console, signs in there and in the client with
// them, and lets somebody in again who lost their device, by another administrator and on the database itself.
func TestSecondFactorEverywhere(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	const known = "low-water-2026"
	p := r.page(browser(t), "harbour")
	r.must("settings", "set", "settings.second_factor=administrators", "--why", "it is asked of us", "--yes")
	// The client: nothing but what sets it up.
	r.says(1, "has to have a second factor", "guest", "list")
	r.says(0, "your role has to", "account", "factor", "show")

	p.goTo("/guests", "document.querySelector('#h-factor')") // whatever page is asked for
	if got := p.text("main"); !strings.Contains(got, "Your role has to have them") {
		t.Error(got)
	}
	p.axe("to be set up")
	p.picture("factor-needed")
	p.presses("main", "Set them up")
	p.until("document.querySelector('#sf-password')")
	p.fill("#sf-password", known)
	p.presses(".modal", "Go on")
	p.until("document.querySelector('.modal img')")
	p.axe("setting it up")
	p.picture("factor-set-up")
	if eval[int](p, "document.querySelector('.modal img').naturalWidth") < 100 { // by now it is drawn
		t.Error("there is nothing to scan")
	}
	secret := strings.ReplaceAll(p.text(".modal .long-code"), " ", "")
	code := func(shift time.Duration) string {
		t.Helper()
		c, err := totp.GenerateCode(secret, time.Now().Add(shift))
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	first := code(-30 * time.Second)
	p.fill("#sf-code", first)
	p.presses(".modal", "Set up")
	p.until("document.querySelectorAll('.recovery-codes li').length === 10")
	p.axe("recovery codes")
	p.picture("factor-codes")
	recovery := p.text(".recovery-codes li")
	p.presses(".modal", "I have kept them")
	p.until("document.querySelector('header.mast')")

	// Signing in: the console asks for a code, and so does the client.
	q := r.page(browser(t), "")
	q.fill("#name", "harbour")
	q.fill("#password", known)
	q.presses("form", "Sign in")
	q.until("document.querySelector('#code')")
	q.axe("a code is asked for")
	q.picture("factor-sign-in")
	q.fill("#code", first) // it was used
	q.presses("form", "Sign in")
	q.until("document.querySelector('main').innerText.includes('wrong')")
	q.fill("#code", code(0))
	q.presses("form", "Sign in")
	q.until("document.querySelector('header.mast')")
	// Both sessions are listed; one ends the other.
	p.goTo("/account", "document.querySelectorAll('.own-sessions li').length === 2")
	p.axe("sessions")
	p.picture("sessions")
	p.presses(".own-sessions", "End it")
	p.until("document.querySelectorAll('.own-sessions li').length === 1")
	q.goTo("/guests", "document.querySelector('#name')")
	login := func(code string) (int, string) {
		t.Helper()
		args := []string{"login", "--name", "harbour"}
		if code != "" {
			args = append(args, "--code", code)
		}
		status, out, errs := r.client(known+"\n", args...)
		return status, out + errs
	}
	if status, said := login(""); status == 0 || !strings.Contains(said, "a one-time code is asked for") {
		t.Errorf("without a code: %d %s", status, said)
	}
	if status, said := login("000000"); status == 0 || !strings.Contains(said, "Name or password is wrong") {
		t.Errorf("a wrong code: %d %s", status, said)
	}
	if status, said := login(recovery); status != 0 {
		t.Errorf("a recovery code: %d %s", status, said)
	}
	r.says(0, "9 recovery codes are left", "account", "factor", "show")
	var f struct {
		On bool `json:"on"`
	}
	if err := json.Unmarshal([]byte(r.must("account", "factor", "show", "-o", "json")), &f); err != nil || !f.On {
		t.Errorf("as JSON: %+v %v", f, err)
	}
}
