package service

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
)

// TestKeptGuests changes records at random, by two services, one at a time and many at once: what is kept of them is what the
// database holds, and who went through the list before is not disturbed.
func TestKeptGuests(t *testing.T) {
	dsn := dbtest.DSN(t)
	a, _ := start(t, dsn)
	ctx := t.Context()
	_, err := a.Load(ctx, "test", "", "w",
		[]byte("wexillum: 1\norganisation: {name: O, domains: [ours.example], time_zone: UTC}\npeople: [{id: ann, name: Ann, address: ann@ours.example}]\n"),
		false)
	check(t, err)
	b, _ := start(t, dsn)
	seed := uint64(time.Now().UnixNano())
	r := rand.New(rand.NewPCG(seed, 0))
	load := func(s *Service, n int) {
		text := "wexillum: 1\nguests:\n"
		for _, i := range r.Perm(400)[:n] {
			text += fmt.Sprintf("  - {address: g%03d@far.example, name: N%d, sponsor: ann, purpose: p}\n", i, r.IntN(1000))
		}
		_, err := s.Load(ctx, "test", "", "w", []byte(text), false)
		check(t, err)
	}
	check(t, b.Refresh(ctx))
	for round := range 40 {
		s := []*Service{a, b}[r.IntN(2)]
		before, err := a.guestsNow(ctx)
		check(t, err)
		was := make([]world.Guest, len(before))
		for i, g := range before {
			was[i] = *g
		}
		switch k := r.IntN(10); {
		case k == 0:
			text := "wexillum: 1\nguests:\n"
			for i := range 600 { // more than are read one by one
				text += fmt.Sprintf("  - {address: m%03d@far.example, name: M%d, sponsor: ann, purpose: p}\n", i, round)
			}
			_, err := s.Load(ctx, "test", "", "w", []byte(text), false)
			check(t, err)
		case k < 3 && len(before) > 0:
			_, err := s.ChangeGuests(ctx, Who{Name: "test", Role: Administrator},
				GuestChange{Do: "remove", Addresses: []string{before[r.IntN(len(before))].Address.String()}, Reason: "x"}, false)
			check(t, err)
		default:
			load(s, 1+r.IntN(3))
		}
		for _, s := range []*Service{a, b} {
			check(t, s.Refresh(ctx))
			got, err := s.guestsNow(ctx)
			check(t, err)
			var want []*world.Guest
			check(t, s.store.EachGuest(ctx, func(g *world.Guest) error { x := *g; want = append(want, &x); return nil }))
			if len(got) != len(want) || len(want) > 0 && !reflect.DeepEqual(got, want) {
				t.Fatalf("seed %d, round %d: %d records are kept, %d are there", seed, round, len(got), len(want))
			}
		}
		for i, g := range before {
			if !reflect.DeepEqual(*g, was[i]) {
				t.Fatalf("seed %d: a record was altered in the list of somebody who reads it", seed)
			}
		}
	}
}
