package engine

import (
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
)

// resolve finds what a question is about. The asker must be zero. An error is a
// *WrongUse: there is no such subject, resource, person or address, or the
// action is about something else.
func (a *asker) resolve(s *Snapshot, q *Question) error {
	a.s, a.q, a.act, a.at = s, q, q.Action.Get(), q.At // a is zero: copying a whole one costs more than asking a rule
	a.person, a.space, a.near, a.aboutWhom, a.presenter, a.target = none, none, none, none, none, none
	a.party.index, a.party.domain, a.party.partner = none, none, none
	a.other.index, a.other.domain, a.other.partner = none, none, none
	a.rows = a.act.Rows(q.Resource.Kind)
	a.fetch()
	if err := a.findResource(); err != nil {
		return err
	}
	if err := a.findSubject(); err != nil {
		return err
	}
	if a.act.Address {
		if q.Address.IsZero() {
			return &WrongUse{"context.address", "", a.act.Name + " needs the address it is about"}
		}
		a.look(&a.other, q.Address, a.s.inv.hashOf(q.Address.String()))
		// Whoever is ours is not invited, and mail to our own is not forwarded
		// outside.
		if a.other.facts.kind == ownDomain {
			return &WrongUse{
				"context.address",
				q.Address.String(),
				"it is at a domain of ours; " + a.act.Name + " is about somebody outside",
			}
		}
	}
	if err := a.findPeople(); err != nil {
		return err
	}
	a.findBelow()
	return a.findAccounts()
}

// findBelow finds which layers below the partner can say anything here at all:
//
// mostly none of them does.
//
// With it most rules are read from one row that was computed when the policy
// was compiled; only the few questions about a person, space or item that says
// something join layers one by one.
func (a *asker) findBelow() {
	pol, inv := a.s.pol, &a.s.inv
	for _, p := range [2]uint32{a.aboutWhom, a.presenter} {
		if p < uint32(len(pol.concerned)) && pol.concerned[p] {
			a.below |= catalogue.AtPeople
		}
	}
	if a.space != none && inv.spaces.at(a.space).rules != none {
		a.below |= catalogue.AtSpace
	}
	if a.near != none {
		if rules, _ := a.nearRows(); rules != none {
			a.below |= catalogue.AtItem
		}
	}
}

// fetch asks memory for what the question is about before anything waits for
// it:
//
// the subject's and the resource's loads do not depend on each other, so their
// cache misses overlap stage by stage. It decides nothing.
//
// At a million guests nearly every load misses the processor's cache, at some
// 80 ns each, and a decision takes a dozen. Issued one after the other as they
// are needed they would add up; issued ahead they run side by side. The sum
// keeps the compiler from leaving the loads out.
func (a *asker) fetch() {
	inv, q := &a.s.inv, a.q
	subjects, resources := &inv.addresses, &inv.itemIDs
	subject := q.Subject.ID
	switch q.Subject.Kind {
	case ByPerson:
		subjects = &inv.personIDs
	case ByLinkID:
		subjects = &inv.linkIDs
	default:
		subject = q.Subject.Address.String()
	}
	switch k := q.Resource.Kind; {
	case k == catalogue.Space:
		resources = &inv.spaceIDs
	case k == catalogue.Meeting:
		resources = &inv.meetingIDs
	case !k.IsItem():
		resources = &inv.personIDs
	}
	a.subjectHash, a.resourceHash = inv.hashOf(subject), inv.hashOf(q.Resource.ID)
	// likely takes the first entry of the right hash without comparing the
	// text. If it is another one's, a few loads were for nothing.
	i, text1 := subjects.likely(a.subjectHash)
	j, text2 := resources.likely(a.resourceHash)
	if q.Subject.Kind != ByAddress || i >= inv.parties.n || j >= uint32(len(resources.refs)) {
		return
	}
	p := inv.parties.at(i)
	sum := uint32(
		inv.text[text1.off],
	) + uint32(
		inv.text[text1.off+text1.n-1],
	) + uint32(
		inv.text[text2.off],
	) + uint32(
		inv.text[text2.off+text2.n-1],
	)
	space := none
	switch {
	case q.Resource.Kind.IsItem():
		space = inv.items.at(j).space
	case q.Resource.Kind == catalogue.Space:
		space = j
	case q.Resource.Kind == catalogue.Meeting:
		sum += inv.meetings.at(j).host
	case q.Resource.Kind != catalogue.OurDirectory:
		sum += inv.people.at(j).groups.n
	}
	if p.grants.n > 0 && (actionHolds[a.act.ID] || p.flags&hasRecord == 0) {
		given := inv.given(p.grants)
		// The grants are gone through by the grant gate later; sixteen are as
		// many as most have.
		for k := 0; k < len(given) && k < 16; k += 2 { // two to a cache line
			sum += given[k].resource
		}
	}
	// First, middle and last value of a row: it lies in three lines of the
	// cache.
	if d := &a.s.pol.domains[p.domain]; d.kind == partnerDomain {
		row := &a.s.pol.partners[d.partner]
		alone := &a.s.pol.rows[row.alone]
		sum += uint32(row.standing) + uint32(alone[0]) + uint32(alone[catalogue.NumRules/2]) + uint32(alone[catalogue.NumRules-1])
	}
	if space < inv.spaces.n {
		if rules := inv.spaces.at(space).rules; rules != none {
			sum += uint32(
				inv.rows[rules][0],
			) + uint32(
				inv.rows[rules][catalogue.NumRules/2],
			) + uint32(
				inv.rows[rules][catalogue.NumRules-1],
			)
		}
	}
	a.fetched = sum
}

// findResource looks up what the question is about, and says where it is none
// of what the action takes. It fills in target, space and near. The door of a
// meeting is asked without its space: what the space admits does not matter to
// who stands at the door.
func (a *asker) findResource() error {
	inv, r := &a.s.inv, &a.q.Resource
	wrong := func(reason string) error { return &WrongUse{"resource", r.String(), reason} }
	if !a.act.Takes(r.Kind) {
		return wrong(a.act.Name + " is about a " + a.act.TakesNames())
	}
	switch {
	case r.Kind.IsItem():
		i := inv.itemIDs.findHash(inv.text, r.ID, a.resourceHash)
		if i == none || !inv.items.at(i).exists {
			return wrong("there is no such " + r.Kind.String())
		}
		it := inv.items.at(i)
		if it.kind != r.Kind {
			return wrong("it is a " + it.kind.String())
		}
		a.target, a.space, a.near = i, it.space, 0
	case r.Kind == catalogue.Space:
		i := inv.spaceIDs.findHash(inv.text, r.ID, a.resourceHash)
		if i == none || !inv.spaces.at(i).exists {
			return wrong("there is no such space")
		}
		if a.act.AreaOnly && inv.spaces.at(i).kind != world.ReportArea {
			return wrong(a.act.Name + " is about a report area")
		}
		a.target, a.space = i, i
	case r.Kind == catalogue.Meeting:
		i := inv.meetingIDs.findHash(inv.text, r.ID, a.resourceHash)
		if i == none || !inv.meetings.at(i).exists {
			return wrong("there is no such meeting")
		}
		a.target, a.near = i, 0
		if !a.act.MeetingDoor {
			a.space = inv.meetings.at(i).space
		}
	case r.Kind == catalogue.OurDirectory:
		if r.ID != "ours" {
			return wrong("write directory:ours")
		}
	default: // a person, or what every person has
		i := inv.personIDs.findHash(inv.text, r.ID, a.resourceHash)
		if i == none || !inv.people.at(i).exists {
			return wrong("there is no such person")
		}
		a.target = i
	}
	return nil
}

// nearRows returns the rows of values of the item or meeting. near must not be
// none.
func (a *asker) nearRows() (rules, held uint32) {
	if a.q.Resource.Kind == catalogue.Meeting {
		m := a.s.inv.meetings.at(a.target)
		return m.rules, m.held
	}
	it := a.s.inv.items.at(a.target)
	return it.rules, it.held
}

// resourceID is the id of the resource, as it was asked.
func (a *asker) resourceID() string { return a.q.Resource.ID }

// findSubject looks up who asks: a person of ours, an address, or whoever holds
// a link. A person of ours who is asked about as if from outside is a mistake
// of who asks, and not a no: the action has no row for them.
func (a *asker) findSubject() error {
	inv, w := &a.s.inv, &a.q.Subject
	switch w.Kind {
	case ByPerson:
		i := inv.personIDs.find(inv.text, w.ID)
		if i == none || !inv.people.at(i).exists {
			return &WrongUse{"subject", w.String(), "there is no such person"}
		}
		a.person, a.ours = i, true
	case ByLinkID:
		// A link that is only supposed.
		if x := a.q.With; x != nil && x.linkID == w.ID {
			a.held, a.kind = &x.link, KindBearer
			return nil
		}
		i := inv.linkIDs.find(inv.text, w.ID)
		if i == none || !inv.links.at(i).exists {
			return &WrongUse{"subject", w.String(), "there is no such link"}
		}
		if !inv.links.at(i).bearer {
			return &WrongUse{"subject", w.String(), "this link works for the addresses it names; ask for one of them"}
		}
		a.held, a.kind = inv.links.at(i), KindBearer
		return nil
	default:
		a.look(&a.party, w.Address, a.subjectHash)
		if a.party.facts.kind != ownDomain {
			switch {
			case a.party.record && a.party.provisioned():
				a.kind = KindProvisioned
			case a.party.record:
				a.kind = KindGuest
			case a.party.private():
				a.kind = KindPersonal
			default:
				a.kind = KindFederated
			}
			return nil
		}
		a.ours = true
		if a.party.index != none && a.party.index < inv.ours.n {
			a.person = *inv.ours.at(a.party.index)
		}
		if a.person == none {
			// An address at our own domain that nobody has. It is asked on, so
			// that the answer can say so.
			a.stranger = true
			return nil
		}
	}
	if a.rows[catalogue.Ours] == nil {
		return &WrongUse{"subject", w.String(), "one of our people; " + a.act.Name + " is about somebody from outside"}
	}
	return nil
}

// look finds out what is known of an address at the asked moment.
//
// hash is that of the address in normal form. A record counts from since until
// gone; between these it may be suspended or only invited. Groups and grants
// are found through known.
func (a *asker) look(o *outside, x addr.Address, hash uint64) {
	inv, pol := &a.s.inv, a.s.pol
	o.address, o.domain, o.partner = x, none, none
	o.index = inv.addresses.findHash(inv.text, x.String(), hash)
	if o.known = inv.partyAt(o.index); o.known != nil && !a.q.Stranger {
		o.domain = o.known.domain
		o.facts = pol.domains[o.domain]
		switch p := o.known; {
		// The address is then asked about like anybody's from its domain.
		case a.at >= p.gone: // it took all that it held with it
			o.known = nil
		case p.flags&hasRecord != 0 && a.at >= p.since:
			o.record, o.state = true, p.stateAt(a.at)
		}
	} else {
		o.known, o.facts = nil, pol.match(x.Domain().String())
	}
	// What is supposed is laid over what is known, and holds a record if it was
	// said to.
	if w := a.q.With; w != nil && w.address == x && w.linkID == "" && (a.at < w.party.gone || w.began >= w.party.gone) {
		o.supposed, o.known = true, &w.party
		if a.at >= w.party.gone {
			o.known = &w.anew
		} else if o.record {
			o.state = w.party.stateAt(a.at)
		}
		if w.record && !o.record {
			o.record, o.state = true, world.StateActive
		}
	}
	o.bar = o.facts.bar
	if len(pol.bars) > 0 {
		if i, ok := pol.bars[x.String()]; ok {
			o.bar = i + 1
		}
	}
	// Whoever is barred belongs to no partner, so that no opening counts for
	// them.
	if o.bar == 0 && o.facts.kind == partnerDomain {
		o.partner = o.facts.partner
	}
}

// findPeople finds the person of ours the action is about, and the presenter.
// Exceptions are looked for with aboutWhom, and with presenter where the action
// depends on who presents. Both are none where nobody of ours is concerned.
func (a *asker) findPeople() error {
	inv := &a.s.inv
	// A drive belongs to one person, the first owner; other spaces to nobody in
	// particular.
	owner := func() uint32 {
		if sp := inv.spaces.at(a.space); sp.kind == world.Drive && sp.owners.n > 0 {
			return inv.lists[sp.owners.off]
		}
		return none
	}
	switch a.act.Person {
	case catalogue.Addressed, catalogue.Owner:
		if !a.q.Resource.Kind.IsItem() { // in a channel nobody is addressed
			a.aboutWhom = a.target
		}
	case catalogue.Host:
		a.aboutWhom = inv.meetings.at(a.target).host
		a.presenter = a.aboutWhom
		if a.act.Presenter && a.q.Presenter != "" {
			i := inv.personIDs.find(inv.text, a.q.Presenter)
			if i == none || !inv.people.at(i).exists {
				return &WrongUse{"context.presenter", a.q.Presenter, "there is no such person"}
			}
			a.presenter = i
		}
	case catalogue.SubjectPerson:
		a.aboutWhom = a.person
	case catalogue.InDrive:
		a.aboutWhom = owner()
	case catalogue.SubjectOrDrive:
		if a.aboutWhom = owner(); a.aboutWhom == none {
			a.aboutWhom = a.person
		}
	}
	return nil
}

// account adds one that is to be asked. Two are the most.
func (a *asker) account(acc Account, class catalogue.Class, nature bool) {
	a.accounts[a.nAccounts] = accountAsked{acc, class, nature}
	a.nAccounts++
}

// findAccounts lists the accounts that the subject could come with, in the
// order of preference: as a person of ours, with a link, with a record here, or
// with the account they have at home. A question may name one of them.
//
// Whoever has a record and an account at home is asked with the record first:
// what it opens has an end and a sponsor.
func (a *asker) findAccounts() error {
	asks := a.rows
	home := catalogue.Federated
	if a.party.private() {
		home = catalogue.Personal
	}
	switch {
	case a.ours:
		a.account(PersonAccount, catalogue.Ours, false)
	case a.held != nil:
		a.account(LinkAccount, catalogue.Bearer, asks[catalogue.Bearer] == nil)
	case a.party.record:
		if asks[catalogue.Record] != nil {
			a.account(RecordAccount, catalogue.Record, false)
		}
		if asks[home] != nil && !a.act.Newly {
			a.account(HomeAccount, home, false)
		}
		if a.nAccounts == 0 {
			a.account(RecordAccount, catalogue.Record, true)
		}
	// Whoever has no record, and would get one by doing it.
	case asks[catalogue.Newcomer] != nil:
		a.account(HomeAccount, catalogue.Newcomer, false)
	default:
		a.account(HomeAccount, home, asks[home] == nil)
	}
	if want := a.q.Account; want != AnyAccount {
		for i := 0; i < a.nAccounts; i++ {
			if a.accounts[i].account == want {
				a.accounts[0], a.nAccounts = a.accounts[i], 1
				return nil
			}
		}
		return &WrongUse{"context.account", want.String(), "the subject has no such account for " + a.act.Name}
	}
	return nil
}
