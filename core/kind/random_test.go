package kind_test

import (
	"archive/zip"
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/all"
	"oakenchest/sample"
)

// disturb makes one random edit somewhere in a tree, of a sort that people make:
// another value, something gone, something copied under another name.
func disturb(r *rand.Rand, root *element.Element) (*element.Element, string) {
	c := root.Clone()
	at, path := c, ""
	for len(at.Children) > 0 && r.IntN(4) > 0 {
		i := r.IntN(len(at.Children))
		path += "/" + at.Steps()[i].String()
		at = at.Children[i]
	}
	switch n := len(at.Children); {
	case n > 0 && r.IntN(4) == 0:
		i := r.IntN(n)
		gone := at.Children[i]
		at.Children = slices.Delete(at.Children, i, i+1)
		return c, path + " without " + gone.Type + ":" + gone.Key
	case n > 0 && r.IntN(4) == 0:
		twin := at.Children[r.IntN(n)].Clone()
		if twin.Key != "" {
			twin.Key = fmt.Sprintf("copy %d of %s", r.IntN(1000), twin.Key)
		}
		at.Children = append(at.Children, twin)
		return c, path + " with another " + twin.Type
	case len(at.Props) > 0:
		p := at.Props[r.IntN(len(at.Props))]
		v := p.Value
		switch v.Sort() {
		case element.Text:
			v = element.TextValue([]string{"kelp", "a <b> & \"c\"", "two\nlines", "ümläut 水", "x"}[r.IntN(5)])
		case element.Number:
			v = element.IntValue(int64(r.IntN(1000)))
		case element.Bool:
			v = element.BoolValue(v.Text() != "true")
		default:
			return c, ""
		}
		at.Set(p.Name, v)
		return c, path + "." + p.Name + " = " + v.String()
	}
	return c, ""
}

// written gives the source with a wanted tree written into it.
func written(w kind.Writer, src kind.FileSource, want *element.Element, content kind.Content) (kind.FileSource, error) {
	files, err := w.Write(src, want, content)
	if err != nil {
		return src, err
	}
	for name, data := range files {
		if name == src.Files()[0] {
			src.Data = data
		}
	}
	return src, nil
}

// unthinkable says that no program would make such an edit: what a property says
// of bytes is not edited without them, and a JSON list of scalars alone is a
// property. Should a person do it all the same, the merge engine refuses the
// result, which it reads again.
func unthinkable(name, what string) bool {
	return name == "json" && strings.Contains(what, "without list") ||
		name == "scene" && (strings.Contains(what, "/asset:file.version") || strings.Contains(what, " = ") &&
			(strings.Contains(what, "/values:") || strings.Contains(what, "/attribute:")))
}

// TestRandomEditsAreWrittenAsTheyAre edits the trees of every kind that writes.
// A kind may refuse an edit that its format can't hold; what it writes must read
// back as exactly that tree. The merge engine relies on it.
func TestRandomEditsAreWrittenAsTheyAre(t *testing.T) {
	reef, err := sample.Reef(sample.Lamp{Scale: 1, Brightness: 40})
	if err != nil {
		t.Fatal(err)
	}
	app, err := sample.RoundsApp("Rounds")
	if err != nil {
		t.Fatal(err)
	}
	for name, src := range map[string]kind.FileSource{
		"scene":   {Name: "reef.glb", Data: reef},
		"package": {Name: "rounds.app", Data: app},
		"xml": {Name: "a.xml", Data: []byte("<?xml version='1.0'?>\n<!-- c -->\n<a id='1' x:y='2' xmlns:x='u'>\n" +
			"  <b name='k'>text</b>\n  <c/>\n  <d><e key='1'/><e key='2'/></d>\n</a>\n")},
		"json": {Name: "a.json", Data: []byte("{\n  \"a\": [ {\"id\": 1, \"v\": [1, 2]}, {\"id\": 2} ],\n" +
			"  \"b\": {\"c\": \"text\", \"d\": true},\n  \"e\": [[1], \"x\"]\n}\n")},
		"text": {Name: "a.txt", Data: []byte("one\r\ntwo\r\nthree\r\nfour")},
	} {
		k, _ := all.Table().Named(name)
		w := k.(kind.Writer)
		reading, err := w.Read(src)
		if err != nil {
			t.Fatal(err)
		}
		wrote, refused := 0, 0
		for seed := range uint64(400) {
			r := rand.New(rand.NewPCG(seed, 5))
			want, what := disturb(r, reading.Root)
			if what == "" || unthinkable(name, what) {
				continue
			}
			out, err := written(w, src, want, reading.Content)
			if err != nil {
				refused++
				continue
			}
			again, err := w.Read(out)
			if err != nil {
				t.Errorf("%s, %s: what was written can't be read: %v\n%.500s", name, what, err, out.Data)
				continue
			}
			if d := element.Compare(again.Root, want); d != nil && !keyFollowsValue(d) {
				t.Errorf("%s, %s: wrote another tree: %v", name, what, d.Changes("x"))
			}
			wrote++
		}
		t.Logf("%s: %d edits written, %d refused", name, wrote, refused)
		if wrote < 90 {
			t.Errorf("%s: only %d edits were written, %d refused", name, wrote, refused)
		}
	}
}

// keyFollowsValue allows for formats whose keys are values too: an edit of the
// identifying attribute makes another key, and a copied element has the value of
// the first. The merge engine treats such a result as a conflict.
func keyFollowsValue(d *element.Delta) bool {
	for _, c := range d.Changes("x") {
		if c.Kind == element.Edited {
			return false
		}
	}
	return true
}

// TestOfficeFilesOfOthers reads the OpenDocument files of the corpus: each must
// come back byte for byte when nothing changed, survive an edit of each of its
// texts, and be split and joined to an equal tree.
func TestOfficeFilesOfOthers(t *testing.T) {
	dir := os.Getenv("OAKEN_CORPUS")
	if dir == "" {
		t.Skip("run test/corpus and set OAKEN_CORPUS to the folder that it names")
	}
	k, _ := all.Table().Named("package")
	files := 0
	err := filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.Contains(filepath.Ext(p), ".od") {
			return err
		}
		data, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		src := kind.FileSource{Name: filepath.Base(p), Data: data}
		reading, err := k.Read(src)
		if err != nil {
			t.Errorf("%s: %v", p, err)
			return nil
		}
		files++
		w := k.(kind.Writer)
		if out, err := written(w, src, reading.Root, reading.Content); err != nil || !bytes.Equal(out.Data, data) {
			t.Errorf("%s changed without an edit: %v", p, err)
		}
		for seed := range uint64(20) {
			want, what := disturb(rand.New(rand.NewPCG(seed, 6)), reading.Root)
			out, err := written(w, src, want, reading.Content)
			if err != nil || what == "" || strings.Contains(what, "mimetype") {
				continue
			}
			again, err := w.Read(out)
			if err != nil {
				t.Errorf("%s, %s: %v", p, what, err)
			} else if d := element.Compare(again.Root, want); d != nil && !keyFollowsValue(d) {
				t.Errorf("%s, %s: wrote another tree: %v", p, what, d.Changes("x")[0])
			}
			if _, err := zip.NewReader(bytes.NewReader(out.Data), int64(len(out.Data))); err != nil {
				t.Errorf("%s, %s: no archive any more: %v", p, what, err)
			}
		}
		s := k.(kind.Splitter)
		parts, err := s.Split(src)
		if err != nil {
			t.Errorf("%s: %v", p, err)
			return nil
		}
		joined, err := s.Join(parts)
		if err != nil {
			t.Errorf("%s: %v", p, err)
			return nil
		}
		again, err := k.Read(kind.FileSource{Name: src.Name, Data: joined})
		if err != nil || again.Root.Sum() != reading.Root.Sum() {
			t.Errorf("%s joined has another tree, %v", p, err)
		}
		return nil
	})
	t.Logf("%d office files", files)
	if err != nil || files < 5 {
		t.Errorf("%d files, %v", files, err)
	}
}
