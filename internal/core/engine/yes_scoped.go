package engine

import (
	"math/bits"
	"slices"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// scoped answers within a scope at one moment. Names of the scope are looked up
// once.
type scoped struct {
	*Scope
	s       *Snapshot
	at      moment.Moment
	x       *sides
	space   uint32 // where the resource is a space
	partner uint32
	domain  uint32
	group   uint32
	address uint32
	stop    func() error
	found   func(*Yes) error
	shut    bool             // what it names is unknown: nothing is in it
	could   []couldAbout     // what Potential.about lists; nil where nobody asked yet
	news    *newcomerAnswers // of newcomers, made when the first is asked about
}

// EachYes calls found for everything in a scope that is answered with yes at a
// moment. Looking up people counts each party once where no person is named
// (model §7). stop is asked now and then and ends the search where whoever
// asked went away. Where stop or found fails it ends with that error; one of
// its own is a *WrongUse. The Yes that found is given is used again for the
// next: whoever keeps it copies it.
//
// It picks the cheapest way: from the party where one is named, which costs a
// reach; from the resource where that is, which costs an audience; else through
// everybody cohort by cohort, which costs a count of everybody.
func (s *Snapshot) EachYes(x *Scope, at moment.Moment, stop func() error, found func(*Yes) error) error {
	w := s.scopedTo(x, at)
	w.stop, w.found = stop, found
	if w.shut {
		return nil
	}
	if w.Actions != 0 {
		var err error
		switch {
		case !w.Party.Of.Address.IsZero():
			err = w.ofOne(Who{Address: w.Party.Of.Address})
		case w.Resource != nil && w.Resource.Kind != catalogue.Mailbox:
			err = w.about()
		default:
			err = w.anywhere()
		}
		if err != nil {
			return err
		}
	}
	return w.outward()
}

// scopedTo looks up what a scope names. What is not there is noted, and makes
// the scope empty rather than everything: an expectation about a partner who is
// no more must not come to speak of all.
func (s *Snapshot) scopedTo(x *Scope, at moment.Moment) *scoped {
	inv := &s.inv
	s.indexed()
	w := &scoped{Scope: x, s: s, at: at, x: s.sidesAt(at), space: none, partner: none, domain: none, group: none, address: none}
	switch ref := x.Party.Of; {
	case ref.Partner != "":
		w.partner = inv.partners.find(inv.text, ref.Partner)
		w.shut = w.partner == none || !s.pol.partners[w.partner].exists
	case ref.Group != "":
		w.group = inv.groupIDs.find(inv.text, ref.Group)
		w.shut = w.group == none
	case !ref.Address.IsZero():
		w.address = inv.addresses.find(inv.text, ref.Address.String())
	}
	if r := x.Resource; r != nil && r.Kind == catalogue.Space {
		w.space = inv.spaceIDs.find(inv.text, r.ID)
	}
	return w
}

// holds reports whether a known party is in the set. Bars count with partners:
// whoever is barred belongs to none.
//
// A group holds whoever is in it at the asked moment; a domain is meant alone,
// without those below it.
func (w *scoped) holds(i uint32, kind Kind) bool {
	p, s := &w.Party, w.s
	q := s.inv.parties.at(i)
	switch ref := &p.Of; {
	case p.ByKind:
		return kind == p.Kind
	case ref.Partner != "":
		d := &s.pol.domains[q.domain]
		return d.kind == partnerDomain && d.partner == w.partner && d.bar == 0 && !(len(w.x.barred) > 0 && w.x.barred[i])
	case !ref.Domain.IsZero():
		return s.addressOf(i).Domain() == ref.Domain
	case ref.Group != "":
		return slices.Contains(s.inv.groupsOf(q, w.at), w.group)
	case !ref.Address.IsZero():
		return i == w.address
	}
	return true
}

// holdsNew reports whether a typical newcomer is in the set. A typical newcomer
// is in no group.
func (w *scoped) holdsNew(n *Newcomer) bool {
	p := &w.Party
	if n.Who.Kind == ByLinkID {
		return p.Everybody() || p.ByKind && p.Kind == KindBearer
	}
	switch ref := &p.Of; {
	case p.ByKind:
		return w.s.KindAt(n.Who.Address, w.at) == p.Kind
	case ref.Partner != "":
		m := w.s.Match(n.Who.Address)
		return m.Bar == nil && m.Partner != nil && m.Partner.ID == ref.Partner
	case !ref.Domain.IsZero():
		return n.Who.Address.Domain() == ref.Domain
	case ref.Group != "":
		return false
	case !ref.Address.IsZero():
		return n.Who.Address == ref.Address
	}
	return true
}

// newcomers lists the typical newcomers of the set. A domain that nobody of
// note is from has one all the same.
func (w *scoped) newcomers() (out []Newcomer) {
	for _, n := range w.s.NewcomersAt(w.at) {
		if w.holdsNew(&n) {
			out = append(out, n)
		}
	}
	if d := w.Party.Of.Domain; !d.IsZero() && len(out) == 0 {
		out = append(out, Newcomer{Who: Who{Address: addr.Newcomer(d)}, Name: "a newcomer from " + d.String()})
	}
	return out
}

// covers reports whether a resource is in the scope. A space covers itself, its
// items and its meetings.
func (w *scoped) covers(r world.Resource) bool {
	if w.Resource == nil || *w.Resource == r {
		return true
	}
	if w.space == none {
		return false
	}
	inv := &w.s.inv
	switch {
	case r.Kind.IsItem():
		i := inv.itemIDs.find(inv.text, r.ID)
		return i != none && inv.items.at(i).space == w.space
	case r.Kind == catalogue.Meeting:
		i := inv.meetingIDs.find(inv.text, r.ID)
		return i != none && inv.meetings.at(i).space == w.space
	}
	return false
}

// ofOne asks one party, by all it was ever given and all that needs no role. It
// goes as a reach does, and keeps the answers of people who are alike: most of
// our people are named by no exception, so that one answer does for thousands.
func (w *scoped) ofOne(who Who) error {
	s := w.s
	people := s.peopleFor(who)
	classes := map[catalogue.ActionID]map[int]Verdict{}
	lookedUp := false
	y := Yes{Who: who, Party: w.known(who)}
	if y.Newcomer = y.Party == none; y.Newcomer {
		y.Name = who.String()
	}
	_, err := s.each(who, w.at, nil, false, func(q *Question, _ string) error {
		if q.Resource.ID == "*" || !w.Actions.Has(q.Action) || !w.covers(q.Resource) {
			return nil
		}
		lookUp := q.Action == lookUpAction && w.Resource == nil
		if lookUp && lookedUp {
			return nil
		}
		class, classed := people.of(q)
		v, known := classes[q.Action][class]
		if !classed || !known {
			var err error
			if v, err = s.Decide(q); err != nil {
				return nil // nothing that could be asked
			}
			if classed {
				if classes[q.Action] == nil {
					classes[q.Action] = map[int]Verdict{}
				}
				classes[q.Action][class] = v
			}
		}
		if !v.Yes {
			return nil
		}
		y.Kind, y.Action, y.Resource, y.Pairs, y.Conditions = v.Kind, q.Action, q.Resource, 1, v.Conditions
		if lookUp {
			lookedUp, y.Resource.ID = true, "*"
		}
		return w.found(&y)
	})
	return err
}

// known returns the number of a party that is counted; none where it is not.
func (w *scoped) known(who Who) uint32 {
	if who.Kind != ByAddress {
		return none
	}
	if i := w.s.inv.addresses.find(w.s.inv.text, who.Address.String()); i != none && w.s.isCounted(i, w.at) {
		return i
	}
	return none
}

// about asks everybody of the set about one resource. It goes as an audience
// does, and leaves out who is not of the set: an audience is found from the
// grants on the resource, and costs little beside asking all of a partner's
// people.
func (w *scoped) about() error {
	if !w.s.Has(w.Resource.Kind.String(), w.Resource.ID) && w.Resource.Kind != catalogue.OurDirectory {
		if w.Resource.Kind != catalogue.Calendar || !w.s.Has("person", w.Resource.ID) {
			return nil // what was removed opens nothing
		}
	}
	n := 0
	return w.s.Audience(*w.Resource, true, func(a *catalogue.Action) bool { return w.Actions.Has(a.ID) }, w.at, func(r *Reached) error {
		if n++; n%4096 == 0 {
			if err := w.stop(); err != nil {
				return err
			}
		}
		y := Yes{Who: r.Who, Party: w.known(r.Who), Newcomer: r.Newcomer, Name: r.Name, Kind: r.Kind, Action: r.Action, Resource: r.Resource,
			Pairs: 1, Conditions: r.Conditions}
		in := false
		switch {
		// Newcomers and bearers are not known by number; what they are is told
		// by themselves.
		case r.Newcomer:
			in = w.holdsNew(&Newcomer{Who: r.Who})
		case r.Who.Kind == ByLinkID:
			in = w.holdsNew(&Newcomer{Who: r.Who})
		case y.Party != none:
			in = w.holds(y.Party, r.Kind)
		}
		if !in {
			return nil
		}
		return w.found(&y)
	})
}

// lookUpAction counts each party once.
var lookUpAction = func() catalogue.ActionID {
	for i := range wideActions {
		if wideActions[i].shares {
			return wideActions[i].act
		}
	}
	return 0
}()

// anywhere asks everybody of the set about everything: roles party by party,
// the rest cohort by cohort, newcomers one by one.
func (w *scoped) anywhere() error {
	if w.Resource != nil { // nobody outside does anything with a mailbox
		return nil
	}
	if w.Actions&masks.granted != 0 {
		if err := w.granted(); err != nil {
			return err
		}
	}
	if err := w.wide(); err != nil {
		return err
	}
	for _, n := range w.newcomers() {
		if err := w.stop(); err != nil {
			return err
		}
		if err := w.ofNewcomer(&n); err != nil {
			return err
		}
	}
	return nil
}

// granted tells what needs a role, party by party, and what links open.
//
// A party who holds nothing is passed over at once. Of the others everything is
// found by masks (see Tally): a word of 64 bits says of one thing which actions
// are a yes, and no question is asked. Links are some thousands at most and are
// decided.
func (w *scoped) granted() error {
	s, inv := w.s, &w.s.inv
	t := s.Tally(w.at)
	for i := uint32(0); i < inv.parties.n; i++ {
		// Asking whether to stop costs more than a party.
		if i%1024 == 0 {
			if err := w.stop(); err != nil {
				return err
			}
		}
		q := inv.parties.at(i)
		if !s.holdsAnything(q) && len(inv.many) == 0 || !s.isCounted(i, w.at) {
			continue
		}
		p, outside := s.sideOf(w.x, i, w.at)
		if !outside || p.ok == 0 || !w.holds(i, p.kind) {
			continue
		}
		y := Yes{Party: i, Kind: p.kind, Who: Who{Address: s.addressOf(i)}, Pairs: 1}
		var err error
		if w.Together {
			if err := w.together(t, i, &p, &y); err != nil {
				return err
			}
			continue
		}
		t.things(i, &p, func(th thing, yes uint64) {
			if err != nil || yes == 0 {
				return
			}
			first, home := actionsOf(yes)
			for set := (first | home) & w.Actions; set != 0; set &= set - 1 {
				act := catalogue.ActionID(bits.TrailingZeros64(uint64(set)))
				y.Action, y.Resource, y.Conditions = act, s.resourceOf(th), p.conditions(act, home.Has(act))
				if err == nil {
					err = w.found(&y)
				}
			}
		})
		if err != nil {
			return err
		}
	}
	// No partner, domain or group holds a link for whoever has it.
	if !w.Party.Everybody() && !(w.Party.ByKind && w.Party.Kind == KindBearer) {
		return nil
	}
	for i := uint32(0); i < inv.links.n; i++ {
		set, it := s.linkActions(i, w.at)
		for set &= w.Actions; set != 0; set &= set - 1 {
			act := catalogue.ActionID(bits.TrailingZeros64(uint64(set)))
			q := Question{Subject: Who{Kind: ByLinkID, ID: inv.linkIDs.text(inv.text, i)}, Action: act, At: w.at,
				Resource: world.Resource{Kind: it.kind, ID: inv.itemIDs.text(inv.text, inv.links.at(i).item)}}
			v, err := s.Decide(&q)
			if err == nil {
				err = w.found(&Yes{Who: q.Subject, Party: none, Kind: KindBearer, Action: act, Resource: q.Resource, Pairs: 1,
					Conditions: v.Conditions})
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// together tells what a party may by roles, with the things of a space that say
// nothing of their own told as one. Whoever counts does not need their names:
// somebody in a space of a thousand files then costs a few answers and not a
// thousand.
func (w *scoped) together(t *Tally, i uint32, p *partySide, y *Yes) (err error) {
	tell := func(yes uint64, r world.Resource, in *contents) {
		first, home := actionsOf(yes)
		for set := (first | home) & w.Actions; set != 0 && err == nil; set &= set - 1 {
			act := catalogue.ActionID(bits.TrailingZeros64(uint64(set)))
			n := 1
			if in != nil {
				n = countOf(in, act)
			}
			if n > 0 {
				y.Action, y.Resource, y.Pairs, y.Conditions = act, r, n, p.conditions(act, home.Has(act))
				err = w.found(y)
			}
		}
	}
	t.walk(i, p, func(sp uint32, in *contents, yes uint64) {
		tell(yes, world.Resource{Kind: catalogue.Space, ID: "*"}, in)
	}, func(th thing, yes uint64) { tell(yes, world.Resource{Kind: th.kind, ID: "*"}, nil) })
	return err
}

// wide tells what needs none, cohort by cohort, each cut down to those of the
// set.
//
// A cohort (see cohort) answers alike whoever of it asks, so that what is cut
// away needs no question of its own. Looking up people is told once for each
// party: that they see everybody, or, where they do not, that they see whom
// they share a space with, if there is anybody.
func (w *scoped) wide() error {
	any := false
	for i := range wideActions {
		any = any || w.Actions.Has(wideActions[i].act)
	}
	if !any {
		return nil
	}
	var work wideWork
	if w.Divided != nil {
		work = *w.Divided.work
	} else {
		work = *newWideWork(w.s, w.s, w.at)
	}
	// The cohorts may be shared by other scopes: those of this one are copies.
	cohorts := work.cohorts[:0:0]
	for _, c := range work.cohorts {
		if c.links > 0 { // where no role is needed, one stands for whoever holds a link: a newcomer
			continue
		}
		if !w.Party.Everybody() {
			x := *c
			x.members = nil
			for _, i := range c.members {
				if w.holds(i, c.kind) {
					x.members = append(x.members, i)
				}
			}
			if len(x.members) == 0 {
				continue
			}
			x.who = Who{Address: w.s.addressOf(x.members[0])}
			c = &x
		}
		cohorts = append(cohorts, c)
	}
	work.cohorts = cohorts
	for i := range wideActions {
		if !w.Actions.Has(wideActions[i].act) {
			continue
		}
		var err error
		seen := map[*cohort]bool{} // who may look up everybody
		var one [1]uint32
		askErr := work.ask(&wideActions[i], true, true, w.stop, func(m *wideMove) {
			if err != nil {
				return
			}
			y := Yes{Who: m.cohort.who, Kind: m.cohort.kind, Members: m.members, Party: none, Action: m.act,
				Resource: world.Resource{Kind: m.kind, ID: "*"}, Pairs: m.pairs, Conditions: m.left.Conditions, move: m}
			if len(m.members) > 0 {
				y.Who = Who{Address: w.s.addressOf(m.members[0])}
			}
			if n, first := m.about(); n == 1 && !m.scope {
				y.Resource = w.s.wideResource(m.kind, first)
			}
			switch {
			case m.scope && !m.shared:
				seen[m.cohort] = true
			case m.scope && seen[m.cohort]:
				return
			case m.scope: // they see whom they share a space with, if there is anybody
				for _, p := range m.members {
					if err == nil && w.sharesAny(p) {
						z := y
						one[0] = p
						z.Who, z.Members, z.Pairs = Who{Address: w.s.addressOf(p)}, one[:], 1
						err = w.found(&z)
					}
				}
				return
			}
			err = w.found(&y)
		})
		if askErr != nil {
			return askErr
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// sharesAny reports whether somebody of ours is in a space where a party holds
// a role. Owners count, members, and members of groups that are members; an
// empty group does not.
func (w *scoped) sharesAny(i uint32) bool {
	inv, r := &w.s.inv, w.s.reversed()
	anybody := func(given []grant) bool {
		for k := range given {
			g := &given[k]
			if g.resource&itemBit != 0 || !g.live(w.at, &inv.beside) {
				continue
			}
			sp := inv.spaces.at(g.resource)
			if sp.owners.n > 0 {
				return true
			}
			for _, m := range inv.lists[sp.members.off : sp.members.off+sp.members.n] {
				if m&itemBit == 0 || m&^itemBit < uint32(len(r.inGroup)) && len(r.inGroup[m&^itemBit]) > 0 {
					return true
				}
			}
		}
		return false
	}
	q := inv.parties.at(i)
	if anybody(inv.given(q.grants)) {
		return true
	}
	for _, g := range inv.lists[q.groups.off : q.groups.off+q.groups.n] {
		if anybody(inv.given(inv.groups.at(g).grants)) {
			return true
		}
	}
	return false
}
