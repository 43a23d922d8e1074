package service

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// ValueWeighed is what a value at a place would do, before it is set: the same that a draft
// tells of a published rule.
type ValueWeighed struct {
	Was, Becomes string // what counts at the place, before and after
	Loosens      bool
	Parties      engine.Moves
	Granted      engine.Moves // (party, action, resource) of granted actions
	Wide         engine.Moves // of wide ones
	Newcomers    []string     // typical newcomers who would gain
	Lines        []string     // the first of who gains or loses, in words
	Elsewhere    int          // things that people of ours may do elsewhere that change
	NotCounted   []string
}

// Nothing reports whether nothing changes for anybody.
func (w *ValueWeighed) Nothing() bool {
	return !w.Parties.Any() && !w.Granted.Any() && !w.Wide.Any() && len(w.Newcomers)+w.Elsewhere == 0
}

// weighedLines is how many who gain or lose are named.
const weighedLines = 20

// WeighValue counts what SetValue would do, and writes nothing.
func (s *Service) WeighValue(ctx context.Context, c ValueChange) (*ValueWeighed, error) {
	rule, v, err := c.parse()
	if err != nil {
		return nil, err
	}
	now, err := s.StateIn(ctx)
	if err != nil {
		return nil, err
	}
	at := s.Now()
	set, _, err := s.Values(ctx, c.Where)
	if err != nil {
		return nil, err
	}
	next, err := c.on(now, rule, v, set)
	if err != nil {
		return nil, err
	}
	out := &ValueWeighed{}
	if rule.Service() == "guests" {
		out.NotCounted = append(out.NotCounted, "when access ends: it moves dates, which count from now on")
	}
	stop := ctx.Err
	if c.Where.Partner != "" {
		p, err := now.Partner(c.Where.Partner)
		if err != nil {
			return nil, err
		}
		q := *p
		q.Rules = next
		after := now.With(world.Merge(now.Policy(), &world.World{Policy: world.Policy{Partners: []world.Partner{q}}}), at)
		if out.Was, out.Becomes, out.Loosens, err = around(now.Snapshot, after.Snapshot, rule,
			engine.Context{Resource: engine.NoResource, At: at, Party: partyIn(p)}); err != nil {
			return nil, err
		}
		return out, out.impact(now, after, at, stop)
	}
	after := valueSet(now, c.Where, rule, v, c.Held)
	if out.Was, out.Becomes, out.Loosens, err = around(now.Snapshot, after, rule,
		engine.Context{Resource: c.Where.Resource, At: at}); err != nil {
		return nil, err
	}
	touched := []engine.Touched{{Resource: c.Where.Resource}}
	who := map[engine.Who]bool{}
	count := func(before, after *engine.Snapshot, change string, granted, wide, parties *int, newcomer func(engine.Newcomer)) error {
		clear(who)
		return engine.Local(now.Snapshot, before, after, touched, at, stop, func(w engine.Who, isWide bool, n int) {
			if isWide {
				*wide += n
			} else {
				*granted += n
			}
			if !who[w] {
				who[w] = true
				*parties++
				if len(out.Lines) < weighedLines {
					out.Lines = append(out.Lines, fmt.Sprintf("%s %s", w, change))
				}
			}
		}, newcomer)
	}
	if err := count(now.Snapshot, after, "gains", &out.Granted.Gained, &out.Wide.Gained, &out.Parties.Gained, func(n engine.Newcomer) {
		if !slices.Contains(out.Newcomers, n.Name) {
			out.Newcomers = append(out.Newcomers, n.Name)
		}
	}); err != nil {
		return nil, err
	}
	err = count(after, now.Snapshot, "loses", &out.Granted.Lost, &out.Wide.Lost, &out.Parties.Lost, func(engine.Newcomer) {})
	return out, err
}

// impact counts what a change of policy does.
func (w *ValueWeighed) impact(now, after *State, at moment.Moment, stop func() error) error {
	words := map[string]string{"gained": "gains", "lost": "loses"} // otherwise alone says nothing in a line
	imp, err := engine.ImpactOf(now.Snapshot, after.Snapshot, at, func(l *engine.ImpactLine) bool {
		if verb := words[l.Change]; verb != "" && len(w.Lines) < weighedLines {
			if line := l.Who.String() + " " + verb; !slices.Contains(w.Lines, line) {
				w.Lines = append(w.Lines, line)
			}
		}
		return true
	}, stop, nil)
	if err != nil {
		return err
	}
	w.Parties, w.Granted = imp.Parties, imp.Total()
	for _, x := range imp.WideGained {
		w.Wide.Gained += x.Pairs
	}
	for _, x := range imp.WideLost {
		w.Wide.Lost += x.Pairs
	}
	for _, x := range imp.WideOtherwise {
		w.Wide.Otherwise += x.Pairs
	}
	for _, n := range imp.Newcomers {
		if n.Change == "gained" && !slices.Contains(w.Newcomers, n.Newcomer.Name) {
			w.Newcomers = append(w.Newcomers, n.Newcomer.Name)
		}
	}
	if n := len(imp.Outward) + len(imp.Forwarders); n > 0 {
		w.Lines = append(w.Lines, fmt.Sprintf("%d things that our own people may do there change", n))
		w.Elsewhere = n
	}
	return nil
}

// WeighStance counts what recording a stance would do, and writes nothing.
func (s *Service) WeighStance(ctx context.Context, partner, key string, doc []byte) (*ValueWeighed, error) {
	k, ok := catalogue.ParseKey(key)
	if !ok {
		return nil, &Invalid{"key", key, "write a service and a direction, as chat.in or spaces.out"}
	}
	now := s.State()
	p, err := now.Partner(partner)
	if err != nil {
		return nil, err
	}
	st, err := s.readStance(now, k, doc)
	if err != nil {
		return nil, err
	}
	at := s.Now()
	out := &ValueWeighed{Was: world.SaysNames[world.SaysUnknown], Becomes: world.SaysNames[st.Says]}
	for _, x := range p.Stance {
		if x.Key == k {
			out.Was = world.SaysNames[x.Says]
		}
	}
	out.Loosens = out.Was == world.SaysNames[world.SaysRefuses] && st.Says != world.SaysRefuses
	after := now.With(world.Merge(now.Policy(), &world.World{Policy: world.Policy{Partners: []world.Partner{*withStance(p, st)}}}), at)
	return out, out.impact(now, after, at, ctx.Err)
}

// partyIn is anybody of a partner.
func partyIn(p *world.Partner) string {
	if len(p.Domains) == 0 {
		return ""
	}
	return "*@" + p.Domains[0].Domain.String()
}

// valueSet is the state with a value at a space, item or meeting; one that is held back
// counts for nothing.
func valueSet(now *State, w Where, rule *catalogue.Rule, v catalogue.Value, held bool) *engine.Snapshot {
	if held {
		v = catalogue.Unset
	}
	e := now.Aside()
	e.SetValueAt(w.Resource, rule.ID, v)
	return e.Done()
}

// around tells what counts before and after a change, and whether it is looser.
func around(before, after *engine.Snapshot, rule *catalogue.Rule, c engine.Context) (was, becomes string, loosens bool, err error) {
	x, err := before.ChainOf(rule.ID, c)
	if err != nil {
		return
	}
	y, err := after.ChainOf(rule.ID, c)
	if err != nil {
		return
	}
	a, b := x.Effective(), y.Effective()
	loosens = rule.Scale.Looser(b, a)
	if rule.Scale.Shape == catalogue.Choice {
		loosens = a != b
	}
	return rule.Scale.Format(a), rule.Scale.Format(b), loosens, nil
}

// weighedFirst refuses a value at a place that lets more through than before and says not
// why; the dates of guests that it moves act forward (model §5).
func (s *Service) weighedFirst(now *State, c *ValueChange, rule *catalogue.Rule, v catalogue.Value, why string) (*engine.Snapshot, error) {
	if !now.Has(c.Where.Resource.Kind.String(), c.Where.Resource.ID) {
		return nil, nil // what is missing is said where it is looked for
	}
	after := valueSet(now, c.Where, rule, v, c.Held)
	was, becomes, loosens, err := around(now.Snapshot, after, rule, engine.Context{Resource: c.Where.Resource, At: s.Now()})
	if err != nil {
		return nil, err
	}
	if loosens && strings.TrimSpace(why) == "" {
		return nil, &Invalid{"why", "", fmt.Sprintf("it lets more through than before, %s instead of %s: say why", becomes, was)}
	}
	return after, nil
}
