package service

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"
	"sync"
	"testing"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
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

// TestInvite invites a list in which everything occurs, and follows one of them until they
// are forgotten.
func TestInvite(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, guestWorld)
	ctx := t.Context()
	if _, err := s.Load(ctx, "test", "", "test", []byte("wexillum: 1\nguests: [{address: uma@ours.example, sponsor: ben}]\n"), false); err == nil || !strings.Contains(err.Error(), "our people do not become guests") {
		t.Errorf("one of ours as a guest: %v", err)
	}
	carry(t, s)
	x := Invitation{List: "Maren Holtveig <maren@ilvane.example>\nnils@ilvane.example; nils@ilvane.example\nh@shut.example\nosric@homepost.example\numa@ours.example\nnot an address",
		Into: "space:dossier", Role: "contribute", Purpose: "the astrolabe", Sponsor: "ben", As: "uma", Until: "+30d"}
	told := func(in *Invited) string {
		var out []string
		for _, l := range in.Lines {
			line := fmt.Sprintf("%d %s %s", l.Number, l.Verdict, l.Done)
			for _, k := range l.Causes {
				line += " " + k.Code.String()
			}
			out = append(out, line)
		}
		return strings.Join(out, "; ")
	}
	want := "1 yes invited; 2 yes invited; 2 duplicate ; 3 no  not_opened not_opened; 4 no  rule_short; 5 own ; 6 malformed "
	ahead, err := s.Invite(ctx, keeper, x, true)
	check(t, err)
	if got := told(ahead); got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
	if s.State().Counts().Guests != 0 {
		t.Error("the preview invited somebody")
	}
	if len(ahead.Opens) != 1 || ahead.Opens[0].Count != 2 {
		t.Fatalf("opens: %+v", ahead.Opens)
	}
	opened, wide := Opened(ahead.Opens[0].Lines)
	if opened < 5 || wide < 1 || len(ahead.Narrower) != 3 {
		t.Errorf("opens %d and %d, narrower %+v", opened, wide, ahead.Narrower)
	}
	for _, n := range ahead.Narrower {
		if n.Opened >= opened {
			t.Errorf("%s opens %d, not less than %d", n.Text, n.Opened, opened)
		}
	}
	var dates []string
	for _, st := range ahead.Opens[0].Steps {
		dates = append(dates, st.At.String()+" "+st.Kind.String()+" "+st.Cause.String())
	}
	if got, want := strings.Join(dates, "; "), "2026-12-08T00:00:00Z invitation_lapses invite_days; 2026-12-24T00:00:00Z grant_ends until; 2026-12-24T00:00:00Z suspended after_last_grant; 2027-01-23T00:00:00Z removed grace"; got != want {
		if want = strings.Replace(want, "2026-12-24T00:00:00Z suspended after_last_grant; 2027-01-23T00:00:00Z removed grace", "2027-01-23T00:00:00Z suspended term; 2027-02-22T00:00:00Z removed grace", 1); got != want {
			t.Errorf("dates %s", got)
		}
	}
	done, err := s.Invite(ctx, keeper, x, false)
	check(t, err)
	if got := told(done); got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
	again, err := s.Invite(ctx, keeper, x, false)
	check(t, err)
	if got, want := told(again), "1 already ; 2 already ; 2 duplicate ; 3 no  not_opened not_opened; 4 no  rule_short; 5 own ; 6 malformed "; got != want {
		t.Errorf("again: %s", got)
	}

	// The mail, tried twice: the same message both times.
	post := &box{fail: 1}
	s.SetAddress("https://door.example")
	n, err := s.SendWaiting(ctx, post)
	check(t, err)
	first, err := s.Outbox(ctx, "", "waiting", 0, 10)
	check(t, err)
	if n != 1 || len(first) != 1 || first[0].Tries != 1 || first[0].Error != "not now" {
		t.Fatalf("%d sent, waiting %+v", n, first)
	}
	if n, err = s.SendWaiting(ctx, post); n != 0 || err != nil {
		t.Errorf("it is tried again at once: %d %v", n, err)
	}
	c.forward(time.Minute)
	if n, err = s.SendWaiting(ctx, post); n != 1 || err != nil || post.got[1].id != first[0].MessageID {
		t.Fatalf("the second try: %d %v, %+v", n, err, post.got)
	}
	if got, want := post.told(), "maren@ilvane.example: Uma invites you to Small; nils@ilvane.example: Uma invites you to Small"; got != want {
		t.Errorf("%s", got)
	}
	var letter boxed
	for _, m := range post.got {
		if m.to == "maren@ilvane.example" {
			letter = m
		}
	}
	for _, want := range []string{"Hello Maren Holtveig", "- Dossier: view and contribute", "until the end of 23 December 2026", "https://door.example/door"} {
		if !strings.Contains(letter.Text, want) || !strings.Contains(letter.HTML, strings.TrimPrefix(want, "- ")) {
			t.Errorf("the letter lacks %q: %s", want, letter.Text)
		}
	}
	key := linkIn.FindStringSubmatch(letter.Text)[1]
	entries, err := s.Journal(ctx, store.JournalQuery{Limit: 5000})
	check(t, err)
	for _, e := range entries {
		if strings.Contains(string(e.Was)+string(e.Now)+e.Why, key) {
			t.Errorf("the secret of the link stands in entry %d", e.Seq)
		}
	}

	// The door.
	in, err := s.OpenDoor(ctx, key)
	check(t, err)
	if in.Masked != "m…@ilvane.example" || in.By != "Uma" || in.Organisation != "Small" {
		t.Errorf("%+v", in)
	}
	check(t, s.AskCode(ctx, Knock{Key: key}))
	post.got = nil
	_, err = s.SendWaiting(ctx, post)
	check(t, err)
	code := codeIn.FindString(post.got[0].Text)
	who, err := s.Prove(ctx, Knock{Key: key}, " "+strings.ToLower(code)+" ")
	check(t, err)
	if who.Since == 0 || who != (Who{Since: who.Since, Name: "guest:maren@ilvane.example", Role: RoleGuest, Guest: "maren@ilvane.example"}) {
		t.Errorf("%+v", who)
	}
	if decide(t, s, "maren@ilvane.example", "spaces.enter", "space:dossier") {
		t.Error("it reaches something before it was accepted")
	}
	if err := s.AcceptGuest(ctx, who, false, ""); err == nil {
		t.Error("accepted without the terms")
	}
	check(t, s.AcceptGuest(ctx, who, true, ""))
	if !decide(t, s, "maren@ilvane.example", "spaces.enter", "space:dossier") {
		t.Error("once accepted it reaches nothing")
	}
	if _, err := s.OpenDoor(ctx, key); !errors.Is(err, ErrNotFound) {
		t.Errorf("the link opens twice: %v", err)
	}

	// More time.
	if _, err := s.WishMore(ctx, who, "2027-02-10", "the spring"); err != nil {
		t.Fatal(err)
	}
	sponsor := Who{Name: "benny", Role: Member, Person: "ben"}
	if _, err := s.AnswerWish(ctx, Who{Name: "other", Role: Member, Person: "uma"}, "maren@ilvane.example", true, "", ""); !errors.Is(err, ErrNotFound) {
		t.Errorf("somebody else answers: %v", err)
	}
	w, err := s.AnswerWish(ctx, sponsor, "maren@ilvane.example", true, "2027-02-10", "")
	check(t, err)
	if w.State != "granted" {
		t.Errorf("%+v", w)
	}
	g, own, err := s.Guest(ctx, "maren@ilvane.example")
	check(t, err)
	if g.Until != moment.Never || own[0].Until.String() != "2027-02-11T00:00:00Z" || g.Renewed != s.Now() {
		t.Errorf("until %s, the grant until %s, renewed %s", g.Until, own[0].Until, g.Renewed)
	}

	_, err = s.SendWaiting(ctx, post)
	check(t, err)

	// Nils never accepts: the invitation lapses, two weeks after.
	c.at = time.Date(2026, 12, 8, 0, 0, 0, 0, time.UTC)
	if out := carry(t, s); out.Steps != 1 || out.Late != 0 {
		t.Errorf("%+v", out)
	}
	if _, _, err := s.Guest(ctx, "nils@ilvane.example"); !errors.Is(err, ErrNotFound) {
		t.Errorf("an invitation that lapsed is still there: %v", err)
	}

	// The term ends 60 days after it was renewed; the guest and the sponsor hear of it before.
	c.at = time.Date(2027, 1, 20, 12, 0, 0, 0, time.UTC)
	carry(t, s)
	post.got = nil
	for range 2 {
		s.warned.Store(nil)
		_, err := s.Warn(ctx, false)
		check(t, err)
	}
	_, err = s.SendWaiting(ctx, post)
	check(t, err)
	if got, want := post.told(), "ben@ours.example: One of your guests needs a look; maren@ilvane.example: Small: until 22 January 2027"; got != want {
		t.Errorf("%s", got)
	}
	c.at = time.Date(2027, 3, 1, 12, 0, 0, 0, time.UTC) // nobody carried anything out for weeks
	post.got = nil
	out := carry(t, s)
	_, err = s.SendWaiting(ctx, post)
	check(t, err)
	steps := journaled(t, s, "step")
	if want := []string{"wexillum nils@ilvane.example: the invitation lapses: not accepted in time",
		"wexillum maren@ilvane.example: the grant ends: its own end; late: due at 2027-02-11T00:00:00Z",
		"wexillum maren@ilvane.example: the record is suspended: the term without renewal is over; late: due at 2027-01-23T00:00:00Z",
		"wexillum maren@ilvane.example: the record is removed: the days of grace are over, after: the term without renewal is over; late: due at 2027-02-22T00:00:00Z"}; fmt.Sprint(sortedCopy(steps)) != fmt.Sprint(sortedCopy(want)) || out.Late != 3 {
		t.Errorf("%d late: %q", out.Late, steps)
	}
	if len(steps) == 4 && !strings.Contains(steps[1], "suspended") {
		t.Errorf("not in order: %q", steps)
	}
	if carry(t, s).Steps != 0 {
		t.Error("steps are carried out twice")
	}

	// Forgotten after the days of the setting; what was so is still answered.
	reached := func(who string) string {
		day, err := moment.Parse("2026-12-20T12:00:00Z")
		check(t, err)
		st, _, err := s.At(ctx, day)
		check(t, err)
		subject, err := engine.ParseWho(who)
		check(t, err)
		action, _ := engine.ParseAction("spaces.enter")
		v, err := st.Decide(&engine.Question{Subject: subject, Action: action, Resource: resourceOf("space:dossier"), At: day})
		check(t, err)
		return fmt.Sprint(v.Yes)
	}
	if reached("maren@ilvane.example") != "true" {
		t.Error("the past is not answered")
	}
	c.at = time.Date(2027, 6, 9, 12, 0, 0, 0, time.UTC)
	if n, err := s.Forget(ctx); n != 1 || err != nil { // the invitation that lapsed in December
		t.Fatalf("%d forgotten, %v", n, err)
	}
	c.at = time.Date(2027, 6, 10, 12, 0, 0, 0, time.UTC)
	if n, err := s.Forget(ctx); n != 1 || err != nil {
		t.Fatalf("%d forgotten, %v", n, err)
	}
	entries, err = s.Journal(ctx, store.JournalQuery{Limit: 5000})
	check(t, err)
	pseudonym := ""
	for _, e := range entries {
		text := fmt.Sprintf("%s %s %s %s %s", e.Who, e.ID, e.Was, e.Now, e.Why)
		for _, gone := range []string{"maren", "Maren", "nils", "astrolabe", "the spring"} {
			if strings.Contains(text, gone) {
				t.Errorf("entry %d still says %s: %s", e.Seq, gone, text)
			}
		}
		if e.Kind == "guest" && strings.Contains(e.Why, "grace") {
			pseudonym = e.ID
		}
	}
	if n, broken, err := s.VerifyJournal(ctx); err != nil || broken != nil || n != s.State().Head.Seq {
		t.Errorf("the journal: %d %+v %v", n, broken, err)
	}
	if pseudonym == "" || reached(pseudonym) != "true" || reached("maren@ilvane.example") != "false" {
		t.Errorf("the pseudonym %q reached %s, the address %s", pseudonym, reached(pseudonym), reached("maren@ilvane.example"))
	}
	rows, err := s.store.DB().QueryContext(ctx, "SELECT address FROM guest UNION SELECT party FROM `grant` UNION SELECT doc FROM record UNION SELECT recipient FROM outbox UNION SELECT doc FROM outbox")
	check(t, err)
	defer rows.Close()
	for rows.Next() {
		var text string
		check(t, rows.Scan(&text))
		if strings.Contains(text, "maren") || strings.Contains(text, "nils") {
			t.Errorf("a row still says %s", text)
		}
	}
	// Words cannot be changed under the cover of forgetting.
	_, err = s.store.DB().ExecContext(ctx, "UPDATE journal SET why = 'otherwise' WHERE salt IS NULL ORDER BY seq LIMIT 1")
	check(t, err)
	if _, broken, err := s.VerifyJournal(ctx); err != nil || broken == nil {
		t.Errorf("altered after it was forgotten, and it holds: %v", err)
	}
}

func sortedCopy(list []string) []string {
	out := append([]string(nil), list...)
	sort.Strings(out)
	return out
}

// TestRulesChangeWhileRunning shortens and lengthens a term while it runs: what falls due
// by the change happens with the change, and grace counts from then.
func TestRulesChangeWhileRunning(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, guestWorld+"guests: [{address: a@ilvane.example, sponsor: uma, since: 2026-10-01, accepted: 2026-10-01}, {address: b@ilvane.example, sponsor: uma, since: 2026-11-20, accepted: 2026-11-20}]\n")
	carry(t, s)
	c.forward(2 * time.Hour)
	carry(t, s)
	set := func(days string) {
		t.Helper()
		check(t, s.SetRule(t.Context(), "anna", "test", RuleChange{Rule: "guests.term_days", Default: days}))
	}
	state := func(a string) string {
		t.Helper()
		g, _, err := s.Guest(t.Context(), a)
		if errors.Is(err, ErrNotFound) {
			return "gone"
		}
		check(t, err)
		return fmt.Sprintf("%d %s %s", g.State, g.Cause, g.StateSince)
	}
	set("90")
	c.forward(24 * time.Hour)
	carry(t, s)
	if got := state("a@ilvane.example"); !strings.HasPrefix(got, "0 ") {
		t.Errorf("lengthened, and a is %s", got)
	}
	for range 8 { // nothing is due meanwhile, and it is noted how far that is so
		c.forward(time.Hour)
		carry(t, s)
	}
	set("20")
	carry(t, s)
	began := s.Now()
	if got := state("a@ilvane.example"); !strings.HasPrefix(got, "2 term ") {
		t.Errorf("shortened, and a is %s", got)
	}
	g, _, err := s.Guest(t.Context(), "a@ilvane.example")
	check(t, err)
	if d := began - g.StateSince; d < 0 || d > 61e6 {
		t.Errorf("suspended as of %s, it is %s", g.StateSince, began)
	}
	if got := state("b@ilvane.example"); !strings.HasPrefix(got, "0 ") {
		t.Errorf("b is %s", got)
	}
	set("90") // the record does not wake by itself
	c.forward(24 * time.Hour)
	carry(t, s)
	if got := state("a@ilvane.example"); !strings.HasPrefix(got, "2 term ") {
		t.Errorf("a is %s", got)
	}
	list, err := s.ChangeGuests(t.Context(), keeper, GuestChange{Do: BringBack, Addresses: []string{"a@ilvane.example"}, Reason: "needed"}, false)
	check(t, err)
	if !list[0].Done {
		t.Errorf("%+v", list[0])
	}
	set("20")
	carry(t, s)
	c.at = time.Date(2026, 12, 25, 23, 59, 0, 0, time.UTC)
	carry(t, s)
	if got := state("a@ilvane.example"); !strings.HasPrefix(got, "2 ") {
		t.Errorf("before the grace is over: %s", got)
	}
	c.at = time.Date(2026, 12, 26, 0, 0, 0, 0, time.UTC)
	carry(t, s)
	if got := state("a@ilvane.example"); got != "gone" {
		t.Errorf("after the grace: %s", got)
	}
}

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
		{Who{Name: "m", Role: Member, Person: "ben"}, GuestChange{Do: Suspend, Addresses: a}, "not found: there is no record of a@ilvane.example that you answer for"},
		{Who{Name: "m", Role: Member, Person: "uma"}, GuestChange{Do: Remove, Addresses: a}, "administrators and keepers do this"},
		{keeper, GuestChange{Do: BringBack, Addresses: a}, "it is not suspended"},
		{keeper, GuestChange{Do: Extend, Addresses: a, Until: "2028-01-01"}, `until "2028-01-01": one extension adds at most 180 days (guests.extend_days): until 2027-05-30T23:00:00Z`},
		{keeper, GuestChange{Do: Extend, Addresses: a, Until: "2026-11-25"}, "it ends later already"},
		{keeper, GuestChange{Do: Extend, Addresses: a, Until: "2026-01-25"}, `until "2026-01-25": it lies before now`},
		{Who{Name: "m", Role: Member, Person: "uma"}, GuestChange{Do: Extend, Addresses: a, Until: "2027-01-31", Grants: true}, "done"},
		{keeper, GuestChange{Do: Remind, Addresses: a}, "it has accepted already"},
		{keeper, GuestChange{Do: Remind, Addresses: []string{"i@ilvane.example"}}, "done"},
		{keeper, GuestChange{Do: Suspend, Addresses: []string{"i@ilvane.example"}}, "it is invited and reaches nothing yet; remove it to take the invitation back"},
		{keeper, GuestChange{Do: Suspend, Addresses: a}, "done"},
		{keeper, GuestChange{Do: Suspend, Addresses: a}, "it is suspended already"},
		{keeper, GuestChange{Do: BringBack, Addresses: a}, "done"},
		{keeper, GuestChange{Do: HandOver, Addresses: a, Sponsor: "nobody"}, `sponsor "nobody": there is no such person here`},
		{keeper, GuestChange{Do: HandOver, Addresses: a, Sponsor: "ben"}, "done"},
		{keeper, GuestChange{Do: EndGrant, Addresses: a, Resource: "file:kit"}, "it holds no grant on file:kit"},
		{keeper, GuestChange{Do: Confirm, Addresses: a}, "done"},
		{keeper, GuestChange{Do: End, Addresses: a}, "done"},
		{keeper, GuestChange{Do: BringBack, Addresses: a}, "a cause stands: its own end is over; extend it first"},
		{keeper, GuestChange{Do: Extend, Addresses: a, Until: "2027-01-31"}, "done"},
		{keeper, GuestChange{Do: BringBack, Addresses: a}, "done"},
		{keeper, GuestChange{Do: EndGrant, Addresses: a, Resource: "space:dossier"}, "done"},
		{keeper, GuestChange{Do: Confirm, Addresses: a}, "it holds no grant to confirm"},
		{keeper, GuestChange{Do: "forget", Addresses: a}, `do "forget": write one of [extend suspend bring_back end remove end_grant confirm hand_over describe invite_again remind]`},
	} {
		if got := do(x.who, x.x); got != x.want {
			t.Errorf("%s by %s: %s, want %s", x.x.Do, x.who.Name, got, x.want)
		}
	}
	reminded, err := s.Outbox(t.Context(), "i@ilvane.example", "", 0, 10)
	check(t, err)
	if g, _, err := s.Guest(t.Context(), "i@ilvane.example"); err != nil || len(reminded) != 1 || reminded[0].Kind != "invitation" || g.Since.String() != "2026-11-20T00:00:00Z" {
		t.Errorf("reminded: %+v, since %s, %v", reminded, g.Since, err)
	}
	before := s.State().Head
	ahead, err := s.ChangeGuests(t.Context(), keeper, GuestChange{Do: Remove, Addresses: []string{"a@ilvane.example", "x@ilvane.example", "l@ilvane.example"}}, true)
	check(t, err)
	if s.State().Head != before || len(ahead) != 3 || !ahead[0].Done || ahead[1].Done || ahead[1].Reason != "there is no record of it" || ahead[2].Lost < 1 {
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
	load(t, s, "wexillum: 1\nguests: [{address: l2@ilvane.example, sponsor: uma, since: 2026-10-01, accepted: 2026-10-02, origins: [shared], last_seen: 2026-11-20}]\ngrants: [{party: l2@ilvane.example, resource: page:notes, role: contribute, from: 2026-05-01, until: 2027-01-01}]\n")
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
	load(t, s, guestWorld+"guests: [{address: a@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}, {address: s@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01, state: suspended, state_since: 2026-11-10}]\n")
	ctx := t.Context()
	post := &box{}
	ask := func(a string) string {
		t.Helper()
		check(t, s.AskCode(ctx, Knock{Address: a}))
		post.got = nil
		_, err := s.SendWaiting(ctx, post)
		check(t, err)
		if len(post.got) == 0 {
			return ""
		}
		return codeIn.FindString(post.got[0].Text)
	}
	prove := func(a, code string) error {
		_, err := s.Prove(ctx, Knock{Address: a}, code)
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
			err := s.AskCode(ctx, Knock{Address: a})
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

// TestTwoSchedulers lets two services carry out the same steps on one database at the same
// time, and send the same mail: each step and each mail is once.
func TestTwoSchedulers(t *testing.T) {
	dsn := dbtest.DSN(t)
	a, ca := start(t, dsn)
	var world strings.Builder
	world.WriteString(guestWorld + "guests:\n")
	for i := range 300 {
		fmt.Fprintf(&world, "  - {address: g%d@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01, until: 2026-11-2%d}\n", i, 4+i%4)
	}
	world.WriteString("grants:\n")
	for i := range 300 {
		fmt.Fprintf(&world, "  - {party: g%d@ilvane.example, resource: space:dossier, role: view, from: 2026-11-01, until: 2026-11-2%d, sponsor: uma}\n", i, 4+i%4)
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

// TestGroupsKeepTheirGrants: what somebody holds through a group counts until its own end;
// nobody is asked to confirm it for one of them, so silence does not end it either.
func TestGroupsKeepTheirGrants(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, strings.NewReplacer("guests.review_days: {default: none}", "guests.review_days: {default: 30}", "guests.term_days: {default: 60}", "guests.term_days: {default: none}",
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
	if got := strings.Join(journaled(t, s, "step"), "; "); got != "wexillum a@ilvane.example: the record is suspended: no grant is left; late: due at 2027-03-01T00:00:00Z" {
		t.Errorf("%s", got)
	}
}

// TestMissing says ahead what a later step would need: a purpose, a licence, a location, a
// place to sign in, an end that holds.
func TestMissing(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, strings.Replace(guestWorld, "spaces: [", "spaces: [{id: figures, name: Figures, kind: report_area, owners: [uma], items: [{id: visits, kind: report, name: Visits}]}, ", 1))
	load(t, s, "wexillum: 1\nrules: {reports.given_to: {default: newcomers}}\npartners: [{id: own, name: Own, domains: [own.example], opened: {directory.in: yes, spaces.in: yes, reports.in: yes}, rules: {directory.sign_in: [partner]}, stance: {directory.in: {says: admits}, spaces.in: {says: admits}}}]\n")
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
		{"their licence", Invitation{List: "a@ilvane.example", Into: "space:figures", Purpose: "the year", Until: "+30d", Licence: "theirs"}, "[]"},
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

// TestTakenBack takes an invitation back: a member may, of those they answer for; neither the
// mail that waits nor the link that was sent is of any use then.
func TestTakenBack(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, guestWorld+"guests: [{address: a@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}]\n")
	ctx := t.Context()
	uma := Who{Name: "umy", Role: Member, Person: "uma"}
	post := &box{}
	s.SetAddress("https://door.example")
	_, err := s.Invite(ctx, uma, Invitation{List: "one@ilvane.example two@ilvane.example", Into: "space:dossier", Purpose: "a slip"}, false)
	check(t, err)
	remove := func(who Who, a string) string {
		t.Helper()
		list, err := s.ChangeGuests(ctx, who, GuestChange{Do: Remove, Addresses: []string{a}, Reason: "a slip"}, false)
		if err != nil {
			return err.Error()
		}
		return fmt.Sprint(list[0].Done, list[0].Reason)
	}
	if got := remove(uma, "two@ilvane.example"); got != "true" {
		t.Errorf("before it is sent: %s", got)
	}
	_, err = s.SendWaiting(ctx, post)
	check(t, err)
	if got, want := post.told(), "one@ilvane.example: Uma invites you to Small"; got != want {
		t.Fatalf("sent: %s", got)
	}
	key := linkIn.FindStringSubmatch(post.got[0].Text)[1]
	if _, err := s.OpenDoor(ctx, key); err != nil {
		t.Error(err)
	}
	if got, want := remove(Who{Name: "b", Role: Member, Person: "ben"}, "one@ilvane.example"), "not found: there is no record of one@ilvane.example that you answer for"; got != want {
		t.Errorf("by somebody else: %s", got)
	}
	if got := remove(uma, "one@ilvane.example"); got != "true" {
		t.Errorf("once it is sent: %s", got)
	}
	if got := remove(uma, "a@ilvane.example"); got != "falseadministrators and keepers do this" {
		t.Errorf("an accepted one: %s", got)
	}
	if _, err := s.OpenDoor(ctx, key); !errors.Is(err, ErrNotFound) {
		t.Errorf("the link of an invitation that was taken back: %v", err)
	}
	if err := s.AskCode(ctx, Knock{Key: key}); !errors.Is(err, ErrNotFound) {
		t.Errorf("and a code: %v", err)
	}
}

// TestNewcomers lets people in who were given something by name, and people who sign up:
// they get one record by proving that the mailbox is theirs, and it stays the only one.
func TestNewcomers(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, guestWorld+`barred: [{address: bad@ilvane.example, reason: test}]
grants:
  - {party: given@ilvane.example, resource: file:kit, role: view, from: 2026-11-01, until: 2027-01-01, sponsor: ben}
  - {party: over@ilvane.example, resource: file:kit, role: view, from: 2026-10-01, until: 2026-11-01, sponsor: ben}
  - {party: bad@ilvane.example, resource: file:kit, role: view, from: 2026-11-01, sponsor: ben}
links: [{id: k, item: file:kit, created: 2026-11-01, for: [named@ilvane.example, cy@shut.example], right: view, by: uma}]
`)
	ctx := t.Context()
	post := &box{}
	// enter returns what becomes of an address at the door: who answers for it and how it
	// came, or why not.
	enter := func(a string) string {
		t.Helper()
		check(t, s.AskCode(ctx, Knock{Address: a, Language: "pt"}))
		post.got = nil
		_, err := s.SendWaiting(ctx, post)
		check(t, err)
		post.got = slices.DeleteFunc(post.got, func(m boxed) bool { return m.to != a }) // of others' records more may come
		if len(post.got) == 0 {
			return "no code"
		}
		if !strings.Contains(post.got[0].Subject, "é o seu código") {
			t.Errorf("not in the language of the page: %s", post.got[0].Subject)
		}
		if _, err := s.Prove(ctx, Knock{Address: a, Language: "pt"}, codeIn.FindString(post.got[0].Text)); err != nil {
			return err.Error()
		}
		g, _, err := s.Guest(ctx, a)
		check(t, err)
		return fmt.Sprint(world.StateNames[g.State], " ", g.Origins, " ", g.Sponsor, " ", g.Language, " ", s.State().TermsOwed(g, s.Now()))
	}
	tell := func(when, want string) {
		t.Helper()
		var got []string
		for _, a := range []string{"given@ilvane.example", "named@ilvane.example", "over@ilvane.example", "bad@ilvane.example", "cy@shut.example", "new@ilvane.example", "ben@ours.example", "osric@homepost.example"} {
			name, _, _ := strings.Cut(a, "@")
			got = append(got, name+": "+enter(a))
		}
		if all := strings.Join(got, "; "); all != want {
			t.Errorf("%s: %s\nwant %s", when, all, want)
		}
	}
	tell("only records", "given: no code; named: no code; over: no code; bad: no code; cy: no code; new: no code; ben: no code; osric: no code")
	load(t, s, "wexillum: 1\nrules: {files.given_to: {default: newcomers}}\n")
	tell("newcomers", "given: active 2 ben pt true; named: active 2 uma pt true; over: no code; bad: no code; cy: no code; new: no code; ben: no code; osric: no code")
	load(t, s, "wexillum: 1\nrules: {directory.self_signup: {default: on}}\n")
	tell("sign-up", "given: active 2 ben pt true; named: active 2 uma pt true; over: suspended 16  pt true; bad: no code; cy: no code; new: active 16  pt true; ben: no code; osric: no code")

	// Given, and then invited: the same record.
	out, err := s.Invite(ctx, keeper, Invitation{List: "given@ilvane.example", Into: "space:dossier", Purpose: "more", As: "uma"}, false)
	check(t, err)
	g, own, err := s.Guest(ctx, "given@ilvane.example")
	check(t, err)
	if out.Counts["given"] != 1 || g.Origins != world.ByShare|world.ByInvitation || g.Sponsor != "ben" || len(own) != 2 || s.State().Counts().Guests != 4 {
		t.Errorf("%v, origins %d, sponsor %s, %d grants, %d records", out.Counts, g.Origins, g.Sponsor, len(own), s.State().Counts().Guests)
	}

	// Between the code and its use the ground goes away: nobody gets in.
	load(t, s, "wexillum: 1\nrules: {directory.self_signup: {default: on}}\n")
	check(t, s.AskCode(ctx, Knock{Address: "late@ilvane.example"}))
	post.got = nil
	_, err = s.SendWaiting(ctx, post)
	check(t, err)
	load(t, s, "wexillum: 1\nrules: {directory.self_signup: {default: off}}\n")
	if _, err := s.Prove(ctx, Knock{Address: "late@ilvane.example"}, codeIn.FindString(post.got[0].Text)); !errors.Is(err, ErrDenied) {
		t.Errorf("signed up after it was turned off: %v", err)
	}
	// Two windows at once make one record.
	load(t, s, "wexillum: 1\nrules: {directory.self_signup: {default: on}}\n")
	a, err := addr.Parse("twice@ilvane.example")
	check(t, err)
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			if _, err := s.SeenGuest(ctx, a, "", WayCode, ""); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	if n := strings.Count(strings.Join(journaled(t, s, "guest"), "\n"), "twice@ilvane.example: signed up"); n != 1 {
		t.Errorf("made %d times", n)
	}
	if _, err := s.Prove(ctx, Knock{Address: "twice@ilvane.example", Language: "xx"}, "x"); err == nil || !strings.Contains(err.Error(), "language") {
		t.Errorf("an unknown language: %v", err)
	}
}

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
	_, err := s.ChangeGuests(t.Context(), keeper, GuestChange{Do: Extend, Addresses: []string{"b@ilvane.example"}, Until: "2027-01-31", Grants: true, Reason: "goes on"}, false)
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
	if n != 131 || !strings.HasPrefix(digest, "130 of your guests need a look\n") || strings.Count(digest, "\n- ") != 100 || !strings.Contains(digest, "And 30 more guests.") {
		t.Errorf("%d messages; %s", n, digest)
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
	check(t, s.AcceptGuest(t.Context(), Who{Name: "guest:a@ilvane.example", Role: RoleGuest, Guest: "a@ilvane.example"}, true, "Somebody Else"))
	if g, _, err := s.Guest(t.Context(), "a@ilvane.example"); err != nil || g.Name != "Ada Lumb" {
		t.Errorf("the name is %q, %v", g.Name, err)
	}
	if got := s.State().Terms("en"); got != "New words." {
		t.Errorf("%s", got)
	}
}

// TestThreeServicesEndOnce lets three services carry out, on one database at the same time, that
// grants end because nobody confirmed them: each once.
func TestThreeServicesEndOnce(t *testing.T) {
	dsn := dbtest.DSN(t)
	a, ca := start(t, dsn)
	var world strings.Builder
	world.WriteString(strings.NewReplacer("guests.review_days: {default: none}", "guests.review_days: {default: 10}", "guests.term_days: {default: 60}", "guests.term_days: {default: none}").Replace(guestWorld) + "guests:\n")
	for i := range 62 {
		fmt.Fprintf(&world, "  - {address: g%d@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}\n", i)
	}
	world.WriteString("grants:\n")
	for i := range 62 {
		fmt.Fprintf(&world, "  - {party: g%d@ilvane.example, resource: space:dossier, role: view, from: 2026-11-01, until: 2027-11-20, sponsor: uma}\n", i)
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
