package worldfile

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldgen"
)

// shown writes a node with the places of all that is in it.
func shown(b *strings.Builder, n *node) {
	fmt.Fprintf(b, "%d:%d %d %q", n.line, n.col, n.kind, n.text)
	for i := range n.values {
		b.WriteString("\n(")
		if n.kind == mapping {
			shown(b, &n.keys[i])
			b.WriteByte(' ')
		}
		shown(b, &n.values[i])
		b.WriteByte(')')
	}
}

// agree compares what is read in the written form with what YAML gives; was is false where it is left to YAML.
func agree(t *testing.T, text string, from int) (was bool) {
	t.Helper()
	s := &syntax{from: from}
	fast, ok := s.written(text, from)
	if !ok {
		return false
	}
	slow := s.parseWhole([]byte(text))
	if slow == nil {
		t.Fatalf("read though YAML does not: %v\n%s", s.errs, text)
	}
	var a, b strings.Builder
	shown(&a, fast)
	shown(&b, slow)
	if a.String() != b.String() {
		t.Fatalf("%s\nis read as\n%s\nand by YAML as\n%s", text, a.String(), b.String())
	}
	return true
}

// sample writes random worlds of which some texts hold what is awkward.
func sample(seed uint64, size worldgen.Size) (*world.World, []byte) {
	w := world.Merge(&world.World{}, worldgen.Generate(seed, size, moment.Of(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC))))
	awkward := []string{"Ærø, “harbour” & co", "a: b", "# no comment", "say \"so\"\\", "two\nlines", "yes", "null", "007", "  x", "1e5", "- dash", "[x]",
		"Zoë  Zwei", "12:30", "日本 {x}", "tab\there", "~", "0x1F", "end:", ".5"}
	for i := range w.Guests {
		if i%3 == 0 {
			w.Guests[i].Purpose = awkward[i/3%len(awkward)]
		}
	}
	for i := range w.Spaces {
		w.Spaces[i].Name = awkward[i%len(awkward)]
	}
	return w, Write(w)
}

// parts cuts a file as reading it does.
func parts(t *testing.T, text []byte) (out []part) {
	t.Helper()
	root, ok := (&syntax{}).parseParts(text)
	if !ok {
		t.Fatal("the file is not cut")
	}
	for i := range root.values {
		out = append(out, root.values[i].parts...)
	}
	return out
}

// TestWritten: what Write writes is read without YAML, and alike; so is what becomes of it where letters are altered, as long as
// it is read at all.
func TestWritten(t *testing.T) {
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	const letters = "{}[]:,\"\\ -#'\n0ax\t&*!|>%@`?~"
	all, quick, altered, still := 0, 0, 0, 0
	for range 6 {
		_, text := sample(r.Uint64(), worldgen.Size{Guests: 60, Grants: 200, Spaces: 20, Items: 80, Partners: 12, People: 20, Groups: 4,
			Meetings: 12, Links: 20, Exceptions: 12})
		for _, p := range parts(t, text) {
			all++
			if agree(t, string(p.text), p.from) {
				quick++
			} else {
				t.Errorf("left to YAML:\n%.600s", p.text)
			}
			lines := strings.SplitAfter(strings.TrimSuffix(string(p.text), "\n"), "\n")
			for range 60 {
				at := r.IntN(len(lines))
				for at > 0 && !strings.HasPrefix(lines[at], "  - ") {
					at--
				}
				b := []byte(strings.Join(lines[at:min(len(lines), at+1+r.IntN(4))], ""))
				for range 1 + r.IntN(2) {
					b[r.IntN(len(b))] = letters[r.IntN(len(letters))]
				}
				if !(&syntax{}).sound(b) {
					continue
				}
				altered++
				if agree(t, string(b), r.IntN(50)) {
					still++
				}
			}
		}
	}
	t.Logf("%d of %d parts, %d of %d altered ones", quick, all, still, altered)
	if still < altered/20 {
		t.Errorf("%d of %d altered ones are read", still, altered)
	}
}

// TestWrittenWorld: a long file is the same world whichever way it is read, and what is wrong in it is told at the same places.
func TestWrittenWorld(t *testing.T) {
	_, text := sample(3, worldgen.Size{Guests: 1500, Grants: 6000, Spaces: 200, Items: 900, Partners: 50, People: 100, Groups: 10,
		Meetings: 50, Links: 200, Exceptions: 30})
	if len(text) < longText {
		t.Fatalf("%d bytes are no long file", len(text))
	}
	o := Options{Now: moment.Of(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC))}
	w, err := Read(text, o)
	if err != nil {
		t.Fatal(err)
	}
	wrong := strings.Replace(string(text), "state: suspended", "state: asleep", 3)
	_, errs := Read([]byte(wrong), o)
	yamlAlone = true
	defer func() { yamlAlone = false }()
	x, err := Read(text, o)
	if err != nil {
		t.Fatal(err)
	}
	if !reflect.DeepEqual(w, x) {
		t.Error("the worlds differ")
	}
	if _, other := Read([]byte(wrong), o); other == nil || errs == nil || errs.Error() != other.Error() {
		t.Errorf("told\n%v\nand by YAML\n%v", errs, other)
	}
}

// TestWrittenDoc: records are read as they are kept without YAML, and alike.
func TestWrittenDoc(t *testing.T) {
	w, _ := sample(5, worldgen.Size{Guests: 60, Grants: 100, Spaces: 20, Items: 80, Partners: 12, People: 20, Groups: 4, Meetings: 12,
		Links: 20, Exceptions: 12})
	n := 0
	for i := range kinds {
		if kinds[i].docs == nil {
			continue
		}
		kinds[i].docs(w, func(id string, doc Doc) {
			s := &syntax{}
			fast, ok := s.writtenDoc(string(doc))
			if !ok {
				if doc[0] == '{' {
					t.Errorf("%s %s is left to YAML: %s", kinds[i].stored, id, doc)
				}
				return
			}
			n++
			slow := s.parseWhole(doc)
			var a, b strings.Builder
			shown(&a, fast)
			shown(&b, slow)
			if a.String() != b.String() {
				t.Errorf("%s\nis read as\n%s\nand by YAML as\n%s", doc, a.String(), b.String())
			}
		})
	}
	if n < 100 {
		t.Errorf("%d docs", n)
	}
}

// FuzzWritten: whatever is read in the written form YAML reads alike.
func FuzzWritten(f *testing.F) {
	_, text := sample(1, worldgen.Size{Guests: 6, Grants: 9, Spaces: 3, Items: 8, Partners: 2, People: 3, Groups: 1, Meetings: 2, Links: 3,
		Exceptions: 2})
	root, _ := (&syntax{}).parseParts(text)
	for i := range root.values {
		for _, p := range root.values[i].parts {
			f.Add(string(p.text))
		}
	}
	f.Fuzz(func(t *testing.T, text string) {
		if (&syntax{}).sound([]byte(text)) {
			agree(t, text, 0)
		}
	})
}
