package service

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
)

const bundleWorld = `
bundles:
  - {id: desk, name: Desk, gives: [{resource: space:dossier, role: contribute}, {resource: file:kit, role: view}], who: {partners: [ilvane]}, approval: [sponsor, keeper], questions: ["Which loan?"], term_days: 60}
  - {id: plain, name: Plain, gives: [{resource: space:dossier, role: view}], who: {partners: [ilvane, shut], others: yes}, term_days: 30, extend: silent, not_with: [desk]}
  - {id: over, name: Over, gives: [{resource: space:dossier, role: view}], who: {others: yes}, closed: yes}
  - {id: hers, name: Hers, gives: [{resource: file:kit, role: view}], who: {partners: [ilvane]}, approval: [uma, owner]}
`

// outcome writes what a refusal is, or "done".
func outcome(err error) string {
	if err != nil {
		return err.Error()
	}
	return "done"
}

// TestBundleAsked follows requests from the door to what is held: who may ask, what is asked, who approves, in which order, what
// is given, and what becomes of it.
func TestBundleAsked(t *testing.T) {
	s, clock := start(t, dbtest.DSN(t))
	load(t, s, guestWorld+strings.ReplaceAll(bundleWorld, "\nbundles:", "bundles:"))
	load(t, s, "wexillum: 1\npeople: [{id: cato, name: Cato, address: cato@ours.example}]\n")
	ctx := t.Context()
	check(t, s.MakeAccount(ctx, "test", "a keeper", Account{Name: "kira", Role: string(Keeper), Person: "ben"}, "low-water-2026"))
	d := &atDoor{t, s, &box{}}
	uma, ben := Who{Name: "u", Role: Member, Person: "uma"}, Who{Name: "b", Role: Member, Person: "ben"}
	ada := Who{Name: "guest:ada@ilvane.example", Role: RoleGuest, Guest: "ada@ilvane.example"}
	reaches := func(a, action, resource string) string {
		t.Helper()
		return map[bool]string{true: "yes", false: "no"}[decide(t, s, a, action, resource)]
	}

	// At the door: whoever might ask for something is sent a code; others are sent none, and are told the same.
	if got := d.signIn(SigningIn{Address: "ada@ilvane.example", Language: "en"}); got != "bundles " {
		t.Errorf("at the door: %q", got)
	}
	if got := d.signIn(SigningIn{Address: "x@homepost.example", Language: "en"}); got != "no code" {
		t.Errorf("a private address, which the rules do not let in: %q", got)
	}
	list, past, err := s.BundlesFor(ctx, mustAddr(t, "ada@ilvane.example"))
	check(t, err)
	var names []string
	for _, b := range list {
		names = append(names, b.ID)
	}
	if got := strings.Join(names, " "); got != "desk hers plain" && got != "desk plain hers" || len(past) > 0 {
		t.Errorf("may ask for %q, asked before: %v", got, past)
	}

	ask := func(who Who, x BundleAsk) (*Request, string) {
		t.Helper()
		r, err := s.AskBundle(ctx, who, x)
		return r, outcome(err)
	}
	good := BundleAsk{Bundle: "desk", Address: "ada@ilvane.example", Language: "en", Answers: []string{"the oar"},
		Purpose: "we pack the crate"}
	for want, change := range map[string]func(x *BundleAsk){
		"there is no bundle":                         func(x *BundleAsk) { x.Bundle = "none" },
		"closed":                                     func(x *BundleAsk) { x.Bundle, x.Answers = "over", nil },
		"say what it is for":                         func(x *BundleAsk) { x.Purpose = " " },
		`answers "0": answer every question`:         func(x *BundleAsk) { x.Answers = nil },
		`answers[0] "": answer in 1 to 500 letters`:  func(x *BundleAsk) { x.Answers = []string{" "} },
		"the bundle is given for at most 60 days":    func(x *BundleAsk) { x.Until = "+61d" },
		"it lies before now":                         func(x *BundleAsk) { x.Until = "2026-01-01" },
		"write a date":                               func(x *BundleAsk) { x.Until = "soon" },
		"The bundle Desk is not for people of shut.": func(x *BundleAsk) { x.Address = "x@shut.example" },
		"is no address of somebody outside":          func(x *BundleAsk) { x.Address = "uma@ours.example" },
	} {
		x := good
		change(&x)
		if _, got := ask(ada, x); !strings.Contains(got, want) {
			t.Errorf("want %q: %s", want, got)
		}
	}
	if _, got := ask(Who{Name: "guest:x@shut.example", Role: RoleGuest, Guest: "x@shut.example"},
		BundleAsk{Bundle: "plain", Address: "x@shut.example", Purpose: "x"}); !strings.Contains(got, "Shut") {
		t.Errorf("a partner that nothing is opened for: %s", got)
	}

	// Nobody named a sponsor: the owner of the first of what it gives decides, then a keeper.
	r, got := ask(ada, good)
	if got != "done" {
		t.Fatal(got)
	}
	if got := fmt.Sprint(r.To, r.Bundle.Steps,
		r.Bundle.Until); got != "[owner:uma] [{sponsor [owner:uma]   } {keeper [keeper]   }]2027-01-23T00:00:00Z" {
		t.Errorf("asked: %s", got)
	}
	if _, got := ask(ada, good); !strings.Contains(got, "you have asked for this already") {
		t.Errorf("twice: %s", got)
	}
	if m := d.mail("uma@ours.example"); len(m) != 1 || !strings.Contains(m[0].Text, "Give ada@ilvane.example the bundle Desk") ||
		!strings.Contains(m[0].Text, "Which loan? the oar") {
		t.Errorf("mail to who decides: %+v", m)
	}
	do := func(who Who, id string, preview bool, c BundleApproval) (*PlacesChanged, string) {
		t.Helper()
		x, err := s.DoRequest(ctx, who, id, "", preview, c)
		return x, outcome(err)
	}
	for who, want := range map[Who]string{ben: "there is no request", keeper: "it is approved by Uma",
		{Name: "v", Role: Administrator}: "it is approved by Uma"} {
		if _, got := do(who, r.ID, false, BundleApproval{}); !strings.Contains(got, want) {
			t.Errorf("%s approves: %s", who.Name, got)
		}
	}
	for want, c := range map[string]BundleApproval{
		"they asked for less":          {Until: "2027-01-23"},
		"the bundle does not give it":  {Less: []Less{{Resource: "space:other"}}},
		"a role is view, contribute":   {Less: []Less{{Resource: "file:kit", Role: "look"}}},
		"which is no more":             {Less: []Less{{Resource: "file:kit", Role: "manage"}}},
		"nothing would be left of the": {Less: []Less{{Resource: "file:kit"}, {Resource: "space:dossier"}}},
	} {
		if want == "they asked for less" {
			continue // tried below, with an end that they asked for
		}
		if _, got := do(uma, r.ID, true, c); !strings.Contains(got, want) {
			t.Errorf("want %q: %s", want, got)
		}
	}
	x, got := do(uma, r.ID, true, BundleApproval{})
	if got != "done" || x.Weighed.Granted.Gained == 0 || !strings.Contains(strings.Join(x.Weighed.Lines, "; "), "Then a keeper decides") ||
		!strings.Contains(strings.Join(x.Weighed.Lines, "; "), "enter the space") {
		t.Errorf("weighed: %s %+v", got, x)
	}
	if _, got := do(uma, r.ID, false, BundleApproval{Until: "+30d", Less: []Less{{Resource: "space:dossier", Role: "view"}}}); got != "done" {
		t.Fatal(got)
	}
	if got := reaches("ada@ilvane.example", "spaces.enter", "space:dossier"); got != "no" {
		t.Error("it is given after the first of two steps")
	}
	if _, got := do(keeper, r.ID, false, BundleApproval{Until: "+40d"}); !strings.Contains(got, "they asked for less") {
		t.Errorf("longer than the step before let: %s", got)
	}

	if m := d.mail("ben@ours.example"); len(m) != 1 || !strings.Contains(m[0].Text, "Give ada@ilvane.example the bundle Desk") {
		t.Errorf("mail to the keeper, who decides next: %+v", m)
	}

	// Two approve at once: one does.
	var wg sync.WaitGroup
	results := make([]string, 4)
	for i := range results {
		wg.Go(func() {
			_, err := s.DoRequest(ctx, Who{Name: fmt.Sprint("k", i), Role: Keeper}, r.ID, "", false, BundleApproval{})
			results[i] = outcome(err)
		})
	}
	wg.Wait()
	slices.Sort(results)
	if results[0] != "done" && results[3] != "done" || strings.Count(strings.Join(results, "|"), "done") != 1 {
		t.Errorf("four approve at once: %q", results)
	}
	g, own, err := s.Guest(ctx, "ada@ilvane.example")
	check(t, err)
	if got := fmt.Sprintf("%s %s %s %s", world.StateNames[g.State], g.Sponsor, g.Purpose,
		world.StateNames[world.StateActive]); got != "active uma we pack the crate active" {
		t.Errorf("the record: %s", got)
	}
	var gives []string
	for _, g := range own {
		gives = append(gives, fmt.Sprintf("%s %s %s until %s", g.Bundle, g.Resource, g.Role, g.Until))
	}
	if got := strings.Join(gives,
		"; "); got != "desk space:dossier view until 2026-12-24T00:00:00Z; desk file:kit view until 2026-12-24T00:00:00Z" {
		t.Errorf("held: %s", got)
	}
	if got := reaches("ada@ilvane.example", "spaces.enter", "space:dossier") +
		reaches("ada@ilvane.example", "spaces.edit_page", "page:notes"); got != "yesno" {
		t.Errorf("enters, and changes nothing: %s", got)
	}
	e := explained(t, s, "ada@ilvane.example", "spaces.enter", "space:dossier")
	if !strings.Contains(e, "through the bundle Desk") {
		t.Errorf("the answer does not name the bundle: %s", e)
	}
	if m := d.mail("ada@ilvane.example"); len(m) != 1 || !strings.Contains(m[0].Text, "Dossier: view") ||
		!strings.Contains(m[0].Text, "23 December 2026") {
		t.Errorf("mail to who asked: %+v", m)
	}

	// What is given by hand beside it takes nothing of it away.
	load(t, s, "wexillum: 1\ngrants: [{party: ada@ilvane.example, resource: page:notes, role: view, from: 2026-11-01, until: 2026-11-25}]\n")
	if got := reaches("ada@ilvane.example", "spaces.enter", "space:dossier"); got != "yes" {
		t.Error("a grant by hand took away what the bundle gives")
	}

	// What the bundle gives then follows for whoever holds it; a file, too.
	check(t, s.PatchBundle(ctx, "h", "", "desk", []byte(`{"gives": [{"resource": "space:dossier", "role": "contribute"}]}`), ""))
	if got := reaches("ada@ilvane.example", "spaces.enter", "space:dossier") +
		reaches("ada@ilvane.example", "files.open", "file:kit"); got != "yesno" && got != "yesyes" {
		t.Errorf("after the bundle changed: %s", got)
	}
	if n := len(s.State().Bundled(mustAddr(t, "ada@ilvane.example"))); n != 1 {
		t.Errorf("%d grants follow from the changed bundle", n)
	}
	if err := s.RemoveBundle(ctx, "h", "", "desk", ""); err == nil ||
		!strings.Contains(err.Error(), "somebody holds it or held it; close the bundle") {
		t.Errorf("removing what is held: %v", err)
	}
	_, err = s.MakeDraftOf(ctx, "h", "without it", "x", func(now *State) (*world.World, error) {
		next := *now.Policy()
		next.Bundles = next.Bundles[1:]
		return &next, nil
	})
	check(t, err)
	without, err := s.Draft(ctx, "without it")
	check(t, err)
	if _, err := s.Publish(ctx, "h", "x", "without it", without.Digest, moment.Always); err == nil ||
		!strings.Contains(err.Error(), "bundle desk: ") {
		t.Errorf("published without a bundle that is held: %v", err)
	}
	if _, got := ask(ada, BundleAsk{Bundle: "plain", Address: "ada@ilvane.example", Purpose: "x"}); !strings.Contains(got,
		"beside which nobody holds Plain") {
		t.Errorf("bundles that exclude each other: %s", got)
	}

	// Of ours for somebody: not approved by who asked. Whoever owns and is named approves both steps at once.
	r, got = ask(uma, BundleAsk{Bundle: "hers", Address: "bo@ilvane.example", Purpose: "the kit", Sponsor: "uma"})
	if got != "done" || fmt.Sprint(r.To) != "[keeper]" {
		t.Errorf("asked by the only one who could: %s %v", got, r.To)
	}
	if _, got := do(uma, r.ID, false, BundleApproval{}); !strings.Contains(got, "those who can change it answer it") {
		t.Errorf("who asked approves: %s", got)
	}
	if _, err := s.AnswerRequest(ctx, uma, r.ID, "no", true); err == nil {
		t.Error("who asked says no")
	}
	if _, err := s.WithdrawRequest(ctx, ben, r.ID); err == nil {
		t.Error("somebody else takes it back")
	}
	if x, err := s.WithdrawRequest(ctx, uma, r.ID); err != nil || x.State != RequestWithdrawn {
		t.Errorf("taken back: %+v %v", x, err)
	}
	r, got = ask(ben, BundleAsk{Bundle: "hers", Address: "bo@ilvane.example", Purpose: "the kit", Sponsor: "ben"})
	if got != "done" || len(r.Bundle.Steps) != 1 {
		t.Fatalf("%s %+v", got, r)
	}
	if _, got := do(uma, r.ID, false, BundleApproval{}); got != "done" {
		t.Error(got)
	}
	if g, _, err := s.Guest(ctx, "bo@ilvane.example"); err != nil || g.State != world.StateInvited || g.Sponsor != "ben" {
		t.Errorf("invited: %+v %v", g, err)
	}
	if m := d.mail("bo@ilvane.example"); len(m) != 1 || !strings.Contains(m[0].Text, "Kit: view") {
		t.Errorf("an invitation, which says what was given: %+v", m)
	}

	// What they hold goes with the record.
	_, err = s.ChangeGuests(ctx, placeAdmin, GuestChange{Do: Remove, Addresses: []string{"bo@ilvane.example"}, Reason: "gone"}, false)
	check(t, err)
	if h := s.State().Holdings(mustAddr(t, "bo@ilvane.example")); len(h) != 0 {
		t.Errorf("what somebody held who was removed: %+v", h)
	}

	// Handed over, the other decides.
	r, got = ask(ben, BundleAsk{Bundle: "hers", Address: "cy@ilvane.example", Purpose: "the kit", Sponsor: "ben"})
	if got != "done" {
		t.Fatal(got)
	}
	for to, want := range map[string]string{"nobody": "there is no such person here", "ben": "they asked for it",
		"uma": "they are asked already"} {
		if _, err := s.HandOverRequest(ctx, uma, r.ID, to); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("handed to %s: %v", to, err)
		}
	}
	if _, err := s.HandOverRequest(ctx, keeper, r.ID, "cato"); !errors.Is(err, ErrForbidden) {
		t.Errorf("handed over by somebody else: %v", err)
	}
	if x, err := s.HandOverRequest(ctx, uma, r.ID, "cato"); err != nil || fmt.Sprint(x.To) != "[owner:cato]" {
		t.Errorf("handed over: %+v %v", x, err)
	}
	if m := d.mail("cato@ours.example"); len(m) != 1 {
		t.Errorf("mail to whom it was handed: %+v", m)
	}
	if _, got := do(uma, r.ID, false, BundleApproval{}); got == "done" {
		t.Error("whoever handed it over decides")
	}
	if _, got := do(Who{Name: "c", Role: Member, Person: "cato"}, r.ID, false, BundleApproval{}); got != "done" {
		t.Error(got)
	}

	// Nobody answers: it lapses with the fourteenth day.
	r, got = ask(ada, BundleAsk{Bundle: "hers", Address: "ada@ilvane.example", Purpose: "the kit"})
	if got != "done" {
		t.Fatal(got)
	}
	d.mail("")
	clock.at = time.Date(2026, 12, 1, 0, 1, 0, 0, time.UTC)
	check(t, s.lapseRequests(ctx))
	if m := d.mail("uma@ours.example"); len(m) != 1 {
		t.Errorf("reminded after a week: %d messages", len(m))
	}
	clock.at = time.Date(2026, 12, 7, 23, 59, 0, 0, time.UTC)
	check(t, s.lapseRequests(ctx))
	state := func() RequestState {
		x, err := s.RequestOf(ctx, keeper, r.ID)
		check(t, err)
		return x.State
	}
	if got := state(); got != RequestOpen {
		t.Errorf("on the fourteenth day: %s", got)
	}
	clock.at = time.Date(2026, 12, 8, 0, 1, 0, 0, time.UTC)
	check(t, s.lapseRequests(ctx))
	if got := state(); got != RequestLapsed {
		t.Errorf("behind the fourteenth day: %s", got)
	}

	// It is confirmed, and ended.
	check(t, failed(s.ChangeGuests(ctx, placeAdmin, GuestChange{Do: Confirm, Addresses: []string{"ada@ilvane.example"}, Reason: "still at it"},
		false)))
	if h := s.State().Holdings(mustAddr(t, "ada@ilvane.example"))[0]; h.Reviewed != s.Now() {
		t.Errorf("confirmed: %+v", h)
	}
	if x, err := s.EndHolding(ctx, placeAdmin, HoldingEnd{Address: "ada@ilvane.example", Bundle: "desk"}, true); err != nil ||
		x.Weighed.Granted.Lost == 0 {
		t.Errorf("weighed: %+v %v", x, err)
	}
	if _, err := s.EndHolding(ctx, ben, HoldingEnd{Address: "ada@ilvane.example", Bundle: "desk", Why: "x"}, false); !errors.Is(err,
		ErrForbidden) {
		t.Errorf("ended by somebody who does not answer for it: %v", err)
	}
	_, err = s.EndHolding(ctx, placeAdmin, HoldingEnd{Address: "ada@ilvane.example", Bundle: "desk", Why: "done"}, false)
	check(t, err)
	if got := reaches("ada@ilvane.example", "spaces.enter", "space:dossier"); got != "no" {
		t.Error("ended, and still there")
	}
	if entries, broken, err := s.store.VerifyJournal(ctx); err != nil || broken != nil {
		t.Errorf("the journal of %d: %v %v", entries, broken, err)
	}
}

func failed(_ []GuestChanged, err error) error { return err }

func mustAddr(t *testing.T, text string) addr.Address {
	t.Helper()
	a, err := addr.Parse(text)
	check(t, err)
	return a
}

// TestBundleEnds counts terms over a leap day and a change of clocks, extensions, two bundles on one resource and the last one
// that ends, by a table made by hand.
func TestBundleEnds(t *testing.T) {
	s, clock := start(t, dbtest.DSN(t))
	load(t, s, strings.ReplaceAll(guestWorld, "guests.term_days: {default: 60}", "guests.term_days: {default: none}\n  guests.grace_days: {default: 30}\n  guests.after_last_grant: {default: suspend}")+`bundles:
  - {id: year, name: Year, gives: [{resource: space:dossier, role: view}], who: {partners: [ilvane]}, term_days: 365, extend: silent}
  - {id: month, name: Month, gives: [{resource: space:dossier, role: contribute}], who: {partners: [ilvane]}, term_days: 30}
`)
	ctx := t.Context()
	give := func(at time.Time, bundle, who, until string) string {
		t.Helper()
		clock.at = at
		r, err := s.AskBundle(ctx, Who{Name: "guest:" + who, Role: RoleGuest, Guest: who},
			BundleAsk{Bundle: bundle, Address: who, Purpose: "x", Until: until})
		check(t, err)
		if r.State == RequestOpen {
			_, err = s.DoRequest(ctx, keeper, r.ID, "", false, BundleApproval{})
			check(t, err)
		}
		for _, h := range s.State().Holdings(mustAddr(t, who)) {
			if h.Bundle == bundle {
				return h.From.String() + " " + h.Until.String()
			}
		}
		return "nothing"
	}
	day := func(y int, m time.Month, d, h int) time.Time { return time.Date(y, m, d, h, 15, 0, 0, time.UTC) }
	for _, x := range []struct {
		at                       time.Time
		bundle, who, until, want string
	}{
		{day(2027, 3, 1, 10), "year", "leap@ilvane.example", "", "2027-03-01T10:15:00Z 2028-03-01T00:00:00Z"}, // the 365th day is 29 February
		// one day before, extended at once
		{day(2028, 2, 29, 10), "year", "leap@ilvane.example", "", "2027-03-01T10:15:00Z 2029-03-01T00:00:00Z"},
		{day(2028, 3, 10, 10), "month", "clock@ilvane.example", "", "2028-03-10T10:15:00Z 2028-04-09T23:00:00Z"}, // the clock goes forward
		{day(2028, 4, 8, 10), "month", "clock@ilvane.example", "+10d", "2028-03-10T10:15:00Z 2028-04-18T23:00:00Z"},
		// less than is held: nothing is taken
		{day(2028, 4, 10, 10), "month", "clock@ilvane.example", "+5d", "2028-03-10T10:15:00Z 2028-04-18T23:00:00Z"},
		// after its end it is a new one
		{day(2028, 4, 20, 10), "month", "clock@ilvane.example", "", "2028-04-20T10:15:00Z 2028-05-20T23:00:00Z"},
	} {
		if got := give(x.at, x.bundle, x.who, x.until); got != x.want {
			t.Errorf("%s for %s at %s: %s, want %s", x.bundle, x.who, x.at, got, x.want)
		}
	}
	// Two bundles on one resource: the role is the higher while both last; the last one that ends suspends.
	clock.at = day(2029, 1, 10, 9)
	give(clock.at, "month", "two@ilvane.example", "")
	give(clock.at, "year", "two@ilvane.example", "")
	a := mustAddr(t, "two@ilvane.example")
	var steps []string
	for _, st := range stepsOf(s, a) {
		steps = append(steps, fmt.Sprintf("%s %s", st.At, st.Kind))
	}
	want := []string{"2029-02-10T00:00:00Z " + dated.GrantEnds.String(), "2030-01-11T00:00:00Z " + dated.GrantEnds.String(),
		"2030-01-11T00:00:00Z " + dated.Suspended.String(), "2030-02-10T00:00:00Z " + dated.Removed.String()}
	if strings.Join(steps, "; ") != strings.Join(want, "; ") {
		t.Errorf("what is due:\n%s\nwant\n%s", strings.Join(steps, "\n"), strings.Join(want, "\n"))
	}
	clock.at = day(2029, 2, 9, 9)
	if !decide(t, s, "two@ilvane.example", "spaces.edit_page", "page:notes") {
		t.Error("the higher role does not hold on its last day")
	}
	clock.at = day(2029, 2, 10, 0)
	if decide(t, s, "two@ilvane.example", "spaces.edit_page", "page:notes") ||
		!decide(t, s, "two@ilvane.example", "spaces.enter", "space:dossier") {
		t.Error("behind the shorter one the lower role holds")
	}
	clock.at = day(2030, 1, 11, 1)
	carry(t, s)
	if g, _, err := s.Guest(ctx, "two@ilvane.example"); err != nil || g.State != world.StateSuspended {
		t.Errorf("behind the last one: %+v %v", g, err)
	}
	// Asked for again while suspended: the approval brings the record back.
	give(clock.at, "month", "two@ilvane.example", "")
	if g, _, err := s.Guest(ctx, "two@ilvane.example"); err != nil || g.State != world.StateActive {
		t.Errorf("given again: %+v %v", g, err)
	}
}

func must[T any](x T, err error) T {
	if err != nil {
		panic(err)
	}
	return x
}

// explained writes why an answer is as it is.
func explained(t *testing.T, s *Service, who, action, resource string) string {
	t.Helper()
	act, _ := catalogue.ActionByName(action)
	x, err := s.State().Explain(&engine.Question{Subject: engine.Who{Address: mustAddr(t, who)}, Action: act.ID,
		Resource: resourceOf(resource), At: s.Now()})
	check(t, err)
	var out []string
	for _, g := range x.Deciding().Gates {
		for _, c := range g.Causes {
			out = append(out, c.Text())
		}
	}
	return strings.Join(out, " ")
}

func stepsOf(s *Service, a addr.Address) []engine.DueStep {
	steps, _ := s.State().Sequences().Of(a)
	return steps
}
