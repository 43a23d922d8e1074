package engine

import (
	"math/bits"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Granted actions are decided many at a time with masks. Every value that a rule
// must reach for one of them is a bit (a requirement), every row of the catalogue
// about one of them another (an entry). A layer is then two words: on which
// requirements it says anything, and which of them its value misses. What all layers
// together fulfil takes a handful of operations, for all actions at once; what is
// left to an entry is whether its requirements are among them. The decision of one
// question stays in gates.go; the tests hold the two together.

// Actions is a set of actions, as bits by ActionID.
type Actions uint64

// Has reports whether a is in the set.
func (s Actions) Has(a catalogue.ActionID) bool { return s>>a&1 != 0 }

// Len returns how many actions the set holds.
func (s Actions) Len() int { return bits.OnesCount64(uint64(s)) }

// requirement is one value that a rule must reach; of a set of methods, one that it
// must hold.
type requirement struct {
	rule catalogue.RuleID
	need catalogue.Value
}

func (q requirement) met(v catalogue.Value) bool {
	if ruleShape[q.rule] == catalogue.Methods {
		return v&q.need != 0
	}
	return v >= q.need
}

// entry is what one class of account is asked for one granted action.
type entry struct {
	need        [2][2]uint64 // in a drive or not; by somebody known or new
	private     uint64       // of a private address besides
	guests      uint64       // where the role comes from the space alone
	listed, any uint64       // requirements of its level of domains; 0 where there is none
	rival       uint64       // the entry of the record, which is told rather than this one of the home account
	action      catalogue.ActionID
	class       catalogue.Class
	role        catalogue.Role
	licence     bool
	kinds       [2]uint8 // places in contents.plain that count for it
	ask         *catalogue.Ask
}

// maskTable is the catalogue's part of it, made once.
type maskTable struct {
	requirements []requirement
	entries      []entry
	ofKind       [catalogue.NumResourceKinds]uint64 // entries about a kind of resource
	files        uint64                             // those about files, which the owner of a drive may have exceptions for
	people       []int                              // requirements that exceptions may speak on
	first        uint64                             // entries of records and newcomers
	ofClass      [catalogue.NumClasses]uint64
	upTo         [catalogue.Manage + 1]uint64 // entries that a role is enough for
	areaOnly     uint64                       // of spaces, only report areas
	spaceParty   uint64
	licence      uint // the first of three requirements: methods of reports.licence
	granted      Actions
}

var masks = buildMasks()

func buildMasks() (t maskTable) {
	at := map[requirement]uint64{}
	bit := func(r catalogue.RuleID, need catalogue.Value) uint64 {
		q := requirement{r, need}
		if b, ok := at[q]; ok {
			return b
		}
		b := uint64(1) << len(t.requirements)
		at[q], t.requirements = b, append(t.requirements, q)
		return b
	}
	t.licence = uint(len(t.requirements))
	for _, m := range []catalogue.Value{1, 2, 4} {
		bit(ruleLicence, m)
	}
	drive := func(r catalogue.RuleID, in bool) catalogue.RuleID {
		switch {
		case in && r == ruleGivenTo:
			return ruleDriveGivenTo
		case in && r == ruleBearer:
			return ruleDriveBearer
		}
		return r
	}
	for _, act := range catalogue.Actions() {
		made := map[*[catalogue.NumClasses]*catalogue.Ask]uint64{}
		for _, kind := range act.On {
			rows := act.Rows(kind)
			if act.Address || act.Asks[catalogue.Ours] != nil && act.Asks[catalogue.Record] == nil || !roleOnly(rows) {
				continue
			}
			t.granted |= 1 << act.ID
			set, ok := made[rows]
			if !ok {
				for class := catalogue.Record; class < catalogue.Bearer; class++ {
					ask := rows[class]
					if ask == nil {
						continue
					}
					e := entry{ask: ask, action: act.ID, class: class, role: ask.Role, licence: act.Licence, kinds: [2]uint8{nothingPlain, nothingPlain}}
					for in := range 2 {
						for fresh := range 2 {
							var need uint64
							for _, n := range ask.Needs {
								switch n.Kind {
								case catalogue.AtLeast:
									need |= bit(drive(n.Rule, in == 1), n.Value)
								case catalogue.GivenTo:
									need |= bit(drive(n.Rule, in == 1), []catalogue.Value{givenKnown, givenNewcomers}[fresh])
								default:
									panic("engine: a granted action with a need that masks do not know: " + act.Name)
								}
							}
							for _, r := range ask.Switches {
								need |= bit(r, catalogue.On)
							}
							if ask.SpaceGuests {
								need |= bit(ruleSpaceGuests, catalogue.On)
							}
							e.need[in][fresh] = need
						}
					}
					if class == catalogue.Newcomer || class == catalogue.Record && ask.Level == catalogue.ByRule {
						e.private = bit(rulePersonal, catalogue.On)
					}
					if !ask.SpaceParty {
						e.guests = bit(ruleSpaceGuests, catalogue.On)
					}
					if ask.Level == catalogue.ByRule {
						e.listed, e.any = bit(ask.LevelRule, levelListed), bit(ask.LevelRule, levelAny)
					}
					if class == catalogue.Federated && rows[catalogue.Record] != nil {
						e.rival = uint64(1) << (len(t.entries) - 1) // made just before
					}
					b := uint64(1) << len(t.entries)
					t.entries = append(t.entries, e)
					if class != catalogue.Federated && class != catalogue.Personal {
						t.first |= b
					}
					if act.Person == catalogue.InDrive {
						t.files |= b
					}
					set |= b
					t.ofClass[class] |= b
					for role := ask.Role; role <= catalogue.Manage; role++ {
						t.upTo[role] |= b
					}
					if act.AreaOnly {
						t.areaOnly |= b
					}
					if ask.SpaceParty {
						t.spaceParty |= b
					}
					if ask.Counterpart && (ask.Key != catalogue.In(catalogue.Spaces) || ask.Feature != catalogue.NoFeature) {
						panic("engine: a granted action with a counterpart that masks do not know: " + act.Name)
					}
				}
				made[rows] = set
			}
			t.ofKind[kind] |= set
			for k := set; k != 0; k &= k - 1 {
				e := &t.entries[bits.TrailingZeros64(k)]
				for i := range e.kinds {
					if e.kinds[i] == nothingPlain && kind != catalogue.Meeting {
						e.kinds[i] = plainOf(kind)
						break
					}
				}
			}
		}
	}
	for k, q := range t.requirements {
		if q.rule.Get().Layers&catalogue.AtPeople != 0 {
			t.people = append(t.people, k)
		}
	}
	if len(t.requirements) > 64 || len(t.entries) > 64 {
		panic("engine: the catalogue has outgrown a word")
	}
	return
}

// words is what one layer says: on which requirements, and which it misses.
type words struct{ said, bad uint64 }

func wordsOf(r *row, layer catalogue.Layers) (w words) {
	for k, q := range masks.requirements {
		if v := r[q.rule]; v != catalogue.Unset && ruleLayers[q.rule]&layer != 0 {
			w.said |= 1 << k
			if !q.met(v) {
				w.bad |= 1 << k
			}
		}
	}
	return
}

// contents is what is in a space: how many items of each kind that say nothing of
// their own, the space itself, and where the others are.
type contents struct {
	plain   [nothingPlain + 1]uint32 // the last is always zero
	special list                     // of index.special
	entries uint64                   // that are about any of the plain ones
}

// Places in contents.plain: by kind of item, then the space itself.
const (
	spacePlain   = uint8(catalogue.NumResourceKinds)
	nothingPlain = spacePlain + 1
)

func plainOf(k catalogue.ResourceKind) uint8 {
	if k == catalogue.Space {
		return spacePlain
	}
	return uint8(k)
}

// special is an item that is private or sets values, or a meeting.
type special struct {
	index   uint32
	rules   uint32
	kind    catalogue.ResourceKind
	private bool
}

// fill finds what is in each space, and the words of every row.
func (r *index) fill(inv *inventory) {
	r.in = make([]contents, inv.spaces.n)
	for sp := range r.in {
		c := &r.in[sp]
		c.plain[spacePlain] = 1
		c.entries = masks.ofKind[catalogue.Space]
		if inv.spaces.at(uint32(sp)).kind != world.ReportArea {
			c.entries &^= masks.areaOnly
		}
		c.special.off = uint32(len(r.special))
		for _, x := range r.items.of(uint32(sp)) {
			if x.plain {
				c.plain[x.kind]++
				c.entries |= masks.ofKind[x.kind]
				continue
			}
			it := inv.items.at(x.index)
			r.special = append(r.special, special{x.index, it.rules, it.kind, it.private})
		}
		for _, i := range r.meetings.of(uint32(sp)) {
			r.special = append(r.special, special{i, inv.meetings.at(i).rules, catalogue.Meeting, false})
		}
		c.special.n = uint32(len(r.special)) - c.special.off
	}
	r.fillRows(inv)
}

func (r *index) fillRows(inv *inventory) {
	r.atSpace, r.atItem = make([]words, len(inv.rows)), make([]words, len(inv.rows))
	for i := range inv.rows {
		r.atSpace[i], r.atItem[i] = wordsOf(&inv.rows[i], catalogue.AtSpace), wordsOf(&inv.rows[i], catalogue.AtItem)
	}
}

// otherRows returns the index of the same inventory where other values count.
func (r *index) otherRows(inv *inventory) *index {
	out := &index{items: r.items, meetings: r.meetings, parties: r.parties, links: r.links, in: r.in, special: r.special}
	out.fillRows(inv)
	out.once.Do(func() {})
	return out
}

func of(ws []words, i uint32) words {
	if i == none {
		return words{}
	}
	return ws[i]
}

// partnerSide is what the policy makes of a partner, or of nobody's address, for
// everybody there alike.
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

// sides is a policy made ready for masks. It holds from a moment until a moment.
type sides struct {
	pol         *policy
	from, until moment.Moment
	defaults    uint64
	limits      uint64
	partners    []partnerSide
	nobody      partnerSide
	barred      map[uint32]bool
}

// sidesAt returns what the policy says at a moment, kept until it changes.
func (s *Snapshot) sidesAt(at moment.Moment) *sides {
	if x := s.rev.sides.Load(); x != nil && x.pol == s.pol && at >= x.from && at < x.until {
		return x
	}
	pol := s.pol
	x := &sides{pol: pol, from: moment.Always, until: moment.Never, partners: make([]partnerSide, len(pol.partners)), barred: map[uint32]bool{}}
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
	side := func(k uint32) (p partnerSide) {
		alone := &pol.alone
		var opened [catalogue.NumKeys]world.Opening
		var rest *partnerRest
		if k != none {
			pr := &pol.partners[k]
			rest = &pol.rest[k]
			alone, opened = &pol.rows[pr.alone], pr.opened
			p.words = wordsOf(&pol.rows[pr.rules], catalogue.AtPartner)
			switch pr.standing {
			case world.Suspended:
				return
			case world.Ended:
				turns(rest.endedAt)
				if at >= rest.endedAt {
					return
				}
			}
		}
		p.signIn, p.terms = alone[ruleSignIn], alone[ruleTerms] == required
		p.guests, p.fed, p.browse = alone[ruleGuests] != 0, alone[ruleFeedIn] != 0, alone[ruleBrowse] != catalogue.Off
		for i := range masks.entries {
			e := &masks.entries[i]
			key := e.ask.Key
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

// possible reports whether an entry can be a yes anywhere where what bad holds is
// never met.
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

// sideOf finds what is known of a party; false where it is one of ours.
func (s *Snapshot) sideOf(x *sides, i uint32, at moment.Moment) (p partySide, outside bool) {
	q := s.inv.parties.at(i)
	d := &s.pol.domains[q.domain]
	if d.kind == ownDomain {
		return p, false
	}
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
	barred := d.bar != 0 || len(x.barred) > 0 && x.barred[i]
	if barred {
		return p, true
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
		return p, true
	}
	switch q.licence {
	case world.LicenceOurs:
		if q.flags&hasLocation != 0 {
			p.licence = 2
		}
	case world.LicenceTheirs:
		p.licence = 4
	}
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
	usable := ps.signIn & serves
	if q.stateAt(at) != world.StateActive || !open || usable == 0 {
		return p, true
	}
	p.ok |= ps.ok[0]
	if usable == methodCode {
		p.first |= catalogue.OneTimeCode
	}
	if ps.terms && !s.pol.agreed(q.terms, at) {
		p.first |= catalogue.AcceptTerms
	}
	return p, true
}

// joined reports whether a party without a record counts as known, because it is in
// a course.
func (s *Snapshot) joined(q *party, at moment.Moment) bool {
	inv := &s.inv
	on := func(given []grant) bool {
		for i := range given {
			g := &given[i]
			if g.resource&itemBit == 0 && g.live(at) && inv.spaces.at(g.resource).kind == world.Course {
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

// place is a space as masks see it.
type place struct {
	words
	files    words // what exceptions of the owner of a drive say about its files
	house    uint64
	drive    int
	area     bool
	admitted bool
}

func (s *Snapshot) place(i uint32, p *partySide, who uint32, at moment.Moment) (x place) {
	sp := s.inv.spaces.at(i)
	x.words, x.area, x.admitted = of(s.idx.atSpace, sp.rules), sp.kind == world.ReportArea, sp.anyParty
	if sp.house {
		x.house = 1
	}
	if sp.kind == world.Drive {
		x.drive = 1
		if sp.owners.n > 0 {
			if o := s.inv.lists[sp.owners.off]; o < uint32(len(s.pol.concerned)) && s.pol.concerned[o] {
				x.files = s.ofPerson(o, p, who, at)
			}
		}
	}
	if !x.admitted {
		x.admitted = s.names(s.inv.refs[sp.parties.off:sp.parties.off+sp.parties.n], p, who)
	}
	return
}

// ofPerson returns what the exceptions of a person of ours towards a party say:
// rule by rule their own, and only where those say nothing those of their groups.
func (s *Snapshot) ofPerson(person uint32, p *partySide, who uint32, at moment.Moment) (w words) {
	pol := s.pol
	add := func(which []int32, open uint64) (own words) {
		for _, i := range which {
			x := &pol.except[i]
			if !moment.Within(at, x.from, x.until) || x.parties != nil && !s.names(x.parties, p, who) {
				continue
			}
			for _, k := range masks.people {
				q := masks.requirements[k]
				if v := x.rules[q.rule]; v != catalogue.Unset && open>>k&1 != 0 {
					own.said |= 1 << k
					if !q.met(v) {
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

// names reports whether refs name the party with the index who.
func (s *Snapshot) names(refs []partyRef, p *partySide, who uint32) bool {
	inv := &s.inv
	q := inv.parties.at(who)
	for _, r := range refs {
		switch r.what {
		case 0:
			if p.partner != none && p.partner == r.index {
				return true
			}
		case 1:
			if q.domain == r.index {
				return true
			}
		case 2:
			if slices.Contains(inv.lists[q.groups.off:q.groups.off+q.groups.n], r.index) {
				return true
			}
		case 3:
			if who == r.index {
				return true
			}
		}
	}
	return false
}

// met is which requirements are met at a place; about files it may be others.
type met struct{ all, files uint64 }

// met returns the requirements that all layers together meet.
func (x *sides) met(p *partySide, at *place, item words) (m met) {
	said, bad := p.said|at.said|item.said, p.bad|at.bad|item.bad
	m.all = ^bad & (said | x.defaults) & x.limits
	m.files = m.all
	if at.files.said != 0 {
		m.files = ^(bad | at.files.bad) & (said | at.files.said | x.defaults) & x.limits
	}
	return
}

// allowed returns which of a set of entries are a yes for a party that holds these
// roles.
func (p *partySide) allowed(at *place, m met, set uint64, private bool, onItem, onSpace catalogue.Role) (yes uint64) {
	role := onItem
	if !private {
		role = max(role, onSpace)
	}
	set &= p.ok & masks.upTo[role]
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
		if yes&e.rival == 0 {
			yes |= 1 << i
		}
	}
	return
}

// actionsOf turns entries into the actions they are about: with the record, or by
// becoming a guest, and with the home account.
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

// conditions returns those of a yes to action a.
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

// held is a live role.
type heldRole struct {
	resource uint32 // as of a grant
	space    uint32
	role     catalogue.Role
}

// Tally answers the granted actions of many parties at one moment. It belongs to
// one goroutine.
type Tally struct {
	s    *Snapshot
	x    *sides
	at   moment.Moment
	live []heldRole
	many map[uint32]int
}

// Tally makes ready to answer granted actions at a moment.
func (s *Snapshot) Tally(at moment.Moment) *Tally {
	s.indexed()
	return &Tally{s: s, x: s.sidesAt(at), at: at}
}

// roles finds the live roles of a party: the highest on each resource.
func (t *Tally) roles(i uint32) []heldRole {
	inv := &t.s.inv
	q := inv.parties.at(i)
	t.live = t.live[:0]
	own, groups := inv.grantsOf(q, t.at), inv.groupsOf(q, t.at)
	n := uint32(len(own))
	for _, g := range groups {
		n += inv.groups.at(g).grants.n
	}
	if n > 48 {
		t.many = make(map[uint32]int, n)
	} else {
		t.many = nil
	}
	t.gather(own)
	for _, g := range groups {
		t.gather(inv.given(inv.groups.at(g).grants))
	}
	return t.live
}

func (t *Tally) gather(given []grant) {
	inv := &t.s.inv
next:
	for k := range given {
		g := &given[k]
		if !g.live(t.at) {
			continue
		}
		if t.many != nil {
			if l, ok := t.many[g.resource]; ok {
				t.live[l].role = max(t.live[l].role, g.role)
				continue
			}
			t.many[g.resource] = len(t.live)
		} else {
			for l := range t.live {
				if t.live[l].resource == g.resource {
					t.live[l].role = max(t.live[l].role, g.role)
					continue next
				}
			}
		}
		sp := g.resource
		if sp&itemBit != 0 {
			it := inv.items.at(sp &^ itemBit)
			if !it.exists {
				continue
			}
			sp = it.space
		}
		t.live = append(t.live, heldRole{g.resource, sp, g.role})
	}
}

func (t *Tally) roleOn(resource uint32) catalogue.Role {
	if t.many != nil {
		if l, ok := t.many[resource]; ok {
			return t.live[l].role
		}
		return catalogue.NoRole
	}
	for l := range t.live {
		if t.live[l].resource == resource {
			return t.live[l].role
		}
	}
	return catalogue.NoRole
}

// thing is a resource in a space.
type thing struct {
	space uint32
	index uint32
	kind  catalogue.ResourceKind
}

// walk calls all for every space that party i holds a role on, with the entries
// that are a yes for the space and the plain things in it, and one for everything
// else it may do something with.
func (t *Tally) walk(i uint32, p *partySide, all func(space uint32, in *contents, yes uint64), one func(th thing, yes uint64)) {
	if p.ok == 0 {
		return
	}
	s, inv, idx := t.s, &t.s.inv, t.s.idx
	live := t.roles(i)
	items := 0
	for k := range live {
		if live[k].resource&itemBit != 0 {
			items++
		}
	}
	for k := range live {
		h := &live[k]
		sp := h.space
		if sp >= inv.spaces.n || !inv.spaces.at(sp).exists {
			continue
		}
		at := s.place(sp, p, i, t.at)
		if h.resource&itemBit != 0 {
			index := h.resource &^ itemBit
			it := inv.items.at(index)
			m := t.x.met(p, &at, of(idx.atItem, it.rules))
			if yes := p.allowed(&at, m, masks.ofKind[it.kind], it.private, h.role, t.roleOn(sp)); yes != 0 {
				one(thing{sp, index, it.kind}, yes)
			}
			continue
		}
		in := &idx.in[sp]
		if yes := p.allowed(&at, t.x.met(p, &at, words{}), in.entries, false, catalogue.NoRole, h.role); yes != 0 {
			if items > 0 {
				in = t.less(sp, in, live)
			}
			all(sp, in, yes)
		}
		special := idx.in[sp].special
		for _, x := range idx.special[special.off : special.off+special.n] {
			if x.kind != catalogue.Meeting && (x.private || items > 0 && t.roleOn(x.index|itemBit) != catalogue.NoRole) {
				continue
			}
			if yes := p.allowed(&at, t.x.met(p, &at, of(idx.atItem, x.rules)), masks.ofKind[x.kind], false, catalogue.NoRole, h.role); yes != 0 {
				one(thing{sp, x.index, x.kind}, yes)
			}
		}
	}
}

func (s *Snapshot) resourceOf(th thing) world.Resource {
	inv := &s.inv
	switch {
	case th.kind == catalogue.Space:
		return world.Resource{Kind: th.kind, ID: inv.spaceIDs.text(inv.text, th.index)}
	case th.kind == catalogue.Meeting:
		return world.Resource{Kind: th.kind, ID: inv.meetingIDs.text(inv.text, th.index)}
	}
	return world.Resource{Kind: th.kind, ID: inv.itemIDs.text(inv.text, th.index)}
}

// Granting is what a party may do with one resource, as far as it needs a role:
// with its record (or by becoming a guest), and with its home account where not.
type Granting struct {
	thing       thing
	First, Home Actions
}

// Resource names the resource of one of its answers.
func (t *Tally) Resource(g *Granting) world.Resource { return t.s.resourceOf(g.thing) }

// All returns what may be done with either account.
func (g *Granting) All() Actions { return g.First | g.Home }

// Reach appends all that an address may do by a role to out, resource by resource.
// An address that nothing was given has none.
func (t *Tally) Reach(a addr.Address, out []Granting) []Granting {
	i := t.s.inv.addresses.find(t.s.inv.text, a.String())
	if i == none || i >= t.s.inv.parties.n {
		return out
	}
	p, outside := t.s.sideOf(t.x, i, t.at)
	if !outside {
		return out
	}
	t.things(i, &p, func(th thing, yes uint64) {
		if yes != 0 {
			first, home := actionsOf(yes)
			out = append(out, Granting{th, first, home})
		}
	})
	return out
}

// things calls add for every single thing that party i may do something with.
func (t *Tally) things(i uint32, p *partySide, add func(th thing, yes uint64)) {
	t.walk(i, p, func(sp uint32, in *contents, yes uint64) {
		add(thing{sp, sp, catalogue.Space}, yes&masks.ofKind[catalogue.Space])
		if yes&^masks.ofKind[catalogue.Space]|yes&masks.ofKind[catalogue.Channel] == 0 {
			return
		}
		less := in != &t.s.idx.in[sp] // some of them come by themselves
		for _, x := range t.s.idx.items.of(sp) {
			if x.plain && yes&masks.ofKind[x.kind] != 0 && !(less && t.roleOn(x.index|itemBit) != catalogue.NoRole) {
				add(thing{sp, x.index, x.kind}, yes&masks.ofKind[x.kind])
			}
		}
	}, add)
}

// Conditions returns the conditions under which an address may do something that it
// may do by a role.
func (t *Tally) Conditions(a addr.Address, action catalogue.ActionID, home bool) catalogue.Condition {
	i := t.s.inv.addresses.find(t.s.inv.text, a.String())
	if i == none || i >= t.s.inv.parties.n {
		return 0
	}
	p, _ := t.s.sideOf(t.x, i, t.at)
	return p.conditions(action, home)
}

// Sum counts granted actions: for each action the pairs of party and resource.
type Sum struct {
	Parties  int // those counted
	Reaching int // of them, those who may do anything
	Actions  [64]int
}

// Total returns the number of (party, action, resource).
func (s *Sum) Total() (n int) {
	for _, x := range s.Actions {
		n += x
	}
	return
}

// By returns the number by service.
func (s *Sum) By() (out [catalogue.NumServices]int) {
	for _, act := range catalogue.Actions() {
		out[actionService[act.ID]] += s.Actions[act.ID]
	}
	return
}

var actionService = func() (out []catalogue.Service) {
	for _, act := range catalogue.Actions() {
		out = append(out, act.Service())
	}
	return
}()

func (s *Sum) count(yes uint64, n int) {
	for ; yes != 0; yes &= yes - 1 {
		s.Actions[masks.entries[bits.TrailingZeros64(yes)].action] += n
	}
}

// countAll counts the plain things of a space and the space itself.
func (s *Sum) countAll(in *contents, yes uint64) (n int) {
	for ; yes != 0; yes &= yes - 1 {
		e := &masks.entries[bits.TrailingZeros64(yes)]
		k := int(in.plain[e.kinds[0]] + in.plain[e.kinds[1]])
		s.Actions[e.action] += k
		n += k
	}
	return
}

func (s *Sum) add(o *Sum) {
	s.Parties += o.Parties
	s.Reaching += o.Reaching
	for i := range s.Actions {
		s.Actions[i] += o.Actions[i]
	}
}

// Population is what everybody outside may do by a role or a link, in numbers
// (model §7): everybody with a record or a role, and every live link.
type Population struct {
	All      Sum
	Kinds    map[string]*Sum
	Partners map[string]*Sum // by id; the empty id holds those of no partner, links included
	Spaces   map[string]int  // by id: (party, action, resource) in the space
}

// Population counts the granted actions of everybody outside at a moment. Where
// stop is closed it ends early with nil. It uses all processors.
func (s *Snapshot) Population(at moment.Moment, stop <-chan struct{}) *Population {
	inv := &s.inv
	s.indexed()
	s.reversed()
	type part struct {
		kinds    [KindBearer + 1]Sum
		partners []Sum
		nobody   Sum
		spaces   []int
	}
	const stride = 4096
	workers := runtime.GOMAXPROCS(0)
	parts := make([]*part, workers)
	var next atomic.Uint32
	var group sync.WaitGroup
	for w := range workers {
		group.Add(1)
		go func() {
			defer group.Done()
			out := &part{partners: make([]Sum, len(s.pol.partners)), spaces: make([]int, inv.spaces.n)}
			parts[w] = out
			t := s.Tally(at)
			var sum Sum
			for {
				from := next.Add(1)*stride - stride
				if from >= inv.parties.n {
					return
				}
				select {
				case <-stop:
					return
				default:
				}
				for i := from; i < min(from+stride, inv.parties.n); i++ {
					q := inv.parties.at(i)
					if !s.isCounted(i, at) {
						continue
					}
					p, outside := s.sideOf(t.x, i, at)
					if !outside {
						continue
					}
					by := &out.nobody
					if q.domain != none && s.pol.domains[q.domain].kind == partnerDomain {
						by = &out.partners[s.pol.domains[q.domain].partner]
					}
					sum = Sum{Parties: 1}
					t.walk(i, &p, func(sp uint32, in *contents, yes uint64) {
						sum.Reaching = 1
						out.spaces[sp] += sum.countAll(in, yes)
					}, func(th thing, yes uint64) {
						sum.Reaching = 1
						sum.count(yes, 1)
						out.spaces[th.space] += bits.OnesCount64(yes)
					})
					out.kinds[p.kind].add(&sum)
					by.add(&sum)
				}
			}
		}()
	}
	group.Wait()
	select {
	case <-stop:
		return nil
	default:
	}
	out := &Population{Kinds: map[string]*Sum{}, Partners: map[string]*Sum{}, Spaces: map[string]int{}}
	sum := func(in map[string]*Sum, key string, x *Sum) {
		if x.Parties == 0 {
			return
		}
		if in[key] == nil {
			in[key] = &Sum{}
		}
		in[key].add(x)
	}
	links := &Sum{}
	bySpace := make([]int, inv.spaces.n)
	s.countLinks(at, links, bySpace)
	for _, p := range parts {
		for k := range p.kinds {
			out.All.add(&p.kinds[k])
			sum(out.Kinds, Kind(k).String(), &p.kinds[k])
		}
		for k := range p.partners {
			sum(out.Partners, inv.partners.text(inv.text, uint32(k)), &p.partners[k])
		}
		sum(out.Partners, "", &p.nobody)
		for i, n := range p.spaces {
			bySpace[i] += n
		}
	}
	out.All.add(links)
	sum(out.Kinds, KindBearer.String(), links)
	sum(out.Partners, "", links)
	for i, n := range bySpace {
		if n > 0 {
			out.Spaces[inv.spaceIDs.text(inv.text, uint32(i))] = n
		}
	}
	return out
}

// linkActions returns what whoever holds a bearer link may do with its item.
func (s *Snapshot) linkActions(i uint32, at moment.Moment) (set Actions, it *item) {
	inv := &s.inv
	l := inv.links.at(i)
	if !l.exists || !l.bearer || !moment.Within(at, l.created, l.until) {
		return 0, nil
	}
	if it = inv.items.at(l.item); !it.exists {
		return 0, nil
	}
	q := Question{Subject: Who{Kind: ByLinkID, ID: inv.linkIDs.text(inv.text, i)}, Resource: world.Resource{Kind: it.kind, ID: inv.itemIDs.text(inv.text, l.item)}, At: at}
	for _, act := range catalogue.Actions() {
		if masks.granted.Has(act.ID) && act.Takes(it.kind) && act.Rows(it.kind)[catalogue.Bearer] != nil {
			q.Action = act.ID
			if v, err := s.Decide(&q); err == nil && v.Yes {
				set |= 1 << act.ID
			}
		}
	}
	return set, it
}

// countLinks counts what whoever holds one of the live bearer links may do.
func (s *Snapshot) countLinks(at moment.Moment, sum *Sum, spaces []int) {
	for i := uint32(0); i < s.inv.links.n; i++ {
		set, it := s.linkActions(i, at)
		if it == nil {
			continue
		}
		sum.Parties++
		if set == 0 {
			continue
		}
		sum.Reaching++
		for k := set; k != 0; k &= k - 1 {
			sum.Actions[bits.TrailingZeros64(uint64(k))]++
		}
		if int(it.space) < len(spaces) {
			spaces[it.space] += set.Len()
		}
	}
}

// Candidates asks everybody who was ever given something in the space of r, a space,
// an item or a meeting, what they may do with it by a role, and calls found for those
// who may do anything, by their number (see Snapshot.AddressAt). It returns how many
// were asked. An error is a *WrongUse.
func (t *Tally) Candidates(r world.Resource, found func(i uint32, g Granting)) (int, error) {
	var a asker
	q := Question{Resource: r, At: t.at}
	a.s, a.q, a.at, a.space, a.near, a.target = t.s, &q, t.at, none, none, none
	a.act = &catalogue.Action{Name: "this", On: []catalogue.ResourceKind{r.Kind}}
	a.resourceHash = hashOf(r.ID)
	if err := a.findResource(); err != nil {
		return 0, err
	}
	if a.space == none {
		return 0, nil
	}
	s, inv, sp := t.s, &t.s.inv, a.space
	th, set := thing{sp, a.target, r.Kind}, masks.ofKind[r.Kind]
	if r.Kind == catalogue.Space && inv.spaces.at(sp).kind != world.ReportArea {
		set &^= masks.areaOnly
	}
	rules, private := uint32(none), false
	onItem := uint32(none)
	switch {
	case r.Kind.IsItem():
		it := inv.items.at(a.target)
		rules, private, onItem = it.rules, it.private, a.target|itemBit
	case r.Kind == catalogue.Meeting:
		rules = inv.meetings.at(a.target).rules
	}
	item := of(s.idx.atItem, rules)
	for _, i := range s.idx.parties.of(sp) {
		p, outside := s.sideOf(t.x, i, t.at)
		if !outside || p.ok == 0 {
			continue
		}
		q := inv.parties.at(i)
		var roles [2]catalogue.Role
		look := func(given []grant) {
			for k := range given {
				g := &given[k]
				switch {
				case !(g.resource == sp || g.resource == onItem) || !g.live(t.at):
				case g.resource == sp:
					roles[1] = max(roles[1], g.role)
				default:
					roles[0] = max(roles[0], g.role)
				}
			}
		}
		look(inv.grantsOf(q, t.at))
		for _, g := range inv.groupsOf(q, t.at) {
			look(inv.given(inv.groups.at(g).grants))
		}
		if roles == [2]catalogue.Role{} {
			continue
		}
		at := s.place(sp, &p, i, t.at)
		if yes := p.allowed(&at, t.x.met(&p, &at, item), set, private, roles[0], roles[1]); yes != 0 {
			first, home := actionsOf(yes)
			found(i, Granting{th, first, home})
		}
	}
	return len(s.idx.parties.of(sp)), nil
}

// AddressAt returns the address with a number.
func (s *Snapshot) AddressAt(i uint32) addr.Address { return s.addressOf(i) }

// GrantedLine is what a party may do with a resource by a role, or whoever holds a link.
type GrantedLine struct {
	Who      Who
	Kind     Kind
	Partner  string // id; empty where there is none
	Resource world.Resource
	Actions  Actions
}

// LinesFrom says where a list of granted lines goes on: at a party, or past the last at
// a link, after so many of its lines.
type LinesFrom struct {
	Party uint32
	Lines int
	Links bool
	End   bool
}

// GrantedLines calls found for at most limit lines of what Population counts, from a
// place on: those of parties that keep lets through, in a space where one is named, with
// any of some actions where there are any. It returns the place to go on from.
func (s *Snapshot) GrantedLines(at moment.Moment, from LinesFrom, limit int, keep func(kind Kind, partner string) bool, space string, only Actions, stop func() error, found func(*GrantedLine)) (LinesFrom, error) {
	inv := &s.inv
	s.indexed()
	t := s.Tally(at)
	if only == 0 {
		only = ^Actions(0)
	}
	in := none
	if space != "" {
		if in = inv.spaceIDs.find(inv.text, space); in == none {
			return LinesFrom{End: true}, &WrongUse{"space", space, "there is no such space"}
		}
	}
	n := 0
	var buf []Granting
	for i := from.Party; i < inv.parties.n && !from.Links; i++ {
		if i%1024 == 0 {
			if err := stop(); err != nil {
				return from, err
			}
		}
		skip := 0
		if i == from.Party {
			skip = from.Lines
		}
		q := inv.parties.at(i)
		if q.grants.n == 0 && q.groups.n == 0 {
			continue
		}
		p, outside := s.sideOf(t.x, i, at)
		if !outside {
			continue
		}
		partner := ""
		if q.domain != none && s.pol.domains[q.domain].kind == partnerDomain {
			partner = inv.partners.text(inv.text, s.pol.domains[q.domain].partner)
		}
		if !keep(p.kind, partner) {
			continue
		}
		a := s.addressOf(i)
		buf = t.Reach(a, buf[:0])
		k := 0
		for j := range buf {
			g := &buf[j]
			set := g.All() & only
			if set == 0 || in != none && g.thing.space != in {
				continue
			}
			if k++; k <= skip {
				continue
			}
			if n == limit {
				return LinesFrom{Party: i, Lines: k - 1}, nil
			}
			n++
			found(&GrantedLine{Who{Address: a}, p.kind, partner, t.Resource(g), set})
		}
	}
	if !keep(KindBearer, "") {
		return LinesFrom{End: true}, nil
	}
	first := uint32(0)
	if from.Links {
		first = from.Party
	}
	for i := first; i < inv.links.n; i++ {
		set, it := s.linkActions(i, at)
		if set &= only; set == 0 || in != none && it.space != in {
			continue
		}
		if n == limit {
			return LinesFrom{Party: i, Links: true}, nil
		}
		n++
		found(&GrantedLine{Who{Kind: ByLinkID, ID: inv.linkIDs.text(inv.text, i)}, KindBearer, "", world.Resource{Kind: it.kind, ID: inv.itemIDs.text(inv.text, inv.links.at(i).item)}, set})
	}
	return LinesFrom{End: true}, nil
}
