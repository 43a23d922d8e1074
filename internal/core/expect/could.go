package expect

import (
	"cmp"
	"slices"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Expectations that ask what could come to be (practice §4): not only that
// nobody reaches something, but that nobody could be let in without an
// administrator or keeper. The same counting is done over what could be
// (engine.Potential) in place of what is.

// CouldBreak says why an expectation that holds now is told as broken.
const CouldBreak = "It holds now, but without an administrator or keeper it could come to be broken."

// mostPairs is up to how many pairs an expectation is judged for what could
// come to be. Tests lower it.
var mostPairs = engine.MostPairs

// TooLarge says why what could come to be is not judged.
const TooLarge = "It holds now. Whether it could come to be broken is not judged: there are too many people and things to go through. " +
	"Name a partner, a space, an item or an address."

// couldMatter reports whether what could come to be says anything about an
// expectation: more acts never take a yes away, conditions are not looked at,
// and no date moves. So it is asked of never, only and at most alone.
func (x *Statement) couldMatter(now moment.Moment) bool {
	return x.Expectation.Could && CouldSays(x.Expect.Sort) && (x.Expect.Sort != world.OnlyUntil || x.Expect.Until <= now)
}

// CouldSays reports whether what could come to be says anything about
// expectations of a sort.
func CouldSays(s world.ExpectSort) bool { return s != world.AlwaysSo && s != world.OnCondition }

// could judges an expectation for what could come to be now, without any
// administrator or keeper (practice §4). c.yes takes what could be as it takes
// what is.
func (x *Statement) could(s *engine.Snapshot, p *engine.Potential, now moment.Moment, stop func() error) (Judged, error) {
	if p.Pairs(&x.Scope) > mostPairs {
		return Judged{ID: x.ID, At: now, State: Unknown, Why: TooLarge}, nil
	}
	c := x.couldCounting(s, now)
	if err := p.EachYes(&x.Scope, stop, c.yes); err != nil {
		return Judged{}, err
	}
	return c.couldDone(stop)
}

// couldCounting is counting of what could come to be.
func (x *Statement) couldCounting(s *engine.Snapshot, now moment.Moment) *counting {
	c := x.counting(s, now)
	c.could = true
	return c
}

// couldDone says what was found of what could come to be. Counterexamples are
// in an order that does not depend on what was asked with them.
func (c *counting) couldDone(stop func() error) (Judged, error) {
	out, err := c.done(stop)
	if out.State == Broken {
		out.Could, out.Why = true, CouldBreak
	}
	slices.SortStableFunc(out.Examples, func(a, b Counter) int {
		if a.Newcomer != b.Newcomer { // those who are known first
			if b.Newcomer {
				return -1
			}
			return 1
		}
		return cmp.Or(cmp.Compare(a.Who, b.Who), cmp.Compare(a.Resource.String(), b.Resource.String()), cmp.Compare(a.Action, b.Action))
	})
	return out, err
}

// heldNow is an expectation, by its place, that holds as things are.
type heldNow struct {
	i int
	Judged
}

// judgeCould judges what could come to be, of expectations that hold now.
//
// Those about much are asked together, as sweep does it for what is: everybody
// is gone through once for all of them. It is done so where that is fewer pairs
// than each by itself.
func judgeCould(s *engine.Snapshot, all []*Statement, held []heldNow, now moment.Moment, stop func() error, found func(int, Judged)) error {
	if len(held) == 0 {
		return nil
	}
	tell := func(h heldNow, is Judged) {
		if is.State == Held {
			is = h.Judged
		}
		is.Answer, is.May = h.Answer, h.May
		found(h.i, is)
	}
	p := s.Potential(now)
	var union engine.Scope
	var alone, wide []heldNow
	var statements []*Statement
	pairs := 0
	for _, h := range held {
		x := all[h.i]
		n := p.Pairs(&x.Scope)
		if n > mostPairs || !x.wide() {
			alone = append(alone, h)
			continue
		}
		union.Actions, union.Outward = union.Actions|x.Scope.Actions, union.Outward|x.Scope.Outward
		wide, statements, pairs = append(wide, h), append(statements, x), pairs+n
	}
	if n := p.Pairs(&union); len(wide) < 2 || n > pairs || n > mostPairs {
		alone, wide = append(alone, wide...), nil
	}
	for _, h := range alone {
		is, err := all[h.i].could(s, p, now, stop)
		if err != nil {
			return err
		}
		tell(h, is)
	}
	if len(wide) == 0 {
		return nil
	}
	groups, each := together(s, statements, now)
	for _, c := range each {
		c.could = true
	}
	deal := dealers(s, groups, now)
	if err := p.EachYes(&union, stop, func(y *engine.Yes) error {
		for _, d := range deal {
			d.yes(y)
		}
		return nil
	}); err != nil {
		return err
	}
	for k, h := range wide {
		is, err := each[k].couldDone(stop)
		if err != nil {
			return err
		}
		tell(h, is)
	}
	return nil
}

// maxPairs is up to how many pairs what could come to be is compared one by
// one. Above it numbers are compared in place of pairs.
const maxPairs = 2_000_000

// couldAdded finds what could break an expectation after a change, and could
// not before. It is the same question as Added, of Potential.
func (x *Statement) couldAdded(before, after *engine.Snapshot, now moment.Moment, stop func() error) (Judged, error) {
	out := Judged{ID: x.ID, At: now}
	is, err := x.could(after, after.Potential(now), now, stop)
	if err != nil || is.State != Broken {
		return out, err // what is not judged stands in nobody's way
	}
	p := before.Potential(now)
	was, err := x.could(before, p, now, stop)
	if err != nil || was.State != Broken {
		return is, err
	}
	if x.Expect.Sort == world.AtMost || was.Count > maxPairs || is.Count > maxPairs {
		if is.Count > was.Count {
			is.Count -= was.Count
			return is, nil
		}
		return out, nil
	}
	type pair struct {
		who      engine.Who
		action   catalogue.ActionID
		resource world.Resource
	}
	had := map[pair]bool{}
	if err := p.EachYes(&x.Scope, stop, func(y *engine.Yes) error {
		apart(before, y, func(one *engine.Yes) bool { had[pair{one.Who, one.Action, one.Resource}] = true; return true })
		return nil
	}); err != nil {
		return out, err
	}
	c := x.couldCounting(after, now)
	if err := after.Potential(now).EachYes(&x.Scope, stop, func(y *engine.Yes) error {
		apart(after, y, func(one *engine.Yes) bool {
			if !had[pair{one.Who, one.Action, one.Resource}] {
				c.take(one, c.add(one))
			}
			return true
		})
		return nil
	}); err != nil {
		return out, err
	}
	return c.couldDone(stop)
}

// apart calls fn for each party and thing that a yes of what could come to be
// stands for, until it returns false. fn gets the same Yes each time.
func apart(s *engine.Snapshot, y *engine.Yes, fn func(one *engine.Yes) bool) {
	one := *y
	one.Members, one.Pairs, one.Party = nil, 1, engine.NoParty
	s.EachCould(y, func(who engine.Who, r string) bool {
		if who != one.Who || one.Party == engine.NoParty {
			if one.Who = who; !y.Newcomer {
				one.Party = s.PartyOf(who.Address)
			}
		}
		if r != "*" {
			one.Resource, _ = engine.ParseResource(r)
		}
		return fn(&one)
	})
}
