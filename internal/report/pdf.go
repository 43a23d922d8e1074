package report

import (
	"fmt"
	"io"
	"strconv"

	"codeberg.org/go-fonts/liberation/liberationsansbold"
	"codeberg.org/go-fonts/liberation/liberationsansregular"
	"codeberg.org/go-pdf/fpdf"
)

// Of a page of A4 on its side, in millimetres.
const (
	margin   = 14.0
	inside   = 297.0 - 2*margin
	lastLine = 210.0 - margin
	small    = 4.4 // height of a line of the table
)

// PDF writes the report as A4 pages (ISO 32000-1) with the same words as HTML; the columns stand above every page of the table.
func (r *Report) PDF(w io.Writer) error {
	p := fpdf.New("L", "mm", "A4", "")
	p.AddUTF8FontFromBytes("sans", "", liberationsansregular.TTF)
	p.AddUTF8FontFromBytes("sans", "B", liberationsansbold.TTF)
	p.SetTitle(r.Title, true)
	p.SetAuthor(r.Organisation, true)
	p.SetMargins(margin, margin, margin)
	p.SetAutoPageBreak(true, margin)
	p.AliasNbPages("{pages}")
	p.SetFooterFunc(func() {
		p.SetY(-margin + 3)
		p.SetFont("sans", "", 8)
		p.SetTextColor(80, 100, 106)
		p.CellFormat(inside/2, 4, r.Organisation, "", 0, "L", false, 0, "")
		p.CellFormat(inside/2, 4, fmt.Sprintf("Page %d of {pages}", p.PageNo()), "", 0, "R", false, 0, "")
	})
	p.AddPage()
	p.SetTextColor(20, 38, 44)
	p.SetFont("sans", "B", 16)
	p.MultiCell(inside, 7, r.Title, "", "L", false)
	p.Ln(1)
	fact := func(name, says string, bold bool) {
		p.SetFont("sans", "", 9)
		p.SetTextColor(80, 100, 106)
		p.CellFormat(48, small, name, "", 0, "L", false, 0, "")
		p.SetTextColor(20, 38, 44)
		if bold {
			p.SetFont("sans", "B", 9)
		}
		p.MultiCell(inside-48, small, says, "", "L", false)
	}
	fact("Organisation", r.Organisation, false)
	fact("Moment", r.At, false)
	fact("Revision", strconv.FormatUint(r.Revision, 10), false)
	if r.Draft != "" {
		fact("Draft", "Not in force: as the draft “"+r.Draft+"” would make it", true)
	}
	fact("How", r.Method, false)
	for _, n := range r.Not {
		fact("Not looked at", n, false)
	}
	p.Ln(1)
	for _, s := range r.Summary {
		fact(s[0], s[1], true)
	}
	p.Ln(3)
	r.table(p)
	return p.Output(w)
}

// table writes the rows, each on one page.
func (r *Report) table(p *fpdf.Fpdf) {
	widths := r.widths(p)
	p.SetDrawColor(198, 208, 207)
	row := func(cells []string, style string) {
		p.SetFont("sans", style, 8.5)
		lines, n := make([][]string, len(cells)), 1
		for i, c := range cells {
			if i < len(widths) {
				lines[i] = p.SplitText(c, widths[i]-2)
				n = max(n, len(lines[i]))
			}
		}
		y := p.GetY()
		for i := range lines {
			x := margin
			for _, v := range widths[:min(i, len(widths))] {
				x += v
			}
			for k, l := range lines[i] {
				p.SetXY(x, y+float64(k)*small)
				p.CellFormat(widths[i], small, l, "", 0, "L", false, 0, "")
			}
		}
		y += float64(n)*small + 0.6
		p.Line(margin, y, margin+inside, y)
		p.SetXY(margin, y+0.6)
	}
	height := func(cells []string) float64 {
		p.SetFont("sans", "", 8.5)
		n := 1
		for i, c := range cells {
			if i < len(widths) {
				n = max(n, len(p.SplitText(c, widths[i]-2)))
			}
		}
		return float64(n)*small + 1.2
	}
	row(r.Columns, "B")
	if len(r.Rows) == 0 {
		row([]string{"Nothing."}, "")
	}
	for _, cells := range r.Rows {
		if p.GetY()+height(cells) > lastLine {
			p.AddPage()
			p.SetTextColor(20, 38, 44)
			row(r.Columns, "B")
		}
		row(cells, "")
	}
}

// widths shares the page among the columns by what stands in them, none below what its own name takes.
func (r *Report) widths(p *fpdf.Fpdf) []float64 {
	p.SetFont("sans", "B", 8.5)
	out, least := make([]float64, len(r.Columns)), make([]float64, len(r.Columns))
	for i, c := range r.Columns {
		least[i] = p.GetStringWidth(c) + 4
		out[i] = least[i]
	}
	for k, cells := range r.Rows {
		if k == 200 { // these tell enough
			break
		}
		for i, c := range cells {
			if i < len(out) {
				out[i] = max(out[i], min(p.GetStringWidth(c)+3, inside/2))
			}
		}
	}
	total, spare := 0.0, inside
	for i := range out {
		total += out[i] - least[i]
		spare -= least[i]
	}
	for i := range out {
		if total > 0 {
			out[i] = least[i] + (out[i]-least[i])*spare/total
		} else {
			out[i] = inside / float64(len(out))
		}
	}
	return out
}
