package expect

import (
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

// TooLarge says why what could come to be is not judged.
const TooLarge = "It holds now. What could come to be of everything is not judged in an installation of this size: name a space, an item or an address."

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
	if x.wide() && p.Large() {
		return Judged{ID: x.ID, At: now, State: Unknown, Why: TooLarge}, nil
	}
	c := x.counting(s, now)
	if err := p.EachYes(&x.Scope, stop, c.yes); err != nil {
		return Judged{}, err
	}
	out, err := c.done(stop)
	if out.State == Broken {
		out.Could, out.Why = true, CouldBreak
	}
	return out, err
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
	had := map[string]bool{}
	if err := p.EachYes(&x.Scope, stop, func(y *engine.Yes) error {
		before.EachCould(y, func(who engine.Who, r string) { had[who.String()+" "+y.Action.String()+" "+r] = true })
		return nil
	}); err != nil {
		return out, err
	}
	c := x.counting(after, now)
	err = after.Potential(now).EachYes(&x.Scope, stop, func(y *engine.Yes) error {
		after.EachCould(y, func(who engine.Who, r string) {
			if had[who.String()+" "+y.Action.String()+" "+r] {
				return
			}
			one := *y
			one.Who, one.Members, one.Pairs = who, nil, 1
			if one.Party = engine.NoParty; !y.Newcomer {
				one.Party = after.PartyOf(who.Address)
			}
			if y.Resource.ID == "*" && r != "*" {
				one.Resource, _ = engine.ParseResource(r)
			}
			if e := c.yes(&one); e != nil {
				err = e
			}
		})
		return nil
	})
	if err != nil {
		return out, err
	}
	out, err = c.done(stop)
	if out.State == Broken {
		out.Could, out.Why = true, CouldBreak
	}
	return out, err
}
