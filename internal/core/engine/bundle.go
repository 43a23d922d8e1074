package engine

import (
	"slices"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Who may be given a bundle, and who approves it (practice §1).

// BundleQuestions are what is asked before an address may be given a bundle:
// whether the first owner who is here of each space that it gives could invite
// it there, or, for what it gives of other kinds, into the directory. The
// approval stands in for who may invite. nobody is the first thing that nobody
// answers for, who would have to be asked; then there are no questions.
//
// The questions are asked by whoever gives the bundle, here and in *could*, so
// that both mean the same by "may be given".
func (s *Snapshot) BundleQuestions(b *world.Bundle, a addr.Address, at moment.Moment) (list []Question, nobody *world.Resource) {
	for i := range b.Gives {
		r := b.Gives[i].Resource
		if r.Kind != catalogue.Space {
			r = world.Resource{Kind: catalogue.OurDirectory, ID: "ours"}
		}
		if slices.ContainsFunc(list, func(q Question) bool { return q.Resource == r }) {
			continue
		}
		by := s.OwnersHere(b.Gives[i].Resource, at)
		if len(by) == 0 {
			return nil, &b.Gives[i].Resource
		}
		list = append(list, Question{Subject: Who{Kind: ByPerson, ID: by[0]}, Action: inviteAction, Resource: r, Address: a, At: at,
			Approved: true})
	}
	return list, nil
}

// HeldInstead returns a bundle that an address holds, or will, beside which
// nobody holds another one; nil where it holds none. Either bundle may name the
// other.
func (s *Snapshot) HeldInstead(b *world.Bundle, a addr.Address, at moment.Moment) *world.Bundle {
	for _, h := range s.Holdings(a) {
		if h.Until <= at || h.Bundle == b.ID {
			continue
		}
		if other := s.pol.source.Bundle(h.Bundle); other != nil &&
			(slices.Contains(b.NotWith, h.Bundle) || slices.Contains(other.NotWith, b.ID)) {
			return other
		}
	}
	return nil
}

// holdsOf reports whether an address holds a bundle, or will.
func (s *Snapshot) holdsOf(b *world.Bundle, a addr.Address, at moment.Moment) bool {
	return slices.ContainsFunc(s.Holdings(a), func(h world.Holding) bool { return h.Bundle == b.ID && h.Until > at })
}

// BundleFor reports whether an address is one of those that a bundle is for,
// whatever the rules say. Whoever belongs to no partner is for a bundle that
// takes others, too.
func (s *Snapshot) BundleFor(b *world.Bundle, a addr.Address) bool {
	partner := ""
	if p := s.Match(a).Partner; p != nil {
		partner = p.ID
	}
	return b.For(partner)
}

// ApprovalStep is one step of approving a bundle: the people of ours who may
// take it, by their id. Where there are none, a keeper does.
type ApprovalStep struct {
	By     string // as the bundle says it
	People []string
}

// ApprovalSteps lists the steps of approving a bundle, in their order. sponsor
// is who was named as such; where nobody was, whoever owns the first of what it
// gives stands in.
//
// Without any steps of its own a bundle is approved by a keeper. A step by
// owners is one for each thing that the bundle gives.
func (s *Snapshot) ApprovalSteps(b *world.Bundle, sponsor string, at moment.Moment) (out []ApprovalStep) {
	steps := b.Approval
	if len(steps) == 0 {
		steps = []string{world.ByKeeper}
	}
	for _, by := range steps {
		switch by {
		case world.BySponsor:
			if sponsor != "" {
				out = append(out, ApprovalStep{by, []string{sponsor}})
			} else {
				out = append(out, ApprovalStep{by, s.OwnersHere(b.Gives[0].Resource, at)})
			}
		case world.ByOwner:
			for _, g := range b.Gives {
				out = append(out, ApprovalStep{by, s.OwnersHere(g.Resource, at)})
			}
		case world.ByKeeper, world.ByAdministrator:
			out = append(out, ApprovalStep{By: by})
		// A person who is named by their id.
		default:
			out = append(out, ApprovalStep{by, []string{by}})
		}
	}
	return
}

// ApprovedWithout lists the steps of approving a bundle where people of ours
// take all of them who need be neither administrators nor keepers; nil where
// they cannot, or where nobody may ask for it.
//
// A step that a keeper or an administrator takes has no people, and so makes it
// nil.
func (s *Snapshot) ApprovedWithout(b *world.Bundle, at moment.Moment) []ApprovalStep {
	if b.Closed || len(b.Gives) == 0 {
		return nil
	}
	steps := s.ApprovalSteps(b, "", at)
	for i := range steps {
		steps[i].People = slices.DeleteFunc(steps[i].People, func(id string) bool { return !s.IsHere(id, at) })
		if len(steps[i].People) == 0 {
			return nil
		}
	}
	return steps
}

// MayHold reports whether an address could ask for a bundle and be given more
// than it holds of it: it is for them, nothing that they hold keeps it from
// them, and the rules let them be invited where it leads. Whoever is suspended
// is brought back by that, which is another matter.
//
// It is asked of the policy and not of the approvers: whether they say yes is
// theirs.
func (s *Snapshot) MayHold(b *world.Bundle, a addr.Address, at moment.Moment) bool {
	if !s.BundleFor(b, a) || s.HeldInstead(b, a, at) != nil || s.holdsOf(b, a, at) {
		return false
	}
	list, nobody := s.BundleQuestions(b, a, at)
	if nobody != nil {
		return false
	}
	for i := range list {
		if v, err := s.Decide(&list[i]); err != nil || !v.Yes {
			return false
		}
	}
	return true
}

// couldBundle is a bundle that may be given without an administrator or keeper.
// Roles are by class of couldTables; whatever a bundle gives is alone in its
// class.
type couldBundle struct {
	*world.Bundle
	spaces, items map[int32]catalogue.Role // what it gives, by class
}

// bundled lists those bundles, and everything that they give.
func (t *couldTables) bundled(at moment.Moment) (spaces, items map[uint32]bool) {
	inv := &t.most.inv
	spaces, items = map[uint32]bool{}, map[uint32]bool{}
	for i := range t.most.pol.source.Bundles {
		b := &t.most.pol.source.Bundles[i]
		if t.most.ApprovedWithout(b, at) == nil {
			continue
		}
		t.bundles = append(t.bundles, couldBundle{b, map[int32]catalogue.Role{}, map[int32]catalogue.Role{}})
		for _, g := range b.Gives {
			if g.Resource.Kind == catalogue.Space {
				spaces[inv.spaceIDs.find(inv.text, g.Resource.ID)] = true
			} else {
				items[inv.itemIDs.find(inv.text, g.Resource.ID)] = true
			}
		}
	}
	return
}

// classed notes in which classes the things are that the bundles give: each is
// the only one of its class.
func (t *couldTables) classed() {
	inv := &t.most.inv
	for i := range t.bundles {
		b := &t.bundles[i]
		for _, g := range b.Gives {
			if k := inv.spaceIDs.find(inv.text, g.Resource.ID); g.Resource.Kind == catalogue.Space && k != none && t.spaceOf[k] >= 0 {
				b.spaces[t.spaceOf[k]] = g.Role
			} else if k := inv.itemIDs.find(inv.text, g.Resource.ID); g.Resource.Kind.IsItem() && k != none && t.itemOf[k] >= 0 &&
				inv.items.at(k).kind == g.Resource.Kind {
				b.items[t.itemOf[k]] = g.Role
			}
		}
	}
}

// given reports whether they could ask for a bundle, by its place among those
// that may be given, and get it. The answer is kept for the party.
func (o *couldOf) given(k int) bool {
	if o.bundles == nil {
		o.bundles = make([]answer, len(o.p.bundles))
	}
	if o.bundles[k] == notAsked {
		o.bundles[k] = answerIs(o.who.Kind == ByAddress && !(o.record && o.state == world.StateSuspended) &&
			o.p.most.MayHold(o.p.bundles[k].Bundle, o.who.Address, o.p.at))
	}
	return o.bundles[k] == yes
}

// byBundle returns the role that bundles could give them on a space, or an
// item, of a class; an owner makes more of it.
func (o *couldOf) byBundle(item bool, c int32) (role catalogue.Role) {
	for k := range o.p.bundles {
		b, space := &o.p.bundles[k], c
		gives, is := b.spaces[c]
		if item {
			gives, is = b.items[c]
			space = o.p.items[c].space
		}
		if is && o.given(k) {
			if role = max(role, gives); o.p.spaces[space].own {
				return catalogue.Manage
			}
		}
	}
	return
}

// heldApart tells parties apart by what of the bundles that may be given they
// hold, or are kept from by what they hold. Such parties are not alike: what
// one may still ask for the other has. It is "" for nearly everybody.
func (p *Potential) heldApart(i uint32) (out string) {
	if len(p.bundles) == 0 || len(p.most.inv.holdings[i]) == 0 {
		return ""
	}
	a := p.now.addressOf(i)
	for k := range p.bundles {
		b := p.bundles[k].Bundle
		if p.most.HeldInstead(b, a, p.at) != nil || p.most.holdsOf(b, a, p.at) {
			out += b.ID + " "
		}
	}
	return
}

// BundlesOf lists the bundles that somebody could ask for and be given without
// an administrator or keeper.
func (p *Potential) BundlesOf(who Who) (out []*world.Bundle) {
	o := p.of(who)
	for k := range p.bundles {
		if o.given(k) {
			out = append(out, p.bundles[k].Bundle)
		}
	}
	return
}
