package service

import (
	"context"
	"fmt"
	"sort"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// HeldChange is a value that becomes held back, or is released.
type HeldChange struct {
	Where, Rule, Value string
	Held               bool // becomes held back; else released
}

// Between is the states that an impact lies between.
type Between struct{ Before, After *State }

// Impact weighs a draft at a moment: who gains and who loses what. line and progress
// are as in engine.ImpactOf.
func (s *Service) Impact(
	ctx context.Context,
	id string,
	at moment.Moment,
	line func(*engine.ImpactLine) bool,
	progress func(float64),
) (*DraftNow, *Between, *engine.Impact, error) {
	x, err := s.Draft(ctx, id)
	if err != nil {
		return nil, nil, nil, err
	}
	if x.Over() {
		return nil, nil, nil, fmt.Errorf("%w: the draft %q is %s; a revision shows what it changed", ErrConflict, x.Name, x.published())
	}
	if len(x.Conflicts) > 0 {
		return nil, nil, nil, x.conflicting()
	}
	before, err := s.ahead(ctx, x.Live, at, x.ID)
	if err != nil {
		return nil, nil, nil, err
	}
	after := x.After
	if before != x.Live || at <= s.Now() { // from when it is published its dates go on: that is now, and not when somebody last looked
		y, err := s.standAt(x.Draft, before, min(at, s.Now()))
		if err != nil {
			return nil, nil, nil, err
		}
		if y.After == nil {
			return nil, nil, nil, y.conflicting()
		}
		after = y.After
	}
	imp, err := engine.ImpactOf(before.Snapshot, after.Snapshot, at, line, ctx.Err, progress)
	return x, &Between{before, after}, imp, err
}

// Held lists the values that publishing would hold back, or release.
func (s *Service) Held(ctx context.Context, x *DraftNow, limit int) ([]HeldChange, int, error) {
	if x.After == nil {
		return []HeldChange{}, 0, nil
	}
	out, total, err := s.heldBy(ctx, x.Live, x.After.Policy(), limit)
	for _, r := range x.Releases {
		if total++; len(out) < limit {
			out = append(out, HeldChange{r.Where, r.Rule, r.Value, false})
		}
	}
	return out, total, err
}

// heldBy lists the stored values that a policy holds back, or counts again, and says how many they are.
func (s *Service) heldBy(ctx context.Context, live *State, after *world.World, limit int) ([]HeldChange, int, error) {
	out, total := []HeldChange{}, 0
	add := func(h HeldChange) {
		if total++; len(out) < limit {
			out = append(out, h)
		}
	}
	limits := world.Limits(after, &world.World{})
	compare := func(where string, was, will []world.Setting) {
		held := map[catalogue.RuleID]bool{}
		for _, v := range was {
			held[v.Rule] = v.Held
		}
		for _, v := range will {
			if h, had := held[v.Rule]; had && h != v.Held {
				add(HeldChange{where, v.Rule.String(), v.Rule.Get().Scale.Format(v.Value), v.Held})
			}
		}
	}
	for i := range after.Partners {
		p := &after.Partners[i]
		if old, err := live.Partner(p.ID); err == nil {
			compare("partner:"+p.ID, old.Rules, world.HoldBack(p.Rules, limits))
		}
	}
	for i := range after.Exceptions {
		e := &after.Exceptions[i]
		if old, _, err := live.Exception(e.ID); err == nil {
			compare("exception "+e.ID, old.Rules, world.HoldBack(e.Rules, limits))
		}
	}
	before := world.Limits(live.Policy(), &world.World{})
	lowered := false
	for r := range limits {
		lowered = lowered || catalogue.RuleID(r).Get().Scale.Looser(before[r], limits[r])
	}
	if lowered {
		if err := s.store.WithRules(ctx, func(where string, rules []world.Setting) {
			compare(where, rules, world.HoldBack(rules, limits))
		}); err != nil {
			return nil, 0, err
		}
	}
	return out, total, nil
}

// CutOff is a guest whom other days suspend or remove at once.
type CutOff struct {
	Address addr.Address
	Name    string
	At      moment.Moment // when it would have happened, by the draft's days
	Cause   dated.Cause
	Was     moment.Moment // when it will happen as things are; Never for not
}

// CutOffs lists the guests whom a draft's days would suspend or remove at a moment at
// which they are not yet as things are. It reads no guest where no such rule differs.
func (s *Service) CutOffs(ctx context.Context, before, after *State, at moment.Moment, limit int) ([]CutOff, int, error) {
	out, total := []CutOff{}, 0
	engine.Ousted(before.Snapshot, after.Snapshot, at, func(i uint32, cause dated.Cause, was moment.Moment) {
		name, _, _ := after.RecordOf(i)
		total++
		out = append(out, CutOff{after.AddressAt(i), name, at, cause, was})
	})
	sort.Slice(out, func(i, j int) bool { return out[i].Address.String() < out[j].Address.String() })
	return out[:min(len(out), limit)], total, ctx.Err()
}
