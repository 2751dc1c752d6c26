package screen

import (
	"strconv"
	"strings"
	"time"

	"oakenchest/core/element"

	"github.com/mattn/go-runewidth"
)

// OneLine writes a value on one line, in quotes where it would mislead.
func OneLine(s string, most int) string {
	if Quoted(s) {
		s = strconv.Quote(s)
	}
	return runewidth.Truncate(s, most, " …")
}

// Quoted reports whether OneLine writes a text in quotes.
func Quoted(s string) bool {
	return strings.ContainsAny(s, "\n\r\t") || s != strings.TrimSpace(s) || s == ""
}

// Gist is OneLine with nothing for nothing.
func Gist(s string, most int) string {
	if s == "" {
		return ""
	}
	return OneLine(s, most)
}

// Clock writes a time for people.
func Clock(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

// Count writes a number with its noun.
func Count(n int, noun string) string { return element.Counted(n, noun) }

// FirstLine gives a message's first line.
func FirstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return line
}

// Middle shortens a text in its middle to a width in columns.
func Middle(s string, most int) string {
	if runewidth.StringWidth(s) <= most {
		return s
	}
	tail := runewidth.TruncateLeft(s, runewidth.StringWidth(s)-most/2, "")
	return runewidth.Truncate(s, most-runewidth.StringWidth(tail), "…") + tail
}

// Pad gives a text with spaces behind it up to a width in columns.
func Pad(s string, width int) string {
	return s + strings.Repeat(" ", max(width-runewidth.StringWidth(s), 0))
}

// Wrapped parts a text into lines of a width in columns.
func Wrapped(text string, width int) []string {
	var out []string
	line := ""
	for _, word := range strings.Fields(text) {
		if line != "" && runewidth.StringWidth(line)+1+runewidth.StringWidth(word) > width {
			out, line = append(out, line), ""
		}
		if line != "" {
			line += " "
		}
		line += word
	}
	return append(out, line)
}

// Cut writes two values on one line each, of a width at most, cut so that what differs is seen.
func Cut(from, to string, most int) (string, string) {
	if Quoted(from) || Quoted(to) {
		from, to = OneLine(from, 1<<20), OneLine(to, 1<<20)
	}
	if runewidth.StringWidth(from) <= most && runewidth.StringWidth(to) <= most {
		return from, to
	}
	x, y := []rune(from), []rune(to)
	same := 0
	for same < len(x) && same < len(y) && x[same] == y[same] {
		same++
	}
	const before = 12 // characters that are shown before what differs
	if same <= before*2 {
		return runewidth.Truncate(from, most, " …"), runewidth.Truncate(to, most, " …")
	}
	cut := func(r []rune) string {
		return runewidth.Truncate("… "+string(r[same-before:]), most, " …")
	}
	return cut(x), cut(y)
}
