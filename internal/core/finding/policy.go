package finding

import (
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
)

// withoutEffect looks for exceptions that change nothing. It is exact: see
// engine.Inert. One that is held back in all it says waits, and is another
// finding.
func (f *finder) withoutEffect() {
	inert := f.s.NewInert()
	for i := range f.w.Exceptions {
		x := &f.w.Exceptions[i]
		if f.at >= x.Until {
			continue // over; it needs nobody
		}
		// An exception whose values are all held back changes nothing because a
		// limit holds it, which is told as held_back.
		counts := 0
		for _, r := range x.Rules {
			if !r.Held {
				counts++
			}
		}
		if counts > 0 && inert.ChangesNothing(i, f.at) {
			f.add("exception_without_effect", one("exception:"+x.ID), []Number{{"people", len(f.s.People(i))}, {"values", counts}},
				"Without the exception %s every value would be the same.", x.ID)
		}
	}
}

// exceptions looks for those that disagree.
func (f *finder) exceptions() {
	for i := range f.w.Exceptions {
		x := &f.w.Exceptions[i]
		if f.at >= x.Until {
			continue
		}
		// Each pair once. Exceptions are some hundreds at most, and most pairs
		// share nobody, which is asked first.
		for j := i + 1; j < len(f.w.Exceptions); j++ {
			f.disagree(x, &f.w.Exceptions[j])
		}
	}
}

// disagree looks at two exceptions for the same person or group, at the same
// time, towards parties that may be the same, with different values. Both
// count, and the tighter wins, which one of the two authors did not want.
// Exceptions of a person and of their group do not disagree: the person's own
// replaces the group's.
func (f *finder) disagree(x, y *world.Exception) {
	if f.at >= y.Until || x.Until <= y.From || y.Until <= x.From {
		return
	}
	// A person and a group of theirs are not compared: what a person is told
	// replaces what their group is told (model §3).
	shared := common(x.People, y.People)
	for _, g := range common(x.Groups, y.Groups) {
		shared = append(shared, "group:"+g)
	}
	if len(shared) == 0 || !f.meet(x.Parties, y.Parties) {
		return
	}
	var rules []string
	for _, a := range x.Rules {
		for _, b := range y.Rules {
			if a.Rule == b.Rule && a.Value != b.Value && !a.Held && !b.Held {
				r := a.Rule.Get()
				rules = append(rules, fmt.Sprintf("%s (%s and %s)", r.Name, r.Scale.Format(a.Value), r.Scale.Format(b.Value)))
			}
		}
	}
	if len(rules) > 0 {
		f.add("exceptions_disagree", one("exception:"+x.ID, "exception:"+y.ID), []Number{{"people", len(shared)}, {"values", len(rules)}},
			"For %s, %s and %s disagree on %s.", strings.Join(shared, ", "), x.ID, y.ID, strings.Join(rules, ", "))
	}
}

// common lists what two lists share.
func common(a, b []string) (out []string) {
	for _, x := range a {
		for _, y := range b {
			if x == y {
				out = append(out, x)
			}
		}
	}
	return
}

// meet reports whether two lists of parties may name the same party. Nil is
// everybody. A domain below a partner's belongs to it where the entry takes
// these along.
func (f *finder) meet(a, b []world.PartyRef) bool {
	if a == nil || b == nil {
		return true
	}
	// Whose a reference is, as far as a partner lists its domain; the empty id
	// for nobody's.
	partner := func(r world.PartyRef) string {
		if r.Partner != "" {
			return r.Partner
		}
		for i := range f.w.Partners {
			p := &f.w.Partners[i]
			for _, d := range p.Domains {
				if !r.Domain.IsZero() && (d.Domain == r.Domain || d.Subdomains && r.Domain.Under(d.Domain)) ||
					!r.Address.IsZero() && (d.Domain == r.Address.Domain() || d.Subdomains && r.Address.Domain().Under(d.Domain)) {
					return p.ID
				}
			}
		}
		return ""
	}
	for _, x := range a {
		for _, y := range b {
			switch {
			case x == y:
				return true
			case x.Partner != "" && x.Partner == partner(y), y.Partner != "" && y.Partner == partner(x):
				return true
			case !x.Domain.IsZero() && !y.Address.IsZero() && y.Address.Domain() == x.Domain,
				!y.Domain.IsZero() && !x.Address.IsZero() && x.Address.Domain() == y.Domain:
				return true
			case x.Group != "" && !y.Address.IsZero() && f.s.InGroup(x.Group, y.Address), y.Group != "" && !x.Address.IsZero() && f.s.InGroup(y.Group, x.Address):
				return true
			}
		}
	}
	return false
}

// place is somewhere that values are set. where is the context in which its
// value counts.
type place struct {
	about string
	layer catalogue.Layers
	rules []world.Setting
	where engine.Context
}

// placesAbove and placesBelow are those that say anything, of what is below the
// organisation: partners and exceptions above, spaces, items and meetings
// below.
func (f *finder) placesAbove() (out []place) {
	add := func(about string, layer catalogue.Layers, rules []world.Setting, where engine.Context) {
		if len(rules) > 0 {
			where.At = f.at
			out = append(out, place{about: about, layer: layer, rules: rules, where: where})
		}
	}
	for i := range f.w.Partners {
		p := &f.w.Partners[i]
		c := engine.Context{Resource: engine.NoResource}
		if len(p.Domains) > 0 {
			c.Party = "*@" + p.Domains[0].Domain.String()
		}
		add("partner:"+p.ID, catalogue.AtPartner, p.Rules, c)
	}
	for i := range f.w.Exceptions {
		x := &f.w.Exceptions[i]
		if f.at >= x.Until {
			continue
		}
		c := engine.Context{Resource: engine.NoResource}
		if ids := f.s.People(i); len(ids) > 0 {
			c.Person = ids[0]
		}
		for _, r := range x.Parties {
			switch {
			case !r.Address.IsZero():
				c.Party = r.Address.String()
			case !r.Domain.IsZero():
				c.Party = "*@" + r.Domain.String()
			case r.Partner != "":
				for j := range f.w.Partners {
					if f.w.Partners[j].ID == r.Partner && len(f.w.Partners[j].Domains) > 0 {
						c.Party = "*@" + f.w.Partners[j].Domains[0].Domain.String()
					}
				}
			}
		}
		add("exception:"+x.ID, catalogue.AtPeople, x.Rules, c)
		if len(x.Rules) > 0 && x.From > f.at {
			out[len(out)-1].where.At = x.From
		}
	}
	return
}

// placesBelow are spaces, items and meetings; see placesAbove.
func (f *finder) placesBelow() (out []place) {
	add := func(r world.Resource, layer catalogue.Layers, rules []world.Setting) {
		if len(rules) > 0 {
			out = append(out, place{about: r.String(), layer: layer, rules: rules, where: engine.Context{Resource: r, At: f.at}})
		}
	}
	for i := range f.w.Spaces {
		s := &f.w.Spaces[i]
		add(world.Resource{Kind: catalogue.Space, ID: s.ID}, catalogue.AtSpace, s.Rules)
		for j := range s.Items {
			add(world.Resource{Kind: s.Items[j].Kind, ID: s.Items[j].ID}, catalogue.AtItem, s.Items[j].Rules)
		}
	}
	for i := range f.w.Meetings {
		add(world.Resource{Kind: catalogue.Meeting, ID: f.w.Meetings[i].ID}, catalogue.AtItem, f.w.Meetings[i].Rules)
	}
	return
}

// setValue is a value of a rule.
type setValue struct {
	rule  catalogue.RuleID
	value catalogue.Value
}

// setPair is what a space and an item in it say of a rule together, as far as
// it counts.
type setPair struct {
	rule        catalogue.RuleID
	space, item catalogue.Value
}

// tally counts by how many places a value is set: what is asked of all places
// together is asked of it.
type tally struct {
	counts map[setValue]int // those that count
	set    map[setValue]int // those that are held back, too
	pairs  map[setPair]int
}

// newTally counts nothing yet.
func newTally() *tally {
	return &tally{map[setValue]int{}, map[setValue]int{}, map[setPair]int{}}
}

// note counts what some places say, by times.
func (t *tally) note(list []place, by int) {
	for i := range list {
		for _, x := range list[i].rules {
			v := setValue{x.Rule, x.Value}
			t.set[v] += by
			if !x.Held {
				t.counts[v] += by
			}
		}
	}
}

// within counts what spaces, their items and meetings say together.
func (t *tally) within(w *world.World, by int) {
	counting := func(rules []world.Setting, fn func(r catalogue.RuleID, v catalogue.Value)) {
		for _, x := range rules {
			if !x.Held {
				fn(x.Rule, x.Value)
			}
		}
	}
	for i := range w.Spaces {
		at := map[catalogue.RuleID]catalogue.Value{}
		counting(w.Spaces[i].Rules, func(r catalogue.RuleID, v catalogue.Value) {
			at[r] = v
			t.pairs[setPair{r, v, catalogue.Unset}] += by
		})
		for j := range w.Spaces[i].Items {
			counting(w.Spaces[i].Items[j].Rules, func(r catalogue.RuleID, v catalogue.Value) {
				p := setPair{r, catalogue.Unset, v}
				if s, ok := at[r]; ok {
					p.space = s
				}
				t.pairs[p] += by
			})
		}
	}
	for i := range w.Meetings {
		counting(w.Meetings[i].Rules, func(r catalogue.RuleID, v catalogue.Value) { t.pairs[setPair{r, catalogue.Unset, v}] += by })
	}
}

// add adds what another counted, and reports whether some value, or some pair,
// is set now that was not before, or no more.
func (t *tally) add(more *tally) (values, pairs bool) {
	counts, set := added(t.counts, more.counts), added(t.set, more.set)
	return counts || set, added(t.pairs, more.pairs)
}

// added adds numbers to others, and reports whether any came to be, or ceased
// to be, other than none.
func added[K comparable](to, more map[K]int) (other bool) {
	for k, n := range more {
		was := to[k]
		if to[k] = was + n; to[k] == 0 {
			delete(to, k)
		}
		other = other || (was == 0) != (was+n == 0)
	}
	return
}

// above looks at values of the organisation, of partners and exceptions:
// held-back defaults, limits looser than anything below uses, rules that need
// another. It asks what all places say together of the tally, so that it costs
// no pass over them.
func (f *finder) above() {
	used := map[catalogue.RuleID]catalogue.Value{}
	take := func(r catalogue.RuleID, v catalogue.Value) {
		switch old, ok := used[r]; {
		case !ok:
			used[r] = v
		case r.Get().Scale.Shape == catalogue.Methods:
			used[r] = old | v
		default:
			used[r] = max(old, v)
		}
	}
	// Values that are held back count as a wish: a limit that they wait for is
	// not too loose.
	for v := range f.tally.set {
		take(v.rule, v.value)
	}
	all := make([]catalogue.RuleID, catalogue.NumRules)
	for i := range catalogue.Rules() {
		r := &catalogue.Rules()[i]
		all[i] = r.ID
		limit, counts, said, held := f.s.RuleState(r.ID)
		if held {
			f.add("held_back", one(r.Name), []Number{{"values", 1}}, "The default of %s, %s, is held back; the limit is %s, and %s counts.", r.Name,
				r.Scale.Format(said), r.Scale.Format(limit), r.Scale.Format(counts))
		}
		take(r.ID, counts)
		if r.Scale.Shape == catalogue.Methods && r.Scale.Tighter(counts, limit) == 0 {
			f.add("no_method", one(r.Name), nil, "%s leaves no method.", r.Name)
		}
		// A limit that nothing comes near only helps mistakes.
		if r.Layers != 0 && r.Scale.Looser(limit, used[r.ID]) {
			f.add("limit_loose", one(r.Name), nil, "The limit of %s is %s; nothing is set looser than %s.", r.Name, r.Scale.Format(limit),
				r.Scale.Format(used[r.ID]))
		}
	}
	// What the organisation as a whole is told of would be told again at each
	// place that says anything of the rule; told keeps it to once.
	before := len(f.out)
	f.told = nil
	f.dependencies(&place{about: "organisation", where: engine.Context{Resource: engine.NoResource, At: f.at}}, all)
	f.told = map[string]bool{}
	for i := range f.out[before:] {
		f.told[f.out[before+i].About[1]] = true
	}
	for _, p := range f.placesAbove() {
		f.place(&p)
	}
}

// place looks at the values of one place: those that are held back, sets of
// methods that are empty, rules that are open and need another that is closed.
func (f *finder) place(p *place) {
	var set []catalogue.RuleID
	for _, v := range p.rules {
		r := v.Rule.Get()
		if !v.Held {
			set = append(set, v.Rule)
			if r.Scale.Shape == catalogue.Methods && v.Value == 0 {
				f.add("no_method", one(p.about, r.Name), nil, "%s leaves no method at %s.", r.Name, p.about)
			}
			continue
		}
		limit, _, _, _ := f.s.RuleState(r.ID)
		// A limit may have been raised since: then the value waits only for
		// somebody to release it.
		now := "the limit is " + r.Scale.Format(limit)
		if !r.Scale.Looser(v.Value, limit) {
			now = "the limit allows it again"
		}
		f.add("held_back", one(p.about, r.Name), []Number{{"values", 1}}, "%s of %s is held back at %s; %s.", r.Scale.Format(v.Value), r.Name,
			p.about, now)
	}
	f.dependencies(p, set)
}

// dependencies looks for rules that are open at a place and need another that
// is closed there, among those that were set. What the organisation as a whole
// was told of is not told again at each place.
func (f *finder) dependencies(p *place, set []catalogue.RuleID) {
	for _, d := range catalogue.Dependencies() {
		if !slices.Contains(set, d.Rule) && !slices.Contains(set, d.Needs) || f.told[d.Rule.Get().Name] {
			continue
		}
		mine, err1 := f.s.ChainOf(d.Rule, p.where)
		need, err2 := f.s.ChainOf(d.Needs, p.where)
		if err1 != nil || err2 != nil || mine.Effective() < d.From || need.Effective() >= d.Value {
			continue
		}
		// The organisation and partners speak for all places; a rule that is
		// opened where it is needed is closed elsewhere on purpose.
		if p.where.Resource == engine.NoResource && f.setElsewhere(p, d.Needs, d.Value) {
			continue // it is open where somebody opened it
		}
		a, b := d.Rule.Get(), d.Needs.Get()
		f.add("dependency_closed", one(p.about, a.Name), []Number{{"values", 1}}, "%s is %s and needs %s at %s, which is %s (%s).", a.Name,
			a.Scale.Format(mine.Effective()), b.Name, b.Scale.Format(d.Value), b.Scale.Format(need.Effective()), p.about)
	}
}

// setElsewhere reports whether any other place reaches a value. Values that are
// held back do not count. It is what keeps an organisation from being told of a
// rule that somebody opened where it is needed.
func (f *finder) setElsewhere(p *place, r catalogue.RuleID, v catalogue.Value) bool {
	n := 0
	for x, of := range f.tally.counts {
		if x.rule == r && x.value >= v {
			n += of
		}
	}
	for _, x := range p.rules {
		if x.Rule == r && x.Value >= v && !x.Held {
			n--
		}
	}
	return n > 0
}

// levels finds how little and how much each rule that opens something says
// anywhere. They are defaults and what partners, exceptions and spaces say,
// within the limits.
func (f *finder) levels(lowest, highest map[catalogue.RuleID]catalogue.Value) {
	note := func(r catalogue.RuleID, v catalogue.Value) {
		limit, _, _, _ := f.s.RuleState(r)
		v = min(v, limit)
		if old, ok := lowest[r]; !ok || v < old {
			lowest[r] = v
		}
		if old, ok := highest[r]; !ok || v > old {
			highest[r] = v
		}
	}
	for k := catalogue.Key(0); k < catalogue.NumKeys; k++ {
		for _, r := range engine.LevelRules(k) {
			_, counts, _, _ := f.s.RuleState(r)
			note(r, counts)
		}
	}
	for x := range f.tally.counts {
		if _, is := lowest[x.rule]; is {
			note(x.rule, x.value)
		}
	}
}

// openings compares what a partner is opened for with the levels that ask.
// Closed where no rule that asks is open anywhere; without effect where all of
// them admit anybody.
func (f *finder) openings(p *world.Partner, numbers []Number, lowest, highest map[catalogue.RuleID]catalogue.Value) {
	for k := catalogue.Key(0); k < catalogue.NumKeys; k++ {
		rules := engine.LevelRules(k)
		if p.Opened[k] != world.OpenYes || len(rules) == 0 {
			continue
		}
		// Several rules may ask for one opening. It is closed where all are,
		// and does nothing where none of them looks at the list.
		closed, wide := true, true
		var names []string
		for _, r := range rules {
			names = append(names, r.String())
			closed = closed && highest[r] == 0
			wide = wide && lowest[r] == 2
		}
		switch {
		case closed:
			f.add("service_closed", one("partner:"+p.ID, k.String()), numbers, "%s is opened for %s, and %s is closed to everybody.", p.Name, k,
				strings.Join(names, " and "))
		case wide:
			f.add("opening_without_effect", one("partner:"+p.ID, k.String()), numbers, "%s is opened for %s, and %s admits anybody.", p.Name, k,
				strings.Join(names, " and "))
		}
	}
}
