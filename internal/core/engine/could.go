package engine

import (
	"fmt"
	"math/bits"
	"slices"
	"sync"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Potential tells what could come to be of a snapshot at one moment without any administrator or keeper (practice §4). Who may
// what is found for parties, spaces and items that are alike, on the snapshot as it would be if owners and hosts had opened all
// that is theirs. It belongs to one goroutine.
type Potential struct {
	*couldTables
	at moment.Moment

	kept    map[string]*couldOf
	classes []*couldClass
	helpers map[[2]uint32][]*couldHolder
	settled bool // it is known which classes could have a record
}

// couldTables is what a Potential rests on; several may share it.
type couldTables struct {
	now, most   *Snapshot
	from, until moment.Moment
	spaces      []couldSpaces
	items       []couldItems
	meetings    []couldMeetings
	spaceOf     []int32 // by space: its class; -1 where there is none
	itemOf      []int32
	meetingOf   []int32
	staff       []uint32 // people of ours, one of each who are alike
	few         []uint32 // the same, where only their roles tell them apart
	wide        map[catalogue.ResourceKind][]alike
	naming      naming
}

type couldKept struct {
	mu sync.Mutex
	x  *couldTables
}

// couldSpaces is spaces that are alike to whoever holds nothing in them.
type couldSpaces struct {
	spaceKey
	members []uint32
}

type spaceKey struct {
	kind                                 world.SpaceKind
	joinsAs                              catalogue.Role
	joinable, house, open, anyParty, own bool
	rules                                uint32
	owners                               string // whom exceptions name among the owners, by how they do; of a drive whose it is
	alone                                uint32 // 1 + the space, where something of it is its own
}

type couldItems struct {
	itemKey
	members []uint32
}

type itemKey struct {
	space   int32
	kind    catalogue.ResourceKind
	private bool
	rules   uint32
}

type couldMeetings struct {
	space   int32
	rules   uint32
	members []uint32
}

// Potential returns what could come to be at a moment.
func (s *Snapshot) Potential(at moment.Moment) *Potential {
	s.could.mu.Lock()
	defer s.could.mu.Unlock()
	if x := s.could.x; x == nil || at < x.from || at >= x.until {
		s.could.x = s.couldTables(at)
	}
	return &Potential{couldTables: s.could.x, at: at, kept: map[string]*couldOf{}, helpers: map[[2]uint32][]*couldHolder{}}
}

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
	rev := t.most.reversed()
	concerned := func(p uint32) bool { return int(p) < len(s.pol.concerned) && s.pol.concerned[p] }
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
	for i := range inv.many {
		for _, g := range inv.given(inv.many[i].grants) {
			many[g.resource] = true
		}
	}
	spaces := map[spaceKey]int32{}
	t.spaceOf = make([]int32, m.spaces.n)
	for i := range m.spaces.n {
		sp := m.spaces.at(i)
		if t.spaceOf[i] = -1; !sp.exists {
			continue
		}
		k := spaceKey{sp.kind, sp.joinsAs, sp.joinable, sp.house, sp.open, sp.anyParty, s.ownedAt(i, at), sp.rules, "", 0}
		var classes []int
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
		if many[i] || !sp.anyParty || sp.members.n > 0 && !sp.open {
			k.alone = i + 1
		}
		c, ok := spaces[k]
		if !ok {
			c = int32(len(t.spaces))
			spaces[k], t.spaces = c, append(t.spaces, couldSpaces{spaceKey: k})
		}
		t.spaces[c].members = append(t.spaces[c].members, i)
		t.spaceOf[i] = c
	}
	items := map[itemKey]int32{}
	t.itemOf = make([]int32, m.items.n)
	for i := range m.items.n {
		it := m.items.at(i)
		if t.itemOf[i] = -1; !it.exists || it.space >= m.spaces.n || t.spaceOf[it.space] < 0 {
			continue
		}
		k := itemKey{t.spaceOf[it.space], it.kind, it.private, it.rules}
		c, ok := items[k]
		if !ok {
			c = int32(len(t.items))
			items[k], t.items = c, append(t.items, couldItems{itemKey: k})
		}
		t.items[c].members = append(t.items[c].members, i)
		t.itemOf[i] = c
	}
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
			meetings[k], t.meetings = c, append(t.meetings, couldMeetings{space: k.space, rules: k.rules})
		}
		t.meetings[c].members = append(t.meetings[c].members, i)
		t.meetingOf[i] = c
	}
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
	for i := range m.spaces.n { // those without an owner still say who may come
		if sp := m.spaces.at(i); sp.exists && !sp.anyParty {
			for _, ref := range m.refs[sp.parties.off : sp.parties.off+sp.parties.n] {
				switch ref.what {
				case 1:
					t.naming.domains[ref.index] = true
				case 2:
					t.naming.groups[ref.index] = true
				case 3:
					t.naming.addresses[ref.index] = true
				}
			}
		}
	}
	return t
}

// couldOf is one party, or one of many that are alike, and what acts could give them.
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

	records   answer // whether they could have one that is active
	invites   []answer
	joining   []answer
	sharing   [2][]answer
	onSpace   []Actions // by class, with doneSpace
	onItem    []Actions
	onMeeting []Actions
	onWide    map[catalogue.ResourceKind][]Actions
	done      [3][]bool
	lookup    *lookedUp
	bounds    [3][]Actions // see most
	bounded   [3][]bool
}

type answer int8

const (
	notAsked answer = iota
	no
	yes
)

func answered2(is bool) answer {
	if is {
		return yes
	}
	return no
}

func (p *Potential) of(who Who) *couldOf {
	if o := p.kept[who.String()]; o != nil {
		return o
	}
	o := &couldOf{p: p, who: who, index: none, course: none}
	p.kept[who.String()] = o
	o.invites, o.joining = make([]answer, len(p.spaces)), make([]answer, len(p.spaces))
	o.sharing = [2][]answer{make([]answer, len(p.items)), make([]answer, len(p.items))}
	o.onSpace, o.onItem, o.onMeeting = make([]Actions, len(p.spaces)), make([]Actions, len(p.items)), make([]Actions, len(p.meetings))
	o.done = [3][]bool{make([]bool, len(p.spaces)), make([]bool, len(p.items)), make([]bool, len(p.meetings))}
	o.onWide = map[catalogue.ResourceKind][]Actions{}
	if who.Kind != ByAddress {
		for v := range o.own {
			o.own[v] = *AnyLink(p.at)
			o.own[v].linkID = who.ID
		}
		o.records = no
		return o
	}
	s := p.most
	inv := &s.inv
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
	joined := func(given []grant) {
		for i := range given {
			if g := &given[i]; g.resource&itemBit == 0 && g.live(p.at) && inv.spaces.at(g.resource).kind == world.Course {
				o.course = g.resource
			}
		}
	}
	joined(inv.given(is.grants))
	for _, g := range inv.lists[is.groups.off : is.groups.off+is.groups.n] {
		joined(inv.given(inv.groups.at(g).grants))
	}
	return o
}

// AnyLink is a link that somebody could make, as whoever holds it is asked about at a moment: its id is any.
func AnyLink(at moment.Moment) *Supposed {
	return &Supposed{linkID: aLink.ID, link: link{exists: true, bearer: true, download: true, password: true, right: catalogue.Contribute, by: none, item: none, created: at, until: moment.Never}}
}

// ways are the ways in which they may act: without a record (0) as they are, with one that is active (1).
func (o *couldOf) ways() (list []int) {
	switch {
	case o.who.Kind != ByAddress:
		return []int{0}
	case o.record && o.state == world.StateSuspended:
		return []int{0}
	case o.record:
		return []int{1}
	}
	list = append(list, 0)
	if o.mayHaveRecord() {
		list = append(list, 1)
	}
	return
}

func (p *Potential) spaceRef(i uint32) world.Resource {
	return world.Resource{Kind: catalogue.Space, ID: p.most.inv.spaceIDs.text(p.most.inv.text, i)}
}

func (p *Potential) itemRef(i uint32) world.Resource {
	return world.Resource{Kind: p.most.inv.items.at(i).kind, ID: p.most.inv.itemIDs.text(p.most.inv.text, i)}
}

func (p *Potential) meetingRef(i uint32) world.Resource {
	return world.Resource{Kind: catalogue.Meeting, ID: p.most.inv.meetingIDs.text(p.most.inv.text, i)}
}

// others lists one of each of our people who are alike towards an address: exceptions for people of ours matter to private ones
// alone, where something is passed on.
func (o *couldOf) others() []uint32 {
	if m := o.p.most.Match(o.who.Address); m.Private {
		return o.p.staff
	}
	return o.p.few
}

// people lists who of ours acts in a space, one of each who are alike: owners first.
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
	inviteAction, filesShare, reportsShare, joinAction, signUpAction = func() (a, b, c, d, e catalogue.ActionID) {
		get := func(name string) catalogue.ActionID { x, _ := catalogue.ActionByName(name); return x.ID }
		return get("directory.invite"), get("files.share"), get("reports.share"), get("spaces.join"), get("directory.sign_up")
	}()
)

// PassedOnBy returns the action by which things of a kind are passed on; false where they are given by inviting into their space.
func PassedOnBy(k catalogue.ResourceKind) (catalogue.ActionID, bool) {
	for _, a := range []catalogue.ActionID{filesShare, reportsShare} {
		if a.Get().Takes(k) {
			return a, true
		}
	}
	return 0, false
}

// byOurs reports whether anybody of ours may do something about an address to a resource.
func (o *couldOf) byOurs(people []uint32, act catalogue.ActionID, r world.Resource, known bool) bool {
	p := o.p
	for _, x := range people {
		q := Question{Subject: Who{Kind: ByPerson, ID: p.most.inv.personIDs.text(p.most.inv.text, x)}, Action: act, Resource: r, At: p.at, Address: o.who.Address, known: known}
		v, err := p.most.Decide(&q)
		if err == nil && v.Yes {
			return true
		}
		if v.Refusing.Has(catalogue.DomainGate) || v.Refusing.Has(catalogue.Counterpart) || v.Refusing.Has(catalogue.ServiceGate) {
			return false // that is about the address, whoever does it
		}
	}
	return false
}

// invited reports whether anybody could invite them into spaces of a class.
func (o *couldOf) invited(c int32) bool {
	if o.invites[c] == notAsked {
		o.invites[c] = no // while it is found out, nobody who waits for it helps
		sp := o.p.spaces[c].members[0]
		is := o.invitedByOurs(c) || o.helped(inviteAction, sp, none, true)
		o.invites[c] = answered2(is)
	}
	return o.invites[c] == yes
}

func (o *couldOf) invitedByOurs(c int32) bool {
	if o.record && o.state == world.StateSuspended || o.who.Kind != ByAddress {
		return false
	}
	sp := o.p.spaces[c].members[0]
	return o.byOurs(o.people(sp), inviteAction, o.p.spaceRef(sp), true)
}

// joins reports whether they could join spaces of a class by themselves.
func (o *couldOf) joins(c int32) bool {
	if o.joining[c] == notAsked {
		is := false
		if k := &o.p.spaces[c]; o.who.Kind == ByAddress && k.kind == world.Course && k.joinable {
			v, err := o.p.most.Decide(&Question{Subject: o.who, Action: joinAction, Resource: o.p.spaceRef(k.members[0]), At: o.p.at, With: &o.bare[0]})
			is = err == nil && v.Yes
		}
		o.joining[c] = answered2(is)
	}
	return o.joining[c] == yes
}

// shared reports whether anybody could share items of a class with them.
func (o *couldOf) shared(way int, c int32) bool {
	if o.sharing[way][c] == notAsked {
		o.sharing[way][c] = no
		is := o.sharedByOurs(way, c)
		if !is && o.who.Kind == ByAddress {
			it := o.p.items[c].members[0]
			if act, ok := PassedOnBy(o.p.items[c].kind); ok {
				is = o.helped(act, o.p.most.inv.items.at(it).space, it, way == 1 || o.inCourse() != none)
			}
		}
		o.sharing[way][c] = answered2(is)
	}
	return o.sharing[way][c] == yes
}

func (o *couldOf) sharedByOurs(way int, c int32) bool {
	p := o.p
	act, ok := PassedOnBy(p.items[c].kind)
	if !ok || o.who.Kind != ByAddress {
		return false
	}
	it := p.items[c].members[0]
	people := o.people(p.most.inv.items.at(it).space)
	if act == reportsShare { // whoever shares reports need not be in the area
		people = append(people, o.others()...)
	}
	return o.byOurs(people, act, p.itemRef(it), way == 1 || o.inCourse() != none)
}

// inCourse returns a course that they are in, or could join; none where there is none.
func (o *couldOf) inCourse() uint32 {
	if o.course == none {
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
func (o *couldOf) inSpace(way int, c int32) catalogue.Role {
	switch {
	case way == 1 && o.invited(c):
		return catalogue.Manage
	case !o.joins(c):
		return catalogue.NoRole
	case o.p.spaces[c].own: // an owner makes more of it
		return catalogue.Manage
	}
	return o.p.spaces[c].joinsAs
}

// onItems returns the role that acts could give them on items of a class themselves.
func (o *couldOf) onItems(way int, c int32) catalogue.Role {
	k := &o.p.items[c]
	if _, passed := PassedOnBy(k.kind); passed && o.shared(way, c) || !passed && way == 1 && o.invited(k.space) {
		return catalogue.Manage
	}
	return catalogue.NoRole
}

// mayHaveRecord reports whether they could come to have a record that is active.
func (o *couldOf) mayHaveRecord() bool {
	if o.records == notAsked {
		o.p.settle()
		if o.records == notAsked {
			o.records = answered2(o.recordByOurs() || o.recordByOutsiders())
		}
	}
	return o.records == yes
}

func (o *couldOf) directory() world.Resource {
	return world.Resource{Kind: catalogue.OurDirectory, ID: "ours"}
}

func (o *couldOf) recordByOurs() bool {
	p := o.p
	if o.record {
		return o.state != world.StateSuspended
	}
	if v, err := p.most.Decide(&Question{Subject: o.who, Action: signUpAction, Resource: o.directory(), At: p.at, With: &o.bare[0]}); err == nil && v.Yes {
		return true
	}
	if o.byOurs(o.others(), inviteAction, o.directory(), true) {
		return true
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

// opens reports whether a newcomer with whom items of a class are shared could do anything with them, and so becomes a guest.
func (o *couldOf) opens(c int32) bool {
	it := o.p.items[c].members[0]
	return o.granted(0, &o.bare[0], o.p.itemRef(it), o.p.most.inv.items.at(it).space, it, o.inSpace(0, o.p.items[c].space), catalogue.Manage) != 0
}

// recordByOutsiders reports whether those who could have a record could bring them to one.
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
			v, err := p.most.Decide(&Question{Subject: h.who, Action: inviteAction, Resource: h.directory(), At: p.at, Address: o.who.Address, With: &h.bare[1]})
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
		if act, ok := PassedOnBy(p.items[c].kind); ok && !o.sharedByOurs(0, int32(c)) && o.opens(int32(c)) && o.helped(act, p.most.inv.items.at(it).space, it, o.inCourse() != none) {
			return true
		}
	}
	return false
}

// settle finds which classes of parties could have a record, some through others.
func (p *Potential) settle() {
	if p.settled {
		return
	}
	p.settled = true
	all := p.classesOf()
	for _, o := range all {
		o.records = answered2(o.recordByOurs())
	}
	for more := true; more; {
		more = false
		clear(p.helpers)
		for _, o := range all {
			if o.records == no && o.recordByOutsiders() {
				o.records, more = yes, true
			}
		}
	}
	clear(p.helpers)
	for _, o := range p.kept { // what was answered meanwhile may have rested on less
		clear(o.invites)
		clear(o.sharing[0])
		clear(o.sharing[1])
	}
}

// addressee reports whether all that passing something on asks of who would get it is a yes, whoever does it.
func (o *couldOf) addressee(act catalogue.ActionID, space, item uint32, known bool) bool {
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
	a.look(&a.other, q.Address, hashOf(q.Address.String()))
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

// couldHolder is somebody outside who could have a role on something and a record to use it with.
type couldHolder struct {
	*couldOf
	space, item catalogue.Role
	sup         Supposed
}

// helped reports whether somebody outside could pass a space, or an item of it, on to them.
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

func (h *couldHolder) passes(act catalogue.ActionID, space, item uint32, to *couldOf, known bool) bool {
	if h.who == to.who {
		return false
	}
	r := h.p.spaceRef(space)
	if item != none {
		r = h.p.itemRef(item)
	}
	v, err := h.p.most.Decide(&Question{Subject: h.who, Action: act, Resource: r, At: h.p.at, Address: to.who.Address, With: &h.sup, known: known})
	return err == nil && v.Yes
}

// holders lists who outside could hold something in a space, through each other too.
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
		} else if o.joins(c) {
			if h.space = p.spaces[c].joinsAs; p.spaces[c].own {
				h.space = catalogue.Manage
			}
		}
		if item != none {
			ic := p.itemOf[item]
			if _, passed := PassedOnBy(p.items[ic].kind); passed && o.sharedByOurs(way, ic) {
				h.item = catalogue.Manage
			}
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
			if !w.addressee(act, space, item, true) || !out[k].passes(act, space, item, w.couldOf, true) || w.record && w.state == world.StateSuspended {
				rest = append(rest, w)
				continue
			}
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

func (h *couldHolder) grants(space, item uint32) (out []grant) {
	if h.space > catalogue.NoRole {
		out = append(out, grant{from: moment.Always, until: moment.Never, resource: space, role: h.space})
	}
	if h.item > catalogue.NoRole && item != none {
		out = append(out, grant{from: moment.Always, until: moment.Never, resource: item | itemBit, role: h.item})
	}
	return
}

// candidates lists who outside might hold something in a space: one of each who are alike, and all who were ever given something.
func (p *Potential) candidates(space uint32) []*couldOf {
	out := slices.Clone(p.classesOfParties())
	for _, i := range p.now.indexed().parties.of(space) {
		if p.now.isCounted(i, p.at) {
			out = append(out, p.of(Who{Address: p.now.addressOf(i)}))
		}
	}
	return out
}

// holds returns the roles that they hold now on a space and on an item of it, the highest that an owner could make of them.
func (o *couldOf) holds(space, item uint32) (onSpace, onItem catalogue.Role) {
	if o.index == none || o.who.Kind != ByAddress {
		return
	}
	p, inv := o.p, &o.p.most.inv
	look := func(given []grant, theirs bool) {
		for i := range given {
			g := &given[i]
			if !g.live(p.at) {
				continue
			}
			role := g.role
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

// granted returns what they may do with a resource by roles, the way given.
func (o *couldOf) granted(way int, sup *Supposed, r world.Resource, space, item uint32, onSpace, onItem catalogue.Role) (set Actions) {
	p := o.p
	if onSpace == catalogue.NoRole && onItem == catalogue.NoRole && o.who.Kind == ByAddress && sup.party.grants.n == 0 && sup.party.groups.n == 0 && len(p.now.inv.many) == 0 {
		return 0 // nothing is held there
	}
	with := *sup
	with.grants = with.grants[:0:0]
	if o.who.Kind != ByAddress {
		with.link.item = item
	} else {
		if onSpace > catalogue.NoRole {
			with.grants = append(with.grants, grant{from: moment.Always, until: moment.Never, resource: space, role: onSpace})
		}
		if onItem > catalogue.NoRole && item != none {
			with.grants = append(with.grants, grant{from: moment.Always, until: moment.Never, resource: item | itemBit, role: onItem})
		}
		if way == 0 {
			if c := o.inCourse(); c != none {
				role := o.inSpace(0, p.spaceOf[c])
				if role == catalogue.NoRole {
					role = catalogue.View
				}
				if c != space {
					with.grants = append(with.grants, grant{from: moment.Always, until: moment.Never, resource: c, role: role})
				}
			}
		}
	}
	q := Question{Subject: o.who, Resource: r, At: p.at, With: &with}
	for i := range catalogue.Actions() {
		act := &catalogue.Actions()[i]
		if !InwardActions.Has(act.ID) || !act.Takes(r.Kind) || !roleOnly(act.Rows(r.Kind)) || o.who.Kind != ByAddress && act.Rows(r.Kind)[catalogue.Bearer] == nil {
			continue
		}
		q.Action = act.ID
		if v, err := p.most.Decide(&q); err == nil && v.Yes {
			set |= 1 << act.ID
		}
	}
	return
}

// spaceActions, itemActions and meetingActions return what acts could let them do with those of a class, whatever they hold now.
func (o *couldOf) spaceActions(c int32) Actions {
	if !o.done[0][c] && o.who.Kind == ByAddress {
		sp := o.p.spaces[c].members[0]
		for _, way := range o.ways() {
			o.onSpace[c] |= o.granted(way, &o.bare[way], o.p.spaceRef(sp), sp, none, o.inSpace(way, c), catalogue.NoRole)
		}
		o.done[0][c] = true
	}
	return o.onSpace[c]
}

func (o *couldOf) itemActions(c int32) Actions {
	if o.done[1][c] {
		return o.onItem[c]
	}
	o.done[1][c] = true
	k := &o.p.items[c]
	it := k.members[0]
	sp := o.p.most.inv.items.at(it).space
	if o.who.Kind != ByAddress {
		if len(o.people(sp)) > 0 && (k.kind == catalogue.File || k.kind == catalogue.Folder) { // somebody makes a link
			o.onItem[c] = o.granted(0, &o.own[0], o.p.itemRef(it), sp, it, catalogue.NoRole, catalogue.NoRole)
		}
		return o.onItem[c]
	}
	for _, way := range o.ways() {
		o.onItem[c] |= o.granted(way, &o.bare[way], o.p.itemRef(it), sp, it, o.inSpace(way, k.space), o.onItems(way, c))
	}
	return o.onItem[c]
}

func (o *couldOf) meetingActions(c int32) Actions {
	if !o.done[2][c] && o.who.Kind == ByAddress {
		k := &o.p.meetings[c]
		m := k.members[0]
		sp := o.p.most.inv.meetings.at(m).space
		for _, way := range o.ways() {
			o.onMeeting[c] |= o.granted(way, &o.bare[way], o.p.meetingRef(m), sp, none, o.inSpace(way, k.space), catalogue.NoRole)
		}
		o.done[2][c] = true
	}
	return o.onMeeting[c]
}

// wideActions returns what they could do without a role with things of a kind, by their place in the tables.
func (o *couldOf) wideActions(kind catalogue.ResourceKind) []Actions {
	if out, ok := o.onWide[kind]; ok {
		return out
	}
	p := o.p
	about := p.wide[kind]
	out := make([]Actions, len(about))
	o.onWide[kind] = out
	for _, way := range o.ways() {
		sup := o.bare[way]
		if o.who.Kind != ByAddress {
			sup = o.own[way]
		} else if c := o.inCourse(); way == 0 && c != none {
			sup.grants = []grant{{from: moment.Always, until: moment.Never, resource: c, role: catalogue.View}}
		}
		for i := range wideActions {
			w := &wideActions[i]
			if w.kind != kind || w.shares || o.who.Kind != ByAddress && w.act.Get().Rows(kind)[catalogue.Bearer] == nil {
				continue
			}
			for k := range about {
				if out[k].Has(w.act) {
					continue
				}
				q := Question{Subject: o.who, Action: w.act, Resource: world.Resource{Kind: kind, ID: about[k].id}, At: p.at, With: &sup}
				if w.contacts && !p.now.hereAt(about[k].members[0], p.at) { // contacts that there are come by themselves
					q.as = unrelated
				}
				if v, err := p.most.Decide(&q); err == nil && v.Yes {
					out[k] |= 1 << w.act
				}
			}
		}
	}
	return out
}

// lookedUp is whom of ours somebody could look up: everybody, everybody who is here, or some.
type lookedUp struct {
	p         *Potential
	all, here bool
	some      map[uint32]bool
}

func (l *lookedUp) any() bool {
	return l.all && l.p.most.inv.live.people > 0 || l.here && len(l.p.staff) > 0 || len(l.some) > 0
}

func (l *lookedUp) has(i uint32) bool {
	return i < l.p.most.inv.people.n && l.p.most.inv.people.at(i).exists && (l.all || l.here && l.p.now.hereAt(i, l.p.at) || l.some[i])
}

// looksUp returns whom of ours they could look up, with what they hold now or without.
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
			sup.grants = append(sup.grants, grant{from: moment.Always, until: moment.Never, resource: k.members[0], role: role})
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

// met returns what they could do with somebody who has left us and was their contact.
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
			v, err := p.most.Decide(&Question{Subject: o.who, Action: w.act, Resource: p.most.wideResource(w.kind, person), At: p.at, With: &o.own[way]})
			if err == nil && v.Yes {
				set |= 1 << w.act
			}
		}
	}
	return
}

// most returns what they could do with a thing of a class if they held everything there: more than that nobody gets out of what they
// hold. The tables are those of spaces, items and meetings.
func (o *couldOf) most(table int, c int32) Actions {
	if o.bounds[table] == nil {
		n := []int{len(o.p.spaces), len(o.p.items), len(o.p.meetings)}[table]
		o.bounds[table], o.bounded[table] = make([]Actions, n), make([]bool, n)
	}
	if o.bounded[table][c] {
		return o.bounds[table][c]
	}
	o.bounded[table][c] = true
	inv := &o.p.most.inv
	var r world.Resource
	space, item := none, none
	switch table {
	case 0:
		space = o.p.spaces[c].members[0]
		r = o.p.spaceRef(space)
	case 1:
		item = o.p.items[c].members[0]
		space, r = inv.items.at(item).space, o.p.itemRef(item)
	default:
		m := o.p.meetings[c].members[0]
		space, r = inv.meetings.at(m).space, o.p.meetingRef(m)
	}
	for _, way := range o.ways() {
		o.bounds[table][c] |= o.granted(way, &o.bare[way], r, space, item, catalogue.Manage, catalogue.Manage)
	}
	return o.bounds[table][c]
}

// besides returns what they could do with a resource through what they hold now, where acts alone would not let them.
func (o *couldOf) besides(r world.Resource, space, item uint32, onItem func(way int) catalogue.Role) (set Actions) {
	if o.index == none {
		return 0
	}
	held, heldItem := o.holds(space, item)
	for _, way := range o.ways() {
		set |= o.granted(way, &o.own[way], r, space, item, max(held, o.inSpace(way, o.p.spaceOf[space])), max(heldItem, onItem(way)))
	}
	return
}

// Could returns what somebody outside could come to do with a resource.
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
			if masks[k].Has(w.act) && slices.ContainsFunc(p.wide[r.Kind][k].members, func(i uint32) bool { return p.most.wideResource(r.Kind, i).ID == r.ID }) {
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
			set |= o.spaceActions(p.spaceOf[i]) | o.besides(r, i, none, nothing)
		}
	case r.Kind == catalogue.Meeting:
		if i := inv.meetingIDs.find(inv.text, r.ID); i != none && p.meetingOf[i] >= 0 {
			set |= o.meetingActions(p.meetingOf[i]) | o.besides(r, inv.meetings.at(i).space, none, nothing)
		}
	case r.Kind.IsItem():
		if i := inv.itemIDs.find(inv.text, r.ID); i != none && p.itemOf[i] >= 0 && inv.items.at(i).kind == r.Kind {
			set |= o.itemActions(p.itemOf[i]) | o.besides(r, inv.items.at(i).space, i, func(way int) catalogue.Role { return o.onItems(way, p.itemOf[i]) })
		}
	}
	return
}

// couldClass is parties that are alike, whatever they hold.
type couldClass struct {
	*couldOf
	kind    Kind
	name    string // of a newcomer
	members []uint32
}

// classesOf lists one of each class of parties.
func (p *Potential) classesOf() []*couldOf { return p.classesOfParties() }

func (p *Potential) classesOfParties() (out []*couldOf) {
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
func (p *Potential) partyClasses() []*couldClass {
	if p.classes != nil {
		return p.classes
	}
	type key struct {
		likeness
		licence world.Licence
		located bool
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
		if l.record {
			k.licence, k.located = q.licence, q.flags&hasLocation != 0
		}
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

// partnersAlike returns for each partner the first one of which policy says the same, where nothing names it.
func (p *Potential) partnersAlike() []uint32 {
	pol, inv := p.most.pol, &p.most.inv
	named := map[uint32]bool{}
	note := func(refs []partyRef) {
		for _, r := range refs {
			if r.what == 0 {
				named[r.index] = true
			}
		}
	}
	for i := range pol.except {
		note(pol.except[i].parties)
	}
	for i := range inv.spaces.n {
		if sp := inv.spaces.at(i); sp.exists && !sp.anyParty {
			note(inv.refs[sp.parties.off : sp.parties.off+sp.parties.n])
		}
	}
	for i := range inv.many {
		note([]partyRef{inv.many[i].of})
	}
	out := make([]uint32, len(pol.partners))
	first := map[string]uint32{}
	for i := range pol.partners {
		x := pol.partners[i]
		rules := pol.rows[x.rules]
		alone := pol.rows[x.alone]
		x.rules, x.alone = 0, 0
		key := fmt.Sprint(x, rules, alone, pol.rest[i].endedAt, pol.rest[i].stance)
		if f, ok := first[key]; ok && !named[uint32(i)] {
			out[i] = f
			continue
		}
		if out[i] = uint32(i); !named[uint32(i)] {
			first[key] = uint32(i)
		}
	}
	return out
}

// EachYes calls found for everything in a scope that could come to be a yes, as Snapshot.EachYes does for what is one. What people
// of ours do towards others does not change. Links that somebody could make are told as one newcomer.
func (p *Potential) EachYes(x *Scope, stop func() error, found func(*Yes) error) error {
	w := p.now.scopedTo(x, p.at)
	w.stop, w.found = stop, found
	if w.shut {
		return nil
	}
	if w.Actions != 0 {
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
			for _, c := range p.partyClasses() {
				if err := stop(); err != nil {
					return err
				}
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
				if err := p.eachOf(w, c, members); err != nil {
					return err
				}
			}
			if d := w.Party.Of.Domain; !d.IsZero() && !slices.ContainsFunc(p.classes, func(c *couldClass) bool { return c.newcomer && c.who.Address.Domain() == d }) {
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

// eachOf tells what members of a class, or a newcomer, could do within a scope.
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
	tell := func(set Actions, kind catalogue.ResourceKind, things []uint32, id func(uint32) string) {
		for k := range catalogue.Actions() {
			a := catalogue.Actions()[k].ID
			if err != nil || !set.Has(a) || !w.Actions.Has(a) || len(things) == 0 {
				continue
			}
			y := base
			y.Action, y.Pairs, y.each = a, n*len(things), len(things)
			y.Resource = world.Resource{Kind: kind, ID: "*"}
			if y.all = things; len(things) == 1 {
				y.Resource.ID, y.all = id(things[0]), nil
			}
			err = w.found(&y)
		}
	}
	inv := &p.most.inv
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
	spaceID := func(i uint32) string { return inv.spaceIDs.text(inv.text, i) }
	itemID := func(i uint32) string { return inv.itemIDs.text(inv.text, i) }
	meetingID := func(i uint32) string { return inv.meetingIDs.text(inv.text, i) }
	for _, l := range p.about(w) {
		switch {
		case l.kind == catalogue.Space:
			tell(c.spaceActions(l.class), l.kind, l.members, spaceID)
		case l.kind == catalogue.Meeting:
			tell(c.meetingActions(l.class), l.kind, l.members, meetingID)
		default:
			tell(c.itemActions(l.class), l.kind, l.members, itemID)
		}
	}
	for kind, about := range p.wide {
		if w.Resource != nil && w.Resource.Kind != kind && w.space == none {
			continue
		}
		masks := c.wideActions(kind)
		for k := range about {
			if masks[k]&w.Actions != 0 {
				tell(masks[k], kind, within(about[k].members, func(i uint32) world.Resource { return p.most.wideResource(kind, i) }), func(i uint32) string { return p.most.wideResource(kind, i).ID })
			}
		}
	}
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
					err = tellSeen(y, p.of(y.Who).looksUp(true))
				}
			}
		}
	}
	contacts := p.most.reversed().contacts
	for _, i := range members {
		for _, person := range contacts[i] {
			if err != nil || p.now.hereAt(person, p.at) || !w.covers(p.most.wideResource(catalogue.Person, person)) {
				continue
			}
			o := p.of(Who{Address: p.now.addressOf(i)})
			set := o.met(person)
			for k, a := range p.wide[catalogue.Person] {
				if slices.Contains(a.members, person) {
					set &^= c.wideActions(catalogue.Person)[k]
				}
			}
			for set &= w.Actions; set != 0 && err == nil; set &= set - 1 {
				err = w.found(&Yes{Who: o.who, Party: i, Kind: c.kind, Action: catalogue.ActionID(bits.TrailingZeros64(uint64(set))), Resource: p.most.wideResource(catalogue.Person, person), Pairs: 1, each: 1})
			}
		}
		if err == nil {
			err = p.eachBesides(w, c, i)
		}
	}
	return err
}

type couldAbout struct {
	kind    catalogue.ResourceKind
	class   int32
	members []uint32
}

// about lists the things in a scope that roles are about, class by class.
func (p *Potential) about(w *scoped) (out []couldAbout) {
	inv := &p.most.inv
	r := w.Resource
	switch {
	case r == nil:
		for c := range p.spaces {
			out = append(out, couldAbout{catalogue.Space, int32(c), p.spaces[c].members})
		}
		for c := range p.items {
			out = append(out, couldAbout{p.items[c].kind, int32(c), p.items[c].members})
		}
		for c := range p.meetings {
			out = append(out, couldAbout{catalogue.Meeting, int32(c), p.meetings[c].members})
		}
	case r.Kind == catalogue.Space:
		if w.space == none || p.spaceOf[w.space] < 0 {
			return
		}
		out = append(out, couldAbout{catalogue.Space, p.spaceOf[w.space], []uint32{w.space}})
		idx := p.now.indexed()
		for _, it := range idx.items.of(w.space) {
			out = append(out, couldAbout{it.kind, p.itemOf[it.index], []uint32{it.index}})
		}
		for _, m := range idx.meetings.of(w.space) {
			out = append(out, couldAbout{catalogue.Meeting, p.meetingOf[m], []uint32{m}})
		}
	case r.Kind == catalogue.Meeting:
		if i := inv.meetingIDs.find(inv.text, r.ID); i != none && p.meetingOf[i] >= 0 {
			out = append(out, couldAbout{catalogue.Meeting, p.meetingOf[i], []uint32{i}})
		}
	case r.Kind.IsItem():
		if i := inv.itemIDs.find(inv.text, r.ID); i != none && p.itemOf[i] >= 0 && inv.items.at(i).kind == r.Kind {
			out = append(out, couldAbout{r.Kind, p.itemOf[i], []uint32{i}})
		}
	}
	return
}

// eachBesides tells what a party could do through what they hold now, where acts alone would not let them.
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
	if len(spaces) == 0 {
		return nil
	}
	o := p.of(Who{Address: p.now.addressOf(i)})
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
	nothing := func(int) catalogue.Role { return catalogue.NoRole }
	idx := p.now.indexed()
	for _, sp := range sorted(spaces) {
		sc := p.spaceOf[sp]
		if ways := o.ways(); len(ways) == 1 && ways[0] == 1 && p.spaces[sc].own && c.invited(sc) {
			continue // they hold nothing that acts would not give them
		}
		if r := p.spaceRef(sp); c.most(0, sc)&^c.spaceActions(sc)&w.Actions != 0 && w.covers(r) {
			if err := tell(r, o.besides(r, sp, none, nothing)&^c.spaceActions(sc)); err != nil {
				return err
			}
		}
		for _, it := range idx.items.of(sp) {
			ic := p.itemOf[it.index]
			if c.most(1, ic)&^c.itemActions(ic)&w.Actions == 0 {
				continue
			}
			if r := p.itemRef(it.index); w.covers(r) {
				if err := tell(r, o.besides(r, sp, it.index, func(way int) catalogue.Role { return c.onItems(way, ic) })&^c.itemActions(ic)); err != nil {
					return err
				}
			}
		}
		for _, m := range idx.meetings.of(sp) {
			if r := p.meetingRef(m); c.most(2, p.meetingOf[m])&^c.meetingActions(p.meetingOf[m])&w.Actions != 0 && w.covers(r) {
				if err := tell(r, o.besides(r, sp, none, nothing)&^c.meetingActions(p.meetingOf[m])); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// EachCould calls fn for every party and resource that a yes of Potential.EachYes stands for; looking up people has the resource *.
func (s *Snapshot) EachCould(y *Yes, fn func(who Who, resource string)) {
	who := []Who{y.Who}
	if len(y.Members) > 0 {
		who = nil
		for _, m := range y.Members {
			who = append(who, Who{Address: s.addressOf(m)})
		}
	}
	inv := &s.inv
	for _, w := range who {
		if len(y.all) == 0 {
			r := y.Resource.String()
			if y.Resource.ID == "*" {
				r = "*"
			}
			fn(w, r)
			continue
		}
		for _, i := range y.all {
			switch k := y.Resource.Kind; {
			case k.IsItem():
				fn(w, k.String()+":"+inv.itemIDs.text(inv.text, i))
			default:
				fn(w, s.wideResource(k, i).String())
			}
		}
	}
}

// MostPairs is up to how many pairs of classes, of parties and of things, everybody is asked about everything.
const MostPairs = 2_000_000

// Large reports whether there are too many classes to ask everybody about everything while somebody waits.
func (p *Potential) Large() bool {
	return len(p.partyClasses())*(len(p.spaces)+len(p.items)+len(p.meetings)) > MostPairs
}
