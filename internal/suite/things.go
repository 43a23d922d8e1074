package suite

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"time"
)

// shelf is one kind of thing that a program keeps besides its settings.
type shelf struct {
	name, title string
	letter      string   // ids begin with it
	key         []string // who puts a thing with the same in these fields means the one that is there
	fields      []shelfField
	late        time.Duration // until a change of it counts outside; what is new counts at once
	opens       string        // the setting that must say opensAt for a new one to be taken
	opensAt     []string
	berth       string // the field whose berth may have a charter that says otherwise
	unless      string // the field with which it does not matter
}

type shelfField struct {
	name  string
	words []string // those it takes; none: any text
	empty bool     // it may be left out
}

// thing is one of them: what is kept, and what counted before.
type thing struct {
	ID     string            `json:"id"`
	Fields map[string]string `json:"fields"`
	Was    map[string]string `json:"was,omitempty"` // what counts until the change does; nil: it was not there
	At     time.Time         `json:"at"`
	By     string            `json:"by,omitempty"`
	Gone   bool              `json:"gone,omitempty"`
	Lied   bool              `json:"lied,omitempty"`
	Used   int               `json:"used,omitempty"` // how often it was shown at the gate
}

// Thing is what the interface shows of a thing.
type Thing struct {
	ID     string            `json:"id"`
	Fields map[string]string `json:"fields"`
	By     string            `json:"by,omitempty"` // who made it there
	Used   int               `json:"used"`         // how often it was shown at the gate
}

// things are those of one shelf, by id, and in the order of their ids.
type things struct {
	shelf *shelf
	byID  map[string]*thing
	byKey map[string]string
	ids   []string
	last  int
}

func (t *things) keyOf(fields map[string]string) string {
	var parts []string
	for _, k := range t.shelf.key {
		parts = append(parts, fields[k])
	}
	return strings.ToLower(strings.Join(parts, "\x00"))
}

func (p *Program) shelfCalled(name string) (*things, bool) {
	t, ok := p.shelves[name]
	return t, ok
}

var errShelf = errors.New("we keep nothing of that kind")

// put takes a thing in, or changes the one that is there, and returns its id. What is left out of a thing
// that is there stays.
func (p *Program) put(kind, id string, fields map[string]string, by string, desk bool) (string, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	t, ok := p.shelfCalled(kind)
	if !ok {
		return "", fmt.Errorf("%s: %w", kind, errShelf)
	}
	old := t.byID[id]
	if id != "" && old == nil {
		return "", fmt.Errorf("%s: %w", id, errNoKnob)
	}
	next := map[string]string{}
	if old != nil && !old.Gone {
		next = maps.Clone(old.Fields)
	}
	maps.Copy(next, fields)
	for name := range next {
		if !slices.ContainsFunc(t.shelf.fields, func(f shelfField) bool { return f.name == name }) {
			return "", fmt.Errorf("%s: %w", name, errNoKnob)
		}
	}
	for _, f := range t.shelf.fields {
		v := next[f.name]
		if v == "" && !f.empty || len(v) > 500 || v != "" && len(f.words) > 0 && !slices.Contains(f.words, v) {
			return "", fmt.Errorf("%s: %w: %q", f.name, errWord, v)
		}
	}
	if id == "" {
		id = t.byKey[t.keyOf(next)]
		if old = t.byID[id]; old != nil && !old.Gone {
			for name, v := range old.Fields {
				if _, said := fields[name]; !said {
					next[name] = v
				}
			}
		}
	}
	if (old == nil || old.Gone) && t.shelf.opens != "" && !desk {
		k, _ := p.find(t.shelf.opens)
		now := p.countsLocked(k)
		if berth, _, ok := strings.Cut(next[t.shelf.berth], "/"); ok && t.shelf.berth != "" {
			c, _ := p.find(charter + "#" + berth)
			for _, part := range strings.Split(p.countsLocked(c), "; ") {
				if v, ok := strings.CutPrefix(part, t.shelf.opens+"="); ok {
					now = v
				}
			}
		}
		if !slices.Contains(t.shelf.opensAt, now) && (t.shelf.unless == "" || next[t.shelf.unless] == "") {
			return "", fmt.Errorf("%w: %s are %s", errNotHere, t.shelf.name, now)
		}
	}
	if p.quirks.Fail && !desk && len(p.log)%2 == 0 {
		p.log = append(p.log, Change{p.clock(), kind, "", "(broke)", by})
		return "", errHalf
	}
	if old != nil && !old.Gone && maps.Equal(old.Fields, next) && !old.Lied {
		return id, nil
	}
	if id == "" {
		t.last++
		id = fmt.Sprintf("%s-%07d", t.shelf.letter, t.last)
	}
	x := &thing{ID: id, Fields: next, Was: p.thingCounts(t, old), At: p.clock(), By: by, Lied: p.quirks.Lie && !desk}
	if old != nil && !old.Gone {
		x.By, x.Used = old.By, old.Used
	}
	t.take(x)
	p.note(kind, id, old, x, by)
	return id, p.keep(kind, x)
}

// drop takes a thing away. One that is not there is no fault.
func (p *Program) drop(kind, id, by string, desk bool) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	t, ok := p.shelfCalled(kind)
	if !ok {
		return fmt.Errorf("%s: %w", kind, errShelf)
	}
	old := t.byID[id]
	if old == nil || old.Gone {
		return nil
	}
	if p.quirks.Fail && !desk && len(p.log)%2 == 0 {
		p.log = append(p.log, Change{p.clock(), kind, id, "(broke)", by})
		return errHalf
	}
	if p.quirks.Lie && !desk {
		return nil
	}
	x := &thing{ID: id, Fields: old.Fields, Was: p.thingCounts(t, old), At: p.clock(), By: by, Gone: true}
	t.take(x)
	p.note(kind, id, old, x, by)
	return p.keep(kind, x)
}

func (p *Program) note(kind, id string, old, now *thing, by string) {
	was, is := "", "(taken away)"
	if old != nil && !old.Gone {
		was = lineOf(p.shelves[kind].shelf, old.Fields)
	}
	if !now.Gone {
		is = lineOf(p.shelves[kind].shelf, now.Fields)
	}
	p.log = append(p.log, Change{now.At, kind + " " + id, was, is, by})
	if len(p.log) > 200 {
		p.log = p.log[100:]
	}
}

func lineOf(s *shelf, fields map[string]string) string {
	var out []string
	for _, f := range s.fields {
		if fields[f.name] != "" {
			out = append(out, fields[f.name])
		}
	}
	return strings.Join(out, ", ")
}

// take puts a thing in its place.
func (t *things) take(x *thing) {
	if _, there := t.byID[x.ID]; !there {
		if n := len(t.ids); n > 0 && t.ids[n-1] > x.ID {
			i, _ := slices.BinarySearch(t.ids, x.ID)
			t.ids = slices.Insert(t.ids, i, x.ID)
		} else {
			t.ids = append(t.ids, x.ID)
		}
		var n int
		if _, err := fmt.Sscanf(x.ID, t.shelf.letter+"-%d", &n); err == nil {
			t.last = max(t.last, n)
		}
	}
	if old := t.byID[x.ID]; old != nil && t.byKey[t.keyOf(old.Fields)] == x.ID {
		delete(t.byKey, t.keyOf(old.Fields))
	}
	t.byID[x.ID] = x
	t.byKey[t.keyOf(x.Fields)] = x.ID
}

// thingCounts returns what counts of a thing now: nil where it is not there.
func (p *Program) thingCounts(t *things, x *thing) map[string]string {
	switch {
	case x == nil:
		return nil
	case x.Lied, x.Was != nil && p.clock().Before(x.At.Add(p.short(t.shelf.late))):
		return x.Was
	case x.Gone:
		return nil
	}
	return x.Fields
}

// counting finds what counts of the thing with these key fields; nil where none does.
func (p *Program) counting(kind string, key ...string) map[string]string {
	p.mu.Lock()
	defer p.mu.Unlock()
	t := p.shelves[kind]
	return p.thingCounts(t, t.byID[t.byKey[strings.ToLower(strings.Join(key, "\x00"))]])
}

// use counts that a thing was shown at the gate.
func (p *Program) use(kind string, key ...string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	t := p.shelves[kind]
	if x := t.byID[t.byKey[strings.ToLower(strings.Join(key, "\x00"))]]; x != nil && !x.Gone {
		x.Used++
		_ = p.keep(kind, x)
	}
}

// shown is what the interface says of a thing; ok is false where it says that it is not there.
func (p *Program) shown(t *things, x *thing) (out Thing, ok bool) {
	fields := x.Fields
	switch {
	case p.quirks.Stale && p.clock().Before(x.At.Add(p.short(10*time.Minute))),
		x.Lied && !p.clock().Before(x.At.Add(p.short(t.shelf.late))):
		fields = x.Was
	case x.Gone:
		fields = nil
	}
	return Thing{x.ID, fields, x.By, x.Used}, fields != nil
}

// list returns up to most things behind an id, and the id to go on behind; empty at the end.
func (p *Program) list(kind, after string, most int) (out []Thing, next string, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	t, ok := p.shelfCalled(kind)
	if !ok {
		return nil, "", fmt.Errorf("%s: %w", kind, errShelf)
	}
	i, found := slices.BinarySearch(t.ids, after)
	if found {
		i++
	}
	out = []Thing{}
	for ; i < len(t.ids); i++ {
		if len(out) == most {
			return out, out[most-1].ID, nil
		}
		if x, ok := p.shown(t, t.byID[t.ids[i]]); ok {
			out = append(out, x)
		}
	}
	return out, "", nil
}

// one returns a thing as the interface shows it.
func (p *Program) one(kind, id string) (Thing, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	t, ok := p.shelfCalled(kind)
	if !ok {
		return Thing{}, fmt.Errorf("%s: %w", kind, errShelf)
	}
	if x := t.byID[id]; x != nil {
		if out, ok := p.shown(t, x); ok {
			return out, nil
		}
	}
	return Thing{}, fmt.Errorf("%s: %w", id, errNoKnob)
}

type keptThing struct {
	Kind  string `json:"kind"`
	Thing *thing `json:"thing"`
}

// keep writes a thing behind the others in its file.
func (p *Program) keep(kind string, x *thing) error {
	if p.file == "" {
		return nil
	}
	line, err := json.Marshal(keptThing{kind, x})
	if err != nil {
		return err
	}
	f, err := os.OpenFile(p.file+".things", os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(append(line, '\n'))
	return errors.Join(err, f.Close())
}

// keepThings reads the things of a program from its file. A last line that is torn was never answered.
func (p *Program) keepThings() error {
	f, err := os.Open(p.file + ".things")
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		var x keptThing
		if json.Unmarshal(lines.Bytes(), &x) != nil || x.Thing == nil || p.shelves[x.Kind] == nil {
			continue
		}
		p.shelves[x.Kind].take(x.Thing)
	}
	return lines.Err()
}

// Put makes or changes a thing as somebody at the desk does, and Drop takes one away.
func (p *Program) Put(kind, id string, fields map[string]string, by string) (string, error) {
	return p.put(kind, id, fields, by, true)
}

// Drop takes a thing away as somebody at the desk does.
func (p *Program) Drop(kind, id string) error { return p.drop(kind, id, "the desk", true) }

// Things lists what a program keeps of a kind, as its interface shows it.
func (p *Program) Things(kind string) []Thing {
	out, _, _ := p.list(kind, "", 1<<30)
	return out
}
