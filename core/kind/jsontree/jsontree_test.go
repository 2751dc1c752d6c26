package jsontree

import (
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/jsondoc"
)

func source(s string) kind.FileSource { return kind.FileSource{Name: "a.json", Data: []byte(s)} }

var documents = []string{
	`{"a":1,"b":[1,2],"c":{"d":null},"e":[{"id":"x","v":1},{"id":"y","v":2}],"f":[],"g":{}}`,
	`[{"name":"Lamp"},3,[1,[2]],"x"]`, `"text"`, `[]`, `{}`, `{"e":[{"id":"x"},{"id":"x"}]}`, `[[],[{}]]`,
}

func TestTreesBecomeTheDocumentsThatTheyWereReadFrom(t *testing.T) {
	for _, from := range documents {
		for _, to := range documents {
			want, err := Kind{}.Read(source(to))
			if err != nil {
				t.Fatal(err)
			}
			files, err := Kind{}.Write(source(from), want.Root, nil)
			if err != nil {
				t.Fatal(err)
			}
			got, err := jsondoc.Parse(files["a.json"])
			doc, _ := jsondoc.Parse([]byte(to))
			if err != nil || !got.Root.Equal(doc.Root) {
				t.Errorf("%s to %s gave %s, %v", from, to, files["a.json"], err)
			}
		}
	}
}

func TestAMergeCombinesMembersAndKeepsLayout(t *testing.T) {
	base := "{\n  \"rounds\": [\n    { \"id\": \"am\", \"label\": \"Morning\", \"rate\": 1.0 },\n" +
		"    { \"id\": \"pm\", \"label\": \"Evening\", \"rate\": 2 }\n  ]\n}\n"
	read := func(s string) *element.Element {
		r, err := Kind{}.Read(source(s))
		if err != nil {
			t.Fatal(err)
		}
		return r.Root
	}
	mine := "{\n  \"rounds\": [\n    { \"id\": \"am\", \"label\": \"Dawn\", \"rate\": 1.0 },\n" +
		"    { \"id\": \"pm\", \"label\": \"Evening\", \"rate\": 2 }\n  ]\n}\n"
	theirs := `{"rounds":[{"id":"am","label":"Morning","rate":1},{"id":"pm","label":"Dusk","rate":2}]}`
	merged, conflicts := element.Merge("a", read(base), read(mine), read(theirs), nil)
	files, err := Kind{}.Write(source(mine), merged, nil)
	want := "{\n  \"rounds\": [\n    { \"id\": \"am\", \"label\": \"Dawn\", \"rate\": 1.0 },\n" +
		"    { \"id\": \"pm\", \"label\": \"Dusk\", \"rate\": 2 }\n  ]\n}\n"
	if got := string(files["a.json"]); err != nil || len(conflicts) > 0 || got != want {
		t.Errorf("%v %v\n%s", err, conflicts, got)
	}
	got := element.Compare(read(base), read(mine)).Changes("app.json")
	if len(got) != 1 || got[0].Address.String() != "app.json::list:rounds/item:am.label" {
		t.Errorf("changes: %v", got)
	}
}

// FuzzBuild holds the tree that is made while reading against that of the parsed
// document.
func FuzzBuild(f *testing.F) {
	for _, d := range documents {
		f.Add([]byte(d))
	}
	f.Add([]byte(`{"a":[1,{"id":1},{"id":2}],"b":[[1],[2,[3]]],"c":[{"id":"x"},{"id":2}],"d":[{"code":true,"name":"n"}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		got, failed := build(data)
		doc, err := jsondoc.Parse(data)
		var want *element.Element
		if err == nil {
			want, err = Root(doc.Root)
		}
		if (failed == nil) != (err == nil) {
			t.Fatalf("%q: %v, and parsed %v", data, failed, err)
		}
		if err == nil && got.Dump() != want.Dump() {
			t.Fatalf("%q:\n%s\nwant\n%s", data, got.Dump(), want.Dump())
		}
	})
}
