// Package housemap draws how the packages of the program rest on each other, from their imports.
package housemap

import (
	"fmt"
	"go/build"
	"html"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
)

const module = "wexillum.example/"

// Imports returns, by package below root (as internal/core/engine), what it imports of the others.
// Tests do not count, nor do packages that only tests and commands for the house itself use.
func Imports(root string) (map[string][]string, error) {
	out := map[string][]string{}
	err := filepath.WalkDir(root, func(path string, d os.DirEntry, err error) error {
		if err != nil || !d.IsDir() {
			return err
		}
		name := d.Name()
		if name == "node_modules" || name == "testdata" || strings.HasPrefix(name, ".") && path != root {
			return filepath.SkipDir
		}
		p, err := build.ImportDir(path, 0)
		if err != nil { // no Go here
			return nil
		}
		rel, err := filepath.Rel(root, path)
		if err != nil {
			return err
		}
		rel = filepath.ToSlash(rel)
		if ofTheHouse(rel) {
			return nil
		}
		out[rel] = []string{}
		for _, i := range p.Imports {
			if to, ok := strings.CutPrefix(i, module); ok && !ofTheHouse(to) {
				out[rel] = append(out[rel], to)
			}
		}
		return nil
	})
	return out, err
}

// ofTheHouse are packages that tests and make use and the program does not.
func ofTheHouse(p string) bool {
	for _, x := range []string{"internal/bench", "internal/dbtest", "internal/e2e", "internal/housemap", "internal/worldgen",
		"internal/cataloguedocs"} {
		if p == x || strings.HasPrefix(p, x+"/") {
			return true
		}
	}
	return strings.HasSuffix(p, "/write") || strings.HasSuffix(p, "/strip")
}

// Levels puts each package one above the highest that it imports; those that import none of the
// others are at 0.
func Levels(imports map[string][]string) map[string]int {
	out := map[string]int{}
	var level func(p string) int
	level = func(p string) int {
		if n, ok := out[p]; ok {
			return n
		}
		n := 0
		for _, q := range imports[p] {
			n = max(n, level(q)+1)
		}
		out[p] = n
		return n
	}
	for p := range imports {
		level(p)
	}
	return out
}

// direct leaves out what a package rests on by way of another one already.
func direct(imports map[string][]string) map[string][]string {
	reach := map[string]map[string]bool{}
	var all func(p string) map[string]bool
	all = func(p string) map[string]bool {
		if m, ok := reach[p]; ok {
			return m
		}
		m := map[string]bool{}
		for _, q := range imports[p] {
			m[q] = true
			for r := range all(q) {
				m[r] = true
			}
		}
		reach[p] = m
		return m
	}
	out := map[string][]string{}
	for p, qs := range imports {
		for _, q := range qs {
			if !slices.ContainsFunc(qs, func(r string) bool { return r != q && all(r)[q] }) {
				out[p] = append(out[p], q)
			}
		}
		sort.Strings(out[p])
	}
	return out
}

// In pixels.
const (
	boxW, boxH = 108, 26
	gapX, gapY = 14, 44
	margin     = 20
	perRow     = 9
)

// SVG draws the packages, the ones that rest on nothing at the bottom; an arrow leads from a package
// to what it rests on. What it rests on by way of another is not drawn again.
func SVG(imports map[string][]string) string {
	levels := Levels(imports)
	rows := map[int][]string{}
	top := 0
	for p, n := range levels {
		rows[n] = append(rows[n], p)
		top = max(top, n)
	}
	type at struct{ x, y int }
	place := map[string]at{}
	y, width := margin, margin*2+perRow*(boxW+gapX)
	for n := top; n >= 0; n-- {
		sort.Strings(rows[n])
		for from := 0; from < len(rows[n]); from += perRow {
			row := rows[n][from:min(from+perRow, len(rows[n]))]
			x := (width - len(row)*(boxW+gapX) + gapX) / 2
			for _, p := range row {
				place[p] = at{x, y}
				x += boxW + gapX
			}
			y += boxH + gapY
		}
	}
	var b strings.Builder
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" font-family="sans-serif" font-size="11">`+"\n", width, y)
	fmt.Fprintf(&b, `<title>How the packages rest on each other</title><rect width="100%%" height="100%%" fill="#fbfaf6"/>`+"\n")
	for _, p := range sorted(direct(imports)) {
		for _, q := range direct(imports)[p] {
			f, t := place[p], place[q]
			x1, y1, x2, y2 := f.x+boxW/2, f.y+boxH, t.x+boxW/2, t.y
			mid := (y1 + y2) / 2
			fmt.Fprintf(
				&b,
				`<path d="M%d %d C%d %d %d %d %d %d" fill="none" stroke="#8a9a98" stroke-width="1"/><circle cx="%d" cy="%d" r="2.5" fill="#8a9a98"/>`+"\n",
				x1,
				y1,
				x1,
				mid,
				x2,
				mid,
				x2,
				y2,
				x2,
				y2,
			)
		}
	}
	for _, p := range sorted(imports) {
		a := place[p]
		fill, ink := "#e3ebe9", "#10343a"
		if strings.HasPrefix(p, "internal/core/") {
			fill, ink = "#f4dfa9", "#4a3300"
		}
		name := strings.TrimPrefix(strings.TrimPrefix(p, "internal/"), "cmd/")
		fmt.Fprintf(
			&b,
			`<rect x="%d" y="%d" width="%d" height="%d" rx="4" fill="%s" stroke="#10343a" stroke-width="0.7"/><text x="%d" y="%d" text-anchor="middle" fill="%s">%s</text>`+"\n",
			a.x,
			a.y,
			boxW,
			boxH,
			fill,
			a.x+boxW/2,
			a.y+17,
			ink,
			html.EscapeString(name),
		)
	}
	b.WriteString("</svg>\n")
	return b.String()
}

func sorted[T any](m map[string]T) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}
