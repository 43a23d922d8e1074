package service

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/suite"
)

// TestTrials: a trial contradicts when the system lies, and only then; too early where something is on its
// way; not tried where nothing can be; all are kept.
func TestTrials(t *testing.T) {
	s, c, programs, view := onSuite(t, suiteWorld)
	carry := ModeCarry
	_, err := s.ChangeSystem(t.Context(), placeAdmin, "it shall obey", "parley", SystemPatch{Mode: &carry, Digest: view("parley").Digest})
	check(t, err)
	say := func(domain string) Asked {
		return Asked{Subject: "*@" + domain, Action: "chat.message", Resource: "person:uma"}
	}
	try := func(asked Asked) string {
		t.Helper()
		x, err := s.Try(t.Context(), placeAdmin, asked)
		check(t, err)
		return fmt.Sprintf("%s found %s meant %s %v: %s", x.Outcome, x.Found, x.Meant, x.Contradiction, x.Says)
	}
	check(t, s.WorkSystems(t.Context()))
	check(t, s.WorkSystems(t.Context()))
	if got := try(say("ilvane.example")); !strings.HasPrefix(got, "too_early") {
		t.Errorf("while it settles: %s", got)
	}
	work(t, s, c)
	c.forward(10 * time.Minute)
	work(t, s, c)
	for _, x := range []struct {
		asked Asked
		want  string
	}{
		{say("ilvane.example"), "admitted found yes meant yes false: delivered"},
		{say("far.example"), "refused found no meant no false: the family is not at home to far.example"},
		{Asked{Subject: "person:uma", Action: "mail.forward", Resource: "mailbox:uma", Address: "u@far.example"},
			"refused found no meant no false: kept in the box: a clerk may not have post sent on"},
		{Asked{Subject: "a@ilvane.example", Action: "chat.message", Resource: "person:uma"},
			"not_tried found  meant yes false: read, not tried: a trial comes as somebody unknown, and this is a guest"},
		{Asked{Subject: "*@far.example", Action: "chat.see_presence", Resource: "person:uma"},
			"not_tried found  meant no false: Parley cannot try this"},
	} {
		if got := try(x.asked); got != x.want {
			t.Errorf("%+v: %s, want %s", x.asked, got, x.want)
		}
	}
	// It says yes and does nothing: the reading cannot tell, the trial does.
	programs["parley"].Settle(suite.Quirks{Silent: true})
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	if x, err := s.Try(ctx, placeAdmin, say("far.example")); err == nil && x.Outcome != TrialSilent {
		t.Errorf("silence: %+v", x)
	}
	programs["parley"].Settle(suite.Quirks{})
	check(t, programs["parley"].Turn("houses", "all but:")) // behind our back, between two readings
	if got := try(say("far.example")); !strings.HasPrefix(got, "refused found no meant no false") {
		t.Errorf("what was turned a moment ago does not count yet: %s", got)
	}
	c.forward(3 * time.Minute)
	if got := try(say("far.example")); got != "admitted found no meant no true: delivered" {
		t.Errorf("a lie: %s", got)
	}
	if x := view("parley").at("houses"); x.State != StepDiffers || x.Step.Problem != "a trial contradicts it: chat.message was admitted" {
		t.Errorf("what a contradiction comes to: %+v", x.Step)
	}
	_, err = s.DecideSetting(t.Context(), placeAdmin, "parley", "houses", Decided{Do: "again", Why: "it lied"})
	check(t, err)
	work(t, s, c)
	c.forward(10 * time.Minute)
	work(t, s, c)
	if got := try(say("far.example")); !strings.HasPrefix(got, "refused found no meant no false") {
		t.Errorf("sent again: %s", got)
	}
	list, err := s.Trials(t.Context(), 100)
	check(t, err)
	if len(list) < 8 || list[0].Outcome != TrialRefused || list[0].By != "admin" {
		t.Errorf("%d are kept: %+v", len(list), list[0])
	}
}

// TestTrialPlan: everything that can be tried is, once for each typical newcomer, and says for how many it
// stands; at night by itself, once.
func TestTrialPlan(t *testing.T) {
	s, c, programs, view := onSuite(t, suiteWorld+`
meetings: [{id: open-day, name: Open day, host: uma, passcode: yes}]
links: [{id: l, item: file:kit, for: bearer, right: view, created: 2026-11-20, until: 2027-01-01, by: uma}]
contacts: [{person: uma, party: known@ilvane.example, state: accepted}]
`)
	carry := ModeCarry
	for _, id := range []string{"parley", "quay", "ledger"} {
		_, err := s.ChangeSystem(t.Context(), placeAdmin, "it shall obey", id, SystemPatch{Mode: &carry, Digest: view(id).Digest})
		check(t, err)
	}
	for range 6 {
		work(t, s, c)
		c.forward(5 * time.Hour)
	}
	lines := func(x *PlanResult) string {
		var out []string
		for _, y := range x.Trials {
			who := y.Asked.Subject
			if y.Asked.Address != "" {
				who = y.Asked.Address
			}
			out = append(out, fmt.Sprint(who, " ", y.Asked.Action, " ", y.Asked.Resource, " ", y.Outcome, " ", y.Meant))
		}
		return strings.Join(out, "\n")
	}
	try := func(id, partner string) *PlanResult {
		t.Helper()
		x, err := s.TryPlan(t.Context(), placeAdmin, id, partner)
		check(t, err)
		return x
	}
	x := try("parley", "")
	if got, want := lines(x), `*@ilvane.example chat.message person:uma admitted yes
*@unlisted-firm.example chat.message person:uma refused no
*@ilvane.example meetings.join meeting:open-day admitted yes
*@unlisted-firm.example meetings.join meeting:open-day refused yes
*@ilvane.example mail.see_busy calendar:uma refused no
*@unlisted-firm.example mail.see_busy calendar:uma refused no`; got != want || x.StandFor != 2+1+2+1+2+1 || x.Contradictions != 0 {
		t.Errorf("a plan:\n%s\nwant\n%s\nstands for %d, %d contradict", got, want, x.StandFor, x.Contradictions)
	}
	if got := lines(try("quay", "")); got != "link:l files.open file:kit refused no\na@ilvane.example files.open file:kit refused yes" {
		t.Errorf("whoever holds a link: %s", got)
	}
	if got := lines(try("ledger", "ilvane")); got != "*@ilvane.example mail.forward mailbox:uma refused no" {
		t.Errorf("one partner: %s", got)
	}
	if _, err := s.TryPlan(t.Context(), placeAdmin, "parley", "nobody"); err == nil {
		t.Error("a partner that is not there")
	}
	// A record of reach at the end says what they showed, each question once, and not what was tried later.
	try("parley", "ilvane")
	e, err := s.RecordTrials(t.Context(), placeAdmin, "parley", "ilvane")
	check(t, err)
	var tried []string
	for i := range e.Manifest.Trials {
		x := &e.Manifest.Trials[i]
		tried = append(tried, fmt.Sprint(x.System, " ", x.Admitted, x.Refused, x.Nothing, x.Differs, x.Contradictions))
	}
	if got := strings.Join(tried, ", "); got != "ledger 0 1 0 0 0, parley 2 4 0 1 0, quay 0 2 0 1 1" || e.Manifest.Party != "partner:ilvane" ||
		strings.Contains(strings.Join(e.Manifest.NotLookedAt, ";"), "trials") {
		t.Errorf("a record says of trials: %s; %s, not looked at %v", got, e.Manifest.Party, e.Manifest.NotLookedAt)
	}
	if before, err := s.triedBefore(t.Context(), s.Now()-40*86400e6); err != nil || len(before) != 0 {
		t.Errorf("what was tried later: %v %v", before, err)
	}
	if later, err := s.triedBefore(t.Context(), s.Now()+40*86400e6); err != nil || len(later) != 0 {
		t.Errorf("what was tried long before: %v %v", later, err)
	}
	// At night.
	yes := true
	_, err = s.ChangeSystem(t.Context(), placeAdmin, "to be sure", "parley", SystemPatch{Nightly: &yes})
	check(t, err)
	c.at = time.Date(2026, 11, 26, 1, 0, 0, 0, time.UTC)
	count := func() int {
		t.Helper()
		work(t, s, c)
		list, err := s.Trials(t.Context(), 500)
		check(t, err)
		n := 0
		for _, y := range list {
			if y.By == Scheduler {
				n++
			}
		}
		return n
	}
	if got := count(); got != 0 {
		t.Errorf("before two in the morning %d are tried", got)
	}
	c.at = time.Date(2026, 11, 26, 2, 30, 0, 0, time.UTC)
	if got := count(); got != 6 {
		t.Errorf("at night %d are tried", got)
	}
	c.forward(3 * time.Hour)
	if got := count(); got != 6 {
		t.Errorf("later that day %d are tried", got)
	}
	check(t, programs["parley"].Turn("houses", "all but:"))
	c.forward(3 * time.Minute)
	if x := try("parley", ""); x.Contradictions != 1 {
		t.Errorf("a lie: %s, %d contradict", lines(x), x.Contradictions)
	}
}

// TestWorksOnceItDoes: whoever asked hears that it works when the suite does it, not when it was published.
func TestWorksOnceItDoes(t *testing.T) {
	s, c, _, view := onSuite(t, suiteWorld)
	carry := ModeCarry
	_, err := s.ChangeSystem(t.Context(), placeAdmin, "it shall obey", "parley", SystemPatch{Mode: &carry, Digest: view("parley").Digest})
	check(t, err)
	for range 3 {
		work(t, s, c)
		c.forward(10 * time.Minute)
	}
	r, err := s.MakeRequest(t.Context(), Who{Name: "uma", Role: Member, Person: "uma"},
		Asked{Subject: "*@far.example", Action: "chat.message", Resource: "person:uma"}, "the fair")
	check(t, err)
	state := func() RequestState {
		t.Helper()
		check(t, s.noticeRequests(t.Context()))
		doc, err := s.store.Record(t.Context(), "request", r.ID)
		check(t, err)
		x, err := requestOf(doc)
		check(t, err)
		return x.State
	}
	check(t, s.SetRule(t.Context(), "ada", "for the fair", RuleChange{Rule: "chat.federation", Limit: "any", Default: "any"}))
	if got := state(); got != RequestOpen {
		t.Errorf("published, and told as %s", got)
	}
	check(t, s.WorkSystems(t.Context()))
	if got := state(); got != RequestOpen {
		t.Errorf("written, and told as %s", got)
	}
	work(t, s, c)
	c.forward(3 * time.Minute)
	work(t, s, c)
	if got := state(); got != RequestWorks {
		t.Errorf("confirmed, and told as %s: %+v", got, view("parley").at("houses").Step)
	}
}
