package engine

import (
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
)

// Exceptions that change nothing: a finding that has to be exact, since the
// advice is to end them.
//
// An exception is inert where without it every value would be the same, for
// everybody, everywhere, from now on. Trying all contexts would be people times
// parties times places; it is enough to try one of each sort that can differ
// (ChangesNothing), which the slow evaluator confirms on random worlds by
// trying all.

// Inert finds exceptions that change nothing. It is made once for many of them.
// What spaces and items say of a rule is found once for all exceptions that set
// it.
type Inert struct {
	s     *Snapshot
	near  [catalogue.NumRules][]nearPair
	ready [catalogue.NumRules]bool
	in    map[uint32][]addr.Address // by group that an exception names: its parties; made when one is asked for
}

// nearPair is what a space and something in it say together.
type nearPair struct{ space, item catalogue.Value }

// NewInert returns an Inert of the snapshot.
func (s *Snapshot) NewInert() *Inert { return &Inert{s: s} }

// pairs lists what spaces, items and meetings say of r, each combination once.
// A rule is decided from partner, people, space and item; all that matters of
// the last two is which combinations of values there are: a handful, among a
// hundred thousand places.
func (x *Inert) pairs(r catalogue.RuleID) []nearPair {
	if x.ready[r] {
		return x.near[r]
	}
	inv := &x.s.inv
	seen := map[nearPair]bool{{catalogue.Unset, catalogue.Unset}: true}
	says := func(row uint32) catalogue.Value {
		if row == none {
			return catalogue.Unset
		}
		return inv.rows[row][r]
	}
	if ruleLayers[r]&catalogue.AtSpace != 0 {
		for i := uint32(0); i < inv.spaces.n; i++ {
			if sp := inv.spaces.at(i); sp.exists {
				seen[nearPair{says(sp.rules), catalogue.Unset}] = true
			}
		}
	}
	if ruleLayers[r]&catalogue.AtItem != 0 {
		for i := uint32(0); i < inv.items.n; i++ {
			if it := inv.items.at(i); it.exists {
				p := nearPair{catalogue.Unset, says(it.rules)}
				if ruleLayers[r]&catalogue.AtSpace != 0 {
					p.space = says(inv.spaces.at(it.space).rules)
				}
				seen[p] = true
			}
		}
		for i := uint32(0); i < inv.meetings.n; i++ {
			if m := inv.meetings.at(i); m.exists {
				seen[nearPair{catalogue.Unset, says(m.rules)}] = true
			}
		}
	}
	for p := range seen {
		x.near[r] = append(x.near[r], p)
	}
	x.ready[r] = true
	return x.near[r]
}

// People lists the ids of the people of ours whom exception i of the policy is
// about: those it names and the members of its groups. They are in the order of
// their indexes.
func (s *Snapshot) People(i int) (ids []string) {
	for _, p := range s.peopleOf(int32(i)) {
		ids = append(ids, s.inv.personIDs.text(s.inv.text, p))
	}
	return
}

// peopleOf lists them by index.
func (s *Snapshot) peopleOf(i int32) []uint32 {
	if by := s.reversed().excepted; int(i) < len(by) {
		return by[i]
	}
	return nil
}

// exceptedPeople lists, by exception, the people of ours whom it is about, in
// their order.
func (s *Snapshot) exceptedPeople() [][]uint32 {
	out := make([][]uint32, len(s.pol.except))
	inv := &s.inv
	for p := uint32(0); p < inv.people.n; p++ {
		rec := inv.people.at(p)
		if !rec.exists || int(p) >= len(s.pol.concerned) || !s.pol.concerned[p] {
			continue
		}
		add := func(which []int32) {
			for _, j := range which {
				if l := out[j]; len(l) == 0 || l[len(l)-1] != p { // one of a group may be named, too
					out[j] = append(l, p)
				}
			}
		}
		add(s.pol.byPerson[p])
		for _, g := range inv.lists[rec.groups.off : rec.groups.off+rec.groups.n] {
			if g < uint32(len(s.pol.byGroup)) {
				add(s.pol.byGroup[g])
			}
		}
	}
	return out
}

// partiesIn lists the parties of a group that an exception names. All groups
// that any exception names are filled in one pass over the parties.
func (x *Inert) partiesIn(group uint32) []addr.Address {
	if x.in == nil {
		x.in = map[uint32][]addr.Address{}
		for i := range x.s.pol.except {
			for _, ref := range x.s.pol.except[i].parties {
				if ref.what == ofGroup {
					x.in[ref.index] = nil
				}
			}
		}
		inv := &x.s.inv
		for i := uint32(0); i < inv.parties.n && len(x.in) > 0; i++ {
			l := inv.parties.at(i).groups
			for _, g := range inv.lists[l.off : l.off+l.n] {
				if list, ok := x.in[g]; ok {
					if a, err := addr.Parse(inv.addressText(i)); err == nil {
						x.in[g] = append(list, a)
					}
				}
			}
		}
	}
	return x.in[group]
}

// ChangesNothing reports whether removing exception i of the policy alters no
// effective value in any context from a moment on (model §3). One that is over
// changes nothing.
//
// All contexts are tried that can differ: each class of people it is about,
// each moment at which another exception begins or ends, each party that
// anything names, each combination of values at places. If none differs, none
// does.
func (x *Inert) ChangesNothing(i int, from moment.Moment) bool {
	s := x.s
	pol, inv := s.pol, &s.inv
	exc := &pol.except[i]
	if from >= exc.until {
		return true
	}
	people := s.peopleOf(int32(i))
	// Whoever is named by the same exceptions is decided alike.
	classes := map[string]uint32{}
	for _, p := range people {
		key := make([]byte, 0, 32)
		for _, j := range pol.byPerson[p] {
			key = append(key, byte(j), byte(j>>8), byte(j>>16), 1)
		}
		l := inv.people.at(p).groups
		for _, g := range inv.lists[l.off : l.off+l.n] {
			if g < uint32(len(pol.byGroup)) && len(pol.byGroup[g]) > 0 {
				key = append(key, byte(g), byte(g>>8), byte(g>>16), 2)
			}
		}
		classes[string(key)] = p
	}
	for _, p := range classes {
		others := append([]int32(nil), pol.byPerson[p]...)
		l := inv.people.at(p).groups
		for _, g := range inv.lists[l.off : l.off+l.n] {
			if g < uint32(len(pol.byGroup)) {
				others = append(others, pol.byGroup[g]...)
			}
		}
		// Between two of these nothing turns.
		moments := []moment.Moment{max(from, exc.from)}
		for _, j := range others {
			for _, m := range []moment.Moment{pol.except[j].from, pol.except[j].until} {
				if m > moments[0] && m < exc.until {
					moments = append(moments, m)
				}
			}
		}
		for r := catalogue.RuleID(0); int(r) < catalogue.NumRules; r++ {
			if exc.rules[r] == catalogue.Unset {
				continue
			}
			for _, at := range moments {
				for _, who := range x.representatives(exc, others, r) {
					if x.alters(r, int32(i), p, who, at) {
						return false
					}
				}
			}
		}
	}
	return true
}

// representatives lists parties such that every party is decided like one of
// them: the zero address stands for whoever nothing names. Of partners that say
// the rule, and of domains and groups that the other exceptions name.
func (x *Inert) representatives(exc *exception, others []int32, r catalogue.RuleID) []addr.Address {
	pol, inv := x.s.pol, &x.s.inv
	out := []addr.Address{{}}
	newcomers := func(p uint32) {
		for _, d := range pol.rest[p].source.Domains {
			out = append(out, addr.Newcomer(d.Domain))
		}
	}
	if ruleLayers[r]&catalogue.AtPartner != 0 {
		for p := range pol.partners {
			if pol.partners[p].exists && pol.rows[pol.partners[p].rules][r] != catalogue.Unset {
				newcomers(uint32(p))
			}
		}
	}
	for _, j := range others {
		for _, ref := range pol.except[j].parties {
			switch ref.what {
			case ofPartner:
				if ref.index < uint32(len(pol.rest)) && pol.partners[ref.index].exists {
					newcomers(ref.index)
				}
			case ofDomain:
				if d, err := addr.ParseDomain(inv.domains.text(inv.text, ref.index)); err == nil {
					out = append(out, addr.Newcomer(d))
				}
			case ofGroup:
				out = append(out, x.partiesIn(ref.index)...)
			case ofAddress:
				if a, err := addr.Parse(inv.addressText(ref.index)); err == nil {
					out = append(out, a)
				}
			}
		}
	}
	return out
}

// alters reports whether leaving exception i out alters the value of r anywhere
// for this person and party at this moment. It asks what exceptions say with
// and without this one, and then whether any place lets the difference through.
func (x *Inert) alters(r catalogue.RuleID, i int32, person uint32, who addr.Address, at moment.Moment) bool {
	pol := x.s.pol
	var a asker
	q := Question{Resource: NoResource, At: at}
	a.s, a.q, a.at = x.s, &q, at
	partner := catalogue.Unset
	in := about{person: person, space: none, near: none}
	if !who.IsZero() {
		a.look(&a.party, who, x.s.inv.hashOf(who.String()))
		in.party = &a.party
		if a.party.partner != none && ruleLayers[r]&catalogue.AtPartner != 0 {
			partner = pol.rows[pol.partners[a.party.partner].rules][r]
		}
	}
	with := a.peopleValue(r, &in, nil)
	a.skip = i + 1
	without := a.peopleValue(r, &in, nil)
	if with == without {
		return false
	}
	shape := ruleShape[r]
	value := func(people catalogue.Value, near nearPair) catalogue.Value {
		v := join(shape, join(shape, join(shape, partner, people), near.space), near.item)
		if v == catalogue.Unset {
			v = pol.fallback[r]
		}
		if shape == catalogue.Choice {
			return v
		}
		return join(shape, v, pol.limit[r])
	}
	for _, near := range x.pairs(r) {
		if value(with, near) != value(without, near) {
			return true
		}
	}
	return false
}
