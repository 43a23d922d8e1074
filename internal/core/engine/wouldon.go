package engine

import (
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// WouldOn lists what a party or a link could do on one resource after a change,
// against how it is in s. What passes something on is tried towards somebody at
// the party's own domain. A link that s does not know yet opens nothing there.
// An error is a *WrongUse. Every action that the resource takes is a line, so
// that what stays closed is seen, too.
func (s *Snapshot) WouldOn(after *Snapshot, who Who, r world.Resource, at moment.Moment) (out []WouldLine, err error) {
	known := who.Kind != ByLinkID || s.Has("link", who.ID)
	for _, act := range catalogue.Actions() {
		if !act.Takes(r.Kind) || act.Asks[catalogue.Ours] != nil && act.Asks[catalogue.Record] == nil {
			continue
		}
		q := Question{Subject: who, Action: act.ID, Resource: r, At: at}
		if act.Address {
			if who.Kind != ByAddress {
				continue
			}
			q.Address = addr.Newcomer(who.Address.Domain())
		}
		l, err := after.tried(&q, after.NameOf(r))
		if err != nil {
			return nil, err
		}
		w := WouldLine{ReachLine: l, To: q.Address}
		if known {
			v, err := s.Decide(&q)
			if err != nil {
				return nil, err
			}
			w.Was, w.WasBecause = v.Yes, v.Conditions
		}
		out = append(out, w)
	}
	return out, nil
}
