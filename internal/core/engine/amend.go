package engine

import (
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Acts and changes of inventory, one at a time, for a question that begins
// *what if*: methods of an Editor of Aside, each the smallest change that its
// name says.

// What of an inventory might be otherwise, one thing at a time: for an Editor
// of Aside, so that a question can be asked as if it were so. What is named
// must be there.

// SetValueAt makes a space, item or meeting say a value of a rule, released
// where it is held back there.
//
// A rule can be held back at a place: said, but too loose for the limit of the
// moment. Whoever asks "what if the owner set it" means that it counts, so the
// hold goes as well. The limit itself stays: a value that is looser than it
// does not come to count by being asked about.
func (e *Editor) SetValueAt(r world.Resource, rule catalogue.RuleID, v catalogue.Value) {
	// Nearly everything here may change who is where and what is due; the
	// tables that tell it are made anew when they are next asked. That is right
	// for a question aside, which asks a few times and ends.
	e.idx, e.due = nil, nil
	// Rows are shared by all places that say the same, so a new one is made
	// behind them. An Editor of Aside has lists of its own as soon as it writes
	// behind their ends.
	with := func(rules, held uint32) (uint32, uint32) {
		was := emptyRow()
		if rules != none {
			was = e.inv.rows[rules]
		}
		was[rule] = v
		e.inv.rows = append(e.inv.rows, was)
		rules = uint32(len(e.inv.rows) - 1)
		if held != none && e.inv.rows[held][rule] != catalogue.Unset {
			h := e.inv.rows[held]
			h[rule] = catalogue.Unset
			e.inv.rows = append(e.inv.rows, h)
			held = uint32(len(e.inv.rows) - 1)
		}
		if e.inv.said != nil {
			e.inv.said = append(e.inv.said, e.inv.rows[len(e.inv.said):]...)
		}
		return rules, held
	}
	if rule == ruleReviewDays || rule == ruleReviewSilence {
		e.staleAll = true
	}
	switch {
	case r.Kind == catalogue.Space:
		x := e.inv.spaces.edit(e.tok, e.space(r.ID))
		x.rules, x.held = with(x.rules, x.held)
	case r.Kind == catalogue.Meeting:
		x := e.inv.meetings.edit(e.tok, e.inv.meetingIDs.find(e.inv.text, r.ID))
		x.rules, x.held = with(x.rules, x.held)
	default:
		x := e.inv.items.edit(e.tok, e.item(r.ID))
		x.rules, x.held = with(x.rules, x.held)
	}
}

// writeDue writes down what the dates of a record have come to by a moment, as
// every act does first (model §5).
//
// Dates are not written down when they come due but when somebody next acts on
// the record; until then they are computed. An act on a record that was
// suspended yesterday finds it suspended, and one on a record that is gone
// finds nothing at all: no grants, holdings or groups.
func (e *Editor) writeDue(i uint32, at moment.Moment) {
	p := e.inv.parties.edit(e.tok, i)
	if at < p.gone {
		if d := e.inv.dates.at(i); at >= p.out && (d.state == dated.Active || d.state == dated.Fed && e.inv.closed[i] != 0) &&
			p.flags&hasRecord != 0 {
			d := e.inv.dates.edit(e.tok, i)
			d.state, d.stateSince, d.cause = dated.IsSuspended, p.out, d.why
			p.flags |= isSuspended
		}
		return
	}
	e.RemoveGuest(e.inv.address(i))
	for _, h := range e.inv.holdings[i] {
		e.setHolding(i, h.Bundle, nil)
	}
	p.grants = list{}
	for _, g := range append([]uint32(nil), e.inv.lists[p.groups.off:p.groups.off+p.groups.n]...) {
		e.setGroups(i, g, false)
		rec := e.inv.groups.edit(e.tok, g)
		var left []uint32
		for _, x := range e.inv.lists[rec.parties.off : rec.parties.off+rec.parties.n] {
			if x != i {
				left = append(left, x)
			}
		}
		rec.parties = e.list(left)
	}
}

// AddGrant gives a party one more grant. It is in force from g.From on, which
// is also the moment of the act: what the party's dates had come to by then is
// written down first. The grants of the party are copied behind the others,
// since other snapshots read them where they are.
func (e *Editor) AddGrant(a addr.Address, g world.Grant) {
	e.idx, e.due = nil, nil
	i := e.address(a)
	e.writeDue(i, g.From)
	e.stale = append(e.stale, i)
	l := e.inv.parties.at(i).grants
	given := append([]grant(nil), e.inv.given(l)...)
	given = append(given, e.grant(g.From, g.Until, e.resource(g.Resource), g.Role, viaGrant, detail{}))
	e.inv.parties.edit(e.tok, i).grants = list{uint32(len(e.inv.grants)), uint32(len(given))}
	e.inv.grants = append(e.inv.grants, given...)
}

// JoinGroup puts a party into a group at a moment. Whoever is in it already
// stays; nothing is written then.
func (e *Editor) JoinGroup(a addr.Address, group string, at moment.Moment) {
	e.idx, e.due = nil, nil
	p, g := e.address(a), e.group(group)
	e.writeDue(p, at)
	if e.has(e.inv.parties.at(p).groups, g) {
		return
	}
	e.stale = append(e.stale, p)
	e.setGroups(p, g, true)
	rec := e.inv.groups.edit(e.tok, g)
	rec.parties = e.list(append(append([]uint32(nil), e.inv.lists[rec.parties.off:rec.parties.off+rec.parties.n]...), p))
}

// AdmitTo makes a space admit one more from outside. It matters where the space
// names who may come; one that names nobody admits everybody.
func (e *Editor) AdmitTo(id string, ref world.PartyRef) {
	e.idx, e.due = nil, nil
	x := e.inv.spaces.edit(e.tok, e.space(id))
	refs := append([]partyRef(nil), e.inv.refs[x.parties.off:x.parties.off+x.parties.n]...)
	refs = append(refs, e.partyRef(ref))
	x.parties = list{uint32(len(e.inv.refs)), uint32(len(refs))}
	e.inv.refs = append(e.inv.refs, refs...)
}

// TakeIn makes a person of ours a member of a space, or an owner. A person who
// is a member already would stand in the list twice, which changes no answer.
func (e *Editor) TakeIn(id, person string, owner bool) {
	e.idx, e.due = nil, nil
	p := e.person(person)
	x := e.inv.spaces.edit(e.tok, e.space(id))
	l := &x.members
	if owner {
		l = &x.owners
	}
	*l = e.list(append(append([]uint32(nil), e.inv.lists[l.off:l.off+l.n]...), p))
}

// Activate makes a record active: accepted, and not suspended. Being brought
// back counts as having been seen, so the days of not being seen begin anew. A
// record that its feed keeps stays the feed's.
func (e *Editor) Activate(a addr.Address, at moment.Moment) {
	e.idx, e.due = nil, nil
	i := e.address(a)
	p := e.inv.parties.edit(e.tok, i)
	d := e.inv.dates.edit(e.tok, i)
	if d.state == dated.IsSuspended || p.out <= at { // what its dates wrote, or would have
		d.stateSince = at
	}
	if d.state != dated.Fed {
		d.state, d.cause = dated.Active, dated.NoCause
	}
	p.flags &^= isSuspended
	p.accepted = min(p.accepted, at)
	e.stale = append(e.stale, i)
}

// Extend gives a record another end, where it has one, and begins its term
// anew. A record without an end of its own gets none; its term still begins
// again.
func (e *Editor) Extend(a addr.Address, until, at moment.Moment) {
	e.idx, e.due = nil, nil
	i := e.address(a)
	e.writeDue(i, at)
	d := e.inv.dates.edit(e.tok, i)
	if d.until != moment.Never {
		d.until = until
	}
	d.renewed = max(d.renewed, seconds(at))
	e.stale = append(e.stale, i)
}

// SignInDomain makes a meeting admit one more domain. Domains of the meeting's
// lists stay as they are; it is added to those that count.
func (e *Editor) SignInDomain(id string, d addr.Domain) {
	e.idx, e.due = nil, nil
	n := e.domain(d)
	x := e.inv.meetings.edit(e.tok, e.inv.meetingIDs.find(e.inv.text, id))
	x.domains = e.list(append(append([]uint32(nil), e.inv.lists[x.domains.off:x.domains.off+x.domains.n]...), n))
}

// GivePasscode makes a meeting have a passcode.
func (e *Editor) GivePasscode(id string) {
	e.idx, e.due = nil, nil
	e.inv.meetings.edit(e.tok, e.inv.meetingIDs.find(e.inv.text, id)).passcode = true
}

// License records that a guest has a licence. One of ours counts only with a
// location (see party.licenceRoute), which this does not set.
func (e *Editor) License(a addr.Address, l world.Licence) {
	e.idx, e.due = nil, nil
	e.inv.parties.edit(e.tok, e.address(a)).licence = l
}

// HouseLicence gives a report area a licence for every guest.
func (e *Editor) HouseLicence(id string) {
	e.idx, e.due = nil, nil
	e.inv.spaces.edit(e.tok, e.space(id)).house = true
}

// Giving lists groups that hold at least a role on a space or an item at a
// moment, by their id. They are what somebody could be put into in place of
// being given the role by hand.
func (s *Snapshot) Giving(r world.Resource, role catalogue.Role, at moment.Moment) (ids []string) {
	inv := &s.inv
	var want uint32
	if r.Kind == catalogue.Space {
		want = inv.spaceIDs.find(inv.text, r.ID)
	} else {
		want = inv.itemIDs.find(inv.text, r.ID) | itemBit
	}
	for i := uint32(0); i < inv.groups.n; i++ {
		g := inv.groups.at(i)
		if !g.exists {
			continue
		}
		for _, x := range inv.given(g.grants) {
			if x.resource == want && x.role() >= role && x.live(at, &inv.beside) {
				ids = append(ids, inv.groupIDs.text(inv.text, i))
				break
			}
		}
	}
	return
}

// GroupsOf returns the groups that a person of ours is in.
func (s *Snapshot) GroupsOf(person string) (ids []string) {
	inv := &s.inv
	i := inv.personIDs.find(inv.text, person)
	if i == none || !inv.people.at(i).exists {
		return nil
	}
	p := inv.people.at(i)
	for _, g := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
		ids = append(ids, inv.groupIDs.text(inv.text, g))
	}
	return
}

// OwnerOf returns the first owner of a space, by id; empty where there is none.
// It does not ask whether they are still here; OwnersHere does.
func (s *Snapshot) OwnerOf(space string) string {
	inv := &s.inv
	if i := inv.spaceIDs.find(inv.text, space); i != none && inv.spaces.at(i).exists && inv.spaces.at(i).owners.n > 0 {
		return inv.personIDs.text(inv.text, inv.lists[inv.spaces.at(i).owners.off])
	}
	return ""
}

// HostOf returns the host of a meeting, and the space it belongs to. Either is
// empty where there is none.
func (s *Snapshot) HostOf(meeting string) (host, space string) {
	inv := &s.inv
	i := inv.meetingIDs.find(inv.text, meeting)
	if i == none || !inv.meetings.at(i).exists {
		return
	}
	m := inv.meetings.at(i)
	if m.host != none {
		host = inv.personIDs.text(inv.text, m.host)
	}
	if m.space != none {
		space = inv.spaceIDs.text(inv.text, m.space)
	}
	return
}

// LetJoin lets our own people join a space.
func (e *Editor) LetJoin(id string) {
	e.idx, e.due = nil, nil
	e.inv.spaces.edit(e.tok, e.space(id)).joinable = true
}

// MakeOpen makes an item private no more: whoever is in its space reaches it.
func (e *Editor) MakeOpen(id string) {
	e.idx, e.due = nil, nil
	e.inv.items.edit(e.tok, e.item(id)).private = false
}

// AnySignIn makes a meeting admit people of any domain.
func (e *Editor) AnySignIn(id string) {
	e.idx, e.due = nil, nil
	x := e.inv.meetings.edit(e.tok, e.inv.meetingIDs.find(e.inv.text, id))
	x.domains, x.own, x.lists = list{}, list{}, list{}
}
