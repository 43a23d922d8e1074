package worldfile

import (
	"fmt"
	"strings"
	"time"

	"github.com/zeebo/xxh3"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// field is one field of a record: how it is read and how it is written. A write
// that returns false leaves the field out.
type field[T any] struct {
	name     string
	required bool
	read     func(r *reader, n *node, x *T)
	write    func(w *writer, x *T) (tree, bool)
	takes    string // what stands there, for the reference of the format
}

type reader struct {
	unnamed int // how much policy names that the file does not hold
	syntax
	older  bool     // what this version refuses and earlier ones took is read, and admits nobody
	odd    []string // what was read so
	now    moment.Moment
	zone   *time.Location
	refs   []reference
	values []valueSeen
	places map[xxh3.Uint128][2]int // of what is checked once all is read, by the hash of what it is called
	// What comes again soon is kept once: ids and addresses, by a slot of their text, and days. Nil for a short text.
	ids       *[mostKept]string
	addresses *[mostKept]addr.Address
	days      map[string]moment.Moment
	said      map[string]bool // optional lists that an entry gave: partner:ID, space:ID
}

// reference is an id that must exist once everything is read.
type reference struct {
	line, col int
	kind, id  string
}

// valueSeen is a value of a lower layer that must not be looser than its limit.
type valueSeen struct {
	line, col int
	setting   world.Setting
}

// place is what places go by. Two names of one hash of 128 bits are not met with.
func place(name string) xxh3.Uint128 { return xxh3.HashString128(name) }

// mostKept is how much of what comes again a reader keeps; a power of two.
const mostKept = 1 << 12

// slot is where a text is kept.
func slot(s string) int { return int(xxh3.HashString(s) % mostKept) }

// kept is a text that is kept by itself, not as a part of the file, and once for those who say the same soon after.
func (r *reader) kept(s string) string {
	if r.ids == nil {
		return strings.Clone(s)
	}
	k := &r.ids[slot(s)]
	if *k != s {
		*k = strings.Clone(s)
	}
	return *k
}

type writer struct{ zone *time.Location }

func (r *reader) at(n *node, format string, args ...any) {
	r.fail(n.line-r.from, n.col, format, args...)
}

// object reads a mapping by its fields.
func object[T any](r *reader, n *node, what string, fields []field[T], x *T) {
	if n.kind != mapping {
		r.at(n, "%s is written as fields and values", what)
		return
	}
	next := 0 // fields stand mostly in their order
	for i := range n.keys {
		k, found := &n.keys[i], -1
		for j := range fields {
			if at := (next + j) % len(fields); fields[at].name == k.text {
				found = at
				break
			}
		}
		if found < 0 {
			names := make([]string, 0, len(fields))
			for j := range fields {
				names = append(names, fields[j].name)
			}
			r.at(k, "%s has no field %q; it has %s", what, k.text, strings.Join(names, ", "))
			continue
		}
		next = found + 1
		fields[found].read(r, &n.values[i], x)
	}
	for j := range fields {
		if fields[j].required && !has(n, fields[j].name) {
			r.at(n, "%s lacks %s", what, fields[j].name)
		}
	}
}

func has(n *node, key string) bool {
	for i := range n.keys {
		if n.keys[i].text == key {
			return true
		}
	}
	return false
}

func record[T any](w *writer, fields []field[T], x *T) tree {
	t := tree{kind: mapping, keys: make([]string, 0, len(fields)), list: make([]tree, 0, len(fields))}
	for i := range fields {
		if v, ok := fields[i].write(w, x); ok {
			t.set(fields[i].name, v)
		}
	}
	return t
}

func (r *reader) scalar(n *node) (string, bool) {
	if n.kind != scalar {
		r.at(n, "one value is expected here")
		return "", false
	}
	return n.text, true
}

func (r *reader) list(n *node) []node {
	if n.kind != sequence {
		r.at(n, "a list is expected here, as [a, b]")
		return nil
	}
	if n.parts != nil { // a short list after all, or one whose entries are wanted together
		r.each(&node{parts: n.parts}, func(v *node) { n.values = append(n.values, *v) })
		n.parts = nil
	}
	return n.values
}

// maxText bounds a text in a record, in bytes.
const maxText = 2000

func (r *reader) text(n *node) string {
	s, _ := r.scalar(n)
	if len(s) > maxText {
		r.at(n, "this text is longer than %d bytes", maxText)
		return ""
	}
	for _, c := range s {
		if badRune(c) {
			r.at(n, "a control character stands in this text")
			return ""
		}
	}
	return strings.Clone(s) // not as a part of the whole file
}

func (r *reader) id(n *node) string {
	s, ok := r.scalar(n)
	if ok && !ValidID(s) {
		r.at(n, "%q is no id: lower-case letters, digits, dots, hyphens and underscores, a letter or digit first, at most 100", s)
		return ""
	}
	return r.kept(s)
}

// ValidID reports whether s matches [a-z0-9][a-z0-9._-]* and is no longer than
// 100 characters.
func ValidID(s string) bool {
	if s == "" || len(s) > 100 {
		return false
	}
	for i := 0; i < len(s); i++ {
		c := s[i]
		if !(c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || i > 0 && (c == '.' || c == '_' || c == '-')) {
			return false
		}
	}
	return true
}

func (r *reader) ref(n *node, kind string) string {
	id := r.id(n)
	if id != "" {
		r.refs = append(r.refs, reference{n.line - r.from, n.col, kind, id})
	}
	return id
}

func (r *reader) bool(n *node) bool {
	s, ok := r.scalar(n)
	switch s {
	case "yes", "true":
		return true
	case "no", "false":
		return false
	}
	if ok {
		r.at(n, "%q is neither yes nor no", s)
	}
	return false
}

func (r *reader) word(n *node, what string, words []string) int {
	s, ok := r.scalar(n)
	for i, w := range words {
		if w == s {
			return i
		}
	}
	if ok {
		r.at(n, "%q is no %s; write %s", s, what, strings.Join(words, ", "))
	}
	return 0
}

func (r *reader) address(n *node) addr.Address {
	s, ok := r.scalar(n)
	if !ok {
		return addr.Address{}
	}
	k := &addr.Address{}
	if r.addresses != nil {
		if k = &r.addresses[slot(s)]; !k.IsZero() && k.String() == s {
			return *k
		}
	}
	s = strings.Clone(s)
	parse := addr.ParseKept
	if r.older {
		parse = addr.Parse
	}
	a, err := parse(s)
	if err != nil {
		r.at(n, "%v", err)
		return addr.Address{}
	}
	if a.IsNewcomer() {
		r.odd = append(r.odd, fmt.Sprintf("line %d: %s stands for a typical newcomer and admits nobody", n.line-r.from, a))
		return a // and is told each time
	}
	*k = a
	return a
}

func (r *reader) domain(n *node) addr.Domain {
	s, ok := r.scalar(n)
	if !ok {
		return addr.Domain{}
	}
	d, err := addr.ParseDomain(strings.Clone(s))
	if err != nil {
		r.at(n, "%v", err)
	}
	return d
}

// moment reads a moment; a plain date is the start of its local day or, where
// end is set, its end.
func (r *reader) moment(n *node, end bool) moment.Moment {
	s, ok := r.scalar(n)
	if !ok {
		return moment.Always
	}
	if !end {
		if m, ok := r.days[s]; ok {
			return m
		}
	}
	d, isDate, err := moment.ParseDate(s, r.now, r.zone)
	if err != nil {
		r.at(n, "%v", err)
		return moment.Always
	}
	if isDate {
		if end {
			return (d + 1).Start(r.zone)
		}
		m := d.Start(r.zone)
		if r.days != nil && len(r.days) < mostKept {
			r.days[strings.Clone(s)] = m
		}
		return m
	}
	m, err := moment.Parse(s)
	if err != nil {
		r.at(n, "%q is no moment: write 2026-12-01T09:00:00Z, a date as 2026-12-01, or days from today as +3d", s)
	}
	return m
}

func (w *writer) moment(m moment.Moment, end bool) tree {
	d := moment.DayOf(m, w.zone)
	if d.Start(w.zone) == m {
		if end {
			d--
			if (d + 1).Start(w.zone) != m {
				return leaf(m.String())
			}
		}
		if y, _, _ := d.Date(); y >= 1000 && y <= 9998 {
			return leaf(d.String())
		}
	}
	return leaf(m.String())
}

func (r *reader) value(n *node, rule *catalogue.Rule) catalogue.Value {
	var words []string
	switch {
	case n.kind == scalar && rule.Scale.Shape == catalogue.Methods && n.text != "all":
		r.at(n, "%s takes a list, as [%s], or all", rule.Name, strings.Join(rule.Scale.Names, ", "))
		return catalogue.Unset
	case n.kind == scalar:
		words = []string{n.text}
	case n.kind == sequence && rule.Scale.Shape == catalogue.Methods:
		for i := range n.values {
			s, _ := r.scalar(&n.values[i])
			words = append(words, s)
		}
	default:
		r.at(n, "%s takes %s", rule.Name, rule.Scale.Describe())
		return catalogue.Unset
	}
	v, err := rule.Scale.Parse(words...)
	if err != nil {
		r.at(n, "%s: %v", rule.Name, err)
	}
	return v
}

func valueTree(rule *catalogue.Rule, v catalogue.Value) tree {
	if rule.Scale.Shape != catalogue.Methods {
		return leaf(rule.Scale.Format(v))
	}
	t := tree{kind: sequence}
	for _, m := range rule.Scale.Members(v) {
		t.list = append(t.list, leaf(m))
	}
	return t
}

func (r *reader) rule(k *node) *catalogue.Rule {
	rule, ok := catalogue.RuleByName(k.text)
	if !ok {
		hint := ""
		if n := catalogue.Nearest(k.text); n != "" {
			hint = "; do you mean " + n + "?"
		}
		r.at(k, "there is no rule %q%s", k.text, hint)
		return nil
	}
	return rule
}

// settings reads the values a lower layer gives, each either plain or as
// {value: on, held: yes}.
func (r *reader) settings(n *node, layer catalogue.Layers, what string) []world.Setting {
	if n.kind != mapping {
		r.at(n, "rules are written as {rule: value}")
		return nil
	}
	var out []world.Setting
	for i := range n.keys {
		k, v := &n.keys[i], &n.values[i]
		rule := r.rule(k)
		if rule == nil {
			continue
		}
		if rule.Layers&layer == 0 {
			where := "at the organisation alone"
			if names := rule.Layers.Names(); len(names) > 0 {
				where = "at " + strings.Join(names, ", ") + " and at the organisation"
			}
			r.at(k, "%s is not set at %s; it is set %s", rule.Name, what, where)
			continue
		}
		s := world.Setting{Rule: rule.ID}
		s.Value, s.Held, _ = r.heldValue(v, rule, false)
		if s.Value == catalogue.Unset {
			continue
		}
		out = append(out, s)
		r.values = append(r.values, valueSeen{v.line - r.from, v.col, s})
	}
	sortSettings(out)
	return out
}

func sortSettings(s []world.Setting) {
	for i := 1; i < len(s); i++ {
		for j := i; j > 0 && s[j].Rule < s[j-1].Rule; j-- {
			s[j], s[j-1] = s[j-1], s[j]
		}
	}
}

func (r *reader) heldValue(v *node, rule *catalogue.Rule, isDefault bool) (value catalogue.Value, held bool, counts catalogue.Value) {
	counts = catalogue.Unset
	if v.kind != mapping {
		return r.value(v, rule), false, counts
	}
	value = catalogue.Unset
	for i := range v.keys {
		switch v.keys[i].text {
		case "value":
			value = r.value(&v.values[i], rule)
		case "held":
			held = r.bool(&v.values[i])
		case "counts":
			if isDefault {
				counts = r.value(&v.values[i], rule)
				continue
			}
			fallthrough
		default:
			r.at(&v.keys[i], "%s is written as a value, or as {value: %s, held: yes}", rule.Name, rule.Scale.Format(rule.Advised))
		}
	}
	if value == catalogue.Unset && !has(v, "value") {
		r.at(v, "%s lacks its value", rule.Name)
	}
	return
}

func settingsTree(s []world.Setting) (tree, bool) {
	t := tree{kind: mapping}
	s = append([]world.Setting(nil), s...) // one order, whatever order they were set in
	sortSettings(s)
	for _, x := range s {
		t.set(x.Rule.String(), heldTree(x))
	}
	return t, len(s) > 0
}

func heldTree(x world.Setting) tree {
	v := valueTree(x.Rule.Get(), x.Value)
	if x.Held {
		h := tree{kind: mapping}
		h.set("value", v)
		h.set("held", leaf("yes"))
		return h
	}
	return v
}
