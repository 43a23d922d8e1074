package could

import (
	"fmt"
	"slices"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Most is how many acts a chain has at most; longer ones are told as such.
// Nobody plans for a chain of more, and each act more makes the search longer
// by a factor.
const Most = 6

// Target is what somebody outside could come to do. It is one question of the
// engine without a moment.
type Target struct {
	Who      engine.Who // an address, a typical newcomer, or a link: whoever holds one that somebody makes
	Action   catalogue.ActionID
	Resource world.Resource
}

// Chain is the shortest way to a target: acts in an order in which each can be
// made. Of several shortest ones it is one: which, depends on the order in
// which acts are listed, the same in every run.
type Chain struct {
	Now    bool  // nothing has to be done: it is a yes already
	Longer bool  // it takes more than Most acts
	Acts   []Act // none with Now, and where it takes more
}

// finder looks for chains to one target.
//
// A finder lists the acts that might have to do with the target and searches
// the sets of them. It never needs an order: more acts never take anything away
// (but for a record, see fewest), so that whoever can act does so at once,
// round by round, and a set either gets there or does not.
//
// A set is tried by really making its acts, in a copy of the world that is
// written over again and again (next): some milliseconds a set, some dozens of
// sets a chain.
type finder struct {
	base  *engine.Snapshot // in which nobody is an administrator or keeper
	p     *engine.Potential
	at    moment.Moment
	t     Target
	party addr.Address // whom the target is about: a typical newcomer is somebody in particular here
	role  catalogue.Role
	all   []Act
	known map[string]bool  // by set of acts: whether they reach the target
	own   *engine.Snapshot // a copy of base to make acts in; nil until it is needed
	runs  int

	account engine.Account // that the target is asked of; any
}

// Find finds the shortest chain to a target; nil where it could not come to be,
// as far as known. Potential answers first whether there is any way at all, by
// classes and without acts; only where it says so is a chain searched. now is
// asked of the real world, in which administrators have their roles; the chain
// of one in which they have none.
//
// It takes some hundred milliseconds in a world of a hundred thousand guests,
// most of which is Potential's, once for a snapshot.
func Find(s *engine.Snapshot, at moment.Moment, t Target) *Chain {
	p := s.Potential(at)
	f := newFinder(s.Unofficial(), p, at, t)
	if f.now(s) {
		return &Chain{Now: true}
	}
	if !p.Could(t.Who, t.Resource).Has(t.Action) {
		return nil
	}
	return f.find()
}

// newFinder makes a finder. A typical newcomer has no address that a grant
// could be given to, so an address is made up for them that nobody has:
// somebody-new, somebody-new1 and so on.
func newFinder(base *engine.Snapshot, p *engine.Potential, at moment.Moment, t Target) *finder {
	f := &finder{base: base, p: p, at: at, t: t, party: t.Who.Address, known: map[string]bool{}}
	if f.party.IsNewcomer() {
		for n := 0; ; n++ {
			a, err := addr.Parse(fmt.Sprintf("%s%s@%s", newcomerTag, map[bool]string{true: "", false: fmt.Sprint(n)}[n == 0], f.party.Domain()))
			if err != nil || base.PartyOf(a) == engine.NoParty {
				if f.party = a; err != nil {
					f.party = t.Who.Address
				}
				break
			}
		}
	}
	// With which role somebody has to be let in: the one that the action needs,
	// else the least there is.
	if f.role = engine.NeedsRole(t.Action, t.Resource.Kind); f.role == catalogue.NoRole {
		f.role = catalogue.View
	}
	return f
}

// now reports whether the target is a yes in a snapshot.
func (f *finder) now(s *engine.Snapshot) bool {
	q := engine.Question{Subject: f.t.Who, Action: f.t.Action, Resource: f.t.Resource, At: f.at, Account: f.account}
	if q.Subject.Kind == engine.ByAddress {
		q.Subject.Address = f.party
	} else if q.Subject = linkHolder; !q.Resource.Kind.IsItem() {
		// A meeting needs no link that somebody made: its address is enough.
		q.With = engine.AnyLink(f.at)
	}
	v, err := s.Decide(&q)
	return err == nil && v.Yes
}

// find tries the acts around the target, and with them those around other
// places, until some reach it. The search widens step by step, since its cost
// grows fast with the number of acts: those around the target itself; then, for
// whoever has no record, those of one other space at a time in which they might
// become known; at last those of other outsiders, and of several places
// together.
func (f *finder) find() *Chain {
	f.around()
	best := f.fewest(Most)
	here := len(f.all)
	for _, id := range f.places() { // a record, or being known, may come about in any other space
		// There is nothing shorter than one act.
		if best != nil && len(best) <= 1 {
			break
		}
		f.forget(here)
		f.elsewhereIn(id)
		// What follows is of use only if it is shorter than what is found.
		bound := Most
		if best != nil {
			bound = len(best) - 1 // only a shorter one is of use
		}
		var c []Act
		if bound == 1 {
			c = f.single(here)
		} else {
			c = f.fewest(bound)
		}
		if len(c) > 0 {
			best = c
		}
	}
	f.forget(here)
	if best == nil { // through others from outside, who have to be let in first
		f.others()
		best = f.fewest(Most)
	}
	if best == nil && f.together() { // through several places at once
		best = f.fewest(Most)
	}
	if best == nil {
		// No chain of at most Most acts: is there a longer one, or none that
		// these acts make?
		return &Chain{Longer: f.witness() != nil}
	}
	// In the order in which they can be made.
	acts, _ := f.run(best)
	return &Chain{Acts: f.counted(acts)}
}

// single finds an act from the n-th on that reaches the target alone; nil where
// there is none.
func (f *finder) single(n int) []Act {
	for k := n; k < len(f.all); k++ {
		if f.reaches([]int{k}) {
			return []Act{f.all[k]}
		}
	}
	return nil
}

// forget takes back all acts but the first n. What is known of sets of acts is
// known by their numbers, and goes with them.
func (f *finder) forget(n int) {
	if len(f.all) > n {
		f.all = f.all[:n]
		clear(f.known)
	}
}

// fewest finds the fewest acts that reach the target with a record or, because
// a record can also take something away, without. Whoever gets a record acts
// with it from then on, and no longer with the account they have at home; where
// the home account is let do more, the way without a record is the shorter one.
// So both are searched.
func (f *finder) fewest(bound int) []Act {
	best := f.least(bound)
	if f.t.Who.Kind != engine.ByAddress || !f.elsewhere() {
		return best
	}
	if best != nil {
		bound = len(best) - 1
	}
	all, known := f.all, f.known
	f.all, f.known = f.bare(), map[string]bool{}
	if c := f.least(bound); len(c) > 0 {
		best = c
	}
	f.all, f.known = all, known
	return best
}

// witness is a way to the target: acts, none of which can be left out, and the
// account that gets there.
type witness struct {
	acts    []Act
	account engine.Account
}

// witness finds some way to the target, however long; nil where it finds none.
// A cut is tried on it: one that leaves the witness standing cuts nothing off.
// It need not be the shortest, so that it is found in a few runs.
func (f *finder) witness() *witness {
	f.all = nil
	clear(f.known)
	try := func() *witness {
		for _, all := range [][]Act{f.all, f.bare()} {
			if order, ok := f.run(all); ok {
				acts := f.thin(order)
				return &witness{acts, f.accountOf(acts)}
			}
		}
		return nil
	}
	f.around()
	if w := try(); w != nil {
		return w
	}
	here := len(f.all)
	for _, id := range f.places() {
		f.forget(here)
		f.elsewhereIn(id)
		if w := try(); w != nil {
			return w
		}
	}
	f.forget(here)
	f.others()
	if w := try(); w != nil || !f.together() {
		return w
	}
	return try()
}

// together lists the acts of as few other places as reach the target together:
// somebody may have to become known in one to be let into another. It is false
// where all of them do not reach it. It is asked where no single place is
// enough.
//
// Places are left out half of them at a time, then a quarter, and so on, as
// long as the target is still reached: some dozens of trials for a thousand
// places.
func (f *finder) together() bool {
	f.all = nil
	f.around()
	here := f.all
	var left [][]Act // by place
	for _, id := range f.places() {
		f.all = nil
		f.elsewhereIn(id)
		left = append(left, f.all)
	}
	reach := func(places [][]Act) bool {
		clear(f.known)
		f.all = slices.Clone(here)
		for _, acts := range places {
			for _, a := range acts {
				if !slices.Contains(f.all[:len(here)], a) {
					f.all = append(f.all, a)
				}
			}
		}
		if _, ok := f.run(f.all); ok {
			return true
		}
		_, ok := f.run(f.bare())
		return ok
	}
	if len(left) < 2 || !reach(left) {
		return false
	}
	// What cannot be left out with others is tried with fewer, at last alone.
	for size := len(left) / 2; size > 0; size /= 2 { // many at a time, then fewer
		for i := 0; i < len(left); {
			rest := append(slices.Clone(left[:i]), left[min(i+size, len(left)):]...)
			if reach(rest) {
				left = rest
			} else {
				i += size
			}
		}
	}
	return reach(left)
}

// bare lists the acts that give the party no record.
func (f *finder) bare() (out []Act) {
	for _, a := range f.all {
		if a.Party != f.party || a.Kind != Accept && a.Kind != SignUp && a.Kind != Become && a.Kind != Invite && a.Kind != TakeBundle {
			out = append(out, a)
		}
	}
	return
}

// elsewhereIn adds the acts in another space.
func (f *finder) elsewhereIn(id string) {
	f.space(id, nil)
	if f.looksUp() && f.p.MayJoin(id) {
		f.add(Act{Kind: Join, By: person(f.t.Resource.ID), Resource: world.Resource{Kind: catalogue.Space, ID: id}})
	}
}

// thin leaves out every act without which the others still reach the target.
// From the last to the first, so that acts which were only made because they
// could be go first.
func (f *finder) thin(acts []Act) []Act {
	for i := len(acts) - 1; i >= 0; i-- {
		rest := append(slices.Clone(acts[:i]), acts[i+1:]...)
		if _, ok := f.run(rest); ok {
			acts = rest
		}
	}
	order, _ := f.run(acts)
	return order
}

// accountOf returns the account that reaches the target after acts; any for a
// link. A record is tried before a home account, as the engine does.
func (f *finder) accountOf(acts []Act) engine.Account {
	if f.t.Who.Kind != engine.ByAddress {
		return engine.AnyAccount
	}
	for _, a := range []engine.Account{engine.RecordAccount, engine.HomeAccount} {
		f.account = a
		if _, ok := f.run(acts); ok {
			f.account = engine.AnyAccount
			return a
		}
	}
	f.account = engine.AnyAccount
	return engine.AnyAccount
}

// lookUp depends on shared spaces, so that the person's own spaces matter
// beside the target.
var lookUp = action("directory.look_up")

// looksUp reports whether the target is to look somebody up.
func (f *finder) looksUp() bool { return f.t.Action == lookUp }

// places lists spaces elsewhere that may matter. Spaces that are alike in all
// that counts give the same chains, so one of each class is enough. Of the
// spaces of a person who is looked up twelve are tried, and those where bundles
// lead.
func (f *finder) places() (ids []string) {
	if f.looksUp() {
		ids = append(ids, f.base.SpacesOf(f.t.Resource.ID)...)
		ids = ids[:min(12, len(ids))]
	}
	if f.looksUp() || f.elsewhere() {
		ids = append(ids, f.p.SpaceClasses()...)
		for _, b := range f.p.BundlesOf(f.t.Who) { // and where bundles lead that give something in a space
			if g := b.Gives[0].Resource; g.Kind.IsItem() && !slices.Contains(ids, f.base.SpaceOf(g.ID)) {
				ids = append(ids, f.base.SpaceOf(g.ID))
			}
		}
	}
	return ids
}

// elsewhere reports whether another place may give a shorter chain: whoever has
// no record may come to one there.
func (f *finder) elsewhere() bool {
	if f.t.Who.Kind != engine.ByAddress {
		return false
	}
	_, record := stateOf(f.base, f.party, f.at)
	return !record
}

// run makes the acts in rounds, each as soon as it can be made, and reports
// whether all of them could, and the target was reached. A round makes all acts
// that can be made in the world as the round found it. The order that it
// returns can be replayed one by one, because an act that was possible stays
// so. It ends where nothing more can be made: there are at most as many rounds
// as acts.
func (f *finder) run(acts []Act) (order []Act, reached bool) {
	s := f.base
	left := acts
	for len(left) > 0 {
		e := f.next(s)
		var wait []Act
		done := 0
		for i := range left {
			if left[i].May(s, f.at) {
				left[i].apply(s, e, f.at)
				order = append(order, left[i])
				done++
			} else {
				wait = append(wait, left[i])
			}
		}
		if done == 0 {
			break
		}
		s, left = e.Done(), wait
	}
	return order, f.now(s)
}

// next returns an Editor of what comes after a snapshot in which some acts were
// made. What came of acts is nobody else's, and is gone on from without copying
// it once more; and from the second run on all of them are made over a copy of
// the finder's own, since nothing of a run is kept.
func (f *finder) next(s *engine.Snapshot) *engine.Editor {
	if s != f.base {
		return s.Edit()
	}
	if f.runs++; f.runs == 1 {
		return s.Aside()
	}
	if f.own == nil {
		f.own = s.Apart()
	}
	return f.own.Scratch()
}

// reaches reports whether a set of acts, by their numbers, reaches the target.
// Answers are kept: the same small sets come up again and again.
func (f *finder) reaches(set []int) bool {
	slices.Sort(set)
	key := fmt.Sprint(set)
	is, known := f.known[key]
	if !known {
		acts := make([]Act, len(set))
		for i, k := range set {
			acts[i] = f.all[k]
		}
		_, is = f.run(acts)
		f.known[key] = is
	}
	return is
}

// least finds the fewest acts that reach the target, at most bound; nil where
// there are none. More acts never take anything away. So whatever set of acts
// does not reach it, any solution has an act outside the largest set around it
// that does not either: the fewest acts that hit all such outsides found so far
// are tried, until they reach the target.
//
// This is the search for a smallest hitting set (R. Reiter's diagnosis from
// first principles, 1987, with conflicts found by growing): typically some
// dozens of runs in place of all sets of six.
//
// Example: of the acts {open the space, invite, accept, share} the set {invite}
// fails and can be grown by share and accept without getting there. Whatever
// works must therefore hold *open the space*, and that is what the next try
// begins with.
func (f *finder) least(bound int) []Act {
	all := make([]int, len(f.all))
	for i := range all {
		all[i] = i
	}
	// Where even all of them together do not get there, no part of them does.
	if !f.reaches(all) {
		return nil
	}
	var outsides [][]int
	for {
		try := hitting(outsides, bound)
		if try == nil {
			return nil
		}
		if f.reaches(slices.Clone(try)) {
			acts := make([]Act, len(try))
			for i, k := range try {
				acts[i] = f.all[k]
			}
			return acts
		}
		around := slices.Clone(try)
		var outside []int
		// Grow the set that fails as far as it keeps failing; what is left out
		// is the outside.
		for _, k := range all {
			if slices.Contains(try, k) {
				continue
			}
			if with := append(slices.Clone(around), k); f.reaches(with) {
				outside = append(outside, k)
			} else {
				around = with
			}
		}
		outsides = append(outsides, outside)
	}
}

// hitting returns a smallest set with something of each list in it, of at most
// bound; nil where there is none. Sizes are tried from nothing upwards, so that
// the first that is found is a smallest one.
func hitting(lists [][]int, bound int) []int {
	for size := 0; size <= bound; size++ {
		if out := hit(lists, nil, size); out != nil {
			return out
		}
	}
	return nil
}

// hit takes the first list that nothing in set is of, and tries each of its
// entries with what is left to choose; nil where that is too little. Depth and
// breadth are small: bound is at most six.
func hit(lists [][]int, set []int, left int) []int {
	for _, l := range lists {
		if slices.ContainsFunc(l, func(k int) bool { return slices.Contains(set, k) }) {
			continue
		}
		if left == 0 {
			return nil
		}
		for _, k := range l {
			if out := hit(lists, append(slices.Clone(set), k), left-1); out != nil {
				return out
			}
		}
		return nil
	}
	if set == nil {
		set = []int{}
	}
	return set
}

// counted says of each act how many could make it as things are before it. It
// is what makes a chain weigh: a step that three hundred people could take is
// more likely than one that a single owner could.
func (f *finder) counted(acts []Act) []Act {
	s := f.base
	for i := range acts {
		a := &acts[i]
		a.Can = 1
		switch {
		case a.By.Kind != engine.ByPerson:
		case a.Kind == Contact:
		case a.Kind == TakeBundle:
			a.Can = fewestApprovers(s, a.Bundle, f.at)
		case a.Kind == Invite || a.Kind == Share || a.Kind == MakeLink || a.Kind == Join:
			a.Can = 0
			for _, id := range s.Here(f.at) {
				b := *a
				if b.By = person(id); b.May(s, f.at) {
					a.Can++
				}
			}
		default:
			a.Can = len(s.OwnersHere(a.Resource, f.at))
		}
		e := s.Aside()
		a.apply(s, e, f.at)
		s = e.Done()
	}
	return acts
}
