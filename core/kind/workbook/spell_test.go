package workbook

import "testing"

func FuzzSpell(f *testing.F) {
	for _, s := range []string{"font(b sz:11 color(rgb=FFFF0000) name:Arial)", `style(number="#,##0 \"m\"" fill(patternFill(patternType=solid)))`, "b", `a("x y"=1)`, "x:1", "a(b:\"\" c=\"\")"} {
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
