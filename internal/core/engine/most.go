package engine

import (
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// most returns the snapshot as it would be if owners and hosts had opened all
// that is theirs, as far as limits let them (practice §4): every value of an
// owned space, its items and every meeting at its limit, no list of parties,
// nothing private, anybody of ours in whoever wants to be, no sign-in domains,
// a passcode at every meeting, and everybody of ours in contact with everybody.
// Nobody acts as administrator or keeper: those roles are gone. Dates do not
// move.
//
// It is the loosest world that acts could lead to, and so a bound for every
// chain of them.
func (s *Snapshot) most(at moment.Moment) *Snapshot {
	e := s.Aside()
	e.idx, e.due = nil, nil
	inv := &e.inv
	// A row that says the limit of every rule that may be set at a layer.
	row := func(layer catalogue.Layers) uint32 {
		r := emptyRow()
		for i := range r {
			if ruleLayers[i]&layer != 0 && ruleShape[i] != catalogue.Choice {
				r[i] = s.pol.limit[i]
			}
		}
		inv.rows = append(inv.rows[:len(inv.rows):len(inv.rows)], r)
		if inv.said != nil {
			inv.said = append(inv.said[:len(inv.said):len(inv.said)], r)
		}
		return uint32(len(inv.rows) - 1)
	}
	inSpace, inItem := row(catalogue.AtSpace), row(catalogue.AtItem)
	e.noOffices()
	for i := range inv.spaces.n {
		sp := inv.spaces.at(i)
		switch {
		case !sp.exists:
		case s.ownedAt(i, at):
			x := inv.spaces.edit(e.tok, i)
			x.rules, x.held, x.parties, x.anyParty, x.joinable, x.open = inSpace, none, list{}, true, true, true
		case sp.joinable:
			inv.spaces.edit(e.tok, i).open = true
		}
	}
	for i := range inv.items.n {
		if it := inv.items.at(i); it.exists && s.ownedAt(it.space, at) {
			x := inv.items.edit(e.tok, i)
			x.rules, x.held, x.private = inItem, none, false
		}
	}
	for i := range inv.meetings.n {
		if m := inv.meetings.at(i); m.exists && s.hereAt(m.host, at) {
			x := inv.meetings.edit(e.tok, i)
			x.rules, x.held, x.passcode, x.domains, x.own, x.lists = inItem, none, true, list{}, list{}, list{}
		}
	}
	out := e.Done()
	out.meets = true
	return out
}

// hereAt reports whether somebody is one of our people at a moment. Whoever has
// left does nothing any more.
func (s *Snapshot) hereAt(person uint32, at moment.Moment) bool {
	if person == none || person >= s.inv.people.n {
		return false
	}
	p := s.inv.people.at(person)
	return p.exists && (p.left == 0 || at < p.left)
}

// ownedAt reports whether anybody who is here owns a space. A space without an
// owner stays as it is: nobody opens it.
func (s *Snapshot) ownedAt(space uint32, at moment.Moment) bool {
	if space >= s.inv.spaces.n || !s.inv.spaces.at(space).exists {
		return false
	}
	l := s.inv.spaces.at(space).owners
	for _, p := range s.inv.lists[l.off : l.off+l.n] {
		if s.hereAt(p, at) {
			return true
		}
	}
	return false
}

// Unofficial returns the snapshot as it would be if nobody of ours were an
// administrator or a keeper.
func (s *Snapshot) Unofficial() *Snapshot {
	e := s.Aside()
	e.noOffices()
	return e.Done()
}

// noOffices takes the roles of administrator and keeper from everybody.
func (e *Editor) noOffices() {
	for i := range e.inv.people.n {
		if e.inv.people.at(i).roles&(world.Administrator|world.Keeper) != 0 {
			e.inv.people.edit(e.tok, i).roles &^= world.Administrator | world.Keeper
		}
	}
}
