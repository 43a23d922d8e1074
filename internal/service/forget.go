package service

import (
	"context"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
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
	for {
		list, err := s.store.Forgettable(ctx, before, 50)
		if err != nil {
			return n, err
		}
		if len(list) == 0 {
			break
		}
		for _, a := range list {
			did := false
			err := s.change(ctx, Scheduler, "forgotten after the days of the setting", func(_ *State, t *store.Tx) error {
				did = false
				g, err := t.Guest(a)
				if err != nil || g != nil { // invited again meanwhile
					return err
				}
				still, err := t.Known(a)
				if err != nil || !still { // another service was first
					return err
				}
				_, err = t.Forget(a)
				did = err == nil
				return err
			})
			if err != nil {
				return n, err
			}
			if did {
				n++
			}
		}
	}
	strangers, err := s.refusedStrangers(ctx, before)
	if err != nil {
		return n, err
	}
	for _, a := range strangers {
		did := false
		if err := s.change(ctx, Scheduler, "forgotten after the days of the setting", func(_ *State, t *store.Tx) error {
			did = false
			if g, err := t.Guest(a); err != nil || g != nil { // let in meanwhile
				return err
			}
			_, err := t.Forget(a)
			did = err == nil
			return err
		}); err != nil {
			return n, err
		}
		if did {
			n++
		}
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

// refusedStrangers lists addresses that asked to sign up, were refused before a moment, and never had a record.
func (s *Service) refusedStrangers(ctx context.Context, before time.Time) (out []string, err error) {
	err = s.store.Naming(ctx, "request", `"sign_up":`, func(_ string, doc []byte) error {
		r, err := requestOf(doc)
		if err != nil || r.SignUp == nil || r.State != RequestRefused {
			return err
		}
		closed, err := moment.Parse(r.Closed)
		if err == nil && closed.Time().Before(before) && !slices.Contains(out, r.SignUp.Address) && strings.Contains(r.SignUp.Address, "@") {
			out = append(out, r.SignUp.Address)
		}
		return err
	})
	return
}
