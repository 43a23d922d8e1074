package engine

import (
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Touched is what a change of inventory is about: a party, or a space, item,
// meeting or person. Exactly one of the two is set.
type Touched struct {
	Party    addr.Address
	Resource world.Resource
}

// Local finds what becomes a yes after a change of inventory, asking only those
// and only what it can touch: of a party everything it was given something in,
// of a space, item or meeting everybody who was ever given something there, and
// of meetings and people everybody known. base is a snapshot of the inventory
// before, whose index is used. found hears of each who gains, and of how many
// actions; newcomer hears, more than once perhaps, of typical newcomers who
// would.
//
// It answers for changes of inventory what an impact answers for changes of
// policy, and costs what the change concerns: of one grant some tens of
// questions, of a person of ours or a meeting a few for everybody known. Losing
// is not looked for, since a change of inventory that takes away was asked for
// by name.
func Local(
	base, before, after *Snapshot,
	touched []Touched,
	at moment.Moment,
	stop func() error,
	found func(who Who, wide bool, n int),
	newcomer func(n Newcomer),
) error {
	idx := base.indexed()
	inv := &after.inv
	// Several things that were touched may lead to the same party in the same
	// space.
	type pair struct {
		who uint32
		sp  uint32
	}
	done := map[pair]bool{}
	// Actions at the doors of meetings that need nothing given; the same for
	// spaces is joins, below.
	var wides []*catalogue.Action
	for i := range catalogue.Actions() {
		if a := &catalogue.Actions()[i]; !masks.granted.Has(a.ID) && !a.Address && a.Takes(catalogue.Meeting) {
			wides = append(wides, a)
		}
	}
	// A question that made no sense before (the thing did not exist) counts as
	// a no before.
	gains := func(q *Question) bool {
		v, err := after.Decide(q)
		if err != nil || !v.Yes {
			return false
		}
		w, err := before.Decide(q)
		return err != nil || !w.Yes
	}
	invite, _ := catalogue.ActionByName("directory.invite")
	newcomers := newcomersOf(before, after, at)
	// outsiders asks everybody, and every typical newcomer, about what needs no
	// role there.
	outsiders := func(r world.Resource, acts []*catalogue.Action) error {
		// What needs no grant may open to anybody who is known, so each is
		// asked; this is the one part whose cost grows with everybody.
		for i := range after.inv.parties.n {
			if i%4096 == 0 {
				if err := stop(); err != nil {
					return err
				}
			}
			if !after.isCounted(i, at) {
				continue
			}
			n := 0
			x := after.addressOf(i)
			for _, a := range acts {
				if gains(&Question{Subject: Who{Address: x}, Action: a.ID, Resource: r, At: at}) {
					n++
				}
			}
			if n > 0 {
				found(Who{Address: x}, true, n)
			}
		}
		links := 0
		for i := range after.inv.links.n {
			if l := after.inv.links.at(i); l.exists && l.bearer && moment.Within(at, l.created, l.until) {
				n := 0
				who := Who{Kind: ByLinkID, ID: after.inv.linkIDs.text(after.inv.text, i)}
				for _, a := range acts {
					if gains(&Question{Subject: who, Action: a.ID, Resource: r, At: at}) {
						n++
					}
				}
				if n > 0 {
					found(who, true, n)
				}
				// One link that is answered no, besides the first, speaks for
				// all others.
				if links++; n == 0 && links > 1 { // all are alike here
					break
				}
			}
		}
		for _, n := range newcomers {
			for _, a := range acts {
				if gains(&Question{Subject: n.Who, Action: a.ID, Resource: r, At: at}) {
					newcomer(n)
					break
				}
			}
			if r.Kind != catalogue.Space || n.Who.Kind != ByAddress {
				continue
			}
			// A newcomer also gains where they could be invited now and could
			// not before.
			if inviter := after.Inviter(r); inviter != "" &&
				gains(
					&Question{Subject: Who{Kind: ByPerson, ID: inviter}, Action: invite.ID, Resource: r, Address: n.Who.Address, At: at},
				) {
				newcomer(n)
			}
		}
		return nil
	}
	joins := []*catalogue.Action{}
	for i := range catalogue.Actions() {
		if a := &catalogue.Actions()[i]; !masks.granted.Has(a.ID) && !a.Address && a.Takes(catalogue.Space) && a.Spread == catalogue.Wide {
			joins = append(joins, a)
		}
	}
	// gainsIn counts what an address gains in a space: on itself, its items and
	// its meetings.
	gainsIn := func(sp uint32, x addr.Address) (n int) {
		ask := func(r world.Resource) {
			for i := range catalogue.Actions() {
				a := &catalogue.Actions()[i]
				if masks.granted.Has(a.ID) && a.Takes(r.Kind) &&
					gains(&Question{Subject: Who{Address: x}, Action: a.ID, Resource: r, At: at}) {
					n++
				}
			}
		}
		ask(world.Resource{Kind: catalogue.Space, ID: inv.spaceIDs.text(inv.text, sp)})
		for _, it := range idx.items.of(sp) {
			ask(world.Resource{Kind: it.kind, ID: inv.itemIDs.text(inv.text, it.index)})
		}
		for _, m := range idx.meetings.of(sp) {
			ask(world.Resource{Kind: catalogue.Meeting, ID: inv.meetingIDs.text(inv.text, m)})
		}
		return n
	}
	// inSpace asks it once for a party and a space, and tells.
	inSpace := func(who uint32, sp uint32, x addr.Address) {
		if done[pair{who, sp}] || sp >= inv.spaces.n || !inv.spaces.at(sp).exists {
			return
		}
		done[pair{who, sp}] = true
		if n := gainsIn(sp, x); n > 0 {
			found(Who{Address: x}, false, n)
		}
	}
	// Each thing that was touched, with all that its answers may reach to.
	for _, t := range touched {
		if err := stop(); err != nil {
			return err
		}
		if !t.Party.IsZero() {
			i := inv.addresses.find(inv.text, t.Party.String())
			if i == none || i >= inv.parties.n {
				continue
			}
			p := inv.parties.at(i)
			// Whatever the party was ever given, also what is over: a change of
			// dates may bring it back.
			of := func(given []grant) {
				for k := range given {
					sp := given[k].resource
					if sp&itemBit != 0 {
						sp = inv.items.at(sp &^ itemBit).space
					}
					inSpace(i, sp, t.Party)
				}
			}
			of(inv.given(p.grants))
			for _, g := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
				of(inv.given(inv.groups.at(g).grants))
			}
			continue
		}
		sp := none
		switch {
		case t.Resource.Kind == catalogue.Space:
			sp = inv.spaceIDs.find(inv.text, t.Resource.ID)
			if err := outsiders(t.Resource, joins); err != nil {
				return err
			}
			for _, m := range idx.meetings.of(sp) { // values of the space count at their doors where the action asks them
				if err := outsiders(world.Resource{Kind: catalogue.Meeting, ID: inv.meetingIDs.text(inv.text, m)}, wides); err != nil {
					return err
				}
			}
		case t.Resource.Kind == catalogue.Person:
			for _, kind := range []catalogue.ResourceKind{catalogue.Person, catalogue.Mailbox, catalogue.Calendar} {
				acts := []*catalogue.Action{}
				for i := range catalogue.Actions() {
					if a := &catalogue.Actions()[i]; !masks.granted.Has(a.ID) && !a.Address && a.Takes(kind) {
						acts = append(acts, a)
					}
				}
				if len(acts) > 0 {
					if err := outsiders(world.Resource{Kind: kind, ID: t.Resource.ID}, acts); err != nil {
						return err
					}
				}
			}
			host := inv.personIDs.find(inv.text, t.Resource.ID)
			for m := range inv.meetings.n {
				if x := inv.meetings.at(m); x.exists && x.host == host && host != none {
					if err := outsiders(world.Resource{Kind: catalogue.Meeting, ID: inv.meetingIDs.text(inv.text, m)}, wides); err != nil {
						return err
					}
				}
			}
		case t.Resource.Kind == catalogue.Meeting:
			m := inv.meetingIDs.find(inv.text, t.Resource.ID)
			if m != none {
				sp = inv.meetings.at(m).space
			}
			if err := outsiders(t.Resource, wides); err != nil {
				return err
			}
		default:
			if i := inv.itemIDs.find(inv.text, t.Resource.ID); i != none {
				sp = inv.items.at(i).space
			}
		}
		if sp == none {
			continue
		}
		// Where a partner or a domain as a whole holds something there, before
		// or after, everybody at it is concerned, and so are newcomers from
		// there.
		asAWhole := sp < inv.spaces.n && inv.spaces.at(sp).exists && len(before.inv.manyIn(sp))+len(inv.manyIn(sp)) > 0
		for k, i := range idx.parties.of(sp) {
			if k%64 == 0 {
				if err := stop(); err != nil {
					return err
				}
			}
			if !asAWhole || after.isCounted(i, at) {
				inSpace(i, sp, after.addressOf(i))
			}
		}
		if asAWhole {
			for i := range inv.parties.n {
				if i%4096 == 0 {
					if err := stop(); err != nil {
						return err
					}
				}
				if after.isCounted(i, at) && (before.holdsAnything(inv.parties.at(i)) || after.holdsAnything(inv.parties.at(i))) {
					inSpace(i, sp, after.addressOf(i))
				}
			}
			for _, n := range newcomers {
				if n.Who.Kind == ByAddress && gainsIn(sp, n.Who.Address) > 0 {
					newcomer(n)
				}
			}
		}
		for _, l := range idx.links.of(sp) { // whoever holds a link of what is in it
			it := inv.items.at(inv.links.at(l).item)
			who, n := Who{Kind: ByLinkID, ID: inv.linkIDs.text(inv.text, l)}, 0
			for i := range catalogue.Actions() {
				a := &catalogue.Actions()[i]
				if masks.granted.Has(a.ID) && a.Takes(it.kind) && a.Rows(it.kind)[catalogue.Bearer] != nil &&
					gains(
						&Question{
							Subject:  who,
							Action:   a.ID,
							Resource: world.Resource{Kind: it.kind, ID: inv.itemIDs.text(inv.text, inv.links.at(l).item)},
							At:       at,
						},
					) {
					n++
				}
			}
			if n > 0 {
				found(who, false, n)
			}
		}
	}
	return nil
}
