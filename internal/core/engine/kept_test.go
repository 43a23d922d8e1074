package engine_test

import (
	"fmt"
	"strings"
	"testing"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

// older is a dump as an earlier version took it: links without created, and typical newcomers
// kept as if they were somebody.
const older = `wexillum: 1
organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}
rules: {files.bearer_links: {limit: on, default: on}, files.given_to: {limit: newcomers, default: newcomers}, files.domains: {limit: any, default: any}, directory.guests: {default: on}, directory.invite_domains: {limit: any, default: any}, meetings.outsiders: {limit: anyone, default: known}, meetings.passcode: {default: optional}}
people: [{id: uma, name: Uma}]
groups: [{id: loan, name: Loan, parties: ["*@firm.example"]}]
spaces: [{id: s, name: S, kind: team, owners: [uma], parties: ["*@firm.example"], items: [{id: f, kind: file, name: F}]}]
meetings: [{id: m, name: M, host: uma}]
guests: [{address: "*@firm.example", sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}]
grants: [{party: "*@firm.example", resource: file:f, role: manage, from: 2026-11-01}]
links: [{id: open, item: file:f, for: bearer, right: view}, {id: named, item: file:f, for: [x@firm.example], right: view}, {id: star, item: file:f, for: ["*@firm.example"], right: view, created: 2026-11-01}]
contacts: [{person: uma, party: "*@firm.example", state: accepted}]
exceptions: [{id: e, people: [uma], parties: ["*@firm.example"], rules: {meetings.outsiders: anyone}, until: 2027-01-01, reason: x}]
`

// TestKeptByEarlierVersions: what is newly refused is refused with what is meant instead; a
// dump of an earlier version is read all the same and listed, admits nobody, and still dumps.
func TestKeptByEarlierVersions(t *testing.T) {
	_, err := worldfile.Read([]byte(older), worldfile.Options{Now: now})
	if err == nil {
		t.Fatal("it is taken")
	}
	for _, want := range []string{`the link "open" lacks created`, "load it with --older",
		`"*@firm.example" is no address to keep: it stands for a typical newcomer, in questions alone; for everybody there, write domain:firm.example`} {
		if !strings.Contains(err.Error()+fmt.Sprint(worldfile.Read([]byte(strings.ReplaceAll(older, `"*@firm.example"`, "y@firm.example")),
			worldfile.Options{Now: now})), want) {
			t.Errorf("%v\nlacks %s", err, want)
		}
	}
	var odd []string
	w, err := worldfile.Read([]byte(older), worldfile.Options{Now: now, Older: true, Odd: &odd})
	if err != nil {
		t.Fatal(err)
	}
	if len(odd) != 9 {
		t.Errorf("listed: %q", odd)
	}
	again, err := worldfile.Read(worldfile.Write(w), worldfile.Options{Now: now, Older: true})
	if err != nil || string(worldfile.Write(again)) != string(worldfile.Write(w)) {
		t.Errorf("a dump of it is another world: %v", err)
	}
	s := engine.Of(world.Merge(&world.World{}, w))
	for _, q := range []asked{
		{who: "link:open", action: "files.open", resource: "file:f", at: now},
		{who: "x@firm.example", action: "files.open", resource: "file:f", at: now},
		{who: "*@firm.example", action: "files.open", resource: "file:f", at: now},
		{who: "*@firm.example", action: "directory.sign_in", resource: "directory:ours", at: now},
		{who: "*@firm.example", action: "meetings.join", resource: "meeting:m", at: now},
		{who: "y@firm.example", action: "meetings.join", resource: "meeting:m", at: now},
	} {
		if got := ask(t, s, q); got.accounts[0].refusing == "" {
			t.Errorf("%+v is admitted: %s", q, got)
		}
	}
	e, err := parse(asked{who: "link:open", action: "files.open", resource: "file:f", at: now})
	if err != nil {
		t.Fatal(err)
	}
	x, err := s.Explain(&e)
	if err != nil || x.Deciding().Gates[catalogue.GrantGate].Causes[0].Code != catalogue.LinkUndated {
		t.Errorf("%+v %v", x, err)
	}
	known, _, err := s.Group("everybody", now)
	if err != nil || len(known) > 1 { // x@firm.example, whom a link names
		t.Errorf("known: %v %v", known, err)
	}
}
