package engine_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

// known is a world that files are laid over.
type known struct {
	*engine.Snapshot
	w *world.World
}

func (k known) Policy() *world.World { return k.w }

// lay reads a part of a world over w.
func lay(t testing.TB, w *world.World, text, name string) *world.World {
	t.Helper()
	var k worldfile.Known
	if w.Organisation != nil {
		k = known{engine.Of(w), w}
	}
	part, err := worldfile.Read([]byte(text), worldfile.Options{File: name, Now: now, Known: k})
	if err != nil {
		t.Fatal(err)
	}
	return world.Merge(w, part)
}

// TestDecisions asks every line of testdata/decisions.txt, of the engine and of
// the slow evaluator, and wants exactly the gates and conditions it says.
func TestDecisions(t *testing.T) {
	text, err := os.ReadFile("testdata/decisions.txt")
	if err != nil {
		t.Fatal(err)
	}
	var w *world.World
	var s *engine.Snapshot
	seen := map[catalogue.Code]bool{}
	lines := 0
	for n, line := range strings.Split(string(text), "\n") {
		at := fmt.Sprintf("decisions.txt:%d", n+1)
		line = strings.TrimSpace(line)
		switch {
		case line == "" || line[0] == '#':
			continue
		case strings.HasPrefix(line, "world "):
			file, err := os.ReadFile("testdata/" + line[6:])
			if err != nil {
				t.Fatal(err)
			}
			w = lay(t, &world.World{}, string(file), line[6:])
			s = engine.Of(w)
			continue
		case strings.HasPrefix(line, "with {"):
			w = lay(t, w, "{wexillum: 1, "+line[6:], at)
			s = engine.Of(w)
			continue
		}
		f := strings.Split(line, "|")
		for i := range f {
			f[i] = strings.TrimSpace(f[i])
		}
		for len(f) < 7 {
			f = append(f, "")
		}
		lines++
		q := asked{who: f[0], action: f[1], resource: f[2], at: now}
		for _, c := range strings.Fields(f[3]) {
			k, v, _ := strings.Cut(c, "=")
			switch k {
			case "address":
				q.address = v
			case "presenter":
				q.presenter = v
			case "copy":
				q.dropsCopy = v == "no"
			case "at":
				if q.at, err = moment.ParseLoose(v, now, s.Zone()); err != nil {
					t.Fatal(at, err)
				}
			default:
				t.Fatalf("%s: there is no context %q", at, k)
			}
		}
		got, want := ask(t, s, q), (&slow{w}).answer(q)
		if got.String() != want.String() {
			t.Errorf("%s: %s\nengine %s\nslow   %s", at, line, got, want)
		}
		decision, detail, account := "wrong", "", ""
		if !got.wrong {
			decision, detail, account = "no", got.accounts[0].refusing, got.accounts[0].account
			if detail == "" {
				decision, detail = "yes", got.accounts[0].conditions
			}
		}
		if decision != f[4] || detail != f[5] || f[6] != "" && account != f[6] {
			t.Errorf("%s: %s\ngot %s | %s | %s", at, line, decision, detail, account)
		}
		if e, err := parse(q); err == nil {
			if x, err := s.Explain(&e); err == nil {
				for i := range x.Accounts {
					for g := range x.Accounts[i].Gates {
						for _, c := range x.Accounts[i].Gates[g].Causes {
							seen[c.Code] = true
						}
					}
				}
			}
		}
	}
	if lines < 150 {
		t.Errorf("the table has %d lines; at least 150 are wanted", lines)
	}
	for _, c := range catalogue.Codes() {
		if !seen[c] {
			t.Errorf("no line of the table brings about the cause %s", c)
		}
	}
	t.Logf("%d decisions", lines)
}
