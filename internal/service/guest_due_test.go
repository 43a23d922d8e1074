package service

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/dbtest"
)

// TestTwoSchedulers lets two services carry out the same steps on one database at the same
// time, and send the same mail: each step and each mail is once.
func TestTwoSchedulers(t *testing.T) {
	dsn := dbtest.DSN(t)
	a, ca := start(t, dsn)
	var world strings.Builder
	world.WriteString(guestWorld + "guests:\n")
	for i := range 300 {
		fmt.Fprintf(&world, "  - {address: g%d@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01, until: 2026-11-2%d}\n", i,
			4+i%4)
	}
	world.WriteString("grants:\n")
	for i := range 300 {
		fmt.Fprintf(&world,
			"  - {party: g%d@ilvane.example, resource: space:dossier, role: view, from: 2026-11-01, until: 2026-11-2%d, sponsor: uma}\n", i, 4+i%4)
	}
	load(t, a, world.String())
	carry(t, a)
	b, cb := start(t, dsn)
	ca.at = time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	cb.at = ca.at
	post := &box{}
	var wg sync.WaitGroup
	for _, s := range []*Service{a, b} {
		wg.Go(func() {
			for {
				out, err := s.CarryOut(t.Context())
				if err != nil {
					t.Error(err)
					return
				}
				if _, err := s.SendWaiting(t.Context(), post); err != nil {
					t.Error(err)
					return
				}
				if out.Records == 0 {
					return
				}
			}
		})
	}
	wg.Wait()
	_, err := a.SendWaiting(t.Context(), post)
	check(t, err)
	steps := map[string]int{}
	for _, s := range journaled(t, a, "step") {
		steps[s]++
	}
	mails := map[string]int{}
	for _, m := range post.got {
		mails[m.to]++
	}
	if len(steps) != 600 || len(mails) != 300 || len(post.got) != 300 {
		t.Errorf("%d steps, %d mails to %d", len(steps), len(post.got), len(mails))
	}
	for s, n := range steps {
		if n != 1 {
			t.Errorf("%s happened %d times", s, n)
		}
	}
}

// TestNewTerms changes the terms of use: who accepted the old ones is asked again, from the
// moment on from which the new ones count.
func TestNewTerms(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, guestWorld+`guests: [{address: a@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01, terms: 2026-11-01}]
grants: [{party: a@ilvane.example, resource: space:dossier, role: view, from: 2026-11-01, sponsor: uma}]
`)
	asked := func() string {
		t.Helper()
		action, _ := engine.ParseAction("spaces.enter")
		subject, _ := engine.ParseWho("a@ilvane.example")
		q := engine.Question{Subject: subject, Action: action, Resource: resourceOf("space:dossier"), At: s.Now()}
		v, err := s.State().Decide(&q)
		check(t, err)
		g, _, err := s.Guest(t.Context(), "a@ilvane.example")
		check(t, err)
		return fmt.Sprint(v.Yes, v.Conditions.Names(), s.State().TermsOwed(g, s.Now()))
	}
	if got := asked(); got != "true [] false" {
		t.Errorf("at first %s", got)
	}
	load(t, s, "wexillum: 1\nsettings: {forget_days: 100, brake: none, terms: New words., terms_since: 2026-11-23T12:00:00Z}\n")
	c.forward(4 * time.Hour)
	if got := asked(); got != "true [accept_terms] true" {
		t.Errorf("with new terms %s", got)
	}
	check(t, s.AcceptGuest(t.Context(), Who{Name: "guest:a@ilvane.example", Role: RoleGuest, Guest: "a@ilvane.example"}, true, "Ada  Lumb "))
	if got := asked(); got != "true [] false" {
		t.Errorf("once accepted %s", got)
	}
	check(t, s.AcceptGuest(t.Context(), Who{Name: "guest:a@ilvane.example", Role: RoleGuest, Guest: "a@ilvane.example"}, true,
		"Somebody Else"))
	if g, _, err := s.Guest(t.Context(), "a@ilvane.example"); err != nil || g.Name != "Ada Lumb" {
		t.Errorf("the name is %q, %v", g.Name, err)
	}
	if got := s.State().Terms("en") + s.State().Terms("pt"); got != "New words.New words." {
		t.Errorf("%s", got)
	}
	c.forward(time.Hour)
	load(t,
		s,
		"wexillum: 1\nsettings: {forget_days: 100, brake: none, terms: New words., terms_pt: Palavras novas., terms_since: 2026-11-23T12:00:00Z}\n")
	if got := s.State().Terms("en") + s.State().Terms("pt"); got != "New words.Palavras novas." {
		t.Errorf("%s", got)
	}
	list, err := s.TermsVersions(t.Context())
	check(t, err)
	var got []string
	for _, v := range list {
		got = append(got, fmt.Sprint(v.Text, "|", v.TextPt, "|", v.Again, "|", v.Accepted, "|", v.Owed))
	}
	if want := "New words.|Palavras novas.|false|0|0; New words.||true|1|0; ||false|0|0"; strings.Join(got, "; ") != want {
		t.Errorf("%s, want %s", strings.Join(got, "; "), want)
	}
}

// TestThreeServicesEndOnce lets three services carry out, on one database at the same time, that
// grants end because nobody confirmed them: each once.
func TestThreeServicesEndOnce(t *testing.T) {
	dsn := dbtest.DSN(t)
	a, ca := start(t, dsn)
	var world strings.Builder
	world.WriteString(strings.NewReplacer("guests.review_days: {default: none}", "guests.review_days: {default: 10}",
		"guests.term_days: {default: 60}", "guests.term_days: {default: none}").Replace(guestWorld) + "guests:\n")
	for i := range 62 {
		fmt.Fprintf(&world, "  - {address: g%d@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}\n", i)
	}
	world.WriteString("grants:\n")
	for i := range 62 {
		fmt.Fprintf(&world,
			"  - {party: g%d@ilvane.example, resource: space:dossier, role: view, from: 2026-11-01, until: 2027-11-20, sponsor: uma}\n", i)
	}
	load(t, a, world.String())
	carry(t, a)
	b, cb := start(t, dsn)
	c, cc := start(t, dsn)
	ca.at = time.Date(2027, 1, 30, 9, 0, 0, 0, time.UTC)
	cb.at, cc.at = ca.at, ca.at
	var wg sync.WaitGroup
	for _, s := range []*Service{a, b, c} {
		wg.Go(func() {
			for {
				out, err := s.CarryOut(t.Context())
				if err != nil {
					t.Error(err)
					return
				}
				if out.Records == 0 {
					return
				}
			}
		})
	}
	wg.Wait()
	ends := map[string]int{}
	for _, s := range journaled(t, a, "step") {
		if strings.Contains(s, "the grant ends") {
			ends[s]++
		}
	}
	if len(ends) != 62 {
		t.Errorf("%d grants ended, of 62", len(ends))
	}
	for s, n := range ends {
		if n != 1 {
			t.Errorf("%s happened %d times", s, n)
		}
	}
}
