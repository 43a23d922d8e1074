package service

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/finding"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/store"
)

// TestFindingsAfterChanges: after each sort of change, what is noticed is what a look at the whole world finds, though only what changed is
// looked at; and so it is on another day, and for a service that follows.
func TestFindingsAfterChanges(t *testing.T) {
	dsn := dbtest.DSN(t)
	a, clock := start(t, dsn)
	load(t, a, small)
	b, other := start(t, dsn)
	whole := 0
	same := func(s *Service, what string) {
		t.Helper()
		list, err := s.Findings(t.Context())
		check(t, err)
		var got, want strings.Builder
		for f := range list.All() {
			fmt.Fprintln(&got, f.ID, f.Cause, f.Numbers)
		}
		w, err := s.World(t.Context(), store.Head{})
		check(t, err)
		for _, f := range finding.Find(w, engine.Of(w), s.Now()) {
			fmt.Fprintln(&want, f.ID, f.Cause, f.Numbers)
		}
		if got.String() != want.String() {
			t.Errorf("%s: noticed is\n%s\nand found is\n%s", what, got.String(), want.String())
		}
	}
	same(a, "at first")
	first := a.findingsKept.kept
	for _, x := range []struct {
		change string
		anew   bool // everything is looked at
	}{
		{"guests: [{address: maren@ilvane.example, sponsor: uma, purpose: the loan, name: Maren}]", false},
		{"guests: [{address: maren@private.example, name: maren, since: 2026-01-01, accepted: 2026-01-01}]", false},
		{"grants: [{party: maren@private.example, resource: page:notes, role: view, from: 2026-01-01}]", false},
		{"spaces: [{id: dossier, kind: report_area, owners: [uma], rules: {spaces.guests: on}, items: [{id: notes, kind: page, name: Notes, private: yes}, {id: kit, kind: file}]}, {id: far, kind: team, owners: [uma], items: [{id: plan, kind: page, name: Plan}]}]",
			false},
		{"links: [{id: l, item: file:kit, for: [maren@private.example], right: view, created: 2026-11-20}, {id: open, item: file:kit, for: bearer, right: view, created: 2026-11-20}]",
			false},
		{"links: [{id: l, item: file:kit, for: [maren@ilvane.example], right: view, created: 2026-11-20, until: 2026-12-24}]", false},
		{"people: [{id: uma, name: Uma, address: uma@ours.example}, {id: lars, name: Lars}]\nforwarders: [{mailbox: uma, to: uma@private.example, keep_copy: yes, set_by: person}]",
			false},
		{"contacts: [{person: uma, party: somebody@ilvane.example, state: accepted}]", false},
		{"meetings: [{id: talk, host: lars, rules: {meetings.outsiders: known}}]", false},
		{"statements: [{partner: ilvane, problem: expired, reason: it ended}]", false},
		{"groups: [{id: loan, name: Loan, parties: [maren@private.example]}]", true},
		{"grants: [{party: 'group:loan', resource: page:plan, role: view, from: 2026-01-01}]", true},
		{"personal_domains: [private.example]", true},
		{"barred: [{address: maren@private.example}]", true},
		{"partners: [{id: ilvane, name: Ilvane, domains: [ilvane.example], statement: 'https://ilvane.example/s', opened: {spaces.in: yes, chat.in: yes}}]",
			false},
		{"rules: {reports.licence: {limit: [house], default: [house]}}", false},
		{"exceptions: [{id: x, people: [uma], parties: ['partner:ilvane'], rules: {chat.push: off}, from: 2026-01-01, until: 2027-03-01, reason: the loan}]",
			false},
		{"partners: [{id: ilvane, name: Ilvane, domains: [ilvane.example, ilvane2.example]}]", true},
		{"rules: {guests.term_days: {limit: none, default: none}}", true},
	} {
		load(t, a, "wexillum: 1\n"+x.change)
		was := a.findingsKept.kept
		same(a, x.change)
		if anew := a.findingsKept.kept != was; anew != x.anew {
			t.Errorf("%s: whether everything is looked at anew is %t", x.change, anew)
		} else if anew {
			whole++
		}
	}
	if whole == 0 || a.findingsKept.kept == first {
		t.Error("nothing was ever looked at anew")
	}
	check(t, b.Refresh(t.Context()))
	same(b, "another service")
	check(t, a.reload(t.Context())) // everything has other numbers
	load(t, a, "wexillum: 1\nguests: [{address: maren@ilvane.example, sponsor: uma, name: Maren Otherwise}]")
	same(a, "everything was read anew")
	clock.forward(40 * 24 * time.Hour)
	other.forward(40 * 24 * time.Hour)
	same(a, "another day")
	check(t, b.Refresh(t.Context()))
	same(b, "another day, another service")
}

// TestNoticedByTwo: two services keep what is noticed; what one kept the other does not keep again, and each of what came and went is told
// once.
func TestNoticedByTwo(t *testing.T) {
	dsn := dbtest.DSN(t)
	a, _ := start(t, dsn)
	load(t, a, small)
	b, _ := start(t, dsn)
	keep := func(s *Service) {
		t.Helper()
		check(t, s.Refresh(t.Context()))
		list, err := s.Findings(t.Context())
		check(t, err)
		check(t, s.KeepNoticed(t.Context(), list))
	}
	told := func() (n int) {
		t.Helper()
		entries, err := a.store.Journal(t.Context(), store.JournalQuery{Kind: "noticed", Limit: 100})
		check(t, err)
		return len(entries)
	}
	keep(a)
	keep(b)
	if n := told(); n != 0 {
		t.Fatalf("what was there at first is told %d times", n)
	}
	load(t, a, "wexillum: 1\nguests: [{address: bo@ilvane.example, sponsor: uma, purpose: x}]") // without a grant
	keep(a)
	came := told()
	keep(b)
	keep(a)
	if n := told(); came == 0 || n != came {
		t.Errorf("told %d times, and then %d", came, n)
	}
	load(t, a, "wexillum: 1\ngrants: [{party: bo@ilvane.example, resource: space:dossier, role: view, from: 2026-01-01}]")
	keep(b)
	went := told()
	keep(a)
	keep(b)
	if n := told(); went <= came || n != went {
		t.Errorf("told %d times, then %d, then %d", came, went, n)
	}
}
