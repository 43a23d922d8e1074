package engine

import (
	"maps"
	"math/bits"
	"runtime"
	"slices"
	"sync"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// What could come to be, of everybody.
//
// A hundred thousand guests and forty thousand things would be four thousand
// million questions. They are asked class by class: parties are alike whom
// policy cannot tell apart (partyClasses), places where they say the same
// (couldTables). What acts alone could give a class is asked of one of it and
// told for all; only what single members hold now, or whom they know, is asked
// of each, and only where it could add anything (eachBesides).
//
// Classes are dealt to all processors, eight to sixty-four at a time. What they
// find is told in the order of the classes, so that two runs tell the same.

// Everybody, class by class.

// couldClass is parties that are alike, whatever they hold. The embedded
// couldOf is the first of them; what only depends on who they are is asked of
// it alone, what they hold of each. A typical newcomer, and whoever would hold
// a link, is a class without members.
type couldClass struct {
	*couldOf
	kind    Kind
	name    string // of a newcomer
	members []uint32
}

// classesOf lists one of each class of parties, those with addresses.
func (p *Potential) classesOf() (out []*couldOf) {
	for _, c := range p.partyClasses() {
		if c.who.Kind == ByAddress {
			out = append(out, c.couldOf)
		}
	}
	return
}

// aLink is whoever holds a link that somebody could make.
var aLink = Who{Kind: ByLinkID, ID: "any"}

// partyClasses divides everybody who is known, and lists typical newcomers.
//
// Parties are alike who have the same kind and partner (or one that is like
// it), whom the same exceptions, spaces and groups name, and who have the same
// route of licence. What acts change themselves tells nobody apart: an
// invitation may be accepted, and terms are a condition, which *could* does not
// look at. 20,000 guests of 100 partners make 1,250 classes. Typical newcomers
// and a link to come are classes without members.
func (p *Potential) partyClasses() []*couldClass {
	if p.classes != nil {
		return p.classes
	}
	type key struct {
		likeness
		licence catalogue.Value
		holds   string
	}
	s, inv := p.most, &p.most.inv
	x := s.sidesAt(p.at)
	found := map[key]*couldClass{}
	like := p.partnersAlike()
	for i := range inv.parties.n {
		if !p.now.isCounted(i, p.at) {
			continue
		}
		l, outside := s.like(i, p.at, x, &p.naming)
		if !outside {
			continue
		}
		q := inv.parties.at(i)
		k := key{likeness: l}
		if l.partner != none {
			k.partner = like[l.partner]
		}
		k.terms, k.state = false, world.StateActive
		if l.record {
			k.licence = q.licenceRoute()
		}
		if l.state == world.StateSuspended {
			k.state = l.state
		}
		k.holds = p.heldApart(i)
		c := found[k]
		if c == nil {
			c = &couldClass{couldOf: p.of(Who{Address: s.addressOf(i)}), kind: l.kind}
			found[k], p.classes = c, append(p.classes, c)
		}
		c.members = append(c.members, i)
	}
	for _, n := range p.now.NewcomersAt(p.at) {
		if n.Who.Kind == ByAddress {
			o := p.of(n.Who)
			o.newcomer = true
			p.classes = append(p.classes, &couldClass{couldOf: o, kind: p.now.KindAt(n.Who.Address, p.at), name: n.Name})
		}
	}
	o := p.of(aLink)
	o.newcomer = true
	p.classes = append(p.classes, &couldClass{couldOf: o, kind: KindBearer, name: "whoever holds a link that somebody makes"})
	return p.classes
}

// partnersAlike returns for each partner the first one of which policy says the
// same, where nothing names it. It is by index of partner; a partner that
// something names stands for itself. Of three hundred partners some thirty say
// something that no other does.
func (p *Potential) partnersAlike() []uint32 {
	if p.partners != nil {
		return p.partners
	}
	pol := p.most.pol
	named := maps.Clone(p.naming.partners)
	asks := map[string]bool{} // bundles name whose people may ask for them
	for i := range p.bundles {
		for _, id := range p.bundles[i].Partners {
			asks[id] = true
		}
	}
	for i := range pol.rest {
		if src := pol.rest[i].source; src != nil && asks[src.ID] {
			named[uint32(i)] = true
		}
	}
	out := make([]uint32, len(pol.partners))
	type says struct {
		partnerRow
		endedAt moment.Moment
		stance  [catalogue.NumKeys]stanceFacts
	}
	first := map[says]uint32{}
	for i := range pol.partners { // equal rows are one row
		key := says{pol.partners[i], pol.rest[i].endedAt, pol.rest[i].stance}
		if f, ok := first[key]; ok && !named[uint32(i)] {
			out[i] = f
			continue
		}
		if out[i] = uint32(i); !named[uint32(i)] {
			first[key] = uint32(i)
		}
	}
	p.partners = out
	return out
}

// EachYes calls found for everything in a scope that could come to be a yes, as
// Snapshot.EachYes does for what is one. What people of ours do towards others
// does not change. Links that somebody could make are told as one newcomer.
//
// Everything is told party by party within a class, so that whoever writes it
// down needs no more memory than one class. Conditions are not told: acts do
// not change them, and *could* is not asked about them.
func (p *Potential) EachYes(x *Scope, stop func() error, found func(*Yes) error) error {
	w := p.now.scopedTo(x, p.at)
	w.stop, w.found = stop, found
	if w.shut {
		return nil
	}
	if w.Actions != 0 {
		// Of a single address the classes are not needed.
		if a := w.Party.Of.Address; !a.IsZero() {
			who := Who{Address: a}
			c := &couldClass{couldOf: p.of(who), kind: p.now.KindAt(a, p.at)}
			if i := w.known(who); i != none {
				c.members = []uint32{i}
			} else {
				c.name = who.String()
			}
			if err := p.eachOf(w, c, c.members); err != nil {
				return err
			}
		} else {
			asked, of := p.classesIn(w)
			if err := p.eachClass(w, asked, of); err != nil {
				return err
			}
			// Somebody new from a domain that no partner names is no typical
			// newcomer, and is made for the scope.
			if d := w.Party.Of.Domain; !d.IsZero() && !slices.ContainsFunc(p.classes,
				func(c *couldClass) bool { return c.newcomer && c.who.Address.Domain() == d }) {
				c := &couldClass{couldOf: p.of(Who{Address: addr.Newcomer(d)}), kind: KindFederated, name: "a newcomer from " + d.String()}
				c.kind = p.now.KindAt(c.who.Address, p.at)
				if err := p.eachOf(w, c, nil); err != nil {
					return err
				}
			}
		}
	}
	return w.outward()
}

// classesIn lists the classes that have somebody in a scope, by their places,
// and who of each that is. A newcomer has nobody.
func (p *Potential) classesIn(w *scoped) (asked []int, of [][]uint32) {
	for k, c := range p.partyClasses() {
		members := c.members
		switch {
		case len(members) == 0:
			if n := (Newcomer{Who: c.who}); !w.holdsNew(&n) {
				continue
			}
		case !w.Party.Everybody():
			members = nil
			for _, i := range c.members {
				if w.holds(i, c.kind) {
					members = append(members, i)
				}
			}
			if len(members) == 0 {
				continue
			}
		}
		asked, of = append(asked, k), append(of, members)
	}
	return
}

// atOnce is how many classes one processor goes through before what it found is
// told the first time: few, so that a page shows its first lines soon. It
// doubles up to atMost, so that processors wait for each other less.
const atOnce, atMost = 8, 64

// eachClass tells what members of classes, by their places, could do within a
// scope, in their order; on all processors where there are many.
//
// Each worker has a Potential of its own, since answers are kept in it; what
// was found is told by the caller's goroutine, in the order of the classes, as
// if there had been one processor.
func (p *Potential) eachClass(w *scoped, asked []int, of [][]uint32) error {
	w.could = p.about(w)
	workers := []*Potential{p}
	if n := runtime.GOMAXPROCS(0); n > 1 && len(asked) >= 2*atOnce {
		p.settle()
		for range n - 1 {
			workers = append(workers, p.twin())
		}
	}
	if len(workers) == 1 {
		for k, c := range asked {
			if err := w.stop(); err != nil {
				return err
			}
			if err := p.eachOf(w, p.classes[c], of[k]); err != nil {
				return err
			}
			p.classes[c].handOn()
		}
		return nil
	}
	found, failed := make([][]Yes, len(workers)), make([]error, len(workers))
	for from, each := 0, atOnce; from < len(asked); from, each = from+each*len(workers), min(2*each, atMost) {
		if err := w.stop(); err != nil {
			return err
		}
		var all sync.WaitGroup
		for k, q := range workers {
			all.Go(func() {
				mine := *w
				mine.found = func(y *Yes) error { found[k] = append(found[k], *y); return nil }
				for i := from + k*each; i < min(from+(k+1)*each, len(asked)) && failed[k] == nil; i++ {
					failed[k] = q.eachOf(&mine, q.classes[asked[i]], of[i])
					q.classes[asked[i]].handOn()
				}
			})
		}
		all.Wait()
		for k := range workers {
			if failed[k] != nil {
				return failed[k]
			}
			for i := range found[k] {
				if err := w.found(&found[k][i]); err != nil {
					return err
				}
			}
			found[k] = found[k][:0]
		}
	}
	return nil
}

// twin is a Potential of the same tables for another goroutine, which knows
// already which classes could have a record. Its kept answers begin empty but
// for who may have a record. What is asked about addresses and signs is shared,
// behind locks: there are few of them, and each is asked once for all workers.
func (p *Potential) twin() *Potential {
	q := &Potential{couldTables: p.couldTables, sides: p.sides, at: p.at, kept: map[string]*couldOf{}, helpers: map[[2]uint32][]*couldHolder{},
		settled: true, addresses: p.addresses, partners: p.partnersAlike(), wideKept: p.wideKept}
	for _, c := range p.classes {
		o := q.of(c.who)
		o.newcomer, o.records = c.newcomer, c.records
		q.classes = append(q.classes, &couldClass{couldOf: o, kind: c.kind, name: c.name, members: c.members})
	}
	return q
}

// eachOf tells what members of a class, or a newcomer, could do within a scope.
// What acts alone give is told for all members in one yes; what only some could
// do, through what they hold or whom they know, is told of each of them behind
// it. Nothing is told twice: what the class can do is taken out of what single
// members could.
func (p *Potential) eachOf(w *scoped, c *couldClass, members []uint32) error {
	var err error
	base := Yes{Who: c.who, Members: members, Party: none, Kind: c.kind, Name: c.name, Newcomer: len(members) == 0}
	n := max(1, len(members))
	if len(members) == 1 {
		base.Party, base.Members = members[0], nil
	}
	if len(members) > 0 {
		base.Who = Who{Address: p.now.addressOf(members[0])}
	}
	// tell hands over one yes for each action of a set, about things that are
	// alike.
	tell := func(x *couldAlike) {
		for k := range catalogue.Actions() {
			a := catalogue.Actions()[k].ID
			if err != nil || !x.set.Has(a) || !w.Actions.Has(a) || x.n == 0 {
				continue
			}
			y := base
			y.Action, y.Pairs, y.each = a, n*x.n, x.n
			y.Resource, y.lists = world.Resource{Kind: x.kind, ID: "*"}, x.things
			if x.n == 1 {
				y.Resource, y.lists = p.most.ofIndex(x.kind, x.things[0][0]), nil
			}
			err = w.found(&y)
		}
	}
	inv := &p.most.inv
	// within keeps what of a list the scope is about.
	within := func(all []uint32, ref func(uint32) world.Resource) []uint32 {
		if w.Resource == nil {
			return all
		}
		var out []uint32
		for _, i := range all {
			if w.covers(ref(i)) {
				out = append(out, i)
			}
		}
		return out
	}
	var told []couldAlike // with which they could do the same
	add := func(kind catalogue.ResourceKind, set Actions, things []uint32) {
		if set &= w.Actions; set == 0 || len(things) == 0 {
			return
		}
		k := slices.IndexFunc(told, func(x couldAlike) bool { return x.kind == kind && x.set == set })
		if k < 0 {
			k, told = len(told), append(told, couldAlike{kind: kind, set: set})
		}
		told[k].n, told[k].things = told[k].n+len(things), append(told[k].things, things)
	}
	// What needs a role, class of places by class of places.
	if w.could == nil {
		w.could = p.about(w)
	}
	for _, l := range w.could {
		switch {
		case l.kind == catalogue.Space:
			add(l.kind, c.spaceActions(l.class), l.members)
		case l.kind == catalogue.Meeting:
			add(l.kind, c.meetingActions(l.class), l.members)
		default:
			add(l.kind, c.itemActions(l.class), l.members)
		}
	}
	for k := range told {
		tell(&told[k])
	}
	told = told[:0] // what takes no role is told apart, so that nothing is counted twice
	for kind, about := range p.wide {
		if w.Resource != nil && w.Resource.Kind != kind && w.space == none {
			continue
		}
		masks := c.wideActions(kind)
		for k := range about {
			if masks[k]&w.Actions != 0 {
				add(kind, masks[k], within(about[k].members, func(i uint32) world.Resource { return p.most.wideResource(kind, i) }))
			}
		}
	}
	for k := range told {
		tell(&told[k])
	}
	// Looking up people is told by itself: whom somebody sees depends on the
	// spaces they share.
	if err == nil && w.Actions.Has(lookUpAction) && (w.Resource == nil || w.Resource.Kind == catalogue.Person) {
		tellSeen := func(y Yes, seen *lookedUp) error {
			y.Action, y.Resource, y.each, y.Pairs = lookUpAction, world.Resource{Kind: catalogue.Person, ID: "*"}, 1, max(1, len(y.Members))
			if w.Resource != nil {
				y.Resource = *w.Resource
				if !seen.has(inv.personIDs.find(inv.text, w.Resource.ID)) {
					return nil
				}
			}
			if !seen.any() {
				return nil
			}
			return w.found(&y)
		}
		if w.Resource != nil || c.looksUp(false).any() || len(members) == 0 {
			err = tellSeen(base, c.looksUp(false))
		}
		if err == nil && !c.looksUp(false).any() || w.Resource != nil && !c.looksUp(false).has(inv.personIDs.find(inv.text, w.Resource.ID)) {
			for _, i := range members {
				if err == nil && p.now.holdsAnything(inv.parties.at(i)) {
					y := base
					y.Members, y.Party, y.Who = nil, i, Who{Address: p.now.addressOf(i)}
					err = tellSeen(y, c.holding(i).looksUp(true))
				}
			}
		}
	}
	// Somebody who left us is nobody's new contact; those whose contact they
	// were keep what that gives.
	contacts := p.most.reversed().contacts
	for _, i := range members {
		for _, person := range contacts[i] {
			if err != nil || p.now.hereAt(person, p.at) || !w.covers(p.most.wideResource(catalogue.Person, person)) {
				continue
			}
			o := c.holding(i)
			set := o.met(person)
			for k, a := range p.wide[catalogue.Person] {
				if slices.Contains(a.members, person) {
					set &^= c.wideActions(catalogue.Person)[k]
				}
			}
			for set &= w.Actions; set != 0 && err == nil; set &= set - 1 {
				err = w.found(&Yes{Who: o.who, Party: i, Kind: c.kind, Action: catalogue.ActionID(bits.TrailingZeros64(uint64(set))),
					Resource: p.most.wideResource(catalogue.Person, person), Pairs: 1, each: 1})
			}
		}
		if err == nil {
			err = p.eachBesides(w, c, i)
		}
	}
	return err
}

// holding is a party of a class with what it holds itself: what acts alone
// could give it is as for the whole class, and asked once. It shares the
// answers of its class and has its own grants.
func (c *couldClass) holding(i uint32) *couldOf {
	c.answers() // so that both have the same
	o := *c.couldOf
	o.member, o.who, o.sides = true, Who{Address: o.p.now.addressOf(i)}, [2]*partySide{}
	if o.fill(); o.course == none {
		o.course = c.course
	}
	return &o
}
