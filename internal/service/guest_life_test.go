package service

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/store"
)

// peopled is a small world with a guest of every state.
const peopled = guestWorld + `guests:
  - {address: ada@ilvane.example, name: Ada, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01, terms: 2026-11-01, last_seen: 2026-11-22, origins: [invited]}
  - {address: bo@ilvane.example, name: Bo, sponsor: ben, since: 2026-10-01, accepted: 2026-10-01, origins: [shared], until: 2026-12-01}
  - {address: cy@ilvane.example, since: 2026-11-10, state: invited, origins: [requested]}
  - {address: dee@shut.example, name: Dee, sponsor: uma, since: 2026-10-20, accepted: 2026-10-20, state: suspended, state_since: 2026-11-20, origins: [invited]}
grants:
  - {party: ada@ilvane.example, resource: space:dossier, role: view, from: 2026-11-01, until: 2027-01-10, sponsor: uma}
  - {party: bo@ilvane.example, resource: file:kit, role: view, from: 2026-11-01, sponsor: uma}
`

// TestInviteInto invites into everything that there is to invite into, and says why not.
func TestInviteInto(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, peopled)
	load(t, s, "wexillum: 1\nrules: {files.given_to: {default: newcomers}}\n")
	uma, ben := Who{Name: "umy", Role: Member, Person: "uma"}, Who{Name: "benny", Role: Member, Person: "ben"}
	for _, x := range []struct {
		named string
		who   Who
		x     Invitation
		want  string
	}{
		{"the directory", keeper, Invitation{List: "n1@ilvane.example", As: "uma"}, "n1@ilvane.example yes invited"},
		{"nothing said is the directory", uma, Invitation{List: "n2@ilvane.example"}, "n2@ilvane.example yes invited"},
		{"a group", keeper, Invitation{List: "n3@ilvane.example ada@ilvane.example", Into: "group:crew", As: "uma"},
			"n3@ilvane.example yes invited; ada@ilvane.example yes given"},
		{"a group again", keeper, Invitation{List: "ada@ilvane.example", Into: "group:crew", As: "uma"},
			"ada@ilvane.example already  In the group already."},
		{"a group, by a member", uma, Invitation{List: "n4@ilvane.example", Into: "group:crew"},
			`into "group:crew": administrators and keepers put people into groups`},
		{"no such group", keeper, Invitation{List: "n4@ilvane.example", Into: "group:none", As: "uma"},
			`into "group:none": there is no such group`},
		{"a file, by who owns its space", uma, Invitation{List: "n5@ilvane.example ada@ilvane.example", Into: "file:kit"},
			"n5@ilvane.example yes invited; ada@ilvane.example yes given"},
		{"a file again", uma, Invitation{List: "bo@ilvane.example", Into: "file:kit"},
			"bo@ilvane.example already  It was given this already, with the role view."},
		{"a file with more", uma, Invitation{List: "bo@ilvane.example", Into: "file:kit", Role: "contribute"}, "bo@ilvane.example yes given"},
		{"a file, by somebody else", ben, Invitation{List: "n6@ilvane.example", Into: "file:kit"},
			"n6@ilvane.example no  Ben is not a member of Dossier."},
		{"a page, which is passed on with its space", uma, Invitation{List: "n7@ilvane.example", Into: "page:notes", Role: "contribute"},
			"n7@ilvane.example yes invited"},
		{"no such item", uma, Invitation{List: "n8@ilvane.example", Into: "file:none"}, `into "file:none": there is no such file`},
		{"what nobody is invited into", uma, Invitation{List: "n8@ilvane.example", Into: "person:ben"},
			`into "person:ben": write directory, space:ID, group:ID or an item as folder:ID`},
		{"no such role", uma, Invitation{List: "n8@ilvane.example", Into: "space:dossier", Role: "own"},
			`role "own": write view, contribute or manage`},
		{"a suspended one", keeper, Invitation{List: "dee@shut.example", Into: "group:crew", As: "uma"},
			"dee@shut.example no  The record is suspended; bring it back before it is given anything."},
		{"for somebody else", uma, Invitation{List: "n8@ilvane.example", Sponsor: "ben"},
			`sponsor "ben": members invite as themselves and answer for whom they invite`},
		{"an end that is over", uma, Invitation{List: "n8@ilvane.example", Into: "space:dossier", Until: "2026-11-01"},
			`until "2026-11-01": it lies before now`},
		{"words that are too long", uma, Invitation{List: "n8@ilvane.example", Text: strings.Repeat("x", 4001)},
			`text "` + strings.Repeat("x", 40) + `…": at most 4000 letters`},
		{"nowhere to land", uma, Invitation{List: "n8@ilvane.example", Landing: "ftp://x"},
			`landing "ftp://x": write an address of the web, as https://suite.ours.example/loan`},
		{"nobody", uma, Invitation{List: " , "}, `list " , ": it holds no address`},
		{"no such sponsor", keeper, Invitation{List: "n8@ilvane.example", As: "uma", Sponsor: "zed"}, `sponsor "zed": there is no such person`},
	} {
		x.x.Purpose = "a test"
		out, err := s.Invite(t.Context(), x.who, x.x, false)
		got := ""
		if err != nil {
			got = err.Error()
		} else {
			var lines []string
			for _, l := range out.Lines {
				why := l.Reason
				for _, c := range l.Causes {
					why = c.Text()
				}
				lines = append(lines, strings.TrimSpace(fmt.Sprintf("%s %s %s %s", l.Address, l.Verdict, l.Done, why)))
			}
			got = strings.Join(lines, "; ")
		}
		if got != x.want {
			t.Errorf("%s: %s\nwant %s", x.named, got, x.want)
		}
	}
	if n := s.State().Counts().Guests; n != 4+5 {
		t.Errorf("%d records", n)
	}
	if !decide(t, s, "bo@ilvane.example", "files.edit", "file:kit") {
		t.Error("given more, and it cannot edit")
	}
}

// TestFindGuests asks for records by everything they can be found by.
func TestFindGuests(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, peopled)
	load(t,
		s,
		"wexillum: 1\ngroups: [{id: crew, name: Crew, parties: [cy@ilvane.example]}]\ngrants: [{party: \"group:crew\", resource: space:dossier, role: view, from: 2026-11-01}]\n")
	carry(t, s)
	ahead := func(days int) moment.Moment { return s.Now() + moment.Moment(days)*86400e6 }
	for _, x := range []struct {
		f    GuestFilter
		want string
	}{
		{GuestFilter{}, "ada bo cy dee"},
		{GuestFilter{Text: "b"}, "bo"},
		{GuestFilter{Text: "dee"}, "dee"},
		{GuestFilter{Partner: "shut"}, "dee"},
		{GuestFilter{Partner: "none"}, `partner "none": there is no such partner`},
		{GuestFilter{Sponsor: "uma"}, "ada dee"},
		{GuestFilter{State: "invited"}, "cy"},
		{GuestFilter{State: "gone"}, `state "gone": write active, invited, suspended`},
		{GuestFilter{Origin: "shared"}, "bo"},
		{GuestFilter{Origin: "bought"}, `origin "bought": write invited, shared, requested, fed, signed_up`},
		{GuestFilter{Space: "dossier"}, "ada bo cy"},
		{GuestFilter{Space: "none"}, `space "none": there is no such space`},
		{GuestFilter{ByEnd: true}, "cy bo dee ada"},
		{GuestFilter{ByEnd: true, Until: ahead(20)}, "cy bo"},
		{GuestFilter{Needs: "sponsor"}, "cy"},
		{GuestFilter{Needs: "grant"}, "dee"},
		{GuestFilter{Needs: "seen"}, "bo"},
		{GuestFilter{Needs: "terms"}, "bo"},
		{GuestFilter{Needs: "time"}, ""},
		{GuestFilter{Needs: "mail"}, ""},
		{GuestFilter{Needs: "love"}, `needs "love": write sponsor, grant, seen, terms, time, mail`},
	} {
		if x.f.Until == 0 {
			x.f.Until = moment.Never
		}
		list, err := s.FindGuests(t.Context(), s.State(), &x.f)
		got := ""
		if err != nil {
			got = err.Error()
		} else {
			var names []string
			for i := range list.Len() {
				name, _, _ := strings.Cut(list.Address(i), "@")
				names = append(names, name)
			}
			got = strings.Join(names, " ")
		}
		if got != x.want {
			t.Errorf("%+v: %s, want %s", x.f, got, x.want)
		}
	}
}

// TestMergeWhole moves everything that one of two addresses holds, and refuses what cannot
// be one record.
func TestMergeWhole(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, strings.Replace(peopled, "{id: crew, name: Crew}", "{id: crew, name: Crew, parties: [bo@ilvane.example]}, {id: both, name: Both, parties: [ada@ilvane.example, bo@ilvane.example]}", 1)+`links:
  - {id: one, item: file:kit, created: 2026-11-01, for: [bo@ilvane.example], right: contribute, by: uma}
  - {id: two, item: file:kit, created: 2026-11-01, for: [bo@ilvane.example, ada@ilvane.example], right: view, by: uma}
`)
	load(t,
		s,
		"wexillum: 1\ngrants: [{party: bo@ilvane.example, resource: space:dossier, role: view, from: 2026-11-01, until: 2027-03-01, sponsor: ben}]\n")
	ctx := t.Context()
	try := func(from, into string, preview bool) string {
		t.Helper()
		m, err := s.MergeGuests(ctx, keeper, from, into, "they said so", preview)
		if err != nil {
			return err.Error()
		}
		return fmt.Sprintf("%d grants, %d groups, %d actions, then %d", m.Grants, m.Groups, m.Was, m.Will)
	}
	for _, x := range []struct{ from, into, want string }{
		{"bo@ilvane.example", "bo@ilvane.example", `into "bo@ilvane.example": name two addresses`},
		{"bo@ilvane.example", "nobody@ilvane.example", "not found: there is no record of nobody@ilvane.example"},
		{"nobody@ilvane.example", "bo@ilvane.example", "not found: there is no record of nobody@ilvane.example"},
		{"bo@ilvane.example", "dee@shut.example", "conflict: dee@shut.example is suspended; bring it back first, or merge the other way"},
		{"bo", "ada@ilvane.example", `from "bo": "bo" is no address: there is no @ (at position 3)`},
	} {
		if got := try(x.from, x.into, false); got != x.want {
			t.Errorf("%s into %s: %s, want %s", x.from, x.into, got, x.want)
		}
	}
	before := s.State().Head
	ahead := try("bo@ilvane.example", "ada@ilvane.example", true)
	if s.State().Head != before {
		t.Error("the preview changed something")
	}
	if got := try("bo@ilvane.example", "ada@ilvane.example", false); got != ahead || !strings.HasPrefix(got, "2 grants, 1 groups, ") {
		t.Errorf("%s, ahead %s", got, ahead)
	}
	g, own, err := s.Guest(ctx, "ada@ilvane.example")
	check(t, err)
	var held []string
	for _, x := range own {
		held = append(held, fmt.Sprintf("%s %s %s", x.Resource, x.Role, x.Until))
	}
	if got, want := strings.Join(held, "; "), "space:dossier view 2027-03-02T00:00:00Z; file:kit view never"; got != want {
		t.Errorf("holds %s\nwant %s", got, want)
	}
	if g.Origins != 3 || g.Sponsor != "uma" || g.Until.String() != "2026-12-02T00:00:00Z" || g.Since.String() != "2026-09-30T23:00:00Z" {
		t.Errorf("%+v", g)
	}
	groups, err := s.GroupsHolding(ctx, g.Address)
	check(t, err)
	links, err := s.LinksFor(ctx, g.Address)
	check(t, err)
	if len(groups) != 2 || len(links) != 2 {
		t.Errorf("groups %+v, links %+v", groups, links)
	}
	for _, x := range groups {
		if len(x.Parties) != 1 {
			t.Errorf("the group %s holds %v", x.ID, x.Parties)
		}
	}
	for _, l := range links {
		if len(l.For) != 1 {
			t.Errorf("the link %s names %v", l.ID, l.For)
		}
	}
	if _, err := s.GuestOf(ctx, "guest:bo@ilvane.example", s.State().Head.Seq); !errors.Is(err, ErrDenied) {
		t.Errorf("the other address still signs in: %v", err)
	}
}

// TestOwnPart lets guests do what is theirs, and nothing else.
func TestOwnPart(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, peopled)
	load(t,
		s,
		"wexillum: 1\npartners: [{id: ilvane, name: Ilvane, domains: [ilvane.example], opened: {directory.in: yes, spaces.in: yes, files.in: yes}, sign_in: {issuer: \"https://id.ilvane.example\", client: us}}]\n")
	ctx := t.Context()
	for name, in := range map[string]bool{"guest:ada@ilvane.example": true, "guest:cy@ilvane.example": true, "guest:dee@shut.example": false,
		"guest:nobody@ilvane.example": false, "ada@ilvane.example": false, "guest:x": false} {
		if who, err := s.GuestOf(ctx, name, s.State().Head.Seq); (err == nil) != in || in && who.Role != RoleGuest ||
			!in && !errors.Is(err, ErrDenied) {
			t.Errorf("%s: %+v %v", name, who, err)
		}
	}
	ada := Who{Name: "guest:ada@ilvane.example", Role: RoleGuest, Guest: "ada@ilvane.example"}
	for _, x := range []struct{ until, text, want string }{
		{"", "", `text "": say what you need the time for, in 1 to 1000 letters`},
		{"2026-01-01", "more", `until "2026-01-01": write a day that lies ahead, as 2027-06-30`},
		{"soon", "more", `until "soon": write a day that lies ahead, as 2027-06-30`},
		{"+14d", "more", ""},
	} {
		_, err := s.WishMore(ctx, ada, x.until, x.text)
		if got := fmt.Sprint(err); got != x.want && !(err == nil && x.want == "") {
			t.Errorf("%q %q: %s", x.until, x.text, got)
		}
	}
	w, err := s.WishOf(ctx, "ada@ilvane.example")
	check(t, err)
	if w.Until != "2026-12-07" || w.State != "open" {
		t.Errorf("%+v", w)
	}
	c.forward(72 * time.Hour) // it is answered days later, and means the day that was meant
	uma := Who{Name: "umy", Role: Member, Person: "uma"}
	if _, err := s.AnswerWish(ctx, uma, "ada@ilvane.example", false, "", " "); err == nil ||
		err.Error() != `text "": say why not; they read it` {
		t.Errorf("no without a word: %v", err)
	}
	post := &box{}
	_, err = s.AnswerWish(ctx, uma, "ada@ilvane.example", false, "", "the loan is over")
	check(t, err)
	_, err = s.SendWaiting(ctx, post)
	check(t, err)
	if len(post.got) != 1 || !strings.Contains(post.got[0].Text, "Uma answers:\n\n> the loan is over") {
		t.Errorf("%+v", post.got)
	}
	if _, err := s.AnswerWish(ctx, uma, "ada@ilvane.example", true, "", ""); !errors.Is(err, ErrNotFound) {
		t.Errorf("answered twice: %v", err)
	}
	// Yes means the day that they asked for. It never shortens: a record without an end of its
	// own begins its term anew, and grants that end later stay.
	for _, x := range []struct{ until, want string }{{"+20d", "never 2027-01-11T00:00:00Z 2027-01-11T00:00:00Z"},
		{"2027-02-20", "never 2027-02-21T00:00:00Z 2027-01-26T00:00:00Z"}} {
		_, err = s.WishMore(ctx, ada, x.until, "more")
		check(t, err)
		_, err = s.AnswerWish(ctx, uma, "ada@ilvane.example", true, "", "")
		check(t, err)
		g, own, err := s.Guest(ctx, "ada@ilvane.example")
		check(t, err)
		steps, _ := s.State().Sequences().Of(g.Address)
		out := moment.Never
		for _, st := range steps {
			if st.Kind.String() == "suspended" {
				out = st.At
			}
		}
		if got := fmt.Sprint(g.Until, " ", own[0].Until, " ", out); got != x.want {
			t.Errorf("until %s: %s, want %s", x.until, got, x.want)
		}
	}
	for language, want := range map[string]string{"pt": "<nil>", "": `language "": write en, pt`, "xx": `language "xx": write en, pt`} {
		if got := fmt.Sprint(s.SpeakGuest(ctx, ada, language)); got != want {
			t.Errorf("language %q: %s", language, got)
		}
	}
	// The partner's own sign-in lets in whom it names, at its own domains alone.
	for address, want := range map[string]string{"ada@ilvane.example": "ilvane https://id.ilvane.example us",
		"x@shut.example":    "not found: sign in with a code that we mail to you",
		"x@nowhere.example": "not found: sign in with a code that we mail to you"} {
		in, err := s.SignInOf(address)
		got := fmt.Sprint(err)
		if err == nil {
			got = in.Partner + " " + in.Issuer + " " + in.Client
		}
		if got != want {
			t.Errorf("the sign-in of %s: %s", address, got)
		}
	}
	for _, x := range []struct {
		partner, address string
		in               bool
	}{{"ilvane", "ada@ilvane.example", true}, {"shut", "ada@ilvane.example", false}, {"ilvane", "dee@shut.example", false},
		{"ilvane", "new@ilvane.example", false}} {
		if _, err := s.PartnerProved(ctx, x.partner, SigningIn{Address: x.address}); (err == nil) != x.in {
			t.Errorf("%s says %s: %v", x.partner, x.address, err)
		}
	}
	load(t,
		s,
		"wexillum: 1\nrules: {files.given_to: {default: newcomers}}\nlinks: [{id: k, item: file:kit, created: 2026-11-01, for: [new@ilvane.example], right: view, by: ben}]\n")
	if _, err := s.PartnerProved(ctx, "ilvane", SigningIn{Address: "new@ilvane.example"}); err != nil {
		t.Errorf("a newcomer by the partner's own sign-in: %v", err)
	}
	if g, _, err := s.Guest(ctx, "new@ilvane.example"); err != nil || g.Origins != 2 || g.Sponsor != "ben" {
		t.Errorf("%+v %v", g, err)
	}
	// Leaving, where the rules let them.
	load(t, s, "wexillum: 1\nrules: {directory.leave: {default: off}}\n")
	if err := s.LeaveGuest(ctx, ada); !errors.Is(err, ErrConflict) || !strings.Contains(err.Error(), "directory.leave") {
		t.Errorf("%v", err)
	}
	load(t, s, "wexillum: 1\nrules: {directory.leave: {default: on}}\n")
	check(t, s.LeaveGuest(ctx, ada))
	if _, err := s.GuestOf(ctx, ada.Name, s.State().Head.Seq); !errors.Is(err, ErrDenied) ||
		decide(t, s, "ada@ilvane.example", "spaces.enter", "space:dossier") {
		t.Errorf("left, and it is still in: %v", err)
	}
}

// TestOffersDeclined offers guests to a successor who declines, and to people who cannot.
func TestOffersDeclined(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, strings.Replace(peopled, "{id: ben,", "{id: gone, name: Gone, left: 2026-11-01}, {id: ben,", 1))
	ctx := t.Context()
	for successor, want := range map[string]string{"uma": `successor "uma": name another person of ours who is here`,
		"zed": `successor "zed": name another person of ours who is here`, "gone": `successor "gone": name another person of ours who is here`} {
		if _, err := s.PersonLeaves(ctx, keeper, "uma", "", successor, "a new post", false); fmt.Sprint(err) != want {
			t.Errorf("%s: %v", successor, err)
		}
	}
	if _, err := s.PersonLeaves(ctx, keeper, "zed", "", "ben", "x", false); !errors.Is(err, ErrNotFound) {
		t.Errorf("%v", err)
	}
	before := s.State().Head
	o, err := s.PersonLeaves(ctx, keeper, "uma", "+10d", "ben", "a new post", true)
	check(t, err)
	if o.Guests != 2 || o.Grants != 2 || s.State().Head != before {
		t.Errorf("ahead %+v", o)
	}
	o, err = s.PersonLeaves(ctx, keeper, "uma", "+10d", "ben", "a new post", false)
	check(t, err)
	if left := s.State().LeftAt("uma"); left.String() != "2026-12-04T00:00:00Z" {
		t.Errorf("leaves %s", left)
	}
	ben := Who{Name: "benny", Role: Member, Person: "ben"}
	x, err := s.AnswerOffer(ctx, ben, o.ID, false)
	check(t, err)
	if x.State != "declined" {
		t.Errorf("%+v", x)
	}
	if _, err := s.AnswerOffer(ctx, ben, o.ID, true); !errors.Is(err, ErrConflict) {
		t.Errorf("answered twice: %v", err)
	}
	if g, _, err := s.Guest(ctx, "ada@ilvane.example"); err != nil || g.Sponsor != "uma" {
		t.Errorf("declined, and %s answers for it: %v", g.Sponsor, err)
	}
	if list, err := s.Offers(ctx, ben); err != nil || len(list) != 0 {
		t.Errorf("%+v %v", list, err)
	}
}

// TestOfferTooLate: who was asked to take over and has left cannot any more. Who is suspended
// and extended hears of it when it is back.
func TestOfferTooLate(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, peopled)
	ctx := t.Context()
	o, err := s.PersonLeaves(ctx, keeper, "uma", "", "ben", "a new post", false)
	check(t, err)
	_, err = s.PersonLeaves(ctx, keeper, "ben", "", "", "too", false)
	check(t, err)
	if _, err := s.AnswerOffer(ctx, keeper, o.ID, true); !errors.Is(err, ErrConflict) || !strings.Contains(err.Error(), "ben has left us") {
		t.Errorf("%v", err)
	}
	post := &box{}
	_, err = s.SendWaiting(ctx, post)
	check(t, err)
	post.got = nil
	for _, x := range []GuestChange{{Do: Suspend}, {Do: Extend, Until: "+60d"}, {Do: BringBack}, {Do: Extend, Until: "+90d"}} {
		x.Addresses, x.Reason = []string{"bo@ilvane.example"}, "test"
		list, err := s.ChangeGuests(ctx, keeper, x, false)
		check(t, err)
		if !list[0].Done {
			t.Errorf("%s: %s", x.Do, list[0].Reason)
		}
		c.forward(time.Minute)
	}
	_, err = s.SendWaiting(ctx, post)
	check(t, err)
	var told []string
	for _, m := range post.got {
		told = append(told, strings.TrimPrefix(m.Subject, "Small: "))
	}
	// What is not so any more when it is sent is not told.
	if got, want := strings.Join(told, "; "), "your access is back; you have more time"; got != want {
		t.Errorf("%s", got)
	}
}

// TestWithoutPartner tells how dates would move if the connection with a partner ended, or
// if it were suspended.
func TestWithoutPartner(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, peopled)
	first := func(ended bool) string {
		t.Helper()
		was, will, _, err := s.WithoutPartner(t.Context(), s.State(), "ada@ilvane.example", ended)
		check(t, err)
		var out []string
		for _, x := range will {
			out = append(out, x.At.String()+" "+x.Kind.String()+" "+x.Cause.String())
		}
		return fmt.Sprint(len(was), " ", out)
	}
	if got, want := first(true), "[2026-11-23T09:00:00Z suspended partner_ended 2026-12-24T00:00:00Z removed grace]"; !strings.HasSuffix(got,
		want) {
		t.Errorf("ended: %s", got)
	}
	if got, want := first(false), "2027-01-01"; strings.Contains(got, "partner_ended") || !strings.Contains(got, want) {
		t.Errorf("suspended changes no record: %s", got)
	}
	for _, x := range []struct{ address, want string }{{"x", "no address"}, {"x@nowhere.example", "it belongs to no partner"},
		{"nobody@ilvane.example", "there is no record of nobody@ilvane.example"}} {
		if _, _, _, err := s.WithoutPartner(t.Context(), s.State(), x.address, true); err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: %v", x.address, err)
		}
	}
}

// TestCodesFirst sends codes before all that waits longer: somebody sits there.
func TestCodesFirst(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, peopled)
	ctx := t.Context()
	var list []store.Message
	for i := range 45 {
		list = append(list, store.Message{MessageID: fmt.Sprintf("m%d@ours.example", i), Once: fmt.Sprint("m", i),
			Recipient: "ada@ilvane.example", Kind: "back", Doc: []byte("{}"), Made: s.Now(), Due: s.Now()})
	}
	for range 2 { // the second time nothing is written
		n, err := s.store.PostAll(ctx, list)
		check(t, err)
		if want := len(list); n != want && n != 0 {
			t.Errorf("%d of %d messages are written", n, want)
		}
	}
	c.forward(time.Minute)
	check(t, s.AskCode(ctx, SigningIn{Address: "ada@ilvane.example"}))
	post := &box{}
	n, err := s.SendWaiting(ctx, post)
	check(t, err)
	if n != 46 || len(post.got) != 46 || !strings.Contains(post.got[0].Subject, "is your code") {
		t.Errorf("%d sent, the first is %q", n, post.got[0].Subject)
	}
}
