package could

import (
	"math/bits"
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
// All openings are first taken away at once. Who loses what by that tells which
// were in use after all: that somebody may no longer read a channel, that it was
// the opening of their partner for chat. What is not told by that is tried, a
// service of all partners at a time; then what is left is taken away again, until
// nothing changes for anybody. It costs a handful of impacts, whatever the number
// of partners.
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
	openings, err := unused(s, parts[limits:], at, stop)
	if err != nil {
		return nil, err
	}
	// Limits are looked at as a whole: which of them it is would take a trial for
	// each, and a limit that is in use in a way that LoosestUsed does not see is
	// rare.
	if limits > 0 {
		all := slices.Concat(parts[:limits], openings)
		x, err := losers(s, all, at, stop)
		if err != nil {
			return nil, err
		}
		if x.nothing {
			return all, nil
		}
	}
	return openings, nil
}

// unused leaves out openings until taking away the rest changes nothing.
func unused(s *engine.Snapshot, parts []Part, at moment.Moment, stop func() error) ([]Part, error) {
	for len(parts) > 0 {
		x, err := losers(s, parts, at, stop)
		if err != nil {
			return nil, err
		}
		if x.nothing {
			return parts, nil
		}
		before := len(parts)
		parts = slices.DeleteFunc(parts, func(p Part) bool { return x.surely[p.Partner].has(p.Key) })
		for k := catalogue.Key(0); k < catalogue.NumKeys; k++ {
			maybe := func(p Part) bool { return p.Key == k && x.maybe[p.Partner].has(k) }
			some := slices.Clone(parts)
			if some = slices.DeleteFunc(some, func(p Part) bool { return !maybe(p) }); len(some) == 0 {
				continue
			}
			by, err := losers(s, some, at, stop)
			if err != nil {
				return nil, err
			}
			parts = slices.DeleteFunc(parts, func(p Part) bool { return maybe(p) && by.lost(p.Partner) })
		}
		if len(parts) == before { // nobody's loss tells whose opening it was
			used, err := anyUsed(s, parts, at, stop)
			if err != nil {
				return nil, err
			}
			parts = slices.DeleteFunc(parts, func(p Part) bool { return p == used })
		}
	}
	return nil, nil
}

// anyUsed finds an opening that is in use among some that cannot all be taken away:
// those before it can be, and with it they cannot. The list is halved to find it.
func anyUsed(s *engine.Snapshot, parts []Part, at moment.Moment, stop func() error) (Part, error) {
	none, some := 0, len(parts)
	for none+1 < some {
		n := (none + some) / 2
		x, err := losers(s, parts[:n], at, stop)
		if err != nil {
			return Part{}, err
		}
		if x.nothing {
			none = n
		} else {
			some = n
		}
	}
	return parts[some-1], nil
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

// keys is a set of openings, a bit each.
type keys uint32

func (s keys) has(k catalogue.Key) bool { return s>>k&1 != 0 }

// losing is who loses something when openings are taken away, by partner, and by
// which of the openings of that partner: surely, where it can only have been that
// one, or maybe, where it may have been another.
type losing struct {
	nothing       bool // nothing changes for anybody
	surely, maybe map[string]keys
}

// lost reports whether something changes for people of a partner.
func (x *losing) lost(partner string) bool { return x.surely[partner]|x.maybe[partner] != 0 }

// restsOn tells by action on which openings a yes rests: surely where there is one
// and it is always that of who asks.
var restsOn = func() (out [catalogue.MaxActions]struct{ surely, maybe keys }) {
	for _, a := range catalogue.Actions() {
		list, own := a.Keys()
		for _, k := range list {
			out[a.ID].maybe |= 1 << k
		}
		if own && len(list) == 1 {
			out[a.ID].surely = out[a.ID].maybe
		}
	}
	return
}()

// forward is what a forwarder does.
var forward = func() catalogue.ActionID { a, _ := catalogue.ActionByName("mail.forward"); return a.ID }()

// losers finds what changes, and for whose partners, when parts are taken away;
// partners go by their ids.
//
// An error is stop's. Every kind of line of an impact is looked through: people
// from outside, typical newcomers, where our people go, and forwarders.
func losers(s *engine.Snapshot, parts []Part, at moment.Moment, stop func() error) (*losing, error) {
	out := &losing{surely: map[string]keys{}, maybe: map[string]keys{}}
	note := func(partner string, a catalogue.ActionID) {
		out.surely[partner] |= restsOn[a].surely
		out.maybe[partner] |= restsOn[a].maybe
	}
	x, err := engine.ImpactOf(s, Apply(s, parts, at), at, func(l *engine.ImpactLine) bool {
		if l.Who.Kind != engine.ByAddress {
			return true
		}
		if m := s.Match(l.Who.Address); m.Partner != nil {
			for left := l.Actions; left != 0; left &= left - 1 {
				note(m.Partner.ID, catalogue.ActionID(bits.TrailingZeros64(uint64(left))))
			}
		}
		return true
	}, stop, nil)
	if err != nil {
		return nil, err
	}
	out.nothing = x.Nothing()
	for i := range x.Newcomers {
		note(x.Newcomers[i].Newcomer.Partner, x.Newcomers[i].Action)
	}
	for i := range x.Outward {
		note(x.Outward[i].Target.Partner, x.Outward[i].Action)
	}
	for i := range x.Forwarders {
		if m := s.Match(x.Forwarders[i].To); m.Partner != nil {
			note(m.Partner.ID, forward)
		}
	}
	return out, nil
}
