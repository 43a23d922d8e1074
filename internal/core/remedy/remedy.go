// Package remedy finds what would make a refused question a yes: complete sets
// of changes over all causes, each tried on a snapshot and made as small as it
// can be. It has no I/O.
//
// A refusal names every gate that refuses, and each has a sentence of advice.
// Following them one by one is what a person did before: they mend one gate and
// meet the next. A remedy is the whole of it: *open the partner for chat.in,
// and oskelund admits it on its own side*. It is found in four steps:
//
//   - the narrowest change against each cause is taken, and the question asked
//     again with them made: some refusals show only once others are gone (solve)
//   - what turns out not to be needed is left out again (option)
//   - each cause that more than one change helps against is given its other
//     changes in turn, which makes further sets (Find)
//   - sets that hold all of another are dropped, and the rest is put in order:
//     by how narrow the kinds of change are, and, once Weigh has counted them,
//     by what they open besides
//
// Two promises hold for what is offered, and are tested on random worlds: with
// these changes the answer is yes, and without any one of them it is no.
package remedy

import (
	"sort"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
)

// Option is a complete set of changes that gives a yes. It was tried: with
// these changes the answer is yes, without any one of them no.
type Option struct {
	ID         string
	Account    engine.Account
	Changes    []Change
	Conditions catalogue.Condition // under which it would be a yes
	Width      []int               // of its changes, the widest first
}

// Hopeless is what no change of this kind helps against. It is told only where
// no option was found.
type Hopeless struct {
	Account engine.Account
	Cause   engine.Cause
}

// Request says for what remedies are looked for.
type Request struct {
	Question  engine.Question
	Until     moment.Moment // the end proposed for grants and exceptions; Never for none
	MaxOption int           // at most so many; 0 is 12
}

// finder looks for remedies on one snapshot. q is the question for the account
// that is being helped.
type finder struct {
	s *engine.Snapshot
	r *Request
	q engine.Question

	hopeless []Hopeless
}

// Find finds the sets of changes that would make a question a yes, the
// narrowest first as far as kinds tell it, and what nothing helps against. A
// question that is a yes has none. An error is a *engine.WrongUse.
//
// For each account the narrowest remedy of each cause is taken first; then each
// cause is given its other remedies in turn. It asks some hundred questions, a
// few milliseconds each where a world has to be made for them.
func Find(s *engine.Snapshot, r Request) ([]Option, []Hopeless, error) {
	ans, err := s.Explain(&r.Question)
	if err != nil || ans.Yes() {
		return nil, nil, err
	}
	if r.MaxOption == 0 {
		r.MaxOption = 12
	}
	f := &finder{s: s, r: &r}
	seen := map[string]bool{}
	var out []Option
	add := func(o *Option) {
		if o == nil || seen[o.ID] {
			return
		}
		seen[o.ID] = true
		out = append(out, *o)
	}
	for i := range ans.Accounts {
		f.q = r.Question
		if len(ans.Accounts) > 1 {
			f.q.Account = ans.Accounts[i].Account
		}
		base, choices := f.solve(nil)
		add(base)
		for _, c := range choices { // one exchanged, the others as narrow as they are
			for k := 1; k < c.n; k++ {
				o, _ := f.solve(map[string]int{c.key: k})
				add(o)
			}
		}
	}
	out = minimal(out)
	sort.SliceStable(out, func(i, j int) bool { return narrower(&out[i], &out[j]) })
	if len(out) > r.MaxOption {
		out = out[:r.MaxOption]
	}
	if len(out) > 0 {
		f.hopeless = nil
	}
	return out, f.hopeless, nil
}

// minimal leaves out options that hold all of another, or the same with a
// looser value. The order stays.
func minimal(list []Option) []Option {
	var out []Option
next:
	for i := range list {
		for j := range list {
			if i != j && len(list[j].Changes) <= len(list[i].Changes) && holds(&list[i], &list[j]) {
				continue next
			}
		}
		out = append(out, list[i])
	}
	return out
}

// holds reports whether for every change of b option a has the same or one that
// says a looser value.
func holds(a, b *Option) bool {
next:
	for i := range b.Changes {
		y := &b.Changes[i]
		for k := range a.Changes {
			x := a.Changes[k]
			if scale := &y.Rule.Get().Scale; x.Kind == y.Kind && x.Rule == y.Rule && (x.Value == y.Value || scale.Looser(x.Value, y.Value)) {
				x.Value = y.Value
			}
			if x.id() == y.id() {
				continue next
			}
		}
		return false
	}
	return true
}

// narrower puts options in order by the kinds of their changes: the widest
// changes are compared first, then the next; of equals the one with fewer
// changes.
func narrower(a, b *Option) bool {
	for i := 0; i < len(a.Width) && i < len(b.Width); i++ {
		if a.Width[i] != b.Width[i] {
			return a.Width[i] < b.Width[i]
		}
	}
	return len(a.Width) < len(b.Width)
}

// choice is a cause that more than one change helps against. n is how many ways
// there are.
type choice struct {
	key string
	n   int
}

// solve collects changes cause by cause until the question is a yes, taking for
// each cause the narrowest, or what picked says. Some refusals only show once
// others are gone, so it goes in rounds; twelve are more than there are gates.
func (f *finder) solve(picked map[string]int) (*Option, []choice) {
	var set []Change
	var choices []choice
	have := map[string]bool{}
	used := map[string]int{}
	for round := 0; round < 12; round++ {
		s, q, err := f.as(f.s, set)
		if err != nil {
			return nil, choices
		}
		ans, err := s.Explain(&q)
		if err != nil {
			return nil, choices
		}
		if ans.Yes() {
			return f.option(set, ans), choices
		}
		progress := false
		for g := range ans.Accounts[0].Gates {
			for i := range ans.Accounts[0].Gates[g].Causes {
				c := &ans.Accounts[0].Gates[g].Causes[i]
				if !c.Refuses {
					continue
				}
				// A cause is known again by what it is about.
				key := c.Code.String()
				if c.Chain != nil {
					key += " " + c.Chain.Rule.String() + " " + c.Chain.Steps[engine.PeopleLayer].Where
				}
				key += " " + c.Key.String() + " " + c.B
				alts := f.against(s, c)
				if len(alts) == 0 {
					if picked == nil {
						f.hopeless = append(f.hopeless, Hopeless{ans.Accounts[0].Account, *c})
					}
					return nil, choices
				}
				if _, known := used[key]; !known {
					choices = append(choices, choice{key, len(alts)})
				}
				k := used[key]
				if k == 0 {
					k = picked[key]
				} else if k >= len(alts) { // what was tried did not help, nor does anything else
					return nil, choices
				}
				if k >= len(alts) {
					return nil, choices
				}
				used[key] = k + 1
				for _, x := range alts[k] {
					if id := x.id(); !have[id] {
						have[id] = true
						set = append(set, x)
						progress = true
					}
				}
			}
		}
		if !progress {
			return nil, choices
		}
	}
	return nil, choices
}
