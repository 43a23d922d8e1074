package finding

import (
	"fmt"
	"maps"
	"reflect"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// What is looked at again from one snapshot to the next.

// Touched is what changed between two snapshots, as far as what is noticed
// rests on it. It is made of the journal's entries since the snapshot before.
// Naming too much costs a look, naming too little leaves a finding as it was:
// the service's tests change each kind of record and compare with a full look.
type Touched struct {
	Parties    []string // addresses whose record, grants or holdings are others
	Spaces     []string // of the spaces that are otherwise, or have items that are
	Items      []string // that are others, or elsewhere
	Meetings   []string
	Links      []string
	Statements bool // a partner says something else
	Rest       bool // people of ours, whom they know, what they forward or a list of domains is otherwise
}

// Next goes on to the snapshot that came after (see GoesOn), in the same day.
// What did not change since is not looked at again; after a change of policy
// that is everything but most parties.
//
// Parties of what changed (a space, a link, an item) are looked at again,
// before and after it: whoever is let out of a space is concerned as much as
// whoever is let in. With a million guests it takes some ten milliseconds after
// a change of a record, and some seventy after one of a space.
func (k *Kept) Next(s *engine.Snapshot, statements []world.Statement, at moment.Moment, t Touched) {
	was, before := k.s, k.at
	for _, item := range t.Items {
		t.Spaces = append(t.Spaces, s.SpaceOf(item), was.SpaceOf(item))
	}
	slices.Sort(t.Spaces)
	t.Spaces = slices.Compact(t.Spaces)
	n := &change{k: k, gone: map[string]bool{}, dealt: map[uint32]bool{}}
	own, others := k.concerned(s, &t)
	k.s, k.at, k.statements = s, at, statements
	policy := s.Policy() != was.Policy()
	if policy {
		n.published(was, own, others)
	}
	n.lookAtParties(was, own, others)
	for number := range n.dealt {
		delete(k.numbers, number)
	}
	passed := slices.ContainsFunc(s.Policy().Exceptions, func(x world.Exception) bool {
		return x.From > before && x.From <= at || x.Until > before && x.Until <= at
	})
	if t.Rest || policy || passed || !n.lookElsewhere(was, &t) {
		k.eachElse(n.drop)
		k.elsewhere()
		k.anyhow()
		k.eachElse(n.add)
	} else {
		for i := range own {
			n.effects = n.effects || s.InNamedGroup(i) || i < was.Parties() && was.InNamedGroup(i)
		}
		if n.effects {
			n.drop(k.loose)
			n.replace(&k.untold, k.anyhow)
			n.add(k.loose)
		} else {
			n.replace(&k.untold, k.toldOf)
		}
		all := s.Policy().Partners
		for i := range all {
			if number, ok := s.NumberOfPartner(all[i].ID); ok && (n.every || t.Statements || n.dealt[number]) {
				n.drop(k.partners[number])
				k.partner(&all[i])
				n.add(k.partners[number])
			}
		}
	}
	if len(k.later) > 1000+len(k.names)/16 {
		k.again()
	}
	k.all = k.all.with(otherwise(n.left, n.came))
}

// concerned lists the parties of whom something is otherwise or whom a link
// names, and others who hold something in a space that is otherwise, before and
// after it.
func (k *Kept) concerned(s *engine.Snapshot, t *Touched) (own, others map[uint32]bool) {
	own, others = map[uint32]bool{}, map[uint32]bool{}
	for _, text := range t.Parties {
		if a, err := addr.Parse(text); err == nil {
			if i, ok := s.PartyNumber(a); ok {
				own[i] = true
			}
		}
	}
	for _, id := range t.Links {
		for _, x := range []*engine.Snapshot{s, k.s} {
			x.PartiesOf(id, func(i uint32) { own[i] = true })
		}
	}
	for _, id := range t.Spaces {
		if space, ok := s.SpaceNumber(id); ok {
			for _, i := range k.holders.In(space) {
				others[i] = true
			}
			for i := range k.holding[space] {
				others[i] = true
			}
		}
	}
	return
}

// change is what comes and goes with one step, and what of partners and
// exceptions is to be looked at again for it.
type change struct {
	k          *Kept
	gone       map[string]bool // ids of left
	left, came []Finding
	dealt      map[uint32]bool // partners of whose people something is otherwise
	every      bool            // all partners are looked at again
	effects    bool            // exceptions may have an effect, or none, that they had not
}

// drop takes findings out of what is kept, each once.
func (n *change) drop(list []Finding) {
	for i := range list {
		if !n.gone[list[i].ID] {
			n.gone[list[i].ID], n.left = true, append(n.left, list[i])
		}
	}
}

// add puts findings into what is kept.
func (n *change) add(list []Finding) { n.came = append(n.came, list...) }

// replace looks at a list again.
func (n *change) replace(list *[]Finding, look func()) {
	n.drop(*list)
	look()
	n.add(*list)
}

// lookAtParties looks at parties again, at their namesakes, and notes their
// partners: of others where openings are used otherwise. own are those whose
// record or grants changed, others those who hold something where something
// changed.
func (n *change) lookAtParties(was *engine.Snapshot, own, others map[uint32]bool) {
	k, s := n.k, n.k.s
	list := append(slices.Collect(maps.Keys(own)), slices.Collect(maps.Keys(others))...)
	slices.Sort(list)
	list = slices.Compact(list)
	hashes, facts := make([]uint64, len(list)), make([]usedBy, len(list)) // before
	for x, i := range list {
		if i < was.Parties() {
			hashes[x] = nameIn(was, i)
		}
	}
	if more := int(s.Parties()) - len(k.known); more > 0 {
		k.known = append(k.known, make([]usedBy, more)...)
	}
	names := map[uint64]bool{}
	for x, i := range list {
		n.drop(k.parties[i])
		k.count(k.known[i], -1)
		facts[x] = k.known[i]
		now := k.nameOf(i)
		names[hashes[x]], names[now] = true, true
		if now != hashes[x] && now != 0 {
			k.later = append(k.later, named{now, i})
		}
		s.EachSpaceOf(i, func(space uint32) {
			if k.holding[space] == nil {
				k.holding[space] = map[uint32]bool{}
			}
			k.holding[space][i] = true
		})
	}
	for part := range slices.Chunk(list, share) {
		k.look(part, k.parties)
	}
	for x, i := range list {
		k.count(k.known[i], 1)
		n.add(k.parties[i])
		if !own[i] && k.known[i] == facts[x] {
			continue
		}
		for _, u := range []usedBy{facts[x], k.known[i]} {
			if u.facts != 0 {
				n.dealt[u.partner] = true
			}
		}
		if p, ok := s.PartnerNumber(i); ok {
			n.dealt[p] = true
		}
	}
	delete(names, 0)
	for h := range names {
		n.drop(k.twins[h])
		k.namesakes(h)
		n.add(k.twins[h])
	}
}

// published looks again at the parties of whom a change of policy may say
// otherwise: adds them to those that are looked at as a whole, or looks at the
// findings alone that ask rules which changed. There are two kinds of those:
// reports that need a licence, and private addresses that reach private items.
func (n *change) published(was *engine.Snapshot, own, others map[uint32]bool) {
	k := n.k
	before, after := was.Policy().Partners, k.s.Policy().Partners
	for i := range after {
		if !reflect.DeepEqual(before[i], after[i]) {
			k.s.EachOfPartner(after[i].ID, func(party uint32) { own[party] = true })
		}
	}
	changed := engine.ChangedRules(was, k.s)
	if !slices.Contains(changed[:], true) {
		return
	}
	asked := changed[ruleLicence] // by what tells that a report cannot be seen
	for _, a := range []catalogue.ActionID{actView, actEnter} {
		// Of somebody with two accounts the nearer refusal is told, which any
		// rule may decide.
		for r := range changed {
			asked = asked || changed[r] && a.Get().TwoAccounts() && slices.Contains(catalogue.AskedBy(catalogue.RuleID(r)), a)
		}
	}
	var rest, private []uint32
	for i := range k.s.Parties() {
		if own[i] || others[i] {
			continue
		}
		if asked {
			rest = append(rest, i)
		}
		if k.s.PrivateParty(i) {
			private = append(private, i)
		}
	}
	n.again(rest, "report_without_licence", (*finder).reports)
	n.again(private, "private_reaches_private", func(f *finder, parties []uint32) {
		f.w = k.s.TellParties(parties)
		f.privates()
	})
}

// again looks for findings of one kind about parties, on all processors. Where
// a party is told the same as before nothing of it is touched: mostly that is
// everybody.
func (n *change) again(parties []uint32, kind string, look func(*finder, []uint32)) {
	k := n.k
	parts := slices.Collect(slices.Chunk(parties, share))
	found := make([][]difference, len(parts))
	var next atomic.Int32
	var all sync.WaitGroup
	for range min(len(parts), runtime.GOMAXPROCS(0)) {
		all.Go(func() {
			for i := int(next.Add(1)) - 1; i < len(parts); i = int(next.Add(1)) - 1 {
				f := k.finder(nil)
				look(f, parts[i])
				found[i] = k.toldOtherwise(parts[i], kind, f.out)
			}
		})
	}
	all.Wait()
	for _, x := range slices.Concat(found...) {
		n.drop(x.was)
		n.add(x.is)
		k.parties[x.party] = append(slices.DeleteFunc(slices.Clone(k.parties[x.party]), func(y Finding) bool { return y.Kind == kind }), x.is...)
	}
}

// difference is what a party was told of one kind, and what it is told now.
type difference struct {
	party   uint32
	was, is []Finding
}

// toldOtherwise lists those of some parties to whom what was found of a kind is
// something else than what they are told so far.
func (k *Kept) toldOtherwise(parties []uint32, kind string, found []Finding) (out []difference) {
	by := map[string][]Finding{}
	for i := range found {
		by[found[i].About[0]] = append(by[found[i].About[0]], found[i])
	}
	for _, i := range parties {
		x := difference{party: i}
		for _, y := range k.parties[i] {
			if y.Kind == kind {
				x.was = append(x.was, y)
			}
		}
		if len(by) > 0 {
			x.is = by[k.s.AddressAt(i).String()]
		}
		if !slices.EqualFunc(x.was, x.is, func(a, b Finding) bool { return a.same(&b) }) {
			out = append(out, x)
		}
	}
	return
}

// likePolicy reports whether two policies say the same of whose an address is,
// of bundles, settings and of the dates of records: all that what is noticed of
// a party rests on, but for what rules let it do. Where they do not, nearly
// everybody's findings may be others, and a full look is no slower.
func likePolicy(was, is *engine.Snapshot) bool {
	a, b := was.Policy(), is.Policy()
	if a == b {
		return true
	}
	if !reflect.DeepEqual([]any{a.Organisation, a.Settings, a.Barred, a.Personal, a.Bundles},
		[]any{b.Organisation, b.Settings, b.Barred, b.Personal, b.Bundles}) {
		return false
	}
	if !slices.EqualFunc(a.Partners, b.Partners, func(x, y world.Partner) bool {
		return x.ID == y.ID && x.Name == y.Name && reflect.DeepEqual(x.Domains, y.Domains)
	}) {
		return false
	}
	for r, changed := range engine.ChangedRules(was, is) {
		if changed && strings.HasPrefix(catalogue.RuleID(r).Get().Name, "guests.") {
			return false
		}
	}
	return true
}

// lookElsewhere looks again at places, links and memberships that changed, and
// at what rests on them; false where all has to be looked at.
//
// What rests on all places together is asked of counts (tally): a place that
// says something new is added, what it said before is taken away, and only
// where a value comes to be said for the first time, or is said no more, is it
// asked again.
func (n *change) lookElsewhere(was *engine.Snapshot, t *Touched) bool {
	if len(t.Spaces)+len(t.Meetings)+len(t.Links) == 0 {
		return true
	}
	k := n.k
	before, after := was.TellPlaces(t.Spaces, t.Meetings, t.Links), k.s.TellPlaces(t.Spaces, t.Meetings, t.Links)
	if usedOtherwise(before, after) {
		return false
	}
	gone, came := k.finder(before).placesBelow(), k.finder(after).placesBelow()
	more := newTally()
	more.note(gone, -1)
	more.within(before, -1)
	more.note(came, 1)
	more.within(after, 1)
	values, pairs := k.tally.add(more)
	if values {
		f := k.finder(&world.World{Policy: k.s.Policy().Policy})
		f.above()
		if !maps.Equal(f.told, k.told) {
			return false
		}
		low, high := k.low, k.high
		n.replace(&k.above, func() { k.values(f) })
		n.every = !maps.Equal(low, k.low) || !maps.Equal(high, k.high)
	}
	n.effects = pairs
	for _, list := range [][]place{gone, came} {
		for i := range list {
			n.forget(k.places, list[i].about)
		}
	}
	for _, w := range []*world.World{before, after} {
		for i := range w.Links {
			n.forget(k.links, "link:"+w.Links[i].ID)
		}
		for i := range w.Spaces {
			n.forget(k.members, "space:"+w.Spaces[i].ID)
		}
	}
	k.lookAt(after)
	for i := range came {
		n.add(k.places[came[i].about])
	}
	for i := range after.Links {
		n.add(k.links["link:"+after.Links[i].ID])
	}
	for i := range after.Spaces {
		n.add(k.members["space:"+after.Spaces[i].ID])
	}
	if len(k.s.Policy().Bundles) > 0 {
		n.replace(&k.bundles, k.bundled)
	}
	return true
}

// forget drops what is kept by a name.
func (n *change) forget(from map[string][]Finding, name string) {
	n.drop(from[name])
	delete(from, name)
}

// usedOtherwise reports whether two worlds of the same places show otherwise
// how openings are used: by whom a meeting lets in, or by what partners and
// domains hold in spaces of another kind. Such changes are rare; then all is
// looked at.
func usedOtherwise(before, after *world.World) bool {
	doors := func(w *world.World) map[string]string {
		out := map[string]string{}
		for i := range w.Meetings {
			if d := w.Meetings[i].SignInDomains; len(d) > 0 {
				out[w.Meetings[i].ID] = fmt.Sprint(d)
			}
		}
		return out
	}
	held := func(w *world.World) map[string]world.SpaceKind {
		out, kind := map[string]world.SpaceKind{}, map[string]world.SpaceKind{}
		for i := range w.Spaces {
			kind[w.Spaces[i].ID] = w.Spaces[i].Kind
		}
		for i := range w.Grants {
			out[w.Grants[i].Resource.ID] = kind[w.Grants[i].Resource.ID]
		}
		return out
	}
	return !maps.Equal(doors(before), doors(after)) || !maps.Equal(held(before), held(after))
}
