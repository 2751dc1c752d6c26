package main

import (
	"bytes"
	"compress/gzip"
	"os"
	"strings"
	"testing"
)

// formats are files of each structured kind with two places to edit: the first
// is Imke's, the second Tarek's.
var formats = []struct{ file, text, old1, new1, at1, old2, new2, at2 string }{
	{"a.yaml", "# tanks\ntanks:\n  - name: Reef\n    litres: 42000 # at most\n  - name: Kelp\n    litres: 9000\n", "42000", "41000",
		"list:tanks/item:Reef.litres", "9000", "9500", "list:tanks/item:Kelp.litres"},
	{"a.toml", "# tanks\n[reef]\nlitres = 42_000 # at most\n\n[kelp]\nlitres = 9000\n", "42_000", "41000", "object:reef.litres", "9000",
		"9500", "object:kelp.litres"},
	{"a.ini", "; tanks\r\n[reef]\r\nlitres=42000\r\n[kelp]\r\nlitres = 9000\r\n", "42000", "41000", "section:reef.litres", "9000", "9500",
		"section:kelp.litres"},
	{"a.json", "{\n  \"reef\": {\"litres\": 42000},\n  \"kelp\": {\"litres\": 9.0e3}\n}\n", "42000", "41000", "object:reef.litres", "9.0e3",
		"9500", "object:kelp.litres"},
	{"a.xml", "<?xml version=\"1.0\" encoding=\"ISO-8859-1\"?>\n<!-- f\xfcr die Becken -->\n" +
		"<tanks><tank id='reef' litres='42000'/><tank id='kelp' litres='9000'/></tanks>\n", "42000", "41000", "tanks:#1/tank:reef.litres",
		"9000", "9500", "tanks:#1/tank:kelp.litres"},
	{"a.csv", "id;litres\nreef;42000\nkelp;\"9000\"\n", "42000", "41000", "row:reef.litres", "\"9000\"", "9500", "row:kelp.litres"},
}

// inFormats begins a project with a file of each format.
func inFormats(t *testing.T) *project {
	t.Helper()
	p := empty(t)
	p.ok("begin")
	for _, f := range formats {
		p.write(f.file, f.text)
	}
	p.ok("commit", "-m", "As they were")
	return p
}

// TestEveryTextFormatIsMergedByElement lets two branches edit two places of one
// file of each format; all other bytes stay.
func TestEveryTextFormatIsMergedByElement(t *testing.T) {
	p := inFormats(t)
	p.ok("branch", "tarek")
	for _, f := range formats {
		p.write(f.file, strings.Replace(f.text, f.old1, f.new1, 1))
	}
	out := p.ok("compare")
	for _, f := range formats {
		if !strings.Contains(out, f.file+"::"+f.at1+"  ") {
			t.Errorf("%s: no %s in\n%s", f.file, f.at1, out)
		}
	}
	p.ok("commit", "-m", "Imke's")
	p.ok("go", "tarek")
	for _, f := range formats {
		p.write(f.file, strings.Replace(f.text, f.old2, f.new2, 1))
	}
	p.ok("commit", "-m", "Tarek's")
	p.ok("go", "main")
	p.ok("merge", "tarek")
	for _, f := range formats {
		want := strings.Replace(strings.Replace(f.text, f.old1, f.new1, 1), f.old2, f.new2, 1)
		if got := p.read(f.file); got != want && f.file != "a.csv" {
			t.Errorf("%s merged:\n%q\nwant\n%q", f.file, got, want)
		} else if !strings.Contains(got, "41000") || !strings.Contains(got, "9500") {
			t.Errorf("%s merged:\n%q", f.file, got)
		}
	}
}

// TestOneValueChangedTwiceIsAConflictInEveryFormat edits one place in two ways, and
// settles by the value of the other side.
func TestOneValueChangedTwiceIsAConflictInEveryFormat(t *testing.T) {
	p := inFormats(t)
	p.ok("branch", "tarek")
	edit := func(value string) {
		for _, f := range formats {
			p.write(f.file, strings.Replace(f.text, f.old1, value, 1))
		}
		p.ok("commit", "-m", value)
	}
	edit("1111")
	p.ok("go", "tarek")
	edit("2222")
	p.ok("go", "main")
	if r := p.run("merge", "tarek"); r.status != 3 {
		t.Fatalf("merge: status %d\n%s%s", r.status, r.out, r.err)
	}
	open := p.object("conflicts")["conflicts"].([]any)
	if len(open) != len(formats) {
		t.Fatalf("conflicts: %v", open)
	}
	for _, f := range formats {
		if p.read(f.file) != strings.Replace(f.text, f.old1, "1111", 1) {
			t.Errorf("%s: mine does not stand while the conflict is open:\n%s", f.file, p.read(f.file))
		}
		p.ok("resolve", f.file+"::"+f.at1, "--keep", "theirs")
		if p.read(f.file) != strings.Replace(f.text, f.old1, "2222", 1) {
			t.Errorf("%s settled:\n%s", f.file, p.read(f.file))
		}
	}
	p.ok("commit", "-m", "Settled")
}

// TestOneElementComesBackInEveryFormat restores one property out of a commit.
func TestOneElementComesBackInEveryFormat(t *testing.T) {
	p := inFormats(t)
	for _, f := range formats {
		p.write(f.file, strings.Replace(strings.Replace(f.text, f.old1, f.new1, 1), f.old2, f.new2, 1))
		p.ok("restore", f.file+"::"+f.at1, "--from", "main:1")
		got := p.read(f.file)
		if !strings.Contains(got, "42") || strings.Contains(got, f.new1) || !strings.Contains(got, f.new2) {
			t.Errorf("%s:\n%s", f.file, got)
		}
	}
}

func gzipOf(t *testing.T, text string) string {
	t.Helper()
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, _ = w.Write([]byte(text))
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// TestWhatIsPackedShowsWhatChangedInIt looks into a packed file, and into a text
// that holds another file.
func TestWhatIsPackedShowsWhatChangedInIt(t *testing.T) {
	p := empty(t)
	p.ok("begin")
	p.write("tanks.json.gz", gzipOf(t, `{"reef": {"litres": 42000}}`))
	p.write("report.json", `{"name": "log", "layout": "{\"title\": \"Feeding log\", \"width\": 120}", "query": "%7B%22from%22%3A%22tank%22%2C%22limit%22%3A100%7D"}`+"\n")
	p.ok("commit", "-m", "Packed")
	p.write("tanks.json.gz", gzipOf(t, `{"reef": {"litres": 41000}}`))
	p.write("report.json", strings.Replace(strings.Replace(p.read("report.json"), "120", "140", 1), "100", "250", 1))
	out := p.ok("compare")
	for _, want := range []string{"part:content/object:reef.litres", "42000 → 41000", "embedded:layout.width", "120 → 140",
		"embedded:query.limit", "100 → 250"} {
		if !strings.Contains(out, want) {
			t.Errorf("no %s in\n%s", want, out)
		}
	}
	p.ok("restore", "report.json::embedded:layout.width", "--from", "main:1")
	if got := p.read("report.json"); !strings.Contains(got, `\"width\": 120`) || !strings.Contains(got, "%3A250%7D") {
		t.Errorf("restored:\n%s", got)
	}
	p.ok("split", "report.json", "apart")
	if got := p.read("apart/report.json.embedded/layout.json"); !strings.Contains(got, "Feeding log") {
		t.Errorf("the layout: %s", got)
	}
	p.ok("join", "apart", "again.json")
	if got := p.read("again.json"); got != p.read("report.json") {
		t.Errorf("joined:\n%s", got)
	}
	p.fails(2, "nothing in it is content of its own", "split", "oaken.toml", "none")
	if _, err := os.Stat(p.path("none")); err == nil {
		t.Error("a folder was made for nothing")
	}
}

func TestSummariesCountWhatIsInside(t *testing.T) {
	p := world(t)
	o := p.object("inspect", "exhibit/reef.glb", "--summary")
	found := map[string]float64{}
	for _, c := range o["types"].([]any) {
		row := c.(map[string]any)
		found[row["type"].(string)] = row["elements"].(float64)
	}
	if found["node"] != 5 || found["mesh"] != 4 || o["kind"] != "scene" {
		t.Errorf("%v", o)
	}
	if out := p.ok("inspect", "exhibit/reef.glb::mesh:sand", "--summary"); !strings.Contains(out, "3 elements") {
		t.Errorf("of one element: %s", out)
	}
}
