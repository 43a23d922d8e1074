package engine_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/could"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
)

// cutWorld is a world as parts would leave it, made by hand on its records.
func cutWorld(w *world.World, parts []could.Part) *world.World {
	out := copyWorld(world.Merge(w, &world.World{}))
	for _, p := range parts {
		if p.Kind == could.TakeRole {
			for i := range out.People {
				if out.People[i].ID == p.Person {
					out.People[i].Roles &^= p.Role
				}
			}
		}
	}
	policy := could.Without(out, parts)
	out.Policy = policy.Policy
	limits := map[string]catalogue.Value{}
	for _, r := range catalogue.Rules() {
		limits[r.Name] = r.Limit
	}
	for _, x := range out.Rules {
		if x.Limit != catalogue.Unset {
			limits[x.Rule.String()] = x.Limit
		}
	}
	hold := func(list []world.Setting) []world.Setting { // what the limits no longer let through does not count
		list = slices.Clone(list)
		for i := range list {
			if list[i].Rule.Get().Scale.Looser(list[i].Value, limits[list[i].Rule.String()]) {
				list[i].Held = true
			}
		}
		return list
	}
	for i := range out.Spaces {
		out.Spaces[i].Rules = hold(out.Spaces[i].Rules)
		for k := range out.Spaces[i].Items {
			out.Spaces[i].Items[k].Rules = hold(out.Spaces[i].Items[k].Rules)
		}
	}
	for i := range out.Meetings {
		out.Meetings[i].Rules = hold(out.Meetings[i].Rules)
	}
	return out
}

// TestCouldCuts holds cuts of random worlds against performing every act to the end: with a cut nothing leads to the target, with a
// part of it left out something does, and sets of one or two that would do are among them.
func TestCouldCuts(t *testing.T) {
	sizes, looked := map[int]int{}, 0
	for seed := uint64(1); seed <= uint64(max(3, *couldWorlds/2)); seed++ {
		r := rand.New(rand.NewPCG(seed, 23))
		w := couldWorld(seed)
		s := engine.Of(w)
		p := s.Potential(now)
		resources := resourcesOf(w)
		who := outsidersAt(w, s, now)
		who = slices.DeleteFunc(who, func(a string) bool { return strings.HasPrefix(a, "link:") })
		for try, n := 0, 0; try < 60 && n < 2; try++ {
			a, _ := engine.ParseWho(who[r.IntN(len(who))])
			res := resources[r.IntN(len(resources))]
			set := p.Could(a, res)
			var acts []catalogue.ActionID
			for _, act := range catalogue.Actions() {
				if set.Has(act.ID) {
					acts = append(acts, act.ID)
				}
			}
			if len(acts) == 0 {
				continue
			}
			n++
			act := acts[r.IntN(len(acts))]
			name := fmt.Sprintf("world %d: %s %s %s", seed, a, act, res)
			target := could.Target{Who: a, Action: act, Resource: res}
			cuts, more, err := could.Cuts(s, now, target, func() error { return nil })
			if err != nil {
				t.Fatal(err)
			}
			looked++
			reached := func(parts []could.Part) bool {
				cut := cutWorld(w, parts)
				return slowReached(cut, engine.Of(cut), now)[a.String()+" "+act.String()+" "+res.String()]
			}
			fast := func(parts []could.Part) bool {
				return could.Apply(s, parts, now).Potential(now).Could(a, res).Has(act)
			}
			for k, cut := range cuts {
				sizes[len(cut)]++
				if looked%3 != 1 && *couldWorlds == 0 || k > 0 && k != len(cuts)-1 {
					continue
				}
				if reached(cut) {
					t.Errorf("%s: in spite of %v", name, cut)
				}
				for i := range cut {
					if rest := append(slices.Clone(cut[:i]), cut[i+1:]...); !reached(rest) {
						t.Errorf("%s: %v is enough of %v", name, rest, cut)
					}
				}
			}
			// every single part, and every pair, that does is known
			covers := func(set []could.Part) bool {
				return slices.ContainsFunc(cuts, func(cut []could.Part) bool {
					return !slices.ContainsFunc(cut, func(x could.Part) bool {
						return !slices.ContainsFunc(set, func(y could.Part) bool {
							return x == y || x.Kind == could.LowerLimit && x.Kind == y.Kind && x.Rule == y.Rule && x.Rule.Get().Scale.Looser(x.Value, y.Value)
						})
					})
				})
			}
			if more {
				continue
			}
			all := could.Parts(s, now, target)
			for i := range all {
				if one := all[i : i+1]; !fast(one) && !covers(one) {
					t.Errorf("%s: %v is enough and not among %v", name, one, cuts)
				}
				for k := range i {
					if all[i].Kind == could.LowerLimit && all[i].Kind == all[k].Kind && all[i].Rule == all[k].Rule {
						continue
					}
					if two := []could.Part{all[i], all[k]}; r.IntN(8) == 0 && !fast(two) && !covers(two) {
						t.Errorf("%s: %v is enough and not among %v", name, two, cuts)
					}
				}
			}
		}
	}
	t.Logf("%d targets, cuts by size %v", looked, sizes)
	if sizes[1]+sizes[2] < 6 {
		t.Errorf("too few cuts: %v", sizes)
	}
}

// TestCouldSpare takes away what nobody uses and asks everybody everything before and after.
func TestCouldSpare(t *testing.T) {
	limits, openings, usedOpenings, gone := 0, 0, 0, 0
	for seed := uint64(1); seed <= uint64(max(6, *couldWorlds)); seed++ {
		w := couldWorld(seed)
		s := engine.Of(w)
		parts, err := could.Spare(s, now, func() error { return nil })
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range parts {
			if p.Kind == could.LowerLimit {
				limits++
			} else {
				openings++
			}
		}
		usedOpenings += eachUsed(t, seed, s, parts)
		after := could.Apply(s, parts, now)
		cut := cutWorld(w, parts)
		before, then := &slow{w}, &slow{cut}
		targets := []string{"stranger@unlisted.example", "x@homepost.example"}
		for _, a := range outsidersAt(w, s, now) {
			if !strings.HasPrefix(a, "link:") {
				targets = append(targets, a)
			}
		}
		for _, act := range catalogue.Actions() {
			outward := act.Asks[catalogue.Ours] != nil && act.Asks[catalogue.Record] == nil
			for _, r := range resourcesOf(w) {
				if !act.Takes(r.Kind) || act.Address && !outward {
					continue
				}
				for _, a := range outsidersAt(w, s, now) {
					q := asked{who: a, action: act.Name, resource: r.String(), at: now}
					if outward {
						if strings.HasPrefix(a, "link:") {
							continue
						}
						q.who, q.address = "person:"+r.ID, a
					}
					x, y := before.answer(q), then.answer(q)
					if x.wrong != y.wrong || !x.wrong && ((x.accounts[0].refusing == "") != (y.accounts[0].refusing == "") ||
						x.accounts[0].refusing == "" && x.accounts[0].conditions != y.accounts[0].conditions) {
						t.Errorf("world %d: %+v: %s before, %s after", seed, q, x, y)
					}
				}
			}
		}
		// and whom ours may invite
		for _, p := range w.People {
			for _, r := range resourcesOf(w) {
				for _, name := range []string{"directory.invite", "files.share"} {
					for _, a := range targets {
						q := asked{who: "person:" + p.ID, action: name, resource: r.String(), at: now, address: a}
						x, y := before.answer(q), then.answer(q)
						if !x.wrong && (x.accounts[0].refusing == "") != (y.accounts[0].refusing == "") {
							t.Errorf("world %d: %+v: %s before, %s after", seed, q, x, y)
						}
					}
				}
			}
		}
		p, q := s.Potential(now), after.Potential(now)
		for _, a := range outsidersAt(w, s, now) {
			who, _ := engine.ParseWho(a)
			for _, r := range resourcesOf(w) {
				was, is := p.Could(who, r), q.Could(who, r)
				gone += (was &^ is).Len()
				if is&^was != 0 {
					t.Errorf("world %d: %s could more with %s afterwards", seed, a, r)
				}
			}
		}
	}
	t.Logf("%d limits, %d openings, %d that are used; %d pairs can come to be no more", limits, openings, usedOpenings, gone)
	if limits < 10 || openings < 5 || usedOpenings < 5 || gone < 10 {
		t.Errorf("%d limits, %d openings; %d pairs can come to be no more: too few", limits, openings, gone)
	}
}

// eachUsed holds that an opening which is not spare is used: where an impact can tell, taking it away besides what is spare changes
// something. It returns how many of them there are.
func eachUsed(t *testing.T, seed uint64, s *engine.Snapshot, parts []could.Part) (n int) {
	t.Helper()
	for i := range s.Policy().Partners {
		p := &s.Policy().Partners[i]
		for k := catalogue.Key(0); k < catalogue.NumKeys; k++ {
			part := could.Part{Kind: could.Close, Partner: p.ID, Key: k, Unset: true}
			if p.Standing != world.Active || p.Opened[k] != world.OpenYes || slices.Contains(parts, part) ||
				k&1 == 1 || k == catalogue.In(catalogue.Directory) || k == catalogue.In(catalogue.Spaces) || k == catalogue.In(catalogue.Files) {
				continue // newcomers to come, and what exceptions say of our people elsewhere, are in no impact
			}
			n++
			x, err := engine.ImpactOf(s, could.Apply(s, append(slices.Clone(parts), part), now), now, nil, func() error { return nil }, nil)
			if err != nil {
				t.Fatal(err)
			}
			if x.Nothing() {
				t.Errorf("world %d: the opening of %s for %s is not told to be spare, and nobody uses it", seed, p.ID, k)
			}
		}
	}
	return n
}
