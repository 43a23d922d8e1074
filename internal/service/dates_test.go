package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

func address(t *testing.T, s string) addr.Address {
	t.Helper()
	a, err := addr.Parse(s)
	check(t, err)
	return a
}

// oldGuests is an installation's first file: guests whose dates lie behind.
func oldGuests(n int) string {
	var b strings.Builder
	b.WriteString(`wexillum: 1
organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}
settings: {brake: 5}
partners: [{id: ilvane, name: Ilvane, domains: [ilvane.example], opened: {directory.in: yes, spaces.in: yes}}, {id: orrin, name: Orrin, domains: [orrin.example], opened: {spaces.in: yes}}]
people: [{id: uma, name: Uma, address: uma@ours.example}]
rules: {directory.guests: {default: on}, spaces.guests: {default: on}, guests.review_silence: {default: keep}}
spaces: [{id: dossier, name: Dossier, kind: team, owners: [uma]}]
guests:
`)
	for i := range n {
		fmt.Fprintf(&b, "  - {address: g%d@%s.example, sponsor: uma, since: 2024-01-01, accepted: 2024-01-02, last_seen: 2026-11-20}\n", i,
			[]string{"ilvane", "orrin", "far"}[i%3])
	}
	b.WriteString("grants:\n")
	for i := range n {
		fmt.Fprintf(&b, "  - {party: g%d@%s.example, resource: space:dossier, role: view, from: 2024-01-01}\n", i,
			[]string{"ilvane", "orrin", "far"}[i%3])
	}
	return b.String()
}

// TestDatesWait: what a new installation takes over does nothing until somebody says so: all
// of it or a part, mail and steps apart; and more than the brake lets has to be confirmed.
func TestDatesWait(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	out, err := s.Load(t.Context(), "ada", "taking over", "f", []byte(oldGuests(9)), false)
	check(t, err)
	if !out.Waits || out.Going == nil || out.Going.Records != 9 || out.Going.AtOnce["suspended"] != 9 {
		t.Fatalf("loading tells %+v of what it sets going: %+v", out, out.Going)
	}
	enters := func(a string) bool { return decide(t, s, a, "spaces.enter", "space:dossier") }
	states := func() string {
		t.Helper()
		var out []string
		for i := range 9 {
			a := fmt.Sprintf("g%d@%s.example", i, []string{"ilvane", "orrin", "far"}[i%3])
			g, err := s.store.Guest(t.Context(), a)
			check(t, err)
			out = append(out, world.StateNames[g.State][:1]+map[bool]string{true: "+", false: "-"}[enters(a)])
		}
		return strings.Join(out, " ")
	}
	mails := func() int {
		t.Helper()
		n, err := s.Warn(t.Context(), true)
		check(t, err)
		list, err := s.Outbox(t.Context(), "", "", 0, 100)
		check(t, err)
		return n + len(list)
	}
	carry(t, s)
	if got := states(); got != strings.TrimSpace(strings.Repeat("a+ ", 9)) || mails() != 0 {
		t.Fatalf("while dates wait: %s, %d mails", got, mails())
	}
	waiting, err := s.Waiting(t.Context(), s.Now())
	check(t, err)
	if waiting.Records != 9 || waiting.AtOnce["suspended"] != 9 || fmt.Sprint(waiting.Partners) != "map[:3 ilvane:3 orrin:3]" ||
		!waiting.Mails {
		t.Errorf("what waits: %+v", waiting)
	}
	// Whoever comes by invitation does not wait.
	_, err = s.Invite(t.Context(), keeper, Invitation{List: "new@ilvane.example", Into: "space:dossier", Purpose: "test", As: "uma"}, false)
	check(t, err)
	st := s.State()
	if st.Waits(st.PartyOf(address(t, "new@ilvane.example"))) || !st.Waits(st.PartyOf(address(t, "g0@ilvane.example"))) {
		t.Error("who was invited waits, or who was taken over does not")
	}

	admin := Who{Name: "ada", Role: Administrator}
	// Everything at once is more than the brake lets.
	if _, err := s.ReleaseDates(t.Context(), admin, DatesRelease{Steps: true, Why: "begin"}, false); !errors.Is(err, ErrConflict) ||
		!strings.Contains(err.Error(), "9 records would be suspended or removed at once, more than 5") {
		t.Errorf("released without a word: %v", err)
	}
	// Sooner than guests are told ahead.
	if _, err := s.ReleaseDates(t.Context(), admin, DatesRelease{For: "partner:ilvane", From: "2026-11-24", Steps: true, Why: "begin"},
		false); !errors.Is(err, ErrConflict) || !strings.Contains(err.Error(), "sooner than guests are told ahead") {
		t.Errorf("released too soon: %v", err)
	}
	for _, bad := range []DatesRelease{{Steps: true}, {Why: "x"}, {For: "partner:nobody", Steps: true, Why: "x"},
		{For: "step:until", Steps: true, Why: "x"}, {For: "a@@b", Steps: true, Why: "x"}, {From: "2020-01-01", Steps: true, Why: "x"}} {
		var invalid *Invalid
		if _, err := s.ReleaseDates(t.Context(), admin, bad, false); !errors.As(err, &invalid) {
			t.Errorf("%+v: %v", bad, err)
		}
	}
	// One partner's, steps alone.
	pre, err := s.ReleaseDates(t.Context(), admin, DatesRelease{For: "partner:ilvane", Steps: true}, true)
	check(t, err)
	if pre.Waiting.Records != 3 || pre.Waiting.AtOnce["suspended"] != 3 || pre.Brake != "" {
		t.Errorf("a partner's: %+v %+v", pre, pre.Waiting)
	}
	did, err := s.ReleaseDates(t.Context(), admin, DatesRelease{For: "partner:ilvane", Steps: true, Why: "they know"}, false)
	check(t, err)
	if want := "2026-12-08T00:00:00Z"; did.From.String() != want {
		t.Errorf("dates begin %s, want %s", did.From, want)
	}
	carry(t, s)
	if got := states(); got != strings.TrimSpace(strings.Repeat("a+ ", 9)) {
		t.Errorf("before their dates begin: %s", got)
	}
	c.at = time.Date(2026, 12, 8, 0, 0, 1, 0, time.UTC)
	if got := states(); got != "a- a+ a+ a- a+ a+ a- a+ a+" {
		t.Errorf("dates began, and the scheduler has not come round: %s", got)
	}
	carry(t, s)
	if got := states(); got != "s- a+ a+ s- a+ a+ s- a+ a+" || mails() != 1 { // the invitation
		t.Errorf("dates began: %s, %d mails", got, mails())
	}
	// The rest, and mail, at once.
	if _, err := s.ReleaseDates(t.Context(), admin, DatesRelease{Steps: true, Mail: true, From: s.Now().String(), Confirm: true, Why: "now"},
		false); err != nil {
		t.Fatal(err)
	}
	c.forward(2 * time.Second)
	for range 5 {
		if _, err := s.CarryOut(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	if b := s.Braked(); b.Records != 6 { // three went today already
		t.Errorf("held: %+v", b)
	}
	counted := s.heldBack.Load()
	if _, err := s.CarryOut(t.Context()); err != nil || counted == nil || s.heldBack.Load() != counted {
		t.Errorf("what is held is counted anew though nothing changed: %v", err)
	}
	if got := states(); got != "s- a- a- s- a- a- s- a- a-" {
		t.Errorf("while it is held: %s", got)
	}
	if _, err := s.LiftBrake(t.Context(), admin, ""); err == nil {
		t.Error("lifted without a reason")
	}
	if _, err := s.LiftBrake(t.Context(), admin, "all are told"); err != nil {
		t.Error(err)
	}
	carry(t, s)
	if got := states(); got != "s- s- s- s- s- s- s- s- s-" || s.Braked() != (Braked{}) {
		t.Errorf("lifted: %s, %+v", got, s.Braked())
	}
	// Loading again moves no floor, and a dump has them.
	if _, err := s.Load(t.Context(), "ada", "", "f", []byte("wexillum: 1\ndates_from: [{for: organisation, from: 2026-01-01}]"),
		false); err != nil {
		t.Error(err)
	}
	floors, err := s.floors(t.Context())
	check(t, err)
	for _, f := range floors {
		if f.For() == "organisation" && f.From < moment.Of(time.Date(2026, 12, 8, 0, 0, 0, 0, time.UTC)) {
			t.Errorf("loading moved a floor: %+v", f)
		}
	}
	// What comes later does not count behind anybody's back.
	if _, err := s.Load(t.Context(), "ada", "", "f", []byte(strings.ReplaceAll(oldGuests(9), "address: g", "address: h")),
		false); !errors.Is(err, ErrConflict) || !strings.Contains(err.Error(), "9 of the records that come would be suspended") {
		t.Errorf("more taken over: %v", err)
	}
	if out, err := s.Load(Confirmed(t.Context()), "ada", "", "f", []byte(strings.ReplaceAll(oldGuests(2), "{address: g", "{address: h")),
		false); err != nil || out.Waits || out.Going.AtOnce["suspended"] != 2 {
		t.Errorf("two more: %+v %v", out, err)
	}
}

// TestActsForward: a published rule suspends nobody before it was published, in the service
// as in what the draft foretold.
func TestActsForward(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, strings.ReplaceAll(strings.ReplaceAll(oldGuests(6), "brake: 5", "brake: none"), "rules: {",
		"rules: {guests.term_days: {limit: none, default: none}, guests.idle_days: {limit: none, default: none}, "))
	id := makeDraft(t, s, "Terms")
	check(t, s.SetRule(InDraft(t.Context(), id), "anna", "", RuleChange{Rule: "guests.term_days", Default: "300"}))
	x, err := s.Draft(t.Context(), id)
	check(t, err)
	list, _, err := s.CutOffs(t.Context(), x.Live, x.After, s.Now(), 100)
	check(t, err)
	if len(list) != 6 {
		t.Errorf("the draft foretells %v", list)
	}
	published := s.Now()
	check(t, s.SetRule(t.Context(), "anna", "shorter", RuleChange{Rule: "guests.term_days", Default: "300"}))
	c.forward(time.Second)
	carry(t, s)
	g, _, err := s.Guest(t.Context(), "g1@orrin.example")
	check(t, err)
	if g.State != world.StateSuspended || g.Cause != "term" || g.StateSince < published || g.StateSince > published+1e6 {
		t.Errorf("suspended %s since %s because of %s, published %s", world.StateNames[g.State], g.StateSince, g.Cause, published)
	}
	// And back: who is suspended stays so, as a fact.
	check(t, s.SetRule(t.Context(), "anna", "longer", RuleChange{Rule: "guests.term_days", Default: "none"}))
	if decide(t, s, "g1@orrin.example", "spaces.enter", "space:dossier") {
		t.Error("a longer term wakes somebody")
	}
}

// TestOlderDump loads what the version before kept and this one refuses: only where it is
// said to be such a dump; it admits nobody, is listed, and dumps again.
func TestOlderDump(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	text := []byte(`wexillum: 1
organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}
rules: {directory.guests: {default: on}, spaces.guests: {default: on}, files.bearer_links: {limit: on, default: on}, files.domains: {default: any}}
partners: [{id: ilvane, name: Ilvane, domains: [ilvane.example], opened: {directory.in: yes, spaces.in: yes, files.in: yes}}]
people: [{id: uma, name: Uma, address: uma@ours.example}]
spaces: [{id: dossier, name: Dossier, kind: team, owners: [uma], items: [{id: kit, kind: file, name: Kit}]}]
guests: [{address: a@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}, {address: "*@ilvane.example", sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}]
grants: [{party: a@ilvane.example, resource: space:dossier, role: view, from: 2026-11-01}, {party: "*@ilvane.example", resource: space:dossier, role: view, from: 2026-11-01}]
links: [{id: old, item: file:kit, for: bearer, right: view, by: uma}]
exceptions: [{id: odd, people: [uma], parties: ["*@ilvane.example"], rules: {chat.federation: any}, from: 2026-11-01, until: 2027-01-01, reason: x}]
`)
	ctx := Restoring(t.Context())
	_, err := s.Load(ctx, "ada", "back", "old.yaml", text, false)
	if err == nil || !strings.Contains(err.Error(), "old.yaml") || !strings.Contains(err.Error(), "*@ilvane.example") {
		t.Fatalf("taken as it is: %v", err)
	}
	out, err := s.Load(Older(ctx), "ada", "back", "old.yaml", text, false)
	check(t, err)
	if len(out.Odd) != 4 {
		t.Errorf("%d told: %q", len(out.Odd), out.Odd)
	}
	for _, c := range []struct {
		who, action, on string
		want            bool
	}{{"a@ilvane.example", "spaces.enter", "space:dossier", true}, {"*@ilvane.example", "spaces.enter", "space:dossier", false},
		{"link:old", "files.open", "file:kit", false}} {
		if got := decide(t, s, c.who, c.action, c.on); got != c.want {
			t.Errorf("%s %s %s: %v", c.who, c.action, c.on, got)
		}
	}
	w, err := s.World(t.Context(), store.Head{})
	check(t, err)
	again := worldfile.Write(w)
	other, _ := start(t, dbtest.DSN(t))
	if out, err = other.Load(Older(ctx), "ada", "back", "again.yaml", again, false); err != nil || len(out.Odd) != 4 {
		t.Errorf("its own dump: %v %q", err, out.Odd)
	}
	found, err := s.Findings(t.Context())
	check(t, err)
	kinds := map[string]int{}
	for f := range found.All() {
		kinds[f.Kind]++
	}
	if kinds["link_without_created"] != 1 || kinds["kept_for_nobody"] != 3 {
		t.Errorf("%v", kinds)
	}
}

// TestReleasedAtOnce releases dates in the middle of a second: what has come by then counts at that
// very moment, not in the second after.
func TestReleasedAtOnce(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	_, err := s.Load(t.Context(), "uma", "begin", "world",
		[]byte(guestWorld+"guests: [{address: a@ilvane.example, sponsor: uma, since: 2026-01-01, accepted: 2026-01-02, until: 2026-06-01}]\n"),
		false)
	check(t, err)
	c.at = c.at.Add(time.Hour).Truncate(time.Second).Add(123 * time.Millisecond)
	_, err = s.ReleaseDates(t.Context(), Who{Name: "uma", Role: Administrator},
		DatesRelease{From: s.Now().String(), Steps: true, Mail: true, Confirm: true, Why: "begin"}, false)
	check(t, err)
	a, err := addr.Parse("a@ilvane.example")
	check(t, err)
	i := s.State().PartyOf(a)
	if state, _, _, there := s.State().StateOf(i, s.Now()); there { // its days of grace are long over
		t.Errorf("at %s it is %s still", s.Now(), world.StateNames[state])
	}
}

// TestBrakeCounts: the brake counts what went today, whichever service did it, and nothing that a
// look found and could not carry out.
func TestBrakeCounts(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	var b strings.Builder
	load(t, s, small)
	b.WriteString("wexillum: 1\nsettings: {brake: 5}\nguests:\n")
	for i, hour := range []int{10, 10, 10, 14, 14, 20} {
		fmt.Fprintf(&b,
			"  - {address: g%d@ilvane.example, sponsor: uma, since: 2026-11-20, accepted: 2026-11-20, last_seen: 2026-11-20, until: \"2026-11-24T%d:00:00Z\"}\n",
			i, hour)
	}
	load(t, s, b.String())
	two, err := New(t.Context(), s.store, c.now, slog.New(slog.DiscardHandler))
	check(t, err)
	gone := func() (n int) {
		for i := range 6 {
			g, err := s.store.Guest(t.Context(), fmt.Sprintf("g%d@ilvane.example", i))
			check(t, err)
			if g.State == world.StateSuspended {
				n++
			}
		}
		return n
	}
	at := func(day, hour int) { c.at = time.Date(2026, 11, day, hour, 1, 0, 0, time.UTC) }
	carry(t, s)
	at(24, 10)
	lock, err := s.store.DB().BeginTx(t.Context(), nil) // somebody holds the write lock for long
	check(t, err)
	_, err = lock.ExecContext(t.Context(), "SELECT * FROM head FOR UPDATE")
	check(t, err)
	for range 3 {
		short, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
		if _, err := s.CarryOut(short); err == nil {
			t.Fatal("carried out although it could not be written")
		}
		cancel()
	}
	check(t, lock.Rollback())
	carry(t, s)
	if got := gone(); got != 3 || s.Braked() != (Braked{}) {
		t.Errorf("three in the morning: %d went, held %+v", got, s.Braked())
	}
	at(24, 14)
	check(t, two.Refresh(t.Context()))
	carry(t, two)
	if got := gone(); got != 5 || two.Braked() != (Braked{}) {
		t.Errorf("two more by another service: %d went, held %+v", got, two.Braked())
	}
	at(24, 20)
	carry(t, s)
	carry(t, two)
	if got := gone(); got != 5 || s.Braked().Records != 1 || two.Braked().Records != 1 {
		t.Errorf("a sixth on that day: %d went, held %+v and %+v", got, s.Braked(), two.Braked())
	}
	at(25, 0)
	carry(t, two)
	if got := gone(); got != 6 || two.Braked() != (Braked{}) {
		t.Errorf("the day after: %d went, held %+v", got, two.Braked())
	}
}
