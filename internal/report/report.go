// Package report writes results that travel: as HTML that prints well and as CSV
// (RFC 4180), each stating whose they are, of which moment and revision, how they
// were found, and what was not looked at.
package report

import (
	"html/template"
	"io"
	"slices"
	"strconv"

	"wexillum.example/internal/core/sheet"
)

// Head is what every result states.
type Head struct {
	Title        string
	Organisation string
	Revision     uint64
	Draft        string   // as which it is answered; empty for what is in force
	At           string   // the moment asked about, as a reader reads it
	Method       string   // how it was found
	Not          []string // what was not looked at
}

// Report is a result as a table.
type Report struct {
	Head
	Summary [][2]string // figures, before the table
	Columns []string
	Rows    [][]string
}

// CSV writes the table with three columns more, so that every line can be told
// from which result it is: organisation, revision and moment; and a fourth, the draft, where
// it is answered as one.
func (r *Report) CSV(w io.Writer) error {
	c := sheet.NewWriter(w)
	names, values := []string{"organisation", "revision", "at"}, []string{r.Organisation, strconv.FormatUint(r.Revision, 10), r.At}
	if r.Draft != "" {
		names, values = append(names, "draft"), append(values, r.Draft)
	}
	if err := c.Write(slices.Concat(r.Columns, names)); err != nil {
		return err
	}
	for _, row := range r.Rows {
		if err := c.Write(slices.Concat(row, values)); err != nil {
			return err
		}
	}
	c.Flush()
	return c.Error()
}

// HTML writes the report as a page of its own that prints on A4.
func (r *Report) HTML(w io.Writer) error { return page.Execute(w, r) }

var page = template.Must(template.New("").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>{{.Title}}</title>
<style>
@page { size: A4 landscape; margin: 14mm; }
body { font: 11pt/1.4 "Source Sans 3", "DejaVu Sans", sans-serif; color: #14262c; background: #fff; margin: 2rem auto; max-width: 68rem; padding: 0 1.5rem; }
h1 { font-size: 1.5rem; margin: 0 0 .2rem; } dl { display: grid; grid-template-columns: max-content 1fr; gap: .1rem 1rem; margin: 0 0 1rem; font-size: .9rem; } dt { color: #50646a; } dd { margin: 0; }
.figures { display: flex; flex-wrap: wrap; gap: .4rem 2rem; margin: 0 0 1rem; padding: .5rem 0; border-block: 2px solid #14262c; } .figures b { font-size: 1.15rem; margin-right: .3rem; }
table { border-collapse: collapse; width: 100%; font-size: .86rem; } th, td { text-align: left; vertical-align: top; padding: .22rem .6rem .22rem 0; border-bottom: 1px solid #c6d0cf; overflow-wrap: break-word; } thead th { border-bottom: 2px solid #14262c; } thead { display: table-header-group; } tr { break-inside: avoid; }
@media print { body { margin: 0; max-width: none; padding: 0; } }
</style>
<h1>{{.Title}}</h1>
<dl><dt>Organisation</dt><dd>{{.Organisation}}</dd><dt>Moment</dt><dd>{{.At}}</dd><dt>Revision</dt><dd>{{.Revision}}</dd>{{with .Draft}}<dt>Draft</dt><dd><b>Not in force: as the draft “{{.}}” would make it</b></dd>{{end}}<dt>How</dt><dd>{{.Method}}</dd>{{range .Not}}<dt>Not looked at</dt><dd>{{.}}</dd>{{end}}</dl>
{{if .Summary}}<p class="figures">{{range .Summary}}<span><b>{{index . 1}}</b>{{index . 0}}</span>{{end}}</p>{{end}}
<table><thead><tr>{{range .Columns}}<th scope="col">{{.}}</th>{{end}}</tr></thead><tbody>
{{range .Rows}}<tr>{{range .}}<td>{{.}}</td>{{end}}</tr>
{{else}}<tr><td>Nothing.</td></tr>
{{end}}</tbody></table>
</html>
`))
