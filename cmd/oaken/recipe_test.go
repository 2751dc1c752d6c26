package main

import (
	"strings"
	"testing"
)

const formRecipe = `
[[recipe]]
name = "forms"
match = "forms/*.xml"

[[recipe.element]]
at = "field"
key = ["caption"]
noise = ["build"]

[[recipe.element]]
at = "section"
part = true
`

const formFile = `<?xml version="1.0"?>
<form>
  <!-- the keepers' form -->
  <section>
    <field caption="Tank" build="7" width="40"/>
    <field caption="Food" build="7" width="60"/>
  </section>
</form>
`

// recipes begins a project with the recipe.
func recipes(t *testing.T) *project {
	t.Helper()
	p := empty(t)
	p.ok("begin")
	p.write("oaken.toml", p.read("oaken.toml")+formRecipe)
	return p
}

func TestRecipesDecideWhatShows(t *testing.T) {
	p := recipes(t)
	p.write("forms/round.xml", formFile)
	p.ok("commit", "-m", "Forms")
	p.write("forms/round.xml", strings.ReplaceAll(formFile, `build="7"`, `build="8"`))
	if out := p.ok("changes"); !strings.Contains(out, "Nothing has changed") {
		t.Errorf("noise shows:\n%s", out)
	}
	if out := p.ok("compare"); !strings.Contains(out, "alike") {
		t.Errorf("noise shows:\n%s", out)
	}
	p.write("forms/round.xml", strings.Replace(strings.ReplaceAll(formFile, `build="7"`, `build="9"`), "60", "80", 1))
	out := p.ok("compare")
	if !strings.Contains(out, "field:Food.width  60 → 80") || strings.Contains(out, "build") {
		t.Errorf("compare:\n%s", out)
	}
	p.ok("commit", "-m", "Wider")
	p.ok("restore", "forms/round.xml", "--from", "main:1", "--to", "old")
	if got := p.read("old/forms/round.xml"); got != formFile {
		t.Errorf("what was noise is not as it was:\n%s", got)
	}
}

func TestRecipesAreTriedAndChecked(t *testing.T) {
	p := recipes(t)
	p.write("forms/round.xml", formFile)
	out := p.ok("recipe", "try", "forms/round.xml")
	for _, want := range []string{"field:Tank", "forms  field: 2 elements", "2 pieces of noise", "every element among siblings has a key"} {
		if !strings.Contains(out, want) {
			t.Errorf("no %q in\n%s", want, out)
		}
	}
	p.ok("recipe", "check")
	p.write("oaken.toml", p.read("oaken.toml")+"\n[[recipe.element]]\nat = \"button\"\nkey = [\"id\"]\n")
	if r := p.run("recipe", "check"); r.status != 1 || !strings.Contains(r.out, "button") || !strings.Contains(r.out, "matches nothing") {
		t.Errorf("status %d:\n%s", r.status, r.out)
	}
	o := p.object("recipe", "try", "forms/round.xml")
	if docs := o["documents"].([]any); len(docs) != 1 || docs[0].(map[string]any)["noise"].(float64) != 2 {
		t.Errorf("%v", o["documents"])
	}
	p.ok("split", "forms/round.xml", "apart")
	if got := p.read("apart/round.xml"); strings.Contains(got, "<section>") || !strings.Contains(got, "the keepers' form") {
		t.Errorf("split:\n%s", got)
	}
	p.ok("join", "apart", "again.xml")
	if got := p.read("again.xml"); got != formFile {
		t.Errorf("joined:\n%s", got)
	}
	p.write("oaken.toml", p.read("oaken.toml")+"embedded = { x = \"rot13\" }\n")
	p.fails(2, "no encoding", "locks")
}

// TestARuleNeverHidesAName renames a section that a rule tells by something in it: it is told, and merged
// with an edit of the section.
func TestARuleNeverHidesAName(t *testing.T) {
	p := empty(t)
	p.ok("begin")
	p.write("oaken.toml", p.read("oaken.toml")+"\n[[recipe]]\nname = \"units\"\nmatch = \"units.*\"\n[[recipe.element]]\nat = \"*\"\n"+
		"key = [\"id\"]\n")
	files := map[string]string{"units.ini": "[alpha]\nid=1\nv=2\n[gamma]\nid=7\nv=3\n",
		"units.toml": "[alpha]\nid=1\nv=2\n[gamma]\nid=7\nv=3\n",
		"units.json": "{\"alpha\": {\"id\": 1, \"v\": 2}, \"gamma\": {\"id\": 7, \"v\": 3}}\n"}
	for name, text := range files {
		p.write(name, text)
	}
	p.ok("commit", "-m", "Units")
	p.ok("branch", "other")
	for name, text := range files {
		p.write(name, strings.Replace(text, "alpha", "beta", 1))
	}
	p.says(p.ok("compare"), "units.ini::section:1.(name)", "units.toml::object:1.(name)", "units.json::object:1.(name)", "alpha → beta")
	p.ok("commit", "-m", "Renamed")
	p.ok("go", "other")
	edit := strings.NewReplacer("v=2", "v=5", `"v": 2`, `"v": 5`)
	for name, text := range files {
		p.write(name, edit.Replace(text))
	}
	p.ok("commit", "-m", "Edited")
	p.ok("merge", "main")
	for name, text := range files {
		if want := edit.Replace(strings.Replace(text, "alpha", "beta", 1)); p.read(name) != want {
			t.Errorf("%s: %q, not %q", name, p.read(name), want)
		}
	}
}
