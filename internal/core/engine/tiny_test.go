package engine_test

import (
	"fmt"
	"testing"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
)

// TestTinyWorlds asks every view of worlds that lack something: none of them fails, and each
// agrees with asking one by one.
func TestTinyWorlds(t *testing.T) {
	base := "organisation: {name: Tiny, domains: [ours.example], time_zone: Europe/Lisbon}"
	for name, text := range map[string]string{
		"nothing": base,
		"no partners": base +
			", people: [{id: uma, name: Uma, address: uma@ours.example}], spaces: [{id: s, name: S, kind: team, owners: [uma], items: [{id: f, kind: file, name: F}, {id: c, kind: channel, name: C}]}], meetings: [{id: m, name: M, host: uma}], guests: [{address: g@far.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}], grants: [{party: g@far.example, resource: space:s, role: manage, from: 2026-11-01}], links: [{id: l, item: file:f, for: bearer, right: view, created: 2026-11-01}]",
		"no people": base +
			", partners: [{id: p, name: P, domains: [p.example]}], spaces: [{id: s, name: S, kind: course, joinable: yes, owners: []}], guests: [{address: g@p.example, since: 2026-11-01, accepted: 2026-11-01}], grants: [{party: g@p.example, resource: space:s, role: view, from: 2026-11-01}]",
		"no spaces": base +
			", partners: [{id: p, name: P, domains: [p.example]}], people: [{id: uma, name: Uma}], meetings: [{id: m, name: M, host: uma}], guests: [{address: g@p.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}], contacts: [{person: uma, party: met@p.example, state: accepted}], forwarders: [{mailbox: uma, to: x@p.example, keep_copy: yes, set_by: person}]",
		"suspended": base +
			", partners: [{id: p, name: P, domains: [p.example], standing: suspended}], people: [{id: uma, name: Uma}], spaces: [{id: s, name: S, kind: drive, owners: [uma], items: [{id: f, kind: file, name: F}]}], meetings: [{id: m, name: M, host: uma, space: s}], guests: [{address: g@p.example, sponsor: uma, state: suspended, since: 2026-11-01, state_since: 2026-11-05}], grants: [{party: g@p.example, resource: file:f, role: view, from: 2026-11-01}], exceptions: [{id: e, people: [uma], parties: [\"domain:p.example\", nobody@else.example], rules: {meetings.present: on}, until: 2027-01-01, reason: x}]",
	} {
		t.Run(name, func(t *testing.T) {
			w := over(t, &world.World{}, text)
			s := engine.Of(w)
			sl := &slow{w}
			who := outsidersAt(w, s, now)
			who = append(who, "somebody@unknown.example", "x@homepost.example")
			for _, r := range resourcesOf(w) {
				got := map[string]bool{}
				if err := s.Audience(r, r.Kind == catalogue.Space, nil, now, func(x *engine.Reached) error {
					if x.Resource == r {
						got[x.Who.String()+" "+x.Action.Get().Name] = true
					}
					return s.Complete(x, now)
				}); err != nil {
					t.Fatal(r, err)
				}
				for _, act := range catalogue.Actions() {
					if act.Address || act.Asks[catalogue.Ours] != nil && act.Asks[catalogue.Record] == nil {
						continue
					}
					for _, a := range outsidersAt(w, s, now) {
						yes := sl.answer(asked{who: a, action: act.Name, resource: r.String(), at: now})
						if is := !yes.wrong && yes.accounts[0].refusing == ""; is != got[a+" "+act.Name] && !(r.Kind.IsItem() && a[0] == '*') {
							t.Errorf("%s %s %s: in the audience %t, asked %s", a, act.Name, r, got[a+" "+act.Name], yes)
						}
					}
				}
			}
			for _, a := range who {
				x, err := engine.ParseWho(a)
				if err != nil {
					t.Fatal(err)
				}
				lines, _, err := s.Reach(x, now)
				if err != nil {
					t.Errorf("reach %s: %v", a, err)
				}
				s.Spells(x, now, lines)
				if _, err := s.Board(x, now); err != nil {
					t.Errorf("board %s: %v", a, err)
				}
				if err := engine.Difference(engine.Asked{Snapshot: s, Who: x, At: now}, engine.Asked{Snapshot: s, Who: x, At: now + 100*86400e6},
					func(*engine.Differing) error { return nil }); err != nil {
					t.Errorf("difference %s: %v", a, err)
				}
				if x.Kind == engine.ByAddress {
					if _, _, err := s.Would(engine.Suppose{Address: x.Address, Record: true}, now); err != nil {
						t.Errorf("would %s: %v", a, err)
					}
				}
				for _, act := range catalogue.Actions() { // also those about somebody else
					for _, r := range resourcesOf(w) {
						if act.Takes(r.Kind) {
							q := asked{who: a, action: act.Name, resource: r.String(), at: now, address: "other@else.example"}
							if got, want := ask(t, s, q), sl.answer(q); fmt.Sprint(got) != fmt.Sprint(want) {
								t.Errorf("%+v: %s, slowly %s", q, got, want)
							}
						}
					}
				}
			}
			s.Population(now, nil)
			if _, err := s.Wide(now, goOn); err != nil {
				t.Error(err)
			}
			for _, word := range []string{"everybody", "kind:guest", "kind:bearer", "kind:federated"} {
				if _, _, err := s.Group(word, now); err != nil {
					t.Error(err)
				}
			}
			s.PartiesBy(now)
			s.CountsInSpaces(now)
			s.WorkingLinks(now)
			s.Scan(now-100*86400e6, now+100*86400e6, nil)
			e := s.Aside()
			e.SetPolicy(w)
			if x, err := engine.ImpactOf(s, e.Done(), now, nil, goOn, nil); err != nil || !x.Nothing() {
				t.Errorf("impact of nothing: %+v %v", x, err)
			}
			empty := engine.Of(&world.World{Policy: world.Policy{Organisation: w.Organisation}})
			if _, err := empty.Wide(now, goOn); err != nil {
				t.Error(err)
			}
		})
	}
}
