package main

import (
	"strings"
	"testing"
)

// TestElementsOfTextFormatsHaveAHistory follows one value of a YAML file, one of a
// settings file, and one inside a packed archive, through commits.
func TestElementsOfTextFormatsHaveAHistory(t *testing.T) {
	p := empty(t)
	p.ok("begin")
	yaml := func(litres, note string) string {
		return "# tanks\ntanks:\n  - name: Reef\n    litres: " + litres + "\n  - name: Kelp\n    note: " + note + "\n"
	}
	p.write("tanks.yaml", yaml("42000", "calm"))
	p.write("desk.ini", "[Printer]\npaper=A4\n")
	p.write("rounds.json.gz", gzipOf(t, `{"title": "Rounds", "fields": [{"id": "tank", "label": "Tank"}]}`))
	p.ok("commit", "-m", "First")
	p.write("tanks.yaml", yaml("42000", "restless"))
	p.ok("commit", "-m", "A note")
	p.write("tanks.yaml", yaml("41000", "restless"))
	p.write("desk.ini", "[Printer]\npaper=A5\n")
	p.write("rounds.json.gz", gzipOf(t, `{"title": "Rounds", "fields": [{"id": "tank", "label": "Pool"}]}`))
	p.ok("--as", "Tarek", "commit", "-m", "Less water")
	for element, want := range map[string]string{
		"tanks.yaml::list:tanks/item:Reef.litres": "Less water", "tanks.yaml::list:tanks/item:Kelp.note": "A note",
		"desk.ini::section:Printer.paper":                          "Less water",
		"rounds.json.gz::part:content/list:fields/item:tank.label": "Less water",
	} {
		out := p.ok("history", element)
		if !strings.Contains(out, want) ||
			strings.Contains(out, map[bool]string{true: "A note", false: "Less water"}[want == "Less water"]) ||
			!strings.Contains(out, "First") {
			t.Errorf("history of %s:\n%s", element, out)
		}
	}
	if out := p.ok("find", "Pool"); !strings.Contains(out, "rounds.json.gz::part:content/list:fields/item:tank.label") {
		t.Errorf("find: %s", out)
	}
	if out := p.ok("find", "restless"); !strings.Contains(out, "tanks.yaml::list:tanks/item:Kelp.note") {
		t.Errorf("find: %s", out)
	}
	if out := p.ok("authors", "tanks.yaml"); !strings.Contains(out, "item:Reef") || !strings.Contains(out, "Tarek") {
		t.Errorf("authors: %s", out)
	}
}

// TestBinariesOfOtherSortsShowWhatChanged edits a mesh, a font and a program.
func TestBinariesOfOtherSortsShowWhatChanged(t *testing.T) {
	p := empty(t)
	p.ok("begin")
	mesh := "mtllib reef.mtl\no Rock\nv 0 0 0\nv 1 0 0\nv 0 1 0\nusemtl stone\nf 1 2 3\n"
	p.write("rock.obj", mesh)
	p.write("reef.ttf", "\x00\x01\x00\x00\x07\x08Reef Sans Regular\x00\x01")
	p.write("feeder", "\x7fELF\x02\x01\x01feeding every hour\x00\x01\x02")
	p.ok("commit", "-m", "First")
	p.write("rock.obj", strings.Replace(strings.Replace(mesh, "v 0 1 0", "v 0 3 0", 1), "stone", "moss", 1))
	p.write("reef.ttf", "\x00\x01\x00\x00\x07\x08Reef Sans Bold\x00\x01")
	p.write("feeder", "\x7fELF\x02\x01\x01feeding every day\x00\x01\x02")
	out := p.ok("compare")
	for _, want := range []string{
		"rock.obj::object:Rock.materials", "stone → moss", "1 of 3 vertices lie elsewhere, by up to 2", `TrueType font, 25 B → 22 B`,
		`with "Reef Sans Bold"`, `ELF program`, `without "feeding every hour"`,
	} {
		if !strings.Contains(out, want) {
			t.Errorf("no %s in\n%s", want, out)
		}
	}
	if out := p.ok("lock", "rock.obj"); !strings.Contains(out, "can't be merged") {
		t.Errorf("lock: %s", out)
	}
	if out := p.ok("inspect", "feeder"); !strings.Contains(out, "ELF program") || !strings.Contains(out, "feeding every day") ||
		!strings.Contains(out, "bits a byte") {
		t.Errorf("inspect: %s", out)
	}
	p.ok("commit", "-m", "Second")
	p.ok("restore", "rock.obj", "--from", "main:1")
	if got := p.read("rock.obj"); got != mesh {
		t.Errorf("restored: %s", got)
	}
}
