package main

import (
	"bytes"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"oakenchest/sample"
)

func TestSplitAndJoin(t *testing.T) {
	p := world(t)
	for _, c := range []struct{ file, part, old, new, change string }{
		{sample.App, "parts/reports/log.xml.embedded/log-text.json", "120", "140",
			`part:"reports/log.xml"/report:log/layout:#1/embedded:text/list:columns/item:tank.width`},
		{sample.Scene, "nodes/Lamp.json", "[1, 1, 1]", "[2, 1, 1]", "node:Lamp.scale"},
	} {
		p.ok("split", c.file, "parts")
		p.ok("join", "parts", "joined")
		if out := p.ok("compare", "file:"+c.file, "file:joined"); !strings.Contains(out, "alike") &&
			!strings.Contains(out, "without meaning") {
			t.Errorf("%s joined differs: %s", c.file, out)
		}
		p.ok("split", "joined", "again")
		if p.tree("again") != strings.ReplaceAll(p.tree("parts"), "/parts/", "/again/") &&
			!strings.Contains(p.tree("parts"), "/parts/parts/") {
			t.Errorf("%s: split of the joined file differs", c.file)
		}
		p.write("parts/"+c.part, strings.Replace(p.read("parts/"+c.part), c.old, c.new, 1))
		p.fails(4, "is there already", "join", "parts", "joined")
		p.ok("join", "parts", "joined", "--replace")
		if out := p.ok("compare", "file:"+c.file, "file:joined"); !strings.Contains(out, c.change) || strings.Count(out, "\n") != 2 {
			t.Errorf("%s edited in parts: %s", c.file, out)
		}
		for _, name := range []string{"parts", "again", "joined"} {
			os.RemoveAll(p.path(name))
		}
	}
}

func TestInspectAndKinds(t *testing.T) {
	p := world(t)
	if out := p.ok("inspect", "exhibit/reef.glb::node:Lamp.scale"); out != "1 1 1\n" {
		t.Errorf("one property: %q", out)
	}
	if out := p.ok("inspect", "database", "--depth", "2"); !strings.Contains(out, "column:tank_id  integer not null references tank(id)") {
		t.Errorf("a declared folder: %s", out)
	}
	if out := p.ok("kinds"); !strings.Contains(out, "scene") || !strings.Contains(out, "merges, splits") {
		t.Errorf("kinds: %s", out)
	}
}

// TestBinariesShowWhatChanged edits a picture, a sound, a table and a database
// file, and reads what compare says.
func TestBinariesShowWhatChanged(t *testing.T) {
	p := world(t)
	p.write("exhibit/tanks.csv", "id,name,litres\n1,Reef,42000\n2,Kelp,31000\n")
	p.sql("exhibit/stock.db", "create table tank (id integer primary key, name text, litres integer); insert into tank (name, litres) "+
		"values ('Reef', 42000), ('Kelp', 31000), ('Jellies', 2600)")
	p.ok("commit", "-m", "Also a table, and a database file")
	img, err := png.Decode(strings.NewReader(p.read(sample.Texture)))
	if err != nil {
		t.Fatal(err)
	}
	canvas := image.NewNRGBA(img.Bounds())
	draw.Draw(canvas, canvas.Rect, img, image.Point{}, draw.Src)
	draw.Draw(canvas, image.Rect(4, 6, 14, 11), image.NewUniform(color.NRGBA{255, 0, 0, 255}), image.Point{}, draw.Src)
	var buf bytes.Buffer
	if err := png.Encode(&buf, canvas); err != nil {
		t.Fatal(err)
	}
	p.write(sample.Texture, buf.String())
	wav := []byte(p.read(sample.Sound))
	for i := len(wav) - 2000; i < len(wav); i++ {
		wav[i] = 0
	}
	p.write(sample.Sound, string(wav))
	p.write("exhibit/tanks.csv", "id,name,litres\n1,Reef,43000\n2,Kelp,31000\n")
	p.sql("exhibit/stock.db", "insert into tank (name, litres) values ('Rays', 9000); update tank set litres = 2700 where name = 'Jellies'")
	out := p.ok("compare")
	for _, want := range []string{"of the pixels differ, by up to", "10 × 5 at 4, 6", "it differs from 0.41 s to",
		"exhibit/tanks.csv::row:1.litres", "42000 → 43000", "exhibit/stock.db::table:tank/row:3.litres", "2600 → 2700",
		"exhibit/stock.db::table:tank/row:4", "added  4, Rays, 9000"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is not in\n%s", want, out)
		}
	}
	if out := p.ok("inspect", sample.Sound); !strings.Contains(out, "loudness") || !strings.Contains(out, "LUFS") ||
		!strings.Contains(out, "seconds") {
		t.Errorf("inspect of a sound: %s", out)
	}
	if out := p.ok("lock", sample.Sound); !strings.Contains(out, "can't be merged") {
		t.Errorf("lock of a sound: %s", out)
	}
	if out := p.ok("lock", sample.Scene, "notes", "database"); strings.Contains(out, "can't be merged") {
		t.Errorf("lock of what can be merged: %s", out)
	}
}

// corpus gives the folder with real files of other people's making, which the
// script test/corpus fetches.
func corpus(t *testing.T) string {
	t.Helper()
	dir := os.Getenv("OAKEN_CORPUS")
	if dir == "" {
		t.Skip("run test/corpus and set OAKEN_CORPUS to the folder that it names")
	}
	return dir
}

func one(t *testing.T, dir, pattern string) string {
	t.Helper()
	found := ""
	err := filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if ok, _ := filepath.Match(pattern, d.Name()); ok && found == "" && !d.IsDir() {
			found = p
		}
		return err
	})
	if err != nil || found == "" {
		t.Fatalf("no %s below %s: %v", pattern, dir, err)
	}
	return found
}

// TestRealFilesGoAllTheWay takes files that none of us made through begin,
// commit, edit, compare, branch, merge and restore.
func TestRealFilesGoAllTheWay(t *testing.T) {
	dir := corpus(t)
	p := empty(t)
	originals := map[string][]byte{}
	for name, pattern := range map[string]string{"text.odt": "complicated.odt", "truck.glb": "BoxTextured.glb",
		"brew.db": "default_db.sqlite", "model.gltf": "BoxTextured.gltf"} {
		below := dir
		if strings.HasPrefix(pattern, "Box") {
			below = filepath.Join(dir, "usr/share/assimp/models/glTF2/BoxTextured-glTF")
		}
		if strings.HasSuffix(pattern, ".glb") {
			below += "-Binary"
		}
		from := one(t, below, pattern)
		if name == "model.gltf" {
			for _, beside := range []string{"BoxTextured0.bin", "CesiumLogoFlat.png"} {
				data, err := os.ReadFile(filepath.Join(filepath.Dir(from), beside))
				if err != nil {
					t.Fatal(err)
				}
				p.write(beside, string(data))
			}
		}
		data, err := os.ReadFile(from)
		if err != nil {
			t.Fatal(err)
		}
		p.write(name, string(data))
		originals[name] = data
	}
	p.ok("begin")
	p.ok("env", "add", "brew", "sqlite:brew.db", "--into", "database")
	p.ok("capture", "brew")
	if out := p.ok("changes"); strings.Contains(out, "kept as opaque") {
		t.Errorf("something can't be read: %s", out)
	}
	p.ok("commit", "-m", "Real files")
	p.ok("branch", "other")

	// One side edits the document's text, a node of each scene, and a table.
	p.editODT("text.odt", "</office:text>", `<text:p>A line of ours</text:p></office:text>`)
	p.editScene("truck.glb", `"mesh":0`, `"mesh":0,"translation":[1,2,3]`)
	p.sql("brew.db", "alter table yeast add column keeper text")
	p.ok("capture", "brew")
	out := strings.Join(strings.Fields(p.ok("compare")), " ")
	for _, want := range []string{"A line of ours", "truck.glb::node:", ".translation", "database::table:yeast/column:keeper added text"} {
		if !strings.Contains(out, want) {
			t.Errorf("compare lacks %q:\n%s", want, out)
		}
	}
	p.ok("commit", "-m", "Ours")

	// The other side edits other things in the same artifacts.
	p.ok("go", "other")
	if !bytes.Equal([]byte(p.read("text.odt")), originals["text.odt"]) ||
		!bytes.Equal([]byte(p.read("truck.glb")), originals["truck.glb"]) {
		t.Error("switch did not bring the original bytes")
	}
	p.editODT("meta.xml:text.odt", "</office:meta>",
		`<dc:subject xmlns:dc="http://purl.org/dc/elements/1.1/">Brewing</dc:subject></office:meta>`)
	p.editScene("truck.glb", `"metallicFactor":0.0`, `"metallicFactor":0.5`)
	p.write("database/tables/yeast.sql", strings.Replace(p.read("database/tables/yeast.sql"), "(\n", "(\n  cellar text,\n", 1))
	p.ok("commit", "-m", "Theirs")
	p.ok("go", "main")
	if out := p.ok("merge", "other"); strings.Count(out, "combined by element") != 3 {
		t.Errorf("merge: %s", out)
	}
	out = p.ok("compare", "main:1", "main")
	for _, want := range []string{"A line of ours", "Brewing", ".translation", "metallicFactor", "column:keeper", "column:cellar"} {
		if !strings.Contains(out, want) {
			t.Errorf("after the merge, compare lacks %q:\n%s", want, out)
		}
	}
	if out := p.ok("deploy", "brew"); !strings.Contains(out, "agree") {
		t.Errorf("deploy: %s", out)
	}
	p.ok("restore", ".", "--from", "main:1", "--to", "back")
	for _, name := range []string{"text.odt", "truck.glb", "model.gltf"} {
		if !bytes.Equal([]byte(p.read("back/"+name)), originals[name]) {
			t.Errorf("%s did not come back byte for byte", name)
		}
	}
	p.soundOffice("text.odt")
}

// editODT replaces text in an entry of an OpenDocument file with Info-ZIP's
// program: `ENTRY:FILE`, or the contents of FILE.
func (p *project) editODT(file, old, new string) {
	p.t.Helper()
	entry := "content.xml"
	if e, f, ok := strings.Cut(file, ":"); ok {
		entry, file = e, f
	}
	p.tool("unzip", "-o", "-q", file, entry)
	text := p.read(entry)
	if !strings.Contains(text, old) {
		p.t.Fatalf("%s of %s holds no %s", entry, file, old)
	}
	p.write(entry, strings.Replace(text, old, new, 1))
	p.tool("zip", "-q", file, entry)
	os.Remove(p.path(entry))
}

func (p *project) tool(name string, args ...string) {
	p.t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Dir = p.dir
	if out, err := cmd.CombinedOutput(); err != nil {
		p.t.Fatalf("%s: %v\n%s", name, err, out)
	}
}

// editScene replaces text in a .glb's JSON and corrects its lengths.
func (p *project) editScene(file, old, new string) {
	p.t.Helper()
	data := []byte(p.read(file))
	size := int(data[12]) | int(data[13])<<8 | int(data[14])<<16 | int(data[15])<<24
	text := string(data[20 : 20+size])
	if !strings.Contains(text, old) {
		p.t.Fatalf("%s holds no %s:\n%.2000s", file, old, text)
	}
	text = strings.Replace(text, old, new, 1)
	for len(text)%4 != 0 {
		text += " "
	}
	rest := data[20+size:]
	total := 20 + len(text) + len(rest)
	head := append([]byte{}, data[:20]...)
	for k := range 4 {
		head[8+k], head[12+k] = byte(total>>(8*k)), byte(len(text)>>(8*k))
	}
	p.write(file, string(head)+text+string(rest))
}

// soundOffice checks a merged document as the format demands: the archive is
// whole, and `mimetype` comes first and uncompressed.
func (p *project) soundOffice(file string) {
	p.t.Helper()
	p.tool("unzip", "-tq", file)
	if data := p.read(file); !strings.HasPrefix(data[30:], "mimetypeapplication/vnd.oasis.opendocument.text") {
		p.t.Errorf("%s does not begin with its mimetype", file)
	}
}
