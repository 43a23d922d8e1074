package native

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Sets: values of their own that a system gives to a domain, a space or a
// person of ours.
//
// A system with one value for everybody can hold a partner's looser value only
// by being looser for all, which is refused; it then holds the tightest that is
// meant anywhere. A system with sets can say it where it is meant. A set for a
// domain or a person stands in entire for the general values; a set for a space
// says single words, and where a domain's set and a space's word meet the
// stricter counts.
//
// charters composes what a system should hold, readCharters says what its sets
// mean, overlayCharters makes policy of them, so that the engine can answer for
// the system.

// Scope is to whom or what a system gives a set of values of its own. A system
// that has one value for everybody gives no sets.
type Scope string

// The scopes, as layers are called.
const (
	ToPartners Scope = "partner" // to a domain, or *.domain for those below it
	ToSpaces   Scope = "space"   // to a space, by its id there
	ToPeople   Scope = "people"  // to a person of ours, by their address
)

// charterPrefix begins the path of a set of values for somebody or something. A
// domain follows, or # and the id of a space there, or @ and the address of a
// person of ours. Paths of sets never change: what was written is found by them
// again.
const (
	charterPrefix = "charter:"
	ofSpace       = "#"
	ofPerson      = "@"
)

// gives reports whether the dialect's systems give sets of a scope.
func (d *Dialect) gives(s Scope) bool { return slices.Contains(d.Sets, s) }

// scopeOf says to what kind of thing the set at a path is given.
func scopeOf(path string) Scope {
	switch of := strings.TrimPrefix(path, charterPrefix); {
	case strings.HasPrefix(of, ofSpace):
		return ToSpaces
	case strings.HasPrefix(of, ofPerson):
		return ToPeople
	}
	return ToPartners
}

// charterSpan is how long a change of such a set takes to count: as long as its
// slowest dial. It is negative where the dialect knows none.
func (d *Dialect) charterSpan() time.Duration {
	out := time.Duration(-1)
	for i := range d.Dials {
		if x := &d.Dials[i]; x.Charter {
			out = max(out, x.Span)
		}
	}
	for i := range d.Boards {
		if b := &d.Boards[i]; b.Charter {
			out = max(out, b.Span)
		}
	}
	return out
}

// CharterText writes a set of values as a Setting of a dialect has it, in the
// order of the dialect: what it says. The order makes equal sets equal texts.
func (d *Dialect) CharterText(words map[string]string) string {
	var out []string
	for i := range d.Dials {
		if x := &d.Dials[i]; x.Charter {
			if w, said := words[x.Path]; said {
				out = append(out, x.Path+"="+w)
			}
		}
	}
	for i := range d.Boards {
		if b := &d.Boards[i]; b.Charter {
			if w, said := words[b.Path]; said {
				out = append(out, b.Path+"="+w)
			}
		}
	}
	return strings.Join(out, "; ")
}

// ParseCharter reads a set of values as a Setting has it. An error names the
// text and how it would be right.
func ParseCharter(text string) (map[string]string, error) {
	out := map[string]string{}
	for _, part := range strings.Split(text, ";") {
		name, value, ok := strings.Cut(strings.TrimSpace(part), "=")
		if !ok {
			return nil, fmt.Errorf("%q is no set of values: write name=value, with semicolons between", text)
		}
		out[name] = value
	}
	return out, nil
}

// Own writes what of a set differs from the general values, by what its
// settings are called; a set that says what they say is the same as everywhere,
// and none is empty. A text that cannot be read is shown as it is.
func (d *Dialect) Own(text string, general map[string]string) string {
	if text == "" {
		return ""
	}
	words, err := ParseCharter(text)
	if err != nil {
		return text
	}
	var out []string
	for i := range d.Dials {
		if w, said := words[d.Dials[i].Path]; said && d.Dials[i].Charter && w != general[d.Dials[i].Path] {
			x := &d.Dials[i]
			out = append(out, x.Title+": "+words[x.Path])
		}
	}
	for i := range d.Boards {
		if b := &d.Boards[i]; b.Charter && words[b.Path] != "" && words[b.Path] != general[b.Path] {
			out = append(out, b.Title+": "+words[b.Path])
		}
	}
	if len(out) == 0 {
		return "the same as everywhere"
	}
	return strings.Join(out, "; ")
}

// RulesBetween lists the rules that a setting carries and that differ between
// two values of it. Whoever looks at a difference asks first which rule it is
// about.
func (d *Dialect) RulesBetween(path, was, becomes string) (out []string) {
	if !IsSet(path) {
		return []string{d.RuleAt(path)}
	}
	a, _ := ParseCharter(was)
	b, _ := ParseCharter(becomes)
	for i := range d.Dials {
		if x := &d.Dials[i]; x.Charter && (was == "" && b[x.Path] != "" || becomes == "" && a[x.Path] != "" || a[x.Path] != b[x.Path]) {
			out = append(out, x.Rule)
		}
	}
	for i := range d.Boards {
		if x := &d.Boards[i]; x.Charter && a[x.Path] != b[x.Path] && !slices.Contains(out, x.Rule) {
			out = append(out, x.Rule)
		}
	}
	return
}

// IsSet reports whether a setting is a set of values for somebody or something.
func IsSet(path string) bool { return strings.HasPrefix(path, charterPrefix) }

// entryNames are the names under which an entry of a partner stands in a
// system.
func entryNames(e world.Entry) []string {
	if e.Subdomains {
		return []string{e.Domain.String(), "*." + e.Domain.String()}
	}
	return []string{e.Domain.String()}
}

// Place is what a space, an item or a meeting says of rules. Places are told to
// a dialect with what they are called there.
type Place struct {
	Kind   string // space, item or meeting
	Space  string // itself, or in which it is; empty for none
	Native string // what the space is called in the system; empty while it is not there
	Rules  []world.Setting
}

// heldApart reports whether what an exception says of a rule is written as sets
// of its people.
func (m *Meant) heldApart(d *Dialect, x *Dial, e *world.Exception) bool {
	return x != nil && x.Charter && d.gives(ToPeople) && len(e.Parties) == 0 && m.People != nil
}

// tightened tightens a value by all that layers say of a rule and the system
// can hold in no set: a system with one value for everybody may hold no looser
// one. x is the dial that carries the rule, or nil; b the list that does, or
// nil.
//
// systems.md §3: what cannot be held apart is held tighter for all, never
// looser for some.
func (m *Meant) tightened(d *Dialect, x *Dial, b *Board, r *catalogue.Rule, v catalogue.Value) catalogue.Value {
	said := func(list []world.Setting) {
		for _, s := range list {
			if s.Rule == r.ID && !s.Held {
				v = r.Scale.Tighter(v, s.Value)
			}
		}
	}
	set := func(s Scope) bool { return x != nil && x.Charter && d.gives(s) }
	for i := range m.Policy.Partners {
		if !set(ToPartners) {
			said(m.Policy.Partners[i].Rules)
		}
	}
	for i := range m.Policy.Exceptions {
		if e := &m.Policy.Exceptions[i]; moment.Within(m.At, e.From, e.Until) && !m.heldApart(d, x, e) && !m.apart(d, b, e) {
			said(e.Rules)
		}
	}
	for i := range m.Places {
		if p := &m.Places[i]; !set(ToSpaces) || p.Space == "" || p.Native == "" {
			said(p.Rules)
		}
	}
	return v
}

// set composes a set of values in entire: what is said of each rule, else the
// general value; within the limit, and tightened by what can be held in no set.
// It is empty where nothing of its own is said.
//
// said tells what somebody says of a rule, and whether anything.
func (d *Dialect) set(m *Meant, said func(r *catalogue.Rule, v catalogue.Value) (catalogue.Value, bool)) string {
	words, own := map[string]string{}, false
	for k := range d.Dials {
		x := &d.Dials[k]
		if !x.Charter {
			continue
		}
		r, _ := catalogue.RuleByName(x.Rule)
		limit, v := organisation(m.Policy, r)
		if of, ok := said(r, v); ok {
			v, own = r.Scale.Tighter(of, limit), true
		}
		words[x.Path] = x.write(m.tightened(d, x, nil, r, v))
	}
	if !own {
		return ""
	}
	return d.CharterText(words)
}

// tightestOf returns the tightest that a list says of a rule. some is false
// where the list does not say it.
func tightestOf(list []world.Setting, r *catalogue.Rule) (v catalogue.Value, some bool) {
	for _, s := range list {
		if s.Rule == r.ID && !s.Held {
			if !some {
				v = s.Value
			}
			v, some = r.Scale.Tighter(v, s.Value), true
		}
	}
	return
}

// charters are the sets that a system should hold: for domains of partners, for
// spaces and for people of ours of whom anything is said that sets say. They
// come after the general values, which they replace in part.
func (d *Dialect) charters(m *Meant) (out []Setting) {
	if d.gives(ToPartners) {
		for i := range m.Policy.Partners {
			p := &m.Policy.Partners[i]
			text := d.set(m, func(r *catalogue.Rule, _ catalogue.Value) (catalogue.Value, bool) { return tightestOf(p.Rules, r) })
			if text == "" {
				continue
			}
			for _, e := range p.Domains {
				for _, name := range entryNames(e) {
					out = append(out, Setting{charterPrefix + name, text})
				}
			}
		}
	}
	if d.gives(ToSpaces) {
		out = append(out, d.spaceCharters(m)...)
	}
	if d.gives(ToPeople) && m.People != nil {
		out = append(out, d.peopleCharters(m)...)
	}
	return
}

// spaceCharters are the words of spaces of their own: only what they say
// themselves, so that a partner's set counts there for the rest. What an item
// says tightens its space's, as an item has none. Where a partner says itself
// what is the general value, its set does not weigh against a space's word, so
// that the word is tightened by it. A space that is not there yet has no name
// to be written under.
func (d *Dialect) spaceCharters(m *Meant) (out []Setting) {
	by := map[string][]*Place{} // by the space's id there
	var order []string
	for i := range m.Places {
		if p := &m.Places[i]; p.Space != "" && p.Native != "" {
			if by[p.Native] == nil {
				order = append(order, p.Native)
			}
			by[p.Native] = append(by[p.Native], p)
		}
	}
	slices.Sort(order)
	for _, id := range order {
		words := map[string]string{}
		for k := range d.Dials {
			x := &d.Dials[k]
			if !x.Charter {
				continue
			}
			r, _ := catalogue.RuleByName(x.Rule)
			limit, v := organisation(m.Policy, r)
			general, some := x.write(m.tightened(d, x, nil, r, v)), false
			// First what the space says, then what its items tighten.
			for _, kind := range []string{"space", "item"} {
				for _, p := range by[id] {
					own, ok := tightestOf(p.Rules, r)
					switch {
					case !ok || p.Kind != kind:
					case kind == "space":
						v, some = own, true
					default:
						v, some = r.Scale.Tighter(v, own), true
					}
				}
			}
			if !some {
				continue
			}
			v = m.tightened(d, x, nil, r, r.Scale.Tighter(v, limit))
			for i := range m.Policy.Partners {
				if own, ok := tightestOf(m.Policy.Partners[i].Rules, r); ok &&
					x.write(m.tightened(d, x, nil, r, r.Scale.Tighter(own, limit))) == general {
					v = r.Scale.Tighter(v, own)
				}
			}
			words[x.Path] = x.write(v)
		}
		if len(words) > 0 {
			out = append(out, Setting{charterPrefix + ofSpace + id, d.CharterText(words)})
		}
	}
	return
}

// peopleCharters are the sets of people of ours who have exceptions towards
// everybody. A person's own come before those of their groups.
func (d *Dialect) peopleCharters(m *Meant) (out []Setting) {
	own, group := map[string][]world.Setting{}, map[string][]world.Setting{}          // by address
	lists, groups := map[string][]*world.Exception{}, map[string][]*world.Exception{} // those that lists may carry
	boards := slices.ContainsFunc(d.Boards, func(b Board) bool { return b.Charter })
	for i := range m.Policy.Exceptions {
		e := &m.Policy.Exceptions[i]
		if !moment.Within(m.At, e.From, e.Until) || len(e.Parties) > 0 && !boards {
			continue
		}
		// What a person of ours has, by their address: somebody without one
		// cannot be named there.
		give := func(id string, to map[string][]world.Setting, lists map[string][]*world.Exception) {
			a := m.People.AddressOf(id)
			if a == "" {
				return
			}
			if lists[a] = append(lists[a], e); len(e.Parties) == 0 {
				to[a] = append(to[a], e.Rules...)
			}
		}
		for _, id := range e.People {
			give(id, own, lists)
		}
		for _, g := range e.Groups {
			for _, id := range m.People.PeopleIn(g) {
				give(id, group, groups)
			}
		}
	}
	var all []string
	for a := range lists {
		all = append(all, a)
	}
	for a := range groups {
		all = append(all, a)
	}
	slices.Sort(all)
	general := d.set(m, func(_ *catalogue.Rule, v catalogue.Value) (catalogue.Value, bool) { return v, true })
	for _, a := range slices.Compact(all) {
		text := d.set(m, func(r *catalogue.Rule, _ catalogue.Value) (catalogue.Value, bool) {
			if v, ok := tightestOf(own[a], r); ok {
				return v, true
			}
			return tightestOf(group[a], r)
		})
		text, general := d.withLists(m, text, general, lists[a], groups[a])
		if text != "" && (text != general || len(d.Sets) > 1) { // beside no other set, one that says the same does nothing
			out = append(out, Setting{charterPrefix + ofPerson + a, text})
		}
	}
	return
}

// withLists adds the lists of a person to their set: it is then in entire, and
// so is the general one beside it. A person with a list of their own has all
// lists of the dialect in their set.
func (d *Dialect) withLists(m *Meant, text, general string, own, group []*world.Exception) (set, all string) {
	some := text != ""
	words, rest := map[string]string{}, map[string]string{}
	for i := range d.Boards {
		b := &d.Boards[i]
		if !b.Charter {
			continue
		}
		r, _ := catalogue.RuleByName(b.Rule)
		_, level := organisation(m.Policy, r)
		rest[b.Path] = b.write(m.tightened(d, nil, b, r, level), m)
		words[b.Path] = rest[b.Path]
		if own, ok := d.personal(m, b, own, group); ok {
			words[b.Path], some = own, true
		}
	}
	if len(words) == 0 || !some {
		return text, general
	}
	join := func(text string, lists map[string]string) string {
		dials := d.CharterText(lists)
		if text == "" {
			return dials
		}
		return text + "; " + dials
	}
	if text == "" {
		text = general
	}
	return join(text, words), join(general, rest)
}
