package expect

import (
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Added judges what a change of policy does to an expectation: the
// counterexamples that there are afterwards and were not before, at the first
// moment at which there are any. Both snapshots hold the same inventory; one
// that is new is held against what was there before it. An error is stop's,
// which may be nil for none.
//
// What was broken before stands in nobody's way: only what the change adds
// does. Otherwise an expectation that somebody broke a year ago would keep
// everybody from publishing anything.
func (x *Statement) Added(before, after *engine.Snapshot, now moment.Moment, stop func() error) (out Judged, err error) {
	if stop == nil {
		stop = never
	}
	out = Judged{ID: x.ID, At: now}
	for _, m := range x.Moments(after, now) {
		was, err := x.judge(before, []moment.Moment{m}, stop)
		if err != nil {
			return out, err
		}
		is, err := x.judge(after, []moment.Moment{m}, stop)
		if err != nil {
			return out, err
		}
		switch {
		case is.State != Broken:
			continue
		case was.State != Broken:
			return is, nil
		}
		if out, err = x.more(before, after, m, stop); err != nil || out.State == Broken {
			return out, err
		}
	}
	if x.couldMatter(now) {
		return x.couldAdded(before, after, now, stop)
	}
	return out, nil
}

// more finds what breaks an expectation at a moment afterwards that did not
// before, one by one. Both worlds are asked about each pair. A party that was
// not of the set before is new in it. It costs as many decisions as the
// expectation has pairs, and is asked only where it is broken on both sides.
func (x *Statement) more(before, after *engine.Snapshot, at moment.Moment, stop func() error) (Judged, error) {
	c := x.counting(after, at)
	in := before.SetOf(x.Scope.Party, at)
	var only []*engine.Set
	for _, p := range x.only {
		only = append(only, before.SetOf(p, at))
	}
	// Whether a verdict breaks the expectation for somebody.
	bad := func(v engine.Verdict, only []*engine.Set, party uint32, who engine.Who, kind engine.Kind) bool {
		switch x.Expect.Sort {
		case world.OnlyParties:
			return v.Yes && !allowed(only, party, who, kind)
		case world.OnCondition:
			return v.Yes && v.Conditions&x.conditions != x.conditions
		case world.AlwaysSo:
			return !v.Yes
		}
		return v.Yes
	}
	add := func(one Counter, party uint32, who engine.Who) {
		c.out.State = Broken
		c.out.Count++
		if party != engine.NoParty {
			c.who.add(party)
		} else {
			c.whoElse[who] = true
		}
		if len(c.out.Examples) < First {
			c.out.Examples = append(c.out.Examples, one)
		}
	}
	counterOf := func(q *engine.Question, v engine.Verdict, who engine.Who, newcomer bool, name string) Counter {
		one := Counter{Who: who.String(), Name: name, Newcomer: newcomer, Action: q.Action, Resource: q.Resource, Count: 1,
			Conditions: v.Conditions}
		if name == "" {
			one.Name = after.NameOfSubject(who)
		}
		if q.Subject.Kind == engine.ByPerson {
			one.Person = q.Subject.ID
		}
		return one
	}
	// Of at most so many it is the parties that came.
	if x.Expect.Sort == world.AtMost {
		// Parties are compared by name and not by number: a number belongs to
		// one snapshot.
		had := map[string]bool{}
		collect := func(into func(who engine.Who, party uint32, y *engine.Yes)) func(*engine.Yes) error {
			return func(y *engine.Yes) error {
				if len(y.Members) == 0 {
					into(y.Who, y.Party, y)
				}
				for _, m := range y.Members {
					into(engine.Who{Address: after.AddressAt(m)}, m, y)
				}
				return nil
			}
		}
		if err := before.EachYes(&x.Scope, at, stop, collect(func(who engine.Who, _ uint32,
			_ *engine.Yes) {
			had[who.String()] = true
		})); err != nil {
			return c.out, err
		}
		err := after.EachYes(&x.Scope, at, stop, collect(func(who engine.Who, party uint32, y *engine.Yes) {
			if key := who.String(); !had[key] {
				had[key] = true
				q := engine.Question{Action: y.Action, Resource: y.Resource}
				add(counterOf(&q, engine.Verdict{Conditions: y.Conditions}, who, y.Newcomer, y.Name), party, who)
			}
		}))
		c.out.Parties = c.who.n + len(c.whoElse)
		return c.out, err
	}
	// Every no that was a yes before.
	if x.Expect.Sort == world.AlwaysSo {
		// A pair that was refused before, too, is not this change's doing.
		_, err := after.EachNo(&x.Scope, at, stop, func(q *engine.Question, party uint32, n *engine.Newcomer, kind engine.Kind) error {
			if v, err := before.Decide(q); err == nil && !v.Yes {
				return nil
			}
			who, newcomer, name := q.Subject, n != nil, ""
			if !q.Address.IsZero() {
				who = engine.Who{Address: q.Address}
			}
			if newcomer {
				name = n.Name
			}
			add(counterOf(q, engine.Verdict{}, who, newcomer, name), party, who)
			return nil
		})
		c.out.Parties = c.who.n + len(c.whoElse)
		return c.out, err
	}
	err := after.EachYes(&x.Scope, at, stop, func(y *engine.Yes) error {
		n := 0
		lookUp := true
		// Each pair is asked of both worlds. Who was outside the scope before
		// counts as new to it, though nothing about their access moved.
		after.EachPair(y, at, func(q *engine.Question) bool {
			lookUp = false
			if n++; n%4096 == 0 && stop() != nil {
				return false
			}
			who, party := q.Subject, y.Party
			if !q.Address.IsZero() {
				who = engine.Who{Address: q.Address}
			} else if len(y.Members) > 0 {
				party = after.PartyOf(q.Subject.Address)
			}
			v, err := after.Decide(q)
			if err != nil || !bad(v, c.only, party, who, y.Kind) {
				return true
			}
			w, err := before.Decide(q)
			kind := y.Kind
			if who.Kind == engine.ByAddress {
				kind = before.KindAt(who.Address, at)
			}
			if err == nil && in.Has(party, who, kind) && bad(w, only, party, who, kind) {
				return true
			}
			add(counterOf(q, v, who, y.Newcomer, y.Name), party, who)
			return true
		})
		// Looking up is counted by party and not by pair.
		if lookUp { // who may look up somebody now, and nobody before
			members := y.Members
			if len(members) == 0 {
				members = []uint32{y.Party}
			}
			for _, m := range members {
				who := y.Who
				if m != engine.NoParty {
					who = engine.Who{Address: after.AddressAt(m)}
				}
				// Whoever could look up anybody before gains nothing by
				// one more, which is how looking up is counted.
				narrow := engine.Scope{Party: engine.Parties{Of: world.PartyRef{Address: who.Address}}, Actions: 1 << y.Action}
				had := false
				if who.Kind == engine.ByAddress {
					if err := before.EachYes(&narrow, at, stop, func(*engine.Yes) error { had = true; return nil }); err != nil {
						return err
					}
				}
				if !had && bad(engine.Verdict{Yes: true, Conditions: y.Conditions}, c.only, m, who, y.Kind) {
					q := engine.Question{Action: y.Action, Resource: y.Resource}
					add(counterOf(&q, engine.Verdict{Conditions: y.Conditions}, who, y.Newcomer, y.Name), m, who)
				}
			}
		}
		return stop()
	})
	c.out.Parties = c.who.n + len(c.whoElse)
	return c.out, err
}
