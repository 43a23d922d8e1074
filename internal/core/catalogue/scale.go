package catalogue

import (
	"fmt"
	"math/bits"
	"strconv"
	"strings"
)

// Value is one value of a scale. What it means depends on the scale: the index
// of a level from the tightest up, a number of days, or a set of methods as
// bits. Values of different scales are never compared.
//
// Two bytes, because a row of all rules is held for every space and partner
// that says anything.
type Value uint16

// Unset stands where a layer says nothing. NoLimit is `none` on a scale of
// days.
const (
	Unset   Value = 0xFFFF
	NoLimit Value = 0xFFFE
)

// MaxDays is the largest number of days that a scale of days takes: a century.
// It is well below NoLimit and Unset, which share the numbers with it.
const MaxDays = 36500

// Off and On are the values of a switch.
const (
	Off Value = 0
	On  Value = 1
)

// Shape says how the values of a scale are ordered (model §3). Every comparison
// between values of rules goes through it; nothing outside compares numbers
// itself.
type Shape uint8

// The five shapes. Switches and levels run from tight to loose; of days fewer
// are tighter; of methods a subset is tighter; a choice has no order.
const (
	Switch Shape = iota
	Level
	Days
	Methods
	Choice
)

// shapeNames are the words for shapes, by Shape.
var shapeNames = [...]string{"switch", "level", "days", "methods", "choice"}

func (s Shape) String() string { return shapeNames[s] }

// Scale is the values of a rule in order from the tightest to the loosest. The
// zero Scale is a switch without names; every scale of the catalogue is made in
// rules.go.
type Scale struct {
	Shape Shape
	Names []string // of levels, choices and methods, in order; empty for days
}

// Parse reads a value as the file format writes it. A set of methods is read
// from its members, or from the single word all or none.
func (s Scale) Parse(words ...string) (Value, error) {
	if s.Shape == Methods {
		return s.parseMethods(words)
	}
	if len(words) != 1 {
		return Unset, fmt.Errorf("one value is expected: %s", s.Describe())
	}
	w := words[0]
	switch s.Shape {
	case Days:
		if w == "none" {
			return NoLimit, nil
		}
		n, err := strconv.Atoi(w)
		if err != nil || strconv.Itoa(n) != w || n < 0 || n > MaxDays {
			return Unset, fmt.Errorf("%q is no number of days: write 0 to %d without leading zeros, or none", w, MaxDays)
		}
		return Value(n), nil
	// YAML 1.1 reads on and off as booleans, and so do many editors of it: both
	// ways of writing are taken.
	case Switch:
		switch w {
		case "on", "true":
			return On, nil
		case "off", "false":
			return Off, nil
		}
	default:
		for i, n := range s.Names {
			if n == w {
				return Value(i), nil
			}
		}
	}
	return Unset, fmt.Errorf("%q is off the scale: %s", w, s.Describe())
}

// parseMethods reads a set of methods, as a value with one bit for each; "all"
// is every one.
func (s Scale) parseMethods(words []string) (Value, error) {
	if len(words) == 1 && words[0] == "all" {
		return s.Loosest(), nil
	}
	var v Value
	for _, w := range words {
		i := indexOf(s.Names, w)
		if i < 0 {
			return Unset, fmt.Errorf("%q is no method: %s", w, s.Describe())
		}
		if v&(1<<i) != 0 {
			return Unset, fmt.Errorf("%q stands there twice", w)
		}
		v |= 1 << i
	}
	return v, nil
}

// indexOf is the place of a word in a list; -1 where it is not there.
func indexOf(names []string, w string) int {
	for i, n := range names {
		if n == w {
			return i
		}
	}
	return -1
}

// Format writes v as the file format does; methods are joined by a comma and a
// blank, an empty set is `no method`.
func (s Scale) Format(v Value) string {
	switch {
	case v == Unset:
		return ""
	case s.Shape == Days:
		if v == NoLimit {
			return "none"
		}
		return strconv.Itoa(int(v))
	case s.Shape == Methods:
		m := s.Members(v)
		if len(m) == 0 {
			return "no method"
		}
		return strings.Join(m, ", ")
	}
	return s.Names[v]
}

// Members lists the methods in v in the order of the scale.
func (s Scale) Members(v Value) []string {
	var out []string
	for i, n := range s.Names {
		if v&(1<<i) != 0 {
			out = append(out, n)
		}
	}
	return out
}

// Describe writes the scale for a reader: off < on, or a number of days.
func (s Scale) Describe() string {
	switch s.Shape {
	case Days:
		return "a number of days (fewer is tighter) or none"
	case Methods:
		return "a set of " + strings.Join(s.Names, ", ") + ", or all"
	case Choice:
		return "one of " + strings.Join(s.Names, ", ")
	}
	return strings.Join(s.Names, " < ")
}

// Tightest and Loosest return the ends of the scale. A choice has none: its
// limit bounds nothing. It is 0 on every scale: off, the first level, no days,
// no method.
func (s Scale) Tightest() Value { return 0 }

// Loosest returns the value that leaves everything open.
func (s Scale) Loosest() Value {
	switch s.Shape {
	case Days:
		return NoLimit
	case Methods:
		return 1<<len(s.Names) - 1
	}
	return Value(len(s.Names) - 1)
}

// Tighter returns the tightest value that is no looser than a or b: the lesser,
// or the intersection of two sets. For a choice it is a. It is how a limit acts
// on what is said below it, and how several layers that speak are joined: days
// 30 and 90 come to 30, methods {code, partner} and {partner} to {partner}.
func (s Scale) Tighter(a, b Value) Value {
	switch s.Shape {
	case Methods:
		return a & b
	case Choice:
		return a
	}
	return min(a, b)
}

// Looser reports whether a is looser than b; for sets, whether a holds anything
// that b does not. No choice is looser than another.
//
// For sets neither may be looser than the other in the sense of an order: each
// may hold what the other does not, and then each is looser than the other.
func (s Scale) Looser(a, b Value) bool {
	switch s.Shape {
	case Methods:
		return a&^b != 0
	case Choice:
		return false
	}
	return a > b
}

// All lists the values of the scale from tight to loose, for choosing among
// them: of days a few that are commonly used, of methods every subset.
func (s Scale) All() []Value {
	var out []Value
	switch s.Shape {
	case Days:
		return []Value{7, 14, 30, 60, 90, 180, 365, NoLimit}
	case Methods:
		// By how many they hold: the empty set first, all last.
		for n := 0; n <= len(s.Names); n++ {
			for v := Value(0); v <= s.Loosest(); v++ {
				if bits.OnesCount16(uint16(v)) == n {
					out = append(out, v)
				}
			}
		}
		return out
	}
	for i := range s.Names {
		out = append(out, Value(i))
	}
	return out
}
