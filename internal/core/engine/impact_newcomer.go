package engine

import (
	"sort"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// heldByNewcomer calls found for those of some granted actions that may be
// asked of what the partner or the domain of a typical newcomer holds as a
// whole, before or after. Somebody new from a partner that holds a space as a
// whole comes in on the first day.
func (s *Snapshot) heldByNewcomer(
	after *Snapshot,
	who Who,
	at moment.Moment,
	actions Actions,
	found func(*catalogue.Action, world.Resource),
) error {
	if actions &= masks.granted; actions == 0 {
		return nil
	}
	spaces := map[uint32]bool{}
	for _, x := range []*Snapshot{s, after} {
		probe := Question{Subject: who, Resource: world.Resource{Kind: catalogue.OurDirectory, ID: "ours"}, At: at}
		var a asker
		if err := a.resolve(x, &probe); err != nil {
			return err
		}
		held, _ := a.everGiven()
		for sp := range held {
			spaces[sp] = true
		}
	}
	if len(spaces) == 0 {
		return nil
	}
	// What is held is the same for all actions on things of a kind, but for
	// those of report areas.
	type sort struct {
		kind     catalogue.ResourceKind
		areaOnly bool
	}
	things := map[sort][]world.Resource{}
	for i := range catalogue.Actions() {
		act := &catalogue.Actions()[i]
		if !actions.Has(act.ID) {
			continue
		}
		for _, kind := range act.On {
			if !roleOnly(act.Rows(kind)) {
				continue
			}
			k := sort{kind, act.AreaOnly}
			list, ok := things[k]
			if !ok {
				one := *act
				one.On = []catalogue.ResourceKind{kind}
				if err := s.resources(&one, spaces, nil, func(kind catalogue.ResourceKind, id, _ string) error {
					list = append(list, world.Resource{Kind: kind, ID: id})
					return nil
				}); err != nil {
					return err
				}
				things[k] = list
			}
			for _, r := range list {
				found(act, r)
			}
		}
	}
	return nil
}

// newcomerImpact lists what typical newcomers of either policy would become
// able to do, or no longer: wide actions, what their partner holds as a whole,
// and being invited into the directory. Actions that a change of the rules
// cannot concern are asked only of those whom the table of domains takes
// otherwise.
func newcomerImpact(work *wideWork, news []comparedNewcomer, changed *[catalogue.NumRules]bool, out *Impact, stop func() error) error {
	before, after, at := work.sides[0], work.sides[1], work.at
	type key struct {
		act  catalogue.ActionID
		kind catalogue.ResourceKind
	}
	invite, _ := catalogue.ActionByName("directory.invite")
	directory := world.Resource{Kind: catalogue.OurDirectory, ID: "ours"}
	answers := answersOfNewcomers(before, after, at, work.about)
	var matters Actions
	for _, act := range catalogue.Actions() {
		// What needs a role matters where a partner or domain holds something
		// as a whole.
		if (len(before.inv.many) > 0 || !masks.granted.Has(act.ID)) && actionMatters(act.ID, changed) {
			matters |= 1 << act.ID
		}
	}
	for _, n := range news {
		ask := matters
		if n.moved {
			ask = ^Actions(0)
		}
		if ask == 0 {
			continue
		}
		if err := stop(); err != nil {
			return err
		}
		count := map[key]*Moves{}
		sum := func(act catalogue.ActionID, kind catalogue.ResourceKind) *Moves {
			k := key{act, kind}
			if count[k] == nil {
				count[k] = &Moves{}
			}
			return count[k]
		}
		compare := func(q *Question, kind catalogue.ResourceKind) {
			v, err0 := before.Decide(q)
			w, err1 := after.Decide(q)
			v.Yes, w.Yes = v.Yes && err0 == nil, w.Yes && err1 == nil
			sum(q.Action, kind).between(&[2]Verdict{v, w}, 1)
		}
		for i := range wideActions {
			w := &wideActions[i]
			if !ask.Has(w.act) {
				continue
			}
			if m := answers.moves(&n.Newcomer, i); m.Any() {
				sum(w.act, w.kind).add(m)
			}
		}
		if n.Who.Kind == ByAddress {
			if err := before.heldByNewcomer(after, n.Who, at, ask, func(act *catalogue.Action, r world.Resource) {
				compare(&Question{Subject: n.Who, Action: act.ID, Resource: r, At: at}, r.Kind)
			}); err != nil {
				return err
			}
		}
		if n.Who.Kind == ByAddress && ask.Has(invite.ID) {
			for _, inviter := range []string{before.Inviter(directory), after.Inviter(directory)} {
				if inviter != "" {
					q := Question{
						Subject:  Who{Kind: ByPerson, ID: inviter},
						Action:   invite.ID,
						Resource: directory,
						Address:  n.Who.Address,
						At:       at,
					}
					compare(&q, catalogue.OurDirectory)
					break
				}
			}
		}
		for k, m := range count {
			for _, change := range []string{"gained", "lost", "otherwise"} {
				if c := *m.of(change); c != 0 {
					out.Newcomers = append(out.Newcomers, NewcomerMove{n.Newcomer, k.act, k.kind, c, change})
				}
			}
		}
	}
	sort.SliceStable(out.Newcomers, func(i, j int) bool {
		a, b := &out.Newcomers[i], &out.Newcomers[j]
		if x, y := a.Newcomer.Who.String(), b.Newcomer.Who.String(); x != y {
			return x < y
		}
		if a.Action != b.Action {
			return a.Action < b.Action
		}
		if a.Kind != b.Kind {
			return a.Kind < b.Kind
		}
		return a.Change < b.Change
	})
	return nil
}

// comparedNewcomer is a typical newcomer of either of two policies. moved says
// that they may take the newcomer's address otherwise, whatever is asked.
type comparedNewcomer struct {
	Newcomer
	moved bool
}

// newsOf lists the typical newcomers of either of two snapshots, for all parts
// of an impact.
func newsOf(before, after *Snapshot, at moment.Moment) (out []comparedNewcomer) {
	for _, n := range newcomersOf(before, after, at) {
		out = append(out, comparedNewcomer{n, otherwiseMatched(before, after, n.Who)})
	}
	return
}

// otherwiseMatched reports whether two policies may take an address otherwise,
// but for rules that changed for everybody. It compares what the table of
// domains says, and the partner where it stays the same.
func otherwiseMatched(before, after *Snapshot, who Who) bool {
	if who.Kind != ByAddress {
		return false
	}
	x, y := before.Match(who.Address), after.Match(who.Address)
	id := func(m *Match) string {
		if m.Partner == nil {
			return ""
		}
		return m.Partner.ID
	}
	if x.Own != y.Own || (x.Bar == nil) != (y.Bar == nil) || x.Private != y.Private || id(&x) != id(&y) {
		return true
	}
	if x.Partner == nil {
		return false
	}
	k := before.inv.partners.find(before.inv.text, x.Partner.ID)
	return !samePartner(before, after, k)
}
