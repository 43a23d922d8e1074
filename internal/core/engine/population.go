package engine

import (
	"math/bits"
	"runtime"
	"sync"
	"sync/atomic"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Everybody in numbers, and the lines behind the numbers.
//
// Population counts, GrantedLines lists what was counted, page by page, and
// Candidates is the quick look that an audience begins with. All three go
// through parties by masks (tally.go) and ask single questions of links alone.

// Population is what everybody outside may do by a role or a link, in numbers
// (model §7): everybody with a record or a role, and every live link. It is the
// page *everybody in numbers*; what needs no role is counted by Snapshot.Wide.
type Population struct {
	All      Sum
	Kinds    map[string]*Sum
	Partners map[string]*Sum // by id; the empty id holds those of no partner, links included
	Spaces   map[string]int  // by id: (party, action, resource) in the space
}

// Population counts the granted actions of everybody outside at a moment. Where
// stop is closed it ends early with nil. It uses all processors: a second for a
// hundred thousand guests with ten grants each on one, half of it on two.
func (s *Snapshot) Population(at moment.Moment, stop <-chan struct{}) *Population {
	return s.populationBy(at, stop, runtime.GOMAXPROCS(0))
}

// PopulationAside is Population by one processor, for who does not wait for it.
func (s *Snapshot) PopulationAside(at moment.Moment, stop <-chan struct{}) *Population {
	return s.populationBy(at, stop, 1)
}

// populationBy counts with as many workers. The parties are dealt in strides;
// each worker has sums of its own, so that nothing is locked.
func (s *Snapshot) populationBy(at moment.Moment, stop <-chan struct{}, workers int) *Population {
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
				// Stopping is asked once a stride, some milliseconds apart.
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
	// Kinds and partners of which there is nobody are left out.
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

// linkActions returns what whoever holds a bearer link may do with its item. A
// link that is over, or whose item is gone, may nothing.
func (s *Snapshot) linkActions(i uint32, at moment.Moment) (set Actions, it *item) {
	inv := &s.inv
	l := inv.links.at(i)
	if !l.exists || !l.bearer || !moment.Within(at, l.created, l.until) {
		return 0, nil
	}
	if it = inv.items.at(l.item); !it.exists {
		return 0, nil
	}
	q := Question{
		Subject:  Who{Kind: ByLinkID, ID: inv.linkIDs.text(inv.text, i)},
		Resource: world.Resource{Kind: it.kind, ID: inv.itemIDs.text(inv.text, l.item)},
		At:       at,
	}
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
// Each link counts as one party: whoever holds it.
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

// Candidates asks everybody who was ever given something in the space of r, a
// space, an item or a meeting, what they may do with it by a role, and calls
// found for those who may do anything, by their number (see
// Snapshot.AddressAt). It returns how many were asked. An error is a *WrongUse.
//
// It is the quick look before an audience decides for certain. The action is
// made up, since all of them are asked.
func (t *Tally) Candidates(r world.Resource, found func(i uint32, g Granting)) (int, error) {
	var a asker
	q := Question{Resource: r, At: t.at}
	a.s, a.q, a.at, a.space, a.near, a.target = t.s, &q, t.at, none, none, none
	a.act = &catalogue.Action{Name: "this", On: []catalogue.ResourceKind{r.Kind}}
	a.resourceHash = t.s.inv.hashOf(r.ID)
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
	many := inv.manyIn(sp)
	among := s.idx.parties.of(sp)
	// The index lists who was given something by name.
	if len(many) > 0 { // all that are known may be of them
		among = make([]uint32, inv.parties.n)
		for i := range among {
			among[i] = uint32(i)
		}
	}
	for _, i := range among {
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
				case !(g.resource == sp || g.resource == onItem) || !g.live(t.at, &inv.beside):
				case g.resource == sp:
					roles[1] = max(roles[1], g.role())
				default:
					roles[0] = max(roles[0], g.role())
				}
			}
		}
		look(inv.grantsOf(q, t.at))
		for _, g := range inv.groupsOf(q, t.at) {
			look(inv.given(inv.groups.at(g).grants))
		}
		as := catalogue.NoRole
		for _, m := range many {
			inv.heldByMany(p.partner, q.domain, func(of partyRef, given []grant) {
				for k := range given {
					if g := &given[k]; of == m && g.resource == sp && g.live(t.at, &inv.beside) {
						as = max(as, g.role())
					}
				}
			})
		}
		if roles == [2]catalogue.Role{} && (as == catalogue.NoRole || !s.isCounted(i, t.at)) {
			continue
		}
		at := s.place(sp, &p, i, t.at)
		if yes := p.allowed(&at, t.x.met(&p, &at, item), set, private, roles[0], roles[1], as); yes != 0 {
			first, home := actionsOf(yes)
			found(i, Granting{th, first, home})
		}
	}
	return len(among), nil
}

// AddressAt returns the address with a number.
func (s *Snapshot) AddressAt(i uint32) addr.Address { return s.addressOf(i) }

// GrantedLine is what a party may do with a resource by a role, or whoever
// holds a link.
type GrantedLine struct {
	Who      Who
	Kind     Kind
	Partner  string // id; empty where there is none
	Resource world.Resource
	Actions  Actions
}

// LinesFrom says where a list of granted lines goes on: at a party, or past the
// last at a link, after so many of its lines. It is the whole state of a list:
// a page that comes back with it goes on where it was, whatever has changed
// since.
type LinesFrom struct {
	Party uint32
	Lines int
	Links bool
	End   bool
}

// GrantedLines calls found for at most limit lines of what Population counts,
// from a place on: those of parties that keep lets through, in a space where
// one is named, with any of some actions where there are any. It returns the
// place to go on from. stop is asked now and then; its error ends the list.
//
// A line is one party and one resource with all that may be done there.
func (s *Snapshot) GrantedLines(
	at moment.Moment,
	from LinesFrom,
	limit int,
	keep func(kind Kind, partner string) bool,
	space string,
	only Actions,
	stop func() error,
	found func(*GrantedLine),
) (LinesFrom, error) {
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
		if !s.holdsAnything(q) || len(inv.many) > 0 && !s.isCounted(i, at) {
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
		found(
			&GrantedLine{
				Who{Kind: ByLinkID, ID: inv.linkIDs.text(inv.text, i)},
				KindBearer,
				"",
				world.Resource{Kind: it.kind, ID: inv.itemIDs.text(inv.text, inv.links.at(i).item)},
				set,
			},
		)
	}
	return LinesFrom{End: true}, nil
}
