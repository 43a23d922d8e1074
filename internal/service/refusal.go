package service

import (
	"context"
	"sync"
	"time"

	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/finding"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/store"
)

// What callers are told no about is counted by day, partner and action: what is asked for day after day and refused is either wanted, and
// closed by something that nobody thinks of, or somebody tries what they should not. Nobody is named.

const (
	refusedWithin = 7   // days
	refusedOften  = 100 // times within them
	refusedDays   = 3   // of them, at least
	refusedKept   = 90  // days
	mostRefusals  = 10_000
)

type refusalKey struct {
	day             moment.Day
	partner, action string
}

// refusals are those that are counted and not yet kept.
type refusals struct {
	mu      sync.Mutex
	times   map[refusalKey]int
	dropped moment.Day // on which those that are too old were taken away last
}

// Refused counts a no that a caller was given of a question about the present.
func (s *Service) Refused(st *State, q *engine.Question) {
	a := q.Address
	if a.IsZero() {
		a = q.Subject.Address
	}
	k := refusalKey{day: moment.DayOf(q.At, st.Zone()), action: q.Action.String()}
	if !a.IsZero() {
		m := st.Match(a)
		if m.Own {
			return
		}
		if m.Partner != nil {
			k.partner = m.Partner.ID
		}
	}
	s.refused.mu.Lock()
	defer s.refused.mu.Unlock()
	s.refused.add(k, 1)
}

// add counts, for whoever holds mu.
func (r *refusals) add(k refusalKey, times int) {
	if r.times == nil {
		r.times = map[refusalKey]int{}
	}
	if _, known := r.times[k]; known || len(r.times) < mostRefusals {
		r.times[k] += times
	}
}

// KeepRefusals keeps what was counted.
func (s *Service) KeepRefusals(ctx context.Context) error {
	s.refused.mu.Lock()
	times, day := s.refused.times, moment.DayOf(s.Now(), s.State().Zone())
	old := s.refused.dropped != day
	s.refused.times, s.refused.dropped = nil, day
	s.refused.mu.Unlock()
	var list []store.Refusals
	for k, n := range times {
		list = append(list, store.Refusals{Day: k.day, Partner: k.partner, Action: k.action, Times: n})
	}
	var err error
	if old {
		err = s.store.DropRefusals(ctx, day-refusedKept)
	}
	if err == nil {
		err = s.store.CountRefusals(ctx, list)
	}
	if err != nil { // next time, then
		s.refused.mu.Lock()
		defer s.refused.mu.Unlock()
		for k, n := range times {
			s.refused.add(k, n)
		}
		s.refused.dropped = 0
	}
	return err
}

// RunRefusals keeps what is counted until the context ends, and once more then.
func (s *Service) RunRefusals(ctx context.Context, every time.Duration) {
	s.repeat(ctx, every, "what is refused cannot be counted", "what is refused is counted again", func() error { return s.KeepRefusals(ctx) })
	if err := s.KeepRefusals(context.WithoutCancel(ctx)); err != nil {
		s.log.Warn("what was refused last is not counted", "error", err)
	}
}

// refusalFindings are what is refused again and again.
func (s *Service) refusalFindings(ctx context.Context, now moment.Moment) (out []finding.Finding, err error) {
	st := s.State()
	list, err := s.store.RefusedSince(ctx, moment.DayOf(now, st.Zone())-refusedWithin+1, refusedOften, refusedDays)
	for _, x := range list {
		if f, ok := finding.RefusedOften(st.Snapshot, x.Partner, x.Action, x.Times, x.Days, refusedWithin); ok {
			out = append(out, f)
		}
	}
	return out, err
}
