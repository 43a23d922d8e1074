package engine

import (
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Impact: who gains and who loses what when one policy takes the place of
// another (model §7).
//
// It compares answers and not settings. The two snapshots share one inventory,
// so that a party and a thing have the same number in both, and a question is
// asked on both sides and the answers compared. What keeps that short of asking
// everything twice:
//
//   - rules that say the same on both sides matter to no action (ChangedRules, actionMatters)
//   - parties whom both policies take alike are asked by masks (impact_granted.go)
//   - what needs no role is asked cohort by cohort (wide.go)
//   - newcomers, links, presenters and acts of ours are asked by themselves below
//
// It is exact: random worlds compare it with asking every pair on both sides.

// Moves counts what changes: from no to yes, from yes to no, and a yes with
// other conditions. Otherwise is neither good nor bad: the same door, with a
// passcode now.
type Moves struct{ Gained, Lost, Otherwise int }

// Any reports whether anything changes.
func (m Moves) Any() bool { return m.Gained+m.Lost+m.Otherwise > 0 }

// add adds the counts of another.
func (m *Moves) add(o Moves) {
	m.Gained += o.Gained
	m.Lost += o.Lost
	m.Otherwise += o.Otherwise
}

// NewcomerMove is what a typical newcomer would become able to do, or no
// longer. Newcomers are classes of people nobody knows, so they are told apart
// from those who are known: *anybody at Lantern could then ask to join the
// course* is no loss of anybody, and yet a decision.
type NewcomerMove struct {
	Newcomer Newcomer
	Action   catalogue.ActionID
	Kind     catalogue.ResourceKind
	Count    int // resources
	Change   string
}

// ImpactLine is one line of an impact: what changes for a party with a
// resource, or with Count of them that are alike (id *). Lines are handed on
// one by one: an impact on a large world has millions of them, and only what is
// looked at is written out.
type ImpactLine struct {
	Who      Who
	Change   string // gained, lost, otherwise
	Actions  Actions
	Resource world.Resource
	Count    int
	Wide     bool
}

// Impact is who gains and who loses what when one policy takes the place of
// another (model §7). Granted and wide are kept apart; typical newcomers come
// by themselves.
//
// Granted counts pairs of party and resource that need a role, Wide those that
// need none. Parties counts people, each once for each sort of change.
type Impact struct {
	At            moment.Moment
	Parties       Moves // known parties and live links for whom anything changes so
	Granted       [64]Moves
	Kinds         map[string]*Moves // granted, by kind
	Partners      map[string]*Moves // granted, by id; empty where there is none
	Spaces        map[string]*Moves // granted, by id
	WideGained    []WideSum
	WideLost      []WideSum
	WideOtherwise []WideSum
	Newcomers     []NewcomerMove
	LinksStopped  []string
	LinksStarted  []string
	Outward       []OutwardMove
	Forwarders    []ForwarderMove
	Presenters    []PresenterMove
	Suspended     int   // records that are suspended or gone at the moment, and would not be
	SuspendedWho  []Who // the first hundred of them
}

// Total sums the granted triples up.
func (x *Impact) Total() (m Moves) {
	for i := range x.Granted {
		m.add(x.Granted[i])
	}
	return
}

// Nothing reports whether nothing changes for anybody. It is what lets a change
// be published without a reason, and what spare access is measured by: taking
// away what nobody uses has to be nothing in this sense.
func (x *Impact) Nothing() bool {
	return !x.Parties.Any() && len(x.Newcomers)+len(x.Outward)+len(x.Forwarders)+len(x.Presenters)+x.Suspended == 0
}

// ChangedRules finds the rules of which two policies say otherwise anywhere but
// at partners: at the organisation or in exceptions. Partners are compared
// apart, because only their own people are concerned.
//
// An exception that came, went or means something else marks every rule that it
// speaks of, whomever it is about: exact enough, since exceptions are few.
func ChangedRules(before, after *Snapshot) (changed [catalogue.NumRules]bool) {
	a, b := before.pol, after.pol
	for r := range changed {
		changed[r] = a.limit[r] != b.limit[r] || a.fallback[r] != b.fallback[r]
	}
	mark := func(x *exception) {
		for r := range changed {
			if x.rules[r] != catalogue.Unset {
				changed[r] = true
			}
		}
	}
	// Two exceptions mean the same where people, groups, parties, dates and
	// values are equal, in their order; reasons do not matter.
	same := func(x, y *exception) bool {
		if x.from != y.from || x.until != y.until || x.rules != y.rules || len(x.parties) != len(y.parties) ||
			(x.parties == nil) != (y.parties == nil) ||
			len(x.source.People) != len(y.source.People) ||
			len(x.source.Groups) != len(y.source.Groups) {
			return false
		}
		for i := range x.parties {
			if x.parties[i] != y.parties[i] {
				return false
			}
		}
		for i := range x.source.People {
			if x.source.People[i] != y.source.People[i] {
				return false
			}
		}
		for i := range x.source.Groups {
			if x.source.Groups[i] != y.source.Groups[i] {
				return false
			}
		}
		return true
	}
	was := map[string]*exception{}
	for i := range a.except {
		was[a.except[i].source.ID] = &a.except[i]
	}
	for i := range b.except {
		x := &b.except[i]
		if o := was[x.source.ID]; o == nil || !same(o, x) {
			mark(x)
			if o != nil {
				mark(o)
			}
		}
		delete(was, x.source.ID)
	}
	for _, x := range was {
		mark(x)
	}
	return
}

// ImpactOf compares two policies over one inventory at a moment, exactly: after
// must have come from before by Aside, a new policy and other values at places.
// line, where not nil, is called for what changes, until it returns false. stop
// ends the work early with its error; progress, where not nil, hears of the
// part that is done, from 0 to 1.
//
// It is exact and still fast because nothing is asked of whom the change does
// not concern: rules that did not change are skipped by action, parties that
// both policies take alike by one comparison, and wide actions are asked class
// by class. It costs seconds at most with a hundred thousand guests and a rule
// that all spaces ask.
func ImpactOf(
	before, after *Snapshot,
	at moment.Moment,
	line func(*ImpactLine) bool,
	stop func() error,
	progress func(part float64),
) (*Impact, error) {
	out := &Impact{At: at, Kinds: map[string]*Moves{}, Partners: map[string]*Moves{}, Spaces: map[string]*Moves{}}
	if progress == nil {
		progress = func(float64) {}
	}
	changed := ChangedRules(before, after)
	saidOtherwise(before, after, &changed)
	// Each party is counted once at the end, over granted and wide actions
	// together.
	moved := map[uint32]Moves{} // by party
	if err := grantedImpact(before, after, at, &changed, out, moved, &line, stop, func(p float64) { progress(p * 0.6) }); err != nil {
		return nil, err
	}
	progress(0.6)
	linkMoves := linkImpact(before, after, at, &changed, out, &line)
	progress(0.7)

	// Wide actions, cohort by cohort. An action that asks none of the rules that
	// changed cannot change for everybody, only for whom the policy moved.
	matters := func(a catalogue.ActionID) bool { return actionMatters(a, &changed) }
	sums := map[string]map[wideKey]*wideCount{"gained": {}, "lost": {}, "otherwise": {}}
	links := map[string]int{}
	work := newWideWork(before, after, at)
	if err := work.each(matters, stop, func(m *wideMove) {
		change := changeOf(m.left, m.right)
		k := m.key()
		if sums[change][k] == nil {
			sums[change][k] = &wideCount{}
		}
		sums[change][k].add(m)
		for _, i := range m.members {
			x := moved[i]
			x.note(change)
			moved[i] = x
		}
		// Links have no members; they are counted as they are.
		if m.cohort.links > 0 {
			links[change] = m.cohort.links
		}
		for _, i := range m.members {
			if line == nil {
				break
			}
			n, one := m.about()
			l := ImpactLine{Who: Who{Address: before.addressOf(i)}, Change: change, Actions: 1 << m.act,
				Resource: world.Resource{Kind: m.kind, ID: "*"}, Count: n, Wide: true}
			if m.scope {
				l.Resource.ID = m.key().scope
			} else if n == 1 {
				l.Resource = before.wideResource(m.kind, one)
			}
			if !line(&l) {
				line = nil
			}
		}
	}); err != nil {
		return nil, err
	}
	progress(0.95)
	for _, x := range moved {
		out.Parties.Gained += min(1, x.Gained)
		out.Parties.Lost += min(1, x.Lost)
		out.Parties.Otherwise += min(1, x.Otherwise)
	}
	// All live links are one cohort of wide actions; those that also change by
	// themselves count once.
	out.Parties.Gained += max(links["gained"], linkMoves.Gained)
	out.Parties.Lost += max(links["lost"], linkMoves.Lost)
	out.Parties.Otherwise += max(links["otherwise"], linkMoves.Otherwise)
	out.WideGained, out.WideLost, out.WideOtherwise = wideSums(sums["gained"]), wideSums(sums["lost"]), wideSums(sums["otherwise"])
	news := newsOf(before, after, at)
	if err := newcomerImpact(work, news, &changed, out, stop); err != nil {
		return nil, err
	}
	if err := outwardImpact(before, after, at, news, &changed, out, stop); err != nil {
		return nil, err
	}
	if err := presenterImpact(work, news, &changed, out, stop); err != nil {
		return nil, err
	}
	Ousted(before, after, at, func(i uint32, _ dated.Cause, _ moment.Moment) {
		if out.Suspended++; out.Suspended <= 100 {
			out.SuspendedWho = append(out.SuspendedWho, Who{Address: after.addressOf(i)})
		}
	})
	progress(1)
	return out, nil
}

// note counts one change by its word.
func (m *Moves) note(change string) { *m.of(change) += 1 }

// of is the count of one sort of change.
func (m *Moves) of(change string) *int {
	switch change {
	case "gained":
		return &m.Gained
	case "lost":
		return &m.Lost
	}
	return &m.Otherwise
}

// between counts what is otherwise on the second side, for n things that are
// answered alike.
func (m *Moves) between(v *[2]Verdict, n int) {
	if v[0].Yes != v[1].Yes || v[0].Yes && v[0].Conditions != v[1].Conditions {
		*m.of(changeOf(v[0], v[1])) += n
	}
}

// changeOf is the word for a change; the two are known to differ. Otherwise is
// a yes on both sides with other conditions.
func changeOf(left, right Verdict) string {
	switch {
	case right.Yes && !left.Yes:
		return "gained"
	case left.Yes && !right.Yes:
		return "lost"
	}
	return "otherwise"
}

// actionMatters reports whether an action asks any of some rules. Whatever an
// action asks besides rules (bars, standings, openings) is compared party by
// party.
func actionMatters(a catalogue.ActionID, changed *[catalogue.NumRules]bool) bool {
	for r := range changed {
		if changed[r] {
			for _, x := range catalogue.AskedBy(catalogue.RuleID(r)) {
				if x == a {
					return true
				}
			}
		}
	}
	return false
}

// wideResource names a thing of a kind by its index; our directory is one.
func (s *Snapshot) wideResource(kind catalogue.ResourceKind, i uint32) world.Resource {
	inv := &s.inv
	switch kind {
	case catalogue.OurDirectory:
		return world.Resource{Kind: kind, ID: "ours"}
	case catalogue.Meeting:
		return world.Resource{Kind: kind, ID: inv.meetingIDs.text(inv.text, i)}
	case catalogue.Space:
		return world.Resource{Kind: kind, ID: inv.spaceIDs.text(inv.text, i)}
	}
	return world.Resource{Kind: kind, ID: inv.personIDs.text(inv.text, i)}
}

// touched finds the entries whose requirements any of the changed rules is
// among, or whose limits and defaults differ. An entry is an action for one
// account, a requirement a rule and the value it must reach; both are bits of a
// word (masks.go). people says that exceptions may answer otherwise, which are
// about single people of ours.
//
// A limit or default that moved touches every entry that needs it; exceptions
// and values of places touch those that they can speak on.
func touched(x, y *sides, changed *[catalogue.NumRules]bool, otherRows bool) (set uint64, people bool) {
	moved := (x.defaults ^ y.defaults) | (x.limits ^ y.limits)
	if otherRows { // values that count no more fall back to what may be tighter than the limit
		for k := range masks.requirements {
			if changed[masks.requirements[k].rule] {
				moved |= 1 << k
			}
		}
	}
	for _, k := range masks.people {
		if changed[masks.requirements[k].rule] {
			moved |= 1 << k
			people = true
		}
	}
	for i := range masks.entries {
		e := &masks.entries[i]
		need := e.need[0][0] | e.need[0][1] | e.need[1][0] | e.need[1][1] | e.private | e.guests | e.listed | e.any
		if e.licence {
			need |= 7 << masks.licence
		}
		if need&moved != 0 {
			set |= 1 << i
		}
	}
	// Which account is told depends on both answers.
	for i := range masks.entries { // of two accounts for one action both are asked
		if r := masks.entries[i].recordEntry; r != 0 && set&(r|1<<i) != 0 {
			set |= r | 1<<i
		}
	}
	return
}

// otherRows reports whether values of spaces, items and meetings count on one
// side that are held back on the other.
func otherRows(a, b *Snapshot) bool { return a.idx != b.idx }

// sameSide reports whether two policies take a party alike, as far as granted
// actions go, but for what all parties have in common.
func sameSide(a, b *partySide) bool { return *a == *b }

// saidOtherwise marks the rules of which any space, item or meeting says
// otherwise on two sides: where a system does not know what places say, or has
// values of its own there. Rows are shared, so that each pair of them is
// compared once: a pass over places and a handful of comparisons.
func saidOtherwise(a, b *Snapshot, changed *[catalogue.NumRules]bool) {
	if !otherRows(a, b) {
		return
	}
	compared := map[[2]uint32]bool{}
	empty := emptyRow()
	compare := func(x, y uint32) {
		if x == none && y == none || compared[[2]uint32{x, y}] {
			return
		}
		compared[[2]uint32{x, y}] = true
		one, other := &empty, &empty
		if x != none {
			one = &a.inv.rows[x]
		}
		if y != none {
			other = &b.inv.rows[y]
		}
		for r := range changed {
			changed[r] = changed[r] || one[r] != other[r]
		}
	}
	for i := range min(a.inv.spaces.n, b.inv.spaces.n) {
		compare(a.inv.spaces.at(i).rules, b.inv.spaces.at(i).rules)
	}
	for i := range min(a.inv.items.n, b.inv.items.n) {
		compare(a.inv.items.at(i).rules, b.inv.items.at(i).rules)
	}
	for i := range min(a.inv.meetings.n, b.inv.meetings.n) {
		compare(a.inv.meetings.at(i).rules, b.inv.meetings.at(i).rules)
	}
}

// linkImpact compares what whoever holds a link may do. Each link that is alive
// is asked by itself; there are few actions, and most changes concern none. A
// link counts as one party, and as stopped where it opened something and opens
// nothing any more.
func linkImpact(
	before, after *Snapshot,
	at moment.Moment,
	changed *[catalogue.NumRules]bool,
	out *Impact,
	line *func(*ImpactLine) bool,
) (parties Moves) {
	matters := false
	var acts []*catalogue.Action
	for i := range catalogue.Actions() {
		a := &catalogue.Actions()[i]
		if masks.granted.Has(a.ID) && a.Asks[catalogue.Bearer] != nil {
			acts = append(acts, a)
			matters = matters || actionMatters(a.ID, changed)
		}
	}
	for _, r := range []catalogue.RuleID{ruleLinkDays, ruleLinkRight, ruleBearer, ruleDriveBearer} {
		matters = matters || changed[r]
	}
	if !matters {
		return
	}
	inv := &before.inv
	for i := uint32(0); i < inv.links.n; i++ {
		l := inv.links.at(i)
		if !l.exists || !l.bearer || !moment.Within(at, l.created, l.until) || !inv.items.at(l.item).exists {
			continue
		}
		it := inv.items.at(l.item)
		q := Question{
			Subject:  Who{Kind: ByLinkID, ID: inv.linkIDs.text(inv.text, i)},
			Resource: world.Resource{Kind: it.kind, ID: inv.itemIDs.text(inv.text, l.item)},
			At:       at,
		}
		var sets [3]Actions
		var was, will Actions
		var mine Moves
		for _, a := range acts {
			if !a.Takes(it.kind) {
				continue
			}
			q.Action = a.ID
			v, _ := before.Decide(&q)
			w, _ := after.Decide(&q)
			if v.Yes {
				was |= 1 << a.ID
			}
			if w.Yes {
				will |= 1 << a.ID
			}
			if v.Yes == w.Yes && (!v.Yes || v.Conditions == w.Conditions) {
				continue
			}
			change := changeOf(v, w)
			mine.note(change)
			out.Granted[a.ID].note(change)
			for k, c := range []string{"gained", "lost", "otherwise"} {
				if c == change {
					sets[k] |= 1 << a.ID
				}
			}
		}
		if !mine.Any() {
			continue
		}
		parties.Gained += min(1, mine.Gained)
		parties.Lost += min(1, mine.Lost)
		parties.Otherwise += min(1, mine.Otherwise)
		if was != 0 && will == 0 {
			out.LinksStopped = append(out.LinksStopped, q.Subject.ID)
		}
		if was == 0 && will != 0 {
			out.LinksStarted = append(out.LinksStarted, q.Subject.ID)
		}
		add := func(in map[string]*Moves, key string) {
			if in[key] == nil {
				in[key] = &Moves{}
			}
			in[key].add(mine)
		}
		add(out.Kinds, KindBearer.String())
		add(out.Partners, "")
		if it.space != none {
			add(out.Spaces, inv.spaceIDs.text(inv.text, it.space))
		}
		for k, set := range sets {
			if set != 0 && *line != nil &&
				!(*line)(
					&ImpactLine{
						Who:      q.Subject,
						Change:   [...]string{"gained", "lost", "otherwise"}[k],
						Actions:  set,
						Resource: q.Resource,
						Count:    1,
					},
				) {
				*line = nil
			}
		}
	}
	return
}
