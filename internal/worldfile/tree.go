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
	b, _ := json.Marshal(s) // a JSON string is a YAML double-quoted scalar
	out := string(b)
	for from, to := range map[string]string{`\u003c`: "<", `\u003e`: ">", `\u0026`: "&"} {
		out = strings.ReplaceAll(out, from, to)
	}
	return out
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

func (t *tree) flow(b *strings.Builder) {
	switch t.kind {
	case scalar:
		b.WriteString(quote(t.text))
	case sequence:
		b.WriteByte('[')
		for i := range t.list {
			if i > 0 {
				b.WriteString(", ")
			}
			if x := &t.list[i]; x.kind == scalar && strings.Contains(x.text, ":") {
				b.WriteString(quoted(x.text)) // some readers take group:desk in a list for a pair
				continue
			}
			t.list[i].flow(b)
		}
		b.WriteByte(']')
	case mapping:
		b.WriteByte('{')
		for i := range t.list {
			if i > 0 {
				b.WriteString(", ")
			}
			b.WriteString(quote(t.keys[i]))
			b.WriteString(": ")
			t.list[i].flow(b)
		}
		b.WriteByte('}')
	}
}

func (t *tree) flowText() string {
	var b strings.Builder
	t.flow(&b)
	return b.String()
}

// width is where a record is broken into lines.
const width = 150

// block writes the value of a key at an indent, behind "key:".
func (t *tree) block(b *strings.Builder, indent int, top bool) {
	if flow := t.flowText(); !top && (t.kind == scalar || len(flow)+indent <= width || t.empty()) {
		b.WriteByte(' ')
		b.WriteString(flow)
		b.WriteByte('\n')
		return
	}
	pad := strings.Repeat(" ", indent)
	b.WriteByte('\n')
	if t.kind == sequence {
		for i := range t.list {
			b.WriteString(pad + "-")
			t.list[i].entry(b, indent+2)
		}
		return
	}
	t.fields(b, indent, pad)
}

func (t *tree) fields(b *strings.Builder, indent int, first string) {
	pad := first
	for i := range t.list {
		b.WriteString(pad + quote(t.keys[i]) + ":")
		t.list[i].block(b, indent+2, false)
		pad = strings.Repeat(" ", indent)
	}
}

// entry writes one entry of a list behind its dash.
func (t *tree) entry(b *strings.Builder, indent int) {
	if flow := t.flowText(); t.kind != mapping || len(flow)+indent <= width {
		b.WriteString(" " + flow + "\n")
		return
	}
	t.fields(b, indent, " ")
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
