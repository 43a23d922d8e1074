package engine

import (
	"fmt"
	"maps"
	"math"
	"slices"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/world"
)

// PutHolding adds or replaces what a party holds of a bundle. The grants that
// follow from it are those of the bundle in the policy that the snapshot gets.
func (e *Editor) PutHolding(h *world.Holding) {
	if h.Party.IsNewcomer() {
		return
	}
	i := e.address(h.Party)
	e.setHolding(i, h.Bundle, h)
}

// TakeHolding takes a holding away.
func (e *Editor) TakeHolding(h *world.Holding) { e.removeHolding(h.Key()) }

// removeHolding takes a holding away, by its key.
func (e *Editor) removeHolding(key string) {
	party, bundle := world.HoldingOf(key)
	if i := e.inv.addresses.find(e.inv.text, party); i != none && len(e.inv.holdings[i]) > 0 {
		e.setHolding(i, bundle, nil)
	}
}

// setHolding replaces what a party holds of one bundle; nil takes it away. The
// map is copied first, because older snapshots read it.
func (e *Editor) setHolding(i uint32, bundle string, h *world.Holding) {
	if !e.ownGiven {
		e.inv.holdings, e.ownGiven = maps.Clone(e.inv.holdings), true
		if e.inv.holdings == nil {
			e.inv.holdings = map[uint32][]world.Holding{}
		}
	}
	next := slices.DeleteFunc(slices.Clone(e.inv.holdings[i]), func(x world.Holding) bool { return x.Bundle == bundle })
	if h != nil {
		next = append(next, *h)
	}
	if e.inv.holdings[i] = next; len(next) == 0 {
		delete(e.inv.holdings, i)
	}
	e.given = append(e.given, i)
}

// giveBundles makes the grants that follow from holdings: of the parties whose
// holdings are others, and of all whose bundles are others in the policy to
// come.
//
// Grants that follow from a bundle are kept like any others, so that decisions
// need not know bundles; they are made anew whenever the bundle or the holding
// changes.
func (e *Editor) giveBundles() {
	now := &world.Policy{}
	if e.pol != nil && e.pol.source != nil {
		now = &e.pol.source.Policy
	}
	if e.policy != nil {
		was := now
		now = &e.policy.Policy
		for i, all := range e.inv.holdings {
			for k := range all {
				a, b := was.Bundle(all[k].Bundle), now.Bundle(all[k].Bundle)
				if (a == nil) != (b == nil) || a != nil && (!slices.Equal(a.Gives, b.Gives) || a.ReviewDays != b.ReviewDays) {
					e.given = append(e.given, i)
					break
				}
			}
		}
	}
	slices.Sort(e.given)
	for _, i := range slices.Compact(e.given) {
		e.giveTo(i, now)
	}
	e.given = nil
}

// giveTo makes the grants of one party's holdings. What was given by hand, or
// through links, stays.
func (e *Editor) giveTo(i uint32, policy *world.Policy) {
	e.idx = nil
	e.movedParty(i)
	old := e.inv.parties.at(i).grants
	var next []grant
	for _, g := range e.inv.given(old) {
		if g.detail(&e.inv.beside).bundle == 0 {
			next = append(next, g)
		}
	}
	for k := range e.inv.holdings[i] {
		h := &e.inv.holdings[i][k]
		b := policy.Bundle(h.Bundle)
		if b == nil {
			continue
		}
		n := e.inv.bundleIDs.add(e.tok, &e.inv.text, b.ID)
		if n >= math.MaxUint16 {
			panic(fmt.Sprintf("engine: more than %d bundles", math.MaxUint16-1)) // a policy has world.MostBundles at most
		}
		for _, g := range b.Grants(h) {
			next = append(next, e.grant(g.From, g.Until, e.resource(g.Resource), g.Role, viaGrant,
				detail{bundle: uint16(n) + 1, link: seconds(g.Confirmed())}))
		}
	}
	e.inv.grantsDead += int(old.n)
	e.inv.live.grants += len(next) - int(old.n)
	e.inv.parties.edit(e.tok, i).grants = list{uint32(len(e.inv.grants)), uint32(len(next))}
	e.inv.grants = append(e.inv.grants, next...)
}

// bundleNamed returns the bundle that gives a grant, of the policy in force;
// nil where none does.
func (s *Snapshot) bundleNamed(g *grant, b *beside) *world.Bundle {
	if g == nil {
		return nil
	}
	n := g.detail(b).bundle
	if n == 0 {
		return nil
	}
	return s.pol.source.Bundle(s.inv.bundleIDs.text(s.inv.text, uint32(n)-1))
}

// Holdings lists what a party holds of bundles, past and to come, in the order
// in which they were given.
func (s *Snapshot) Holdings(a addr.Address) []world.Holding {
	i := s.inv.addresses.find(s.inv.text, a.String())
	if i == none {
		return nil
	}
	return s.inv.holdings[i]
}

// EachHolding hands over every holding, in no order.
func (s *Snapshot) EachHolding(fn func(*world.Holding)) {
	for _, all := range s.inv.holdings {
		for k := range all {
			fn(&all[k])
		}
	}
}

// Bundled lists the grants that follow from what a party holds of bundles, past
// and to come.
func (s *Snapshot) Bundled(a addr.Address) (out []world.Grant) {
	for _, h := range s.Holdings(a) {
		if b := s.pol.source.Bundle(h.Bundle); b != nil {
			out = append(out, b.Grants(&h)...)
		}
	}
	return out
}
