package engine

import (
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
)

// standing asks whether the partner is active. A connection that ended counts
// from the moment at which it did, so that an end can be announced; a
// suspension counts at once.
func (a *asker) standing(o *outside) {
	if o.partner == none {
		return
	}
	p := &a.s.pol.partners[o.partner]
	code := catalogue.StandingActive
	switch {
	case p.standing == world.Suspended:
		code = catalogue.StandingSuspended
	case p.standing == world.Ended && a.at >= a.s.pol.rest[o.partner].endedAt:
		code = catalogue.StandingEnded
	}
	if c := a.note(catalogue.DomainGate, code != catalogue.StandingActive, code); c != nil {
		src := a.s.pol.rest[o.partner].source
		c.A, c.Who, c.Partner = src.Name, WhoAdministrator, src.ID
	}
}

// stillFor reports whether a partner is let through for an action, whatever its
// standing. A partner that is suspended may be let through for single services,
// as for mail that must go on.
func (p *partnerRow) stillFor(ask *catalogue.Ask) bool {
	return p.still&(1<<ask.Key) != 0 && (ask.Level == catalogue.ByRule || ask.Level == catalogue.Listed)
}

// openedNo asks whether the partner is closed by name for a key. It is said
// apart from levels, because a partner closed by name is closed at every level.
func (a *asker) openedNo(o *outside, k catalogue.Key) {
	if o.partner == none || a.s.pol.partners[o.partner].opened[k] != world.OpenNo {
		return
	}
	p := a.s.pol.rest[o.partner].source
	if c := a.note(catalogue.DomainGate, true, catalogue.OpenedNo); c != nil {
		c.A, c.B, c.Who, c.Partner = p.Name, k.String(), WhoAdministrator, p.ID
	}
}

// level asks a level of domains for a key; rule is NoRule for the fixed level
// listed. Of closed, listed and any: listed needs a partner that is opened for
// the key, any asks no list, closed lets nobody through.
//
// The cause names what is missing in the order in which somebody would mend it:
// that the firm is no partner, that the partner is not opened for the key.
func (a *asker) level(o *outside, rule catalogue.RuleID, k catalogue.Key, in *about) {
	v, chain := levelListed, (*Chain)(nil)
	if rule != catalogue.NoRule {
		v, chain = a.ruleIs(catalogue.DomainGate, rule, in)
	}
	code := catalogue.LevelMet
	name, partner := o.address.String(), ""
	opened := world.OpenUnset
	if o.partner != none {
		row := &a.s.pol.partners[o.partner]
		opened = row.opened[k]
		if a.rec != nil {
			src := a.s.pol.rest[o.partner].source
			name, partner = src.Name, src.ID
		}
	}
	switch {
	case v == levelClosed:
		code = catalogue.LevelClosed
	case v == levelAny:
	case o.partner == none:
		code = catalogue.NotListed
	case opened == world.OpenUnset:
		code = catalogue.NotOpened
	case opened == world.OpenNo:
		return // said already by openedNo
	}
	if c := a.note(catalogue.DomainGate, code != catalogue.LevelMet, code); c != nil {
		c.rule(chain, v, levelListed)
		c.A, c.B, c.Who, c.Partner = name, k.String(), WhoAdministrator, partner
		c.Private = code == catalogue.NotListed && o.private()
	}
}

// named reports whether directory.personal stands in for the level of ask. A
// private address is never on a list of partners; a rule of its own stands in
// for that, and is asked with the other rules (see rules).
func (a *asker) named(ask *catalogue.Ask) bool {
	if ask.Of == catalogue.Subject {
		return a.party.private() && (a.isRecord() || a.class == catalogue.Newcomer)
	}
	if !a.other.private() {
		return false
	}
	for i := range ask.Needs {
		if ask.Needs[i].Kind == catalogue.PrivateA {
			return true
		}
	}
	return false
}

// domain asks bars, standing, openings and the level of the action. It is gate
// 2. Where the action is about an addressee, the domain asked is theirs; a
// guest who invites or shares onward must be in order, too.
//
// All of it is asked, whatever refused before: somebody who is barred *and* of
// a closed partner is told both, so that lifting the one is not a surprise.
func (a *asker) domain(ask *catalogue.Ask) {
	if ask.Level == catalogue.None {
		a.meetingDomains()
		return
	}
	// Whose domain it is about.
	who := &a.party
	in := a.of(ask)
	intoSpace := ask.Holding == catalogue.MayInvite && a.space != none
	if ask.Of == catalogue.Addressee {
		who = &a.other
		if a.isRecord() { // the inviter's or sharer's own
			a.bars(&a.party)
			a.standing(&a.party)
			a.openedNo(&a.party, ask.Key)
			// Inviting into a space needs that the partner is not closed for
			// spaces.
			if intoSpace {
				a.openedNo(&a.party, catalogue.In(catalogue.Spaces))
			}
		}
	}
	a.bars(who)
	if ask.Level == catalogue.BarsOnly {
		return
	}
	if who.partner == none || !a.s.pol.partners[who.partner].stillFor(ask) {
		a.standing(who)
	}
	a.openedNo(who, ask.Key)
	for _, k := range ask.Also {
		a.openedNo(who, k)
	}
	if intoSpace {
		a.openedNo(who, catalogue.In(catalogue.Spaces))
	}
	named := a.named(ask)
	switch {
	case named:
	case ask.Level == catalogue.ByRule:
		a.level(who, ask.LevelRule, ask.Key, &in)
		if intoSpace {
			a.level(who, ask.LevelRule, catalogue.In(catalogue.Spaces), &in)
		}
	case ask.Level == catalogue.Listed:
		a.level(who, catalogue.NoRule, ask.Key, &in)
	}
	// Whoever would become a guest must be one who might have been invited.
	if a.class == catalogue.Newcomer && !named {
		a.level(who, ruleInviteDomains, ask.Key, &in)
	}
	if a.space != none && (ask.SpaceParty || a.solely(ask)) {
		a.spaceParties(ask, who)
	}
	a.meetingDomains()
}

// spaceParties asks whether the space admits this party. A space that names
// nobody admits everybody. It is the owner's own gate, and the cause says so.
func (a *asker) spaceParties(ask *catalogue.Ask, who *outside) {
	sp := a.s.inv.spaces.at(a.space)
	if sp.anyParty {
		return
	}
	if !ask.SpaceParty {
		who = &a.party // the role of the subject comes from the space
	}
	in := a.meant(a.s.inv.refs[sp.parties.off:sp.parties.off+sp.parties.n], who)
	code := catalogue.InSpaceParties
	if !in {
		code = catalogue.OutsideSpaceParties
	}
	if c := a.note(catalogue.DomainGate, !in, code); c != nil {
		c.A, c.B = who.address.String(), a.s.inv.text.text(sp.name)
		a.owned(c)
	}
}

// owned says that an owner of the space can change it. Where the space has no
// owner, an administrator can.
func (a *asker) owned(c *Cause) {
	c.Who = WhoAdministrator
	if a.space == none {
		return
	}
	if sp := a.s.inv.spaces.at(a.space); sp.owners.n > 0 {
		c.Who, c.WhoID = WhoOwner, a.s.inv.personIDs.text(a.s.inv.text, a.s.inv.lists[sp.owners.off])
	}
}

// meetingDomains asks the sign-in domains of a meeting. Whoever holds nothing
// but the address has no domain, and is refused where a meeting names some. The
// domain must be named itself: one below it is another.
func (a *asker) meetingDomains() {
	if !a.act.MeetingDoor {
		return
	}
	inv := &a.s.inv
	m := inv.meetings.at(a.target)
	if m.domains.n == 0 && m.lists.n == 0 { // lists that are empty admit nobody
		return
	}
	found := false
	if a.class != catalogue.Bearer {
		for _, d := range inv.lists[m.domains.off : m.domains.off+m.domains.n] {
			if d == a.party.domain || a.party.domain == none && inv.domains.text(inv.text, d) == a.party.address.Domain().String() {
				found = true
			}
		}
	}
	code := catalogue.SignInDomain
	if !found {
		code = catalogue.OtherSignInDomain
	}
	if c := a.note(catalogue.DomainGate, !found, code); c != nil {
		c.A = a.q.Subject.String()
		c.Who, c.WhoID = WhoOwner, inv.personIDs.text(inv.text, m.host)
	}
}

// counterpart asks the partner's own side. It is gate 3: what the partner's own
// side is known to do. Inviting into a space asks them twice, for the
// invitation and for membership.
func (a *asker) counterpart(ask *catalogue.Ask) {
	if !ask.Counterpart {
		return
	}
	who := &a.party
	if ask.Of == catalogue.Addressee {
		who = &a.other
	}
	if who.partner == none {
		return
	}
	a.stance(who, ask.Key, ask.Feature)
	if ask.Holding == catalogue.MayInvite && a.space != none {
		a.stance(who, catalogue.In(catalogue.Spaces), catalogue.NoFeature)
	}
}

// stance asks the partner's half: whether they are known to admit or refuse
// what their side decides about. What we know grows old: an admission counts
// until it expires, a refusal until somebody says otherwise. Not knowing
// refuses nothing and is a condition of the yes.
//
// A feature narrows it: a partner may admit chat and not the files in it. Where
// no features were told, all are taken to be there.
func (a *asker) stance(who *outside, k catalogue.Key, f catalogue.Feature) {
	p := &a.s.pol.rest[who.partner]
	st := p.stance[k]
	code := catalogue.TheirsUnknown
	switch {
	case st.says == world.SaysRefuses:
		code = catalogue.TheirsRefuses
	case st.says == world.SaysAdmits && a.at < st.expires:
		code = catalogue.TheirsAdmits
		if f != catalogue.NoFeature && st.features != 0 && st.features&(1<<f) == 0 {
			code = catalogue.TheirsLacksFeature
		}
	}
	refuses := code == catalogue.TheirsRefuses || code == catalogue.TheirsLacksFeature
	if code == catalogue.TheirsUnknown {
		a.cond |= catalogue.CounterpartUnconfirmed
	}
	if c := a.note(catalogue.Counterpart, refuses, code); c != nil {
		c.Side, c.Who, c.WhoID, c.Partner = Theirs, WhoPartner, p.source.ID, p.source.ID
		c.A, c.B, c.Key = p.source.Name, k.String(), k
		if code == catalogue.TheirsLacksFeature {
			c.B = f.String()
		}
	}
}
