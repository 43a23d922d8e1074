package engine_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldgen"
)

// TestWideAsPairs counts everybody's wide actions in random worlds by putting people and meetings together, and by asking every
// crowd about every class of them: both say the same. Exceptions name partners, domains, addresses and groups; meetings list
// domains and stand in spaces that name parties.
func TestWideAsPairs(t *testing.T) {
	first := uint64(time.Now().UnixNano())
	if *randomSeed != 0 {
		first = *randomSeed
	}
	compared, pairs := 0, 0
	until := time.Now().Add(min(*randomFor, 20*time.Second) / 4)
	for seed := first; time.Now().Before(until) || compared < 20; seed++ {
		r := rand.New(rand.NewPCG(seed, 11))
		w := world.Merge(&world.World{}, worldgen.Generate(seed, worldgen.Size{Guests: 30 + r.IntN(300), Grants: 300, Spaces: 12, Items: 20, Partners: 6, People: 30, Groups: 6, Meetings: 40, Links: 10, Exceptions: 30}, now))
		if seed%2 == 1 {
			enrich(r, w)
		}
		for i := range w.Exceptions { // towards whomever there is
			x := &w.Exceptions[i]
			switch r.IntN(5) {
			case 0:
				x.Parties = nil
			case 1:
				x.Parties = []world.PartyRef{{Partner: w.Partners[r.IntN(len(w.Partners))].ID}}
			case 2:
				g := &w.Guests[r.IntN(len(w.Guests))]
				x.Parties = []world.PartyRef{{Address: g.Address}}
			case 3:
				g := &w.Guests[r.IntN(len(w.Guests))]
				x.Parties = []world.PartyRef{{Domain: g.Address.Domain()}, {Partner: w.Partners[r.IntN(len(w.Partners))].ID}}
			}
		}
		s := engine.Of(w)
		for _, at := range []moment.Moment{now, now + 20*86400e6} {
			got, err := s.Wide(at, func() error { return nil })
			want, err2 := engine.WidePairs(s, at)
			if err != nil || err2 != nil {
				t.Fatal(err, err2)
			}
			if fmt.Sprint(got) != fmt.Sprint(want) {
				t.Fatalf("seed %d at %s:\n%v\nnot\n%v", seed, at, got, want)
			}
			compared++
			for _, x := range got {
				pairs += x.Pairs
			}
		}
	}
	if pairs == 0 {
		t.Error("nothing was a yes")
	}
}
