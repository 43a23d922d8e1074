package worldfile

import (
	"bytes"
	"errors"
	"fmt"
	"sort"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// Error is one thing that is wrong with a file, and where.
type Error struct {
	File string
	Line int // from 1
	Col  int // from 1, in characters
	Msg  string
}

func (e *Error) Error() string {
	if e.File == "" {
		return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Col, e.Msg)
	}
	return fmt.Sprintf("%s:%d:%d: %s", e.File, e.Line, e.Col, e.Msg)
}

// Errors is everything that is wrong with a file, in its order.
type Errors []*Error

func (e Errors) Error() string {
	var b strings.Builder
	for i, x := range e {
		if i > 0 {
			b.WriteByte('\n')
		}
		b.WriteString(x.Error())
	}
	return b.String()
}

// maxErrors ends the reading of a file that is hopeless; maxDepth is deeper than
// any record nests.
const (
	maxErrors = 50
	maxDepth  = 20
)

type nodeKind uint8

const (
	scalar nodeKind = iota
	mapping
	sequence
)

// node is a value of the file with its place, whatever it was written in.
type node struct {
	kind      nodeKind
	text      string
	line, col int
	keys      []node // of a mapping, in order, with values at the same place
	values    []node // of a mapping or sequence
	parts     []part // of a long list that is read a part at a time, instead of values
}

// part is a stretch of the entries of a list, as text.
type part struct {
	text []byte
	from int // lines before it
}

type syntax struct {
	file string
	errs Errors
	from int  // lines before the text
	ends bool // with so many errors, at once
}

// hopeless ends the reading of a file at once; Read catches it.
type hopeless struct{}

func (s *syntax) fail(line, col int, format string, args ...any) {
	if len(s.errs) < maxErrors {
		s.errs = append(s.errs, &Error{s.file, line + s.from, col, fmt.Sprintf(format, args...)})
	}
	if len(s.errs) == maxErrors && s.ends {
		panic(hopeless{})
	}
}

// Where a text is long, the lists at its top are cut into parts of so many
// entries, so that memory holds the syntax of one part at a time.
const (
	longText       = 256 << 10
	entriesInAPart = 400
)

// parse turns text into a tree, or adds to the errors and returns nil.
func (s *syntax) parse(text []byte) *node {
	if len(text) > 0 && len(text) <= longText && text[0] == '{' && !yamlAlone && s.sound(text) { // a record as it is kept
		if n, ok := s.writtenDoc(string(text)); ok {
			return n
		}
	}
	if len(text) > longText && s.sound(text) {
		if n, ok := s.parseParts(text); ok {
			if len(s.errs) > 0 {
				return nil
			}
			return n
		}
	}
	return s.parseWhole(text)
}

// parseParts reads a text whose top is sections in block style, one below the
// other. ok is false where it is written otherwise. Cutting at lines that begin
// an entry is safe: whatever continues an entry is indented further (YAML 1.2
// §8.2.1).
func (s *syntax) parseParts(text []byte) (root *node, ok bool) {
	root = &node{kind: mapping, line: 1, col: 1}
	type section struct {
		name  string
		line  int // of its key, from 1
		start int // offset of its key
		body  int // offset behind the key's line
	}
	var sections []section
	line := 0
	for off := 0; off < len(text); {
		end := off + bytes.IndexByte(text[off:], '\n') + 1
		if end == off {
			end = len(text)
		}
		line++
		l := bytes.TrimRight(text[off:end], "\r\n")
		switch {
		case len(l) == 0 || l[0] == ' ' || l[0] == '#':
		case bytes.HasPrefix(l, []byte("- ")) || len(l) == 1 && l[0] == '-':
			if len(sections) == 0 {
				return nil, false
			}
		default:
			i := bytes.IndexByte(l, ':')
			if i <= 0 || i+1 < len(l) && l[i+1] != ' ' {
				return nil, false
			}
			for _, c := range l[:i] {
				if !(c >= 'a' && c <= 'z' || c == '_') {
					return nil, false
				}
			}
			sections = append(sections, section{string(l[:i]), line, off, end})
		}
		off = end
	}
	for k, sec := range sections {
		stop := len(text)
		if k+1 < len(sections) {
			stop = sections[k+1].start
		}
		for _, o := range root.keys {
			if o.text == sec.name {
				s.fail(sec.line, 1, "the key %q stands here twice", sec.name)
			}
		}
		root.keys = append(root.keys, node{text: sec.name, line: sec.line, col: 1})
		if parts := cut(text[sec.body:stop], sec.line); parts != nil && len(bytes.TrimSpace(text[sec.start:sec.body])) == len(sec.name)+1 {
			root.values = append(root.values, node{kind: sequence, line: sec.line, col: 1, parts: parts})
			continue
		}
		s.from = sec.line - 1
		n := s.parseWhole(text[sec.start:stop])
		s.from = 0
		if n == nil || n.kind != mapping || len(n.values) != 1 {
			return root, true // its errors are told
		}
		root.values = append(root.values, n.values[0])
	}
	return root, true
}

// cut cuts the body of a section into parts, or returns nil where it is no list
// in block style.
func cut(body []byte, from int) (parts []part) {
	indent, n, start, startLine, line := -1, 0, 0, from, from
	for off := 0; off < len(body); {
		end := off + bytes.IndexByte(body[off:], '\n') + 1
		if end == off {
			end = len(body)
		}
		l := bytes.TrimRight(body[off:end], "\r\n ")
		lead := len(l) - len(bytes.TrimLeft(l, " "))
		if rest := l[lead:]; len(rest) > 0 && rest[0] != '#' {
			entry := rest[0] == '-' && (len(rest) == 1 || rest[1] == ' ')
			switch {
			case indent < 0 && !entry:
				return nil
			case indent < 0:
				indent, n = lead, 1
			case entry && lead == indent:
				if n == entriesInAPart {
					parts = append(parts, part{body[start:off], startLine})
					start, startLine, n = off, line, 0
				}
				n++
			case lead <= indent:
				return nil
			}
		}
		line++
		off = end
	}
	if indent < 0 {
		return nil
	}
	return append(parts, part{body[start:], startLine})
}

// yamlAlone leaves everything to YAML, for tests that compare.
var yamlAlone bool

// each calls fn for every entry of a list, reading its parts one after the other; what is in the written form is read ahead.
func (s *syntax) each(n *node, fn func(*node)) {
	for i := range n.values {
		fn(&n.values[i])
	}
	if len(n.parts) == 0 {
		return
	}
	ahead, left := make(chan *node, 8), make(chan struct{})
	defer close(left)
	go func() {
		for _, p := range n.parts {
			list, ok := s.written(string(p.text), p.from)
			if !ok || yamlAlone {
				list = nil
			}
			select {
			case ahead <- list:
			case <-left:
				return
			}
		}
	}()
	for _, p := range n.parts {
		s.from = p.from
		list := <-ahead
		if list == nil {
			list = s.parseWhole(p.text)
		}
		s.from = 0
		if list == nil {
			return
		}
		for i := range list.values {
			fn(&list.values[i])
		}
	}
}

// sound reports whether the text is UTF-8 without NUL; if not, that is told when
// it is read whole.
func (s *syntax) sound(text []byte) bool {
	return utf8.Valid(text) && bytes.IndexByte(text, 0) < 0
}

func (s *syntax) parseWhole(text []byte) *node {
	before := len(s.errs)
	if !utf8.Valid(text) {
		at := 0
		for at < len(text) {
			r, n := utf8.DecodeRune(text[at:])
			if r == utf8.RuneError && n == 1 {
				break
			}
			at += n
		}
		line := bytes.Count(text[:at], []byte("\n")) + 1
		col := utf8.RuneCount(text[bytes.LastIndexByte(text[:at], '\n')+1:at]) + 1
		s.fail(line, col, "the file is not valid UTF-8")
		return nil
	}
	if i := bytes.IndexByte(text, 0); i >= 0 {
		s.fail(bytes.Count(text[:i], []byte("\n"))+1, 1, "the file holds a NUL byte")
		return nil
	}
	tokens := lexer.Tokenize(string(text))
	if !s.shallow(tokens) {
		return nil
	}
	f, err := s.parseTokens(tokens)
	if err != nil {
		line, col, msg := 1, 1, err.Error()
		var located interface {
			GetToken() *token.Token
			GetMessage() string
		}
		if errors.As(err, &located) {
			if t := located.GetToken(); t != nil && t.Position != nil {
				line, col = t.Position.Line, t.Position.Column
			}
			msg = located.GetMessage()
		}
		s.fail(line, col, "%s", firstLine(msg))
		return nil
	}
	var body ast.Node
	for _, d := range f.Docs {
		if d.Body == nil {
			continue
		}
		if body != nil {
			t := d.Body.GetToken()
			s.fail(t.Position.Line, t.Position.Column, "a second document begins here; a file holds one")
			return nil
		}
		body = d.Body
	}
	if body == nil {
		s.fail(1, 1, "the file is empty; it begins with wexillum: 1")
		return nil
	}
	n := s.convert(body)
	if len(s.errs) > before {
		return nil
	}
	return &n
}

// parseTokens calls the parser and takes a panic of it for a syntax error.
func (s *syntax) parseTokens(tokens token.Tokens) (f *ast.File, err error) {
	defer func() {
		if p := recover(); p != nil {
			f, err = nil, fmt.Errorf("the text cannot be read as YAML")
		}
	}()
	return parser.Parse(tokens, 0)
}

func firstLine(s string) string {
	s, _, _ = strings.Cut(strings.TrimSpace(s), "\n")
	return s
}

// shallow refuses what nests deeper than any record, before the parser follows it.
func (s *syntax) shallow(tokens token.Tokens) bool {
	depth, line, dashes := 0, 0, 0
	for _, t := range tokens {
		if t.Position.Line != line {
			line, dashes = t.Position.Line, 0
		}
		switch t.Type {
		case token.SequenceStartType, token.MappingStartType:
			depth++
		case token.SequenceEndType, token.MappingEndType:
			depth--
		case token.SequenceEntryType:
			dashes++
		case token.MappingKeyType:
			s.fail(t.Position.Line, t.Position.Column, "a key is written as a plain word, without ?")
			return false
		case token.DirectiveType:
			s.fail(t.Position.Line, t.Position.Column, "directives are not taken")
			return false
		}
		if depth > maxDepth || dashes > maxDepth || t.Position.IndentNum > 20*maxDepth {
			s.fail(t.Position.Line, t.Position.Column, "this nests deeper than any record does")
			return false
		}
	}
	return true
}

func (s *syntax) convert(n ast.Node) node {
	t := n.GetToken()
	out := node{line: t.Position.Line + s.from, col: t.Position.Column}
	refuse := func(format string, args ...any) node {
		s.fail(t.Position.Line, t.Position.Column, format, args...)
		return out
	}
	entries := func(values []*ast.MappingValueNode) node {
		out.kind = mapping
		seen := map[string]bool{}
		for _, v := range values {
			k := s.convert(v.Key)
			if _, merge := v.Key.(*ast.MergeKeyNode); merge {
				return refuse("merge keys are not taken; write the fields out")
			}
			if k.kind != scalar {
				return refuse("a key is a plain word")
			}
			if seen[k.text] {
				s.fail(k.line-s.from, k.col, "the key %q stands here twice", k.text)
			}
			seen[k.text] = true
			out.keys, out.values = append(out.keys, k), append(out.values, s.convert(v.Value))
		}
		return out
	}
	switch x := n.(type) {
	case *ast.MappingNode:
		out := entries(x.Values)
		if len(out.keys) > 0 && !x.IsFlowStyle {
			out.line, out.col = out.keys[0].line, out.keys[0].col
		}
		return out
	case *ast.MappingValueNode:
		out := entries([]*ast.MappingValueNode{x})
		if len(out.keys) > 0 {
			out.line, out.col = out.keys[0].line, out.keys[0].col
		}
		return out
	case *ast.SequenceNode:
		out.kind = sequence
		for _, v := range x.Values {
			out.values = append(out.values, s.convert(v))
		}
		return out
	case *ast.StringNode:
		out.text = x.Value
		return out
	case *ast.LiteralNode:
		out.text = x.Value.Value
		return out
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.InfinityNode, *ast.NanNode:
		out.text = t.Value
		return out
	case *ast.MergeKeyNode:
		out.text = "<<"
		return out
	case *ast.NullNode:
		return refuse("nothing stands where a value belongs; leave the field out instead")
	case *ast.AnchorNode:
		return refuse("anchors are not taken")
	case *ast.AliasNode:
		return refuse("aliases are not taken")
	case *ast.TagNode:
		return refuse("tags are not taken")
	}
	return refuse("%s is not taken here", n.Type())
}

func (e Errors) sorted() Errors {
	sort.SliceStable(e, func(i, j int) bool {
		if e[i].Line != e[j].Line {
			return e[i].Line < e[j].Line
		}
		return e[i].Col < e[j].Col
	})
	return e
}
