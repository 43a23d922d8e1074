package engine

import (
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Ahead returns what is due from a moment until another, by what is kept from
// since on; it is made where there is none or where it ends too early. ok is
// false where the stretch is longer than what is kept, or begins before;
// whoever asks then uses Scan.
//
// Counts of whole days are added, the first and last are looked through; those
// of parties that moved are taken out and put in again.
func (s *Snapshot) Ahead(from, until, since moment.Moment) (d *Due, ok bool) {
	st := s.due
	st.mu.Lock()
	defer st.mu.Unlock()
	cal := s.calendar()
	// A snapshot of the past must not push back what newer ones keep.
	if st.due != nil && st.due.q.s.gen > s.gen { // others have gone on meanwhile
		return nil, false
	}
	if st.due == nil || until > st.due.Until || from < st.due.From || cal.DayOf(since)-cal.DayOf(st.due.From) > 2 {
		day := cal.DayOf(max(from, since)) + StandingDays
		if from < since || until > cal.Start(day) {
			return nil, false
		}
		st.due = s.Scan(since, cal.Start(day), nil)
	}
	base := st.due
	d = &Due{From: from, Until: until, base: base, first: base.first, q: s.Sequences()}
	d.q.Between(from, until)
	for day, last := cal.DayOf(from), cal.DayOf(until-1); day <= last; day++ {
		k := int(day - base.first)
		if k < 0 || k >= len(base.count) {
			continue
		}
		if cal.Start(day) >= from && cal.Start(day+1) <= until {
			for kind, n := range base.count[k] {
				d.Kinds[kind] += n
			}
			continue
		}
		for _, e := range d.entries(day) { // before anything has moved
			d.Kinds[e.kind]++
		}
	}
	if len(s.moved) == 0 {
		return d, true
	}
	d.moved = map[uint32]bool{}
	for _, i := range s.moved {
		if d.moved[i] {
			continue
		}
		d.moved[i] = true
		if i < base.q.s.inv.parties.n {
			for _, st := range base.q.of(i) {
				if st.At >= from && st.At < until {
					d.Kinds[st.Kind]--
				}
			}
		}
		for _, st := range d.q.of(i) {
			if st.At >= from && st.At < until {
				d.Kinds[st.Kind]++
				d.anew = append(d.anew, dueEntry{st.At, i, 0, st.Kind})
			}
		}
	}
	return d, true
}

// RecordOf tells of a party that is due: its name, sponsor and partner, as ids.
func (s *Snapshot) RecordOf(party uint32) (name, sponsor, partner string) {
	inv := &s.inv
	p := inv.parties.at(party)
	name = inv.nameOf(party)
	if d := inv.dates.at(party); d.sponsor != none {
		sponsor = inv.personIDs.text(inv.text, d.sponsor)
	}
	if f := s.pol.domains[p.domain]; f.kind == partnerDomain {
		partner = s.pol.rest[f.partner].source.ID
	}
	return
}

// PartnerOf returns the index of a partner, for comparing with PartnerAt; ok is
// false where there is none.
func (s *Snapshot) PartnerOf(id string) (uint32, bool) {
	i := s.inv.partners.find(s.inv.text, id)
	return i, i != none
}

// PartnerAt returns the index of the partner of a party. Bars are not asked: it
// is about the domain.
func (s *Snapshot) PartnerAt(party uint32) (uint32, bool) {
	f := s.pol.domains[s.inv.parties.at(party).domain]
	return f.partner, f.kind == partnerDomain
}

// SponsorAt reports whether a person answers for the record of a party.
func (s *Snapshot) SponsorAt(party uint32, person string) bool {
	d := s.inv.dates.at(party)
	return d.sponsor != none && s.inv.personIDs.text(s.inv.text, d.sponsor) == person
}

// Holds reports whether a party holds a grant, its own or of a group, that is
// in force. Links that name it are no grants.
func (s *Snapshot) Holds(party uint32, at moment.Moment) bool {
	inv := &s.inv
	p := inv.parties.at(party)
	holds := func(given []grant) bool {
		for _, g := range given {
			if g.via() == viaGrant && g.live(at, &inv.beside) {
				return true
			}
		}
		return false
	}
	if holds(inv.grantsOf(p, at)) {
		return true
	}
	for _, k := range inv.groupsOf(p, at) {
		if holds(inv.given(inv.groups.at(k).grants)) {
			return true
		}
	}
	return false
}

// Named returns the links that name an address and the groups that hold it, by
// their ids.
func (s *Snapshot) Named(a addr.Address) (links, groups []string) {
	inv := &s.inv
	i := inv.addresses.find(inv.text, a.String())
	if i == none {
		return
	}
	p := inv.parties.at(i)
	for _, g := range inv.given(p.grants) {
		if g.via() == viaLink {
			links = append(links, inv.linkIDs.text(inv.text, g.detail(&inv.beside).link))
		}
	}
	for _, k := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
		groups = append(groups, inv.groupIDs.text(inv.text, k))
	}
	return
}

// Active reports whether a party has a record that is active at a moment:
// accepted and not suspended.
func (s *Snapshot) Active(party uint32, at moment.Moment) bool {
	p := s.inv.parties.at(party)
	return p.recordAt(at) && p.stateAt(at) == world.StateActive
}

// PartyOf returns the place of an address, for SponsorAt and RecordOf; NoParty
// where it is not known.
func (s *Snapshot) PartyOf(a addr.Address) uint32 {
	return s.inv.addresses.find(s.inv.text, a.String())
}

// LeftAt returns when a person left us; zero where they are here.
func (s *Snapshot) LeftAt(person string) moment.Moment {
	if i := s.inv.personIDs.find(s.inv.text, person); i != none {
		return s.inv.people.at(i).left
	}
	return 0
}

// KindOfSpace returns what a space is.
func (s *Snapshot) KindOfSpace(id string) world.SpaceKind {
	if i := s.inv.spaceIDs.find(s.inv.text, id); i != none {
		return s.inv.spaces.at(i).kind
	}
	return world.Team
}

// ItemsOf lists the items of a space, in no order but always the same.
func (s *Snapshot) ItemsOf(space string) (out []world.Resource) {
	inv := &s.inv
	sp := inv.spaceIDs.find(inv.text, space)
	if sp == none {
		return nil
	}
	for i := uint32(0); i < inv.items.n; i++ {
		if it := inv.items.at(i); it.exists && it.space == sp {
			out = append(out, world.Resource{Kind: it.kind, ID: inv.itemIDs.text(inv.text, i)})
		}
	}
	return
}
