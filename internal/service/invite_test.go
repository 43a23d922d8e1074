package service

import (
	"errors"
	"fmt"
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
	"wexillum.example/internal/store"
)

// TestInvite invites a list in which everything occurs, and follows one of them until they
// are forgotten.
func TestInvite(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, guestWorld)
	ctx := t.Context()
	if _, err := s.Load(ctx, "test", "", "test", []byte("wexillum: 1\nguests: [{address: uma@ours.example, sponsor: ben}]\n"),
		false); err == nil || !strings.Contains(err.Error(), "our people do not become guests") {
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
	if got, want := strings.Join(dates, "; "),
		"2026-12-08T00:00:00Z invitation_lapses invite_days; 2026-12-24T00:00:00Z grant_ends until; 2026-12-24T00:00:00Z suspended after_last_grant; 2027-01-23T00:00:00Z removed grace"; got != want {
		if want = strings.Replace(want, "2026-12-24T00:00:00Z suspended after_last_grant; 2027-01-23T00:00:00Z removed grace",
			"2027-01-23T00:00:00Z suspended term; 2027-02-22T00:00:00Z removed grace", 1); got != want {
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
	if got, want := told(again),
		"1 already ; 2 already ; 2 duplicate ; 3 no  not_opened not_opened; 4 no  rule_short; 5 own ; 6 malformed "; got != want {
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
	for _, want := range []string{"Hello Maren Holtveig", "- Dossier: view and contribute", "until the end of 23 December 2026",
		"https://door.example/door"} {
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
	check(t, s.AskCode(ctx, SigningIn{Key: key}))
	post.got = nil
	_, err = s.SendWaiting(ctx, post)
	check(t, err)
	code := codeIn.FindString(post.got[0].Text)
	entered, err := s.Prove(ctx, SigningIn{Key: key}, " "+strings.ToLower(code)+" ")
	check(t, err)
	who := entered.Who
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
	if _, err := s.AnswerWish(ctx, Who{Name: "other", Role: Member, Person: "uma"}, "maren@ilvane.example", true, "", ""); !errors.Is(err,
		ErrNotFound) {
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
	if got, want := post.told(),
		"ben@ours.example: One of your guests needs a look; maren@ilvane.example: Small: until 22 January 2027"; got != want {
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
		"wexillum maren@ilvane.example: the record is removed: the days of grace are over, after: the term without renewal is over; late: due at 2027-02-22T00:00:00Z"}; fmt.Sprint(sortedCopy(steps)) != fmt.Sprint(sortedCopy(want)) ||
		out.Late != 3 {
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
	rows, err := s.store.DB().QueryContext(ctx,
		"SELECT address FROM guest UNION SELECT party FROM `grant` UNION SELECT doc FROM record UNION SELECT recipient FROM outbox UNION SELECT doc FROM outbox")
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
	load(t,
		s,
		guestWorld+"guests: [{address: a@ilvane.example, sponsor: uma, since: 2026-10-01, accepted: 2026-10-01}, {address: b@ilvane.example, sponsor: uma, since: 2026-11-20, accepted: 2026-11-20}]\n")
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
	list, err := s.ChangeGuests(t.Context(), keeper, GuestChange{Do: BringBack, Addresses: []string{"a@ilvane.example"}, Reason: "needed"},
		false)
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
	if got, want := remove(Who{Name: "b", Role: Member, Person: "ben"}, "one@ilvane.example"),
		"not found: there is no record of one@ilvane.example that you answer for"; got != want {
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
	if err := s.AskCode(ctx, SigningIn{Key: key}); !errors.Is(err, ErrNotFound) {
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
		check(t, s.AskCode(ctx, SigningIn{Address: a, Language: "pt"}))
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
		if _, err := s.Prove(ctx, SigningIn{Address: a, Language: "pt"}, codeIn.FindString(post.got[0].Text)); err != nil {
			return err.Error()
		}
		g, _, err := s.Guest(ctx, a)
		check(t, err)
		return fmt.Sprint(world.StateNames[g.State], " ", g.Origins, " ", g.Sponsor, " ", g.Language, " ", s.State().TermsOwed(g, s.Now()))
	}
	tell := func(when, want string) {
		t.Helper()
		var got []string
		for _, a := range []string{"given@ilvane.example", "named@ilvane.example", "over@ilvane.example", "bad@ilvane.example", "cy@shut.example",
			"new@ilvane.example", "ben@ours.example", "osric@homepost.example"} {
			name, _, _ := strings.Cut(a, "@")
			got = append(got, name+": "+enter(a))
		}
		if all := strings.Join(got, "; "); all != want {
			t.Errorf("%s: %s\nwant %s", when, all, want)
		}
	}
	tell("only records",
		"given: no code; named: no code; over: no code; bad: no code; cy: no code; new: no code; ben: no code; osric: no code")
	load(t, s, "wexillum: 1\nrules: {files.given_to: {default: newcomers}}\n")
	tell("newcomers",
		"given: active 2 ben pt true; named: active 2 uma pt true; over: no code; bad: no code; cy: no code; new: no code; ben: no code; osric: no code")
	load(t, s, "wexillum: 1\nrules: {directory.self_signup: {default: on}}\n")
	tell("sign-up",
		"given: active 2 ben pt true; named: active 2 uma pt true; over: suspended 16  pt true; bad: no code; cy: no code; new: active 16  pt true; ben: no code; osric: no code")

	// Given, and then invited: the same record.
	out, err := s.Invite(ctx, keeper, Invitation{List: "given@ilvane.example", Into: "space:dossier", Purpose: "more", As: "uma"}, false)
	check(t, err)
	g, own, err := s.Guest(ctx, "given@ilvane.example")
	check(t, err)
	if out.Counts["given"] != 1 || g.Origins != world.ByShare|world.ByInvitation || g.Sponsor != "ben" || len(own) != 2 ||
		s.State().Counts().Guests != 4 {
		t.Errorf("%v, origins %d, sponsor %s, %d grants, %d records", out.Counts, g.Origins, g.Sponsor, len(own), s.State().Counts().Guests)
	}

	// Between the code and its use the ground goes away: nobody gets in.
	load(t, s, "wexillum: 1\nrules: {directory.self_signup: {default: on}}\n")
	check(t, s.AskCode(ctx, SigningIn{Address: "late@ilvane.example"}))
	post.got = nil
	_, err = s.SendWaiting(ctx, post)
	check(t, err)
	load(t, s, "wexillum: 1\nrules: {directory.self_signup: {default: off}}\n")
	if _, err := s.Prove(ctx, SigningIn{Address: "late@ilvane.example"}, codeIn.FindString(post.got[0].Text)); !errors.Is(err, ErrDenied) {
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
	if _, err := s.Prove(ctx, SigningIn{Address: "twice@ilvane.example", Language: "xx"}, "x"); err == nil ||
		!strings.Contains(err.Error(), "language") {
		t.Errorf("an unknown language: %v", err)
	}
}
