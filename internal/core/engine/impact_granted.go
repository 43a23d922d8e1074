package engine

import (
	"math/bits"
	"runtime"
	"sync"
	"sync/atomic"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
)

// grantedImpact compares granted actions. Workers take strides of parties. For
// each the two sides are compared as a whole first; mostly they are equal, and
// then only what changed for everybody is asked of what the party holds.
//
// Sums are kept by each worker and put together at the end; moved says of each
// party what changes for it, for the count of people. Lines are told under a
// lock, party by party, in no order.
func grantedImpact(
	before, after *Snapshot,
	at moment.Moment,
	changed *[catalogue.NumRules]bool,
	out *Impact,
	moved map[uint32]Moves,
	line *func(*ImpactLine) bool,
	stop func() error,
	progress func(float64),
) error {
	inv := &before.inv
	before.indexed()
	x, y := before.sidesAt(at), after.sidesAt(at)
	set, people := touched(x, y, changed, otherRows(before, after))
	// Large enough that taking one costs nothing, small enough that the last
	// worker is not waited for.
	const stride = 2048
	workers := runtime.GOMAXPROCS(0)
	parts := make([]*impactPart, workers)
	errs := make([]error, workers)
	var next atomic.Uint32
	var group sync.WaitGroup
	var telling sync.Mutex
	for w := range workers {
		group.Add(1)
		go func() {
			defer group.Done()
			p := &impactPart{partners: map[uint32]*Moves{}, spaces: map[uint32]*Moves{}, moved: map[uint32]Moves{}}
			parts[w] = p
			t, u := before.Tally(at), after.Tally(at)
			for {
				from := next.Add(1)*stride - stride
				if from >= inv.parties.n {
					return
				}
				if errs[w] = stop(); errs[w] != nil {
					return
				}
				telling.Lock()
				progress(float64(from) / float64(inv.parties.n))
				telling.Unlock()
				for i := from; i < min(from+stride, inv.parties.n); i++ {
					q := inv.parties.at(i)
					if !before.holdsAnything(q) && !after.holdsAnything(after.inv.parties.at(i)) {
						continue
					}
					// Somebody known of a partner that holds something as a
					// whole need not have been given anything.
					if len(inv.many) > 0 && !before.isCounted(i, at) && !after.isCounted(i, at) {
						continue // typical newcomers stand for them
					}
					a, in0 := before.sideOf(x, i, at)
					b, in1 := after.sideOf(y, i, at)
					if !in0 {
						a.ok = 0
					}
					if !in1 {
						b.ok = 0
					}
					// All entries; fewer where both sides take the party alike.
					ask := ^uint64(0)
					if sameSide(&a, &b) {
						if ask = set; otherHoldings(before, after, i) {
							ask = ^uint64(0)
						} else if ask == 0 && !people {
							continue
						}
					}
					if (a.ok|b.ok)&ask == 0 {
						continue
					}
					var mine Moves
					// What is held may differ between the sides by dates; then
					// things are compared one by one.
					compareParty := compare
					if otherHoldings(before, after, i) || a.partner != b.partner && len(inv.many) > 0 {
						compareParty = compareEach
					}
					compareParty(
						t,
						u,
						i,
						&a,
						&b,
						ask,
						people,
						func(sp, index uint32, kind catalogue.ResourceKind, in *contents, yes0, yes1 uint64) {
							m := p.note(&a, &b, yes0, yes1, in)
							if !m.Any() {
								return
							}
							mine.add(m)
							if p.spaces[sp] == nil {
								p.spaces[sp] = &Moves{}
							}
							p.spaces[sp].add(m)
							// The lines of several workers are told one after
							// the other.
							telling.Lock()
							if *line != nil {
								before.tell(i, &a, &b, sp, index, kind, in, yes0, yes1, t, line)
							}
							telling.Unlock()
						},
					)
					if mine.Any() {
						p.moved[i] = mine
						p.kinds[a.kind].add(mine)
						k := none
						if q.domain != none && before.pol.domains[q.domain].kind == partnerDomain {
							k = before.pol.domains[q.domain].partner
						}
						if p.partners[k] == nil {
							p.partners[k] = &Moves{}
						}
						p.partners[k].add(mine)
					}
				}
			}
		}()
	}
	group.Wait()
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	// Sums of the workers are put together, indexes becoming ids.
	sum := func(in map[string]*Moves, key string, m Moves) {
		if !m.Any() {
			return
		}
		if in[key] == nil {
			in[key] = &Moves{}
		}
		in[key].add(m)
	}
	for _, p := range parts {
		for i := range p.actions {
			out.Granted[i].add(p.actions[i])
		}
		for k := range p.kinds {
			sum(out.Kinds, Kind(k).String(), p.kinds[k])
		}
		for k, m := range p.partners {
			id := ""
			if k != none {
				id = inv.partners.text(inv.text, k)
			}
			sum(out.Partners, id, *m)
		}
		for k, m := range p.spaces {
			sum(out.Spaces, inv.spaceIDs.text(inv.text, k), *m)
		}
		for i, m := range p.moved {
			moved[i] = m
		}
	}
	return nil
}

// otherwise returns which actions that are a yes on both sides have other
// conditions. Which account answers, and with what conditions, may change while
// the answer stays yes.
func otherwise(a, b *partySide, first0, home0, first1, home1 Actions) (set Actions) {
	both := (first0 | home0) & (first1 | home1)
	if a.first == b.first && a.home == b.home && a.browse == b.browse && first0 == first1 && home0 == home1 {
		return 0
	}
	for ; both != 0; both &= both - 1 {
		act := catalogue.ActionID(bits.TrailingZeros64(uint64(both)))
		if a.conditions(act, home0.Has(act)) != b.conditions(act, home1.Has(act)) {
			set |= 1 << act
		}
	}
	return
}

// moves splits what changes into gained, lost and otherwise. yes0 and yes1 are
// entries, of which several may be about one action: somebody who may no longer
// do it with their record, and still may with their account at home, loses
// nothing.
func moves(a, b *partySide, yes0, yes1 uint64) (gained, lost, other Actions) {
	f0, h0 := actionsOf(yes0)
	f1, h1 := actionsOf(yes1)
	w, v := f0|h0, f1|h1
	return v &^ w, w &^ v, otherwise(a, b, f0, h0, f1, h1)
}

// countOf returns how many of the plain things of a space an action is about.
func countOf(in *contents, act catalogue.ActionID) int {
	return int(in.plain[plainKinds[act][0]] + in.plain[plainKinds[act][1]])
}

// plainKinds are the kinds of plain things that an action is about, two at
// most, as places in contents.plain.
var plainKinds = func() (out [64][2]uint8) {
	for i := range out {
		out[i] = [2]uint8{nothingPlain, nothingPlain}
	}
	for i := range masks.entries {
		out[masks.entries[i].action] = masks.entries[i].kinds
	}
	return
}()

// impactPart is what one worker counts.
type impactPart struct {
	actions  [64]Moves
	kinds    [KindBearer + 1]Moves
	partners map[uint32]*Moves
	spaces   map[uint32]*Moves
	moved    map[uint32]Moves
}

// note counts what changes for one thing, or where in is not nil for the plain
// things of a space. A space and all plain things in it answer alike, so they
// are one sum.
func (p *impactPart) note(a, b *partySide, yes0, yes1 uint64, in *contents) (sum Moves) {
	gained, lost, other := moves(a, b, yes0, yes1)
	count := func(set Actions, at func(*Moves) *int) {
		for ; set != 0; set &= set - 1 {
			act := catalogue.ActionID(bits.TrailingZeros64(uint64(set)))
			n := 1
			if in != nil {
				n = countOf(in, act)
			}
			*at(&p.actions[act]) += n
			*at(&sum) += n
		}
	}
	count(gained, func(m *Moves) *int { return &m.Gained })
	count(lost, func(m *Moves) *int { return &m.Lost })
	count(other, func(m *Moves) *int { return &m.Otherwise })
	return
}

// compare calls found for everything that party i holds a role on and that two
// policies may answer otherwise: with in for a space with the plain things in
// it, else for the one thing of that kind and index. ask is which entries may
// be otherwise, people whether exceptions may.
//
// It asks what an item, a space and the special things in it say, and counts
// plain things with their space, in one step each.
func compare(
	t, u *Tally,
	i uint32,
	a, b *partySide,
	ask uint64,
	people bool,
	found func(sp, index uint32, kind catalogue.ResourceKind, in *contents, yes0, yes1 uint64),
) {
	inv, idx := &t.s.inv, t.s.idx
	live := t.roles(i, a)
	items := 0
	for k := range live {
		if live[k].resource&itemBit != 0 {
			items++
		}
	}
	apart := people || a.partner != b.partner || otherRows(t.s, u.s)
	for k := range live {
		h := &live[k]
		sp := h.space
		if sp >= inv.spaces.n || !inv.spaces.at(sp).exists {
			continue
		}
		at0 := t.s.place(sp, a, i, t.at)
		// Where nothing of the place differs it is looked up once.
		at1 := at0
		if apart {
			at1 = u.s.place(sp, b, i, t.at)
		}
		both := func(set uint64, row uint32, private bool, onItem, onSpace, many catalogue.Role) (yes0, yes1 uint64) {
			yes0 = a.allowed(&at0, t.x.met(a, &at0, of(idx.atItem, row)), set&ask, private, onItem, onSpace, many)
			yes1 = b.allowed(&at1, u.x.met(b, &at1, of(u.s.idx.atItem, row)), set&ask, private, onItem, onSpace, many)
			return
		}
		if h.resource&itemBit != 0 {
			index := h.resource &^ itemBit
			it := inv.items.at(index)
			own, many := t.roleOn(sp)
			if yes0, yes1 := both(masks.ofKind[it.kind], it.rules, it.private, h.role, own, many); yes0|yes1 != 0 {
				found(sp, index, it.kind, nil, yes0, yes1)
			}
			continue
		}
		in := &idx.in[sp]
		if yes0, yes1 := both(in.entries, none, false, catalogue.NoRole, h.role, h.many); yes0|yes1 != 0 {
			// What the party holds itself, besides the space, is counted by
			// itself.
			if items > 0 {
				in = t.less(sp, in, live)
			}
			found(sp, none, catalogue.Space, in, yes0, yes1)
		}
		special := idx.in[sp].special
		for _, x := range idx.special[special.off : special.off+special.n] {
			if x.kind != catalogue.Meeting && (x.private || items > 0 && t.holds(x.index)) {
				continue
			}
			if yes0, yes1 := both(masks.ofKind[x.kind], x.rules, false, catalogue.NoRole, h.role, h.many); yes0|yes1 != 0 {
				found(sp, x.index, x.kind, nil, yes0, yes1)
			}
		}
	}
}

// otherHoldings reports whether what a party holds may differ between two
// snapshots of one inventory: by their dates alone. A grant may have ended by a
// review, or a record be gone, under one policy and not the other.
func otherHoldings(a, b *Snapshot, i uint32) bool {
	p, q := a.inv.parties.at(i), b.inv.parties.at(i)
	return p.gone != q.gone || p.grants != q.grants
}

// partnerOf returns whose partner's a party is by its domain, barred or not;
// none for nobody's. It is about the domain; who is barred is told elsewhere.
func (s *Snapshot) partnerOf(p *party) uint32 {
	if p.domain != none && s.pol.domains[p.domain].kind == partnerDomain {
		return s.pol.domains[p.domain].partner
	}
	return none
}

// holdsAnything reports whether a party was ever given anything: by itself,
// through a group, or because its partner or its domain holds it as a whole.
func (s *Snapshot) holdsAnything(p *party) bool {
	any := p.grants.n > 0 || p.groups.n > 0
	if !any && len(s.inv.many) > 0 {
		s.inv.heldByMany(s.partnerOf(p), p.domain, func(partyRef, []grant) { any = true })
	}
	return any
}

// compareEach does what compare does where the party need not hold the same on
// both sides: thing by thing. It is slower and makes no use of what is alike;
// few parties need it.
func compareEach(
	t, u *Tally,
	i uint32,
	a, b *partySide,
	ask uint64,
	people bool,
	found func(sp, index uint32, kind catalogue.ResourceKind, in *contents, yes0, yes1 uint64),
) {
	both := map[thing][2]uint64{}
	var order []thing
	for k, side := range []struct {
		t *Tally
		p *partySide
	}{{t, a}, {u, b}} {
		add := func(th thing, yes uint64) {
			if yes &= ask; yes == 0 {
				return
			}
			x, known := both[th]
			if !known {
				order = append(order, th)
			}
			x[k] = yes
			both[th] = x
		}
		side.t.things(i, side.p, add)
	}
	for _, th := range order {
		x := both[th]
		found(th.space, th.index, th.kind, nil, x[0], x[1])
	}
}

// less returns the contents of a space without the plain things that the party
// holds a role of its own on: those come by themselves. in is copied before
// anything is taken from it.
func (t *Tally) less(sp uint32, in *contents, live []heldRole) *contents {
	out := in
	for l := range live {
		if r := live[l].resource; r&itemBit != 0 && live[l].space == sp {
			if it := t.s.inv.items.at(r &^ itemBit); !it.private && it.rules == none {
				if out == in {
					c := *in
					out = &c
				}
				out.plain[it.kind]--
			}
		}
	}
	return out
}

// tell writes the lines of what changes for a party. Plain things are told one
// by one here, since each has a name; a thing that is counted by itself has
// come already.
func (s *Snapshot) tell(
	i uint32,
	a, b *partySide,
	sp, index uint32,
	kind catalogue.ResourceKind,
	in *contents,
	yes0, yes1 uint64,
	t *Tally,
	line *func(*ImpactLine) bool,
) {
	who := Who{Address: s.addressOf(i)}
	one := func(th thing, yes0, yes1 uint64) {
		gained, lost, other := moves(a, b, yes0, yes1)
		for k, set := range []Actions{gained, lost, other} {
			if set != 0 && *line != nil &&
				!(*line)(
					&ImpactLine{
						Who:      who,
						Change:   [...]string{"gained", "lost", "otherwise"}[k],
						Actions:  set,
						Resource: s.resourceOf(th),
						Count:    1,
					},
				) {
				*line = nil
			}
		}
	}
	if in == nil {
		one(thing{sp, index, kind}, yes0, yes1)
		return
	}
	of := func(k catalogue.ResourceKind) (uint64, uint64) { return yes0 & masks.ofKind[k], yes1 & masks.ofKind[k] }
	y0, y1 := of(catalogue.Space)
	one(thing{sp, sp, catalogue.Space}, y0, y1)
	for _, x := range s.idx.items.of(sp) {
		if y0, y1 := of(x.kind); x.plain && y0|y1 != 0 && !t.holds(x.index) {
			one(thing{sp, x.index, x.kind}, y0, y1)
		}
	}
}
