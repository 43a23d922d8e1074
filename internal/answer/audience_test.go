package answer_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldgen"
)

// TestAudienceInOrder compares audiences with the engine's lines, each written out and all sorted by what they are known by.
func TestAudienceInOrder(t *testing.T) {
	w := worldgen.Generate(12,
		worldgen.Size{Guests: 200, Grants: 900, Spaces: 12, Items: 60, Partners: 10, People: 20, Meetings: 12, Links: 30},
		now)
	v := &answer.View{Snapshot: engine.Of(w), At: now}
	never := func() error { return nil }
	about := []world.Resource{{Kind: catalogue.Person, ID: w.People[3].ID}}
	for i := range w.Spaces {
		about = append(about, world.Resource{Kind: catalogue.Space, ID: w.Spaces[i].ID})
	}
	all := 0
	for _, r := range about {
		for _, f := range []answer.Filter{{}, {Text: "firm1"}, {Kind: "guest"}} {
			var want []string
			known, newcomers := map[string]bool{}, map[string]bool{}
			if err := v.Snapshot.Audience(r, true, nil, now, func(x *engine.Reached) error {
				if !strings.Contains(x.Who.String()+strings.ToLower(x.Name)+x.Partner, f.Text) || f.Kind != "" && f.Kind != x.Kind.String() {
					return nil
				}
				want = append(want, fmt.Sprintf("%t %s %s %03d %s %s %s %s %v %t %s", x.Newcomer, x.Who, x.Resource, x.Action, x.Name, x.Kind, x.Partner,
					x.Account, x.Conditions, x.Residual, x.Title))
				if x.Newcomer {
					newcomers[x.Who.String()] = true
				} else {
					known[x.Who.String()] = true
				}
				return nil
			}); err != nil {
				t.Fatal(err)
			}
			slices.Sort(want)
			for who := range known {
				delete(newcomers, who)
			}
			got, err := v.Audience(r, true, "", f, never)
			if err != nil {
				t.Fatal(err)
			}
			lines, err := v.Lines(got, 0, got.Len(), never)
			if err != nil {
				t.Fatal(err)
			}
			var has []string
			for i, x := range lines {
				key := fmt.Sprintf("%t %s %s %03d", x.Newcomer, x.Who, x.Resource, x.Action)
				if got.Key(i) != key {
					t.Fatalf("line %d of %s is known by %q, want %q", i, r, got.Key(i), key)
				}
				has = append(has, fmt.Sprintf("%s %s %s %s %s %v %t %s", key, x.Name, x.Kind, x.Partner, x.Account, x.Conditions, x.Residual, x.Title))
				if x.Cause.Text() == "" {
					t.Fatalf("%s has no cause", key)
				}
			}
			if !slices.Equal(has, want) {
				t.Fatalf("%s, %+v: %d lines, want %d\n%s\nwant\n%s", r, f, len(has), len(want), strings.Join(has, "\n"), strings.Join(want, "\n"))
			}
			if p, n := got.Counted(); p != len(known) || n != len(newcomers) {
				t.Fatalf("%s, %+v: %d parties and %d newcomers, want %d and %d", r, f, p, n, len(known), len(newcomers))
			}
			all += len(want)
		}
	}
	if all < 1500 {
		t.Errorf("only %d lines", all)
	}
}
