package main

import (
	"fmt"
	"strings"
	"testing"

	"oakenchest/sample"
)

func TestTwoNodesOfOneSceneMerge(t *testing.T) {
	p := world(t)
	p.ok("branch", "kelp")
	p.reef(sample.Lamp{Scale: 1.2, Brightness: 55})
	p.ok("commit", "-m", "Lamp")
	p.ok("go", "kelp")
	p.reef(sample.Lamp{Scale: 1, Brightness: 40, RockHeight: 0.3})
	p.ok("commit", "-m", "Rock")
	p.ok("go", "main")
	if out := p.ok("merge", "kelp"); !strings.Contains(out, "combined by element: exhibit/reef.glb") {
		t.Errorf("merge: %s", out)
	}
	want, err := sample.Reef(sample.Lamp{Scale: 1.2, Brightness: 55, RockHeight: 0.3})
	if err != nil {
		t.Fatal(err)
	}
	if p.read(sample.Scene) != string(want) {
		t.Error("the merged scene is not, to the byte, what one editor would have written")
	}
	if out := p.ok("merge", "kelp"); !strings.Contains(out, "already") {
		t.Errorf("a second merge: %s", out)
	}
	if b := p.object("branch")["branches"].([]any); len(b) != 2 {
		t.Errorf("branches: %v", b)
	}
}

func TestTwoColumnsOfOneTableMerge(t *testing.T) {
	p := world(t)
	p.ok("branch", "tarek")
	p.sql("dev.db", "alter table feeding add column amount_g integer not null default 0")
	p.ok("capture", "dev")
	p.ok("commit", "-m", "Amount")
	p.ok("go", "tarek")
	p.write("database/tables/feeding.sql", strings.Replace(p.read("database/tables/feeding.sql"), "food text not null",
		"food text not null,\n  keeper text", 1))
	p.ok("commit", "-m", "Keeper")
	p.ok("go", "main")
	p.ok("merge", "tarek")
	if got := p.read("database/tables/feeding.sql"); !strings.Contains(got, "keeper text") ||
		!strings.Contains(got, "amount_g integer not null default 0") {
		t.Errorf("merged table:\n%s", got)
	}
	if out := p.ok("deploy", "dev"); !strings.Contains(out, "add column keeper text") || strings.Contains(out, "amount_g") ||
		!strings.Contains(out, "agree") {
		t.Errorf("deploy: %s", out)
	}
}

// conflicted gives a project in the middle of a merge in which the lamp's scale
// and a line of the notes are in conflict.
func conflicted(t *testing.T) *project {
	t.Helper()
	p := world(t)
	p.ok("branch", "kelp")
	p.reef(sample.Lamp{Scale: 2, Brightness: 40})
	p.write(sample.Notes, "The reef exhibit opens in May.\n")
	p.ok("commit", "-m", "Two")
	p.ok("go", "kelp")
	p.reef(sample.Lamp{Scale: 3, Brightness: 70})
	p.write(sample.Notes, "The reef exhibit opens in June.\n")
	p.ok("commit", "-m", "Three")
	p.ok("go", "main")
	if r := p.run("merge", "kelp"); r.status != 3 || !strings.Contains(r.out, "exhibit/reef.glb::node:Lamp.scale") ||
		!strings.Contains(r.err, "2 conflicts are open") {
		t.Fatalf("merge: %d\n%s%s", r.status, r.out, r.err)
	}
	return p
}

func TestAConflictNamesThePropertyAndIsSettled(t *testing.T) {
	p := conflicted(t)
	var got []string
	for _, c := range p.object("conflicts")["conflicts"].([]any) {
		row := c.(map[string]any)
		got = append(got, fmt.Sprint(row["address"], " ", row["base"], " | ", row["mine"], " | ", row["theirs"]))
	}
	want := []string{"exhibit/reef.glb::node:Lamp.scale 1 1 1 | 2 2 2 | 3 3 3",
		"notes/opening.txt::line:#1.text The reef exhibit opens in spring. | The reef exhibit opens in May. | The reef exhibit " +
			"opens in June."}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("conflicts:\n%s", strings.Join(got, "\n"))
	}
	mine, _ := sample.Reef(sample.Lamp{Scale: 2, Brightness: 70})
	if p.read(sample.Scene) != string(mine) {
		t.Error("while a conflict is open, the scene is not mine with what combined")
	}
	p.fails(3, "still open", "commit", "-m", "too early")
	p.fails(3, "is under way", "go", "kelp")
	p.fails(3, "is under way already", "merge", "kelp")
	p.fails(2, "is not a number", "resolve", "exhibit/reef.glb::node:Lamp.scale", "--value", "big")
	p.fails(2, "can't be settled with both", "resolve", "exhibit/reef.glb::node:Lamp.scale", "--keep", "both")
	p.fails(2, "No conflict is open", "resolve", "exhibit/reef.glb::node:Rock", "--keep", "mine")
	p.ok("resolve", "exhibit/reef.glb::node:Lamp.scale", "--keep", "theirs")
	if out := p.ok("resolve", "notes", "--keep", "base"); !strings.Contains(out, "All conflicts are settled") {
		t.Errorf("resolve: %s", out)
	}
	p.ok("commit", "-m", "Merged")
	theirs, _ := sample.Reef(sample.Lamp{Scale: 3, Brightness: 70})
	if p.read(sample.Scene) != string(theirs) || !strings.HasPrefix(p.read(sample.Notes), "The reef exhibit opens in spring.\n") {
		t.Error("the settled files are wrong")
	}
	if h := p.object("show", "main")["commit"].(map[string]any); len(h["parents"].([]any)) != 2 {
		t.Errorf("the merge has parents %v", h["parents"])
	}
}

func TestAMergeIsSettledByHandOrGivenUp(t *testing.T) {
	p := conflicted(t)
	p.write(sample.Notes, "The reef exhibit opens in summer.\n")
	p.fails(4, "was edited by hand", "resolve", "notes/opening.txt::line:#1.text", "--keep", "theirs")
	p.ok("resolve", sample.Notes, "--keep", "mine")
	p.ok("resolve", "exhibit/reef.glb::node:Lamp.scale", "--value", "2.5 2.5 2.5")
	if p.read(sample.Notes) != "The reef exhibit opens in summer.\n" {
		t.Error("the text that was settled by hand was overwritten")
	}
	if out := p.ok("merge", "--abandon"); !strings.Contains(out, "is kept in .oaken/rescue/") {
		t.Errorf("abandon: %s", out)
	}
	if out := p.ok("compare", "main:2", "work"); !strings.Contains(out, "alike") {
		t.Errorf("after giving up: %s", out)
	}
	p.fails(2, "Nothing is being merged", "merge", "--abandon")
	if r := p.run("merge", "kelp"); r.status != 3 {
		t.Errorf("merging again: %d", r.status)
	}
	p.ok("resolve", ".", "--keep", "mine")
	p.ok("commit")
	if out := p.ok("history", "--limit", "1"); !strings.Contains(out, "Work of kelp brought into main") {
		t.Errorf("history: %s", out)
	}
}

func TestSwitchKeepsEditsOrRefuses(t *testing.T) {
	p := world(t)
	p.ok("branch", "kelp")
	p.write(sample.Notes, "On main.\n")
	p.ok("commit", "-m", "Notes")
	p.write("notes/mine.txt", "an edit that comes along\n")
	p.ok("go", "kelp")
	if p.read("notes/mine.txt") != "an edit that comes along\n" || p.read(sample.Notes) == "On main.\n" {
		t.Error("switch lost an edit or did not bring the branch")
	}
	p.write(sample.Notes, "Not committed.\n")
	p.fails(4, "notes/opening.txt", "go", "main")
	p.fails(4, "notes/mine.txt", "merge", "main")
	p.fails(2, "There is no branch nowhere", "go", "nowhere")
}

func TestRevertMeetsLaterWork(t *testing.T) {
	p := world(t)
	p.reef(sample.Lamp{Scale: 2, Brightness: 40})
	p.ok("commit", "-m", "Two")
	p.reef(sample.Lamp{Scale: 3, Brightness: 40})
	p.ok("commit", "-m", "Three")
	r := p.run("--json", "revert", "main:2")
	if r.status != 3 || !strings.Contains(r.out, "node:Lamp.scale") {
		t.Errorf("revert: %d %s", r.status, r.out)
	}
	p.ok("resolve", sample.Scene, "--keep", "theirs")
	p.ok("commit")
	if out := p.ok("compare", "main:1", "main"); !strings.Contains(out, "alike") {
		t.Errorf("after the revert: %s", out)
	}
}
