package could

import (
	"fmt"
	"math/bits"
	"slices"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// PartKind names a kind of part of a cut. Parts only ever take away: nothing is
// looser after any of them, whatever else is in the cut.
type PartKind string

// The kinds of part.
const (
	LowerLimit PartKind = "limit"   // the limit of a rule is lowered
	Close      PartKind = "opening" // a partner is closed for a service and direction, or an opening is taken back
	ShutBundle PartKind = "bundle"  // nobody asks for a bundle any more
	TakeRole   PartKind = "role"    // a person of ours loses a role of the organisation
)

// Part is one change that takes something away. What is not of its kind is
// empty. Parts compare with ==, like acts, and for the same reason: a set of
// them is a key.
type Part struct {
	Kind    PartKind
	Rule    catalogue.RuleID
	Value   catalogue.Value
	Partner string
	Key     catalogue.Key
	Unset   bool // the opening is taken back, not refused
	Bundle  string
	Name    string // of the bundle
	Person  string
	Role    world.PersonRole
}

// Policy reports whether the part is one of policy, which a draft can hold.
func (p *Part) Policy() bool { return p.Kind != TakeRole }

// Text says the part in a sentence.
func (p *Part) Text(call func(engine.Who) string, partner func(id string) string) string {
	switch p.Kind {
	case LowerLimit:
		return fmt.Sprintf("Lower the limit of %s to %s.", p.Rule, p.Rule.Get().Scale.Format(p.Value))
	case Close:
		if p.Unset {
			return fmt.Sprintf("Take the opening of %s for %s back.", partner(p.Partner), p.Key)
		}
		return fmt.Sprintf("Close %s for %s.", partner(p.Partner), p.Key)
	}
	if p.Kind == ShutBundle {
		return fmt.Sprintf("Close the bundle %s: nobody asks for it any more.", p.Name)
	}
	return fmt.Sprintf("Take the role %s from %s.", p.RoleName(), call(person(p.Person)))
}

// RoleName is the word for the role that is taken.
func (p *Part) RoleName() string { return world.PersonRoleNames[bits.TrailingZeros8(uint8(p.Role))] }

// Without returns a policy as parts would leave it. It is a copy with the
// changes merged over it, and p itself where there is nothing to change. What
// parts name and the policy does not hold is passed over.
func Without(p *world.World, parts []Part) *world.World {
	part := &world.World{}
	for i := range parts {
		x := &parts[i]
		switch x.Kind {
		case LowerLimit:
			part.Rules = append(part.Rules, world.RuleSetting{Rule: x.Rule, Limit: x.Value, Default: catalogue.Unset, Counts: catalogue.Unset})
		case ShutBundle:
			if b := p.Bundle(x.Bundle); b != nil {
				shut := *b
				shut.Closed = true
				part.Bundles = append(part.Bundles, shut)
			}
		case Close:
			// Several parts may be about one partner, which is changed once.
			k := slices.IndexFunc(part.Partners, func(q world.Partner) bool { return q.ID == x.Partner })
			if k < 0 {
				i := slices.IndexFunc(p.Partners, func(q world.Partner) bool { return q.ID == x.Partner })
				if i < 0 {
					continue
				}
				part.Partners = append(part.Partners, p.Partners[i])
				k = len(part.Partners) - 1
			}
			part.Partners[k].Opened[x.Key] = world.OpenNo
			if x.Unset {
				part.Partners[k].Opened[x.Key] = world.OpenUnset
			}
		}
	}
	if len(part.Rules)+len(part.Partners)+len(part.Bundles) == 0 {
		return p
	}
	return world.Merge(p, part)
}

// Apply returns a snapshot as parts would leave it from a moment on. Values
// that lower limits make too loose are held back as publishing would hold them
// back, and dates go on from the moment, so that the result is what would
// really be so.
func Apply(s *engine.Snapshot, parts []Part, at moment.Moment) *engine.Snapshot {
	e := s.Aside()
	if policy := Without(s.Policy(), parts); policy != s.Policy() {
		e.SetPolicy(policy)
		e.HoldBack()
		e.ActForward(at)
	}
	for i := range parts {
		if parts[i].Kind == TakeRole {
			e.TakeRole(parts[i].Person, parts[i].Role)
		}
	}
	return e.Done()
}

// MostParts is how many parts a cut has at most, and MostCuts how many are
// found. Cuts of more than three changes are no remedy anybody takes at once,
// and forty are more than anybody reads.
const (
	MostParts = 3
	MostCuts  = 40
)

// cutter looks for cuts. all holds every single part that is tried, of each
// rule the loosest first, since the narrowest change is the one that is wanted.
type cutter struct {
	s    *engine.Snapshot
	at   moment.Moment
	t    Target
	all  []Part
	stop func() error
	cuts [][]Part
	seen map[string]bool
	left int // so many sets are still looked at
}

// Cuts finds the sets of up to three changes to limits, openings and roles that
// make a target impossible, with no part that could be left out; the fewest
// parts first. more reports that the search ended before all was looked at. An
// error is stop's.
//
// The search goes by witnesses (as minimal hitting sets are found from
// counterexamples): take what is set so far, find a way by which the target is
// still reached, and go on with each part that breaks this very way. Parts that
// do not touch a way that is still there are never tried.
func Cuts(s *engine.Snapshot, at moment.Moment, t Target, stop func() error) (cuts [][]Part, more bool, err error) {
	c := &cutter{s: s, at: at, t: t, stop: stop, seen: map[string]bool{}, left: 1200}
	if !s.Potential(at).Could(t.Who, t.Resource).Has(t.Action) {
		return nil, false, nil
	}
	c.parts()
	level := [][]Part{nil}
	// Level by level: all cuts of one part are known before any of two is
	// looked at.
	for size := 0; size <= MostParts; size++ {
		var next [][]Part
		for _, set := range level {
			if err := stop(); err != nil {
				return nil, false, err
			}
			// The bound is on work, and the answer says that it was reached.
			if c.left--; c.left < 0 || len(c.cuts) >= MostCuts {
				return c.cuts, true, nil
			}
			if c.covered(set) {
				continue
			}
			z := Apply(s, set, at)
			w := newFinder(z.Unofficial(), z.Potential(at), at, t).witness()
			if w == nil {
				if !z.Potential(at).Could(t.Who, t.Resource).Has(t.Action) {
					// A set may cut although one of its parts has nothing to do
					// with it.
					if c.needed(set) {
						c.cuts = append(c.cuts, set)
					}
				} else {
					more = true // it goes by a way that was not found
				}
				continue
			}
			if size == MostParts {
				continue
			}
			for _, p := range c.breaking(w, set) {
				with := added(set, p)
				if key := keyOf(with); !c.seen[key] {
					c.seen[key] = true
					next = append(next, with)
				}
			}
		}
		level = next
	}
	return c.cuts, more, nil
}

// added returns a set with a part more, which takes the place of one about the
// same. A lower limit of the same rule replaces the higher one.
func added(set []Part, p Part) (out []Part) {
	for _, q := range set {
		if q.Kind != p.Kind || q.Kind == LowerLimit && q.Rule != p.Rule || q.Kind != LowerLimit {
			out = append(out, q)
		}
	}
	return append(out, p)
}

// keyOf is the same for the same parts in any order.
func keyOf(set []Part) string {
	var keys []string
	for i := range set {
		keys = append(keys, fmt.Sprint(set[i]))
	}
	slices.Sort(keys)
	return fmt.Sprint(keys)
}

// covered reports whether a cut that is found already is part of a set. A
// tighter value of a rule covers a looser one that is enough already.
func (c *cutter) covered(set []Part) bool {
	return slices.ContainsFunc(c.cuts, func(cut []Part) bool {
		return !slices.ContainsFunc(cut, func(p Part) bool {
			return !slices.ContainsFunc(set, func(q Part) bool {
				return p == q || p.Kind == LowerLimit && q.Kind == LowerLimit && p.Rule == q.Rule && p.Rule.Get().Scale.Looser(p.Value, q.Value)
			})
		})
	})
}

// needed reports whether no part of a set can be left out. It is asked of
// Potential, which is exact about whether there is any way.
func (c *cutter) needed(set []Part) bool {
	for i := range set {
		rest := append(slices.Clone(set[:i]), set[i+1:]...)
		if !Apply(c.s, rest, c.at).Potential(c.at).Could(c.t.Who, c.t.Resource).Has(c.t.Action) {
			return false
		}
	}
	return true
}

// parts lists what may be changed: limits that the target and the acts towards
// it ask, openings of the partner, roles of ours. Of days nothing is tried: a
// term does not keep anybody out today. At most forty roles are tried.
func (c *cutter) parts() {
	asks := func(r catalogue.RuleID) bool {
		f := finder{t: c.t}
		if f.matters(r) {
			return true
		}
		for _, a := range catalogue.AskedBy(r) {
			if a == signUp || a.Get().Service() == c.t.Action.Get().Service() {
				return true
			}
		}
		return false
	}
	for i := range catalogue.Rules() {
		r := &catalogue.Rules()[i]
		if !asks(r.ID) || r.Scale.Shape == catalogue.Days || r.Scale.Shape == catalogue.Choice {
			continue
		}
		limit, _, _, _ := c.s.RuleState(r.ID)
		for _, v := range r.Scale.All() {
			if r.Scale.Looser(limit, v) {
				c.all = append(c.all, Part{Kind: LowerLimit, Rule: r.ID, Value: v})
			}
		}
		// the loosest first
		from := len(c.all)
		for from > 0 && c.all[from-1].Kind == LowerLimit && c.all[from-1].Rule == r.ID {
			from--
		}
		slices.SortStableFunc(c.all[from:], func(a, b Part) int {
			switch {
			case r.Scale.Looser(a.Value, b.Value):
				return -1
			case r.Scale.Looser(b.Value, a.Value):
				return 1
			}
			return 0
		})
	}
	if c.t.Who.Kind == engine.ByAddress {
		if m := c.s.Match(c.t.Who.Address); m.Partner != nil && m.Bar == nil {
			for k := catalogue.Key(0); k < catalogue.NumKeys; k++ {
				// Keys of even number are theirs coming to us; the others are
				// about where our people go.
				if k&1 == 0 && m.Partner.Opened[k] != world.OpenNo {
					c.all = append(c.all, Part{Kind: Close, Partner: m.Partner.ID, Key: k})
				}
			}
		}
	}
	if p := c.s.Potential(c.at); c.t.Who.Kind == engine.ByAddress {
		for _, b := range p.BundlesOf(c.t.Who) {
			c.all = append(c.all, Part{Kind: ShutBundle, Bundle: b.ID, Name: b.Name})
		}
	}
	n := 0
	for _, id := range c.s.Here(c.at) {
		for _, role := range []world.PersonRole{world.Introducer, world.Sharer} {
			if c.s.RolesOf(id)&role != 0 && n < 40 {
				c.all = append(c.all, Part{Kind: TakeRole, Person: id, Role: role})
				n++
			}
		}
	}
}

// breaking lists the parts, the loosest of each rule, after which a way leads
// nowhere. Of a rule the loosest value that breaks the way is enough; a tighter
// one would only take more. For methods there is no such order, so each value
// is tried. The way is replayed with its own account: another account that gets
// there is another way.
func (c *cutter) breaking(w *witness, set []Part) (out []Part) {
	var done catalogue.RuleID = catalogue.NoRule
	for _, p := range c.all {
		if p.Kind == LowerLimit && (p.Rule == done || slices.ContainsFunc(set, func(q Part) bool {
			return q.Kind == LowerLimit && q.Rule == p.Rule && !p.Rule.Get().Scale.Looser(q.Value, p.Value)
		})) || slices.Contains(set, p) {
			continue
		}
		z := Apply(c.s, added(set, p), c.at)
		f := newFinder(z.Unofficial(), nil, c.at, c.t)
		f.account = w.account
		if order, ok := f.run(w.acts); ok && len(order) == len(w.acts) {
			continue
		}
		if out = append(out, p); p.Kind == LowerLimit {
			if s := p.Rule.Get().Scale.Shape; s != catalogue.Methods {
				done = p.Rule
			}
		}
	}
	return
}

// Parts lists every single part that is tried for the cuts of a target.
func Parts(s *engine.Snapshot, at moment.Moment, t Target) []Part {
	c := &cutter{s: s, at: at, t: t}
	c.parts()
	return c.all
}
