package engine_test

import (
	"cmp"
	"maps"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldgen"
)

// TestRecords: what a snapshot keeps of records is what was written, the order of addresses is kept up as they come, and whoever is
// nobody's is counted by domain, as going through all records by themselves has it.
func TestRecords(t *testing.T) {
	for seed := uint64(1); seed <= 20; seed++ {
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 80, Grants: 160, Spaces: 12, Items: 60, Partners: 6, People: 12, Groups: 4, Meetings: 8, Links: 16,
				Exceptions: 20}, now))
		r := rand.New(rand.NewPCG(seed, 3))
		stillIn(w)
		enrich(r, w)
		w.Personal = append(w.Personal, world.Entry{Domain: w.Guests[0].Address.Domain()})
		w.Barred = append(w.Barred, world.Bar{Entry: world.Entry{Domain: w.Guests[2].Address.Domain()}})
		for i := 5; i < len(w.Guests); i += 9 {
			w.Barred = append(w.Barred, world.Bar{Address: w.Guests[i].Address})
		}
		guests := w.Guests
		for i := range guests {
			g := &guests[i]
			g.Origins, g.Purpose, g.Language, g.Cause = world.Origin(r.IntN(32)), []string{"", "a loan"}[i%2], "pt", ""
			if g.State == world.StateSuspended {
				g.Cause = "by hand"
			}
		}
		w.Guests = nil
		s := engine.Of(w)
		var order []uint32
		for len(guests) > 0 { // they come a few at a time, and one goes
			n := min(1+r.IntN(30), len(guests))
			e := s.Edit()
			for i := range guests[:n] {
				e.PutGuest(&guests[i])
			}
			w.Guests, guests = append(w.Guests, guests[:n]...), guests[n:]
			if gone := r.IntN(len(w.Guests)); r.IntN(2) == 0 {
				e.RemoveGuest(w.Guests[gone].Address)
				w.Guests = slices.Delete(w.Guests, gone, gone+1)
			}
			was := s
			s = e.Done()
			older := slices.Clone(order)
			order = s.Addressed(order)
			text := func(i uint32) string { return s.AddressAt(i).String() }
			if !slices.Equal(order, s.Addressed(nil)) || len(order) != int(s.Parties()) || !slices.IsSortedFunc(order, func(a, b uint32) int {
				return cmp.Compare(text(a), text(b))
			}) {
				t.Fatalf("seed %d: parties are not in the order of their addresses", seed)
			}
			if !slices.Equal(was.Addressed(order), was.Addressed(nil)) || len(older) > 0 && !slices.Equal(older, was.Addressed(nil)) {
				t.Fatalf("seed %d: of the snapshot before, parties are in another order", seed)
			}
		}
		got, want := map[string]world.Guest{}, map[string]world.Guest{}
		for i := range s.Parties() {
			if g, ok := s.Record(i); ok {
				got[g.Address.String()] = g
			}
		}
		kept := func(at moment.Moment) moment.Moment { // dates that are kept by the second
			if at == moment.Always || at < 0 {
				return moment.Always
			}
			return at / 1e6 * 1e6
		}
		unlisted := map[string]int{}
		for _, g := range w.Guests {
			if m := s.Match(g.Address); m.Partner == nil && !m.Own && !m.Private && m.Bar == nil {
				unlisted[g.Address.Domain().String()]++
			}
			if g.State != world.StateInvited && g.Accepted == moment.Never {
				g.Accepted = g.Since
			}
			if strings.TrimSpace(g.Purpose) != "" {
				g.Purpose = "…"
			}
			if g.Location != "" {
				g.Location = "…"
			}
			g.Language, g.Cause, g.DatesFrom, g.TakenOver, g.HomeClosed = "", "", 0, false, 0
			g.Renewed, g.LastSeen = kept(g.Renewed), kept(g.LastSeen)
			want[g.Address.String()] = g
		}
		for a, g := range want {
			if !reflect.DeepEqual(got[a], g) {
				t.Fatalf("seed %d:\n%+v is kept of\n%+v", seed, got[a], g)
			}
		}
		if len(got) != len(want) {
			t.Errorf("seed %d: %d records are kept, %d are there", seed, len(got), len(want))
		}
		if u := s.Unlisted(); !maps.Equal(u, unlisted) {
			t.Errorf("seed %d: at domains of nobody: %v, want %v", seed, u, unlisted)
		}
		if _, ok := s.Record(s.PartyOf(addr.Address{})); ok {
			t.Error("who is nobody has a record")
		}
	}
}
