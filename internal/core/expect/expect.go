// Package expect judges expectations: saved statements about reach that must
// stay true (practice §3).
//
// *Nobody at Harrow may read the valuations*, *only insurers may*, *at most
// forty people may sign in*, *nobody may after the end of the loan*. An
// expectation says whose access it is about, to what, by which actions, and
// what is to be so. It is kept as policy, with an owner and a reason, and
// judged in four ways:
//
//   - as things are, and on the days ahead on which anything turns (Judge)
//   - before a draft is published: what the change adds to what breaks it (Added); what was broken before stands in nobody's way
//   - for what could come to be without an administrator or keeper, where it asks for that (could)
//   - of a world in a file, by the same functions
//
// Numbers are exact, and the first hundred counterexamples are told with them.
// A hundred expectations about everybody are judged together, by going through
// everybody once (sweep): two or three times what counting everybody costs.
//
// Propose lists expectations that are true today and that somebody may have
// meant. Says writes any of them as a sentence. The package has no I/O and
// reads no clock.
package expect

import (
	"cmp"
	"fmt"
	"maps"
	"math/bits"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// State is what became of an expectation. Unknown is no yes: a pipeline ends
// with its own exit code for it.
type State uint8

// An expectation holds or is broken; it is unknown where what it is about was
// not looked at.
const (
	Held State = iota
	Broken
	Unknown
)

// StateNames are the words for states, by State. They are written in answers,
// in JUnit reports and in the journal.
var StateNames = []string{"held", "broken", "unknown"}

func (s State) String() string { return StateNames[s] }

// Days is how many days ahead an expectation is judged. It is what a page of
// the days ahead shows.
const Days = 30

// First is how many counterexamples are told.
const First = 100

// Statement is an expectation that can be judged. It is read once and judged
// many times; no judgement changes it.
type Statement struct {
	*world.Expectation
	Scope      engine.Scope
	only       []engine.Parties
	conditions catalogue.Condition
}

// Counter is one counterexample: somebody who may, or with always may not. With
// AlwaysSo it is a pair that should be a yes.
type Counter struct {
	Who        string // as a question names them
	Name       string
	Newcomer   bool // typical of whoever nobody knows yet
	Person     string
	Action     catalogue.ActionID
	Resource   world.Resource // its id is * where it is so for Count that are alike
	Count      int
	Conditions catalogue.Condition
}

// Judged is what judging an expectation found. Numbers are exact, however few
// examples there are. Answer and May are told whatever became of it: the owner
// of one with *tell* hears when they change.
type Judged struct {
	ID       string
	State    State
	Empty    bool          // an always, or an only, over nothing: it says nothing of anybody
	At       moment.Moment // the moment that the numbers are of: now, or the first at which it is broken
	Count    int           // counterexamples: pairs of a party and a resource for each action; of at_most the parties who may
	Parties  int           // so many parties are among the counterexamples
	Examples []Counter     // the first of them
	Why      string        // with Unknown, and with Could
	Could    bool          // it holds now: what is told could come to be without an administrator or keeper
	Answer   int           // what its owner is told of: how many pairs are a yes now
	May      int           // so many known parties may now
}

// ParseParties reads whom an expectation is about. The words are those of the
// format: everybody, partner:ID, group:ID, domain:NAME, kind:KIND, an address
// or *@domain.
func ParseParties(text string) (p engine.Parties, err error) {
	kind, rest, cut := strings.Cut(text, ":")
	switch {
	case text == world.Everybody:
	case cut && kind == "partner":
		p.Of.Partner = rest
	case cut && kind == "group":
		p.Of.Group = rest
	case cut && kind == "domain":
		p.Of.Domain, err = addr.ParseDomain(rest)
	case cut && kind == "kind":
		i := slices.Index(world.PartyKinds, rest)
		if i < 0 {
			return p, fmt.Errorf("%q is no kind of party", rest)
		}
		p.ByKind, p.Kind = true, engine.KindGuest+engine.Kind(i)
	default:
		p.Of.Address, err = addr.Parse(text)
	}
	return
}

// Of reads an expectation. Its texts were checked where they entered; an error
// says what is wrong all the same.
func Of(x *world.Expectation) (*Statement, error) {
	out := &Statement{Expectation: x}
	var err error
	if out.Scope.Party, err = ParseParties(x.Party); err != nil {
		return nil, fmt.Errorf("expectation %s: its party: %w", x.ID, err)
	}
	out.Scope.Actions, out.Scope.Outward = engine.ActionsNamed(x.Action)
	if x.Resource != "*" {
		r, err := engine.ParseResource(x.Resource)
		if err != nil {
			return nil, fmt.Errorf("expectation %s: %w", x.ID, err)
		}
		out.Scope.Resource = &r
	}
	for _, o := range x.Expect.Only {
		p, err := ParseParties(o)
		if err != nil {
			return nil, fmt.Errorf("expectation %s: only: %w", x.ID, err)
		}
		out.only = append(out.only, p)
	}
	for _, c := range x.Expect.Conditions {
		one, _ := catalogue.ParseCondition(c)
		out.conditions |= one
	}
	return out, nil
}

// All reads every expectation of a policy; those that cannot be read are left
// out. Where one cannot be read, the check of the policy has said so before.
func All(w *world.World) (out []*Statement) {
	for i := range w.Expectations {
		if x, err := Of(&w.Expectations[i]); err == nil {
			out = append(out, x)
		}
	}
	return
}

// Moments are those at which an expectation is judged from a moment on: then,
// on those of the next days on which the answer may be another one, and at its
// own end. Between two of them nothing that it rests on turns, so that it need
// not be asked there.
func (x *Statement) Moments(s *engine.Snapshot, now moment.Moment) []moment.Moment {
	out := []moment.Moment{now}
	out = append(out, s.TurningDays(&x.Scope, now, Days)...)
	if x.Expect.Sort == world.OnlyUntil {
		kept := out[:0]
		for _, m := range append(out, max(x.Expect.Until, now)) {
			if m >= x.Expect.Until {
				kept = append(kept, m)
			}
		}
		out = kept
		slices.Sort(out)
	}
	return slices.Compact(out)
}

// never stops no work.
func never() error { return nil }

// tally counts the yeses of a scope. Expectations about the same share one. It
// tells how many pairs are a yes and who they are about.
type tally struct {
	pairs     int
	known     seen                // who may
	links     map[engine.Who]bool // that may
	newcomers map[engine.Who]bool // who may
	last      engine.Who          // of links and newcomers, the one that was counted last
	lastNew   bool
}

// newTally is a tally of nothing.
func newTally() *tally {
	return &tally{links: map[engine.Who]bool{}, newcomers: map[engine.Who]bool{}}
}

// add takes one yes, and returns how many of whom it tells were not told
// before.
func (t *tally) add(y *engine.Yes) (fresh int) {
	t.pairs += y.Pairs
	switch {
	case len(y.Members) > 0:
		for _, m := range y.Members {
			if t.known.add(m) {
				fresh++
			}
		}
	case y.Party != engine.NoParty:
		if t.known.add(y.Party) {
			fresh++
		}
	default:
		of := t.links
		if y.Newcomer {
			of = t.newcomers
		}
		if y.Who == t.last && len(of) > 0 && y.Newcomer == t.lastNew { // they come one after the other
			return
		}
		if t.last, t.lastNew = y.Who, y.Newcomer; !of[y.Who] {
			of[y.Who] = true
			fresh++
		}
	}
	return
}

// merge takes what another tally counted of other actions.
func (t *tally) merge(of *tally) {
	t.pairs += of.pairs
	t.known.merge(&of.known)
	maps.Copy(t.links, of.links)
	maps.Copy(t.newcomers, of.newcomers)
}

// may counts the known parties and links that may.
func (t *tally) may() int { return t.known.n + len(t.links) }

// counting collects what one expectation finds at one moment. Its embedded
// tally may be shared with expectations about the same.
type counting struct {
	*Statement
	*tally
	s        *engine.Snapshot
	out      Judged
	only     []*engine.Set
	who      seen // who breaks it
	whoElse  map[engine.Who]bool
	lastElse engine.Who
	counted  []Counter // of at_most: each party once
	examples bool      // whether they are collected
	could    bool      // what could come to be is counted
	// of at_most where they are not: where in counted a newcomer is
	newcomerAt map[engine.Who]int
}

// seen is a set of known parties, by number. Two bytes a party would be a
// megabyte for each of a hundred expectations; bits are an eighth of that.
type seen struct {
	bits []uint64
	n    int
}

// add takes a party in, and reports whether it is new. The set grows to twice
// its size where it has to.
func (x *seen) add(i uint32) bool {
	k := int(i >> 6)
	for k >= len(x.bits) {
		x.bits = append(x.bits, make([]uint64, max(64, len(x.bits)))...)
	}
	if x.bits[k]>>(i&63)&1 != 0 {
		return false
	}
	x.bits[k] |= 1 << (i & 63)
	x.n++
	return true
}

// merge takes in another set.
func (x *seen) merge(of *seen) {
	if len(of.bits) > len(x.bits) {
		x.bits = append(x.bits, make([]uint64, len(of.bits)-len(x.bits))...)
	}
	x.n = 0
	for k := range x.bits {
		if k < len(of.bits) {
			x.bits[k] |= of.bits[k]
		}
		x.n += bits.OnesCount64(x.bits[k])
	}
}

// counting begins to judge at a moment. Yeses are handed to it (yes, take), and
// it says what it found (done).
func (x *Statement) counting(s *engine.Snapshot, at moment.Moment) *counting {
	c := &counting{Statement: x, tally: newTally(), s: s, out: Judged{ID: x.ID, At: at}, whoElse: map[engine.Who]bool{}, examples: true}
	for _, p := range x.only {
		c.only = append(c.only, s.SetOf(p, at))
	}
	return c
}

// allowed reports whether a party is one of those who may.
func allowed(only []*engine.Set, party uint32, who engine.Who, kind engine.Kind) bool {
	for _, o := range only {
		if o.Has(party, who, kind) {
			return true
		}
	}
	return false
}

// yes takes one yes of the scope.
func (c *counting) yes(y *engine.Yes) error {
	c.take(y, c.add(y))
	return nil
}

// take holds a yes that was counted against what is expected. fresh is how many
// of whom it tells were not told before. A yes may stand for a whole class of
// parties and many things: it is counted by numbers, and only where a part of
// the class matters is it cut down.
func (c *counting) take(y *engine.Yes, fresh int) {
	switch c.Expect.Sort {
	case world.Never, world.OnlyUntil: // every yes breaks it: what is counted of them is what is counted of all
		c.out.State = Broken
		c.example(y, y.Members)
	case world.OnCondition:
		if y.Conditions&c.conditions != c.conditions {
			c.broken(y, y.Members, y.Pairs)
		}
	// Of a class some may be among those who may, and others not.
	case world.OnlyParties:
		if len(y.Members) == 0 {
			if !allowed(c.only, y.Party, y.Who, y.Kind) {
				c.broken(y, nil, y.Pairs)
			}
			return
		}
		var not []uint32
		for _, m := range y.Members {
			if !allowed(c.only, m, engine.Who{}, y.Kind) {
				not = append(not, m)
			}
		}
		switch {
		case len(not) == 0:
		case len(not) == len(y.Members):
			c.broken(y, not, y.Pairs)
		default:
			part := *y
			part.Members = not
			c.broken(y, not, pairsOf(c.s, &part, c.out.At))
		}
	case world.AtMost:
		switch {
		case !c.examples && y.Newcomer:
			c.newcomer(y)
		case c.examples && fresh > 0 && (len(c.counted) < First || y.Newcomer):
			c.counted = append(c.counted, c.counterOf(y, y.Members)...)
		}
	}
}

// newcomer keeps what a newcomer may first, in the order of actions. Newcomers
// break at_most whatever the number, and are so few that they are kept while
// everybody is counted, in parts by action: nobody has to look for them again.
func (c *counting) newcomer(y *engine.Yes) {
	i, known := c.newcomerAt[y.Who]
	switch {
	case !known:
		if c.newcomerAt == nil {
			c.newcomerAt = map[engine.Who]int{}
		}
		c.newcomerAt[y.Who] = len(c.counted)
		c.counted = append(c.counted, c.counterOf(y, nil)...)
	case y.Action < c.counted[i].Action:
		c.counted[i] = c.counterOf(y, nil)[0]
	}
}

// merge takes what was found about other actions, where no counterexamples but
// newcomers are collected.
func (c *counting) merge(of *counting) {
	c.out.State = max(c.out.State, of.out.State)
	c.out.Count += of.out.Count
	c.who.merge(&of.who)
	maps.Copy(c.whoElse, of.whoElse)
	for who, i := range of.newcomerAt {
		k, known := c.newcomerAt[who]
		switch {
		case !known:
			if c.newcomerAt == nil {
				c.newcomerAt = map[engine.Who]int{}
			}
			c.newcomerAt[who] = len(c.counted)
			c.counted = append(c.counted, of.counted[i])
		case of.counted[i].Action < c.counted[k].Action:
			c.counted[k] = of.counted[i]
		}
	}
}

// counterOf makes counterexamples of a yes.
func (c *counting) counterOf(y *engine.Yes, members []uint32) (out []Counter) {
	one := Counter{Who: y.Who.String(), Name: y.Name, Newcomer: y.Newcomer, Person: y.Person, Action: y.Action, Resource: y.Resource,
		Count: y.Pairs, Conditions: y.Conditions}
	if !y.Newcomer {
		one.Name = c.s.NameOfSubject(y.Who)
	}
	if c.could && y.Resource.ID == "*" { // of some things among many, the first
		apart(c.s, y, func(x *engine.Yes) bool { one.Resource = x.Resource; return false })
	}
	if len(members) == 0 {
		return []Counter{one}
	}
	for _, m := range members {
		if len(out) == First {
			break
		}
		who := engine.Who{Address: c.s.AddressAt(m)}
		one.Who, one.Name, one.Count = who.String(), c.s.NameOfSubject(who), max(1, y.Pairs/max(1, len(y.Members)))
		out = append(out, one)
	}
	return
}

// broken notes that pairs break the expectation, for members or for one party.
func (c *counting) broken(y *engine.Yes, members []uint32, pairs int) {
	c.out.State = Broken
	c.out.Count += pairs
	switch {
	case len(members) > 0:
		for _, m := range members {
			c.who.add(m)
		}
	case y.Party != engine.NoParty:
		c.who.add(y.Party)
	case y.Who != c.lastElse || len(c.whoElse) == 0: // they come one after the other
		c.whoElse[y.Who], c.lastElse = true, y.Who
	}
	c.example(y, members)
}

// example keeps the first counterexamples. A yes of what could come to be may
// stand for some things of a kind among many, which are named one by one: the
// kind alone would say that it is about any of them.
func (c *counting) example(y *engine.Yes, members []uint32) {
	if !c.examples || len(c.out.Examples) >= First {
		return
	}
	if !c.could {
		c.out.Examples = append(c.out.Examples, c.counterOf(y, members)...)
		return
	}
	some := *y
	some.Members = members
	apart(c.s, &some, func(one *engine.Yes) bool {
		c.out.Examples = append(c.out.Examples, c.counterOf(one, nil)...)
		return len(c.out.Examples) < First
	})
}

// done says what was found. What should always be a yes is asked for here, by
// its noes, since going through the yeses says nothing of it. An error is
// stop's.
func (c *counting) done(stop func() error) (Judged, error) {
	out := &c.out
	out.Answer, out.May = c.pairs, c.may()
	switch c.Expect.Sort {
	// Newcomers stand for any number of people, so one among those who may
	// breaks it whatever the number.
	case world.AtMost:
		more := out.May > c.Expect.AtMost
		if !more && len(c.newcomers) == 0 {
			return *out, nil
		}
		out.State, out.Count = Broken, len(c.newcomers)
		if more {
			out.Count += out.May
		}
		out.Parties = out.Count
		if more && !c.examples { // those who may are looked for afterwards
			return *out, nil
		}
		if !c.examples { // they were found in parts
			slices.SortFunc(c.counted, func(a, b Counter) int { return cmp.Compare(a.Who, b.Who) })
		}
		told := map[string]bool{}
		for _, x := range c.counted {
			if (more || x.Newcomer) && !told[x.Who] && len(out.Examples) < First {
				told[x.Who] = true
				out.Examples = append(out.Examples, x)
			}
		}
		return *out, nil
	// What should be a yes has to be asked for by its noes.
	case world.AlwaysSo:
		asked, err := c.s.EachNo(&c.Scope, out.At, stop, func(q *engine.Question, party uint32, n *engine.Newcomer, _ engine.Kind) error {
			out.State = Broken
			out.Count++
			who := q.Subject
			x := Counter{Action: q.Action, Resource: q.Resource, Count: 1}
			if !q.Address.IsZero() {
				who, x.Person = engine.Who{Address: q.Address}, q.Subject.ID
			}
			if x.Who, x.Name = who.String(), c.s.NameOfSubject(who); n != nil {
				x.Name, x.Newcomer = n.Name, true
			}
			if party != engine.NoParty {
				c.who.add(party)
			} else {
				c.whoElse[who] = true
			}
			if len(out.Examples) < First {
				out.Examples = append(out.Examples, x)
			}
			return nil
		})
		if err != nil {
			return *out, err
		}
		out.Empty = asked == 0
	}
	if out.Parties = c.who.n + len(c.whoElse); c.Expect.Sort == world.Never || c.Expect.Sort == world.OnlyUntil {
		out.Count, out.Parties = c.pairs, c.may()+len(c.newcomers)
	}
	if len(out.Examples) > First {
		out.Examples = out.Examples[:First]
	}
	return *out, nil
}
