package could

import (
	"slices"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Spare finds what is allowed and nobody uses: limits looser than any value
// that counts below them, and openings of partners through which nobody passes,
// typical newcomers included; of partners that are suspended nothing. Taking
// all of it away has no impact; that is tried. An error is stop's.
//
// It is the safest tightening there is: what an attacker or a mistake could use
// and nobody does.
//
// All parts are first taken away at once; whoever loses something by that tells
// which were in use after all, and the rest is tried again, until nothing
// changes for anybody. It costs a few impacts, whatever the number of partners.
func Spare(s *engine.Snapshot, at moment.Moment, stop func() error) ([]Part, error) {
	var parts []Part
	loosest := s.LoosestUsed(at)
	for i := range catalogue.Rules() {
		r := &catalogue.Rules()[i]
		if r.Scale.Shape == catalogue.Choice {
			continue
		}
		if limit, _, _, _ := s.RuleState(r.ID); r.Scale.Looser(limit, loosest[r.ID]) {
			parts = append(parts, Part{Kind: LowerLimit, Rule: r.ID, Value: loosest[r.ID]})
		}
	}
	limits := len(parts)
	// What an impact does not count is never spared: newcomers to come, and
	// what our people may do elsewhere under an exception towards parties that
	// it names.
	used, named, all := passes(s), map[string]bool{}, false
	for i := range s.Policy().Exceptions { // an impact counts what ours do elsewhere towards typical newcomers, not towards each guest
		if x := &s.Policy().Exceptions[i]; at < x.Until {
			for _, ref := range x.Parties {
				switch {
				case ref.Group != "":
					all = true
				case !ref.Address.IsZero():
					if m := s.Match(ref.Address); m.Partner != nil {
						named[m.Partner.ID] = true
					}
				}
			}
		}
	}
	for i := range s.Policy().Partners {
		p := &s.Policy().Partners[i]
		if p.Standing != world.Active { // whoever is brought back is to find all as it was
			continue
		}
		for k := catalogue.Key(0); k < catalogue.NumKeys; k++ {
			if p.Opened[k] == world.OpenYes && !used[k] && !(k&1 == 1 && (all || named[p.ID])) {
				parts = append(parts, Part{Kind: Close, Partner: p.ID, Key: k, Unset: true})
			}
		}
	}
	for len(parts) > 0 {
		if err := stop(); err != nil {
			return nil, err
		}
		lost, nothing, err := losers(s, parts, at, stop)
		if err != nil {
			return nil, err
		}
		if nothing {
			return parts, nil
		}
		before := len(parts)
		if parts, err = spared(s, parts, lost, at, stop); err != nil {
			return nil, err
		}
		// Limits are looked at as a whole: which of them it is would take a
		// trial for each, and a limit that is in use in a way that LoosestUsed
		// does not see is rare.
		if len(parts) == before { // what changes is no partner's: then it is a limit, and none of them is lowered
			parts = slices.Delete(parts, 0, min(limits, len(parts)))
			if limits == 0 {
				return nil, nil
			}
			limits = 0
		}
	}
	return nil, nil
}

// passes tells the openings through which newcomers may be brought in, which no
// impact counts. These rules, as loose as their limits let them be, would let
// somebody in whom nobody knows yet.
func passes(s *engine.Snapshot) (out [catalogue.NumKeys]bool) {
	// at reports whether the limit of a rule reaches a value.
	at := func(name string, v catalogue.Value) bool {
		limit, _, _, _ := s.RuleState(catalogue.MustRule(name))
		return limit >= v
	}
	const listed = 1
	if at("directory.guests", catalogue.On) && at("directory.invite_domains", listed) && at("directory.invite_by", 1) {
		out[catalogue.In(catalogue.Directory)] = true
		out[catalogue.In(catalogue.Spaces)] = at("spaces.guests", catalogue.On)
	}
	if at("files.domains", listed) && (at("files.given_to", 1) || at("files.drive_given_to", 1)) {
		out[catalogue.In(catalogue.Files)] = true
	}
	return
}

// losers tells whose partners something changes for when parts are taken away,
// by their ids; "" stands for what is no partner's. nothing is that nothing
// changes at all.
//
// An error is stop's. Every kind of line of an impact is looked through: people
// from outside, typical newcomers, where our people go, and forwarders.
func losers(s *engine.Snapshot, parts []Part, at moment.Moment, stop func() error) (lost map[string]bool, nothing bool, err error) {
	lost = map[string]bool{}
	x, err := engine.ImpactOf(s, Apply(s, parts, at), at, func(l *engine.ImpactLine) bool {
		if l.Who.Kind == engine.ByAddress {
			if m := s.Match(l.Who.Address); m.Partner != nil {
				lost[m.Partner.ID] = true
			}
		}
		return true
	}, stop, nil)
	if err != nil || x.Nothing() {
		return lost, err == nil, err
	}
	for id, m := range x.Partners {
		if m.Any() {
			lost[id] = true
		}
	}
	for i := range x.Newcomers {
		lost[x.Newcomers[i].Newcomer.Partner] = true
	}
	for i := range x.Outward {
		lost[x.Outward[i].Target.Partner] = true
	}
	for i := range x.Forwarders {
		if m := s.Match(x.Forwarders[i].To); m.Partner != nil {
			lost[m.Partner.ID] = true
		}
	}
	return lost, false, nil
}

// spared leaves out the openings of partners that are used. What closes one
// partner concerns no other one, so that a service of all of them is tried at
// once; where nobody can be told who loses by that, each is tried by itself.
func spared(s *engine.Snapshot, parts []Part, lost map[string]bool, at moment.Moment, stop func() error) ([]Part, error) {
	out := slices.Clone(parts)
	for k := catalogue.Key(0); k < catalogue.NumKeys; k++ {
		var some []Part
		for _, p := range out {
			if p.Kind == Close && p.Key == k && lost[p.Partner] {
				some = append(some, p)
			}
		}
		if len(some) == 0 {
			continue
		}
		// One trial for all partners of a key: twenty-eight at most for any
		// number of partners.
		by, nothing, err := losers(s, some, at, stop)
		if err != nil {
			return nil, err
		}
		if nothing {
			continue
		}
		used := func(p Part) bool { return by[p.Partner] }
		if !slices.ContainsFunc(some, used) {
			for _, p := range some {
				x, err := engine.ImpactOf(s, Apply(s, []Part{p}, at), at, nil, stop, nil)
				if err != nil {
					return nil, err
				}
				if !x.Nothing() {
					by[p.Partner] = true
				}
			}
		}
		out = slices.DeleteFunc(out, func(p Part) bool { return p.Kind == Close && p.Key == k && lost[p.Partner] && used(p) })
	}
	return out, nil
}
