package screen

import (
	"bytes"
	"strings"
	"testing"

	"github.com/mattn/go-runewidth"
)

// TestTablesFitTheTerminal writes wide rows at widths from 60 on: no line is wider, paths keep both ends, wide and joined
// letters keep their columns, and where there is no terminal nothing is cut.
func TestTablesFitTheTerminal(t *testing.T) {
	rows := func() [][]Cell {
		return [][]Cell{
			{{"exhibit/textures/very/deep/folders/of/a/scene/sand.png", Plain}, {"Imke", Strong},
				{strings.Repeat("a message ", 12), Plain}},
			{{"a", Plain}, {"水族館のための 👩‍🔬", Strong}, {"short", Plain}},
			{{"notes/opening.txt", Plain}, {"Tarek", Strong}, {"", Plain}},
		}
	}
	for width := 60; width <= 140; width += 7 {
		var out bytes.Buffer
		s := &Screen{Out: &out, Width: width}
		s.Table(&out, "  ", rows())
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
	(&Screen{Out: &whole}).Table(&whole, "", rows())
	if !strings.Contains(whole.String(), "very/deep/folders/of/a/scene") || strings.Contains(whole.String(), "…") {
		t.Errorf("without a terminal:\n%s", whole.String())
	}
}
