//go:build plot

// Command growth draws docs/growth.svg from the figures in docs/growth.csv.
package main

import (
	"encoding/csv"
	"image/color"
	"log"
	"os"
	"strconv"

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

func main() {
	f, err := os.Open("docs/growth.csv")
	if err != nil {
		log.Fatal(err)
	}
	rows, err := csv.NewReader(f).ReadAll()
	if err != nil {
		log.Fatal(err)
	}
	at := map[string]int{}
	for i, name := range rows[0] {
		at[name] = i
	}
	number := func(row []string, column string) float64 {
		x, err := strconv.ParseFloat(row[at[column]], 64)
		if err != nil {
			log.Fatal(err)
		}
		return x
	}
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
	for _, file := range os.Args[1:] {
		if err := p.Save(20*vg.Centimeter, 12.5*vg.Centimeter, file); err != nil {
			log.Fatal(err)
		}
	}
}
