package engine_test

import (
	"strings"
	"testing"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
)

// TestRuleExamples asks the example of every rule with its tight and its loose
// value, of the engine and of the slow evaluator.
func TestRuleExamples(t *testing.T) {
	base := lay(t, &world.World{}, catalogue.ExampleWorld, "example.yaml")
	for i := range catalogue.Rules() {
		r := &catalogue.Rules()[i]
		x := catalogue.ExampleOf(r.ID)
		if x.Tight == "" || (x.Ask == "") != (catalogue.AskedBy(r.ID) == nil) {
			t.Errorf("%s: its example is %+v, and it is asked by %v", r.Name, x, catalogue.AskedBy(r.ID))
			continue
		}
		for _, side := range []struct{ value, answer string }{{x.Tight, x.Then}, {x.Loose, x.Else}} {
			w := base
			if x.With != "" {
				w = over(t, w, x.With)
			}
			value := side.value
			if r.Scale.Shape == catalogue.Methods {
				value = "[" + value + "]"
			}
			w = over(t, w, "rules: {"+r.Name+": {default: "+value+"}}")
			if x.Ask == "" { // it governs behaviour: a partner's value stands in for the default
				c, err := engine.Of(w).ChainOf(r.ID, engine.Context{Resource: engine.NoResource, At: now})
				if err != nil || r.Scale.Format(c.Effective()) != side.value {
					t.Errorf("%s is %s, want %s (%v)", r.Name, r.Scale.Format(c.Effective()), side.value, err)
				}
				continue
			}
			if got := says(t, w, x.Ask); got != side.answer {
				t.Errorf("%s at %s: %s is answered %q, want %q", r.Name, side.value, x.Ask, got, side.answer)
			}
		}
		if x.Ask != "" && x.Then == x.Else {
			t.Errorf("%s: the example does not turn on it", r.Name)
		}
	}
}

// TestActionExamples asks the examples of every action.
func TestActionExamples(t *testing.T) {
	w := lay(t, &world.World{}, catalogue.ExampleWorld, "example.yaml")
	for _, a := range catalogue.Actions() {
		x := catalogue.ExampleOfAction(a.ID)
		if !strings.Contains(x.Yes, " "+a.Name+" ") || !strings.Contains(x.No, " "+a.Name+" ") {
			t.Errorf("%s: its examples are %+v", a.Name, x)
			continue
		}
		want := "yes"
		if x.YesWith != "" {
			want += ": " + x.YesWith
		}
		if got := says(t, w, x.Yes); got != want {
			t.Errorf("%s is answered %q, want %q", x.Yes, got, want)
		}
		if got := says(t, w, x.No); got != "no: "+x.NoGate {
			t.Errorf("%s is answered %q, want no: %s", x.No, got, x.NoGate)
		}
	}
}
