package worldfile

import (
	"bytes"
	"encoding/json"
	"errors"
	"slices"
	"sort"
	"strings"

	"wexillum.example/internal/core/world"
)

// InventoryKinds are the kinds of entry that can be made and changed one by one, as the journal calls
// them. A guest's record is not among them: it has a life of its own.
var InventoryKinds = []string{"person", "group", "space", "item", "domain_list", "meeting", "grant", "link", "forwarder", "contact"}

// Entry is one entry of inventory as it is to be.
type Entry struct {
	Kind string
	Doc  Doc // its fields; those of an item do not name its space
	In   Doc // of an item: the doc of its space
}

// EntryError is what is wrong with an entry.
type EntryError struct {
	Entry        int    // which of those that were read
	Field, Value string // the value is empty where it is a list, of which the message names a member
	Msg          string
}

// KindInWords is what people call a kind of inventory.
func KindInWords(kind string) string {
	switch kind {
	case "grant":
		return "role"
	case "domain_list":
		return "list of domains"
	}
	return kind
}

// ReadEntries reads entries as a file is read that holds them and nothing else: each list of the
// world that comes back has them in the order in which they were given. Items come in their spaces.
func ReadEntries(list []Entry, o Options) (*world.World, []EntryError, error) {
	var text bytes.Buffer
	text.WriteString("wexillum: 1\n")
	type line struct {
		entry int
		at    []FieldAt
	}
	lines := []line{{-1, nil}, {-1, nil}} // by number, which counts from 1
	write := func(entry int, s string, at []FieldAt) {
		text.WriteString(s + "\n")
		lines = append(lines, line{entry, at})
	}
	items := map[string][]int{} // by space
	var spaces []string         // those that stand for their items alone
	has := map[string]bool{}
	idOf := func(d Doc) (id string) {
		var x struct {
			ID string `json:"id"`
		}
		_ = json.Unmarshal(d, &x)
		return x.ID
	}
	for i := range list {
		if list[i].Kind == "space" {
			has[idOf(list[i].Doc)] = true
		}
	}
	for i := range list {
		if list[i].Kind == "item" {
			sp := idOf(list[i].In)
			if items[sp] == nil && !has[sp] {
				spaces = append(spaces, sp)
			}
			items[sp] = append(items[sp], i)
		}
	}
	space := func(entry int, doc Doc) {
		mine := items[idOf(doc)]
		if len(mine) == 0 {
			s, at := FlowLine(doc, nil)
			write(entry, "- "+s, shifted(at, 2))
			return
		}
		var m map[string]json.RawMessage
		_ = json.Unmarshal(doc, &m)
		var within []json.RawMessage
		_ = json.Unmarshal(m["items"], &within)
		delete(m, "items")
		d, _ := json.Marshal(m)
		s, at := FlowLine(d, nil)
		write(entry, "- "+strings.TrimSuffix(s, "}")+`, "items": [`, shifted(at, 2))
		for _, x := range within {
			write(entry, "  "+string(x)+",", nil)
		}
		for k, i := range mine {
			s, at := FlowLine(list[i].Doc, nil)
			if k < len(mine)-1 {
				s += ","
			}
			write(i, "  "+s, shifted(at, 2))
		}
		write(entry, "  ]}", nil)
	}
	for i := range kinds {
		k := &kinds[i]
		begun := false
		begin := func() {
			if !begun {
				write(-1, k.section+":", nil)
				begun = true
			}
		}
		for j := range list {
			if list[j].Kind != k.stored {
				continue
			}
			begin()
			if k.stored == "space" {
				space(j, list[j].Doc)
				continue
			}
			s, at := FlowLine(list[j].Doc, nil)
			write(j, "- "+s, shifted(at, 2))
		}
		if k.stored == "space" {
			for _, sp := range spaces {
				begin()
				space(-1, list[items[sp][0]].In)
			}
		}
	}
	w, err := Read(text.Bytes(), o)
	var es Errors
	if !errors.As(err, &es) {
		return w, nil, err
	}
	var out []EntryError
	for _, e := range es {
		x := EntryError{Entry: -1, Msg: e.Msg}
		if e.Line < len(lines) {
			l := lines[e.Line]
			x.Entry = l.entry
			for _, f := range l.at {
				if e.Col >= f.Col {
					x.Field, x.Value = f.Name, f.Text
				}
			}
		}
		// Of a list it is one of its members that is wrong, which the message
		// names: the others would only hide it.
		if strings.HasPrefix(x.Value, "[") && strings.Contains(x.Msg, `"`) {
			x.Value = ""
		}
		out = append(out, x)
	}
	return nil, out, nil
}

// FieldAt is where a field begins in a line, in characters from 1.
type FieldAt struct {
	Col        int
	Name, Text string
}

func shifted(at []FieldAt, by int) []FieldAt {
	for i := range at {
		at[i].Col += by
	}
	return at
}

// FlowLine writes a record as one line of the file format, with where each field begins. Fields
// stand in the given order, those that it lacks behind it by name.
func FlowLine(doc Doc, order []string) (string, []FieldAt) {
	m := map[string]json.RawMessage{}
	_ = json.Unmarshal(doc, &m)
	names := make([]string, 0, len(m))
	for k := range m {
		names = append(names, k)
	}
	sort.Slice(names, func(i, j int) bool {
		a, b := slices.Index(order, names[i]), slices.Index(order, names[j])
		if a < 0 || b < 0 {
			return a > b || a == b && names[i] < names[j]
		}
		return a < b
	})
	var b strings.Builder
	var at []FieldAt
	chars := 1
	put := func(s string) {
		b.WriteString(s)
		chars += len([]rune(s))
	}
	put("{")
	for i, k := range names {
		if i > 0 {
			put(", ")
		}
		text := string(m[k])
		var plain string
		if json.Unmarshal(m[k], &plain) == nil {
			text = plain
		}
		at = append(at, FieldAt{chars, k, text})
		name, _ := json.Marshal(k)
		put(string(name) + ": " + string(m[k]))
	}
	put("}")
	return b.String(), at
}
