package pack

import (
	"path"
	"slices"
	"strings"
	"testing"

	"oakenchest/core/kind"
)

// hostile are names that lead elsewhere, or that some file system has no place for.
var hostile = []string{"../../outside.txt", "/etc/passwd", `C:\windows\x`, "con", "aux.txt", "a", "A", "name.", " lead", "q?*<>|",
	"tab\tname", strings.Repeat("long", 100), "dir/../../x", "./same", "same", "é", "e\u0301"}

// TestHostileNamesBecomeHarmlessFiles splits archives whose names lead elsewhere:
// the parts lie inside, are distinct on every file system, and join to an equal tree.
func TestHostileNamesBecomeHarmlessFiles(t *testing.T) {
	var entries []string
	for _, n := range hostile {
		entries = append(entries, n, "body of "+n)
	}
	table := archives()
	for name, data := range map[string][]byte{"a.zip": zipped(t, entries...), "a.tar": tarred(t, entries...),
		"a.tar.gz": zippedUp(t, tarred(t, entries...))} {
		src := kind.FileSource{Name: name, Data: data}
		k := table.For(name, data[:min(len(data), kind.HeadSize)])
		s := k.(kind.Splitter)
		parts, err := s.Split(src)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		var seen []string
		for _, p := range parts {
			if p.Name != path.Clean(p.Name) || path.IsAbs(p.Name) || strings.HasPrefix(p.Name, "..") ||
				strings.ContainsAny(p.Name, "\\:*?\"<>|\t") {
				t.Errorf("%s: the part %q", name, p.Name)
			}
			for c := range strings.SplitSeq(p.Name, "/") {
				if len(c) > 200 || strings.HasSuffix(c, ".") || strings.HasSuffix(c, " ") {
					t.Errorf("%s: the name %q", name, c)
				}
			}
			if low := strings.ToLower(p.Name); slices.Contains(seen, low) {
				t.Errorf("%s: two parts are called %q", name, p.Name)
			} else {
				seen = append(seen, low)
			}
		}
		joined, err := s.Join(parts)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		a, errA := k.Read(src)
		b, errB := k.Read(kind.FileSource{Name: name, Data: joined})
		if errA != nil || errB != nil || a.Root.Sum() != b.Root.Sum() {
			t.Errorf("%s joined has another tree: %v, %v", name, errA, errB)
		}
	}
}

// TestContentInContentIsBounded packs archives into each other, deeper than is read.
func TestContentInContentIsBounded(t *testing.T) {
	data := []byte(`{"innermost": true}`)
	for range 12 {
		data = zippedUp(t, tarred(t, "in.tar.gz", string(data)))
	}
	src := kind.FileSource{Name: "deep.tar.gz", Data: data}
	k := archives().For(src.Name, data)
	r, err := k.Read(src)
	if err != nil {
		t.Fatal(err)
	}
	depth := 0
	for e := r.Root; len(e.Children) > 0; e = e.Children[0] {
		depth++
	}
	if depth < 4 || depth > 14 {
		t.Errorf("%d deep", depth)
	}
	if files, err := k.(kind.Writer).Write(src, r.Root, r.Content); err != nil || files != nil {
		t.Errorf("an equal tree: %v", err)
	}
}

func TestPartsMayBeTakenOutAndPutIn(t *testing.T) {
	table := archives()
	for name, data := range map[string][]byte{"a.zip": zipped(t, "a.txt", "one", "b.xml", "<b/>"),
		"a.tar": tarred(t, "a.txt", "one", "b.xml", "<b/>")} {
		k := table.For(name, data)
		s := k.(kind.Splitter)
		parts, err := s.Split(kind.FileSource{Name: name, Data: data})
		if err != nil {
			t.Fatal(err)
		}
		more := append(slices.Clone(parts), kind.Part{Name: "parts/fresh/c.json", Data: []byte(`{"c": 1}`)})
		joined, err := s.Join(more)
		if err != nil {
			t.Fatal(err)
		}
		r, err := k.Read(kind.FileSource{Name: name, Data: joined})
		if err != nil || !strings.Contains(r.Root.Dump(), "part:fresh/c.json") {
			t.Errorf("%s: a file that is not listed is left out: %v", name, err)
		}
		for i, p := range parts {
			if p.Name == "parts/a.txt" {
				parts = slices.Delete(parts, i, i+1)
				break
			}
		}
		if _, err := s.Join(parts); err == nil || !strings.Contains(err.Error(), "take its entry out to leave it out") {
			t.Errorf("%s: a missing part: %v", name, err)
		}
	}
	for _, s := range []string{"package", "tar", "gzip"} {
		k, _ := table.Named(s)
		splitter := k.(kind.Splitter)
		for _, marker := range []string{"", "{}", `{"format": "another"}`, `{"format": "oaken ` + s + ` 1"}`} {
			if _, err := splitter.Join([]kind.Part{{Name: splitter.Marker(), Data: []byte(marker)}}); err == nil {
				t.Errorf("%s: a marker that says %q is taken", s, marker)
			}
		}
	}
}
