package service

import (
	"runtime"
	"testing"
	"time"

	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/worldgen"
)

// TestChangeCopiesNothing: what everybody was given is copied at most once for a change of one guest, where its outcome is tried
// aside; what becomes of it is written behind the rest, also where the service looked in vain for what others changed before.
func TestChangeCopiesNothing(t *testing.T) {
	dsn := dbtest.DSN(t)
	s, c := start(t, dsn)
	w := worldgen.Generate(5, worldgen.Size{Guests: 3_000, Grants: 150_000}, s.Now()) // 2.4 MB of grants alone
	_, err := s.store.Import(t.Context(), "test", "w", w, nil)
	check(t, err)
	check(t, s.Refresh(t.Context()))
	least := uint64(1 << 62)
	for range 6 {
		c.at = c.at.Add(24 * time.Hour) // what is confirmed again is changed
		check(t, s.Refresh(t.Context()))
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		got, err := s.ChangeGuests(t.Context(), Who{Name: "test", Role: Administrator},
			GuestChange{Do: Confirm, Addresses: []string{w.Guests[7].Address.String()}, Reason: "x"}, false)
		check(t, err)
		runtime.ReadMemStats(&after)
		if !got[0].Done {
			t.Fatalf("nothing was done: %+v", got[0])
		}
		least = min(least, after.TotalAlloc-before.TotalAlloc)
	}
	if least > 5_500_000 { // 7.4 million where it is copied twice
		t.Errorf("a change allocates %d bytes at least", least)
	}
}
