package board

import (
	"fmt"
	"html"
	"io"
	"strings"
	"time"

	"github.com/mattn/go-runewidth"

	"oakenchest/core/pipeline"
	"oakenchest/core/workspace"
)

// svgStyle gives the picture its colours, in light and dark surroundings.
const svgStyle = `
.oak{font-family:"DejaVu Sans","Segoe UI",system-ui,sans-serif;font-size:11px;--paper:#f7f5f1;--band:#eeeae1;--shared:#e3ecec;--ink:#24221e;--soft:#6d675d;--line:#b9b3a4;--box:#ffffff;--edge:#cfc9ba;--good:#3c7a52;--warm:#a8660f;--bad:#ad3730;--cool:#0b6070}
@media (prefers-color-scheme:dark){.oak{--paper:#171b1e;--band:#1f2427;--shared:#1d2930;--ink:#dfe3e4;--soft:#93a0a6;--line:#515a5e;--box:#272d31;--edge:#3d464b;--good:#7fc493;--warm:#dca556;--bad:#ec8078;--cool:#7fd0dc}}
.oak .paper{fill:var(--paper)}.oak .band{fill:var(--band)}.oak .shared{fill:var(--shared)}.oak .box{fill:var(--box);stroke:var(--edge)}
.oak text{fill:var(--ink)}.oak .soft{fill:var(--soft)}.oak .name{font-weight:bold;font-size:13px}.oak .lane{font-weight:bold;font-size:13px}.oak .head{fill:var(--soft);font-size:11px;letter-spacing:.04em}
.oak .move{fill:none;stroke:var(--line);stroke-width:1.5}.oak .busy{stroke:var(--cool);stroke-width:2}.oak .tip{fill:var(--line)}.oak .busytip{fill:var(--cool)}
.oak .good{fill:var(--good)}.oak .warm{fill:var(--warm)}.oak .bad{fill:var(--bad)}.oak .cool{fill:var(--cool)}
.oak .bubble{fill:var(--cool)}.oak .count{fill:var(--box);font-weight:bold;font-size:10px}
`

// SVG draws the landscape as a picture for a page, in its colours, light and dark.
func SVG(w io.Writer, o *pipeline.Overview) error {
	p := &picture{w: w, o: o, at: map[string]box{}}
	l := place(o)
	for _, b := range l.Boxes {
		p.at[b.Name] = b
	}
	p.put(`<svg xmlns="http://www.w3.org/2000/svg" class="oak" width="%d" height="%d" viewBox="0 0 %d %d" role="img"><title>%s</title><style>%s</style>`, l.Width, l.Height, l.Width, l.Height, esc("The pipeline of "+o.Project), svgStyle)
	p.put(`<rect class="paper" width="%d" height="%d"/>`, l.Width, l.Height)
	for _, h := range l.Heads {
		p.put(`<text class="head" x="%d" y="21">%s</text>`, h.X, esc(h.Text))
	}
	for _, b := range l.Bands {
		p.band(b)
	}
	for _, m := range o.Moves {
		p.move(m)
	}
	for _, b := range l.Boxes {
		p.box(b)
	}
	for _, m := range o.Moves {
		p.bubble(m)
	}
	p.put("</svg>\n")
	return p.err
}

// picture writes, and keeps the first error.
type picture struct {
	w   io.Writer
	o   *pipeline.Overview
	at  map[string]box
	err error
}

func (p *picture) put(format string, args ...any) {
	if p.err == nil {
		_, p.err = fmt.Fprintf(p.w, format+"\n", args...)
	}
}

func esc(s string) string { return html.EscapeString(s) }

// fit cuts a text to so many pixels of the ordinary size.
func fit(s string, pixels int) string { return runewidth.Truncate(s, pixels*10/64, "…") }

func (p *picture) band(b band) {
	class, name := "band", b.Name
	if b.Shared {
		class, name = "shared", "shared"
	}
	p.put(`<rect class="%s" x="%d" y="%d" width="%d" height="%d" rx="6"/>`, class, b.X, b.Y, b.Width, b.Height)
	p.put(`<text class="lane" x="%d" y="%d">%s</text>`, b.X+bandPad, b.Y+bandPad+16, esc(fit(name, labelWidth*6/7)))
	y := b.Y + bandPad + 34
	if lane, ok := p.o.Landscape.Manifest.Pipeline.Lane(b.Name); ok {
		for _, who := range wrap(strings.Join(lane.Developers, ", "), labelWidth-8) {
			p.put(`<text class="soft" x="%d" y="%d">%s</text>`, b.X+bandPad, y, esc(who))
			y += 15
		}
	}
	for _, line := range wrap(b.About, labelWidth-8) {
		if y > b.Y+b.Height-6 {
			break
		}
		p.put(`<text class="soft" x="%d" y="%d">%s</text>`, b.X+bandPad, y, esc(line))
		y += 15
	}
}

// wrap breaks a text into lines of so many pixels.
func wrap(s string, pixels int) []string {
	var out []string
	line := ""
	for _, word := range strings.Fields(s) {
		if line != "" && runewidth.StringWidth(line)+1+runewidth.StringWidth(word) > pixels*10/64 {
			out = append(out, line)
			line = ""
		}
		if line != "" {
			line += " "
		}
		line += word
	}
	if line != "" {
		out = append(out, line)
	}
	return out
}

// ends gives where a move leaves its box and where it arrives.
func (p *picture) ends(m pipeline.MoveView) (x1, y1, x2, y2 int, ok bool) {
	from, ok1 := p.at[m.From]
	to, ok2 := p.at[m.To]
	if !ok1 || !ok2 {
		return 0, 0, 0, 0, false
	}
	return from.X + boxWidth, from.Y + boxHeight/2, to.X - 5, to.Y + boxHeight/2, true
}

func (p *picture) move(m pipeline.MoveView) {
	x1, y1, x2, y2, ok := p.ends(m)
	if !ok {
		return
	}
	class, tip := "move", "tip"
	if m.Waiting > 0 {
		class, tip = "move busy", "busytip"
	}
	about := m.About
	if len(m.Gates) > 0 {
		about += " gates: " + strings.Join(m.Gates, ", ")
	}
	p.put(`<g><title>%s</title>`, esc(fmt.Sprintf("%s → %s: %d waiting. %s", m.From, m.To, m.Waiting, about)))
	p.put(`<path class="%s" d="%s"/>`, class, p.path(x1, y1, x2, y2))
	p.put(`<path class="%s" d="M%d %d l-7 -4 v8 z"/></g>`, tip, x2+5, y2)
}

// path leads from one box to another: straight in a row, in a bend otherwise, and past the
// boxes between where it skips a column.
func (p *picture) path(x1, y1, x2, y2 int) string {
	if y1 == y2 && x2-x1 <= gapX {
		return fmt.Sprintf("M%d %d H%d", x1, y1, x2)
	}
	if x2-x1 <= gapX {
		return fmt.Sprintf("M%d %d C%d %d %d %d %d %d", x1, y1, x1+gapX/2, y1, x2-gapX/2, y2, x2, y2)
	}
	turn := x2 - gapX/2
	rail := p.rail(x1, x2, y1)
	return fmt.Sprintf("M%d %d C%d %d %d %d %d %d H%d C%d %d %d %d %d %d", x1, y1, x1+gapX/3, y1, x1+gapX/3, rail, x1+gapX*2/3, rail,
		turn-gapX/3, turn, rail, turn, y2, x2, y2)
}

// rail gives a height at which a long move passes no box.
func (p *picture) rail(x1, x2, y int) int {
	free := func(y int) bool {
		for _, b := range p.at {
			if b.X+boxWidth > x1 && b.X < x2-gapX/2 && y > b.Y-4 && y < b.Y+boxHeight+4 {
				return false
			}
		}
		return true
	}
	for step := 0; step < 2000; step += 3 {
		for _, at := range []int{y + step, y - step} {
			if free(at) {
				return at
			}
		}
	}
	return y
}

// bubble says how many commits wait along a move.
func (p *picture) bubble(m pipeline.MoveView) {
	x1, y1, x2, y2, ok := p.ends(m)
	if !ok || m.Waiting == 0 {
		return
	}
	x, y := (x1+x2)/2, (y1+y2)/2
	if x2-x1 > gapX {
		x, y = x1+gapX, p.rail(x1, x2, y1)
	} else if y1 != y2 { // lines that meet keep their numbers apart near where they begin
		x, y = x1+gapX/4, y1+(y2-y1)/9
	}
	text := fmt.Sprint(m.Waiting)
	width := 12 + 6*len(text)
	p.put(`<rect class="bubble" x="%d" y="%d" width="%d" height="16" rx="8"/><text class="count" x="%d" y="%d" text-anchor="middle">%s</text>`, x-width/2, y-8, width, x, y+4, text)
}

// accent gives the colour of a stage's word.
func accent(word string) string {
	switch word {
	case "level":
		return "good"
	case "drifted", "unfinished", "out of reach", "in doubt":
		return "bad"
	case "owed work", "frozen":
		return "warm"
	case "work waits":
		return "cool"
	}
	return "soft"
}

func (p *picture) box(b box) {
	s := &b.StageView
	word := s.Word()
	p.put(`<a href="#stage-%s"><g><title>%s</title>`, anchor(s.Name), esc(hint(s)))
	p.put(`<rect class="box" x="%d" y="%d" width="%d" height="%d" rx="5"/><rect class="%s" x="%d" y="%d" width="4" height="%d" rx="2"/>`,
		b.X, b.Y, boxWidth, boxHeight, accent(word), b.X, b.Y, boxHeight)
	p.put(`<text class="name" x="%d" y="%d">%s</text><text class="%s" x="%d" y="%d" text-anchor="end">%s</text>`, b.X+14, b.Y+20,
		esc(fit(s.Name, (boxWidth-24)*11/14)), accent(word), b.X+boxWidth-10, b.Y+38, esc(word))
	for i, line := range lines(s, p.o.At) {
		if i == 4 {
			break
		}
		room := boxWidth - 20
		if i == 0 { // the word stands in the same line
			room -= 8 + 6*len(word)
		}
		p.put(`<text class="%s" x="%d" y="%d">%s</text>`, line.class, b.X+14, b.Y+38+16*i, esc(fit(line.text, room)))
	}
	p.put(`</g></a>`)
}

// line is one line of text in a box.
type line struct{ text, class string }

// lines writes what a stage has, and what is to be said of it: the most pressing first.
func lines(s *pipeline.StageView, now time.Time) []line {
	var out []line
	if s.Has == nil {
		out = append(out, line{"nothing deployed yet", "soft"})
	} else {
		has := workspace.Label(*s.Has)
		if s.Release != "" {
			has += " = release " + s.Release
		}
		out = append(out, line{has, ""}, line{s.When.Local().Format("2 Jan 15:04") + " by " + s.By, "soft"})
	}
	var marks []line
	add := func(class, format string, args ...any) {
		marks = append(marks, line{fmt.Sprintf(format, args...), class})
	}
	if s.Unfinished {
		add("bad", "a deployment did not end")
	}
	if s.Drift != nil && s.Drift.Failure != "" {
		add("bad", "out of reach, %s", s.Drift.Time.Local().Format("2 Jan 15:04"))
	} else if s.Drift != nil && s.Drift.Differences > 0 {
		add("bad", "%d changed by hand", s.Drift.Differences)
	}
	for _, b := range s.Bookings {
		if b.Holds(now) {
			add("cool", "%s until %s", b.Lane, b.Until.Local().Format("2 Jan"))
		}
	}
	if s.Freeze != nil {
		add("warm", "frozen: %s", s.Freeze.Why)
	}
	switch {
	case len(s.Owed) > 0 && len(s.Waiting) > 0:
		add("warm", "%d owed, %d waiting", len(s.Owed), len(s.Waiting))
	case len(s.Owed) > 0:
		add("warm", "%d owed, since %s", len(s.Owed), oldest(s).Local().Format("2 Jan"))
	case len(s.Waiting) > 0:
		add("cool", "%d waiting", len(s.Waiting))
	}
	if len(marks) > 2 { // the rest is on the page
		marks[1].text += fmt.Sprintf(" (+%d)", len(marks)-2)
		marks = marks[:2]
	}
	return append(out, marks...)
}

func oldest(s *pipeline.StageView) time.Time {
	t := s.Owed[0].Since
	for _, w := range s.Owed {
		if w.Since.Before(t) {
			t = w.Since
		}
	}
	return t
}

// hint is what is said of a stage when the pointer rests on it.
func hint(s *pipeline.StageView) string {
	out := s.Name
	if s.Tier != "" {
		out += ", " + string(s.Tier)
	}
	if s.About != "" {
		out += ": " + s.About
	}
	if s.Branch != "" {
		out += "; branch " + s.Branch
	}
	if len(s.Controllers) > 0 {
		out += "; " + strings.Join(s.Controllers, ", ") + " decides"
	}
	return out
}

// anchor makes a name fit for an address within the page.
func anchor(name string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
			return r
		}
		return '-'
	}, name)
}
