package service

import (
	"context"
	"fmt"
	"time"

	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
)

// How far the clock of a service may be off its database's, and how often that is looked at.
const (
	clockOff   = 5 * time.Second
	clockEvery = time.Minute
)

// clockHolds is an error where the clock here is off the database's: what falls at a moment is
// not carried out then, because it would fall at another moment than other services say.
func (s *Service) clockHolds(ctx context.Context) error {
	if !s.checkClock {
		return nil
	}
	s.skew.Lock()
	defer s.skew.Unlock()
	if now := time.Now(); s.skew.at.IsZero() || now.Sub(s.skew.at) > clockEvery || s.skew.by.Abs() > clockOff {
		there, err := s.store.Clock(ctx)
		if err != nil {
			return err
		}
		s.skew.at, s.skew.by = now, s.clock().Sub(there)
	}
	if s.skew.by.Abs() > clockOff {
		return fmt.Errorf(
			"the clock here is %v off the clock of the database; nothing that falls at a moment is carried out before they agree within %v",
			s.skew.by.Round(time.Millisecond),
			clockOff,
		)
	}
	return nil
}

// ClockSkew returns by how much the clock here was before the database's when it was looked at last.
func (s *Service) ClockSkew() time.Duration {
	s.skew.Lock()
	defer s.skew.Unlock()
	return s.skew.by
}

// countedEach is how long counting may take to be done each time that somebody asks.
const countedEach = 20 * time.Millisecond

// backlog is what Backlog counted last.
type backlog struct {
	mark moment.Moment
	n    int
	done time.Time
	took time.Duration
}

// Backlog counts the dated steps that were due more than five minutes ago and are not carried
// out, and tells up to when everything is. It stands on every first page; where counting takes
// long, it is not counted again for brakeRests times as long.
func (s *Service) Backlog() (n int, upTo moment.Moment) {
	c, now := s.carried.Load(), s.Now()
	if c == nil || now-c.At < lateAfter {
		return 0, now
	}
	st := s.State()
	s.backlogLock.Lock() // who comes meanwhile waits for the same count
	defer s.backlogLock.Unlock()
	if b := &s.backlog; b.took > countedEach && b.mark == c.At && time.Since(b.done) < brakeRests*b.took {
		return b.n, c.At
	}
	begun := time.Now()
	d, ok := st.Ahead(c.At, now-lateAfter, c.At)
	if !ok {
		d = st.Scan(c.At, now-lateAfter, nil)
	}
	n = len(s.released(st, pending(d.Steps(0, d.Total()), c)))
	s.eachUnwritten(st, now, c.At, func(*engine.Sequences, uint32, *dated.Step) { n++ })
	s.backlog = backlog{c.At, n, time.Now(), time.Since(begun)}
	return n, c.At
}

// MailOverdue counts the messages that should have gone out ten minutes ago, also where no mail
// server is named.
func (s *Service) MailOverdue() int { return max(0, s.mailWaiting(s.Now()-10*60e6)) }

// Followed is when the database was asked last what others changed, and answered; the zero time for never.
func (s *Service) Followed() time.Time {
	if at := s.followed.Load(); at != 0 {
		return time.UnixMilli(at)
	}
	return time.Time{}
}

// MailWaiting counts the messages that are due and not sent yet; -1 where the database does not
// say.
func (s *Service) MailWaiting() int { return s.mailWaiting(s.Now()) }

func (s *Service) mailWaiting(now moment.Moment) int {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	n, err := s.store.MailWaiting(ctx, now)
	if err != nil {
		return -1
	}
	return n
}
