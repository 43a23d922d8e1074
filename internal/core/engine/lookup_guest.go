package engine

import (
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// RuleState is what the organisation says of a rule: the limit that nobody
// below may pass, the default that counts, and the default that was said.
// counts differs from said where held: the default is looser than the limit and
// waits until the limit allows it (model §3).
func (s *Snapshot) RuleState(r catalogue.RuleID) (limit, counts, said catalogue.Value, held bool) {
	return s.pol.limit[r], s.pol.fallback[r], s.pol.said[r], s.pol.saidHeld[r]
}

// Inviter returns a person of ours who may invite into a space or the directory
// as far as roles go: an owner of the space, else an administrator; or "". It
// stands for "anybody who may" in questions that are about whom one invites.
func (s *Snapshot) Inviter(into world.Resource) string {
	inv := &s.inv
	if into.Kind == catalogue.Space {
		if i := inv.spaceIDs.find(inv.text, into.ID); i != none {
			if sp := inv.spaces.at(i); sp.exists && sp.owners.n > 0 {
				return inv.personIDs.text(inv.text, inv.lists[sp.owners.off])
			}
		}
	}
	for i := uint32(0); i < inv.people.n; i++ {
		if p := inv.people.at(i); p.exists && p.roles&world.Administrator != 0 {
			return inv.personIDs.text(inv.text, i)
		}
	}
	return ""
}

// at finds what is known of an address at a moment. The asker it returns can be
// asked about the address, and about nothing else.
func (s *Snapshot) at(x addr.Address, at moment.Moment) (a asker) {
	q := Question{At: at, Resource: world.Resource{Kind: catalogue.OurDirectory, ID: "ours"}}
	a.s, a.q, a.at, a.space, a.near = s, &q, at, none, none
	a.look(&a.party, x, s.inv.hashOf(x.String()))
	return
}

// KindAt returns the kind of an outside address at a moment.
func (s *Snapshot) KindAt(x addr.Address, at moment.Moment) Kind {
	a := s.at(x, at)
	switch o := &a.party; {
	case o.facts.kind == ownDomain:
		return KindPerson
	case o.record && o.provisioned():
		return KindProvisioned
	case o.record:
		return KindGuest
	case o.private():
		return KindPersonal
	}
	return KindFederated
}

// HasAlready says what an address holds of what an invitation into a space or
// the directory would give it, or returns "". It is a sentence, or nothing
// where an invitation would bring something.
func (s *Snapshot) HasAlready(x addr.Address, into world.Resource, at moment.Moment) string {
	a := s.at(x, at)
	if into.Kind != catalogue.Space {
		if a.party.record {
			return "There is a record already, " + world.StateNames[a.party.state] + "."
		}
		return ""
	}
	inv := &s.inv
	if a.space = inv.spaceIDs.find(inv.text, into.ID); a.space == none {
		return ""
	}
	a.q.Resource, a.target = into, a.space
	a.findRoles()
	switch {
	case a.spaceRole == catalogue.NoRole, a.party.record && a.party.state == world.StateSuspended: // the role counts for nothing as it is
	case a.party.record && a.party.state == world.StateInvited:
		return "Invited already, with the role " + a.spaceRole.String() + "; they have not accepted yet."
	default:
		return "A member already, with the role " + a.spaceRole.String() + "."
	}
	return ""
}

// GuestRule returns the value of a rule that counts for an address, in a space
// where one is named: what its partner and the space say, else the default,
// within the limit. It is asked for what governs guests' lives (terms, ends,
// reviews), which no action asks.
//
// It is the value that a chain of the same rule would end with (see
// Snapshot.ChainOf), without the chain.
func (s *Snapshot) GuestRule(a addr.Address, space string, r catalogue.RuleID) catalogue.Value {
	pol, inv := s.pol, &s.inv
	shape, layers := ruleShape[r], ruleLayers[r]
	best := catalogue.Unset
	if m := s.Match(a); m.Partner != nil && m.Bar == nil && layers&catalogue.AtPartner != 0 {
		if k := inv.partners.find(inv.text, m.Partner.ID); k != none && k < uint32(len(pol.partners)) {
			best = pol.rows[pol.partners[k].rules][r]
		}
	}
	if layers&catalogue.AtSpace != 0 && space != "" {
		if i := inv.spaceIDs.find(inv.text, space); i != none && inv.spaces.at(i).rules != none {
			best = join(shape, best, inv.rows[inv.spaces.at(i).rules][r])
		}
	}
	if best == catalogue.Unset {
		best = pol.fallback[r]
	}
	if shape == catalogue.Choice { // it has no order, and no limit
		return best
	}
	return join(shape, best, pol.limit[r])
}

// OursRule returns the value of a rule that counts between a person of ours and
// a partner's people: what the partner and exceptions of the person say, else
// the default, within the limit. A person or a partner who is not known has
// what the organisation says.
//
// The partner is stood for by somebody new from its first domain.
func (s *Snapshot) OursRule(person, partner string, r catalogue.RuleID, at moment.Moment) catalogue.Value {
	inv := &s.inv
	party := addr.Address{}
	if k := inv.partners.find(inv.text, partner); k != none && k < uint32(len(s.pol.partners)) {
		if d := s.pol.rest[k].source.Domains; len(d) > 0 {
			party = addr.Newcomer(d[0].Domain)
		}
	}
	a := s.at(party, at)
	in := about{party: &a.party, person: inv.personIDs.find(inv.text, person), space: none, near: none}
	if in.person != none {
		a.below |= catalogue.AtPeople
	}
	return a.value(r, &in, nil)
}

// First returns the id of a person or a meeting whom nothing names: no
// exception the person or the host, and no sign-in domains the meeting. It
// stands for the others of its kind; empty where there is none. Questions about
// people in general are shown with it as an example: *may a guest chat with
// Uma?* rather than *with person:\**.
func (s *Snapshot) First(kind string) string {
	inv := &s.inv
	named := func(p uint32) bool { return p < uint32(len(s.pol.concerned)) && s.pol.concerned[p] }
	if kind == "meeting" {
		for i := range inv.meetings.n {
			if m := inv.meetings.at(i); m.exists && m.domains.n+m.lists.n == 0 && m.rules == none && !named(m.host) {
				return inv.meetingIDs.text(inv.text, i)
			}
		}
		return ""
	}
	for i := range inv.people.n {
		if p := inv.people.at(i); p.exists && p.roles == 0 && p.left == 0 && !named(i) {
			return inv.personIDs.text(inv.text, i)
		}
	}
	return ""
}

// ItemOfLink returns the item that a link opens. ok is false where there is no
// such link.
func (s *Snapshot) ItemOfLink(id string) (world.Resource, bool) {
	inv := &s.inv
	i := inv.linkIDs.find(inv.text, id)
	if i == none || !inv.links.at(i).exists {
		return world.Resource{}, false
	}
	it := inv.links.at(i).item
	return world.Resource{Kind: inv.items.at(it).kind, ID: inv.itemIDs.text(inv.text, it)}, true
}

// Administrators lists the people of ours who administer, by id.
func (s *Snapshot) Administrators() (ids []string) {
	inv := &s.inv
	for i := range inv.people.n {
		if p := inv.people.at(i); p.exists && p.roles&world.Administrator != 0 {
			ids = append(ids, inv.personIDs.text(inv.text, i))
		}
	}
	return ids
}
