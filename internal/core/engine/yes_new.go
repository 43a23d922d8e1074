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
	if w.news == nil {
		var about map[catalogue.ResourceKind][]alike
		if w.Divided != nil {
			about = w.Divided.work.about
		}
		w.news = answersOfNewcomers(s, s, w.at, about)
	}
	for i := range wideActions {
		x := &wideActions[i]
		if !w.Actions.Has(x.act) {
			continue
		}
		about := w.news.things(x.kind)
		// Whom they may look up is one answer, whatever number of people there
		// are.
		if x.shares && len(about) > 0 {
			q := Question{Subject: n.Who, Action: x.act, Resource: world.Resource{Kind: x.kind, ID: about[0].id}, At: w.at, as: unrelated}
			if err := try(&q, 1, about[0].members); err != nil {
				return err
			}
			continue
		}
		for k, both := range w.news.of(n, i) {
			v := &both[0]
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
	held := s.heldByNewcomer(s, n.Who, w.at, w.Actions, func(act *catalogue.Action, r world.Resource) {
		if err == nil {
			err = try(&Question{Subject: n.Who, Action: act.ID, Resource: r, At: w.at}, 1, nil)
		}
	})
	if held != nil {
		return held
	}
	return err
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
