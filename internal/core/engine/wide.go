package engine

import (
	"slices"
	"sort"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Wide actions need no role: nearly every party may try them on every person, so
// they are answered class by class. A party matters only through its kind, state,
// methods, accepted terms and domain entry, and through what names it; a person of
// ours only through the exceptions that name them; a meeting through what its door
// says. Contacts and shared spaces relate one to one and are asked by themselves.

// wideAction is a wide action about one kind of resource.
type wideAction struct {
	act  catalogue.ActionID
	kind catalogue.ResourceKind
	// it matters whether the person is a contact of the party, or shares a space
	contacts, shares bool
}

var wideActions = func() (out []wideAction) {
	for _, act := range catalogue.Actions() {
		if act.Address || act.Asks[catalogue.Ours] != nil && act.Asks[catalogue.Record] == nil {
			continue
		}
		for _, kind := range act.On {
			rows := act.Rows(kind)
			if roleOnly(rows) {
				continue
			}
			w := wideAction{act: act.ID, kind: kind}
			for _, ask := range rows {
				if ask == nil {
					continue
				}
				for _, n := range ask.Needs {
					w.contacts = w.contacts || n.Kind == catalogue.PresenceSeen
					w.shares = w.shares || n.Kind == catalogue.LookUp
				}
			}
			out = append(out, w)
		}
	}
	return
}()

// crowd is parties whom all wide actions answer alike, in every snapshot it was made
// for.
type crowd struct {
	who     Who
	kind    Kind
	partner uint32 // of the first snapshot; none where there is none
	members []uint32
	links   int // or so many live links
	changed bool
}

func (c *crowd) size() int { return len(c.members) + c.links }

// likeness is what tells crowds apart in one snapshot.
type likeness struct {
	kind            Kind
	state           world.State
	terms, record   bool
	joined          bool // without a record, but in a course
	barred          bool
	facts           entryKind
	partner, domain uint32
	groups          string
	alone           uint32 // an address that something names is a crowd of its own
}

// naming is what of a policy and inventory names parties one by one.
type naming struct {
	domains, groups, addresses map[uint32]bool
}

func (s *Snapshot) naming() naming {
	n := naming{map[uint32]bool{}, map[uint32]bool{}, map[uint32]bool{}}
	add := func(refs []partyRef) {
		for _, r := range refs {
			switch r.what {
			case 1:
				n.domains[r.index] = true
			case 2:
				n.groups[r.index] = true
			case 3:
				n.addresses[r.index] = true
			}
		}
	}
	for i := range s.pol.except {
		add(s.pol.except[i].parties)
	}
	inv := &s.inv
	for _, i := range s.reversed().courses {
		p := inv.spaces.at(i).parties
		add(inv.refs[p.off : p.off+p.n])
	}
	for i := uint32(0); i < inv.meetings.n; i++ {
		if m := inv.meetings.at(i); m.exists {
			for _, d := range inv.lists[m.domains.off : m.domains.off+m.domains.n] {
				n.domains[d] = true
			}
		}
	}
	return n
}

// like finds what tells a party apart; false where it is one of ours.
func (s *Snapshot) like(i uint32, at moment.Moment, x *sides, named *naming) (l likeness, outside bool) {
	inv := &s.inv
	q := inv.parties.at(i)
	d := &s.pol.domains[q.domain]
	if d.kind == ownDomain {
		return l, false
	}
	l.facts, l.partner, l.domain, l.alone = d.kind, none, none, none
	if d.kind == partnerDomain {
		l.partner = d.partner
	}
	l.barred = d.bar != 0 || x.barred[i]
	if named.domains[q.domain] {
		l.domain = q.domain
	}
	if named.addresses[i] {
		l.alone = i
	}
	l.kind = KindFederated
	if d.kind == personalDomain {
		l.kind = KindPersonal
	}
	if q.recordAt(at) {
		l.record, l.kind = true, KindGuest
		if q.flags&isProvisioned != 0 {
			l.kind = KindProvisioned
		}
		l.state = q.stateAt(at)
		l.terms = s.pol.agreed(q.terms, at)
	} else {
		l.joined = s.joined(q, at)
	}
	if len(named.groups) > 0 && q.groups.n > 0 {
		var in []uint32
		for _, g := range inv.groupsOf(q, at) {
			if named.groups[g] {
				in = append(in, g)
			}
		}
		slices.Sort(in)
		for _, g := range in {
			l.groups += string(rune(g)) + ","
		}
	}
	return l, true
}

// crowds divides everybody with a record or a role, and the live links.
func crowds(sides0, sides1 *Snapshot, at moment.Moment) []*crowd {
	type key [2]likeness
	s, inv := sides0, &sides0.inv
	x0, x1 := sides0.sidesAt(at), sides1.sidesAt(at)
	n0, n1 := sides0.naming(), sides1.naming()
	found := map[key]*crowd{}
	var out []*crowd
	for i := uint32(0); i < inv.parties.n; i++ {
		if !sides0.isCounted(i, at) && !sides1.isCounted(i, at) {
			continue
		}
		l0, in0 := sides0.like(i, at, x0, &n0)
		l1, in1 := sides1.like(i, at, x1, &n1)
		if !in0 && !in1 {
			continue
		}
		k := key{l0, l1}
		c := found[k]
		if c == nil {
			c = &crowd{who: Who{Address: s.addressOf(i)}, kind: l0.kind, partner: l0.partner}
			c.changed = l0 != l1 || !samePartner(sides0, sides1, l0.partner)
			found[k], out = c, append(out, c)
		}
		c.members = append(c.members, i)
	}
	links := &crowd{kind: KindBearer, partner: none}
	for i := uint32(0); i < inv.links.n; i++ {
		if l := inv.links.at(i); l.exists && l.bearer && moment.Within(at, l.created, l.until) {
			if links.links++; links.links == 1 {
				links.who = Who{Kind: ByLinkID, ID: inv.linkIDs.text(inv.text, i)}
			}
		}
	}
	if links.links > 0 {
		out = append(out, links)
	}
	return out
}

// samePartner reports whether what two policies say of a partner decides alike.
func samePartner(a, b *Snapshot, k uint32) bool {
	if k == none || a.pol == b.pol {
		return true
	}
	if k >= uint32(len(a.pol.partners)) || k >= uint32(len(b.pol.partners)) {
		return false
	}
	x, y := &a.pol.partners[k], &b.pol.partners[k]
	return x.exists == y.exists && x.standing == y.standing && x.still == y.still && x.opened == y.opened &&
		a.pol.rows[x.rules] == b.pol.rows[y.rules] && a.pol.rest[k].endedAt == b.pol.rest[k].endedAt && a.pol.rest[k].stance == b.pol.rest[k].stance
}

// alike is resources that wide actions answer alike.
type alike struct {
	id      string // of one of them
	members []uint32
}

// wideResources divides what a kind of wide action is about.
func wideResources(a, b *Snapshot, kind catalogue.ResourceKind) (out []alike) {
	inv := &a.inv
	r0, r1 := a.reversed(), b.reversed()
	divide := func(n uint32, first, second []int, id func(uint32) string) {
		at := map[[2]int]int{}
		for i := uint32(0); i < n; i++ {
			if int(i) >= len(first) || first[i] < 0 {
				continue
			}
			k := [2]int{first[i], second[i]}
			c, ok := at[k]
			if !ok {
				c = len(out)
				at[k], out = c, append(out, alike{id: id(i)})
			}
			out[c].members = append(out[c].members, i)
		}
	}
	switch kind {
	case catalogue.OurDirectory:
		return []alike{{id: "ours", members: []uint32{0}}}
	case catalogue.Meeting:
		live := make([]int, inv.meetings.n)
		for i := range live {
			if live[i] = r0.doorOf[i]; !inv.meetings.at(uint32(i)).exists {
				live[i] = -1
			}
		}
		divide(inv.meetings.n, live, r1.doorOf, func(i uint32) string { return inv.meetingIDs.text(inv.text, i) })
	case catalogue.Space:
		for _, i := range r0.courses {
			out = append(out, alike{id: inv.spaceIDs.text(inv.text, i), members: []uint32{i}})
		}
	default:
		divide(inv.people.n, r0.alikeOf, r1.alikeOf, func(i uint32) string { return inv.personIDs.text(inv.text, i) })
	}
	return
}

// wideMove is an answer for a crowd about resources that are alike, on two sides.
type wideMove struct {
	act         catalogue.ActionID
	kind        catalogue.ResourceKind
	crowd       *crowd
	alike       *alike
	members     []uint32 // of the crowd; empty for links
	resources   []uint32 // of the resources
	left, right Verdict
	scope       bool // look-up: what is told is whether everybody is seen, or those of shared spaces
	shared      bool // of a scope: those of shared spaces
	pairs       int
}

// wide calls found for what two snapshots of one inventory answer otherwise, and
// with both for whatever either says yes to. Only actions that matters lets through
// are asked of crowds that did not change. It stops where stop says so.
func wide(
	left, right *Snapshot,
	at moment.Moment,
	matters func(catalogue.ActionID) bool,
	both bool,
	stop func() error,
	found func(*wideMove),
) error {
	inv := &left.inv
	all := crowds(left, right, at)
	resources := map[catalogue.ResourceKind][]alike{}
	contacts := left.reversed().contacts
	for _, w := range wideActions {
		about, ok := resources[w.kind]
		if !ok {
			about = wideResources(left, right, w.kind)
			resources[w.kind] = about
		}
		classOf := map[uint32]int{}
		if w.contacts {
			for k := range about {
				for _, p := range about[k].members {
					classOf[p] = k
				}
			}
		}
		for _, c := range all {
			if err := stop(); err != nil {
				return err
			}
			if !c.changed && !matters(w.act) {
				continue
			}
			for k := range about {
				a := &about[k]
				ask := func(as relation) (x, y Verdict) {
					q := Question{Subject: c.who, Action: w.act, Resource: world.Resource{Kind: w.kind, ID: a.id}, At: at, as: as}
					x, _ = left.Decide(&q)
					if y = x; left != right {
						y, _ = right.Decide(&q)
					}
					return
				}
				tell := func(x, y Verdict, members, of []uint32, pairs int, shared bool) {
					if pairs == 0 || !(x.Yes != y.Yes || x.Yes && x.Conditions != y.Conditions) && !(both && x.Yes) {
						return
					}
					found(
						&wideMove{
							act:       w.act,
							kind:      w.kind,
							crowd:     c,
							alike:     a,
							members:   members,
							resources: of,
							left:      x,
							right:     y,
							scope:     w.shares,
							shared:    shared,
							pairs:     pairs,
						},
					)
				}
				switch {
				case w.shares: // look-up counts scopes: whether all are seen, or those of shared spaces
					if k > 0 {
						continue
					}
					x, y := ask(unrelated)
					tell(x, y, c.members, nil, c.size(), false)
					x, y = ask(related)
					tell(x, y, c.members, nil, c.size(), true)
				case w.contacts:
					x, y := ask(unrelated)
					met := 0
					of := map[uint32]int{} // by person: members who are contacts
					rest := c.members[:0:0]
					v, z := ask(related)
					for i, m := range c.members {
						mine := 0
						for _, p := range contacts[m] {
							if inv.people.at(p).exists && classOf[p] == k {
								met, mine = met+1, mine+1
								of[p]++
								tell(v, z, c.members[i:i+1], []uint32{p}, 1, false)
							}
						}
						if mine < len(a.members) {
							rest = append(rest, m)
						}
					}
					about := a.members
					if met > 0 { // whom they know by themselves was told already
						about = nil
						for _, p := range a.members {
							if of[p] < c.size() {
								about = append(about, p)
							}
						}
					}
					tell(x, y, rest, about, c.size()*len(a.members)-met, false)
				default:
					x, y := ask(asItIs)
					tell(x, y, c.members, a.members, c.size()*len(a.members), false)
				}
			}
		}
	}
	return nil
}

// WideSum counts a wide action: parties, resources, and pairs of them.
type WideSum struct {
	Action    catalogue.ActionID
	Kind      catalogue.ResourceKind
	Parties   int
	Resources int // of look-up: 0, which counts parties and scopes
	Pairs     int
	Scope     string // of look-up: everybody, or those of shared spaces
}

// wideCount collects a WideSum.
type wideCount struct {
	parties   map[uint32]bool
	crowds    map[*crowd]bool
	resources map[uint32]bool
	pairs     int
}

func (n *wideCount) add(m *wideMove) {
	if n.parties == nil {
		n.parties, n.crowds, n.resources = map[uint32]bool{}, map[*crowd]bool{}, map[uint32]bool{}
	}
	n.pairs += m.pairs
	if len(m.members) == len(m.crowd.members) { // links, which have no members, too
		n.crowds[m.crowd] = true
	} else {
		for _, p := range m.members {
			n.parties[p] = true
		}
	}
	for _, r := range m.resources {
		n.resources[r] = true
	}
}

func (n *wideCount) sum(act catalogue.ActionID, kind catalogue.ResourceKind, scope string) WideSum {
	out := WideSum{Action: act, Kind: kind, Resources: len(n.resources), Pairs: n.pairs, Scope: scope}
	for c := range n.crowds {
		out.Parties += c.size()
		for _, m := range c.members {
			delete(n.parties, m)
		}
	}
	out.Parties += len(n.parties)
	return out
}

type wideKey struct {
	act   catalogue.ActionID
	kind  catalogue.ResourceKind
	scope string
}

func (m *wideMove) key() wideKey {
	k := wideKey{m.act, m.kind, ""}
	if m.scope {
		k.scope = "everybody"
		if m.shared {
			k.scope = "shared"
		}
	}
	return k
}

func wideSums(in map[wideKey]*wideCount) []WideSum {
	out := []WideSum{}
	for k, n := range in {
		out = append(out, n.sum(k.act, k.kind, k.scope))
	}
	sort.Slice(out, func(i, j int) bool {
		a, b := &out[i], &out[j]
		if a.Action != b.Action {
			return a.Action < b.Action
		}
		return a.Scope+a.Kind.String() < b.Scope+b.Kind.String()
	})
	return out
}

// Wide counts what everybody outside may do without a role: action by action the
// parties, the resources and the pairs of both (model §7).
func (s *Snapshot) Wide(at moment.Moment, stop func() error) ([]WideSum, error) {
	in := map[wideKey]*wideCount{}
	err := wide(s, s, at, func(catalogue.ActionID) bool { return true }, true, stop, func(m *wideMove) {
		k := m.key()
		if in[k] == nil {
			in[k] = &wideCount{}
		}
		in[k].add(m)
	})
	return wideSums(in), err
}

// WideCost estimates how many decisions Wide would take.
func (s *Snapshot) WideCost(at moment.Moment) int {
	people, doors := len(s.reversed().alike), len(s.reversed().doors)
	return len(crowds(s, s, at)) * (people*9 + doors*4)
}
