package remedy

import (
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
)

// Step finds what takes one refusing cause of an account out of the way: the
// narrowest changes of which it was tried that, once they are made, the cause
// refuses no more. Known is false where no change that this package knows could
// be against such a cause; then nothing was tried.
//
// It is the next step beside a single cause, where Find is about all of them.
func Step(
	s *engine.Snapshot,
	q *engine.Question,
	account engine.Account,
	gate catalogue.Gate,
	c *engine.Cause,
	until moment.Moment,
) (set []Change, known bool) {
	f := &finder{s: s, r: &Request{Question: *q, Until: until}, q: *q}
	f.q.Account = account
	alternatives := f.against(s, c)
	for _, set := range alternatives {
		if f.ends(set, gate, c) {
			return set, true
		}
	}
	return nil, len(alternatives) > 0
}

// ends reports whether a cause refuses no more once changes are made.
func (f *finder) ends(set []Change, gate catalogue.Gate, c *engine.Cause) bool {
	with, q, err := f.as(f.s, set)
	if err != nil {
		return false
	}
	x, err := with.Explain(&q)
	if err != nil {
		return false
	}
	for i := range x.Accounts {
		a := &x.Accounts[i]
		if a.Account != q.Account {
			continue
		}
		for k := range a.Gates[gate].Causes {
			if y := &a.Gates[gate].Causes[k]; y.Refuses && same(y, c) {
				return false
			}
		}
		return true
	}
	return true // they need this account no more
}

// ofKey reports whether a cause is of a service and direction that a partner is
// opened for.
func ofKey(c catalogue.Code) bool {
	return c == catalogue.NotListed || c == catalogue.NotOpened || c == catalogue.OpenedNo
}

// same reports whether two causes are of one thing. The same rule, or the same
// key of a partner.
func same(a, b *engine.Cause) bool {
	if (a.Chain == nil) != (b.Chain == nil) || a.Key != b.Key || a.B != b.B && a.Chain == nil {
		return false
	}
	if a.Chain == nil {
		return a.Code == b.Code
	}
	if ofKey(a.Code) && ofKey(b.Code) && a.B != b.B {
		return false // of another key
	}
	return a.Chain.Rule == b.Chain.Rule
}
