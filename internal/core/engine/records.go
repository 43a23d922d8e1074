package engine

import (
	"cmp"
	"slices"

	"wexillum.example/internal/core/world"
)

// Record is the record of a party as it is written, as far as it is kept: of
// purpose and location only that they are there, no language, no cause of a
// state, and names of more than 255 bytes cut. Who has a record without a date
// of acceptance, and is not invited, accepted when it began. ok is false where
// there is none.
func (s *Snapshot) Record(party uint32) (g world.Guest, ok bool) {
	inv := &s.inv
	if party >= inv.parties.n {
		return g, false
	}
	p := inv.parties.at(party)
	if p.flags&hasRecord == 0 {
		return g, false
	}
	d := inv.dates.at(party)
	g = world.Guest{Address: inv.address(party), Name: inv.nameOf(party), State: p.state, StateSince: d.stateSince, Origins: p.origins,
		Since: p.since, Accepted: p.accepted, Renewed: fromSeconds(d.renewed), Until: d.until, Terms: p.terms, LastSeen: fromSeconds(d.lastSeen),
		Licence: p.licence}
	if d.sponsor != none {
		g.Sponsor = inv.personIDs.text(inv.text, d.sponsor)
	}
	if p.flags&hasLocation != 0 {
		g.Location = said
	}
	if p.flags&hasPurpose != 0 {
		g.Purpose = said
	}
	return g, true
}

// Addressed lists all parties in the order of their addresses, those without a
// record among them. before is what it returned for an earlier snapshot that
// this one goes on from, or nil: those are not put in order again. It is not
// changed.
func (s *Snapshot) Addressed(before []uint32) []uint32 {
	n := s.inv.parties.n
	switch {
	case uint32(len(before)) == n:
		return before
	case uint32(len(before)) > n: // of a later one
		before = nil
	}
	come := make([]uint32, 0, n-uint32(len(before)))
	for i := uint32(len(before)); i < n; i++ {
		come = append(come, i)
	}
	order := func(a, b uint32) int { return cmp.Compare(s.inv.addressText(a), s.inv.addressText(b)) }
	slices.SortFunc(come, order)
	out := make([]uint32, 0, n)
	for _, i := range before {
		for len(come) > 0 && order(come[0], i) < 0 {
			out, come = append(out, come[0]), come[1:]
		}
		out = append(out, i)
	}
	return append(out, come...)
}

// Unlisted counts the records at each domain that is neither ours nor a
// partner's nor of private persons, without those that are barred, as they are
// written.
func (s *Snapshot) Unlisted() map[string]int {
	barred := make(map[uint32]bool, len(s.pol.bars))
	for a := range s.pol.bars {
		barred[s.inv.addresses.find(s.inv.text, a)] = true
	}
	of := map[uint32]int{}
	for i := range s.inv.parties.n {
		p := s.inv.parties.at(i)
		if f := s.pol.domains[p.domain]; p.flags&hasRecord != 0 && f.kind == unlisted && f.bar == 0 && !barred[i] {
			of[p.domain]++
		}
	}
	out := make(map[string]int, len(of))
	for d, n := range of {
		out[s.inv.domains.text(s.inv.text, d)] = n
	}
	return out
}
