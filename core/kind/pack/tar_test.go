package pack

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"fmt"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/jsontree"
	"oakenchest/core/kind/opaque"
	"oakenchest/core/kind/recipe"
	"oakenchest/core/kind/text"
	"oakenchest/core/kind/xmltree"
)

func archives() *kind.Table {
	return recipe.Over(kind.NewTable(Kind{}, Tar{}, Gzip{}, xmltree.Kind{}, jsontree.Kind{}, text.Kind{}, opaque.Kind{}), nil)
}

// tarred makes an archive: names that end with / are folders, values that begin with
// -> links.
func tarred(t testing.TB, entries ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for i := 0; i < len(entries); i += 2 {
		h := &tar.Header{Name: entries[i], Mode: 0o640, Size: int64(len(entries[i+1])), Typeflag: tar.TypeReg, Uname: "imke"}
		if strings.HasSuffix(h.Name, "/") {
			h.Typeflag = tar.TypeDir
		}
		if to, link := strings.CutPrefix(entries[i+1], "->"); link {
			h.Typeflag, h.Linkname, h.Size = tar.TypeSymlink, to, 0
		}
		if err := w.WriteHeader(h); err != nil {
			t.Fatal(err)
		}
		if h.Typeflag == tar.TypeReg {
			_, _ = w.Write([]byte(entries[i+1]))
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func zippedUp(t testing.TB, data []byte) []byte {
	t.Helper()
	out, err := packed(gzip.Header{Name: "rounds.tar"}, data)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func TestArchivesInPackedFilesAreReadAndWrittenByElement(t *testing.T) {
	long := strings.Repeat("a-long-name/", 20) + "notes.txt"
	inner := func(label string) []byte {
		return tarred(t, "forms/", "", "forms/round.xml", fmt.Sprintf(`<form id="round"><field id="tank" label="%s"/></form>`, label), long,
			"one\ntwo\n", "latest", "->forms/round.xml")
	}
	table := archives()
	for name, wrap := range map[string]func([]byte) []byte{"rounds.tar": func(b []byte) []byte { return b },
		"rounds.tar.gz": func(b []byte) []byte { return zippedUp(t, b) }} {
		from, to := kind.FileSource{Name: name, Data: wrap(inner("Tank"))}, kind.FileSource{Name: name, Data: wrap(inner("Tank number"))}
		k := table.For(name, from.Data).(kind.Writer)
		a, err := k.Read(from)
		if err != nil {
			t.Fatal(err)
		}
		b, err := k.Read(to)
		if err != nil {
			t.Fatal(err)
		}
		changes := element.Compare(a.Root, b.Root).Changes(name)
		if len(changes) != 1 || !strings.HasSuffix(changes[0].Address.String(), `part:"forms/round.xml"/form:round/field:tank.label`) {
			t.Errorf("%s: %v", name, changes)
		}
		files, err := k.Write(from, b.Root, b.Content)
		if err != nil {
			t.Fatal(err)
		}
		if !bytes.Equal(files[name], to.Data) {
			t.Errorf("%s: more was written anew than what changed", name)
		}
		s := k.(kind.Splitter)
		parts, err := s.Split(from)
		if err != nil {
			t.Fatal(err)
		}
		joined, err := s.Join(parts)
		if err != nil {
			t.Fatal(err)
		}
		again, err := k.Read(kind.FileSource{Name: name, Data: joined})
		if err != nil || again.Root.Sum() != a.Root.Sum() {
			t.Errorf("%s: joined, %v:\n%s", name, err, again.Root.Dump())
		}
		if twice, _ := s.Join(parts); !bytes.Equal(twice, joined) {
			t.Errorf("%s: joining twice gives other bytes", name)
		}
	}
}

func TestHostileArchivesOfOtherFormsAreRefused(t *testing.T) {
	table := archives()
	good := tarred(t, "a.txt", strings.Repeat("x", 2000))
	for name, data := range map[string][]byte{
		"cut": good[:1100], "twice": tarred(t, "a", "1", "a", "2"), "cut gzip": zippedUp(t, good)[:60],
		"two gzips": append(zippedUp(t, good), zippedUp(t, good)...),
	} {
		src := kind.FileSource{Name: "x", Data: data}
		if _, err := table.For("x", data[:min(len(data), kind.HeadSize)]).Read(src); err == nil {
			t.Errorf("%s: it is taken", name)
		}
	}
}

func TestAGzipFileThatUnpacksToTooMuchIsRefused(t *testing.T) {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	block := make([]byte, 1<<20)
	for range kind.MaxFile/len(block) + 1 {
		_, _ = w.Write(block)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	if _, err := (Gzip{archives()}).Read(kind.FileSource{Name: "flood.gz", Data: b.Bytes()}); err == nil ||
		!strings.Contains(err.Error(), "unpacks to more") {
		t.Errorf("%d bytes that unpack to more than %d: %v", b.Len(), kind.MaxFile, err)
	}
}

func TestWhatWasOpenIsNotSealedByHand(t *testing.T) {
	k, _ := archives().Named("package")
	s := k.(kind.Splitter)
	app := zipped(t, "solution.json", `{"name": "rounds", "sealed": false}`, "forms/round.xml", "<form/>")
	parts, err := s.Split(source(app))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Join(parts); err != nil {
		t.Fatal(err)
	}
	for i := range parts {
		if parts[i].Name == "parts/solution.json" {
			parts[i].Data = []byte(`{"name": "rounds", "sealed": true}`)
		}
	}
	if _, err := s.Join(parts); err == nil || !strings.Contains(err.Error(), "taken apart from an open package") {
		t.Errorf("it is sealed: %v", err)
	}
}

func FuzzArchives(f *testing.F) {
	f.Add(tarred(f, "a/", "", "a/b.xml", "<a/>", "l", "->a"))
	f.Add(zippedUp(f, tarred(f, "a", "b")))
	f.Add(zippedUp(f, []byte(`{"a":[1]}`)))
	table := archives()
	f.Fuzz(func(t *testing.T, data []byte) {
		src := kind.FileSource{Name: "x.tar.gz", Data: data}
		k, ok := table.For(src.Name, data[:min(len(data), kind.HeadSize)]).(kind.Writer)
		if !ok || k.Name() != "tar" && k.Name() != "gzip" {
			return
		}
		r, err := k.Read(src)
		if err != nil {
			return
		}
		if files, err := k.Write(src, r.Root, nil); err != nil || files != nil {
			t.Fatalf("an equal tree: %v", err)
		}
		parts, err := k.(kind.Splitter).Split(src)
		if err != nil {
			t.Fatal(err)
		}
		joined, err := k.(kind.Splitter).Join(parts)
		if err != nil {
			return // pax has no place for every name
		}
		again, err := k.Read(kind.FileSource{Name: src.Name, Data: joined})
		if err != nil || again.Root.Sum() != r.Root.Sum() {
			t.Fatalf("joined: %v", err)
		}
	})
}
