package service

import (
	"fmt"
	"testing"
	"time"

	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
)

// TestAt asks of every day what was recorded then, in any order and more days than
// are kept, also by a service that was started later.
func TestAt(t *testing.T) {
	dsn := dbtest.DSN(t)
	s, clock := start(t, dsn)
	load(t, s, pair)
	first := clock.at
	said := map[time.Time]world.Standing{}
	words := []string{"suspended", "active", "ended"}
	for day := range 12 {
		clock.at = first.AddDate(0, 0, day+1)
		_, err := s.SetStanding(t.Context(), By{Who: "test", Why: fmt.Sprint("day ", day)}, "lamps", words[day%3])
		check(t, err)
		p, err := s.State().Partner("lamps")
		check(t, err)
		said[clock.at] = p.Standing
	}
	clock.at = first.AddDate(0, 1, 0)
	later, c2 := start(t, dsn)
	c2.at = clock.at
	for _, s := range []*Service{s, later} {
		for range 2 {
			for at, want := range said { // in no order
				st, how, err := s.At(t.Context(), moment.Of(at.Add(time.Hour)))
				check(t, err)
				p, err := st.Partner("lamps")
				check(t, err)
				if p.Standing != want || how != FromThen {
					t.Errorf("%s: %s, %s; want %s", at, world.StandingNames[p.Standing], how, world.StandingNames[want])
				}
				// Just before the change it was otherwise.
				st, _, err = s.At(t.Context(), moment.Of(at.Add(-time.Microsecond)))
				check(t, err)
				if p, _ := st.Partner("lamps"); p.Standing == want {
					t.Errorf("%s: the change counts before it was made", at)
				}
			}
		}
		st, how, err := s.At(t.Context(), moment.Of(first.AddDate(-1, 0, 0)))
		check(t, err)
		if p, _ := st.Partner("lamps"); how != FromFirst || p.Standing != world.Active || st.Head.Revision != 1 {
			t.Errorf("before all records: %s %+v", how, st.Head)
		}
		if st, how, err := s.At(t.Context(), moment.Of(clock.at.AddDate(0, 0, 5))); err != nil || how != FromNow || st != s.State() {
			t.Errorf("ahead: %s %v", how, err)
		}
		if n := len(s.past.states); n > s.keptPast() {
			t.Errorf("%d states are kept", n)
		}
	}
	// A past state answers questions.
	who, err := engine.ParseWho("a@lamps.example")
	check(t, err)
	st, _, err := s.At(t.Context(), moment.Of(first.Add(time.Hour)))
	check(t, err)
	b, err := st.Board(who, moment.Of(first.Add(time.Hour)))
	check(t, err)
	if b.Until != moment.Never || b.Partner != "lamps" {
		t.Errorf("%+v", b)
	}
}
