package engine

import (
	"slices"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
)

// What acts of our people and of outsiders could give a party.
//
// An act is something that a person may do by themselves: an owner invites,
// somebody shares a file, a guest who may passes something on, anybody joins a
// course. None of them takes anything away, so that it does not matter in which
// order they are done. What can be reached by them is a least fixed point:
// begin with what our own people could give, then with what those could give
// who were let in by that, and so on until nothing is added.
//
// Answers are kept by class of party and of place. While one is being found it
// counts as no, which is what makes the search end and the fixed point the
// least.

// What acts of our people and of outsiders could give a party.

// invited reports whether anybody could invite them into spaces of a class.
//
// First our people, then outsiders who could be inside. The second may ask this
// very question about somebody else, and so on round; while it is open it
// counts as no, which is right for a least fixed point: nobody is let in by the
// assumption that they already are.
func (o *couldOf) invited(c int32) bool {
	kept := o.answers().invites
	if kept[c] == notAsked {
		kept[c] = no // while it is found out, nobody who waits for it helps
		sp := o.p.spaces[c].members[0]
		kept[c] = answerIs(o.invitedByOurs(c) || o.helped(inviteAction, sp, none, true))
	}
	return kept[c] == yes
}

// shared reports whether anybody could share items of a class with them. way
// tells whether they already have a record by then: sharing may be open to
// those alone. As invited it asks our people first, then whoever outside could
// hold it.
func (o *couldOf) shared(way int, c int32) bool {
	kept := o.answers().sharing[way]
	if kept[c] == notAsked {
		kept[c] = no
		is := o.sharedByOurs(way, c)
		if !is && o.who.Kind == ByAddress {
			it := o.p.items[c].members[0]
			if act, ok := PassedOnBy(o.p.items[c].kind); ok {
				is = o.helped(act, o.p.most.inv.items.at(it).space, it, way == 1 || o.inCourse() != none)
			}
		}
		kept[c] = answerIs(is)
	}
	return kept[c] == yes
}

// inCourse returns a course that they are in, or could join; none where there
// is none.
func (o *couldOf) inCourse() uint32 {
	if o.course == none && !o.courses {
		o.courses = true
		for c := range o.p.spaces {
			if o.p.spaces[c].kind == world.Course && o.joins(int32(c)) {
				o.course = o.p.spaces[c].members[0]
				break
			}
		}
	}
	return o.course
}

// inSpace returns the role that acts could give them on spaces of a class.
// Whoever is invited gets any role that an owner wants to give, up to manage.
func (o *couldOf) inSpace(way int, c int32) catalogue.Role {
	switch {
	case way == 1 && o.invited(c):
		return catalogue.Manage
	case way == 1 && o.byBundle(false, c) > catalogue.NoRole:
		if !o.joins(c) {
			return o.byBundle(false, c)
		}
		return max(o.byBundle(false, c), o.joinedAs(c))
	case !o.joins(c):
		return catalogue.NoRole
	}
	return o.joinedAs(c)
}

// joinedAs returns the role that they could have once they joined a course.
func (o *couldOf) joinedAs(c int32) catalogue.Role {
	if o.p.spaces[c].own { // an owner makes more of it
		return catalogue.Manage
	}
	return o.p.spaces[c].joinsAs
}

// onItems returns the role that acts could give them on items of a class
// themselves. Files and reports are shared one by one; a private page or
// channel is given by inviting into its space, with a grant on the item.
func (o *couldOf) onItems(way int, c int32) catalogue.Role {
	k := &o.p.items[c]
	if k.passed && o.shared(way, c) || !k.passed && way == 1 && o.invited(k.space) {
		return catalogue.Manage
	}
	if way == 1 {
		return o.byBundle(true, c)
	}
	return catalogue.NoRole
}

// mayHaveRecord reports whether they could come to have a record that is
// active. It takes all classes together to know: A may have to be let in by B
// first.
func (o *couldOf) mayHaveRecord() bool {
	if o.records == notAsked && o.recordByOurs() {
		o.records = yes
	}
	if o.records == notAsked {
		o.p.settle()
		if o.records == notAsked {
			o.records = answerIs(o.recordByOutsiders())
		}
	}
	return o.records == yes
}

// directory is our directory, which every world has.
func (o *couldOf) directory() world.Resource {
	return world.Resource{Kind: catalogue.OurDirectory, ID: "ours"}
}

// recordByOurs reports whether our people, or they themselves, could bring
// about that they have an active record.
//
// The ways are tried from the cheapest: the record that is there, signing up,
// an invitation into the directory, a bundle, an invitation into a space,
// something that is shared and opened.
func (o *couldOf) recordByOurs() bool {
	p := o.p
	if o.record {
		return o.state != world.StateSuspended
	}
	if o.entersByOurs() {
		return true
	}
	for k := range p.bundles {
		if o.given(k) {
			return true
		}
	}
	for c := range p.spaces {
		if o.invitedByOurs(int32(c)) {
			return true
		}
	}
	for c := range p.items {
		if o.sharedByOurs(0, int32(c)) && o.opens(int32(c)) {
			return true
		}
	}
	return false
}

// opens reports whether a newcomer with whom items of a class are shared could
// do anything with them, and so becomes a guest.
func (o *couldOf) opens(c int32) bool {
	k := &o.p.items[c]
	return o.granted(0, &k.couldThing, o.inSpace(0, k.space), catalogue.Manage) != 0
}

// recordByOutsiders reports whether those who could have a record could bring
// them to one.
func (o *couldOf) recordByOutsiders() bool {
	p := o.p
	if o.record {
		return false
	}
	if o.addressee(inviteAction, none, none, true) {
		for _, h := range p.classesOf() {
			if h.records != yes || h.who == o.who {
				continue
			}
			v, err := p.most.Decide(&Question{Subject: h.who, Action: inviteAction, Resource: h.directory(), At: p.at, Address: o.who.Address,
				With: &h.bare[1]})
			if err == nil && v.Yes {
				return true
			}
		}
	}
	for c := range p.spaces {
		if o.helped(inviteAction, p.spaces[c].members[0], none, true) {
			return true
		}
	}
	for c := range p.items {
		it := p.items[c].members[0]
		if act, ok := PassedOnBy(p.items[c].kind); ok && !o.sharedByOurs(0, int32(c)) && o.opens(int32(c)) &&
			o.helped(act, p.most.inv.items.at(it).space, it, o.inCourse() != none) {
			return true
		}
	}
	return false
}

// settle finds which classes of parties could have a record, some through
// others.
//
// It is the fixed point: first who may get a record through our people alone;
// then, again and again, who may get one through those, until a round adds
// nobody. Each round adds a class, so that it ends.
func (p *Potential) settle() {
	if p.settled {
		return
	}
	p.settled = true
	all := p.classesOf()
	for _, o := range all {
		o.records = answerIs(o.recordByOurs())
		o.handOn()
	}
	for more := true; more; {
		more = false
		clear(p.helpers)
		for _, o := range all {
			if o.records == no && o.recordByOutsiders() {
				o.records, more = yes, true
			}
			o.handOn()
		}
	}
	clear(p.helpers)
	// A no that was given while somebody was not yet known to be let in may be
	// a yes by now.
	for _, o := range p.kept { // what was answered meanwhile may have rested on less
		o.handOn()
	}
}

// addressee reports whether all that passing something on asks of who would get
// it is a yes, whoever does it. It asks the gates that are about the address
// with the doer left open. A no here spares asking every outsider in turn,
// which is the common case: most addresses are barred or closed for everybody
// alike. It is asked once for addresses of a sort and for places of which the
// same is said.
func (o *couldOf) addressee(act catalogue.ActionID, space, item uint32, known bool) bool {
	if space == none {
		return o.openTo(act, space, item, known)
	}
	n := o.p.spacesTo[o.p.spaceOf[space]]
	if item != none {
		n = o.p.itemsTo[o.p.itemOf[item]]
	}
	sort := 0 // whoever has a record, or is in a course, is asked about as known
	if known {
		sort = 1
	}
	kept := o.towards.passed[sort]
	if is := kept.known(n); is != notAsked {
		return is == yes
	}
	return kept.keep(n, o.openTo(act, space, item, known))
}

// openTo asks what addressee keeps: the gates of an act that are about whom it
// is done to, with the doer left open. It goes through them as asker.ask does,
// and leaves out what depends on who acts.
func (o *couldOf) openTo(act catalogue.ActionID, space, item uint32, known bool) bool {
	var a asker
	q := Question{Action: act, At: o.p.at, Address: o.who.Address, known: known, Resource: o.directory()}
	a.s, a.q, a.act, a.at = o.p.most, &q, act.Get(), q.At
	a.person, a.space, a.near, a.aboutWhom, a.presenter, a.target = none, space, none, none, none, none
	a.party.index, a.party.domain, a.party.partner = none, none, none
	if space != none {
		q.Resource = o.p.spaceRef(space)
	}
	if item != none {
		q.Resource = o.p.itemRef(item)
		a.target, a.near = item, 0
	}
	a.class, a.rows = catalogue.Ours, &a.act.Asks
	a.look(&a.other, q.Address, a.s.inv.hashOf(q.Address.String()))
	ask := a.rows[catalogue.Record]
	a.below = catalogue.AtSpace | catalogue.AtItem | catalogue.AtPeople
	if space != none && a.act.Person == catalogue.SubjectOrDrive {
		if sp := a.s.inv.spaces.at(space); sp.kind == world.Drive && sp.owners.n > 0 {
			a.aboutWhom = a.s.inv.lists[sp.owners.off]
		}
	}
	a.domain(ask)
	a.counterpart(ask)
	in := a.of(ask)
	for i := range ask.Needs { // what does not depend on who passes it on, as long as that is somebody outside
		switch n := &ask.Needs[i]; n.Kind {
		case catalogue.GivenTo:
			a.reaches(a.inDrive(n.Rule), a.givenTo(ask), &in)
		case catalogue.InviterClass:
			a.reaches(n.Rule, classGuests, &in)
		case catalogue.PrivateA:
			if a.other.private() {
				a.reaches(rulePersonal, catalogue.On, &in)
			}
		}
	}
	return a.refused == 0
}

// couldHolder is somebody outside who could have a role on something and a
// record to use it with. space and item are the roles; sup is them as if they
// held those.
type couldHolder struct {
	*couldOf
	space, item catalogue.Role
	sup         Supposed
}

// helped reports whether somebody outside could pass a space, or an item of it,
// on to them.
func (o *couldOf) helped(act catalogue.ActionID, space, item uint32, known bool) bool {
	if o.who.Kind != ByAddress || o.record && o.state == world.StateSuspended && act == inviteAction || !o.addressee(act, space, item, known) {
		return false
	}
	for _, h := range o.p.holders(act, space, item) {
		if h.passes(act, space, item, o, known) {
			return true
		}
	}
	return false
}

// passes reports whether this holder may pass a space, or an item of it, on to
// somebody else.
func (h *couldHolder) passes(act catalogue.ActionID, space, item uint32, to *couldOf, known bool) bool {
	if h.who == to.who {
		return false
	}
	r := h.p.spaceRef(space)
	if item != none {
		r = h.p.itemRef(item)
	}
	v, err := h.p.most.Decide(&Question{Subject: h.who, Action: act, Resource: r, At: h.p.at, Address: to.who.Address, With: &h.sup,
		known: known})
	return err == nil && v.Yes
}

// holders lists who outside could hold something in a space, through each other
// too. The list is made once for a place, with the same fixed point inside:
// whoever is let in by one of them may let in others. It is for one Potential,
// which belongs to one goroutine.
func (p *Potential) holders(act catalogue.ActionID, space, item uint32) []*couldHolder {
	key := [2]uint32{space, item}
	if l, ok := p.helpers[key]; ok {
		return l
	}
	p.helpers[key] = nil
	var out, waiting []*couldHolder
	for _, o := range p.candidates(space) {
		h := &couldHolder{couldOf: o, sup: o.own[1]}
		way := 1
		if o.records != yes && !(o.records == notAsked && o.recordByOurs()) {
			continue
		}
		c := p.spaceOf[space]
		if o.invitedByOurs(c) {
			h.space = catalogue.Manage
		} else {
			if h.space = o.byBundle(false, c); o.joins(c) {
				h.space = max(h.space, o.joinedAs(c))
			}
		}
		if item != none {
			ic := p.itemOf[item]
			if _, passed := PassedOnBy(p.items[ic].kind); passed && o.sharedByOurs(way, ic) {
				h.item = catalogue.Manage
			}
			h.item = max(h.item, o.byBundle(true, ic))
		}
		space2, item2 := o.holds(space, item)
		h.space, h.item = max(h.space, space2), max(h.item, item2)
		h.sup.grants = h.grants(space, item)
		if h.space == catalogue.NoRole && h.item == catalogue.NoRole {
			waiting = append(waiting, h)
		} else {
			out = append(out, h)
		}
	}
	for k := 0; k < len(out); k++ { // whom one of them lets in may go on
		rest := waiting[:0:0]
		for _, w := range waiting {
			if !w.addressee(act, space, item, true) || !out[k].passes(act, space, item, w.couldOf, true) ||
				w.record && w.state == world.StateSuspended {
				rest = append(rest, w)
				continue
			}
			// Whoever is invited gets a role on the space, whoever is given an
			// item one on that.
			if w.space = catalogue.Manage; item != none {
				w.space, w.item = catalogue.NoRole, catalogue.Manage
			}
			w.sup.grants = w.grants(space, item)
			out = append(out, w)
		}
		waiting = rest
	}
	p.helpers[key] = out
	return out
}

// grants are what they would hold, in force always.
func (h *couldHolder) grants(space, item uint32) (out []grant) {
	if h.space > catalogue.NoRole {
		out = append(out, alwaysGiven(space, h.space))
	}
	if h.item > catalogue.NoRole && item != none {
		out = append(out, alwaysGiven(item|itemBit, h.item))
	}
	return
}

// candidates lists who outside might hold something in a space: one of each who
// are alike, and all who were ever given something.
func (p *Potential) candidates(space uint32) []*couldOf {
	out := slices.Clone(p.classesOf())
	for _, i := range p.now.indexed().parties.of(space) {
		if p.now.isCounted(i, p.at) {
			out = append(out, p.of(Who{Address: p.now.addressOf(i)}))
		}
	}
	return out
}

// holds returns the roles that they hold now on a space and on an item of it,
// the highest that an owner could make of them. An owner can raise any role
// that is somebody's own; what a group holds stays as it is.
func (o *couldOf) holds(space, item uint32) (onSpace, onItem catalogue.Role) {
	if o.index == none || o.who.Kind != ByAddress {
		return
	}
	p, inv := o.p, &o.p.most.inv
	look := func(given []grant, theirs bool) {
		for i := range given {
			g := &given[i]
			if !g.live(p.at, &inv.beside) {
				continue
			}
			role := g.role()
			if theirs && p.spaces[p.spaceOf[space]].own {
				role = catalogue.Manage
			}
			if g.resource == space {
				onSpace = max(onSpace, role)
			} else if item != none && g.resource == item|itemBit {
				onItem = max(onItem, role)
			}
		}
	}
	q := &o.own[0].party
	look(inv.given(q.grants), true)
	for _, g := range inv.lists[q.groups.off : q.groups.off+q.groups.n] {
		look(inv.given(inv.groups.at(g).grants), false)
	}
	return
}
