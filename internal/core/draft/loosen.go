package draft

import (
	"fmt"
	"reflect"
	"slices"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
)

// Loosens says in what a policy is looser than another, entry by entry, whether
// or not anybody gains by it today; empty where it only tightens. What cannot
// be told to be tighter counts as looser.
//
// Organisations may ask that a second person confirms whatever loosens. So this
// must never miss anything: each field is either compared here or makes the
// whole count as looser. It asks about policy alone; who gains is what an
// impact tells.
func Loosens(was, next *world.World) (reasons []string) {
	say := func(format string, args ...any) { reasons = append(reasons, fmt.Sprintf(format, args...)) }
	// Limits and defaults are compared as they count, so that a rule which is
	// set to what the catalogue begins with anyway loosens nothing.
	before, after := ruleStates(was), ruleStates(next)
	for i := range catalogue.Rules() {
		r := &catalogue.Rules()[i]
		a, b := before[r.ID], after[r.ID]
		if r.Scale.Looser(b.Limit, a.Limit) {
			say("the limit of %s", r.Name)
		}
		if r.Scale.Looser(b.Default, a.Default) || r.Scale.Shape == catalogue.Choice && a.Default != b.Default {
			say("the default of %s", r.Name)
		}
	}
	// Settings of a partner or an exception. What was said nowhere counted as
	// the default; what is not said any more will.
	loosens := func(a, b []world.Setting, what string) {
		had := map[catalogue.RuleID]catalogue.Value{}
		for _, s := range a {
			if !s.Held {
				had[s.Rule] = s.Value
			}
		}
		for _, s := range b {
			old, ok := had[s.Rule]
			if !ok {
				old = before[s.Rule].Default
			}
			delete(had, s.Rule)
			if scale := &s.Rule.Get().Scale; !s.Held && (scale.Looser(s.Value, old) || scale.Shape == catalogue.Choice && s.Value != old) {
				say("%s of %s", s.Rule, what)
			}
		}
		for r, v := range had { // gone: the default counts there
			if r.Get().Scale.Looser(after[r].Default, v) {
				say("%s of %s", r, what)
			}
		}
	}
	// By id. Each that next holds is taken out of it, so that those which are
	// gone are left.
	partners := map[string]*world.Partner{}
	for i := range was.Partners {
		partners[was.Partners[i].ID] = &was.Partners[i]
	}
	for i := range next.Partners {
		p := &next.Partners[i]
		old := partners[p.ID]
		delete(partners, p.ID)
		if old == nil {
			say("a new partner, %s", p.Name)
			continue
		}
		if p.Standing == world.Active && old.Standing != world.Active {
			say("%s is active again", p.Name)
		}
		for k := range p.Opened {
			// Not set is between no and yes: under the level listed it refuses,
			// under any it does not.
			if openness(p.Opened[k]) > openness(old.Opened[k]) {
				say("%s is opened for %s", p.Name, catalogue.Key(k))
			}
		}
		have := map[world.Entry]bool{}
		for _, d := range old.Domains {
			have[world.Entry{Domain: d.Domain, Subdomains: d.Subdomains}] = true
		}
		for _, d := range p.Domains {
			if !have[world.Entry{Domain: d.Domain, Subdomains: d.Subdomains}] {
				say("%s at %s", d.Domain, p.Name)
			}
		}
		loosens(old.Rules, p.Rules, p.Name)
		if a, b := unjudged(old), unjudged(p); !reflect.DeepEqual(a, b) {
			say("the record of %s", p.Name)
		}
	}
	for _, p := range partners { // under the level any a domain of nobody is freer than one that is closed
		for _, o := range p.Opened {
			if o == world.OpenNo || p.Standing != world.Active {
				say("%s is no partner any more", p.Name)
				break
			}
		}
	}
	bars := map[string]*world.Bar{}
	for i := range next.Barred {
		bars[next.Barred[i].Key()] = &next.Barred[i]
	}
	for i := range was.Barred {
		old := &was.Barred[i]
		if b := bars[old.Key()]; b == nil || old.Subdomains && !b.Subdomains {
			say("%s is barred no more", old.Key())
		}
	}
	if !sameSet(was.Personal, next.Personal) {
		say("personal domains")
	}
	exceptions := map[string]*world.Exception{}
	for i := range was.Exceptions {
		exceptions[was.Exceptions[i].ID] = &was.Exceptions[i]
	}
	for i := range next.Exceptions {
		x := &next.Exceptions[i]
		old := exceptions[x.ID]
		delete(exceptions, x.ID)
		switch {
		case old == nil:
			loosens(nil, x.Rules, "the exception "+x.ID)
		case reflect.DeepEqual(old, x):
		default:
			// An exception that only ends earlier, or says less, is no looser;
			// whoever it is for and where it counts must be as before.
			cut := *old
			cut.Until, cut.Reason, cut.Rules = x.Until, x.Reason, x.Rules
			if !reflect.DeepEqual(&cut, x) || x.Until > old.Until {
				say("the exception %s", x.ID)
			} else {
				loosens(old.Rules, x.Rules, "the exception "+x.ID)
			}
		}
	}
	for _, x := range exceptions {
		loosens(x.Rules, nil, "the exception "+x.ID)
	}
	for i := range next.Bundles { // one that is gone gives nothing to anybody
		if b, old := &next.Bundles[i], was.Bundle(next.Bundles[i].ID); old == nil && !b.Closed {
			say("a new bundle, %s", b.Name)
		} else if old != nil && !asTight(old, b) {
			say("the bundle %s", b.Name)
		}
	}
	expected := map[string]*world.Expectation{}
	for i := range next.Expectations {
		expected[next.Expectations[i].ID] = &next.Expectations[i]
	}
	for i := range was.Expectations {
		if old := &was.Expectations[i]; !asStrict(old, expected[old.ID]) {
			say("the expectation %s", old.ID)
		}
	}
	// Of settings the two that cannot loosen are made equal, and whatever is
	// left is compared as a whole.
	wasSet, isSet := was.SettingsNow(), next.SettingsNow()
	wasSet.LapseDays = isSet.LapseDays // when an answer comes too late lets nobody in
	if isSet.SecondFactor > wasSet.SecondFactor {
		wasSet.SecondFactor = isSet.SecondFactor
	}
	if !reflect.DeepEqual(wasSet, isSet) {
		say("settings of the service")
	}
	if was.Organisation != nil && next.Organisation != nil {
		a, b := *was.Organisation, *next.Organisation
		if twoPeople[b.TwoPeople] < twoPeople[a.TwoPeople] {
			say("when somebody else must confirm")
		}
		a.TwoPeople, b.TwoPeople = "", ""
		if !reflect.DeepEqual(a, b) {
			say("the organisation's own entry")
		}
	} else if was.Organisation != next.Organisation {
		say("the organisation's own entry")
	}
	// A kind of entry that somebody adds to the policy later and forgets here
	// is caught by this.
	if a, b := others(was), others(next); !reflect.DeepEqual(a, b) {
		say("what is new to this comparison")
	}
	return
}

// asTight reports whether a bundle gives nobody more than before, to nobody
// else, for no longer and no more easily.
//
// It makes a copy as it was in all that got tighter, or says nothing; if that
// equals what was, nothing got looser. A field that is added to Bundle counts
// as looser until it is named here.
func asTight(was, is *world.Bundle) bool {
	x := *is
	x.Name, x.Questions = was.Name, was.Questions // words
	if !slices.ContainsFunc(is.Gives, func(g world.Gift) bool {
		return !slices.ContainsFunc(was.Gives, func(o world.Gift) bool { return o.Resource == g.Resource && o.Role >= g.Role })
	}) {
		x.Gives = was.Gives
	}
	// No term at all is the longest one.
	shorter := func(is, was catalogue.Value) bool {
		return was == catalogue.Unset || was == catalogue.NoLimit || is != catalogue.Unset && is != catalogue.NoLimit && is <= was
	}
	if shorter(is.TermDays, was.TermDays) {
		x.TermDays = was.TermDays
	}
	if shorter(is.ReviewDays, was.ReviewDays) {
		x.ReviewDays = was.ReviewDays
	}
	if within(is.Partners, was.Partners) {
		x.Partners = was.Partners
	}
	if within(was.NotWith, is.NotWith) {
		x.NotWith = was.NotWith
	}
	if len(was.Approval) > 0 && within(was.Approval, is.Approval) {
		x.Approval = was.Approval
	}
	x.Others, x.Closed, x.Silent = is.Others || was.Others, is.Closed && was.Closed, is.Silent || was.Silent
	return reflect.DeepEqual(*was, x)
}

// within reports whether one list holds nothing that another does not.
func within(some, all []string) bool {
	return !slices.ContainsFunc(some, func(one string) bool { return !slices.Contains(all, one) })
}

// asStrict reports whether whatever broke an expectation before a change breaks
// it afterwards, too. One that was removed is broken by nothing.
//
// An expectation guards something: to take it away, or to let it allow more, is
// a loosening like any other. The way of comparing is asTight's.
func asStrict(was, is *world.Expectation) bool {
	if is == nil {
		return false
	}
	x := *is
	x.Owner, x.Why, x.Tell = was.Owner, was.Why, was.Tell // words, and who hears of it
	if x.Could {
		x.Could = was.Could // what could come to be is asked of it as well
	}
	e, old := &x.Expect, &was.Expect
	e.AtMost, e.Until = max(e.AtMost, old.AtMost), max(e.Until, old.Until)
	if within(e.Only, old.Only) {
		e.Only = old.Only
	}
	if within(old.Conditions, e.Conditions) {
		e.Conditions = old.Conditions
	}
	return reflect.DeepEqual(*was, x)
}

// unjudged leaves of a partner what Loosens has not compared field by field and
// what opens nothing to anybody. A field that is added to Partner counts as
// looser until it is named here.
//
// The three groups are those that were compared before, those that are words,
// and what the partner's own side says.
func unjudged(p *world.Partner) world.Partner {
	x := *p
	x.Domains, x.Standing, x.Opened, x.Rules = nil, 0, [catalogue.NumKeys]world.Opening{}, nil // compared
	x.Name, x.AlsoNamed, x.Contacts, x.Owner, x.Note = "", nil, nil, "", ""                    // words
	x.StandingSince, x.StandingReason, x.Review = 0, "", 0                                     // dates and words
	x.Stance = nil                                                                             // of their side, and no policy
	return x
}

// others leaves of a policy the kinds of entry that Loosens does not compare:
// there are none, and one that is added counts as looser until it is named
// here.
func others(w *world.World) world.Policy {
	x := w.Policy
	x.Organisation, x.Settings, x.Rules, x.Partners, x.Barred, x.Personal, x.Exceptions, x.Bundles, x.Expectations = nil, nil, nil, nil, nil,
		nil, nil, nil, nil
	return x
}

// twoPeople orders when somebody else must confirm; what is not said is never.
var twoPeople = map[string]int{"loosening": 1, "always": 2}

// openness orders what a partner may be: closed, not said, opened.
func openness(o world.Opening) int {
	switch o {
	case world.OpenYes:
		return 2
	case world.OpenNo:
		return 0
	}
	return 1
}

// ruleStates is limit and default of every rule, as set or as the catalogue
// begins. A default that is held back counts as what it is held at.
func ruleStates(w *world.World) (out [catalogue.NumRules]world.RuleSetting) {
	for i, r := range catalogue.Rules() {
		out[i] = world.RuleSetting{Rule: r.ID, Limit: r.Limit, Default: r.Default}
	}
	for _, s := range w.Rules {
		if s.Limit != catalogue.Unset {
			out[s.Rule].Limit = s.Limit
		}
		if s.Default != catalogue.Unset {
			out[s.Rule].Default = s.Default
		}
		if s.Held && s.Counts != catalogue.Unset {
			out[s.Rule].Default = s.Counts
		}
	}
	return
}

// sameSet reports whether two lists hold the same, in whatever order. Each of a
// is looked for in b; the lists are short and hold nothing twice.
func sameSet[T any](a, b []T) bool {
	if len(a) != len(b) {
		return false
	}
next:
	for i := range a {
		for j := range b {
			if reflect.DeepEqual(a[i], b[j]) {
				continue next
			}
		}
		return false
	}
	return true
}
