package service

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/draft"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
	"wexillum.example/internal/worldgen"
)

func dump(t *testing.T, s *Service, at store.Head) string {
	t.Helper()
	w, err := s.World(t.Context(), at)
	check(t, err)
	return string(worldfile.Write(w))
}

func makeDraft(t *testing.T, s *Service, name string) string {
	t.Helper()
	d, err := s.MakeDraft(t.Context(), "anna", name, false)
	check(t, err)
	return d.ID
}

func set(t *testing.T, s *Service, id, rule, limit, def string) error {
	t.Helper()
	return s.SetRule(InDraft(t.Context(), id), "anna", "", RuleChange{Rule: rule, Limit: limit, Default: def})
}

func publishDraft(t *testing.T, s *Service, id string) *DraftNow {
	t.Helper()
	x, err := s.Draft(t.Context(), id)
	check(t, err)
	x, err = s.Publish(t.Context(), "anna", "because", id, x.Digest, moment.Always)
	check(t, err)
	return x
}

func edits(x *DraftNow) string {
	var out []string
	for _, e := range x.Clean {
		for _, c := range e.Changes() {
			out = append(out, fmt.Sprintf("%s %s: %s > %s", e.Title(), c.Field, c.Was, c.Now))
		}
	}
	return strings.Join(out, "; ")
}

// TestDraft edits policy of every kind in a draft: nothing of it counts until it is
// published, and then all of it does, as one revision.
func TestDraft(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, small)
	first := s.State().Head.Revision
	id := makeDraft(t, s, "Spring")
	if _, err := s.MakeDraft(t.Context(), "ben", "spring", false); !errors.Is(err, ErrConflict) {
		t.Errorf("a name twice: %v", err)
	}
	in := InDraft(t.Context(), id)
	before := dump(t, s, store.Head{})
	check(t, set(t, s, id, "spaces.guests", "", "on"))
	if _, err := s.SetStanding(in, By{Who: "ben", Why: "an incident"}, "ilvane", "suspended"); err != nil {
		t.Fatal(err)
	}
	if _, err := s.AddBar(in, "anna", "", []byte(`{"name":"rude.example"}`)); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Load(in, "anna", "", "part",
		[]byte("wexillum: 1\nexceptions: [{id: calls, people: [uma], rules: {chat.calls: on}, until: 2027-01-01, reason: x}]\npersonal_domains: [homepost.example]\norganisation: {name: Smaller, domains: [ours.example], time_zone: Europe/Lisbon}\n"),
		false); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Load(in, "anna", "", "part", []byte("wexillum: 1\npeople: [{id: vic, name: Vic}]\n"), false); err == nil ||
		!strings.Contains(err.Error(), "the file holds people") {
		t.Errorf("inventory in a draft: %v", err)
	}
	if _, err := s.JoinPartners(in, By{Who: "anna"}, "ilvane", "ilvane"); !errors.Is(err, ErrConflict) {
		t.Errorf("a merge in a draft: %v", err)
	}
	if got := dump(t, s, store.Head{}); got != before {
		t.Errorf("a draft changed what is in force:\n%s", got)
	}
	x, err := s.Draft(t.Context(), "spring")
	check(t, err)
	want := "bar rude.example name:  > rude.example; add the exception calls from"
	if got := edits(x); !strings.HasPrefix(got, "bar rude.example name:  > rude.example; add the exception calls") ||
		!strings.Contains(got, "set spaces.guests default: off > on") || !strings.Contains(got, "change the partner ilvane standing: ") ||
		!strings.Contains(got, "change the organisation name: Small > Smaller") || len(x.Clean) != 6 {
		t.Errorf("%d edits: %s, want %s…", len(x.Clean), got, want)
	}
	for _, e := range x.Clean {
		if who := map[string]string{"partner": "ben"}[e.Kind]; who != "" && e.By != who {
			t.Errorf("%s was made by %s", e.Title(), e.By)
		}
	}
	// Questions are answered as the draft would make it.
	st, err := s.StateIn(in)
	check(t, err)
	if st.Policy().Organisation.Name != "Smaller" || s.State().Policy().Organisation.Name != "Small" {
		t.Error("the draft's state is not that of the draft")
	}
	// One edit is undone; the others stay.
	if x, err = s.UndoEdit(t.Context(), "anna", "", id, "bar", "rude.example", ""); err != nil || len(x.Clean) != 5 ||
		strings.Contains(edits(x), "rude") {
		t.Errorf("%v %s", err, edits(x))
	}
	if _, err = s.UndoEdit(t.Context(), "anna", "", id, "bar", "rude.example", ""); !errors.Is(err, ErrNotFound) {
		t.Errorf("undone twice: %v", err)
	}
	if _, err = s.UndoEdit(t.Context(), "anna", "", id, "personal", "homepost.example", "stale"); !errors.Is(err, ErrStale) {
		t.Errorf("undone from something else: %v", err)
	}
	// Published only as weighed, with a reason, once.
	if _, err := s.Publish(t.Context(), "anna", "why", id, "other", moment.Always); !errors.Is(err, ErrStale) {
		t.Errorf("another digest: %v", err)
	}
	var bad *Invalid
	if _, err := s.Publish(t.Context(), "anna", " ", id, x.Digest, moment.Always); !errors.As(err, &bad) || bad.Field != "why" {
		t.Errorf("no reason: %v", err)
	}
	y := publishDraft(t, s, id)
	if y.Published != first+1 || y.State != DraftPublished || s.State().Head.Revision != first+1 ||
		s.State().Policy().Organisation.Name != "Smaller" {
		t.Errorf("%+v at %+v", y.Draft, s.State().Head)
	}
	if _, err := s.Publish(t.Context(), "anna", "again", id, x.Digest, moment.Always); !errors.Is(err, ErrConflict) {
		t.Errorf("published twice: %v", err)
	}
	if err := set(t, s, id, "spaces.guests", "", "off"); !errors.Is(err, ErrConflict) {
		t.Errorf("edited after it was published: %v", err)
	}
	revs, err := s.Revisions(t.Context(), 0, 10)
	check(t, err)
	if len(revs) != int(first)+1 || revs[0].Why != "because" || revs[0].Draft == nil || revs[0].Draft.Name != "Spring" {
		t.Errorf("%+v", revs)
	}
	diff, err := s.RevisionDiff(t.Context(), first, first+1)
	check(t, err)
	if len(diff) != 5 || fmt.Sprint(diff[0].Key()) != "exception calls" {
		t.Errorf("%v", diff)
	}
	if n, broken, err := s.VerifyJournal(t.Context()); err != nil || broken != nil || n == 0 {
		t.Errorf("%d %v %v", n, broken, err)
	}
	// A draft that changes nothing is not published, a dropped one not edited.
	empty := makeDraft(t, s, "Nothing")
	z, err := s.Draft(t.Context(), empty)
	check(t, err)
	if _, err := s.Publish(t.Context(), "anna", "x", empty, z.Digest, moment.Always); !errors.Is(err, ErrConflict) ||
		!strings.Contains(err.Error(), "changes nothing") {
		t.Errorf("%v", err)
	}
	check(t, s.DropDraft(t.Context(), "anna", "", "Nothing")) // by its name
	if err := set(t, s, empty, "spaces.guests", "", "off"); !errors.Is(err, ErrConflict) {
		t.Errorf("edited after it was given up: %v", err)
	}
}

// TestDraftsBroughtUpToDate lets another revision come under a draft: edits of other
// things and other fields stay, those of the same field are asked about.
func TestDraftsBroughtUpToDate(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, small)
	one, two := makeDraft(t, s, "One"), makeDraft(t, s, "Two")
	open := func(id, key, rule, value string) {
		t.Helper()
		in := InDraft(t.Context(), id)
		st, err := s.StateIn(in)
		check(t, err)
		p, err := st.Partner("ilvane")
		check(t, err)
		if key != "" {
			q := *p
			k, _ := catalogue.ParseKey(key)
			q.Opened[k] = world.OpenYes
			doc := worldfile.PartnerDoc(&q)
			if _, err := s.PatchPartner(in, By{Who: id, IfMatch: PartnerEtag(p)}, "ilvane", doc); err != nil {
				t.Fatal(err)
			}
		}
		if rule != "" {
			check(t, s.SetValue(in, id, "", ValueChange{Where: Where{Partner: "ilvane"}, Rule: rule, Value: value}))
		}
	}
	open(one, "chat.in", "spaces.tasks", "on")
	open(two, "files.in", "spaces.tasks", "off")
	check(t, set(t, s, two, "spaces.guests", "", "on"))
	publishDraft(t, s, one)
	x, err := s.Draft(t.Context(), two)
	check(t, err)
	if len(x.Conflicts) != 1 || fmt.Sprint(x.Conflicts[0].Fields) != "[rules.spaces.tasks]" ||
		edits(x) != "set spaces.guests default: off > on" {
		t.Fatalf("%+v and %s", x.Conflicts, edits(x))
	}
	if _, err := s.Publish(t.Context(), "ben", "x", two, x.Digest, moment.Always); !errors.Is(err, ErrConflict) {
		t.Errorf("published with a conflict: %v", err)
	}
	if err := set(t, s, two, "spaces.pages", "", "on"); !errors.Is(err, ErrConflict) {
		t.Errorf("edited with a conflict: %v", err)
	}
	if _, err := s.StateIn(InDraft(t.Context(), two)); !errors.Is(err, ErrConflict) {
		t.Errorf("asked with a conflict: %v", err)
	}
	x, err = s.SettleEdit(t.Context(), "ben", "", two, "partner", "ilvane", true)
	check(t, err)
	if len(x.Conflicts) != 0 || !strings.Contains(edits(x), "rules.spaces.tasks: on > off") ||
		strings.Contains(edits(x), "chat.in") && !strings.Contains(edits(x), "opened.chat.in: yes > ") {
		t.Errorf("%s", edits(x))
	}
	// The other way: fields that both touched not at all are joined.
	three, four := makeDraft(t, s, "Three"), makeDraft(t, s, "Four")
	open(three, "mail.in", "", "")
	open(four, "meetings.in", "", "")
	publishDraft(t, s, three)
	x, err = s.Draft(t.Context(), four)
	check(t, err)
	if !x.Moved || len(x.Conflicts) != 0 || edits(x) != "change the partner ilvane opened.meetings.in:  > yes" {
		t.Errorf("%t %+v %s", x.Moved, x.Conflicts, edits(x))
	}
	publishDraft(t, s, four)
	p, err := s.State().Partner("ilvane")
	check(t, err)
	for _, key := range []string{"chat.in", "mail.in", "meetings.in", "spaces.in"} {
		if k, _ := catalogue.ParseKey(key); p.Opened[k] != world.OpenYes {
			t.Errorf("%s is lost", key)
		}
	}
	// Two that are each right and wrong together are told before they count.
	five, six := makeDraft(t, s, "Five"), makeDraft(t, s, "Six")
	for id, name := range map[string]string{five: "a", six: "b"} {
		if _, err := s.AddPartner(InDraft(t.Context(), id), By{Who: "x"}, name,
			[]byte(`{"id":"`+name+`","name":"`+name+`","domains":["shared.example"]}`)); err != nil {
			t.Fatal(err)
		}
	}
	publishDraft(t, s, five)
	x, err = s.Draft(t.Context(), six)
	check(t, err)
	if _, err := s.Publish(t.Context(), "ben", "x", six, x.Digest, moment.Always); err == nil ||
		!strings.Contains(err.Error(), "shared.example") {
		t.Errorf("one domain of two partners: %v", err)
	}
}

// TestTwoPeople has loosening confirmed by somebody else, exactly as it was weighed.
func TestTwoPeople(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, strings.Replace(small, "time_zone: Europe/Lisbon", "time_zone: Europe/Lisbon, two_people: loosening", 1))
	if err := s.SetRule(t.Context(), "anna", "", RuleChange{Rule: "spaces.guests", Default: "on"}); !errors.Is(err, ErrSecond) {
		t.Errorf("loosened at once: %v", err)
	}
	check(t, s.SetRule(t.Context(), "anna", "", RuleChange{Rule: "chat.federation", Limit: "closed"}))
	if _, err := s.Load(t.Context(), "anna", "", "f", []byte("wexillum: 1\nrules: {spaces.guests: {default: on}}"), false); !errors.Is(err,
		ErrSecond) {
		t.Errorf("a file that loosens: %v", err)
	}
	if _, err := s.Load(t.Context(), "anna", "", "f",
		[]byte("wexillum: 1\norganisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon, two_people: never}"),
		false); !errors.Is(err, ErrSecond) {
		t.Errorf("the second person is done away with by one: %v", err)
	}
	id := makeDraft(t, s, "Open up")
	check(t, set(t, s, id, "spaces.guests", "", "on"))
	x := publishDraft(t, s, id)
	if x.State != DraftWaiting || !x.Second || len(x.Loosens) != 1 {
		t.Fatalf("%+v", x)
	}
	if _, err := s.Confirm(t.Context(), "anna", id, x.Digest); !errors.Is(err, ErrSecond) {
		t.Errorf("confirmed by the same: %v", err)
	}
	// Edited after it was weighed: it is to be asked anew.
	check(t, set(t, s, id, "spaces.pages", "", "on"))
	if _, err := s.Confirm(t.Context(), "ben", id, x.Digest); !errors.Is(err, ErrConflict) {
		t.Errorf("confirmed after an edit: %v", err)
	}
	x = publishDraft(t, s, id)
	// Another revision came: it is to be asked anew too.
	check(t, s.SetRule(t.Context(), "carl", "", RuleChange{Rule: "mail.forward", Limit: "closed"}))
	if _, err := s.Confirm(t.Context(), "ben", id, x.Digest); !errors.Is(err, ErrStale) {
		t.Errorf("confirmed on another revision: %v", err)
	}
	if y, err := s.Draft(t.Context(), id); err != nil || y.State != DraftOpen || y.Note == "" {
		t.Errorf("%+v %v", y.Draft, err)
	}
	publishDraft(t, s, id)
	if _, err := s.Confirm(t.Context(), "ben", id, "something else"); !errors.Is(err, ErrStale) {
		t.Errorf("something else confirmed: %v", err)
	}
	x = publishDraft(t, s, id)
	// Two confirm at once: it is published once.
	results := make(chan error, 2)
	for _, who := range []string{"ben", "carl"} {
		go func() { _, err := s.Confirm(t.Context(), who, id, x.Digest); results <- err }()
	}
	errs := []error{<-results, <-results}
	if (errs[0] == nil) == (errs[1] == nil) || !errors.Is(errors.Join(errs...), ErrConflict) {
		t.Errorf("two confirmed: %v", errs)
	}
	revs, err := s.Revisions(t.Context(), 0, 1)
	check(t, err)
	if d := revs[0].Draft; d == nil || d.ID != id || d.Weighed.By != "anna" || d.Weighed.ConfirmedBy == "" || revs[0].Why != "because" {
		t.Errorf("%+v %+v", revs[0].Revision, d)
	}
	if v, _, _, _ := s.State().RuleState(catalogue.MustRule("spaces.guests")); v != catalogue.On {
		t.Errorf("the limit is %v", v)
	}
}

// TestPublishHelper publishes a draft in a process of its own, to be killed.
func TestPublishHelper(t *testing.T) {
	dsn := os.Getenv("WEXILLUM_TEST_PUBLISH")
	if dsn == "" {
		t.Skip("it is run by TestKilledWhilePublishing")
	}
	s, _ := start(t, dsn)
	x, err := s.Draft(t.Context(), os.Getenv("WEXILLUM_TEST_DRAFT"))
	check(t, err)
	fmt.Println("publishing")
	_, err = s.Publish(t.Context(), "anna", "round", x.ID, x.Digest, moment.Always)
	check(t, err)
	fmt.Println("published")
}

// bar bars a domain in a draft.
func bar(ctx context.Context, s *Service, id, name string) error {
	_, err := s.AddBar(InDraft(ctx, id), "anna", "", []byte(`{"name":"`+name+`"}`))
	return err
}

// TestDraftMemory keeps of a draft what it changes, however large the policy is.
func TestDraftMemory(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, small)
	var list bytes.Buffer
	list.WriteString("wexillum: 1\nbarred:\n")
	for i := range 2000 {
		fmt.Fprintf(&list, "  - {name: d%d.example, reason: a reason that has some length}\n", i)
	}
	load(t, s, list.String())
	id := makeDraft(t, s, "Small one")
	check(t, set(t, s, id, "spaces.guests", "", "on"))
	doc, err := s.store.Record(t.Context(), "draft", id)
	check(t, err)
	if len(doc) > 2000 {
		t.Errorf("a draft of one edit takes %d bytes", len(doc))
	}
	x, err := s.Draft(t.Context(), id)
	check(t, err)
	if got := draft.Titles(x.Clean); got != "set spaces.guests" {
		t.Error(got)
	}
}

// TestCutOffs tells whom shorter days suspend at once: by hand, and on random worlds
// against every record of the whole world.
func TestCutOffs(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, `
wexillum: 1
organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}
rules: {guests.term_days: {limit: none, default: none}, guests.idle_days: {limit: none, default: none}, guests.after_last_grant: {limit: keep, default: keep}, guests.invite_days: {default: 90}, guests.review_days: {limit: none, default: none}}
partners: [{id: ilvane, name: Ilvane, domains: [ilvane.example], rules: {guests.term_days: 400}}]
people: [{id: uma, name: Uma}]
groups: [{id: loan, name: Loan, parties: [d@far.example]}]
spaces: [{id: dossier, kind: team, owners: [uma]}]
guests:
  - {address: a@far.example, sponsor: uma, since: 2026-01-01T09:00:00Z, accepted: 2026-01-02T09:00:00Z}
  - {address: b@far.example, sponsor: uma, since: 2026-11-01T09:00:00Z, accepted: 2026-11-02T09:00:00Z}
  - {address: c@ilvane.example, sponsor: uma, since: 2026-01-01T09:00:00Z, accepted: 2026-01-02T09:00:00Z}
  - {address: d@far.example, sponsor: uma, since: 2026-11-01T09:00:00Z, accepted: 2026-11-01T09:00:00Z}
  - {address: e@far.example, sponsor: uma, since: 2026-11-01T09:00:00Z, accepted: 2026-11-01T09:00:00Z}
  - {address: f@far.example, sponsor: uma, state: suspended, state_since: 2026-11-01T09:00:00Z, since: 2026-01-01T09:00:00Z}
grants:
  - {party: "group:loan", resource: space:dossier, role: view, from: 2026-01-01}
  - {party: d@far.example, resource: space:dossier, role: view, from: 2026-01-01, until: 2026-11-10}
  - {party: e@far.example, resource: space:dossier, role: view, from: 2026-01-01, until: 2026-11-10}
`)
	cut := func(rules ...RuleChange) string {
		t.Helper()
		id := makeDraft(t, s, fmt.Sprint("Cut ", s.State().Head.Seq))
		for _, r := range rules {
			check(t, s.SetRule(InDraft(t.Context(), id), "anna", "", r))
		}
		x, err := s.Draft(t.Context(), id)
		check(t, err)
		list, total, err := s.CutOffs(t.Context(), x.Live, x.After, s.Now(), 100)
		check(t, err)
		var out []string
		for _, c := range list {
			out = append(out, fmt.Sprintf("%s %s %s", c.Address, c.Cause, c.At))
		}
		if total != len(list) {
			t.Errorf("%d of %d", len(list), total)
		}
		return strings.Join(out, "; ")
	}
	if got, want := cut(RuleChange{Rule: "guests.term_days", Default: "300"}), "a@far.example term 2026-11-23T09:00:00Z"; got != want {
		t.Errorf("%s, want %s", got, want)
	}
	// the partner's 400 is held back, and the default counts there too
	if got, want := cut(RuleChange{Rule: "guests.term_days", Limit: "300", Default: "300"}),
		"a@far.example term 2026-11-23T09:00:00Z"; got != want {
		if want += "; c@ilvane.example term 2026-11-23T09:00:00Z"; got != want {
			t.Errorf("%s, want %s", got, want)
		}
	}
	if got, want := cut(RuleChange{Rule: "guests.after_last_grant", Default: "suspend"}),
		"e@far.example after_last_grant 2026-11-23T09:00:00Z"; got != want {
		t.Errorf("%s, want %s", got, want)
	}
	if got := cut(RuleChange{Rule: "chat.guests", Default: "off"}); got != "" {
		t.Errorf("another rule cuts off %s", got)
	}

	tried := 0
	for seed := uint64(1); seed <= 4; seed++ {
		s, c := start(t, dbtest.DSN(t))
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 60, Grants: 150, Spaces: 6, Items: 20, Partners: 5, People: 6, Groups: 4}, moment.Of(c.at)))
		check(t, s.Import(t.Context(), "test", "", w, nil))
		id := makeDraft(t, s, "Shorter")
		for _, r := range []string{"guests.term_days", "guests.idle_days"} {
			check(t, s.SetRule(InDraft(t.Context(), id), "anna", "", RuleChange{Rule: r, Limit: "40", Default: "40"}))
		}
		x, err := s.Draft(t.Context(), id)
		check(t, err)
		list, _, err := s.CutOffs(t.Context(), x.Live, x.After, s.Now(), 1000)
		check(t, err)
		want := map[string]bool{}
		for i := range w.Guests {
			g := &w.Guests[i]
			then, _ := x.After.Sequences().Record(g.Address)
			will, cause := dated.Out(then.Sequence())
			today, _ := x.Live.Sequences().Record(g.Address)
			was, _ := dated.Out(today.Sequence())
			if will <= s.Now() && was > s.Now() {
				want[fmt.Sprint(g.Address, cause, will)] = true
			}
		}
		for _, c := range list {
			if k := fmt.Sprint(c.Address, c.Cause, c.At); !want[k] {
				t.Errorf("seed %d: %s is told", seed, k)
			}
		}
		if len(list) != len(want) {
			t.Errorf("seed %d: %d are told, %d are cut off", seed, len(list), len(want))
		}
		tried += len(list)
	}
	if tried < 10 {
		t.Errorf("only %d were cut off", tried)
	}
}
