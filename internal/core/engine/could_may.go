package engine

import (
	"slices"
	"sync"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// What a party could do with what acts could give them.
//
// Two things are asked of each class of places: how far acts could bring a
// party there (inSpace, onItems in could_acts.go), and what somebody with that
// role may do. The second is answered here, for roles by masks, and for what
// needs none by deciding.
//
// A party is asked in the one or two ways in which it could act (see
// couldOf.ways): as it is, and with a record where it has or could have one.
// What either lets it do counts.

// What a party could do with what acts could give them.

// side is what masks know of them, the way given: with what they hold now,
// without a record that they could have, or with it. It is what the fast way of
// counting (masks.go) takes in place of an address; made once for each way.
//
// With it comes what their partner or domain holds as a whole, by space.
func (o *couldOf) side(way int) *partySide {
	if o.sides[way] == nil {
		s := o.p.most
		q := &o.own[way].party
		facts := domainFacts{partner: none}
		if q.domain != none && int(q.domain) < len(s.pol.domains) {
			facts = s.pol.domains[q.domain]
		} else {
			facts = s.pol.match(o.who.Address.Domain().String())
		}
		_, barred := s.pol.bars[o.who.Address.String()]
		p := s.sideOfParty(o.p.sides, q, &facts, barred || facts.bar != 0, o.p.at)
		o.named = s.inv.addresses.find(s.inv.text, o.who.Address.String())
		o.many = nil
		if inv := &s.inv; len(inv.many) > 0 {
			inv.heldByMany(p.partner, q.domain, func(_ partyRef, given []grant) {
				for k := range given {
					if g := &given[k]; g.live(o.p.at, &inv.beside) {
						if o.many == nil {
							o.many = map[uint32]catalogue.Role{}
						}
						o.many[g.resource] = max(o.many[g.resource], g.role())
					}
				}
			})
		}
		o.sides[way] = &p
	}
	return o.sides[way]
}

// granted returns what they may do with a thing by these roles on its space and
// on itself, the way given. Somebody known may more than a newcomer, and
// whoever is in a course is known.
//
// It asks by masks, all actions of the thing at once, and so costs a twentieth
// of asking one by one. A test holds it to what Decide says, in random worlds,
// for every party and thing.
func (o *couldOf) granted(way int, th *couldThing, onSpace, onItem catalogue.Role) Actions {
	p, side := o.p, o.side(way)
	if side.ok == 0 || onSpace == catalogue.NoRole && onItem == catalogue.NoRole && len(o.many) == 0 {
		return 0
	}
	at := o.within(way, th.class, th.in)
	if onSpace == catalogue.NoRole && onItem == catalogue.NoRole && at.many == catalogue.NoRole {
		return 0
	}
	// fresh is 1 for a newcomer. Whoever is in a course counts as known.
	if way == 0 && side.fresh == 1 && (onSpace > catalogue.NoRole && p.spaces[th.class].kind == world.Course || o.inCourse() != none) {
		known := *side
		known.fresh, side = 0, &known
	}
	entries := masks.ofKind[th.of]
	switch th.of {
	// A space has no roles on itself apart, and only areas of reports take the
	// actions of areas.
	case catalogue.Space:
		if onItem = catalogue.NoRole; !at.area {
			entries &^= masks.areaOnly
		}
	case catalogue.Meeting:
		onItem = catalogue.NoRole
	}
	first, home := actionsOf(side.allowed(&at.place, p.sides.met(side, &at.place, th.says), entries, th.private, onItem, onSpace, at.many))
	return (first | home) & InwardActions
}

// within is where, and with what values, things of a space of a class lie for
// them. It is found once for a class, but for one of a class of parties alone.
func (o *couldOf) within(way int, class int32, space uint32) *couldIn {
	found := func() couldIn {
		return couldIn{o.p.most.placeFor(space, o.p.spaces[class].inside, o.side(way), &o.own[way].party, o.named, o.p.at), true, o.many[space]}
	}
	if o.member {
		in := found()
		return &in
	}
	in := &o.answers().in[way][class]
	if !in.known {
		*in = found()
	}
	return in
}

// byLink returns what whoever holds a link that somebody could make may do with
// an item. A link is asked by deciding: it has no party that masks could take.
func (o *couldOf) byLink(item uint32) (set Actions) {
	with := o.own[0]
	with.link.item = item
	r := o.p.itemRef(item)
	for i := range catalogue.Actions() {
		act := &catalogue.Actions()[i]
		if !InwardActions.Has(act.ID) || !act.Takes(r.Kind) || !roleOnly(act.Rows(r.Kind)) || act.Rows(r.Kind)[catalogue.Bearer] == nil {
			continue
		}
		if v, err := o.p.most.Decide(&Question{Subject: o.who, Action: act.ID, Resource: r, At: o.p.at, With: &with}); err == nil && v.Yes {
			set |= 1 << act.ID
		}
	}
	return
}

// spaceActions, itemActions and meetingActions return what acts could let them
// do with those of a class, whatever they hold now. The answer is found once
// for a class of places and kept. Whoever comes with a link does nothing with a
// space.
func (o *couldOf) spaceActions(c int32) Actions {
	kept := o.answers()
	if !kept.done[0][c] && o.who.Kind == ByAddress {
		for _, way := range o.ways() {
			kept.on[0][c] |= o.granted(way, &o.p.spaces[c].couldThing, o.inSpace(way, c), catalogue.NoRole)
		}
		kept.done[0][c] = true
	}
	return kept.on[0][c]
}

// itemActions are what a party could come to do with items of a class.
func (o *couldOf) itemActions(c int32) Actions {
	kept := o.answers()
	if kept.done[1][c] {
		return kept.on[1][c]
	}
	kept.done[1][c] = true
	k := &o.p.items[c]
	if o.who.Kind != ByAddress {
		if len(o.people(k.in)) > 0 && (k.kind == catalogue.File || k.kind == catalogue.Folder) { // somebody makes a link
			kept.on[1][c] = o.byLink(k.members[0])
		}
		return kept.on[1][c]
	}
	for _, way := range o.ways() {
		kept.on[1][c] |= o.granted(way, &k.couldThing, o.inSpace(way, k.space), o.onItems(way, c))
	}
	return kept.on[1][c]
}

// meetingActions are what a party could come to do, with a role, with meetings
// of a class.
func (o *couldOf) meetingActions(c int32) Actions {
	kept := o.answers()
	if !kept.done[2][c] && o.who.Kind == ByAddress {
		k := &o.p.meetings[c]
		for _, way := range o.ways() {
			kept.on[2][c] |= o.granted(way, &k.couldThing, o.inSpace(way, k.space), catalogue.NoRole)
		}
		kept.done[2][c] = true
	}
	return kept.on[2][c]
}

// wideActions returns what they could do without a role with things of a kind,
// by their place in the tables. Whoever could join a course is asked with a
// role in it, since that makes them known. What depends on a contact is asked
// as if there were one where the person could still make it.
func (o *couldOf) wideActions(kind catalogue.ResourceKind) []Actions {
	if out, ok := o.onWide[kind]; ok {
		return out
	}
	out := make([]Actions, len(o.p.wide[kind]))
	o.onWide[kind] = out
	for _, way := range o.ways() {
		for i := range wideActions {
			w := &wideActions[i]
			if w.kind != kind || w.shares || o.who.Kind != ByAddress && w.act.Get().Rows(kind)[catalogue.Bearer] == nil {
				continue
			}
			for k, is := range o.wideAnswers(way, i) {
				if is {
					out[k] |= 1 << w.act
				}
			}
		}
	}
	return out
}

// wideKept keeps what was asked about parties of one sign, for the workers of
// one question.
type wideKept struct {
	mu      sync.Mutex
	signs   *signs
	told    []map[wideSign][]bool // by wideActions
	divided []*division           // by wideActions: things that say the same, of one kind; nil where they are asked one by one
}

// newWideKept divides the things of each kind by what each action asks of them.
func (t *couldTables) newWideKept(at moment.Moment) *wideKept {
	sides, naming := [2]*Snapshot{t.most, t.most}, map[catalogue.ResourceKind]*namingIndex{}
	x := &wideKept{signs: newSigns(t.most, at, &t.naming), told: make([]map[wideSign][]bool, len(wideActions)),
		divided: make([]*division, len(wideActions))}
	for i := range wideActions {
		k := wideActions[i].kind
		if k == catalogue.OurDirectory || k == catalogue.Space || wideActions[i].shares {
			continue
		}
		if naming[k] == nil {
			naming[k] = namingOf(sides, k, t.wide[k], at)
		}
		x.divided[i] = sortFor(sides, &wideActions[i], t.wide[k], naming[k], at)
	}
	return x
}

// signOf returns the sign of a party for a wide action, and what was told of
// those who have it; nil where nothing was. Two workers may ask the same sign
// at once and both find the answer: it is the same, and the second replaces the
// first.
func (x *wideKept) signOf(o *couldOf, way, action int) (wideSign, []bool) {
	l := o.likenessOf(way)
	x.mu.Lock()
	defer x.mu.Unlock()
	s := x.signs.of(action, &l)
	return s, x.told[action][s]
}

// likenessOf is what tells them apart in the way given: with a record they are
// an active guest, whatever they are now.
func (o *couldOf) likenessOf(way int) likeness {
	k := &o.towards.key
	l := likeness{facts: k.facts, barred: k.barred, partner: k.partner, domain: k.domain, groups: k.groups, alone: k.alone}
	fed := o.own[0].party.flags&isProvisioned != 0
	switch l.record = o.record || way == 1; {
	case l.record && o.record && fed:
		l.kind = KindProvisioned
	case l.record:
		l.kind = KindGuest
	case k.facts == personalDomain:
		l.kind = KindPersonal
	default:
		l.kind = KindFederated
	}
	if l.state = world.StateActive; o.record && o.state == world.StateSuspended {
		l.state = o.state
	}
	l.joined = way == 0 && o.inCourse() != none
	return l
}

// wideAnswers says by their places in the tables which things of its kind a
// wide action is a yes about, the way given. It is asked once for all parties
// of one sign, and for things that say the same of one of them.
func (o *couldOf) wideAnswers(way, action int) []bool {
	p, w := o.p, &wideActions[action]
	about := p.wide[w.kind]
	sup := o.bare[way]
	var sign wideSign
	if o.who.Kind != ByAddress {
		sup = o.own[way]
	} else {
		var told []bool
		if sign, told = p.wideKept.signOf(o, way, action); told != nil {
			return told
		}
		if c := o.inCourse(); way == 0 && c != none {
			sup.grants = []grant{alwaysGiven(c, catalogue.View)}
		}
	}
	out := make([]bool, len(about))
	q := Question{Subject: o.who, Action: w.act, Resource: world.Resource{Kind: w.kind}, At: p.at, With: &sup}
	ask := func(k int) bool {
		q.Resource.ID, q.as = about[k].id, asItIs
		if w.contacts && !p.now.hereAt(about[k].members[0], p.at) { // contacts that there are come by themselves
			q.as = unrelated
		}
		v, err := p.most.Decide(&q)
		return err == nil && v.Yes
	}
	if x := p.wideKept.divided[action]; x != nil && o.who.Kind == ByAddress {
		var here func(int) bool
		if w.contacts {
			here = func(k int) bool { return p.now.hereAt(about[k].members[0], p.at) }
		}
		out = onceEach(x, x.naming.names(0, o.refs()...), here, ask)
	} else {
		for k := range about {
			if w.act == joinAction && !p.most.inv.spaces.at(about[k].members[0]).takesJoiners() {
				continue
			}
			out[k] = ask(k)
		}
	}
	if o.who.Kind == ByAddress {
		p.wideKept.mu.Lock()
		if p.wideKept.told[action] == nil {
			p.wideKept.told[action] = map[wideSign][]bool{}
		}
		p.wideKept.told[action][sign] = out
		p.wideKept.mu.Unlock()
	}
	return out
}

// lookedUp is whom of ours somebody could look up: everybody, everybody who is
// here, or some. Most could look up everybody or nobody, so that a set of
// people is rarely kept.
type lookedUp struct {
	p         *Potential
	all, here bool
	some      map[uint32]bool
}

// any reports whether there is anybody at all whom they could look up.
func (l *lookedUp) any() bool {
	return l.all && l.p.most.inv.live.people > 0 || l.here && len(l.p.staff) > 0 || len(l.some) > 0
}

// has reports whether a person of ours is among them.
func (l *lookedUp) has(i uint32) bool {
	return i < l.p.most.inv.people.n && l.p.most.inv.people.at(i).exists && (l.all || l.here && l.p.now.hereAt(i, l.p.at) || l.some[i])
}

// refs are all by which something may name them: partner, groups, domain and
// address.
func (o *couldOf) refs() (out []partyRef) {
	if side := o.side(0); side.partner != none {
		out = append(out, partyRef{what: ofPartner, index: side.partner})
	}
	q := &o.own[0].party
	for _, g := range o.p.most.inv.lists[q.groups.off : q.groups.off+q.groups.n] {
		out = append(out, partyRef{what: ofGroup, index: g})
	}
	return append(out, partyRef{what: ofDomain, index: q.domain}, partyRef{what: ofAddress, index: o.named})
}

// looksUp returns whom of ours they could look up, with what they hold now or
// without.
//
// It first asks about one person with and without a space in common. Only where
// that makes a difference does it matter which spaces they could come into, and
// who of ours is there.
func (o *couldOf) looksUp(own bool) *lookedUp {
	if o.lookup != nil && !own {
		return o.lookup
	}
	p, inv := o.p, &o.p.most.inv
	out := &lookedUp{p: p, some: map[uint32]bool{}}
	if !own {
		o.lookup = out
	}
	if o.who.Kind != ByAddress || len(p.wide[catalogue.Person]) == 0 {
		return out
	}
	ask := func(with *Supposed, person uint32, as relation) bool {
		q := Question{Subject: o.who, Action: lookUpAction, Resource: p.most.wideResource(catalogue.Person, person), At: p.at, With: with, as: as}
		v, err := p.most.Decide(&q)
		return err == nil && v.Yes
	}
	one := p.wide[catalogue.Person][0].members[0]
	for _, way := range o.ways() {
		sup := o.bare[way]
		if own {
			sup = o.own[way]
		}
		sup.grants = sup.grants[:0:0]
		if !ask(&sup, one, related) { // whom they share a space with or not: no
			continue
		}
		if ask(&sup, one, unrelated) {
			out.all = true
			return out
		}
		apart := false
		for c := range p.spaces { // one of each class: whoever wants to belongs to it, or nobody does, or it is alone
			k := &p.spaces[c]
			role := catalogue.NoRole
			if k.open && out.here {
				continue
			}
			if role = o.inSpace(way, int32(c)); role == catalogue.NoRole {
				continue
			}
			if k.open {
				out.here = true
			}
			apart = apart || k.alone != 0
			sup.grants = append(sup.grants, alwaysGiven(k.members[0], role))
		}
		if !apart && !own {
			continue
		}
		for i := range inv.people.n {
			if inv.people.at(i).exists && !out.has(i) && ask(&sup, i, asItIs) {
				out.some[i] = true
			}
		}
	}
	return out
}

// met returns what they could do with somebody who has left us and was their
// contact. Such a contact cannot come about any more, and so counts for those
// alone who have it; with everybody else of ours a contact could still be made.
func (o *couldOf) met(person uint32) (set Actions) {
	p := o.p
	if o.index == none || p.now.hereAt(person, p.at) || !slices.Contains(p.most.reversed().contacts[o.index], person) {
		return 0
	}
	for _, way := range o.ways() {
		for i := range wideActions {
			w := &wideActions[i]
			if w.kind != catalogue.Person || !w.contacts {
				continue
			}
			v, err := p.most.Decide(&Question{Subject: o.who, Action: w.act, Resource: p.most.wideResource(w.kind, person), At: p.at,
				With: &o.own[way]})
			if err == nil && v.Yes {
				set |= 1 << w.act
			}
		}
	}
	return
}

// most returns what they could do with a thing of a class if they held
// everything there: more than that nobody gets out of what they hold. The
// tables are those of spaces (0), items (1) and meetings (2).
//
// It is a bound and costs one question for each class; that it holds nothing
// back is what makes it useful. Where it gives no more than acts do, none of
// the members has to be looked at.
func (o *couldOf) most(table int, c int32) Actions {
	kept := o.answers()
	if kept.bounded[table][c] {
		return kept.bounds[table][c]
	}
	kept.bounded[table][c] = true
	var th *couldThing
	switch table {
	case 0:
		th = &o.p.spaces[c].couldThing
	case 1:
		th = &o.p.items[c].couldThing
	default:
		th = &o.p.meetings[c].couldThing
	}
	for _, way := range o.ways() {
		kept.bounds[table][c] |= o.granted(way, th, catalogue.Manage, catalogue.Manage)
	}
	return kept.bounds[table][c]
}

// besides returns what they could do with a resource through what they hold
// now, where acts alone would not let them. onItem is what acts could give them
// on the item itself.
func (o *couldOf) besides(th thing, onItem func(way int) catalogue.Role) (set Actions) {
	if o.index == none {
		return 0
	}
	item := none
	as := o.p.spaces[o.p.spaceOf[th.space]].couldThing
	switch {
	case th.kind.IsItem():
		item, as = th.index, o.p.items[o.p.itemOf[th.index]].couldThing
	case th.kind == catalogue.Meeting:
		as = o.p.meetings[o.p.meetingOf[th.index]].couldThing
	}
	as.in = th.space
	held, heldItem := o.holds(th.space, item)
	for _, way := range o.ways() {
		set |= o.granted(way, &as, max(held, o.inSpace(way, as.class)), max(heldItem, onItem(way)))
	}
	return
}

// Could returns what somebody outside could come to do with a resource. It is
// one pair: a party and a resource, with all actions at once.
func (p *Potential) Could(who Who, r world.Resource) (set Actions) {
	o, inv := p.of(who), &p.most.inv
	nothing := func(int) catalogue.Role { return catalogue.NoRole }
	for i := range wideActions {
		w := &wideActions[i]
		if w.kind != r.Kind {
			continue
		}
		if w.shares {
			if i := inv.personIDs.find(inv.text, r.ID); o.looksUp(true).has(i) {
				set |= 1 << w.act
			}
			continue
		}
		masks := o.wideActions(r.Kind)
		for k := range p.wide[r.Kind] {
			if masks[k].Has(w.act) && slices.ContainsFunc(p.wide[r.Kind][k].members,
				func(i uint32) bool { return p.most.wideResource(r.Kind, i).ID == r.ID }) {
				set |= 1 << w.act
			}
		}
	}
	switch {
	case r.Kind == catalogue.Person:
		if i := inv.personIDs.find(inv.text, r.ID); i != none {
			set |= o.met(i)
		}
	case r.Kind == catalogue.Space:
		if i := inv.spaceIDs.find(inv.text, r.ID); i != none && p.spaceOf[i] >= 0 {
			set |= o.spaceActions(p.spaceOf[i]) | o.besides(thing{i, none, catalogue.Space}, nothing)
		}
	case r.Kind == catalogue.Meeting:
		if i := inv.meetingIDs.find(inv.text, r.ID); i != none && p.meetingOf[i] >= 0 {
			set |= o.meetingActions(p.meetingOf[i]) | o.besides(thing{inv.meetings.at(i).space, i, catalogue.Meeting}, nothing)
		}
	case r.Kind.IsItem():
		if i := inv.itemIDs.find(inv.text, r.ID); i != none && p.itemOf[i] >= 0 && inv.items.at(i).kind == r.Kind {
			set |= o.itemActions(p.itemOf[i]) | o.besides(thing{inv.items.at(i).space, i, r.Kind},
				func(way int) catalogue.Role { return o.onItems(way, p.itemOf[i]) })
		}
	}
	return
}
