package engine

import (
	"slices"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// cohort is parties whom all wide actions answer alike, in every snapshot it was
// made for. A hundred thousand guests are some hundreds of cohorts: so many as
// there are sorts of domains, states and names in exceptions, and not as there
// are people.
//
// One member is asked in place of all; who is any of them.
type cohort struct {
	who     Who
	kind    Kind
	partner uint32 // of the first snapshot; none where there is none
	members []uint32
	links   int         // or so many live links
	like    [2]likeness // on each side
	changed bool
}

// size is how many parties or links it is.
func (c *cohort) size() int { return len(c.members) + c.links }

// likeness is what tells cohorts apart in one snapshot. It compares with == and
// is a key of maps. A party that something names by domain, group or address
// has that in it, and so does not fall together with others.
//
// Whatever a gate of a wide action reads of a party must be in it: a fact that
// is left out puts two parties together who would be answered otherwise. Random
// worlds in which every party is also asked by itself hold this (see the tests
// of Wide).
type likeness struct {
	kind            Kind
	state           world.State
	terms, record   bool
	joined          bool // without a record, but in a course
	barred          bool
	facts           entryKind
	partner, domain uint32
	groups          string
	alone           uint32 // an address that something names is a cohort of its own
}

// naming is what of a policy and inventory names parties one by one. Whoever is
// in none of them is told apart by less.
type naming struct {
	domains, groups, addresses map[uint32]bool
	partners                   map[uint32]bool // named by anything: an exception, a space, a membership
}

// naming collects whom exceptions, courses and meetings name. It costs a pass
// over courses, meetings and spaces, and none over parties.
func (s *Snapshot) naming() naming {
	n := naming{map[uint32]bool{}, map[uint32]bool{}, map[uint32]bool{}, map[uint32]bool{}}
	add := func(refs []partyRef) {
		for _, r := range refs {
			switch r.what {
			case ofPartner:
				n.partners[r.index] = true
			case ofDomain:
				n.domains[r.index] = true
			case ofGroup:
				n.groups[r.index] = true
			case ofAddress:
				n.addresses[r.index] = true
			}
		}
	}
	for i := range s.pol.except {
		add(s.pol.except[i].parties)
	}
	inv := &s.inv
	for _, i := range s.reversed().courses {
		p := inv.spaces.at(i).parties
		add(inv.refs[p.off : p.off+p.n])
	}
	for i := uint32(0); i < inv.meetings.n; i++ {
		if m := inv.meetings.at(i); m.exists {
			for _, d := range inv.lists[m.domains.off : m.domains.off+m.domains.n] {
				n.domains[d] = true
			}
		}
	}
	for i := range inv.spaces.n {
		if sp := inv.spaces.at(i); sp.exists && !sp.anyParty {
			for _, r := range inv.refs[sp.parties.off : sp.parties.off+sp.parties.n] {
				if r.what == ofPartner {
					n.partners[r.index] = true
				}
			}
		}
	}
	for i := range inv.many {
		if of := inv.many[i].of; of.what == ofPartner {
			n.partners[of.index] = true
		}
	}
	return n
}

// likeNew finds what tells an address apart of which nothing is kept. It has no
// record, no groups and no state; all it has is its domain, and what names it.
func (s *Snapshot) likeNew(a addr.Address, named *naming) (l likeness) {
	inv, domain := &s.inv, a.Domain().String()
	f := s.pol.match(domain)
	_, barred := s.pol.bars[a.String()]
	l = likeness{facts: f.kind, barred: barred || f.bar != 0, partner: none, domain: none, alone: none, kind: KindFederated}
	switch f.kind {
	case partnerDomain:
		l.partner = f.partner
	case personalDomain:
		l.kind = KindPersonal
	}
	if d := inv.domains.find(inv.text, domain); d != none && named.domains[d] {
		l.domain = d
	}
	if i := inv.addresses.find(inv.text, a.String()); i != none && named.addresses[i] {
		l.alone = i
	}
	return l
}

// like finds what tells a party apart; false where it is one of ours. It does
// not look at grants: wide actions ask none.
func (s *Snapshot) like(i uint32, at moment.Moment, x *sides, named *naming) (l likeness, outside bool) {
	inv := &s.inv
	q := inv.parties.at(i)
	d := &s.pol.domains[q.domain]
	if d.kind == ownDomain {
		return l, false
	}
	l.facts, l.partner, l.domain, l.alone = d.kind, none, none, none
	if d.kind == partnerDomain {
		l.partner = d.partner
	}
	l.barred = d.bar != 0 || x.barred[i]
	if named.domains[q.domain] {
		l.domain = q.domain
	}
	if named.addresses[i] {
		l.alone = i
	}
	l.kind = KindFederated
	if d.kind == personalDomain {
		l.kind = KindPersonal
	}
	if q.recordAt(at) {
		l.record, l.kind = true, KindGuest
		if q.flags&isProvisioned != 0 {
			l.kind = KindProvisioned
		}
		l.state = q.stateAt(at)
		l.terms = s.pol.agreed(q.terms, at)
	} else {
		l.joined = s.joined(q, at)
	}
	if len(named.groups) > 0 && q.groups.n > 0 {
		var in []uint32
		for _, g := range inv.groupsOf(q, at) {
			if named.groups[g] {
				in = append(in, g)
			}
		}
		slices.Sort(in)
		// A list of indexes as a text, because a slice is no key.
		for _, g := range in {
			l.groups += string(rune(g)) + ","
		}
	}
	return l, true
}

// cohorts divides everybody with a record or a role, and the live links. They
// are in the order of their first members.
//
// Two parties are in one cohort where they are alike on both sides: an impact
// compares two policies, and whoever the new one takes apart must not be
// together in the old one. With one side given twice the second look is saved.
func cohorts(sides0, sides1 *Snapshot, at moment.Moment) []*cohort {
	type key [2]likeness
	s, inv := sides0, &sides0.inv
	x0, x1 := sides0.sidesAt(at), sides1.sidesAt(at)
	n0, n1 := sides0.naming(), sides1.naming()
	found := map[key]*cohort{}
	var out []*cohort
	for i := uint32(0); i < inv.parties.n; i++ {
		if !sides0.isCounted(i, at) && !sides1.isCounted(i, at) {
			continue
		}
		l0, in0 := sides0.like(i, at, x0, &n0)
		l1, in1 := l0, in0
		if sides1 != sides0 {
			l1, in1 = sides1.like(i, at, x1, &n1)
		}
		if !in0 && !in1 {
			continue
		}
		k := key{l0, l1}
		c := found[k]
		if c == nil {
			c = &cohort{who: Who{Address: s.addressOf(i)}, kind: l0.kind, partner: l0.partner, like: [2]likeness{l0, l1}}
			// Whom both policies take alike is only asked what changed for
			// everybody.
			c.changed = l0 != l1 || !samePartner(sides0, sides1, l0.partner)
			found[k], out = c, append(out, c)
		}
		c.members = append(c.members, i)
	}
	links := &cohort{kind: KindBearer, partner: none}
	for i := uint32(0); i < inv.links.n; i++ {
		if l := inv.links.at(i); l.exists && l.bearer && moment.Within(at, l.created, l.until) {
			if links.links++; links.links == 1 {
				links.who = Who{Kind: ByLinkID, ID: inv.linkIDs.text(inv.text, i)}
			}
		}
	}
	if links.links > 0 {
		out = append(out, links)
	}
	return out
}

// samePartner reports whether what two policies say of a partner decides alike.
// Names and notes do not matter: whoever corrects a partner's name is not to
// wait until all its people are asked again.
func samePartner(a, b *Snapshot, k uint32) bool {
	if k == none || a.pol == b.pol {
		return true
	}
	if k >= uint32(len(a.pol.partners)) || k >= uint32(len(b.pol.partners)) {
		return false
	}
	x, y := &a.pol.partners[k], &b.pol.partners[k]
	return x.exists == y.exists && x.standing == y.standing && x.still == y.still && x.opened == y.opened &&
		a.pol.rows[x.rules] == b.pol.rows[y.rules] && a.pol.rest[k].endedAt == b.pol.rest[k].endedAt &&
		a.pol.rest[k].stance == b.pol.rest[k].stance
}

// alike is resources that wide actions answer alike. They are people whom the
// same exceptions name, meetings with the same door, or one course.
type alike struct {
	id      string // of one of them
	members []uint32
}
