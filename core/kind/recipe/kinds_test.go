package recipe_test

import (
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

const everywhere = `
[[recipe]]
name = "tanks"
match = "tanks.*"

[[recipe.element]]
at = "**"
noise = ["stamp"]

[[recipe.element]]
at = "tanks/item"
key = ["place"]
`

// TestRulesWorkInEveryKindOfData has the same data in four formats: an edit and other
// noise is one change, and writing it back keeps the noise that was there.
func TestRulesWorkInEveryKindOfData(t *testing.T) {
	tab := table(t, everywhere)
	for name, text := range map[string]string{
		"tanks.json": "{\n  \"stamp\": 1,\n  \"tanks\": [\n    {\"place\": \"east\", \"litres\": 42000, \"stamp\": 2},\n" +
			"    {\"place\": \"west\", \"litres\": 9000}\n  ]\n}\n",
		"tanks.yaml": "stamp: 1 # when\ntanks:\n  - place: east\n    litres: 42000\n    stamp: 2\n  - place: west\n    litres: 9000\n",
		"tanks.toml": "stamp = 1\n\n[[tanks]]\nplace = 'east'\nlitres = 42000\nstamp = 2\n\n[[tanks]]\nplace = 'west'\nlitres = 9000\n",
	} {
		from := source(name, text)
		edited := strings.Replace(text, "9000", "9500", 1)
		to := source(name, strings.NewReplacer("stamp\": 1", "stamp\": 7", "stamp: 1", "stamp: 7", "stamp = 1",
			"stamp = 7").Replace(edited))
		a, b := read(t, tab, from), read(t, tab, to)
		changes := element.Compare(a.Root, b.Root).Changes(name)
		if len(changes) != 1 || changes[0].Address.String() != name+"::list:tanks/item:west.litres" {
			t.Errorf("%s: %v", name, changes)
		}
		files, err := tab.For(name, from.Data).(kind.Writer).Write(from, b.Root, nil)
		if err != nil || string(files[name]) != edited {
			t.Errorf("%s: %v\n%s", name, err, files[name])
		}
		if a.Hidden == b.Hidden {
			t.Errorf("%s: other noise is not told", name)
		}
	}
	ini := "stamp=1\n[east]\nlitres=42000\nstamp=2\n"
	from, to := source("tanks.ini", ini), source("tanks.ini", strings.Replace(strings.Replace(ini, "42000", "41000", 1), "stamp=2",
		"stamp=9", 1))
	a, b := read(t, tab, from), read(t, tab, to)
	if changes := element.Compare(a.Root, b.Root).Changes("t"); len(changes) != 1 ||
		changes[0].Address.String() != "t::section:east.litres" {
		t.Errorf("settings: %v", changes)
	}
}

// TestMergesKeepNoiseOfMine merges two edits of a document with noise.
func TestMergesKeepNoiseOfMine(t *testing.T) {
	tab := table(t, everywhere)
	doc := func(stamp, east, west string) kind.FileSource {
		return source("tanks.json", `{"stamp": `+stamp+`, "tanks": [{"place": "east", "litres": `+east+
			`}, {"place": "west", "litres": `+west+`}]}`)
	}
	base, mine, theirs := doc("1", "10", "20"), doc("2", "11", "20"), doc("3", "10", "22")
	m := read(t, tab, mine)
	merged, conflicts := element.Merge("x", read(t, tab, base).Root, m.Root, read(t, tab, theirs).Root, nil)
	if len(conflicts) > 0 {
		t.Fatal(conflicts)
	}
	files, err := tab.For(mine.Name, mine.Data).(kind.Writer).Write(mine, merged, m.Content)
	if want := string(doc("2", "11", "22").Data); err != nil || string(files["tanks.json"]) != want {
		t.Errorf("%v: %s", err, files["tanks.json"])
	}
}

// TestPartsOfJSONAreFilesOfTheirOwn splits a document by a rule, and joins it.
func TestPartsOfJSONAreFilesOfTheirOwn(t *testing.T) {
	tab := table(t, everywhere+"\n[[recipe.element]]\nat = \"tanks/item\"\npart = true\n\n[[recipe.element]]\nat = \"/object/form\"\n"+
		"part = true\n")
	text := "{\n  \"form\": {\n    \"title\": \"Rounds\"\n  },\n  \"tanks\": [\n    {\"place\": \"east\", \"fish\": [1, 2]},\n" +
		"    {\"place\": \"a/b\"}\n  ],\n  \"note\": \"plain\"\n}\n"
	src := source("tanks.json", text)
	s := tab.For(src.Name, src.Data).(kind.Splitter)
	parts, err := s.Split(src)
	if err != nil {
		t.Fatal(err)
	}
	byName := map[string]string{}
	for _, p := range parts {
		byName[p.Name] = string(p.Data)
	}
	if byName["tanks.json.embedded/item-east.json"] != `{"place": "east", "fish": [1, 2]}` ||
		byName["tanks.json.embedded/item-a%2Fb.json"] != `{"place": "a/b"}` {
		t.Errorf("parts: %q", byName)
	}
	if strings.Contains(byName["tanks.json"], `"place"`) || !strings.Contains(byName["tanks.json"], `"note": "plain"`) {
		t.Errorf("what is left: %s", byName["tanks.json"])
	}
	if joined, err := s.Join(parts); err != nil || string(joined) != text {
		t.Errorf("joined: %v\n%s", err, joined)
	}
	for i := range parts {
		if strings.HasSuffix(parts[i].Name, "item-east.json") {
			parts[i].Name = "elsewhere.json"
		}
	}
	if _, err := s.Join(parts); err == nil || !strings.Contains(err.Error(), "missing") {
		t.Errorf("a part that is missing: %v", err)
	}
}

// TestDocumentsThatSpeakOfReferencesAreLeftAlone splits a document whose own text
// looks like a reference.
func TestDocumentsThatSpeakOfReferencesAreLeftAlone(t *testing.T) {
	tab := table(t, everywhere)
	src := source("x.json", `{"a": "oaken-part:../../etc/passwd@", "layout": "{\"columns\": [{\"id\": \"tank\", \"width\": 120}]}"}`)
	if _, err := tab.For(src.Name, src.Data).(kind.Splitter).Split(src); err == nil {
		t.Error("its own text would be taken for a reference")
	}
}

// TestFilesThatReferToEachOtherAreRefused joins a split that was made by hand.
func TestFilesThatReferToEachOtherAreRefused(t *testing.T) {
	k, _ := table(t, everywhere).Named("json")
	parts := []kind.Part{{Name: "oaken-document.json", Data: []byte(`{"format": "oaken document 1", "file": "x.json", "kind": "json"}`)},
		{Name: "x.json", Data: []byte(`{"a": "oaken-part:a.json@"}`)},
		{Name: "a.json", Data: []byte(`{"b": "oaken-part:b.json@"}`)}, {Name: "b.json", Data: []byte(`{"a": "oaken-part:a.json@"}`)}}
	if _, err := k.(kind.Splitter).Join(parts); err == nil || !strings.Contains(err.Error(), "refers to itself") {
		t.Errorf("joined: %v", err)
	}
	parts[3].Data = []byte(`{"c": 1}`)
	if joined, err := k.(kind.Splitter).Join(parts); err != nil || !strings.HasPrefix(string(joined), `{"a": "eyJi`) {
		t.Errorf("joined: %v, %s", err, joined)
	}
}
