package yamltree

import (
	"testing"

	"oakenchest/core/element"
)

// TestWhatIsPutInIsLaidOutAsPeopleWriteIt turns one file into the tree of another and
// looks at the text.
func TestWhatIsPutInIsLaidOutAsPeopleWriteIt(t *testing.T) {
	for name, c := range map[string][3]string{
		"an object": {"a: 1\n", "a: 1\nb: {c: x, d: [1, 2]}\n", "a: 1\nb:\n  c: x\n  d:\n    - 1\n    - 2\n"},
		"a list of objects": {"a: 1\n", "{a: 1, tanks: [{name: Reef, fish: [clown]}, {name: Kelp}]}\n",
			"a: 1\ntanks:\n  - name: Reef\n    fish:\n      - clown\n  - name: Kelp\n"},
		"into an indented object": {"reef:\n    litres: 4\n# end\n", "reef: {litres: 4, depth: 3}\n",
			"reef:\n    litres: 4\n    depth: 3\n# end\n"},
		"behind a file without end": {"a: 1", "a: 1\nb: 2\n", "a: 1\nb: 2\n"},
		"texts that need quotes": {"a: 1\n",
			"{a: 1, b: 'yes', c: '- x', d: 'a: b', e: '', f: ' x', g: \"l1\\nl2\", h: '1.0', i: '#x'}\n",
			"a: 1\nb: \"yes\"\nc: \"- x\"\nd: \"a: b\"\ne: \"\"\nf: \" x\"\ng: \"l1\\nl2\"\nh: \"1.0\"\ni: \"#x\"\n"},
		"an item in the middle": {"t:\n- name: a\n- name: c\n", "t: [{name: a}, {name: b, x: 1}, {name: c}]\n",
			"t:\n- name: a\n- name: b\n  x: 1\n- name: c\n"},
		"items change places": {"t:\n  # one\n  - name: a\n    v: 1\n  # two\n  - name: b\n", "t: [{name: b}, {name: a, v: 1}]\n",
			"t:\n  # two\n  - name: b\n  # one\n  - name: a\n    v: 1\n"},
		"an item goes with its note": {"t:\n  # one\n  - name: a\n  # two\n  - name: b\n    v: 2\n", "t: [{name: b, v: 2}]\n",
			"t:\n  # two\n  - name: b\n    v: 2\n"},
		"the first member goes": {"t:\n  - id: 1\n    a: x\n    b: y\n", "t: [{id: 1, b: y}]\n", "t:\n  - id: 1\n    b: y\n"},
		"a member on the dash goes": {"t:\n  - a: x\n    b: y\n  - a: z\n    b: w\n", "t: [{b: y}, {a: z, b: w}]\n",
			"t:\n  - b: y\n  - a: z\n    b: w\n"},
		"a value becomes an object": {"a: 1 # was\nb: 2\n", "a: {x: 1}\nb: 2\n", "a:\n  x: 1\nb: 2\n"},
		"an object becomes a value": {"a:\n  x: 1\n# note\nb: 2\n", "a: 7\nb: 2\n", "a: 7\n# note\nb: 2\n"},
		"a literal text":            {"a: |\n  one\n  two\nb: 1\n", "a: \"one\\nthree\\n\"\nb: 1\n", "a: |\n  one\n  three\nb: 1\n"},
		"inside one line": {"a: {x: 1, y: 'two'} # kept\n", "a: {x: 1, y: three, z: [1]}\n",
			"a: {x: 1, y: three, z: [1]} # kept\n"},
		"a scalar inside one line":  {"a: {x: 1, y: 'two'} # kept\n", "a: {x: 1, y: three}\n", "a: {x: 1, y: 'three'} # kept\n"},
		"nothing becomes something": {"a:\nb: 1\n", "a: x\nb: 1\n", "a: x\nb: 1\n"},
	} {
		files, err := Kind{}.Write(source(c[0]), read(t, c[1]), nil)
		if got := string(files["a.yaml"]); err != nil || got != c[2] {
			t.Errorf("%s: %v\n%s\nwant\n%s", name, err, got, c[2])
		}
	}
}

func TestWhatHasNoPlaceIsRefused(t *testing.T) {
	for name, c := range map[string][2]string{
		"an anchor goes":         {"a: &x {b: 1}\nc: *x\n", "a: {b: 1}\nc: y\n"},
		"all members go":         {"a:\n  b: 1\nc: 2\n", "a: {}\nc: 2\n"},
		"a document comes":       {"---\na: 1\n---\nb: 1\n", "---\na: 1\n---\nb: 1\n---\nc: 1\n"},
		"a scalar with a anchor": {"a: &x one\nb: *x\n", "a: two\nb: z\n"},
	} {
		if files, err := (Kind{}).Write(source(c[0]), read(t, c[1]), nil); err == nil && files != nil {
			got := read(t, string(files["a.yaml"]))
			if element.Compare(got, read(t, c[1])) != nil {
				t.Errorf("%s: another tree is written:\n%s", name, files["a.yaml"])
			}
		}
	}
}
