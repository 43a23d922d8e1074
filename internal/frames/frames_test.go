package frames

import (
	"fmt"
	"testing"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldgen"
)

// TestHold: a snapshot that is held in large pages answers the same and goes on; a small one is left where it is.
func TestHold(t *testing.T) {
	now := moment.Of(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC))
	w := worldgen.Generate(7, worldgen.Size{Guests: 30_000}, now)
	s := engine.Of(w)
	if Hold(s) != s {
		t.Error("a small one is moved")
	}
	held := hold(s, 2*size) // more than a frame, so that memory is joined
	if held == s {
		t.Fatal("it is not moved")
	}
	enter, _ := catalogue.ActionByName("spaces.enter")
	answers := func(s *engine.Snapshot) (out []string) {
		yes := 0
		for i := range w.Grants[:20_000] {
			g := &w.Grants[i]
			if g.Address.IsZero() {
				continue
			}
			v, err := s.Decide(&engine.Question{Subject: engine.Who{Address: g.Address}, Action: enter.ID,
				Resource: world.Resource{Kind: catalogue.Space, ID: w.Spaces[i%len(w.Spaces)].ID}, At: now})
			if v.Yes {
				yes++
			}
			out = append(out, fmt.Sprint(v, err))
		}
		if yes == 0 {
			t.Fatal("nobody may anything")
		}
		return append(out, fmt.Sprint(s.Counts()))
	}
	same := func(what string, a, b *engine.Snapshot) {
		t.Helper()
		x, y := answers(a), answers(b)
		for i := range x {
			if x[i] != y[i] {
				t.Fatalf("%s: answer %d is %s, and %s where it is held", what, i, x[i], y[i])
			}
		}
	}
	same("at first", s, held)
	change := func(s *engine.Snapshot) *engine.Snapshot {
		e := s.Edit()
		for i := 0; i < len(w.Guests); i += 7 {
			e.RemoveGuest(w.Guests[i].Address)
		}
		return e.Done()
	}
	same("changed", change(s), change(held))
	same("the one before", s, held)
}
