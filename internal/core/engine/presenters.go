package engine

import (
	"runtime"
	"slices"
	"sort"
	"sync"
	"sync/atomic"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// What people of ours present elsewhere than in meetings of their own. The host
// decides who comes in, and whoever presents decides what may be done with what
// they show (model §5): a share of a screen is theirs and not the host's. So an
// exception for a single person can open something in every meeting of the
// house that they ever present in.

// PresenterMove is what outsiders would become able to do in what people of
// ours present, or no longer: in any meeting that they present in, whoever its
// host is.
//
// A presenter's own exceptions count there, so that anybody's exception may
// open something in every meeting that they present in.
type PresenterMove struct {
	Action     catalogue.ActionID
	Change     string // gained, lost
	Parties    int    // known parties and live links
	Presenters int
	Pairs      int
	Person     string     // one of the presenters, by id
	Newcomers  []Newcomer // typical newcomers for whom it changes too
}

// presenterImpact compares what may be done in what people of ours present
// elsewhere than in meetings of their own.
//
// Which meetings somebody passes into, and which presenters would let them do
// more, are asked apart and put together; otherwise doors times presenters
// times parties would be asked. Parties and newcomers of whom the same is told
// are asked once, and presenters whom the same exceptions name: what remains is
// hundreds of questions.
func presenterImpact(work *wideWork, news []comparedNewcomer, changed *[catalogue.NumRules]bool, out *Impact, stop func() error) error {
	// Without a meeting there is nothing to present in.
	doors := work.about[catalogue.Meeting]
	if len(doors) == 0 {
		return nil
	}
	named := [2]naming{work.sides[0].naming(), work.sides[1].naming()}
	all := audiencesOf(work, news, &named)
	for i := range wideActions {
		w := &wideActions[i]
		act := w.act.Get()
		if !act.Presenter {
			continue
		}
		p := presented{sides: work.sides, at: work.at, act: w.act, doors: doors, presenters: presentersOf(work.sides, act)}
		p.attend(all, &named, i, actionMatters(w.act, changed))
		if err := p.compare(stop); err != nil {
			return err
		}
		out.Presenters = append(out.Presenters, p.moves()...)
	}
	return nil
}

// audience is a cohort or a typical newcomer who may be in somebody's meeting.
type audience struct {
	who      Who
	cohort   *cohort // nil for a newcomer
	newcomer *Newcomer
	like     [2]likeness
	changed  bool // the policy takes them otherwise, whatever rule is asked
}

// audiencesOf lists whoever may be in meetings, with what tells them apart.
func audiencesOf(work *wideWork, news []comparedNewcomer, named *[2]naming) (out []audience) {
	for _, c := range work.cohorts {
		out = append(out, audience{who: c.who, cohort: c, like: c.like, changed: c.changed})
	}
	for i := range news {
		n := &news[i]
		x := audience{who: n.Who, newcomer: &n.Newcomer, changed: n.moved}
		if n.Who.Kind == ByAddress {
			for side, s := range work.sides {
				x.like[side] = s.likeNew(n.Who.Address, &named[side])
			}
		}
		out = append(out, x)
	}
	return
}

// presentersOf divides people of ours by those exceptions that name them on
// either side and say something of a rule that an action asks of who presents;
// nothing else of a presenter is asked. Few exceptions do, so that there are
// few sorts, however many people have exceptions of another kind.
func presentersOf(sides [2]*Snapshot, act *catalogue.Action) (out [][]uint32) {
	var rules []catalogue.RuleID
	for _, ask := range act.Rows(catalogue.Meeting) {
		for ; ask != nil; ask = ask.Private {
			for _, n := range ask.Needs {
				if n.Kind == catalogue.AtPresenter {
					rules = append(rules, n.Rule)
				}
			}
		}
	}
	counts := func(x *exception) bool {
		return slices.ContainsFunc(rules, func(r catalogue.RuleID) bool { return x.rules[r] != catalogue.Unset })
	}
	inv := &sides[0].inv
	at := map[[2]string]int{}
	for p := range inv.people.n {
		if !inv.people.at(p).exists {
			continue
		}
		k := [2]string{sides[0].concerning(p, counts), sides[1].concerning(p, counts)}
		c, ok := at[k]
		if !ok {
			c = len(out)
			at[k], out = c, append(out, nil)
		}
		out[c] = append(out[c], p)
	}
	return
}

// presented compares one action in what people of ours present.
type presented struct {
	sides      [2]*Snapshot
	at         moment.Moment
	act        catalogue.ActionID
	doors      []alike // sorts of meetings
	presenters [][]uint32
	groups     []*attending
	sums       map[string]*presentedSum // by gained, lost
	sorts      [2]map[attendingSort]int // on each side, numbered
	told       [2]map[presentedKey]presenterSet
}

// attendingSort is what of somebody in a meeting the presenter's answer depends
// on: what their partner says to the action, and what may name them.
type attendingSort struct {
	kind            SubjectKind
	links           bool
	says            string // see known.partner
	partner, domain uint32
	groups          string
	alone           uint32
}

// presentedKey is what the answers of presenters are the same for: all who are
// of one sort, behind all doors that say the same.
type presentedKey struct {
	says doorSays
	sort int // by p.sorts
}

// presenterSet is a set of sorts of presenters, a bit for each.
type presenterSet []uint64

func (s presenterSet) has(k int) bool { return s[k/64]&(1<<(k%64)) != 0 }

// attending is everybody who gets the same answers about an action, whichever
// meeting and presenter it is. who is one of them.
type attending struct {
	who  Who
	all  []audience
	ways [2][]way // before and after; which doors they pass
	sort [2]int   // see presented.sorts
}

// doorSays is what a meeting and its space say, by rows.
type doorSays struct{ door, space uint32 }

// way is a meeting that somebody passes into, and what it says. Of meetings
// that say the same one is enough.
type way struct {
	id   string
	says doorSays
}

// presentedSum is one sort of change, as it is found.
type presentedSum struct {
	groups     map[*attending]bool
	presenters map[int]bool
	move       PresenterMove
}

// attend puts those together who get the same answers. Whom the change does not
// concern is left out: nobody is left where the action asks no rule that
// changed, and the policy takes everybody as before.
func (p *presented) attend(all []audience, named *[2]naming, action int, matters bool) {
	type key struct {
		kind  SubjectKind
		links bool
		sign  [2]wideSign
	}
	signs := [2]*signs{newSigns(p.sides[0], p.at, &named[0]), newSigns(p.sides[1], p.at, &named[1])}
	by := map[key]*attending{}
	p.sorts = [2]map[attendingSort]int{{}, {}}
	for i := range all {
		x := &all[i]
		if !x.changed && !matters {
			continue
		}
		k := key{kind: x.who.Kind, links: x.cohort != nil && x.cohort.links > 0}
		if k.kind == ByAddress { // nobody names whoever holds a link
			for side := range k.sign {
				k.sign[side] = signs[side].of(action, &x.like[side])
			}
		}
		g := by[k]
		if g == nil {
			g = &attending{who: x.who}
			by[k], p.groups = g, append(p.groups, g)
			for side := range k.sign {
				sort := attendingSort{kind: k.kind, links: k.links}
				if w := &k.sign[side]; k.kind == ByAddress {
					sort.partner, sort.domain, sort.groups, sort.alone = w.partner, w.domain, w.groups, w.alone
					if of := x.like[side].partner; of != none {
						sort.says = signs[side].known[action].partner(0, of)
					}
				}
				n, ok := p.sorts[side][sort]
				if !ok {
					n = len(p.sorts[side])
					p.sorts[side][sort] = n
				}
				g.sort[side] = n
			}
		}
		g.all = append(g.all, *x)
	}
}

// through lists the doors that somebody passes, whoever presents: one of each
// sort that says something else about what depends on who presents.
func (p *presented) through(s *Snapshot, who Who) (out []way) {
	seen := map[doorSays]bool{}
	for k := range p.doors {
		w := way{id: p.doors[k].id}
		w.says.door, w.says.space = none, none
		if m := s.inv.meetingIDs.find(s.inv.text, w.id); m != none {
			of := s.inv.meetings.at(m)
			if w.says.door = of.rules; of.space != none {
				w.says.space = s.inv.spaces.at(of.space).rules
			}
		}
		if seen[w.says] {
			continue
		}
		q := Question{Subject: who, Action: p.act, Resource: world.Resource{Kind: catalogue.Meeting, ID: w.id}, At: p.at, anyPresenter: true}
		if v, err := s.Decide(&q); err == nil && v.Yes {
			seen[w.says] = true
			out = append(out, w)
		}
	}
	return out
}

// lets returns which sorts of our people let a group do it in what they
// present, behind any of the doors that it passes.
func (p *presented) lets(side int, g *attending) presenterSet {
	out := make(presenterSet, (len(p.presenters)+63)/64)
	for _, w := range g.ways[side] {
		k := presentedKey{w.says, g.sort[side]}
		set, ok := p.told[side][k]
		if !ok {
			set = make(presenterSet, len(out))
			q := Question{Subject: g.who, Action: p.act, Resource: world.Resource{Kind: catalogue.Meeting, ID: w.id}, At: p.at}
			p.sides[side].eachPresenter(&q, p.presenters, func(i int) { set[i/64] |= 1 << (i % 64) })
			p.told[side][k] = set
		}
		for i := range out {
			out[i] |= set[i]
		}
	}
	return out
}

// eachPresenter calls yes with the sorts of our people who let somebody do
// something in what they present in a meeting, as Decide would answer for the
// first of each. Of all gates only the rules that an action asks of who presents
// depend on them: the rest is asked once.
func (s *Snapshot) eachPresenter(q *Question, sorts [][]uint32, yes func(i int)) {
	q.anyPresenter = true
	var a asker
	if a.resolve(s, q) != nil {
		return
	}
	a.below |= catalogue.AtPeople
	told := make([]bool, len(sorts))
	for i := range a.nAccounts {
		if !a.ask(a.accounts[i]).Yes {
			continue
		}
		ask := a.rows[a.accounts[i].class]
		in := a.of(ask)
	sort:
		for k, people := range sorts {
			if told[k] {
				continue
			}
			in.person = people[0]
			for j := range ask.Needs {
				if n := &ask.Needs[j]; n.Kind == catalogue.AtPresenter && a.value(n.Rule, &in, nil) < n.Value {
					continue sort
				}
			}
			told[k] = true
			yes(k)
		}
	}
}

// compare asks each group about each sort of presenter on both sides.
func (p *presented) compare(stop func() error) error {
	p.sums, p.told = map[string]*presentedSum{}, [2]map[presentedKey]presenterSet{{}, {}}
	var next atomic.Int64
	var group sync.WaitGroup
	var stopped atomic.Pointer[error]
	for range runtime.GOMAXPROCS(0) { // whoever passes which doors is most of the work, and none depends on another
		group.Go(func() {
			for {
				i := int(next.Add(1)) - 1
				if i >= len(p.groups) || stopped.Load() != nil {
					return
				}
				if err := stop(); err != nil {
					stopped.Store(&err)
					return
				}
				for side, s := range p.sides {
					p.groups[i].ways[side] = p.through(s, p.groups[i].who)
				}
			}
		})
	}
	group.Wait()
	if err := stopped.Load(); err != nil {
		return *err
	}
	for _, g := range p.groups {
		before, after := p.lets(0, g), p.lets(1, g)
		for k, class := range p.presenters {
			was, will := before.has(k), after.has(k)
			if was == will {
				continue
			}
			change := changeOf(Verdict{Yes: was}, Verdict{Yes: will})
			x := p.sums[change]
			if x == nil {
				x = &presentedSum{groups: map[*attending]bool{}, presenters: map[int]bool{},
					move: PresenterMove{Action: p.act, Change: change}}
				p.sums[change] = x
			}
			x.presenters[k], x.groups[g] = true, true
			for i := range g.all {
				if c := g.all[i].cohort; c != nil {
					x.move.Pairs += c.size() * len(class)
				}
			}
		}
	}
	return nil
}

// moves sums up what was found. The person that is named is the first of those
// for whom it changes, in the order of the inventory.
func (p *presented) moves() (out []PresenterMove) {
	inv := &p.sides[0].inv
	for _, change := range []string{"gained", "lost"} {
		x := p.sums[change]
		if x == nil {
			continue
		}
		first := uint32(none)
		for k := range x.presenters {
			x.move.Presenters += len(p.presenters[k])
			first = min(first, p.presenters[k][0])
		}
		x.move.Person = inv.personIDs.text(inv.text, first)
		for g := range x.groups {
			for i := range g.all {
				if a := &g.all[i]; a.cohort != nil {
					x.move.Parties += a.cohort.size()
				} else {
					x.move.Newcomers = append(x.move.Newcomers, *a.newcomer)
				}
			}
		}
		sort.Slice(x.move.Newcomers, func(i, j int) bool { return x.move.Newcomers[i].Who.String() < x.move.Newcomers[j].Who.String() })
		out = append(out, x.move)
	}
	return
}
