package engine

import (
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Everything in a scope that is answered with no, pair by pair.

// EachNo calls found for everything in a scope that makes sense and is answered
// with no, pair by pair, and returns how many pairs were asked.
//
// It is asked by expectations that something is always so; nothing is put
// together, since a no may have a different cause for each pair.
func (s *Snapshot) EachNo(x *Scope, at moment.Moment, stop func() error,
	found func(q *Question, party uint32, n *Newcomer, kind Kind) error) (asked int, err error) {
	w := s.scopedTo(x, at)
	inv := &s.inv
	if w.shut {
		return 0, nil
	}
	// What makes no sense for somebody is no counterexample.
	try := func(q *Question, party uint32, n *Newcomer) error {
		if asked%1024 == 1023 {
			if err := stop(); err != nil {
				return err
			}
		}
		v, err := s.Decide(q)
		if err != nil {
			return nil // it makes no sense
		}
		if asked++; v.Yes {
			return nil
		}
		return found(q, party, n, v.Kind)
	}
	// Everything that somebody could be asked about by themselves, then what
	// people of ours could do towards them.
	one := func(who Who, party uint32, n *Newcomer) error {
		for k := range catalogue.Actions() {
			act := &catalogue.Actions()[k]
			if !w.Actions.Has(act.ID) {
				continue
			}
			for _, r := range w.resourcesFor(act) {
				if err := try(&Question{Subject: who, Action: act.ID, Resource: r, At: at}, party, n); err != nil {
					return err
				}
			}
		}
		for _, act := range outwardActions {
			if !w.Outward.Has(act.ID) || party != none && w.Party.Of.Address.IsZero() { // typical newcomers stand for those who are known
				continue
			}
			for _, r := range w.resourcesFor(act) {
				if err := try(&Question{Subject: Who{Kind: ByPerson, ID: r.ID}, Action: act.ID, Resource: r, Address: who.Address, At: at}, party,
					n); err != nil {
					return err
				}
			}
		}
		return nil
	}
	// One address is asked whether we know it or not.
	if a := w.Party.Of.Address; !a.IsZero() {
		who := Who{Address: a}
		return asked, s.oneOrNew(w, who, one)
	}
	// Those with a record or a role, who are in the scope by their kind,
	// partner, domain or group.
	for i := uint32(0); i < inv.parties.n; i++ {
		if !s.isCounted(i, at) {
			continue
		}
		if p, outside := s.sideOf(w.x, i, at); outside && w.holds(i, p.kind) {
			if err := one(Who{Address: s.addressOf(i)}, i, nil); err != nil {
				return asked, err
			}
		}
	}
	// Typical newcomers stand for everybody of whom nothing is known. Whoever
	// holds a link is asked below, by the link.
	for _, n := range w.newcomers() {
		if n.Who.Kind == ByAddress {
			if err := one(n.Who, none, &n); err != nil {
				return asked, err
			}
		}
	}
	// Only everybody and the kind bearer hold links: a link is nobody's by
	// partner or group.
	if !w.Party.Everybody() && !(w.Party.ByKind && w.Party.Kind == KindBearer) {
		return asked, nil
	}
	for i := uint32(0); i < inv.links.n; i++ {
		// Links that are over, or whose item is gone, are refused by their
		// nature, and would each be told as a no.
		l := inv.links.at(i)
		if !l.exists || !l.bearer || !moment.Within(at, l.created, l.until) || !inv.items.at(l.item).exists {
			continue
		}
		it := inv.items.at(l.item)
		r := world.Resource{Kind: it.kind, ID: inv.itemIDs.text(inv.text, l.item)}
		if !w.covers(r) {
			continue
		}
		for k := range catalogue.Actions() {
			act := &catalogue.Actions()[k]
			if w.Actions.Has(act.ID) && act.Takes(it.kind) && act.Rows(it.kind)[catalogue.Bearer] != nil {
				q := Question{Subject: Who{Kind: ByLinkID, ID: inv.linkIDs.text(inv.text, i)}, Action: act.ID, Resource: r, At: at}
				if err := try(&q, none, nil); err != nil {
					return asked, err
				}
			}
		}
	}
	return asked, nil
}

// oneOrNew asks about an address as somebody known, or else as a newcomer.
func (s *Snapshot) oneOrNew(w *scoped, who Who, one func(Who, uint32, *Newcomer) error) error {
	i := w.known(who)
	if i == none {
		return one(who, i, &Newcomer{Who: who, Name: who.String()})
	}
	return one(who, i, nil)
}

// resourcesFor lists everything in the scope that an action is about. Of
// everything there is, that is all of a kind; it is for questions that need
// each.
func (w *scoped) resourcesFor(act *catalogue.Action) (out []world.Resource) {
	inv := &w.s.inv
	for _, kind := range act.On {
		add := func(id string) {
			if r := (world.Resource{Kind: kind, ID: id}); w.covers(r) {
				out = append(out, r)
			}
		}
		switch {
		case kind == catalogue.OurDirectory:
			add("ours")
		case kind == catalogue.Space:
			for i := range inv.spaces.n {
				// Actions of report areas make no sense in other
				// spaces.
				if sp := inv.spaces.at(i); sp.exists && !(act.AreaOnly && sp.kind != world.ReportArea) {
					add(inv.spaceIDs.text(inv.text, i))
				}
			}
		case kind.IsItem():
			for i := range inv.items.n {
				if it := inv.items.at(i); it.exists && it.kind == kind {
					add(inv.itemIDs.text(inv.text, i))
				}
			}
		case kind == catalogue.Meeting:
			for i := range inv.meetings.n {
				if inv.meetings.at(i).exists {
					add(inv.meetingIDs.text(inv.text, i))
				}
			}
		default:
			for i := range inv.people.n {
				if inv.people.at(i).exists {
					add(inv.personIDs.text(inv.text, i))
				}
			}
		}
	}
	return
}
