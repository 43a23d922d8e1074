package store

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/world"
)

// TestGrantsInOrder compares the order in which grants are put into an empty
// database with all of them sorted at once.
func TestGrantsInOrder(t *testing.T) {
	rnd := rand.New(rand.NewPCG(4, 2))
	for n := range 40 {
		grants := make([]world.Grant, n*n/4)
		for i := range grants {
			g := &grants[i]
			g.Resource.ID = fmt.Sprint("x", rnd.IntN(50))
			switch rnd.IntN(6) {
			case 0:
				g.Group = fmt.Sprint("g", rnd.IntN(3))
			case 1:
				g.Partner = fmt.Sprint("p", rnd.IntN(3))
			default:
				a, err := addr.Parse(fmt.Sprintf("%c@%d.example", 'a'+rune(rnd.IntN(26)), rnd.IntN(4)))
				if err != nil {
					t.Fatal(err)
				}
				g.Address = a
			}
		}
		keys := func(order []uint32) (out []string) {
			for _, i := range order {
				out = append(out, grants[i].Party()+" "+grants[i].Resource.ID)
			}
			return
		}
		got := grantsInOrder(grants)
		want := inOrder(len(grants), func(a, b uint32) int {
			if c := strings.Compare(grants[a].Party(), grants[b].Party()); c != 0 {
				return c
			}
			return strings.Compare(grants[a].Resource.ID, grants[b].Resource.ID)
		})
		if !slices.Equal(keys(got), keys(want)) {
			t.Fatalf("%d grants: %v, want %v", len(grants), keys(got), keys(want))
		}
		slices.Sort(got)
		for i, k := range got {
			if uint32(i) != k {
				t.Fatalf("%d grants: %d is missing or there twice", len(grants), i)
			}
		}
	}
}
