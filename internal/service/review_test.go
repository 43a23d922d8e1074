package service

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/store"
)

// TestReviewRound follows a round: who is asked what, every answer, many at once, two rounds that ask the same, silence as the rule
// says, reminders, and what is left as proof.
func TestReviewRound(t *testing.T) {
	s, clock := start(t, dbtest.DSN(t))
	load(t, s, strings.ReplaceAll(guestWorld, "guests.term_days: {default: 60}", "guests.term_days: {default: none}\n  guests.review_silence: {limit: keep, default: end}")+`bundles:
  - {id: desk, name: Desk, gives: [{resource: space:dossier, role: contribute}, {resource: file:kit, role: view}], who: {partners: [ilvane]}}
guests:
  - {address: ada@ilvane.example, sponsor: uma, since: 2026-01-01, accepted: 2026-01-01}
  - {address: bo@ilvane.example, sponsor: ben, since: 2026-01-01, accepted: 2026-01-01}
  - {address: cy@ilvane.example, sponsor: ben, since: 2026-01-01, accepted: 2026-01-01}
  - {address: x@unlisted.example, since: 2026-01-01, accepted: 2026-01-01}
grants:
  - {party: ada@ilvane.example, resource: space:dossier, role: contribute, from: 2026-01-01, sponsor: uma}
  - {party: ada@ilvane.example, resource: file:kit, role: view, from: 2026-01-01, sponsor: uma}
  - {party: bo@ilvane.example, resource: space:dossier, role: manage, from: 2026-01-01, until: 2027-06-01, sponsor: ben}
  - {party: bo@ilvane.example, resource: page:notes, role: view, from: 2026-01-01, sponsor: ben}
  - {party: x@unlisted.example, resource: space:dossier, role: view, from: 2026-01-01}
  - {party: "group:crew", resource: file:kit, role: view, from: 2026-01-01, sponsor: ben}
  - {party: ada@ilvane.example, resource: page:notes, role: view, from: 2025-01-01, until: 2026-01-01, sponsor: uma}
holdings:
  - {party: cy@ilvane.example, bundle: desk, from: 2026-02-01, sponsor: ben}
`)
	ctx := t.Context()
	d := &atDoor{t, s, &box{}}
	uma, ben := Who{Name: "u", Role: Member, Person: "uma"}, Who{Name: "b", Role: Member, Person: "ben"}
	for want, x := range map[string]RoundBegin{
		"say what the round is called":       {Until: "+10d", Why: "x"},
		"say why":                            {Name: "R", Until: "+10d"},
		"it lies before now":                 {Name: "R", Until: "2026-01-01", Why: "x"},
		"there is no such partner":           {Name: "R", Until: "+10d", Why: "x", Partner: "none"},
		"there is no such space":             {Name: "R", Until: "+10d", Why: "x", Space: "none"},
		"there is no such bundle":            {Name: "R", Until: "+10d", Why: "x", Bundle: "none"},
		"nobody holds anything there":        {Name: "R", Until: "+10d", Why: "x", Partner: "shut"},
		`until "soon"`:                       {Name: "R", Until: "soon", Why: "x"},
		`name "": say what the round is cal`: {Name: "  ", Until: "+10d", Why: "x"},
	} {
		if _, err := s.BeginRound(ctx, keeper, x, false); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("want %q: %v", want, err)
		}
	}
	ahead, err := s.BeginRound(ctx, keeper, RoundBegin{Name: "Autumn", Until: "+20d"}, true)
	if err != nil || ahead.Lines != 8 || fmt.Sprint(ahead.Asked) != "map[owner:ben:4 owner:uma:4]" {
		t.Fatalf("ahead: %+v %v", ahead, err)
	}
	whole, err := s.BeginRound(ctx, keeper, RoundBegin{Name: "Autumn", Until: "+20d", Why: "the auditor asks"}, false)
	check(t, err)
	only, err := s.BeginRound(ctx, keeper, RoundBegin{Name: "Ilvane", Partner: "ilvane", Until: "+30d", Why: "the loan ends"}, false)
	check(t, err)
	if only.Lines != 6 {
		t.Errorf("of one partner: %d lines", only.Lines)
	}
	if m := d.mail("ben@ours.example"); len(m) != 2 || !strings.Contains(m[0].Text+m[1].Text, "4 lines wait for you") ||
		!strings.Contains(m[0].Text, "/reviews/") {
		t.Errorf("mail: %+v", m)
	}
	lines := func(who Who, round, state string) []store.ReviewLine {
		t.Helper()
		list, err := s.RoundLines(ctx, who, round, state, false, 0, 100)
		check(t, err)
		return list
	}
	find := func(list []store.ReviewLine, party, resource string) int {
		t.Helper()
		for i := range list {
			if list[i].Party == party && list[i].Resource == resource {
				return list[i].N
			}
		}
		t.Fatalf("no line of %s on %s in %+v", party, resource, list)
		return 0
	}
	show := func(round string) string {
		var out []string
		for _, l := range lines(keeper, round, "") {
			out = append(out, fmt.Sprintf("%s %s %s %s %s", l.Party, l.Resource, l.Role, l.Reviewer, l.State))
		}
		slices.Sort(out)
		return strings.Join(out, "\n")
	}
	if got, want := show(whole.ID), `ada@ilvane.example file:kit view owner:uma open
ada@ilvane.example space:dossier contribute owner:uma open
bo@ilvane.example page:notes view owner:ben open
bo@ilvane.example space:dossier manage owner:ben open
cy@ilvane.example file:kit view owner:ben open
cy@ilvane.example space:dossier contribute owner:ben open
group:crew file:kit view owner:uma open
x@unlisted.example space:dossier view owner:uma open`; got != want {
		t.Errorf("asked:\n%s\nwant\n%s", got, want)
	}
	mine := lines(ben, whole.ID, "open")
	if len(mine) != 4 {
		t.Errorf("of a member: %+v", mine)
	}
	answer := func(who Who, round string, a ReviewAnswer) string {
		t.Helper()
		x, err := s.AnswerRound(ctx, who, round, a, false)
		if err != nil {
			return err.Error()
		}
		out := fmt.Sprintf("%d done", x.Done)
		for _, l := range x.Lines {
			if l.Reason != "" {
				out += "; " + l.Reason
			}
		}
		return out
	}
	boSpace, boNotes := find(mine, "bo@ilvane.example", "space:dossier"), find(mine, "bo@ilvane.example", "page:notes")
	for _, x := range []struct {
		who  Who
		a    ReviewAnswer
		want string
	}{
		{ben, ReviewAnswer{Do: "look"}, "write keep, narrower, end, hand_over or not_mine"},
		{ben, ReviewAnswer{Do: "narrower", Role: "all"}, "write the lower role"},
		{ben, ReviewAnswer{Do: "hand_over", To: "nobody"}, "there is no such person here"},
		{ben, ReviewAnswer{Do: "keep", Until: "2026-01-01"}, "it lies before now; end it instead"},
		{ben, ReviewAnswer{Do: "keep", Lines: []int{99}}, "0 done; there is no such line"},
		{uma, ReviewAnswer{Do: "keep", Lines: []int{boSpace}}, "0 done; it is asked of somebody else"},
		{ben, ReviewAnswer{Do: "keep", Until: "2028-01-01", Lines: []int{boSpace}},
			"0 done; it ends on its own by 2027-06-01T23:00:00Z; a review makes nothing longer"},
		{ben, ReviewAnswer{Do: "narrower", Role: "manage", Lines: []int{boSpace}}, "0 done; the role is manage, which is no more than that"},
		{Who{Name: "g", Role: Member, Person: "nobody"}, ReviewAnswer{Do: "keep"}, "there is no round"},
	} {
		if got := answer(x.who, whole.ID, x.a); !strings.Contains(got, x.want) {
			t.Errorf("%+v: %q, want %q", x.a, got, x.want)
		}
	}
	// Weighed: what the answer takes.
	if x, err := s.AnswerRound(ctx, ben, whole.ID, ReviewAnswer{Do: "end"}, true); err != nil || x.Weighed.Granted.Lost == 0 || x.Done != 4 {
		t.Errorf("weighed: %+v %v %+v", x, err, x.Weighed)
	}
	if got := show(whole.ID); strings.Count(got, "open") != 8 {
		t.Errorf("a preview wrote something:\n%s", got)
	}
	if got := answer(ben, whole.ID, ReviewAnswer{Do: "narrower", Role: "view", Lines: []int{boSpace},
		Why: "looking is enough"}); got != "1 done" {
		t.Error(got)
	}
	if !decide(t, s, "bo@ilvane.example", "spaces.enter", "space:dossier") ||
		decide(t, s, "bo@ilvane.example", "spaces.edit_page", "page:notes") {
		t.Error("made narrower, and not so")
	}
	given, err := s.GrantsOf(ctx, "bo@ilvane.example")
	check(t, err)
	var now []string
	for _, g := range given {
		if g.Until > s.Now() && g.Resource.Kind.String() == "space" {
			now = append(now, fmt.Sprintf("%s from %s until %s", g.Role, g.From, g.Until))
		}
	}
	if got := strings.Join(now, "; "); got != "view from 2026-11-23T09:00:00Z until 2027-06-01T23:00:00Z" {
		t.Errorf("held since: %s", got)
	}
	if got := answer(ben, whole.ID, ReviewAnswer{Do: "keep", Lines: []int{boSpace}}); got != "0 done; it was answered already: narrowed" {
		t.Error(got)
	}
	cySpace := find(mine, "cy@ilvane.example", "space:dossier")
	if got := answer(ben, whole.ID, ReviewAnswer{Do: "end", Lines: []int{cySpace}}); got != "1 done" {
		t.Error(got)
	}
	if h := s.State().Holdings(mustAddr(t, "cy@ilvane.example")); len(h) != 1 || len(h[0].Less) != 1 ||
		len(s.State().Bundled(mustAddr(t, "cy@ilvane.example"))) != 1 {
		t.Errorf("one thing of a bundle was ended: %+v", h)
	}
	if got := answer(ben, whole.ID, ReviewAnswer{Do: "not_mine", Lines: []int{boNotes}}); got != "1 done" {
		t.Error(got)
	}
	if got := answer(uma, whole.ID, ReviewAnswer{Do: "hand_over", To: "ben",
		Lines: []int{find(lines(uma, whole.ID, "open"), "group:crew", "file:kit")}}); got != "1 done" {
		t.Error(got)
	}
	if got := answer(uma, whole.ID, ReviewAnswer{Do: "keep", Until: "2027-01-31",
		Lines: []int{find(lines(uma, whole.ID, "open"), "ada@ilvane.example", "space:dossier")}}); got != "1 done" {
		t.Error(got)
	}
	if got := answer(ben, whole.ID, ReviewAnswer{Do: "keep"}); got != "2 done" { // all that waits for him: cy's kit, and the group
		t.Error(got)
	}
	if got, want := show(whole.ID), `ada@ilvane.example file:kit view owner:uma open
ada@ilvane.example space:dossier contribute owner:uma kept
bo@ilvane.example page:notes view owner:uma open
bo@ilvane.example space:dossier manage owner:ben narrowed
cy@ilvane.example file:kit view owner:ben kept
cy@ilvane.example space:dossier contribute owner:ben ended
group:crew file:kit view owner:ben kept
x@unlisted.example space:dossier view owner:uma open`; got != want {
		t.Errorf("answered:\n%s\nwant\n%s", got, want)
	}
	if got, want := show(only.ID), `ada@ilvane.example file:kit view owner:uma open
ada@ilvane.example space:dossier contribute owner:uma kept
bo@ilvane.example page:notes view owner:ben open
bo@ilvane.example space:dossier manage owner:ben narrowed
cy@ilvane.example file:kit view owner:ben kept
cy@ilvane.example space:dossier contribute owner:ben ended`; got != want {
		t.Errorf("the other round, which asks the same:\n%s\nwant\n%s", got, want)
	}

	// A week before, whoever has not answered is reminded; behind its day silence acts as the rule says.
	d.mail("")
	clock.at = time.Date(2026, 12, 8, 9, 0, 0, 0, time.UTC)
	check(t, s.tendRounds(ctx))
	if m := d.mail("uma@ours.example"); len(m) != 1 || !strings.Contains(m[0].Text, "3 lines wait for you") {
		t.Errorf("reminded: %+v", m)
	}
	if all, err := s.roundFindings(ctx); err != nil || len(all) != 0 {
		t.Errorf("days before its end, most of it answered: %+v %v", all, err)
	}
	late, err := s.BeginRound(ctx, keeper, RoundBegin{Name: "Late", Space: "dossier", Until: "+2d", Why: "x"}, false)
	check(t, err)
	if all, err := s.roundFindings(ctx); err != nil || len(all) != 1 || all[0].ID != "review_unanswered review:"+late.ID ||
		!strings.Contains(all[0].Cause, "lines are not answered, and it ends with 2026-12-10") {
		t.Errorf("nobody answers: %+v %v", all, err)
	}
	// What its end would do is told before, exactly, and done by asking for it alone.
	was, before := s.dump(t), s.State().Population(s.Now(), nil).All.Total()
	asked, end, err := s.EndingRound(ctx, keeper, late.ID)
	check(t, err)
	if s.dump(t) != was || asked.Open != end.Silent || end.Ends == 0 || end.Weighed.Granted.Lost == 0 {
		t.Errorf("before its end: %d open, %+v, %+v", asked.Open, end, end.Weighed)
	}
	ended, err := s.EndRound(ctx, keeper, late.ID, "it was begun by mistake")
	check(t, err)
	lost := before - s.State().Population(s.Now(), nil).All.Total()
	if ended.States[ReviewSilent] != end.Silent || lost != end.Weighed.Granted.Lost {
		t.Errorf("%+v, %d lost, and was to be %+v", ended.States, lost, end.Weighed)
	}
	if _, _, err := s.EndingRound(ctx, keeper, late.ID); !errors.Is(err, ErrConflict) {
		t.Errorf("it is over: %v", err)
	}
	clock.at = time.Date(2026, 12, 14, 0, 1, 0, 0, time.UTC)
	check(t, s.tendRounds(ctx))
	v, err := s.RoundOf(ctx, keeper, whole.ID)
	if err != nil || v.Closed == "" || v.Open != 0 || fmt.Sprint(v.States) != "map[ended:1 kept:3 narrowed:1 silent:3]" ||
		len(v.Digest) != 64 {
		t.Fatalf("over: %+v %v", v, err)
	}
	if decide(t, s, "x@unlisted.example", "spaces.enter", "space:dossier") ||
		decide(t, s, "ada@ilvane.example", "files.open", "file:kit") && len(s.State().Bundled(mustAddr(t, "ada@ilvane.example"))) > 0 {
		t.Error("nobody answered, and it goes on")
	}
	if again, err := s.roundDigest(ctx, whole.ID); err != nil || again != v.Digest {
		t.Errorf("the lines are not what was sealed: %s %v", again, err)
	}
	if got := answer(uma, whole.ID, ReviewAnswer{Do: "keep"}); !strings.Contains(got, "is over") {
		t.Error(got)
	}
	// What one round ended is gone or said in the other; ended by hand it leaves a record of reach.
	x, err := s.EndRound(ctx, keeper, only.ID, "the loan ended early")
	if err != nil || x.Evidence == "" || fmt.Sprint(x.States) != "map[ended:1 kept:2 narrowed:1 silent:2]" {
		t.Errorf("ended by hand: %+v %v", x, err)
	}
	if e, err := s.EvidenceOf(ctx, x.Evidence); err != nil || e.Manifest.Why != "at the end of the review Ilvane" ||
		len(e.Manifest.Reviews) != 3 ||
		!regexp.MustCompile(`^begun \S+ \S+Z, 6 lines: 1 ended, 2 kept, 1 narrowed, 2 silent; ended \S+ \S+Z$`).MatchString(e.Manifest.Reviews[2].Stands()) ||
		e.Manifest.Reviews[2].Says != x.About(s.State()) {
		t.Errorf("its record: %+v %v", e, err)
	}
	if _, broken, err := s.store.VerifyJournal(ctx); err != nil || broken != nil {
		t.Errorf("the journal: %v %v", broken, err)
	}
	// Somebody is forgotten: no line names them.
	_, err = s.ChangeGuests(ctx, placeAdmin, GuestChange{Do: Remove, Addresses: []string{"bo@ilvane.example"}, Reason: "gone"}, false)
	check(t, err)
	check(t, s.change(ctx, "h", "they ask for it", func(_ *State, tx *store.Tx) error {
		_,
			err := tx.Forget("bo@ilvane.example")
		return err
	}))
	if got := show(whole.ID); strings.Contains(got, "bo@ilvane.example") {
		t.Errorf("forgotten, and named:\n%s", got)
	}
}

// Own review days wait while a round asks about the same: they count from the round's end, or from what was answered.
func TestOwnReviewWaits(t *testing.T) {
	s, clock := start(t, dbtest.DSN(t))
	load(t, s, strings.ReplaceAll(strings.ReplaceAll(guestWorld, "guests.term_days: {default: 60}", "guests.term_days: {default: none}\n  guests.review_silence: {limit: keep, default: end}"), "guests.review_days: {default: none}", "guests.review_days: {limit: none, default: 90}")+`bundles:
  - {id: desk, name: Desk, gives: [{resource: file:kit, role: view}], who: {partners: [ilvane]}, review_days: 45}
guests:
  - {address: ada@ilvane.example, sponsor: uma, since: 2026-01-01, accepted: 2026-01-01}
grants:
  - {party: ada@ilvane.example, resource: space:dossier, role: contribute, from: 2026-01-01, sponsor: uma}
  - {party: ada@ilvane.example, resource: page:notes, role: view, from: 2026-01-01, sponsor: uma}
holdings:
  - {party: ada@ilvane.example, bundle: desk, from: 2026-01-01, sponsor: ben}
`)
	ctx := t.Context()
	ada := mustAddr(t, "ada@ilvane.example")
	day := func(d string) moment.Moment {
		m, err := moment.ParseEnd(d, s.Now(), s.State().Zone())
		check(t, err)
		return m
	}
	// ages makes all that she holds confirmed on a day.
	ages := func(d string) {
		t.Helper()
		check(t, s.change(ctx, "h", "looked at", func(now *State, tx *store.Tx) error {
			list, err := tx.Grants(ada.String())
			if err != nil {
				return err
			}
			for i := range list {
				list[i].Reviewed = day(d)
				if _, err := tx.PutGrant(&list[i]); err != nil {
					return err
				}
			}
			h := now.Holdings(ada)[0]
			h.Reviewed = day(d)
			_, err = putHolding(tx, &h)
			return err
		}))
	}
	ends := func() string {
		q := s.State().Sequences()
		q.Between(s.Now(), s.Now()+400*86400e6)
		steps, _ := q.Of(ada)
		var out []string
		for _, x := range steps {
			if x.Cause == dated.ByReview {
				out = append(out, fmt.Sprintf("%s %s", x.Resource.ID, moment.DayOf(x.At-1, s.State().Zone())))
			}
		}
		slices.Sort(out)
		return strings.Join(out, ", ")
	}
	now := moment.DayOf(s.Now(), s.State().Zone())
	plus := func(n int) string { return (now + moment.Day(n)).String() }
	ages(plus(-45)) // the bundle's is due tomorrow, the rule's in 46 days
	if want := fmt.Sprintf("dossier %s, kit %s, notes %s", plus(60), plus(15), plus(60)); ends() != want {
		t.Fatalf("before: %s, want %s", ends(), want)
	}
	r, err := s.BeginRound(ctx, keeper, RoundBegin{Name: "Autumn", Until: "+20d", Why: "it is autumn"}, false)
	check(t, err)
	// The round ends with the twentieth day, so that own days count from the next.
	if want := fmt.Sprintf("dossier %s, kit %s, notes %s", plus(60), plus(21+45+14), plus(60)); ends() != want {
		t.Errorf("while the round asks: %s, want %s", ends(), want)
	}
	// A rule makes more of them due before the round ends.
	check(t, s.SetRule(ctx, "h", "sooner", RuleChange{Rule: "guests.review_days", Limit: "none", Default: "50"}))
	check(t, s.tendRounds(ctx))
	clock.forward(61 * time.Second)
	check(t, s.tendRounds(ctx))
	if want := fmt.Sprintf("dossier %s, kit %s, notes %s", plus(21+50+14), plus(21+45+14), plus(21+50+14)); ends() != want {
		t.Errorf("after the rule: %s, want %s", ends(), want)
	}
	// What is answered counts from the answer.
	if _, err := s.AnswerRound(ctx, keeper, r.ID, ReviewAnswer{Do: "keep", Lines: []int{2, 3}}, false); err != nil {
		t.Fatal(err)
	}
	if want := fmt.Sprintf("dossier %s, kit %s, notes %s", plus(21+50+14), plus(45+14), plus(50+14)); ends() != want {
		t.Errorf("answered: %s, want %s", ends(), want)
	}
}

// TestNarrowerItem keeps one item of a space in place of all of it.
func TestNarrowerItem(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, strings.ReplaceAll(strings.ReplaceAll(guestWorld, "guests.term_days: {default: 60}", "guests.term_days: {default: none}"), "{id: kit, kind: file, name: Kit}", "{id: kit, kind: file, name: Kit}, {id: purse, kind: file, name: Purse, private: yes}")+`bundles:
  - {id: desk, name: Desk, gives: [{resource: space:dossier, role: contribute}], who: {partners: [ilvane]}}
guests:
  - {address: ada@ilvane.example, sponsor: uma, since: 2026-01-01, accepted: 2026-01-01}
  - {address: bo@ilvane.example, sponsor: uma, since: 2026-01-01, accepted: 2026-01-01}
grants:
  - {party: ada@ilvane.example, resource: space:dossier, role: contribute, from: 2026-01-01, until: 2027-06-01, sponsor: uma}
  - {party: ada@ilvane.example, resource: page:notes, role: view, from: 2026-01-01, sponsor: uma}
  - {party: "partner:ilvane", resource: space:dossier, role: view, from: 2026-01-01, until: 2026-11-24}
holdings:
  - {party: bo@ilvane.example, bundle: desk, from: 2026-02-01, until: 2027-03-01, sponsor: uma}
`)
	ctx := t.Context()
	uma := Who{Name: "u", Role: Member, Person: "uma"}
	r, err := s.BeginRound(ctx, keeper, RoundBegin{Name: "Autumn", Until: "+20d", Why: "it is autumn"}, false)
	check(t, err)
	lines, err := s.RoundLines(ctx, keeper, r.ID, "", false, 0, 100)
	check(t, err)
	line := map[string]int{}
	for _, l := range lines {
		line[l.Party+" "+l.Resource] = l.N
	}
	answer := func(who Who, n int, item, role string, preview bool) string {
		x, err := s.AnswerRound(ctx, who, r.ID, ReviewAnswer{Do: "narrower", Item: item, Role: role, Lines: []int{n}}, preview)
		if err != nil {
			return err.Error()
		}
		return fmt.Sprintf("%s%s", x.Lines[0].State, x.Lines[0].Reason)
	}
	whole, notes, all, bundled := line["ada@ilvane.example space:dossier"], line["ada@ilvane.example page:notes"],
		line["partner:ilvane space:dossier"], line["bo@ilvane.example space:dossier"]
	for want, got := range map[string]string{
		"write an item of the space":   answer(uma, whole, "file:none", "", false),
		"an item of the space, as":     answer(uma, whole, "page:kit", "", false),
		"makes nothing wider":          answer(uma, whole, "file:kit", "manage", false),
		"is private: they do not":      answer(uma, whole, "file:purse", "", false),
		"file:kit is not in Notes":     answer(uma, notes, "file:kit", "", false),
		"a domain as a whole":          answer(keeper, all, "file:kit", "", false),
		"write the lower role: view o": answer(uma, whole, "", "", false),
	} {
		if !strings.Contains(got, want) {
			t.Errorf("want %q: %s", want, got)
		}
	}
	if x, err := s.AnswerRound(ctx, uma, r.ID, ReviewAnswer{Do: "narrower", Item: "file:kit", Lines: []int{whole, bundled}},
		true); err != nil || x.Weighed.Granted.Gained+x.Weighed.Wide.Gained != 0 || x.Weighed.Granted.Lost == 0 {
		t.Errorf("ahead: %+v %v", x, err)
	}
	if got := answer(uma, whole, "file:kit", "view", false) + answer(uma, bundled, "file:kit", "", false); got != "narrowednarrowed" {
		t.Error(got)
	}
	for _, who := range []string{"ada@ilvane.example", "bo@ilvane.example"} {
		if !decide(t, s, who, "files.open", "file:kit") || decide(t, s, who, "files.open", "file:purse") {
			t.Errorf("%s does not have the item", who)
		}
	}
	grants := func(who string) (out []string) {
		t.Helper()
		_, list, err := s.Guest(ctx, who)
		check(t, err)
		for _, g := range list {
			if g.Until > s.Now() {
				out = append(out, fmt.Sprintf("%s %s %s until %s%s", g.Resource, g.Role, g.Sponsor, g.Until, g.Bundle))
			}
		}
		slices.Sort(out)
		return out
	}
	if got := fmt.Sprint(grants("ada@ilvane.example"),
		grants("bo@ilvane.example")); got != "[file:kit view uma until 2027-06-01T23:00:00Z page:notes view uma until never] [file:kit contribute uma until 2027-03-02T00:00:00Z]" {
		t.Errorf("what they hold: %s", got)
	}
	if l, err := s.RoundLines(ctx, uma, r.ID, ReviewNarrowed, true, 0, 10); err != nil || len(l) != 2 || l[0].Instead != "file:kit" ||
		l[0].Narrowed.String() == "none" {
		t.Errorf("the lines: %+v %v", l, err)
	}
}

// TestRoundScopes begins rounds about some records alone.
func TestRoundScopes(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, strings.ReplaceAll(guestWorld, "guests.term_days: {default: 60}", "guests.term_days: {default: none}")+`guests:
  - {address: ada@ilvane.example, sponsor: uma, since: 2026-01-01, accepted: 2026-01-01, last_seen: 2026-11-20, state: active}
  - {address: bo@ilvane.example, sponsor: ben, since: 2026-01-01, accepted: 2026-01-01, state: active}
  - {address: cy@ilvane.example, sponsor: uma, since: 2026-11-20, state: invited}
  - {address: fay@ilvane.example, since: 2026-01-01, accepted: 2026-01-01, origins: [fed], last_seen: 2026-11-20, state: active}
grants:
  - {party: ada@ilvane.example, resource: space:dossier, role: view, from: 2026-01-01, sponsor: uma}
  - {party: bo@ilvane.example, resource: space:dossier, role: view, from: 2026-01-01, sponsor: ben}
  - {party: cy@ilvane.example, resource: space:dossier, role: view, from: 2026-01-01, sponsor: uma}
  - {party: fay@ilvane.example, resource: page:notes, role: view, from: 2026-01-01}
  - {party: "group:crew", resource: file:kit, role: view, from: 2026-01-01, sponsor: ben}
`)
	for want, x := range map[string]RoundBegin{
		"5 everything that is held":                                   {},
		"3 records that are active":                                   {RoundRecords: RoundRecords{State: "active"}},
		"1 records that are invited":                                  {RoundRecords: RoundRecords{State: "invited"}},
		"2 guests of Uma":                                             {RoundRecords: RoundRecords{Sponsor: "uma"}},
		"1 records that came to be fed":                               {RoundRecords: RoundRecords{Origin: "fed"}},
		"1 people not seen for 30 days":                               {RoundRecords: RoundRecords{Needs: "seen"}},
		"1 people of Ilvane, people with nobody who answers for them": {Partner: "ilvane", RoundRecords: RoundRecords{Needs: "sponsor"}},
		"1 in the space Dossier, guests of Ben":                       {Space: "dossier", RoundRecords: RoundRecords{Sponsor: "ben"}},
		`state "gone": write active, invited, suspended`:              {RoundRecords: RoundRecords{State: "gone"}},
		`needs "love": write sponsor, grant, seen, terms, time, mail`: {RoundRecords: RoundRecords{Needs: "love"}},
		`sponsor "nobody": there is no such person here`:              {RoundRecords: RoundRecords{Sponsor: "nobody"}},
	} {
		x.Name, x.Until, x.Why = "Scope", "+20d", "to see"
		r, err := s.BeginRound(t.Context(), keeper, x, true)
		got := ""
		if err != nil {
			got = err.Error()
		} else {
			got = fmt.Sprintf("%d %s", r.Lines, r.About(s.State()))
		}
		if !strings.HasSuffix(got, want) {
			t.Errorf("want %q: %q", want, got)
		}
	}
}
