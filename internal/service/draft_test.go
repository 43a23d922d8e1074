package service

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"syscall"
	"testing"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/draft"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/mariadb"
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

// TestSetMoment publishes at a moment that was set: also one that passed while no
// service ran, by one of two services, and not what is no longer as it was weighed.
func TestSetMoment(t *testing.T) {
	dsn := dbtest.DSN(t)
	s, c := start(t, dsn)
	load(t, s, small)
	ask := func(s *Service, at moment.Moment) bool {
		t.Helper()
		st, _, err := s.At(t.Context(), at)
		check(t, err)
		return st.Policy().Organisation.Name == "Later"
	}
	id := makeDraft(t, s, "Later")
	_, err := s.Load(InDraft(t.Context(), id), "anna", "", "f",
		[]byte("wexillum: 1\norganisation: {name: Later, domains: [ours.example], time_zone: Europe/Lisbon}"), false)
	check(t, err)
	x, err := s.Draft(t.Context(), id)
	check(t, err)
	day := moment.Of(c.at.AddDate(0, 0, 1))
	if _, err := s.Publish(t.Context(), "anna", "at night", id, x.Digest, s.Now()); err == nil {
		t.Error("set to a moment that is over")
	}
	_, err = s.Publish(t.Context(), "anna", "at night", id, x.Digest, day)
	check(t, err)
	if ask(s, day-1) || !ask(s, day) || ask(s, s.Now()) {
		t.Error("what is set does not count from its moment on")
	}
	check(t, s.publishDue(t.Context()))
	if s.State().Policy().Organisation.Name != "Small" {
		t.Error("it was published too early")
	}
	// The service was down when the moment passed; two begin at once.
	late := []*Service{}
	for range 2 {
		b, clock := start(t, dsn)
		clock.at = c.at.AddDate(0, 0, 3)
		late = append(late, b)
	}
	done := make(chan error, 2)
	for _, b := range late {
		go func() { done <- b.publishDue(t.Context()) }()
	}
	check(t, <-done)
	check(t, <-done)
	for _, b := range late {
		check(t, b.Refresh(t.Context()))
		if b.State().Policy().Organisation.Name != "Later" || b.State().Head.Revision != x.Live.Head.Revision+1 {
			t.Errorf("%s, revision %d", b.State().Policy().Organisation.Name, b.State().Head.Revision)
		}
	}
	// One whose ground was taken away is open again and told why.
	b := late[0]
	id = makeDraft(t, b, "Lost")
	check(t, set(t, b, id, "spaces.pages", "", "on"))
	x, err = b.Draft(t.Context(), id)
	check(t, err)
	_, err = b.Publish(t.Context(), "anna", "later", id, x.Digest, b.Now()+86400e6)
	check(t, err)
	check(t, b.SetRule(t.Context(), "ben", "", RuleChange{Rule: "spaces.pages", Limit: "off"}))
	b.clock = func() time.Time { return c.at.AddDate(0, 0, 9) }
	check(t, b.publishDue(t.Context()))
	if x, err = b.Draft(t.Context(), id); err != nil || x.State != DraftOpen || !strings.Contains(x.Note, "no longer what had been weighed") {
		t.Errorf("%+v %v", x.Draft, err)
	}
}

// TestBack publishes and goes back: the world is the same, byte for byte, values that
// were held back meanwhile included.
func TestBack(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, small)
	first := s.State().Head.Revision
	before := dump(t, s, store.Head{})
	id := makeDraft(t, s, "Shut")
	for _, c := range []RuleChange{{Rule: "files.bearer_links", Limit: "off"}, {Rule: "spaces.guests", Limit: "off", Default: "off"},
		{Rule: "meetings.outsiders", Limit: "none"}, {Rule: "spaces.pages", Limit: "off"}} {
		check(t, s.SetRule(InDraft(t.Context(), id), "anna", "", c))
	}
	check(t, bar(t.Context(), s, id, "rude.example"))
	x, err := s.Draft(t.Context(), id)
	check(t, err)
	held, total, err := s.Held(t.Context(), x, 100)
	check(t, err)
	var said []string
	for _, h := range held {
		said = append(said, fmt.Sprint(h.Where, " ", h.Rule, " ", h.Value, " ", h.Held))
	}
	sort.Strings(said)
	if want := "[file:kit files.bearer_links on true meeting:talk meetings.outsiders anyone true partner:ilvane spaces.pages on true space:dossier spaces.guests on true]"; total != 4 ||
		fmt.Sprint(said) != want {
		t.Errorf("%v", said)
	}
	publishDraft(t, s, id)
	if got := dump(t, s, store.Head{}); got == before || strings.Count(got, "held: yes") != 5 {
		t.Errorf("%s", got)
	}
	check(t, s.SetRule(t.Context(), "ben", "", RuleChange{Rule: "chat.federation", Limit: "closed"}))
	d, err := s.BackTo(t.Context(), "anna", "it was too much", first)
	check(t, err)
	x, err = s.Draft(t.Context(), d.ID)
	check(t, err)
	if len(d.Releases) != 3 || !strings.Contains(edits(x), "set chat.federation") && !strings.Contains(edits(x), "leave chat.federation") {
		t.Errorf("%+v %s", d.Releases, edits(x))
	}
	publishDraft(t, s, d.ID)
	if got := dump(t, s, store.Head{}); got != before {
		t.Errorf("going back gives another world:\n%s\nwas\n%s", got, before)
	}
	if _, err := s.BackTo(t.Context(), "anna", "", s.State().Head.Revision); err == nil {
		t.Error("back to what is in force")
	}
	// A partner that something names cannot go unnoticed.
	load(t,
		s,
		"wexillum: 1\npartners: [{id: quay, name: Quay, domains: [quay.example]}]\nspaces: [{id: pier, kind: team, owners: [uma], parties: [\"partner:quay\"]}]\n")
	d, err = s.BackTo(t.Context(), "anna", "", first)
	check(t, err)
	x, err = s.Draft(t.Context(), d.ID)
	check(t, err)
	if _, err := s.Publish(t.Context(), "anna", "x", d.ID, x.Digest, moment.Always); err == nil ||
		!strings.Contains(err.Error(), `the space "pier" names the partner "quay"`) {
		t.Errorf("%v", err)
	}
}

// TestImpactAsPublished weighs drafts of random worlds: what was told equals what the
// answers before and after publishing differ in.
func TestImpactAsPublished(t *testing.T) {
	moves, held := 0, 0
	for seed := uint64(1); seed <= 6; seed++ {
		s, c := start(t, dbtest.DSN(t))
		now := moment.Of(c.at)
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 25, Grants: 90, Spaces: 6, Items: 30, Partners: 4, People: 6, Groups: 3, Meetings: 5, Links: 20, Exceptions: 5},
			now))
		check(t, s.Import(t.Context(), "test", "", w, nil))
		r := rand.New(rand.NewPCG(seed, 3))
		id := makeDraft(t, s, "Random")
		in := InDraft(t.Context(), id)
		for range 4 {
			rule := &catalogue.Rules()[r.IntN(int(catalogue.NumRules))]
			if len(w.Spaces[0].Rules) > 0 && r.IntN(2) == 0 {
				sp := &w.Spaces[r.IntN(len(w.Spaces))]
				if len(sp.Rules) > 0 {
					rule = sp.Rules[r.IntN(len(sp.Rules))].Rule.Get()
				}
			}
			if all := rule.Scale.All(); len(all) > 1 {
				limit := rule.Scale.Format(all[r.IntN(len(all))])
				_ = s.SetRule(in, "anna", "", RuleChange{Rule: rule.Name, Limit: limit, Default: limit})
			}
		}
		_, err := s.SetStanding(in, By{Who: "anna"}, w.Partners[r.IntN(len(w.Partners))].ID, world.StandingNames[r.IntN(3)])
		check(t, err)
		x, err := s.Draft(t.Context(), id)
		check(t, err)
		if len(x.Clean) == 0 {
			continue
		}
		told := map[string]bool{}
		_, _, imp, err := s.Impact(t.Context(), id, s.Now(), func(l *engine.ImpactLine) bool {
			for _, a := range catalogue.Actions() {
				if !l.Wide && l.Actions.Has(a.ID) {
					told[fmt.Sprint(l.Who, l.Change, a.Name, l.Resource)] = true
				}
			}
			return true
		}, nil)
		check(t, err)
		list, _, err := s.Held(t.Context(), x, 1000)
		check(t, err)
		before := s.State()
		publishDraft(t, s, id)
		after := s.State()
		real, err := engine.ImpactOf(before.Snapshot, x.After.Snapshot, s.Now(), nil, t.Context().Err, nil)
		check(t, err)
		if real.Total() != imp.Total() || real.Parties != imp.Parties {
			t.Errorf("seed %d: %+v, then %+v", seed, imp.Total(), real.Total())
		}
		known := map[engine.Who]bool{}
		everybody, _, err := before.Group("everybody", s.Now())
		check(t, err)
		for _, who := range everybody {
			known[who] = true
		}
		n := 0
		ask := func(who engine.Who, a *catalogue.Action, res world.Resource) {
			q := engine.Question{Subject: who, Action: a.ID, Resource: res, At: s.Now()}
			v, e0 := before.Decide(&q)
			u, e1 := after.Decide(&q)
			if e0 != nil || e1 != nil || v.Yes == u.Yes && (!v.Yes || v.Conditions == u.Conditions) {
				return
			}
			change := map[bool]string{true: "gained", false: "lost"}[u.Yes]
			if v.Yes == u.Yes {
				change = "otherwise"
			}
			n++
			if !told[fmt.Sprint(who, change, a.Name, res)] {
				t.Errorf("seed %d: %s %s %s is %s, and was not told", seed, who, a.Name, res, change)
			}
		}
		for i := range catalogue.Actions() {
			a := &catalogue.Actions()[i]
			if a.Address || a.Spread != catalogue.Granted {
				continue
			}
			for g := range w.Guests {
				if !known[engine.Who{Address: w.Guests[g].Address}] { // a typical newcomer stands for them
					continue
				}
				for k := range w.Spaces {
					sp := &w.Spaces[k]
					if a.Takes(catalogue.Space) {
						ask(engine.Who{Address: w.Guests[g].Address}, a, world.Resource{Kind: catalogue.Space, ID: sp.ID})
					}
					for j := range sp.Items {
						if a.Takes(sp.Items[j].Kind) {
							ask(engine.Who{Address: w.Guests[g].Address}, a, world.Resource{Kind: sp.Items[j].Kind, ID: sp.Items[j].ID})
						}
					}
				}
			}
		}
		moves += n
		held += len(list)
		for _, h := range list {
			if !strings.Contains(dump(t, s, store.Head{}), h.Rule) {
				t.Errorf("%+v", h)
			}
		}
	}
	if moves == 0 || held == 0 {
		t.Errorf("%d moves, %d held: the worlds try nothing", moves, held)
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

// TestKilledWhilePublishing kills the database or the service in the middle of
// publishing, again and again: a draft is published whole and once, or not at all.
func TestKilledWhilePublishing(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "db")
	server, err := mariadb.Start(t.Context(), dir)
	check(t, err)
	check(t, server.Create(t.Context(), "w"))
	a, _ := start(t, server.DSN("w"))
	w := worldgen.Generate(3, worldgen.Size{Guests: 20, Spaces: 40, Items: 300, Partners: 8},
		moment.Of(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)))
	check(t, a.Import(t.Context(), "test", "", world.Merge(&world.World{}, w), nil))
	want := a.State().Head.Revision
	published, cut := 0, 0
	const rounds = 18
	took := [2]time.Duration{} // of publishing, by who is killed; then when it is hit
	for round := -2; round < rounds; round++ {
		d, err := a.MakeDraft(t.Context(), "anna", fmt.Sprint("Round ", round), false)
		check(t, err)
		for i := range 20 {
			check(t, bar(t.Context(), a, d.ID, fmt.Sprintf("r%d-%d.example", round+2, i)))
		}
		limit := []string{"off", "on"}[(round+2)/2%2]
		check(t, a.SetRule(InDraft(t.Context(), d.ID), "anna", "", RuleChange{Rule: "spaces.guests", Limit: limit, Default: limit}))
		x, err := a.Draft(t.Context(), d.ID)
		check(t, err)
		before := dump(t, a, store.Head{})
		told := false
		inProcess := round%2 == 0
		hit := &took[(round+2)%2]
		began := time.Now()
		wait := func() { // it closes in on where one turns into the other
			if round >= 0 {
				time.Sleep(*hit)
			}
		}
		if inProcess {
			done := make(chan error, 1)
			go func() {
				_, err := a.Publish(t.Context(), "anna", "round", d.ID, x.Digest, moment.Always)
				done <- err
			}()
			wait()
			if round >= 0 {
				check(t, syscall.Kill(server.PID(), syscall.SIGKILL))
				<-server.Exited()
			}
			told = <-done == nil
			if round >= 0 {
				server, err = mariadb.Start(t.Context(), dir)
				check(t, err)
			}
		} else {
			cmd := exec.Command(os.Args[0], "-test.run", "^TestPublishHelper$")
			cmd.Env = append(os.Environ(), "WEXILLUM_TEST_PUBLISH="+server.DSN("w"), "WEXILLUM_TEST_DRAFT="+d.ID)
			out, err := cmd.StdoutPipe()
			check(t, err)
			check(t, cmd.Start())
			lines := bufio.NewScanner(out)
			for lines.Scan() && lines.Text() != "publishing" {
			}
			began = time.Now()
			wait()
			if round >= 0 {
				_ = cmd.Process.Kill()
			}
			for lines.Scan() {
				told = told || lines.Text() == "published"
			}
			_ = cmd.Wait() // it was killed
		}
		if round < 0 {
			*hit = time.Since(began) / 2
		}
		// What was sent and not answered may still come to its end in the database: wait behind it.
		check(t, a.change(t.Context(), "test", "", func(*State, *store.Tx) error { return nil }))
		if inProcess && round >= 0 {
			a, _ = start(t, server.DSN("w"))
		} else {
			check(t, a.Refresh(t.Context()))
		}
		y, err := a.Draft(t.Context(), d.ID)
		check(t, err)
		bars := 0
		for i := range a.State().Policy().Barred {
			if strings.HasPrefix(a.State().Policy().Barred[i].Key(), fmt.Sprintf("r%d-", round+2)) {
				bars++
			}
		}
		switch y.State {
		case DraftPublished:
			published++
			want++
			if round >= 0 {
				*hit = *hit * 2 / 3
			}
			if bars != 20 || y.Published != want || a.State().Head.Revision != want {
				t.Fatalf("round %d: published as %d of %d with %d bars", round, y.Published, want, bars)
			}
		case DraftOpen:
			cut++
			*hit = *hit*3/2 + time.Millisecond
			if told {
				t.Fatalf("round %d: it was told that it is published, and it is not", round)
			}
			if bars != 0 || a.State().Head.Revision != want || dump(t, a, store.Head{}) != before {
				t.Fatalf("round %d: half of it is there: %d bars", round, bars)
			}
		default:
			t.Fatalf("round %d: %s", round, y.State)
		}
		if _, broken, err := a.VerifyJournal(t.Context()); err != nil || broken != nil {
			t.Fatalf("%v %v", broken, err)
		}
	}
	t.Logf("%d published, %d cut off", published, cut)
	if published < 3 || cut < 3 {
		t.Errorf("%d published, %d cut off: it was not hit in the middle", published, cut)
	}
	check(t, server.Stop())
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

// TestValuesInAnyOrder sets values of a partner one after the other: what a revision
// holds is the same, in whatever order they were set.
func TestValuesInAnyOrder(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, small)
	first := s.State().Head.Revision
	set := func(rule, value string) {
		t.Helper()
		check(t, s.SetValue(t.Context(), "anna", "", ValueChange{Where: Where{Partner: "ilvane"}, Rule: rule, Value: value}))
	}
	set("spaces.tasks", "on")
	set("chat.guests", "on")
	set("chat.guests", "")
	set("guests.term_days", "90")
	n := s.State().Head.Revision
	edits, err := s.RevisionDiff(t.Context(), first, n)
	check(t, err)
	if got := draft.Titles(edits); got != "change the partner ilvane" || len(edits[0].Changes()) != 2 {
		t.Errorf("%s: %+v", got, edits[0].Changes())
	}
	if x, err := s.MakeDraft(t.Context(), "anna", "Same", false); err != nil {
		t.Fatal(err)
	} else if err := s.editDraft(t.Context(), x.ID, "anna", "",
		func(now *State) (*world.World, error) { return world.Merge(now.Policy(), &world.World{}), nil }); err != nil {
		t.Fatal(err)
	} else if y, err := s.Draft(t.Context(), x.ID); err != nil || len(y.Clean) != 0 {
		t.Errorf("%v: %d edits", err, len(y.Clean))
	}
	set("spaces.tasks", "off")
	set("spaces.tasks", "on")
	if d, err := s.BackTo(t.Context(), "anna", "", n); err == nil {
		t.Errorf("going back to what is the same: %+v", d.Edits)
	}
}

// TestImpactOfNow weighs shorter days a while after somebody last looked at the draft: from when it
// is published dates go on, so nobody is let go at the moment itself, and all are a day later.
func TestImpactOfNow(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t,
		s,
		guestWorld+"guests: [{address: a@ilvane.example, sponsor: uma, since: 2026-01-01, accepted: 2026-01-01, renewed: 2026-11-01}]\ngrants: [{party: a@ilvane.example, resource: space:dossier, role: view, from: 2026-01-01, until: 2027-11-20, sponsor: uma}]\n")
	ctx := t.Context()
	d, err := s.MakeDraft(ctx, "anna", "Shorter", false)
	check(t, err)
	check(t, s.SetRule(InDraft(ctx, d.ID), "anna", "x", RuleChange{Rule: "guests.term_days", Limit: "5", Default: "5"}))
	c.forward(300 * time.Millisecond) // days are counted in whole seconds
	for range 3 {
		_, _, imp, err := s.Impact(ctx, d.ID, s.Now(), nil, nil)
		check(t, err)
		if imp.Parties.Lost != 0 {
			t.Errorf("at once: %+v", imp.Parties)
		}
		_, _, imp, err = s.Impact(ctx, d.ID, s.Now()+86400e6, nil, nil)
		check(t, err)
		if imp.Parties.Lost != 1 {
			t.Errorf("a day later: %+v", imp.Parties)
		}
		c.forward(7*time.Second + 300*time.Millisecond)
	}
}
