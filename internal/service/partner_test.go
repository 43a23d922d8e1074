package service

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/domainlist"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/worldfile"
)

const pair = `wexillum: 1
organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}
rules: {chat.federation: {default: listed}, spaces.join_in: {default: listed}}
people: [{id: uma, name: Uma, address: uma@ours.example, roles: [administrator]}]
partners:
  - {id: lamps, name: Lamps, domains: [lamps.example, {name: works.lamps.example, subdomains: yes}], owner: uma, contact: desk@lamps.example, opened: {chat.in: yes, spaces.in: yes}, stance: {chat.in: {says: refuses, as_of: 2026-01-10}}}
  - {id: ropes, name: Ropes, domains: [ropes.example]}
spaces: [{id: dossier, name: Dossier, kind: team, owners: [uma], parties: ["partner:lamps"]}, {id: yard, name: Yard, kind: team, owners: [uma]}]
guests: [{address: a@lamps.example, name: A}, {address: b@x.works.lamps.example, name: B}, {address: c@ropes.example, name: C}, {address: d@else.example, name: D}]
grants:
  - {party: a@lamps.example, resource: space:dossier, role: view, from: 2026-01-01}
  - {party: b@x.works.lamps.example, resource: space:dossier, role: view, from: 2026-01-01}
  - {party: b@x.works.lamps.example, resource: space:yard, role: view, from: 2026-01-01}
`

func dumped(t *testing.T, s *Service) string {
	t.Helper()
	w, err := s.World(t.Context(), s.State().Head)
	check(t, err)
	return string(worldfile.Write(w))
}

// TestPreviews: each change of a partner says whom it concerns before it is made,
// and the preview writes nothing.
func TestPreviews(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, pair)
	before, head := dumped(t, s), s.State().Head
	try := By{Who: "test", Preview: true}
	say := func(w Weighed, err error) string {
		if err != nil {
			return err.Error()
		}
		return fmt.Sprintf("%d guests %d grants %d spaces", w.Concerns.Guests, w.Concerns.Grants, w.Concerns.Spaces)
	}
	moved := func(x Rearranged, err error) string { return say(x.Weighed, err) }
	listed := func(x Listed, err error) string { return say(Weighed{Concerns: x.Concerns}, err) }
	lines := func(text string) []domainlist.Line {
		l, err := domainlist.Read(strings.NewReader(text))
		check(t, err)
		return l
	}
	ctx := t.Context()
	for _, c := range [][2]string{
		{say(s.SetStanding(ctx, try, "lamps", "suspended")), "2 guests 3 grants 2 spaces"},
		{say(s.AddDomain(ctx, try, "ropes", "else.example", false, false)), "1 guests 0 grants 0 spaces"},
		{say(s.RemoveDomain(ctx, try, "lamps", "works.lamps.example")), "1 guests 2 grants 2 spaces"},
		{say(s.RemoveDomain(ctx, try, "lamps", "ropes.example")), `not found: ropes.example is no domain of "lamps"`},
		{say(s.PatchPartner(ctx, try, "lamps",
			[]byte(`{"id":"lamps","name":"Lamps","domains":["lamps.example"],"opened":{"chat.in":"yes","spaces.in":"yes"}}`))),
			"1 guests 2 grants 2 spaces"},
		{say(s.PatchPartner(ctx, try, "lamps",
			[]byte(`{"id":"lamps","name":"Lamps","domains":["lamps.example"],"opened":{"chat.in":"no","spaces.in":null}}`))),
			"1 guests 1 grants 1 spaces"},
		{say(s.AddPartner(ctx, try, "new", []byte(`{"id":"new","name":"New","domains":["else.example"]}`))), "1 guests 0 grants 0 spaces"},
		{moved(s.JoinPartners(ctx, try, "lamps", "ropes")), "2 guests 3 grants 2 spaces"},
		{moved(s.SplitPartner(ctx, try, "lamps", []string{"*.works.lamps.example"}, "works", "Works")), "1 guests 2 grants 2 spaces"},
		{moved(s.SplitPartner(ctx, try, "lamps", []string{"x.works.lamps.example"}, "works", "Works")), "1 guests 2 grants 2 spaces"},
		{moved(s.SplitPartner(ctx, try, "lamps", []string{"y.works.lamps.example"}, "Works!", "Works")),
			`id "Works!": an id has the letters a to z, digits, dot, underscore and hyphen, and begins with a letter or digit`},
		{moved(s.SplitPartner(ctx, try, "lamps", []string{"bad domain"}, "works", "Works")),
			`domain "bad domain": "bad domain" is no domain: there is a space in the domain (at position 4)`},
		{moved(s.JoinPartners(ctx, try, "lamps", "lamps")), `partner "lamps": "lamps" cannot be merged with itself`},
		{listed(s.ImportDomains(ctx, try, domainlist.OfBars, "", lines("*.lamps.example\nc@ropes.example"), false, false)),
			"2 guests 1 grants 1 spaces"},
		{listed(s.ImportDomains(ctx, try, domainlist.OfPersonal, "", lines("else.example"), false, false)), "1 guests 0 grants 0 spaces"},
		{listed(s.ImportDomains(ctx, try, domainlist.OfPartners, "lamps", lines("lamps.example"), true, false)), "1 guests 2 grants 2 spaces"},
	} {
		if c[0] != c[1] {
			t.Errorf("%s\nwant %s", c[0], c[1])
		}
	}
	if s.State().Head != head || dumped(t, s) != before {
		t.Error("a preview wrote something")
	}
}

// TestRearrange merges and splits in the database: records, stances and letters
// follow, what is read back is what was weighed, and a follower has it too.
func TestRearrange(t *testing.T) {
	dsn := dbtest.DSN(t)
	s, _ := start(t, dsn)
	load(t, s, pair)
	other, _ := start(t, dsn)
	sent, err := s.SendLetter(t.Context(), By{Who: "test"},
		world.Letter{Partner: "lamps", Keys: []catalogue.Key{catalogue.In(catalogue.Chat)}}, false, false)
	check(t, err)
	l := sent.Letter
	if l.To != "desk@lamps.example" || l.Answer != world.NoAnswer {
		t.Errorf("%+v", l)
	}
	_, err = s.SplitPartner(t.Context(), By{Who: "test"}, "lamps", []string{"*.works.lamps.example"}, "works", "Works")
	check(t, err)
	p, err := s.State().Partner("works")
	check(t, err)
	if len(p.Stance) != 1 || p.Stance[0].Says != world.SaysRefuses || s.State().Concerned("works").Guests != 1 {
		t.Errorf("%+v", p)
	}
	if got := dumped(t, s); !strings.Contains(got, `parties: ["partner:lamps", "partner:works"]`) {
		t.Error(got)
	}
	_, err = s.JoinPartners(t.Context(), By{Who: "test", IfMatch: "old"}, "lamps", "ropes")
	if !errors.Is(err, ErrStale) {
		t.Error(err)
	}
	_, err = s.JoinPartners(t.Context(), By{Who: "test"}, "lamps", "ropes")
	check(t, err)
	got := dumped(t, s)
	for _, want := range []string{`parties: ["partner:ropes", "partner:works"]`, "partner: ropes, about: [chat.in]", "also_named: [Lamps]"} {
		if !strings.Contains(got, want) {
			t.Errorf("it lacks %s:\n%s", want, got)
		}
	}
	if strings.Contains(got, "{id: lamps,") || strings.Contains(got, "partner: lamps") || strings.Contains(got, `"partner:lamps"`) {
		t.Error(got)
	}
	check(t, other.Refresh(t.Context()))
	if dumped(t, other) != got || other.State().Concerned("ropes").Guests != 2 {
		t.Error("a follower has it otherwise")
	}
	fresh, _ := start(t, dsn)
	if dumped(t, fresh) != got {
		t.Error("it reads back otherwise")
	}
}

// TestLetters: a letter closes by the stance that answers it, in one change with
// it, and not by an older or a partial one.
func TestLetters(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, pair)
	chat, spaces := catalogue.In(catalogue.Chat), catalogue.In(catalogue.Spaces)
	send := func(keys ...catalogue.Key) string {
		l, err := s.SendLetter(t.Context(), By{Who: "test"}, world.Letter{Partner: "lamps", Keys: keys}, false, true)
		check(t, err)
		return l.Letter.ID
	}
	state := func(id string) string {
		l, err := s.Letter(t.Context(), id)
		check(t, err)
		return world.AnswerNames[l.Answer] + " " + l.Said
	}
	stance := func(key, doc string) {
		check(t, s.SetStance(t.Context(), "test", "a call", "lamps", key, []byte(doc)))
	}
	want := func(id, want string) {
		t.Helper()
		if got := strings.TrimSpace(state(id)); got != want {
			t.Errorf("%s is %s, want %s", id, got, want)
		}
	}
	both, one := send(chat, spaces), send(chat)
	if both == one {
		t.Fatal("two letters of one day have one id")
	}
	stance("chat.in", `{"says":"admits","as_of":"-2d"}`)
	want(one, "open")
	stance("chat.in", `{"says":"admits","features":["messages"],"source":"recorded","said_by":"the desk"}`)
	want(one, "open")
	stance("chat.in", `{"says":"admits","source":"recorded","said_by":"the desk"}`)
	want(one, "admitted recorded, the desk: a call")
	want(both, "open")
	stance("spaces.in", `{"says":"refuses","source":"trial"}`)
	want(both, "refused trial: a call")
	again := send(spaces)
	load(t,
		s,
		"wexillum: 1\npartners: [{id: lamps, name: Lamps, domains: [lamps.example], stance: {chat.in: {says: admits}, spaces.in: {says: admits, as_of: +0d}}}]")
	want(again, "admitted loaded from a file")
	by := By{Who: "test"}
	if err := s.CloseLetter(t.Context(), by, again, "refused", ""); !errors.Is(err, ErrConflict) {
		t.Error(err)
	}
	last := send(spaces)
	if err := s.CloseLetter(t.Context(), by, last, "perhaps", ""); err == nil ||
		err.Error() != `answer "perhaps": write admitted, refused, withdrawn` {
		t.Error(err)
	}
	check(t, s.CloseLetter(t.Context(), by, last, "withdrawn", "not needed any more"))
	want(last, "withdrawn not needed any more")
	if _, err := s.SendLetter(t.Context(), by, world.Letter{Partner: "lamps"}, false, false); err == nil {
		t.Error("a letter about nothing is kept")
	}
	all, err := s.Letters(t.Context(), "lamps")
	check(t, err)
	open := 0
	for _, l := range all {
		if l.Answer == world.NoAnswer {
			open++
		}
	}
	if len(all) != 4 || open != 0 {
		t.Errorf("%d letters, %d open", len(all), open)
	}
}
