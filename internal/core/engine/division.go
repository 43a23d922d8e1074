package engine

import (
	"encoding/binary"
	"slices"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Cohorts times people is the square of a world. It need not be asked: what an
// action asks of a person of ours, or of a meeting, is a few values, and nearly
// all people and meetings say the same of them. So those that say the same are
// put together for each action, and asked once for each cohort. Apart are those
// that name the cohort: by an exception towards it, a list of domains or a
// space's parties. They are found from the cohort, so that nobody goes through
// all of them.

// alikeGroup is classes of resources that answer one action alike for whoever
// they do not name. A group is asked once for each cohort in place of each
// class.
//
// A class is told apart by which exceptions name a person; a group only by what
// these say to one action. A thousand exceptions about forwarding make a
// thousand classes, and one group for chat.
type alikeGroup struct {
	classes []int32 // of about, in their order
	n       int     // resources in them
}

// division is the resources of one kind, divided for one action. It is made
// anew for each action, since each asks other rules. Each class is in exactly
// one group, so that groups can be counted without counting anything twice.
type division struct {
	kind   catalogue.ResourceKind
	about  []alike
	groups []alikeGroup
	of     []int32 // by class: its group
	naming *namingIndex
}

// namingIndex finds classes of resources from those whom they name. There is
// one for each kind. Names are looked up from the cohort: its partner, domain,
// groups and address are some five look-ups, whatever the number of people and
// meetings.
type namingIndex struct {
	by      [2]map[partyRef][]namedBy // on each side
	courses map[uint32]int32          // by space: its class
}

// namedBy is one class and by what it names somebody: 1 + an exception, or one
// of the marks below. An exception is counted from 1, so that the marks below
// can be negative.
type namedBy struct {
	class int32
	how   int32
}

// How a class may name somebody, where it is not by an exception.
const (
	inDomains = -1 // a meeting's list
	inParties = -2 // of a course, or of the space of a meeting
	isGiven   = -3 // somebody was given something in a course
)

// namedByExceptions calls add for whomever the exceptions of a person name, as
// far as they are in force at a moment. Exceptions towards everybody name
// nobody: they are part of what a person says (see saysTo). Those of the person
// come before those of their groups.
func (s *Snapshot) namedByExceptions(person uint32, at moment.Moment, add func(r partyRef, exception int32)) {
	if person == none || int(person) >= len(s.pol.concerned) || !s.pol.concerned[person] {
		return
	}
	each := func(which []int32) {
		for _, i := range which {
			x := &s.pol.except[i]
			if x.parties == nil || !moment.Within(at, x.from, x.until) {
				continue
			}
			for _, r := range x.parties {
				add(r, i+1)
			}
		}
	}
	each(s.pol.byPerson[person])
	l := s.inv.people.at(person).groups
	for _, g := range s.inv.lists[l.off : l.off+l.n] {
		if g < uint32(len(s.pol.byGroup)) {
			each(s.pol.byGroup[g])
		}
	}
}

// namingOf finds whom the classes of a kind name, on two sides of one
// inventory. There are two sides because an impact compares the policy before
// with the one after.
func namingOf(sides [2]*Snapshot, kind catalogue.ResourceKind, about []alike, at moment.Moment) *namingIndex {
	x := &namingIndex{}
	for side, s := range sides {
		x.by[side] = map[partyRef][]namedBy{}
		add := func(r partyRef, class int, how int32) {
			x.by[side][r] = append(x.by[side][r], namedBy{int32(class), how})
		}
		for k := range about {
			switch kind {
			case catalogue.OurDirectory:
			case catalogue.Space:
				if x.courses == nil {
					x.courses = map[uint32]int32{}
				}
				x.courses[about[k].members[0]] = int32(k)
				p := s.inv.spaces.at(about[k].members[0]).parties
				for _, r := range s.inv.refs[p.off : p.off+p.n] {
					add(r, k, inParties)
				}
			case catalogue.Meeting:
				m := s.inv.meetings.at(about[k].members[0])
				for _, d := range s.inv.lists[m.domains.off : m.domains.off+m.domains.n] {
					add(partyRef{what: ofDomain, index: d}, k, inDomains)
				}
				if m.space != none {
					p := s.inv.spaces.at(m.space).parties
					for _, r := range s.inv.refs[p.off : p.off+p.n] {
						add(r, k, inParties)
					}
				}
				s.namedByExceptions(m.host, at, func(r partyRef, e int32) { add(r, k, e) })
			default:
				s.namedByExceptions(about[k].members[0], at, func(r partyRef, e int32) { add(r, k, e) })
			}
		}
	}
	return x
}

// namedFor returns, by class, how the resources of some classes name a cohort;
// nil where none do. Each way is noted with the side on which it holds, as 2 ×
// how + side, in ascending order. Members of a cohort are named alike, so the
// first of them speaks for all.
func (x *namingIndex) namedFor(sides [2]*Snapshot, c *cohort) map[int32][]int32 {
	if len(c.members) == 0 || len(x.by[0])+len(x.by[1])+len(x.courses) == 0 {
		return nil
	}
	var out map[int32][]int32
	i := c.members[0]
	for side, s := range sides {
		q := s.inv.parties.at(i)
		add := func(class, how int32) {
			if out == nil {
				out = map[int32][]int32{}
			}
			if how = how*2 + int32(side); !slices.Contains(out[class], how) {
				out[class] = append(out[class], how)
			}
		}
		look := func(r partyRef) {
			for _, n := range x.by[side][r] {
				add(n.class, n.how)
			}
		}
		given := func(list []grant) {
			for k := range list {
				if class, ok := x.courses[list[k].resource]; ok {
					add(class, isGiven)
				}
			}
		}
		if x.courses != nil {
			given(s.inv.given(q.grants))
		}
		if d := &s.pol.domains[q.domain]; d.kind == partnerDomain && !c.like[side].barred {
			look(partyRef{what: ofPartner, index: d.partner})
		}
		look(partyRef{what: ofDomain, index: q.domain})
		for _, g := range s.inv.lists[q.groups.off : q.groups.off+q.groups.n] {
			look(partyRef{what: ofGroup, index: g})
			if x.courses != nil {
				given(s.inv.given(s.inv.groups.at(g).grants))
			}
		}
		look(partyRef{what: ofAddress, index: i})
	}
	for _, hows := range out {
		slices.Sort(hows)
	}
	return out
}

// names returns the classes that name any of these on a side; nil where none
// do.
func (x *namingIndex) names(side int, refs ...partyRef) (out map[int32]bool) {
	for _, r := range refs {
		for _, n := range x.by[side][r] {
			if out == nil {
				out = map[int32]bool{}
			}
			out[n.class] = true
		}
	}
	return
}

// onceEach answers a question about each class: of those that do not name a
// party one of each group is asked for all. apart tells classes of one group
// apart by what is no matter of policy, as whether somebody is there already;
// nil where nothing does. Answers are in the order of the classes.
func onceEach[T any](x *division, named map[int32]bool, apart func(class int) bool, ask func(class int) T) []T {
	out := make([]T, len(x.about))
	type sort struct {
		group int32
		apart bool
	}
	first := map[sort]int{}
	for k := range x.about {
		if named[int32(k)] {
			out[k] = ask(k)
			continue
		}
		of := sort{group: x.of[k]}
		if apart != nil {
			of.apart = apart(k)
		}
		f, known := first[of]
		if !known {
			first[of], out[k] = k, ask(k)
			continue
		}
		out[k] = out[f]
	}
	return out
}

// asksOf lists the rules that an action asks. It is AskedBy of the catalogue,
// turned around; 64 is how many actions fit into a word, which the catalogue
// holds.
var asksOf = func() (out [64][]catalogue.RuleID) {
	for r := range catalogue.Rules() {
		for _, a := range catalogue.AskedBy(catalogue.RuleID(r)) {
			out[a] = append(out[a], catalogue.RuleID(r))
		}
	}
	return out
}()

// sortFor divides classes by what an action asks of them. Whom they name is
// left aside. Two classes are in one group where all that the action asks of
// them is equal on both sides.
func sortFor(sides [2]*Snapshot, w *wideAction, about []alike, naming *namingIndex, at moment.Moment) *division {
	out := &division{kind: w.kind, about: about, of: make([]int32, len(about)), naming: naming}
	groups := map[string]int32{}
	var key []byte
	for k := range about {
		key = key[:0]
		for _, s := range sides {
			key = s.saysTo(key, w, about[k].members[0], at)
		}
		g, ok := groups[string(key)]
		if !ok {
			g = int32(len(out.groups))
			groups[string(key)] = g
			out.groups = append(out.groups, alikeGroup{})
		}
		out.of[k] = g
		x := &out.groups[g]
		x.classes, x.n = append(x.classes, int32(k)), x.n+len(about[k].members)
	}
	return out
}

// saysTo appends all that a resource says to an action but whom it names. The
// key is bytes that are compared and never read. Values looser than the limit
// count as the limit, so that they do not tell anything apart.
//
// What the gates read of a person, meeting or course must be in it, as in
// likeness for parties: a door that asks for a passcode, a host with an
// exception, what the space of a meeting admits.
func (s *Snapshot) saysTo(key []byte, w *wideAction, i uint32, at moment.Moment) []byte {
	inv := &s.inv
	person := none
	value := func(v catalogue.Value) { key = binary.AppendVarint(key, int64(v)) }
	// What a space and a meeting in it say together, as far as the limit lets
	// it.
	both := func(space, near uint32) {
		for _, rule := range asksOf[w.act] {
			if ruleLayers[rule]&(catalogue.AtSpace|catalogue.AtItem) == 0 {
				continue
			}
			v, shape := catalogue.Unset, ruleShape[rule]
			if space != none && ruleLayers[rule]&catalogue.AtSpace != 0 {
				v = inv.rows[space][rule]
			}
			if near != none && ruleLayers[rule]&catalogue.AtItem != 0 {
				v = join(shape, v, inv.rows[near][rule])
			}
			if v != catalogue.Unset && shape != catalogue.Choice {
				v = join(shape, v, s.pol.limit[rule])
			}
			value(v)
		}
	}
	flags := func(fs ...bool) {
		for _, f := range fs {
			key = append(key, map[bool]byte{false: 0, true: 1}[f])
		}
	}
	switch w.kind {
	case catalogue.OurDirectory:
	case catalogue.Space:
		sp := inv.spaces.at(i)
		flags(sp.anyParty, sp.parties.n > 0, sp.house)
		both(sp.rules, none)
		return key
	case catalogue.Meeting:
		m := inv.meetings.at(i)
		flags(m.standingRoom, m.passcode, m.lists.n > 0 && m.domains.n == 0, m.domains.n > 0, m.space != none)
		rules := none
		if m.space != none {
			sp := inv.spaces.at(m.space)
			rules = sp.rules
			flags(sp.anyParty, sp.parties.n > 0)
		}
		both(rules, m.rules)
		person = m.host
	default:
		person = i
	}
	if person == none || int(person) >= len(s.pol.concerned) || !s.pol.concerned[person] {
		flags(false)
		return key
	}
	flags(true)
	a := asker{s: s, q: &Question{At: at}, at: at}
	in := &about{person: person, space: none, near: none} // towards nobody: what names somebody is left aside
	for _, rule := range asksOf[w.act] {
		if ruleLayers[rule]&catalogue.AtPeople != 0 {
			value(a.peopleValue(rule, in, nil))
		}
	}
	return key
}

// parted is a part of the resources that answers a cohort alike: a group but for
// some of its classes, or classes that name the cohort.
type parted struct {
	first   int32          // one of its classes
	group   int32          // none of the groups: -1
	but     map[int32]bool // classes of the group that are not in it; nil for none
	classes []int32        // where it is no group
	n       int            // resources in it
}

// part divides the resources for one cohort, into at most some more parts than
// there are groups. Classes that name the cohort are taken out of their groups
// and put together by how they name it. An exception of a person counts with
// that person's others, so only the same exceptions are alike.
//
// The parts are disjoint and hold every resource. out is room that is used
// again; what is returned holds until the next call with it.
func (x *division) part(sides [2]*Snapshot, c *cohort, out []parted) []parted {
	out = out[:0]
	named := x.naming.namedFor(sides, c)
	var buts map[int32]map[int32]bool // by group
	var apart []parted
	if len(named) > 0 {
		buts = map[int32]map[int32]bool{}
		at := map[string]int{}
		classes := make([]int32, 0, len(named))
		for k := range named {
			classes = append(classes, k)
		}
		slices.Sort(classes)
		var key []byte
		for _, k := range classes {
			g := x.of[k]
			if buts[g] == nil {
				buts[g] = map[int32]bool{}
			}
			buts[g][k] = true
			key = binary.AppendVarint(key[:0], int64(g))
			for _, how := range named[k] {
				if how < 0 {
					key = binary.AppendVarint(key, int64(how))
				}
				// What somebody was given in a course is about this one course.
				if how < 2*inParties {
					key = binary.AppendVarint(key, int64(k)) // by itself
				}
			}
			if named[k][len(named[k])-1] > 0 { // a person's own exceptions come before those of their groups: only the same ones are alike
				key = x.theirs(key, sides, k)
			}
			p, ok := at[string(key)]
			if !ok {
				p = len(apart)
				at[string(key)], apart = p, append(apart, parted{first: k, group: -1})
			}
			apart[p].classes, apart[p].n = append(apart[p].classes, k), apart[p].n+len(x.about[k].members)
		}
	}
	for g := range x.groups {
		p := parted{first: x.groups[g].classes[0], group: int32(g), n: x.groups[g].n}
		if but := buts[int32(g)]; len(but) > 0 {
			p.but, p.first = but, -1
			for k := range but {
				p.n -= len(x.about[k].members)
			}
			for _, k := range x.groups[g].classes {
				if !but[k] {
					p.first = k
					break
				}
			}
		}
		if p.first >= 0 {
			out = append(out, p)
		}
	}
	return append(out, apart...)
}

// theirs appends by which exceptions the person is named whom a class is about:
// their class among people. The place among people who are alike stands for the
// list of exceptions.
func (x *division) theirs(key []byte, sides [2]*Snapshot, class int32) []byte {
	for _, s := range sides {
		person := x.about[class].members[0]
		if x.kind == catalogue.Meeting {
			person = s.inv.meetings.at(person).host
		}
		key = binary.AppendVarint(key, int64(s.reversed().alikeOf[person]))
	}
	return key
}

// has reports whether a class is in a part.
func (x *division) has(p *parted, class int32) bool {
	if p.group < 0 {
		return slices.Contains(p.classes, class)
	}
	return x.of[class] == p.group && !p.but[class]
}

// each calls fn for every class of a part.
func (x *division) each(p *parted, fn func(class int32)) {
	classes := p.classes
	if p.group >= 0 {
		classes = x.groups[p.group].classes
	}
	for _, k := range classes {
		if !p.but[k] {
			fn(k)
		}
	}
}

// count counts an action that asks nobody of contacts or shared spaces. Cohorts
// of one sign are counted together; only what names one of them is counted by
// itself, so that neither cohorts nor people multiply what is done.
//
// The sum over a sign and a group is a product: parties of the sign times
// resources of the group, where one pair of them is a yes. Then, for each cohort
// that something names, what was counted for those resources is taken back and
// counted as it is.
func (work *wideWork) count(w *wideAction, stop func() error) (*wideCount, error) {
	x := sortFor(work.sides, w, work.about[w.kind], work.naming[w.kind], work.at)
	known := newKnown(work.sides, w, work.at)
	n := &wideCount{divided: x}
	n.begin()
	s := work.sides[0]
	q := &Question{Action: w.act, At: work.at} // one for all: they are millions in a large world
	yes := func(c *cohort, class int32) bool {
		q.Subject, q.Resource = c.who, world.Resource{Kind: w.kind, ID: x.about[class].id}
		v, _ := s.Decide(q)
		return v.Yes
	}
	var all []*cohortsOfSign
	for _, c := range work.cohorts {
		if err := stop(); err != nil {
			return nil, err
		}
		sign := int(known.sign(c))
		for len(all) <= sign {
			all = append(all, &cohortsOfSign{apart: map[int32]int{}})
		}
		h := all[sign]
		named := x.naming.namedFor(work.sides, c)
		h.size, h.cohorts, h.named = h.size+c.size(), append(h.cohorts, c), append(h.named, named)
		in := map[int32]bool{}
		// They were counted with their group above.
		for k := range named {
			if g := x.of[k]; !in[g] {
				in[g] = true
				// In how many cohorts of the sign something of this group is
				// apart.
				h.apart[g]++
			}
		}
	}
	var parts []parted
	for _, h := range all {
		if err := stop(); err != nil {
			return nil, err
		}
		open := map[int32]bool{} // groups that are a yes
		for g := range x.groups {
			c, class := h.somebody(x, int32(g))
			if c == nil || !yes(c, class) {
				continue
			}
			open[int32(g)] = true
			n.pairs += h.size * x.groups[g].n
			if h.apart[int32(g)] < len(h.cohorts) {
				n.parts.add(&parted{group: int32(g)})
			}
		}
		for i, c := range h.cohorts {
			named := h.named[i]
			if len(named) == 0 {
				if len(open) > 0 {
					n.cohorts[c] = true
				}
				continue
			}
			parts = x.part(work.sides, c, parts)
			for k := range parts {
				p := &parts[k]
				switch {
				case p.group >= 0 && open[p.group]:
					n.cohorts[c] = true
					n.parts.add(p)
				case p.group < 0 && yes(c, p.first):
					n.pairs += c.size() * p.n
					n.cohorts[c] = true
					n.parts.add(p)
				}
			}
			for k := range named {
				if open[x.of[k]] {
					n.pairs -= c.size() * len(x.about[k].members)
				}
			}
		}
	}
	return n, nil
}
