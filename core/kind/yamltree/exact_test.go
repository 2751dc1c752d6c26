package yamltree

import (
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// TestWhatIsTakenOverIsWrittenAsItWas puts members into a file that have tags, anchors,
// merge keys, and words that mean something else in quotes.
func TestWhatIsTakenOverIsWrittenAsItWas(t *testing.T) {
	for name, line := range map[string]string{
		"a tagged mapping": "x: !lamp\n  watt: 5", "an anchored mapping": "x: &d\n  p: 1", "a merge key": "x:\n  <<: *d\n  q: 2",
		"a number as a key": "1: one", "a number in quotes as a key": `"1": one`,
		"true as a key": "true: on it", "null as a key": "null: nothing", "a date": "x: 2026-01-31", "yes": "x: yes",
		"yes in quotes": `x: "yes"`, "a tagged number": "x: !!str 12", "a tagged text": `x: !!binary "aGk="`,
		"off in a list": "x:\n  - 1\n  - off",
	} {
		head := ""
		if strings.Contains(line, "*d") {
			head = "d: &d {a: 1}\n"
		}
		from, to := head+"a: 1\nz: 2\n", head+"a: 1\n"+line+"\nz: 2\n"
		want := read(t, to)
		files, err := Kind{}.Write(kind.FileSource{Name: "f.yaml", Data: []byte(from)}, want, nil)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		got := string(files["f.yaml"])
		if element.Compare(read(t, got), want) != nil ||
			!strings.Contains(strings.ReplaceAll(got, "\n", " "), strings.Fields(line)[len(strings.Fields(line))-1]) ||
			strings.Count(got, `"`) != strings.Count(to, `"`) {
			t.Errorf("%s: got\n%s", name, got)
		}
	}
	if d := element.Compare(read(t, "1: a\n"), read(t, "\"1\": a\n")); d == nil {
		t.Error("a number and a text are the same key")
	}
	if d := element.Compare(read(t, "x: yes\n"), read(t, "x: \"yes\"\n")); d == nil {
		t.Error("yes is the same with quotes and without")
	}
}
