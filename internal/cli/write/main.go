// Command write writes which schema of the contract each command of the client prints with -o json, read from the
// program itself: whatever a command hands to be printed has a type, and the types are the contract's.
package main

import (
	"bytes"
	"fmt"
	"go/ast"
	"go/constant"
	"go/importer"
	"go/parser"
	"go/token"
	"go/types"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"runtime"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/cli"
)

const of = "wexillum.example/internal/cli"

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: write PAGE")
		os.Exit(2)
	}
	text, err := page()
	if err == nil {
		err = os.WriteFile(os.Args[1], text, 0o644)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func page() ([]byte, error) {
	s, err := read()
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	b.WriteString("# What each command prints as JSON\n\nThis page is written from the program. With `-o json` a command prints one value, of the schema named here; its fields stand under\n" +
		"`components/schemas` of the [contract](network.md), which a running service gives at `/api/v1/openapi.yaml`. *List of* is a JSON array;\n" +
		"*an entry* has the fields that the [world file](world-file-fields.md) gives its kind. " +
		"Where several are named, a flag chooses. A command that is not here says what it did, as `{\"said\": [\"…\"]}`.\n\n| command | prints |\n|---|---|\n")
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		if c.RunE != nil && c.HasParent() {
			if found := s.printed(c); len(found) > 0 {
				fmt.Fprintf(&b, "| `%s` | %s |\n", strings.TrimPrefix(c.CommandPath(), "wexillum "), strings.Join(found, "; "))
			}
		}
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk(cli.Tree())
	return b.Bytes(), nil
}

// source is the client's program, with the types of everything in it.
type source struct {
	files *token.FileSet
	info  *types.Info
	lits  map[string]*ast.FuncLit        // by where they begin: file name and line
	decls map[types.Object]*ast.FuncDecl // functions and methods
	vars  map[types.Object]ast.Node      // functions kept in variables
	made  map[string][]ast.Node          // what is handed to a helper beside the use and the sentence of a command
}

func read() (*source, error) {
	list := exec.Command("go", "list", "-export", "-deps", "-f", "{{.ImportPath}}\t{{.Export}}", of)
	list.Stderr = os.Stderr
	out, err := list.Output()
	if err != nil {
		return nil, err
	}
	export := map[string]string{}
	for _, l := range strings.Split(string(out), "\n") {
		name, file, _ := strings.Cut(l, "\t")
		export[name] = file
	}
	s := &source{
		files: token.NewFileSet(), lits: map[string]*ast.FuncLit{}, decls: map[types.Object]*ast.FuncDecl{}, vars: map[types.Object]ast.Node{},
		made: map[string][]ast.Node{},
		info: &types.Info{Types: map[ast.Expr]types.TypeAndValue{}, Defs: map[*ast.Ident]types.Object{}, Uses: map[*ast.Ident]types.Object{},
			Selections: map[*ast.SelectorExpr]*types.Selection{}},
	}
	names, err := filepath.Glob("internal/cli/*.go")
	if err != nil {
		return nil, err
	}
	var files []*ast.File
	for _, n := range names {
		if strings.HasSuffix(n, "_test.go") {
			continue
		}
		f, err := parser.ParseFile(s.files, n, nil, parser.SkipObjectResolution)
		if err != nil {
			return nil, err
		}
		files = append(files, f)
	}
	conf := types.Config{Importer: importer.ForCompiler(s.files, "gc",
		func(path string) (io.ReadCloser, error) { return os.Open(export[path]) })}
	if _, err := conf.Check(of, s.files, files, s.info); err != nil {
		return nil, err
	}
	for _, f := range files {
		ast.Inspect(f, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.FuncDecl:
				s.decls[s.info.Defs[n.Name]] = n
			case *ast.FuncLit:
				s.lits[s.place(n.Pos())] = n
			case *ast.CallExpr:
				if len(n.Args) > 2 {
					use, short := s.info.Types[n.Args[0]].Value, s.info.Types[n.Args[1]].Value
					if use != nil && short != nil && use.Kind() == constant.String && short.Kind() == constant.String {
						for _, a := range n.Args[2:] {
							if lit, ok := a.(*ast.FuncLit); ok {
								key := constant.StringVal(use) + "\n" + constant.StringVal(short)
								s.made[key] = append(s.made[key], lit)
							}
						}
					}
				}
			case *ast.AssignStmt:
				for i, l := range n.Lhs {
					if id, ok := l.(*ast.Ident); ok && i < len(n.Rhs) {
						if lit, ok := n.Rhs[i].(*ast.FuncLit); ok && s.info.Defs[id] != nil {
							s.vars[s.info.Defs[id]] = lit
						}
					}
				}
			}
			return true
		})
	}
	return s, nil
}

func (s *source) place(p token.Pos) string {
	at := s.files.Position(p)
	return fmt.Sprintf("%s:%d", filepath.Base(at.Filename), at.Line)
}

// printed lists what a command prints, in words.
func (s *source) printed(c *cobra.Command) []string {
	pc := reflect.ValueOf(c.RunE).Pointer()
	file, line := runtime.FuncForPC(pc).FileLine(pc)
	found := map[string]bool{}
	none := map[types.Object]ast.Expr{}
	if lit := s.lits[fmt.Sprintf("%s:%d", filepath.Base(file), line)]; lit != nil {
		s.walk(lit, found, map[ast.Node]bool{}, none)
	}
	for _, lit := range s.made[c.Use+"\n"+c.Short] { // a helper wrapped what it does
		s.walk(lit, found, map[ast.Node]bool{}, none)
	}
	return slices.Sorted(maps.Keys(found))
}

// walk goes through all that a piece of the program calls.
func (s *source) walk(n ast.Node, found map[string]bool, seen map[ast.Node]bool, given map[types.Object]ast.Expr) {
	if n == nil || seen[n] {
		return
	}
	seen[n] = true
	defer delete(seen, n)
	ast.Inspect(n, func(n ast.Node) bool {
		call, ok := n.(*ast.CallExpr)
		if !ok {
			return true
		}
		var callee types.Object
		switch f := call.Fun.(type) {
		case *ast.Ident:
			callee = s.info.Uses[f]
		case *ast.SelectorExpr:
			callee = s.info.Uses[f.Sel]
		}
		switch {
		case callee == nil:
		case callee.Name() == "records" && callee.Pkg() != nil && callee.Pkg().Path() == of:
			if name := s.named(call.Args[0], given); name != "" {
				found[name] = true
			}
		case s.decls[callee] != nil && callee.Name() != "said":
			d := s.decls[callee]
			inner := maps.Clone(given)
			i := 0
			for _, p := range d.Type.Params.List {
				for _, name := range p.Names {
					if i < len(call.Args) {
						inner[s.info.Defs[name]] = call.Args[i]
					}
					i++
				}
			}
			s.walk(d.Body, found, seen, inner)
		case s.vars[callee] != nil:
			s.walk(s.vars[callee], found, seen, given)
		case given[callee] != nil: // a function that was handed over; a literal was walked where it stands
			if id, ok := given[callee].(*ast.Ident); ok {
				s.walk(s.vars[s.info.Uses[id]], found, seen, given)
			}
		}
		return true
	})
}

// named says the type of what is printed, in the contract's words; what is handed over without a type is looked up where it
// came from.
func (s *source) named(e ast.Expr, given map[types.Object]ast.Expr) string {
	t := s.info.Types[e].Type
	if lit, ok := e.(*ast.CompositeLit); ok && t.String() == "map[string]any" {
		var fields []string
		for _, x := range lit.Elts {
			if key := s.info.Types[x.(*ast.KeyValueExpr).Key].Value; key != nil {
				fields = append(fields, "`"+constant.StringVal(key)+"`")
			}
		}
		return "an object of " + strings.Join(fields, ", ")
	}
	if types.IsInterface(t) {
		if id, ok := e.(*ast.Ident); ok && given[s.info.Uses[id]] != nil {
			return s.named(given[s.info.Uses[id]], given)
		}
		return ""
	}
	return words(t)
}

func words(t types.Type) string {
	switch t := t.(type) {
	case *types.Pointer:
		return words(t.Elem())
	case *types.Basic:
		if t.Kind() == types.String {
			return "text"
		}
	case *types.Slice:
		if inner := words(t.Elem()); inner != "" {
			return "list of " + inner
		}
	case *types.Map:
		return "an entry, with the fields of its kind"
	case *types.Alias:
		return words(types.Unalias(t))
	case *types.Named:
		if t.Obj().Pkg() != nil && strings.HasSuffix(t.Obj().Pkg().Path(), "/contract") {
			return "`" + t.Obj().Name() + "`"
		}
		return words(t.Underlying())
	case *types.Struct:
		var fields []string
		for i := range t.NumFields() {
			name, _, _ := strings.Cut(reflect.StructTag(t.Tag(i)).Get("json"), ",")
			if name == "" {
				name = t.Field(i).Name()
			}
			fields = append(fields, "`"+name+"`")
		}
		return "an object of " + strings.Join(fields, ", ")
	}
	return ""
}
