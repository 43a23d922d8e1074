package finding

import (
	"hash/maphash"
	"maps"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Kept is what was noticed of a snapshot, taken apart by what it is about, so that the next look costs what changed since: a party by
// itself, those of one name, a partner, and everything else.
// On a large world a full look takes seconds, a change concerns one record. What each finding rests
// on is known by its group, so that only the groups that a change touched are looked at again.
type Kept struct {
	s          *engine.Snapshot
	at         moment.Moment
	statements []world.Statement

	parties map[uint32][]Finding
	known   []usedBy // by party
	names   []named  // by hash of the name
	later   []named  // whose name became another since
	twins   map[uint64][]Finding

	counts   map[uint32]*[numFacts]int // by partner: how many of its people each fact is known of
	elseUses map[string]*uses          // by partner: what is known apart from its people
	partners map[uint32][]Finding
	low      map[catalogue.RuleID]catalogue.Value
	high     map[catalogue.RuleID]catalogue.Value
	loose    []Finding
	rest     []Finding

	all []Finding // in their order
}

// numFacts is how many facts of a party tell that openings are used: its record, grants, reports and links.
const numFacts = 4

// usedBy is what is known of a party, as bits, and of which partner it is; of none with no bits.
// It takes eight bytes a party.
type usedBy struct {
	partner uint32
	facts   uint8
}

// factsOf puts what is known into bits; the order is that of counts.
func factsOf(u uses) (facts uint8) {
	for i, is := range [numFacts]bool{u.records, u.grants, u.reports, u.links} {
		if is {
			facts |= 1 << i
		}
	}
	return
}

// named is a party by the hash of its name.
// Sorted by hash they put records of one name next to each other without keeping any name.
type named struct {
	hash  uint64
	party uint32
}

// Hashes are of this process alone.
var nameSeed = maphash.MakeSeed()

// share is how many parties are looked at in one piece.
const share = 2048

// Look lists everything that is noticed of a snapshot at a moment. Statements of partners are no part of it.
// Parties are dealt to all processors in pieces; each piece is told as a world of its own.
func Look(s *engine.Snapshot, statements []world.Statement, at moment.Moment) *Kept {
	k := &Kept{s: s, at: at, statements: statements, parties: map[uint32][]Finding{}, twins: map[uint64][]Finding{},
		counts: map[uint32]*[numFacts]int{}}
	n := s.Parties()
	k.known = make([]usedBy, n)
	var next atomic.Uint32
	var all sync.WaitGroup
	var lock sync.Mutex
	for range max(1, runtime.GOMAXPROCS(0)) {
		all.Go(func() {
			own := map[uint32][]Finding{}
			var parties []uint32
			for from := next.Add(share) - share; from < n; from = next.Add(share) - share {
				parties = parties[:0]
				for i := from; i < min(from+share, n); i++ {
					parties = append(parties, i)
				}
				k.look(parties, own)
			}
			lock.Lock()
			maps.Copy(k.parties, own)
			lock.Unlock()
		})
	}
	all.Wait()
	for i := range n {
		k.count(k.known[i], 1)
		if h := k.nameOf(i); h != 0 {
			k.names = append(k.names, named{h, i})
		}
	}
	slices.SortFunc(k.names, byName)
	for i := 0; i < len(k.names); {
		j := i + 1
		for j < len(k.names) && k.names[j].hash == k.names[i].hash {
			j++
		}
		if j > i+1 {
			k.namesakes(k.names[i].hash)
		}
		i = j
	}
	k.elsewhere()
	k.anyhow()
	for _, list := range k.parties {
		k.all = append(k.all, list...)
	}
	for _, list := range k.twins {
		k.all = append(k.all, list...)
	}
	for _, list := range k.partners {
		k.all = append(k.all, list...)
	}
	k.all = append(append(k.all, k.rest...), k.loose...)
	Sort(k.all)
	return k
}

// byName orders by hash, then by party.
func byName(a, b named) int {
	switch {
	case a.hash < b.hash:
		return -1
	case a.hash > b.hash:
		return 1
	}
	return int(a.party) - int(b.party)
}

// nameOf is the hash of a party's name, as far as two that look like one person share it; 0 for none.
func (k *Kept) nameOf(party uint32) uint64 {
	if name := plainName(k.s.NameAt(party)); name != "" {
		return maphash.String(nameSeed, name) | 1
	}
	return 0
}

// look looks at parties, each by itself, and puts what is noticed into a map.
// Findings about one party begin their About with its address.
func (k *Kept) look(parties []uint32, into map[uint32][]Finding) {
	f := &finder{w: k.s.TellParties(parties), s: k.s, at: k.at}
	f.parties()
	at := make(map[string]uint32, len(parties))
	for _, i := range parties {
		at[k.s.AddressAt(i).String()] = i
		delete(into, i)
	}
	for _, x := range f.out {
		i := at[x.About[0]]
		into[i] = append(into[i], x)
	}
	for _, i := range parties {
		k.known[i] = usedBy{}
	}
	f.uses(func(a addr.Address, x uses) { k.know(at[a.String()], x) })
}

// know notes what is known of a party, where it counts for a partner.
// Barred people count for no partner.
func (k *Kept) know(i uint32, x uses) {
	u := &k.known[i]
	if u.facts == 0 {
		p, ok := k.s.PartnerNumber(i)
		if !ok || k.s.Match(k.s.AddressAt(i)).Bar != nil {
			return
		}
		u.partner = p
	}
	u.facts |= factsOf(x)
}

// count counts what is known of a party for its partner, or takes it away.
// With counts in place of marks a fact that goes away can be taken back.
func (k *Kept) count(u usedBy, by int) {
	if u.facts == 0 {
		return
	}
	c := k.counts[u.partner]
	if c == nil {
		c = new([numFacts]int)
		k.counts[u.partner] = c
	}
	for i := range c {
		if u.facts>>i&1 != 0 {
			c[i] += by
		}
	}
}

// namesakes looks at the records of one name.
// A hash is not the name: two names of one hash are told apart when the records are told.
func (k *Kept) namesakes(hash uint64) {
	delete(k.twins, hash)
	var parties []uint32
	take := func(x named) {
		if x.hash == hash && k.nameOf(x.party) == hash && !slices.Contains(parties, x.party) {
			parties = append(parties, x.party)
		}
	}
	i, _ := slices.BinarySearchFunc(k.names, named{hash: hash}, byName)
	for ; i < len(k.names) && k.names[i].hash == hash; i++ {
		take(k.names[i])
	}
	for _, x := range k.later {
		take(x)
	}
	if len(parties) < 2 {
		return
	}
	f := &finder{w: k.s.TellParties(parties), s: k.s, at: k.at}
	f.namesakes()
	if len(f.out) > 0 {
		k.twins[hash] = f.out
	}
}

// elsewhere looks at everything that is not about one party.
// It costs a pass over spaces, items and links, and is done where any of these changed.
func (k *Kept) elsewhere() {
	w := k.s.TellRest()
	w.Statements = k.statements
	f := &finder{w: w, s: k.s, at: k.at}
	f.elsewhere()
	k.rest = f.out
	k.low, k.high = map[catalogue.RuleID]catalogue.Value{}, map[catalogue.RuleID]catalogue.Value{}
	f.levels(k.low, k.high)
	parties := *w
	parties.Links = nil // they count for whom they name
	k.elseUses = (&finder{w: &parties, s: k.s, at: k.at}).used()
	k.partners = map[uint32][]Finding{}
	for i := range w.Partners {
		k.partner(&w.Partners[i])
	}
}

// anyhow looks at what may be otherwise because of any party.
func (k *Kept) anyhow() {
	f := &finder{w: k.s.TellForwarders(), s: k.s, at: k.at}
	f.loose()
	k.loose = f.out
}

// partner looks at one partner.
func (k *Kept) partner(p *world.Partner) {
	number, ok := k.s.NumberOfPartner(p.ID)
	if !ok {
		return
	}
	used := &uses{}
	if u := k.elseUses[p.ID]; u != nil {
		*used = *u
	}
	if c := k.counts[number]; c != nil {
		used.add(uses{records: c[0] > 0, grants: c[1] > 0, reports: c[2] > 0, links: c[3] > 0})
	}
	f := &finder{w: &world.World{Policy: k.s.Policy().Policy, Inventory: world.Inventory{Statements: k.statements}}, s: k.s, at: k.at}
	numbers := f.concerned(p)
	f.partner(p, used, numbers)
	f.openings(p, numbers, k.low, k.high)
	delete(k.partners, number)
	if len(f.out) > 0 {
		k.partners[number] = f.out
	}
}

// Touched is what changed between two snapshots, as far as what is noticed rests on it.
// It is made of the journal's entries since the snapshot before.
type Touched struct {
	Parties []string // addresses whose record, grants or holdings are others
	Rest    bool     // something in spaces, meetings, links, people of ours or the like is
	Spaces  []string // of the spaces that are otherwise, or have items that are
	Links   []string // that are others
	Items   []string // that are others, or elsewhere
}

// Next goes on to the snapshot that came after (see GoesOn), of the same policy, in the same day. What did not change since is not looked
// at again.
// Parties of what changed (a space, a link, an item) are looked at again, before and after it.
func (k *Kept) Next(s *engine.Snapshot, statements []world.Statement, at moment.Moment, t Touched) {
	was := k.s
	parties := map[uint32]bool{}
	for _, text := range t.Parties {
		if a, err := addr.Parse(text); err == nil {
			if i, ok := s.PartyNumber(a); ok {
				parties[i] = true
			}
		}
	}
	for _, item := range t.Items {
		t.Spaces = append(t.Spaces, s.SpaceOf(item), was.SpaceOf(item))
	}
	for _, space := range t.Spaces {
		s.PartiesIn(space, func(i uint32) { parties[i] = true })
		was.PartiesIn(space, func(i uint32) { parties[i] = true })
	}
	for _, id := range t.Links {
		for _, x := range []*engine.Snapshot{s, was} {
			x.PartiesOf(id, func(i uint32) { parties[i] = true })
		}
	}
	list := slices.Sorted(maps.Keys(parties))
	gone, came := map[string]bool{}, []Finding(nil)
	drop := func(list []Finding) {
		for i := range list {
			gone[list[i].ID] = true
		}
	}
	before := make([]uint64, len(list)) // hashes of names
	for n, i := range list {
		if i < was.Parties() {
			before[n] = k.nameOf(i)
		}
	}
	k.s, k.at, k.statements = s, at, statements
	if more := int(s.Parties()) - len(k.known); more > 0 {
		k.known = append(k.known, make([]usedBy, more)...)
	}
	names, partners := map[uint64]bool{}, map[uint32]bool{}
	for n, i := range list {
		drop(k.parties[i])
		k.count(k.known[i], -1)
		if k.known[i].facts != 0 {
			partners[k.known[i].partner] = true
		}
		if p, ok := s.PartnerNumber(i); ok {
			partners[p] = true
		}
		now := k.nameOf(i)
		names[before[n]], names[now] = true, true
		if now != before[n] && now != 0 {
			k.later = append(k.later, named{now, i})
		}
	}
	for part := range slices.Chunk(list, share) {
		k.look(part, k.parties)
	}
	for _, i := range list {
		k.count(k.known[i], 1)
		came = append(came, k.parties[i]...)
	}
	delete(names, 0)
	for h := range names {
		drop(k.twins[h])
		k.namesakes(h)
		came = append(came, k.twins[h]...)
	}
	drop(k.loose)
	k.anyhow()
	came = append(came, k.loose...)
	if t.Rest {
		drop(k.rest)
		for _, list := range k.partners {
			drop(list)
		}
		k.elsewhere()
		came = append(came, k.rest...)
		for _, list := range k.partners {
			came = append(came, list...)
		}
	} else {
		all := s.Policy().Partners
		for i := range all {
			if number, ok := s.NumberOfPartner(all[i].ID); ok && partners[number] {
				drop(k.partners[number])
				k.partner(&all[i])
				came = append(came, k.partners[number]...)
			}
		}
	}
	if len(k.later) > 1000+len(k.names)/16 {
		k.again()
	}
	k.all = merged(k.all, gone, came)
}

// again puts the names in their order anew.
// again does it once too many became others to search them one by one.
func (k *Kept) again() {
	k.names, k.later = nil, nil
	for i := range k.s.Parties() {
		if h := k.nameOf(i); h != 0 {
			k.names = append(k.names, named{h, i})
		}
	}
	slices.SortFunc(k.names, byName)
}

// merged is a list in its order without what is gone and with what came.
// It costs one pass; sorting all anew would cost more than looking.
func merged(was []Finding, gone map[string]bool, came []Finding) []Finding {
	Sort(came)
	out := make([]Finding, 0, len(was)+len(came))
	for i := range was {
		if gone[was[i].ID] {
			continue
		}
		for len(came) > 0 && compare(&came[0], &was[i]) < 0 {
			out, came = append(out, came[0]), came[1:]
		}
		out = append(out, was[i])
	}
	return append(out, came...)
}

// GoesOn reports whether Next can go on to a snapshot.
func (k *Kept) GoesOn(s *engine.Snapshot) bool { return s.GoesOn(k.s) }

// All lists what was noticed, in the order of kinds. It stays what it is while Next goes on; callers must not change it.
func (k *Kept) All() []Finding { return k.all }
