package engine_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldgen"
)

// TestPresenters compares what becomes possible in what others present with asking everybody about every presenter and meeting: where
// meetings say different things of presenting, and people have exceptions.
func TestPresenters(t *testing.T) {
	about := []string{"meetings.present", "meetings.remote_control", "meetings.share_screen", "meetings.outsiders", "meetings.passcode"}
	moved := 0
	for seed := uint64(7000); seed < 7090; seed++ {
		r := rand.New(rand.NewPCG(seed, 11))
		any := func(name string) world.Setting {
			rule := catalogue.MustRule(name)
			all := rule.Get().Scale.All()
			return world.Setting{Rule: rule, Value: all[r.IntN(len(all))]}
		}
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 14, Grants: 20, Spaces: 4, Items: 4, Partners: 4, People: 6, Groups: 2, Meetings: 8, Links: 4,
				Exceptions: 6}, now))
		stillIn(w)
		set := func(w *world.World, name string) {
			rule := catalogue.MustRule(name)
			all := rule.Get().Scale.All()
			s := world.RuleSetting{Rule: rule, Limit: all[len(all)-1], Default: all[r.IntN(len(all))], Counts: catalogue.Unset}
			for i := range w.Rules {
				if w.Rules[i].Rule == rule {
					w.Rules[i] = s
					return
				}
			}
			w.Rules = append(w.Rules, s)
		}
		for _, name := range about {
			set(w, name)
		}
		for i := range w.Meetings {
			m := &w.Meetings[i]
			m.Passcode = r.IntN(2) == 0
			m.Rules = nil
			if r.IntN(2) == 0 {
				m.Rules = append(m.Rules, any("meetings.present"))
			}
		}
		for i := range w.Partners {
			w.Partners[i].Rules = []world.Setting{any(about[r.IntN(2)])}
		}
		for i := range w.Exceptions {
			x := &w.Exceptions[i]
			x.Rules = []world.Setting{any(about[i%3])}
			if r.IntN(3) > 0 {
				x.Parties = nil
			}
		}
		before := engine.Of(w)
		next := *w
		next.Rules = append([]world.RuleSetting{}, w.Rules...)
		for range 1 + r.IntN(2) {
			set(&next, about[r.IntN(len(about))])
		}
		e := before.Aside()
		e.SetPolicy(&next)
		after := e.Done()
		got, err := engine.ImpactOf(before, after, now, nil, goOn, nil)
		if err != nil {
			t.Fatal(err)
		}
		told := map[string]int{}
		for _, m := range got.Presenters {
			if m.Pairs > 0 {
				told[fmt.Sprint("presenters ", m.Action, " ", m.Change)] += m.Pairs
			}
		}
		for k, n := range bruteOutward(w, before, after, now) {
			if strings.HasPrefix(k, "presenters ") {
				if told[k] != n {
					t.Errorf("seed %d: %s: %d, asked one by one %d", seed, k, told[k], n)
				}
				delete(told, k)
				moved += n
			}
		}
		if len(told) > 0 {
			t.Errorf("seed %d: %v are told as well", seed, told)
		}
	}
	if moved < 500 {
		t.Errorf("%d pairs moved", moved)
	}
}
