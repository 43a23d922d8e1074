package service

import (
	"fmt"
	"log/slog"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/mailpolicy"
	"wexillum.example/internal/suite"
)

func tried(t *testing.T, s *Service, subject, action, resource, address string) string {
	t.Helper()
	x, err := s.Try(t.Context(), placeAdmin, Asked{Subject: subject, Action: action, Resource: resource, Address: address})
	check(t, err)
	out := fmt.Sprintf("meant %s, found %s, as %s: %s: %s", x.Meant, x.Found, x.As, x.Outcome, x.Says)
	if x.Making {
		out += " (making it)"
	}
	if x.Theirs {
		out += " (theirs)"
	}
	if x.Contradiction {
		out += " (contradicts)"
	}
	return out
}

// TestTrialAccounts: a guest, whoever holds a link, and one of ours are tried as accounts made for it, which are
// taken away again; where the making is refused, that was the trial; where a system lies, and only there, a
// trial contradicts.
func TestTrialAccounts(t *testing.T) {
	s, c, programs, view := onSuite(t, keptWorld)
	quay, ledger := programs["quay"], programs["ledger"]
	carried(t, s, c, view)
	before := things(quay, "visitors") + things(quay, "passes") + things(quay, "tickets") + things(ledger, "orders")
	for _, x := range [][5]string{
		{"a@ilvane.example", "files.open", "file:kit", "", "meant yes, found yes, as guest: refused: visitors keep out of the berths"},
		{"link:kit-link", "files.open", "file:kit", "", "meant yes, found yes, as holder: admitted: come through"},
		{"person:uma", "mail.forward", "mailbox:uma", "x@far.example",
			"meant no, found no, as ours: refused: kept in the box: a clerk may not have post sent on"},
		{"x@far.example", "files.open", "file:kit", "", "meant no, found , as stranger: not_tried: Quay cannot try this"},
	} {
		if got := tried(t, s, x[0], x[1], x[2], x[3]); !strings.HasPrefix(got, x[4]) {
			t.Errorf("%s %s:\n%s\n%s", x[0], x[1], got, x[4])
		}
	}
	c.forward(12 * time.Minute)
	if got := things(quay, "visitors") + things(quay, "passes") + things(quay, "tickets") + things(ledger, "orders"); got != before {
		t.Errorf("trials left something behind:\n%s\n%s", got, before)
	}
	// Visitors are turned away there, and nobody read it yet: the account cannot be made, and that contradicts.
	check(t, quay.Turn("visitors", "turned away"))
	if got := tried(t, s, "a@ilvane.example", "files.open", "file:kit", ""); !strings.Contains(got,
		"not here: visitors are turned away (making it) (contradicts)") {
		t.Errorf("turned away: %s", got)
	}
	_, err := s.DecideSetting(t.Context(), placeAdmin, "quay", "visitors", Decided{Do: "again", Why: "it is mended"})
	check(t, err)
	check(t, quay.Turn("visitors", "welcome"))
	work(t, s, c)
	// Somebody suspended is not tried as somebody who is in.
	_, err = s.ChangeGuests(t.Context(), placeAdmin, GuestChange{Do: Suspend, Addresses: []string{"a@ilvane.example"}, Reason: "leave"}, false)
	check(t, err)
	if got := tried(t, s, "a@ilvane.example", "files.open", "file:kit", ""); !strings.Contains(got, "not_tried: read, not tried") {
		t.Errorf("suspended: %s", got)
	}
}

// TestBothHouses: where a partner's own house must let its people go, a refusal there is told as theirs, and
// contradicts nothing; once both say yes, the message arrives.
func TestBothHouses(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, suiteWorld)
	theirs := suite.New(suite.Options{Key: "theirs", Clock: c.now, House: "ilvane.example"})["parley"]
	far := httptest.NewServer(theirs.Handler())
	defer far.Close()
	connectTo(t, s, c, suite.Options{Key: "pass", Clock: c.now, House: "ours.example", Peers: map[string]string{"ilvane.example": far.URL}},
		"parley")
	obey(t, s, "parley")
	work(t, s, c)
	c.forward(time.Hour)
	work(t, s, c)
	if got := tried(t, s, "*@ilvane.example", "chat.message", "person:uma",
		""); got != "meant yes, found , as stranger: refused: nobody of this house writes to ours.example (theirs)" {
		t.Errorf("their half: %s", got)
	}
	check(t, theirs.Turn("houses", "none but: ours.example"))
	c.forward(3 * time.Minute)
	if got := tried(t, s, "*@ilvane.example", "chat.message", "person:uma",
		""); got != "meant yes, found yes, as stranger: admitted: delivered" {
		t.Errorf("both say yes: %s", got)
	}
	far.Close()
	if got := tried(t, s, "*@ilvane.example", "chat.message", "person:uma", ""); !strings.Contains(got,
		"the house of ilvane.example does not answer (theirs)") {
		t.Errorf("their house is away: %s", got)
	}
}

// TestAskedLive: a counting house that asks us before mail goes on is answered for each mailbox and address,
// exceptions included; when we are away it refuses, and a trial shows that; one that lets everything go on then
// is told.
func TestAskedLive(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, strings.Replace(strings.Replace(suiteWorld, "rules:",
		"rules:\n  mail.forward: {limit: any}\n  mail.forward_set_by: {default: staff}", 1),
		"people: [{id: uma, name: Uma, address: uma@ours.example}]",
		`exceptions: [{id: paper, people: [ben], rules: {mail.forward: any, mail.forward_copy: optional}, reason: the paper, from: 2026-11-01, until: 2026-12-31}]
people: [{id: uma, name: Uma, address: uma@ours.example}, {id: ben, name: Ben, address: ben@ours.example}]`, 1))
	asked, err := mailpolicy.Listen("127.0.0.1:0", s.MayForward, slog.New(slog.DiscardHandler))
	check(t, err)
	defer asked.Close()
	ledger := connectTo(t, s, c, suite.Options{Key: "pass", Clock: c.now, Asks: asked.Address()}, "ledger")["ledger"]
	obey(t, s, "ledger")
	work(t, s, c)
	c.forward(25 * time.Hour)
	work(t, s, c)
	ask := func(person string) string {
		return tried(t, s, "person:"+person, "mail.forward", "mailbox:"+person, "x@ilvane.example")
	}
	// With a list of towns the exception cannot be held: short.
	if got := ask("ben"); !strings.HasPrefix(got, "meant yes, found no, as ours: refused: returned to sender: no coach") {
		t.Errorf("a list: %s", got)
	}
	check(t, ledger.Turn("post.asks", "yes"))
	c.forward(6 * time.Minute)
	work(t, s, c)
	if got := ask("ben"); got != "meant yes, found yes, as ours: admitted: went on to ilvane.example" {
		t.Errorf("asked: %s", got)
	}
	if got := ask("uma"); !strings.HasPrefix(got, "meant no, found no, as ours: refused: returned to sender: REJECT 5.7.1 ") ||
		!strings.Contains(got, "“Forwarding mail outside” is set to closed") {
		t.Errorf("asked of another: %s", got)
	}
	check(t, asked.Close())
	if got := ask("ben"); got != "meant yes, found yes, as ours: refused: returned to sender: nobody is there to be asked (contradicts)" {
		t.Errorf("we are away: %s", got)
	}
	check(t, ledger.Turn("post.unanswered", "sent on"))
	c.forward(6 * time.Minute)
	work(t, s, c)
	v, err := s.SystemView(t.Context(), "ledger")
	check(t, err)
	if len(v.Unread) != 1 || v.Unread[0].Path != "post.unanswered" || v.Unread[0].Rule != "mail.forward" {
		t.Errorf("it lets go on what nobody answers: %+v", v.Unread)
	}
	if got := ask("uma"); !strings.Contains(got, "admitted: went on to ilvane.example") {
		t.Errorf("sent on: %s", got)
	}
}
