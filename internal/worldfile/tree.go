package worldfile

import (
	"encoding/json"
	"strings"
)

// tree is what writing builds: scalars as the text they are read from.
type tree struct {
	kind nodeKind
	text string
	keys []string
	list []tree // of a sequence, or the values of a mapping
}

func leaf(s string) tree             { return tree{text: s} }
func (t tree) empty() bool           { return t.kind != scalar && len(t.list) == 0 }
func (t *tree) set(k string, v tree) { t.keys, t.list = append(t.keys, k), append(t.list, v) }

// quote writes a scalar so that YAML reads the same text back.
func quote(s string) string {
	if plainScalar(s) {
		return s
	}
	return quoted(s)
}

func quoted(s string) string {
	if simple(s) {
		return `"` + s + `"`
	}
	b, _ := json.Marshal(s) // a JSON string is a YAML double-quoted scalar
	out := string(b)
	for from, to := range map[string]string{`\u003c`: "<", `\u003e`: ">", `\u0026`: "&"} {
		out = strings.ReplaceAll(out, from, to)
	}
	return out
}

// simple reports whether a text stands in quotes as it is.
func simple(s string) bool {
	for i := range len(s) {
		if c := s[i]; c < 0x20 || c >= 0x7f || c == '"' || c == '\\' {
			return false
		}
	}
	return true
}

func plainScalar(s string) bool {
	if s == "" || s == "null" || s == "Null" || s == "NULL" || s == "~" || strings.TrimSpace(s) != s {
		return false
	}
	for i, c := range s {
		switch {
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c >= '0' && c <= '9', c == '_':
		case c == '.' || c == '@' || c == '/' || c == '+':
			if i == 0 {
				return false
			}
		case c == '-':
			if i == 0 {
				return false
			}
		case c == ' ':
		case c == ':':
			if i == 0 || i == len(s)-1 || s[i+1] == ' ' {
				return false
			}
		default:
			return false
		}
	}
	return true
}

// flow appends the tree in flow style.
func (t *tree) flow(b []byte) []byte {
	switch t.kind {
	case scalar:
		return append(b, quote(t.text)...)
	case sequence:
		b = append(b, '[')
		for i := range t.list {
			if i > 0 {
				b = append(b, ", "...)
			}
			if x := &t.list[i]; x.kind == scalar && strings.Contains(x.text, ":") {
				b = append(b, quoted(x.text)...) // some readers take group:desk in a list for a pair
				continue
			}
			b = t.list[i].flow(b)
		}
		return append(b, ']')
	}
	b = append(b, '{')
	for i := range t.list {
		if i > 0 {
			b = append(b, ", "...)
		}
		b = append(append(b, quote(t.keys[i])...), ": "...)
		b = t.list[i].flow(b)
	}
	return append(b, '}')
}

func (t *tree) flowText() string { return string(t.flow(nil)) }

// width is where a record is broken into lines.
const width = 150

const spaces = "                                                                                "

// block appends the value of a key at an indent, behind "key:".
func (t *tree) block(b []byte, indent int, top bool) []byte {
	if !top {
		start := len(b)
		b = t.flow(append(b, ' '))
		if t.kind == scalar || len(b)-start-1+indent <= width || t.empty() {
			return append(b, '\n')
		}
		b = b[:start]
	}
	b = append(b, '\n')
	if t.kind == sequence {
		for i := range t.list {
			b = t.list[i].item(b, indent)
		}
		return b
	}
	return t.fields(b, indent, spaces[:indent])
}

// item appends an entry of a list at an indent.
func (t *tree) item(b []byte, indent int) []byte {
	return t.entry(append(append(b, spaces[:indent]...), '-'), indent+2)
}

func (t *tree) fields(b []byte, indent int, first string) []byte {
	pad := first
	for i := range t.list {
		b = append(append(append(b, pad...), quote(t.keys[i])...), ':')
		b = t.list[i].block(b, indent+2, false)
		pad = spaces[:indent]
	}
	return b
}

// entry appends one entry of a list behind its dash.
func (t *tree) entry(b []byte, indent int) []byte {
	start := len(b)
	b = t.flow(append(b, ' '))
	if t.kind != mapping || len(b)-start-1+indent <= width {
		return append(b, '\n')
	}
	return t.fields(b[:start], indent, " ")
}

// MarshalJSON writes the tree as JSON with every scalar as a string, which
// reads back the same.
func (t tree) MarshalJSON() ([]byte, error) {
	switch t.kind {
	case scalar:
		return json.Marshal(t.text)
	case sequence:
		if t.list == nil {
			return []byte("[]"), nil
		}
		return json.Marshal(t.list)
	}
	b := []byte{'{'}
	for i := range t.list {
		if i > 0 {
			b = append(b, ',')
		}
		k, err := json.Marshal(t.keys[i])
		if err != nil {
			return nil, err
		}
		v, err := t.list[i].MarshalJSON()
		if err != nil {
			return nil, err
		}
		b = append(append(append(b, k...), ':'), v...)
	}
	return append(b, '}'), nil
}
