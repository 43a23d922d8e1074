package world_test

import (
	"reflect"
	"testing"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
	"wexillum.example/internal/worldgen"
)

var now = func() moment.Moment { m, _ := moment.Parse("2026-11-23T09:00:00Z"); return m }()

func parse(t *testing.T, text string) *world.World {
	t.Helper()
	w, err := worldfile.Read([]byte(text), worldfile.Options{Now: now})
	if err != nil {
		t.Fatal(err)
	}
	return w
}

const base = `
wexillum: 1
organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}
rules: {spaces.pages: {limit: on, default: off}, chat.calls: {limit: on, default: on}}
partners: [{id: ilvane, name: Ilvane, domains: [ilvane.example], rules: {spaces.pages: on}}]
exceptions: [{id: x, people: [uma], rules: {chat.calls: on}}]
people: [{id: uma, name: Uma}]
groups: [{id: crew, name: Crew, parties: [a@ilvane.example]}]
spaces:
  - {id: dossier, name: Dossier, kind: team, owners: [uma], rules: {spaces.pages: on}, items: [{id: notes, kind: page, name: Notes}, {id: kit, kind: file, name: Kit, rules: {files.bearer_links: on}}]}
  - {id: yard, name: Yard, kind: team, owners: [uma]}
meetings: [{id: talk, name: Talk, host: uma, rules: {meetings.early: on}}]
guests: [{address: a@ilvane.example, name: A, sponsor: uma}]
grants: [{party: a@ilvane.example, resource: space:dossier, role: view, from: 2026-01-01}]
links: [{id: l, item: file:kit, for: bearer, right: view, created: 2026-11-01}]
forwarders: [{mailbox: uma, to: uma@home.example, keep_copy: yes, set_by: person}]
contacts: [{person: uma, party: a@ilvane.example, state: asked}]
`

// TestMergeInventory replaces by key, adds what is new, and leaves what is not
// spoken of.
func TestMergeInventory(t *testing.T) {
	w := world.Merge(&world.World{}, parse(t, base))
	before := string(worldfile.Write(w))
	part := parse(t, `
wexillum: 1
organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}
people: [{id: uma, name: Uma Two}, {id: lars, name: Lars}]
groups: [{id: crew, name: Crew two, parties: []}]
spaces:
  - {id: yard, name: Yard two, kind: team, owners: [lars], items: [{id: notes, kind: page, name: Notes moved}]}
  - {id: dossier, name: Dossier two, kind: team, owners: [lars], items: [{id: plan, kind: folder, name: Plan}]}
meetings: [{id: talk, name: Talk two, host: lars}]
guests: [{address: a@ilvane.example, name: A two, sponsor: lars}, {address: b@ilvane.example, name: B, sponsor: lars}]
grants: [{party: a@ilvane.example, resource: space:dossier, role: view, from: 2026-01-01, until: 2027-01-01}, {party: a@ilvane.example, resource: space:dossier, role: contribute, from: 2026-01-01}]
links: [{id: l, item: folder:plan, for: [a@ilvane.example], right: view, created: 2026-11-02}]
forwarders: [{mailbox: uma, to: uma@home.example, keep_copy: no, set_by: person}]
contacts: [{person: uma, party: a@ilvane.example, state: accepted}]
`)
	got := world.Merge(w, part)
	if string(worldfile.Write(w)) != before {
		t.Fatal("merging changed the base")
	}
	if len(got.People) != 2 || got.People[0].Name != "Uma Two" || len(got.Groups) != 1 || len(got.Groups[0].Parties) != 0 ||
		len(got.Guests) != 2 || got.Guests[0].Name != "A two" {
		t.Errorf("%+v %+v %+v", got.People, got.Groups, got.Guests)
	}
	items := map[string][]string{}
	for _, s := range got.Spaces {
		for _, it := range s.Items {
			items[s.Name] = append(items[s.Name], it.ID)
		}
	}
	if want := map[string][]string{"Dossier two": {"kit", "plan"}, "Yard two": {"notes"}}; !reflect.DeepEqual(items, want) {
		t.Errorf("the items are %v, want %v", items, want)
	}
	if len(got.Spaces) != 2 || len(got.Meetings) != 1 || got.Meetings[0].Host != "lars" || len(got.Grants) != 2 ||
		!got.Grants[0].Until.IsSet() {
		t.Errorf("%+v %+v %+v", got.Spaces, got.Meetings, got.Grants)
	}
	if len(got.Links) != 1 || got.Links[0].Bearer() || len(got.Forwarders) != 1 || got.Forwarders[0].KeepCopy || len(got.Contacts) != 1 ||
		!got.Contacts[0].Accepted {
		t.Errorf("%+v %+v %+v", got.Links, got.Forwarders, got.Contacts)
	}
}

// TestMergeHoldsBack: a lowered limit holds back what is looser everywhere below,
// raising it releases nothing, and the base stays as it was.
func TestMergeHoldsBack(t *testing.T) {
	w := world.Merge(&world.World{}, parse(t, base))
	before := string(worldfile.Write(w))
	rule := func(text string) *world.World {
		return parse(t, "{wexillum: 1, organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}, rules: {"+text+"}}")
	}
	lower := world.Merge(w,
		rule("spaces.pages: {limit: off, default: off}, chat.calls: {limit: off, default: off}, files.bearer_links: {limit: off, default: off}, meetings.early: {limit: off, default: off}"))
	held := func(w *world.World) (out []bool) {
		return []bool{w.Partners[0].Rules[0].Held, w.Exceptions[0].Rules[0].Held, w.Spaces[0].Rules[0].Held, w.Spaces[0].Items[1].Rules[0].Held,
			w.Meetings[0].Rules[0].Held}
	}
	if got := held(lower); !reflect.DeepEqual(got, []bool{true, true, true, true, true}) {
		t.Errorf("held back: %v", got)
	}
	if string(worldfile.Write(w)) != before || held(w)[2] {
		t.Fatal("holding back changed the base")
	}
	raised := world.Merge(lower,
		rule("spaces.pages: {limit: on}, chat.calls: {limit: on}, files.bearer_links: {limit: on}, meetings.early: {limit: on}"))
	if got := held(raised); !reflect.DeepEqual(got, []bool{true, true, true, true, true}) {
		t.Errorf("raising a limit released something: %v", got)
	}
	if r := raised.Rules; len(r) == 0 {
		t.Error("no rules are left")
	}
}

// TestMergeAgain: laying a world over itself changes nothing.
func TestMergeAgain(t *testing.T) {
	for seed := range uint64(5) {
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 40, Grants: 120, Spaces: 10, Items: 40, Partners: 5, People: 12, Groups: 4, Meetings: 6, Links: 10, Exceptions: 8},
			now))
		again := world.Merge(w, w)
		if string(worldfile.Write(again)) != string(worldfile.Write(w)) {
			t.Errorf("seed %d: the same world twice is another one", seed)
		}
	}
}

// TestHoldBack leaves a slice alone where nothing changes, and the given one where
// something does.
func TestHoldBack(t *testing.T) {
	pages := catalogue.MustRule("spaces.pages")
	limits := world.Limits(&world.World{Policy: world.Policy{Rules: []world.RuleSetting{{Rule: pages, Limit: catalogue.Off,
		Default: catalogue.Unset}}}}, &world.World{})
	given := []world.Setting{{Rule: catalogue.MustRule("spaces.tasks"), Value: catalogue.On}, {Rule: pages, Value: catalogue.On}}
	got := world.HoldBack(given, limits)
	if !got[1].Held || got[0].Held || given[1].Held {
		t.Errorf("%+v from %+v", got, given)
	}
	if again := world.HoldBack(got, limits); &again[0] != &got[0] {
		t.Error("what is held back already is copied")
	}
}

// TestBeforeHolding: what a lowered limit holds back counted before, where the world before says the same; what was held back then, or is
// held back with no limit in its way, stays so, and neither world is written to.
func TestBeforeHolding(t *testing.T) {
	places := func(limit, plan, log, talk, deck string) *world.World {
		return parse(t, `{wexillum: 1, organisation: {name: Small, domains: [ours.example], time_zone: UTC}, people: [{id: uma, name: Uma}],
rules: {files.link_right: {limit: `+limit+`, default: view}, files.role: {limit: `+limit+`, default: view}, meetings.present: {limit: on, default: off}},
spaces: [{id: deck, name: Deck, kind: team, owners: [uma], rules: {files.role: `+deck+`}, items: [
  {id: plan, name: Plan, kind: file, rules: {files.link_right: `+plan+`}}, {id: log, name: Log, kind: file, rules: {files.link_right: `+log+`}}]}],
meetings: [{id: talk, name: Talk, host: uma, rules: {meetings.present: `+talk+`}}]}`)
	}
	const held = "{value: contribute, held: yes}"
	was := places("contribute", "contribute", held, "on", "view")
	next := places("view", held, held, "{value: on, held: yes}", held)
	text := string(worldfile.Write(next))
	got := next.BeforeHolding(was)
	if string(worldfile.Write(next)) != text {
		t.Fatal("the world itself changed")
	}
	deck := &got.Spaces[0]
	for _, c := range []struct {
		what     string
		is, want bool
	}{
		{"a value that its limit holds back now", deck.Items[0].Rules[0].Held, false},
		{"one that was held back before", deck.Items[1].Rules[0].Held, true},
		{"one that no limit is in the way of", got.Meetings[0].Rules[0].Held, true},
		{"another value than there was", deck.Rules[0].Held, true},
	} {
		if c.is != c.want {
			t.Errorf("%s is held back: %t", c.what, c.is)
		}
	}
	if same := next.BeforeHolding(&world.World{}); string(worldfile.Write(same)) != text {
		t.Error("beside an empty world something counts again")
	}
}
