package screen

import (
	"strings"
	"testing"

	"github.com/mattn/go-runewidth"
)

func TestValuesAreCutAroundWhatDiffers(t *testing.T) {
	long := strings.Repeat("the same words again and again ", 8)
	for _, c := range [][2]string{
		{long + "alpha", long + "omega"}, {"alpha " + long, "omega " + long}, {long + "x" + long, long + "y" + long},
		{long, long + "and more"}, {long + "\nalpha", long + "\nomega"}, {strings.Repeat("魚", 80) + "一", strings.Repeat("魚", 80) + "二"},
	} {
		from, to := Cut(c[0], c[1], 60)
		if from == to || runewidth.StringWidth(from) > 60 || runewidth.StringWidth(to) > 60 {
			t.Errorf("%q, %q are shown as %q, %q", c[0], c[1], from, to)
		}
	}
	if from, to := Cut("red", "blue", 60); from != "red" || to != "blue" {
		t.Errorf("short ones: %q, %q", from, to)
	}
}

func TestAddressesAreShortenedInTheMiddle(t *testing.T) {
	for _, s := range []string{"short", strings.Repeat("a/", 60) + "end.json::item:7.colour", strings.Repeat("魚/", 60) + "end"} {
		got := Middle(s, 40)
		if runewidth.StringWidth(got) > 40 || got[:3] != s[:3] || !strings.HasSuffix(got, s[len(s)-3:]) || len(s) <= 40 && got != s {
			t.Errorf("%q becomes %q", s, got)
		}
	}
}
