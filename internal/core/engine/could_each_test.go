package engine_test

import (
	"runtime"
	"slices"
	"strings"
	"testing"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile/worldtest"
	"wexillum.example/internal/worldgen"
)

// TestCouldOfEverybody holds what could come to be of everybody, asked class by class and on all processors, against asking each
// party about each thing by itself: in a world whose partners have several domains, of which one holds a space as a whole, and in
// one with many partners of whom policy says the same, and whom exceptions name.
func TestCouldOfEverybody(t *testing.T) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(max(2, runtime.GOMAXPROCS(0)))) // several workers share what they find
	wholes := 0
	for seed, size := range []worldgen.Size{{Guests: 500}, {Guests: 400, Exceptions: 120, People: 20, Partners: 60}} {
		wholes += couldOfEverybody(t, worldgen.Generate(uint64(seed)+1, size, now))
	}
	if wholes == 0 {
		t.Error("no domain holds anything as a whole")
	}
}

// couldOfEverybody compares one world, and returns how many domains hold something as a whole.
func couldOfEverybody(t *testing.T, w *world.World) (wholes int) {
	for i := range w.Grants {
		if !w.Grants[i].Domain.IsZero() {
			wholes++
		}
	}
	s := engine.Of(w)
	p := s.Potential(now)
	scope := engine.Scope{Actions: engine.InwardActions}
	lookUp := catalogue.ActionID(0)
	for _, a := range catalogue.Actions() {
		if a.Name == "directory.look_up" {
			lookUp = a.ID
		}
	}
	together, pairs := map[string]bool{}, 0
	if err := p.EachYes(&scope, func() error { return nil }, func(y *engine.Yes) error {
		if y.Action != lookUp { // which counts each party once
			pairs += y.Pairs
			s.EachCould(y, func(who engine.Who, r string) bool {
				together[who.String()+" "+y.Action.String()+" "+r] = true
				return true
			})
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if pairs != len(together) {
		t.Errorf("%d pairs were counted, and %d told", pairs, len(together))
	}
	var resources []world.Resource
	for i := range w.Spaces {
		resources = append(resources, world.Resource{Kind: catalogue.Space, ID: w.Spaces[i].ID})
		for k := range w.Spaces[i].Items {
			resources = append(resources, world.Resource{Kind: w.Spaces[i].Items[k].Kind, ID: w.Spaces[i].Items[k].ID})
		}
	}
	for i := range w.Meetings {
		resources = append(resources, world.Resource{Kind: catalogue.Meeting, ID: w.Meetings[i].ID})
	}
	for i := range w.People[:min(40, len(w.People))] {
		resources = append(resources, world.Resource{Kind: catalogue.Person, ID: w.People[i].ID})
	}
	asked, wrong := 0, []string{}
	for _, name := range outsidersAt(w, s, now) {
		if strings.HasPrefix(name, "link:") {
			continue
		}
		who, err := engine.ParseWho(name)
		if err != nil {
			t.Fatal(err)
		}
		one := s.Potential(now) // nothing that was found for another is used
		for _, r := range resources {
			set := one.Could(who, r)
			for i := range catalogue.Actions() {
				act := catalogue.Actions()[i].ID
				if act == lookUp || !engine.InwardActions.Has(act) || !act.Get().Takes(r.Kind) {
					continue
				}
				asked++
				if key := name + " " + act.String() + " " + r.String(); together[key] != set.Has(act) {
					wrong = append(wrong, key)
				}
			}
		}
	}
	if len(wrong) > 0 {
		slices.Sort(wrong)
		t.Errorf("%d of %d are otherwise when asked by themselves, as %s", len(wrong), asked, strings.Join(wrong[:min(4, len(wrong))], ", "))
	}
	if asked < 100_000 || len(together) < 10_000 {
		t.Errorf("only %d questions were asked and %d pairs could be", asked, len(together))
	}
	return wholes
}

// TestCouldPassOnWithin: what somebody outside could pass on depends on what the space and the thing say, which nobody can change where a
// space has no owner: there two files of one space, and two spaces, are not alike.
func TestCouldPassOnWithin(t *testing.T) {
	p := worldtest.Snapshot(t, `
wexillum: 1
dates_from: [{for: organisation, from: 2028-01-01}]
organisation: {name: Ours, domains: [ours.example], time_zone: UTC}
rules:
  directory.guests: {default: on}
  directory.sign_in: {default: [code]}
  spaces.guests: {default: on}
  files.given_to: {limit: newcomers, default: newcomers}
  files.reshare: {limit: on, default: on}
  files.domains: {limit: any, default: any}
partners:
  - {id: tarn, name: Tarn, domains: [tarn.example], opened: {directory.in: yes, spaces.in: yes, files.in: yes}}
spaces:
  - {id: open, name: Open, kind: team, owners: [], items: [{id: first, kind: file, name: First}, {id: second, kind: file, name: Second, rules: {files.given_to: inside}}]}
  - {id: shut, name: Shut, kind: team, owners: [], rules: {files.given_to: inside}, items: [{id: third, kind: file, name: Third}]}
guests: [{address: ann@tarn.example, accepted: 2026-01-01, since: 2026-01-01}, {address: bo@tarn.example, accepted: 2026-01-01, since: 2026-01-01}]
grants: [{party: ann@tarn.example, resource: space:open, role: manage, from: 2026-01-01}, {party: ann@tarn.example, resource: space:shut, role: manage, from: 2026-01-01}]
`).Potential(now)
	who, err := engine.ParseWho("bo@tarn.example")
	if err != nil {
		t.Fatal(err)
	}
	for _, id := range []string{"third", "second", "first"} { // what was found of one is not taken for another
		if got, want := p.Could(who, world.Resource{Kind: catalogue.File, ID: id}) != 0, id == "first"; got != want {
			t.Errorf("whether the other guest could reach %s is %t", id, got)
		}
	}
}
