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
