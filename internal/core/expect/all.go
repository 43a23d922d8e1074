package expect

import (
	"cmp"
	"errors"
	"math/bits"
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

// Many expectations at once.
//
// Those about one resource, address or domain cost an audience or a reach each,
// and are judged one by one. All others would each go through everybody. They
// go together: everybody is counted once for all of them, action by action, and
// each yes is handed to the expectations that it concerns (dealer). What is
// alike among them (the same parties and actions) is counted once (alike).
//
// Counterexamples are not collected while counting, since that needs names; the
// broken ones are looked through again afterwards, and only until each has its
// hundred (examplesOf).

// wide reports whether an expectation is about everything, of more than one
// address: such are judged together, going through everybody once for all of
// them.
//
// Those about one resource, address or domain cost little by themselves and are
// judged one by one.
func (x *Statement) wide() bool {
	of := &x.Scope.Party.Of
	return x.Scope.Resource == nil && of.Address.IsZero() && of.Domain == (addr.Domain{})
}

// Ahead says how far expectations are judged. Judging the days ahead tells an
// owner before something breaks, and costs several counts.
type Ahead bool

// Now judges the present moment alone; NextDays those of the coming days, too,
// on which an answer may be another one.
const (
	Now      Ahead = false
	NextDays Ahead = true
)

// Judge judges expectations, and calls found for each as it is done, with its
// place among them. The order in which they are found is not that of the list:
// narrow ones come first. An error is stop's, which may be nil for none. found
// is called by one goroutine.
func Judge(s *engine.Snapshot, all []*Statement, now moment.Moment, ahead Ahead, stop func() error, found func(i int, j Judged)) error {
	if stop == nil {
		stop = never
	}
	// What could come to be is only asked where the expectation holds as things
	// are, since it is broken already otherwise.
	tell := found
	var held []heldNow
	found = func(i int, j Judged) {
		if j.State == Held && all[i].couldMatter(now) {
			held = append(held, heldNow{i, j})
			return
		}
		tell(i, j)
	}
	var together []int
	for i, x := range all {
		if x.Scope.Actions|x.Scope.Outward == 0 { // kept before it was refused
			found(i, Judged{ID: x.ID, State: Unknown, At: now, Why: "There is no action " + x.Action + "."})
			continue
		}
		if x.wide() {
			together = append(together, i)
			continue
		}
		j, err := x.judge(s, x.moments(s, now, ahead), stop)
		if err != nil {
			return err
		}
		found(i, j)
	}
	if err := sweep(s, all, together, now, ahead, stop, found); err != nil {
		return err
	}
	return judgeCould(s, all, held, now, stop, tell)
}

// moments are those of a narrow expectation, which are found for it alone.
func (x *Statement) moments(s *engine.Snapshot, now moment.Moment, ahead Ahead) []moment.Moment {
	if ahead == Now && x.Expect.Until <= now {
		return []moment.Moment{now}
	}
	return x.Moments(s, now)
}

// on are the moments at which a wide expectation is judged, where anything
// turns on some days. One that says "only until" is judged at its end in any
// case.
func (x *Statement) on(now moment.Moment, ahead Ahead, days []moment.Moment) []moment.Moment {
	out := append([]moment.Moment{now}, days...)
	if ahead == Now {
		out = out[:1]
	}
	if x.Expect.Sort != world.OnlyUntil || x.Expect.Until <= now {
		return out
	}
	out = slices.DeleteFunc(append(out, x.Expect.Until), func(m moment.Moment) bool { return m < x.Expect.Until })
	slices.Sort(out)
	return slices.Compact(out)
}

// errEnough ends the search for counterexamples.
var errEnough = errors.New("there are enough")

// examplesOf finds the first counterexamples of wide expectations that are
// broken at a moment, thing by thing, until each has enough: those about the
// same together, and as many of these at once as there are processors. What it
// returns is in the order of the expectations.
//
// Counting goes through everybody without names; names are looked for here, and
// only until each has a hundred.
func examplesOf(s *engine.Snapshot, of []*Statement, divided *engine.Divided, at moment.Moment, stop func() error) ([][]Counter, error) {
	groups, each := together(s, of, at)
	err := atOnce(len(groups), stop, func(k int, stop func() error) error {
		g := groups[k]
		scope := g.of[0].Scope
		scope.Divided = divided
		deal := dealers(s, []*alike{g}, at)[0]
		err := s.EachYes(&scope, at, stop, func(y *engine.Yes) error {
			deal.yes(y)
			if g.of = slices.DeleteFunc(g.of, (*counting).enough); len(g.of) == 0 {
				return errEnough
			}
			return nil
		})
		if errors.Is(err, errEnough) {
			return nil
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	out := make([][]Counter, len(of))
	for k, c := range each {
		if c.Expect.Sort == world.AtMost {
			told := map[string]bool{}
			for _, e := range c.counted {
				if !told[e.Who] && len(c.out.Examples) < First {
					told[e.Who] = true
					c.out.Examples = append(c.out.Examples, e)
				}
			}
		}
		out[k] = c.out.Examples[:min(First, len(c.out.Examples))]
	}
	return out, nil
}

// atOnce does n things, as many at once as there are processors, and ends with
// the first error. Each is handed a stop that asks the one given, one at a
// time, and that fails once another of them did.
//
// Progress and cancelling are asked by stop, which need not be safe for several
// goroutines.
func atOnce(n int, stop func() error, do func(k int, stop func() error) error) error {
	var mu sync.Mutex
	var failed error
	shared := func() error {
		mu.Lock()
		defer mu.Unlock()
		if failed == nil {
			failed = stop()
		}
		return failed
	}
	var next atomic.Int64
	var group sync.WaitGroup
	for range min(n, runtime.GOMAXPROCS(0)) {
		group.Go(func() {
			for k := int(next.Add(1)) - 1; k < n; k = int(next.Add(1)) - 1 {
				if err := do(k, shared); err != nil {
					mu.Lock()
					if failed == nil {
						failed = err
					}
					mu.Unlock()
					return
				}
			}
		})
	}
	group.Wait()
	return failed
}

// counted goes through a scope for expectations that are about parts of it, and
// returns what each of them found. The actions are dealt to as many parts as
// there are processors, which are gone through at once.
//
// Actions are dealt and not parties, because the engine goes through parties
// class by class for each action anyway, so that the parts share nothing.
func counted(s *engine.Snapshot, of []*Statement, scope *engine.Scope, at moment.Moment, stop func() error) ([]*counting, error) {
	type part struct {
		groups []*alike
		each   []*counting
	}
	parts := make([]part, max(1, min(runtime.GOMAXPROCS(0), len(of))))
	err := atOnce(len(parts), stop, func(k int, stop func() error) error {
		p := &parts[k]
		p.groups, p.each = together(s, of, at)
		for _, c := range p.each {
			c.examples = false
		}
		mine := *scope
		mine.Actions, mine.Outward = everySo(scope.Actions, k, len(parts)), everySo(scope.Outward, k, len(parts))
		deal := dealers(s, p.groups, at)
		return s.EachYes(&mine, at, stop, func(y *engine.Yes) error {
			for _, d := range deal {
				d.yes(y)
			}
			return nil
		})
	})
	if err != nil {
		return nil, err
	}
	for _, p := range parts[1:] {
		for k, g := range p.groups {
			parts[0].groups[k].tally.merge(g.tally)
		}
		for k, c := range p.each {
			parts[0].each[k].merge(c)
		}
	}
	return parts[0].each, nil
}

// everySo is every so many-th of some actions. Neighbours in the catalogue cost
// about the same; dealing them one by one spreads the work.
func everySo(all engine.Actions, k, parts int) (out engine.Actions) {
	n := 0
	for _, a := range catalogue.Actions() {
		if all.Has(a.ID) {
			if n%parts == k {
				out |= 1 << a.ID
			}
			n++
		}
	}
	return
}

// enough reports whether no more counterexamples are looked for.
func (c *counting) enough() bool { return len(c.out.Examples) >= First || len(c.counted) >= 4*First }

// together puts expectations in groups of those that are about the same parties
// and actions, in the order in which they come. A hundred expectations are
// mostly about a dozen scopes.
func together(s *engine.Snapshot, of []*Statement, at moment.Moment) (groups []*alike, each []*counting) {
	group := map[engine.Scope]*alike{}
	for _, x := range of {
		g := group[x.Scope]
		if g == nil {
			g = &alike{everybody: x.Scope.Party.Everybody(), in: s.SetOf(x.Scope.Party, at), tally: newTally()}
			group[x.Scope] = g
			groups = append(groups, g)
		}
		c := x.counting(s, at)
		c.tally = g.tally
		g.of = append(g.of, c)
		each = append(each, c)
	}
	return
}

// judge judges at moments, in their order, up to the first at which it is
// broken. An error is stop's.
func (x *Statement) judge(s *engine.Snapshot, moments []moment.Moment, stop func() error) (out Judged, err error) {
	for i, m := range moments {
		c := x.counting(s, m)
		if err := s.EachYes(&x.Scope, m, stop, c.yes); err != nil {
			return out, err
		}
		at, err := c.done(stop)
		if err != nil {
			return out, err
		}
		if out = first(out, at, i); out.State == Broken {
			break
		}
	}
	return out, nil
}

// first takes what was found at a further moment: what is told is the first at
// which it is broken, with the answer of the first of all.
func first(out, at Judged, i int) Judged {
	switch {
	case i == 0:
		return at
	case at.State == Broken:
		at.Answer, at.May = out.Answer, out.May
		return at
	}
	return out
}

// alike are expectations about the same parties and actions, which are counted
// once for all of them.
type alike struct {
	*tally
	of        []*counting
	everybody bool
	in        *engine.Set
}

// dealer hands each yes to those groups of up to 63 that it concerns. Whether a
// party is of a group is asked once, and kept as a word of bits for each party,
// because a class of parties comes again with every action and place, and most
// groups are about few of them.
type dealer struct {
	s       *engine.Snapshot
	at      moment.Moment
	groups  []*alike
	about   []uint64   // by action: the groups that are about it, a bit each
	of      []uint64   // by the number of a known party: the groups that it is of, and the bit dealt
	who     engine.Who // the newcomer or the link that was looked at last
	whoOf   uint64     // and the same of it
	members []uint32
}

// dealt is the bit of whoever was asked about, which no group has.
const dealt = 1 << mostDealt

// mostDealt is how many groups a dealer has at most.
const mostDealt = 63

// dealers are those of groups, about a moment.
func dealers(s *engine.Snapshot, groups []*alike, at moment.Moment) (out []*dealer) {
	for some := range slices.Chunk(groups, mostDealt) {
		d := &dealer{s: s, at: at, groups: some, about: make([]uint64, len(catalogue.Actions()))}
		for _, a := range catalogue.Actions() {
			for k, g := range some {
				if x := g.of[0]; (x.Scope.Actions | x.Scope.Outward).Has(a.ID) {
					d.about[a.ID] |= 1 << k
				}
			}
		}
		out = append(out, d)
	}
	return out
}

// whose asks of which groups somebody is. The party is engine.NoParty for
// newcomers and links.
func (d *dealer) whose(party uint32, who engine.Who, kind engine.Kind) uint64 {
	is := uint64(dealt)
	for k, g := range d.groups {
		if g.everybody || g.in.Has(party, who, kind) {
			is |= 1 << k
		}
	}
	return is
}

// known is whose of a known party, kept.
func (d *dealer) known(i uint32, y *engine.Yes) uint64 {
	for int(i) >= len(d.of) {
		d.of = append(d.of, make([]uint64, max(1024, len(d.of)))...)
	}
	if d.of[i] == 0 {
		d.of[i] = d.whose(i, y.Who, y.Kind)
	}
	return d.of[i]
}

// yes hands on what a yes says of each group. A yes may be about a whole class
// of which only some are of a group; it is cut down for it, and its pairs
// counted anew. Where every member is of a group, which is the common case, the
// yes is handed on as it is.
func (d *dealer) yes(y *engine.Yes) {
	about := d.about[y.Action]
	if about == 0 {
		return
	}
	some, all := uint64(0), ^uint64(0) // the groups of one of the class at least, and of every one
	switch {
	case len(y.Members) > 0:
		for _, i := range y.Members {
			of := d.known(i, y)
			some, all = some|of, all&of
		}
	case y.Party != engine.NoParty:
		some = d.known(y.Party, y)
	default:
		if d.whoOf == 0 || y.Who != d.who {
			d.who, d.whoOf = y.Who, d.whose(engine.NoParty, y.Who, y.Kind)
		}
		some = d.whoOf
	}
	for left := some & about; left != 0; left &= left - 1 {
		k := bits.TrailingZeros64(left)
		if all>>k&1 != 0 {
			d.groups[k].take(y)
			continue
		}
		d.members = d.members[:0]
		for _, i := range y.Members {
			if d.of[i]>>k&1 != 0 {
				d.members = append(d.members, i)
			}
		}
		part := *y
		part.Members = d.members
		part.Who = engine.Who{Address: d.s.AddressAt(d.members[0])}
		part.Pairs = pairsOf(d.s, &part, d.at)
		d.groups[k].take(&part)
	}
}

// take counts a yes, for each expectation of the group.
func (g *alike) take(y *engine.Yes) {
	fresh := g.add(y)
	for _, c := range g.of {
		c.take(y, fresh)
	}
}

// sweep judges wide expectations together, moment by moment. Moments are put
// together over all expectations, so that each is gone through once. An
// expectation that is broken at one moment is not asked at later ones: what is
// told is the first.
func sweep(s *engine.Snapshot, all []*Statement, of []int, now moment.Moment, ahead Ahead, stop func() error,
	found func(int, Judged)) error {
	type one struct {
		i       int
		moments []moment.Moment
		out     Judged
		asked   int
	}
	var open []*one
	var moments, days []moment.Moment
	if ahead == NextDays && len(of) > 0 { // the days on which anything turns are those of all of them
		var union engine.Scope
		for _, i := range of {
			union.Actions |= all[i].Scope.Actions
			union.Outward |= all[i].Scope.Outward
		}
		if len(of) == 1 {
			union.Party = all[of[0]].Scope.Party
		}
		days = s.TurningDays(&union, now, Days)
	}
	for _, i := range of {
		x := &one{i: i, moments: all[i].on(now, ahead, days)}
		open = append(open, x)
		moments = append(moments, x.moments...)
	}
	slices.Sort(moments)
	for _, m := range slices.Compact(moments) {
		scope := engine.Scope{Together: true, Divided: s.Divided(m)}
		var asked []*one
		var statements []*Statement
		for _, x := range open {
			if _, is := slices.BinarySearchFunc(x.moments, m, cmp.Compare); !is || x.out.State == Broken {
				continue
			}
			scope.Actions |= all[x.i].Scope.Actions
			scope.Outward |= all[x.i].Scope.Outward
			asked, statements = append(asked, x), append(statements, all[x.i])
		}
		// The engine leaves out whom it is not about.
		if len(asked) == 1 { // a set of its own is gone through faster
			scope.Party = statements[0].Scope.Party
		}
		if len(asked) == 0 {
			continue
		}
		each, err := counted(s, statements, &scope, m, stop)
		if err != nil {
			return err
		}
		judged := make([]Judged, len(asked))
		var broken []int // those whose counterexamples are not known yet
		statements = statements[:0]
		for k, c := range each {
			var err error
			if judged[k], err = c.done(stop); err != nil {
				return err
			}
			if judged[k].State == Broken && len(judged[k].Examples) == 0 {
				broken, statements = append(broken, k), append(statements, c.Statement)
			}
		}
		found, err := examplesOf(s, statements, scope.Divided, m, stop)
		if err != nil {
			return err
		}
		for i, k := range broken {
			judged[k].Examples = found[i]
		}
		for k, x := range asked {
			x.out = first(x.out, judged[k], x.asked)
			x.asked++
		}
	}
	for _, x := range open {
		if x.asked == 0 {
			x.out = Judged{ID: all[x.i].ID, At: now}
		}
		found(x.i, x.out)
	}
	return nil
}

// pairsOf counts what a yes stands for, of which some members were taken. Where
// members have equally many it is a product; else the pairs are gone through.
func pairsOf(s *engine.Snapshot, y *engine.Yes, at moment.Moment) int {
	if n := y.Each(); n > 0 {
		return n * len(y.Members)
	}
	n := 0
	s.EachPair(y, at, func(*engine.Question) bool { n++; return true })
	return max(n, len(y.Members)*min(1, y.Pairs))
}
