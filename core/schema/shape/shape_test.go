package shape

import (
	"strings"
	"testing"

	"oakenchest/core/element"
)

func tank() *element.Element {
	e := &element.Element{Type: "table", Key: "tank"}
	e.Add(&element.Element{Type: "column", Key: "name"}, &element.Element{Type: "index", Key: "name"},
		&element.Element{Type: "column", Key: "litres"})
	SetText(e, "comment", "All tanks")
	SetText(e, "engine", "")
	SetTrue(e, "strict", true)
	SetTrue(e, "temporary", false)
	return e
}

func TestChildrenAreFoundByTypeAndKey(t *testing.T) {
	e := tank()
	if k := Kid(e, "index", "name"); k == nil || k.Type != "index" {
		t.Errorf("the index is %v", k)
	}
	if k := Kid(e, "index", "litres"); k != nil {
		t.Errorf("an index that is not there: %v", k)
	}
	if kids := Kids(e, "column"); len(kids) != 2 || kids[0].Key != "name" {
		t.Errorf("columns in their order: %v", kids)
	}
	if kids := SortedKids(e, "column"); len(kids) != 2 || kids[0].Key != "litres" {
		t.Errorf("columns by key: %v", kids)
	}
}

func TestPropertiesSaySomethingOrAreNotThere(t *testing.T) {
	e := tank()
	for name, want := range map[string]bool{"comment": true, "engine": false, "strict": true, "temporary": false} {
		if Has(e, name) != want {
			t.Errorf("%s is there: %t", name, !want)
		}
	}
	if Text(e, "comment") != "All tanks" || Text(e, "none") != "" {
		t.Error("texts of properties")
	}
}

// TestSamePropsTriesToLie compares elements that differ in one property each way: more, fewer, another value, no value.
func TestSamePropsTriesToLie(t *testing.T) {
	all := func(string) bool { return true }
	a := tank()
	if !SameProps(a, tank(), all) {
		t.Error("equal ones differ")
	}
	b := tank()
	SetText(b, "engine", "innodb")
	for _, pair := range [][2]*element.Element{{a, b}, {b, a}} {
		if SameProps(pair[0], pair[1], all) {
			t.Error("one with more is the same")
		}
		if !SameProps(pair[0], pair[1], func(name string) bool { return name != "engine" }) {
			t.Error("what does not count counts")
		}
	}
	c := tank()
	c.Set("comment", element.TextValue("Other tanks"))
	d := &element.Element{Type: "table", Key: "tank"}
	SetText(d, "note", "All tanks") // as many, of other names
	SetTrue(d, "loose", true)
	for _, other := range []*element.Element{c, d} {
		if SameProps(a, other, all) || SameProps(other, a, all) {
			t.Errorf("%v is the same", other.Props)
		}
	}
}

func TestClipKeepsWholeLetters(t *testing.T) {
	long := strings.Repeat("ü", 100)
	if got := Clip(long); got != strings.Repeat("ü", 60)+" …" {
		t.Error(got)
	}
	if Clip("short") != "short" {
		t.Error("a short text is clipped")
	}
}
