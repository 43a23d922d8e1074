package engine

import (
	"slices"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
)

// TurningDays lists the starts of those of the next days, by our zone, on which
// an answer within a scope may be another one than on the day before: a role, a
// record, an exception or a known answer of the other side begins or ends
// between them. On all others it is what it was.
//
// Judging thirty days ahead then costs as many judgements as there are such
// days, mostly two or three.
func (s *Snapshot) TurningDays(x *Scope, from moment.Moment, days int) (out []moment.Moment) {
	zone := s.pol.zone
	first := moment.DayOf(from, zone)
	starts := make([]moment.Moment, days+1)
	for k := range starts {
		starts[k] = (first + moment.Day(k)).Start(zone)
	}
	turns := make([]bool, days+1)
	s.turnings(x, from, starts[days], func(m moment.Moment) {
		if k, _ := slices.BinarySearch(starts, m); k >= 1 && k <= days { // it counts from the next start on
			turns[k] = true
		}
	})
	for k := range turns {
		if turns[k] {
			out = append(out, starts[k])
		}
	}
	return
}

// Turnings lists, in their order, the moments behind one and up to another at
// which an answer within a scope may become another one, by nothing but the
// time. It is for questions over time that need the exact moment, and not the
// day.
func (s *Snapshot) Turnings(x *Scope, from, until moment.Moment) (out []moment.Moment) {
	s.turnings(x, from, until, func(m moment.Moment) { out = append(out, m) })
	slices.Sort(out)
	return slices.Compact(out)
}

// turnings calls found for those moments, in no order and several times. Links
// that work for whoever holds them end by a rule at the end of a day, so where
// the scope holds any, every day begins with one.
//
// Moments that change nothing may be among them; one that changes something
// never is left out.
func (s *Snapshot) turnings(x *Scope, from, until moment.Moment, found func(moment.Moment)) {
	w := s.scopedTo(x, from)
	if w.shut {
		return
	}
	add := func(list ...moment.Moment) {
		for _, m := range list {
			if m > from && m <= until {
				found(m)
			}
		}
	}
	inv := &s.inv
	if x.Actions&masks.granted != 0 && w.holdsNew(&Newcomer{Who: Who{Kind: ByLinkID}}) {
		for i := range inv.links.n {
			if l := inv.links.at(i); l.exists && l.bearer && l.until > from {
				for day := moment.DayOf(from, s.pol.zone) + 1; day.Start(s.pol.zone) <= until; day++ {
					add(day.Start(s.pol.zone))
				}
				break
			}
		}
		for i := range inv.links.n {
			if l := inv.links.at(i); l.exists && l.bearer {
				add(l.created, l.until)
			}
		}
	}
	for i := range s.pol.except {
		add(s.pol.except[i].from, s.pol.except[i].until)
	}
	add(s.pol.termsSince)
	for k := range s.pol.rest {
		if w.partner != none && w.partner != uint32(k) {
			continue
		}
		rest := &s.pol.rest[k]
		add(rest.endedAt)
		for i := range rest.stance {
			add(rest.stance[i].expires)
		}
	}
	given := func(list []grant) {
		for i := range list {
			add(list[i].begin(&inv.beside), list[i].end(&inv.beside))
		}
	}
	for i := range inv.groups.n {
		given(inv.given(inv.groups.at(i).grants))
	}
	for _, m := range inv.many {
		given(inv.given(m.grants))
	}
	of := func(i uint32) {
		p := inv.parties.at(i)
		add(p.since, p.accepted, p.out, p.gone, p.terms)
		given(inv.given(p.grants))
	}
	sp := w.space
	if r := x.Resource; r != nil && r.Kind.IsItem() {
		if i := inv.itemIDs.find(inv.text, r.ID); i != none {
			sp = inv.items.at(i).space
		}
	}
	// Only whoever holds something there can gain or lose by the time.
	byRole := x.Actions&^masks.granted == 0 && x.Outward == 0 && sp != none // those who hold something there alone
	switch ref := &x.Party.Of; {
	case w.address != none:
		of(w.address)
	case !ref.Address.IsZero():
	case byRole:
		for _, i := range s.idx.parties.of(sp) {
			of(i)
		}
	default:
		for i := range inv.parties.n {
			q := inv.parties.at(i)
			if ref.Partner != "" {
				if d := &s.pol.domains[q.domain]; d.kind != partnerDomain || d.partner != w.partner {
					continue
				}
			}
			of(i)
		}
	}
}

// ActionsNamed returns the actions that a name or a pattern stands for: an
// action, SERVICE.* or *; those of outsiders, and those of people of ours
// towards them.
func ActionsNamed(pattern string) (inward, outward Actions) {
	for i := range catalogue.Actions() {
		act := &catalogue.Actions()[i]
		if pattern == "*" || pattern == act.Name || pattern == act.Service().String()+".*" {
			inward |= InwardActions & (1 << act.ID)
			outward |= OutwardActions & (1 << act.ID)
		}
	}
	return
}
