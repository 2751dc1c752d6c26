package state

import (
	"archive/zip"
	"bytes"
	"strings"
	"testing"
)

// zipped gives a package of some files, stored as they are.
func zipped(t *testing.T, files ...string) string {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for i := 0; i < len(files); i += 2 {
		f, err := w.CreateHeader(&zip.FileHeader{Name: files[i]})
		if err == nil {
			_, err = f.Write([]byte(files[i+1]))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// TestRemarksInPackages merges a file in a package: its remarks arrive, or the place is named.
func TestRemarksInPackages(t *testing.T) {
	base, mine := zipped(t, "a.yaml", "# per hour\na: 1\nb: 2\n"), zipped(t, "a.yaml", "# per day\na: 5\nb: 2\n")
	theirs := zipped(t, "a.yaml", "# per HOUR\na: 1\nb: 2 # two\n")
	got, conflicts := merged(t, memory("p.zip", base), memory("p.zip", mine), memory("p.zip", theirs), nil)
	if text := string(got.Contents["p.zip"]); len(conflicts) != 1 || conflicts[0] != `p.zip::place:"# per day".(writing)` ||
		!strings.Contains(text, "# per day\na: 5\nb: 2 # two\n") {
		t.Errorf("%v, %q", conflicts, text)
	}
}

// TestNothingIsLostOrBent merges documents in ways in which something could get lost
// unseen. An empty list of conflicts with a text that must be there, or the conflict.
func TestNothingIsLostOrBent(t *testing.T) {
	for name, c := range map[string]struct {
		file, base, mine, theirs string
		want, conflict           string
	}{
		"a comment against a value": {"r.yaml", "# per hour\na: 8\nb: 1\n", "# per hour\na: 9\nb: 1\n",
			"# per HOUR\na: 8\nb: 1\n", "# per HOUR\na: 9\nb: 1\n", ""},
		"both change a comment": {"r.yaml", "# per hour\na: 8\n", "# per day\na: 8\n", "# per HOUR\na: 8\n",
			"# per day\na: 8\n", `r.yaml::place:"# per day".(writing)`},
		"a comment of what is gone": {"r.yaml", "# per hour\na: 8\nb: 1\n", "b: 1\n", "# per HOUR\na: 8\nb: 1\n", "b: 1\n",
			`r.yaml::.(writing)`},
		"an entry commented out": {"r.toml", "a = 8\nb = 1\n", "a = 8\nb = 2\n", "# a = 8\nb = 1\n", "# a = 8\nb = 2\n", ""},
		"quotes": {"r.toml", "a = \"x\"\nb = 1\n", "a = \"x\"\nb = 2\n", "a = 'x'\nb = 1\n",
			"a = 'x'\nb = 2\n", ""},
		"a prefix that is gone": {"r.xml", `<r xmlns:a="u"><a:x/><y id="1"/></r>`, `<r><y id="1"/></r>`,
			`<r xmlns:a="u"><a:x/><y id="1" a:z="2"/></r>`, "", "r.xml::.(writing)"},
		"an entity": {"r.xml",
			"<!DOCTYPE r [<!ENTITY e \"ray\">]>\n<r><x id=\"1\">&e; swims</x>\n<y id=\"2\"/></r>",
			"<!DOCTYPE r [<!ENTITY e \"ray\">]>\n<r><x id=\"1\">&e; swims</x>\n<y id=\"2\" z=\"3\"/></r>",
			"<!DOCTYPE r [<!ENTITY e \"ray\">]>\n<r><x id=\"1\">&e; swims</x>\n<y id=\"2\">new</y></r>", "&e; swims", ""},
		"blanks between words": {"r.xml", "<r><p id=\"1\"><b>big</b> <i>old</i></p><q/></r>",
			"<r><p id=\"1\"><b>big</b> <i>older</i></p><q/></r>", "<r><p id=\"1\"><b>bigger</b> <i>old</i></p><q/></r>",
			"<b>bigger</b> <i>older</i>", ""},
		"a reference to what is gone": {"r.xml", `<r><node id="lamp1" w="5"/><node id="pump1" w="6"/></r>`,
			`<r><node id="pump1" w="6"/></r>`, `<r><node id="lamp1" w="5"/><node id="pump1" w="6"/><wire id="w1" to="lamp1"/></r>`, "",
			"r.xml::r:#1/wire:w1"},
		"an anchor that is set again": {"r.yaml", "a: &x 1\nb: 2\nc: 3\n", "a: &x 1\nb: &x 5\nc: 3\n", "a: &x 1\nb: 2\nc: *x\n", "",
			"r.yaml::.(writing)"},
		"another thing in its place": {"r.json",
			`{"l":[{"what":"lamp","tint":"red","watt":5},{"what":"sand","tint":"grey","watt":0}]}`,
			`{"l":[{"what":"pump","tint":"blue","watt":9},{"what":"sand","tint":"grey","watt":0}]}`,
			`{"l":[{"what":"lamp","tint":"green","watt":5},{"what":"sand","tint":"grey","watt":0}]}`, `"pump","tint":"blue"`,
			"r.json::list:l/item:#1"},
		"a scalar for an object": {"r.json", `{"a":{"x":1},"b":2}`, `{"a":5,"b":2}`, `{"b":2}`, `"a":5`, "r.json::.a"},
		"two names for one": {"r.yaml", "lamp: 17\nb: 1\n", "light: 17\nb: 1\n", "bulb: 17\nb: 1\n", "light: 17\nb: 1\n",
			"r.yaml::.lamp"},
		"a name against a deletion": {"r.yaml", "lamp: 17\nb: 1\n", "b: 1\n", "bulb: 17\nb: 1\n", "b: 1\n", "r.yaml::.lamp"},
		"both move one line": {"r.txt", "alpha\nbravo\ncharlie\ndelta\necho\n", "bravo\ncharlie\nalpha\ndelta\necho\n",
			"bravo\ncharlie\ndelta\necho\nalpha\n", "bravo\ncharlie\nalpha\ndelta\necho\n", "r.txt::.(order)"},
		"a moved line, taken away": {"r.txt", "alpha\nbravo\ncharlie\ndelta\necho\n", "bravo\ncharlie\ndelta\necho\n",
			"bravo\ncharlie\nalpha\ndelta\necho\n", "bravo\ncharlie\ndelta\necho\n", ""},
		"taken away and rewritten": {"r.txt", "one\nThe reef is old.\ntwo\n", "one\ntwo\n",
			"one\nA kelp wood\nwas planted here.\ntwo\n", "one\ntwo\n", "r.txt::line:#2.(inserted)"},
		"lists that grow": {"r.yaml", "l: [b, c]\n", "l: [a, b, c]\n", "l: [b, c, d]\n", "l: [a, b, c, d]\n", ""},
		"a list of three": {"r.json", `{"at":[1,2,3]}`, `{"at":[9,2,3]}`, `{"at":[1,2,8]}`, `{"at":[9,2,3]}`,
			"r.json::.at"},
		"a copy": {"r.xml", `<r><o id="b" w="1" c="red"/></r>`,
			`<r><o id="b" w="2" c="red"/><o id="b" w="1" c="red"/></r>`, `<r><o id="b" w="1" c="blue"/></r>`,
			`<r><o id="b" w="2" c="red"/><o id="b" w="1" c="blue"/></r>`, ""},
		"an edit beside nodes without names": {"s.gltf",
			`{"asset":{"version":"2.0"},"nodes":[{"translation":[1,0,0]},{"translation":[2,0,0]},{"name":"Lamp"}]}`,
			`{"asset":{"version":"2.0"},"nodes":[{"translation":[9,9,9]},{"translation":[1,0,0]},{"translation":[2,0,0]},{"name":"Lamp"}]}`,
			`{"asset":{"version":"2.0"},"nodes":[{"translation":[1,0,0]},{"translation":[2,5,0]},{"name":"Lamp"}]}`, "", "s.gltf"},
		"a named node beside them": {"s.gltf",
			`{"asset":{"version":"2.0"},"nodes":[{"translation":[1,0,0]},{"translation":[2,0,0]},{"name":"Lamp"}]}`,
			`{"asset":{"version":"2.0"},"nodes":[{"translation":[9,9,9]},{"translation":[1,0,0]},{"translation":[2,0,0]},{"name":"Lamp"}]}`,
			`{"asset":{"version":"2.0"},"nodes":[{"translation":[1,0,0]},{"translation":[2,0,0]},{"name":"Lamp","scale":[2,2,2]}]}`,
			`{"translation":[9,9,9]},{"translation":[1,0,0]},{"translation":[2,0,0]},{"name":"Lamp","scale":[2,2,2]}`, ""},
		"a node in a scene and below another": {"s.gltf",
			`{"asset":{"version":"2.0"},"scenes":[{"name":"A","nodes":[0,1]}],"nodes":[{"name":"P"},{"name":"X"}]}`,
			`{"asset":{"version":"2.0"},"scenes":[{"name":"A","nodes":[0]}],"nodes":[{"name":"P","children":[1]},{"name":"X"}]}`,
			`{"asset":{"version":"2.0"},"scenes":[{"name":"A","nodes":[0,1]},{"name":"B","nodes":[1]}],"nodes":[{"name":"P"},{"name":"X"}]}`, "", "s.gltf::.(writing)"},
		"names that are empty": {"r.json", `{"": 1, "b": {"": 3}}`, `{"": 5, "b": {"": 3}}`, `{"": 1, "b": {"": 4}}`,
			`{"": 5, "b": {"": 4}}`, ""},
		"keys that are empty": {"r.yaml", "\"\": 1\nb: 3\n", "\"\": 5\nb: 3\n", "\"\": 1\nb: 4\n", "\"\": 5\nb: 4\n", ""},
		"an entry above a remark": {"r.properties", "# zero says a\nzero=0\n# one says b\none=1\n# two says c\ntwo=2\n",
			"# zero says a\nzero=0\n# one says B\none=1\n# two says c\ntwo=2\n",
			"# zero says a\nzero=0\nnew=5\n# one says b\none=1\n# two says C\ntwo=2\n",
			"zero=0\nnew=5\n# one says B\none=1\n# two says C\ntwo=2\n", ""},
		"line ends": {"r.yaml", "a: 1\nb: 2\n", "a: 1\nb: 3\n", "a: 1\r\nb: 2\r\n", "a: 1\r\nb: 3\r\n", ""},
		"a byte-order mark": {"r.csv", "id,name\n1,Reef\n2,Kelp\n", "\ufeffid,name\n1,Reef\n2,Kelp\n", "id,name\n1,Reefs\n2,Kelp\n",
			"\ufeffid,name\n1,Reefs\n2,Kelp\n", ""},
	} {
		got, conflicts := merged(t, memory(c.file, c.base), memory(c.file, c.mine), memory(c.file, c.theirs), nil)
		text := string(got.Contents[c.file])
		if strings.Join(conflicts, " ") != c.conflict || !strings.Contains(text, c.want) {
			t.Errorf("%s: conflicts %v, want %q\n%s", name, conflicts, c.conflict, text)
		}
	}
}
