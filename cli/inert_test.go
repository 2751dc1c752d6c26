package cli

import (
	"bytes"
	"strings"
	"testing"

	"oakenchest/core/fault"
)

// TestOutputIsInert lets data try to move the cursor, hide text and turn it round, by every way that
// text comes out: it is shown, and does nothing. Our own colours stay.
func TestOutputIsInert(t *testing.T) {
	const evil = "a\x1b[2J\x1b]0;title\x07b\rc\u009bd\u202ee\x7f\xff"
	const shown = `a\x1b[2J\x1b]0;title\x07b\x0dc\u009bd\u202ee\x7f\xff`
	for _, colour := range []bool{false, true} {
		var out bytes.Buffer
		a := &App{Out: &out, Err: &out, Color: colour}
		a.say("%s", a.paint(bad, evil))
		a.note("%s", evil)
		a.table(a.Out, "", [][]cell{{{evil, warm}, {"x", plain}}, {{"short", plain}, {evil, faint}}})
		a.report(fault.New(fault.Refused, evil, "%s.", evil))
		text := out.String()
		if n := strings.Count(text, shown); n != 6 {
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
	if a := (&App{}); a.inert("plain, ünïcode → 日本\n\tx") != "plain, ünïcode → 日本\n\tx" {
		t.Error("plain text is changed")
	}
}
