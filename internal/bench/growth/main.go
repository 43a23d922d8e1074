//go:build plot

// Command growth draws docs/growth.svg from the figures in docs/growth.csv, and docs/pages.svg from those in docs/pages.csv.
package main

import (
	"encoding/csv"
	"image/color"
	"log"
	"os"
	"sort"
	"strconv"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
)

var series = []struct {
	column string
	name   string
	colour color.RGBA
	shape  draw.GlyphDrawer
}{
	{"reach_x_decision", "reach of a party, x a decision (at most 5)", color.RGBA{19, 88, 101, 255}, draw.CircleGlyph{}},
	{"audience_x_touching", "audience, x touching the candidates (at most 5)", color.RGBA{160, 110, 20, 255}, draw.SquareGlyph{}},
	{
		"population_x_touching",
		"everybody in numbers, x touching every pair (at most 6)",
		color.RGBA{176, 52, 27, 255},
		draw.TriangleGlyph{},
	},
	{"impact_rule_x_touching", "impact of a rule, x touching every pair (at most 6)", color.RGBA{109, 74, 134, 255}, draw.PyramidGlyph{}},
	{"impact_partner_x_reach", "impact of a partner, x reach of its people (at most 5)", color.RGBA{13, 106, 85, 255}, draw.CrossGlyph{}},
}

// table reads a file of figures, with the columns by their names.
func table(name string) (rows [][]string, at map[string]int) {
	f, err := os.Open(name)
	if err != nil {
		log.Fatal(err)
	}
	if rows, err = csv.NewReader(f).ReadAll(); err != nil {
		log.Fatal(err)
	}
	at = map[string]int{}
	for i, name := range rows[0] {
		at[name] = i
	}
	return rows, at
}

func float(text string) float64 {
	x, err := strconv.ParseFloat(text, 64)
	if err != nil {
		log.Fatal(err)
	}
	return x
}

func main() {
	pages("docs/pages.csv", "docs/pages.svg")
	rows, at := table("docs/growth.csv")
	number := func(row []string, column string) float64 { return float(row[at[column]]) }
	p := plot.New()
	p.Title.Text = "How each question grows, beside its floor from the same run"
	p.X.Label.Text = "guests (ten grants each)"
	p.Y.Label.Text = "times the floor"
	p.X.Scale, p.X.Tick.Marker = plot.LogScale{}, plot.LogTicks{Prec: -1}
	p.Y.Min, p.Y.Max = 0, 10
	p.X.Min, p.X.Max = 8000, 1300000
	p.Legend.Top, p.Legend.Left = true, true
	p.Add(plotter.NewGrid())
	for _, s := range series {
		var xs plotter.XYs
		for _, row := range rows[1:] {
			xs = append(xs, plotter.XY{X: number(row, "guests"), Y: number(row, s.column)})
		}
		line, points, err := plotter.NewLinePoints(xs)
		if err != nil {
			log.Fatal(err)
		}
		line.Color, points.Color, points.Shape, points.Radius = s.colour, s.colour, s.shape, vg.Points(4)
		line.Width = vg.Points(1.6)
		p.Add(line, points)
		p.Legend.Add(s.name, line, points)
	}
	save(p, "docs/growth.svg", 12.5)
}

func save(p *plot.Plot, file string, height vg.Length) {
	if err := p.Save(20*vg.Centimeter, height*vg.Centimeter, file); err != nil {
		log.Fatal(err)
	}
}

// pages draws how long every view takes after a change, with names at those that take longest in the largest world.
func pages(from, to string) {
	rows, at := table(from)
	var sizes []string
	for _, name := range rows[0][1:] {
		if n, is := strings.CutSuffix(name, " after a change"); is && !strings.HasPrefix(n, "exponent") {
			sizes = append(sizes, n)
		}
	}
	last := sizes[len(sizes)-1] + " after a change"
	rows = rows[1:]
	sort.Slice(rows, func(i, j int) bool { return float(rows[i][at[last]]) > float(rows[j][at[last]]) })
	p := plot.New()
	p.Title.Text = "How long every view takes right after a change of policy"
	p.X.Label.Text = "guests (ten grants each)"
	p.Y.Label.Text = "milliseconds"
	p.X.Scale, p.X.Tick.Marker = plot.LogScale{}, plot.LogTicks{Prec: -1}
	p.Y.Scale, p.Y.Tick.Marker = plot.LogScale{}, plot.LogTicks{Prec: -1}
	p.X.Min, p.X.Max = 700, 1.6*float(sizes[len(sizes)-1])
	p.Y.Min = 1
	p.Legend.Top, p.Legend.Left = true, true
	p.Add(plotter.NewGrid())
	var named []func()
	for i := len(rows) - 1; i >= 0; i-- {
		var xs plotter.XYs
		for _, n := range sizes {
			xs = append(xs, plotter.XY{X: float(n), Y: max(1, float(rows[i][at[n+" after a change"]]))})
		}
		line, points, err := plotter.NewLinePoints(xs)
		if err != nil {
			log.Fatal(err)
		}
		line.Color, points.Color, points.Radius = color.RGBA{170, 182, 184, 255}, color.RGBA{170, 182, 184, 255}, vg.Points(1.6)
		if i < len(series) {
			line.Color, points.Color, points.Shape, points.Radius = series[i].colour, series[i].colour, series[i].shape, vg.Points(4)
			line.Width = vg.Points(1.6)
			named = append([]func(){func() { p.Legend.Add(rows[i][0], line, points) }}, named...)
		}
		p.Add(line, points)
	}
	for _, add := range named { // the longest first
		add()
	}
	save(p, to, 14)
}
