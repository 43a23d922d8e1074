package engine

import (
	"slices"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Scope says which answers are looked at: whose, to what, about what. It is
// what an expectation, a record of reach and a question over history are about.
//
// *Nobody of Harbour ever changes a file in the Loan dossier* is the scope of
// Party Harbour, Actions files.change and Resource space:loan-dossier; what is
// expected of its answers is said elsewhere (package expect). The empty scope
// with all actions is *everybody, everything*: with a hundred thousand guests
// some seventy million pairs with a role and billions without one, which is why
// answers come in bulk (see Yes).
type Scope struct {
	Party    Parties
	Actions  Actions         // what outsiders do
	Outward  Actions         // what people of ours do towards them, who are then context.address
	Resource *world.Resource // a space is meant with all in it; nil for everything
	// Together has the things of a space that are alike to a party told as one,
	// with * for their id: what only counts them is quicker so.
	Together bool
	Divided  *Divided // made once for several scopes of one snapshot and moment; nil: when it is needed
}

// Divided is everybody at one moment, divided for what needs no role. Several
// goroutines may use it at once.
type Divided struct{ work *wideWork }

// Divided divides everybody for what needs no role at a moment. It costs one
// pass over all parties, people and meetings, which a hundred scopes of one
// snapshot need not each pay for themselves.
func (s *Snapshot) Divided(at moment.Moment) *Divided {
	work := newWideWork(s, s, at)
	if len(work.about[catalogue.Person]) > 0 {
		work.classOf(work.about[catalogue.Person][0].members[0]) // before several ask for it
	}
	return &Divided{work}
}

// Parties is a set of parties outside, typical newcomers (model §7) among them.
// Its zero value is everybody, links that work for whoever holds them included;
// partners, domains and groups hold no links.
//
// At most one of the fields of Of, or ByKind, is set.
type Parties struct {
	Of     world.PartyRef
	Kind   Kind
	ByKind bool
}

// Everybody reports whether nobody is left out.
func (p *Parties) Everybody() bool { return p.Of == world.PartyRef{} && !p.ByKind }

// InwardActions are the actions that outsiders do by themselves; OutwardActions
// those of people of ours that concern somebody outside and that nobody else
// does. Which is which follows from who has a row in the catalogue, and from
// whether the action names an address.
//
// What is neither (a guest who shares onward) is asked in reaches and would
// have no one party here.
var InwardActions, OutwardActions = func() (in, out Actions) {
	for i := range catalogue.Actions() {
		act := &catalogue.Actions()[i]
		switch theirs := act.Asks[catalogue.Ours] != nil && act.Asks[catalogue.Record] == nil; {
		case theirs && act.Address:
			out |= 1 << act.ID
		case !theirs && !act.Address:
			in |= 1 << act.ID
		}
	}
	return
}()

// Yes is a yes within a scope, or several that are alike. One Yes may stand for
// millions of pairs; whoever needs them one by one calls EachPair.
type Yes struct {
	Who Who
	// where it holds for several known parties: their numbers (see
	// Snapshot.AddressAt); Who is one of them. They hold until found returns.
	Members    []uint32
	Party      uint32 // else the number of a known party; NoParty for a newcomer or a link
	Newcomer   bool
	Name       string // of a newcomer
	Kind       Kind
	Person     string // who does it, where that is a person of ours
	Action     catalogue.ActionID
	Resource   world.Resource // its id is * where it holds for several that are alike
	Pairs      int            // of a party and a resource
	Conditions catalogue.Condition

	move  *wideMove  // which resources it is about, where there are several
	all   []uint32   // or so
	lists [][]uint32 // or so, list by list
	each  int        // pairs of each member, where it is known
}

// EachPair calls fn for every question that a yes stands for, until it returns
// false, and reports whether it went to the end. It is not called for looking
// up people, which counts each party once.
//
// It decides each pair again, which also makes it a check of what was put
// together. It costs as many decisions as the yes has pairs: whoever wants the
// first hundred stops there.
func (s *Snapshot) EachPair(y *Yes, at moment.Moment, fn func(q *Question) bool) bool {
	q := Question{Subject: y.Who, Action: y.Action, Resource: y.Resource, At: at}
	var resources []world.Resource
	add := func(i uint32) { resources = append(resources, s.wideResource(y.Resource.Kind, i)) }
	switch {
	case y.Action == lookUpAction && y.Resource.ID == "*":
		return true
	case y.move != nil && y.move.part != nil:
		y.move.divided.each(y.move.part, func(class int32) {
			for _, i := range y.move.divided.about[class].members {
				add(i)
			}
		})
	case y.move != nil:
		for _, i := range y.move.resources {
			add(i)
		}
	case y.all != nil:
		for _, i := range y.all {
			add(i)
		}
	// One thing, which the yes names.
	default:
		resources = append(resources, y.Resource)
	}
	// Asks the one who is set in q about each of the resources.
	ask := func() bool {
		for _, r := range resources {
			q.Resource = r
			if y.outward() {
				q.Subject, q.Address = Who{Kind: ByPerson, ID: r.ID}, y.Who.Address
			}
			if v, err := s.Decide(&q); err == nil && v.Yes && !fn(&q) {
				return false
			}
		}
		return true
	}
	if len(y.Members) == 0 {
		return ask()
	}
	everything := resources
	for _, m := range y.Members {
		if q.Subject = (Who{Address: s.addressOf(m)}); y.strangers() { // contacts come by themselves
			resources = resources[:0:0]
			for _, r := range everything {
				if i := s.inv.personIDs.find(s.inv.text, r.ID); !slices.Contains(s.reversed().contacts[m], i) {
					resources = append(resources, r)
				}
			}
		}
		if !ask() {
			return false
		}
	}
	return true
}

// strangers reports whether it is about those who are no contacts. Those are
// told with their contacts left out.
//
// Which of the two a move is about shows in its shape: contacts are told one by
// one, as one member with one person (see askContacts); whatever is larger is
// about the rest.
func (y *Yes) strangers() bool {
	m := y.move
	if m == nil || m.part == nil && len(m.resources) == 1 && len(m.members) == 1 {
		return false
	}
	return slices.ContainsFunc(wideActions, func(w wideAction) bool { return w.act == m.act && w.kind == m.kind && w.contacts })
}

// Each returns how many pairs each of several members has in it; 0 where that
// is not the same of all. Whoever takes some of the members can then multiply
// in place of going through pairs.
//
// It is not the same where contacts were left out, who are others for each
// member.
func (y *Yes) Each() int {
	m := y.move
	switch {
	case m == nil:
		return y.each
	case m.scope:
		return 1
	case m.part != nil && m.pairs == m.cohort.size()*m.part.n:
		return m.part.n
	}
	return 0
}

// outward reports whether people of ours do it.
func (y *Yes) outward() bool { return OutwardActions.Has(y.Action) }

// Set tells who is in a set of parties at a moment. It answers in constant time
// for those who are known.
type Set struct{ w *scoped }

// SetOf makes ready to tell who is in a set.
func (s *Snapshot) SetOf(p Parties, at moment.Moment) *Set {
	return &Set{s.scopedTo(&Scope{Party: p}, at)}
}

// Has reports whether a party that is known by its number, or else somebody who
// is not (party is NoParty then), is in the set. kind is what they are at the
// moment of the set.
func (x *Set) Has(party uint32, who Who, kind Kind) bool {
	switch {
	case x.w.shut:
		return false
	case party != none:
		return x.w.holds(party, kind)
	}
	return x.w.holdsNew(&Newcomer{Who: who})
}

// NoParty is the number of whoever is not known.
const NoParty = none
