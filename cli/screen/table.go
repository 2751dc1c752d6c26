package screen

import (
	"fmt"
	"io"
	"strings"

	"github.com/mattn/go-runewidth"
)

// Cell is a piece of a table.
type Cell struct {
	Text string
	Tone Tone
}

// Cell gives a piece of a table in a tone.
func (t Tone) Cell(text string) Cell { return Cell{text, t} }

// Table writes rows in columns, two spaces between them, each line indented. On a terminal that is narrower than the
// rows, the widest columns are shortened; All leaves them.
func (s *Screen) Table(w io.Writer, indent string, rows [][]Cell) {
	if s.Quiet {
		return
	}
	for _, r := range rows {
		for i := range r {
			r[i].Text = s.Inert(r[i].Text)
		}
	}
	s.fit(rows, len(indent))
	var widths []int
	for _, r := range rows {
		for i, c := range r {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			if i < len(r)-1 {
				widths[i] = max(widths[i], min(runewidth.StringWidth(c.Text), 72))
			}
		}
	}
	for _, r := range rows {
		var b strings.Builder
		b.WriteString(indent)
		for i, c := range r {
			b.WriteString(s.Paint(c.Tone, c.Text))
			if i < len(r)-1 {
				b.WriteString(strings.Repeat(" ", max(widths[i]-runewidth.StringWidth(c.Text), 0)+2))
			}
		}
		fmt.Fprintln(w, strings.TrimRight(b.String(), " "))
	}
}

// leastColumn is the width that a column is shortened to at most.
const leastColumn = 12

// fit shortens the widest columns of rows until they fit the terminal, as far as that goes.
func (s *Screen) fit(rows [][]Cell, indent int) {
	if s.Width <= 0 || s.All {
		return
	}
	var widths []int
	for _, r := range rows {
		for i, c := range r {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], runewidth.StringWidth(c.Text))
		}
	}
	total := indent + 2*max(len(widths)-1, 0)
	for _, n := range widths {
		total += n
	}
	for total > s.Width && len(widths) > 0 {
		widest := 0
		for i, n := range widths {
			if n > widths[widest] {
				widest = i
			}
		}
		if widths[widest] <= leastColumn {
			break
		}
		widths[widest]--
		total--
	}
	for _, r := range rows {
		for i := range r {
			switch {
			case runewidth.StringWidth(r[i].Text) <= widths[i]:
			case strings.Contains(r[i].Text, "/") && !strings.Contains(r[i].Text, " "):
				r[i].Text = Middle(r[i].Text, widths[i]) // a path or an address: both ends tell
			default:
				r[i].Text = runewidth.Truncate(r[i].Text, widths[i], "…")
			}
		}
	}
}
