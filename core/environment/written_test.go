package environment

import (
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/schema/step"
)

// TestSumsTellFilesApart tries to make two sets of files look alike.
func TestSumsTellFilesApart(t *testing.T) {
	seen := map[string]string{}
	for name, files := range map[string]Files{
		"none": {}, "an empty one": {"a": []byte("")}, "another name": {"b": []byte("")}, "one": {"a": []byte("b")},
		"a line in the name": {"a\n1 1 b": []byte("")}, "two": {"a": []byte(""), "b": []byte("")}, "two in one": {"a": []byte("\n1 0 b")},
		"changed over": {"ab": []byte("c")}, "and back": {"a": []byte("bc")}, "a number in it": {"a": []byte("1 1 b\n")},
	} {
		sum := Sum(files)
		if other, there := seen[sum]; there {
			t.Errorf("%s and %s have one sum", name, other)
		}
		seen[sum] = name
	}
	if Sum(Files{"a": nil, "b": []byte("x")}) != Sum(Files{"b": []byte("x")}) {
		t.Error("a file that goes counts")
	}
}

func TestAPlanIsWrittenAsItIs(t *testing.T) {
	p := &Plan{Before: nil, Steps: []Step{
		{What: "one", Effect: step.Instant, Before: true, Address: element.Address{}.Below(element.Step{Type: "table", Key: "tank"})},
		{What: "two", Effect: step.Loses, After: true, Loss: "rows", Run: &step.Run{Name: "fill", Back: true}, Statements: []string{"x"}},
	}}
	w := writeStep(p.Steps[0], "database")
	if w.Apart != "before" || w.Address != "database::table:tank" || w.Effect != "instant" {
		t.Errorf("the first: %+v", w)
	}
	if w := writeStep(p.Steps[1], "database"); w.Apart != "after" || w.Loses != "rows" || w.Runs != "fill" || !w.Back ||
		strings.Join(w.Statements, "") != "x" {
		t.Errorf("the second: %+v", w)
	}
}
