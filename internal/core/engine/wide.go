package engine

import (
	"errors"
	"runtime"
	"sort"
	"sync"
	"sync/atomic"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Wide actions need no role: nearly every party may try them on every person,
// so they are answered class by class. A party matters only through its kind,
// state, methods, accepted terms and domain entry, and through what names it; a
// person of ours only through the exceptions that name them; a meeting through
// what its door says. Contacts and shared spaces relate one to one and are
// asked by themselves.

// wideAction is a wide action about one kind of resource. There are some
// fifteen: looking people up, chat, meetings, calendars, courses, sharing.
//
// Which actions are wide follows from the catalogue: those that outsiders do by
// themselves, towards no address, and with a row that asks no role.
type wideAction struct {
	act  catalogue.ActionID
	kind catalogue.ResourceKind
	// it matters whether the person is a contact of the party, or shares a
	// space
	contacts, shares bool
}

// What distinguishes them is found in the catalogue and nowhere said again.
var wideActions = func() (out []wideAction) {
	for _, act := range catalogue.Actions() {
		if act.Address || act.Asks[catalogue.Ours] != nil && act.Asks[catalogue.Record] == nil {
			continue
		}
		for _, kind := range act.On {
			rows := act.Rows(kind)
			if roleOnly(rows) {
				continue
			}
			w := wideAction{act: act.ID, kind: kind}
			for _, ask := range rows {
				if ask == nil {
					continue
				}
				for _, n := range ask.Needs {
					w.contacts = w.contacts || n.Kind == catalogue.PresenceSeen
					w.shares = w.shares || n.Kind == catalogue.LookUp
				}
			}
			out = append(out, w)
		}
	}
	return
}()

// wideResources divides what a kind of wide action is about. Two things are
// alike where they are on both sides. Of people that is by which exceptions
// name them, of meetings by all that their door says; a course is always by
// itself, since whoever is in it already is answered otherwise than others.
func wideResources(a, b *Snapshot, kind catalogue.ResourceKind) (out []alike) {
	inv := &a.inv
	r0, r1 := a.reversed(), b.reversed()
	divide := func(n uint32, first, second []int, id func(uint32) string) {
		at := map[[2]int]int{}
		for i := uint32(0); i < n; i++ {
			if int(i) >= len(first) || first[i] < 0 {
				continue
			}
			k := [2]int{first[i], second[i]}
			c, ok := at[k]
			if !ok {
				c = len(out)
				at[k], out = c, append(out, alike{id: id(i)})
			}
			out[c].members = append(out[c].members, i)
		}
	}
	switch kind {
	case catalogue.OurDirectory:
		return []alike{{id: "ours", members: []uint32{0}}}
	case catalogue.Meeting:
		live := make([]int, inv.meetings.n)
		for i := range live {
			if live[i] = r0.doorOf[i]; !inv.meetings.at(uint32(i)).exists {
				live[i] = -1
			}
		}
		divide(inv.meetings.n, live, r1.doorOf, func(i uint32) string { return inv.meetingIDs.text(inv.text, i) })
	case catalogue.Space:
		for _, i := range r0.courses {
			out = append(out, alike{id: inv.spaceIDs.text(inv.text, i), members: []uint32{i}})
		}
	default:
		divide(inv.people.n, r0.alikeOf, r1.alikeOf, func(i uint32) string { return inv.personIDs.text(inv.text, i) })
	}
	return
}

// wideMove is an answer for a cohort about resources that are alike, on two
// sides. It says a cohort, an action, and some resources: mostly millions of
// pairs.
//
// It is a move where the two sides differ: what somebody gains or loses by a
// change of policy. A count of what is, has the same snapshot on both sides.
type wideMove struct {
	act         catalogue.ActionID
	kind        catalogue.ResourceKind
	cohort      *cohort
	members     []uint32  // of the cohort; empty for links
	divided     *division // the resources of the kind
	part        *parted   // of them, which holds until the next move; nil where resources says which
	resources   []uint32
	left, right Verdict
	scope       bool // look-up: what is told is whether everybody is seen, or those of shared spaces
	shared      bool // of a scope: those of shared spaces
	pairs       int
}

// about returns how many resources it is about, and one of them.
func (m *wideMove) about() (n int, one uint32) {
	switch {
	case m.part != nil:
		return m.part.n, m.divided.about[m.part.first].members[0]
	case len(m.resources) > 0:
		return len(m.resources), m.resources[0]
	}
	return 0, none
}

// wideWork is what wide actions of two snapshots of one inventory are answered
// from. It is made once for all wide actions.
type wideWork struct {
	sides   [2]*Snapshot
	at      moment.Moment
	cohorts []*cohort
	about   map[catalogue.ResourceKind][]alike
	naming  map[catalogue.ResourceKind]*namingIndex
	people  []int32 // by person: their class
}

// newWideWork divides parties and resources for two sides. The classes of each
// kind of resource are found once, whatever number of actions are about it.
func newWideWork(left, right *Snapshot, at moment.Moment) *wideWork {
	w := &wideWork{sides: [2]*Snapshot{left, right}, at: at, cohorts: cohorts(left, right, at), about: map[catalogue.ResourceKind][]alike{},
		naming: map[catalogue.ResourceKind]*namingIndex{}}
	for i := range wideActions {
		kind := wideActions[i].kind
		if _, ok := w.about[kind]; !ok {
			w.about[kind] = wideResources(left, right, kind)
			w.naming[kind] = namingOf(w.sides, kind, w.about[kind], at)
		}
	}
	return w
}

// each calls found for what two snapshots of one inventory answer otherwise.
// Only actions that matters lets through are asked of cohorts that did not
// change: after a change of one rule these are the few that ask it. It stops
// where stop says so.
func (work *wideWork) each(matters func(catalogue.ActionID) bool, stop func() error, found func(*wideMove)) error {
	for i := range wideActions {
		if err := work.ask(&wideActions[i], matters(wideActions[i].act), false, stop, found); err != nil {
			return err
		}
	}
	return nil
}

// ask asks one action of every cohort; of those that did not change only where
// it matters. Answers are kept by sign and group (see known), so that most
// cohorts are not asked at all.
//
// The cost is signs times groups, both of which are few: neither more guests
// nor more people of ours make it longer, until they say something new.
func (work *wideWork) ask(w *wideAction, matters, both bool, stop func() error, found func(*wideMove)) error {
	if len(work.about[w.kind]) == 0 {
		return nil
	}
	left, right := work.sides[0], work.sides[1]
	var x *division // made when somebody is asked
	var parts []parted
	known := newKnown(work.sides, w, work.at)
	m := wideMove{act: w.act, kind: w.kind, scope: w.shares}
	for _, c := range work.cohorts {
		if err := stop(); err != nil {
			return err
		}
		if !c.changed && !matters {
			continue
		}
		if x == nil {
			x = sortFor(work.sides, w, work.about[w.kind], work.naming[w.kind], work.at)
			m.divided = x
		}
		sign := known.sign(c)
		ask := func(p *parted, as relation) (v, z Verdict) {
			var kept *answered
			if p.group >= 0 && as != related { // whom it names does not matter there
				if kept = known.answer(sign, p.group); kept.asked {
					return kept.left, kept.right
				}
			}
			q := Question{Subject: c.who, Action: w.act, Resource: world.Resource{Kind: w.kind, ID: x.about[p.first].id}, At: work.at, as: as}
			v, _ = left.Decide(&q)
			if z = v; left != right {
				z, _ = right.Decide(&q)
			}
			if kept != nil {
				*kept = answered{true, v, z}
			}
			return
		}
		tell := func(v, z Verdict, members []uint32, p *parted, of []uint32, pairs int, shared bool) {
			if pairs == 0 || !(v.Yes != z.Yes || v.Yes && v.Conditions != z.Conditions) && !(both && v.Yes) {
				return
			}
			m.cohort, m.members, m.part, m.resources, m.left, m.right, m.shared, m.pairs = c, members, p, of, v, z, shared, pairs
			found(&m)
		}
		// The resources as this cohort sees them: whole groups, and what names
		// it apart.
		parts = x.part(work.sides, c, parts)
		// Whom a guest sees is everybody, or those of shared spaces: the pairs
		// would say nothing more.
		if w.shares { // look-up counts scopes: whether all are seen, or those of shared spaces
			all := parted{first: 0, group: -1}
			v, z := ask(&all, unrelated)
			tell(v, z, c.members, nil, nil, c.size(), false)
			v, z = ask(&all, related)
			tell(v, z, c.members, nil, nil, c.size(), true)
			continue
		}
		for k := range parts {
			p := &parts[k]
			if !w.contacts {
				v, z := ask(p, asItIs)
				tell(v, z, c.members, p, nil, c.size()*p.n, false)
				continue
			}
			work.askContacts(x, c, p, ask, tell)
		}
	}
	return nil
}

// askContacts asks an action that answers contacts otherwise: those who are
// some one by one, then the rest. Whether two are in contact is asked of those
// who are; for all others it is supposed that they are not.
//
// Contacts are some ten for each guest, so that this costs what there is of
// them, and not parties times people. Who is a contact is taken out of the rest
// on both sides: of the pairs by number, of members and resources where
// somebody is a contact of all.
func (work *wideWork) askContacts(
	x *division,
	c *cohort,
	p *parted,
	ask func(*parted, relation) (v, z Verdict),
	tell func(v, z Verdict, members []uint32, p *parted, of []uint32, pairs int, shared bool),
) {
	left := work.sides[0]
	inv, r := &left.inv, left.reversed()
	v, z := ask(p, unrelated)
	met := 0
	var of map[uint32]int // by person: members who are contacts
	var rest []uint32     // members who have others; nil for all of them
	var known, other Verdict
	asked := false
	for i, m := range c.members {
		mine := 0
		for _, person := range r.contacts[m] {
			if !inv.people.at(person).exists || !x.has(p, work.classOf(person)) {
				continue
			}
			if !asked {
				known, other = ask(p, related)
				asked, of = true, map[uint32]int{}
			}
			met, mine = met+1, mine+1
			of[person]++
			tell(known, other, c.members[i:i+1], nil, []uint32{person}, 1, false)
		}
		// Somebody whose contacts all of them are is not among those without.
		if mine >= p.n && rest == nil {
			rest = append([]uint32{}, c.members[:i]...)
		} else if rest != nil && mine < p.n {
			rest = append(rest, m)
		}
	}
	members := c.members
	if rest != nil {
		members = rest
	}
	pairs := c.size()*p.n - met
	// A person whom the whole cohort knows is not among the resources of the
	// rest.
	everybody := false // knows one of them
	for _, n := range of {
		everybody = everybody || n >= c.size()
	}
	if !everybody {
		tell(v, z, members, p, nil, pairs, false)
		return
	}
	var about []uint32
	x.each(p, func(class int32) {
		for _, person := range x.about[class].members {
			if of[person] < c.size() {
				about = append(about, person)
			}
		}
	})
	tell(v, z, members, nil, about, pairs, false)
}

// classOf is the class of a person of ours, among those of the two sides. The
// table is made when it is first asked for, by one goroutine; several may read
// it after that.
func (work *wideWork) classOf(person uint32) int32 {
	if work.people == nil {
		work.people = make([]int32, work.sides[0].inv.people.n)
		for k, a := range work.about[catalogue.Person] {
			for _, i := range a.members {
				work.people[i] = int32(k)
			}
		}
	}
	return work.people[person]
}

// WideSum counts a wide action: parties, resources, and pairs of them. *4,000
// guests may start a chat with 1,200 people: 4,700,000 pairs* is one line; the
// pairs are fewer than the product where exceptions stand in between.
type WideSum struct {
	Action    catalogue.ActionID
	Kind      catalogue.ResourceKind
	Parties   int
	Resources int // of look-up: 0, which counts parties and scopes
	Pairs     int
	Scope     string // of look-up: everybody, or those of shared spaces
}

// wideCount collects a WideSum. Cohorts that take part as a whole are counted by
// size, single members by number.
type wideCount struct {
	parties   map[uint32]bool
	cohorts   map[*cohort]bool
	divided   *division
	parts     reached
	resources map[uint32]bool // besides
	pairs     int
}

// begin makes room to collect.
func (n *wideCount) begin() {
	n.parties, n.cohorts, n.resources = map[uint32]bool{}, map[*cohort]bool{}, map[uint32]bool{}
}

// add takes one move.
func (n *wideCount) add(m *wideMove) {
	if n.parties == nil {
		n.begin()
	}
	n.pairs += m.pairs
	if len(m.members) == len(m.cohort.members) { // links, which have no members, too
		n.cohorts[m.cohort] = true
	} else {
		for _, p := range m.members {
			n.parties[p] = true
		}
	}
	if n.divided = m.divided; m.part != nil {
		n.parts.add(m.part)
	}
	for _, r := range m.resources {
		n.resources[r] = true
	}
}

// sum makes a line of it. A member of a cohort that counts as a whole is not
// counted again.
func (n *wideCount) sum(act catalogue.ActionID, kind catalogue.ResourceKind, scope string) WideSum {
	out := WideSum{Action: act, Kind: kind, Resources: n.parts.count(n.divided, n.resources), Pairs: n.pairs, Scope: scope}
	for c := range n.cohorts {
		out.Parties += c.size()
		for _, m := range c.members {
			delete(n.parties, m)
		}
	}
	out.Parties += len(n.parties)
	return out
}

// wideKey is one line of the sums.
type wideKey struct {
	act   catalogue.ActionID
	kind  catalogue.ResourceKind
	scope string
}

// key is the line that a move belongs to.
func (m *wideMove) key() wideKey {
	k := wideKey{m.act, m.kind, ""}
	if m.scope {
		k.scope = "everybody"
		if m.shared {
			k.scope = "shared"
		}
	}
	return k
}

// wideSums lists sums in the order of the catalogue.
func wideSums(in map[wideKey]*wideCount) []WideSum {
	out := []WideSum{}
	for k, n := range in {
		out = append(out, n.sum(k.act, k.kind, k.scope))
	}
	sort.Slice(out, func(i, j int) bool {
		a, b := &out[i], &out[j]
		if a.Action != b.Action {
			return a.Action < b.Action
		}
		return a.Scope+a.Kind.String() < b.Scope+b.Kind.String()
	})
	return out
}

// Wide counts what everybody outside may do without a role: action by action
// the parties, the resources and the pairs of both (model §7). It uses all
// processors.
//
// The actions are dealt to the processors one by one; those without contacts
// are counted by products (see wideWork.count).
func (s *Snapshot) Wide(at moment.Moment, stop func() error) ([]WideSum, error) {
	work := s.Divided(at).work
	sums := make([]map[wideKey]*wideCount, len(wideActions))
	errs := make([]error, len(wideActions))
	var next atomic.Int32
	var group sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		group.Go(func() {
			for {
				i := int(next.Add(1)) - 1
				if i >= len(wideActions) {
					return
				}
				in := map[wideKey]*wideCount{}
				sums[i] = in
				if w := &wideActions[i]; !w.shares && !w.contacts {
					n := &wideCount{}
					if n, errs[i] = work.count(w, stop); errs[i] == nil && n.pairs > 0 {
						in[wideKey{w.act, w.kind, ""}] = n
					}
					continue
				}
				errs[i] = work.ask(&wideActions[i], true, true, stop, func(m *wideMove) {
					k := m.key()
					if in[k] == nil {
						in[k] = &wideCount{}
					}
					in[k].add(m)
				})
			}
		})
	}
	group.Wait()
	all := map[wideKey]*wideCount{}
	for _, in := range sums {
		for k, n := range in {
			all[k] = n
		}
	}
	return wideSums(all), errors.Join(errs...)
}
