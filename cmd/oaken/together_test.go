package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"oakenchest/sample"
)

// pair gives two workspaces on one chest: Imke's, and Tarek's.
func pair(t *testing.T) (imke, tarek *project) {
	t.Helper()
	imke = world(t)
	tarek = &project{t: t, dir: filepath.Join(t.TempDir(), "tarek")}
	(&project{t: t, dir: filepath.Dir(tarek.dir)}).ok("--as", "Tarek", "open", imke.dir, "tarek")
	return imke, tarek
}

func TestTwoPeopleOnOneChest(t *testing.T) {
	imke, tarek := pair(t)
	if tarek.read(sample.Scene) != imke.read(sample.Scene) ||
		tarek.read("database/tables/tank.sql") != imke.read("database/tables/tank.sql") {
		t.Fatal("the second workspace has other files")
	}
	tarek.ok("lock", sample.Scene)
	imke.fails(4, "is locked by Tarek in tarek-", "lock", sample.Scene)
	tarek.reef(sample.Lamp{Scale: 1, Brightness: 70})
	tarek.write("notes/plan.txt", "Tarek's plan\n")
	os.Remove(tarek.path(sample.Sound))
	tarek.ok("commit", "-m", "Brighter")
	if out := imke.ok("changes"); !strings.Contains(out, "1 newer commit not yet here") {
		t.Errorf("changes: %s", out)
	}
	imke.reef(sample.Lamp{Scale: 2, Brightness: 40})
	imke.write("notes/own.txt", "mine\n")
	if out := imke.ok("sync"); !strings.Contains(out, "combined with your edits: exhibit/reef.glb") {
		t.Errorf("sync: %s", out)
	}
	want, _ := sample.Reef(sample.Lamp{Scale: 2, Brightness: 70})
	if imke.read(sample.Scene) != string(want) || imke.read("notes/own.txt") != "mine\n" {
		t.Error("sync did not combine the edits")
	}
	if _, err := os.Stat(imke.path(sample.Sound)); err == nil || imke.read("notes/plan.txt") != "Tarek's plan\n" {
		t.Error("sync did not bring the other files")
	}
	if out := imke.ok("compare"); !strings.Contains(out, "1 1 1 → 2 2 2") || strings.Contains(out, "plan") ||
		strings.Contains(out, "intensity") {
		t.Errorf("after sync only the own edit is left: %s", out)
	}
	imke.ok("commit", "-m", "Larger")
	if out := tarek.ok("sync"); !strings.Contains(out, "at main:3 now") {
		t.Errorf("sync: %s", out)
	}
	if tarek.read(sample.Scene) != string(want) {
		t.Error("the two workspaces differ")
	}
	if out := tarek.ok("sync"); !strings.Contains(out, "has the newest") {
		t.Errorf("a second sync: %s", out)
	}
	tarek.write(sample.Notes, "one\n")
	tarek.ok("commit", "-m", "one")
	imke.write(sample.Notes, "two\n")
	imke.fails(3, "can't be combined with what is newer, at notes/opening.txt", "sync")
	imke.ok("branch", "own")
	imke.ok("go", "own")
	imke.ok("commit", "-m", "two")
	imke.ok("go", "main")
	if r := imke.run("merge", "own"); r.status != 3 {
		t.Errorf("merge: %d %s", r.status, r.out)
	}
	imke.ok("resolve", sample.Notes, "--keep", "theirs")
	imke.ok("commit")
	if imke.read(sample.Notes) != "two\n" {
		t.Error("the settled text is wrong")
	}
}

func TestOpenRefusesWhatItCanNotDo(t *testing.T) {
	p := world(t)
	out := &project{t: t, dir: t.TempDir()}
	out.write("full/x", "x")
	out.fails(4, "is not empty", "open", p.dir, "full")
	out.fails(5, "no chest to open", "open", "full", "new")
	out.fails(2, "There is no branch none", "open", p.dir, "new", "--branch", "none")
	if _, err := os.Stat(out.path("new")); err == nil {
		t.Error("a refused open left a folder")
	}
	p.fails(4, "lies in the workspace", "open", p.dir, "inside")
	p.ok("branch", "kelp")
	out.ok("--as", "Ravi", "open", p.path(".oaken/chest"), "ravi", "--branch", "kelp")
	if got := (&project{t: t, dir: out.path("ravi")}).ok("changes"); !strings.Contains(got, "Ravi in ravi-") ||
		!strings.Contains(got, "kelp, at main:1") {
		t.Errorf("changes: %s", got)
	}
}

// TestNobodyIsSaidToEditWhatIsAsItWas commits at once after the files were laid out, when no look can tell yet that they
// are as they were: only what is edited is told to others.
func TestNobodyIsSaidToEditWhatIsAsItWas(t *testing.T) {
	p := empty(t)
	p.ok("demo", "--bare", "reef")
	p.dir += "/reef"
	p.ok("begin")
	p.ok("commit", "-m", "First")
	p.write(sample.Notes, "one\n")
	p.write("notes/more.txt", "more\n")
	p.ok("commit", sample.Notes, "-m", "One")
	p.write(sample.Notes, "two\n")
	p.ok("commit", "-m", "Two")
	p.write("notes/more.txt", "edited\n")
	p.write("exhibit/again.txt", "x\n")
	p.ok("commit", "exhibit", "-m", "Again")
	(&project{t: t, dir: filepath.Dir(p.dir)}).ok("open", "reef", "other", "--as", "Tarek")
	tarek := &project{t: t, dir: filepath.Join(filepath.Dir(p.dir), "other")}
	for _, path := range []string{sample.Scene, sample.App, sample.Notes} {
		if out := tarek.ok("lock", path); strings.Contains(out, "Also changed") {
			t.Errorf("%s is as it was, and others are told\n%s", path, out)
		}
	}
	if out := tarek.ok("lock", "notes/more.txt"); !strings.Contains(out, "Imke") && !strings.Contains(out, "not committed") {
		t.Errorf("an edit is not told: %s", out)
	}
}
