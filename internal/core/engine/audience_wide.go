package engine

import (
	"slices"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Of an audience, what needs no role may be had by nearly everybody: about a
// person of ours a hundred thousand are asked ten things each. Most of them are
// told the same, so answers are kept by what tells parties apart (see signs),
// and one of each sort is asked. What somebody was given does not matter to
// these actions, whoever holds it.

// wideAbout lists the wide actions about a resource of a kind, by their places
// in wideActions. area is whether it is a report area; only, where not nil, picks
// actions.
func wideAbout(kind catalogue.ResourceKind, area bool, only func(*catalogue.Action) bool) (places []int) {
	for i := range wideActions {
		w := &wideActions[i]
		if act := w.act.Get(); w.kind == kind && (area || !act.AreaOnly) && (only == nil || only(act)) {
			places = append(places, i)
		}
	}
	return
}

// wideAudience answers everybody about one thing, as far as no role is needed.
// It belongs to one goroutine.
type wideAudience struct {
	s       *Snapshot
	at      moment.Moment
	of      world.Resource
	actions []int // places in wideActions
	to      *everybody
	bySign  []map[wideSign]toldWide // by actions
	byLike  map[likeness][]toldWide
	met     []uint32 // who is in contact with the person, ascending
}

// toldWide is what parties of one sort are told. each says that it does not hold
// for all of them: it turns on a contact or a space that they share.
type toldWide struct {
	verdict Verdict
	each    bool
}

// everybody is what tells parties apart at a moment, for any number of things
// that they are asked about.
type everybody struct {
	named naming
	sides *sides
	signs *signs
}

// toEverybody finds what tells parties apart.
func (s *Snapshot) toEverybody(at moment.Moment) *everybody {
	x := &everybody{named: s.naming(), sides: s.sidesAt(at)}
	x.signs = newSigns(s, at, &x.named)
	return x
}

// newWideAudience begins with nobody asked. actions are places in wideActions
// that are about the kind of resource.
func (s *Snapshot) newWideAudience(r world.Resource, actions []int, to *everybody, at moment.Moment) *wideAudience {
	x := &wideAudience{s: s, at: at, of: r, actions: actions, to: to,
		bySign: make([]map[wideSign]toldWide, len(actions)), byLike: map[likeness][]toldWide{}}
	for k := range x.bySign {
		x.bySign[k] = map[wideSign]toldWide{}
	}
	if p := s.inv.personIDs.find(s.inv.text, r.ID); !r.Kind.IsItem() && r.Kind != catalogue.Space && r.Kind != catalogue.Meeting && p != none {
		l := s.inv.people.at(p).contacts
		x.met = slices.Clone(s.inv.lists[l.off : l.off+l.n])
		slices.Sort(x.met)
	}
	return x
}

// told is what somebody is told, action by action. l is what tells them apart.
func (x *wideAudience) told(who Who, l *likeness) []toldWide {
	if out, ok := x.byLike[*l]; ok {
		return out
	}
	out := make([]toldWide, len(x.actions))
	for k, action := range x.actions {
		sign := x.to.signs.of(action, l)
		answer, ok := x.bySign[k][sign]
		if !ok {
			answer = x.ask(who, action)
			x.bySign[k][sign] = answer
		}
		out[k] = answer
	}
	x.byLike[*l] = out
	return out
}

// ask asks one in place of all who are told apart from others by the same.
// Where it matters whether they are in contact or share a space, both are tried.
func (x *wideAudience) ask(who Who, action int) (out toldWide) {
	w := &wideActions[action]
	q := Question{Subject: who, Action: w.act, Resource: x.of, At: x.at, as: unrelated}
	v, err := x.s.Decide(&q)
	if err != nil {
		return // what makes no sense is no yes
	}
	out.verdict = v
	if w.contacts || w.shares {
		q.as = related
		z, err := x.s.Decide(&q)
		out.each = err != nil || z != v
	}
	return
}

// alone reports whether a party has to be asked by itself, since what its sort
// is told does not hold for it.
func (x *wideAudience) alone(party uint32, action int, told *toldWide) bool {
	if !told.each {
		return false
	}
	if w := &wideActions[action]; w.shares || x.s.meets {
		return true
	}
	_, met := slices.BinarySearch(x.met, party)
	return met
}

// each calls found for everything that known parties and newcomers may do,
// party by party. What it hands over is its own, and holds until the next call.
func (x *wideAudience) each(newcomers []Newcomer, found func(*Reached) error) error {
	s, inv := x.s, &x.s.inv
	line := func(who *Reached, action int, v *Verdict) error {
		if !v.Yes {
			return nil
		}
		who.Action, who.Kind, who.Account, who.Conditions = wideActions[action].act, v.Kind, v.Account, v.Conditions
		return found(who)
	}
	tell := func(party uint32, l *likeness, who *Reached) error {
		if l.partner != none {
			p := s.pol.rest[l.partner].source
			who.Partner, who.Residual = p.ID, l.barred || p.Standing != world.Active
		}
		for k, told := range x.told(who.Who, l) {
			v, action := told.verdict, x.actions[k]
			if party != none && x.alone(party, action, &told) {
				var err error
				if v, err = s.Decide(&Question{Subject: who.Who, Action: wideActions[action].act, Resource: x.of, At: x.at}); err != nil {
					return err
				}
			}
			if err := line(who, action, &v); err != nil {
				return err
			}
		}
		return nil
	}
	for i := uint32(0); i < inv.parties.n; i++ {
		if !s.isCounted(i, x.at) {
			continue
		}
		l, outside := s.like(i, x.at, x.to.sides, &x.to.named)
		if !outside {
			continue
		}
		who := Reached{Who: Who{Address: s.addressOf(i)}, Name: inv.nameOf(i), Resource: x.of}
		if err := tell(i, &l, &who); err != nil {
			return err
		}
	}
	for i := range newcomers {
		n := &newcomers[i]
		who := Reached{Who: n.Who, Name: n.Name, Partner: n.Partner, Newcomer: true, Resource: x.of}
		if n.Who.Kind == ByAddress {
			l := s.likeNew(n.Who.Address, &x.to.named)
			if err := tell(inv.addresses.find(inv.text, n.Who.Address.String()), &l, &who); err != nil {
				return err
			}
			continue
		}
		// Whoever has no account is stood for by a link, which is asked for
		// itself where an item is asked about.
		if x.of.Kind.IsItem() {
			continue
		}
		for _, action := range x.actions {
			v, err := s.Decide(&Question{Subject: n.Who, Action: wideActions[action].act, Resource: x.of, At: x.at})
			if err != nil {
				return err
			}
			who.Residual = v.Account == LinkAccount
			if err := line(&who, action, &v); err != nil {
				return err
			}
		}
	}
	return nil
}
