package native

import (
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Translation, both ways (systems.md §§2 and 3).
//
// To writes what a system should hold. Where a dialect has no word for a value,
// the next tighter one is written; where it has one value for everybody, the
// tightest that is meant anywhere. From reads what a system holds, each word
// with the least and the most that it may mean. Overlay makes a policy of what
// was read, the loosest or the tightest faithful one, and the engine answers
// for it: what the loosest lets through and ours does not is open there and
// should not be.
//
// Three properties are tested on random policies for every dialect: what is
// written is never looser than meant, reading what was written finds nothing
// looser, and writing again changes nothing.

// Setting is one value of a system, in its own words. A list of domains is
// written as its mode, a colon, and the domains in order. The order of domains
// in it is alphabetical, so that equal lists are equal texts.
type Setting struct{ Path, Value string }

// Meant is what counts here: the policy in force, and what places say besides.
// It is taken from one snapshot; nothing in it changes while it is translated.
type Meant struct {
	Policy *world.World
	Places []Place // those that say anything of a rule
	People People  // nil where a system is given nothing for single people
	At     moment.Moment
}

// People finds people of ours.
type People interface {
	AddressOf(person string) string // empty where they have none
	PeopleIn(group string) []string
}

// organisation returns the limit of a rule and the value where no place says
// anything. A default that is held back counts as what it is held at.
func organisation(w *world.World, r *catalogue.Rule) (limit, def catalogue.Value) {
	limit, def = r.Limit, r.Default
	for i := range w.Rules {
		x := &w.Rules[i]
		if x.Rule != r.ID {
			continue
		}
		if x.Limit != catalogue.Unset {
			limit = x.Limit
		}
		if x.Default != catalogue.Unset {
			def = x.Default
			if x.Held {
				if def = r.Scale.Tightest(); x.Counts != catalogue.Unset {
					def = x.Counts
				}
			}
		}
	}
	return limit, r.Scale.Tighter(def, limit)
}

// To returns what a system of the dialect should hold, in the order of the
// dialect: dials, lists, sets. Two translations of the same are equal, byte by
// byte.
func (d *Dialect) To(m *Meant) (out []Setting) {
	for i := range d.Dials {
		x := &d.Dials[i]
		r, _ := catalogue.RuleByName(x.Rule)
		v, general := organisation(m.Policy, r)
		if !x.Ceiling {
			v = m.tightened(d, x, nil, r, general)
		}
		out = append(out, Setting{x.Path, x.write(v)})
	}
	for i := range d.Boards {
		b := &d.Boards[i]
		r, _ := catalogue.RuleByName(b.Rule)
		level := listed
		if !b.Opens {
			_, level = organisation(m.Policy, r)
			level = m.tightened(d, nil, b, r, level)
		}
		out = append(out, Setting{b.Path, b.write(level, m)})
	}
	return append(out, d.charters(m)...)
}

// Wanted is To for a system that was read: what it should hold, and what it
// holds for somebody and should not, as empty.
func (d *Dialect) Wanted(m *Meant, read map[string]string) []Setting {
	out := d.To(m)
	for _, path := range slices.Sorted(maps.Keys(read)) {
		if IsSet(path) && !slices.ContainsFunc(out, func(s Setting) bool { return s.Path == path }) {
			out = append(out, Setting{path, ""})
		}
	}
	return out
}

// At returns what a reading says of a setting, and whether it says anything: of
// a set for somebody, that there is none is said too.
func At(read map[string]string, path string) (value string, there bool) {
	value, there = read[path]
	return value, there || IsSet(path)
}

// Levels of domains, by value.
const (
	closed catalogue.Value = iota
	listed
	anyone
)

// write makes the list that comes to a level: of those alone who are opened and
// active, or of all but those who are closed by name; without whom a bar names.
// At the level closed the list admits nobody: those alone, and none.
func (b *Board) write(level catalogue.Value, m *Meant) string {
	var domains []string
	add := func(e world.Entry) { domains = append(domains, entryNames(e)...) }
	mode := b.Only
	switch level {
	// Partners that are opened and active, without what is barred.
	case listed:
		for i := range m.Policy.Partners {
			if p := &m.Policy.Partners[i]; b.opened(p) == world.OpenYes && m.active(p) {
				for _, e := range p.Domains {
					domains = append(domains, b.unbarred(e, m)...)
				}
			}
		}
		for i := range m.Policy.Barred { // of what the list takes along
			if x := &m.Policy.Barred[i]; b.Single {
				for _, name := range barNames(x) {
					if slices.ContainsFunc(domains, func(d string) bool { return covers(d, name) }) {
						domains = append(domains, not+name)
					}
				}
			}
		}
	case anyone:
		mode = b.But
		for i := range m.Policy.Partners {
			if p := &m.Policy.Partners[i]; b.opened(p) == world.OpenNo || !m.active(p) {
				for _, e := range p.Domains {
					add(e)
				}
			}
		}
		for i := range m.Policy.Barred {
			if x := &m.Policy.Barred[i]; x.Address.IsZero() || b.Single {
				domains = append(domains, barNames(x)...)
			}
		}
	}
	return boardText(mode, domains)
}

// not marks a name that is taken out of a list again.
const not = "!"

// isOut reports whether a name is taken out.
func isOut(name string) bool { return strings.HasPrefix(name, not) }

// barNames are the names under which a bar stands in a list.
func barNames(x *world.Bar) []string {
	if !x.Address.IsZero() {
		return []string{x.Address.String()}
	}
	return entryNames(x.Entry)
}

// unbarred are the names of a partner's entry as far as a list of those alone
// can hold them: not what is barred, and nothing below it where something there
// is.
func (b *Board) unbarred(e world.Entry, m *Meant) (out []string) {
	for _, name := range entryNames(e) {
		if !slices.ContainsFunc(m.Policy.Barred, func(x world.Bar) bool {
			return x.Address.IsZero() && slices.ContainsFunc(barNames(&x),
				func(bar string) bool { return covers(bar, name) || !b.Single && covers(name, bar) })
		}) {
			out = append(out, name)
		}
	}
	return out
}

// active reports whether a partner is in force. One that ends later is active
// until then.
func (m *Meant) active(p *world.Partner) bool {
	return p.Standing == world.Active || p.Standing == world.Ended && m.At < p.StandingSince
}

// opened is what a partner's openings for all of a board's keys come to: no
// where one is no, yes where all are yes.
func (b *Board) opened(p *world.Partner) world.Opening {
	out := world.OpenYes
	for _, name := range b.Keys {
		k, _ := catalogue.ParseKey(name)
		switch p.Opened[k] {
		case world.OpenNo:
			return world.OpenNo
		case world.OpenUnset:
			out = world.OpenUnset
		}
	}
	return out
}

// boardText writes a mode and domains, in order and each once.
func boardText(mode string, domains []string) string {
	sort.Strings(domains)
	domains = slices.Compact(domains)
	return strings.TrimSuffix(mode+": "+strings.Join(domains, ", "), " ")
}

// BoardText writes a list of domains as a Setting has it.
func BoardText(mode string, domains []string) string { return boardText(mode, slices.Clone(domains)) }

// ParseBoard reads a list of domains as a Setting has it. An error says how it
// is written. Whether the mode is one of the dialect's is for the caller.
func ParseBoard(s string) (mode string, domains []string, err error) {
	mode, rest, ok := strings.Cut(s, ":")
	if !ok {
		return "", nil, fmt.Errorf("%q is no list: write its mode, a colon, and domains with commas", s)
	}
	for _, d := range strings.Split(rest, ",") {
		if d = strings.TrimSpace(d); d != "" {
			domains = append(domains, d)
		}
	}
	return strings.TrimSpace(mode), domains, nil
}

// Range is what a rule may come to, at the least and at the most. For a clear
// word both are the same.
type Range struct{ Least, Most catalogue.Value }

// Unread is a setting that says nothing that is understood. What counts there
// is then not known here, and is told as such.
type Unread struct{ Path, Rule, Why string }

// FoundBoard is a list of domains as it was found.
type FoundBoard struct {
	Board   *Board
	But     bool // all but those on it
	Domains []string
}

// Found is what a reading of a system means. It knows nothing of what is meant;
// Overlay puts both together.
type Found struct {
	// of sets of values: by domain, *.domain for those below, # and the id of a
	// space there, @ and an address of ours
	Charters map[string]map[catalogue.RuleID]Range
	Values   map[catalogue.RuleID]Range // where no place says anything; for everybody
	Limits   map[catalogue.RuleID]Range
	Boards   []FoundBoard
	Personal map[string][]FoundBoard // of people of ours, by address
	Unread   []Unread
}

// From says what a reading means. What is not there, or said in words that the
// dialect does not know, is unread: nothing is known of it. Nothing is guessed:
// a word that is not known is no value.
func (d *Dialect) From(read map[string]string) *Found {
	f := &Found{Values: map[catalogue.RuleID]Range{}, Limits: map[catalogue.RuleID]Range{}}
	for i := range d.Dials {
		x := &d.Dials[i]
		word, there := read[x.Path]
		if !there {
			f.Unread = append(f.Unread, Unread{x.Path, x.Rule, "it is not there"})
			continue
		}
		least, most, ok := x.read(word)
		if !ok {
			f.Unread = append(f.Unread, Unread{x.Path, x.Rule, fmt.Sprintf("%q is a word that is not known", word)})
			continue
		}
		r, _ := catalogue.RuleByName(x.Rule)
		if x.Ceiling {
			f.Limits[r.ID] = Range{least, most}
		} else {
			f.Values[r.ID] = Range{least, most}
		}
	}
	d.readCharters(read, f)
	asks := map[string]bool{}
	// A system that asks us and refuses when nobody answers can let nothing
	// through that we would not.
	for _, l := range d.Lives {
		if read[l.Path] != l.On {
			continue
		}
		asks[l.Rule] = true
		if v := read[l.Unanswered]; v != l.Refuses {
			f.Unread = append(f.Unread, Unread{l.Unanswered, l.Rule, l.Opened})
		}
	}
	for i := range d.Boards {
		b := &d.Boards[i]
		if asks[b.Rule] { // it asks us, and its list says nothing
			continue
		}
		text, there := read[b.Path]
		if !there {
			f.Unread = append(f.Unread, Unread{b.Path, b.Rule, "it is not there"})
			continue
		}
		mode, domains, err := ParseBoard(text)
		if err != nil || mode != b.Only && mode != b.But {
			f.Unread = append(f.Unread, Unread{b.Path, b.Rule, fmt.Sprintf("%q is a mode that is not known", mode)})
			continue
		}
		f.Boards = append(f.Boards, FoundBoard{b, mode == b.But, domains})
	}
	return f
}

// Rules lists the rules that a reading speaks of: of those, no place says
// anything that counts there. They are in the order of the catalogue.
func (f *Found) Rules() (out []catalogue.RuleID) {
	for r := range f.Values {
		out = append(out, r)
	}
	for i := range f.Boards {
		if r, _ := catalogue.RuleByName(f.Boards[i].Board.Rule); !f.Boards[i].Board.Opens {
			out = append(out, r.ID)
		}
	}
	slices.Sort(out)
	return
}

// Overlay returns the policy as it counts in a system: with most its loosest
// faithful reading, else its tightest. What the reading says nothing about
// stays as meant. Values of partners, people and places do not count for the
// rules that it speaks of: a system with one value for everybody does not know
// them; callers drop those of places (Rules) and put those there that were
// found (Spaces).
//
// The engine then answers for the system as it does for us, and the difference
// of the two answers is what the page of a system shows: what is open there and
// should not be, and the other way.
func Overlay(policy *world.World, f *Found, most bool, n Names) *world.World {
	w := *policy
	pick := func(x Range) catalogue.Value { return x.pick(most) }
	w.Rules = slices.Clone(policy.Rules)
	// A value that was found bounds itself: what was meant above it does not
	// count there.
	set := func(r *catalogue.Rule, limit, def catalogue.Value) {
		i := slices.IndexFunc(w.Rules, func(x world.RuleSetting) bool { return x.Rule == r.ID })
		if i < 0 {
			i = len(w.Rules)
			w.Rules = append(w.Rules, world.RuleSetting{})
		}
		w.Rules[i] = world.RuleSetting{Rule: r.ID, Limit: limit, Default: r.Scale.Tighter(def, limit), Counts: catalogue.Unset}
	}
	for id, v := range f.Values {
		r := id.Get()
		limit := r.Scale.Loosest()
		if l, ok := f.Limits[id]; ok {
			limit = pick(l)
		}
		set(r, limit, pick(v))
	}
	w.Partners = slices.Clone(policy.Partners)
	for i := range w.Partners {
		f.stillIn(&w.Partners[i], most)
	}
	levels := map[string][]catalogue.Value{} // of each rule, by its lists
	for i := range f.Boards {
		if b := &f.Boards[i]; !b.Board.Opens {
			levels[b.Board.Rule] = append(levels[b.Board.Rule], b.level())
		}
	}
	for i := range f.Boards {
		b := &f.Boards[i]
		if b.Board.Opens {
			for k := range w.Partners {
				b.open(&w.Partners[k], most)
			}
			continue
		}
		r, _ := catalogue.RuleByName(b.Board.Rule)
		all := levels[b.Board.Rule]
		level, mixed := slices.Max(all), slices.Min(all) != slices.Max(all)
		if mixed && !most { // of several directions in which all but some, and some alone are let through
			level = min(level, listed)
		}
		set(r, anyone, level)
		for k := range w.Partners {
			if p := &w.Partners[k]; level != closed { // who is refused by the level needs no opening taken away
				b.open(p, most)
				if mixed && level == anyone && !b.But && !b.lets(p, most) {
					b.shut(p)
				}
			}
		}
	}
	ours := f.Rules()
	// What partners and exceptions say of rules that the system holds for
	// everybody.
	strip := func(list []world.Setting) []world.Setting {
		return slices.DeleteFunc(slices.Clone(list), func(s world.Setting) bool { return slices.Contains(ours, s.Rule) })
	}
	for i := range w.Partners {
		w.Partners[i].Rules = strip(w.Partners[i].Rules)
	}
	w.Exceptions = nil
	for _, x := range policy.Exceptions {
		if x.Rules = strip(x.Rules); len(x.Rules) > 0 {
			w.Exceptions = append(w.Exceptions, x)
		}
	}
	f.overlayCharters(&w, most, n)
	if n != nil {
		f.overlayPeople(&w, most, n)
	}
	return &w
}

// level is what a list comes to for whom nobody named. "All but these" lets
// anybody else through; an empty list of those alone nobody.
func (b *FoundBoard) level() catalogue.Value {
	switch {
	case b.But:
		return anyone
	case len(b.Domains) == 0:
		return closed
	}
	return listed
}

// shut closes a partner for what a list is asked for.
func (b *FoundBoard) shut(p *world.Partner) {
	for _, name := range b.Board.Keys {
		k, _ := catalogue.ParseKey(name)
		p.Opened[k] = world.OpenNo
	}
}

// stillIn notes for what a partner that is suspended or has ended is let
// through all the same. A suspended partner that still stands on a list there
// is let in there; that must be found.
func (f *Found) stillIn(p *world.Partner, most bool) {
	for i := range f.Boards { // what another system lets through stays
		b := &f.Boards[i]
		in := b.lets(p, most)
		if most && !in {
			for _, list := range f.Personal {
				in = in || slices.ContainsFunc(list, func(x FoundBoard) bool { return x.Board.Path == b.Board.Path && x.letsSome(p) })
			}
		}
		if !in {
			continue
		}
		for _, name := range b.Board.Keys {
			k, _ := catalogue.ParseKey(name)
			p.Still = append(slices.Clip(p.Still), k)
		}
	}
}

// open gives a partner the openings that a list means.
func (b *FoundBoard) open(p *world.Partner, most bool) {
	on, all := false, len(p.Domains) > 0
	for _, e := range p.Domains {
		has := b.has(e)
		on, all = on || has, all && has
	}
	if b.But == most { // of a partner that stands there in part, the reading that is wanted
		on = all
	}
	for _, name := range b.Board.Keys {
		k, _ := catalogue.ParseKey(name)
		switch was := p.Opened[k]; {
		case b.Board.Opens: // it says of everybody whether they are open
			if p.Opened[k] = world.OpenUnset; on != b.But {
				p.Opened[k] = world.OpenYes
			} else if was == world.OpenNo {
				p.Opened[k] = world.OpenNo
			}
		case on && b.But:
			p.Opened[k] = world.OpenNo
		case on:
			p.Opened[k] = world.OpenYes
		case b.But && was == world.OpenNo, !b.But && was == world.OpenYes: // what is meant is not there
			p.Opened[k] = world.OpenUnset
		}
	}
}

// has reports whether a list holds an entry: by its name, or by one above it
// that takes those below along; with its subdomains only where those are taken
// along too. A longer name that is taken out again counts before one that takes
// it along.
func (b *FoundBoard) has(e world.Entry) bool {
	name := e.Domain.String()
	plain, below := false, false
	for _, d := range b.Domains {
		top, wide := strings.CutPrefix(d, "*.")
		switch {
		case d == not+name: // it is taken out again
			return false
		case !wide:
			plain = plain || d == name
		case strings.HasSuffix(name, "."+top):
			plain, below = true, true
		case top == name:
			below = true
		}
	}
	return plain && (below || !e.Subdomains)
}
