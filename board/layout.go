// Package board draws a project's pipeline: the landscape as a picture (SVG 1.1), the
// board page around it, and reports of deployments. It is given what it draws (package
// pipeline) and reads nothing itself. Colour only repeats what a word says.
package board

import (
	"slices"

	"oakenchest/core/pipeline"
)

// The measures of the picture, in pixels.
const (
	boxWidth   = 172
	boxHeight  = 98
	gapX       = 50
	gapY       = 14
	bandPad    = 12
	bandGap    = 8
	labelWidth = 118
	headHeight = 34
)

// box is a stage with its place.
type box struct {
	pipeline.StageView
	X, Y int
}

// band is a lane with its place.
type band struct {
	Name, About  string
	Shared       bool
	X, Y, Width  int
	Height, Rows int
}

// heading stands above a column.
type heading struct {
	Text string
	X    int
}

// layout is where everything stands.
type layout struct {
	Width, Height int
	Bands         []band
	Boxes         []box
	Heads         []heading
}

// place gives every stage its place: a band for each lane, the shared one in their
// middle, so that the lines between them are short; a column as the landscape says.
func place(o *pipeline.Overview) layout {
	var l layout
	lanes := o.Lanes()
	lanes = lanes[:len(lanes)-1]
	shared := slices.ContainsFunc(o.Stages, func(s pipeline.StageView) bool { return s.Lane == "" })
	order := slices.Clone(lanes)
	if shared {
		order = slices.Insert(order, (len(lanes)+1)/2, "")
	}
	columns := 0
	for _, s := range o.Stages {
		columns = max(columns, s.Column+1)
	}
	l.Width = labelWidth + columns*boxWidth + (columns-1)*gapX + 2*bandPad
	y := headHeight
	for _, name := range order {
		b := band{Name: name, Shared: name == "", X: 0, Y: y, Width: l.Width, Rows: 1}
		if lane, ok := o.Landscape.Manifest.Pipeline.Lane(name); ok {
			b.About = lane.About
		}
		in := map[int]int{} // how many stand in a column
		for _, s := range o.Stages {
			if s.Lane != name {
				continue
			}
			l.Boxes = append(l.Boxes, box{s, labelWidth + bandPad + s.Column*(boxWidth+gapX), y + bandPad + in[s.Column]*(boxHeight+gapY)})
			in[s.Column]++
			b.Rows = max(b.Rows, in[s.Column])
		}
		b.Height = 2*bandPad + b.Rows*boxHeight + (b.Rows-1)*gapY
		l.Bands = append(l.Bands, b)
		y += b.Height + bandGap
	}
	l.Height = y - bandGap + 4
	l.Heads = headings(o)
	return l
}

// headings names the columns after the tiers that stand in them.
func headings(o *pipeline.Overview) []heading {
	texts := map[int][]string{}
	for _, s := range o.Stages {
		if t := string(s.Tier); t != "" && !slices.Contains(texts[s.Column], t) {
			texts[s.Column] = append(texts[s.Column], t)
		}
	}
	var out []heading
	for column, names := range texts {
		text := ""
		for i, n := range names {
			if i > 0 {
				text += ", "
			}
			text += n
		}
		out = append(out, heading{text, labelWidth + bandPad + column*(boxWidth+gapX)})
	}
	slices.SortFunc(out, func(a, b heading) int { return a.X - b.X })
	return out
}
