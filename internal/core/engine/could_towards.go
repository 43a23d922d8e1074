package engine

import (
	"sync"
	"sync/atomic"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
)

// What our people could do towards an address: invite it, share something with
// it, let it join. It depends on the address, and not on the record behind it
// or on what it holds, so that it is asked once for all parties of a partner,
// and of partners of which policy says the same.

// addressKey is what tells addresses apart for that. It compares with ==.
type addressKey struct {
	facts           entryKind
	barred          bool
	partner, domain uint32 // see likeness
	groups          string
	alone           uint32
}

// couldAddress is what was asked about addresses of one key, by class of
// places.
type couldAddress struct {
	key       addressKey
	inviting  answers    // by couldTables.invitedAs
	joining   answers    // by couldTables.invitedAs
	sharing   [2]answers // by couldTables.sharedAs; with somebody new (0), or known (1)
	passed    [2]answers // what addressee asks, by couldTables.passable; somebody new (0), or known (1)
	directory answers    // whether they could be invited into the directory (0), or sign up without a record (1)
}

// couldAddresses keeps them for the workers of one question, who may ask at
// once.
type couldAddresses struct {
	mu  sync.Mutex
	all map[addressKey]*couldAddress
}

// of returns what is kept of addresses of a key.
func (x *couldAddresses) of(p *Potential, k addressKey) *couldAddress {
	x.mu.Lock()
	defer x.mu.Unlock()
	a := x.all[k]
	if a == nil {
		a = &couldAddress{key: k, inviting: make(answers, len(p.spaces)), joining: make(answers, len(p.spaces)),
			sharing: [2]answers{make(answers, len(p.items)), make(answers, len(p.items))},
			passed:  [2]answers{make(answers, p.passable), make(answers, p.passable)}, directory: make(answers, 2)}
		x.all[k] = a
	}
	return a
}

// addressKey tells the address of a party apart from others, whether it is
// known or not.
func (p *Potential) addressKey(o *couldOf) addressKey {
	s := p.most
	k := addressKey{partner: none, domain: none, alone: none}
	if o.index != none {
		l, outside := s.like(o.index, p.at, p.sides, &p.naming)
		if !outside {
			k.facts = ownDomain
			return k
		}
		k = addressKey{l.facts, l.barred, l.partner, l.domain, l.groups, l.alone}
	} else {
		l := s.likeNew(o.who.Address, &p.naming)
		k = addressKey{l.facts, l.barred, l.partner, l.domain, l.groups, l.alone}
	}
	if k.partner != none {
		k.partner = p.partnersAlike()[k.partner]
	}
	return k
}

// answers are kept by class. Two workers may find the same one at once, and
// then it is the same.
type answers []atomic.Int32

// known returns an answer that was kept.
func (a answers) known(c int32) answer { return answer(a[c].Load()) }

// keep keeps an answer and returns it.
func (a answers) keep(c int32, is bool) bool {
	a[c].Store(int32(answerIs(is)))
	return is
}

// invitedByOurs reports whether any of our people could invite them into spaces
// of a class. Whoever is suspended is brought back first, which is another
// matter.
func (o *couldOf) invitedByOurs(c int32) bool {
	if o.record && o.state == world.StateSuspended || o.who.Kind != ByAddress {
		return false
	}
	c = o.p.invitedAs[c]
	if is := o.towards.inviting.known(c); is != notAsked {
		return is == yes
	}
	sp := o.p.spaces[c].members[0]
	return o.towards.inviting.keep(c, o.byOurs(o.people(sp), inviteAction, o.p.spaceRef(sp), true))
}

// joins reports whether they could join spaces of a class by themselves. Only
// courses can be joined, without a record and without anybody's help.
func (o *couldOf) joins(c int32) bool {
	if o.who.Kind != ByAddress {
		return false
	}
	c = o.p.invitedAs[c]
	if is := o.towards.joining.known(c); is != notAsked {
		return is == yes
	}
	k := &o.p.spaces[c]
	if !o.p.most.inv.spaces.at(k.members[0]).takesJoiners() {
		return o.towards.joining.keep(c, false)
	}
	v, err := o.p.most.Decide(&Question{Subject: o.who, Action: joinAction, Resource: o.p.spaceRef(k.members[0]), At: o.p.at,
		With: &o.bare[0]})
	return o.towards.joining.keep(c, err == nil && v.Yes)
}

// sharedByOurs reports whether any of our people could share items of a class
// with them. way tells whether they have a record by then; whoever has one, or
// is in a course, is known.
func (o *couldOf) sharedByOurs(way int, c int32) bool {
	p := o.p
	if o.who.Kind != ByAddress {
		return false
	}
	c = p.sharedAs[c]
	k := 0
	if way == 1 || o.record || o.inCourse() != none {
		k = 1
	}
	if is := o.towards.sharing[k].known(c); is != notAsked {
		return is == yes
	}
	act, ok := PassedOnBy(p.items[c].kind)
	if !ok {
		return o.towards.sharing[k].keep(c, false)
	}
	it := p.items[c].members[0]
	people := o.people(p.most.inv.items.at(it).space)
	if act == reportsShare { // whoever shares reports need not be in the area
		people = append(people, o.others()...)
	}
	return o.towards.sharing[k].keep(c, o.byOurs(people, act, p.itemRef(it), k == 1))
}

// entersByOurs reports whether somebody without a record could get one without
// a space: by signing up, or because one of our people invites them into the
// directory.
func (o *couldOf) entersByOurs() bool {
	const invited, signsUp = 0, 1
	p, kept := o.p, o.towards.directory
	if kept.known(signsUp) == notAsked {
		v, err := p.most.Decide(&Question{Subject: o.who, Action: signUpAction, Resource: o.directory(), At: p.at, With: &o.bare[0]})
		kept.keep(signsUp, err == nil && v.Yes)
	}
	if kept.known(signsUp) == yes {
		return true
	}
	if is := kept.known(invited); is != notAsked {
		return is == yes
	}
	return kept.keep(invited, o.byOurs(o.others(), inviteAction, o.directory(), true))
}

// byOurs reports whether anybody of ours may do something about an address to a
// resource. people holds one of each sort who act there. It stops early where
// the refusal is about the address and would be the same for everybody: the
// domain gate, the counterpart and the switches do not know who acts.
func (o *couldOf) byOurs(people []uint32, act catalogue.ActionID, r world.Resource, known bool) bool {
	p := o.p
	for _, x := range people {
		q := Question{Subject: Who{Kind: ByPerson, ID: p.most.inv.personIDs.text(p.most.inv.text, x)}, Action: act, Resource: r, At: p.at,
			Address: o.who.Address, known: known}
		v, err := p.most.Decide(&q)
		if err == nil && v.Yes {
			return true
		}
		if v.Refusing.Has(catalogue.DomainGate) || v.Refusing.Has(catalogue.Counterpart) || v.Refusing.Has(catalogue.ServiceGate) {
			return false // that is about the address, whoever does it
		}
	}
	return false
}
