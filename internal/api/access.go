package api

import (
	"sort"

	"wexillum.example/internal/operations"
)

// Patterns lists every route that is served, as METHOD path, in order.
func Patterns() []string {
	var out []string
	for i := range operations.All() {
		out = append(out, operations.All()[i].Key())
	}
	sort.Strings(out)
	return out
}
