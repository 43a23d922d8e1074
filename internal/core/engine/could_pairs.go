package engine

import (
	"math/bits"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
)

// couldAlike is things with which a party could do the same, list by list: so
// they are told together, and thousands of spaces make a few dozens of yeses.
type couldAlike struct {
	kind   catalogue.ResourceKind
	set    Actions
	n      int
	things [][]uint32
}

// couldAbout is things of one class of spaces, items or meetings.
type couldAbout struct {
	kind    catalogue.ResourceKind
	class   int32
	members []uint32
}

// about lists the things in a scope that roles are about, class by class. Of a
// space also what is in it; of everything one entry a class. Kinds with which
// none of the scope's actions does anything are left out. It is made once for a
// scope and read by all workers.
func (p *Potential) about(w *scoped) (out []couldAbout) {
	var kinds [catalogue.NumResourceKinds]bool
	for k := range catalogue.Actions() {
		if a := &catalogue.Actions()[k]; w.Actions.Has(a.ID) {
			for _, kind := range a.On {
				kinds[kind] = true
			}
		}
	}
	add := func(kind catalogue.ResourceKind, class int32, members []uint32) {
		if class >= 0 && kinds[kind] {
			out = append(out, couldAbout{kind, class, members})
		}
	}
	inv := &p.most.inv
	r := w.Resource
	switch {
	case r == nil:
		for c := range p.spaces {
			add(catalogue.Space, int32(c), p.spaces[c].members)
		}
		for c := range p.items {
			add(p.items[c].kind, int32(c), p.items[c].members)
		}
		for c := range p.meetings {
			add(catalogue.Meeting, int32(c), p.meetings[c].members)
		}
	case r.Kind == catalogue.Space:
		if w.space == none || p.spaceOf[w.space] < 0 {
			return
		}
		add(catalogue.Space, p.spaceOf[w.space], []uint32{w.space})
		idx := p.now.indexed()
		for _, it := range idx.items.of(w.space) {
			add(it.kind, p.itemOf[it.index], []uint32{it.index})
		}
		for _, m := range idx.meetings.of(w.space) {
			add(catalogue.Meeting, p.meetingOf[m], []uint32{m})
		}
	case r.Kind == catalogue.Meeting:
		if i := inv.meetingIDs.find(inv.text, r.ID); i != none {
			add(catalogue.Meeting, p.meetingOf[i], []uint32{i})
		}
	case r.Kind.IsItem():
		if i := inv.itemIDs.find(inv.text, r.ID); i != none && inv.items.at(i).kind == r.Kind {
			add(r.Kind, p.itemOf[i], []uint32{i})
		}
	}
	return
}

// eachBesides tells what a party could do through what they hold now, where
// acts alone would not let them. A role that an owner cannot raise (because the
// space has none, or a group holds it) may open what no act would; so each
// space that somebody holds something in is asked with it. Where even holding
// all would give no more than acts do, the question is spared: that is what
// most is for.
func (p *Potential) eachBesides(w *scoped, c *couldClass, i uint32) error {
	inv := &p.most.inv
	q := inv.parties.at(i)
	if q.grants.n == 0 && q.groups.n == 0 && len(inv.many) == 0 {
		return nil
	}
	spaces := map[uint32]bool{}
	note := func(given []grant) {
		for k := range given {
			sp := given[k].resource
			if sp&itemBit != 0 {
				sp = inv.items.at(sp &^ itemBit).space
			}
			if sp >= uint32(len(p.spaceOf)) || p.spaceOf[sp] < 0 || w.space != none && sp != w.space {
				continue
			}
			spaces[sp] = true
		}
	}
	note(inv.given(q.grants))
	for _, g := range inv.lists[q.groups.off : q.groups.off+q.groups.n] {
		note(inv.given(inv.groups.at(g).grants))
	}
	if len(spaces) == 0 || p.at >= q.gone {
		return nil
	}
	o := c.holding(i)
	y := Yes{Who: o.who, Party: i, Kind: c.kind, Pairs: 1, each: 1}
	tell := func(r world.Resource, set Actions) error {
		for set &= w.Actions; set != 0; set &= set - 1 {
			y.Action, y.Resource = catalogue.ActionID(bits.TrailingZeros64(uint64(set))), r
			if err := w.found(&y); err != nil {
				return err
			}
		}
		return nil
	}
	// Spaces and meetings have no grants of their own besides the space's.
	nothing := func(int) catalogue.Role { return catalogue.NoRole }
	idx := p.now.indexed()
	for _, sp := range sorted(spaces) {
		sc := p.spaceOf[sp]
		if ways := o.ways(); len(ways) == 1 && ways[0] == 1 && p.spaces[sc].own && c.invited(sc) {
			continue // they hold nothing that acts would not give them
		}
		if r := p.spaceRef(sp); c.most(0, sc)&^c.spaceActions(sc)&w.Actions != 0 && w.covers(r) {
			if err := tell(r, o.besides(thing{sp, none, catalogue.Space}, nothing)&^c.spaceActions(sc)); err != nil {
				return err
			}
		}
		for _, it := range idx.items.of(sp) {
			ic := p.itemOf[it.index]
			if c.most(1, ic)&^c.itemActions(ic)&w.Actions == 0 {
				continue
			}
			if r := p.itemRef(it.index); w.covers(r) {
				if err := tell(r, o.besides(thing{sp, it.index, it.kind},
					func(way int) catalogue.Role { return c.onItems(way, ic) })&^c.itemActions(ic)); err != nil {
					return err
				}
			}
		}
		for _, m := range idx.meetings.of(sp) {
			if r := p.meetingRef(m); c.most(2, p.meetingOf[m])&^c.meetingActions(p.meetingOf[m])&w.Actions != 0 && w.covers(r) {
				if err := tell(r, o.besides(thing{sp, m, catalogue.Meeting}, nothing)&^c.meetingActions(p.meetingOf[m])); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// EachCould calls fn for every party and resource that a yes of
// Potential.EachYes stands for, until it returns false; looking up people has
// the resource *. A yes of a class stands for members times things. The names
// are written out here only, so that counting costs nothing: one yes may be a
// million lines.
func (s *Snapshot) EachCould(y *Yes, fn func(who Who, resource string) bool) {
	one := func(who Who) bool {
		if len(y.lists) == 0 {
			r := y.Resource.String()
			if y.Resource.ID == "*" {
				r = "*"
			}
			return fn(who, r)
		}
		for _, list := range y.lists {
			for _, i := range list {
				if !fn(who, s.ofIndex(y.Resource.Kind, i).String()) {
					return false
				}
			}
		}
		return true
	}
	if len(y.Members) == 0 {
		one(y.Who)
	}
	for _, m := range y.Members {
		if !one(Who{Address: s.addressOf(m)}) {
			return
		}
	}
}

// MostPairs is up to how many pairs (see Pairs) are asked about while somebody
// waits. At it the answer takes half a minute.
const MostPairs = 100_000_000

// Pairs is how many pairs of classes, of parties and of things that need a role,
// EachYes asks about in a scope. They are nearly all that it costs, and told to
// whoever wonders before; what needs no role comes in few classes. Only who and
// what is in the scope counts, so that one partner's people, or one kind of
// thing, are few pairs in a world where everybody is too many.
func (p *Potential) Pairs(x *Scope) int {
	w := p.now.scopedTo(x, p.at)
	if w.shut {
		return 0
	}
	things := len(p.about(w))
	if !w.Party.Of.Address.IsZero() {
		return things
	}
	asked, _ := p.classesIn(w)
	return len(asked) * things
}

// ofIndex names a thing of a kind by its index.
func (s *Snapshot) ofIndex(k catalogue.ResourceKind, i uint32) world.Resource {
	if k.IsItem() {
		return world.Resource{Kind: k, ID: s.inv.itemIDs.text(s.inv.text, i)}
	}
	return s.wideResource(k, i)
}
