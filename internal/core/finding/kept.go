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

// Findings that are kept. A full look goes through everything and takes seconds
// in a large world; most changes concern one record. So what was noticed is
// taken apart by what it is about: a party, the parties of one name, a partner,
// a link, a place, what rests on the values of all places together. What
// changed since tells which parts to look at again (next.go).
//
// Each finding is made by the same method of finder whether everything is
// looked at or one record: a part of the world is told as a world of its own
// (Snapshot.TellParties and its like), so that there is one definition of each
// kind. Random worlds, changed at random, hold what is kept to what a full look
// finds (TestKept).

// Kept is what was noticed of a snapshot, taken apart by what it is about, so
// that the next look costs what changed since: a party by itself, those of one
// name, a partner, and everything else.
//
// What each finding rests on is known by its group, so that only the groups
// that a change touched are looked at again. It belongs to one goroutine; what
// All returned stays readable while Next goes on.
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
	numbers  map[uint32][]Number // by partner: how many of its people there are, and what they hold
	low      map[catalogue.RuleID]catalogue.Value
	high     map[catalogue.RuleID]catalogue.Value

	links   map[string][]Finding // by what they begin with: link:id
	places  map[string][]Finding // by the place: space:id, file:id, meeting:id and so on
	members map[string][]Finding // of partners and domains that were let into a space: by space:id
	bundles []Finding
	policy  []Finding // that two exceptions disagree, and whom they name
	above   []Finding // of the organisation, partners and exceptions: see finder.above
	loose   []Finding
	untold  []Finding
	tally   *tally
	told    map[string]bool

	holders *engine.Holders            // as they were at first
	holding map[uint32]map[uint32]bool // by space: who was given something since, as far as it was looked at

	all pieces
}

// numFacts is how many facts of a party tell that openings are used: its
// record, grants, reports and links.
const numFacts = 4

// usedBy is what is known of a party, as bits, and of which partner it is; of
// none with no bits. It takes eight bytes a party.
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

// named is a party by the hash of its name. Sorted by hash they put records of
// one name next to each other without keeping any name.
type named struct {
	hash  uint64
	party uint32
}

// Hashes are of this process alone.
var nameSeed = maphash.MakeSeed()

// share is how many parties are looked at in one piece.
const share = 2048

// Look lists everything that is noticed of a snapshot at a moment. Statements
// of partners are no part of it.
//
// Parties are dealt to all processors in pieces; each piece is told as a world
// of its own. It takes some four seconds with a hundred thousand guests.
func Look(s *engine.Snapshot, statements []world.Statement, at moment.Moment) *Kept {
	k := &Kept{s: s, at: at, statements: statements, parties: map[uint32][]Finding{}, twins: map[uint64][]Finding{},
		counts: map[uint32]*[numFacts]int{}, numbers: map[uint32][]Number{}, holders: s.Holders(), holding: map[uint32]map[uint32]bool{}}
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
	var list []Finding
	for _, x := range k.parties {
		list = append(list, x...)
	}
	for _, x := range k.twins {
		list = append(list, x...)
	}
	k.eachElse(func(x []Finding) { list = append(list, x...) })
	Sort(list)
	k.all = piecesOf(list)
	return k
}

// eachElse calls fn for everything that is not about one party or two of one
// name.
func (k *Kept) eachElse(fn func([]Finding)) {
	for _, list := range k.partners {
		fn(list)
	}
	for _, by := range []map[string][]Finding{k.links, k.places, k.members} {
		for _, list := range by {
			fn(list)
		}
	}
	for _, list := range [][]Finding{k.bundles, k.policy, k.above, k.loose, k.untold} {
		fn(list)
	}
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

// nameOf is the hash of a party's name, as far as two that look like one person
// share it; 0 for none.
func (k *Kept) nameOf(party uint32) uint64 { return nameIn(k.s, party) }

// nameIn is nameOf in a snapshot. The lowest bit is set, so that no name has
// the hash 0.
func nameIn(s *engine.Snapshot, party uint32) uint64 {
	if name := plainName(s.NameAt(party)); name != "" {
		return maphash.String(nameSeed, name) | 1
	}
	return 0
}

// look looks at parties, each by itself, and puts what is noticed into a map.
// Findings about one party begin their About with its address.
func (k *Kept) look(parties []uint32, into map[uint32][]Finding) {
	f := &finder{w: k.s.TellParties(parties), s: k.s, at: k.at}
	f.parties(parties)
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

// know notes what is known of a party, where it counts for a partner. Barred
// people count for no partner, and so use none of its openings.
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

// count counts what is known of a party for its partner, or takes it away. With
// counts in place of marks a fact that goes away can be taken back.
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

// namesakes looks at the records of one name. A hash is not the name: two names
// of one hash are told apart when the records are told.
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

// finder is one that looks at a part of the world, with what is known of all
// places.
func (k *Kept) finder(w *world.World) *finder {
	return &finder{w: w, s: k.s, at: k.at, tally: k.tally, told: k.told}
}

// elsewhere looks at everything that is not about one party. It costs a pass
// over spaces, items and links, a third of a second with a hundred thousand
// guests, and is done where something changed that is not told apart: policy,
// people of ours, lists of domains.
func (k *Kept) elsewhere() {
	w := k.s.TellRest()
	w.Statements = k.statements
	f := k.finder(w)
	f.counted()
	k.tally = f.tally
	k.links, k.places, k.members, k.partners = map[string][]Finding{}, map[string][]Finding{}, map[string][]Finding{}, map[uint32][]Finding{}
	f.kept()
	f.exceptions()
	k.policy, f.out = f.out, nil
	f.above()
	k.values(f)
	k.lookAt(w)
	k.bundled()
	k.use(w)
	for i := range w.Partners {
		k.partner(&w.Partners[i])
	}
}

// values keeps what depends on the values of all places together, as f found it
// (see finder.above).
func (k *Kept) values(f *finder) {
	k.above, k.told = f.out, f.told
	k.low, k.high = map[catalogue.RuleID]catalogue.Value{}, map[catalogue.RuleID]catalogue.Value{}
	f.levels(k.low, k.high)
}

// lookAt looks at the places, links and memberships of a world.
func (k *Kept) lookAt(w *world.World) {
	f := k.finder(w)
	f.links()
	for _, x := range f.out {
		k.links[x.About[0]] = append(k.links[x.About[0]], x)
	}
	f.out = nil
	f.memberships()
	for _, x := range f.out {
		k.members[x.About[1]] = append(k.members[x.About[1]], x)
	}
	for _, p := range f.placesBelow() {
		f.out = nil
		f.place(&p)
		if len(f.out) > 0 {
			k.places[p.about] = f.out
		}
	}
}

// bundled looks at bundles.
func (k *Kept) bundled() {
	f := k.finder(&world.World{Policy: k.s.Policy().Policy})
	f.bundles()
	k.bundles = f.out
}

// use finds how openings are used apart from a partner's own people. w is
// TellRest of the snapshot.
func (k *Kept) use(w *world.World) {
	parties := *w
	parties.Links = nil // they count for whom they name
	k.elseUses = (&finder{w: &parties, s: k.s, at: k.at}).used()
}

// anyhow looks at what rests on people of ours, and on which values are set
// together anywhere.
func (k *Kept) anyhow() {
	f := &finder{w: k.s.TellForwarders(), s: k.s, at: k.at}
	f.forwarders()
	f.withoutEffect()
	k.loose = f.out
	k.toldOf()
}

// toldOf looks whether anybody tells when guests are seen.
func (k *Kept) toldOf() {
	f := &finder{w: &world.World{Policy: k.s.Policy().Policy}, s: k.s, at: k.at}
	f.untold()
	k.untold = f.out
}

// partner looks at one partner. How many of its people there are and what they
// hold is counted once and kept until one of them changes: a change of policy
// alters neither.
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
	numbers := k.numbers[number]
	if numbers == nil {
		numbers = f.concerned(p)
		k.numbers[number] = numbers
	}
	f.partner(p, used, numbers)
	f.openings(p, numbers, k.low, k.high)
	delete(k.partners, number)
	if len(f.out) > 0 {
		k.partners[number] = f.out
	}
}

// again puts the names in their order anew. It is done once too many became
// others to search them one by one.
func (k *Kept) again() {
	k.names, k.later = nil, nil
	for i := range k.s.Parties() {
		if h := k.nameOf(i); h != 0 {
			k.names = append(k.names, named{h, i})
		}
	}
	slices.SortFunc(k.names, byName)
}

// GoesOn reports whether Next can go on to a snapshot: it came of the one that
// was looked at, so that everything has the same number, and policy says the
// same of domains, bundles, settings and of all by which records end. Where it
// cannot, Look begins anew.
func (k *Kept) GoesOn(s *engine.Snapshot) bool { return s.GoesOn(k.s) && likePolicy(k.s, s) }

// All lists what was noticed, in the order of kinds, in pieces one behind the
// other. They stay what they are while Next goes on; callers must not change
// them.
func (k *Kept) All() [][]Finding { return k.all }
