package main

import (
	"strings"
	"testing"

	"oakenchest/sample"
)

// TestAnEmptyComparisonHasAPageToo draws two equal states, and refuses a file that
// can't be written.
func TestAnEmptyComparisonHasAPageToo(t *testing.T) {
	p := world(t)
	if out := p.ok("compare", "--html", "none.html"); !strings.Contains(out, "0 artifacts") ||
		!strings.Contains(p.read("none.html"), "The two are alike.") {
		t.Errorf("compare --html: %s", out)
	}
	p.fails(4, "can't be written", "compare", "main", "work", sample.Notes, "--html", "no/such/folder.html")
}

// TestNoiseIsToldOfAndStored edits what a recipe calls noise, and commits it with
// something else.
func TestNoiseIsToldOfAndStored(t *testing.T) {
	p := empty(t)
	p.ok("begin")
	p.write("oaken.toml", p.read("oaken.toml")+"\n[[recipe]]\nname = \"stamps\"\nmatch = \"*.json\"\n[[recipe.element]]\nat = \"**\"\n"+
		"noise = [\"saved\"]\n")
	p.write("form.json", "{\"title\": \"Rounds\", \"saved\": 1}\n")
	p.write("notes.txt", "one\n")
	p.ok("commit", "-m", "First")
	p.write("form.json", "{\"title\": \"Rounds\", \"saved\": 2}\n")
	r := p.run("changes")
	if r.status != 0 || !strings.Contains(r.out, "Nothing has changed.") ||
		!strings.Contains(r.err, "1 file differs only in what recipes call noise") {
		t.Errorf("changes:\n%s%s", r.out, r.err)
	}
	if r := p.run("changes", "--check"); r.status != 0 {
		t.Errorf("noise counts as a change: status %d", r.status)
	}
	if rows := p.object("changes", "--quiet")["changes"].([]any); len(rows) != 0 {
		t.Errorf("changes: %v", rows)
	}
	p.write("notes.txt", "two\n")
	p.ok("commit", "-m", "Notes")
	p.ok("restore", "form.json", "--from", "main:2", "--to", "out")
	if got := p.read("out/form.json"); !strings.Contains(got, `"saved": 2`) {
		t.Errorf("the noise was not stored: %s", got)
	}
	if out := p.ok("show", "main:2"); strings.Contains(out, "form.json") || !strings.Contains(out, "notes.txt") {
		t.Errorf("show: %s", out)
	}
	p.write("form.json", "{\"title\": \"Rounds\",  \"saved\": 2}\n")
	if out := p.ok("compare"); !strings.Contains(out, "only bytes without meaning differ") {
		t.Errorf("space is no noise: %s", out)
	}
}

// TestWhatCannotBeReadIsComparedAsText breaks a document and mends it.
func TestWhatCannotBeReadIsComparedAsText(t *testing.T) {
	p := empty(t)
	p.ok("begin")
	p.write("form.yaml", "title: Rounds\nfields: [tank\n")
	p.ok("commit", "-m", "Broken")
	p.write("form.yaml", "title: Rounds of today\nfields: [tank\n")
	if out := p.ok("compare"); !strings.Contains(out, "line:#1.text  title: Rounds → title: Rounds of today") ||
		!strings.Contains(out, "read as plain text") {
		t.Errorf("compare: %s", out)
	}
	p.write("form.yaml", "title: Rounds of today\nfields: [tank]\n")
	p.ok("compare")
	p.ok("commit", "-m", "Mended")
	p.write("form.yaml", "title: Rounds of today\nfields: [tank, food]\n")
	if out := p.ok("compare"); !strings.Contains(out, ".fields  tank → tank food") {
		t.Errorf("compare: %s", out)
	}
}

// TestFormsInOneLineAreMadeReadable compares a report whose layout is one long text.
func TestFormsInOneLineAreMadeReadable(t *testing.T) {
	p := world(t)
	p.ok("split", sample.App, "apart", "--as-artifact")
	p.ok("commit", "-m", "Apart")
	file := "apart/parts/reports/log.xml.embedded/log-text.json"
	p.write(file, strings.Replace(p.read(file), `"width":160`, `"width":200`, 1))
	out := p.ok("compare")
	if !strings.Contains(out, `apart::part:"reports/log.xml"/report:log/layout:#1/embedded:text/list:columns/item:food.width  160 → 200`) {
		t.Errorf("compare: %s", out)
	}
	p.ok("join", "apart", "rounds.app")
	if out := p.ok("compare", "file:"+sample.App, "file:rounds.app"); strings.Count(out, "\n") != 2 || !strings.Contains(out, "160 → 200") {
		t.Errorf("joined: %s", out)
	}
}
