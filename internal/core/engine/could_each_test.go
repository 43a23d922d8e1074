package engine_test

import (
	"runtime"
	"slices"
	"strings"
	"testing"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
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
			s.EachCould(y, func(who engine.Who, r string) { together[who.String()+" "+y.Action.String()+" "+r] = true })
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
