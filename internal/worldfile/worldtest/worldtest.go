// Package worldtest makes small worlds for tests of what is asked of them.
package worldtest

import (
	"strings"
	"testing"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

// Now is the moment at which small worlds are asked.
var Now = func() moment.Moment { m, _ := moment.Parse("2026-11-23T09:00:00Z"); return m }()

// Read reads a world as a file writes it, and ends the test where it cannot be read.
func Read(t testing.TB, text string) *world.World {
	t.Helper()
	w, err := worldfile.Read([]byte(text), worldfile.Options{Now: Now})
	if err != nil {
		t.Fatal(err)
	}
	return world.Merge(&world.World{}, w)
}

// Snapshot is Read, ready to be asked.
func Snapshot(t testing.TB, text string) *engine.Snapshot {
	t.Helper()
	return engine.Of(Read(t, text))
}

// Question reads a question as WHO ACTION RESOURCE, with an address after it where the action needs one, to be asked at Now.
func Question(t testing.TB, text string) engine.Question {
	t.Helper()
	f := strings.Fields(text)
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	q := engine.Question{At: Now}
	var err error
	q.Subject, err = engine.ParseWho(f[0])
	must(err)
	q.Action, err = engine.ParseAction(f[1])
	must(err)
	q.Resource, err = engine.ParseResource(f[2])
	must(err)
	if len(f) > 3 {
		q.Address, err = addr.Parse(f[3])
		must(err)
	}
	return q
}
