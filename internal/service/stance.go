package service

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// SetStance records what a partner's own side says of a key. doc is the stance as
// the file format has it; without a date it was said now.
func (s *Service) SetStance(ctx context.Context, who, why, partner, key string, doc []byte) error {
	k, ok := catalogue.ParseKey(key)
	if !ok {
		return &Invalid{"key", key, "write a service and a direction, as chat.in or spaces.out"}
	}
	return s.change(ctx, who, why, func(now *State, t *store.Tx) error {
		p, err := now.Partner(partner)
		if err != nil {
			return err
		}
		st, err := s.readStance(now, k, doc)
		if err != nil {
			return err
		}
		if recordedByHand := st.Source == "recorded" && st.Says != world.SaysUnknown; recordedByHand && st.Said == "" {
			return &Invalid{"said_by", "", "say who of theirs said so; a stance closes letters, and somebody will ask"}
		}
		if _, err = t.PutRecord("stance", store.StanceKey(partner, k), worldfile.StanceDoc(&st)); err != nil {
			return err
		}
		how := st.Source
		if st.Said != "" {
			how += ", " + st.Said
		}
		if why != "" {
			how += ": " + why
		}
		return s.settle(t, now, withStance(p, st), how)
	})
}

// readStance reads a stance as the file format has it; without a date it was said now.
func (s *Service) readStance(now *State, k catalogue.Key, doc []byte) (world.Stance, error) {
	// The words are read as a file's are, so that both say the same of the same mistake.
	text := append(
		append([]byte(`{"wexillum": "1", "partners": [{"id": "probe", "name": "probe", "stance": {"`+k.String()+`": `), doc...),
		"}}]}"...)
	part, err := worldfile.Read(text, worldfile.Options{Now: s.Now(), Known: now})
	if err != nil {
		return world.Stance{}, fieldError("stance", k.String(), err)
	}
	st := part.Partners[0].Stance[0]
	if !st.AsOf.IsSet() && st.Says != world.SaysUnknown {
		st.AsOf = s.Now()
	}
	if st.AsOf.IsSet() && st.AsOf > s.Now() {
		return st, &Invalid{"as_of", st.AsOf.String(), "it lies ahead; a stance is what somebody has said already"}
	}
	return st, nil
}

// UndoStance takes back what was recorded last of a key: what was before it counts again, and
// letters that it closed are open as they were.
func (s *Service) UndoStance(ctx context.Context, who, why, partner, key string) error {
	k, ok := catalogue.ParseKey(key)
	if !ok {
		return &Invalid{"key", key, "write a service and a direction, as chat.in or spaces.out"}
	}
	return s.change(ctx, who, cmp.Or(strings.TrimSpace(why), "taken back"), func(now *State, t *store.Tx) error {
		if _, err := now.Partner(partner); err != nil {
			return err
		}
		id := store.StanceKey(partner, k)
		before, change, err := t.Before("stance", id)
		if err != nil {
			return err
		}
		if change == 0 {
			return fmt.Errorf("%w: nothing is recorded of %s and %s", ErrNotFound, partner, k)
		}
		if before == nil {
			_, err = t.EndRecord("stance", id)
		} else {
			_, err = t.PutRecord("stance", id, before)
		}
		if err != nil {
			return err
		}
		closed, err := t.OfChange(change, "letter")
		if err != nil {
			return err
		}
		for _, id := range closed {
			was, by, err := t.Before("letter", id)
			if err != nil {
				return err
			}
			if by != change || was == nil { // something else became of it since
				continue
			}
			if _, err := t.PutRecord("letter", id, was); err != nil {
				return err
			}
		}
		return nil
	})
}

// PartnerHalves is both halves of one partner.
type PartnerHalves struct {
	Partner *world.Partner
	Halves  []world.Half
}

// Halves puts both halves of every partner side by side as they count now; a
// partner's id narrows it down to one.
func (s *State) Halves(at moment.Moment, id string) (out []PartnerHalves, err error) {
	for i := range s.Policy().Partners {
		p := &s.Policy().Partners[i]
		if id == "" || p.ID == id {
			out = append(out, PartnerHalves{p, s.Snapshot.Halves(p, at)})
		}
	}
	if id != "" && len(out) == 0 {
		return nil, fmt.Errorf("%w: there is no partner %q", ErrNotFound, id)
	}
	return out, nil
}
