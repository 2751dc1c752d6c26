package workbook

import (
	"strings"
	"testing"
)

func TestReferencesAreFound(t *testing.T) {
	for formula, want := range map[string]string{
		"SUM(B2:B9)*2": "B2:B9",
		`IF(A1="A1",'My ''A1'' sheet'!$C$3,Tank!B2)`: "A1, My 'A1' sheet!$C$3, Tank!B2",
		"LOG10(A1)+A1B+Q1_total+A1.b":                "A1",
		"SUM(3:5)+SUM($C:D)+1.5E3":                   "3:5, $C:D",
		"[1]Tank!A1+'[2]Tank'!A1+B2":                 "B2",
		"Table1[A1]+Table1[[#All],[B2]]":             "",
		"ATAN2(B1,C1)":                               "B1, C1",
		"A1:B2 C3":                                   "A1:B2, C3",
		"Preis€+Ä1":                                  "",
	} {
		var found []string
		got, err := mapRefs(formula, func(r ref) (ref, error) {
			name := r.String()
			if r.sheet != "" {
				name = r.sheet + "!" + name
			}
			found = append(found, name)
			return r, nil
		})
		if err != nil || got != formula || strings.Join(found, ", ") != want {
			t.Errorf("%s became %s with %q, %v; want %q", formula, got, found, err, want)
		}
	}
	for _, c := range [][2]string{{"A1+$A1+A$1+$A$1", "B3+$A3+B$1+$A$1"}, {"SUM(A1:B2)", "SUM(B3:C4)"}, {"3:3", "5:5"}, {"A:A", "B:B"}} {
		if got, err := moved(c[0], 2, 1); err != nil || got != c[1] {
			t.Errorf("%s filled down by 2 and right by 1 is %s, %v; want %s", c[0], got, err, c[1])
		}
	}
	if _, err := moved("A1", -1, 0); err == nil {
		t.Error("a reference leads above the sheet")
	}
}

func FuzzReferences(f *testing.F) {
	f.Add("SUM('a b'!A1:$B$2)+[1]x!C3")
	f.Fuzz(func(t *testing.T, formula string) {
		got, err := mapRefs(formula, func(r ref) (ref, error) { return r, nil })
		if err == nil && !strings.EqualFold(got, formula) {
			t.Errorf("%q became %q", formula, got)
		}
	})
}
