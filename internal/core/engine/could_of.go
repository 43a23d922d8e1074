package engine

import (
	"slices"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// couldOf is one party, or one of many that are alike, and what acts could give
// them.
//
// Answers are filled in as they are asked, by class of place. The two ways are
// 0, as they are, and 1, with a record that is active; bare is them without
// anything held.
type couldOf struct {
	p        *Potential
	who      Who
	index    uint32 // where the address is known; else none
	newcomer bool
	state    world.State
	record   bool // there is one now
	bare     [2]Supposed
	own      [2]Supposed // with what they hold
	course   uint32      // one that they are in, or could join, without a record; none
	courses  bool        // that was looked for

	records answer   // whether they could have one that is active
	bundles []answer // by their place: whether they could be given it
	towards *couldAddress
	onWide  map[catalogue.ResourceKind][]Actions
	known   *couldAnswers // see answers
	member  bool          // one of a class, with what it holds: its answers are those of the class
	lookup  *lookedUp
	sides   [2]*partySide             // as masks take them, without a record and with one
	many    map[uint32]catalogue.Role // what their partner or domain holds on spaces as a whole; with sides
	named   uint32                    // the index of their address, of one that only something of policy names, too; with sides
}

// couldAnswers are answers about places, by class. They are most of what is
// kept of a party, and are handed on to the next where a party has been told:
// with five thousand classes some hundred kilobytes, which seven thousand
// parties could not each keep.
type couldAnswers struct {
	invites []answer
	sharing [2][]answer
	in      [2][]couldIn
	on      [3][]Actions // what they could do with spaces, items and meetings, where that is done
	done    [3][]bool
	bounds  [3][]Actions // of the same three, see most
	bounded [3][]bool
}

// couldIn is a class of spaces as masks see it for a party: see place.
type couldIn struct {
	place
	known bool
	many  catalogue.Role // what their partner or domain holds there as a whole
}

// answers returns what is known of them about places.
func (o *couldOf) answers() *couldAnswers {
	if o.known != nil {
		return o.known
	}
	p := o.p
	if n := len(p.spare); n > 0 {
		o.known, p.spare = p.spare[n-1], p.spare[:n-1]
		o.known.forget()
		return o.known
	}
	spaces, items, meetings := len(p.spaces), len(p.items), len(p.meetings)
	tables := func() [3][]Actions {
		return [3][]Actions{make([]Actions, spaces), make([]Actions, items), make([]Actions, meetings)}
	}
	flags := func() [3][]bool { return [3][]bool{make([]bool, spaces), make([]bool, items), make([]bool, meetings)} }
	o.known = &couldAnswers{invites: make([]answer, spaces), sharing: [2][]answer{make([]answer, items), make([]answer, items)},
		on: tables(), done: flags(), in: [2][]couldIn{make([]couldIn, spaces), make([]couldIn, spaces)}, bounds: tables(), bounded: flags()}
	return o.known
}

// handOn lets another party have the memory of these answers. Whoever asks
// again finds them anew.
func (o *couldOf) handOn() {
	if o.known != nil {
		o.p.spare, o.known = append(o.p.spare, o.known), nil
	}
}

// forget makes all of them unknown.
func (a *couldAnswers) forget() {
	clear(a.invites)
	for way := range a.sharing {
		clear(a.sharing[way])
		clear(a.in[way])
	}
	for k := range a.done {
		clear(a.on[k])
		clear(a.done[k])
		clear(a.bounds[k])
		clear(a.bounded[k])
	}
}

// answer is a yes or no that may not have been asked yet.
type answer int8

// The three values of an answer; that it was not asked is the zero value.
const (
	notAsked answer = iota
	no
	yes
)

// answerIs makes an answer of a bool.
func answerIs(is bool) answer {
	if is {
		return yes
	}
	return no
}

// of is what is known of one party; it is kept, so that each answer is found
// once. It makes room for one answer for each class of places; who is the
// party, a newcomer or a link.
//
// Somebody without an account has no record and can be given none: a link opens
// one thing to them, and nothing follows from it.
func (p *Potential) of(who Who) *couldOf {
	if o := p.kept[who.String()]; o != nil {
		return o
	}
	o := &couldOf{p: p, who: who, index: none, course: none}
	p.kept[who.String()] = o
	o.onWide = map[catalogue.ResourceKind][]Actions{}
	if who.Kind != ByAddress {
		// Whoever holds a link acts as if it were the best one that could be
		// made.
		for v := range o.own {
			o.own[v] = *AnyLink(p.at)
			o.own[v].linkID = who.ID
		}
		o.records = no
		return o
	}
	o.fill()
	o.towards = p.addresses.of(p, p.addressKey(o))
	return o
}

// fill finds what is known of an address, and what it holds. Whoever is gone
// counts as somebody new who has the same address: their grants went with them.
//
// own is the party with what it holds, without (0) and with (1) a record; bare
// is the same with nothing given, which answers what an act alone would bring.
func (o *couldOf) fill() {
	p, who := o.p, o.who
	inv := &p.most.inv
	is := newParty()
	if i := inv.addresses.find(inv.text, who.Address.String()); i != none && i < inv.parties.n {
		o.index, is = i, *inv.parties.at(i)
		if p.at >= is.gone {
			domain := is.domain
			is = newParty()
			is.domain = domain
		} else if is.flags&hasRecord != 0 && p.at >= is.since {
			o.record, o.state = true, is.stateAt(p.at)
		}
	} else if d := inv.domains.find(inv.text, who.Address.Domain().String()); d != none {
		is.domain = d
	}
	o.own[0] = Supposed{address: who.Address, party: is, anew: is}
	o.own[1] = o.own[0]
	// With a record: the one that they have, or a new one without an end and
	// with the terms not accepted.
	r := &o.own[1]
	r.record = true
	if !o.record {
		r.party.flags, r.party.since, r.party.accepted, r.party.terms = hasRecord, moment.Always, moment.Always, moment.Never
		r.party.out, r.party.gone = moment.Never, moment.Never
	} else {
		r.party.accepted = min(r.party.accepted, p.at)
	}
	r.anew = r.party
	for v := range o.own {
		o.bare[v] = o.own[v]
		b := &o.bare[v]
		b.groups = slices.Clone(inv.lists[is.groups.off : is.groups.off+is.groups.n])
		b.party.grants, b.party.groups, b.anew.grants, b.anew.groups = list{}, list{}, list{}, list{}
	}
	o.course = o.joinedNow()
}

// joinedNow returns a course that they are in already; none where there is
// none. Being in a course makes somebody known, which counts where files are
// shared with those who are.
func (o *couldOf) joinedNow() (course uint32) {
	inv, is := &o.p.most.inv, &o.own[0].party
	course = none
	note := func(given []grant) {
		for i := range given {
			if g := &given[i]; g.resource&itemBit == 0 && g.live(o.p.at, &inv.beside) && inv.spaces.at(g.resource).kind == world.Course {
				course = g.resource
			}
		}
	}
	note(inv.given(is.grants))
	for _, g := range inv.lists[is.groups.off : is.groups.off+is.groups.n] {
		note(inv.given(inv.groups.at(g).grants))
	}
	return
}

// AnyLink is a link that somebody could make, as whoever holds it is asked
// about at a moment: its id is any. It is as good as a link can be; what rules
// do not let it do they refuse.
func AnyLink(at moment.Moment) *Supposed {
	return &Supposed{linkID: aLink.ID, link: link{exists: true, bearer: true, download: true, password: true, right: catalogue.Contribute,
		by: none, item: none, created: at, until: moment.Never}}
}

// ways are the ways in which they may act: without a record (0) as they are,
// with one that is active (1). Whoever is suspended can only be helped by a
// keeper, so acts with what is left without a record. Whoever has a record that
// is not suspended acts with it alone; somebody without one acts as they are,
// and with a record where somebody could give them one.
func (o *couldOf) ways() []int {
	switch {
	case o.who.Kind != ByAddress, o.record && o.state == world.StateSuspended:
		return anyWay[:1]
	case o.record:
		return anyWay[1:]
	case o.mayHaveRecord():
		return anyWay
	}
	return anyWay[:1]
}

// anyWay is all ways there are. A part of it is what a party has, so that none
// is made for each question.
var anyWay = []int{0, 1}

// spaceRef, itemRef and meetingRef name a place by its index.
func (p *Potential) spaceRef(i uint32) world.Resource {
	return world.Resource{Kind: catalogue.Space, ID: p.most.inv.spaceIDs.text(p.most.inv.text, i)}
}

// itemRef names an item by its index.
func (p *Potential) itemRef(i uint32) world.Resource {
	return world.Resource{Kind: p.most.inv.items.at(i).kind, ID: p.most.inv.itemIDs.text(p.most.inv.text, i)}
}

// meetingRef names a meeting by its index.
func (p *Potential) meetingRef(i uint32) world.Resource {
	return world.Resource{Kind: catalogue.Meeting, ID: p.most.inv.meetingIDs.text(p.most.inv.text, i)}
}

// others lists one of each of our people who are alike towards an address:
// exceptions for people of ours matter to private ones alone, where something
// is passed on.
func (o *couldOf) others() []uint32 {
	if m := o.p.most.Match(o.who.Address); m.Private {
		return o.p.staff
	}
	return o.p.few
}

// people lists who of ours acts in a space, one of each who are alike: owners
// first. Where nobody of them is here any more the list is empty, and nobody
// can let anybody in.
func (o *couldOf) people(space uint32) (out []uint32) {
	p := o.p
	inv := &p.most.inv
	sp := inv.spaces.at(space)
	for _, x := range inv.lists[sp.owners.off : sp.owners.off+sp.owners.n] {
		if p.now.hereAt(x, p.at) {
			out = append(out, x)
		}
	}
	if sp.open {
		return append(out, o.others()...)
	}
	rev := p.most.reversed()
	for _, m := range inv.lists[sp.members.off : sp.members.off+sp.members.n] {
		if m&itemBit == 0 {
			out = append(out, m)
		} else if g := m &^ itemBit; g < uint32(len(rev.inGroup)) {
			out = append(out, rev.inGroup[g]...)
		}
	}
	return slices.DeleteFunc(out, func(x uint32) bool { return !p.now.hereAt(x, p.at) })
}

var (
	// They are looked up once, when the program starts.
	// These are the acts that bring somebody in, by their names in the
	// catalogue.
	inviteAction, filesShare, reportsShare, joinAction, signUpAction = func() (a, b, c, d, e catalogue.ActionID) {
		get := func(name string) catalogue.ActionID { x, _ := catalogue.ActionByName(name); return x.ID }
		return get("directory.invite"), get("files.share"), get("reports.share"), get("spaces.join"), get("directory.sign_up")
	}()
)

// PassedOnBy returns the action by which things of a kind are passed on; false
// where they are given by inviting into their space.
func PassedOnBy(k catalogue.ResourceKind) (catalogue.ActionID, bool) {
	for _, a := range []catalogue.ActionID{filesShare, reportsShare} {
		if a.Get().Takes(k) {
			return a, true
		}
	}
	return 0, false
}
