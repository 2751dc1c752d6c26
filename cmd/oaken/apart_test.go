package main

import (
	"os"
	"strings"
	"testing"

	"oakenchest/sample"
)

// TestASceneIsEditedNodeByNode keeps a scene taken apart: two people lock and edit
// different nodes, and a merge of two edits inside one part goes by element.
func TestASceneIsEditedNodeByNode(t *testing.T) {
	p := world(t)
	p.fails(4, "not empty", "split", sample.Scene, "exhibit", "--as-artifact")
	p.ok("split", sample.Scene, "exhibit/reef", "--as-artifact")
	os.Remove(p.path(sample.Scene))
	p.ok("commit", "-m", "The reef, node by node")
	edit := func(q *project, file, old, fresh string) {
		t.Helper()
		text := q.read(file)
		if !strings.Contains(text, old) {
			t.Fatalf("no %q in %s:\n%s", old, file, text)
		}
		os.Remove(q.path(file))
		q.write(file, strings.Replace(text, old, fresh, 1))
	}
	p.ok("lock", "exhibit/reef/nodes/Lamp.json")
	other := &project{t: t, dir: t.TempDir()}
	other.ok("--as", "Tarek", "open", p.dir, ".")
	other.fails(4, "locked by Imke", "--as", "Tarek", "lock", "exhibit/reef/nodes/Lamp.json")
	other.ok("--as", "Tarek", "lock", "exhibit/reef/nodes/Rock.json")
	edit(p, "exhibit/reef/nodes/Lamp.json", "\"scale\": [1, 1, 1]", "\"scale\": [2, 2, 2]")
	edit(other, "exhibit/reef/nodes/Rock.json", "-1.5", "-1.75")
	if out := p.ok("compare"); !strings.Contains(out, "exhibit/reef::node:Lamp.scale  1 1 1 → 2 2 2") {
		t.Errorf("compare:\n%s", out)
	}
	p.ok("commit", "-m", "A larger lamp")
	other.ok("--as", "Tarek", "sync")
	other.ok("--as", "Tarek", "commit", "-m", "The rock moves")
	p.ok("sync")
	p.ok("join", "exhibit/reef", "reef.glb")
	out := p.ok("inspect", "reef.glb::node:Lamp") + p.ok("inspect", "reef.glb::node:Rock")
	if !strings.Contains(out, "2 2 2") || !strings.Contains(out, "-1.75") {
		t.Errorf("joined:\n%s", out)
	}
	p.ok("branch", "rock")
	p.ok("go", "rock")
	edit(p, "exhibit/reef/nodes/Rock.json", "-1.75", "-2")
	p.ok("commit", "-m", "On the branch")
	p.ok("go", "main")
	edit(p, "exhibit/reef/nodes/Rock.json", "\"scale\": [1, 1, 1]", "\"scale\": [3, 3, 3]")
	p.ok("commit", "-m", "On main")
	p.ok("merge", "rock")
	if text := p.read("exhibit/reef/nodes/Rock.json"); !strings.Contains(text, "-2,") || !strings.Contains(text, "3, 3, 3") {
		t.Errorf("merged:\n%s", text)
	}
}
