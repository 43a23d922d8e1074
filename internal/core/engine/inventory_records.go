package engine

import (
	"cmp"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// What an Editor takes in: people, groups, spaces, items and records of guests.
// What they hold is in inventory_given.go.

// PutPerson adds or replaces a person. Groups the person names need not be
// there yet. Contacts and forwarders stay; they are records of their own.
func (e *Editor) PutPerson(p *world.Person) {
	i := e.person(p.ID)
	old := *e.inv.people.at(i)
	groups := make([]uint32, 0, len(p.Groups))
	for _, g := range p.Groups {
		groups = append(groups, e.group(g))
	}
	rec := person{
		exists:   true,
		roles:    p.Roles,
		name:     e.inv.text.add(p.Name),
		groups:   e.list(groups),
		sends:    old.sends,
		contacts: old.contacts,
		left:     p.Left,
	}
	// Whoever they answer for has fourteen days to find somebody else.
	if p.Left != old.left {
		e.due = nil
		for a := range e.inv.dates.n {
			if e.inv.dates.at(a).sponsor == i {
				e.stale = append(e.stale, a)
			}
		}
	}
	// The address they had before is nobody's now.
	if old.address.n > 0 {
		if a := e.inv.addresses.find(e.inv.text, e.inv.text.text(old.address)); a != none {
			*e.inv.ours.edit(e.tok, a) = none
		}
	}
	if !p.Address.IsZero() {
		a := e.address(p.Address)
		*e.inv.ours.edit(e.tok, a) = i
		rec.address = e.inv.addresses.refs[a]
	}
	e.peopleChanged = true
	if !old.exists {
		e.inv.live.people++
	}
	*e.inv.people.edit(e.tok, i) = rec
}

// PutGroup adds or replaces a group and which parties it holds. Whoever is no
// longer in it loses what it gives at once.
func (e *Editor) PutGroup(g *world.Group) {
	e.idx, e.due = nil, nil
	i := e.group(g.ID)
	rec := e.inv.groups.edit(e.tok, i)
	was := rec.exists
	rec.exists, rec.name = true, e.inv.text.add(g.Name)
	if was { // take the group out of every party that had it
		for _, p := range e.inv.lists[rec.parties.off : rec.parties.off+rec.parties.n] {
			e.setGroups(p, i, false)
			e.stale = append(e.stale, p)
		}
	}
	var parties []uint32
	for _, a := range g.Parties {
		if a.IsNewcomer() { // kept before it was refused: nobody is meant
			continue
		}
		p := e.address(a)
		parties = append(parties, p)
		e.setGroups(p, i, true)
		e.stale = append(e.stale, p)
	}
	rec.parties = e.list(parties)
}

// has reports whether a list holds an index.
func (e *Editor) has(l list, x uint32) bool {
	for _, y := range e.inv.lists[l.off : l.off+l.n] {
		if x == y {
			return true
		}
	}
	return false
}

// setGroups puts a party into a group or takes it out, in the party's own list.
func (e *Editor) setGroups(p, g uint32, in bool) {
	l := e.inv.parties.at(p).groups
	var out []uint32
	for _, x := range e.inv.lists[l.off : l.off+l.n] {
		if x != g {
			out = append(out, x)
		}
	}
	if in {
		out = append(out, g)
	}
	e.inv.parties.edit(e.tok, p).groups = e.list(out)
}

// PutSpace adds or replaces a space; its items stay as they are. A change of
// what it says about reviews moves the dates of everybody in it.
func (e *Editor) PutSpace(s *world.Space) {
	e.idx, e.due = nil, nil
	i := e.space(s.ID)
	was := e.inv.spaces.at(i).exists
	var owners, members []uint32
	for _, o := range s.Owners {
		owners = append(owners, e.person(o))
	}
	for _, m := range s.Members {
		if m.Group != "" {
			members = append(members, e.group(m.Group)|itemBit)
		} else {
			members = append(members, e.person(m.Person))
		}
	}
	rec := space{exists: true, joinable: s.Joinable, house: s.HouseLicence, kind: s.Kind, joinsAs: cmp.Or(s.JoinsAs, catalogue.View),
		name:  e.inv.text.add(s.Name),
		rules: e.row(s.Rules, false), held: e.row(s.Rules, true), owners: e.list(owners), members: e.list(members),
		parties: e.partyRefs(s.Parties), anyParty: s.Parties == nil}
	if !was {
		e.inv.live.spaces++
	}
	if e.reviews(rec.rules) != e.reviews(e.inv.spaces.at(i).rules) {
		e.staleAll = true
	}
	*e.inv.spaces.edit(e.tok, i) = rec
}

// reviews returns what a row of values says of reviews.
func (e *Editor) reviews(row uint32) (said [2]catalogue.Value) {
	if row == none {
		return [2]catalogue.Value{catalogue.Unset, catalogue.Unset}
	}
	return [2]catalogue.Value{e.inv.rows[row][ruleReviewDays], e.inv.rows[row][ruleReviewSilence]}
}

// PutItem adds or replaces an item. Its space need not be there yet. An item
// that moved to another space takes its grants along, and with them the dates
// of everybody, since another space may ask for other reviews.
func (e *Editor) PutItem(it *world.Item) {
	e.idx, e.due = nil, nil
	i := e.item(it.ID)
	rec := item{exists: true, private: it.Private, kind: it.Kind, space: e.space(it.Space), name: e.inv.text.add(it.Name),
		rules: e.row(it.Rules, false), held: e.row(it.Rules, true)}
	if was := e.inv.items.at(i); !was.exists {
		e.inv.live.items++
	} else if was.space != rec.space {
		e.staleAll = true
	}
	*e.inv.items.edit(e.tok, i) = rec
}

// PutGuest adds or replaces a record; the party's grants stay as they are. Of
// purpose and location only that they are there is kept: no question is asked
// of the words. Names are cut at 255 bytes, at which nothing that is shown is
// cut.
func (e *Editor) PutGuest(g *world.Guest) {
	if g.Address.IsNewcomer() { // kept before it was refused: nobody is meant
		return
	}
	i := e.address(g.Address)
	name := g.Name
	if len(name) > 255 {
		name = name[:255]
	}
	n := e.inv.text.add(name)
	p := e.inv.parties.edit(e.tok, i)
	if p.flags&hasRecord == 0 {
		e.inv.live.guests++
	}
	p.flags = hasRecord
	if g.State == world.StateSuspended {
		p.flags |= isSuspended
	}
	if g.Provisioned() {
		p.flags |= isProvisioned
	}
	if g.Location != "" {
		p.flags |= hasLocation
	}
	if strings.TrimSpace(g.Purpose) != "" {
		p.flags |= hasPurpose
	}
	p.since, p.accepted, p.terms = g.Since, g.Accepted, g.Terms
	// Records that were taken over have no date of acceptance.
	if g.State != world.StateInvited && g.Accepted == moment.Never {
		p.accepted = g.Since // active or suspended without a date of acceptance: from its beginning
	}
	p.licence, p.state, p.origins = g.Licence, g.State, g.Origins
	e.putDates(i, g, n)
}

// RemoveGuest takes a record away; what the party was given stays until it is
// replaced. The address keeps its index for good.
func (e *Editor) RemoveGuest(a addr.Address) {
	i := e.address(a)
	p := e.inv.parties.edit(e.tok, i)
	if p.flags&hasRecord != 0 {
		e.inv.live.guests--
	}
	e.movedParty(i)
	p.flags, p.since, p.accepted, p.terms, p.licence, p.state, p.origins = 0, 0, 0, 0, 0, 0, 0
	p.out, p.gone = moment.Never, moment.Never
	*e.inv.dates.edit(e.tok, i) = dates{until: moment.Never, sponsor: none, next: e.inv.dates.at(i).next}
}
