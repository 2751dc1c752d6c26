package rows

import "testing"

// TestEveryColumnOfATableComesBack gives one table twice, as two columns that were lost are.
func TestEveryColumnOfATableComesBack(t *testing.T) {
	a, b := Table{Name: "a", SQL: "a", Refers: []string{"b"}}, Table{Name: "b", SQL: "b"}
	got := ordered([]Wanted{{Table: a, Live: "1"}, {Table: b, Live: "2"}, {Table: a, Live: "3"}})
	order := ""
	for _, w := range got {
		order += w.Live
	}
	if order != "213" {
		t.Errorf("the order is %s, not 213", order)
	}
}
