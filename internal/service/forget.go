package service

import (
	"context"
	"slices"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/forgotten"
	"wexillum.example/internal/store"
)

// Forget replaces what is kept of guests by pseudonyms once they have been removed for the
// days of the setting forget_days; once a day. It returns how many it forgot.
func (s *Service) Forget(ctx context.Context) (n int, err error) {
	st, now := s.State(), s.Now()
	days := st.Policy().SettingsNow().ForgetDays
	day := moment.DayOf(now, st.Zone())
	if done := s.forgot.Load(); done != nil && *done == day || days == catalogue.NoLimit || days == catalogue.Unset {
		return 0, nil
	}
	before := (day - moment.Day(days)).Start(st.Zone()).Time()
	err = s.forgetsAtOnce(ctx, func() error {
		for {
			list, err := s.store.Forgettable(ctx, before, 50)
			if err != nil {
				return err
			}
			if len(list) == 0 {
				break
			}
			for _, a := range list {
				if err := s.forget(ctx, a, &n, func(t *store.Tx) (bool, error) { return t.Known(a) }); err != nil { // another service was first
					return err
				}
			}
		}
		strangers, err := s.refusedStrangers(ctx, before)
		if err != nil {
			return err
		}
		for _, a := range strangers {
			if err := s.forget(ctx, a, &n, func(*store.Tx) (bool, error) { return true, nil }); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return n, err
	}
	if n > 0 {
		s.past.Lock()
		s.past.states = nil
		s.past.Unlock()
	}
	if err := s.store.SweepDoor(ctx, now, now-moment.Moment((2*time.Hour).Microseconds())); err != nil {
		return n, err
	}
	s.forgot.Store(&day)
	return n, nil
}

// forget forgets an address that has no record, where it is still known, and counts it.
func (s *Service) forget(ctx context.Context, address string, n *int, known func(*store.Tx) (bool, error)) error {
	did := false
	err := s.change(ctx, Scheduler, "forgotten after the days of the setting", func(_ *State, t *store.Tx) error {
		did = false
		if g, err := t.Guest(address); err != nil || g != nil { // invited or let in meanwhile
			return err
		}
		if still, err := known(t); err != nil || !still {
			return err
		}
		_, err := t.Forget(address)
		did = err == nil
		return err
	})
	if err != nil || !did {
		return err
	}
	*n++
	if s.forgottenList != "" { // it is done; a list that cannot be written is told
		if err := forgotten.Add(s.forgottenList, address, s.clock()); err != nil {
			s.log.ErrorContext(ctx, "who was forgotten cannot be written into forgotten_list: a backup from before would bring them back", "error",
				err)
		}
	}
	return nil
}

// stranger is the address outside that a request is about; empty for others.
func (r *Request) stranger() string {
	switch {
	case r.SignUp != nil:
		return r.SignUp.Address
	case r.Bundle != nil:
		return r.Bundle.Address
	}
	return ""
}

// refusedStrangers lists addresses that asked to sign up, were refused before a moment, and never had a record.
func (s *Service) refusedStrangers(ctx context.Context, before time.Time) (out []string, err error) {
	for _, kind := range []string{`"sign_up":`, `"bundle":`} {
		if err = s.store.Naming(ctx, "request", kind, func(_ string, doc []byte) error {
			r, err := requestOf(doc)
			if err != nil || r.SignUp == nil && r.Bundle == nil || !r.over() || r.State == RequestWorks {
				return err
			}
			closed, err := moment.Parse(r.Closed)
			if a := r.stranger(); err == nil && closed.Time().Before(before) && !slices.Contains(out, a) {
				out = append(out, a)
			}
			return err
		}); err != nil {
			return nil, err
		}
	}
	return out, nil
}
