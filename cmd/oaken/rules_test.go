package main

import (
	"os"
	"strings"
	"testing"
)

func (p *project) declare(text string) {
	p.t.Helper()
	p.write("oaken.toml", p.read("oaken.toml")+text)
}

func TestCompanionsTravelTogether(t *testing.T) {
	p := world(t)
	p.declare("\n[[companion]]\nof = \"exhibit/**/*.png\"\nis = \"{path}.meta\"\n")
	p.write("exhibit/textures/sand.png.meta", "guid 1\n")
	p.ok("commit", "-m", "Companions")
	p.write("exhibit/textures/sand.png", "picture\x00")
	p.write("exhibit/textures/sand.png.meta", "guid 1, edited\n")
	p.write("notes/plan.txt", "apart\n")
	r := p.object("commit", "exhibit/textures/sand.png", "-m", "One of two")
	if r["files"] != 2.0 || len(r["along"].([]any)) != 1 || r["along"].([]any)[0] != "exhibit/textures/sand.png.meta" {
		t.Errorf("commit: %v", r)
	}
	p.write("exhibit/textures/sand.png.meta", "guid 2\n")
	p.write("exhibit/textures/sand.png", "edited\x00")
	p.ok("discard", "exhibit/textures/sand.png.meta")
	if p.read("exhibit/textures/sand.png") != "picture\x00" {
		t.Error("discard parted two companions")
	}
	p.ok("restore", "exhibit/textures/sand.png", "--from", "main:2")
	if p.read("exhibit/textures/sand.png.meta") != "guid 1\n" {
		t.Error("restore parted two companions")
	}
	p.write("exhibit/textures/new.png", "new\x00")
	if r := p.run("commit", "-m", "Alone"); r.status != 0 ||
		!strings.Contains(r.err, "new.png goes without its companion exhibit/textures/new.png.meta") {
		t.Errorf("%d %s%s", r.status, r.out, r.err)
	}
	os.Remove(p.path("exhibit/textures/sand.png"))
	if r := p.run("commit", "-m", "Left behind"); !strings.Contains(r.err, "sand.png.meta stays behind") {
		t.Errorf("%s%s", r.out, r.err)
	}
	for _, bad := range []string{"of = \"[\"\nis = \"{path}.m\"", "of = \"**\"\nis = \"{path}\"", "of = \"**\"\nis = \"x.meta\""} {
		text := p.read("oaken.toml")
		p.declare("\n[[companion]]\n" + bad + "\n")
		p.fails(2, "a companion needs", "locks")
		p.write("oaken.toml", text)
	}
}

func TestNamesThatOtherSystemsCantHave(t *testing.T) {
	p := world(t)
	for _, c := range [][2]string{
		{"notes/aux.txt", "name of a device"}, {"notes/a:b", "has the character ':'"}, {"notes/end.", "ends with a dot"},
		{"notes/OPENING.txt", "notes/OPENING.txt and notes/opening.txt are one name"}, {"Notes/x.txt", "Notes and notes are one name"},
		{"notes/caf\u00e9", ""}, {"notes/cafe\u0301", "are one name to some systems"}, {"notes/plain Ünïcode 日本.txt", ""},
		{"notes/" + strings.Repeat("long/", 60) + "x", "more than some systems take in a path"},
	} {
		name, want := c[0], c[1]
		p.write(name, name)
		r := p.run("commit", name, "-m", "A name")
		if r.status != 0 || (want == "") != (r.err == "") || !strings.Contains(r.err, want) {
			t.Errorf("%s: %d, %q is not in\n%s", name, r.status, want, r.err)
		}
	}
	if r := p.run("commit", "-m", "Nothing"); r.err != "" {
		t.Errorf("old names are warned of again: %s", r.err)
	}
}

func TestRenamingInCapitalsOnly(t *testing.T) {
	p := world(t)
	if err := os.Rename(p.path("notes/opening.txt"), p.path("notes/Opening.txt")); err != nil {
		t.Fatal(err)
	}
	if rows := p.object("changes")["changes"].([]any); len(rows) != 1 || rows[0].(map[string]any)["state"] != "moved" {
		t.Errorf("changes: %v", rows)
	}
	other := p.beside("other")
	if r := p.run("commit", "-m", "A capital"); r.status != 0 || r.err != "" {
		t.Errorf("%d %s", r.status, r.err)
	}
	other.ok("sync")
	if !other.has("notes/Opening.txt") || other.has("notes/opening.txt") {
		t.Error("sync of a renaming in capitals only")
	}
}

func TestLinesEndAsTheProjectAsks(t *testing.T) {
	p := world(t)
	p.write("notes/mixed.txt", "one\r\ntwo\n")
	p.ok("commit", "-m", "Kept as they are")
	if p.read("notes/mixed.txt") != "one\r\ntwo\n" {
		t.Error("line ends were changed without a rule")
	}
	p.declare("\n[[lines]]\nmatch = \"**/*.txt\"\nends = \"crlf\"\n\n[[lines]]\nmatch = \"**/keep.txt\"\nends = \"lf\"\n")
	p.write("notes/mixed.txt", "one\r\ntwo\nthree\r\n")
	p.write("notes/keep.txt", "a\r\nb\n")
	p.write("notes/picture.txt", "a\n\x00b\n")
	r := p.object("commit", "-m", "By the rules")
	if n := len(r["ended"].([]any)); n != 2 {
		t.Errorf("ended: %v", r["ended"])
	}
	for name, want := range map[string]string{"notes/mixed.txt": "one\r\ntwo\r\nthree\r\n", "notes/keep.txt": "a\nb\n",
		"notes/picture.txt": "a\n\x00b\n"} {
		if got := p.read(name); got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
	if out := p.ok("changes"); !strings.Contains(out, "Nothing has changed") {
		t.Errorf("changes: %s", out)
	}
	p.write("notes/mixed.txt", strings.ReplaceAll(p.read("notes/mixed.txt"), "\r\n", "\n"))
	if r := p.object("commit", "-m", "Nothing after all"); r["commit"] != nil {
		t.Errorf("a commit of line ends that the rules take back: %v", r)
	}
	p.declare("\n[[lines]]\nmatch = \"**\"\nends = \"cr\"\n")
	p.fails(2, "a rule for lines needs", "locks")
}
