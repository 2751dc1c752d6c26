package cli

import (
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/fatih/color"
	"github.com/mattn/go-runewidth"
	"github.com/schollz/progressbar/v3"

	"oakenchest/core/fault"
)

// A tone repeats in colour what a word says.
type tone int

const (
	plain tone = iota
	good
	warm
	bad
	faint
	strong
)

var tones = map[tone]*color.Color{good: color.New(color.FgGreen), warm: color.New(color.FgYellow), bad: color.New(color.FgRed),
	faint: color.New(color.FgHiBlack), strong: color.New(color.Bold)}

func init() {
	for _, c := range tones {
		c.EnableColor() // paint decides
		begin, end, _ := strings.Cut(c.Sprint("x"), "x")
		ours = append(ours, begin, end)
	}
}

func (a *App) paint(t tone, s string) string {
	if !a.Color || t == plain {
		return s
	}
	return tones[t].Sprint(s)
}

// cell is a piece of a table.
type cell struct {
	text string
	tone tone
}

// table writes rows in columns, two spaces between them, each line indented. On a terminal that is narrower than the
// rows, the widest columns are shortened; --all leaves them.
func (a *App) table(w io.Writer, indent string, rows [][]cell) {
	if a.quiet {
		return
	}
	for _, r := range rows {
		for i := range r {
			r[i].text = a.inert(r[i].text)
		}
	}
	a.fit(rows, len(indent))
	var widths []int
	for _, r := range rows {
		for i, c := range r {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			if i < len(r)-1 {
				widths[i] = max(widths[i], min(runewidth.StringWidth(c.text), 72))
			}
		}
	}
	for _, r := range rows {
		var b strings.Builder
		b.WriteString(indent)
		for i, c := range r {
			b.WriteString(a.paint(c.tone, c.text))
			if i < len(r)-1 {
				b.WriteString(strings.Repeat(" ", max(widths[i]-runewidth.StringWidth(c.text), 0)+2))
			}
		}
		fmt.Fprintln(w, strings.TrimRight(b.String(), " "))
	}
}

// leastColumn is the width that a column is shortened to at most.
const leastColumn = 12

// fit shortens the widest columns of rows until they fit the terminal, as far as that goes.
func (a *App) fit(rows [][]cell, indent int) {
	if a.Width <= 0 || a.all {
		return
	}
	var widths []int
	for _, r := range rows {
		for i, c := range r {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], runewidth.StringWidth(c.text))
		}
	}
	total := indent + 2*max(len(widths)-1, 0)
	for _, n := range widths {
		total += n
	}
	for total > a.Width && len(widths) > 0 {
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
			case runewidth.StringWidth(r[i].text) <= widths[i]:
			case strings.Contains(r[i].text, "/") && !strings.Contains(r[i].text, " "):
				r[i].text = middle(r[i].text, widths[i]) // a path or an address: both ends tell
			default:
				r[i].text = runewidth.Truncate(r[i].text, widths[i], "…")
			}
		}
	}
}

// oneLine writes a value on one line, in quotes where it would mislead.
func oneLine(s string, most int) string {
	if quoted(s) {
		s = strconv.Quote(s)
	}
	return runewidth.Truncate(s, most, " …")
}

// gist is oneLine with nothing for nothing.
func gist(s string, most int) string {
	if s == "" {
		return ""
	}
	return oneLine(s, most)
}

// clock writes a time for people.
func clock(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

// count writes a number with its noun.
func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// firstLine gives a message's first line.
func firstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return line
}

// progress shows long work on a terminal.
type progress struct {
	bar   *progressbar.ProgressBar
	what  string
	began time.Time
}

const progressAfter = 400 * time.Millisecond

// show gives the function that core tells how far it is; nil without a terminal.
func (p *progress) show(a *App) func(string, int, int) {
	if !a.Live || a.quiet {
		return nil
	}
	return func(what string, done, total int) {
		what = a.inert(what)
		if p.what != what {
			p.clear()
			p.what, p.began = what, time.Now()
		}
		if time.Since(p.began) < progressAfter {
			return
		}
		if p.bar == nil {
			if total == 0 {
				total = -1
			}
			p.bar = progressbar.NewOptions(total, progressbar.OptionSetWriter(a.Err), progressbar.OptionSetDescription(what),
				progressbar.OptionClearOnFinish(),
				progressbar.OptionShowCount(), progressbar.OptionThrottle(100*time.Millisecond))
		}
		_ = p.bar.Set(done)
	}
}

func (p *progress) clear() {
	if p.bar != nil {
		_ = p.bar.Clear()
	}
	p.bar, p.what = nil, ""
}

// usageText makes an error about a value of the call.
func usageText(hint string, err error) error { return fault.New(fault.Usage, hint, "%w.", err) }
