package e2e

import (
	"net/http"
	"strings"
	"testing"
	"time"
)

// TestToldOverTheNetwork lets the demo's second organisation push that accounts of its people were disabled: the record here is suspended,
// the session of the guest ends, and it is seen in the client and in the console.
func TestToldOverTheNetwork(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	const who = "maren.holtveig@ilvane.example"
	r.says(0, "They told of nothing yet", "partner", "told", "ilvane")
	issuer := strings.TrimSuffix(r.must("partner", "show", "ilvane", "-o", "json"), "\n")
	i := strings.Index(issuer, `"statement": "`) + len(`"statement": "`)
	issuer = issuer[i : i+strings.Index(issuer[i:], "/.well-known")]
	tell := func(to, kind, address, id string, at time.Time) (int, string) {
		t.Helper()
		status, said, err := r.second.Tell(t.Context(), to, issuer, kind, address, id, at)
		check(t, err)
		return status, said
	}
	const disabled = "https://schemas.openid.net/secevent/risc/event-type/account-disabled"
	if status, said := tell(r.url+"/events", disabled, "somebody@elsewhere.example", "1", time.Now()); status != 400 ||
		!strings.Contains(said, `"err":"access_denied"`) {
		t.Errorf("of another's: %d %s", status, said)
	}
	if status, said := tell(r.url+"/events", disabled, who, "2", time.Now().Add(-time.Hour)); status != 202 || said != "" {
		t.Fatalf("told: %d %s", status, said)
	}
	if status, _ := tell(r.url+"/events", disabled, who, "2", time.Now().Add(-time.Hour)); status != 202 {
		t.Errorf("told twice: %d", status)
	}
	resp, err := http.Post(r.url+"/events", "application/json", strings.NewReader("{}"))
	check(t, err)
	resp.Body.Close()
	if resp.StatusCode != 400 {
		t.Errorf("no token: %s", resp.Status)
	}
	r.says(0, "disabled", "partner", "told", "ilvane")
	r.says(0, "suspended", "guest", "show", who)
	r.says(3, "NO", "ask", who, "spaces.enter", "space:loan-dossier")
	p := r.page(browser(t), "harbour")
	p.goTo("/partners/ilvane", "document.querySelector('[aria-labelledby=h-told] li')")
	if got := p.text("[aria-labelledby=h-told]"); !strings.Contains(got, "account disabled") || !strings.Contains(got, who) ||
		!strings.Contains(got, "done") {
		t.Error(got)
	}
	p.axe("a partner who told something")
	eval[any](p, "document.querySelector('[aria-labelledby=h-told]').scrollIntoView()")
	p.picture("told")
}
