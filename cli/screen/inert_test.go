package screen

import (
	"bytes"
	"strings"
	"testing"
)

// TestOutputIsInert lets data try to move the cursor, hide text and turn it round, by every way that
// text comes out: it is shown, and does nothing. Our own colours stay.
func TestOutputIsInert(t *testing.T) {
	const evil = "a\x1b[2J\x1b]0;title\x07b\rc\u009bd\u202ee\x7f\xff"
	const shown = `a\x1b[2J\x1b]0;title\x07b\x0dc\u009bd\u202ee\x7f\xff`
	for _, colour := range []bool{false, true} {
		var out bytes.Buffer
		s := &Screen{Out: &out, Err: &out, Color: colour}
		s.Say("%s", s.Paint(Bad, evil))
		s.Note("%s", evil)
		s.Table(s.Out, "", [][]Cell{{{evil, Warm}, {"x", Plain}}, {{"short", Plain}, {evil, Faint}}})
		text := out.String()
		if n := strings.Count(text, shown); n != 4 {
			t.Errorf("%v: shown %d times in %q", colour, n, text)
		}
		for _, c := range ours {
			text = strings.ReplaceAll(text, c, "")
		}
		if i := strings.IndexFunc(text, commands); i >= 0 {
			t.Errorf("%v: %q", colour, text[i:])
		}
		if colour != strings.Contains(out.String(), "\x1b[31m") {
			t.Errorf("%v: our colours: %q", colour, out.String())
		}
	}
	if s := (&Screen{}); s.Inert("plain, ünïcode → 日本\n\tx") != "plain, ünïcode → 日本\n\tx" {
		t.Error("plain text is changed")
	}
}
