package cli

import (
	"bytes"
	"strings"
	"testing"

	"github.com/mattn/go-runewidth"

	"oakenchest/core/fault"
)

// TestTablesFitTheTerminal writes wide rows at widths from 60 on: no line is wider, paths keep both ends, wide and joined
// letters keep their columns, and where there is no terminal nothing is cut.
func TestTablesFitTheTerminal(t *testing.T) {
	rows := func() [][]cell {
		return [][]cell{
			{{"exhibit/textures/very/deep/folders/of/a/scene/sand.png", plain}, {"Imke", strong},
				{strings.Repeat("a message ", 12), plain}},
			{{"a", plain}, {"水族館のための 👩‍🔬", strong}, {"short", plain}},
			{{"notes/opening.txt", plain}, {"Tarek", strong}, {"", plain}},
		}
	}
	for width := 60; width <= 140; width += 7 {
		var out bytes.Buffer
		app := &App{Out: &out, Width: width}
		app.table(&out, "  ", rows())
		lines := strings.Split(strings.TrimSuffix(out.String(), "\n"), "\n")
		for _, line := range lines {
			if got := runewidth.StringWidth(line); got > width {
				t.Errorf("at %d columns a line has %d: %s", width, got, line)
			}
		}
		if !strings.HasPrefix(lines[0], "  exhibit/") || !strings.Contains(lines[0], "sand.png") {
			t.Errorf("at %d columns the path is %s", width, lines[0])
		}
		at := func(line, word string) int {
			before, _, _ := strings.Cut(line, word)
			return runewidth.StringWidth(before)
		}
		if a, b := at(lines[0], "Imke"), at(lines[2], "Tarek"); a != b {
			t.Errorf("at %d columns the second column stands at %d and %d", width, a, b)
		}
	}
	var whole bytes.Buffer
	(&App{Out: &whole}).table(&whole, "", rows())
	if !strings.Contains(whole.String(), "very/deep/folders/of/a/scene") || strings.Contains(whole.String(), "…") {
		t.Errorf("without a terminal:\n%s", whole.String())
	}
}

// TestQuietIsQuiet writes with every means that a command has: nothing comes through but an error.
func TestQuietIsQuiet(t *testing.T) {
	var out, errs bytes.Buffer
	app := &App{Out: &out, Err: &errs, quiet: true}
	app.say("said")
	app.note("noted")
	app.table(&out, "", [][]cell{{{"a", plain}}})
	if out.Len()+errs.Len() > 0 {
		t.Errorf("quiet says %q and %q", out.String(), errs.String())
	}
	app.report(fault.New(fault.Refused, "Ask.", "It is refused."))
	if out.Len() > 0 || !strings.Contains(errs.String(), "It is refused.") {
		t.Errorf("an error says %q and %q", out.String(), errs.String())
	}
}
