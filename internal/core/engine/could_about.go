package engine

import (
	"fmt"
	"iter"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// What chains, cuts and spare access ask of a snapshot, and change in it.

// Here lists the people of ours who are here at a moment, by their id. They are
// in the order of their indexes, which is the order in which they came.
func (s *Snapshot) Here(at moment.Moment) (ids []string) {
	for i := range s.inv.people.n {
		if s.hereAt(i, at) {
			ids = append(ids, s.inv.personIDs.text(s.inv.text, i))
		}
	}
	return
}

// OneOfEachHere lists one of each of our people whom the same exceptions name
// and who have the same roles, by their id.
func (p *Potential) OneOfEachHere() (ids []string) {
	for _, i := range p.staff {
		ids = append(ids, p.most.inv.personIDs.text(p.most.inv.text, i))
	}
	return
}

// OwnersHere lists the owners of a space, or the host of a meeting, who are
// here at a moment. Of an item they are those of its space.
func (s *Snapshot) OwnersHere(r world.Resource, at moment.Moment) (ids []string) {
	inv := &s.inv
	if r.Kind == catalogue.Meeting {
		if i := inv.meetingIDs.find(inv.text, r.ID); i != none && s.hereAt(inv.meetings.at(i).host, at) {
			ids = append(ids, inv.personIDs.text(inv.text, inv.meetings.at(i).host))
		}
		return
	}
	id := r.ID
	if r.Kind.IsItem() {
		id = s.SpaceOf(id)
	}
	i := inv.spaceIDs.find(inv.text, id)
	if i == none {
		return
	}
	l := inv.spaces.at(i).owners
	for _, p := range inv.lists[l.off : l.off+l.n] {
		if s.hereAt(p, at) {
			ids = append(ids, inv.personIDs.text(inv.text, p))
		}
	}
	return
}

// MembersHere lists the members of a space who are here at a moment, those of
// groups included. Somebody may be listed twice, as a member and through a
// group.
func (s *Snapshot) MembersHere(space string, at moment.Moment) (ids []string) {
	inv := &s.inv
	i := inv.spaceIDs.find(inv.text, space)
	if i == none {
		return
	}
	sp, rev := inv.spaces.at(i), s.reversed()
	for _, m := range inv.lists[sp.members.off : sp.members.off+sp.members.n] {
		who := []uint32{m}
		if m&itemBit != 0 {
			if who = nil; m&^itemBit < uint32(len(rev.inGroup)) {
				who = rev.inGroup[m&^itemBit]
			}
		}
		for _, p := range who {
			if s.hereAt(p, at) {
				ids = append(ids, inv.personIDs.text(inv.text, p))
			}
		}
	}
	return
}

// Says returns the value that a space, item or meeting says of a rule, and
// whether it counts; Unset where it says nothing. Defaults and limits are not
// joined to it.
func (s *Snapshot) Says(r world.Resource, rule catalogue.RuleID) (v catalogue.Value) {
	inv := &s.inv
	row := none
	switch {
	case r.Kind == catalogue.Space:
		if i := inv.spaceIDs.find(inv.text, r.ID); i != none {
			row = inv.spaces.at(i).rules
		}
	case r.Kind == catalogue.Meeting:
		if i := inv.meetingIDs.find(inv.text, r.ID); i != none {
			row = inv.meetings.at(i).rules
		}
	default:
		if i := inv.itemIDs.find(inv.text, r.ID); i != none {
			row = inv.items.at(i).rules
		}
	}
	if row == none {
		return catalogue.Unset
	}
	return inv.rows[row][rule]
}

// Door says what of a space, item or meeting lets people in, besides its
// values: whether our own people may join a space, whether it names who may
// come from outside, whether an item is private, whether a meeting names
// sign-in domains and has a passcode.
//
// A chain lists an act for each of these that is shut, by whoever may open it.
type Door struct{ Joinable, Names, Private, Domains, Passcode bool }

// DoorOf returns it.
func (s *Snapshot) DoorOf(r world.Resource) (d Door) {
	inv := &s.inv
	switch {
	case r.Kind == catalogue.Space:
		if i := inv.spaceIDs.find(inv.text, r.ID); i != none {
			d.Joinable, d.Names = inv.spaces.at(i).joinable, !inv.spaces.at(i).anyParty
		}
	case r.Kind == catalogue.Meeting:
		if i := inv.meetingIDs.find(inv.text, r.ID); i != none {
			m := inv.meetings.at(i)
			d.Domains, d.Passcode = m.domains.n > 0 || m.lists.n > 0, m.passcode
		}
	case r.Kind.IsItem():
		if i := inv.itemIDs.find(inv.text, r.ID); i != none {
			d.Private = inv.items.at(i).private
		}
	}
	return
}

// JoinsAs returns the role that who joins a course from outside gets.
func (s *Snapshot) JoinsAs(space string) catalogue.Role {
	if i := s.inv.spaceIDs.find(s.inv.text, space); i != none {
		return s.inv.spaces.at(i).joinsAs
	}
	return catalogue.NoRole
}

// OwnRole returns the highest role that an address was given itself on a space
// or an item, and that is in force. Groups do not count, and neither does what
// their partner holds as a whole.
func (s *Snapshot) OwnRole(a addr.Address, r world.Resource, at moment.Moment) (role catalogue.Role) {
	inv := &s.inv
	i := inv.addresses.find(inv.text, a.String())
	if i == none || i >= inv.parties.n || at >= inv.parties.at(i).gone {
		return
	}
	of := none
	if r.Kind == catalogue.Space {
		of = inv.spaceIDs.find(inv.text, r.ID)
	} else if k := inv.itemIDs.find(inv.text, r.ID); k != none {
		of = k | itemBit
	}
	given := inv.given(inv.parties.at(i).grants)
	for k := range given {
		if g := &given[k]; g.resource == of && g.live(at, &inv.beside) {
			role = max(role, g.role())
		}
	}
	return
}

// HoldsIn reports whether an address was given something itself, that is in
// force, in the space that a resource is or belongs to. An item counts for its
// space.
func (s *Snapshot) HoldsIn(a addr.Address, r world.Resource, at moment.Moment) bool {
	inv := &s.inv
	i := inv.addresses.find(inv.text, a.String())
	if i == none || i >= inv.parties.n || at >= inv.parties.at(i).gone {
		return false
	}
	space := none
	if r.Kind == catalogue.Space {
		space = inv.spaceIDs.find(inv.text, r.ID)
	} else if k := inv.itemIDs.find(inv.text, r.ID); k != none && r.Kind.IsItem() {
		space = inv.items.at(k).space
	}
	given := inv.given(inv.parties.at(i).grants)
	for k := range given {
		g := &given[k]
		of := g.resource
		if of&itemBit != 0 {
			of = inv.items.at(of &^ itemBit).space
		}
		if of == space && space != none && g.live(at, &inv.beside) {
			return true
		}
	}
	return false
}

// HeldIn says what an address was given in a space, itself or through groups,
// that is in force: alike for those who hold alike. It is a key and not for
// reading.
func (s *Snapshot) HeldIn(a addr.Address, space string, at moment.Moment) string {
	inv := &s.inv
	i, sp := inv.addresses.find(inv.text, a.String()), inv.spaceIDs.find(inv.text, space)
	if i == none || i >= inv.parties.n || sp == none {
		return ""
	}
	var held []string
	note := func(given []grant) {
		for k := range given {
			g := &given[k]
			of := g.resource
			if of&itemBit != 0 {
				of = inv.items.at(of &^ itemBit).space
			}
			if of == sp && g.live(at, &inv.beside) {
				held = append(held, fmt.Sprint(g.resource, g.role()))
			}
		}
	}
	q := inv.parties.at(i)
	note(inv.given(q.grants))
	for _, g := range inv.lists[q.groups.off : q.groups.off+q.groups.n] {
		note(inv.given(inv.groups.at(g).grants))
	}
	slices.Sort(held)
	return strings.Join(slices.Compact(held), " ")
}

// GuestsIn lists who outside holds anything in a space, by their address.
// Anything they were ever given counts; whether it is in force is asked
// elsewhere.
func (s *Snapshot) GuestsIn(space string, at moment.Moment) (out []addr.Address) {
	i := s.inv.spaceIDs.find(s.inv.text, space)
	if i == none {
		return
	}
	for _, p := range s.indexed().parties.of(i) {
		if s.isCounted(p, at) {
			out = append(out, s.addressOf(p))
		}
	}
	return
}

// NeedsRole returns the role that an action asks for on a resource of a kind;
// NoRole where it asks for none. It is the highest of what the classes from
// outside are asked.
func NeedsRole(act catalogue.ActionID, k catalogue.ResourceKind) (role catalogue.Role) {
	for c, ask := range act.Get().Rows(k) {
		if ask != nil && catalogue.Class(c) != catalogue.Ours && ask.Holding == catalogue.ByRole {
			role = max(role, ask.Role)
		}
	}
	return
}

// OneOfEach goes through one address of each class of parties who could have a
// record, and of typical newcomers. Who could is found for as many of them as
// are taken.
func (p *Potential) OneOfEach() iter.Seq[addr.Address] {
	return func(yield func(addr.Address) bool) {
		for _, c := range p.classesOf() {
			if c.mayHaveRecord() && !yield(c.who.Address) {
				return
			}
		}
	}
}

// SpaceClasses lists one space of each class of spaces that are alike to
// whoever holds nothing in them, and of each class of things that are passed on
// by themselves one in which there is one.
func (p *Potential) SpaceClasses() (ids []string) {
	seen := map[uint32]bool{}
	add := func(i uint32) {
		if !seen[i] {
			seen[i] = true
			ids = append(ids, p.spaceRef(i).ID)
		}
	}
	for c := range p.spaces {
		add(p.spaces[c].members[0])
	}
	for c := range p.items { // the first space of its class may hold nothing like it
		if _, passed := PassedOnBy(p.items[c].kind); !passed {
			continue
		}
		if k := slices.IndexFunc(p.items[c].members, func(i uint32) bool { return seen[p.most.inv.items.at(i).space] }); k < 0 {
			add(p.most.inv.items.at(p.items[c].members[0]).space)
		}
	}
	return
}

// MayJoin reports whether our own people could come to belong to a space by
// themselves, once its owners let them.
func (p *Potential) MayJoin(space string) bool {
	i := p.most.inv.spaceIDs.find(p.most.inv.text, space)
	return i != none && p.most.inv.spaces.at(i).open
}

// AlikeAs tells our people apart by the exceptions that name them and their
// roles. Two of our people for whom it is the same give the same answers.
func (p *Potential) AlikeAs(person string) [2]int {
	i := p.most.inv.personIDs.find(p.most.inv.text, person)
	if i == none {
		return [2]int{-1, -1}
	}
	return [2]int{p.most.reversed().alikeOf[i], int(p.most.inv.people.at(i).roles)}
}

// ItemsIn lists one thing of each class in a space that is passed on by itself.
func (p *Potential) ItemsIn(space string) (out []world.Resource) {
	i := p.most.inv.spaceIDs.find(p.most.inv.text, space)
	if i == none {
		return
	}
	seen := map[int32]bool{}
	for _, it := range p.now.indexed().items.of(i) {
		if _, ok := PassedOnBy(it.kind); ok && !seen[p.itemOf[it.index]] {
			seen[p.itemOf[it.index]] = true
			out = append(out, p.itemRef(it.index))
		}
	}
	return
}

// TakeRole takes a role of the organisation from a person of ours.
func (e *Editor) TakeRole(person string, role world.PersonRole) {
	if i := e.inv.personIDs.find(e.inv.text, person); i != none {
		e.inv.people.edit(e.tok, i).roles &^= role
	}
}

// LoosestUsed returns for each rule the loosest value that counts anywhere
// below its limit: the default, at partners, in exceptions that are not over,
// in spaces, items and meetings. Of methods it is all that any of these has.
//
// A limit may be lowered to it without anybody noticing: nothing below says
// more. That is what spare access proposes, and why it can promise that nothing
// changes. It is one pass over all places; rows are shared, so most are looked
// at once.
func (s *Snapshot) LoosestUsed(at moment.Moment) (out [catalogue.NumRules]catalogue.Value) {
	inv := &s.inv
	copy(out[:], s.pol.fallback[:])
	add := func(said *row) {
		for r, v := range said {
			scale := &catalogue.RuleID(r).Get().Scale
			switch {
			case v == catalogue.Unset:
			case scale.Shape == catalogue.Methods:
				out[r] |= v
			case scale.Looser(v, out[r]):
				out[r] = v
			}
		}
	}
	for i := range s.pol.partners {
		if p := &s.pol.partners[i]; p.exists {
			add(&s.pol.rows[p.rules])
		}
	}
	for i := range s.pol.except {
		if x := &s.pol.except[i]; at < x.until {
			add(&x.rules)
		}
	}
	seen := make([]bool, len(inv.rows)) // many places say the same
	said := func(exists bool, rules uint32) {
		if exists && rules != none && !seen[rules] {
			seen[rules] = true
			add(&inv.rows[rules])
		}
	}
	for i := range inv.spaces.n {
		x := inv.spaces.at(i)
		said(x.exists, x.rules)
	}
	for i := range inv.items.n {
		x := inv.items.at(i)
		said(x.exists, x.rules)
	}
	for i := range inv.meetings.n {
		x := inv.meetings.at(i)
		said(x.exists, x.rules)
	}
	for r := range out {
		if catalogue.RuleID(r).Get().Scale.Looser(out[r], s.pol.limit[r]) {
			out[r] = s.pol.limit[r]
		}
	}
	return
}

// RolesOf returns the roles of the organisation that a person of ours has.
func (s *Snapshot) RolesOf(person string) world.PersonRole {
	if i := s.inv.personIDs.find(s.inv.text, person); i != none {
		return s.inv.people.at(i).roles
	}
	return 0
}

// IsHere reports whether somebody is one of our people at a moment.
func (s *Snapshot) IsHere(person string, at moment.Moment) bool {
	return s.hereAt(s.inv.personIDs.find(s.inv.text, person), at)
}
