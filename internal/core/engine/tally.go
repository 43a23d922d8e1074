package engine

import (
	"math/bits"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Roles, party by party and many at a time.
//
// A party with ten grants in spaces of some hundred things each may have a
// thousand answers with a role. They are found without asking a question: the
// party's roles are gathered once (roles), each space is looked at once (walk),
// and what a role lets somebody do with all that says nothing of its own is one
// word of bits (partySide.allowed). Counting everybody, an audience's first
// look, lists of lines and impacts all go this way.

// contents is what is in a space: how many items of each kind that say nothing
// of their own, the space itself, and where the others are.
//
// Most of what is in a space says nothing of its own, so that it answers as the
// space does; such things are counted by kind and not gone through.
type contents struct {
	plain   [nothingPlain + 1]uint32 // the last is always zero
	special list                     // of index.special
	entries uint64                   // that are about any of the plain ones
}

// Places in contents.plain: by kind of item, then the space itself. Thirteen
// kinds, one for the space, one for nothing.
const (
	spacePlain   = uint8(catalogue.NumResourceKinds)
	nothingPlain = spacePlain + 1
)

// plainOf is the place of a kind in contents.plain.
func plainOf(k catalogue.ResourceKind) uint8 {
	if k == catalogue.Space {
		return spacePlain
	}
	return uint8(k)
}

// special is an item that is private or sets values, or a meeting. Each is
// asked by itself.
type special struct {
	index   uint32
	rules   uint32
	kind    catalogue.ResourceKind
	private bool
}

// fill finds what is in each space, and the words of every row. It goes through
// items and meetings once.
func (r *index) fill(inv *inventory) {
	r.in = make([]contents, inv.spaces.n)
	for sp := range r.in {
		c := &r.in[sp]
		c.plain[spacePlain] = 1
		c.entries = masks.ofKind[catalogue.Space]
		if inv.spaces.at(uint32(sp)).kind != world.ReportArea {
			c.entries &^= masks.areaOnly
		}
		c.special.off = uint32(len(r.special))
		for _, x := range r.items.of(uint32(sp)) {
			if x.plain {
				c.plain[x.kind]++
				c.entries |= masks.ofKind[x.kind]
				continue
			}
			it := inv.items.at(x.index)
			r.special = append(r.special, special{x.index, it.rules, it.kind, it.private})
		}
		for _, i := range r.meetings.of(uint32(sp)) {
			r.special = append(r.special, special{i, inv.meetings.at(i).rules, catalogue.Meeting, false})
		}
		c.special.n = uint32(len(r.special)) - c.special.off
	}
	r.fillRows(inv)
}

// fillRows turns each row of values into words, for spaces and for items.
func (r *index) fillRows(inv *inventory) {
	r.atSpace, r.atItem = make([]words, len(inv.rows)), make([]words, len(inv.rows))
	for i := range inv.rows {
		r.atSpace[i], r.atItem[i] = wordsOf(&inv.rows[i], catalogue.AtSpace), wordsOf(&inv.rows[i], catalogue.AtItem)
	}
}

// otherRows returns the index of the same inventory where other values count.
// The lists are shared; only the words are made anew.
func (r *index) otherRows(inv *inventory) *index {
	out := &index{items: r.items, meetings: r.meetings, parties: r.parties, links: r.links, in: r.in, special: r.special}
	out.fillRows(inv)
	out.once.Do(func() {})
	return out
}

// of returns the words of a row; nothing is said where there is none.
func of(ws []words, i uint32) words {
	if i == none {
		return words{}
	}
	return ws[i]
}

// Tally answers the granted actions of many parties at one moment. It belongs
// to one goroutine. It uses the same memory for each party.
type Tally struct {
	s    *Snapshot
	x    *sides
	at   moment.Moment
	live []heldRole
	many map[uint32]int
}

// Tally makes ready to answer granted actions at a moment.
func (s *Snapshot) Tally(at moment.Moment) *Tally {
	s.indexed()
	return &Tally{s: s, x: s.sidesAt(at), at: at}
}

// roles finds the live roles of a party: the highest on each resource. Up to 48
// grants are compared with each other, which is faster than a map; beyond that
// a map keeps it from growing with the square. What it returns holds until the
// next call.
func (t *Tally) roles(i uint32, p *partySide) []heldRole {
	inv := &t.s.inv
	q := inv.parties.at(i)
	t.live = t.live[:0]
	own, groups := inv.grantsOf(q, t.at), inv.groupsOf(q, t.at)
	n := uint32(len(own))
	for _, g := range groups {
		n += inv.groups.at(g).grants.n
	}
	if n > 48 {
		t.many = make(map[uint32]int, n)
	} else {
		t.many = nil
	}
	t.gather(own)
	for _, g := range groups {
		t.gather(inv.given(inv.groups.at(g).grants))
	}
	inv.heldByMany(p.partner, q.domain, func(_ partyRef, given []grant) {
		for k := range given {
			if g := &given[k]; g.live(t.at, &t.s.inv.beside) {
				t.gatherMany(g)
			}
		}
	})
	return t.live
}

// gatherMany adds what a partner or a domain holds as a whole.
func (t *Tally) gatherMany(g *grant) {
	for l := range t.live {
		if t.live[l].resource == g.resource {
			t.live[l].many = max(t.live[l].many, g.role())
			return
		}
	}
	if t.many != nil {
		t.many[g.resource] = len(t.live)
	}
	t.live = append(t.live, heldRole{g.resource, g.resource, catalogue.NoRole, g.role()})
}

// gather adds live grants of the party or a group.
func (t *Tally) gather(given []grant) {
	inv := &t.s.inv
next:
	for k := range given {
		g := &given[k]
		if !g.live(t.at, &t.s.inv.beside) {
			continue
		}
		if t.many != nil {
			if l, ok := t.many[g.resource]; ok {
				t.live[l].role = max(t.live[l].role, g.role())
				continue
			}
			t.many[g.resource] = len(t.live)
		} else {
			for l := range t.live {
				if t.live[l].resource == g.resource {
					t.live[l].role = max(t.live[l].role, g.role())
					continue next
				}
			}
		}
		sp := g.resource
		if sp&itemBit != 0 {
			it := inv.items.at(sp &^ itemBit)
			if !it.exists {
				continue
			}
			sp = it.space
		}
		t.live = append(t.live, heldRole{g.resource, sp, g.role(), catalogue.NoRole})
	}
}

// roleOn returns the party's own role on a space or an item, and what its
// partner or domain holds.
func (t *Tally) roleOn(resource uint32) (own, many catalogue.Role) {
	if t.many != nil {
		if l, ok := t.many[resource]; ok {
			return t.live[l].role, t.live[l].many
		}
		return
	}
	for l := range t.live {
		if t.live[l].resource == resource {
			return t.live[l].role, t.live[l].many
		}
	}
	return
}

// holds reports whether the party has a role of its own on an item.
func (t *Tally) holds(item uint32) bool {
	own, _ := t.roleOn(item | itemBit)
	return own != catalogue.NoRole
}

// thing is a resource in a space. index is of the item, meeting or space, by
// kind.
type thing struct {
	space uint32
	index uint32
	kind  catalogue.ResourceKind
}

// walk calls all for every space that party i holds a role on, with the entries
// that are a yes for the space and the plain things in it, and one for
// everything else it may do something with: things that it holds itself, things
// that say something of their own, and meetings.
//
// What a party may on a space with hundreds of plain things is one call, which
// is why counting everybody takes a second and not minutes. Things that the
// party holds a role of its own on come by themselves, and are taken out of the
// contents (see less).
func (t *Tally) walk(i uint32, p *partySide, all func(space uint32, in *contents, yes uint64), one func(th thing, yes uint64)) {
	if p.ok == 0 {
		return
	}
	s, inv, idx := t.s, &t.s.inv, t.s.idx
	live := t.roles(i, p)
	items := 0
	for k := range live {
		if live[k].resource&itemBit != 0 {
			items++
		}
	}
	for k := range live {
		h := &live[k]
		sp := h.space
		if sp >= inv.spaces.n || !inv.spaces.at(sp).exists {
			continue
		}
		at := s.place(sp, p, i, t.at)
		if h.resource&itemBit != 0 {
			index := h.resource &^ itemBit
			it := inv.items.at(index)
			m := t.x.met(p, &at, of(idx.atItem, it.rules))
			own, many := t.roleOn(sp)
			if yes := p.allowed(&at, m, masks.ofKind[it.kind], it.private, h.role, own, many); yes != 0 {
				one(thing{sp, index, it.kind}, yes)
			}
			continue
		}
		in := &idx.in[sp]
		if yes := p.allowed(&at, t.x.met(p, &at, words{}), in.entries, false, catalogue.NoRole, h.role, h.many); yes != 0 {
			if items > 0 {
				in = t.less(sp, in, live)
			}
			all(sp, in, yes)
		}
		special := idx.in[sp].special
		for _, x := range idx.special[special.off : special.off+special.n] {
			if x.kind != catalogue.Meeting && (x.private || items > 0 && t.holds(x.index)) {
				continue
			}
			if yes := p.allowed(&at, t.x.met(p, &at, of(idx.atItem, x.rules)), masks.ofKind[x.kind], false, catalogue.NoRole, h.role,
				h.many); yes != 0 {
				one(thing{sp, x.index, x.kind}, yes)
			}
		}
	}
}

// resourceOf names a thing.
func (s *Snapshot) resourceOf(th thing) world.Resource {
	inv := &s.inv
	switch {
	case th.kind == catalogue.Space:
		return world.Resource{Kind: th.kind, ID: inv.spaceIDs.text(inv.text, th.index)}
	case th.kind == catalogue.Meeting:
		return world.Resource{Kind: th.kind, ID: inv.meetingIDs.text(inv.text, th.index)}
	}
	return world.Resource{Kind: th.kind, ID: inv.itemIDs.text(inv.text, th.index)}
}

// Granting is what a party may do with one resource, as far as it needs a role:
// with its record (or by becoming a guest), and with its home account where
// not. It belongs to the Tally that made it.
type Granting struct {
	thing       thing
	First, Home Actions
}

// Resource names the resource of one of its answers.
func (t *Tally) Resource(g *Granting) world.Resource { return t.s.resourceOf(g.thing) }

// All returns what may be done with either account.
func (g *Granting) All() Actions { return g.First | g.Home }

// Reach appends all that an address may do by a role to out, resource by
// resource. An address that nothing was given has none. out may be used again
// for the next address. It is Snapshot.Reach without causes, for whoever needs
// answers alone.
func (t *Tally) Reach(a addr.Address, out []Granting) []Granting {
	i := t.s.inv.addresses.find(t.s.inv.text, a.String())
	if i == none || i >= t.s.inv.parties.n {
		return out
	}
	p, outside := t.s.sideOf(t.x, i, t.at)
	if !outside {
		return out
	}
	t.things(i, &p, func(th thing, yes uint64) {
		if yes != 0 {
			first, home := actionsOf(yes)
			out = append(out, Granting{th, first, home})
		}
	})
	return out
}

// things calls add for every single thing that party i may do something with.
// It is walk with every plain thing by itself.
func (t *Tally) things(i uint32, p *partySide, add func(th thing, yes uint64)) {
	t.walk(i, p, func(sp uint32, in *contents, yes uint64) {
		add(thing{sp, sp, catalogue.Space}, yes&masks.ofKind[catalogue.Space])
		if yes&^masks.ofKind[catalogue.Space]|yes&masks.ofKind[catalogue.Channel] == 0 {
			return
		}
		less := in != &t.s.idx.in[sp] // some of them come by themselves
		for _, x := range t.s.idx.items.of(sp) {
			if x.plain && yes&masks.ofKind[x.kind] != 0 && !(less && t.holds(x.index)) {
				add(thing{sp, x.index, x.kind}, yes&masks.ofKind[x.kind])
			}
		}
	}, add)
}

// Conditions returns the conditions under which an address may do something
// that it may do by a role.
func (t *Tally) Conditions(a addr.Address, action catalogue.ActionID, home bool) catalogue.Condition {
	i := t.s.inv.addresses.find(t.s.inv.text, a.String())
	if i == none || i >= t.s.inv.parties.n {
		return 0
	}
	p, _ := t.s.sideOf(t.x, i, t.at)
	return p.conditions(action, home)
}

// Sum counts granted actions: for each action the pairs of party and resource.
// Actions is indexed by ActionID.
type Sum struct {
	Parties  int // those counted
	Reaching int // of them, those who may do anything
	Actions  [64]int
}

// Total returns the number of (party, action, resource).
func (s *Sum) Total() (n int) {
	for _, x := range s.Actions {
		n += x
	}
	return
}

// By returns the number by service. Directory, spaces and so on, in the order
// of the services.
func (s *Sum) By() (out [catalogue.NumServices]int) {
	for _, act := range catalogue.Actions() {
		out[actionService[act.ID]] += s.Actions[act.ID]
	}
	return
}

// actionService is the service of each action, looked up once.
var actionService = func() (out []catalogue.Service) {
	for _, act := range catalogue.Actions() {
		out = append(out, act.Service())
	}
	return
}()

// count adds n for each entry.
func (s *Sum) count(yes uint64, n int) {
	for ; yes != 0; yes &= yes - 1 {
		s.Actions[masks.entries[bits.TrailingZeros64(yes)].action] += n
	}
}

// countAll counts the plain things of a space and the space itself: for each
// entry that is a yes, how many things of its kinds there are.
func (s *Sum) countAll(in *contents, yes uint64) (n int) {
	for ; yes != 0; yes &= yes - 1 {
		e := &masks.entries[bits.TrailingZeros64(yes)]
		k := int(in.plain[e.kinds[0]] + in.plain[e.kinds[1]])
		s.Actions[e.action] += k
		n += k
	}
	return
}

// add adds another sum.
func (s *Sum) add(o *Sum) {
	s.Parties += o.Parties
	s.Reaching += o.Reaching
	for i := range s.Actions {
		s.Actions[i] += o.Actions[i]
	}
}
