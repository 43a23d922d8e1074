package engine

import (
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// keyLevels says what the catalogue's actions ask about a key. A partner's half
// and ours are shown by key; which rules are behind a key follows from the
// catalogue.
type keyLevels struct {
	asks   bool               // some ask the partner's own side
	rules  []catalogue.RuleID // rules of domains whose level counts
	listed bool               // some ask for an opening, whatever any level
}

// levelsOfKeys is what the actions ask, by key. Inviting into a space asks two
// keys, its own and that of spaces.
var levelsOfKeys = func() (out [catalogue.NumKeys]keyLevels) {
	add := func(k catalogue.Key, r catalogue.RuleID) {
		for _, x := range out[k].rules {
			if x == r {
				return
			}
		}
		out[k].rules = append(out[k].rules, r)
	}
	row := func(a *catalogue.Ask) {
		if a != nil && a.Counterpart {
			out[a.Key].asks = true
			if a.Holding == catalogue.MayInvite {
				out[catalogue.In(catalogue.Spaces)].asks = true
			}
		}
		switch {
		case a == nil:
		case a.Level == catalogue.ByRule:
			add(a.Key, a.LevelRule)
			if a.Holding == catalogue.MayInvite { // inviting into a space
				add(catalogue.In(catalogue.Spaces), a.LevelRule)
			}
		case a.Level == catalogue.Listed:
			out[a.Key].listed = true
		}
	}
	for _, a := range catalogue.Actions() {
		for c := range a.Asks {
			row(a.Asks[c])
			if a.InSpace != nil {
				row(a.InSpace[c])
			}
		}
	}
	return
}()

// LevelRules lists the rules of domains that are asked about a key.
func LevelRules(k catalogue.Key) []catalogue.RuleID { return levelsOfKeys[k].rules }

// AsksCounterpart reports whether any action asks a partner's own side about a
// key.
func AsksCounterpart(k catalogue.Key) bool { return levelsOfKeys[k].asks }

// They decide which features of chat our half offers.
var (
	ruleCalls    = catalogue.MustRule("chat.calls")
	rulePresence = catalogue.MustRule("chat.presence")
)

// Side is our half of every key for a partner, as the policy has it where no
// layer below the partner speaks: its standing, its opening, and the level of
// the rules of domains at a moment. Where several rules ask about a key the
// loosest counts. The zero Side stands for a partner that is not there: nothing
// is open.
func (s *Snapshot) Side(partner string, at moment.Moment) (side world.Side) {
	k := s.inv.partners.find(s.inv.text, partner)
	if k == none || int(k) >= len(s.pol.partners) || !s.pol.partners[k].exists {
		return
	}
	p := &s.pol.partners[k]
	closed := p.standing == world.Suspended || p.standing == world.Ended && at >= s.pol.rest[k].endedAt
	return s.side(&s.pol.rows[p.alone], &p.opened, closed)
}

// SideFor is our half for a domain: that of its partner, or what the levels
// admit of one that nobody listed. A barred domain gets nothing. It is what two
// organisations compare when they exchange statements.
func (s *Snapshot) SideFor(d addr.Domain, at moment.Moment) world.Side {
	m := s.Match(addr.Newcomer(d))
	if m.Partner != nil && m.Bar == nil {
		return s.Side(m.Partner.ID, at)
	}
	var opened [catalogue.NumKeys]world.Opening
	return s.side(&s.pol.alone, &opened, m.Bar != nil)
}

// side finds our half from the values and openings that count. Because says
// what decides: the standing, the opening by name, or a level. A key that no
// rule asks is open unless it is closed by name.
func (s *Snapshot) side(values *row, opened *[catalogue.NumKeys]world.Opening, closed bool) (side world.Side) {
	for key := range side.Keys {
		x := &side.Keys[key]
		l := &levelsOfKeys[key]
		x.Level = world.LevelAny // nothing asks but for a no
		if l.listed || len(l.rules) > 0 {
			x.Level = world.LevelClosed
		}
		if l.listed {
			x.Level = world.LevelListed
		}
		for _, r := range l.rules {
			if v := world.Level(values[r]); v > x.Level {
				x.Level = v
			}
		}
		o := opened[key]
		switch {
		case closed:
			x.Because = world.BySuspension
		case o == world.OpenNo:
			x.Because = world.ByName
		case x.Level == world.LevelClosed:
			x.Because = world.ByLevel
		case x.Level == world.LevelListed && o != world.OpenYes:
			x.Because = world.NotListed
		case o == world.OpenYes:
			x.Opens, x.Because = true, world.ByName
		default:
			x.Opens, x.Because = true, world.ByLevel
		}
	}
	features := []catalogue.Feature{catalogue.Messages}
	if values[ruleCalls] != 0 {
		features = append(features, catalogue.Voice)
	}
	if values[rulePresence] != 0 {
		features = append(features, catalogue.Presence)
	}
	side.Keys[catalogue.In(catalogue.Chat)].Features = features
	side.Keys[catalogue.Out(catalogue.Chat)].Features = features
	return
}

// Halves puts both halves of every service and direction of a partner side by
// side as they count at a moment. How long a stance is trusted is a setting;
// where there is none, the days of a new installation.
func (s *Snapshot) Halves(p *world.Partner, at moment.Moment) []world.Half {
	days := world.StartStanceDays
	if x := s.Policy().Settings; x != nil {
		days = x.StanceDays
	}
	return world.Halves(p, s.Side(p.ID, at), at, days, s.Zone())
}
