package finding

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
)

// withoutEffect looks for exceptions that change nothing.
// It is exact: see engine.Inert.
func (f *finder) withoutEffect() {
	inert := f.s.NewInert()
	for i := range f.w.Exceptions {
		x := &f.w.Exceptions[i]
		if f.at >= x.Until {
			continue // over; it needs nobody
		}
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
		for j := i + 1; j < len(f.w.Exceptions); j++ {
			f.disagree(x, &f.w.Exceptions[j])
		}
	}
}

// disagree looks at two exceptions for the same person or group, at the same
// time, towards parties that may be the same, with different values.
// Both count, and the tighter wins, which one of the two authors did not want.
func (f *finder) disagree(x, y *world.Exception) {
	if f.at >= y.Until || x.Until <= y.From || y.Until <= x.From {
		return
	}
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

// meet reports whether two lists of parties may name the same party.
// Nil is everybody. A domain below a partner's belongs to it where the entry takes these along.
func (f *finder) meet(a, b []world.PartyRef) bool {
	if a == nil || b == nil {
		return true
	}
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
			case x.Group != "" && !y.Address.IsZero() && f.inGroup(x.Group, y), y.Group != "" && !x.Address.IsZero() && f.inGroup(y.Group, x):
				return true
			}
		}
	}
	return false
}

// inGroup reports whether a group holds an address.
func (f *finder) inGroup(id string, r world.PartyRef) bool {
	for i := range f.w.Groups {
		if f.w.Groups[i].ID == id {
			for _, a := range f.w.Groups[i].Parties {
				if a == r.Address {
					return true
				}
			}
		}
	}
	return false
}

// place is somewhere that values are set.
// where is the context in which its value counts.
type place struct {
	about string
	layer catalogue.Layers
	rules []world.Setting
	where engine.Context
}

// places lists everywhere below the organisation that sets values.
// It is made once.
func (f *finder) places() (out []place) {
	if f.all != nil {
		return f.all
	}
	defer func() { f.all = out }()
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
		if f.at < x.Until {
			add("exception:"+x.ID, catalogue.AtPeople, x.Rules, c)
			if len(out) > 0 && x.From > f.at {
				out[len(out)-1].where.At = x.From
			}
		}
	}
	for i := range f.w.Spaces {
		s := &f.w.Spaces[i]
		add("space:"+s.ID, catalogue.AtSpace, s.Rules, engine.Context{Resource: world.Resource{Kind: catalogue.Space, ID: s.ID}})
		for j := range s.Items {
			r := world.Resource{Kind: s.Items[j].Kind, ID: s.Items[j].ID}
			add(r.String(), catalogue.AtItem, s.Items[j].Rules, engine.Context{Resource: r})
		}
	}
	for i := range f.w.Meetings {
		r := world.Resource{Kind: catalogue.Meeting, ID: f.w.Meetings[i].ID}
		add(r.String(), catalogue.AtItem, f.w.Meetings[i].Rules, engine.Context{Resource: r})
	}
	return
}

// held lists values that are held back.
// The default of a rule may be held back, and any value below.
func (f *finder) held() {
	for i := range catalogue.Rules() {
		r := &catalogue.Rules()[i]
		if limit, counts, said, held := f.s.RuleState(r.ID); held {
			f.add("held_back", one(r.Name), []Number{{"values", 1}}, "The default of %s, %s, is held back; the limit is %s, and %s counts.", r.Name,
				r.Scale.Format(said), r.Scale.Format(limit), r.Scale.Format(counts))
		}
	}
	for _, p := range f.places() {
		for _, v := range p.rules {
			if v.Held {
				r := v.Rule.Get()
				limit, _, _, _ := f.s.RuleState(r.ID)
				now := "the limit is " + r.Scale.Format(limit)
				if !r.Scale.Looser(v.Value, limit) {
					now = "the limit allows it again"
				}
				f.add("held_back", one(p.about, r.Name), []Number{{"values", 1}}, "%s of %s is held back at %s; %s.", r.Scale.Format(v.Value), r.Name,
					p.about, now)
			}
		}
	}
}

// dependencies looks for rules that are open and need another that is closed.
// What the organisation as a whole was told of is not told again at each place.
func (f *finder) dependencies() {
	look := func(about string, set []catalogue.RuleID, c engine.Context) {
		for _, d := range catalogue.Dependencies() {
			touched := false
			for _, r := range set {
				touched = touched || r == d.Rule || r == d.Needs
			}
			if !touched {
				continue
			}
			mine, err1 := f.s.ChainOf(d.Rule, c)
			need, err2 := f.s.ChainOf(d.Needs, c)
			if err1 != nil || err2 != nil || mine.Effective() < d.From || need.Effective() >= d.Value {
				continue
			}
			if c.Resource == engine.NoResource && f.setSomewhere(about, d.Needs, d.Value) {
				continue // it is open where somebody opened it
			}
			a, b := d.Rule.Get(), d.Needs.Get()
			f.add("dependency_closed", one(about, a.Name), []Number{{"values", 1}}, "%s is %s and needs %s at %s, which is %s (%s).", a.Name,
				a.Scale.Format(mine.Effective()), b.Name, b.Scale.Format(d.Value), b.Scale.Format(need.Effective()), about)
		}
	}
	all := make([]catalogue.RuleID, catalogue.NumRules)
	for i := range all {
		all[i] = catalogue.RuleID(i)
	}
	before := len(f.out)
	look("organisation", all, engine.Context{Resource: engine.NoResource, At: f.at})
	told := map[string]bool{} // what the organisation as a whole was told is not said again
	for i := range f.out[before:] {
		told[f.out[before+i].About[1]] = true
	}
	for _, p := range f.places() {
		var set []catalogue.RuleID
		for _, v := range p.rules {
			if !v.Held {
				set = append(set, v.Rule)
			}
		}
		before := len(f.out)
		look(p.about, set, p.where)
		f.out = append(f.out[:before], slices.DeleteFunc(slices.Clone(f.out[before:]), func(x Finding) bool { return told[x.About[1]] })...)
	}
}

// setAt is a value and where it is set.
// Held values do not count.
type setAt struct {
	about string
	value catalogue.Value
}

// setSomewhere reports whether anything but about reaches a value.
// The two loosest places of each rule are enough to answer it for any place.
func (f *finder) setSomewhere(about string, r catalogue.RuleID, v catalogue.Value) bool {
	if f.top == nil {
		f.top = map[catalogue.RuleID][2]setAt{}
		for _, p := range f.places() {
			for _, x := range p.rules {
				if x.Held {
					continue
				}
				t := f.top[x.Rule]
				switch {
				case t[0].about == "" || x.Value > t[0].value && t[0].about == p.about:
					t[0] = setAt{p.about, x.Value}
				case x.Value > t[0].value:
					t[0], t[1] = setAt{p.about, x.Value}, t[0]
				case t[0].about != p.about && (t[1].about == "" || x.Value > t[1].value):
					t[1] = setAt{p.about, x.Value}
				}
				f.top[x.Rule] = t
			}
		}
	}
	for _, t := range f.top[r] {
		if t.about != "" && t.about != about && t.value >= v {
			return true
		}
	}
	return false
}

// levels finds how little and how much each rule that opens something says anywhere.
// They are defaults and what partners, exceptions and spaces say, within the limits.
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
	for _, p := range f.places() {
		for _, v := range p.rules {
			if _, is := lowest[v.Rule]; is && !v.Held {
				note(v.Rule, v.Value)
			}
		}
	}
}

// openings compares what a partner is opened for with the levels that ask.
// Closed where no rule that asks is open anywhere; without effect where all of them admit anybody.
func (f *finder) openings(p *world.Partner, numbers []Number, lowest, highest map[catalogue.RuleID]catalogue.Value) {
	for k := catalogue.Key(0); k < catalogue.NumKeys; k++ {
		rules := engine.LevelRules(k)
		if p.Opened[k] != world.OpenYes || len(rules) == 0 {
			continue
		}
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

// values looks for sets of methods that are empty and for limits that are looser
// than anything set.
// A limit that nothing comes near only helps mistakes.
func (f *finder) values() {
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
	for i := range catalogue.Rules() {
		r := &catalogue.Rules()[i]
		limit, counts, _, _ := f.s.RuleState(r.ID)
		take(r.ID, counts)
		if r.Scale.Shape == catalogue.Methods && r.Scale.Tighter(counts, limit) == 0 {
			f.add("no_method", one(r.Name), nil, "%s leaves no method.", r.Name)
		}
	}
	for _, p := range f.places() {
		for _, v := range p.rules {
			take(v.Rule, v.Value)
			if r := v.Rule.Get(); r.Scale.Shape == catalogue.Methods && !v.Held && v.Value == 0 {
				f.add("no_method", one(p.about, r.Name), nil, "%s leaves no method at %s.", r.Name, p.about)
			}
		}
	}
	var rules []catalogue.RuleID
	for r := range used {
		rules = append(rules, r)
	}
	sort.Slice(rules, func(i, j int) bool { return rules[i] < rules[j] })
	for _, id := range rules {
		r := id.Get()
		limit, _, _, _ := f.s.RuleState(id)
		if r.Layers != 0 && r.Scale.Looser(limit, used[id]) {
			f.add("limit_loose", one(r.Name), nil, "The limit of %s is %s; nothing is set looser than %s.", r.Name, r.Scale.Format(limit),
				r.Scale.Format(used[id]))
		}
	}
}
