package engine

import (
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
)

// How the value of a rule is found (model §3).
//
// A rule has a limit and a default at the organisation, and up to four layers
// below it that may say something else: the partner, exceptions for people of
// ours, the space, the item or meeting. The tightest of the layers that speak
// counts; where none does the default does; the limit bounds all of it. A rule
// whose values have no order (a choice) takes the nearest layer that speaks.
//
//	spaces.guests      limit on, default off
//	partner lantern    on
//	space loan-dossier -            counts: on, by the partner

// LayerName is a layer of a chain, the limit and the default included. The four
// below the organisation are those of the catalogue; see catalogue.Layers.
type LayerName uint8

// The layers of a chain, in the order in which they are told.
const (
	LimitLayer LayerName = iota
	DefaultLayer
	PartnerLayer
	PeopleLayer
	SpaceLayer
	ItemLayer
	numLayers
)

// String names the layer as the API does.
func (l LayerName) String() string {
	return [...]string{"limit", "default", "partner", "people", "space", "item"}[l]
}

// Step is what one layer of a chain says. A step that does not apply is not
// shown.
type Step struct {
	Applies bool            // the layer exists for this rule and context
	Value   catalogue.Value // Unset: it says nothing
	Held    catalogue.Value // a value held back there, Unset for none
	Where   string          // id of the partner, exception, space or item
}

// Chain is how a value was found: every layer and what it says (model §3).
// Console, client and API show it as it is: who said what, and which of them
// decided.
type Chain struct {
	Rule    catalogue.RuleID
	Steps   [numLayers]Step
	Person  string       // of ours whose exceptions count; empty for none
	Party   addr.Address // of the outside party; zero for none
	Partner string       // the partner behind it; empty for none
}

// collected is the layers below the organisation, from the widest.
var collected = [...]LayerName{PartnerLayer, PeopleLayer, SpaceLayer, ItemLayer}

// without returns the effective value as if layer skip said nothing; numLayers
// skips none. The layers below the organisation are joined, tightest first;
// where none speaks the default does; the limit bounds the result. It is
// asker.value for a chain that is filled in, and a test compares the two.
func (c *Chain) without(skip LayerName) catalogue.Value {
	scale := c.Rule.Get().Scale
	best := catalogue.Unset
	for _, l := range collected {
		if v := c.Steps[l].Value; l != skip && v != catalogue.Unset {
			if best == catalogue.Unset || scale.Shape == catalogue.Choice {
				best = v
			} else {
				best = scale.Tighter(best, v)
			}
		}
	}
	if best == catalogue.Unset {
		best = c.Steps[DefaultLayer].Value
	}
	if skip == LimitLayer {
		return best
	}
	return scale.Tighter(best, c.Steps[LimitLayer].Value)
}

// Effective returns the value that counts.
func (c *Chain) Effective() catalogue.Value { return c.without(numLayers) }

// Decided returns the layer that decided: the nearest whose own value is the
// effective one, the limit where no layer says it. Where a nearer and a wider
// layer say the same, the nearer is named: that is who would have to agree.
func (c *Chain) Decided() LayerName {
	v := c.Effective()
	said := false
	for i := len(collected) - 1; i >= 0; i-- {
		if s := c.Steps[collected[i]]; s.Value != catalogue.Unset {
			if s.Value == v {
				return collected[i]
			}
			said = true
		}
	}
	if !said && c.Steps[DefaultLayer].Value == v {
		return DefaultLayer
	}
	return LimitLayer
}

// Without returns what the value would be if the deciding layer said nothing.
// Without the default there is nothing to fall back on but the limit. It
// answers "and if they had not said so?".
func (c *Chain) Without() catalogue.Value {
	d := c.Decided()
	if d == DefaultLayer {
		return c.Steps[LimitLayer].Value
	}
	return c.without(d)
}

// Option is a value that could be chosen, or the layer that stands against it.
type Option struct {
	Value catalogue.Value
	Can   bool
	By    LayerName // where it cannot: the layer that says less
}

// Options says of every value of the scale whether the nearest layer that may
// set the rule here could bring it about, and if not which layer caps it. A
// form shows the values that would have an effect, and by whom the others are
// stopped.
func (c *Chain) Options() []Option {
	nearest := DefaultLayer
	for _, l := range collected {
		if c.Steps[l].Applies {
			nearest = l
		}
	}
	return c.OptionsAt(nearest)
}

// OptionsAt says of every value whether layer at could bring it about, and if
// not which layer says less. A choice has no order, so nothing stands against
// any of its values. The default stands against nothing: whoever speaks below
// it replaces it.
func (c *Chain) OptionsAt(at LayerName) []Option {
	r := c.Rule.Get()
	var out []Option
	for _, v := range r.Scale.All() {
		o := Option{Value: v, Can: true}
		for l := LimitLayer; l < numLayers && r.Scale.Shape != catalogue.Choice; l++ {
			if l == at || l == DefaultLayer || c.Steps[l].Value == catalogue.Unset {
				continue
			}
			if r.Scale.Looser(v, c.Steps[l].Value) {
				o.Can, o.By = false, l
				break
			}
		}
		out = append(out, o)
	}
	return out
}

// about is the context a rule is asked in. The same rule may be asked in two
// contexts within one question: for the host and for a presenter.
type about struct {
	party  *outside
	person uint32
	space  uint32 // index, or none
	near   uint32 // row of the item or meeting, or none
}

// value finds the effective value of rule r. Where c is not nil it also fills
// in the chain. It is model §3. With c nil it costs a few loads; the chain is
// for explaining.
//
// A layer that the rule does not have, or that is not there in this context, is
// passed over: a rule of meetings has no partner's half, a question about
// nobody of ours no exceptions.
func (a *asker) value(r catalogue.RuleID, in *about, c *Chain) catalogue.Value {
	pol, inv := a.s.pol, &a.s.inv
	shape, layers := ruleShape[r], ruleLayers[r]
	best := catalogue.Unset
	// Nothing below the partner speaks here.
	if c == nil && layers&a.below == 0 {
		return a.wide(r, in.party)
	}
	if c != nil {
		c.Rule, c.Person, c.Party, c.Partner = r, "", addr.Address{}, ""
		if in.person != none {
			c.Person = inv.personIDs.text(inv.text, in.person)
		}
		if in.party != nil {
			c.Party = in.party.address
			if in.party.partner != none {
				c.Partner = pol.rest[in.party.partner].source.ID
			}
		}
		// The room may hold the chain of another rule.
		for l := range c.Steps {
			c.Steps[l] = Step{Value: catalogue.Unset, Held: catalogue.Unset}
		}
		c.Steps[LimitLayer] = Step{Applies: true, Value: pol.limit[r], Held: catalogue.Unset}
		c.Steps[DefaultLayer] = Step{Applies: true, Value: pol.fallback[r], Held: catalogue.Unset}
		if pol.saidHeld[r] {
			c.Steps[DefaultLayer].Held = pol.said[r]
		}
	}
	if layers&catalogue.AtPartner != 0 && in.party != nil && in.party.partner != none {
		best = pol.rows[pol.partners[in.party.partner].rules][r]
		if c != nil {
			rest := &pol.rest[in.party.partner]
			c.Steps[PartnerLayer] = Step{true, best, rest.held[r], rest.source.ID}
		}
	}
	if layers&catalogue.AtPeople != 0 && in.person != none {
		if c != nil {
			c.Steps[PeopleLayer].Applies = true
		}
		if in.person < uint32(len(pol.concerned)) && pol.concerned[in.person] {
			best = join(shape, best, a.peopleValue(r, in, c))
		}
	}
	if layers&catalogue.AtSpace != 0 && in.space != none {
		sp := inv.spaces.at(in.space)
		if sp.rules != none {
			best = join(shape, best, inv.rows[sp.rules][r])
		}
		if c != nil {
			c.Steps[SpaceLayer] = inv.step(sp.rules, sp.held, r)
			c.Steps[SpaceLayer].Where = inv.spaceIDs.text(inv.text, in.space)
		}
	}
	if layers&catalogue.AtItem != 0 && a.near != none {
		rules, held := a.nearRows()
		if rules != none {
			best = join(shape, best, inv.rows[rules][r])
		}
		if c != nil {
			c.Steps[ItemLayer] = inv.step(rules, held, r)
			c.Steps[ItemLayer].Where = a.resourceID()
		}
	}
	if best == catalogue.Unset {
		best = pol.fallback[r]
	}
	if shape == catalogue.Choice {
		return best
	}
	return join(shape, best, pol.limit[r])
}

// What of the catalogue every value needs, close together.
var (
	ruleShape  [catalogue.NumRules]catalogue.Shape
	ruleLayers [catalogue.NumRules]catalogue.Layers
	_          = func() bool {
		for i, r := range catalogue.Rules() {
			ruleShape[i], ruleLayers[i] = r.Scale.Shape, r.Layers
		}
		return true
	}()
)

// join takes what a nearer layer says to what wider ones say. A choice takes
// the nearest layer that speaks; levels the lesser value; methods what both
// allow. Unset says nothing, on either side.
func join(shape catalogue.Shape, best, v catalogue.Value) catalogue.Value {
	switch {
	case v == catalogue.Unset:
		return best
	case best == catalogue.Unset || shape == catalogue.Choice:
		return v
	case shape == catalogue.Methods:
		return best & v
	}
	return min(best, v)
}

// step is what a place says of a rule, with what is held back there.
func (v *inventory) step(rules, held uint32, r catalogue.RuleID) Step {
	s := Step{Applies: true, Value: catalogue.Unset, Held: catalogue.Unset}
	if rules != none {
		s.Value = v.rows[rules][r]
		if s.Value == catalogue.Unset && v.said != nil {
			s.Held = v.said[rules][r]
		}
	}
	if held != none && v.rows[held][r] != catalogue.Unset {
		s.Held = v.rows[held][r]
	}
	return s
}

// peopleValue finds what the exceptions of a person say: their own before those
// of their groups, several of the same the tightest. An exception for a person
// is meant more exactly than one for a group they are in, and replaces it, also
// where it is looser.
func (a *asker) peopleValue(r catalogue.RuleID, in *about, c *Chain) catalogue.Value {
	pol, inv := a.s.pol, &a.s.inv
	v := catalogue.Unset
	if in.person < uint32(len(pol.named)) && pol.named[in.person] {
		if v = a.tightest(pol.byPerson[in.person], r, in, c); v != catalogue.Unset {
			return v
		}
	}
	if len(pol.byGroup) == 0 {
		return v
	}
	scale := &r.Get().Scale
	l := inv.people.at(in.person).groups
	for _, g := range inv.lists[l.off : l.off+l.n] {
		if g >= uint32(len(pol.byGroup)) || pol.byGroup[g] == nil {
			continue
		}
		var own Chain
		at := c
		if c != nil {
			own.Rule, own.Steps[PeopleLayer] = r, c.Steps[PeopleLayer]
			at = &own
		}
		x := a.tightest(pol.byGroup[g], r, in, at)
		switch {
		case x == catalogue.Unset:
			if c != nil && c.Steps[PeopleLayer].Held == catalogue.Unset {
				c.Steps[PeopleLayer].Held = own.Steps[PeopleLayer].Held
			}
			continue
		case v == catalogue.Unset:
			v = x
		default:
			v = scale.Tighter(v, x)
		}
		if c != nil && (v == x || c.Steps[PeopleLayer].Where == "") {
			c.Steps[PeopleLayer].Where = own.Steps[PeopleLayer].Where
		}
	}
	if c != nil {
		c.Steps[PeopleLayer].Value = v
	}
	return v
}

// tightest joins what some exceptions say that are in force and mean the party.
// One that is held back is noted in the chain and counts for nothing.
func (a *asker) tightest(which []int32, r catalogue.RuleID, in *about, c *Chain) catalogue.Value {
	v := catalogue.Unset
	scale := &r.Get().Scale
	for _, i := range which {
		x := &a.s.pol.except[i]
		if i+1 == a.skip {
			continue
		}
		if x.rules[r] == catalogue.Unset && x.held[r] == catalogue.Unset || !moment.Within(a.at, x.from, x.until) ||
			!a.meant(x.parties, in.party) {
			continue
		}
		if y := x.rules[r]; y != catalogue.Unset {
			before := v
			if v == catalogue.Unset {
				v = y
			} else {
				v = scale.Tighter(v, y)
			}
			if c != nil && v != before {
				c.Steps[PeopleLayer].Where = x.source.ID
			}
		} else if c != nil {
			c.Steps[PeopleLayer].Held = x.held[r]
			if c.Steps[PeopleLayer].Where == "" {
				c.Steps[PeopleLayer].Where = x.source.ID
			}
		}
	}
	if c != nil {
		c.Steps[PeopleLayer].Value = v
	}
	return v
}

// meant reports whether refs name the party; nil means everybody. Whoever has
// no address is named by nothing. The names are a partner, a domain, a group or
// a single address.
func (a *asker) meant(refs []partyRef, p *outside) bool {
	if refs == nil {
		return true
	}
	if p == nil || p.address.IsZero() {
		return false
	}
	inv := &a.s.inv
	for _, r := range refs {
		switch r.what {
		case ofPartner:
			if p.partner != none && p.partner == r.index {
				return true
			}
		case ofDomain:
			if p.domain != none && p.domain == r.index ||
				p.domain == none && inv.domains.text(inv.text, r.index) == p.address.Domain().String() {
				return true
			}
		case ofGroup:
			if p.supposed && a.q.With.in(r.index) {
				return true
			}
			if p.known != nil {
				for _, g := range inv.lists[p.known.groups.off : p.known.groups.off+p.known.groups.n] {
					if g == r.index {
						return true
					}
				}
			}
		case ofAddress:
			if p.index != none && p.index == r.index {
				return true
			}
		}
	}
	return false
}
