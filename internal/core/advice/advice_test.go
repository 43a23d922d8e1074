package advice_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/advice"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

var now = moment.Of(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC))

func of(t *testing.T, people string) (engine.Dealings, advice.Advice) {
	t.Helper()
	stance, rest, _ := strings.Cut(people, "|")
	text := strings.Replace(`wexillum: 1
organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}
dates_from: [{for: organisation, from: 2028-01-01}]
rules: {chat.federation: {default: listed}, spaces.connect: {limit: any, default: listed}}
partners: [{id: p, name: P, domains: [p.example], opened: {chat.in: yes, chat.out: yes, spaces.in: yes, directory.in: yes}, stance: {STANCE}}]
people: [{id: uma, name: Uma}, {id: lars, name: Lars}, {id: ida, name: Ida}]
spaces: [{id: a, name: A, kind: team, owners: [uma], items: [{id: kit, kind: file, name: Kit}]}, {id: b, name: B, kind: report_area, owners: [lars]}]
`, "STANCE", stance, 1) + rest
	w, err := worldfile.Read([]byte(text), worldfile.Options{Now: now})
	if err != nil {
		t.Fatal(err)
	}
	s := engine.Of(world.Merge(&world.World{}, w))
	d := s.Dealings("p", now)
	return d, advice.On(d, s.Halves(&w.Partners[0], now), false)
}

// TestFigures counts every figure in a small world.
func TestFigures(t *testing.T) {
	d, _ := of(t, `|guests:
  - {address: a@p.example, since: 2026-10-01, accepted: 2026-10-01}
  - {address: b@p.example, since: 2026-01-01, accepted: 2026-01-01, origins: [fed]}
  - {address: c@p.example, since: 2026-01-01, state: suspended, state_since: 2026-11-01}
  - {address: d@p.example, since: 2026-01-01, accepted: 2026-01-01}
  - {address: x@else.example, since: 2026-10-01}
groups: [{id: crew, name: Crew, parties: [b@p.example]}]
grants:
  - {party: a@p.example, resource: space:a, role: view, from: 2026-10-01}
  - {party: a@p.example, resource: file:kit, role: view, from: 2026-10-01}
  - {party: "group:crew", resource: space:b, role: view, from: 2026-10-01}
  - {party: d@p.example, resource: space:a, role: view, from: 2026-01-01, until: 2026-11-10}
  - {party: e@p.example, resource: space:a, role: view, from: 2026-01-01, until: 2026-02-01}
  - {party: x@else.example, resource: space:a, role: view, from: 2026-01-01}
contacts:
  - {person: uma, party: d@p.example, state: accepted}
  - {person: uma, party: f@p.example, state: accepted}
  - {person: lars, party: f@p.example, state: accepted}
  - {person: ida, party: g@p.example, state: asked}
`)
	want := engine.Dealings{Records: 3, Provisioned: 1, Suspended: 1, Home: 1, Sharing: 2, Talking: 2, Contacts: 3, Ours: 2, Owners: 2,
		Grants: 3, Spaces: 2, Reports: 1, Items: 1, Came: 1, Went: 2}
	if d != want {
		t.Errorf("%+v\nwant %+v", d, want)
	}
}

// TestAdvice: each way fits best somewhere, a refusal forbids it, and whatever is
// said carries its figures.
func TestAdvice(t *testing.T) {
	many := func(n int, since string) string {
		var b strings.Builder
		b.WriteString("guests:\n")
		for i := range n {
			fmt.Fprintf(&b, "  - {address: g%d@p.example, since: %s, accepted: %s}\n", i, since, since)
		}
		b.WriteString("grants:\n")
		for i := range n {
			fmt.Fprintf(&b, "  - {party: g%d@p.example, resource: space:a, role: view, from: %s}\n", i, since)
		}
		return b.String()
	}
	var talk strings.Builder
	talk.WriteString("contacts:\n")
	for _, p := range []string{"uma", "lars", "ida"} {
		fmt.Fprintf(&talk, "  - {person: %s, party: f-%s@p.example, state: accepted}\n", p, p)
	}
	for _, c := range []struct{ world, want string }{
		{"|" + many(3, "2026-01-01"), "Best: single guests (3 people of theirs are few enough to be kept by hand)."},
		{"|", "Best: single guests (nobody of theirs is here yet; a first few can be invited without anything else)."},
		{"chat.in: {says: admits}, chat.out: {says: admits}|" + talk.String(),
			"Best: federation (3 people of theirs are here to talk and hold no role)."},
		{"|guests: [{address: a@p.example, since: 2026-01-01, accepted: 2026-01-01, origins: [fed]}]",
			"Best: a people feed (1 of 1 are kept by a feed already). Next: single guests (1 person of theirs is few enough to be kept by hand)."},
		{"spaces.in: {says: admits}|" + many(15, "2026-01-01"), "Best: membership with the home account (15 of theirs share work in 1 space)."},
		{"|" + many(45, "2026-11-01"), "Best: a people feed (45 people of theirs are more than anybody keeps by hand)."},
		{"spaces.in: {says: refuses}, directory.in: {says: refuses}|" + many(45, "2026-11-01"),
			"Best: a people feed (45 people of theirs are more than anybody keeps by hand)."},
		{"spaces.in: {says: refuses}, directory.in: {says: refuses}, chat.in: {says: refuses}|" + many(12, "2026-06-01"),
			"Nothing fits as things are: they refuse spaces.in."},
	} {
		_, a := of(t, c.world)
		if a.Short != c.want {
			t.Errorf("%s\nwant %s\n%+v", a.Short, c.want, a.Ways)
		}
		for _, w := range a.Ways {
			if w.Gives == "" || w.Costs == "" || w.Needs == "" || w.Fits && len(w.For) == 0 || len(w.For)+len(w.Against) == 0 && w.Weight != 0 {
				t.Errorf("%+v", w)
			}
		}
	}
}
