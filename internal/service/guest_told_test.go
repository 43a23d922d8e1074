package service

import (
	"fmt"
	"sort"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/dbtest"
)

// TestWarnings tells ahead of everything that ends within guests.warn_days: the guest of each
// moment once, the sponsor that a grant names of the grant, the record's of the record, and
// of what was extended meanwhile nobody.
func TestWarnings(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, strings.Replace(guestWorld, "items: [", "items: [{id: old, kind: folder, name: Old}, ", 1)+`guests:
  - {address: a@ilvane.example, name: Ada, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01, until: 2026-11-28}
  - {address: b@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}
  - {address: far@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}
  - {address: asleep@ilvane.example, since: 2026-10-01, accepted: 2026-10-01, state: suspended, state_since: 2026-10-28}
grants:
  - {party: a@ilvane.example, resource: page:notes, role: view, from: 2026-11-01, until: 2026-11-25, sponsor: uma}
  - {party: a@ilvane.example, resource: file:kit, role: view, from: 2026-11-01, until: 2026-11-27, sponsor: ben}
  - {party: a@ilvane.example, resource: folder:old, role: contribute, from: 2026-11-01, until: 2026-11-27, sponsor: uma}
  - {party: a@ilvane.example, resource: space:dossier, role: view, from: 2026-11-01, until: 2026-12-24, sponsor: uma}
  - {party: b@ilvane.example, resource: space:dossier, role: view, from: 2026-11-01, until: 2026-11-26, sponsor: uma}
  - {party: asleep@ilvane.example, resource: file:kit, role: view, from: 2026-10-01, until: 2026-11-25}
`)
	c.at = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	carry(t, s)
	post := &box{}
	warn := func(want int) string {
		t.Helper()
		s.warned.Store(nil)
		n, err := s.Warn(t.Context(), false)
		check(t, err)
		if n != want {
			t.Errorf("%d messages are written, not %d", n, want)
		}
		post.got = nil
		_, err = s.SendWaiting(t.Context(), post)
		check(t, err)
		var out []string
		for _, m := range post.got {
			var items []string
			for _, l := range strings.Split(m.Text, "\n") {
				if strings.HasPrefix(l, "- ") || strings.HasPrefix(l, "The reason") {
					items = append(items, l)
				}
			}
			out = append(out, m.to+": "+m.Subject+"\n"+strings.Join(items, "\n"))
		}
		sort.Strings(out)
		return strings.Join(out, "\n")
	}
	// Extended between the warning's writing and its sending: it is not told.
	_, err := s.ChangeGuests(t.Context(), keeper, GuestChange{Do: Extend, Addresses: []string{"b@ilvane.example"}, Until: "2027-01-31",
		Grants: true, Reason: "goes on"}, false)
	check(t, err)
	want := `a@ilvane.example: Small: until 25 November 2026
- Notes: view
The reason: that was agreed when it was given.
a@ilvane.example: Small: until 27 November 2026
- Kit: view
- Old: view and contribute
The reason: that was agreed when it was given.
a@ilvane.example: Small: until 28 November 2026
- everything that you reach as a guest
The reason: its end was reached.
asleep@ilvane.example: Small: until 26 November 2026
- everything that you reach as a guest
The reason: it was suspended.
b@ilvane.example: Small: you have more time

ben@ours.example: One of your guests needs a look
- 27 November 2026: Ada: the grant ends: Kit (its own end)
uma@ours.example: One of your guests needs a look
- 25 November 2026: Ada: the grant ends: Notes (its own end)
- 27 November 2026: Ada: the grant ends: Old (its own end)
- 28 November 2026: Ada: the record is suspended (the record's own end)`
	if got := warn(6); got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
	if got := warn(0); got != "" {
		t.Errorf("told twice: %s", got)
	}
	c.forward(24 * time.Hour) // a digest every day, warnings once
	if got := warn(2); strings.Contains(got, "a@ilvane.example") || strings.Contains(got, "asleep") {
		t.Errorf("the next day: %s", got)
	}
}

// TestManyInADigest tells of a hundred guests one by one and counts the others.
func TestManyInADigest(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	var world strings.Builder
	world.WriteString(guestWorld + "guests:\n")
	for i := range 130 {
		fmt.Fprintf(&world, "  - {address: g%03d@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01, until: 2026-11-25}\n", i)
	}
	load(t, s, world.String())
	c.at = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	carry(t, s)
	n, err := s.Warn(t.Context(), false)
	check(t, err)
	post := &box{}
	_, err = s.SendWaiting(t.Context(), post)
	check(t, err)
	digest := ""
	for _, m := range post.got {
		if m.to == "uma@ours.example" {
			digest = m.Subject + "\n" + m.Text
		}
	}
	if n != 131 || !strings.HasPrefix(digest, "130 of your guests need a look\n") || strings.Count(digest, "\n- ") != 100 ||
		!strings.Contains(digest, "And 30 more guests.") {
		t.Errorf("%d messages; %s", n, digest)
	}
}

// TestMailHeld: more mail than may go in a day waits for a word. While it waits, it is not counted again because nothing changed or because
// something just did, and records that are held stay told.
func TestMailHeld(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	var world strings.Builder
	world.WriteString(strings.Replace(guestWorld, "brake: none", "brake: 5", 1) + "guests:\n")
	for i := range 7 { // these are due, those end soon
		fmt.Fprintf(&world, "  - {address: due%d@ilvane.example, since: 2026-11-01, accepted: 2026-11-01, until: 2026-11-23}\n", i)
		fmt.Fprintf(&world, "  - {address: g%d@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01, until: 2026-11-27}\n", i)
	}
	load(t, s, world.String())
	c.at = time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)
	look := func() {
		t.Helper()
		_, err := s.CarryOut(t.Context())
		check(t, err)
		n, err := s.Warn(t.Context(), false)
		check(t, err)
		if want := (Braked{Records: 7, Mail: 8}); n != 0 || s.Braked() != want {
			t.Errorf("%d messages, held %+v, want %+v", n, s.Braked(), want)
		}
	}
	look()
	counted := s.mailHeld.Load()
	look()
	counted.took = time.Hour // it is rested for long
	_, err := s.ChangeGuests(t.Context(), keeper, GuestChange{Do: Extend, Addresses: []string{"g0@ilvane.example"}, Until: "2026-12-31", Reason: "x"},
		false)
	check(t, err)
	look()
	if counted == nil || s.mailHeld.Load() != counted {
		t.Error("mail that is held is counted anew though nothing changed, or at once though it takes long")
	}
	counted.took = 0
	if _, err := s.Warn(t.Context(), false); err != nil || s.Braked().Mail != 7 {
		t.Errorf("after a change: %+v, %v", s.Braked(), err)
	}
	_, err = s.LiftBrake(t.Context(), Who{Name: "ada", Role: Administrator}, "all are told")
	check(t, err)
	if n, err := s.Warn(t.Context(), false); err != nil || n != 7 || s.Braked() != (Braked{}) {
		t.Errorf("lifted: %d messages, %+v, %v", n, s.Braked(), err)
	}
}
