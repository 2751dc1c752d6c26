package workbook

import (
	"fmt"
	"strconv"
	"testing"

	"oakenchest/core/element"
)

// sheetOfRows makes the view of a sheet with so many rows, one of them, if any, put in.
func sheetOfRows(rows, put int) *element.Element {
	s := &element.Element{Type: "sheet", Key: "Tanks", Firm: true}
	at := 0
	for i := 1; i <= rows; i++ {
		name := fmt.Sprintf("tank %d", i)
		if i == put {
			at++
			name = "one more"
			i--
			put = 0
		} else {
			at++
		}
		for col, v := range []string{name, strconv.Itoa(i % 7), strconv.Itoa(i % 3)} {
			s.Add(&element.Element{Type: "cell", Key: columnName(col+1) + strconv.Itoa(at), Firm: true,
				Props: []element.Prop{{Name: valueProperty, Value: element.TextValue(v)}}})
		}
		s.Add(&element.Element{Type: "cell", Key: "D" + strconv.Itoa(at), Firm: true,
			Props: []element.Prop{{Name: formulaProperty, Value: element.TextValue(fmt.Sprintf("B%d*2+SUM(B1:B%d)", at, at))}}})
	}
	return (&element.Element{Type: "workbook"}).Add(s)
}

// BenchmarkAlign brings three versions of a sheet with 20,000 rows to a common ground.
func BenchmarkAlign(b *testing.B) {
	base, mine, theirs := sheetOfRows(20_000, 0), sheetOfRows(20_000, 10), sheetOfRows(20_000, 19_000)
	for b.Loop() {
		a, err := Kind{}.Align(base, mine, theirs)
		if err != nil || a == nil {
			b.Fatal(a, err)
		}
		if _, err := a.Back(a.Mine); err != nil {
			b.Fatal(err)
		}
	}
}

// BenchmarkMergeOfRows is the whole merge of them by element, for the ratio.
func BenchmarkMergeOfRows(b *testing.B) {
	base, mine, theirs := sheetOfRows(20_000, 0), sheetOfRows(20_000, 0), sheetOfRows(20_000, 0)
	mine.Children[0].Children[100].Set(valueProperty, element.TextValue("mine"))
	theirs.Children[0].Children[70_000].Set(valueProperty, element.TextValue("theirs"))
	for b.Loop() {
		if _, conflicts := element.Merge("x", base, mine, theirs, nil); len(conflicts) > 0 {
			b.Fatal(conflicts)
		}
	}
}
