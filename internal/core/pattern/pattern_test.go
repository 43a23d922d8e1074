package pattern

import (
	"testing"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
)

// TestPatterns: each is complete, sets what a space may set, and its names are its own.
func TestPatterns(t *testing.T) {
	seen := map[string]bool{}
	for i := range All() {
		p := &All()[i]
		if p.Title == "" || p.Says == "" || seen[p.Name] || len(p.Rules) == 0 {
			t.Errorf("%+v", p)
		}
		seen[p.Name] = true
		for _, r := range p.Rules {
			if r.Rule.Get().Layers&catalogue.AtSpace == 0 {
				t.Errorf("%s sets %s, which no space may set", p.Name, r.Rule)
			}
		}
		if found, ok := Named(p.Name); !ok || found != p {
			t.Errorf("%s is not found", p.Name)
		}
	}
	if p, _ := Named("reports"); p == nil || p.Kind != world.ReportArea || !p.HouseLicence {
		t.Errorf("%+v", p)
	}
}

// TestPostures: from closed to open no posture is tighter than the one before in any rule, and all
// say something of the same rules.
func TestPostures(t *testing.T) {
	var before *Posture
	for i := range Postures() {
		p := &Postures()[i]
		if before != nil {
			if len(p.Rules) != len(before.Rules) {
				t.Fatalf("%s sets %d rules, %s %d", p.Name, len(p.Rules), before.Name, len(before.Rules))
			}
			for k, r := range p.Rules {
				b := before.Rules[k]
				if b.Rule != r.Rule || r.Rule.Get().Scale.Looser(b.Default, r.Default) {
					t.Errorf("%s: %s is tighter than %s has it", p.Name, r.Rule, before.Name)
				}
			}
		}
		before = p
		for _, r := range p.Rules {
			if r.Rule.Get().Scale.Looser(r.Default, r.Rule.Get().Limit) {
				t.Errorf("%s: %s is looser than its first limit", p.Name, r.Rule)
			}
		}
	}
}
