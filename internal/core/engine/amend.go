package engine

import (
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Acts and changes of inventory, one at a time, for a question that begins
// *what if*: methods of an Editor of Aside, each the smallest change that its
// name says.

// What of an inventory might be otherwise, one thing at a time: for an Editor
// of Aside, so that a question can be asked as if it were so. What is named
// must be there.

// SetValueAt makes a space, item or meeting say a value of a rule, released
// where it is held back there.
//
// A rule can be held back at a place: said, but too loose for the limit of the
// moment. Whoever asks "what if the owner set it" means that it counts, so the
// hold goes as well. The limit itself stays: a value that is looser than it
// does not come to count by being asked about.
func (e *Editor) SetValueAt(r world.Resource, rule catalogue.RuleID, v catalogue.Value) {
	// Nearly everything here may change who is where and what is due; the
	// tables that tell it are made anew when they are next asked. That is right
	// for a question aside, which asks a few times and ends.
	e.idx, e.due = nil, nil
	// Rows are shared by all places that say the same, so a new one is made
	// behind them. An Editor of Aside has lists of its own as soon as it writes
	// behind their ends.
	with := func(rules, held uint32) (uint32, uint32) {
		was := emptyRow()
		if rules != none {
			was = e.inv.rows[rules]
		}
		was[rule] = v
		e.inv.rows = append(e.inv.rows, was)
		rules = uint32(len(e.inv.rows) - 1)
		if held != none && e.inv.rows[held][rule] != catalogue.Unset {
			h := e.inv.rows[held]
			h[rule] = catalogue.Unset
			e.inv.rows = append(e.inv.rows, h)
			held = uint32(len(e.inv.rows) - 1)
		}
		if e.inv.said != nil {
			e.inv.said = append(e.inv.said, e.inv.rows[len(e.inv.said):]...)
		}
		return rules, held
	}
	if rule == ruleReviewDays || rule == ruleReviewSilence {
		e.staleAll = true
	}
	switch {
	case r.Kind == catalogue.Space:
		x := e.inv.spaces.edit(e.tok, e.space(r.ID))
		x.rules, x.held = with(x.rules, x.held)
	case r.Kind == catalogue.Meeting:
		x := e.inv.meetings.edit(e.tok, e.inv.meetingIDs.find(e.inv.text, r.ID))
		x.rules, x.held = with(x.rules, x.held)
	default:
		x := e.inv.items.edit(e.tok, e.item(r.ID))
		x.rules, x.held = with(x.rules, x.held)
	}
}

// writeDue writes down what the dates of a record have come to by a moment, as
// every act does first (model §5).
//
// Dates are not written down when they come due but when somebody next acts on
// the record; until then they are computed. An act on a record that was
// suspended yesterday finds it suspended, and one on a record that is gone
// finds nothing at all: no grants, holdings or groups.
func (e *Editor) writeDue(i uint32, at moment.Moment) {
	p := e.inv.parties.edit(e.tok, i)
	if at < p.gone {
		if d := e.inv.dates.at(i); at >= p.out && (d.state == dated.Active || d.state == dated.Fed && e.inv.closed[i] != 0) &&
			p.flags&hasRecord != 0 {
			d := e.inv.dates.edit(e.tok, i)
			d.state, d.stateSince, d.cause = dated.IsSuspended, p.out, d.why
			p.flags |= isSuspended
		}
		return
	}
	e.RemoveGuest(e.inv.address(i))
	for _, h := range e.inv.holdings[i] {
		e.setHolding(i, h.Bundle, nil)
	}
	p.grants = list{}
	for _, g := range append([]uint32(nil), e.inv.lists[p.groups.off:p.groups.off+p.groups.n]...) {
		e.setGroups(i, g, false)
		rec := e.inv.groups.edit(e.tok, g)
		var left []uint32
		for _, x := range e.inv.lists[rec.parties.off : rec.parties.off+rec.parties.n] {
			if x != i {
				left = append(left, x)
			}
		}
		rec.parties = e.list(left)
	}
}

// AddGrant gives a party one more grant. It is in force from g.From on, which
// is also the moment of the act: what the party's dates had come to by then is
// written down first. The grants of the party are copied behind the others,
// since other snapshots read them where they are.
func (e *Editor) AddGrant(a addr.Address, g world.Grant) {
	e.idx, e.due = nil, nil
	i := e.address(a)
	e.writeDue(i, g.From)
	e.stale = append(e.stale, i)
	l := e.inv.parties.at(i).grants
	given := append([]grant(nil), e.inv.given(l)...)
	given = append(given, grant{from: g.From, until: g.Until, resource: e.resource(g.Resource), role: g.Role})
	e.inv.parties.edit(e.tok, i).grants = list{uint32(len(e.inv.grants)), uint32(len(given))}
	e.inv.grants = append(e.inv.grants, given...)
}

// JoinGroup puts a party into a group at a moment. Whoever is in it already
// stays; nothing is written then.
func (e *Editor) JoinGroup(a addr.Address, group string, at moment.Moment) {
	e.idx, e.due = nil, nil
	p, g := e.address(a), e.group(group)
	e.writeDue(p, at)
	if e.has(e.inv.parties.at(p).groups, g) {
		return
	}
	e.stale = append(e.stale, p)
	e.setGroups(p, g, true)
	rec := e.inv.groups.edit(e.tok, g)
	rec.parties = e.list(append(append([]uint32(nil), e.inv.lists[rec.parties.off:rec.parties.off+rec.parties.n]...), p))
}

// AdmitTo makes a space admit one more from outside. It matters where the space
// names who may come; one that names nobody admits everybody.
func (e *Editor) AdmitTo(id string, ref world.PartyRef) {
	e.idx, e.due = nil, nil
	x := e.inv.spaces.edit(e.tok, e.space(id))
	refs := append([]partyRef(nil), e.inv.refs[x.parties.off:x.parties.off+x.parties.n]...)
	refs = append(refs, e.partyRef(ref))
	x.parties = list{uint32(len(e.inv.refs)), uint32(len(refs))}
	e.inv.refs = append(e.inv.refs, refs...)
}

// TakeIn makes a person of ours a member of a space, or an owner. A person who
// is a member already would stand in the list twice, which changes no answer.
func (e *Editor) TakeIn(id, person string, owner bool) {
	e.idx, e.due = nil, nil
	p := e.person(person)
	x := e.inv.spaces.edit(e.tok, e.space(id))
	l := &x.members
	if owner {
		l = &x.owners
	}
	*l = e.list(append(append([]uint32(nil), e.inv.lists[l.off:l.off+l.n]...), p))
}

// Activate makes a record active: accepted, and not suspended. Being brought
// back counts as having been seen, so the days of not being seen begin anew. A
// record that its feed keeps stays the feed's.
func (e *Editor) Activate(a addr.Address, at moment.Moment) {
	e.idx, e.due = nil, nil
	i := e.address(a)
	p := e.inv.parties.edit(e.tok, i)
	d := e.inv.dates.edit(e.tok, i)
	if d.state == dated.IsSuspended || p.out <= at { // what its dates wrote, or would have
		d.stateSince = at
	}
	if d.state != dated.Fed {
		d.state, d.cause = dated.Active, dated.NoCause
	}
	p.flags &^= isSuspended
	p.accepted = min(p.accepted, at)
	e.stale = append(e.stale, i)
}

// Extend gives a record another end, where it has one, and begins its term
// anew. A record without an end of its own gets none; its term still begins
// again.
func (e *Editor) Extend(a addr.Address, until, at moment.Moment) {
	e.idx, e.due = nil, nil
	i := e.address(a)
	e.writeDue(i, at)
	d := e.inv.dates.edit(e.tok, i)
	if d.until != moment.Never {
		d.until = until
	}
	d.renewed = max(d.renewed, seconds(at))
	e.stale = append(e.stale, i)
}

// SignInDomain makes a meeting admit one more domain. Domains of the meeting's
// lists stay as they are; it is added to those that count.
func (e *Editor) SignInDomain(id string, d addr.Domain) {
	e.idx, e.due = nil, nil
	n := e.domain(d)
	x := e.inv.meetings.edit(e.tok, e.inv.meetingIDs.find(e.inv.text, id))
	x.domains = e.list(append(append([]uint32(nil), e.inv.lists[x.domains.off:x.domains.off+x.domains.n]...), n))
}

// GivePasscode makes a meeting have a passcode.
func (e *Editor) GivePasscode(id string) {
	e.idx, e.due = nil, nil
	e.inv.meetings.edit(e.tok, e.inv.meetingIDs.find(e.inv.text, id)).passcode = true
}

// License records that a guest has a licence. One of ours counts only with a
// location (see party.licenceRoute), which this does not set.
func (e *Editor) License(a addr.Address, l world.Licence) {
	e.idx, e.due = nil, nil
	e.inv.parties.edit(e.tok, e.address(a)).licence = l
}

// HouseLicence gives a report area a licence for every guest.
func (e *Editor) HouseLicence(id string) {
	e.idx, e.due = nil, nil
	e.inv.spaces.edit(e.tok, e.space(id)).house = true
}

// Giving lists groups that hold at least a role on a space or an item at a
// moment, by their id. They are what somebody could be put into in place of
// being given the role by hand.
func (s *Snapshot) Giving(r world.Resource, role catalogue.Role, at moment.Moment) (ids []string) {
	inv := &s.inv
	var want uint32
	if r.Kind == catalogue.Space {
		want = inv.spaceIDs.find(inv.text, r.ID)
	} else {
		want = inv.itemIDs.find(inv.text, r.ID) | itemBit
	}
	for i := uint32(0); i < inv.groups.n; i++ {
		g := inv.groups.at(i)
		if !g.exists {
			continue
		}
		for _, x := range inv.given(g.grants) {
			if x.resource == want && x.role >= role && x.live(at) {
				ids = append(ids, inv.groupIDs.text(inv.text, i))
				break
			}
		}
	}
	return
}

// GroupsOf returns the groups that a person of ours is in.
func (s *Snapshot) GroupsOf(person string) (ids []string) {
	inv := &s.inv
	i := inv.personIDs.find(inv.text, person)
	if i == none || !inv.people.at(i).exists {
		return nil
	}
	p := inv.people.at(i)
	for _, g := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
		ids = append(ids, inv.groupIDs.text(inv.text, g))
	}
	return
}

// OwnerOf returns the first owner of a space, by id; empty where there is none.
// It does not ask whether they are still here; OwnersHere does.
func (s *Snapshot) OwnerOf(space string) string {
	inv := &s.inv
	if i := inv.spaceIDs.find(inv.text, space); i != none && inv.spaces.at(i).exists && inv.spaces.at(i).owners.n > 0 {
		return inv.personIDs.text(inv.text, inv.lists[inv.spaces.at(i).owners.off])
	}
	return ""
}

// HostOf returns the host of a meeting, and the space it belongs to. Either is
// empty where there is none.
func (s *Snapshot) HostOf(meeting string) (host, space string) {
	inv := &s.inv
	i := inv.meetingIDs.find(inv.text, meeting)
	if i == none || !inv.meetings.at(i).exists {
		return
	}
	m := inv.meetings.at(i)
	if m.host != none {
		host = inv.personIDs.text(inv.text, m.host)
	}
	if m.space != none {
		space = inv.spaceIDs.text(inv.text, m.space)
	}
	return
}

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

// LetJoin lets our own people join a space.
func (e *Editor) LetJoin(id string) {
	e.idx, e.due = nil, nil
	e.inv.spaces.edit(e.tok, e.space(id)).joinable = true
}

// MakeOpen makes an item private no more: whoever is in its space reaches it.
func (e *Editor) MakeOpen(id string) {
	e.idx, e.due = nil, nil
	e.inv.items.edit(e.tok, e.item(id)).private = false
}

// AnySignIn makes a meeting admit people of any domain.
func (e *Editor) AnySignIn(id string) {
	e.idx, e.due = nil, nil
	x := e.inv.meetings.edit(e.tok, e.inv.meetingIDs.find(e.inv.text, id))
	x.domains, x.own, x.lists = list{}, list{}, list{}
}
