package engine

import (
	"slices"
	"sort"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Reach: everything that one party may try, answered with yes or no and the
// cause that decides.
//
// Which things are tried follows from the action: with a role on what the party
// was ever given, so that *that is over* is an answer too; without one on
// everything, where what is alike becomes one line with a count. each is the
// one loop that does this; comparisons, previews of invitations and
// expectations about one party use it as well.

// DecidingCause returns the cause that best tells why the answer is what it is:
//
// of a no the first that refuses, of a yes what gives it.
//
// A yes has many causes, of which most only say that nothing stands in the way;
// the grant is the best to tell, then the rule that lets it, then the level of
// domains.
func (x *Answer) DecidingCause() *Cause {
	acc := x.Deciding()
	if !acc.Yes {
		for g := range acc.Gates {
			for i := range acc.Gates[g].Causes {
				if c := &acc.Gates[g].Causes[i]; c.Refuses {
					return c
				}
			}
		}
	}
	order := []catalogue.Gate{catalogue.GrantGate, catalogue.RuleGate, catalogue.DomainGate, catalogue.ServiceGate, catalogue.Identity}
	if cs := acc.Gates[catalogue.GrantGate].Causes; len(cs) > 0 && cs[0].Code == catalogue.IsSelf { // that it is one's own says little
		order = []catalogue.Gate{catalogue.DomainGate, catalogue.RuleGate, catalogue.ServiceGate, catalogue.Identity}
	}
	for _, g := range order {
		if cs := acc.Gates[g].Causes; len(cs) > 0 {
			if g == catalogue.DomainGate { // that nothing bars says little; that a level is met says why
				met := -1
				for i := range cs {
					if cs[i].Code == catalogue.LevelMet {
						met = i
					}
				}
				if met < 0 {
					continue
				}
				return &cs[met]
			}
			return &cs[0]
		}
	}
	return nil
}

// ReachLine is what a party can do with one resource, or with several that are
// all alike. Since and Until are filled in by Spells, for what has a beginning
// and an end at all.
type ReachLine struct {
	Action     catalogue.ActionID
	Resource   world.Resource // id * where Count of them are alike
	Name       string
	Count      int
	Yes        bool
	Account    Account
	Conditions catalogue.Condition
	Cause      Cause
	Since      moment.Moment // of a yes that needs a role; Always where it always was
	Until      moment.Moment // the same; Never where nothing ends it
}

// Spelled reports whether the line says since when and until when. Actions
// without a role hold as long as the rules do, and saying so of each would say
// nothing.
func (l *ReachLine) Spelled() bool {
	return l.Yes && l.Count == 1 && l.Resource.ID != "*" && roleOnly(l.Action.Get().Rows(l.Resource.Kind))
}

// Spells fills in since when and until when of each line of a reach, and
// returns when the first of it is lost; Never where nothing is.
func (s *Snapshot) Spells(who Who, at moment.Moment, lines []ReachLine) (first moment.Moment) {
	first = moment.Never
	for i := range lines {
		l := &lines[i]
		l.Since, l.Until = moment.Always, moment.Never
		if l.Spelled() {
			q := Question{Subject: who, Action: l.Action, Resource: l.Resource, At: at}
			l.Since, l.Until = s.Spell(&q, true)
			first = min(first, l.Until)
		}
	}
	return
}

// Reach lists every action that somebody from outside may try by themselves,
// with yes or no and the cause that decides. Granted actions are tried on what
// the party was ever given, wide ones on everything, where what is alike is
// counted together. An error is a *WrongUse.
//
// A guest with ten grants in a world of a thousand people has some forty lines.
func (s *Snapshot) Reach(who Who, at moment.Moment) ([]ReachLine, Kind, error) {
	var out []ReachLine
	from := 0 // of the lines of the present action
	// People of ours who are alike are asked once and counted.
	people := s.peopleFor(who)
	kind, err := s.each(who, at, nil, false, func(q *Question, name string) error {
		if q.Resource.ID == "*" {
			act := q.Action.Get()
			out = append(out, ReachLine{Action: act.ID, Resource: q.Resource, Account: RecordAccount,
				Cause: Cause{
					Gate:    catalogue.GrantGate,
					Refuses: true,
					Code:    catalogue.NoGrant,
					A:       who.String(),
					B:       "any " + strings.ReplaceAll(act.TakesNames(), " or ", " or any "),
					When:    moment.Never,
				}})
			return nil
		}
		class, classed := people.of(q)
		if k, ok := people.lines[class]; classed && ok {
			out[k].Count++
			out[k].Resource.ID, out[k].Name = "*", ""
			return nil
		}
		l, err := s.tried(q, name)
		if err != nil {
			return err
		}
		if len(out) == 0 || out[len(out)-1].Action != l.Action {
			from = len(out)
		}
		// Meetings with the same answer for the same cause become one line.
		if together(q) {
			for i := from; i < len(out); i++ {
				if out[i].alike(&l) {
					out[i].Count++
					out[i].Resource.ID, out[i].Name = "*", ""
					if classed {
						people.lines[class] = i
					}
					return nil
				}
			}
		}
		if classed {
			people.lines[class] = len(out)
		}
		out = append(out, l)
		return nil
	})
	return out, kind, err
}

// alikePeople finds people of ours whom the same exceptions name, and who are
// nothing to a party: an action answers all of them as it does the first. It is
// valid for one party and goes action by action, as each does.
type alikePeople struct {
	s        *Snapshot
	contacts []uint32
	action   catalogue.ActionID
	kind     catalogue.ResourceKind
	asks     bool        // whether the present action answers them alike
	lines    map[int]int // by class: the line of the present action
}

// peopleFor makes ready for a party; its contacts are asked by themselves.
func (s *Snapshot) peopleFor(who Who) *alikePeople {
	x := &alikePeople{s: s}
	if who.Kind == ByAddress {
		if i := s.inv.addresses.find(s.inv.text, who.Address.String()); i != none {
			x.contacts = s.reversed().contacts[i]
		}
	}
	return x
}

// of returns the class of the person whom a question is about; false where each
// is asked by themselves.
func (x *alikePeople) of(q *Question) (class int, ok bool) {
	if x.lines == nil || q.Action != x.action || q.Resource.Kind != x.kind {
		x.action, x.kind, x.lines, x.asks = q.Action, q.Resource.Kind, map[int]int{}, false
		for i := range wideActions {
			if w := &wideActions[i]; w.act == q.Action && w.kind == q.Resource.Kind {
				x.asks = !w.shares && w.kind != catalogue.Meeting && w.kind != catalogue.Space && w.kind != catalogue.OurDirectory
			}
		}
	}
	if !x.asks {
		return 0, false
	}
	p := x.s.inv.personIDs.find(x.s.inv.text, q.Resource.ID)
	if p == none || slices.Contains(x.contacts, p) {
		return 0, false
	}
	class = x.s.reversed().alikeOf[p]
	return class, class >= 0
}

// tried asks one question for a list. It explains, so that the line can say
// why.
func (s *Snapshot) tried(q *Question, name string) (ReachLine, error) {
	x, err := s.Explain(q)
	if err != nil {
		return ReachLine{}, err
	}
	d := x.Deciding()
	return ReachLine{
		Action:     q.Action,
		Resource:   q.Resource,
		Name:       name,
		Count:      1,
		Yes:        d.Yes,
		Account:    d.Account,
		Conditions: d.Conditions,
		Cause:      *x.DecidingCause(),
		Since:      moment.Always,
		Until:      moment.Never,
	}, nil
}

// each calls try for everything that somebody from outside may try, action by
// action; once with the id * where an action finds nothing to be tried on. With
// onward, also what passes something on is tried, towards the party's domain.
//
// The order is that of the catalogue, then of the indexes, so that two runs
// list alike.
func (s *Snapshot) each(who Who, at moment.Moment, with *Supposed, onward bool, try func(*Question, string) error) (Kind, error) {
	probe := Question{Subject: who, Action: 0, Resource: world.Resource{Kind: catalogue.OurDirectory, ID: "ours"}, At: at, With: with,
		Stranger: with != nil && with.stranger}
	var a asker
	if err := a.resolve(s, &probe); err != nil {
		return 0, err
	}
	spaces, items := a.everGiven()
	for _, act := range catalogue.Actions() {
		if act.Asks[catalogue.Ours] != nil && act.Asks[catalogue.Record] == nil {
			continue
		}
		q := Question{Subject: who, Action: act.ID, At: at, With: with, Stranger: probe.Stranger}
		if act.Address {
			if !onward || who.Kind != ByAddress {
				continue
			}
			q.Address = addr.Newcomer(who.Address.Domain())
		}
		found := false
		if err := s.resources(&act, spaces, items, func(kind catalogue.ResourceKind, id, name string) error {
			found = true
			q.Resource = world.Resource{Kind: kind, ID: id}
			return try(&q, name)
		}); err != nil {
			return 0, err
		}
		if !found && !onward {
			q.Resource = world.Resource{Kind: act.On[0], ID: "*"}
			if err := try(&q, ""); err != nil {
				return 0, err
			}
		}
	}
	return a.kind, nil
}

// alike reports whether two lines say the same of two resources, with the same
// words.
func (l *ReachLine) alike(m *ReachLine) bool {
	if l.Resource.Kind != m.Resource.Kind || l.Yes != m.Yes || l.Account != m.Account || l.Conditions != m.Conditions ||
		l.Cause.Code != m.Cause.Code ||
		(l.Cause.Chain == nil) != (m.Cause.Chain == nil) {
		return false
	}
	if l.Cause.Chain == nil {
		return true
	}
	d, e := l.Cause.Chain.Decided(), m.Cause.Chain.Decided()
	return l.Cause.Value == m.Cause.Value && d == e && l.Cause.Chain.Steps[d].Where == m.Cause.Chain.Steps[e].Where
}

// everGiven returns the spaces and items that the subject has or had a grant or
// link on, at whatever moment. Ended grants are in it: that something is over
// is an answer, too.
func (a *asker) everGiven() (spaces, items map[uint32]bool) {
	spaces, items = map[uint32]bool{}, map[uint32]bool{}
	if a.held != nil {
		items[a.held.item] = true
		return
	}
	inv := &a.s.inv
	inv.heldByMany(a.party.partner, a.domainOf(&a.party), func(_ partyRef, given []grant) {
		for i := range given {
			spaces[given[i].resource] = true
		}
	})
	p := a.party.known
	if p == nil {
		return
	}
	add := func(given []grant) {
		for _, g := range given {
			if g.resource&itemBit != 0 {
				items[g.resource&^itemBit] = true
			} else {
				spaces[g.resource] = true
			}
		}
	}
	add(inv.given(p.grants))
	for _, g := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
		add(inv.given(inv.groups.at(g).grants))
	}
	if a.party.supposed {
		add(a.q.With.grants)
	}
	return
}

// resources calls try for all that an action can be tried on: with a role on
// what was given, without one on everything.
func (s *Snapshot) resources(
	act *catalogue.Action,
	spaces, items map[uint32]bool,
	try func(catalogue.ResourceKind, string, string) error,
) error {
	inv := &s.inv
	for _, kind := range act.On {
		switch {
		case kind == catalogue.OurDirectory:
			if err := try(kind, "ours", "our directory"); err != nil {
				return err
			}
		case kind == catalogue.Space:
			over := sorted(spaces)
			if act.Spread == catalogue.Wide { // courses that anybody may try to join
				over = s.reversed().courses
			}
			for _, i := range over {
				if act.AreaOnly && inv.spaces.at(i).kind != world.ReportArea {
					continue
				}
				if err := try(kind, inv.spaceIDs.text(inv.text, i), inv.text.text(inv.spaces.at(i).name)); err != nil {
					return err
				}
			}
		case kind.IsItem():
			for _, i := range s.within(spaces, items) {
				if it := inv.items.at(i); it.kind == kind {
					if err := try(kind, inv.itemIDs.text(inv.text, i), inv.text.text(it.name)); err != nil {
						return err
					}
				}
			}
		case kind == catalogue.Meeting:
			over := []uint32{}
			if act.Spread != catalogue.Wide {
				rev := s.indexed()
				for sp := range spaces {
					over = append(over, rev.meetings.of(sp)...)
				}
				slices.Sort(over)
			} else {
				for i := uint32(0); i < inv.meetings.n; i++ {
					over = append(over, i)
				}
			}
			for _, i := range over {
				if m := inv.meetings.at(i); m.exists {
					if err := try(kind, inv.meetingIDs.text(inv.text, i), inv.text.text(m.name)); err != nil {
						return err
					}
				}
			}
		default:
			for i := uint32(0); i < inv.people.n; i++ {
				if p := inv.people.at(i); p.exists {
					if err := try(kind, inv.personIDs.text(inv.text, i), inv.text.text(p.name)); err != nil {
						return err
					}
				}
			}
		}
	}
	return nil
}

// within lists the items of spaces, and single items, in their order.
func (s *Snapshot) within(spaces, items map[uint32]bool) []uint32 {
	inv := &s.inv
	out := make([]uint32, 0, len(items))
	for i := range items {
		if it := inv.items.at(i); it.exists && !spaces[it.space] {
			out = append(out, i)
		}
	}
	if len(spaces) > 0 {
		rev := s.indexed()
		for sp := range spaces {
			for _, x := range rev.items.of(sp) {
				out = append(out, x.index)
			}
		}
	}
	slices.Sort(out)
	return out
}

// sorted lists the members of a set in order; maps have none.
func sorted(set map[uint32]bool) []uint32 {
	out := make([]uint32, 0, len(set))
	for i := range set {
		out = append(out, i)
	}
	sort.Slice(out, func(i, j int) bool { return out[i] < out[j] })
	return out
}
