package engine_test

import (
	"math/rand/v2"
	"slices"
	"testing"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
)

// TestOursRuleAgainstSlow asks, in random worlds, what a rule says between each person of ours and each partner.
func TestOursRuleAgainstSlow(t *testing.T) {
	rule := catalogue.MustRule("directory.feed_out")
	all := rule.Get().Scale.All()
	counts := map[catalogue.Value]int{}
	for seed := uint64(900); seed < 912; seed++ {
		w := tiny(seed)
		r := rand.New(rand.NewPCG(seed, 1))
		set := func(rules []world.Setting) []world.Setting {
			if r.IntN(2) == 0 {
				return rules
			}
			return append(slices.DeleteFunc(slices.Clone(rules), func(s world.Setting) bool { return s.Rule == rule }),
				world.Setting{Rule: rule, Value: all[r.IntN(len(all))]})
		}
		w = world.Merge(w, &world.World{Policy: world.Policy{Rules: []world.RuleSetting{{Rule: rule, Limit: all[max(r.IntN(4), 1)%len(all)],
			Default: all[r.IntN(len(all))], Counts: catalogue.Unset}}}})
		for i := range w.Partners {
			w.Partners[i].Rules = set(w.Partners[i].Rules)
		}
		for i := range w.Exceptions {
			w.Exceptions[i].Rules = set(w.Exceptions[i].Rules)
			if r.IntN(2) == 0 {
				w.Exceptions[i].People = append(slices.Clone(w.Exceptions[i].People), w.People[r.IntN(len(w.People))].ID)
			}
		}
		s, sl := engine.Of(w), &slow{w}
		for i := range w.Partners {
			p := &w.Partners[i]
			if len(p.Domains) == 0 {
				continue
			}
			party := sl.party(addr.Newcomer(p.Domains[0].Domain).String(), now)
			for k := range w.People {
				got, want := s.OursRule(w.People[k].ID, p.ID, rule, now),
					sl.value("directory.feed_out", where{party: &party, person: &w.People[k]}, now)
				if got != want {
					t.Fatalf("seed %d: %s at %s: %v, want %v", seed, w.People[k].ID, p.ID, got, want)
				}
				counts[got]++
			}
		}
	}
	if len(counts) != len(all) {
		t.Errorf("only %v was met", counts)
	}
}
