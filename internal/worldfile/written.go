package worldfile

import (
	"strconv"
	"strings"
	"unicode/utf8"
)

// written reads the entries of a list in the form in which Write writes them, some thirty times as fast as YAML is read: an entry is
// a line in flow style, or a block of fields of which each is a value in flow style, a list or fields again. Scalars are plain words
// of harmless characters or double-quoted on one line. ok is false for anything else, wrong or not: that is YAML's to judge. What is
// read here has the same nodes at the same places as YAML gives it; a test and a fuzz test hold the two together.
func (*syntax) written(text string, from int) (list *node, ok bool) {
	w := &written{in: text, line: from + 1}
	indent := w.indent()
	if w.at >= len(text) || indent < 0 {
		return nil, false
	}
	n := w.blockList(indent, 0)
	if w.bad || w.at < len(text) {
		return nil, false
	}
	return &n, true
}

// writtenDoc reads a record as it is kept: one value in flow style, and nothing else.
func (s *syntax) writtenDoc(text string) (n *node, ok bool) {
	w := &written{in: text, line: 1 + s.from}
	x := w.flow(0)
	if w.bad || w.at < len(text) || x.kind == scalar {
		return nil, false
	}
	return &x, true
}

// written is where reading stands. It stops where bad is set.
type written struct {
	in    string
	at    int
	line  int // from 1, of the whole file
	start int // where the line begins
	more  int // bytes beyond characters in the line so far
	bad   bool
	slab  []node
	room  int // how many nodes were made room for last
}

// col is the column of a place in the current line, in characters from 1.
func (w *written) col(at int) int { return at - w.start - w.more + 1 }

func (w *written) fail() node {
	w.bad = true
	return node{}
}

// keep moves nodes to where they stay.
func (w *written) keep(list []node) []node {
	if len(list) == 0 {
		return nil
	}
	if len(w.slab) < len(list) {
		w.room = min(max(16, 2*w.room), 512) // a record by itself needs little
		w.slab = make([]node, max(w.room, len(list)))
	}
	out := w.slab[:len(list):len(list)]
	w.slab = w.slab[len(list):]
	copy(out, list)
	return out
}

// indent is how many spaces the line at hand begins with; -1 at a line that is empty, or holds what is not read here.
func (w *written) indent() int {
	k := w.at
	for k < len(w.in) && w.in[k] == ' ' {
		k++
	}
	if k == len(w.in) || w.in[k] == '\n' || w.in[k] == '#' {
		return -1
	}
	return k - w.at
}

// end takes the end of a line.
func (w *written) end() {
	switch {
	case w.at == len(w.in):
	case w.in[w.at] == '\n':
		w.at++
		w.line++
		w.start, w.more = w.at, 0
	default:
		w.bad = true
	}
}

// blockList reads entries behind dashes at an indent, to the first line that is indented less.
func (w *written) blockList(indent, depth int) (n node) {
	n.kind, n.line, n.col = sequence, w.line, indent+1
	var buf [16]node
	list := buf[:0]
	for !w.bad && w.at < len(w.in) {
		switch k := w.indent(); {
		case k < 0 || k > indent:
			return w.fail()
		case k < indent:
			n.values = w.keep(list)
			return
		}
		dash := w.at + indent
		if dash+2 >= len(w.in) || w.in[dash] != '-' || w.in[dash+1] != ' ' || w.in[dash+2] == ' ' {
			return w.fail()
		}
		w.at = dash + 2
		list = append(list, w.entry(indent+2, depth+1))
	}
	n.values = w.keep(list)
	return
}

// entry reads what stands behind a dash.
func (w *written) entry(indent, depth int) node {
	if depth > maxDepth/2 {
		return w.fail()
	}
	switch c := w.in[w.at]; {
	case c == '{' || c == '"':
		n := w.flow(depth)
		w.end()
		return n
	case w.key(w.at) > 0:
		return w.fields(indent, depth, true)
	}
	n := w.plain(false)
	w.end()
	return n
}

// key is the length of the key of a block of fields that begins at a place, 0 where none does.
func (w *written) key(at int) int {
	for k := at; k < len(w.in); k++ {
		switch c := w.in[k]; {
		case c >= 'a' && c <= 'z' || c == '_' || c == '.' && k > at:
		case c >= '0' && c <= '9' && k > at:
		case c == ':' && k > at && (k+1 == len(w.in) || w.in[k+1] == ' ' || w.in[k+1] == '\n'):
			return k - at
		default:
			return 0
		}
	}
	return 0
}

// fields reads fields at an indent, a line each; the first one may stand behind a dash.
func (w *written) fields(indent, depth int, behind bool) (n node) {
	if depth > maxDepth/2 {
		return w.fail()
	}
	n.kind, n.line, n.col = mapping, w.line, indent+1
	var kb, vb [24]node
	keys, values := kb[:0], vb[:0]
	for !w.bad && w.at < len(w.in) {
		if !behind {
			switch k := w.indent(); {
			case k < 0 || k > indent:
				return w.fail()
			case k < indent:
				n.keys, n.values = w.keep(keys), w.keep(values)
				return
			}
			w.at += indent
		}
		behind = false
		size := w.key(w.at)
		if size == 0 {
			return w.fail()
		}
		key := node{text: w.in[w.at : w.at+size], line: w.line, col: w.col(w.at)}
		if !w.newKey(keys, key.text) {
			return w.fail()
		}
		w.at += size + 1
		var v node
		if w.at < len(w.in) && w.in[w.at] == ' ' {
			w.at++
			if w.at < len(w.in) && strings.IndexByte(`{["`, w.in[w.at]) >= 0 {
				v = w.flow(depth + 1)
			} else {
				v = w.plain(false)
			}
			w.end()
		} else {
			w.end()
			k := w.indent()
			switch {
			case w.bad || k <= indent:
				return w.fail()
			case w.in[w.at+k] == '-':
				v = w.blockList(k, depth+1)
			default:
				v = w.fields(k, depth+1, false)
			}
		}
		keys, values = append(keys, key), append(values, v)
	}
	n.keys, n.values = w.keep(keys), w.keep(values)
	return
}

// newKey reports whether a key may stand among others.
func (w *written) newKey(keys []node, text string) bool {
	for i := range keys {
		if keys[i].text == text {
			return false
		}
	}
	return text != ""
}

// flow reads a value in flow style.
func (w *written) flow(depth int) (n node) {
	if w.at >= len(w.in) || depth > maxDepth/2 {
		return w.fail()
	}
	switch w.in[w.at] {
	case '"':
		return w.quoted()
	case '{':
		return w.flowFields(depth)
	case '[':
	default:
		return w.plain(true)
	}
	n.kind, n.line, n.col = sequence, w.line, w.col(w.at)
	w.at++
	var buf [16]node
	list := buf[:0]
	for !w.bad && !w.is(']') {
		if len(list) > 0 && !w.comma() {
			return w.fail()
		}
		at := w.at
		list = append(list, w.flow(depth+1))
		if x := &list[len(list)-1]; x.kind == scalar && !w.bad && w.in[at] != '"' && strings.IndexByte(x.text, ':') >= 0 {
			return w.fail() // some readers take it for a pair
		}
	}
	n.values = w.keep(list)
	return
}

// flowFields reads {key: value, …}.
func (w *written) flowFields(depth int) (n node) {
	n.kind, n.line, n.col = mapping, w.line, w.col(w.at)
	w.at++
	var kb, vb [24]node
	keys, values := kb[:0], vb[:0]
	for !w.bad && !w.is('}') {
		if len(keys) > 0 && !w.comma() || w.at >= len(w.in) {
			return w.fail()
		}
		var key node
		quoted := w.in[w.at] == '"'
		if quoted {
			key = w.quoted()
		} else if size := w.key(w.at); size > 0 {
			key = node{text: w.in[w.at : w.at+size], line: w.line, col: w.col(w.at)}
			w.at += size
		} else {
			return w.fail()
		}
		if w.bad || w.at >= len(w.in) || w.in[w.at] != ':' || !w.newKey(keys, key.text) {
			return w.fail()
		}
		w.at++
		if w.at < len(w.in) && w.in[w.at] == ' ' {
			w.at++
		} else if !quoted {
			return w.fail()
		}
		keys, values = append(keys, key), append(values, w.flow(depth+1))
	}
	n.keys, n.values = w.keep(keys), w.keep(values)
	return
}

// is takes a character where it stands at hand.
func (w *written) is(c byte) bool {
	if w.at < len(w.in) && w.in[w.at] == c {
		w.at++
		return true
	}
	return false
}

// comma takes what stands between two values.
func (w *written) comma() bool {
	if !w.is(',') {
		return false
	}
	w.is(' ')
	return true
}

// harmless are the characters of plain words; others stand in quotes or are YAML's to read.
var harmless = func() (out [256]bool) {
	for c := range out {
		b := byte(c)
		out[c] = b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b >= '0' && b <= '9' || strings.IndexByte("_.@/+-: ", b) >= 0
	}
	return
}()

// plain reads a plain word or several.
func (w *written) plain(flow bool) node {
	at := w.at
	for w.at < len(w.in) && harmless[w.in[w.at]] {
		w.at++
	}
	text := w.in[at:w.at]
	if w.at < len(w.in) {
		if c := w.in[w.at]; c != '\n' && (!flow || c != ',' && c != '}' && c != ']') {
			return w.fail()
		}
	}
	if !plainScalar(text) {
		return w.fail()
	}
	return node{text: text, line: w.line, col: w.col(at)}
}

// quoted reads a text in double quotes that stands on one line.
func (w *written) quoted() node {
	at := w.at + 1
	n := node{line: w.line, col: w.col(w.at)}
	var b []byte // where something is escaped
	for k := at; k < len(w.in); k++ {
		switch c := w.in[k]; {
		case c == '"':
			if n.text = w.in[at:k]; b != nil {
				n.text = string(append(b, n.text...))
			}
			w.at = k + 1
			return n
		case c == '\\':
			b = append(b, w.in[at:k]...)
			if b == nil {
				b = []byte{}
			}
			if k++; k == len(w.in) {
				return w.fail()
			}
			switch w.in[k] {
			case '"', '\\':
				b = append(b, w.in[k])
			case 'n':
				b = append(b, '\n')
			case 't':
				b = append(b, '\t')
			case 'u': // as JSON writes &, < and >
				v, err := strconv.ParseUint(w.in[k+1:min(k+5, len(w.in))], 16, 16)
				if err != nil || k+5 > len(w.in) || v < 0x20 || unshown(string(rune(v))) && v >= 0x7f {
					return w.fail()
				}
				b = utf8.AppendRune(b, rune(v))
				k += 4
			default:
				return w.fail()
			}
			at = k + 1
		case c < 0x20 || c == 0x7f:
			return w.fail()
		case c >= 0xc0 && unshown(w.in[k:]):
			return w.fail()
		case c >= 0x80 && c < 0xc0: // a further byte of a character
			w.more++
		}
	}
	return w.fail()
}

// unshown reports whether a text begins with a break of lines, or a mark that is not shown, beyond ASCII: YAML has rules of its own
// for them (YAML 1.2 §5.4, §5.1).
func unshown(s string) bool {
	switch r, _ := utf8.DecodeRuneInString(s); r {
	case 0x2028, 0x2029, 0xfeff, 0xfffe, 0xffff, utf8.RuneError:
		return true
	default:
		return r < 0xa0
	}
}
