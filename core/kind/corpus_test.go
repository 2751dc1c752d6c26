package kind_test

import (
	"bytes"
	"cmp"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/all"
)

// tally counts what became of the files of one kind.
type tally struct {
	files, read, edited, kept, split int
	reasons                          map[string]int
}

// TestFilesOfOthers reads every file below the folders that OAKEN_FILES names (with
// : between). None may crash a reader; a tree that is written unchanged changes no
// byte; an edit that is taken back gives the bytes that were there; what is split
// and joined has an equal tree.
func TestFilesOfOthers(t *testing.T) {
	dirs := os.Getenv("OAKEN_FILES")
	if dirs == "" {
		t.Skip("set OAKEN_FILES to folders of files")
	}
	table, counts := all.Table(), map[string]*tally{}
	for _, dir := range filepath.SplitList(dirs) {
		err := filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
			if err != nil || !d.Type().IsRegular() {
				return err
			}
			data, err := os.ReadFile(p)
			if err != nil || len(data) == 0 || len(data) > 8<<20 {
				return err
			}
			rel, _ := filepath.Rel(dir, p)
			src := kind.FileSource{Name: filepath.ToSlash(rel), Data: data,
				Sibling: func(n string) ([]byte, error) { return os.ReadFile(filepath.Join(filepath.Dir(p), n)) }}
			k := table.For(src.Name, data[:min(len(data), kind.HeadSize)])
			c := counts[k.Name()]
			if c == nil {
				c = &tally{reasons: map[string]int{}}
				counts[k.Name()] = c
			}
			c.look(t, table, k, src)
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(counts)) {
		c := counts[name]
		t.Logf("%-9s %6d files, %6d read, %5d refused, %6d edited and back, %6d byte for byte, %5d split and joined", name, c.files, c.read,
			c.files-c.read, c.edited, c.kept, c.split)
		reasons := slices.SortedFunc(maps.Keys(c.reasons), func(a, b string) int { return cmp.Compare(c.reasons[b], c.reasons[a]) })
		for _, r := range reasons[:min(len(reasons), 5)] {
			t.Logf("          %5d  %s", c.reasons[r], r)
		}
	}
}

var digits = regexp.MustCompile(`\d+|"[^"]*"|<[^>]*>`)

func (c *tally) look(t *testing.T, table *kind.Table, k kind.Kind, src kind.FileSource) {
	c.files++
	reading, used, why := table.Read(k, src)
	if why != nil {
		if strings.Contains(why.Error(), "reader failed") {
			t.Errorf("%s: %v", src.Name, why)
		}
		c.reasons[digits.ReplaceAllString(why.Error(), "…")]++
		return
	}
	c.read++
	w, writes := used.(kind.Writer)
	if !writes || len(reading.Uses) > 0 {
		return
	}
	if out, err := written(w, src, reading.Root, reading.Content); err != nil || !bytes.Equal(out.Data, src.Data) {
		t.Errorf("%s changed without an edit: %v", src.Name, err)
	}
	c.thereAndBack(t, w, src, reading)
	s, splits := used.(kind.Splitter)
	if !splits || len(src.Data) > 2<<20 {
		return
	}
	parts, err := s.Split(src)
	if err != nil {
		return // nothing in it is content of its own
	}
	joined, err := s.Join(parts)
	if err != nil {
		t.Errorf("%s can't be joined: %v", src.Name, err)
		return
	}
	again, err := used.Read(kind.FileSource{Name: src.Name, Data: joined, Sibling: src.Sibling})
	if err != nil || again.Root.Sum() != reading.Root.Sum() && element.Compare(again.Root, reading.Root) != nil {
		t.Errorf("%s joined has another tree: %v", src.Name, err)
		return
	}
	c.split++
}

var simple = regexp.MustCompile(`^[A-Za-z][A-Za-z ]{2,40}[A-Za-z]$`)

// thereAndBack edits a simple text of the tree and takes the edit back.
func (c *tally) thereAndBack(t *testing.T, w kind.Writer, src kind.FileSource, reading *kind.Reading) {
	want := reading.Root.Clone()
	var found *element.Prop
	var visit func(e *element.Element)
	visit = func(e *element.Element) {
		for i, p := range e.Props {
			if p.Value.Sort() == element.Text && simple.MatchString(p.Value.Text()) && p.Value.Text() != e.Key &&
				!strings.HasPrefix(p.Name, "(") && p.Name != "line ends" {
				found = &e.Props[i]
			}
		}
		for _, k := range e.Children {
			if k.Type != "embedded" {
				visit(k)
			}
		}
	}
	visit(want)
	if found == nil {
		return
	}
	found.Value = element.TextValue(found.Value.Text() + " more")
	out, err := written(w, src, want, reading.Content)
	if err != nil {
		c.reasons["not written: "+digits.ReplaceAllString(err.Error(), "…")]++
		return
	}
	again, err := w.Read(out)
	if err != nil || element.Compare(again.Root, want) != nil {
		c.reasons[fmt.Sprintf("written as another tree (%v)", err)]++
		return
	}
	c.edited++
	back, err := written(w, out, reading.Root, reading.Content)
	if err != nil {
		c.reasons["not taken back: "+digits.ReplaceAllString(err.Error(), "…")]++
		return
	}
	if bytes.Equal(back.Data, src.Data) {
		c.kept++
		return
	}
	last, err := w.Read(back)
	if err != nil || element.Compare(last.Root, reading.Root) != nil {
		t.Errorf("%s: an edit that is taken back leaves another tree: %v", src.Name, err)
	}
	if os.Getenv("OAKEN_SHOW") != "" {
		t.Logf("%s: %s is not byte for byte what it was", w.Name(), src.Name)
	}
}
