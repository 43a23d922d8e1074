package service

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldgen"
)

// TestImpactAsPublished weighs drafts of random worlds: what was told equals what the
// answers before and after publishing differ in.
func TestImpactAsPublished(t *testing.T) {
	moves, held := 0, 0
	for seed := uint64(1); seed <= 6; seed++ {
		s, c := start(t, dbtest.DSN(t))
		now := moment.Of(c.at)
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 25, Grants: 90, Spaces: 6, Items: 30, Partners: 4, People: 6, Groups: 3, Meetings: 5, Links: 20, Exceptions: 5},
			now))
		check(t, s.Import(t.Context(), "test", "", w, nil))
		r := rand.New(rand.NewPCG(seed, 3))
		id := makeDraft(t, s, "Random")
		in := InDraft(t.Context(), id)
		for range 4 {
			rule := &catalogue.Rules()[r.IntN(int(catalogue.NumRules))]
			if len(w.Spaces[0].Rules) > 0 && r.IntN(2) == 0 {
				sp := &w.Spaces[r.IntN(len(w.Spaces))]
				if len(sp.Rules) > 0 {
					rule = sp.Rules[r.IntN(len(sp.Rules))].Rule.Get()
				}
			}
			if all := rule.Scale.All(); len(all) > 1 {
				limit := rule.Scale.Format(all[r.IntN(len(all))])
				_ = s.SetRule(in, "anna", "", RuleChange{Rule: rule.Name, Limit: limit, Default: limit})
			}
		}
		_, err := s.SetStanding(in, By{Who: "anna"}, w.Partners[r.IntN(len(w.Partners))].ID, world.StandingNames[r.IntN(3)])
		check(t, err)
		x, err := s.Draft(t.Context(), id)
		check(t, err)
		if len(x.Clean) == 0 {
			continue
		}
		told := map[string]bool{}
		_, _, imp, err := s.Impact(t.Context(), id, s.Now(), func(l *engine.ImpactLine) bool {
			for _, a := range catalogue.Actions() {
				if !l.Wide && l.Actions.Has(a.ID) {
					told[fmt.Sprint(l.Who, l.Change, a.Name, l.Resource)] = true
				}
			}
			return true
		}, nil)
		check(t, err)
		list, _, err := s.Held(t.Context(), x, 1000)
		check(t, err)
		before := s.State()
		publishDraft(t, s, id)
		after := s.State()
		real, err := engine.ImpactOf(before.Snapshot, x.After.Snapshot, s.Now(), nil, t.Context().Err, nil)
		check(t, err)
		if real.Total() != imp.Total() || real.Parties != imp.Parties {
			t.Errorf("seed %d: %+v, then %+v", seed, imp.Total(), real.Total())
		}
		known := map[engine.Who]bool{}
		everybody, _, err := before.Group("everybody", s.Now())
		check(t, err)
		for _, who := range everybody {
			known[who] = true
		}
		n := 0
		ask := func(who engine.Who, a *catalogue.Action, res world.Resource) {
			q := engine.Question{Subject: who, Action: a.ID, Resource: res, At: s.Now()}
			v, e0 := before.Decide(&q)
			u, e1 := after.Decide(&q)
			if e0 != nil || e1 != nil || v.Yes == u.Yes && (!v.Yes || v.Conditions == u.Conditions) {
				return
			}
			change := map[bool]string{true: "gained", false: "lost"}[u.Yes]
			if v.Yes == u.Yes {
				change = "otherwise"
			}
			n++
			if !told[fmt.Sprint(who, change, a.Name, res)] {
				t.Errorf("seed %d: %s %s %s is %s, and was not told", seed, who, a.Name, res, change)
			}
		}
		for i := range catalogue.Actions() {
			a := &catalogue.Actions()[i]
			if a.Address || a.Spread != catalogue.Granted {
				continue
			}
			for g := range w.Guests {
				if !known[engine.Who{Address: w.Guests[g].Address}] { // a typical newcomer stands for them
					continue
				}
				for k := range w.Spaces {
					sp := &w.Spaces[k]
					if a.Takes(catalogue.Space) {
						ask(engine.Who{Address: w.Guests[g].Address}, a, world.Resource{Kind: catalogue.Space, ID: sp.ID})
					}
					for j := range sp.Items {
						if a.Takes(sp.Items[j].Kind) {
							ask(engine.Who{Address: w.Guests[g].Address}, a, world.Resource{Kind: sp.Items[j].Kind, ID: sp.Items[j].ID})
						}
					}
				}
			}
		}
		moves += n
		held += len(list)
		for _, h := range list {
			if !strings.Contains(dump(t, s, store.Head{}), h.Rule) {
				t.Errorf("%+v", h)
			}
		}
	}
	if moves == 0 || held == 0 {
		t.Errorf("%d moves, %d held: the worlds try nothing", moves, held)
	}
}

// TestImpactOfNow weighs shorter days a while after somebody last looked at the draft: from when it
// is published dates go on, so nobody is let go at the moment itself, and all are a day later.
func TestImpactOfNow(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t,
		s,
		guestWorld+"guests: [{address: a@ilvane.example, sponsor: uma, since: 2026-01-01, accepted: 2026-01-01, renewed: 2026-11-01}]\ngrants: [{party: a@ilvane.example, resource: space:dossier, role: view, from: 2026-01-01, until: 2027-11-20, sponsor: uma}]\n")
	ctx := t.Context()
	d, err := s.MakeDraft(ctx, "anna", "Shorter", false)
	check(t, err)
	check(t, s.SetRule(InDraft(ctx, d.ID), "anna", "x", RuleChange{Rule: "guests.term_days", Limit: "5", Default: "5"}))
	c.forward(300 * time.Millisecond) // days are counted in whole seconds
	for range 3 {
		_, _, imp, err := s.Impact(ctx, d.ID, s.Now(), nil, nil)
		check(t, err)
		if imp.Parties.Lost != 0 {
			t.Errorf("at once: %+v", imp.Parties)
		}
		_, _, imp, err = s.Impact(ctx, d.ID, s.Now()+86400e6, nil, nil)
		check(t, err)
		if imp.Parties.Lost != 1 {
			t.Errorf("a day later: %+v", imp.Parties)
		}
		c.forward(7*time.Second + 300*time.Millisecond)
	}
}
