// Package screen writes for people at a terminal: lines, tables that fit, colour, progress, questions, lists to choose
// from. All that it writes is inert: what data has in it commands no terminal.
package screen

import (
	"bufio"
	"fmt"
	"io"
	"strings"

	"github.com/fatih/color"
)

// Screen is where a call writes, and how.
type Screen struct {
	Out, Err io.Writer
	// Keys are those that the person presses; nil where there is no terminal for it.
	Keys io.Reader
	// Color says that Out takes colour; Live that Err is a terminal.
	Color, Live bool
	// Width is the terminal's width in columns; 0 for no terminal.
	Width int
	// Quiet lets nothing through but errors; JSON keeps what is for people off Out; All shortens nothing.
	Quiet, JSON, All bool

	bar bar
}

// A Tone repeats in colour what a word says.
type Tone int

// The tones.
const (
	Plain Tone = iota
	Good
	Warm
	Bad
	Faint
	Strong
)

var tones = map[Tone]*color.Color{Good: color.New(color.FgGreen), Warm: color.New(color.FgYellow), Bad: color.New(color.FgRed),
	Faint: color.New(color.FgHiBlack), Strong: color.New(color.Bold)}

func init() {
	for _, c := range tones {
		c.EnableColor() // Paint decides
		begin, end, _ := strings.Cut(c.Sprint("x"), "x")
		ours = append(ours, begin, end)
	}
}

// Paint gives a text in a tone, where there is colour.
func (s *Screen) Paint(t Tone, text string) string {
	if !s.Color || t == Plain {
		return text
	}
	return tones[t].Sprint(text)
}

// Say writes a line of the output for people.
func (s *Screen) Say(format string, args ...any) {
	if !s.JSON && !s.Quiet {
		fmt.Fprintln(s.Out, s.Inert(fmt.Sprintf(format, args...)))
	}
}

// Note writes a line beside the output.
func (s *Screen) Note(format string, args ...any) {
	if !s.Quiet {
		fmt.Fprintln(s.Err, s.Inert(fmt.Sprintf(format, args...)))
	}
}

// Ask puts a question that is answered by yes or anything else.
func (s *Screen) Ask(question string) bool {
	fmt.Fprintf(s.Err, "%s [yes/no] ", s.Inert(question))
	line, _ := bufio.NewReader(s.Keys).ReadString('\n')
	return strings.HasSuffix(strings.ToLower(strings.TrimSpace(line)), "yes") // a terminal may have answered something before
}
