package engine

import (
	"math/bits"
	"slices"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// What gates ask of a party before there is any thing, made ready for masks
// (masks.go): all entries at once, as bits.
//
// A question asks one action of one party about one thing, gate by gate. Here
// the same gates are asked of a partner once for all actions (partnerSide),
// then of a party (partySide), then of a place (place, met); what is left for
// each entry is whether its requirements are among those that are met
// (allowed). The order of the cases is that of gates.go, and whatever changes
// there changes here: random worlds hold the two together.

// partnerSide is what the policy makes of a partner, or of nobody's address,
// for everybody there alike. It is what can be known of a party from its
// partner alone: three hundred of these stand for a hundred thousand parties.
type partnerSide struct {
	words
	ok          [3]uint64 // entries that its standing, openings and stance let through: as a record, at home, as a newcomer
	listed      uint64    // entries whose level is met where the rule says listed
	signIn      catalogue.Value
	terms       bool // acceptance is required
	guests, fed bool
	browse      bool
	unconfirmed bool // their half of spaces.in is not known
}

// sides is a policy made ready for masks. It holds from a moment until a
// moment. It is made once for a policy and a moment, and holds until something
// dated turns.
type sides struct {
	pol         *policy
	from, until moment.Moment
	defaults    uint64
	limits      uint64
	partners    []partnerSide
	nobody      partnerSide
	barred      map[uint32]bool
}

// sidesAt returns what the policy says at a moment, kept until it changes. Two
// goroutines may make it at once; either result is right. It is some
// microseconds a partner.
func (s *Snapshot) sidesAt(at moment.Moment) *sides {
	if x := s.rev.sides.Load(); x != nil && x.pol == s.pol && at >= x.from && at < x.until {
		return x
	}
	pol := s.pol
	x := &sides{
		pol:      pol,
		from:     moment.Always,
		until:    moment.Never,
		partners: make([]partnerSide, len(pol.partners)),
		barred:   map[uint32]bool{},
	}
	// A moment at which something becomes otherwise bounds how long the answer
	// holds.
	turns := func(m moment.Moment) {
		if m <= at {
			x.from = max(x.from, m)
		} else {
			x.until = min(x.until, m)
		}
	}
	for k, q := range masks.requirements {
		if q.met(pol.fallback[q.rule]) {
			x.defaults |= 1 << k
		}
		if q.met(pol.limit[q.rule]) {
			x.limits |= 1 << k
		}
	}
	if pol.termsSince != 0 {
		turns(pol.termsSince)
	}
	invite := pol.alone[ruleInviteDomains]
	// What the gates ask of a partner, in the same order, for all entries at
	// once.
	side := func(k uint32) (p partnerSide) {
		alone := &pol.alone
		var opened [catalogue.NumKeys]world.Opening
		var rest *partnerRest
		var pr *partnerRow
		shut := false
		if k != none {
			pr = &pol.partners[k]
			rest = &pol.rest[k]
			alone, opened = &pol.rows[pr.alone], pr.opened
			p.words = wordsOf(&pol.rows[pr.rules], catalogue.AtPartner)
			switch pr.standing {
			case world.Suspended:
				shut = true
			case world.Ended:
				turns(rest.endedAt)
				shut = at >= rest.endedAt
			}
			// Suspended, and let through for nothing.
			if shut && pr.still == 0 {
				return
			}
		}
		p.signIn, p.terms = alone[ruleSignIn], alone[ruleTerms] == required
		p.guests, p.fed, p.browse = alone[ruleGuests] != 0, alone[ruleFeedIn] != 0, alone[ruleBrowse] != catalogue.Off
		for i := range masks.entries {
			e := &masks.entries[i]
			key := e.ask.Key
			if shut && !pr.stillFor(e.ask) {
				continue
			}
			no := opened[key] == world.OpenNo
			for _, also := range e.ask.Also {
				no = no || opened[also] == world.OpenNo
			}
			if no {
				continue
			}
			if e.ask.Counterpart && rest != nil {
				st := rest.stance[key]
				turns(st.expires)
				if st.says == world.SaysRefuses {
					continue
				}
				if st.says == world.SaysAdmits && at < st.expires {
					if f := e.ask.Feature; f != catalogue.NoFeature && st.features != 0 && st.features&(1<<f) == 0 {
						continue
					}
				} else {
					p.unconfirmed = true
				}
			}
			yes := k != none && opened[key] == world.OpenYes
			if yes {
				p.listed |= 1 << i
			}
			// Which of the three accounts the entry belongs to.
			slot := 1
			switch e.class {
			case catalogue.Record:
				slot = 0
			case catalogue.Newcomer:
				slot = 2
				if invite == levelClosed || invite == levelListed && !yes {
					continue
				}
			}
			if e.possible(p.bad | ^x.limits) {
				p.ok[slot] |= 1 << i
			}
		}
		return
	}
	for k := range pol.partners {
		if pol.partners[k].exists {
			x.partners[k] = side(uint32(k))
		}
	}
	x.nobody = side(none)
	for a := range pol.bars {
		if i := s.inv.addresses.find(s.inv.text, a); i != none {
			x.barred[i] = true
		}
	}
	s.rev.sides.Store(x)
	return x
}

// possible reports whether an entry can be a yes anywhere where what bad holds
// is never met. It spares asking entries that no place could turn into a yes.
func (e *entry) possible(bad uint64) bool {
	if e.any != 0 && bad&e.any != 0 && bad&e.listed != 0 && e.private == 0 {
		return false
	}
	for in := range e.need {
		for fresh := range e.need[in] {
			if e.need[in][fresh]&bad == 0 {
				return true
			}
		}
	}
	return false
}

// partySide is what is known of one party at one moment, before any resource.
// It compares with ==; two policies that give the same one treat the party
// alike.
type partySide struct {
	words
	ok      uint64 // entries that nothing about the party refuses
	listed  uint64
	named   uint64 // entries whose level is not asked: a private address
	private bool
	fresh   int // 1 where it is neither a record nor has joined
	licence uint64
	first   catalogue.Condition // of a yes with the record, or as a newcomer
	home    catalogue.Condition // of a yes with the home account
	browse  catalogue.Condition // besides, of reports.view
	kind    Kind
	partner uint32
}

// sideOf finds what is known of a party; false where it is one of ours. It
// costs some tens of operations and no look-up of names.
func (s *Snapshot) sideOf(x *sides, i uint32, at moment.Moment) (p partySide, outside bool) {
	q := s.inv.parties.at(i)
	d := &s.pol.domains[q.domain]
	if d.kind == ownDomain {
		return p, false
	}
	return s.sideOfParty(x, q, d, d.bar != 0 || len(x.barred) > 0 && x.barred[i], at), true
}

// sideOfParty finds what is known of a party from outside, which need not be
// one of the inventory. It asks what gates 1, 2 and 4 ask of a party before
// there is any resource; the order of the cases is theirs. Whoever is barred
// has no entry left.
func (s *Snapshot) sideOfParty(x *sides, q *party, d *domainFacts, barred bool, at moment.Moment) (p partySide) {
	p.private, p.partner = d.kind == personalDomain, none
	record := q.recordAt(at)
	switch {
	case record && q.flags&isProvisioned != 0:
		p.kind = KindProvisioned
	case record:
		p.kind = KindGuest
	case p.private:
		p.kind = KindPersonal
	default:
		p.kind = KindFederated
	}
	if barred {
		return p
	}
	ps := &x.nobody
	if d.kind == partnerDomain {
		p.partner = d.partner
		ps = &x.partners[d.partner]
	}
	p.words, p.listed = ps.words, ps.listed
	home := masks.ofClass[catalogue.Federated]
	if p.private {
		home = masks.ofClass[catalogue.Personal]
	}
	p.ok = ps.ok[1] & home
	if ps.unconfirmed {
		p.home = catalogue.CounterpartUnconfirmed
	}
	if !record {
		if ps.guests {
			p.ok |= ps.ok[2]
			if p.private { // directory.personal stands in for the levels
				p.ok |= masks.ofClass[catalogue.Newcomer]
			}
		}
		p.fresh = 1
		if s.joined(q, at) {
			p.fresh = 0
		}
		p.first = catalogue.BecomesGuest | catalogue.SignIn
		if p.private {
			p.named = masks.ofClass[catalogue.Newcomer]
		}
		if !ps.browse {
			p.browse = catalogue.NoBrowsing
		}
		return p
	}
	p.licence = uint64(q.licenceRoute())
	if !ps.browse {
		p.browse = catalogue.NoBrowsing
	}
	if p.private {
		p.named = masks.ofClass[catalogue.Record]
	}
	open := ps.guests
	if q.flags&isProvisioned != 0 {
		open = ps.fed
	}
	serves := methodCode
	if p.partner != none {
		serves |= methodPartner
	}
	if p.private {
		serves |= methodPrivate
	}
	// As asker.identity does.
	usable := ps.signIn & serves
	if q.stateAt(at) != world.StateActive || !open || usable == 0 {
		return p
	}
	p.ok |= ps.ok[0]
	if usable == methodCode {
		p.first |= catalogue.OneTimeCode
	}
	if ps.terms && !s.pol.agreed(q.terms, at) {
		p.first |= catalogue.AcceptTerms
	}
	return p
}

// joined reports whether a party without a record counts as known, because it
// is in a course. It is asker.hasJoined for one of the inventory.
func (s *Snapshot) joined(q *party, at moment.Moment) bool {
	inv := &s.inv
	on := func(given []grant) bool {
		for i := range given {
			g := &given[i]
			if g.resource&itemBit == 0 && g.live(at, &inv.beside) && inv.spaces.at(g.resource).kind == world.Course {
				return true
			}
		}
		return false
	}
	if on(inv.grantsOf(q, at)) {
		return true
	}
	for _, g := range inv.groupsOf(q, at) {
		if on(inv.given(inv.groups.at(g).grants)) {
			return true
		}
	}
	return false
}

// place is a space as masks see it. It is the same for every item in it, so
// that a space is looked at once for a party. admitted is whether the space
// takes this party; house whether a licence of the area counts there.
type place struct {
	words
	files    words // what exceptions of the owner of a drive say about its files
	house    uint64
	drive    int
	area     bool
	admitted bool
}

// place is a space for a party: whether it is admitted depends on who it is.
func (s *Snapshot) place(i uint32, p *partySide, who uint32, at moment.Moment) place {
	return s.placeFor(i, of(s.idx.atSpace, s.inv.spaces.at(i).rules), p, s.inv.parties.at(who), who, at)
}

// placeFor is place for a party that need not be one of the inventory; says is
// what the space says.
func (s *Snapshot) placeFor(i uint32, says words, p *partySide, q *party, who uint32, at moment.Moment) (x place) {
	sp := s.inv.spaces.at(i)
	x.words, x.area, x.admitted = says, sp.kind == world.ReportArea, sp.anyParty
	if sp.house {
		x.house = 1
	}
	if sp.kind == world.Drive {
		x.drive = 1
		if sp.owners.n > 0 {
			if o := s.inv.lists[sp.owners.off]; o < uint32(len(s.pol.concerned)) && s.pol.concerned[o] {
				x.files = s.ofPerson(o, p, q, who, at)
			}
		}
	}
	if !x.admitted {
		x.admitted = s.names(s.inv.refs[sp.parties.off:sp.parties.off+sp.parties.n], p, q, who)
	}
	return
}

// ofPerson returns what the exceptions of a person of ours towards a party say:
// rule by rule their own, and only where those say nothing those of their
// groups. It is asker.peopleValue in words, all rules at once.
func (s *Snapshot) ofPerson(person uint32, p *partySide, q *party, who uint32, at moment.Moment) (w words) {
	pol := s.pol
	add := func(which []int32, open uint64) (own words) {
		for _, i := range which {
			x := &pol.except[i]
			if !moment.Within(at, x.from, x.until) || x.parties != nil && !s.names(x.parties, p, q, who) {
				continue
			}
			for _, k := range masks.people {
				need := masks.requirements[k]
				if v := x.rules[need.rule]; v != catalogue.Unset && open>>k&1 != 0 {
					own.said |= 1 << k
					if !need.met(v) {
						own.bad |= 1 << k
					}
				}
			}
		}
		return
	}
	if person < uint32(len(pol.named)) && pol.named[person] {
		w = add(pol.byPerson[person], ^uint64(0))
	}
	if len(pol.byGroup) == 0 {
		return
	}
	open := ^w.said
	l := s.inv.people.at(person).groups
	for _, g := range s.inv.lists[l.off : l.off+l.n] {
		if g < uint32(len(pol.byGroup)) && pol.byGroup[g] != nil {
			own := add(pol.byGroup[g], open)
			w.said |= own.said
			w.bad |= own.bad
		}
	}
	return
}

// names reports whether refs name a party, whose address has the index who. It
// is asker.meant for one of the inventory.
func (s *Snapshot) names(refs []partyRef, p *partySide, q *party, who uint32) bool {
	inv := &s.inv
	for _, r := range refs {
		switch r.what {
		case ofPartner:
			if p.partner != none && p.partner == r.index {
				return true
			}
		case ofDomain:
			if q.domain == r.index && q.domain != none {
				return true
			}
		case ofGroup:
			if slices.Contains(inv.lists[q.groups.off:q.groups.off+q.groups.n], r.index) {
				return true
			}
		case ofAddress:
			if who == r.index {
				return true
			}
		}
	}
	return false
}

// met is which requirements are met at a place; about files it may be others.
type met struct{ all, files uint64 }

// met returns the requirements that all layers together meet. A requirement is
// met where no layer misses it, and some layer says it or the default does,
// within the limit. That is the joining of layers in model §3, for all rules at
// once: the tightest layer counts, the default only where nobody speaks.
func (x *sides) met(p *partySide, at *place, item words) (m met) {
	said, bad := p.said|at.said|item.said, p.bad|at.bad|item.bad
	m.all = ^bad & (said | x.defaults) & x.limits
	m.files = m.all
	if at.files.said != 0 {
		m.files = ^(bad | at.files.bad) & (said | at.files.said | x.defaults) & x.limits
	}
	return
}

// allowed returns which of a set of entries are a yes for a party that holds
// these roles: onItem on the thing itself, onSpace on its space, many what its
// partner or domain holds on the space as a whole. private is whether the thing
// takes roles on itself alone.
//
// This loop is the heart of counting: it decides every action on a thing for a
// party in some tens of nanoseconds. The tests compare it with Decide on random
// worlds.
func (p *partySide) allowed(at *place, m met, set uint64, private bool, onItem, onSpace, many catalogue.Role) (yes uint64) {
	role := onItem
	if !private {
		role = max(role, onSpace)
	}
	up := masks.upTo[role]
	if many > role && !private {
		up |= masks.upTo[many] & masks.ofClass[catalogue.Federated]
	}
	set &= p.ok & up
	if !at.admitted {
		set &^= masks.spaceParty
	}
	for ; set != 0; set &= set - 1 {
		i := bits.TrailingZeros64(set)
		e := &masks.entries[i]
		need, has := e.need[at.drive][p.fresh], m.all
		if masks.files>>i&1 != 0 {
			has = m.files
		}
		if p.private {
			need |= e.private
		}
		if onItem < e.role && !private && e.guests != 0 { // the role comes from the space alone
			if !at.admitted {
				continue
			}
			need |= e.guests
		}
		if need&^has != 0 || e.any != 0 && has&e.any == 0 && p.named>>i&1 == 0 && (has&e.listed == 0 || p.listed>>i&1 == 0) {
			continue
		}
		if e.licence && has>>masks.licence&(p.licence|at.house) == 0 {
			continue
		}
		// Where the record says yes already the home account is not told.
		if yes&e.recordEntry == 0 {
			yes |= 1 << i
		}
	}
	return
}

// actionsOf turns entries into the actions they are about: with the record, or
// by becoming a guest, and with the home account.
func actionsOf(yes uint64) (first, home Actions) {
	for ; yes != 0; yes &= yes - 1 {
		i := bits.TrailingZeros64(yes)
		if masks.first>>i&1 != 0 {
			first |= 1 << masks.entries[i].action
		} else {
			home |= 1 << masks.entries[i].action
		}
	}
	return
}

// conditions returns those of a yes to action a. home tells whether it is the
// home account that answers.
func (p *partySide) conditions(a catalogue.ActionID, home bool) catalogue.Condition {
	c := p.first
	if home {
		c = p.home
	}
	if a.Get().NoBrowsing {
		c |= p.browse
	}
	return c
}

// heldRole is a live role. It is the highest of several grants on one thing.
type heldRole struct {
	resource uint32 // as of a grant
	space    uint32
	role     catalogue.Role
	many     catalogue.Role // what the partner or the domain holds as a whole
}
