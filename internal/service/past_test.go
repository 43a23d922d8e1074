package service

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/store"
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

// sameThen compares states of the past that were made of the present one, or of one another, by what was otherwise, with everything
// read anew: whoever there is reaches the same, as of then and later.
func sameThen(t *testing.T, s *Service, heads []store.Head) {
	t.Helper()
	ctx := t.Context()
	var before *State
	for k, head := range heads {
		near, err := s.stateAt(ctx, head)
		check(t, err)
		states := []*State{near}
		if before != nil { // and on from the one before, wherever it lies
			x, err := s.stateFrom(ctx, before, before.Edit(), head)
			check(t, err)
			states = append(states, x)
		}
		before = states[len(states)-1]
		e := engine.New()
		_, err = s.store.Read(ctx, head, e)
		check(t, err)
		full := e.Done()
		w, err := s.World(ctx, head)
		check(t, err)
		who := map[string]bool{"x@ilvane.example": true, "new@far.example": true}
		for i := range w.Guests {
			who[w.Guests[i].Address.String()] = true
		}
		for i := range w.Grants {
			if !w.Grants[i].Address.IsZero() {
				who[w.Grants[i].Address.String()] = true
			}
		}
		reaches := func(x *engine.Snapshot, at moment.Moment) (out string) {
			var all []string
			for a := range who {
				q, err := engine.ParseWho(a)
				check(t, err)
				lines, _, err := x.Reach(q, at)
				check(t, err)
				for _, l := range lines {
					all = append(all, fmt.Sprintln(a, l.Action, l.Resource, l.Yes))
				}
				if p, err := addr.Parse(a); err == nil {
					steps, _ := x.Sequences().Of(p)
					for i := range steps {
						steps[i].Party, steps[i].Held = 0, 0 // numbers of one snapshot
					}
					all = append(all, fmt.Sprintln(a, steps))
				}
			}
			slices.Sort(all)
			return strings.Join(all, "")
		}
		for i, st := range states {
			if st.Head != head || st.Counts() != full.Counts() {
				t.Fatalf("%d, %d: at %+v %+v, read anew %+v %+v", k, i, st.Head, st.Counts(), head, full.Counts())
			}
			for _, at := range []moment.Moment{s.Now(), s.Now() - 20*86400e6, s.Now() + 50*86400e6} {
				if is, want := reaches(st.Snapshot, at), reaches(full, at); is != want {
					t.Fatalf("%d, %d: at %+v\n%s", k, i, head, diffText(want, is))
				}
			}
		}
	}
}
