package could

import (
	"slices"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Spare finds what is allowed and nobody uses: limits looser than any value that counts below them, and openings of partners through
// which nobody passes, typical newcomers included; of partners that are suspended nothing. Taking all of it away has no impact; that is
// tried.
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
		lost := map[string]bool{} // partners
		after := Apply(s, parts, at)
		x, err := engine.ImpactOf(s, after, at, func(l *engine.ImpactLine) bool {
			if l.Who.Kind == engine.ByAddress {
				if m := s.Match(l.Who.Address); m.Partner != nil {
					lost[m.Partner.ID] = true
				}
			}
			return true
		}, stop, nil)
		if err != nil {
			return nil, err
		}
		if x.Nothing() {
			return parts, nil
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
		before := len(parts)
		parts = spared(s, parts, lost, at, stop)
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

// passes tells the openings through which newcomers may be brought in, which no impact counts.
func passes(s *engine.Snapshot) (out [catalogue.NumKeys]bool) {
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

// spared leaves out the openings of partners that are used: service by service where that is enough.
func spared(s *engine.Snapshot, parts []Part, lost map[string]bool, at moment.Moment, stop func() error) []Part {
	out := slices.Clone(parts)
	for id := range lost {
		if id == "" {
			continue
		}
		var mine []Part
		for _, p := range out {
			if p.Kind == Close && p.Partner == id {
				mine = append(mine, p)
			}
		}
		for _, p := range mine { // each by itself
			x, err := engine.ImpactOf(s, Apply(s, []Part{p}, at), at, nil, stop, nil)
			if err != nil || !x.Nothing() {
				out = slices.DeleteFunc(out, func(q Part) bool { return q == p })
			}
		}
	}
	return out
}
