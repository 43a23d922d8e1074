package native

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"wexillum.example/internal/core/catalogue"
)

// Dialects: what systems call things.
//
// A system has settings (dials) that each carry one rule, lists of domains
// (boards) that carry a level of domains and who is listed, switches by which
// it asks us as it acts (lives), and records of its own (holdings). All of it
// is data: a new kind of system is a new Dialect and no new code, and one that
// describes itself over the wire is read into the same type.
//
// What a dialect promises (Describe) and what is done with it (To, From) follow
// from the same data, and a test asks the engine on both sides whether the
// promise holds.

// Fidelity says how well a system can hold what is meant. Looser does not
// exist: a system that could only be looser gets the next tighter word.
type Fidelity string

// From exact to nothing at all.
const (
	Exact   Fidelity = "exact"
	Tighter Fidelity = "tighter" // it refuses more than is meant
	ByHand  Fidelity = "by_hand" // a connector cannot write it; a person does
	None    Fidelity = "none"    // the system has nothing for it
)

// Dial is one setting of a system: a value of one rule for everybody there. The
// vocabulary of a system is data; no code knows a single system.
type Dial struct {
	Path  string // what the system calls it
	Title string // the same in its own console's words
	Rule  string
	// Ceiling marks what places may not go beyond; else it is the value where
	// no place says anything.
	Ceiling bool
	// Words are the system's words for the values of the rule, by value, from
	// tight to loose. An empty one is a value that the system cannot hold. A
	// rule of days has none: its numbers are written as they are.
	Words []string
	NoEnd string // the word for a number of days without end; empty where it has none
	// Vague are words whose meaning the maker decides and may change: what they
	// may mean at the least and at the most, as values of the rule.
	Vague map[string][2]string
	Span  time.Duration // how long a change takes to count; negative where nobody knows
	Hand  bool          // readable, and changed by a person in its console alone
	// Charter marks what a set of values says too: given to a domain or a
	// person, it stands there in entire for the general ones; a space has
	// single words. Where a space's word and a domain's set meet, the stricter
	// counts, unless the set says what is the general value: then it weighs
	// nothing.
	Charter bool
}

// Board is one list of domains of a system, which says with whom a rule admits
// dealings. Its mode turns what the list means: those alone, or all but those.
// With the mode only the names are admitted; with the other all but these.
type Board struct {
	Path  string
	Title string
	Rule  string
	Keys  []string // openings of a partner that it must have all of to stand on the list
	Opens bool     // it says whose people count as known, and nothing of a level
	Only  string   // the system's word for those alone
	But   string   // the system's word for all but those
	Span  time.Duration
	// Charter marks a list that sets of values for people of ours say too, in
	// entire.
	Charter bool
	// Single marks a list that names addresses too, and takes names out again:
	// !name is the contrary of what the list says, and outweighs it.
	Single bool
}

// Live is a switch with which a system asks us while it acts, for each mailbox
// and address: then the answer is the engine's own, and lists that carry the
// rule say nothing.
//
// What is asked is the engine's own answer, so that nothing has to be
// translated.
type Live struct {
	Path, On      string // the switch, and its word for asking
	Unanswered    string // the setting that says what it does when nobody answers
	Refuses       string // its word for refusing then
	Rule          string
	Title, Opened string // of the switch; and what is open where it does not refuse
}

// Dialect is what one kind of system calls things. The three that ship are in
// dialects.go; others describe themselves (see Described).
type Dialect struct {
	Name     string
	Title    string // as a person knows it
	Services []string
	Also     []string // actions of other services that it carries all the same
	Tries    []string // actions that can be attempted there from outside
	Dials    []Dial
	Boards   []Board
	Sets     []Scope // to whom it gives sets of values of their own, which stand in entire for the general ones
	Lives    []Live
	Holdings []Holding // what of our inventory it keeps, in the order in which it is written
	Shuts    []Shut    // what it refuses because it has nothing for it
}

// Shut is a rule that systems of a dialect have no setting for, and that they
// are tighter about than any value of it.
type Shut struct{ Rule, Says string }

// Described is what a system is kept as whose dialect comes from itself,
// through the program beside it.
const Described = "open"

// Dialects lists the dialects that are known, by name. Callers must not change
// it.
func Dialects() []*Dialect { return dialects }

// ByName finds a dialect.
func ByName(name string) (*Dialect, bool) {
	i := slices.IndexFunc(dialects, func(d *Dialect) bool { return d.Name == name })
	if i < 0 {
		return nil, false
	}
	return dialects[i], true
}

// dialects are those that ship. One that does not pass Check stops the program
// at its start.
var dialects = func() []*Dialect {
	all := []*Dialect{&quay, &parley, &ledger}
	for _, d := range all {
		if err := d.Check(); err != nil {
			panic("native: " + d.Name + ": " + err.Error())
		}
	}
	return all
}()

// Check finds what is wrong with a dialect's data: rules that are not there,
// words that do not fit, paths that stand twice. The error names the setting. A
// dialect that describes itself is checked by it before anything is read or
// written.
func (d *Dialect) Check() error {
	seen := map[string]bool{}
	for i := range d.Dials {
		x := &d.Dials[i]
		r, ok := catalogue.RuleByName(x.Rule)
		if !ok {
			return fmt.Errorf("%s: no rule %s", x.Path, x.Rule)
		}
		switch r.Scale.Shape {
		case catalogue.Days:
			if len(x.Words) > 0 {
				return fmt.Errorf("%s: a number of days has no words", x.Path)
			}
		case catalogue.Methods, catalogue.Choice:
			return fmt.Errorf("%s: %s has no order that could be kept", x.Path, x.Rule)
		default:
			if len(x.Words) != len(r.Scale.Names) || x.Words[0] == "" {
				return fmt.Errorf("%s: its words are %q; it needs one for the tightest of %s", x.Path, x.Words, r.Scale.Describe())
			}
		}
		for w, v := range x.Vague {
			if _, err := r.Scale.Parse(v[0]); err != nil {
				return fmt.Errorf("%s: %s: %w", x.Path, w, err)
			}
			if _, err := r.Scale.Parse(v[1]); err != nil {
				return fmt.Errorf("%s: %s: %w", x.Path, w, err)
			}
		}
		if seen[x.Path] {
			return fmt.Errorf("%s twice", x.Path)
		}
		seen[x.Path] = true
	}
	for i := range d.Boards {
		b := &d.Boards[i]
		r, ok := catalogue.RuleByName(b.Rule)
		if !ok || !b.Opens && (len(r.Scale.Names) != 3 || r.Scale.Names[1] != "listed") {
			return fmt.Errorf("%s: %s is no level of domains", b.Path, b.Rule)
		}
		for _, k := range b.Keys {
			if _, ok := catalogue.ParseKey(k); !ok {
				return fmt.Errorf("%s: no key %s", b.Path, k)
			}
		}
		if seen[b.Path] || b.Only == "" || b.But == "" || b.Only == b.But {
			return fmt.Errorf("%s twice, or its modes are one", b.Path)
		}
		seen[b.Path] = true
	}
	for _, x := range d.Shuts {
		if _, ok := catalogue.RuleByName(x.Rule); !ok {
			return fmt.Errorf("there is no rule %q", x.Rule)
		}
	}
	for i := range d.Holdings {
		h := &d.Holdings[i]
		for _, f := range h.Fields {
			if !slices.Contains(thingFields[h.Kind], f.Of) {
				return fmt.Errorf("%s: %s has no %s", h.Name, h.Kind, f.Of)
			}
		}
		if seen["holding "+h.Kind] {
			return fmt.Errorf("%s twice", h.Kind)
		}
		seen["holding "+h.Kind] = true
	}
	return nil
}

// ThingKinds lists the kinds of inventory that a system may keep.
func ThingKinds() []string { return slices.Sorted(maps.Keys(thingFields)) }

// thingFields are the fields that a Thing may have, by kind. A system need not
// keep all of them.
var thingFields = map[string][]string{
	"space":     {"id", "name", "owner"},
	"group":     {"id", "name"},
	"guest":     {"address", "standing", "sponsor", "groups"},
	"grant":     {"address", "resource", "role", "from", "until"},
	"link":      {"id", "item", "right", "until", "for", "by"},
	"forwarder": {"mailbox", "to", "keep_copy", "set_by"},
	"meeting":   {"id", "name", "host"},
	"person":    {"address", "name", "groups"},
}

// Line is one line of what a system can hold of a rule. Lines are what the page
// of a system shows before it is connected.
type Line struct {
	Rule     string
	Layer    string // organisation, partner, people, space, item
	Part     string // default, limit, opening, or the values of places
	Fidelity Fidelity
	Path     string // of the setting; empty where there is none
	Says     string // what it refuses besides, or what stays open, in a sentence
	Span     time.Duration
}

// Describe says of every rule of the dialect's services how well its systems
// can hold it. It follows from the data alone, so that what is promised and
// what is done cannot differ.
func (d *Dialect) Describe() (out []Line) {
	for i := range catalogue.Rules() {
		r := &catalogue.Rules()[i]
		if i := slices.IndexFunc(d.Lives, func(l Live) bool { return l.Rule == r.Name }); i >= 0 { // it is asked for, each time
			says := "It asks each time: values, exceptions and ends count at once."
			if d.HoldsRule(r.Name) {
				says = "Where it asks, it asks each time: values, exceptions and ends count at once, whatever its list says."
			}
			out = append(out, Line{Rule: r.Name, Layer: "organisation", Part: "default", Path: d.Lives[i].Path, Fidelity: Exact, Says: says})
			for _, layer := range r.Layers.Names() {
				out = append(out, Line{Rule: r.Name, Layer: layer, Part: "values", Path: d.Lives[i].Path, Fidelity: Exact, Says: says})
			}
			if !d.HoldsRule(r.Name) {
				continue
			}
		}
		if !slices.Contains(d.Services, r.Service()) && !d.HoldsRule(r.Name) {
			continue
		}
		held := false
		for k := range d.Dials {
			x := &d.Dials[k]
			if x.Rule != r.Name {
				continue
			}
			l := Line{Rule: r.Name, Layer: "organisation", Part: "default", Path: x.Path, Fidelity: Exact, Span: x.Span}
			if x.Ceiling {
				l.Part = "limit"
			} else {
				held = true
			}
			for v, w := range x.Words {
				if w == "" {
					l.Fidelity = Tighter
					l.Says += fmt.Sprintf("It has no word for %s: %s is written instead. ", r.Scale.Names[v], r.Scale.Names[x.below(v)])
				}
			}
			if x.Hand {
				l.Fidelity, l.Says = ByHand, "It is changed in its own console alone. "+l.Says
			}
			l.Says = strings.TrimSpace(l.Says)
			out = append(out, l)
		}
		for k := range d.Boards {
			if b := &d.Boards[k]; b.Rule == r.Name {
				if !b.Opens {
					held = true
					out = append(out, Line{Rule: r.Name, Layer: "organisation", Part: "default", Path: b.Path, Fidelity: Exact, Span: b.Span})
				}
				l := Line{Rule: r.Name, Layer: "partner", Part: "opening", Path: b.Path, Fidelity: Exact, Span: b.Span}
				if len(b.Keys) > 1 {
					l.Fidelity, l.Says = Tighter, "A partner stands on the list only where it is open for "+strings.Join(b.Keys, " and ")+". "
				}
				if b.Single {
					l.Says += "Bars of domains and of single addresses are written into it."
				} else {
					l.Says += "Bars of domains are written into it; who is barred by address alone comes in there with their domain."
				}
				out = append(out, l)
			}
		}
		if i := slices.IndexFunc(d.Shuts, func(x Shut) bool { return x.Rule == r.Name }); i >= 0 {
			out = append(out, Line{Rule: r.Name, Layer: "organisation", Part: "default", Fidelity: Tighter, Says: d.Shuts[i].Says})
			continue
		}
		if !held {
			out = append(out, Line{Rule: r.Name, Layer: "organisation", Part: "default", Fidelity: None,
				Says: "It has no setting for it. What counts there is not known here."})
			continue
		}
		for _, layer := range r.Layers.Names() {
			if d.chartered(r.Name) && d.gives(Scope(layer)) || Scope(layer) == ToPeople && d.gives(ToPeople) && d.listedApart(r.Name) {
				says := setSays[Scope(layer)]
				if Scope(layer) == ToPeople && d.listedApart(r.Name) {
					says = "Whoever has an exception has lists of their own there, towards single partners, domains and addresses too."
				}
				out = append(out, Line{Rule: r.Name, Layer: layer, Part: "values", Fidelity: Exact, Path: charterPrefix + "…", Says: says})
				continue
			}
			out = append(out, Line{
				Rule: r.Name, Layer: layer, Part: "values", Fidelity: Tighter, Path: d.pathOf(r.Name), Span: d.spanOf(r.Name),
				Says: "It has one value for everybody: the tightest that is meant anywhere is written, and what is meant to be looser is refused there.",
			})
		}
	}
	return
}

// setSays are sentences for the page of a system.
var setSays = map[Scope]string{
	ToPartners: "A partner with a value of its own gets a set of its own, with everything in it.",
	ToSpaces:   "A space with a value of its own gets a word of its own, once it is there.",
	ToPeople:   "Whoever has an exception towards everybody gets a set of their own; one towards some parties alone tightens the value for everybody.",
}

// HoldsRule reports whether systems of the dialect have anything for a rule.
func (d *Dialect) HoldsRule(rule string) bool {
	return slices.ContainsFunc(d.Dials, func(x Dial) bool { return x.Rule == rule }) ||
		slices.ContainsFunc(d.Boards, func(b Board) bool { return b.Rule == rule && !b.Opens })
}

// pathOf is the setting that carries a rule; "" for none.
func (d *Dialect) pathOf(rule string) string {
	for i := range d.Dials {
		if d.Dials[i].Rule == rule && !d.Dials[i].Ceiling {
			return d.Dials[i].Path
		}
	}
	for i := range d.Boards {
		if d.Boards[i].Rule == rule {
			return d.Boards[i].Path
		}
	}
	return ""
}

// spanOf is how long a change of it takes to count.
func (d *Dialect) spanOf(rule string) time.Duration {
	path := d.pathOf(rule)
	s, _, _ := d.Setting(path)
	return s
}

// Setting tells how long a change of a setting takes to count, what it is
// called, and whether the dialect knows it at all.
func (d *Dialect) Setting(path string) (span time.Duration, title string, known bool) {
	if of, ok := strings.CutPrefix(path, charterPrefix); ok {
		return d.charterSpan(), "Set of values for " + strings.TrimPrefix(strings.TrimPrefix(of, ofSpace), ofPerson),
			d.charterSpan() >= 0 && d.gives(scopeOf(path))
	}
	for i := range d.Dials {
		if d.Dials[i].Path == path {
			return d.Dials[i].Span, d.Dials[i].Title, true
		}
	}
	for i := range d.Boards {
		if d.Boards[i].Path == path {
			return d.Boards[i].Span, d.Boards[i].Title, true
		}
	}
	return 0, "", false
}

// chartered reports whether sets of values for somebody say a rule.
func (d *Dialect) chartered(rule string) bool {
	return slices.ContainsFunc(d.Dials, func(x Dial) bool { return x.Charter && x.Rule == rule })
}

// listedApart reports whether sets of values for people say a list that carries
// a rule.
func (d *Dialect) listedApart(rule string) bool {
	return slices.ContainsFunc(d.Boards, func(b Board) bool { return b.Charter && b.Rule == rule })
}

// ByHand reports whether a setting is changed by a person alone.
func (d *Dialect) ByHand(path string) bool {
	return slices.ContainsFunc(d.Dials, func(x Dial) bool { return x.Path == path && x.Hand })
}

// RuleAt returns the rule that a setting carries; empty where it carries none.
func (d *Dialect) RuleAt(path string) string {
	for i := range d.Dials {
		if d.Dials[i].Path == path {
			return d.Dials[i].Rule
		}
	}
	for i := range d.Boards {
		if d.Boards[i].Path == path {
			return d.Boards[i].Rule
		}
	}
	return ""
}

// below returns the loosest value up to v that the dial has a word for.
func (x *Dial) below(v int) int {
	for v > 0 && x.Words[v] == "" {
		v--
	}
	return v
}

// write returns the dial's word for a value, or for the next tighter one where
// it has none. Never a looser one.
func (x *Dial) write(v catalogue.Value) string {
	r, _ := catalogue.RuleByName(x.Rule)
	if r.Scale.Shape == catalogue.Days {
		switch {
		case v != catalogue.NoLimit:
			return strconv.Itoa(int(v))
		case x.NoEnd != "":
			return x.NoEnd
		}
		return strconv.Itoa(catalogue.MaxDays)
	}
	return x.Words[x.below(int(v))]
}

// read returns what a word of the system means at the least and at the most; ok
// is false where the dialect does not know it. A vague word has a range; every
// other one a single value. It is the inverse of write for every word that
// write makes.
func (x *Dial) read(word string) (least, most catalogue.Value, ok bool) {
	r, _ := catalogue.RuleByName(x.Rule)
	if v, vague := x.Vague[word]; vague {
		least, _ = r.Scale.Parse(v[0])
		most, _ = r.Scale.Parse(v[1])
		return least, most, true
	}
	if r.Scale.Shape == catalogue.Days {
		if word == x.NoEnd && word != "" {
			return catalogue.NoLimit, catalogue.NoLimit, true
		}
		v, err := r.Scale.Parse(word)
		return v, v, err == nil && word != "none"
	}
	for i, w := range x.Words {
		if w == word && w != "" {
			return catalogue.Value(i), catalogue.Value(i), true
		}
	}
	return 0, 0, false
}
