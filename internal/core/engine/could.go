package engine

import (
	"fmt"
	"slices"
	"sync"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Potential tells what could come to be of a snapshot at one moment without any
// administrator or keeper (practice §4). Who may what is found for parties,
// spaces and items that are alike, on the snapshot as it would be if owners and
// hosts had opened all that is theirs. It belongs to one goroutine.
//
// The idea: acts of owners, hosts and guests never take anything away. So
// instead of trying acts in all orders, the world is put into the state in
// which all owners have opened everything (most), and what anybody could be
// given there is computed as a fixed point: who may invite whom, and whom those
// may invite in turn. Administrators' roles are taken from everybody first.
type Potential struct {
	*couldTables
	sides *sides
	at    moment.Moment

	kept      map[string]*couldOf
	classes   []*couldClass
	helpers   map[[2]uint32][]*couldHolder
	settled   bool // it is known which classes could have a record
	addresses *couldAddresses
	partners  []uint32 // see partnersAlike
	wideKept  *wideKept
	spare     []*couldAnswers // of parties that have been told
}

// couldTables is what a Potential rests on; several may share it. It holds from
// from until until, the nearest moments at which one of our people leaves;
// within these two Potentials of one snapshot share it.
//
// now is the snapshot that is asked, most the same with everything opened that
// owners and hosts may open. Classes of places are of most: two spaces that
// differ only in what their owners set today could become alike.
type couldTables struct {
	now, most   *Snapshot
	from, until moment.Moment
	spaces      []couldSpaces
	items       []couldItems
	meetings    []couldMeetings
	invitedAs   []int32 // by class of spaces: the first into which our people invite, and which outsiders join, like it
	sharedAs    []int32 // by class of items: the first that our people share like it
	spacesTo    []int32 // by class of spaces, and of items: which of passable it is to whom it would be passed on
	itemsTo     []int32
	passable    int     // how many of these there are
	spaceOf     []int32 // by space: its class; -1 where there is none
	itemOf      []int32
	meetingOf   []int32
	staff       []uint32 // people of ours, one of each who are alike
	few         []uint32 // the same, where only their roles tell them apart
	wide        map[catalogue.ResourceKind][]alike
	naming      naming
	bundles     []couldBundle
}

// couldKept keeps the tables of the moment that was asked last, for all who ask
// one snapshot.
type couldKept struct {
	mu sync.Mutex
	x  *couldTables
}

// couldSpaces is spaces that are alike to whoever holds nothing in them.
// members are spaces, by their index; any of them speaks for all. A hundred
// thousand spaces are some hundreds of classes.
type couldSpaces struct {
	spaceKey
	members []uint32
	couldThing
	inside words // what it says for what lies in it
}

// couldThing is what masks take of things of a class. It is found in one place,
// since everybody together is asked about each of them.
type couldThing struct {
	of      catalogue.ResourceKind
	private bool
	class   int32  // of the space that it is or lies in
	in      uint32 // that space: the first's
	says    words  // of an item or a meeting itself
	passed  bool   // an item that is shared by itself
}

// spaceKey is what two spaces must agree in. Whatever ties a space to somebody
// in particular (parties that it names, members of its own, a grant to a whole
// partner) makes it the only one of its class.
type spaceKey struct {
	kind                                 world.SpaceKind
	joinsAs                              catalogue.Role
	joinable, house, open, anyParty, own bool
	rules                                uint32
	owners                               string // whom exceptions name among the owners, by how they do; of a drive whose it is
	alone                                uint32 // 1 + the space, where something of it is its own
	bundled                              uint32 // 1 + the space, where a bundle gives it
}

// couldItems is things that are alike to whoever holds nothing on them: of one
// class of spaces and one kind, that say the same. members are items, by their
// index.
type couldItems struct {
	itemKey
	members []uint32
	couldThing
}

// itemKey is what two things must agree in; space is the class of the space.
type itemKey struct {
	space   int32
	kind    catalogue.ResourceKind
	private bool
	rules   uint32
	bundled uint32 // 1 + the item, where a bundle gives it
}

// couldMeetings is meetings that are alike. Only meetings with a space are
// here: what is done in them with a role. Doors are wide actions.
type couldMeetings struct {
	space   int32
	rules   uint32
	members []uint32
	couldThing
}

// Potential returns what could come to be at a moment. It costs a pass over all
// places when it is first asked at a moment, and next to nothing after that.
func (s *Snapshot) Potential(at moment.Moment) *Potential {
	s.could.mu.Lock()
	defer s.could.mu.Unlock()
	if x := s.could.x; x == nil || at < x.from || at >= x.until {
		s.could.x = s.couldTables(at)
	}
	t := s.could.x
	return &Potential{couldTables: t, sides: t.most.sidesAt(at), at: at, kept: map[string]*couldOf{},
		helpers: map[[2]uint32][]*couldHolder{}, addresses: &couldAddresses{all: map[addressKey]*couldAddress{}},
		wideKept: t.newWideKept(at)}
}

// couldTables prepares what every question about what could come to be shares
// at a moment: the loosest state that permitted acts lead to, and classes of
// places and people that answer alike. They hold from one moment at which
// anything turns to the next. The order of everything is that of indexes, so
// that the same world gives the same classes.
//
// It goes through people, spaces, items and meetings once each: 200 ms with a
// hundred thousand spaces, after which a question costs classes and not places.
func (s *Snapshot) couldTables(at moment.Moment) *couldTables {
	inv := &s.inv
	t := &couldTables{now: s, most: s.most(at), from: moment.Always, until: moment.Never, wide: map[catalogue.ResourceKind][]alike{}}
	m := &t.most.inv
	for i := range inv.people.n {
		if l := inv.people.at(i).left; l != 0 && l <= at {
			t.from = max(t.from, l)
		} else if l != 0 {
			t.until = min(t.until, l)
		}
	}
	// What follows are the classes: of people, spaces, items, meetings, and of
	// what needs no grant.
	rev := t.most.reversed()
	concerned := func(p uint32) bool { return int(p) < len(s.pol.concerned) && s.pol.concerned[p] }
	// Of our people those are alike whom the same exceptions name and who have
	// the same roles; few takes only the roles into account, for questions that
	// no exception can change.
	type like struct {
		class int
		roles world.PersonRole
	}
	seen := map[like]bool{}
	for i := range m.people.n {
		if !s.hereAt(i, at) {
			continue
		}
		k := like{rev.alikeOf[i], m.people.at(i).roles}
		if !seen[k] {
			seen[k], t.staff = true, append(t.staff, i)
		}
		if k.class = -1; !seen[k] {
			seen[k], t.few = true, append(t.few, i)
		}
	}
	many := map[uint32]bool{}
	// Spaces on which a whole partner or domain holds something answer
	// differently for them.
	for i := range inv.many {
		for _, g := range inv.given(inv.many[i].grants) {
			many[g.resource] = true
		}
	}
	bundleSpaces, bundleItems := t.bundled(at)
	passable := map[passedOn]int32{}
	passed := func(k passedOn) int32 {
		n, known := passable[k]
		if !known {
			n = int32(len(passable))
			passable[k] = n
		}
		return n
	}
	spaces, invited := map[spaceKey]int32{}, map[spaceKey]int32{}
	var spaceTo []passedOn // by class
	t.spaceOf = make([]int32, m.spaces.n)
	for i := range m.spaces.n {
		sp := m.spaces.at(i)
		if t.spaceOf[i] = -1; !sp.exists {
			continue
		}
		k := spaceKey{sp.kind, sp.joinsAs, sp.joinable, sp.house, sp.open, sp.anyParty, s.ownedAt(i, at), sp.rules, "", 0, 0}
		var classes []int
		// In a drive the exceptions of its owner count for everybody; elsewhere
		// those of whoever acts.
		for j, p := range m.lists[sp.owners.off : sp.owners.off+sp.owners.n] {
			if j == 0 && sp.kind == world.Drive && concerned(p) {
				k.owners = fmt.Sprint(rev.alikeOf[p], ":")
			}
			if concerned(p) && s.hereAt(p, at) && !slices.Contains(classes, rev.alikeOf[p]) {
				classes = append(classes, rev.alikeOf[p])
			}
		}
		if len(classes) > 0 {
			slices.Sort(classes)
			k.owners += fmt.Sprint(classes)
		}
		// Members of a space that nobody else may join decide who invites
		// there.
		if many[i] || !sp.anyParty || sp.members.n > 0 && !sp.open {
			k.alone = i + 1
		}
		if bundleSpaces[i] {
			k.bundled = i + 1
		}
		c, ok := spaces[k]
		if !ok {
			c = int32(len(t.spaces))
			spaces[k], t.spaces = c, append(t.spaces, couldSpaces{spaceKey: k, inside: says(m, k.rules, catalogue.AtSpace),
				couldThing: couldThing{of: catalogue.Space, class: c, in: i}})
			// What decides whether our people may invite here, and whom.
			like := k
			// Whether our people may invite there depends on less than what
			// somebody then reaches, so one space can answer for several
			// classes.
			if k.open && sp.anyParty { // who belongs to it, and what is held there, does not matter to that
				like.alone, like.bundled = 0, 0
			}
			first, known := invited[like]
			if !known {
				first, invited[like] = c, c
			}
			t.invitedAs = append(t.invitedAs, first)
			to := passedOn{act: inviteAction, rules: sp.rules, itemRules: none, drive: sp.kind == world.Drive, owner: none}
			if to.drive && sp.owners.n > 0 {
				if o := m.lists[sp.owners.off]; concerned(o) {
					to.owner = o
				}
			}
			spaceTo = append(spaceTo, to)
			t.spacesTo = append(t.spacesTo, passed(to))
		}
		t.spaces[c].members = append(t.spaces[c].members, i)
		t.spaceOf[i] = c
	}
	type likeShared struct {
		itemKey
		rows *[catalogue.NumClasses]*catalogue.Ask
	}
	items, shared := map[itemKey]int32{}, map[likeShared]int32{}
	t.itemOf = make([]int32, m.items.n)
	for i := range m.items.n {
		it := m.items.at(i)
		if t.itemOf[i] = -1; !it.exists || it.space >= m.spaces.n || t.spaceOf[it.space] < 0 {
			continue
		}
		k := itemKey{t.spaceOf[it.space], it.kind, it.private, it.rules, 0}
		if bundleItems[i] {
			k.bundled = i + 1
		}
		c, ok := items[k]
		if !ok {
			c = int32(len(t.items))
			act, passes := PassedOnBy(k.kind)
			items[k], t.items = c, append(t.items, couldItems{itemKey: k, couldThing: couldThing{of: k.kind, private: k.private, class: k.space,
				in: it.space, says: says(m, k.rules, catalogue.AtItem), passed: passes}})
			// The same of a thing that is shared by itself.
			like := likeShared{itemKey: k}
			like.space, like.bundled = t.invitedAs[k.space], 0
			to := spaceTo[k.space]
			to.itemRules = k.rules
			if passes { // a file and a folder are shared alike
				like.kind, like.rows = 0, act.Get().Rows(k.kind)
				to.act = act
			}
			t.itemsTo = append(t.itemsTo, passed(to))
			first, known := shared[like]
			if !known {
				first, shared[like] = c, c
			}
			t.sharedAs = append(t.sharedAs, first)
		}
		t.items[c].members = append(t.items[c].members, i)
		t.itemOf[i] = c
	}
	t.classed()
	t.passable = len(passable)
	type inMeeting struct {
		space int32
		rules uint32
	}
	meetings := map[inMeeting]int32{}
	t.meetingOf = make([]int32, m.meetings.n)
	for i := range m.meetings.n {
		x := m.meetings.at(i)
		if t.meetingOf[i] = -1; !x.exists || x.space == none || t.spaceOf[x.space] < 0 {
			continue
		}
		k := inMeeting{t.spaceOf[x.space], x.rules}
		c, ok := meetings[k]
		if !ok {
			c = int32(len(t.meetings))
			meetings[k], t.meetings = c, append(t.meetings, couldMeetings{space: k.space, rules: k.rules, couldThing: couldThing{
				of: catalogue.Meeting, class: k.space, in: x.space, says: says(m, k.rules, catalogue.AtItem)}})
		}
		t.meetings[c].members = append(t.meetings[c].members, i)
		t.meetingOf[i] = c
	}
	// What needs no grant is asked of one place of each sort, as for a reach.
	for i := range wideActions {
		if k := wideActions[i].kind; t.wide[k] == nil {
			t.wide[k] = wideResources(t.most, t.most, k)
			if k == catalogue.Person { // who has left makes no contacts
				t.wide[k] = t.wide[k][:0:0]
				for _, a := range wideResources(t.most, t.most, k) {
					var here, left []uint32
					for _, i := range a.members {
						if s.hereAt(i, at) {
							here = append(here, i)
						} else {
							left = append(left, i)
						}
					}
					for _, l := range [][]uint32{here, left} {
						if len(l) > 0 {
							t.wide[k] = append(t.wide[k], alike{t.most.wideResource(k, l[0]).ID, l})
						}
					}
				}
			}
		}
	}
	t.naming = t.most.naming()
	// Only spaces of owners were opened to every party.
	for i := range m.many { // who is at a domain that holds something as a whole
		if of := m.many[i].of; of.what == ofDomain {
			t.naming.domains[of.index] = true
		}
	}
	for i := range m.spaces.n { // those without an owner still say who may come
		if sp := m.spaces.at(i); sp.exists && !sp.anyParty {
			for _, ref := range m.refs[sp.parties.off : sp.parties.off+sp.parties.n] {
				switch ref.what {
				case ofDomain:
					t.naming.domains[ref.index] = true
				case ofGroup:
					t.naming.groups[ref.index] = true
				case ofAddress:
					t.naming.addresses[ref.index] = true
				}
			}
		}
	}
	return t
}

// says is what a row of values says, as masks take it. Nothing is said where
// there is no row.
func says(inv *inventory, row uint32, layer catalogue.Layers) words {
	if row == none {
		return words{}
	}
	return wordsOf(&inv.rows[row], layer)
}

// passedOn is what the gates that are about an address look at of a space or an
// item that would be passed on to it: values, and in a drive whose it is, where
// exceptions name them. Two places that agree in it let the same addresses in,
// so that an address is asked once for both.
type passedOn struct {
	act              catalogue.ActionID
	rules, itemRules uint32
	drive            bool
	owner            uint32
}

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
			if g := &given[i]; g.resource&itemBit == 0 && g.live(o.p.at) && inv.spaces.at(g.resource).kind == world.Course {
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
