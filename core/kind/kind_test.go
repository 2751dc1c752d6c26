package kind_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/all"
	"oakenchest/core/kind/opaque"
	"oakenchest/sample"
)

// clumsy is a kind with a bug.
type clumsy struct{ opaque.Kind }

func (clumsy) Name() string                            { return "clumsy" }
func (clumsy) Claims(p string, _ []byte) bool          { return strings.HasSuffix(p, ".clumsy") }
func (clumsy) Read(kind.Source) (*kind.Reading, error) { panic("index out of range") }

func TestABugInAKindKeepsNobodyFromTheirBytes(t *testing.T) {
	table := kind.NewTable(clumsy{}, opaque.Kind{})
	src := kind.FileSource{Name: "a/x.clumsy", Data: []byte("bytes")}
	r, used, why := table.Read(table.For("a/x.clumsy", nil), src)
	if used.Name() != "opaque" || why == nil || !strings.Contains(why.Error(), "the clumsy reader failed") {
		t.Errorf("%v, %v", used, why)
	}
	d, n := r.Root.Prop("content").Content()
	if data, ok := r.Content(d); !ok || string(data) != "bytes" || n != 5 {
		t.Errorf("content %q", data)
	}
	defer func() {
		if recover() == nil {
			t.Error("two kinds of one name are taken")
		}
	}()
	kind.NewTable(opaque.Kind{}, opaque.Kind{})
}

func TestFilesFindTheirKinds(t *testing.T) {
	table := all.Table()
	for _, c := range []struct{ path, head, want string }{
		{"a.glb", "rubbish", "scene"}, {"a.gltf", "{", "scene"}, {"a", "glTF\x02\x00\x00\x00", "scene"}, {"a.odt", "PK\x03\x04",
			"document"}, {"a.odg", "PK\x03\x04", "package"}, {"a.xml", "<a/>", "xml"}, {"a", "\ufeff<?xml version", "xml"},
		{"a.svg", " <svg", "xml"}, {"a.html", "<html>", "text"}, {"A.JSON", "{", "json"}, {"a.txt", "words", "text"},
		{"a.sql", "create table", "text"}, {"a", "", "text"}, {"a", "\x00", "opaque"}, {"a.png", "\x89PNG\r\n\x1a\n", "picture"},
		{"a.png", "\x89PNG\r\n", "opaque"}, {"a", "\xff\xd8\xff\xe0", "picture"}, {"a.bmp", "BM words, and more of them", "text"},
		{"a.csv", "id,name\n1,x\n", "table"}, {"a.csv", "only one\n", "text"}, {"a.tsv", "a\tb\n", "table"}, {"a.wav", "RIFF....WAVEfmt ",
			"sound"}, {"a", "RIFF....WEBPVP8 ", "picture"}, {"a", "OggS\x00", "sound"}, {"a", "fLaC\x00", "sound"},
	} {
		if got := table.For(c.path, []byte(c.head)).Name(); got != c.want {
			t.Errorf("%s beginning with %q is %s, want %s", c.path, c.head, got, c.want)
		}
	}
	if k, ok := table.Named("schema"); !ok || k.Claims("x.sql", nil) {
		t.Error("a single SQL file became a schema")
	}
}

// workbook makes a spreadsheet with another program's package.
func workbook(t *testing.T) []byte {
	t.Helper()
	f := excelize.NewFile()
	defer f.Close()
	bold, err := f.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}})
	for cell, v := range map[string]any{"A1": "Tank", "B1": "Litres", "A2": "Reef", "B2": 42000, "A3": "Kelp", "B3": 31000.5} {
		err = errors.Join(err, f.SetCellValue("Sheet1", cell, v))
	}
	var b bytes.Buffer
	if err := errors.Join(err, f.SetCellFormula("Sheet1", "B4", "SUM(B2:B3)"), f.SetCellStyle("Sheet1", "A1", "B1", bold),
		f.Write(&b)); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// TestEveryKindKeepsItsPromises runs the same demands on each kind, with a
// sample of its own.
func TestEveryKindKeepsItsPromises(t *testing.T) {
	reef, err := sample.Reef(sample.Lamp{Scale: 1, Brightness: 40})
	if err != nil {
		t.Fatal(err)
	}
	app, err := sample.RoundsApp("Rounds")
	if err != nil {
		t.Fatal(err)
	}
	samples := map[string]kind.FileSource{
		"scene": {Name: "reef.glb", Data: reef}, "package": {Name: "rounds.app", Data: app}, "schema": {Name: "x.sql",
			Data: []byte(sample.Schema)}, "xml": {Name: "a.xml", Data: []byte("<a id='1'><b>x</b></a>")},
		"json": {Name: "a.json", Data: []byte(`{"a":[{"id":1}]}`)}, "text": {Name: "a.txt", Data: []byte("one\ntwo")},
		"opaque": {Name: "a.bin", Data: []byte{0, 1}}, "model": {Name: "a.obj",
			Data: []byte("o Rock\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")}, "tar": {Name: "a.tar", Data: tarred(t)},
		"gzip": {Name: "a.txt.gz", Data: gzipped(t)},
		"yaml": {Name: "a.yaml", Data: []byte("a: {b: 1}\n")}, "toml": {Name: "a.toml", Data: []byte("[a]\nb = 1\n")},
		"settings": {Name: "a.ini", Data: []byte("[a]\nb=1\n")},
		"postgres-schema": {Name: "x.sql",
			Data: []byte("create table a (id int primary key, note text);\ncreate view v as select id from a;\ncomment on table a is 'x';\n")}, "mariadb-schema": {Name: "x.sql", Data: []byte("create table a (id int primary key, note text comment 'x');\ncreate view v as select id from a;\n")},
		"database": {Name: "tanks.db", Data: tanks(t)}, "table": {Name: "a.csv", Data: []byte("id,name\n1,Reef\n")},
		"picture": {Name: "sand.png", Data: sample.SandPNG(16)}, "sound": {Name: "bubbles.wav", Data: sample.BubblesWAV()},
		"workbook": {Name: "tanks.xlsx", Data: workbook(t)}, "document": {Name: "tanks.odt", Data: openText(t)},
	}
	flat := map[string]bool{"opaque": true, "picture": true, "sound": true} // these say what they are by properties
	for _, k := range all.Table().All() {
		src, ok := samples[k.Name()]
		if !ok {
			t.Errorf("no sample for %s", k.Name())
			continue
		}
		before := string(src.Data)
		one, err := k.Read(src)
		if err != nil {
			t.Errorf("%s: %v", k.Name(), err)
			continue
		}
		two, _ := k.Read(src)
		if one.Root.Sum() != two.Root.Sum() || string(src.Data) != before {
			t.Errorf("%s: reading twice gives two trees, or changed the bytes", k.Name())
		}
		checkKeys(t, k.Name(), one.Root)
		if w, ok := k.(kind.Writer); ok {
			if files, err := w.Write(src, one.Root, one.Content); err != nil || len(files) != 0 && string(files[src.Name]) != before {
				t.Errorf("%s: writing an equal tree changed something: %v", k.Name(), err)
			}
		}
		if k.About() == "" || !flat[k.Name()] && len(one.Root.Children) == 0 || len(one.Root.Children)+len(one.Root.Props) == 0 {
			t.Errorf("%s says nothing of itself or found nothing", k.Name())
		}
	}
}

// openText is a text document.
func openText(t *testing.T) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, err := z.Create("content.xml")
	if err == nil {
		_, err = w.Write([]byte(`<office:document-content xmlns:office="o" xmlns:text="t"><office:body><office:text><text:p>Before</text:p><text:h>Tanks</text:h><text:p>Two.</text:p></office:text></office:body></office:document-content>`))
	}
	if err := errors.Join(err, z.Close()); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// tarred is an archive.
func tarred(t *testing.T) []byte {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	if err := w.WriteHeader(&tar.Header{Name: "a.txt", Size: 3, Mode: 0o644}); err != nil {
		t.Fatal(err)
	}
	_, _ = w.Write([]byte("one"))
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func gzipped(t *testing.T) []byte {
	t.Helper()
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, _ = w.Write([]byte("one\n"))
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// tanks is a database file.
func tanks(t *testing.T) []byte {
	t.Helper()
	name := filepath.Join(t.TempDir(), "tanks.db")
	if err := sample.Run(t.Context(), name, sample.Schema); err != nil {
		t.Fatal(err)
	}
	data, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	return data
}

// checkKeys demands that every element can be found by its address.
func checkKeys(t *testing.T, name string, root *element.Element) {
	t.Helper()
	var visit func(e *element.Element, at element.Address)
	visit = func(e *element.Element, at element.Address) {
		for i, s := range e.Steps() {
			below := at.Below(s)
			read, err := element.ParseAddress(below.String())
			if err != nil || root.Find(read.Steps) != e.Children[i] {
				t.Errorf("%s: %s does not lead to its element: %v", name, below, err)
			}
			visit(e.Children[i], below)
		}
	}
	visit(root, element.Address{Path: "x"})
}

func TestSourcesSayWhatIsMissing(t *testing.T) {
	src := kind.FileSource{Name: "a/b.txt", Data: []byte("x")}
	if _, err := src.File("c.txt"); !errors.Is(err, kind.ErrNoFile) {
		t.Errorf("a sibling that is not there: %v", err)
	}
	both := kind.Contents(nil, kind.Held(map[element.Digest][]byte{{1}: []byte("one")}),
		kind.Held(map[element.Digest][]byte{{2}: []byte("two")}))
	if data, ok := both(element.Digest{2}); !ok || string(data) != "two" {
		t.Error("joined contents")
	}
	if _, ok := both(element.Digest{3}); ok {
		t.Error("unknown content was found")
	}
}
