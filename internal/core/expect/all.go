package expect

import (
	"cmp"
	"errors"
	"fmt"
	"slices"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// wide reports whether an expectation is about everything, of more than one address: such are judged together, going through
// everybody once for all of them.
func (x *Statement) wide() bool {
	of := &x.Scope.Party.Of
	return x.Scope.Resource == nil && of.Address.IsZero() && of.Domain == (addr.Domain{})
}

// Ahead says how far expectations are judged.
type Ahead bool

// Now judges the present moment alone; NextDays those of the coming days, too, on which an answer may be another one.
const (
	Now      Ahead = false
	NextDays Ahead = true
)

// Judge judges expectations, and calls found for each as it is done, with its place among them.
func Judge(s *engine.Snapshot, all []*Statement, now moment.Moment, ahead Ahead, stop func() error, found func(i int, j Judged)) error {
	if stop == nil {
		stop = never
	}
	tell := found
	var potential *engine.Potential
	var failed error
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

func (x *Statement) moments(s *engine.Snapshot, now moment.Moment, ahead Ahead) []moment.Moment {
	if ahead == Now && x.Expect.Until <= now {
		return []moment.Moment{now}
	}
	return x.Moments(s, now)
}

// on are the moments at which a wide expectation is judged, where anything turns on some days.
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

// firstOf finds the first counterexamples of expectations about the same at a moment, thing by thing, until each has enough.
func firstOf(s *engine.Snapshot, of []*Statement, at moment.Moment, stop func() error) ([][]Counter, error) {
	var open []*counting
	for _, x := range of {
		open = append(open, x.counting(s, at))
	}
	all := slices.Clone(open)
	err := s.EachYes(&of[0].Scope, at, stop, func(y *engine.Yes) error {
		for i := 0; i < len(open); {
			c := open[i]
			if len(c.out.Examples) >= First || len(c.counted) >= 4*First {
				open = slices.Delete(open, i, i+1)
				continue
			}
			if err := c.yes(y); err != nil {
				return err
			}
			i++
		}
		if len(open) == 0 {
			return errEnough
		}
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) {
		return nil, err
	}
	out := make([][]Counter, len(of))
	for k, x := range of {
		c := all[k]
		if x.Expect.Sort == world.AtMost {
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

// judge judges at moments, in their order, up to the first at which it is broken.
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
		scope := engine.Scope{Together: true}
		type asks struct {
			*one
			*counting
		}
		var asked []asks
		var groups []*alike
		group := map[engine.Scope]*alike{} // by what they are about: parties and actions
		for _, x := range open {
			if _, is := slices.BinarySearchFunc(x.moments, m, cmp.Compare); !is || x.out.State == Broken {
				continue
			}
			st := all[x.i]
			scope.Actions |= st.Scope.Actions
			scope.Outward |= st.Scope.Outward
			g := group[st.Scope]
			if g == nil {
				g = &alike{s: s, at: m, everybody: st.Scope.Party.Everybody(), in: s.SetOf(st.Scope.Party, m), tally: newTally()}
				group[st.Scope] = g
				groups = append(groups, g)
			}
			c := st.counting(s, m)
			c.examples, c.tally = false, g.tally
			g.of = append(g.of, c)
			asked = append(asked, asks{one: x, counting: c})
		}
		if len(asked) == 1 { // a set of its own is gone through faster
			scope.Party = asked[0].Scope.Party
		}
		if len(asked) == 0 {
			continue
		}
		about := make([][]*alike, len(catalogue.Actions())) // by action: those that it may break
		for _, a := range catalogue.Actions() {
			for _, g := range groups {
				if x := g.of[0]; (x.Scope.Actions | x.Scope.Outward).Has(a.ID) {
					about[a.ID] = append(about[a.ID], g)
				}
			}
		}
		if err := s.EachYes(&scope, m, stop, func(y *engine.Yes) error {
			for _, g := range about[y.Action] {
				g.yes(y)
			}
			return nil
		}); err != nil {
			return err
		}
		judged := make([]Judged, len(asked))
		same := map[string][]int{} // those that are broken, by what they are about
		for k := range asked {
			a := &asked[k]
			var err error
			if judged[k], err = a.done(stop); err != nil {
				return err
			}
			if judged[k].State == Broken && len(judged[k].Examples) == 0 {
				x := all[a.i]
				about := fmt.Sprint(x.Party, " ", x.Action, " ", x.Resource)
				same[about] = append(same[about], k)
			}
		}
		for _, these := range same {
			var of []*Statement
			for _, k := range these {
				of = append(of, all[asked[k].i])
			}
			found, err := firstOf(s, of, m, stop)
			if err != nil {
				return err
			}
			for i, k := range these {
				judged[k].Examples = found[i]
			}
		}
		for k := range asked {
			a := &asked[k]
			a.one.out = first(a.one.out, judged[k], a.one.asked)
			a.one.asked++
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
func pairsOf(s *engine.Snapshot, y *engine.Yes, at moment.Moment) int {
	if n := y.Each(); n > 0 {
		return n * len(y.Members)
	}
	n := 0
	s.EachPair(y, at, func(*engine.Question) bool { n++; return true })
	return max(n, len(y.Members)*min(1, y.Pairs))
}
