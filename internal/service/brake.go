package service

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/store"
)

type restoreKey struct{}

// Restoring marks loading as the return of what was dumped from the same installation: its
// dates go on as the file has them, and nothing waits that did not wait before.
func Restoring(ctx context.Context) context.Context {
	return context.WithValue(ctx, restoreKey{}, true)
}

func restoring(ctx context.Context) bool { return ctx.Value(restoreKey{}) != nil }

type olderKey struct{}

// Older marks loading as that of a dump of an earlier version: what is refused now is taken,
// admits nobody, and is told.
func Older(ctx context.Context) context.Context {
	return context.WithValue(ctx, olderKey{}, true)
}

func older(ctx context.Context) bool { return ctx.Value(olderKey{}) != nil }

type confirmKey struct{}

// Confirmed marks a change as one that somebody looked at and wants although it does much.
func Confirmed(ctx context.Context) context.Context {
	return context.WithValue(ctx, confirmKey{}, true)
}

func confirmed(ctx context.Context) bool { return ctx.Value(confirmKey{}) != nil }

// Braked is what is held because it is more than somebody lets happen in a day (model §5).
type Braked struct{ Records, Mail int }

// Braked returns what is held; nothing where nothing is.
func (s *Service) Braked() Braked {
	if b := s.braked.Load(); b != nil {
		return *b
	}
	return Braked{}
}

// tripped notes how much is held; a negative number leaves what was.
func (s *Service) tripped(records, mail int) {
	b := s.Braked()
	if records >= 0 {
		b.Records = records
	}
	if mail >= 0 {
		b.Mail = mail
	}
	s.braked.Store(&b)
}

// letting are the steps that let a record go.
var letting = []dated.Kind{dated.Suspended, dated.Removed, dated.Invitation}

// heldBack is that the brake held, of which state that was found, and how long that took.
type heldBack struct {
	of    *engine.Snapshot
	limit int
	day   moment.Day // another day lets so many go again
	done  time.Time
	took  time.Duration
}

// brakeRests is how many times as long as counting took the brake holds before it is counted again because something changed.
const brakeRests = 20

// still reports whether it need not be counted again whether the brake holds.
func (h *heldBack) still(st *State, limit int, day moment.Day) bool {
	return h != nil && h.limit == limit && h.day == day && (h.of == st.Snapshot || time.Since(h.done) < brakeRests*h.took)
}

// brake reports whether what is due is held: it would let more records go than may go in a
// day, and nobody has said that they may.
func (s *Service) brake(ctx context.Context, st *State, c *store.Carried, now moment.Moment) (bool, error) {
	limit := brakeOf(st)
	if limit == 0 {
		s.tripped(0, -1)
		return false, nil
	}
	begun, day := time.Now(), moment.DayOf(now, st.Zone())
	if s.heldBack.Load().still(st, limit, day) {
		return true, nil // what is due grows with time alone
	}
	s.heldBack.Store(nil)
	lifted, err := s.lifted(ctx)
	if err != nil {
		return false, err
	}
	if h, err := s.store.Head(ctx); err != nil {
		return false, err
	} else if h != st.Head { // what others carried out meanwhile is not due any more
		if err := s.Refresh(ctx); err != nil {
			return false, err
		}
		st = s.State()
	}
	n := 0
	count := func(steps []dated.Step) {
		for i := range steps {
			if slices.Contains(letting, steps[i].Kind) && steps[i].At <= now && steps[i].At > lifted {
				n++
				break
			}
		}
	}
	q := st.Sequences()
	st.Unwritten(now, func(i uint32) bool {
		if !st.Waits(i) {
			steps, _ := q.Of(st.AddressAt(i))
			var own []dated.Step
			for k := range steps {
				own = append(own, steps[k].Step)
			}
			count(own)
		}
		return true
	})
	held := false
	if n > 0 {
		// Counted is what was done, by whichever service did it, so that a look that fails half-way
		// counts nothing.
		done, err := s.store.StepsSince(ctx, moment.DayOf(now, st.Zone()).Start(st.Zone()), lifted, letting)
		if err != nil {
			return false, err
		}
		held = n+done > limit
	}
	if held {
		s.heldBack.Store(&heldBack{st.Snapshot, limit, day, time.Now(), time.Since(begun)})
	} else {
		n = 0
	}
	s.tripped(n, -1)
	return held, nil
}

// lifted returns up to when what falls due may go although it is much; Always for nothing.
func (s *Service) lifted(ctx context.Context) (moment.Moment, error) {
	doc, err := s.store.Record(ctx, "brake", "dates")
	if err != nil || doc == nil {
		return moment.Always, err
	}
	var x struct {
		Lifted string `json:"lifted"`
	}
	if err := json.Unmarshal(doc, &x); err != nil {
		return moment.Always, err
	}
	return moment.Parse(x.Lifted)
}

// LiftBrake lets what is held go: all that is due up to now.
func (s *Service) LiftBrake(ctx context.Context, who Who, why string) (Braked, error) {
	held := s.Braked()
	if why = strings.TrimSpace(why); why == "" {
		return held, &Invalid{"why", "", "say why so much may go in a day"}
	}
	if held == (Braked{}) {
		return held, fmt.Errorf("%w: nothing is held", ErrNotFound)
	}
	err := s.change(ctx, who.Name, why, func(_ *State, t *store.Tx) error {
		if err := noteLetGo(t, held.Records); err != nil {
			return err
		}
		return putJSON(t, "brake", "dates", map[string]string{"lifted": s.Now().String()})
	})
	if err == nil {
		s.nothingDue.Store(nil)
		s.heldBack.Store(nil)
		s.mailHeld.Store(nil)
		s.tripped(0, 0)
	}
	return held, err
}
