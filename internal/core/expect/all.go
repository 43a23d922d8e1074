package expect

import (
	"cmp"
	"errors"
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

// wide reports whether an expectation is about everything, of more than one address: such are judged together, going through
// everybody once for all of them.
// Those about one resource, address or domain cost little by themselves and are judged one by one.
func (x *Statement) wide() bool {
	of := &x.Scope.Party.Of
	return x.Scope.Resource == nil && of.Address.IsZero() && of.Domain == (addr.Domain{})
}

// Ahead says how far expectations are judged.
// Judging the days ahead tells an owner before something breaks, and costs several counts.
type Ahead bool

// Now judges the present moment alone; NextDays those of the coming days, too, on which an answer may be another one.
const (
	Now      Ahead = false
	NextDays Ahead = true
)

// Judge judges expectations, and calls found for each as it is done, with its place among them.
// The order in which they are found is not that of the list: narrow ones come first. An error is
// stop's.
func Judge(s *engine.Snapshot, all []*Statement, now moment.Moment, ahead Ahead, stop func() error, found func(i int, j Judged)) error {
	if stop == nil {
		stop = never
	}
	tell := found
	var potential *engine.Potential
	var failed error
	// What could come to be is only asked where the expectation holds as things are, since it is
	// broken already otherwise.
	found = func(i int, j Judged) {
		if j.State == Held && all[i].couldMatter(now) && failed == nil {
			if potential == nil {
				potential = s.Potential(now)
			}
			var is Judged
			if is, failed = all[i].could(s, potential, now, stop); is.State != Held {
				is.Answer, is.May = j.Answer, j.May
				j = is
			}
		}
		if failed == nil {
			tell(i, j)
		}
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
	return failed
}

// moments are those of a narrow expectation, which are found for it alone.
func (x *Statement) moments(s *engine.Snapshot, now moment.Moment, ahead Ahead) []moment.Moment {
	if ahead == Now && x.Expect.Until <= now {
		return []moment.Moment{now}
	}
	return x.Moments(s, now)
}

// on are the moments at which a wide expectation is judged, where anything turns on some days.
// One that says "only until" is judged at its end in any case.
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

// examplesOf finds the first counterexamples of wide expectations that are broken at a moment, thing by thing, until
// each has enough: those about the same together, and as many of these at once as there are processors.
// Counting goes through everybody without names; names are looked for here, and only until each has
// a hundred.
func examplesOf(s *engine.Snapshot, of []*Statement, divided *engine.Divided, at moment.Moment, stop func() error) ([][]Counter, error) {
	groups, each := together(s, of, at)
	err := atOnce(len(groups), stop, func(k int, stop func() error) error {
		g := groups[k]
		scope := g.of[0].Scope
		scope.Divided = divided
		err := s.EachYes(&scope, at, stop, func(y *engine.Yes) error {
			g.yes(y)
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

// atOnce does n things, as many at once as there are processors, and ends with the first error. Each is handed a
// stop that asks the one given, one at a time, and that fails once another of them did.
// Progress and cancelling are asked by stop, which need not be safe for several goroutines.
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

// counted goes through a scope for expectations that are about parts of it, and returns what each of them found. The
// actions are dealt to as many parts as there are processors, which are gone through at once.
// Actions are dealt and not parties, because the engine goes through parties class by class for
// each action anyway, so that the parts share nothing.
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
		mine.Actions, mine.Outward = dealt(scope.Actions, k, len(parts)), dealt(scope.Outward, k, len(parts))
		about := byAction(p.groups)
		return s.EachYes(&mine, at, stop, func(y *engine.Yes) error {
			for _, g := range about[y.Action] {
				g.yes(y)
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

// dealt is every so many-th of some actions.
// Neighbours in the catalogue cost about the same; dealing them one by one spreads the work.
func dealt(all engine.Actions, k, parts int) (out engine.Actions) {
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

// together puts expectations in groups of those that are about the same parties and actions, in the order in which
// they come.
// A hundred expectations are mostly about a dozen scopes.
func together(s *engine.Snapshot, of []*Statement, at moment.Moment) (groups []*alike, each []*counting) {
	group := map[engine.Scope]*alike{}
	for _, x := range of {
		g := group[x.Scope]
		if g == nil {
			g = &alike{s: s, at: at, everybody: x.Scope.Party.Everybody(), in: s.SetOf(x.Scope.Party, at), tally: newTally()}
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

// byAction lists by action the groups that it may break.
func byAction(groups []*alike) [][]*alike {
	about := make([][]*alike, len(catalogue.Actions()))
	for _, a := range catalogue.Actions() {
		for _, g := range groups {
			if x := g.of[0]; (x.Scope.Actions | x.Scope.Outward).Has(a.ID) {
				about[a.ID] = append(about[a.ID], g)
			}
		}
	}
	return about
}

// judge judges at moments, in their order, up to the first at which it is broken.
// An error is stop's.
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

// first takes what was found at a further moment: what is told is the first at which it is broken, with the answer of the first of all.
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

// alike are expectations about the same parties and actions, which are counted once for all of them.
// Whether a party is of the set is asked once for each party and kept in two bits.
type alike struct {
	*tally
	s         *engine.Snapshot
	at        moment.Moment
	of        []*counting
	everybody bool
	in        *engine.Set
	told, is  []uint64   // by the number of a known party: whether it was looked at, and is one of them
	who       engine.Who // the newcomer or the link that was looked at last
	whoIs     bool
	members   []uint32
}

// has reports whether a known party is one of them.
func (g *alike) has(i uint32, who engine.Who, kind engine.Kind) bool {
	k, bit := int(i>>6), uint64(1)<<(i&63)
	for k >= len(g.told) {
		more := make([]uint64, max(64, len(g.told)))
		g.told, g.is = append(g.told, more...), append(g.is, more...)
	}
	if g.told[k]&bit == 0 {
		g.told[k] |= bit
		if g.in.Has(i, who, kind) {
			g.is[k] |= bit
		}
	}
	return g.is[k]&bit != 0
}

// yes takes what a yes says of them.
// A yes may be about a whole class of which only some are of the set; it is cut down, and its pairs
// counted anew.
func (g *alike) yes(y *engine.Yes) {
	switch {
	case g.everybody:
	case len(y.Members) > 0:
		g.members = g.members[:0]
		for _, i := range y.Members {
			if g.has(i, y.Who, y.Kind) {
				g.members = append(g.members, i)
			}
		}
		switch {
		case len(g.members) == 0:
			return
		case len(g.members) < len(y.Members):
			part := *y
			part.Members = g.members
			part.Who = engine.Who{Address: g.s.AddressAt(g.members[0])}
			part.Pairs = pairsOf(g.s, &part, g.at)
			y = &part
		}
	case y.Party != engine.NoParty:
		if !g.has(y.Party, y.Who, y.Kind) {
			return
		}
	default:
		if y.Who != g.who {
			g.who, g.whoIs = y.Who, g.in.Has(engine.NoParty, y.Who, y.Kind)
		}
		if !g.whoIs {
			return
		}
	}
	fresh := g.add(y)
	for _, c := range g.of {
		c.take(y, fresh)
	}
}

// sweep judges wide expectations together, moment by moment.
// Moments are put together over all expectations, so that each is gone through once.
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

// pairsOf counts what a yes stands for, of which some members were taken.
// Where members have equally many it is a product; else the pairs are gone through.
func pairsOf(s *engine.Snapshot, y *engine.Yes, at moment.Moment) int {
	if n := y.Each(); n > 0 {
		return n * len(y.Members)
	}
	n := 0
	s.EachPair(y, at, func(*engine.Question) bool { n++; return true })
	return max(n, len(y.Members)*min(1, y.Pairs))
}
