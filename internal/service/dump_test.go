package service

import (
	"bytes"
	"errors"
	"runtime"
	"strings"
	"testing"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
	"wexillum.example/internal/worldgen"
)

// full takes so many bytes and refuses more.
type full struct{ left int }

var errFull = errors.New("it is full")

func (f *full) Write(b []byte) (int, error) {
	if f.left -= len(b); f.left < 0 {
		return 0, errFull
	}
	return len(b), nil
}

// peak notes how much memory there is in use at most while something is written to it.
type peak struct {
	bytes int
	most  uint64
}

func (p *peak) Write(b []byte) (int, error) {
	if p.bytes += len(b); p.bytes/(2<<20) != (p.bytes-len(b))/(2<<20) {
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		p.most = max(p.most, m.HeapAlloc)
	}
	return len(b), nil
}

// TestDump: what is written while it is read is the file that the whole world makes, in every section, and read again it is the
// same world; memory does not grow with it; whoever cannot take it all is not told that it was all.
func TestDump(t *testing.T) {
	ctx := t.Context()
	s, c := start(t, dbtest.DSN(t))
	made := worldgen.Generate(4, worldgen.Size{Guests: 4000, Grants: 40_000, Spaces: 100, Items: 500, Partners: 20, People: 30, Groups: 5,
		Meetings: 20, Links: 100, Exceptions: 10}, moment.Of(c.at))
	made.Spaces = append(made.Spaces, world.Space{ID: "zz-empty", Name: "Empty", Kind: world.Team, Owners: []string{made.People[0].ID}})
	check(t, s.Import(ctx, "test", "", world.Merge(&world.World{}, made), nil))
	w, err := s.World(ctx, store.Head{})
	check(t, err)
	for _, sections := range [][]string{nil, {"guests"}, {"spaces"}, {"people", "grants"}, {"partners"}, {"links", "dates_from"}, {"letters"}} {
		var b bytes.Buffer
		check(t, s.Dump(ctx, &b, false, sections...))
		if want := worldfile.Write(w, sections...); !bytes.Equal(b.Bytes(), want) {
			t.Errorf("%v: %d bytes, of the whole world %d", sections, b.Len(), len(want))
		}
	}
	var policy bytes.Buffer
	check(t, s.Dump(ctx, &policy, true, worldfile.PolicySections...))
	if want := worldfile.Write(worldfile.PolicyOf(w), worldfile.PolicySections...); !bytes.Equal(policy.Bytes(), want) {
		t.Errorf("of policy %d bytes, want %d", policy.Len(), len(want))
	}
	for _, what := range []string{"guests", "grants", "links", "spaces", "people"} {
		var b bytes.Buffer
		check(t, s.List(ctx, what, "", &b))
		n := map[string]int{"guests": len(w.Guests), "grants": len(w.Grants), "links": len(w.Links), "spaces": len(w.Spaces), "people": len(w.People)}[what]
		if got := strings.Count(b.String(), "\n"); got != n+1 {
			t.Errorf("%s: %d lines, %d are there", what, got, n)
		}
	}
	whole := len(worldfile.Write(w))
	w, made = nil, nil
	if err := s.Dump(ctx, &full{whole / 2}, false); !errors.Is(err, errFull) {
		t.Errorf("half of it: %v", err)
	}
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	p := &peak{}
	check(t, s.Dump(ctx, p, false))
	if p.bytes != whole || p.most == 0 || p.most > m.HeapAlloc+uint64(whole) { // built whole it would take three times as much
		t.Errorf("%d bytes of %d, with %d kB more memory", p.bytes, whole, (int64(p.most)-int64(m.HeapAlloc))>>10)
	}
	t.Logf("%d bytes, with %d kB more memory", whole, (int64(p.most)-int64(m.HeapAlloc))>>10)
}
