package engine

import (
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
)

// The gates that look at what somebody was given: grant (gate 6 of model §4),
// licence (gate 7), and what the rules of gate 5 need to know of people and
// spaces.
//
// A role comes to a party in four ways, which addRoles and heldByMany bring
// together: a grant of its own, one of a group that holds it, a link that names
// it (which is kept as a grant of its own), and what its partner or domain
// holds as a whole. The last counts for the home account alone. What a question
// supposes (Question.With) is added as if it were kept.
//
// Everything is found by going through the party's own grants, ten or so for
// most and a few thousand for a shared mailbox: no list of a space's members is
// needed to answer for one party.

// findRoles finds what live grants of the party give on the item and its space.
// It goes through the party's grants once, whatever number of gates ask.
//
// Only the highest role counts: whoever holds view by a group and change by a
// grant changes.
func (a *asker) findRoles() {
	if a.rolesFound {
		return
	}
	a.rolesFound = true
	inv := &a.s.inv
	if len(inv.many) > 0 {
		inv.heldByMany(a.party.partner, a.domainOf(&a.party), func(_ partyRef, given []grant) {
			for i := range given {
				if g := &given[i]; g.resource == a.space && g.live(a.at, &inv.beside) {
					a.manyRole = max(a.manyRole, g.role())
				}
			}
		})
	}
	p := a.party.known
	if p == nil {
		return
	}
	a.addRoles(inv.given(p.grants), &inv.beside)
	for _, g := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
		a.addRoles(inv.given(inv.groups.at(g).grants), &inv.beside)
	}
	if a.party.supposed {
		a.addRoles(a.q.With.grants, &a.q.With.beside)
	}
}

// addRoles takes in grants: of the party, of a group, or of what is supposed.
func (a *asker) addRoles(given []grant, b *beside) {
	onItem := a.target | itemBit
	isItem := a.q.Resource.Kind.IsItem()
	for i := range given {
		g := &given[i]
		if g.resource == a.space {
			if g.live(a.at, b) {
				a.spaceRole = max(a.spaceRole, g.role())
			}
		} else if isItem && g.resource == onItem && g.live(a.at, b) {
			a.itemRole = max(a.itemRole, g.role())
		}
	}
}

// domainOf returns the index of the domain of a party, or none where nothing
// names it. An address that is not known may be at a domain that is.
func (a *asker) domainOf(o *outside) uint32 {
	if o.domain != none || o.address.IsZero() {
		return o.domain
	}
	return a.s.inv.domains.find(a.s.inv.text, o.address.Domain().String())
}

// ofSpace is what the party may do in the space as the account that is asked:
// what its partner or its domain holds as a whole counts for the home account
// of somebody who comes with it (model §4).
func (a *asker) ofSpace() catalogue.Role {
	if a.class == catalogue.Federated {
		return max(a.spaceRole, a.manyRole)
	}
	return a.spaceRole
}

// hasJoined reports whether the party, without a record, holds a live grant on
// a course: it then counts as known. Joining a course leaves a grant without a
// record (model §3), so that nobody else would know of them.
func (a *asker) hasJoined(o *outside) bool {
	if o.known == nil || o.record {
		return false
	}
	inv := &a.s.inv
	on := func(given []grant, b *beside) bool {
		for i := range given {
			g := &given[i]
			if g.resource&itemBit == 0 && g.live(a.at, b) && inv.spaces.at(g.resource).kind == world.Course {
				return true
			}
		}
		return false
	}
	if on(inv.given(o.known.grants), &inv.beside) || o.supposed && on(a.q.With.grants, &a.q.With.beside) {
		return true
	}
	for _, g := range inv.lists[o.known.groups.off : o.known.groups.off+o.known.groups.n] {
		if on(inv.given(inv.groups.at(g).grants), &inv.beside) {
			return true
		}
	}
	return false
}

// inDrive returns the rule that replaces r in a drive. Drives have stricter
// rules of their own.
func (a *asker) inDrive(r catalogue.RuleID) catalogue.RuleID {
	if a.space != none && a.s.inv.spaces.at(a.space).kind == world.Drive {
		switch r {
		case ruleGivenTo:
			return ruleDriveGivenTo
		case ruleBearer:
			return ruleDriveBearer
		}
	}
	return r
}

// givenTo is the value that files.given_to, or the same for reports, has to
// reach: known for whoever has a record or has joined a course, newcomers for
// everybody else. It is why the same file may be shared with a guest and not
// with their colleague.
func (a *asker) givenTo(ask *catalogue.Ask) catalogue.Value {
	who := &a.party
	if ask.Of == catalogue.Addressee {
		who = &a.other
	}
	if who.record || a.q.known && who == &a.other || a.hasJoined(who) {
		return givenKnown
	}
	return givenNewcomers
}

// inviterClass is the value that directory.invite_by has to reach for who
// invites: the scale names classes of people, from the fewest to all.
func (a *asker) inviterClass() catalogue.Value {
	if a.class != catalogue.Ours {
		return classGuests
	}
	p := a.s.inv.people.at(a.person)
	switch {
	case p.roles&world.Administrator != 0:
		return classAdministrators
	case p.roles&world.Introducer != 0, a.space != none && a.owns(a.person):
		return classIntroducers
	}
	return classStaff
}

// sharerClass is the same for reports.share_by; whoever owns the area shares
// what is in it.
func (a *asker) sharerClass() catalogue.Value {
	p := a.s.inv.people.at(a.person)
	switch {
	case p.roles&world.Administrator != 0:
		return sharingAdministrators
	case p.roles&world.Sharer != 0, a.owns(a.person):
		return sharingSharers
	}
	return sharingStaff
}

// contact reports whether a person of ours and the party are accepted contacts.
// A question may leave it open, or suppose that everybody is in contact with
// everybody. A contact that was asked for and not accepted is none, and is not
// kept here.
func (a *asker) contact(person uint32) bool {
	if a.q.as != asItIs {
		return a.q.as == related
	}
	if a.s.meets && a.s.hereAt(person, a.at) {
		return true
	}
	if a.party.index == none || a.q.Stranger {
		return false
	}
	inv := &a.s.inv
	l := inv.people.at(person).contacts
	for _, p := range inv.lists[l.off : l.off+l.n] {
		if p == a.party.index {
			return true
		}
	}
	return false
}

// shares reports whether a person of ours owns or is a member of a space on
// which the party has a live grant.
//
// The grants are gone through three times: the first two times only to ask
// memory for the spaces and their lists, so that the misses overlap (see
// fetch).
func (a *asker) shares(person uint32) bool {
	if a.q.as != asItIs {
		return a.q.as == related
	}
	p := a.party.known
	if p == nil {
		return false
	}
	inv := &a.s.inv
	with := func(given []grant, b *beside) bool {
		sum := uint32(0) // fetch all spaces, then all lists, before looking at any
		for i := range given {
			if r := given[i].resource; r&itemBit == 0 {
				sp := inv.spaces.at(r)
				sum += sp.owners.n + sp.members.n
			}
		}
		for i := range given {
			if r := given[i].resource; r&itemBit == 0 {
				sp := inv.spaces.at(r)
				if sp.owners.n+sp.members.n > 0 && sp.owners.off < uint32(len(inv.lists)) {
					sum += inv.lists[sp.owners.off]
				}
			}
		}
		a.fetched += sum
		for i := range given {
			g := &given[i]
			if g.resource&itemBit == 0 && g.live(a.at, b) && a.memberOf(g.resource, person) {
				return true
			}
		}
		return false
	}
	if with(inv.given(p.grants), &inv.beside) || a.party.supposed && with(a.q.With.grants, &a.q.With.beside) {
		return true
	}
	for _, g := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
		if with(inv.given(inv.groups.at(g).grants), &inv.beside) {
			return true
		}
	}
	return false
}

// owns reports whether a person of ours owns the space.
func (a *asker) owns(p uint32) bool { return a.ownerOf(a.space, p) }

// member reports whether a person of ours owns or is a member of the space.
func (a *asker) member(p uint32) bool { return a.memberOf(a.space, p) }

// ownerOf reports whether a person of ours owns a space.
func (a *asker) ownerOf(space, p uint32) bool {
	l := a.s.inv.spaces.at(space).owners
	for _, o := range a.s.inv.lists[l.off : l.off+l.n] {
		if o == p {
			return true
		}
	}
	return false
}

// memberOf reports whether a person of ours owns a space or is a member,
// themselves or through a group. Groups among members carry itemBit.
func (a *asker) memberOf(space, p uint32) bool {
	if a.s.inv.spaces.at(space).open && a.s.hereAt(p, a.at) || a.ownerOf(space, p) {
		return true
	}
	inv := &a.s.inv
	l, groups := inv.spaces.at(space).members, inv.people.at(p).groups
	for _, m := range inv.lists[l.off : l.off+l.n] {
		if m == p {
			return true
		}
		if m&itemBit != 0 {
			for _, g := range inv.lists[groups.off : groups.off+groups.n] {
				if g == m&^itemBit {
					return true
				}
			}
		}
	}
	return false
}

// outsiders asks who from outside may join, and who waits.
//
// Known are records, people of partners opened for meetings, and those who
// joined a course. Everybody else who signs in somewhere is a stranger with a
// name; whoever has only the address is anyone. The rule has a value for each
// of the three.
func (a *asker) outsiders(in *about) {
	known := a.isRecord()
	if !known && a.class != catalogue.Bearer {
		if p := a.party.partner; p != none && a.s.pol.partners[p].opened[catalogue.In(catalogue.Meetings)] == world.OpenYes {
			known = true
		} else {
			known = a.hasJoined(&a.party)
		}
	}
	need := outsidersSignedIn
	switch {
	case known:
		need = outsidersKnown
	case a.class == catalogue.Bearer:
		need = outsidersAnyone
	}
	a.reaches(ruleOutsiders, need, in)
	if a.class == catalogue.Federated || a.class == catalogue.Personal {
		// Where anyone may come nobody is made to sign in.
		if a.value(ruleOutsiders, in, nil) < outsidersAnyone {
			a.cond |= catalogue.SignIn
		}
	}
	// Waiting refuses nobody.
	v, chain := a.ruleIs(catalogue.RuleGate, ruleHeld, in)
	if v == heldEverybody || v == heldStrangers && !known {
		a.cond |= catalogue.HeldUntilAdmitted
	}
	if c := a.note(catalogue.RuleGate, false, catalogue.RuleSays); c != nil {
		c.rule(chain, v, v)
	}
}
