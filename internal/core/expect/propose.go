package expect

import (
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// mostProposed is how many are proposed at a time, and mostAlone of how many
// partners a proposal says that they alone may. More proposals nobody reads;
// "only these five partners" is no rule anybody had in mind.
const (
	mostProposed = 40
	mostAlone    = 3
)

// Propose lists what might be expected of a world, from what is there: each
// holds now and on the days ahead, and nobody expects it yet. spaces are those
// of the inventory with items that are private. judged is what became of each,
// in the same order. An error is stop's.
//
// They are shown to an administrator, who takes those that were meant. Nothing
// is kept by itself.
func Propose(s *engine.Snapshot, spaces []world.Space, now moment.Moment, stop func() error) (out []world.Expectation, judged []Judged,
	err error) {
	if stop == nil {
		stop = never
	}
	have := map[string]bool{}
	ids := map[string]bool{}
	for i := range s.Policy().Expectations {
		x := &s.Policy().Expectations[i]
		have[x.Party+" "+x.Action+" "+x.Resource] = true
		ids[x.ID] = true
	}
	// It judges a proposal and leaves it out where it is broken, about nothing,
	// or there already.
	add := func(x world.Expectation) error {
		key := x.Party + " " + x.Action + " " + x.Resource
		if have[key] || len(out) >= mostProposed {
			return nil
		}
		st, err := Of(&x)
		if err != nil {
			return err
		}
		var j Judged
		if err := Judge(s, []*Statement{st}, now, NextDays, stop, func(_ int, found Judged) { j = found }); err != nil {
			return err
		}
		if j.State != Held || j.Empty {
			return nil
		}
		x.ID = unusedID(x.ID, ids)
		ids[x.ID], have[key] = true, true
		j.ID = x.ID
		out, judged = append(out, x), append(judged, j)
		return nil
	}
	for i := range s.Policy().Partners {
		if p := &s.Policy().Partners[i]; p.Standing != world.Active {
			if err := add(world.Expectation{ID: p.ID + "-reaches-nothing", Party: "partner:" + p.ID, Action: "*", Resource: "*", Owner: p.Owner,
				Why: fmt.Sprintf("%s is %s.", p.Name, world.StandingNames[p.Standing])}); err != nil {
				return nil, nil, err
			}
		}
	}
	for _, x := range []world.Expectation{
		{ID: "private-addresses-reach-nothing", Party: "kind:personal", Action: "*", Resource: "*",
			Why: "No private address reaches anything today."},
		{ID: "links-open-nothing", Party: "kind:bearer", Action: "*", Resource: "*", Why: "No link opens anything for whoever holds it today."},
		{ID: "links-ask-for-a-password", Party: "kind:bearer", Action: "files.*", Resource: "*",
			Expect: world.Expect{Sort: world.OnCondition, Conditions: []string{"password"}}, Why: "Every link asks for a password today."},
		{ID: "links-only-show", Party: "kind:bearer", Action: "files.edit", Resource: "*", Why: "No link lets anybody change a file today."},
		{ID: "reports-stay-with-known-guests", Party: "everybody", Action: "reports.*", Resource: "*",
			Expect: world.Expect{Sort: world.OnlyParties, Only: []string{"kind:guest", "kind:provisioned"}},
			Why:    "Only guests with a record read reports today."},
		{ID: "mail-leaves-to-partners-alone", Party: "kind:personal", Action: "mail.forward", Resource: "*",
			Why: "No mail is forwarded to private addresses today."},
	} {
		if err := add(x); err != nil {
			return nil, nil, err
		}
	}
	for i := range spaces {
		sp := &spaces[i]
		owner := ""
		if len(sp.Owners) > 0 {
			owner = sp.Owners[0]
		}
		for k := range sp.Items {
			it := &sp.Items[k]
			if !it.Private {
				continue
			}
			r := world.Resource{Kind: it.Kind, ID: it.ID}
			x := world.Expectation{ID: it.ID + "-stays-closed", Party: world.Everybody, Action: serviceOf(it.Kind) + ".*", Resource: r.String(),
				Owner: owner,
				Why:   it.Name + " is private, and nobody outside reaches it today."}
			only, all, err := whose(s, r, x.Action, now, stop)
			switch {
			case err != nil:
				return nil, nil, err
			case !all:
				continue
			case len(only) > 0:
				x.ID, x.Expect = it.ID+"-stays-with-few", world.Expect{Sort: world.OnlyParties, Only: only}
				x.Why = it.Name + " is private, and they alone reach it today."
			}
			if err := add(x); err != nil {
				return nil, nil, err
			}
		}
	}
	return out, judged, nil
}

// whose finds the partners whose people alone may do something with a resource,
// as an expectation writes them; all is false where somebody of no partner may,
// or people of too many. An error is stop's.
func whose(s *engine.Snapshot, r world.Resource, actions string, now moment.Moment, stop func() error) (only []string, all bool,
	err error) {
	scope := engine.Scope{Resource: &r}
	scope.Actions, _ = engine.ActionsNamed(actions)
	all = true
	err = s.EachYes(&scope, now, stop, func(y *engine.Yes) error {
		who := []engine.Who{y.Who}
		for _, m := range y.Members {
			who = append(who, engine.Who{Address: s.AddressAt(m)})
		}
		for _, w := range who {
			p := ""
			if w.Kind == engine.ByAddress {
				if m := s.Match(w.Address); m.Partner != nil {
					p = "partner:" + m.Partner.ID
				}
			}
			if p == "" {
				all = false
			} else if !slices.Contains(only, p) {
				only = append(only, p)
			}
		}
		return nil
	})
	slices.Sort(only)
	return only, all && len(only) <= mostAlone, err
}

// serviceOf is the service whose actions are about a kind of item. "files"
// where none is found, which no kind is.
func serviceOf(k catalogue.ResourceKind) string {
	for i := range catalogue.Actions() {
		if act := &catalogue.Actions()[i]; act.Takes(k) {
			return act.Service().String()
		}
	}
	return "files"
}

// unusedID makes an id that nothing has.
func unusedID(id string, taken map[string]bool) string {
	base := id
	for n := 2; taken[id]; n++ {
		id = fmt.Sprintf("%s-%d", base, n)
	}
	return id
}

// IDFor makes an id for an expectation that was given none. It is made of what
// it says: partner, action, resource and sort.
func IDFor(w *world.World, x *world.Expectation) string {
	taken := map[string]bool{}
	for i := range w.Expectations {
		taken[w.Expectations[i].ID] = true
	}
	clean := func(s string) string {
		out := strings.Map(func(r rune) rune {
			switch {
			case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
				return r
			case r == '*':
				return -1
			}
			return '-'
		}, strings.ToLower(s))
		return strings.Trim(out, "-")
	}
	_, party, cut := strings.Cut(x.Party, ":")
	if !cut && x.Party != world.Everybody {
		party = x.Party
	}
	_, what, _ := strings.Cut(x.Resource, ":")
	parts := []string{}
	for _, p := range []string{clean(party), clean(x.Action), clean(what), world.ExpectSortNames[x.Expect.Sort]} {
		if p != "" {
			parts = append(parts, p)
		}
	}
	return unusedID(strings.ReplaceAll(strings.Join(parts, "-"), "_", "-"), taken)
}
