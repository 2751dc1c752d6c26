package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"oakenchest/sample"
)

// beside opens another workspace of a project's chest.
func (p *project) beside(name string, args ...string) *project {
	p.t.Helper()
	at := &project{t: p.t, dir: p.t.TempDir()}
	at.ok(append([]string{"--as", "Odalys", "open", p.dir, name}, args...)...)
	return &project{t: p.t, dir: filepath.Join(at.dir, name)}
}

func (p *project) has(name string) bool {
	_, err := os.Lstat(p.path(name))
	return err == nil
}

// TestAPartOfTheProject works in a workspace that holds a part: what is not laid
// out counts as unchanged, through edits, merges, switches and syncs.
func TestAPartOfTheProject(t *testing.T) {
	imke := world(t)
	imke.write("exhibit/lamp.txt", "a lamp\n")
	imke.ok("commit", "-m", "A lamp")
	imke.ok("branch", "kelp")
	part := imke.beside("part", "--only", "database", "--only", "**/*.png")
	if part.has(sample.Scene) || part.has(sample.Notes) || !part.has("exhibit/textures/sand.png") ||
		!part.has("database/tables/tank.sql") || !part.has("oaken.toml") {
		t.Fatalf("laid out: %s", part.tree("."))
	}
	if out := part.ok("changes"); !strings.Contains(out, "Nothing has changed") ||
		!strings.Contains(out, "a part of the project: database, **/*.png") {
		t.Errorf("changes: %s", out)
	}
	if out := part.ok("compare", "main:1", "work"); strings.Contains(out, "reef") || !strings.Contains(out, "lamp.txt") {
		t.Errorf("compare with what is not laid out: %s", out)
	}
	part.write("database/README", "About the tanks\n")
	os.Remove(part.path("exhibit/textures/sand.png"))
	part.ok("commit", "-m", "From a part")
	imke.ok("sync")
	if !imke.has(sample.Scene) || !imke.has("exhibit/lamp.txt") || imke.has("exhibit/textures/sand.png") || !imke.has("database/README") {
		t.Errorf("a commit from a part took more away than it said: %s", imke.tree("."))
	}
	imke.reef(sample.Lamp{Scale: 3, Brightness: 10})
	imke.write("database/README", "About the tanks and pumps\n")
	imke.ok("commit", "-m", "Outside of the part, and inside")
	part.write("database/more.txt", "more\n")
	part.ok("sync")
	if part.has(sample.Scene) || part.read("database/README") != "About the tanks and pumps\n" {
		t.Error("sync laid out what was not wanted, or not what was")
	}
	part.ok("commit", "-m", "More")
	part.ok("restore", sample.Notes, "--from", "main")
	if out := part.ok("changes"); !part.has(sample.Notes) || !strings.Contains(out, "Nothing has changed") {
		t.Errorf("bringing more of the project here: %s", out)
	}
	part.write(sample.Notes, "edited\n")
	part.ok("commit", "-m", "Notes")
	part.ok("go", "kelp")
	if part.has(sample.Scene) || !part.has("exhibit/textures/sand.png") || part.has("database/README") {
		t.Error("after a switch")
	}
	part.ok("merge", "main")
	part.ok("commit", "-m", "Main into kelp")
	whole := imke.beside("whole", "--branch", "kelp")
	imke.ok("sync")
	if got, want := whole.tree("."), imke.tree("."); strings.ReplaceAll(got, "x", "") == "" ||
		whole.read(sample.Scene) != imke.read(sample.Scene) || whole.read(sample.Notes) != "edited\n" {
		t.Errorf("the merged branch: %s\nwant %s", got, want)
	}
	part.ok("health")
	(&project{t: t, dir: t.TempDir()}).fails(2, "is no pattern for --only", "open", imke.dir, "x", "--only", "[a")
}

func TestAReleaseInAFolderOfItsOwn(t *testing.T) {
	imke := world(t)
	imke.ok("release", "spring")
	first := imke.read(sample.Notes)
	imke.write(sample.Notes, "summer\n")
	imke.ok("commit", "-m", "Summer")
	at := &project{t: t, dir: t.TempDir()}
	if out := at.ok("open", imke.dir, "spring", "--from", "release:spring"); !strings.Contains(out, "not on the newest of main") {
		t.Errorf("open: %s", out)
	}
	spring := &project{t: t, dir: filepath.Join(at.dir, "spring")}
	if spring.read(sample.Notes) != first {
		t.Error("the release was not laid out")
	}
	spring.write(sample.Notes, "spring again\n")
	if r := spring.run("commit", "-m", "Late"); r.status != 3 || !strings.Contains(r.err, "what you committed is unsent") {
		t.Errorf("a commit behind newer ones: %d %s", r.status, r.err)
	}
	spring.ok("merge", "--abandon")
	spring.ok("discard", "--unsent")
	spring.ok("discard", ".")
	spring.ok("sync")
	if spring.read(sample.Notes) != "summer\n" {
		t.Error("sync did not bring the newest")
	}
	again := &project{t: t, dir: t.TempDir()}
	again.ok("open", spring.dir, "third") // a workspace whose chest lies elsewhere
	if third := (&project{t: t, dir: filepath.Join(again.dir, "third")}); third.read(sample.Notes) != "summer\n" {
		t.Error("a workspace of a workspace's chest")
	}
	at.fails(2, "names no state", "open", imke.dir, "none", "--from", "release:none")
}

func TestBareFoldersAreKept(t *testing.T) {
	p := world(t)
	if err := os.MkdirAll(p.path("exhibit/later/deep"), 0o777); err != nil {
		t.Fatal(err)
	}
	if rows := p.object("changes")["changes"].([]any); len(rows) != 1 || rows[0].(map[string]any)["path"] != "exhibit/later/deep" ||
		rows[0].(map[string]any)["kind"] != "folder" {
		t.Errorf("changes: %v", rows)
	}
	p.ok("commit", "-m", "A place for later")
	other := p.beside("other")
	if !other.has("exhibit/later/deep") {
		t.Fatal("the bare folder was not laid out")
	}
	other.write("exhibit/later/deep/fish.txt", "a fish\n")
	if rows := other.object("changes")["changes"].([]any); len(rows) != 1 || rows[0].(map[string]any)["state"] != "new" {
		t.Errorf("changes after something was put into it: %v", rows)
	}
	other.ok("commit", "-m", "A fish")
	p.ok("sync")
	if p.read("exhibit/later/deep/fish.txt") != "a fish\n" {
		t.Error("sync")
	}
	p.ok("restore", "exhibit/later", "--from", "main:2")
	if p.has("exhibit/later/deep/fish.txt") || !p.has("exhibit/later/deep") {
		t.Error("restore of a bare folder")
	}
	p.ok("commit", "-m", "No fish")
	os.Remove(p.path("exhibit/later/deep"))
	os.Remove(p.path("exhibit/later"))
	if out := p.ok("changes"); !strings.Contains(out, "gone  exhibit/later/deep  folder") {
		t.Errorf("changes: %s", out)
	}
	p.ok("commit", "-m", "No place either")
	other.ok("sync")
	if other.has("exhibit/later") {
		t.Error("the bare folder stays")
	}
	p.ok("restore", ".", "--from", "main:2", "--to", p.path("../old"))
	if !p.has("../old/exhibit/later/deep") {
		t.Error("restore --to leaves bare folders out")
	}
	p.ok("health")
}

func TestElementsComeBackOneByOne(t *testing.T) {
	p := world(t)
	p.reef(sample.Lamp{Scale: 2, Brightness: 80})
	p.ok("commit", "-m", "Large and bright")
	p.write("notes/opening.txt", "Something else.\n")
	if out := p.ok("restore", sample.Scene+"::node:Lamp.scale", "--from", "main:1"); !strings.Contains(out,
		"node:Lamp.scale as in main:1 again") {
		t.Errorf("restore: %s", out)
	}
	want, _ := sample.Reef(sample.Lamp{Scale: 1, Brightness: 80})
	if p.read(sample.Scene) != string(want) || p.read("notes/opening.txt") != "Something else.\n" {
		t.Error("more or less than one property came back")
	}
	p.write("database/tables/tank.sql", strings.Replace(p.read("database/tables/tank.sql"), "litres integer", "litres text", 1))
	if rows := p.object("compare", "main:1", "work", "database")["changes"].([]any); len(rows) != 1 {
		t.Errorf("the column's edit: %v", rows)
	}
	p.ok("restore", "database::table:tank/column:litres", "--from", "main:1")
	if rows := p.object("compare", "main:1", "work", "database")["changes"].([]any); len(rows) != 0 {
		t.Errorf("the column is not as it was: %v", rows)
	}
	p.fails(2, "can't be brought back", "restore", sample.Scene+"::node:Whale", "--from", "main:1")
	p.fails(2, "That is no address", "restore", sample.Scene+"::", "--from", "main:1")
	p.fails(2, "not together with whole paths", "restore", sample.Scene+"::node:Lamp", "notes", "--from", "main:1")
	p.fails(4, "can't be brought back one by one", "restore", sample.Sound+"::x:y", "--from", "main:1")
	if n := len(p.object("history", sample.Scene+"::node:Rock")["commits"].([]any)); n != 1 {
		t.Errorf("history of an element that never changed: %d commits", n)
	}
	rows := p.object("history", sample.Scene+"::node:Lamp.scale")["commits"].([]any)
	if len(rows) != 2 || rows[0].(map[string]any)["state"] != "main:2" || rows[0].(map[string]any)["versions"] != 2.0 {
		t.Errorf("history of a property: %v", rows)
	}
	p.fails(2, "No commit holds", "history", sample.Scene+"::node:Whale")
}

func TestFindingThroughHistory(t *testing.T) {
	p := chronicle(t)
	p.write("notes/plan.txt", "one\ntwo and a half\nthree, and a Half more\n")
	p.ok("commit", "-m", "More")
	p.write("notes/plan.txt", "one\nthree, and a Half more\n")
	p.ok("commit", "-m", "Less")
	var got []string
	for _, h := range p.object("find", "--history", "half")["hits"].([]any) {
		row := h.(map[string]any)
		went := "-"
		if row["went"] != nil {
			went = row["went"].(string)
		}
		got = append(got, row["value"].(string)+" "+row["came"].(string)+" "+went)
	}
	if strings.Join(got, "|") != "two and a half main:4 main:6|three, and a Half more main:5 -" {
		t.Errorf("got %q", got)
	}
	if hits := p.object("find", "--history", "lamp light", sample.Scene)["hits"].([]any); len(hits) != 2 { // a key, and a reference to it
		t.Errorf("lamp light: %v", hits)
	}
	p.reef(sample.Lamp{Scale: 1, Brightness: 90})
	p.ok("commit", "-m", "Brighter")
	for _, h := range p.object("find", "--history", "lamp light", sample.Scene)["hits"].([]any) {
		if row := h.(map[string]any); row["went"] != nil || row["came"] != "main:1" {
			t.Errorf("an element that was edited came anew: %v", row)
		}
	}
	if out := p.ok("find", "--history", "half", "exhibit"); !strings.Contains(out, "is nowhere in the history") {
		t.Errorf("find in another folder: %s", out)
	}
	p.fails(2, "", "find", "--history", "half", "--from", "main")
}
