package answer

import (
	"slices"
	"testing"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/engine"
)

// TestMeantOrder: who is meant is put in the order of the keys that pages go on from.
func TestMeantOrder(t *testing.T) {
	var all []Meant
	for _, newcomer := range []bool{true, false} {
		for _, kind := range []engine.SubjectKind{engine.ByLinkID, engine.ByAddress, engine.ByPerson} {
			for _, id := range []string{"b", "a", "a-b"} {
				a, err := addr.Parse(id + "@firm.example")
				if err != nil {
					t.Fatal(err)
				}
				all = append(all, Meant{Who: engine.Who{Kind: kind, ID: id, Address: a}, Newcomer: newcomer})
			}
		}
	}
	slices.SortFunc(all, func(a, b Meant) int { return a.compare(&b) })
	if !slices.IsSortedFunc(all, func(a, b Meant) int {
		if a.Key() < b.Key() {
			return -1
		}
		return 1
	}) {
		t.Errorf("in another order than their keys: %v", all)
	}
}
