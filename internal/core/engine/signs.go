package engine

import (
	"encoding/binary"
	"slices"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// reached is the union of parts: groups but for what every cohort missed of
// them, and classes. It counts resources that anybody at all reaches, in groups
// and not one by one.
//
// It is what *with how many of our people* in a sum is counted by: the union
// over cohorts of sets that are each nearly everything.
type reached struct {
	missed  map[int32]map[int32]bool // by group that any cohort reached: the classes that no cohort reached with it
	classes map[int32]bool
}

// add takes a part into the union. What one cohort missed and another reached is
// no longer missed.
func (r *reached) add(p *parted) {
	if r.missed == nil {
		r.missed, r.classes = map[int32]map[int32]bool{}, map[int32]bool{}
	}
	if p.group < 0 {
		for _, k := range p.classes {
			r.classes[k] = true
		}
		return
	}
	missed, before := r.missed[p.group]
	switch {
	case !before:
		r.missed[p.group] = p.but
	case len(missed) > 0:
		both := map[int32]bool{}
		for k := range missed {
			if p.but[k] {
				both[k] = true
			}
		}
		r.missed[p.group] = both
	}
}

// count returns how many resources are in the union, with some more that may be
// in it already. Those in more are other resources, found one by one; what is
// in the union already is taken out of it.
func (r *reached) count(x *division, more map[uint32]bool) (n int) {
	if x == nil {
		return len(more)
	}
	in := func(k int32) bool {
		if r.classes[k] {
			return true
		}
		missed, ok := r.missed[x.of[k]]
		return ok && !missed[k]
	}
	for k := range x.about {
		if in(int32(k)) {
			n += len(x.about[k].members)
			if len(more) > 0 {
				for _, i := range x.about[k].members {
					delete(more, i)
				}
			}
		}
	}
	return n + len(more)
}

// known keeps what one action answered cohorts that are alike, but for what
// names them, about resources that are: so neither partners nor people multiply
// what is asked.
//
// An unlisted firm and a partner that says nothing special answer alike; three
// hundred partners are mostly a handful of signs. It belongs to one goroutine
// and one action.
type known struct {
	sides [2]*Snapshot
	at    moment.Moment
	rules []catalogue.RuleID // that a partner may set
	keys  []catalogue.Key
	signs map[string]int32
	told  [][]answered // by sign, then by group
	key   []byte
	by    [2]map[uint32]string // by partner: what it says
}

// answered is what a sign was told of a group; left and right are the verdicts
// on the two sides.
type answered struct {
	asked       bool
	left, right Verdict
}

// newKnown begins with nothing kept. Which rules and openings of a partner an
// action asks follows from the catalogue: a partner's value for another rule
// does not tell two of them apart.
func newKnown(sides [2]*Snapshot, w *wideAction, at moment.Moment) *known {
	k := &known{sides: sides, at: at, signs: map[string]int32{}}
	for _, r := range asksOf[w.act] {
		if ruleLayers[r]&catalogue.AtPartner != 0 {
			k.rules = append(k.rules, r)
		}
	}
	ask := func(keys ...catalogue.Key) {
		for _, key := range keys {
			if !slices.Contains(k.keys, key) {
				k.keys = append(k.keys, key)
			}
		}
	}
	for _, x := range w.act.Get().Rows(w.kind) {
		if x != nil {
			ask(x.Key)
			ask(x.Also...)
		}
	}
	if w.kind == catalogue.Meeting { // the door lets those through who are open for meetings
		ask(catalogue.In(catalogue.Meetings))
	}
	k.by[0], k.by[1] = map[uint32]string{}, map[uint32]string{}
	return k
}

// sign numbers what tells a cohort apart for the action, but for what names it.
// Two cohorts of one sign get the same answer about every resource that names
// neither.
func (k *known) sign(c *cohort) int32 {
	k.key = k.key[:0]
	if len(c.members) == 0 {
		k.key = append(k.key, "links"...)
	}
	for side := range k.sides {
		l := c.like[side]
		k.key = append(k.key, byte(l.kind), byte(l.state), byte(l.facts), packed(l.terms, l.record, l.joined, l.barred))
		if l.partner != none && len(c.members) > 0 {
			k.key = append(k.key, k.partner(side, l.partner)...)
		}
		k.key = append(k.key, 0xff)
	}
	n, ok := k.signs[string(k.key)]
	if !ok {
		n = int32(len(k.told))
		k.signs[string(k.key)], k.told = n, append(k.told, nil)
	}
	return n
}

// partner writes what a partner says to the action. Dates are compared with the
// moment that is asked and not told themselves.
func (k *known) partner(side int, i uint32) string {
	if said, ok := k.by[side][i]; ok {
		return said
	}
	pol := k.sides[side].pol
	var out []byte
	if i < uint32(len(pol.partners)) {
		p, rest := &pol.partners[i], &pol.rest[i]
		out = append(out, packed(p.exists, p.standing == world.Suspended, p.standing == world.Ended && k.at >= rest.endedAt))
		for _, key := range k.keys {
			out = append(out, byte(p.opened[key]), packed(p.still&(1<<key) != 0))
			st := &rest.stance[key]
			out = append(out, byte(st.says), st.features, packed(k.at >= st.expires))
		}
		for _, r := range k.rules {
			v := pol.rows[p.rules][r]
			if v != catalogue.Unset && ruleShape[r] != catalogue.Choice { // looser than the limit is as loose as that
				v = join(ruleShape[r], v, pol.limit[r])
			}
			out = binary.AppendVarint(out, int64(v))
		}
	}
	k.by[side][i] = string(out)
	return string(out)
}

// wideSign is what tells parties apart for one wide action: what their partner
// says to it, and what names them. It compares with ==.
type wideSign struct {
	sign            int32 // see known
	partner, domain uint32
	groups          string
	alone           uint32
}

// signs finds the signs of parties in one snapshot. It belongs to one
// goroutine.
type signs struct {
	s     *Snapshot
	at    moment.Moment
	named *naming
	known []*known // by wideActions; made when it is asked for
	one   cohort
}

// newSigns begins with no sign known. named is whom policy and inventory name
// one by one.
func newSigns(s *Snapshot, at moment.Moment, named *naming) *signs {
	return &signs{s: s, at: at, named: named, known: make([]*known, len(wideActions)), one: cohort{members: []uint32{0}}}
}

// of returns the sign of a party for a wide action, by its place. Two parties
// of one sign get the same answer about everything that the action is about.
func (x *signs) of(action int, l *likeness) wideSign {
	if x.known[action] == nil {
		x.known[action] = newKnown([2]*Snapshot{x.s, x.s}, &wideActions[action], x.at)
	}
	out := wideSign{partner: none, domain: l.domain, groups: l.groups, alone: l.alone}
	if l.partner != none && x.named.partners[l.partner] {
		out.partner = l.partner
	}
	x.one.like = [2]likeness{*l, *l}
	out.sign = x.known[action].sign(&x.one)
	return out
}

// answer is where the answer about a group is kept.
func (k *known) answer(sign, group int32) *answered {
	for int(group) >= len(k.told[sign]) {
		k.told[sign] = append(k.told[sign], answered{})
	}
	return &k.told[sign][group]
}

// packed puts flags into a byte, eight at most.
func packed(fs ...bool) (b byte) {
	for i, f := range fs {
		if f {
			b |= 1 << i
		}
	}
	return b
}

// cohortsOfSign are cohorts of one sign. size is how many parties they are
// together.
type cohortsOfSign struct {
	size    int
	cohorts []*cohort
	named   []map[int32][]int32 // by cohort: the classes that name it; nil for none
	apart   map[int32]int       // by group: cohorts that classes of it name
}

// somebody finds a cohort and a class of a group that does not name it; nil
// where every class names everybody. A cohort that nothing names is best; else
// any pair without a name between them speaks for the group.
func (h *cohortsOfSign) somebody(x *division, group int32) (*cohort, int32) {
	for i, c := range h.cohorts {
		if len(h.named[i]) == 0 {
			return c, x.groups[group].classes[0]
		}
	}
	for i, c := range h.cohorts {
		for _, k := range x.groups[group].classes {
			if h.named[i][k] == nil {
				return c, k
			}
		}
	}
	return nil, 0
}
