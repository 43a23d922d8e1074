package engine

import (
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Remove takes away an entry that is known by its id: a person, group, space,
// meeting, link, or an item (of kind "item"). What is not there, or is of
// another kind, is left alone. Grants on a space or an item stay where they are
// and give nothing; callers end them first.
//
// The id keeps its index, and may be used again.
func (e *Editor) Remove(kind, id string) {
	e.idx, e.due = nil, nil
	inv := &e.inv
	switch kind {
	case "person":
		i := inv.personIDs.find(inv.text, id)
		if i == none || !inv.people.at(i).exists {
			return
		}
		old := *inv.people.at(i)
		e.PutPerson(&world.Person{ID: id}) // gives its address up
		inv.people.edit(e.tok, i).exists = false
		inv.live.people--
		for a := range inv.dates.n {
			if old.left == 0 && inv.dates.at(a).sponsor == i {
				e.stale = append(e.stale, a)
			}
		}
	case "group":
		if i := inv.groupIDs.find(inv.text, id); i != none && inv.groups.at(i).exists {
			e.PutGroup(&world.Group{ID: id}) // nobody is in it any more
			e.SetGrants("group:"+id, nil)
			inv.groups.edit(e.tok, i).exists = false
			e.peopleChanged = true
		}
	case "space":
		if i := inv.spaceIDs.find(inv.text, id); i != none && inv.spaces.at(i).exists {
			if e.reviews(inv.spaces.at(i).rules) != e.reviews(none) {
				e.staleAll = true
			}
			*inv.spaces.edit(e.tok, i) = space{rules: none, held: none}
			inv.live.spaces--
		}
	case "item":
		if i := inv.itemIDs.find(inv.text, id); i != none && inv.items.at(i).exists {
			x := inv.items.edit(e.tok, i)
			x.exists, x.rules, x.held = false, none, none
			inv.live.items--
		}
	case "meeting":
		if i := inv.meetingIDs.find(inv.text, id); i != none && inv.meetings.at(i).exists {
			inv.meetings.edit(e.tok, i).exists = false
			inv.live.meetings--
		}
	case "domain_list":
		if i := inv.listIDs.find(inv.text, id); i != none && inv.domainLists.at(i).exists {
			*inv.domainLists.edit(e.tok, i) = domainList{}
			e.doors(i)
		}
	case "holding":
		e.removeHolding(id)
	case "link":
		if i := inv.linkIDs.find(inv.text, id); i != none && inv.links.at(i).exists {
			if !inv.links.at(i).bearer {
				e.dropLinkGrants(i)
			}
			inv.links.edit(e.tok, i).exists = false
			inv.live.links--
		}
	}
}

// Hung are what hangs on a space or an item: grants that are in force or yet to
// begin, links that have not ended, and meetings of the space. It is shown
// before something is removed, because none of it works afterwards.
type Hung struct {
	Grants   []Held
	Links    []string
	Meetings []string
}

// Held is a grant of a party or a group on a resource. Ended grants are told,
// too: they are history that would name something no longer there.
type Held struct {
	Party    string // as world.Grant.Party writes it
	Resource world.Resource
	Role     catalogue.Role
	Ended    bool // it ended before
}

// HangingOn finds what hangs on a space with all that is in it, or on one item,
// at a moment. It goes through all grants, links and meetings: some ten
// milliseconds with a million of them, before somebody removes a space.
func (s *Snapshot) HangingOn(r world.Resource, at moment.Moment) (out Hung) {
	inv := &s.inv
	// Whether what a grant is on belongs to what is asked, and its name.
	on := func(x uint32) (world.Resource, bool) {
		if x&itemBit != 0 {
			it := inv.items.at(x &^ itemBit)
			sp := world.Resource{Kind: it.kind, ID: inv.itemIDs.text(inv.text, x&^itemBit)}
			return sp, sp == r || r.Kind == catalogue.Space && it.space < inv.spaces.n && inv.spaceIDs.text(inv.text, it.space) == r.ID
		}
		sp := world.Resource{Kind: catalogue.Space, ID: inv.spaceIDs.text(inv.text, x)}
		return sp, sp == r
	}
	held := func(party string, given []grant) {
		for k := range given {
			if g := &given[k]; g.via() != viaLink {
				if res, ok := on(g.resource); ok {
					out.Grants = append(out.Grants, Held{party, res, g.role(), at >= g.written(&inv.beside)})
				}
			}
		}
	}
	for i := range inv.parties.n {
		if l := inv.parties.at(i).grants; l.n > 0 {
			held(inv.addressText(i), inv.given(l))
		}
	}
	for i := range inv.many {
		held(s.manyText(inv.many[i].of), inv.given(inv.many[i].grants))
	}
	for i := range inv.groups.n {
		if g := inv.groups.at(i); g.exists && g.grants.n > 0 {
			held("group:"+inv.groupIDs.text(inv.text, i), inv.given(g.grants))
		}
	}
	for i := range inv.links.n {
		if l := inv.links.at(i); l.exists && at < l.until {
			if _, ok := on(l.item | itemBit); ok {
				out.Links = append(out.Links, inv.linkIDs.text(inv.text, i))
			}
		}
	}
	if r.Kind == catalogue.Space {
		for i := range inv.meetings.n {
			if m := inv.meetings.at(i); m.exists && m.space < inv.spaces.n && inv.spaceIDs.text(inv.text, m.space) == r.ID {
				out.Meetings = append(out.Meetings, inv.meetingIDs.text(inv.text, i))
			}
		}
	}
	return
}

// Address of a Held grant; ok is false for that of a group, a partner or a
// domain.
func (h *Held) Address() (a addr.Address, ok bool) {
	a, err := addr.Parse(h.Party)
	return a, err == nil
}
