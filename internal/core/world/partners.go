package world

import (
	"fmt"
	"slices"
	"sort"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
)

// Partners that become one, and partners that become two. Firms merge and part,
// and what names them is all over the policy and the inventory: exceptions,
// bundles, expectations, spaces, letters. Both ways are computed here as a
// world to come, with all that changes told; nothing is changed.

// Moved is a world whose partners were put together or taken apart. Everything
// that a reader would want to know before two partners become one.
type Moved struct {
	World   *World       // all of it: policy, stances, spaces and letters
	Spaces  []string     // ids of the spaces that named a partner and name another or one more now
	Named   []string     // what else of the policy did: exception:ID, bundle:ID, expectation:ID
	Letters []string     // ids of letters that belong to another partner now
	Given   []Grant      // what a partner holds as a whole, and did not hold before
	Ended   []Grant      // what the partner held that is no more
	Differs []Difference // what the people who move find otherwise
}

// Difference is one thing that a partner's record says and another's says
// otherwise. The words are those of the file format.
type Difference struct {
	What        string // standing, opened chat.in, rule spaces.pages, stance chat.in
	Was, Become string
}

// partnerAt returns the place of a partner; -1 for none.
func partnerAt(w *World, id string) int {
	return slices.IndexFunc(w.Partners, func(p Partner) bool { return p.ID == id })
}

// JoinPartners makes one partner of two: the domains of from become those of
// into, whatever names from names into instead, and from is no more. The record
// of into counts for everybody: its standing, openings, rules and stances stay
// as they are, so that nothing opens by being put together that into was not
// opened for. An error says what of the two ids is wrong.
func JoinPartners(w *World, from, into string) (*Moved, error) {
	i, j := partnerAt(w, from), partnerAt(w, into)
	switch {
	case i < 0:
		return nil, fmt.Errorf("there is no partner %q", from)
	case j < 0:
		return nil, fmt.Errorf("there is no partner %q", into)
	case i == j:
		return nil, fmt.Errorf("%q cannot be merged with itself", from)
	}
	old, kept := w.Partners[i], w.Partners[j]
	m := &Moved{Differs: Differences(&old, &kept)}
	kept.Domains = append(slices.Clone(kept.Domains), old.Domains...)
	for _, n := range append([]string{old.Name}, old.AlsoNamed...) {
		if n != kept.Name && !slices.Contains(kept.AlsoNamed, n) {
			kept.AlsoNamed = append(kept.AlsoNamed[:len(kept.AlsoNamed):len(kept.AlsoNamed)], n)
		}
	}
	for _, c := range old.Contacts {
		if !slices.Contains(kept.Contacts, c) {
			kept.Contacts = append(kept.Contacts[:len(kept.Contacts):len(kept.Contacts)], c)
		}
	}
	if kept.Owner == "" {
		kept.Owner = old.Owner
	}
	kept.Review = min(kept.Review, old.Review)
	switch {
	case kept.Note == "":
		kept.Note = old.Note
	case old.Note != "":
		kept.Note += " " + old.Name + ": " + old.Note
	}
	out := *w
	out.Partners = nil
	for k := range w.Partners {
		switch k {
		case i:
		case j:
			out.Partners = append(out.Partners, kept)
		default:
			out.Partners = append(out.Partners, w.Partners[k])
		}
	}
	m.World = &out
	m.rename(from, into, false)
	return m, nil
}

// SplitPartner takes domains off a partner and makes them those of a new one.
// Whatever names the old partner names both, and the new one has its standing,
// openings, rules and stances, so that nobody's reach changes by it. An entry
// may also lie below a domain that the partner has with its subdomains. At
// least one domain stays.
//
// An error says which domain cannot be taken off, and why.
func SplitPartner(w *World, from string, entries []Entry, id, name string) (*Moved, error) {
	i := partnerAt(w, from)
	switch {
	case i < 0:
		return nil, fmt.Errorf("there is no partner %q", from)
	case partnerAt(w, id) >= 0:
		return nil, fmt.Errorf("there is a partner %q already", id)
	case len(entries) == 0:
		return nil, fmt.Errorf("no domain is named; name those that become the new partner's")
	}
	old := w.Partners[i]
	next := old
	next.ID, next.Name, next.AlsoNamed, next.Statement = id, name, nil, ""
	next.Stance = slices.Clone(old.Stance)
	next.Domains = nil
	stay := slices.Clone(old.Domains)
	for _, e := range entries {
		k := slices.IndexFunc(stay, func(x Entry) bool { return x.Domain == e.Domain })
		if k >= 0 {
			if e.Subdomains != stay[k].Subdomains {
				return nil, fmt.Errorf(
					"%s is kept %s its subdomains; it can only be split off like that",
					e.Domain,
					map[bool]string{true: "with", false: "without"}[stay[k].Subdomains],
				)
			}
			next.Domains = append(next.Domains, stay[k])
			stay = slices.Delete(stay, k, k+1)
			continue
		}
		if !slices.ContainsFunc(old.Domains, func(x Entry) bool { return x.Subdomains && e.Domain.Under(x.Domain) }) {
			return nil, fmt.Errorf("%s is no domain of %q", e.Domain, from)
		}
		next.Domains = append(next.Domains, Entry{Domain: e.Domain, Subdomains: e.Subdomains})
	}
	if len(stay) == 0 {
		return nil, fmt.Errorf("no domain would be left to %q; to give it another name, change its name", from)
	}
	for k := range next.Domains { // what was one partner's may look alike
		for _, x := range stay {
			if addr.LookAlike(next.Domains[k].Domain, x.Domain) {
				next.Domains[k].LookAlike = true
			}
		}
	}
	out := *w
	old.Domains = stay
	out.Partners = append(append(slices.Clone(w.Partners[:i]), old), w.Partners[i+1:]...)
	out.Partners = append(out.Partners, next)
	m := &Moved{World: &out}
	m.rename(from, id, true)
	return m, nil
}

// rename puts into where from is named, or beside it where both stays.
func (m *Moved) rename(from, into string, both bool) {
	w := m.World
	ids := func(list []string) ([]string, bool) { return renamed(list, from, into, both) }
	refs := func(list []PartyRef) ([]PartyRef, bool) {
		return renamed(list, PartyRef{Partner: from}, PartyRef{Partner: into}, both)
	}
	w.Exceptions = holding(w.Exceptions, func(x Exception) (Exception, bool) {
		var did bool
		if x.Parties, did = refs(x.Parties); did {
			m.Named = append(m.Named, "exception:"+x.ID)
		}
		return x, did
	})
	w.Bundles = holding(w.Bundles, func(x Bundle) (Bundle, bool) {
		var did bool
		if x.Partners, did = ids(x.Partners); did {
			m.Named = append(m.Named, "bundle:"+x.ID)
		}
		return x, did
	})
	taken := map[string]bool{}
	for i := range w.Expectations {
		taken[w.Expectations[i].ID] = true
	}
	var more []Expectation
	w.Expectations = holding(w.Expectations, func(x Expectation) (Expectation, bool) {
		only, did := renamed(x.Expect.Only, "partner:"+from, "partner:"+into, both)
		x.Expect.Only = only
		if did || x.Party == "partner:"+from {
			m.Named = append(m.Named, "expectation:"+x.ID)
		}
		if x.Party != "partner:"+from {
			return x, did
		}
		if both {
			y := x
			for y.ID = x.ID + "-" + into; taken[y.ID]; {
				y.ID += "-too"
			}
			taken[y.ID] = true
			y.Party = "partner:" + into
			more = append(more, y)
			return x, did
		}
		x.Party = "partner:" + into
		return x, true
	})
	w.Expectations = append(w.Expectations[:len(w.Expectations):len(w.Expectations)], more...)
	w.Spaces = holding(w.Spaces, func(x Space) (Space, bool) {
		var did bool
		if x.Parties, did = refs(x.Parties); did {
			m.Spaces = append(m.Spaces, x.ID)
		}
		return x, did
	})
	m.grants(from, into, both)
	if both {
		return
	}
	w.Letters = holding(w.Letters, func(x Letter) (Letter, bool) {
		if x.Partner != from {
			return x, false
		}
		m.Letters = append(m.Letters, x.ID)
		x.Partner = into
		return x, true
	})
}

// grants gives what a partner holds as a whole to another too, or instead.
func (m *Moved) grants(from, into string, both bool) {
	w := m.World
	key := func(g *Grant) Grant {
		return Grant{Partner: g.Partner, Resource: g.Resource, Role: g.Role, From: g.From}
	}
	have := map[Grant]bool{}
	for i := range w.Grants {
		have[key(&w.Grants[i])] = true
	}
	var all []Grant
	for _, g := range w.Grants {
		if g.Partner != from {
			all = append(all, g)
			continue
		}
		next := g
		next.Partner = into
		if both {
			all = append(all, g)
		} else {
			m.Ended = append(m.Ended, g)
		}
		if !have[key(&next)] {
			all = append(all, next)
			m.Given = append(m.Given, next)
		}
	}
	w.Grants = all
}

// renamed puts into in the place of from, or beside it; false where from is not
// in the list.
func renamed[T comparable](list []T, from, into T, both bool) ([]T, bool) {
	i := slices.Index(list, from)
	if i < 0 {
		return list, false
	}
	have := slices.Contains(list, into)
	out := slices.Clone(list)
	switch {
	case both && !have:
		out = slices.Insert(out, i+1, into)
	case !both && have:
		out = slices.Delete(out, i, i+1)
	case !both:
		out[i] = into
	}
	return out, true
}

// Differences lists what the people of one partner would find otherwise under
// the record of another.
func Differences(was, become *Partner) (out []Difference) {
	add := func(what, a, b string) {
		if a != b {
			out = append(out, Difference{what, a, b})
		}
	}
	add("standing", StandingNames[was.Standing], StandingNames[become.Standing])
	opening := []string{"unset", "yes", "no"}
	for k := catalogue.Key(0); k < catalogue.NumKeys; k++ {
		add("opened "+k.String(), opening[was.Opened[k]], opening[become.Opened[k]])
	}
	rules := map[catalogue.RuleID][2]string{}
	for side, list := range [][]Setting{was.Rules, become.Rules} {
		for _, s := range list {
			x, said := rules[s.Rule]
			if !said {
				x = [2]string{"unset", "unset"}
			}
			x[side] = s.Rule.Get().Scale.Format(s.Value)
			if s.Held {
				x[side] += " held back"
			}
			rules[s.Rule] = x
		}
	}
	order := make([]catalogue.RuleID, 0, len(rules))
	for r := range rules {
		order = append(order, r)
	}
	sort.Slice(order, func(i, j int) bool { return order[i] < order[j] })
	for _, r := range order {
		add("rule "+r.String(), rules[r][0], rules[r][1])
	}
	var says [2][catalogue.NumKeys]Says
	for _, s := range was.Stance {
		says[0][s.Key] = s.Says
	}
	for _, s := range become.Stance {
		says[1][s.Key] = s.Says
	}
	for k := catalogue.Key(0); k < catalogue.NumKeys; k++ {
		add("stance "+k.String(), SaysNames[says[0][k]], SaysNames[says[1][k]])
	}
	return out
}
