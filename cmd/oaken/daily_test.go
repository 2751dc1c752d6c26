package main

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"oakenchest/sample"
)

func TestADayOfWork(t *testing.T) {
	p := world(t)
	if out := p.ok("changes"); !strings.Contains(out, "Nothing has changed") || !strings.Contains(out, "main:1") {
		t.Errorf("after the first commit: %s", out)
	}
	p.reef(sample.Lamp{Scale: 1.2, Brightness: 55})
	p.write("notes/plan.txt", "Open at nine.\n")
	os.Rename(p.path("exhibit/textures/sand.png"), p.path("exhibit/textures/beach.png"))
	os.Remove(p.path(sample.Sound))
	var got []string
	for _, c := range p.object("changes")["changes"].([]any) {
		row := c.(map[string]any)
		got = append(got, fmt.Sprint(row["state"], " ", row["path"], " ", row["kind"]))
	}
	want := "gone exhibit/sounds/bubbles.wav sound|moved exhibit/textures/beach.png picture|edited exhibit/reef.glb scene|new " +
		"notes/plan.txt text"
	for line := range strings.SplitSeq(want, "|") {
		if !strings.Contains(strings.Join(got, "|"), line) {
			t.Errorf("changes lacks %q: %v", line, got)
		}
	}
	if r := p.run("changes", "--check"); r.status != 1 {
		t.Errorf("changes --check with changes: status %d", r.status)
	}
	out := p.ok("compare")
	for _, line := range []string{"exhibit/reef.glb::node:Lamp.scale", "1 1 1 → 1.2 1.2 1.2",
		"exhibit/reef.glb::light:Lamp light.intensity", "40 → 55", "moved  exhibit/textures/sand.png → exhibit/textures/beach.png"} {
		if !strings.Contains(out, line) {
			t.Errorf("compare lacks %q:\n%s", line, out)
		}
	}
	p.ok("commit", "exhibit/reef.glb", "-m", "Brighter lamp\n\nThe coral was too dark.", "--item", "AQ-7")
	if rows := p.object("changes")["changes"].([]any); len(rows) != 4 { // one is the folder that lost its only file
		t.Errorf("a commit of one path left %v", rows)
	}
	p.ok("commit", "-m", "The rest")
	if out := p.ok("show", "main:2"); !strings.Contains(out, "The coral was too dark.") || !strings.Contains(out, "for AQ-7") ||
		!strings.Contains(out, "node:Lamp.scale") || !strings.Contains(out, "Imke in imke-") {
		t.Errorf("show: %s", out)
	}
	if h := p.object("history", sample.Scene)["commits"].([]any); len(h) != 2 || h[0].(map[string]any)["state"] != "main:2" {
		t.Errorf("history of the scene: %v", h)
	}
	if out := p.ok("history", "--limit", "1"); strings.Count(out, "\n") != 1 || !strings.Contains(out, "The rest") {
		t.Errorf("history: %s", out)
	}
}

func TestGoingBack(t *testing.T) {
	p := world(t)
	first := p.tree(".")
	p.write("notes/opening.txt", "Something else.\n")
	p.write("notes/new.txt", "new\n")
	p.ok("commit", "-m", "Other notes")
	p.write("notes/opening.txt", "An edit that nobody has seen.\n")
	out := p.ok("restore", "notes", "--from", "main:1")
	if got := p.tree("."); got != first {
		t.Errorf("restored files differ:\n%s\nwant\n%s", got, first)
	}
	if !strings.Contains(out, "is kept in .oaken/rescue/") {
		t.Errorf("restore: %s", out)
	}
	if copies := p.object("restore", "--rescued")["copies"].([]any); len(copies) != 1 ||
		copies[0].(map[string]any)["path"] != sample.Notes {
		t.Errorf("rescue copies: %v", copies)
	}
	p.ok("restore", "--rescued", sample.Notes)
	if p.read(sample.Notes) != "An edit that nobody has seen.\n" {
		t.Error("the overwritten edit did not come back")
	}
	p.write("notes/other.txt", "new and unwanted\n")
	p.ok("discard", "notes")
	if _, err := os.Stat(p.path("notes/other.txt")); err == nil {
		t.Error("discard left a new file")
	}
	p.ok("restore", "--rescued", "notes/other.txt")
	if p.read("notes/other.txt") != "new and unwanted\n" {
		t.Error("a discarded new file did not come back")
	}
	p.ok("discard", "notes/other.txt")
	p.ok("restore", "notes", "--from", "main:1")
	p.ok("restore", ".", "--from", "main:1", "--to", "../back")
	if (&project{t: t, dir: p.path("../back")}).read("notes/opening.txt") != p.read("notes/opening.txt") {
		t.Error("restore --to differs")
	}
	os.RemoveAll(p.path("../back"))
	p.ok("restore", "notes", "--from", "main")
	if out := p.ok("revert", "main:2"); !strings.Contains(out, "main:3") {
		t.Errorf("revert: %s", out)
	}
	if got := p.tree("."); got != first {
		t.Errorf("after revert files differ:\n%s", got)
	}
	if out := p.ok("compare", "main:1", "main:3"); !strings.Contains(out, "alike") {
		t.Errorf("compare: %s", out)
	}
	p.ok("release", "spring", "-m", "for the opening")
	p.fails(4, "There is a release spring already", "release", "spring")
	if out := p.ok("release", "list"); !strings.Contains(out, "spring  main:3") {
		t.Errorf("release list: %s", out)
	}
	if out := p.ok("compare", "release:spring", "work"); !strings.Contains(out, "alike") {
		t.Errorf("compare with a release: %s", out)
	}
}

func TestFilesOfEverySort(t *testing.T) {
	p := empty(t)
	names := []string{"empty.txt", "Käfig 水槽.txt", "deep/er/and/deeper/x.bin", "with space.json", "-dash.txt", "a::b.txt"}
	for i, n := range names {
		p.write(n, strings.Repeat(n, i))
	}
	p.write("run.sh", "#!/bin/sh\n")
	os.Chmod(p.path("run.sh"), 0o755)
	if err := os.Symlink("run.sh", p.path("link")); err != nil {
		t.Fatal(err)
	}
	p.write("large.bin", strings.Repeat("0123456789abcdef", 1<<17))
	p.ok("begin")
	p.ok("commit", "-m", "All")
	before := p.tree(".")
	for _, n := range append(names, "run.sh", "link", "large.bin", "deep") {
		os.RemoveAll(p.path(n))
	}
	p.ok("restore", ".", "--from", "main")
	if got := p.tree("."); got != before {
		t.Errorf("restored files differ:\n%s", got)
	}
	if info, err := os.Stat(p.path("run.sh")); err != nil || info.Mode()&0o100 == 0 {
		t.Error("the executable bit is lost")
	}
	if to, err := os.Readlink(p.path("link")); err != nil || to != "run.sh" {
		t.Errorf("the link leads to %q, %v", to, err)
	}
	if out := p.ok("changes"); !strings.Contains(out, "Nothing has changed") {
		t.Errorf("after restore: %s", out)
	}
}

func TestLocksForAPath(t *testing.T) {
	p := world(t)
	p.write("oaken.toml", p.read("oaken.toml")+"\n[[lock]]\nmatch = \"exhibit/**\"\npolicy = \"required\"\n")
	p.ok("commit", "-m", "The exhibit needs locks")
	writable := func() bool {
		info, err := os.Stat(p.path(sample.Scene))
		if err != nil {
			t.Fatal(err)
		}
		return info.Mode()&0o200 != 0
	}
	if writable() {
		t.Error("the scene is writable without its lock")
	}
	p.reef(sample.Lamp{Scale: 3, Brightness: 40})
	p.fails(4, "must be locked before it is changed", "commit", "-m", "without a lock")
	p.ok("--as", "Tarek", "lock", sample.Scene, "-m", "mine today")
	p.fails(4, "is locked by Tarek in tarek-", "commit", "-m", "without a lock")
	p.fails(4, "is locked by Tarek", "lock", "exhibit")
	p.fails(4, "is locked by Tarek", "unlock", sample.Scene)
	if rows := p.object("changes")["changes"].([]any); rows[0].(map[string]any)["state"] != "contested" {
		t.Errorf("an edit of what Tarek holds: %v", rows)
	}
	locks := p.object("locks")["locks"].([]any)[0].(map[string]any)
	if locks["holder"] != "Tarek" || locks["address"] != sample.Scene || locks["reason"] != "mine today" {
		t.Errorf("locks: %v", locks)
	}
	p.ok("--as", "Tarek", "unlock", sample.Scene)
	p.ok("lock", sample.Scene)
	if !writable() {
		t.Error("the scene is read-only with its lock")
	}
	if out := p.ok("commit", "-m", "with a lock"); !strings.Contains(out, "lock ended: "+sample.Scene) {
		t.Errorf("commit: %s", out)
	}
	if writable() || len(p.object("locks")["locks"].([]any)) != 0 {
		t.Error("the lock outlived the commit")
	}
	p.ok("lock", "exhibit/textures")
	p.ok("lock", sample.Scene)
	p.reef(sample.Lamp{Scale: 4, Brightness: 40})
	p.ok("commit", "--keep-locks", "-m", "kept")
	if out := p.ok("locks", "exhibit/*"); !strings.Contains(out, sample.Scene) {
		t.Errorf("--keep-locks: %s", out)
	}
	p.fails(2, "There is no nothing", "lock", "nothing")
	p.fails(2, "is not locked", "unlock", "notes")
}

// TestRepetitionIsToldOnce renames a folder and makes one change in many places: people are told once, with
// a count, and scripts of each.
func TestRepetitionIsToldOnce(t *testing.T) {
	p := empty(t)
	p.ok("begin")
	var items []string
	for i := range 150 {
		items = append(items, fmt.Sprintf(`{"id": "i%d", "colour": "red", "n": %d}`, i, i))
	}
	text := "[" + strings.Join(items, ",\n") + "]\n"
	p.write("items.json", text)
	for i := range 9 {
		p.write(fmt.Sprintf("old/deep/f%d.txt", i), fmt.Sprint("file ", i, "\n"))
	}
	p.ok("commit", "-m", "First")
	if err := os.Rename(p.path("old"), p.path("new")); err != nil {
		t.Fatal(err)
	}
	p.write("items.json", strings.Replace(strings.ReplaceAll(text, "red", "blue"), `"n": 7}`, `"n": 8}`, 1))
	p.says(p.ok("changes"), "moved   old/ → new/", "9 files")
	out := p.ok("compare")
	p.says(out, "moved  old/ → new/, 9 artifacts", "red → blue", "and in 149 more places; --all shows each", "7 → 8")
	if lines := strings.Count(out, "\n"); lines > 6 {
		t.Errorf("%d lines:\n%s", lines, out)
	}
	if all := p.ok("compare", "--all"); strings.Count(all, "red → blue") != 150 || strings.Count(all, "moved") != 9 {
		t.Errorf("--all:\n%.500s", all)
	}
	if all := p.ok("changes", "--all"); strings.Count(all, "moved") != 9 {
		t.Errorf("changes --all:\n%s", all)
	}
	if len(p.object("changes")["changes"].([]any)) != 10 {
		t.Error("scripts are told of each file")
	}
	p.ok("commit", "-m", "Second")
	p.says(p.ok("show", "main"), "and in 149 more places")
}
