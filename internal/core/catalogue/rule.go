package catalogue

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// RuleID is the place of a rule in Rules; it is stable within one build only.
// Whatever is kept or sent names rules by name.
type RuleID uint8

// NoRule stands where no rule is meant.
const NoRule RuleID = 0xFF

// Layers is a set of the layers besides the organisation that may set a rule.
// Defaults and limits of the organisation are no members: every rule has both.
type Layers uint8

// The layers of model §3, from the widest to the nearest.
const (
	AtPartner Layers = 1 << iota
	AtPeople
	AtSpace
	AtItem // or a meeting
)

// String writes the set with the letters of the catalogue: P E S I.
func (l Layers) String() string {
	var b strings.Builder
	for i, c := range "PESI" {
		if l&(1<<i) != 0 {
			b.WriteRune(c)
		}
	}
	return b.String()
}

// Names lists the layers of the set in plain words.
func (l Layers) Names() []string {
	var out []string
	for i, n := range []string{"partner", "people", "space", "item"} {
		if l&(1<<i) != 0 {
			out = append(out, n)
		}
	}
	return out
}

// Rule is one named setting of the catalogue. What an administrator reads of a
// rule is here beside what the engine needs, so that a page, a help text and an
// answer never describe it differently.
type Rule struct {
	ID        RuleID
	Name      string // service.name, stable once published
	Scale     Scale
	Limit     Value // of a new installation: the loosest a lower layer may reach
	Default   Value // of a new installation: where no lower layer says anything
	Layers    Layers
	Title     string
	Sentences []string // one for each value of a switch, level or choice; one for each method; two for days: a number, none
	Words     []string // everyday words that find it
	Advised   Value    // the value we advise as default
	Reason    string   // why it is advised
	Omits     string   // what the rule does not cover
}

// Service returns the part of the name before the dot.
func (r *Rule) Service() string { s, _, _ := strings.Cut(r.Name, "."); return s }

// Sentence says in plain words what v means. Of days N is replaced by the
// number; of methods the sentences of all that are in the set follow each
// other.
func (r *Rule) Sentence(v Value) string {
	switch r.Scale.Shape {
	case Days:
		if v == NoLimit {
			return r.Sentences[1]
		}
		return strings.ReplaceAll(r.Sentences[0], "N", r.Scale.Format(v))
	case Methods:
		var out []string
		for i := range r.Scale.Names {
			if v&(1<<i) != 0 {
				out = append(out, r.Sentences[i])
			}
		}
		if len(out) == 0 {
			return "No method is left, so nobody gets in."
		}
		return strings.Join(out, " ")
	}
	return r.Sentences[v]
}

// NumRules is how many rules there are; tables of values are this long.
const NumRules = len(ruleEntries)

// rules is the table, checked when the program starts (see Rule.check).
var rules = buildRules()

// Rules lists all rules in the order of the catalogue. Callers must not change
// it.
func Rules() []Rule { return rules }

// Get returns the entry of id.
func (id RuleID) Get() *Rule { return &rules[id] }

func (id RuleID) String() string {
	if id == NoRule {
		return ""
	}
	return rules[id].Name
}

// RuleByName finds a rule by its name. Some eighty names are compared one by
// one: it is asked when a world is read, not when it is used.
func RuleByName(name string) (*Rule, bool) {
	for i := range rules {
		if rules[i].Name == name {
			return &rules[i], true
		}
	}
	return nil, false
}

// MustRule returns the id of a name that the catalogue is known to hold.
func MustRule(name string) RuleID {
	r, ok := RuleByName(name)
	if !ok {
		panic("catalogue: no rule " + name)
	}
	return r.ID
}

// Nearest returns the rule name that resembles name most, for error texts. ""
// where nothing resembles it by more than half of its letters.
func Nearest(name string) string {
	best, at := "", len(name)/2+1
	for i := range rules {
		if d := Distance(name, rules[i].Name); d < at {
			best, at = rules[i].Name, d
		}
	}
	return best
}

// Distance counts the edits between a and b; two letters that changed places
// are one (optimal string alignment).
//
// The table has a row for each byte of a and takes their product in time; it is
// for names of some tens of characters. Optimal string alignment (R. A. Wagner
// and R. Lowrance, 1975, restricted to one exchange of neighbours) counts what
// fingers do on a keyboard.
func Distance(a, b string) int {
	d := make([][]int, len(a)+1)
	for i := range d {
		d[i] = make([]int, len(b)+1)
		d[i][0] = i
	}
	for j := range d[0] {
		d[0][j] = j
	}
	for i := 1; i <= len(a); i++ {
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			d[i][j] = min(d[i-1][j-1]+cost, d[i-1][j]+1, d[i][j-1]+1)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				d[i][j] = min(d[i][j], d[i-2][j-2]+1)
			}
		}
	}
	return d[len(a)][len(b)]
}

// Find returns the rules whose name, title or words match every word of query,
// in any order, the best match first. A word also matches with one typing error
// where it has at least four letters, and as the beginning of a longer word.
func Find(query string) []*Rule { return find(query, true) }

// FindAny is Find for everyday phrases: words that say nothing by themselves
// are left out, and not every other one must match. A rule that more of them
// match comes first.
func FindAny(query string) []*Rule {
	all := find(query, true)
	for _, r := range find(query, false) {
		if !slices.Contains(all, r) {
			all = append(all, r)
		}
	}
	return all
}

// littleWords say nothing by themselves in a search.
var littleWords = map[string]bool{
	"a": true, "an": true, "the": true, "of": true, "to": true, "in": true, "on": true, "for": true, "by": true, "with": true, "and": true,
	"or": true, "be": true, "is": true, "are": true, "can": true, "who": true, "how": true, "what": true, "why": true, "my": true, "our": true,
	"their": true, "let": true, "i": true, "do": true, "not": true,
}

// find lists rules that words may mean, the best first: with every those that
// all words fit, else those that at least half of them fit, little words such
// as "may" left out.
func find(query string, every bool) []*Rule {
	words := strings.FieldsFunc(strings.ToLower(query), func(r rune) bool {
		return r == ' ' || r == '.' || r == '_' || r == ',' || r == '-' || r == '?'
	})
	if !every {
		words = slices.DeleteFunc(words, func(w string) bool { return littleWords[w] })
	}
	// Rules that match more words come first, whatever their scores: "guest
	// calls" is about calls.
	type hit struct {
		rule           *Rule
		matched, score int
	}
	var hits []hit
	for i := range rules {
		r := &rules[i]
		h := hit{rule: r}
		for _, w := range words {
			if s := r.matches(w); s > 0 {
				h.matched++
				h.score += s
			}
		}
		if h.matched == 0 || every && h.matched < len(words) || !every && 2*h.matched < len(words) {
			continue
		}
		hits = append(hits, h)
	}
	slices.SortStableFunc(hits, func(a, b hit) int {
		return cmp.Or(cmp.Compare(b.matched, a.matched), cmp.Compare(b.score, a.score))
	})
	out := make([]*Rule, len(hits))
	for i := range hits {
		out[i] = hits[i].rule
	}
	return out
}

// matches says how well a word fits a rule: a word of its name weighs more than
// a search word, and that more than one of its title; the word itself more than
// its beginning, and that more than one letter amiss. 0 is not at all.
func (r *Rule) matches(w string) int {
	best := 0
	try := func(text string, weight int) {
		for _, t := range strings.FieldsFunc(strings.ToLower(text),
			func(c rune) bool { return !(c >= 'a' && c <= 'z' || c >= '0' && c <= '9') }) {
			switch {
			case t == w:
				best = max(best, weight+2)
			// Both directions: "meet" finds meetings, "meetings" finds meet.
			case len(w) >= 3 && strings.HasPrefix(t, w), len(w) >= 5 && strings.HasPrefix(w, t) && len(t) >= 4:
				best = max(best, weight+1)
			case len(w) >= 4 && len(t) >= 4 && Distance(t, w) == 1:
				best = max(best, weight)
			}
		}
	}
	try(r.Name, 4)
	try(strings.Join(r.Words, " "), 3)
	try(r.Title, 2)
	return best
}

// check holds a rule to what every other part relies on: a sentence for each
// value, title, words and reason, and a default that is no looser than the
// limit.
//
// It is called at the start, so that a wrong entry of the table stops every
// program and every test.
func (r *Rule) check() error {
	want := len(r.Scale.Names)
	if r.Scale.Shape == Days {
		want = 2
	}
	switch {
	case len(r.Sentences) != want:
		return fmt.Errorf("%s has %d sentences for %d values", r.Name, len(r.Sentences), want)
	case r.Title == "" || len(r.Words) == 0 || r.Reason == "":
		return fmt.Errorf("%s lacks a title, words or a reason", r.Name)
	case r.Scale.Looser(r.Default, r.Limit):
		return fmt.Errorf("%s starts with a default looser than its limit", r.Name)
	}
	return nil
}

// Dependency says that a rule, from a value on, means nothing unless another
// reaches a value. Publishing warns where a rule is set to something that its
// companion keeps from meaning anything.
type Dependency struct {
	Rule  RuleID
	From  Value
	Needs RuleID
	Value Value
}

// dependencies are what rules need of each other, by name. The number is the
// first value from which on the rule needs the other: 2 on given_to is
// newcomers, who can only become guests where there are guests at all.
var dependencies = func() (out []Dependency) {
	// The number is the first value from which on the rule needs the other: 2
	// on given_to is newcomers, who can only become guests where there are
	// guests at all.
	for _, d := range []struct {
		rule  string
		from  Value
		needs string
		value Value
	}{
		{"meetings.remote_control", On, "meetings.share_screen", 2},
		{"directory.self_signup", On, "directory.guests", On},
		{"spaces.guests", On, "directory.guests", On},
		{"spaces.pages", On, "spaces.guests", On},
		{"spaces.channels", On, "spaces.guests", On},
		{"chat.guest_calls", On, "chat.guest_direct", On},
		{"chat.guest_attach", On, "chat.guest_direct", On},
		{"files.given_to", 2, "directory.guests", On},
		{"files.reshare", On, "files.given_to", 1},
		{"reports.given_to", 2, "directory.guests", On},
		{"reports.reshare", On, "reports.given_to", 1},
	} {
		out = append(out, Dependency{MustRule(d.rule), d.from, MustRule(d.needs), d.value})
	}
	return
}()

// Dependencies lists what rules need of each other. Callers must not change it.
func Dependencies() []Dependency { return dependencies }
