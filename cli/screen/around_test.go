package screen

import (
	"strings"
	"testing"
)

func TestTextsAreShownAroundWhatDiffers(t *testing.T) {
	same := strings.Repeat("the same\n", 20)
	got := Around(same+"one\n"+same, same+"two\nlines\n"+same, same+same)
	for i, want := range []string{"…|the same|one|the same|…", "…|the same|two|lines|the same|…", "…|the same|the same|…"} {
		if text := strings.Join(got[i], "|"); text != want {
			t.Errorf("text %d is shown as %s, want %s", i, text, want)
		}
	}
	for _, c := range [][]string{{"a", "b", "c"}, {"", "x\ny", ""}, {same, "x", "x"}, {"one\ntwo", "one", "one\ntwo\nthree"}} {
		shown := Around(c...)
		for i := range c {
			if len(shown[i]) > linesShown+2 {
				t.Errorf("%q: %d lines", c[i], len(shown[i]))
			}
			for j := range c {
				if c[i] != c[j] && strings.Join(shown[i], "\n") == strings.Join(shown[j], "\n") {
					t.Errorf("%q and %q are shown alike", c[i], c[j])
				}
			}
		}
	}
}
