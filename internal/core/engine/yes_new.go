package engine

import (
	"slices"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
)

// ofNewcomer asks a typical newcomer everything that needs no role, and what
// their partner or domain holds as a whole. Each sort of person and meeting is
// asked once.
//
// A typical newcomer (model §7) stands for everybody of a domain of whom
// nothing is kept yet: three hundred partners with two domains each are six
// hundred of them, which is why their answers are kept by sign.
func (w *scoped) ofNewcomer(n *Newcomer) error {
	s := w.s
	try := func(q *Question, pairs int, alike []uint32) error {
		v, err := s.Decide(q)
		if err != nil || !v.Yes {
			return nil // what cannot be asked is no yes
		}
		y := Yes{Who: n.Who, Party: none, Newcomer: true, Name: n.Name, Kind: v.Kind, Action: q.Action, Resource: q.Resource, Pairs: pairs,
			Conditions: v.Conditions}
		if alike != nil {
			y.Resource.ID, y.all = "*", alike
		}
		return w.found(&y)
	}
	var l likeness
	if n.Who.Kind == ByAddress {
		if w.signs == nil {
			named := s.naming()
			w.signs, w.told = newSigns(s, w.at, &named), make([]map[wideSign][]Verdict, len(wideActions))
		}
		l = s.likeNew(n.Who.Address, w.signs.named)
	}
	for i := range wideActions {
		x := &wideActions[i]
		if !w.Actions.Has(x.act) {
			continue
		}
		if w.alike == nil {
			w.alike = map[catalogue.ResourceKind][]alike{}
		}
		about, ok := w.alike[x.kind]
		if !ok {
			if w.Divided != nil {
				about = w.Divided.work.about[x.kind]
			} else {
				about = wideResources(s, s, x.kind)
			}
			w.alike[x.kind] = about
		}
		// Whom they may look up is one answer, whatever number of people there
		// are.
		if x.shares && len(about) > 0 {
			q := Question{Subject: n.Who, Action: x.act, Resource: world.Resource{Kind: x.kind, ID: about[0].id}, At: w.at, as: unrelated}
			if err := try(&q, 1, about[0].members); err != nil {
				return err
			}
			continue
		}
		for k, v := range w.newVerdicts(n, i, &l, about) {
			if !v.Yes {
				continue
			}
			a := &about[k]
			y := Yes{Who: n.Who, Party: none, Newcomer: true, Name: n.Name, Kind: v.Kind, Action: x.act, Pairs: len(a.members),
				Conditions: v.Conditions, Resource: world.Resource{Kind: x.kind, ID: a.id}}
			if len(a.members) > 1 {
				y.Resource.ID, y.all = "*", a.members
			}
			if err := w.found(&y); err != nil {
				return err
			}
		}
	}
	// What follows is what a whole partner or domain was given, which somebody
	// new has from their first day.
	if n.Who.Kind != ByAddress || len(s.inv.many) == 0 {
		return nil
	}
	var err error
	held := s.heldByNewcomer(s, n.Who, w.at, func(act *catalogue.Action, r world.Resource) {
		if err == nil && w.Actions.Has(act.ID) {
			err = try(&Question{Subject: n.Who, Action: act.ID, Resource: r, At: w.at}, 1, nil)
		}
	})
	if held != nil {
		return held
	}
	return err
}

// newVerdicts are the answers to a newcomer about things that are alike, asked
// once for all newcomers of one sign. What makes no sense is no yes. The list
// has an answer for each of about, in its order, and is kept: callers do not
// change it.
//
// Where things can be divided by what they say, one of each group is asked for
// all of it, but for those that name the newcomer's partner, domain or address.
func (w *scoped) newVerdicts(n *Newcomer, action int, l *likeness, about []alike) []Verdict {
	var sign wideSign
	if n.Who.Kind == ByAddress {
		sign = w.signs.of(action, l)
		if told := w.told[action][sign]; told != nil {
			return told
		}
	}
	x := &wideActions[action]
	q := Question{Subject: n.Who, Action: x.act, Resource: world.Resource{Kind: x.kind}, At: w.at, as: unrelated}
	ask := func(k int) (v Verdict) {
		q.Resource.ID = about[k].id
		if is, err := w.s.Decide(&q); err == nil {
			v = is
		}
		return
	}
	var out []Verdict
	if d := w.dividedFor(action, about); d != nil && n.Who.Kind == ByAddress {
		inv := &w.s.inv
		refs := []partyRef{{what: ofDomain, index: inv.domains.find(inv.text, n.Who.Address.Domain().String())},
			{what: ofAddress, index: inv.addresses.find(inv.text, n.Who.Address.String())}}
		if l.partner != none {
			refs = append(refs, partyRef{what: ofPartner, index: l.partner})
		}
		out = onceEach(d, d.naming.names(refs...), nil, ask)
	} else {
		out = make([]Verdict, len(about))
		for k := range about {
			out[k] = ask(k)
		}
	}
	if n.Who.Kind == ByAddress {
		if w.told[action] == nil {
			w.told[action] = map[wideSign][]Verdict{}
		}
		w.told[action][sign] = out
	}
	return out
}

// dividedFor puts the things of a wide action together that say the same; nil
// where they are asked one by one: our directory is one, and courses are told
// apart by what somebody was given in them.
func (w *scoped) dividedFor(action int, about []alike) *division {
	x := &wideActions[action]
	if x.kind == catalogue.OurDirectory || x.kind == catalogue.Space {
		return nil
	}
	if w.divided == nil {
		w.divided, w.naming = make([]*division, len(wideActions)), map[catalogue.ResourceKind]*namingIndex{}
	}
	if w.divided[action] == nil {
		sides := [2]*Snapshot{w.s, w.s}
		if w.naming[x.kind] == nil {
			w.naming[x.kind] = namingOf(sides, x.kind, about, w.at)
		}
		w.divided[action] = sortFor(sides, x, about, w.naming[x.kind], w.at)
	}
	return w.divided[action]
}

// outward asks what people of ours may do towards the set: towards an address
// itself, else towards typical newcomers of it, as such acts are counted (model
// §7).
//
// People of ours who are alike are asked once; a person that the scope names is
// asked themselves. *May anybody of ours forward their mail to somebody at
// Lantern?* is thus one question for each sort of person and each domain of
// Lantern, not one for each mailbox.
func (w *scoped) outward() error {
	if w.Outward == 0 || w.shut {
		return nil
	}
	s, inv := w.s, &w.s.inv
	targets := w.newcomers()
	if a := w.Party.Of.Address; !a.IsZero() {
		targets = []Newcomer{{Who: Who{Address: a}, Name: a.String()}}
	}
	classes := ofOurs(s, s)
	for _, n := range targets {
		if n.Who.Kind != ByAddress {
			continue
		}
		if err := w.stop(); err != nil {
			return err
		}
		is := Yes{Who: n.Who, Party: w.known(n.Who), Name: n.Name, Kind: s.KindAt(n.Who.Address, w.at)}
		is.Newcomer = is.Party == none
		q := Question{Address: n.Who.Address, At: w.at}
		for _, act := range outwardActions {
			if !w.Outward.Has(act.ID) {
				continue
			}
			for _, class := range classes {
				members := class
				if w.Resource != nil {
					i := inv.personIDs.find(inv.text, w.Resource.ID)
					if w.Resource.Kind != act.On[0] || i == none || !slices.Contains(class, i) {
						continue
					}
					members = []uint32{i}
				}
				id := inv.personIDs.text(inv.text, members[0])
				q.Subject, q.Action, q.Resource = Who{Kind: ByPerson, ID: id}, act.ID, world.Resource{Kind: act.On[0], ID: id}
				v, err := s.Decide(&q)
				if err != nil || !v.Yes {
					continue
				}
				y := is
				y.Person, y.Action, y.Resource, y.Pairs, y.Conditions = id, act.ID, q.Resource, len(members), v.Conditions
				if len(members) > 1 {
					y.Resource.ID, y.Person, y.all = "*", "", members
				}
				if err := w.found(&y); err != nil {
					return err
				}
			}
		}
	}
	return nil
}
