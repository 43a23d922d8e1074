package dated

import (
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

var (
	ruleTerm    = catalogue.MustRule("guests.term_days")
	ruleIdle    = catalogue.MustRule("guests.idle_days")
	ruleInvite  = catalogue.MustRule("guests.invite_days")
	ruleGrace   = catalogue.MustRule("guests.grace_days")
	ruleLast    = catalogue.MustRule("guests.after_last_grant")
	ruleReview  = catalogue.MustRule("guests.review_days")
	ruleSilence = catalogue.MustRule("guests.review_silence")
	suspend     = value(ruleLast, "suspend")
	end         = value(ruleSilence, "end")
)

// Rules lists the rules that sequences follow.
func Rules() []catalogue.RuleID {
	return []catalogue.RuleID{ruleTerm, ruleIdle, ruleInvite, ruleGrace, ruleLast, ruleReview, ruleSilence}
}

func value(r catalogue.RuleID, word string) catalogue.Value {
	v, err := r.Get().Scale.Parse(word)
	if err != nil {
		panic(err)
	}
	return v
}

func days(v catalogue.Value) int {
	if v == catalogue.NoLimit {
		return None
	}
	return int(v)
}

// Of gathers what a sequence is computed from: a record with the grants that are its own
// and those of the groups it is in, under the policy of a snapshot. spaceOf finds the
// space of a resource.
func Of(s *engine.Snapshot, g *world.Guest, own, ofGroups []world.Grant) *Record {
	r := &Record{Guest: g, PartnerEnded: moment.Never, Zone: s.Zone(), Values: Values{
		Term: days(s.GuestRule(g.Address, "", ruleTerm)), Idle: days(s.GuestRule(g.Address, "", ruleIdle)), Invite: days(s.GuestRule(g.Address, "", ruleInvite)), Grace: days(s.GuestRule(g.Address, "", ruleGrace)),
		LastGrantSuspends: s.GuestRule(g.Address, "", ruleLast) == suspend}}
	if m := s.Match(g.Address); m.Partner != nil && m.Partner.Standing == world.Ended {
		r.PartnerEnded = m.Partner.StandingSince
	}
	for k, list := range [2][]world.Grant{own, ofGroups} {
		for i := range list {
			x := &list[i]
			space := x.Resource.ID
			if x.Resource.Kind != catalogue.Space {
				space = s.SpaceOf(x.Resource.ID)
			}
			r.Held = append(r.Held, Held{Grant: x, Own: k == 0, Review: days(s.GuestRule(g.Address, space, ruleReview)), ReviewEnds: s.GuestRule(g.Address, space, ruleSilence) == end})
		}
	}
	return r
}
