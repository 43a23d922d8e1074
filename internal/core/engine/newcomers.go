package engine

import (
	"slices"

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

// newcomerAnswers answers typical newcomers about things that are alike, on two
// sides: once for all newcomers of one sign. With one snapshot on both sides
// each question is asked once. It belongs to one goroutine.
type newcomerAnswers struct {
	sides   [2]*Snapshot
	at      moment.Moment
	named   [2]*naming
	signs   [2]*signs
	about   map[catalogue.ResourceKind][]alike
	naming  map[catalogue.ResourceKind]*namingIndex
	divided []*division // by wideActions, made when one is asked for; see dividedFor
	told    []map[[2]wideSign][][2]Verdict
	sorts   []map[[2]int32]*newcomerSort // by wideActions, then by sign without names
	who     Who                          // who was asked about last
	like    [2]likeness                  // and what tells them apart on each side; of an address
}

// answersOfNewcomers begins with nothing asked. about holds the sorts of things
// of each kind, where they are known already; it may be nil.
func answersOfNewcomers(left, right *Snapshot, at moment.Moment, about map[catalogue.ResourceKind][]alike) *newcomerAnswers {
	x := &newcomerAnswers{sides: [2]*Snapshot{left, right}, at: at, about: map[catalogue.ResourceKind][]alike{},
		naming: map[catalogue.ResourceKind]*namingIndex{}, divided: make([]*division, len(wideActions)),
		told: make([]map[[2]wideSign][][2]Verdict, len(wideActions)), sorts: make([]map[[2]int32]*newcomerSort, len(wideActions))}
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
func (x *newcomerAnswers) things(kind catalogue.ResourceKind) []alike {
	a, ok := x.about[kind]
	if !ok {
		a = wideResources(x.sides[0], x.sides[1], kind)
		x.about[kind] = a
	}
	return a
}

// likeness is what tells a newcomer apart on each side. It is found once for
// all that one newcomer is asked.
func (x *newcomerAnswers) likeness(who Who) *[2]likeness {
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
func (x *newcomerAnswers) of(n *Newcomer, action int) [][2]Verdict {
	about := x.things(wideActions[action].kind)
	ask := func(k int) [2]Verdict { return x.ask(n, action, about[k].id) }
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
	sign := x.sign(action, like)
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

// sign is what tells a newcomer apart for an action on both sides.
func (x *newcomerAnswers) sign(action int, like *[2]likeness) (out [2]wideSign) {
	out[0] = x.signs[0].of(action, &like[0])
	if out[1] = out[0]; x.sides[0] != x.sides[1] {
		out[1] = x.signs[1].of(action, &like[1])
	}
	return
}

// ask asks a newcomer about one thing on both sides. What makes no sense is no
// yes.
func (x *newcomerAnswers) ask(n *Newcomer, action int, id string) (v [2]Verdict) {
	w := &wideActions[action]
	// They are nobody's contact, and in no space.
	q := Question{Subject: n.Who, Action: w.act, Resource: world.Resource{Kind: w.kind, ID: id}, At: x.at, as: unrelated}
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

// newcomerSort is what newcomers of one sign are told of the groups of things
// that do not name them: once for all of them, whatever number of newcomers
// there are. moves sums what changes over all things of the groups that were
// asked.
type newcomerSort struct {
	moves Moves
	told  []([2]Verdict) // by group
	left  []int32        // groups that nobody was asked about yet, since all of it named them; told says no on both sides there
}

// moves counts what changes for a newcomer with an action, over all things.
//
// Newcomers and things both grow with the world. So a newcomer is not compared
// with each thing: what their sort is told is summed up once, and only where
// something names them is that taken out, and their own answer put in.
func (x *newcomerAnswers) moves(n *Newcomer, action int) (out Moves) {
	about := x.things(wideActions[action].kind)
	d := x.dividedFor(action, about)
	if n.Who.Kind != ByAddress || d == nil {
		for k, v := range x.of(n, action) {
			out.between(&v, len(about[k].members))
		}
		return
	}
	like := x.likeness(n.Who)
	named := x.namedBy(d, n, like)
	sort := x.sortOf(action, x.sign(action, like), len(d.groups))
	sort.left = slices.DeleteFunc(sort.left, func(g int32) bool {
		i := slices.IndexFunc(d.groups[g].classes, func(k int32) bool { return !named[k] })
		if i < 0 {
			return false
		}
		sort.told[g] = x.ask(n, action, about[d.groups[g].classes[i]].id)
		sort.moves.between(&sort.told[g], d.groups[g].n)
		return true
	})
	out = sort.moves
	for k := range named {
		out.between(&sort.told[d.of[k]], -len(about[k].members))
		v := x.ask(n, action, about[k].id)
		out.between(&v, len(about[k].members))
	}
	return
}

// sortOf finds what is kept for a sign, names left aside.
func (x *newcomerAnswers) sortOf(action int, sign [2]wideSign, groups int) *newcomerSort {
	k := [2]int32{sign[0].sign, sign[1].sign}
	sort := x.sorts[action][k]
	if sort == nil {
		sort = &newcomerSort{told: make([][2]Verdict, groups), left: make([]int32, groups)}
		for g := range sort.left {
			sort.left[g] = int32(g)
		}
		if x.sorts[action] == nil {
			x.sorts[action] = map[[2]int32]*newcomerSort{}
		}
		x.sorts[action][k] = sort
	}
	return sort
}

// namedBy returns the classes of things that name a newcomer, on either side;
// nil where none do.
func (x *newcomerAnswers) namedBy(d *division, n *Newcomer, like *[2]likeness) (out map[int32]bool) {
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
func (x *newcomerAnswers) dividedFor(action int, about []alike) *division {
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
