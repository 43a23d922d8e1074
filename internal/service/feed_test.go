package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/scim"
	"wexillum.example/internal/store"
)

const feedWorld = `
rules: {directory.feed_in: {limit: on, default: off}, guests.grace_days: {default: 10}, guests.sponsor: {default: optional}}
partners:
  - {id: league, name: League, domains: [league.example, fleet.example], opened: {directory.in: yes, spaces.in: yes}, rules: {directory.feed_in: on}}
guests:
  - {address: bo@league.example, name: Bo Reed, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}
  - {address: old.cy@fleet.example, name: Cy Vane, sponsor: ben, since: 2026-11-01, accepted: 2026-11-01}
grants:
  - {party: bo@league.example, resource: space:dossier, role: view, from: 2026-01-01, sponsor: uma}
`

// fed is a user as a feed tells of them.
func fed(t *testing.T, userName, more string) scim.User {
	t.Helper()
	u, err := scim.Read([]byte(fmt.Sprintf(`{"schemas":[%q],"userName":%q%s}`, scim.UserSchema, userName, more)))
	if err != nil {
		t.Fatal(err)
	}
	return u
}

// theFeed begins the feed of the league, on or watched, and returns who speaks for it.
func theFeed(t *testing.T, s *Service, state string) Who {
	t.Helper()
	ctx := t.Context()
	check(t, s.MakeAccount(ctx, "test", "it begins", Account{Name: "harbour", Role: string(Administrator)}, "low-water-2026"))
	text, err := s.BeginFeed(ctx, Who{Name: "harbour", Role: Administrator}, "league", "they come and go",
		FeedSet{State: &state, Sponsor: text("uma")})
	check(t, err)
	who, err := s.Bearer(ctx, text)
	check(t, err)
	if who.Role != PurposeFeed || feedOf(who) != "league" {
		t.Fatalf("who speaks: %+v", who)
	}
	return who
}

func text(s string) *string { return &s }

func statusOf(err error) string {
	var no *scim.Error
	if errors.As(err, &no) {
		return fmt.Sprintf("%d %s %s", no.Status, no.Type, no.Detail)
	}
	return outcome(err)
}

// record writes a record in short.
func record(t *testing.T, s *Service, a string) string {
	t.Helper()
	g, _, err := s.Guest(t.Context(), a)
	if err != nil || g == nil {
		return "none"
	}
	d, there := s.State().Dated(g, s.Now())
	if !there {
		return "gone"
	}
	state := strings.TrimSpace(world.StateNames[d.State] + " " + d.Cause)
	return fmt.Sprintf("%s %s %d %s", d.Name, state, d.Origins, d.Sponsor)
}

// TestFeed follows people through a partner's feed: new ones, one who is here already, closed, back, under another address, away and again;
// what is refused; the brake; and what the log and the journal say of it.
func TestFeed(t *testing.T) {
	s, clock := start(t, dbtest.DSN(t))
	load(t, s, guestWorld)
	load(t, s, "wexillum: 1"+feedWorld)
	ctx := t.Context()
	who := theFeed(t, s, FeedOn)
	create := func(userName, more string) string {
		t.Helper()
		x, err := s.FeedCreate(ctx, who, fed(t, userName, more))
		if err != nil {
			return statusOf(err)
		}
		return x.What
	}
	idOf := func(userName string) string {
		t.Helper()
		list, err := s.store.FedWith(ctx, "league", store.FedByName, strings.ToLower(userName))
		check(t, err)
		if len(list) != 1 {
			t.Fatalf("%s is told of %d times", userName, len(list))
		}
		return list[0].ID
	}
	change := func(userName, ops string) string {
		t.Helper()
		o, no := scim.ReadPatch([]byte(`{"schemas":["` + scim.PatchMessage + `"],"Operations":[` + ops + `]}`))
		if no != nil {
			t.Fatal(no)
		}
		x, err := s.FeedChange(ctx, who, idOf(userName), "", func(u scim.User) (scim.User, *scim.Error) { return u.Patch(o) })
		if err != nil {
			return statusOf(err)
		}
		return x.What
	}
	for _, c := range []struct{ name, more, want, record string }{
		{"Ada@League.example", `,"displayName":"Ada Low","preferredLanguage":"pt-PT, en","addresses":[{"country":"pt"}]`, "new",
			"Ada Low invited 8 uma"},
		{"bo@league.example", `,"displayName":"Bo B. Reed"`, "taken_over", "Bo B. Reed active 9 uma"},
		{"cvane",
			`,"name":{"givenName":"Cy","familyName":"Vane"},"emails":[{"value":"cy@fleet.example","primary":true},{"value":"x@else.example"}]`,
			"new", "Cy Vane invited 8 uma"},
		{"di@league.example", `,"active":false`, "nobody", "none"},
		{"ada@league.example", ``, "409 uniqueness ada@league.example is told of already", ""},
		{"ADA2", `,"emails":["ada@league.example"]`, "409 uniqueness ada@league.example is told of already", ""},
		{"eve", ``, `400 invalidValue no address: userName "eve" is no mail address`, ""},
		{"eve@else.example", ``, `400 invalidValue no address: userName "eve@else.example": else.example is no domain of League here`, ""},
		{"eve", `,"emails":[{"value":"a@league.example"},{"value":"b@league.example"}]`,
			`400 invalidValue no address: userName "eve" is no mail address`, ""},
	} {
		if got := create(c.name, c.more); !strings.HasPrefix(got, c.want) {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
		if a := map[string]string{"cvane": "cy@fleet.example"}[c.name]; c.record != "" {
			if a == "" {
				a = strings.ToLower(c.name)
			}
			if got := record(t, s, a); got != c.record {
				t.Errorf("%s: %s, want %s", a, got, c.record)
			}
		}
	}
	if g, _, err := s.Guest(ctx, "ada@league.example"); err != nil || g.Language != "pt" || g.Location != "PT" || g.Purpose == "" {
		t.Errorf("ada: %+v %v", g, err)
	}
	if got := change("di@league.example", `{"op":"replace","path":"active","value":true}`); got != FedNew {
		t.Errorf("put to use: %s", got)
	}
	if got := change("ada@league.example", `{"op":"replace","path":"displayName","value":"Ada Low"}`); got != FedSame {
		t.Errorf("nothing is otherwise: %s", got)
	}
	// Closed: the record is suspended, whatever else it rests on, removed after its grace, and woken where only the feed had closed it.
	if got := change("bo@league.example", `{"op":"replace","path":"active","value":false}`); got != FedClosed ||
		record(t, s, "bo@league.example") != "Bo B. Reed suspended home_closed 9 uma" {
		t.Errorf("closed: %s, %s", got, record(t, s, "bo@league.example"))
	}
	if decide(t, s, "bo@league.example", "spaces.enter", "space:dossier") {
		t.Error("closed there, and comes in here")
	}
	clock.forward(3 * 24 * time.Hour)
	if got := change("bo@league.example", `{"op":"replace","path":"active","value":true}`); got != FedBack ||
		record(t, s, "bo@league.example") != "Bo B. Reed active 9 uma" {
		t.Errorf("back: %s, %s", got, record(t, s, "bo@league.example"))
	}
	_, err := s.ChangeGuests(ctx, placeAdmin, GuestChange{Do: Suspend, Addresses: []string{"bo@league.example"}, Reason: "by hand"}, false)
	check(t, err)
	change("bo@league.example", `{"op":"replace","path":"active","value":false}`)
	if got := change("bo@league.example", `{"op":"replace","path":"active","value":true}`); got != FedStays ||
		!strings.HasPrefix(record(t, s, "bo@league.example"), "Bo B. Reed suspended by_hand") {
		t.Errorf("suspended by hand: %s, %s", got, record(t, s, "bo@league.example"))
	}
	// Taken away and told of again within the grace: the record is as it was, under another id. After it there is a new one.
	was := idOf("di@league.example")
	check(t, s.FeedDelete(ctx, who, was, ""))
	if _, err := s.FeedGet(ctx, who, was); !strings.HasPrefix(statusOf(err), "404") {
		t.Errorf("away: %v", err)
	}
	if got := record(t, s, "di@league.example"); got != " suspended home_closed 8 uma" {
		t.Errorf("away: %s", got)
	}
	if got := create("di@league.example", ""); got != FedBack || idOf("di@league.example") == was ||
		record(t, s, "di@league.example") != " invited 8 uma" {
		t.Errorf("told of again: %s %s", got, record(t, s, "di@league.example"))
	}
	check(t, s.FeedDelete(ctx, who, idOf("di@league.example"), ""))
	clock.forward(12 * 24 * time.Hour)
	if got := record(t, s, "di@league.example"); got != "none" {
		t.Errorf("after the grace: %s", got)
	}
	if got := create("di@league.example", ""); got != FedNew {
		t.Errorf("told of again after the grace: %s", got)
	}
	// Another address: the old record is closed, the new one comes, and the way to one record is told.
	if got := change("cvane", `{"op":"replace","path":"emails","value":[{"value":"cy.vane@league.example","primary":true}]}`); got != FedNew ||
		record(t, s, "cy@fleet.example") != "Cy Vane suspended home_closed 8 uma" ||
		record(t, s, "cy.vane@league.example") != "Cy Vane invited 8 uma" {
		t.Errorf("another address: %s, %s, %s", got, record(t, s, "cy@fleet.example"), record(t, s, "cy.vane@league.example"))
	}
	if twins, err := s.FeedTwins(ctx, "league"); err != nil || !slices.ContainsFunc(twins, func(x FedTwin) bool {
		return x.Fed == "cy.vane@league.example" && x.Guest == "old.cy@fleet.example" &&
			fmt.Sprint(x.Differs) == "[state: invited, active sponsor: uma, ben]"
	}) {
		t.Errorf("twins: %+v %v", twins, err)
	}
	// Versions.
	x, err := s.FeedGet(ctx, who, idOf("cvane"))
	check(t, err)
	same := func(u scim.User) (scim.User, *scim.Error) { u["title"] = "Mate"; return u, nil }
	if _, err := s.FeedChange(ctx, who, x.ID, `W/"1"`, same); !strings.HasPrefix(statusOf(err), "412") || x.Version != 2 {
		t.Errorf("an old version: %v, it is %d", err, x.Version)
	}
	if y, err := s.FeedChange(ctx, who, x.ID, `W/"2"`, same); err != nil || y.Version != 3 {
		t.Errorf("the right version: %+v %v", y, err)
	}
	// The brake: so many closings within a day, and no more until somebody says so.
	two := 2
	admin := Who{Name: "harbour", Role: Administrator}
	check(t, s.SetFeed(ctx, admin, "league", "to be safe", FeedSet{Brake: &two}))
	clock.forward(25 * time.Hour)
	for i := range 4 {
		create(fmt.Sprintf("p%d@league.example", i), "")
	}
	for i, want := range []string{FedClosed, FedClosed, "503  the feed has closed 2 accounts within a day"} {
		if got := change(fmt.Sprintf("p%d@league.example", i), `{"op":"replace","path":"active","value":false}`); !strings.HasPrefix(got, want) {
			t.Errorf("closing %d: %s, want %s", i, got, want)
		}
	}
	if err := s.FeedDelete(ctx, who, idOf("p3@league.example"), ""); !strings.HasPrefix(statusOf(err), "503") ||
		record(t, s, "p3@league.example") != " invited 8 uma" {
		t.Errorf("a braked removal: %v, %s", err, record(t, s, "p3@league.example"))
	}
	clock.forward(time.Second)
	check(t, s.ReleaseFeed(ctx, admin, "league", "a house of theirs closes"))
	clock.forward(time.Second)
	check(t, s.FeedDelete(ctx, who, idOf("p3@league.example"), ""))
	// Who is barred, a partner who is suspended, a rule that is off, a token that was renewed.
	load(t, s, "wexillum: 1\nbarred: [{address: q@league.example}]\n")
	if got := create("q@league.example", ""); got != "403  q@league.example is barred here" {
		t.Errorf("barred: %s", got)
	}
	load(t,
		s, "wexillum: 1\npartners: [{id: league, name: League, domains: [league.example, fleet.example], rules: {directory.feed_in: off}}]\n")
	if got := create("r@league.example", ""); !strings.HasPrefix(got, "403  “A partner's people feed” (directory.feed_in) is off for League") {
		t.Errorf("the rule is off: %s", got)
	}
	load(t,
		s,
		"wexillum: 1\npartners: [{id: league, name: League, domains: [league.example, fleet.example], standing: suspended, rules: {directory.feed_in: on}}]\n")
	if got := create("r@league.example", ""); got != "403  League is suspended." {
		t.Errorf("the partner is suspended: %s", got)
	}
	log, err := s.FeedLog(ctx, "league", false, "", true, 0, 100)
	check(t, err)
	if len(log) < 9 || log[0].What != "refused" || !slices.ContainsFunc(log, func(l store.FedLine) bool { return l.What == "braked" }) {
		t.Errorf("the log: %+v", log)
	}
	v, err := s.FeedOf(ctx, "league")
	if err != nil || v.Called != "League" || v.Shut != "League is suspended." || v.Most != 2 || v.Wrong == 0 || v.Count.All != 7 ||
		v.TokenEnds.IsZero() {
		t.Errorf("the feed: %+v %v", v, err)
	}
	next, err := s.RenewFeedToken(ctx, admin, "league", "it was told to too many")
	check(t, err)
	if list, err := s.store.Tokens(ctx, ""); err != nil || len(list) != 1 || next == "" {
		t.Errorf("tokens: %+v %v", list, err)
	}
	check(t, s.EndFeed(ctx, admin, "league", "they went", false))
	if got := record(t, s, "p1@league.example"); got != " suspended home_closed 8 uma" &&
		!strings.HasPrefix(record(t, s, "p2@league.example"), " invited 9") {
		t.Errorf("after the end: %s, %s", got, record(t, s, "p2@league.example"))
	}
	if got := record(t, s, "p2@league.example"); got != " invited 9 uma" {
		t.Errorf("after the end: %s", got)
	}
	if _, err := s.FeedCreate(ctx, who, fed(t, "s@league.example", "")); !strings.HasPrefix(statusOf(err), "403") {
		t.Errorf("ended: %v", err)
	}
	// Forgotten: neither what the feed said of them nor what was refused names them.
	check(t, s.change(ctx, "h", "they ask for it", func(_ *State, tx *store.Tx) error {
		_,
			err := tx.Forget("di@league.example")
		return err
	}))
	check(t, s.change(ctx, "h", "they ask for it", func(_ *State, tx *store.Tx) error {
		_,
			err := tx.Forget("ada@league.example")
		return err
	}))
	all, err := s.FeedLog(ctx, "league", false, "", false, 0, 1000)
	check(t, err)
	if got := fmt.Sprint(all); strings.Contains(got, "di@league.example") || strings.Contains(got, "ada@league.example") ||
		!strings.Contains(got, "p1@league.example") {
		t.Errorf("forgotten, and named: %s", got)
	}
	if _, broken, err := s.store.VerifyJournal(ctx); err != nil || broken != nil {
		t.Errorf("the journal: %v %v", broken, err)
	}
	if got := journaled(t, s, "feed"); !strings.Contains(strings.Join(got, "\n"), "they come and go") {
		t.Errorf("the journal: %s", got)
	}
}

// TestFeedWatched lets a feed tell of people before any record is touched: what would happen is shown, a few come first, then all.
func TestFeedWatched(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, guestWorld)
	load(t, s, "wexillum: 1"+feedWorld)
	ctx := t.Context()
	who := theFeed(t, s, FeedWatched)
	for i := range 250 {
		if _, err := s.FeedCreate(ctx, who, fed(t, fmt.Sprintf("p%03d@league.example", i), "")); err != nil {
			t.Fatal(err)
		}
	}
	for _, u := range []scim.User{fed(t, "bo@league.example", `,"displayName":"Bo Reed"`), fed(t, "z@league.example", `,"active":false`)} {
		if _, err := s.FeedCreate(ctx, who, u); err != nil {
			t.Fatal(err)
		}
	}
	if record(t, s, "p001@league.example") != "none" || record(t, s, "bo@league.example") != "Bo Reed active 0 uma" {
		t.Error("a watched feed touched records")
	}
	ahead, err := s.FeedPeople(ctx, "league", true, 0, 1000)
	check(t, err)
	would := map[string]int{}
	for i := range ahead {
		would[ahead[i].Would]++
	}
	if fmt.Sprint(would) != "map[new:250 nobody:1 taken_over:1]" {
		t.Errorf("what would happen: %v", would)
	}
	admin := Who{Name: "harbour", Role: Administrator}
	// A feed that was watched alone touches nobody as it ends, and goes on where it begins again.
	check(t, s.EndFeed(ctx, admin, "league", "they went", true))
	if record(t, s, "bo@league.example") != "Bo Reed active 0 uma" {
		t.Errorf("a watched feed ended, and touched records: %s", record(t, s, "bo@league.example"))
	}
	anew, err := s.BeginFeed(ctx, admin, "league", "they are back", FeedSet{Sponsor: text("uma")})
	check(t, err)
	who, err = s.Bearer(ctx, anew)
	check(t, err)
	few, err := s.ApplyFeed(ctx, admin, "league", "to try", 3)
	if err != nil || few.Done[FedNew] != 3 || few.Left != 249 {
		t.Errorf("a few first: %+v %v", few, err)
	}
	on := FeedOn
	check(t, s.SetFeed(ctx, admin, "league", "it looks right", FeedSet{State: &on, Consent: new(bool)}))
	stopped, cancel := context.WithCancel(ctx)
	cancel()
	if _, err := s.ApplyFeed(stopped, admin, "league", "all", 0); err == nil {
		t.Error("interrupted, and goes on")
	}
	all, err := s.ApplyFeed(ctx, admin, "league", "all", 0)
	if err != nil || fmt.Sprint(all.Done) != "map[new:247 nobody:1 taken_over:1]" || all.Left != 0 || all.Refused != 0 {
		t.Errorf("all: %+v %v", all, err)
	}
	if record(t, s, "p249@league.example") != " invited 8 uma" || record(t, s, "bo@league.example") != "Bo Reed active 9 uma" {
		t.Error("what was let in is not there")
	}
	// Nobody is asked first where both sides say so, and only then.
	load(t, s, "wexillum: 1\nrules: {directory.consent: {limit: silent, default: silent}}\n")
	if x, err := s.FeedCreate(ctx, who, fed(t, "one@league.example", "")); err != nil || x.What != FedNew ||
		record(t, s, "one@league.example") != " invited 8 uma" {
		t.Errorf("we alone: %s %v", record(t, s, "one@league.example"), err)
	}
	yes := true
	check(t, s.SetFeed(ctx, admin, "league", "they wrote so", FeedSet{Consent: &yes}))
	if x, err := s.FeedCreate(ctx, who, fed(t, "two@league.example", "")); err != nil || x.What != FedNew ||
		record(t, s, "two@league.example") != " active 8 uma" {
		t.Errorf("both: %s %v", record(t, s, "two@league.example"), err)
	}
	load(t, s, "wexillum: 1\nrules: {directory.consent: {limit: silent, default: ask}}\n")
	if x, err := s.FeedCreate(ctx, who, fed(t, "three@league.example", "")); err != nil || x.What != FedNew ||
		record(t, s, "three@league.example") != " invited 8 uma" {
		t.Errorf("they alone: %s %v", record(t, s, "three@league.example"), err)
	}
}
