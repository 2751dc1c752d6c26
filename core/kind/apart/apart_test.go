package apart_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/all"
	"oakenchest/core/kind/apart"
	"oakenchest/sample"
)

// folder is a source of files in memory.
type folder map[string][]byte

func (f folder) Path() string { return "exhibit/reef" }

func (f folder) Files() []string {
	var out []string
	for n := range f {
		out = append(out, n)
	}
	slices.Sort(out)
	return out
}

func (f folder) File(name string) ([]byte, error) {
	if data, ok := f[name]; ok {
		return data, nil
	}
	return nil, fmt.Errorf("%s: %w", name, kind.ErrNoFile)
}

func split(t *testing.T) (kind.Writer, folder) {
	t.Helper()
	k, _ := all.Table().Named("scene")
	reef, err := sample.Reef(sample.Lamp{Scale: 1, Brightness: 40})
	if err != nil {
		t.Fatal(err)
	}
	parts, err := k.(kind.Splitter).Split(kind.FileSource{Name: "reef.glb", Data: reef})
	if err != nil {
		t.Fatal(err)
	}
	f := folder{"notes.txt": []byte("not a part\n")}
	for _, p := range parts {
		f[p.Name] = p.Data
	}
	owner, ok := apart.Of(k)
	if !ok || !owner.Owns("nodes/Lamp.json") || owner.Claims("reef.glb", reef) {
		t.Fatal("a split scene is nobody's")
	}
	return owner.(kind.Writer), f
}

func TestAnEditChangesThePartThatItIsAboutAlone(t *testing.T) {
	k, f := split(t)
	r, err := k.Read(f)
	if err != nil {
		t.Fatal(err)
	}
	if files, err := k.Write(f, r.Root, r.Content); err != nil || len(files) > 0 {
		t.Errorf("an equal tree: %v, %v", files, err)
	}
	want := r.Root.Clone()
	want.Find([]element.Step{{Type: "node", Key: "Lamp"}}).Set("translation",
		element.ListValue(element.NumberValue("1"), element.NumberValue("2"), element.NumberValue("3")))
	files, err := k.Write(f, want, r.Content)
	if err != nil || len(files) != 1 || !strings.Contains(string(files["nodes/Lamp.json"]), "[1, 2, 3]") {
		t.Errorf("%v, %v", files, err)
	}
}

func TestWhatGoesTakesItsPartsAlongAndNothingElse(t *testing.T) {
	k, f := split(t)
	r, err := k.Read(f)
	if err != nil {
		t.Fatal(err)
	}
	want := r.Root.Clone()
	want.Children = slices.DeleteFunc(want.Children, func(e *element.Element) bool { return e.Type == "node" && e.Key == "Coral" })
	files, err := k.Write(f, want, r.Content)
	if err != nil {
		t.Fatal(err)
	}
	if data, gone := files["nodes/Coral.json"]; !gone || data != nil {
		t.Errorf("the node stays: %v", files)
	}
	if _, touched := files["notes.txt"]; touched {
		t.Error("a file that is no part is touched")
	}
}

func TestFoldersThatNobodySplitAreRefused(t *testing.T) {
	k, f := split(t)
	delete(f, "oaken-scene.json")
	if _, err := k.Read(f); err == nil || !strings.Contains(err.Error(), "oaken-scene.json") {
		t.Errorf("a folder without its marker: %v", err)
	}
	for _, name := range []string{"text", "picture", "sound"} {
		k, _ := all.Table().Named(name)
		if _, ok := apart.Of(k); ok {
			t.Errorf("%s can stay apart", name)
		}
	}
}
