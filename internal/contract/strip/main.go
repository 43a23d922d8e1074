// Command strip takes out of generated code what nobody calls: of a client the second one, which
// reads every answer into a type of its own, and of a server the one that does nothing.
package main

import (
	"bytes"
	"fmt"
	"go/ast"
	"go/format"
	"go/parser"
	"go/token"
	"os"
	"path"
	"strconv"
	"strings"
)

func main() {
	for _, file := range os.Args[1:] {
		if err := strip(file); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
}

func strip(file string) error {
	fset := token.NewFileSet()
	f, err := parser.ParseFile(fset, file, nil, parser.ParseComments)
	if err != nil {
		return err
	}
	gone := map[string]bool{
		"Unimplemented":                true,
		"ClientWithResponses":          true,
		"ClientWithResponsesInterface": true,
		"ClientInterface":              true,
	}
	for _, d := range f.Decls { // what holds an answer that was read
		if g, ok := d.(*ast.GenDecl); ok && g.Tok == token.TYPE {
			for _, s := range g.Specs {
				t := s.(*ast.TypeSpec)
				if x, ok := t.Type.(*ast.StructType); ok && strings.HasSuffix(t.Name.Name, "Response") && holds(x, "HTTPResponse") {
					gone[t.Name.Name] = true
				}
			}
		}
	}
	var out []ast.Decl
	var cut [][2]token.Pos
	for _, d := range f.Decls {
		if drop(d, gone) {
			from := d.Pos()
			switch x := d.(type) {
			case *ast.FuncDecl:
				if x.Doc != nil {
					from = x.Doc.Pos()
				}
			case *ast.GenDecl:
				if x.Doc != nil {
					from = x.Doc.Pos()
				}
			}
			cut = append(cut, [2]token.Pos{from, d.End()})
			continue
		}
		out = append(out, d)
	}
	f.Decls = out
	var comments []*ast.CommentGroup
next:
	for _, c := range f.Comments {
		for _, x := range cut {
			if c.Pos() >= x[0] && c.End() <= x[1] {
				continue next
			}
		}
		comments = append(comments, c)
	}
	f.Comments = comments
	used := map[string]bool{}
	ast.Inspect(f, func(n ast.Node) bool {
		if s, ok := n.(*ast.SelectorExpr); ok {
			if x, ok := s.X.(*ast.Ident); ok {
				used[x.Name] = true
			}
		}
		return true
	})
	for _, d := range f.Decls {
		g, ok := d.(*ast.GenDecl)
		if !ok || g.Tok != token.IMPORT {
			continue
		}
		var specs []ast.Spec
		for _, s := range g.Specs {
			i := s.(*ast.ImportSpec)
			p, _ := strconv.Unquote(i.Path.Value)
			name := path.Base(p)
			if len(name) == 2 && name[0] == 'v' { // of a major version
				name = path.Base(path.Dir(p))
			}
			if i.Name != nil {
				name = i.Name.Name
			}
			if name == "." || used[name] {
				specs = append(specs, s)
			}
		}
		g.Specs = specs
	}
	var b bytes.Buffer
	if err := format.Node(&b, fset, f); err != nil {
		return err
	}
	return os.WriteFile(file, b.Bytes(), 0o644)
}

func holds(s *ast.StructType, field string) bool {
	for _, f := range s.Fields.List {
		for _, n := range f.Names {
			if n.Name == field {
				return true
			}
		}
	}
	return false
}

// drop reports whether a declaration is of the second client.
func drop(d ast.Decl, gone map[string]bool) bool {
	switch x := d.(type) {
	case *ast.GenDecl:
		if x.Tok != token.TYPE {
			return false
		}
		for _, s := range x.Specs {
			if !gone[s.(*ast.TypeSpec).Name.Name] {
				return false
			}
		}
		return true
	case *ast.FuncDecl:
		name := x.Name.Name
		if x.Recv != nil {
			t := x.Recv.List[0].Type
			if p, ok := t.(*ast.StarExpr); ok {
				t = p.X
			}
			i, ok := t.(*ast.Ident)
			return ok && gone[i.Name]
		}
		return name == "NewClientWithResponses" || name == "WithBaseURL" ||
			strings.HasPrefix(name, "Parse") && gone[strings.TrimPrefix(name, "Parse")]
	}
	return false
}
