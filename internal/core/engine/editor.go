package engine

import (
	"cmp"
	"slices"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Editor makes the next snapshot. It belongs to one goroutine. It copies
// nothing when it is made; stale, moved and given collect what Done has to
// compute.
type Editor struct {
	inv    inventory
	pol    *policy
	tok    token
	policy *world.World // where policy is to be compiled anew
	seen   map[row]uint32

	hold          bool // what limits make too loose does not count
	unsaid        []catalogue.RuleID
	peopleChanged bool
	idx           *index // nil where something of it changed
	gen           uint64
	line          token
	due           *standing
	moved         []uint32

	was        *policy    // of the snapshot before; nil for none
	rules      *dateRules // of the snapshot before; nil for none
	stale      []uint32   // parties whose dates are to be found anew
	staleAll   bool
	otherDates bool // floors are others
	forward    moment.Moment
	base       *Snapshot      // that this Editor began with
	takes      bool           // it is the first one, and writes behind the lists of base
	details    map[detail]int // shared ones that this Editor kept, and where
	given      []uint32       // parties whose holdings are others
	ownGiven   bool           // inv.holdings is a copy of its own
	fwd        *forwardOf
}

// New returns an Editor of an empty world. Its first snapshot begins a line of
// its own.
func New() *Editor {
	e := &Editor{tok: newToken(), line: newToken(), seen: map[row]uint32{}, policy: &world.World{}}
	for _, n := range e.inv.tables() {
		n.seed = newSeed
	}
	return e
}

// Edit returns an Editor that begins with s. Only one line of snapshots grows
// in place: a second Editor of the same snapshot copies its lists first. Edit
// is not safe for concurrent use on one snapshot.
//
// The first Editor of a snapshot may write behind its lists, since the snapshot
// does not look there; a second one would write to the same places, so its
// lists are cut to their length, and appending copies them. A change therefore
// costs what it is about, whatever the size of the world.
func (s *Snapshot) Edit() *Editor {
	e := &Editor{
		inv:   s.inv,
		pol:   s.pol,
		idx:   s.idx,
		gen:   s.gen + 1,
		line:  s.line,
		due:   s.due,
		moved: s.moved[:len(s.moved):len(s.moved)],
		tok:   newToken(),
		was:   s.pol,
		rules: s.rules,
		base:  s,
		fwd:   s.fwd,
	}
	if e.takes = !s.taken; !e.takes {
		v := &e.inv
		v.text = v.text[:len(v.text):len(v.text)]
		v.grants, v.lists, v.refs = v.grants[:len(v.grants):len(v.grants)], v.lists[:len(v.lists):len(v.lists)], v.refs[:len(v.refs):len(v.refs)]
		v.beside.odd = v.beside.odd[:len(v.beside.odd):len(v.beside.odd)]
		v.beside.details = v.beside.details[:len(v.beside.details):len(v.beside.details)]
		v.forwarders, v.rows = v.forwarders[:len(v.forwarders):len(v.forwarders)], v.rows[:len(v.rows):len(v.rows)]
		v.said = v.said[:len(v.said):len(v.said)]
		for _, n := range v.tables() {
			n.refs = n.refs[:len(n.refs):len(n.refs)]
		}
	}
	s.taken = true
	return e
}

// Drop gives up an Editor that nothing is made of. The next Editor of its
// snapshot then writes where this one would have, instead of copying the lists.
func (e *Editor) Drop() {
	if e.takes {
		e.base.taken = false
	}
}

// Of returns a snapshot of a whole world. It is what tests, files and previews
// use; a service makes one at its start and edits it from then on.
func Of(w *world.World) *Snapshot {
	e := New()
	e.Put(w)
	return e.Done()
}

// Put adds or replaces all that w holds, and makes its policy and floors the
// only ones.
func (e *Editor) Put(w *world.World) {
	e.Add(w)
	e.SetFloors(w.DatesFrom)
	e.SetPolicy(w)
}

// Add adds or replaces the inventory that w holds, but for floors of dates.
// Groups and people come first, since others name them; grants before holdings,
// which make some.
func (e *Editor) Add(w *world.World) {
	for i := range w.Groups {
		e.PutGroup(&w.Groups[i])
	}
	for i := range w.People {
		e.PutPerson(&w.People[i])
	}
	for i := range w.Spaces {
		e.PutSpace(&w.Spaces[i])
		for j := range w.Spaces[i].Items {
			e.PutItem(&w.Spaces[i].Items[j])
		}
	}
	for i := range w.DomainLists {
		e.PutDomainList(&w.DomainLists[i])
	}
	for i := range w.Meetings {
		e.PutMeeting(&w.Meetings[i])
	}
	for i := range w.Guests {
		e.PutGuest(&w.Guests[i])
	}
	e.putGrants(w.Grants)
	for i := range w.Holdings {
		e.PutHolding(&w.Holdings[i])
	}
	for i := range w.Links {
		e.PutLink(&w.Links[i])
	}
	for i := range w.Contacts {
		e.PutContact(&w.Contacts[i])
	}
	sends := map[string][]world.Forwarder{}
	for i := range w.Forwarders {
		sends[w.Forwarders[i].Mailbox] = append(sends[w.Forwarders[i].Mailbox], w.Forwarders[i])
	}
	for p, f := range sends {
		e.SetForwarders(p, f)
	}
}

// putGrants places grants party by party in the order of the parties, so that
// whoever reads those of many parties reads them one after the other.
//
// It is a counting sort: whom each grant belongs to, how many each has, then
// the grants in order. A file holds them in any order, and placing them as they
// come would scatter those of one party over the whole memory, which a reach
// would pay for ever after.
func (e *Editor) putGrants(grants []world.Grant) {
	type party struct {
		name    string // of whoever is not an address
		address uint32
		place   uint64 // in what order: addresses, then groups, then those who hold as a whole
		n, from int    // how many, and where the first of them stands in order
	}
	var all []party
	owner := make([]uint32, len(grants)) // of each grant, by its place in all
	named, known := map[string]uint32{}, []uint32{}
	for i := range grants {
		g := &grants[i]
		if i > 0 && g.Holder() == grants[i-1].Holder() { // most come party by party
			owner[i] = owner[i-1]
			all[owner[i]].n++
			continue
		}
		var k uint32
		if many := g.ToMany(); many || g.Group != "" {
			name, ok := g.Party(), false
			if k, ok = named[name]; !ok {
				place := uint64(1) << 63
				if !many {
					place = uint64(e.group(g.Group)+1) << 32
				}
				k = uint32(len(all))
				all = append(all, party{name: name, place: place})
				named[name] = k
			}
		} else {
			a := e.address(g.Address)
			for int(a) >= len(known) {
				known = append(known, none)
			}
			if known[a] == none {
				known[a] = uint32(len(all))
				all = append(all, party{address: a, place: uint64(a)})
			}
			k = known[a]
		}
		owner[i] = k
		all[k].n++
	}
	at := 0
	for k := range all {
		all[k].from = at
		at += all[k].n
	}
	order, next := make([]uint32, len(grants)), make([]int, len(all))
	for i, k := range owner {
		order[all[k].from+next[k]] = uint32(i)
		next[k]++
	}
	slices.SortFunc(all, func(a, b party) int { return cmp.Compare(a.place, b.place) })
	e.inv.grants = slices.Grow(e.inv.grants, len(grants))
	var scattered []world.Grant
	for k := range all {
		mine := order[all[k].from : all[k].from+all[k].n]
		first := int(mine[0])
		// Where they lie together already they are used as they lie.
		list := grants[first:min(first+len(mine), len(grants))]
		if int(mine[len(mine)-1])-first != len(mine)-1 {
			scattered = scattered[:0]
			for _, i := range mine {
				scattered = append(scattered, grants[i])
			}
			list = scattered
		}
		if all[k].name != "" {
			e.SetGrants(all[k].name, list)
		} else if !list[0].Address.IsNewcomer() { // kept before it was refused: nobody is meant
			e.setHeld(all[k].address, list)
		}
	}
}

// Done compiles what changed and returns the snapshot. The Editor is spent. The
// order matters: bundles give grants, the policy is compiled against what is
// there, dates follow from both, and what limits hold back comes last.
//
// Without a change of policy nothing is compiled: the policy is extended by the
// domains and people who are new (see policy.extend).
func (e *Editor) Done() *Snapshot {
	if e.policy == nil && e.peopleChanged { // whom exceptions concern is part of what is compiled
		e.policy = e.pol.source
	}
	e.giveBundles()
	if e.policy != nil {
		e.due = nil
		e.pol = compile(&e.inv, e.tok, e.policy)
	} else {
		e.pol = e.pol.extend(&e.inv)
	}
	if e.base == nil {
		e.compact()
	}
	if e.forward != 0 && e.pol != e.was && e.base != nil {
		e.fwd = &forwardOf{e.forward, e.base}
	}
	e.settle()
	if e.idx == nil {
		e.idx = &index{}
	}
	if e.hold {
		e.holdBack()
	}
	if len(e.unsaid) > 0 {
		e.unsay()
	}
	// Where too many have moved, counting all anew is cheaper than counting
	// those.
	if e.due == nil || len(e.moved) > 1000+int(e.inv.parties.n/16) {
		e.due, e.moved = &standing{}, nil
	}
	return &Snapshot{inv: e.inv, pol: e.pol, idx: e.idx, gen: e.gen, line: e.line, due: e.due, moved: e.moved, rules: e.rules, fwd: e.fwd}
}

// compact places what was given party by party, in the order of the parties,
// without what was replaced while records were read, and gives back the room
// that growing lists take. It is for an Editor whose lists no snapshot shares.
//
// It is done once, after everything was read, and makes the first snapshot as
// small as it can be.
func (e *Editor) compact() {
	v := &e.inv
	live := max(0, len(v.grants)-v.grantsDead)
	next := make([]grant, 0, live+live/32+64)
	was := v.beside
	v.beside, e.details = beside{}, nil
	move := func(l *list) {
		off := uint32(len(next))
		next = append(next, v.given(*l)...)
		l.off = off
		for k := range next[off:] {
			g := &next[int(off)+k]
			*g = e.grant(g.begin(&was), g.written(&was), g.resource, g.role(), g.via(), g.detail(&was))
		}
	}
	for i := range v.parties.n {
		if v.parties.at(i).grants != (list{}) { // one that is empty may begin behind the end
			move(&v.parties.edit(e.tok, i).grants)
		}
	}
	for i := range v.groups.n {
		if v.groups.at(i).grants != (list{}) {
			move(&v.groups.edit(e.tok, i).grants)
		}
	}
	for i := range v.many {
		move(&v.many[i].grants)
	}
	v.grants, v.grantsDead = next, 0
	v.text, v.lists, v.refs, v.forwarders = trimmed(v.text), trimmed(v.lists), trimmed(v.refs), trimmed(v.forwarders)
	v.beside.odd, v.beside.details = trimmed(v.beside.odd), trimmed(v.beside.details)
	for _, n := range v.tables() {
		n.refs = trimmed(n.refs)
	}
}

// trimmed is a list with room for a little more, where it has room for much
// more.
func trimmed[S ~[]T, T any](list S) S {
	room := len(list) + len(list)/32 + 64
	if cap(list) <= room+len(list)/16 {
		return list
	}
	return append(make(S, 0, room), list...)
}

// HoldBack makes values of spaces, items and meetings that are looser than the
// limits of the policy not count, as they will not once it is published (model
// §3). It is for an Editor of Aside, where a draft is weighed: elsewhere they
// are written as held back, and come to count again when the limit allows it.
func (e *Editor) HoldBack() { e.hold = true }

// Unsay makes what spaces, items and meetings say about some rules not count: a
// system with one value for everybody does not know it (systems.md §3). It is
// for an Editor of Aside.
func (e *Editor) Unsay(rules []catalogue.RuleID) { e.unsaid = rules }

// unsay takes rules out of all rows, and keeps what was said in said.
func (e *Editor) unsay() {
	e.idx.once.Do(func() { e.idx.make(&e.inv) })
	if e.inv.said == nil {
		e.inv.said = e.inv.rows
	}
	e.inv.rows = append([]row(nil), e.inv.rows...)
	for i := range e.inv.rows {
		for _, r := range e.unsaid {
			e.inv.rows[i][r] = catalogue.Unset
		}
	}
	e.idx = e.idx.otherRows(&e.inv)
}

// holdBack takes out what is looser than its limit, and copies rows only where
// anything is.
func (e *Editor) holdBack() {
	copied := false
	for i := range e.inv.rows {
		for r, v := range e.inv.rows[i] {
			if v == catalogue.Unset || !catalogue.RuleID(r).Get().Scale.Looser(v, e.pol.limit[r]) {
				continue
			}
			if !copied {
				e.idx.once.Do(func() { e.idx.make(&e.inv) })
				if e.inv.said == nil {
					e.inv.said = e.inv.rows
				}
				e.inv.rows, copied = append([]row(nil), e.inv.rows...), true
			}
			e.inv.rows[i][r] = catalogue.Unset
		}
	}
	if copied {
		e.idx = e.idx.otherRows(&e.inv)
	}
}

// SetPolicy replaces the whole policy, the partners' stances included, by the
// policy part of w, which must not change afterwards: the snapshot reads it
// whenever somebody asks what was said.
func (e *Editor) SetPolicy(w *world.World) { e.policy = w }

// Policy returns the policy that the next snapshot has, as it is now; nil where
// none was set. It must not be changed.
func (e *Editor) Policy() *world.World {
	if e.policy == nil && e.pol != nil {
		return e.pol.source
	}
	return e.policy
}

// list places indexes behind the others.
func (e *Editor) list(xs []uint32) list {
	l := list{uint32(len(e.inv.lists)), uint32(len(xs))}
	e.inv.lists = append(e.inv.lists, xs...)
	return l
}

// row places the values that are said, or with held those that are held back,
// and shares equal rows; none where nothing is said. Rows are shared as long as
// a first snapshot is read; after that each change makes one of its own.
func (e *Editor) row(settings []world.Setting, held bool) uint32 {
	var r row
	said := false
	for i := range r {
		r[i] = catalogue.Unset
	}
	for _, s := range settings {
		if s.Held == held {
			r[s.Rule], said = s.Value, true
		}
	}
	if !said {
		return none
	}
	if i, ok := e.seen[r]; ok {
		return i
	}
	e.inv.rows = append(e.inv.rows, r)
	i := uint32(len(e.inv.rows) - 1)
	if e.seen != nil {
		e.seen[r] = i
	}
	return i
}

// grow makes sure that a table has a place for every index up to i.
func grow[T any](v *vec[T], tok token, i uint32, empty T) *T {
	for v.n <= i {
		v.add(tok, empty)
	}
	return v.edit(tok, i)
}

// domain returns the index of a domain, which it takes in.
func (e *Editor) domain(d addr.Domain) uint32 {
	return e.inv.domains.add(e.tok, &e.inv.text, d.String())
}

// address returns the index of a and makes sure that its party exists.
func (e *Editor) address(a addr.Address) uint32 {
	i := e.inv.addresses.add(e.tok, &e.inv.text, a.String())
	e.inv.addParty(e.tok, i)
	if e.inv.parties.at(i).domain == none {
		e.inv.atDomain(e.tok, i, e.domain(a.Domain()))
	}
	return i
}

// person returns the index of a person of ours, who need not be there yet;
// group, space and item do the same.
func (e *Editor) person(id string) uint32 {
	if id == "" {
		return none
	}
	i := e.inv.personIDs.add(e.tok, &e.inv.text, id)
	grow(&e.inv.people, e.tok, i, person{})
	return i
}

// group returns the index of a group, which need not be there yet.
func (e *Editor) group(id string) uint32 {
	i := e.inv.groupIDs.add(e.tok, &e.inv.text, id)
	grow(&e.inv.groups, e.tok, i, group{})
	return i
}

// space returns the index of a space, which need not be there yet; none for no
// id.
func (e *Editor) space(id string) uint32 {
	if id == "" {
		return none
	}
	i := e.inv.spaceIDs.add(e.tok, &e.inv.text, id)
	grow(&e.inv.spaces, e.tok, i, space{rules: none, held: none})
	return i
}

// item returns the index of an item, which need not be there yet.
func (e *Editor) item(id string) uint32 {
	i := e.inv.itemIDs.add(e.tok, &e.inv.text, id)
	grow(&e.inv.items, e.tok, i, item{rules: none, held: none})
	return i
}

// partyRefs places references to parties behind the others.
func (e *Editor) partyRefs(refs []world.PartyRef) list {
	l := list{uint32(len(e.inv.refs)), uint32(len(refs))}
	out := make([]partyRef, 0, len(refs))
	for _, r := range refs {
		if !r.Address.IsNewcomer() { // kept before it was refused: nobody is meant
			out = append(out, e.partyRef(r))
		}
	}
	l.n = uint32(len(out))
	l.off = uint32(len(e.inv.refs))
	e.inv.refs = append(e.inv.refs, out...)
	return l
}

// partyRef turns a reference into indexes, taking in what it names.
func (e *Editor) partyRef(r world.PartyRef) partyRef {
	switch {
	case r.Partner != "":
		return partyRef{ofPartner, e.inv.partners.add(e.tok, &e.inv.text, r.Partner)}
	case !r.Domain.IsZero():
		return partyRef{ofDomain, e.domain(r.Domain)}
	case r.Group != "":
		return partyRef{ofGroup, e.group(r.Group)}
	}
	return partyRef{ofAddress, e.address(r.Address)}
}

// GoesOn reports whether one snapshot came of another by Editors, so that
// parties, spaces and all else have the same numbers in both. Whoever keeps
// something by number asks this before using it on another snapshot.
func (s *Snapshot) GoesOn(was *Snapshot) bool { return s.line == was.line }

// Line names the line of a snapshot: GoesOn holds between two of one name. Who
// keeps something by number keeps this with it, and not the whole snapshot.
func (s *Snapshot) Line() uint64 { return uint64(s.line) }

// Aside returns an Editor of what might become of s. The line of snapshots does
// not go through it: it copies what it adds to, and may be used while another
// Editor of s is at work. Drafts, previews and every question of *what if*
// begin here.
func (s *Snapshot) Aside() *Editor {
	b := &Snapshot{inv: s.inv, pol: s.pol, idx: s.idx, gen: s.gen, line: s.line, due: s.due, moved: s.moved, rules: s.rules, fwd: s.fwd,
		taken: true}
	e := b.Edit()
	e.base = s
	return e
}

// Apart returns the same snapshot with lists of its own, and room behind them,
// for Scratch. It copies some tens of bytes a grant, once for hundreds of
// things that are tried.
func (s *Snapshot) Apart() *Snapshot {
	e := s.Aside()
	v := &e.inv
	v.text, v.grants, v.lists = roomy(v.text), roomy(v.grants), roomy(v.lists)
	v.refs, v.rows, v.said = roomy(v.refs), roomy(v.rows), roomy(v.said)
	v.beside.odd, v.beside.details = roomy(v.beside.odd), roomy(v.beside.details)
	return e.Done()
}

// roomy is a copy of a list with room for some thousand more; nil of nil.
func roomy[S ~[]T, T any](list S) S {
	if list == nil {
		return nil
	}
	return append(make(S, 0, len(list)+4096), list...)
}

// Scratch returns an Editor of a snapshot that came of Apart. It writes over
// what Editors of the same snapshot wrote before, without copying anything:
// snapshots that came of those must not be used any more. It is for trying many
// things one after the other.
func (s *Snapshot) Scratch() *Editor {
	e := s.Edit()
	s.taken = false
	return e
}

// Branch is Aside for what does not come of s, such as a state of the past:
// nothing has the same number there for certain.
func (s *Snapshot) Branch() *Editor {
	e := s.Aside()
	e.line = newToken()
	return e
}
