// Package help reads the documentation: its pages as HTML, and where something is said.
package help

import (
	"bytes"
	"cmp"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"unicode"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/extension"
	"github.com/yuin/goldmark/parser"
	"github.com/yuin/goldmark/text"
)

// Page is one page of the documentation. Its name is its path without .md, as guests or catalogue/rules/mail.forward.
type Page struct {
	Name, Title string
	HTML        string // links to other pages lead to /help/NAME; what is outside is no link
	Sections    []Section
}

// Section is what stands under one heading, up to the next one.
type Section struct {
	Anchor string // of the heading; empty above the first one
	Title  string
	text   string // what it says, in lower case
	said   string
}

// Book is the whole documentation.
type Book struct {
	pages  []Page
	byName map[string]*Page
}

// Read reads every page below a file system.
func Read(files fs.FS) (*Book, error) {
	b := &Book{byName: map[string]*Page{}}
	err := fs.WalkDir(files, ".", func(at string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || path.Ext(at) != ".md" {
			return err
		}
		source, err := fs.ReadFile(files, at)
		if err != nil {
			return err
		}
		p, err := read(files, at, source)
		b.pages = append(b.pages, p)
		return err
	})
	for i := range b.pages {
		b.byName[b.pages[i].Name] = &b.pages[i]
	}
	return b, err
}

func nameOf(at string) string { return strings.TrimSuffix(at, ".md") }

// read makes HTML of a page. Raw HTML in it is left out, and so are pictures, which the program does not hold.
func read(files fs.FS, at string, source []byte) (Page, error) {
	md := goldmark.New(goldmark.WithExtensions(extension.Table), goldmark.WithParserOptions(parser.WithAutoHeadingID()))
	doc := md.Parser().Parse(text.NewReader(source))
	p := Page{Name: nameOf(at)}
	var pictures, nowhere []ast.Node
	here := Section{}
	var words strings.Builder
	close := func() {
		here.said = strings.Join(strings.Fields(words.String()), " ")
		here.text = strings.ToLower(here.Title + " " + here.said)
		if here.Title != "" || here.said != "" {
			p.Sections = append(p.Sections, here)
		}
		words.Reset()
	}
	err := ast.Walk(doc, func(n ast.Node, enter bool) (ast.WalkStatus, error) {
		if !enter {
			if n.Type() == ast.TypeBlock {
				words.WriteByte(' ')
			}
			return ast.WalkContinue, nil
		}
		switch v := n.(type) {
		case *ast.Image:
			pictures = append(pictures, n)
			return ast.WalkSkipChildren, nil
		case *ast.Link:
			if v.Destination = []byte(leads(files, at, string(v.Destination))); len(v.Destination) == 0 {
				nowhere = append(nowhere, n)
			}
		case *ast.Heading:
			close()
			id, _ := v.AttributeString("id")
			anchor, _ := id.([]byte)
			here = Section{Anchor: string(anchor), Title: string(plain(v, source))}
			if p.Title == "" {
				p.Title = here.Title
			}
			return ast.WalkContinue, nil
		case *ast.Text:
			if _, heading := n.Parent().(*ast.Heading); !heading {
				words.Write(v.Segment.Value(source))
				if v.SoftLineBreak() || v.HardLineBreak() {
					words.WriteByte(' ')
				}
			}
		case *ast.FencedCodeBlock:
			for i := range v.Lines().Len() {
				line := v.Lines().At(i)
				words.Write(line.Value(source))
			}
		}
		return ast.WalkContinue, nil
	})
	if err != nil {
		return p, err
	}
	close()
	for _, n := range pictures {
		n.Parent().RemoveChild(n.Parent(), n)
	}
	for _, n := range nowhere { // what it says stays
		for c := n.FirstChild(); c != nil; c = n.FirstChild() {
			n.Parent().InsertBefore(n.Parent(), n, c)
		}
		n.Parent().RemoveChild(n.Parent(), n)
	}
	var out bytes.Buffer
	if err := md.Renderer().Render(&out, source, doc); err != nil {
		return p, fmt.Errorf("%s: %w", at, err)
	}
	p.HTML = reachable.Replace(out.String())
	return p, nil
}

// reachable lets whoever has no mouse scroll what is wider than the page, and leaves no heading of a column empty.
var reachable = strings.NewReplacer(
	"<pre>", `<pre tabindex="0">`,
	"<table>", `<div class="help-table" tabindex="0" role="group" aria-label="Table"><table>`, "</table>", "</table></div>",
	"<th></th>", "<td></td>",
)

// plain is what a heading says.
func plain(n ast.Node, source []byte) (out []byte) {
	for c := n.FirstChild(); c != nil; c = c.NextSibling() {
		if t, ok := c.(*ast.Text); ok {
			out = append(out, t.Segment.Value(source)...)
		} else {
			out = append(out, plain(c, source)...)
		}
	}
	return out
}

// leads is where a link of a page leads within the console; empty where it leads nowhere there.
func leads(files fs.FS, at, to string) string {
	if strings.Contains(to, "://") || strings.HasPrefix(to, "#") {
		return to
	}
	to, anchor, _ := strings.Cut(to, "#")
	file := path.Join(path.Dir(at), to)
	if _, err := fs.Stat(files, file); err != nil || path.Ext(file) != ".md" {
		return ""
	}
	if anchor != "" {
		anchor = "#" + anchor
	}
	return "/help/" + nameOf(file) + anchor
}

// Page returns a page; nil where there is none.
func (b *Book) Page(name string) *Page { return b.byName[name] }

// Found is where something is said.
type Found struct {
	Page, PageTitle, Anchor, Title string
	Said                           string // around the first word that was found
}

// reference are pages that name everything, and are rarely what somebody looks for.
var reference = []string{"changelog", "operations", "architecture", "numbers", "world-file-fields", "client-json", "README"}

// Find lists where words are said, the best places first: in the title of a section before in what it says, and on
// the pages about tasks before in the catalogue. All words must be there, or begin a word that is.
func (b *Book) Find(query string, limit int) (out []Found) {
	words := strings.FieldsFunc(strings.ToLower(query),
		func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsNumber(r) && r != '_' && r != '.' })
	if len(words) == 0 {
		return nil
	}
	type hit struct {
		Found
		score int
	}
	var hits []hit
	for i := range b.pages {
		p := &b.pages[i]
		for j := range p.Sections {
			s := &p.Sections[j]
			score := 0
			for _, w := range words {
				at := begins(s.text, w)
				if at < 0 {
					score = -1
					break
				}
				score++
				if begins(strings.ToLower(s.Title), w) >= 0 {
					score += 4
				}
				if j > 0 && begins(strings.ToLower(p.Title), w) >= 0 { // of the first section it is the same
					score += 2
				}
			}
			if score < 0 {
				continue
			}
			switch {
			case strings.Contains(p.Name, "/"): // about one rule or one kind of system
				score -= 5
			case slices.Contains(reference, p.Name):
				score -= 2
			}
			hits = append(hits, hit{Found{p.Name, p.Title, s.Anchor, s.Title, around(s.said, words[0])}, score})
		}
	}
	slices.SortStableFunc(hits, func(a, b hit) int { return cmp.Compare(b.score, a.score) })
	for i := range hits[:min(limit, len(hits))] {
		out = append(out, hits[i].Found)
	}
	return out
}

// begins returns where a word begins with w in a text of lower case; -1 for nowhere.
func begins(text, w string) int {
	for from := 0; ; {
		i := strings.Index(text[from:], w)
		if i < 0 {
			return -1
		}
		if at := from + i; at == 0 || !unicode.IsLetter(rune(text[at-1])) {
			return at
		}
		from += i + 1
	}
}

// around is some hundred letters about the first place of a word.
func around(said, w string) string {
	const before, after = 60, 140
	at := max(0, begins(strings.ToLower(said), w))
	if len(strings.ToLower(said)) != len(said) { // letters that change their length
		at = 0
	}
	from, to := max(0, at-before), min(len(said), at+after)
	for from > 0 && said[from-1] != ' ' {
		from--
	}
	for to < len(said) && said[to] != ' ' {
		to++
	}
	out := said[from:to]
	if from > 0 {
		out = "… " + out
	}
	if to < len(said) {
		out += " …"
	}
	return out
}
