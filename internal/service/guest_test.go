package service

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"sort"
	"strings"
	"sync"
	"testing"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/mail"
	"wexillum.example/internal/store"
)

// box is a mail server that keeps what it is given.
type box struct {
	mu   sync.Mutex
	got  []boxed
	fail int
}

type boxed struct {
	to, id string
	mail.Message
}

func (b *box) Send(_ context.Context, to, id string, m *mail.Message) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.fail > 0 {
		b.fail--
		return errors.New("not now")
	}
	b.got = append(b.got, boxed{to, id, *m})
	return nil
}

func (b *box) told() string {
	var out []string
	for _, m := range b.got {
		out = append(out, m.to+": "+m.Subject)
	}
	sort.Strings(out)
	return strings.Join(out, "; ")
}

const guestWorld = `
wexillum: 1
organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}
settings: {forget_days: 100, brake: none}
rules:
  directory.guests: {default: on}
  directory.invite_by: {default: staff}
  spaces.guests: {default: on}
  spaces.pages: {default: on}
  directory.personal: {limit: on, default: off}
  guests.term_days: {default: 60}
  guests.idle_days: {default: none}
  guests.review_days: {default: none}
  guests.warn_days: {default: 7}
partners:
  - {id: ilvane, name: Ilvane, domains: [ilvane.example], opened: {directory.in: yes, spaces.in: yes, files.in: yes}, stance: {directory.in: {says: admits}, spaces.in: {says: admits}}}
  - {id: shut, name: Shut, domains: [shut.example], opened: {}}
personal_domains: [homepost.example]
people: [{id: uma, name: Uma, address: uma@ours.example}, {id: ben, name: Ben, address: ben@ours.example}]
groups: [{id: crew, name: Crew}]
spaces: [{id: dossier, name: Dossier, kind: team, owners: [uma], items: [{id: notes, kind: page, name: Notes}, {id: kit, kind: file, name: Kit}]}]
`

var keeper = Who{Name: "kira", Role: Keeper}

// journaled lists the entries of a kind, the oldest first.
func journaled(t *testing.T, s *Service, kind string) (out []string) {
	t.Helper()
	es, err := s.Journal(t.Context(), store.JournalQuery{Kind: kind, Limit: 5000})
	check(t, err)
	for i := len(es) - 1; i >= 0; i-- {
		out = append(out, fmt.Sprintf("%s %s: %s", es[i].Who, es[i].ID, es[i].Why))
	}
	return
}

func carry(t *testing.T, s *Service) (total CarriedOut) {
	t.Helper()
	for {
		out, err := s.CarryOut(t.Context())
		check(t, err)
		total.Steps, total.Late, total.Records = total.Steps+out.Steps, total.Late+out.Late, total.Records+out.Records
		if out.Records == 0 {
			return
		}
	}
}

var linkIn = regexp.MustCompile(`/door/invited#(\S+)`)

var codeIn = regexp.MustCompile(`[A-Z2-9]{4}-[A-Z2-9]{4}`)

// TestGuestChanges makes every change of a record, and finds out that each is refused where
// it should be.
func TestGuestChanges(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, guestWorld+`guests:
  - {address: a@ilvane.example, name: A, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01, until: 2026-12-01}
  - {address: i@ilvane.example, sponsor: uma, since: 2026-11-20, state: invited}
  - {address: l@ilvane.example, sponsor: ben, since: 2026-11-01, accepted: 2026-11-01}
grants: [{party: a@ilvane.example, resource: space:dossier, role: view, from: 2026-11-01, until: 2026-12-01, sponsor: uma}]
links: [{id: k, item: file:kit, created: 2026-11-01, for: [a@ilvane.example], right: view, by: uma}, {id: two, item: file:kit, created: 2026-11-01, for: [a@ilvane.example, l@ilvane.example], right: view, by: uma}]
`)
	carry(t, s)
	do := func(who Who, x GuestChange) string {
		t.Helper()
		if x.Reason == "" {
			x.Reason = "test"
		}
		list, err := s.ChangeGuests(t.Context(), who, x, false)
		if err != nil {
			return err.Error()
		}
		if list[0].Done {
			return "done"
		}
		return list[0].Reason
	}
	a := []string{"a@ilvane.example"}
	for _, x := range []struct {
		who  Who
		x    GuestChange
		want string
	}{
		{Who{Name: "m", Role: Member, Person: "ben"}, GuestChange{Do: Suspend, Addresses: a},
			"not found: there is no record of a@ilvane.example that you answer for"},
		{Who{Name: "m", Role: Member, Person: "uma"}, GuestChange{Do: Remove, Addresses: a}, "administrators and keepers do this"},
		{keeper, GuestChange{Do: BringBack, Addresses: a}, "they are not suspended"},
		{keeper, GuestChange{Do: Extend, Addresses: a, Until: "2028-01-01"},
			`until "2028-01-01": one extension adds at most 180 days (guests.extend_days): until 2027-05-30T23:00:00Z`},
		{keeper, GuestChange{Do: Extend, Addresses: a, Until: "2026-11-25"}, "their record ends later already"},
		{keeper, GuestChange{Do: Extend, Addresses: a, Until: "2026-01-25"}, `until "2026-01-25": it lies before now`},
		{Who{Name: "m", Role: Member, Person: "uma"}, GuestChange{Do: Extend, Addresses: a, Until: "2027-01-31", Grants: true}, "done"},
		{keeper, GuestChange{Do: Remind, Addresses: a}, "they have accepted already"},
		{keeper, GuestChange{Do: Remind, Addresses: []string{"i@ilvane.example"}}, "done"},
		{keeper, GuestChange{Do: Suspend, Addresses: []string{"i@ilvane.example"}},
			"they are only invited and reach nothing yet; remove them to take the invitation back"},
		{keeper, GuestChange{Do: Suspend, Addresses: a}, "done"},
		{keeper, GuestChange{Do: Suspend, Addresses: a}, "they are suspended already"},
		{keeper, GuestChange{Do: BringBack, Addresses: a}, "done"},
		{keeper, GuestChange{Do: HandOver, Addresses: a, Sponsor: "nobody"}, `sponsor "nobody": there is no such person here`},
		{keeper, GuestChange{Do: HandOver, Addresses: a, Sponsor: "ben"}, "done"},
		{keeper, GuestChange{Do: EndGrant, Addresses: a, Resource: "file:kit"}, "they hold no grant on file:kit"},
		{keeper, GuestChange{Do: Confirm, Addresses: a}, "done"},
		{keeper, GuestChange{Do: End, Addresses: a}, "done"},
		{keeper, GuestChange{Do: BringBack, Addresses: a}, "a cause stands: the end of their record has passed; extend it first"},
		{keeper, GuestChange{Do: Extend, Addresses: a, Until: "2027-01-31"}, "done"},
		{keeper, GuestChange{Do: BringBack, Addresses: a}, "done"},
		{keeper, GuestChange{Do: EndGrant, Addresses: a, Resource: "space:dossier"}, "done"},
		{keeper, GuestChange{Do: Confirm, Addresses: a}, "they hold no grant to confirm"},
		{keeper, GuestChange{Do: "forget", Addresses: a},
			`do "forget": write one of [extend suspend bring_back end remove end_grant confirm hand_over describe invite_again remind]`},
	} {
		if got := do(x.who, x.x); got != x.want {
			t.Errorf("%s by %s: %s, want %s", x.x.Do, x.who.Name, got, x.want)
		}
	}
	reminded, err := s.Outbox(t.Context(), "i@ilvane.example", "", 0, 10)
	check(t, err)
	if g, _, err := s.Guest(t.Context(), "i@ilvane.example"); err != nil || len(reminded) != 1 || reminded[0].Kind != "invitation" ||
		g.Since.String() != "2026-11-20T00:00:00Z" {
		t.Errorf("reminded: %+v, since %s, %v", reminded, g.Since, err)
	}
	before := s.State().Head
	ahead, err := s.ChangeGuests(t.Context(), keeper, GuestChange{Do: Remove,
		Addresses: []string{"a@ilvane.example", "x@ilvane.example", "l@ilvane.example"}}, true)
	check(t, err)
	if s.State().Head != before || len(ahead) != 3 || !ahead[0].Done || ahead[1].Done || ahead[1].Reason != "there is no record of them" ||
		ahead[2].Lost < 1 {
		t.Errorf("%+v", ahead)
	}
	if got := do(keeper, GuestChange{Do: Remove, Addresses: a}); got != "done" {
		t.Error(got)
	}
	k, err := s.Link(t.Context(), "k")
	check(t, err)
	two, err := s.Link(t.Context(), "two")
	check(t, err)
	if k.Until != s.Now() || k.Bearer() || len(two.For) != 1 || two.Until != moment.Never {
		t.Errorf("links %+v %+v", k, two)
	}
	if decide(t, s, "a@ilvane.example", "files.open", "file:kit") {
		t.Error("removed, and its link opens")
	}

	// A sponsor leaves; somebody takes over.
	o, err := s.PersonLeaves(t.Context(), keeper, "ben", "", "uma", "a new post", false)
	check(t, err)
	if o.Guests != 1 {
		t.Errorf("%+v", o)
	}
	steps, _ := s.State().Sequences().Of(ahead[2].Was[0].Address)
	if len(steps) == 0 || steps[0].Cause.String() != "sponsor_left" || steps[0].At.String() != "2026-12-08T00:00:00Z" {
		t.Errorf("%+v", steps)
	}
	uma := Who{Name: "umy", Role: Member, Person: "uma"}
	offers, err := s.Offers(t.Context(), uma)
	check(t, err)
	if len(offers) != 1 {
		t.Fatalf("%+v", offers)
	}
	if _, err := s.AnswerOffer(t.Context(), Who{Name: "x", Role: Member, Person: "ben"}, offers[0].ID, true); !errors.Is(err, ErrNotFound) {
		t.Errorf("the one who leaves answers: %v", err)
	}
	_, err = s.AnswerOffer(t.Context(), uma, offers[0].ID, true)
	check(t, err)
	if g, _, err := s.Guest(t.Context(), "l@ilvane.example"); err != nil || g.Sponsor != "uma" {
		t.Errorf("%+v %v", g, err)
	}

	// Two addresses of one person become one record.
	load(t,
		s,
		"wexillum: 1\nguests: [{address: l2@ilvane.example, sponsor: uma, since: 2026-10-01, accepted: 2026-10-02, origins: [shared], last_seen: 2026-11-20}]\ngrants: [{party: l2@ilvane.example, resource: page:notes, role: contribute, from: 2026-05-01, until: 2027-01-01}]\n")
	m, err := s.MergeGuests(t.Context(), keeper, "l2@ilvane.example", "l@ilvane.example", "", true)
	check(t, err)
	if m.Grants != 1 || m.Was != 2 || m.Will != 3 || m.Steps[0].At <= s.Now() || s.State().Counts().Guests != 3 {
		t.Errorf("%+v", m)
	}
	_, err = s.MergeGuests(t.Context(), keeper, "l2@ilvane.example", "l@ilvane.example", "they said so", false)
	check(t, err)
	g, own, err := s.Guest(t.Context(), "l@ilvane.example")
	check(t, err)
	if len(own) != 1 || own[0].Resource.String() != "page:notes" || g.Since.String() != "2026-09-30T23:00:00Z" || g.Origins&2 == 0 {
		t.Errorf("%+v %+v", g, own)
	}
	if _, _, err := s.Guest(t.Context(), "l2@ilvane.example"); !errors.Is(err, ErrNotFound) {
		t.Errorf("the other record is still there: %v", err)
	}
	_ = c
}

// TestCodes attacks one-time codes: by trying, again, late, by guessing who is known, and
// at the same time.
func TestCodes(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t,
		s,
		guestWorld+"guests: [{address: a@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}, {address: s@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01, state: suspended, state_since: 2026-11-10}]\n")
	ctx := t.Context()
	post := &box{}
	ask := func(a string) string {
		t.Helper()
		check(t, s.AskCode(ctx, SigningIn{Address: a}))
		post.got = nil
		_, err := s.SendWaiting(ctx, post)
		check(t, err)
		if len(post.got) == 0 {
			return ""
		}
		return codeIn.FindString(post.got[0].Text)
	}
	prove := func(a, code string) error {
		_, err := s.Prove(ctx, SigningIn{Address: a}, code)
		return err
	}
	for _, unknown := range []string{"nobody@ilvane.example", "s@ilvane.example", "x@nowhere.example", "uma@ours.example"} {
		if ask(unknown) != "" {
			t.Errorf("%s was sent a code", unknown)
		}
		if err := prove(unknown, "AAAA-AAAA"); !errors.Is(err, ErrDenied) {
			t.Errorf("%s: %v", unknown, err)
		}
	}
	// Tried too often, the right code is of no use any more.
	code := ask("a@ilvane.example")
	for range codeTries {
		if err := prove("a@ilvane.example", "AAAA-AAAA"); !errors.Is(err, ErrDenied) {
			t.Error(err)
		}
	}
	if err := prove("a@ilvane.example", code); !errors.Is(err, ErrDenied) {
		t.Errorf("after %d wrong tries: %v", codeTries, err)
	}
	// Replayed.
	code = ask("a@ilvane.example")
	check(t, prove("a@ilvane.example", code))
	if err := prove("a@ilvane.example", code); !errors.Is(err, ErrDenied) {
		t.Errorf("replayed: %v", err)
	}
	// Too late.
	code = ask("a@ilvane.example")
	c.forward(codeLasts)
	if err := prove("a@ilvane.example", code); !errors.Is(err, ErrDenied) {
		t.Errorf("too late: %v", err)
	}
	// A new one ends the one before.
	old := ask("a@ilvane.example")
	fresh := ask("a@ilvane.example")
	if err := prove("a@ilvane.example", old); !errors.Is(err, ErrDenied) {
		t.Errorf("the one before: %v", err)
	}
	// At the same time, one gets in.
	var wg sync.WaitGroup
	in := make(chan error, 8)
	for range 4 {
		wg.Go(func() { in <- prove("a@ilvane.example", fresh) })
	}
	wg.Wait()
	close(in)
	n := 0
	for err := range in {
		if err == nil {
			n++
		} else if !errors.Is(err, ErrDenied) {
			t.Error(err)
		}
	}
	if n != 1 {
		t.Errorf("%d got in with one code", n)
	}
	// Wrong tries at the same time are counted each.
	code = ask("a@ilvane.example")
	for range 20 {
		wg.Go(func() { _ = prove("a@ilvane.example", "BBBB-BBBB") })
	}
	wg.Wait()
	if err := prove("a@ilvane.example", code); !errors.Is(err, ErrDenied) {
		t.Errorf("after twenty at once: %v", err)
	}
	// Asking is limited, the same for everybody.
	for _, a := range []string{"a@ilvane.example", "nobody@ilvane.example"} {
		c.forward(2 * time.Hour)
		for i := range codesAsked + 1 {
			err := s.AskCode(ctx, SigningIn{Address: a})
			if (i < codesAsked) != (err == nil) || err != nil && !errors.Is(err, ErrTooMany) {
				t.Errorf("%s, the %dth: %v", a, i+1, err)
			}
		}
	}
	rows := 0
	check(t, s.store.DB().QueryRowContext(ctx, "SELECT COUNT(*) FROM door_code WHERE INSTR(hash, ?) > 0", code).Scan(&rows))
	if rows != 0 {
		t.Error("a code is kept as it is")
	}
}

// TestGroupsKeepTheirGrants: what somebody holds through a group counts until its own end;
// nobody is asked to confirm it for one of them, so silence does not end it either.
func TestGroupsKeepTheirGrants(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, strings.NewReplacer("guests.review_days: {default: none}", "guests.review_days: {default: 30}",
		"guests.term_days: {default: 60}", "guests.term_days: {default: none}",
		"{id: crew, name: Crew}", "{id: crew, name: Crew, parties: [a@ilvane.example]}").Replace(guestWorld)+`guests: [{address: a@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}]
grants: [{party: "group:crew", resource: file:kit, role: view, from: 2026-11-01, until: 2027-02-28, sponsor: ben}]
`)
	carry(t, s)
	a, err := addr.Parse("a@ilvane.example")
	check(t, err)
	steps, _ := s.State().Sequences().Of(a)
	var told []string
	for _, st := range steps {
		told = append(told, st.At.String()+" "+st.Kind.String()+" "+st.Cause.String())
	}
	if got, want := fmt.Sprint(told), "[2027-03-01T00:00:00Z suspended after_last_grant 2027-03-30T23:00:00Z removed grace]"; got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	c.at = time.Date(2027, 2, 20, 9, 0, 0, 0, time.UTC)
	if out := carry(t, s); out.Steps != 0 || !decide(t, s, "a@ilvane.example", "files.open", "file:kit") {
		t.Errorf("%d steps are carried out while the group's grant is in force", out.Steps)
	}
	c.at = time.Date(2027, 3, 2, 9, 0, 0, 0, time.UTC)
	carry(t, s)
	if got := strings.Join(journaled(t, s, "step"),
		"; "); got != "wexillum a@ilvane.example: the record is suspended: no grant is left; late: due at 2027-03-01T00:00:00Z" {
		t.Errorf("%s", got)
	}
}

// TestMissing says ahead what a later step would need: a purpose, a licence, a location, a
// place to sign in, an end that holds.
func TestMissing(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, strings.Replace(guestWorld, "spaces: [",
		"spaces: [{id: figures, name: Figures, kind: report_area, owners: [uma], items: [{id: visits, kind: report, name: Visits}]}, ", 1))
	load(t,
		s,
		"wexillum: 1\nrules: {reports.given_to: {default: newcomers}}\npartners: [{id: own, name: Own, domains: [own.example], opened: {directory.in: yes, spaces.in: yes, reports.in: yes}, rules: {directory.sign_in: [partner]}, stance: {directory.in: {says: admits}, spaces.in: {says: admits}}}]\n")
	for _, x := range []struct {
		named string
		x     Invitation
		want  string
	}{
		{"nothing", Invitation{List: "a@ilvane.example", Into: "space:dossier", Purpose: "the loan", Until: "+30d"}, "[]"},
		{"a purpose, and an end that is too late", Invitation{List: "a@ilvane.example", Into: "space:dossier", Until: "+90d"},
			"[purpose: an invitation says what it is for until: the record is suspended before, 2027-01-23T00:00:00Z (term)]"},
		{"a licence", Invitation{List: "a@ilvane.example", Into: "space:figures", Purpose: "the year", Until: "+30d"},
			"[licence: no licence route counts for ilvane (reports.licence): theirs, ours with a location, or one of the area's own]"},
		{"a location", Invitation{List: "a@ilvane.example", Into: "space:figures", Purpose: "the year", Until: "+30d", Licence: "ours"},
			"[location: a licence that we buy needs the guest's location licence: no licence route counts for ilvane (reports.licence): theirs, ours with a location, or one of the area's own]"},
		{"their licence", Invitation{List: "a@ilvane.example", Into: "space:figures", Purpose: "the year", Until: "+30d", Licence: "theirs"},
			"[]"},
		{"a place to sign in", Invitation{List: "a@own.example", Into: "space:dossier", Purpose: "the loan", Until: "+30d"},
			"[sign-in: Own's people sign in at their own organisation alone (directory.sign_in), and nobody has said where that is]"},
	} {
		x.x.As = "uma"
		out, err := s.Invite(t.Context(), keeper, x.x, true)
		check(t, err)
		if got := fmt.Sprint(out.Missing); got != x.want || out.Counts["invited"] != 1 {
			t.Errorf("%s: %s, %v\nwant %s", x.named, got, out.Counts, x.want)
		}
	}
}

// TestAbout lists what the journal holds about one address, and not about others that read
// alike.
func TestAbout(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, guestWorld+`guests:
  - {address: a_b@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}
  - {address: axb@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}
  - {address: "a%b!@ilvane.example", sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}
grants:
  - {party: a_b@ilvane.example, resource: file:kit, role: view, from: 2026-11-01, sponsor: ben}
  - {party: axb@ilvane.example, resource: file:kit, role: view, from: 2026-11-01, sponsor: ben}
  - {party: "a%b!@ilvane.example", resource: file:kit, role: view, from: 2026-11-01, sponsor: ben}
`)
	for _, a := range []string{"a_b@ilvane.example", "axb@ilvane.example", "a%b!@ilvane.example", "b@ilvane.example"} {
		es, err := s.Journal(t.Context(), store.JournalQuery{About: a, Limit: 100})
		check(t, err)
		var got []string
		for _, e := range es {
			got = append(got, e.Kind+" "+e.ID)
		}
		want := []string{"grant " + a + " file:kit view 2026-11-01T00:00:00Z", "guest " + a}
		if a == "b@ilvane.example" {
			want = nil
		}
		if fmt.Sprint(sortedCopy(got)) != fmt.Sprint(want) {
			t.Errorf("%s: %q, want %q", a, got, want)
		}
	}
}
