package engine

import (
	"slices"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Single look-ups, for whoever shows, checks or composes something: what is
// called what, who owns what, what is where. None of them decides anything.
//
// Most cost a hash and a comparison. Those that go through everybody say so.

// Has reports whether a person, group, space, meeting, link, partner or an item
// (by its own kind) of this id exists. A kind that there is not has nothing of
// any id.
//
// An id may be known and nothing be there: grants name what was removed, or
// what is still to come. That is why exists is asked of each record, here and
// everywhere else.
func (s *Snapshot) Has(kind, id string) bool {
	inv := &s.inv
	switch kind {
	case "person":
		i := inv.personIDs.find(inv.text, id)
		return i != none && inv.people.at(i).exists
	case "group":
		i := inv.groupIDs.find(inv.text, id)
		return i != none && inv.groups.at(i).exists
	case "space":
		i := inv.spaceIDs.find(inv.text, id)
		return i != none && inv.spaces.at(i).exists
	case "meeting":
		i := inv.meetingIDs.find(inv.text, id)
		return i != none && inv.meetings.at(i).exists
	case "domain_list":
		i := inv.listIDs.find(inv.text, id)
		return i != none && inv.domainLists.at(i).exists
	case "link":
		i := inv.linkIDs.find(inv.text, id)
		return i != none && inv.links.at(i).exists
	case "partner":
		i := inv.partners.find(inv.text, id)
		return i != none && int(i) < len(s.pol.partners) && s.pol.partners[i].exists
	}
	i := inv.itemIDs.find(inv.text, id)
	return i != none && inv.items.at(i).exists && inv.items.at(i).kind.String() == kind
}

// SpaceOf returns the id of the space an item is in, or "" for no such item.
func (s *Snapshot) SpaceOf(itemID string) string {
	inv := &s.inv
	i := inv.itemIDs.find(inv.text, itemID)
	if i == none || !inv.items.at(i).exists {
		return ""
	}
	return inv.spaceIDs.text(inv.text, inv.items.at(i).space)
}

// NameOf returns the name of a resource, or "" where it has none. Our directory
// is named so that a sentence can be made of it.
func (s *Snapshot) NameOf(r world.Resource) string {
	inv := &s.inv
	switch {
	case r.Kind.IsItem():
		if i := inv.itemIDs.find(inv.text, r.ID); i != none {
			return inv.text.text(inv.items.at(i).name)
		}
	case r.Kind == catalogue.Space:
		if i := inv.spaceIDs.find(inv.text, r.ID); i != none {
			return inv.text.text(inv.spaces.at(i).name)
		}
	case r.Kind == catalogue.Meeting:
		if i := inv.meetingIDs.find(inv.text, r.ID); i != none {
			return inv.text.text(inv.meetings.at(i).name)
		}
	case r.Kind == catalogue.OurDirectory:
		return "our directory"
	default:
		if i := inv.personIDs.find(inv.text, r.ID); i != none {
			return inv.text.text(inv.people.at(i).name)
		}
	}
	return ""
}

// NameOfSubject returns the name of who asks, or "" where it is not known. A
// link has no name.
func (s *Snapshot) NameOfSubject(w Who) string {
	inv := &s.inv
	switch w.Kind {
	case ByPerson:
		return s.NameOf(world.Resource{Kind: catalogue.Person, ID: w.ID})
	case ByAddress:
		i := inv.addresses.find(inv.text, w.Address.String())
		if i == none || i >= inv.parties.n {
			return ""
		}
		if p := *inv.ours.at(i); p != none {
			return inv.text.text(inv.people.at(p).name)
		}
		return inv.nameOf(i)
	}
	return ""
}

// PersonAt returns the id of the person of ours who has an address, or "".
func (s *Snapshot) PersonAt(a addr.Address) string {
	inv := &s.inv
	if i := inv.addresses.find(inv.text, a.String()); i != none && i < inv.ours.n {
		return inv.personIDs.text(inv.text, *inv.ours.at(i))
	}
	return ""
}

// AddressOf returns the address of a person of ours, or "". It looks through
// all addresses, some 10 ms with a million of them: it is asked for one person
// at a time.
func (s *Snapshot) AddressOf(personID string) string {
	inv := &s.inv
	p := inv.personIDs.find(inv.text, personID)
	if p == none || !inv.people.at(p).exists {
		return ""
	}
	for i := uint32(0); i < inv.ours.n; i++ {
		if *inv.ours.at(i) == p {
			return inv.addressText(i)
		}
	}
	return ""
}

// BelongsTo reports whether a person owns or is a member of the space that a
// resource is, is in, or hosts the meeting, or has the mailbox or calendar. It
// is what a member may see: things of spaces they are in.
//
// It says nothing of what an action asks: being in a space is not the same as
// being allowed to invite there.
func (s *Snapshot) BelongsTo(personID string, r world.Resource) bool {
	inv := &s.inv
	p := inv.personIDs.find(inv.text, personID)
	if p == none {
		return false
	}
	// Membership is found as the grant gate finds it.
	a := asker{s: s, space: none}
	switch {
	case r.Kind.IsItem():
		i := inv.itemIDs.find(inv.text, r.ID)
		if i == none {
			return false
		}
		a.space = inv.items.at(i).space
	case r.Kind == catalogue.Space:
		a.space = inv.spaceIDs.find(inv.text, r.ID)
	case r.Kind == catalogue.Meeting:
		i := inv.meetingIDs.find(inv.text, r.ID)
		return i != none && inv.meetings.at(i).exists && inv.meetings.at(i).host == p
	case r.Kind == catalogue.OurDirectory:
		return false
	default:
		return r.ID == personID
	}
	return a.space != none && a.member(p)
}

// OwnedBy reports whether a person owns the space that a resource is or is in,
// or hosts the meeting. It is what they may settle.
func (s *Snapshot) OwnedBy(personID string, r world.Resource) bool {
	inv := &s.inv
	p := inv.personIDs.find(inv.text, personID)
	if p == none {
		return false
	}
	a := asker{s: s}
	switch {
	case r.Kind.IsItem():
		i := inv.itemIDs.find(inv.text, r.ID)
		return i != none && inv.items.at(i).exists && a.ownerOf(inv.items.at(i).space, p)
	case r.Kind == catalogue.Space:
		i := inv.spaceIDs.find(inv.text, r.ID)
		return i != none && inv.spaces.at(i).exists && a.ownerOf(i, p)
	case r.Kind == catalogue.Meeting:
		i := inv.meetingIDs.find(inv.text, r.ID)
		return i != none && inv.meetings.at(i).exists && inv.meetings.at(i).host == p
	}
	return false
}

// Given is a role that somebody from outside was given, on a space or on
// something in it. Grants that are over are told with the others, so that a
// space shows its history; those that were taken away are in the journal alone.
type Given struct {
	Party       string // an address, or group:ID
	Name        string
	Resource    world.Resource
	Role        catalogue.Role
	From, Until moment.Moment
	Link        string // the named link it comes from, or empty
}

// InSpace counts what a space holds: things in it, and addresses from outside
// with a live role on the space or on something in it.
type InSpace struct{ Items, Parties int }

// CountsInSpaces counts the items of every space and the addresses with a live
// role in it, by the space's id. It is one pass over all parties and their
// grants, for a page that lists many spaces.
func (s *Snapshot) CountsInSpaces(at moment.Moment) map[string]InSpace {
	inv := &s.inv
	counts := make([]InSpace, inv.spaces.n)
	for i := uint32(0); i < inv.items.n; i++ {
		if it := inv.items.at(i); it.exists && it.space < inv.spaces.n {
			counts[it.space].Items++
		}
	}
	// Each party counts once for a space, whatever number of roles it has
	// there.
	last := make([]uint32, inv.spaces.n)
	for i := uint32(0); i < inv.parties.n; i++ {
		p := inv.parties.at(i)
		count := func(given []grant) {
			for j := range given {
				g := &given[j]
				sp := g.resource
				if sp&itemBit != 0 {
					sp = inv.items.at(sp &^ itemBit).space
				}
				if sp < inv.spaces.n && last[sp] != i+1 && g.live(at, &inv.beside) {
					last[sp] = i + 1
					counts[sp].Parties++
				}
			}
		}
		count(inv.grantsOf(p, at))
		for _, g := range inv.groupsOf(p, at) {
			count(inv.given(inv.groups.at(g).grants))
		}
	}
	out := make(map[string]InSpace, len(counts))
	for i := range counts {
		out[inv.spaceIDs.text(inv.text, uint32(i))] = counts[i]
	}
	return out
}

// SpacesOf lists the ids of the spaces that a person owns.
func (s *Snapshot) SpacesOf(personID string) (out []string) {
	inv := &s.inv
	p := inv.personIDs.find(inv.text, personID)
	a := asker{s: s}
	for i := uint32(0); p != none && i < inv.spaces.n; i++ {
		if inv.spaces.at(i).exists && a.ownerOf(i, p) {
			out = append(out, inv.spaceIDs.text(inv.text, i))
		}
	}
	return
}

// MeetingsIn lists the meetings of a space, by their ids.
func (s *Snapshot) MeetingsIn(space string) []string {
	i := s.inv.spaceIDs.find(s.inv.text, space)
	return s.meetingsWhere(func(m *meeting) bool { return i != none && m.space == i })
}

// MeetingsOf lists the meetings that a person hosts, by their ids.
func (s *Snapshot) MeetingsOf(host string) []string {
	p := s.inv.personIDs.find(s.inv.text, host)
	return s.meetingsWhere(func(m *meeting) bool { return p != none && m.host == p })
}

// meetingsWhere lists meetings in the order of their ids.
func (s *Snapshot) meetingsWhere(is func(*meeting) bool) (out []string) {
	for i := range s.inv.meetings.n {
		if m := s.inv.meetings.at(i); m.exists && is(m) {
			out = append(out, s.inv.meetingIDs.text(s.inv.text, i))
		}
	}
	slices.Sort(out)
	return out
}

// InGroup reports whether a group holds an address.
func (s *Snapshot) InGroup(group string, a addr.Address) bool {
	inv := &s.inv
	g, i := inv.groupIDs.find(inv.text, group), inv.addresses.find(inv.text, a.String())
	if g == none || i == none || i >= inv.parties.n {
		return false
	}
	l := inv.parties.at(i).groups
	return slices.Contains(inv.lists[l.off:l.off+l.n], g)
}

// NameOfGroup returns the name of a group, or "".
func (s *Snapshot) NameOfGroup(id string) string {
	inv := &s.inv
	if i := inv.groupIDs.find(inv.text, id); i != none {
		return inv.text.text(inv.groups.at(i).name)
	}
	return ""
}

// manyText writes a partner or a domain as world.Grant.Party does.
func (s *Snapshot) manyText(of partyRef) string {
	if of.what == ofDomain {
		return "domain:" + s.inv.domains.text(s.inv.text, of.index)
	}
	return "partner:" + s.inv.partners.text(s.inv.text, of.index)
}

// manyName says who is meant by a partner or a domain as a whole.
func (s *Snapshot) manyName(of partyRef) string {
	if of.what == ofDomain {
		return "everybody at " + s.inv.domains.text(s.inv.text, of.index)
	}
	id := s.inv.partners.text(s.inv.text, of.index)
	for i := range s.pol.source.Partners {
		if p := &s.pol.source.Partners[i]; p.ID == id && p.Name != "" {
			return "everybody of " + p.Name
		}
	}
	return "everybody of " + id
}

// GivenIn lists what was ever given in a space, partners and domains as a whole
// and groups first, then addresses in the order in which they became known. It
// looks through all parties, also those who hold nothing: ended grants are in
// no index.
func (s *Snapshot) GivenIn(spaceID string) (out []Given) {
	inv := &s.inv
	sp := inv.spaceIDs.find(inv.text, spaceID)
	if sp == none {
		return nil
	}
	add := func(given []grant, party, name string) {
		for i := range given {
			g := &given[i]
			x := Given{Party: party, Name: name, Role: g.role(), From: g.begin(&inv.beside), Until: g.written(&inv.beside)}
			switch {
			// On the space itself; else on something that lies in it.
			case g.resource == sp:
				x.Resource = world.Resource{Kind: catalogue.Space, ID: spaceID}
			case g.resource&itemBit != 0 && inv.items.at(g.resource&^itemBit).space == sp:
				it := g.resource &^ itemBit
				x.Resource = world.Resource{Kind: inv.items.at(it).kind, ID: inv.itemIDs.text(inv.text, it)}
			default:
				continue
			}
			if g.via() == viaLink {
				x.Link = inv.linkIDs.text(inv.text, g.detail(&inv.beside).link)
			}
			out = append(out, x)
		}
	}
	for i := range inv.many {
		m := &inv.many[i]
		add(inv.given(m.grants), s.manyText(m.of), s.manyName(m.of))
	}
	for i := uint32(0); i < inv.groups.n; i++ {
		if g := inv.groups.at(i); g.exists && g.grants.n > 0 {
			add(inv.given(g.grants), "group:"+inv.groupIDs.text(inv.text, i), inv.text.text(g.name))
		}
	}
	for i := uint32(0); i < inv.parties.n; i++ {
		if p := inv.parties.at(i); p.grants.n > 0 {
			add(inv.given(p.grants), inv.addressText(i), inv.nameOf(i))
		}
	}
	return out
}

// Concerns counts whom and what a change is about. Three numbers that say how
// large a change is, before it is computed exactly. Grants are counted as they
// are kept, those that are over among them.
type Concerns struct{ Guests, Grants, Spaces int }

// Concerned counts the live records, grants and spaces of a partner's people.
func (s *Snapshot) Concerned(partner string) Concerns { return s.concerns(s.peopleOfPartner(partner)) }

// Moving counts those who belong to a partner in one of two snapshots and not
// in the other. after must have come from before by Aside. It is for a domain
// that changes its partner.
func Moving(before, after *Snapshot, partner string) Concerns {
	was, will := before.peopleOfPartner(partner), after.peopleOfPartner(partner)
	for i := range was {
		if will[i] {
			delete(was, i)
			delete(will, i)
		}
	}
	for i := range will {
		was[i] = true
	}
	return after.concerns(was)
}

// Reclassified counts those whose address the table of domains takes otherwise
// in two snapshots: barred or no longer, of another partner, private or no
// longer. after must have come from before by Aside.
//
// Two addresses that the table takes alike need not be asked about. It costs a
// pass over all parties, and tells the size of a change of domains before
// anything is asked.
func Reclassified(before, after *Snapshot) Concerns {
	inv := &after.inv
	people := map[uint32]bool{}
	facts := func(s *Snapshot, i, domain uint32) (f domainFacts) {
		if domain != none && int(domain) < len(s.pol.domains) {
			f = s.pol.domains[domain]
		}
		// Which of several bars it is does not matter, only that there is one.
		f.bar = min(f.bar, 1)
		if f.kind != partnerDomain {
			f.partner = 0
		}
		if _, barred := s.pol.bars[inv.addressText(i)]; barred {
			f.bar = 1
		}
		return
	}
	for i := uint32(0); i < inv.parties.n; i++ {
		d := inv.parties.at(i).domain
		if facts(before, i, d) != facts(after, i, d) {
			people[i] = true
		}
	}
	return after.concerns(people)
}

// peopleOfPartner holds the parties that the table of domains gives a partner.
func (s *Snapshot) peopleOfPartner(partner string) map[uint32]bool {
	inv := &s.inv
	out := map[uint32]bool{}
	k := inv.partners.find(inv.text, partner)
	if k == none {
		return out
	}
	for d := range s.pol.domains {
		if s.pol.domains[d].kind == partnerDomain && s.pol.domains[d].partner == k {
			inv.eachAt(uint32(d), func(i uint32) { out[i] = true })
		}
	}
	return out
}

// concerns counts records, grants and the spaces that these are in.
func (s *Snapshot) concerns(people map[uint32]bool) (c Concerns) {
	inv := &s.inv
	seen := map[uint32]bool{}
	for i := range people {
		p := inv.parties.at(i)
		if p.flags&hasRecord != 0 {
			c.Guests++
		}
		for _, g := range inv.grants[p.grants.off : p.grants.off+p.grants.n] {
			c.Grants++
			sp := g.resource
			if sp&itemBit != 0 {
				sp = inv.items.at(sp &^ itemBit).space
			}
			seen[sp] = true
		}
	}
	c.Spaces = len(seen)
	return
}
