package workbook

import (
	"strings"
	"testing"

	"oakenchest/core/element"
)

func FuzzSpell(f *testing.F) {
	for _, s := range []string{"font(b sz:11 color(rgb=FFFF0000) name:Arial)",
		`style(number="#,##0 \"m\"" fill(patternFill(patternType=solid)))`, "b", `a("x y"=1)`, "x:1", "a(b:\"\" c=\"\")"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		e, err := unspell(s)
		if err != nil {
			return
		}
		words := spell(e)
		again, err := unspell(words)
		if err != nil || spell(again) != words {
			t.Fatalf("%q is %q, and then %v, %v", s, words, again, err)
		}
	})
}

func TestStylesAndRangesInWords(t *testing.T) {
	for style, want := range map[string]string{
		`style(number=0.00 font(b sz:11 color(rgb=FFFF0000) name:Arial) fill(patternFill(patternType=solid fgColor(rgb=FFFFFF00))))`: "bold, Arial 11, in #FF0000, filled #FFFF00, number 0.00",
		`style(number=General font(sz:10 name:Arial) border(left(style=thin) right) alignment(horizontal=center))`:                   "Arial 10, with a border, center",
		"style": "plain", "rubbish(": "",
	} {
		if got := (Kind{}).Say("style", element.TextValue(style)); got != want {
			t.Errorf("%s is said as %q", style, got)
		}
	}
	for keys, want := range map[string]string{"A1 B1 A2 B2": "A1:B2", "A1 A3": "A1 A3", "C5": "C5", "A1 A2 B2 Z1 AA1": "A1:A2 B2 Z1:AA1"} {
		if got := strings.Join(Kind{}.Ranges("cell", strings.Fields(keys)), " "); got != want {
			t.Errorf("%s: %s", keys, got)
		}
	}
}
