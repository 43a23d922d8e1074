package catalogue

import (
	"fmt"
	"slices"
	"testing"
)

// TestLaws: limits act on values as every scale's order has it. What a limit leaves of a value is never looser than either, whatever comes
// first, and taking it twice changes nothing; the ends of a scale are its ends.
func TestLaws(t *testing.T) {
	seen := map[Shape]bool{}
	for i := range Rules() {
		r := &Rules()[i]
		s, all := r.Scale, r.Scale.All()
		seen[s.Shape] = true
		if !slices.Contains(all, s.Loosest()) {
			t.Errorf("%s: the loosest value, %s, is not on the scale", r.Name, s.Format(s.Loosest()))
		}
		if s.Shape == Choice { // none is looser than another, and a limit bounds nothing
			for _, a := range all {
				for _, b := range all {
					if s.Looser(a, b) || s.Tighter(a, b) != a {
						t.Errorf("%s: of a choice %s and %s are compared", r.Name, s.Format(a), s.Format(b))
					}
				}
			}
			continue
		}
		for _, a := range all {
			loosest, tightest := s.Loosest(), s.Tightest()
			if s.Looser(a, loosest) || s.Looser(tightest, a) || s.Tighter(a, loosest) != a || s.Tighter(a, tightest) != tightest {
				t.Errorf("%s: %s lies beyond an end of the scale", r.Name, s.Format(a))
			}
			if s.Looser(a, a) || s.Tighter(a, a) != a {
				t.Errorf("%s: %s is compared with itself", r.Name, s.Format(a))
			}
			for _, b := range all {
				both := s.Tighter(a, b)
				if both != s.Tighter(b, a) || s.Looser(both, a) || s.Looser(both, b) || s.Tighter(both, a) != both {
					t.Errorf("%s: of %s and %s %s is left", r.Name, s.Format(a), s.Format(b), s.Format(both))
				}
				if s.Looser(a, b) == (both == a) { // it is looser just where something of it is cut off
					t.Errorf("%s: whether %s is looser than %s, of which %s is left", r.Name, s.Format(a), s.Format(b), s.Format(both))
				}
			}
		}
	}
	for shape := range Shape(len(shapeNames)) {
		if !seen[shape] {
			t.Errorf("no rule has a scale of the shape %s", shape)
		}
	}
}

// TestWords: whatever the catalogue has a word for is read back from it, and nothing else is.
func TestWords(t *testing.T) {
	same := func(what, word string, is, back any, ok bool) {
		t.Helper()
		if !ok || is != back {
			t.Errorf("the %s %q is read as %v, %t, and is %v", what, word, back, ok, is)
		}
	}
	words := map[string]bool{}
	for k := Key(0); k < NumKeys; k++ {
		back, ok := ParseKey(k.String())
		same("key", k.String(), k, back, ok)
		words[k.String()] = true
	}
	for s := Service(0); s < NumServices; s++ {
		if !words[s.String()+".in"] || !words[s.String()+".out"] || In(s).String() != s.String()+".in" || Out(s).String() != s.String()+".out" {
			t.Errorf("%s has the keys %s and %s", s, In(s), Out(s))
		}
	}
	for k := range ResourceKind(len(resourceKinds)) {
		if resourceKinds[k].name != "" {
			back, ok := ParseResourceKind(k.String())
			same("kind", k.String(), k, back, ok)
		}
	}
	for r := View; r <= Manage; r++ {
		back, ok := ParseRole(r.String())
		same("role", r.String(), r, back, ok)
	}
	for f := Messages; f <= Presence; f++ {
		back, ok := ParseFeature(f.String())
		same("feature", f.String(), f, back, ok)
	}
	for i, name := range conditionNames {
		back, ok := ParseCondition(name)
		same("condition", name, Condition(1<<i), back, ok)
		if got := Condition(1 << i).Names(); !slices.Equal(got, []string{name}) {
			t.Errorf("the condition %s is called %v", name, got)
		}
	}
	for _, a := range Actions() {
		back, ok := ActionByName(a.Name)
		same("action", a.Name, a.ID, back.ID, ok)
	}
	for _, wrong := range []string{"", "none", "files", "files.", "files.inside", "FILES.in", "viewer", "calls ", "sign-in"} {
		_, key := ParseKey(wrong)
		_, kind := ParseResourceKind(wrong)
		_, role := ParseRole(wrong)
		_, feature := ParseFeature(wrong)
		_, condition := ParseCondition(wrong)
		_, act := ActionByName(wrong)
		if key || kind || role || feature || condition || act {
			t.Errorf("%q is read: as a key %t, a kind %t, a role %t, a feature %t, a condition %t, an action %t", wrong, key, kind, role, feature,
				condition, act)
		}
	}
	if got := (SignIn | AcceptTerms | Settling).Names(); !slices.Equal(got, []string{"sign_in", "accept_terms", "settling"}) {
		t.Errorf("three conditions are called %v", got)
	}
}

// TestAsked: the list of who asks a rule holds whatever rows of actions ask, each action once and in order; what gates ask by
// themselves comes to it besides.
func TestAsked(t *testing.T) {
	for i := range Rules() {
		r := &Rules()[i]
		by := AskedBy(r.ID)
		if !slices.IsSorted(by) || len(slices.Compact(slices.Clone(by))) != len(by) {
			t.Errorf("%s is asked by %v", r.Name, by)
		}
		for _, a := range Actions() {
			rows := false
			for _, k := range a.On {
				for _, ask := range a.Rows(k) {
					for ; ask != nil; ask = ask.Private {
						rows = rows || slices.Contains(ask.Switches, r.ID) || ask.Level == ByRule && ask.LevelRule == r.ID ||
							slices.ContainsFunc(ask.Needs, func(n Need) bool { return n.Rule == r.ID && n.Kind != PrivateA })
					}
				}
			}
			if rows && !slices.Contains(by, a.ID) {
				t.Errorf("a row of %s asks %s, which is not told", a.Name, r.Name)
			}
		}
	}
}

// TestDependencies: no rule needs itself, even by way of others: else neither could be opened first.
func TestDependencies(t *testing.T) {
	needs := map[RuleID][]RuleID{}
	for _, d := range Dependencies() {
		needs[d.Rule] = append(needs[d.Rule], d.Needs)
		for _, v := range []struct {
			rule  RuleID
			value Value
		}{{d.Rule, d.From}, {d.Needs, d.Value}} {
			if s := v.rule.Get().Scale; s.Looser(v.value, s.Loosest()) || s.Shape == Choice {
				t.Errorf("%s needs %s at %s, which is no value of %s", d.Rule, d.Needs, fmt.Sprint(v.value), v.rule)
			}
		}
	}
	var walk func(from, at RuleID, left int)
	walk = func(from, at RuleID, left int) {
		for _, next := range needs[at] {
			switch {
			case next == from:
				t.Errorf("%s needs itself, by way of %s", from, at)
			case left > 0:
				walk(from, next, left-1)
			}
		}
	}
	for r := range needs {
		walk(r, r, NumRules)
	}
}

// TestTitleOn: what is done with a file is told of a folder as of a folder, and of anything else as it is.
func TestTitleOn(t *testing.T) {
	told := ""
	for i := range Actions() {
		a := &Actions()[i]
		for _, kind := range a.On {
			if on := a.TitleOn(kind); on != a.Title {
				told += on + "; "
			}
		}
	}
	if want := "open the folder; download the folder; change the folder; delete the folder; share the folder; "; told != want {
		t.Errorf("%s\nwanted %s", told, want)
	}
}
