package main

import (
	"os"
	"strings"
	"testing"

	"oakenchest/sample"
)

// TestWhatCanBeReadNoMoreIsTold breaks artifacts that could be read: changes names each with file and place,
// a commit warns, or is refused where the project says so.
func TestWhatCanBeReadNoMoreIsTold(t *testing.T) {
	p := empty(t)
	p.ok("begin")
	p.write("a.json", "{\"a\": 1}\n")
	p.write("b.xml", "<r><a/></r>\n")
	p.write("plain.json", "{never was\n")
	p.write("sub/e.gltf", `{"asset":{"version":"2.0"},"buffers":[{"uri":"e.bin","byteLength":4}],"bufferViews":[{"buffer":0,"byteLength":4}],"accessors":[{"bufferView":0,"componentType":5126,"count":1,"type":"SCALAR"}],"meshes":[{"primitives":[{"attributes":{"X":0}}]}]}`)
	p.write("sub/e.bin", "\x00\x00\x00\x00")
	p.write("sub/other.txt", "x\n")
	p.ok("commit", "-m", "Sound")
	p.write("a.json", "{\"a\": 1\n")
	p.write("b.xml", "<r><a></r>\n")
	p.write("plain.json", "{never will be\n")
	p.write("new.json", "{\n")
	os.Remove(p.path("sub/e.bin"))
	told := []string{"a.json can be read as json no more: line 1, column 1",
		"b.xml can be read as xml no more: line 1: </r> closes nothing", "sub/e.gltf can be read as scene no more: buffer 0: sub/e.bin"}
	p.says(p.ok("changes"), told...)
	if list := p.object("changes")["unreadable"].([]any); len(list) != 3 {
		t.Errorf("unreadable: %v", list)
	}
	r := p.run("commit", "b.xml", "-m", "One of them")
	if p.says(r.err, told[1]); r.status != 0 || strings.Contains(r.err, "e.gltf") || strings.Contains(r.err, "a.json") {
		t.Errorf("a commit of one: %d %s", r.status, r.err)
	}
	rules := p.read("oaken.toml")
	p.write("oaken.toml", rules+"\n[check]\nunreadable = \"refuse\"\n")
	p.fails(4, told[0]+"", "commit", "-m", "Refused")
	p.write("b.xml", "<r><a/><b></r>\n") // it was not readable before
	p.ok("commit", "b.xml", "plain.json", "oaken.toml", "-m", "What was no better before")
	p.fails(2, "warn or refuse", "commit", "-m", "x", "--in", func() string {
		p.write("oaken.toml", rules+"\n[check]\nunreadable = \"maybe\"\n")
		return "."
	}())
	p.write("oaken.toml", rules)
	p.ok("commit", "-m", "With warnings")

	// A scene without its buffer on both sides, and nothing of it edited, is in no comparison.
	p.write("sub/other.txt", "y\n")
	p.ok("commit", "-m", "Something else")
	if out := p.ok("compare", "main:4", "main"); strings.Contains(out, "e.gltf") {
		t.Error(out)
	}
	// Nothing is called meaningless that was not read.
	p.write("a.json", "{\"a\": 1 \n")
	if out := p.ok("compare"); strings.Contains(out, "only bytes without meaning") {
		t.Error(out)
	}
}

// TestASplitSceneThatLacksAParentIsTold takes the file of a node away that others hang on.
func TestASplitSceneThatLacksAParentIsTold(t *testing.T) {
	p := empty(t)
	p.ok("begin")
	p.reef(sample.Lamp{Scale: 1, Brightness: 40})
	p.ok("split", sample.Scene, "exhibit/parts", "--as-artifact")
	p.ok("commit", "-m", "Split")
	os.Remove(p.path("exhibit/parts/nodes/Rock.json"))
	p.says(p.ok("changes"), "exhibit/parts can be read as scene no more", `"Rock"`)
	r := p.run("commit", "-m", "Without its parent")
	if p.says(r.err, "exhibit/parts can be read as scene no more"); r.status != 0 {
		t.Errorf("%d %s", r.status, r.err)
	}
}
