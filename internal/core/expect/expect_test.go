package expect_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/expect"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile/worldtest"
)

func at(text string) moment.Moment {
	m, err := moment.Parse(text)
	if err != nil {
		panic(err)
	}
	return m
}

var now = worldtest.Now

const small = `
wexillum: 1
dates_from: [{for: organisation, from: 2028-01-01}]
organisation: {name: Harbour, domains: [harbour.example], time_zone: UTC}
rules: {directory.guests: {default: on}, spaces.guests: {default: on}, directory.sign_in: {default: [code]}}
partners:
  - {id: tarn, name: Tarn, domains: [tarn.example], opened: {directory.in: yes, spaces.in: yes, files.in: yes}}
  - {id: fell, name: Fell, domains: [fell.example], opened: {directory.in: yes, spaces.in: yes, files.in: yes}}
people: [{id: uma, name: Uma Reed, address: uma@harbour.example}]
groups: [{id: crew, name: Crew, parties: [cy@tarn.example]}]
spaces:
  - {id: deck, name: Deck, kind: team, owners: [uma], items: [{id: plan, kind: file, name: Plan}]}
  - {id: hold, name: Hold, kind: team, owners: [uma], items: [{id: list, kind: file, name: List}]}
guests:
  - {address: ann@tarn.example, name: Ann Voss, accepted: 2026-02-01, since: 2026-01-01}
  - {address: cy@tarn.example, name: Cy Lund, accepted: 2026-02-01, since: 2026-01-01}
  - {address: bo@fell.example, name: Bo Farr, accepted: 2026-02-01, since: 2026-01-01}
grants:
  - {party: ann@tarn.example, resource: space:deck, role: contribute, from: 2026-01-01}
  - {party: cy@tarn.example, resource: space:deck, role: view, from: 2026-01-01, until: 2026-12-05}
  - {party: bo@fell.example, resource: space:hold, role: view, from: 2026-12-01}
`

// told writes what was judged: numbers, when, and the counterexamples.
func told(j expect.Judged) string {
	out := j.State.String()
	if j.Empty {
		out += " of nothing"
	}
	if j.State == expect.Broken {
		out += fmt.Sprintf(" on %s: %d of %d", moment.DayOf(j.At, time.UTC), j.Count, j.Parties)
		for _, c := range j.Examples {
			out += fmt.Sprintf("; %s %s %s", c.Who, c.Action, c.Resource)
			if c.Newcomer {
				out += " (new)"
			}
		}
	}
	return fmt.Sprintf("%s. Now %d pairs, %d parties.", out, j.Answer, j.May)
}

// TestJudge: each sort of expectation as a sentence, and what it is judged to be now and on the days ahead.
func TestJudge(t *testing.T) {
	s := worldtest.Snapshot(t, small)
	for _, c := range []struct {
		party, action, resource string
		expect                  world.Expect
		says, want              string
	}{
		{"everybody", "files.open", "space:hold", world.Expect{},
			"Nobody outside may open any file in Hold.",
			"broken on 2026-12-01: 1 of 1; bo@fell.example files.open file:list. Now 0 pairs, 0 parties."},
		{"partner:tarn", "files.open", "space:hold", world.Expect{},
			"Nobody from Tarn may open any file in Hold.",
			"held. Now 0 pairs, 0 parties."},
		{"partner:tarn", "files.*", "file:plan", world.Expect{},
			"Nobody from Tarn may do anything in files: Plan.",
			"broken on 2026-11-23: 7 of 2; cy@tarn.example files.open file:plan; ann@tarn.example files.open file:plan; cy@tarn.example files.download file:plan; ann@tarn.example files.download file:plan; ann@tarn.example files.edit file:plan; ann@tarn.example files.upload file:plan; ann@tarn.example files.delete file:plan. Now 7 pairs, 2 parties."},
		{"group:crew", "files.open", "file:plan", world.Expect{Sort: world.AlwaysSo},
			"Everybody in the group Crew may always open the file: Plan.",
			"broken on 2026-12-06: 1 of 1; cy@tarn.example files.open file:plan. Now 1 pairs, 1 parties."},
		{"domain:fell.example", "files.open", "file:plan", world.Expect{Sort: world.AlwaysSo},
			"Everybody at fell.example may always open the file: Plan.",
			"broken on 2026-11-23: 2 of 2; bo@fell.example files.open file:plan; *@fell.example files.open file:plan (new). Now 0 pairs, 0 parties."},
		{"everybody", "files.open", "file:plan", world.Expect{Sort: world.OnlyParties, Only: []string{"partner:tarn"}},
			"Only people from Tarn may open the file: Plan.",
			"held. Now 2 pairs, 2 parties."},
		{"kind:guest", "files.open", "*", world.Expect{Sort: world.OnlyParties, Only: []string{"ann@tarn.example", "group:crew"}},
			"Of guests, only Ann Voss (ann@tarn.example) and people in the group Crew may open any file.",
			"broken on 2026-12-01: 1 of 1; bo@fell.example files.open file:list. Now 2 pairs, 2 parties."},
		{"cy@tarn.example", "*", "space:deck", world.Expect{Sort: world.OnlyUntil, Until: at("2026-12-06T00:00:00Z")},
			"Cy Lund (cy@tarn.example) may not do anything: Deck and all in it after 2026-12-05.",
			"held. Now 0 pairs, 0 parties."},
		{"ann@tarn.example", "files.open", "*", world.Expect{Sort: world.OnlyUntil, Until: at("2026-12-06T00:00:00Z")},
			"Ann Voss (ann@tarn.example) may not open any file after 2026-12-05.",
			"broken on 2026-12-06: 1 of 1; ann@tarn.example files.open file:plan. Now 1 pairs, 1 parties."},
		{"everybody", "files.open", "*", world.Expect{Sort: world.AtMost, AtMost: 2},
			"Of everybody outside, at most 2 may open any file.",
			"broken on 2026-12-01: 3 of 3; cy@tarn.example files.open file:plan; ann@tarn.example files.open file:plan; bo@fell.example files.open file:list. Now 2 pairs, 2 parties."},
		{"everybody", "files.open", "file:plan", world.Expect{Sort: world.AtMost, AtMost: 2},
			"Of everybody outside, at most 2 may open the file: Plan.",
			"held. Now 2 pairs, 2 parties."},
		{"everybody", "files.open", "file:plan", world.Expect{Sort: world.OnCondition, Conditions: []string{"accept_terms", "one_time_code"}},
			"Everybody outside may open the file: Plan only under these conditions: accept terms and one time code.",
			"held. Now 2 pairs, 2 parties."},
		{"everybody", "files.open", "file:plan", world.Expect{Sort: world.OnCondition, Conditions: []string{"sign_in"}},
			"Everybody outside may open the file: Plan only under these conditions: sign in.",
			"broken on 2026-11-23: 2 of 2; cy@tarn.example files.open file:plan; ann@tarn.example files.open file:plan. Now 2 pairs, 2 parties."},
		{"kind:bearer", "*", "*", world.Expect{},
			"No holder of a link may do anything.",
			"held. Now 0 pairs, 0 parties."},
	} {
		x := &world.Expectation{ID: "x", Party: c.party, Action: c.action, Resource: c.resource, Expect: c.expect}
		if got := expect.Says(s, x); got != c.says {
			t.Errorf("%s %s %s: it says %s", c.party, c.action, c.resource, got)
		}
		st, err := expect.Of(x)
		if err != nil {
			t.Fatal(err)
		}
		if err := expect.Judge(s, []*expect.Statement{st}, now, expect.NextDays, nil, func(_ int, j expect.Judged) {
			if got := told(j); got != c.want {
				t.Errorf("%s: %s", c.says, got)
			}
		}); err != nil {
			t.Fatal(err)
		}
	}
}

// TestRead: what cannot be expected is said by the expectation, its field and the value.
func TestRead(t *testing.T) {
	for _, c := range []struct {
		x    world.Expectation
		want string
	}{
		{world.Expectation{ID: "x", Party: "kind:pirate", Action: "*", Resource: "*"},
			"expectation x: its party: \"pirate\" is no kind of party"},
		{world.Expectation{ID: "x", Party: "ann", Action: "*", Resource: "*"},
			"expectation x: its party: \"ann\" is no address: there is no @ (at position 4)"},
		{world.Expectation{ID: "x", Party: "everybody", Action: "*", Resource: "deck"},
			"expectation x: resource \"deck\": write kind:id, as space:loan-dossier"},
		{world.Expectation{ID: "x", Party: "everybody", Action: "*", Resource: "*", Expect: world.Expect{Sort: world.OnlyParties, Only: []string{"kind:x"}}},
			"expectation x: only: \"x\" is no kind of party"},
	} {
		_, err := expect.Of(&c.x)
		if got := fmt.Sprint(err); got != c.want {
			t.Errorf("%+v: %s", c.x, got)
		}
	}
	w := &world.World{Policy: world.Policy{Expectations: []world.Expectation{
		{ID: "a", Party: "everybody", Action: "*", Resource: "*"}, {ID: "b", Party: "kind:pirate", Action: "*", Resource: "*"}}}}
	if all := expect.All(w); len(all) != 1 || all[0].ID != "a" {
		t.Errorf("read are %v", all)
	}
}

// TestIDFor: an id says what is expected, and is nobody else's.
func TestIDFor(t *testing.T) {
	w := &world.World{}
	var got []string
	for _, x := range []world.Expectation{
		{Party: "partner:tarn", Action: "files.open", Resource: "space:hold"},
		{Party: "partner:tarn", Action: "files.open", Resource: "space:hold"},
		{Party: "everybody", Action: "*", Resource: "*", Expect: world.Expect{Sort: world.AtMost}},
		{Party: "Ann@tarn.example", Action: "files.*", Resource: "file:plan", Expect: world.Expect{Sort: world.OnlyUntil}},
	} {
		x.ID = expect.IDFor(w, &x)
		got = append(got, x.ID)
		w.Expectations = append(w.Expectations, x)
	}
	const want = "tarn-files-open-hold-never tarn-files-open-hold-never-2 at-most ann-tarn-example-files-plan-only-until"
	if text := strings.Join(got, " "); text != want {
		t.Errorf("ids are %s", text)
	}
}

// TestPropose: what is proposed holds now and on the days ahead, says something, and is expected by nobody yet.
func TestPropose(t *testing.T) {
	s := worldtest.Snapshot(t, small)
	w := worldtest.Read(t, small)
	out, judged, err := expect.Propose(s, w.Spaces, now, nil)
	if err != nil || len(out) != len(judged) {
		t.Fatal(len(out), len(judged), err)
	}
	var got []string
	for i := range out {
		got = append(got, out[i].ID+": "+expect.Says(s, &out[i]))
		if judged[i].State != expect.Held || judged[i].Empty || judged[i].ID != out[i].ID {
			t.Errorf("%s is %+v", out[i].ID, judged[i])
		}
	}
	const want = `private-addresses-reach-nothing: No private address may do anything.
links-open-nothing: No holder of a link may do anything.
links-ask-for-a-password: Every holder of a link may do anything in files only under these conditions: password.
links-only-show: No holder of a link may change any file.
reports-stay-with-known-guests: Only guests and guests whom a partner's feed keeps may do anything in reports.
mail-leaves-to-partners-alone: No private address may forward mail automatically.`
	if text := strings.Join(got, "\n"); text != want {
		t.Errorf("proposed is\n%s", text)
	}
	stopped := fmt.Errorf("enough")
	if _, _, err := expect.Propose(s, w.Spaces, now, func() error { return stopped }); err != stopped {
		t.Errorf("it went on: %v", err)
	}
}

// TestJudgeCould: what could come to be is judged of as much as can be asked while somebody waits. What is too much of everybody is not too
// much of one partner's people, of one kind of thing, or of one space; and what is left out is said, with what to name in its place.
func TestJudgeCould(t *testing.T) {
	s := worldtest.Snapshot(t, small)
	judge := func(party, action, resource string) string {
		st, err := expect.Of(&world.Expectation{ID: "x", Party: party, Action: action, Resource: resource, Could: true})
		if err != nil {
			t.Fatal(err)
		}
		var is expect.Judged
		if err := expect.Judge(s, []*expect.Statement{st}, now, expect.Now, nil, func(_ int, j expect.Judged) { is = j }); err != nil {
			t.Fatal(err)
		}
		return told(is) + " " + is.Why
	}
	for _, c := range []struct {
		most                          int // pairs
		party, action, resource, want string
	}{
		{engine.MostPairs, "everybody", "files.edit", "space:hold", "broken on 2026-11-23: 6 of 6; ann@tarn.example files.edit file:list; " +
			"bo@fell.example files.edit file:list; cy@tarn.example files.edit file:list; *@fell.example files.edit file:list (new); " +
			"*@tarn.example files.edit file:list (new); link:any files.edit file:list (new). Now 0 pairs, 0 parties. " + expect.CouldBreak},
		{2, "everybody", "files.edit", "space:hold", "unknown. Now 0 pairs, 0 parties. " + expect.TooLarge},
		{2, "partner:fell", "files.edit", "space:hold", "broken on 2026-11-23: 2 of 2; bo@fell.example files.edit file:list; " +
			"*@fell.example files.edit file:list (new). Now 0 pairs, 0 parties. " + expect.CouldBreak},
		{1, "bo@fell.example", "files.edit", "*", // both files are one class
			"broken on 2026-11-23: 2 of 1; bo@fell.example files.edit file:list; bo@fell.example files.edit file:plan. Now 0 pairs, 0 parties. " + expect.CouldBreak},
		{0, "bo@fell.example", "files.edit", "*", "unknown. Now 0 pairs, 0 parties. " + expect.TooLarge},
		{0, "everybody", "meetings.join", "*", "held. Now 0 pairs, 0 parties. "}, // there is no meeting
	} {
		back := expect.AtMostPairs(c.most)
		if got := judge(c.party, c.action, c.resource); got != c.want {
			t.Errorf("%d: %s %s %s:\n%s\nwanted\n%s", c.most, c.party, c.action, c.resource, got, c.want)
		}
		back()
	}
}
