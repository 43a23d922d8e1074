package service

import (
	"context"

	"wexillum.example/internal/forgotten"
	"wexillum.example/internal/store"
)

// KeepForgotten has everybody who is forgotten written into a list apart from the database.
func (s *Service) KeepForgotten(path string) { s.forgottenList = path }

// ForgetAgain forgets whom a list has as forgotten and who is known all the same, as after a backup from before was brought back: a record
// that is there is removed first. Besides, it forgets whom the setting forget_days says, as each day does. It returns how many.
func (s *Service) ForgetAgain(ctx context.Context, l *forgotten.List) (n int, err error) {
	known, err := s.store.EveryAddress(ctx)
	if err != nil {
		return 0, err
	}
	const why = "they were forgotten after the backup that was brought back"
	err = s.forgetsAtOnce(ctx, func() error {
		for _, a := range known {
			if !l.Has(a) {
				continue
			}
			g, err := s.store.Guest(ctx, a)
			if err != nil {
				return err
			}
			if g != nil {
				if _, err := s.ChangeGuests(ctx, Who{Name: Scheduler, Role: Administrator},
					GuestChange{Do: Remove, Addresses: []string{a}, Reason: why}, false); err != nil {
					return err
				}
			}
			if err := s.forget(ctx, a, &n, func(*store.Tx) (bool, error) { return true, nil }); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return n, err
	}
	by, err := s.Forget(ctx)
	return n + by, err
}
