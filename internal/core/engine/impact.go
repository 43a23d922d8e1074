package engine

import (
	"math/bits"
	"runtime"
	"sort"
	"sync"
	"sync/atomic"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Moves counts what changes: from no to yes, from yes to no, and a yes with other
// conditions.
type Moves struct{ Gained, Lost, Otherwise int }

// Any reports whether anything changes.
func (m Moves) Any() bool { return m.Gained+m.Lost+m.Otherwise > 0 }

func (m *Moves) add(o Moves) {
	m.Gained += o.Gained
	m.Lost += o.Lost
	m.Otherwise += o.Otherwise
}

// NewcomerMove is what a typical newcomer would become able to do, or no longer.
type NewcomerMove struct {
	Newcomer Newcomer
	Action   catalogue.ActionID
	Kind     catalogue.ResourceKind
	Count    int // resources
	Change   string
}

// ImpactLine is one line of an impact: what changes for a party with a resource, or
// with Count of them that are alike (id *).
type ImpactLine struct {
	Who      Who
	Change   string // gained, lost, otherwise
	Actions  Actions
	Resource world.Resource
	Count    int
	Wide     bool
}

// Impact is who gains and who loses what when one policy takes the place of another
// (model §7). Granted and wide are kept apart; typical newcomers come by themselves.
type Impact struct {
	At            moment.Moment
	Parties       Moves // known parties and live links for whom anything changes so
	Granted       [64]Moves
	Kinds         map[string]*Moves // granted, by kind
	Partners      map[string]*Moves // granted, by id; empty where there is none
	Spaces        map[string]*Moves // granted, by id
	WideGained    []WideSum
	WideLost      []WideSum
	WideOtherwise []WideSum
	Newcomers     []NewcomerMove
	LinksStopped  []string
	LinksStarted  []string
	Outward       []OutwardMove
	Forwarders    []ForwarderMove
	Presenters    []PresenterMove
	Suspended     int   // records that are suspended or gone at the moment, and would not be
	SuspendedWho  []Who // the first hundred of them
}

// Total sums the granted triples up.
func (x *Impact) Total() (m Moves) {
	for i := range x.Granted {
		m.add(x.Granted[i])
	}
	return
}

// Nothing reports whether nothing changes for anybody.
func (x *Impact) Nothing() bool {
	return !x.Parties.Any() && len(x.Newcomers)+len(x.Outward)+len(x.Forwarders)+len(x.Presenters)+x.Suspended == 0
}

// ChangedRules finds the rules of which two policies say otherwise anywhere but at
// partners: at the organisation or in exceptions.
func ChangedRules(before, after *Snapshot) (changed [catalogue.NumRules]bool) {
	a, b := before.pol, after.pol
	for r := range changed {
		changed[r] = a.limit[r] != b.limit[r] || a.fallback[r] != b.fallback[r]
	}
	mark := func(x *exception) {
		for r := range changed {
			if x.rules[r] != catalogue.Unset {
				changed[r] = true
			}
		}
	}
	same := func(x, y *exception) bool {
		if x.from != y.from || x.until != y.until || x.rules != y.rules || len(x.parties) != len(y.parties) || (x.parties == nil) != (y.parties == nil) || len(x.source.People) != len(y.source.People) || len(x.source.Groups) != len(y.source.Groups) {
			return false
		}
		for i := range x.parties {
			if x.parties[i] != y.parties[i] {
				return false
			}
		}
		for i := range x.source.People {
			if x.source.People[i] != y.source.People[i] {
				return false
			}
		}
		for i := range x.source.Groups {
			if x.source.Groups[i] != y.source.Groups[i] {
				return false
			}
		}
		return true
	}
	was := map[string]*exception{}
	for i := range a.except {
		was[a.except[i].source.ID] = &a.except[i]
	}
	for i := range b.except {
		x := &b.except[i]
		if o := was[x.source.ID]; o == nil || !same(o, x) {
			mark(x)
			if o != nil {
				mark(o)
			}
		}
		delete(was, x.source.ID)
	}
	for _, x := range was {
		mark(x)
	}
	return
}

// ImpactOf compares two policies over one inventory at a moment, exactly: after must
// have come from before by Aside and a new policy. line, where not nil, is called for
// what changes, until it returns false. stop ends the work early with its error;
// progress, where not nil, hears of the part that is done.
func ImpactOf(before, after *Snapshot, at moment.Moment, line func(*ImpactLine) bool, stop func() error, progress func(part float64)) (*Impact, error) {
	out := &Impact{At: at, Kinds: map[string]*Moves{}, Partners: map[string]*Moves{}, Spaces: map[string]*Moves{}}
	if progress == nil {
		progress = func(float64) {}
	}
	changed := ChangedRules(before, after)
	moved := map[uint32]Moves{} // by party
	if err := grantedImpact(before, after, at, &changed, out, moved, &line, stop, func(p float64) { progress(p * 0.6) }); err != nil {
		return nil, err
	}
	progress(0.6)
	linkMoves := linkImpact(before, after, at, &changed, out, &line)
	progress(0.7)

	// Wide actions, crowd by crowd.
	matters := func(a catalogue.ActionID) bool { return actionMatters(a, &changed) }
	sums := map[string]map[wideKey]*wideCount{"gained": {}, "lost": {}, "otherwise": {}}
	links := map[string]int{}
	if err := wide(before, after, at, matters, false, stop, func(m *wideMove) {
		change := changeOf(m.left, m.right)
		k := m.key()
		if sums[change][k] == nil {
			sums[change][k] = &wideCount{}
		}
		sums[change][k].add(m)
		for _, i := range m.members {
			x := moved[i]
			x.note(change)
			moved[i] = x
		}
		if m.crowd.links > 0 {
			links[change] = m.crowd.links
		}
		for _, i := range m.members {
			if line == nil {
				break
			}
			l := ImpactLine{Who: Who{Address: before.addressOf(i)}, Change: change, Actions: 1 << m.act, Resource: world.Resource{Kind: m.kind, ID: "*"}, Count: len(m.resources), Wide: true}
			if m.scope {
				l.Resource.ID = m.key().scope
			} else if len(m.resources) == 1 {
				l.Resource = before.wideResource(m.kind, m.resources[0])
			}
			if !line(&l) {
				line = nil
			}
		}
	}); err != nil {
		return nil, err
	}
	progress(0.95)
	for _, x := range moved {
		out.Parties.Gained += min(1, x.Gained)
		out.Parties.Lost += min(1, x.Lost)
		out.Parties.Otherwise += min(1, x.Otherwise)
	}
	// All live links are one crowd of wide actions; those that also change by themselves count once.
	out.Parties.Gained += max(links["gained"], linkMoves.Gained)
	out.Parties.Lost += max(links["lost"], linkMoves.Lost)
	out.Parties.Otherwise += max(links["otherwise"], linkMoves.Otherwise)
	out.WideGained, out.WideLost, out.WideOtherwise = wideSums(sums["gained"]), wideSums(sums["lost"]), wideSums(sums["otherwise"])
	if err := newcomerImpact(before, after, at, &changed, out, stop); err != nil {
		return nil, err
	}
	if err := outwardImpact(before, after, at, &changed, out, stop); err != nil {
		return nil, err
	}
	if err := presenterImpact(before, after, at, &changed, out, stop); err != nil {
		return nil, err
	}
	Ousted(before, after, at, func(i uint32, _ dated.Cause, _ moment.Moment) {
		if out.Suspended++; out.Suspended <= 100 {
			out.SuspendedWho = append(out.SuspendedWho, Who{Address: after.addressOf(i)})
		}
	})
	progress(1)
	return out, nil
}

func (m *Moves) note(change string) {
	switch change {
	case "gained":
		m.Gained++
	case "lost":
		m.Lost++
	default:
		m.Otherwise++
	}
}

func changeOf(left, right Verdict) string {
	switch {
	case right.Yes && !left.Yes:
		return "gained"
	case left.Yes && !right.Yes:
		return "lost"
	}
	return "otherwise"
}

// actionMatters reports whether an action asks any of some rules.
func actionMatters(a catalogue.ActionID, changed *[catalogue.NumRules]bool) bool {
	for r := range changed {
		if changed[r] {
			for _, x := range catalogue.AskedBy(catalogue.RuleID(r)) {
				if x == a {
					return true
				}
			}
		}
	}
	return false
}

func (s *Snapshot) wideResource(kind catalogue.ResourceKind, i uint32) world.Resource {
	inv := &s.inv
	switch kind {
	case catalogue.OurDirectory:
		return world.Resource{Kind: kind, ID: "ours"}
	case catalogue.Meeting:
		return world.Resource{Kind: kind, ID: inv.meetingIDs.text(inv.text, i)}
	case catalogue.Space:
		return world.Resource{Kind: kind, ID: inv.spaceIDs.text(inv.text, i)}
	}
	return world.Resource{Kind: kind, ID: inv.personIDs.text(inv.text, i)}
}

// touched finds the entries whose requirements any of the changed rules is among, or
// whose limits and defaults differ.
func touched(x, y *sides, changed *[catalogue.NumRules]bool, otherRows bool) (set uint64, people bool) {
	moved := (x.defaults ^ y.defaults) | (x.limits ^ y.limits)
	if otherRows { // values that count no more fall back to what may be tighter than the limit
		for k := range masks.requirements {
			if changed[masks.requirements[k].rule] {
				moved |= 1 << k
			}
		}
	}
	for _, k := range masks.people {
		if changed[masks.requirements[k].rule] {
			moved |= 1 << k
			people = true
		}
	}
	for i := range masks.entries {
		e := &masks.entries[i]
		need := e.need[0][0] | e.need[0][1] | e.need[1][0] | e.need[1][1] | e.private | e.guests | e.listed | e.any
		if e.licence {
			need |= 7 << masks.licence
		}
		if need&moved != 0 {
			set |= 1 << i
		}
	}
	for i := range masks.entries { // of two accounts for one action both are asked
		if r := masks.entries[i].rival; r != 0 && set&(r|1<<i) != 0 {
			set |= r | 1<<i
		}
	}
	return
}

// otherRows reports whether values of spaces, items and meetings count on one side that
// are held back on the other.
func otherRows(a, b *Snapshot) bool { return a.idx != b.idx }

// sameSide reports whether two policies take a party alike, as far as granted
// actions go, but for what all parties have in common.
func sameSide(a, b *partySide) bool { return *a == *b }

// grantedImpact compares granted actions.
func grantedImpact(before, after *Snapshot, at moment.Moment, changed *[catalogue.NumRules]bool, out *Impact, moved map[uint32]Moves, line *func(*ImpactLine) bool, stop func() error, progress func(float64)) error {
	inv := &before.inv
	before.indexed()
	x, y := before.sidesAt(at), after.sidesAt(at)
	set, people := touched(x, y, changed, otherRows(before, after))
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
					if q.grants.n == 0 && q.groups.n == 0 {
						continue
					}
					a, in0 := before.sideOf(x, i, at)
					b, in1 := after.sideOf(y, i, at)
					if !in0 {
						a.ok = 0
					}
					if !in1 {
						b.ok = 0
					}
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
					compareParty := compare
					if otherHoldings(before, after, i) {
						compareParty = compareEach
					}
					compareParty(t, u, i, &a, &b, ask, people, func(sp, index uint32, kind catalogue.ResourceKind, in *contents, yes0, yes1 uint64) {
						m := p.note(&a, &b, yes0, yes1, in)
						if !m.Any() {
							return
						}
						mine.add(m)
						if p.spaces[sp] == nil {
							p.spaces[sp] = &Moves{}
						}
						p.spaces[sp].add(m)
						telling.Lock()
						if *line != nil {
							before.tell(i, &a, &b, sp, index, kind, in, yes0, yes1, t, line)
						}
						telling.Unlock()
					})
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

// otherwise returns which actions that are a yes on both sides have other conditions.
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

// moves splits what changes into gained, lost and otherwise.
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

// note counts what changes for one thing, or where in is not nil for the plain things
// of a space.
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
// policies may answer otherwise: with in for a space with the plain things in it,
// else for the one thing of that kind and index.
func compare(t, u *Tally, i uint32, a, b *partySide, ask uint64, people bool, found func(sp, index uint32, kind catalogue.ResourceKind, in *contents, yes0, yes1 uint64)) {
	inv, idx := &t.s.inv, t.s.idx
	live := t.roles(i)
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
		at1 := at0
		if apart {
			at1 = u.s.place(sp, b, i, t.at)
		}
		both := func(set uint64, row uint32, private bool, onItem, onSpace catalogue.Role) (yes0, yes1 uint64) {
			yes0 = a.allowed(&at0, t.x.met(a, &at0, of(idx.atItem, row)), set&ask, private, onItem, onSpace)
			yes1 = b.allowed(&at1, u.x.met(b, &at1, of(u.s.idx.atItem, row)), set&ask, private, onItem, onSpace)
			return
		}
		if h.resource&itemBit != 0 {
			index := h.resource &^ itemBit
			it := inv.items.at(index)
			if yes0, yes1 := both(masks.ofKind[it.kind], it.rules, it.private, h.role, t.roleOn(sp)); yes0|yes1 != 0 {
				found(sp, index, it.kind, nil, yes0, yes1)
			}
			continue
		}
		in := &idx.in[sp]
		if yes0, yes1 := both(in.entries, none, false, catalogue.NoRole, h.role); yes0|yes1 != 0 {
			if items > 0 {
				in = t.less(sp, in, live)
			}
			found(sp, none, catalogue.Space, in, yes0, yes1)
		}
		special := idx.in[sp].special
		for _, x := range idx.special[special.off : special.off+special.n] {
			if x.kind != catalogue.Meeting && (x.private || items > 0 && t.roleOn(x.index|itemBit) != catalogue.NoRole) {
				continue
			}
			if yes0, yes1 := both(masks.ofKind[x.kind], x.rules, false, catalogue.NoRole, h.role); yes0|yes1 != 0 {
				found(sp, x.index, x.kind, nil, yes0, yes1)
			}
		}
	}
}

// otherHoldings reports whether what a party holds may differ between two snapshots of one
// inventory: by their dates alone.
func otherHoldings(a, b *Snapshot, i uint32) bool {
	p, q := a.inv.parties.at(i), b.inv.parties.at(i)
	return p.gone != q.gone || p.grants != q.grants
}

// compareEach does what compare does where the party need not hold the same on both sides:
// thing by thing.
func compareEach(t, u *Tally, i uint32, a, b *partySide, ask uint64, people bool, found func(sp, index uint32, kind catalogue.ResourceKind, in *contents, yes0, yes1 uint64)) {
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

// less returns the contents of a space without the plain things that the party holds
// a role of its own on: those come by themselves.
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

// tell writes the lines of what changes for a party.
func (s *Snapshot) tell(i uint32, a, b *partySide, sp, index uint32, kind catalogue.ResourceKind, in *contents, yes0, yes1 uint64, t *Tally, line *func(*ImpactLine) bool) {
	who := Who{Address: s.addressOf(i)}
	one := func(th thing, yes0, yes1 uint64) {
		gained, lost, other := moves(a, b, yes0, yes1)
		for k, set := range []Actions{gained, lost, other} {
			if set != 0 && *line != nil && !(*line)(&ImpactLine{Who: who, Change: [...]string{"gained", "lost", "otherwise"}[k], Actions: set, Resource: s.resourceOf(th), Count: 1}) {
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
		if y0, y1 := of(x.kind); x.plain && y0|y1 != 0 && t.roleOn(x.index|itemBit) == catalogue.NoRole {
			one(thing{sp, x.index, x.kind}, y0, y1)
		}
	}
}

// linkImpact compares what whoever holds a link may do.
func linkImpact(before, after *Snapshot, at moment.Moment, changed *[catalogue.NumRules]bool, out *Impact, line *func(*ImpactLine) bool) (parties Moves) {
	matters := false
	var acts []*catalogue.Action
	for i := range catalogue.Actions() {
		a := &catalogue.Actions()[i]
		if masks.granted.Has(a.ID) && a.Asks[catalogue.Bearer] != nil {
			acts = append(acts, a)
			matters = matters || actionMatters(a.ID, changed)
		}
	}
	for _, r := range []catalogue.RuleID{ruleLinkDays, ruleLinkRight, ruleBearer, ruleDriveBearer} {
		matters = matters || changed[r]
	}
	if !matters {
		return
	}
	inv := &before.inv
	for i := uint32(0); i < inv.links.n; i++ {
		l := inv.links.at(i)
		if !l.exists || !l.bearer || !moment.Within(at, l.created, l.until) || !inv.items.at(l.item).exists {
			continue
		}
		it := inv.items.at(l.item)
		q := Question{Subject: Who{Kind: ByLinkID, ID: inv.linkIDs.text(inv.text, i)}, Resource: world.Resource{Kind: it.kind, ID: inv.itemIDs.text(inv.text, l.item)}, At: at}
		var sets [3]Actions
		var was, will Actions
		var mine Moves
		for _, a := range acts {
			if !a.Takes(it.kind) {
				continue
			}
			q.Action = a.ID
			v, _ := before.Decide(&q)
			w, _ := after.Decide(&q)
			if v.Yes {
				was |= 1 << a.ID
			}
			if w.Yes {
				will |= 1 << a.ID
			}
			if v.Yes == w.Yes && (!v.Yes || v.Conditions == w.Conditions) {
				continue
			}
			change := changeOf(v, w)
			mine.note(change)
			out.Granted[a.ID].note(change)
			for k, c := range []string{"gained", "lost", "otherwise"} {
				if c == change {
					sets[k] |= 1 << a.ID
				}
			}
		}
		if !mine.Any() {
			continue
		}
		parties.Gained += min(1, mine.Gained)
		parties.Lost += min(1, mine.Lost)
		parties.Otherwise += min(1, mine.Otherwise)
		if was != 0 && will == 0 {
			out.LinksStopped = append(out.LinksStopped, q.Subject.ID)
		}
		if was == 0 && will != 0 {
			out.LinksStarted = append(out.LinksStarted, q.Subject.ID)
		}
		add := func(in map[string]*Moves, key string) {
			if in[key] == nil {
				in[key] = &Moves{}
			}
			in[key].add(mine)
		}
		add(out.Kinds, KindBearer.String())
		add(out.Partners, "")
		if it.space != none {
			add(out.Spaces, inv.spaceIDs.text(inv.text, it.space))
		}
		for k, set := range sets {
			if set != 0 && *line != nil && !(*line)(&ImpactLine{Who: q.Subject, Change: [...]string{"gained", "lost", "otherwise"}[k], Actions: set, Resource: q.Resource, Count: 1}) {
				*line = nil
			}
		}
	}
	return
}

// newcomerImpact lists what typical newcomers of either policy would become able to
// do, or no longer: wide actions, and being invited into the directory.
func newcomerImpact(before, after *Snapshot, at moment.Moment, changed *[catalogue.NumRules]bool, out *Impact, stop func() error) error {
	all := newcomersOf(before, after, at)
	type key struct {
		act    catalogue.ActionID
		kind   catalogue.ResourceKind
		change string
	}
	invite, _ := catalogue.ActionByName("directory.invite")
	directory := world.Resource{Kind: catalogue.OurDirectory, ID: "ours"}
	resources := map[catalogue.ResourceKind][]alike{}
	var matters [64]bool
	any := false
	for _, w := range wideActions {
		matters[w.act] = actionMatters(w.act, changed)
		any = any || matters[w.act]
	}
	matters[invite.ID] = actionMatters(invite.ID, changed)
	any = any || matters[invite.ID]
	for _, n := range all {
		moved := otherwiseMatched(before, after, n.Who)
		if !moved && !any {
			continue
		}
		if err := stop(); err != nil {
			return err
		}
		count := map[key]int{}
		ask := func(q *Question, kind catalogue.ResourceKind, of int) {
			v, err0 := before.Decide(q)
			w, err1 := after.Decide(q)
			v.Yes, w.Yes = v.Yes && err0 == nil, w.Yes && err1 == nil
			if v.Yes != w.Yes || v.Yes && v.Conditions != w.Conditions {
				count[key{q.Action, kind, changeOf(v, w)}] += of
			}
		}
		for _, w := range wideActions {
			if !moved && !matters[w.act] {
				continue
			}
			about, ok := resources[w.kind]
			if !ok {
				about = wideResources(before, after, w.kind)
				resources[w.kind] = about
			}
			for k := range about {
				q := Question{Subject: n.Who, Action: w.act, Resource: world.Resource{Kind: w.kind, ID: about[k].id}, At: at, as: unrelated}
				ask(&q, w.kind, len(about[k].members))
			}
		}
		if n.Who.Kind == ByAddress && (moved || matters[invite.ID]) {
			for _, inviter := range []string{before.Inviter(directory), after.Inviter(directory)} {
				if inviter != "" {
					q := Question{Subject: Who{Kind: ByPerson, ID: inviter}, Action: invite.ID, Resource: directory, Address: n.Who.Address, At: at}
					ask(&q, catalogue.OurDirectory, 1)
					break
				}
			}
		}
		for k, c := range count {
			out.Newcomers = append(out.Newcomers, NewcomerMove{n, k.act, k.kind, c, k.change})
		}
	}
	sort.SliceStable(out.Newcomers, func(i, j int) bool {
		a, b := &out.Newcomers[i], &out.Newcomers[j]
		if x, y := a.Newcomer.Who.String(), b.Newcomer.Who.String(); x != y {
			return x < y
		}
		if a.Action != b.Action {
			return a.Action < b.Action
		}
		return a.Change < b.Change
	})
	return nil
}

// otherwiseMatched reports whether two policies may take an address otherwise, but for
// rules that changed for everybody.
func otherwiseMatched(before, after *Snapshot, who Who) bool {
	if who.Kind != ByAddress {
		return false
	}
	x, y := before.Match(who.Address), after.Match(who.Address)
	id := func(m *Match) string {
		if m.Partner == nil {
			return ""
		}
		return m.Partner.ID
	}
	if x.Own != y.Own || (x.Bar == nil) != (y.Bar == nil) || x.Private != y.Private || id(&x) != id(&y) {
		return true
	}
	if x.Partner == nil {
		return false
	}
	k := before.inv.partners.find(before.inv.text, x.Partner.ID)
	return !samePartner(before, after, k)
}
