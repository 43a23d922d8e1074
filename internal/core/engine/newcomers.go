package engine

import (
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Typical newcomers (model §7) and what needs no role. There is one for every
// domain of a partner and for whoever an exception, a space or a meeting names:
// some thousands in a large organisation. Asking each of them about each sort
// of person and meeting would grow with the square of the world, so their
// answers are kept by sign (see signs), and things that say the same are asked
// once (see division). Counting, expectations and impacts go this way.

// newAnswers answers typical newcomers about things that are alike, on two
// sides: once for all newcomers of one sign. With one snapshot on both sides
// each question is asked once. It belongs to one goroutine.
type newAnswers struct {
	sides   [2]*Snapshot
	at      moment.Moment
	named   [2]*naming
	signs   [2]*signs
	about   map[catalogue.ResourceKind][]alike
	naming  map[catalogue.ResourceKind]*namingIndex
	divided []*division // by wideActions, made when one is asked for; see dividedFor
	told    []map[[2]wideSign][][2]Verdict
	who     Who         // who was asked about last
	like    [2]likeness // and what tells them apart on each side; of an address
}

// newNewAnswers begins with nothing asked. about holds the sorts of things of
// each kind, where they are known already; it may be nil.
func newNewAnswers(left, right *Snapshot, at moment.Moment, about map[catalogue.ResourceKind][]alike) *newAnswers {
	x := &newAnswers{sides: [2]*Snapshot{left, right}, at: at, about: map[catalogue.ResourceKind][]alike{},
		naming: map[catalogue.ResourceKind]*namingIndex{}, divided: make([]*division, len(wideActions)),
		told: make([]map[[2]wideSign][][2]Verdict, len(wideActions))}
	for k, a := range about {
		x.about[k] = a
	}
	for side, s := range x.sides {
		if side == 1 && left == right {
			x.named[1], x.signs[1] = x.named[0], x.signs[0]
			break
		}
		n := s.naming()
		x.named[side], x.signs[side] = &n, newSigns(s, at, &n)
	}
	return x
}

// things lists the sorts of things of a kind; of each one is asked about.
func (x *newAnswers) things(kind catalogue.ResourceKind) []alike {
	a, ok := x.about[kind]
	if !ok {
		a = wideResources(x.sides[0], x.sides[1], kind)
		x.about[kind] = a
	}
	return a
}

// likeness is what tells a newcomer apart on each side. It is found once for
// all that one newcomer is asked.
func (x *newAnswers) likeness(who Who) *[2]likeness {
	if x.who != who {
		x.who = who
		x.like[0] = x.sides[0].likeNew(who.Address, x.named[0])
		if x.like[1] = x.like[0]; x.sides[0] != x.sides[1] {
			x.like[1] = x.sides[1].likeNew(who.Address, x.named[1])
		}
	}
	return &x.like
}

// of are the answers to a newcomer on both sides about the sorts of things that
// a wide action is about, in their order. What makes no sense is no yes. The
// list is kept: callers do not change it.
//
// Where things can be divided by what they say, one of each group is asked for
// all of it, but for those that name the newcomer's partner, domain or address
// on either side.
func (x *newAnswers) of(n *Newcomer, action int) [][2]Verdict {
	w := &wideActions[action]
	about := x.things(w.kind)
	q := Question{Subject: n.Who, Action: w.act, Resource: world.Resource{Kind: w.kind}, At: x.at, as: unrelated} // nobody's contact, in no space
	ask := func(k int) (v [2]Verdict) {
		q.Resource.ID = about[k].id
		for side, s := range x.sides {
			if side == 1 && s == x.sides[0] {
				v[1] = v[0]
				break
			}
			if is, err := s.Decide(&q); err == nil {
				v[side] = is
			}
		}
		return
	}
	each := func() [][2]Verdict {
		out := make([][2]Verdict, len(about))
		for k := range about {
			out[k] = ask(k)
		}
		return out
	}
	if n.Who.Kind != ByAddress {
		return each()
	}
	like := x.likeness(n.Who)
	sign := [2]wideSign{x.signs[0].of(action, &like[0])}
	if sign[1] = sign[0]; x.sides[0] != x.sides[1] {
		sign[1] = x.signs[1].of(action, &like[1])
	}
	if told := x.told[action][sign]; told != nil {
		return told
	}
	out := [][2]Verdict(nil)
	if d := x.dividedFor(action, about); d != nil {
		out = onceEach(d, x.namedBy(d, n, like), nil, ask)
	} else {
		out = each()
	}
	if x.told[action] == nil {
		x.told[action] = map[[2]wideSign][][2]Verdict{}
	}
	x.told[action][sign] = out
	return out
}

// namedBy returns the classes of things that name a newcomer, on either side;
// nil where none do.
func (x *newAnswers) namedBy(d *division, n *Newcomer, like *[2]likeness) (out map[int32]bool) {
	for side, s := range x.sides {
		inv := &s.inv
		refs := []partyRef{{what: ofDomain, index: inv.domains.find(inv.text, n.Who.Address.Domain().String())},
			{what: ofAddress, index: inv.addresses.find(inv.text, n.Who.Address.String())}}
		if like[side].partner != none {
			refs = append(refs, partyRef{what: ofPartner, index: like[side].partner})
		}
		for class := range d.naming.names(side, refs...) {
			if out == nil {
				out = map[int32]bool{}
			}
			out[class] = true
		}
	}
	return
}

// dividedFor puts the things of a wide action together that say the same; nil
// where they are asked one by one: our directory is one, and courses are told
// apart by what somebody was given in them.
func (x *newAnswers) dividedFor(action int, about []alike) *division {
	w := &wideActions[action]
	if w.kind == catalogue.OurDirectory || w.kind == catalogue.Space {
		return nil
	}
	if x.divided[action] == nil {
		if x.naming[w.kind] == nil {
			x.naming[w.kind] = namingOf(x.sides, w.kind, about, x.at)
		}
		x.divided[action] = sortFor(x.sides, w, about, x.naming[w.kind], x.at)
	}
	return x.divided[action]
}
