package service

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/dbtest"
)

// TestClockOff runs a service whose clock is an hour ahead: it says so and carries nothing out, and
// does once the clock is right.
func TestClockOff(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, guestWorld+"guests: [{address: a@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01, until: 2026-11-26}]\n")
	var said strings.Builder
	s.log = slog.New(slog.NewTextHandler(&said, nil))
	carry(t, s) // a new installation begins
	before := len(journaled(t, s, "step"))
	if err := s.clockHolds(t.Context()); err != nil {
		t.Errorf("the tests' own clock is not looked at: %v", err)
	}
	s.checkClock = true
	c.at = time.Now().Add(time.Hour)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() { defer close(done); s.Schedule(ctx, time.Millisecond, nil) }()
	<-time.After(300 * time.Millisecond) // nothing happens, which is no event
	cancel()
	<-done
	if steps := journaled(t, s, "step"); len(steps) != before {
		t.Errorf("%v", steps)
	}
	if !strings.Contains(said.String(), "the clock here is ") || !strings.Contains(said.String(), " off the clock of the database") {
		t.Error(said.String())
	}
	c.at = time.Now()
	if out := carry(t, s); out.Steps == 0 {
		t.Error("there was nothing to carry out")
	}
	if err := s.clockHolds(t.Context()); err != nil {
		t.Errorf("right again: %v", err)
	}
	if skew := s.ClockSkew(); skew.Abs() > clockOff {
		t.Errorf("%v", skew)
	}
}

// TestBacklog lets nobody carry anything out for days: how much waits is told, whole.
func TestBacklog(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	var world strings.Builder
	world.WriteString(strings.Replace(guestWorld, "guests.term_days: {default: 60}", "guests.term_days: {default: none}", 1) + "guests:\n")
	for i := range 150 {
		fmt.Fprintf(&world, "  - {address: g%d@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01, until: 2027-01-1%d}\n", i,
			i%3)
	}
	load(t, s, world.String())
	c.at = time.Date(2027, 1, 5, 9, 0, 0, 0, time.UTC)
	carry(t, s)
	if n, _ := s.Backlog(); n != 0 {
		t.Errorf("%d wait, and all were carried out", n)
	}
	upTo := s.Now()
	c.at = time.Date(2027, 1, 16, 9, 0, 0, 0, time.UTC)
	if n, at := s.Backlog(); n != 150 || at > upTo {
		t.Errorf("%d wait, up to %s", n, at)
	}
	carry(t, s)
	if n, _ := s.Backlog(); n != 0 {
		t.Errorf("%d wait, and all were carried out", n)
	}
}
