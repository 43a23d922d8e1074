package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// heldNow reads what a party holds of bundles, past and to come, within a change.
func heldNow(t *store.Tx, now *State, a addr.Address) ([]world.Holding, error) {
	var ids []string
	for _, h := range now.Holdings(a) {
		ids = append(ids, h.Key())
	}
	return recordsOf(t.Record, "holding", ids, worldfile.HoldingOf)
}

func putHolding(t *store.Tx, h *world.Holding) (bool, error) {
	return t.PutRecord("holding", h.Key(), worldfile.HoldingDoc(h))
}

// givenBy are the grants that follow from a holding by the bundle in force.
func (s *State) givenBy(h *world.Holding) []world.Grant {
	b, err := s.Bundle(h.Bundle)
	if err != nil {
		return nil
	}
	return b.Grants(h)
}

// endBundled takes one resource out of what is held of bundles: out of the bundle where it gives more, and else the whole
// holding ends. role is empty for any. It reports whether there was anything.
func (s *State) endBundled(held []world.Holding, resource, role string, at moment.Moment) (found bool) {
	for i := range held {
		h := &held[i]
		given := s.givenBy(h)
		if h.Until <= at || !slices.ContainsFunc(given, func(g world.Grant) bool {
			return g.Resource.String() == resource && (role == "" || g.Role.String() == role)
		}) {
			continue
		}
		found = true
		if len(given) == 1 {
			h.Until = max(at, h.From)
			continue
		}
		less := slices.DeleteFunc(slices.Clone(h.Less), func(g world.Gift) bool { return g.Resource.String() == resource })
		h.Less = append(less, world.Gift{Resource: resourceOf(resource), Role: catalogue.NoRole})
	}
	return found
}

// confirmBundled notes that what is held of bundles was looked at; resource is empty for all of it.
func (s *State) confirmBundled(held []world.Holding, resource string, at moment.Moment) (found bool) {
	for i := range held {
		h := &held[i]
		if moment.Within(at, h.From, h.Until) && (resource == "" ||
			slices.ContainsFunc(s.givenBy(h), func(g world.Grant) bool { return g.Resource.String() == resource })) {
			h.Reviewed, found = at, true
		}
	}
	return found
}

// endHoldings takes away all that a party holds of bundles, as its record goes: what it held stands in the history.
func endHoldings(t *store.Tx, now *State, a addr.Address) error {
	for _, h := range now.Holdings(a) {
		if _, err := t.EndRecord("holding", h.Key()); err != nil {
			return err
		}
	}
	return nil
}

// mergeHoldings gives one party what another holds of bundles: of one that both hold, the later end counts. It returns how
// many there were.
func mergeHoldings(t *store.Tx, now *State, from, into addr.Address, at moment.Moment) (n int, err error) {
	held, err := heldNow(t, now, from)
	if err != nil {
		return 0, err
	}
	own, err := heldNow(t, now, into)
	if err != nil {
		return 0, err
	}
	for i := range held {
		h := &held[i]
		if h.Until <= at {
			continue
		}
		h.Party = into
		if k := slices.IndexFunc(own, func(x world.Holding) bool { return x.Bundle == h.Bundle && x.Until > at }); k >= 0 {
			both := own[k]
			both.From, both.Until = min(both.From, h.From), max(both.Until, h.Until)
			both.Less = slices.DeleteFunc(slices.Clone(both.Less), func(x world.Gift) bool { // what either has whole, both have
				return !slices.ContainsFunc(h.Less, func(y world.Gift) bool { return y.Resource == x.Resource })
			})
			for l := range both.Less {
				for _, y := range h.Less {
					if y.Resource == both.Less[l].Resource {
						both.Less[l].Role = max(both.Less[l].Role, y.Role)
					}
				}
			}
			h = &both
		}
		n++
		if _, err := putHolding(t, h); err != nil {
			return n, err
		}
	}
	return n, nil
}

// Holders lists who holds a bundle at a moment or will, by address.
func (s *State) Holders(bundle string, at moment.Moment) (out []world.Holding) {
	s.EachHolding(func(h *world.Holding) {
		if h.Bundle == bundle && h.Until > at {
			out = append(out, *h)
		}
	})
	slices.SortFunc(out, func(a, b world.Holding) int { return cmp.Compare(a.Party.String(), b.Party.String()) })
	return out
}

// HoldingEnd ends what somebody holds of a bundle, or takes one resource out of it.
type HoldingEnd struct {
	Address, Bundle, Resource string
	Why                       string
}

// EndHolding ends what somebody holds of a bundle, or takes one resource out of it.
func (s *Service) EndHolding(ctx context.Context, who Who, x HoldingEnd, preview bool) (*PlacesChanged, error) {
	a, err := addr.Parse(x.Address)
	if err != nil {
		return nil, &Invalid{"address", x.Address, err.Error()}
	}
	if x.Why == "" && !preview {
		return nil, &Invalid{"why", "", "say why; it stands in the journal"}
	}
	var out *PlacesChanged
	err = s.changing(ctx, who.Name, x.Why, preview, func(now *State, t *store.Tx) error {
		held, err := heldNow(t, now, a)
		if err != nil {
			return err
		}
		at := s.Now()
		held = slices.DeleteFunc(held, func(h world.Holding) bool { return h.Bundle != x.Bundle || h.Until <= at })
		if len(held) == 0 {
			return fmt.Errorf("%w: %s does not hold the bundle %q", ErrNotFound, a, x.Bundle)
		}
		h := &held[0]
		if !who.AnswersFor(h.Sponsor) {
			return fmt.Errorf("%w: whoever answers for it ends it, or a keeper", ErrForbidden)
		}
		if x.Resource == "" {
			h.Until = max(at, h.From)
		} else if !now.endBundled(held, x.Resource, "", at) {
			return &Invalid{"resource", x.Resource, "the bundle does not give it to them"}
		}
		e := now.Aside()
		e.PutHolding(h)
		out = &PlacesChanged{Lines: []PlaceLine{{PlaceEdit: PlaceEdit{Do: DoClose, Kind: "holding", ID: h.Key()}, Result: "closed"}},
			Weighed: &ValueWeighed{}}
		if err := out.Weighed.impact(now, &State{Snapshot: e.Done(), Head: now.Head}, at, ctx.Err); err != nil {
			return err
		}
		if preview {
			return errPreview
		}
		_, err = putHolding(t, h)
		return err
	})
	return out.weighed(err)
}
