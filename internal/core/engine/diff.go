package engine

import (
	"cmp"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Two answers side by side: one party on two days, two parties on one day, one
// party under two policies; and the board, which counts one party against all
// services.

// Asked names one side of a difference: who, when, and the snapshot that is
// asked. The two sides of a difference may differ in any of the three: another
// day, another party, another policy.
type Asked struct {
	Snapshot *Snapshot
	Who      Who
	At       moment.Moment
}

// Differing is one thing that is answered otherwise on two sides. Causes are of
// the deciding account.
type Differing struct {
	Action       catalogue.ActionID
	Resource     world.Resource // id * where Count of them differ alike
	Name         string
	Count        int
	Left, Right  Verdict
	Was, Becomes Cause // what decides on each side
	LeftMissing  bool  // there is no such resource on that side
	RightMissing bool
}

// Change says what the difference is: gained, lost, or otherwise (a yes with
// other conditions), read from left to right.
func (d *Differing) Change() string {
	switch {
	case d.Right.Yes && !d.Left.Yes:
		return "gained"
	case d.Left.Yes && !d.Right.Yes:
		return "lost"
	}
	return "otherwise"
}

// Difference calls found for everything that two sides may not do alike: one
// party at two moments, or two parties at one. Granted actions are tried on
// what either was ever given. What is alike is counted together where a reach
// does so too. An error is a *WrongUse, or that of found.
//
// What only one side knows (a space that was made since) is a no on the other.
// It costs two reaches, and an explanation for each line that differs.
func Difference(left, right Asked, found func(*Differing) error) error {
	type key struct {
		action   catalogue.ActionID
		resource world.Resource
	}
	type pair struct {
		name string
	}
	all := map[key]*pair{}
	var order []key
	for _, side := range []Asked{left, right} {
		// Each side lists what may be asked of it; the union is asked on both.
		if _, err := side.Snapshot.each(side.Who, side.At, nil, false, func(q *Question, name string) error {
			if q.Resource.ID == "*" {
				return nil
			}
			k := key{q.Action, q.Resource}
			if all[k] == nil {
				all[k] = &pair{name: name}
				order = append(order, k)
			}
			return nil
		}); err != nil {
			return err
		}
	}
	// A question that makes no sense on a side is told from a no by its third
	// result.
	ask := func(side *Asked, k key) (Verdict, Cause, bool) {
		q := Question{Subject: side.Who, Action: k.action, Resource: k.resource, At: side.At}
		v, err := side.Snapshot.Decide(&q)
		return v, Cause{}, err == nil
	}
	why := func(side *Asked, k key) Cause {
		q := Question{Subject: side.Who, Action: k.action, Resource: k.resource, At: side.At}
		if x, err := side.Snapshot.Explain(&q); err == nil {
			if c := x.DecidingCause(); c != nil {
				return *c
			}
		}
		return Cause{}
	}
	var lines []Differing
	for _, k := range order {
		l, _, okL := ask(&left, k)
		r, _, okR := ask(&right, k)
		l.Yes, r.Yes = l.Yes && okL, r.Yes && okR
		if l.Yes == r.Yes && (!l.Yes || l.Conditions == r.Conditions) {
			continue
		}
		d := Differing{
			Action:       k.action,
			Resource:     k.resource,
			Name:         all[k].name,
			Count:        1,
			Left:         l,
			Right:        r,
			LeftMissing:  !okL,
			RightMissing: !okR,
		}
		if okL {
			d.Was = why(&left, k)
		}
		if okR {
			d.Becomes = why(&right, k)
		}
		// People and meetings that differ alike become one line with a count.
		if q := (Question{Action: k.action, Resource: k.resource}); together(&q) {
			alike := false
			for i := len(lines) - 1; i >= 0 && lines[i].Action == k.action; i-- {
				o := &lines[i]
				if o.Left.Yes == l.Yes && o.Right.Yes == r.Yes && o.Left.Conditions == l.Conditions && o.Right.Conditions == r.Conditions &&
					sameCause(&o.Was, &d.Was) &&
					sameCause(&o.Becomes, &d.Becomes) {
					o.Count++
					o.Resource.ID, o.Name = "*", ""
					alike = true
					break
				}
			}
			if alike {
				continue
			}
		}
		lines = append(lines, d)
	}
	for i := range lines {
		if err := found(&lines[i]); err != nil {
			return err
		}
	}
	return nil
}

// sameCause reports whether two causes would be told in the same words.
func sameCause(a, b *Cause) bool {
	x := ReachLine{Cause: *a}
	y := ReachLine{Cause: *b}
	return x.alike(&y)
}

// Group lists who is meant by a word for several: partner:ID, group:ID,
// kind:KIND, *@domain, everybody, or one address or link. known are those with
// a record, a role or a contact, in the order of their addresses; typical
// newcomers come last. An error is a *WrongUse that says which words there are.
//
// These are the words that the board, comparisons and exports take; an
// expectation names its parties by fields of their own.
func (s *Snapshot) Group(word string, at moment.Moment) (known []Who, newcomers []Newcomer, err error) {
	kind, id, _ := strings.Cut(word, ":")
	inv := &s.inv
	// pick takes those who are counted as known, people of ours left out where
	// keep says so.
	pick := func(keep func(i uint32, a addr.Address) bool) {
		for i := uint32(0); i < inv.parties.n; i++ {
			if s.isCounted(i, at) {
				if a := s.addressOf(i); keep(i, a) {
					known = append(known, Who{Address: a})
				}
			}
		}
		slices.SortFunc(known, func(a, b Who) int { return cmp.Compare(a.Address.String(), b.Address.String()) })
	}
	switch kind {
	case "everybody":
		pick(func(i uint32, _ addr.Address) bool { return *inv.ours.at(i) == none })
		for i := uint32(0); i < inv.links.n; i++ {
			if l := inv.links.at(i); l.exists && l.bearer && moment.Within(at, l.created, l.until) {
				known = append(known, Who{Kind: ByLinkID, ID: inv.linkIDs.text(inv.text, i)})
			}
		}
		return known, s.NewcomersAt(at), nil
	case "partner":
		if !s.Has("partner", id) {
			return nil, nil, &WrongUse{"who", word, "there is no such partner"}
		}
		in := s.peopleOfPartner(id)
		pick(func(i uint32, _ addr.Address) bool { return in[i] })
		for _, n := range s.NewcomersAt(at) {
			if n.Partner == id {
				newcomers = append(newcomers, n)
			}
		}
	case "group":
		g := inv.groupIDs.find(inv.text, id)
		if g == none || !inv.groups.at(g).exists {
			return nil, nil, &WrongUse{"who", word, "there is no such group"}
		}
		pick(func(i uint32, _ addr.Address) bool {
			l := inv.parties.at(i).groups
			for _, x := range inv.lists[l.off : l.off+l.n] {
				if x == g {
					return true
				}
			}
			return false
		})
	case "kind":
		for k := KindGuest; k <= KindBearer; k++ {
			if k.String() != id {
				continue
			}
			if k == KindBearer {
				all, _, err := s.Group("everybody", at)
				for _, w := range all {
					if w.Kind == ByLinkID {
						known = append(known, w)
					}
				}
				return known, nil, err
			}
			pick(func(i uint32, a addr.Address) bool { return s.KindAt(a, at) == k })
			for _, n := range s.NewcomersAt(at) {
				if s.KindAt(n.Who.Address, at) == k {
					newcomers = append(newcomers, n)
				}
			}
			return known, newcomers, nil
		}
		return nil, nil, &WrongUse{"who", word, "kinds are guest, provisioned, federated, personal and bearer"}
	default:
		who, err := ParseWho(word)
		if err != nil {
			return nil, nil, err
		}
		return []Who{who}, nil, nil
	}
	return known, newcomers, nil
}

// OnBoard is one party against all services. It is one line of the board: who
// can do how much, where, and until when.
type OnBoard struct {
	Who      Who
	Name     string
	Kind     Kind
	Partner  string
	Newcomer bool
	Granted  [catalogue.NumServices]int // (action, resource) pairs that need a role
	Wide     [catalogue.NumServices]int // the same of actions that need none
	Until    moment.Moment              // when the first of what is granted ends; Never where nothing does
}

// Board counts what a party can do, service by service (model §7): granted and
// wide kept apart. People of ours whom no exception names and who are no
// contacts of the party are asked about once and counted.
//
// Numbers are of pairs of action and resource. Most people of ours are alike to
// a party, and so are most meetings; each sort is asked once and multiplied.
func (s *Snapshot) Board(who Who, at moment.Moment) (out OnBoard, err error) {
	inv := &s.inv
	probe := Question{Subject: who, Resource: world.Resource{Kind: catalogue.OurDirectory, ID: "ours"}, At: at}
	var a asker
	if err = a.resolve(s, &probe); err != nil {
		return
	}
	out = OnBoard{Who: who, Name: s.NameOfSubject(who), Kind: a.kind, Until: moment.Never}
	if who.Kind == ByAddress {
		if m := s.Match(who.Address); m.Partner != nil {
			out.Partner = m.Partner.ID
		}
	}
	spaces, items := a.everGiven()
	inv.heldByMany(a.party.partner, a.domainOf(&a.party), func(_ partyRef, given []grant) {
		for i := range given {
			if g := &given[i]; g.live(at, &inv.beside) {
				out.Until = min(out.Until, g.end(&inv.beside))
			}
		}
	})
	if p := a.party.known; p != nil {
		first := func(given []grant) {
			for i := range given {
				if g := &given[i]; g.live(at, &inv.beside) {
					out.Until = min(out.Until, g.end(&inv.beside))
				}
			}
		}
		first(inv.given(p.grants))
		for _, g := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
			first(inv.given(inv.groups.at(g).grants))
		}
	}
	for _, act := range catalogue.Actions() {
		if act.Asks[catalogue.Ours] != nil && act.Asks[catalogue.Record] == nil || act.Address {
			continue
		}
		service := act.Service()
		q := Question{Subject: who, Action: act.ID, At: at}
		yes := func(kind catalogue.ResourceKind, id string) (bool, error) {
			q.Resource = world.Resource{Kind: kind, ID: id}
			v, err := s.Decide(&q)
			return v.Yes, err
		}
		count := func(kind catalogue.ResourceKind, n int) {
			if roleOnly(act.Rows(kind)) {
				out.Granted[service] += n
			} else {
				out.Wide[service] += n
			}
		}
		for _, kind := range act.On {
			if kind == catalogue.Person || kind == catalogue.Mailbox || kind == catalogue.Calendar {
				n, err := s.countPeople(&a, spaces, looksUp(&act), func(id string) (bool, error) { return yes(kind, id) })
				if err != nil {
					return out, err
				}
				count(kind, n)
				continue
			}
			if kind == catalogue.Meeting && act.Spread == catalogue.Wide {
				n, err := s.countMeetings(spaces, func(id string) (bool, error) { return yes(kind, id) })
				if err != nil {
					return out, err
				}
				count(kind, n)
				continue
			}
			// What needs a role is counted by masks at the end, over what the
			// party holds.
			if masks.granted.Has(act.ID) && roleOnly(act.Rows(kind)) && who.Kind == ByAddress && a.party.index != none {
				continue // counted below, all at once
			}
			one := act
			one.On = []catalogue.ResourceKind{kind}
			if err := s.resources(&one, spaces, items, func(kind catalogue.ResourceKind, id, _ string) error {
				ok, err := yes(kind, id)
				if ok {
					count(kind, 1)
				}
				return err
			}); err != nil {
				return out, err
			}
		}
	}
	if i := a.party.index; i != none && i < inv.parties.n {
		tally := s.Tally(at)
		if p, outside := s.sideOf(tally.x, i, at); outside {
			var sum Sum
			tally.walk(
				i,
				&p,
				func(_ uint32, in *contents, yes uint64) { sum.countAll(in, yes) },
				func(_ thing, yes uint64) { sum.count(yes, 1) },
			)
			for service, n := range sum.By() {
				out.Granted[service] += n
			}
		}
	}
	return out, nil
}

// looksUp reports whether it matters to an action which spaces a person of ours
// shares with the party. There is one such action; it is found by what it needs
// and not by its name.
func looksUp(act *catalogue.Action) bool {
	for c := range act.Asks {
		if a := act.Asks[c]; a != nil {
			for i := range a.Needs {
				if a.Needs[i].Kind == catalogue.LookUp {
					return true
				}
			}
		}
	}
	return false
}

// countPeople counts the people of ours for whom yes holds, asking once for all
// whom nothing relates to the party and the same exceptions name. With each,
// sharing one of the spaces relates too. An error is yes's.
func (s *Snapshot) countPeople(a *asker, spaces map[uint32]bool, each bool, yes func(id string) (bool, error)) (n int, err error) {
	inv, rev := &s.inv, s.reversed()
	// Contacts, and those with a space in common, may be answered otherwise
	// than those like them.
	alone := map[uint32]bool{}
	if a.party.index != none {
		for _, p := range rev.contacts[a.party.index] {
			alone[p] = true
		}
	}
	if each {
		for sp := range spaces {
			x := inv.spaces.at(sp)
			for _, l := range [2]list{x.owners, x.members} {
				for _, m := range inv.lists[l.off : l.off+l.n] {
					if m&itemBit == 0 {
						alone[m] = true
					} else if g := m &^ itemBit; g < uint32(len(rev.inGroup)) {
						for _, p := range rev.inGroup[g] {
							alone[p] = true
						}
					}
				}
			}
		}
	}
	one := func(p uint32) (bool, error) { return yes(inv.personIDs.text(inv.text, p)) }
	asked := map[int]int{} // by class: people asked about alone
	for p := range alone {
		k := rev.alikeOf[p]
		if k < 0 {
			continue
		}
		asked[k]++
		ok, err := one(p)
		if err != nil {
			return n, err
		}
		if ok {
			n++
		}
	}
	// Of the rest of each class one is asked, and counts for all.
	for k, class := range rev.alike {
		rest := len(class) - asked[k]
		if rest == 0 {
			continue
		}
		for _, p := range class {
			if alone[p] {
				continue
			}
			ok, err := one(p)
			if err != nil {
				return n, err
			}
			if ok {
				n += rest
			}
			break
		}
	}
	return n, nil
}

// countMeetings counts the meetings for which yes holds, asking once for all
// whose doors are alike and in whose spaces the party holds nothing. It goes
// like countPeople.
func (s *Snapshot) countMeetings(spaces map[uint32]bool, yes func(id string) (bool, error)) (n int, err error) {
	inv := &s.inv
	one := func(m uint32) (bool, error) { return yes(inv.meetingIDs.text(inv.text, m)) }
	rev := s.reversed()
	idx := s.indexed()
	held := make(map[int]int) // by door: meetings asked about alone
	for sp := range spaces {
		for _, m := range idx.meetings.of(sp) {
			held[rev.doorOf[m]]++
			ok, err := one(m)
			if err != nil {
				return n, err
			}
			if ok {
				n++
			}
		}
	}
	for k, alike := range rev.doors {
		rest := len(alike) - held[k]
		if rest == 0 {
			continue
		}
		for _, m := range alike {
			if sp := inv.meetings.at(m).space; sp != none && spaces[sp] {
				continue
			}
			ok, err := one(m)
			if err != nil {
				return n, err
			}
			if ok {
				n += rest
			}
			break
		}
	}
	return n, nil
}

// PartiesBy counts those with a record or a role by their kind, and by the name
// of their partner, the empty name where they have none.
func (s *Snapshot) PartiesBy(at moment.Moment) (kinds, partners map[string]int) {
	inv := &s.inv
	kinds, partners = map[string]int{}, map[string]int{}
	for i := uint32(0); i < inv.parties.n; i++ {
		p := inv.parties.at(i)
		if !s.isCounted(i, at) {
			continue
		}
		kinds[s.KindAt(s.addressOf(i), at).String()]++
		name := ""
		if p.domain != none && s.pol.domains[p.domain].kind == partnerDomain {
			name = s.pol.rest[s.pol.domains[p.domain].partner].source.Name
		}
		partners[name]++
	}
	return
}
