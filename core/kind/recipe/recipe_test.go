package recipe_test

import (
	"archive/zip"
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/all"
	"oakenchest/core/kind/recipe"
	"oakenchest/core/manifest"
)

const rules = `
[[recipe]]
name = "forms"
match = "**/*.{xml,json}"

[[recipe.element]]
at = "**"
noise = ["stamp", "audit"]

[[recipe.element]]
at = "form/**/field"
key = ["caption", "place"]

[[recipe.element]]
at = "*:section"
key = ["title"]
part = true

[[recipe.element]]
at = "fields/item"
key = ["caption"]

[[recipe.element]]
at = "/form"
ordered = false
embedded = { note = "percent" }
`

func table(t testing.TB, text string) *kind.Table {
	t.Helper()
	m, err := recipe.Manifest([]byte(text), all.Table())
	if err != nil {
		t.Fatal(err)
	}
	return recipe.Over(all.Table(), m.Recipes)
}

func source(name, data string) kind.FileSource {
	return kind.FileSource{Name: name, Data: []byte(data)}
}

func read(t testing.TB, table *kind.Table, src kind.FileSource) *kind.Reading {
	t.Helper()
	r, err := table.For(src.Name, src.Data).Read(src)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// form makes a document out of random choices.
func form(rnd *rand.Rand) string {
	var b strings.Builder
	fmt.Fprintf(&b, "<?xml version=\"1.0\"?>\n<!-- kept -->\n<form stamp=\"%d\" note=\"%%7B%%22n%%22%%3A%d%%7D\">\n",
		rnd.IntN(1000), rnd.IntN(3))
	for s := range 1 + rnd.IntN(3) {
		fmt.Fprintf(&b, "  <section title=\"S%d\" width=\"%d\">\n", s, rnd.IntN(3))
		for f := range rnd.IntN(4) {
			fmt.Fprintf(&b, "    <audit>%d</audit>\n    <field caption=\"F%d\" place=\"%d\" stamp=\"%d\" size='%d'/>\n", rnd.IntN(1000), f,
				f, rnd.IntN(1000), rnd.IntN(3))
		}
		layout := fmt.Sprintf(`{"columns":[{"id":"tank","width":%d},{"id":"food","width":%d}],"title":"Feed times"}`,
			rnd.IntN(3), rnd.IntN(3))
		if rnd.IntN(2) == 0 {
			fmt.Fprintf(&b, "    <layout>%s</layout>\n", base64.StdEncoding.EncodeToString([]byte(layout)))
		} else {
			fmt.Fprintf(&b, "    <report layout=\"%s\"/>\n", hex.EncodeToString([]byte(layout)))
		}
		b.WriteString("  </section>\n")
	}
	return b.String() + "  <audit>last</audit>\n</form>\n"
}

func TestWritingAViewKeepsNoiseAndGivesThatView(t *testing.T) {
	tab := table(t, rules)
	for seed := range uint64(300) {
		rnd := rand.New(rand.NewPCG(seed, 1))
		src, other := source("a/x.xml", form(rnd)), source("a/x.xml", form(rnd))
		k := tab.For(src.Name, src.Data).(kind.Writer)
		was, want := read(t, tab, src), read(t, tab, other)
		files, err := k.Write(src, want.Root, want.Content)
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		out := source(src.Name, string(src.Data))
		if data, changed := files["x.xml"]; changed {
			out.Data = data
		}
		if again := read(t, tab, out); again.Root.Sum() != want.Root.Sum() {
			t.Fatalf("seed %d: got\n%s\nwant\n%s\nfile\n%s", seed, again.Root.Dump(), want.Root.Dump(), out.Data)
		}
		stamp := string(src.Data[:strings.Index(string(src.Data), " note=")])
		if !strings.HasPrefix(string(out.Data), stamp) || !strings.Contains(string(out.Data), "<audit>last</audit>") {
			t.Fatalf("seed %d: noise is lost:\n%s", seed, out.Data)
		}
		if was.Hidden == (element.Digest{}) {
			t.Fatal("nothing is said of the noise")
		}
		parts, err := k.(kind.Splitter).Split(src)
		if err != nil {
			t.Fatal(err)
		}
		if back, err := k.(kind.Splitter).Join(parts); err != nil || string(back) != string(src.Data) {
			t.Fatalf("seed %d: joined, %v:\n%s", seed, err, back)
		}
	}
}

func TestNoiseAloneChangesTheHiddenPartOnly(t *testing.T) {
	tab := table(t, rules)
	text := form(rand.New(rand.NewPCG(5, 5)))
	one, two := read(t, tab, source("x.xml", text)), read(t, tab, source("x.xml", strings.Replace(text, "<audit>last", "<audit>first", 1)))
	if one.Root.Sum() != two.Root.Sum() || one.Hidden == two.Hidden {
		t.Error("noise shows, or is forgotten")
	}
}

func TestDataIsCalledByItsMembers(t *testing.T) {
	tab := table(t, rules)
	src := source("f.json", `{"stamp": 3, "fields": [{"caption": "Tank", "stamp": 1}, {"caption": "Food", "config": "{\"rows\": [1, 2], \"name\": \"list of foods\"}"}]}`)
	r := read(t, tab, src)
	dump := r.Root.Dump()
	for _, want := range []string{"item:Tank", "item:Food", "embedded:config", `name="list of foods"`} {
		if !strings.Contains(dump, want) {
			t.Errorf("%s is missing in\n%s", want, dump)
		}
	}
	if strings.Contains(dump, "stamp") {
		t.Errorf("noise shows:\n%s", dump)
	}
	want := read(t, tab, source("f.json", strings.Replace(strings.Replace(string(src.Data), "list of foods", "foods and drinks", 1),
		`"stamp": 3`, `"stamp": 4`, 1)))
	files, err := tab.For("f.json", nil).(kind.Writer).Write(src, want.Root, want.Content)
	if expect := strings.Replace(string(src.Data), "list of foods", "foods and drinks", 1); err != nil ||
		string(files["f.json"]) != expect {
		t.Errorf("%v: %s", err, files["f.json"])
	}
}

func TestOpenFormatsHaveKeysFromTheStart(t *testing.T) {
	for _, c := range []struct{ doc, want string }{
		{`<bpmn:definitions xmlns:bpmn="b"><bpmn:process id="feed"><bpmn:task id="t"><bpmn:incoming>f1</bpmn:incoming><bpmn:incoming>f2</bpmn:incoming></bpmn:task></bpmn:process></bpmn:definitions>`, "bpmn:incoming:f2"},
		{`<definitions><process id="p"/><BPMNDiagram><BPMNShape bpmnElement="p"/><BPMNShape bpmnElement="q"/></BPMNDiagram></definitions>`,
			"BPMNShape:q"},
		{`<worksheet><sheetData><row r="1"><c r="A1"/><c r="B1"><v>2</v></c></row></sheetData></worksheet>`, "c:B1"},
		{`<xmi:XMI><a xmi:id="_7"/><a xmi:id="_8" name="x"/></xmi:XMI>`, "a:_8"},
		{`<Types><Override PartName="/a.xml"/><Override PartName="/b.xml"/></Types>`, "Override:/b.xml"},
		{`<w:document><w:body><w:p w14:paraId="1A" w:rsidR="00A"/><w:p w14:paraId="2B"/></w:body></w:document>`, "w:p:2B"},
	} {
		r := read(t, all.Table(), source("x.xml", "<?xml version='1.0'?>"+c.doc))
		if !strings.Contains(r.Root.Dump(), c.want) || strings.Contains(r.Root.Dump(), "rsid") {
			t.Errorf("no %s in\n%s", c.want, r.Root.Dump())
		}
	}
}

func TestReportsTellWhatARecipeDoes(t *testing.T) {
	m, err := recipe.Manifest([]byte(rules), all.Table())
	if err != nil {
		t.Fatal(err)
	}
	var got []*recipe.Report
	tab := recipe.Watched(all.Table(), m.Recipes, func(r *recipe.Report) { got = append(got, r) })
	read(t, tab, source("x.xml", `<form><section title="A"/><section title="A"/><row/><row/><field caption="c" place="1"/></form>`))
	r := got[0]
	if len(got) != 1 || fmt.Sprint(r.Twice) != "[form/section:A]" || fmt.Sprint(r.Unkeyed) != "[{row 2} {section 2}]" {
		t.Errorf("twice %v, unkeyed %v", r.Twice, r.Unkeyed)
	}
	for _, u := range r.Rules {
		if u.Rule.At == "fields/item" && u.Elements != 0 || u.Rule.At == "*:section" && u.Elements != 2 {
			t.Errorf("%s chose %d", u.Rule.At, u.Elements)
		}
	}
}

func TestRecipesThatCannotBeUsedAreRefused(t *testing.T) {
	for text, want := range map[string]string{
		"[[recipe]]\nmatch = \"*\"": "no name", "[[recipe]]\nname = \"x\"": "needs a match",
		"[[recipe]]\nname = \"x\"\nmatch = \"[\"":                                                               "not well formed",
		"[[recipe]]\nname = \"x\"\nmatch = \"*\"\n[[recipe.element]]\nat = \"a\"":                               "says nothing",
		"[[recipe]]\nname = \"x\"\nmatch = \"*\"\n[[recipe.element]]\nat = \"//\"\npart = true":                 "rule whose at",
		"[[recipe]]\nname = \"x\"\nmatch = \"*\"\nkind = \"picture\"":                                           "can't describe",
		"[[recipe]]\nname = \"x\"\nmatch = \"*\"\n[[recipe.element]]\nat = \"a\"\nembedded = { b = \"rot13\" }": "no encoding",
	} {
		if _, err := recipe.Manifest([]byte(text), all.Table()); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
	if len(recipe.Builtin()) < 6 {
		t.Error("the program's own recipes are not read")
	}
	if !recipe.Applies(manifest.Recipe{Match: "apps/**"}, "apps/rounds.app/forms/x.xml") ||
		recipe.Applies(manifest.Recipe{Match: "a/*"}, "b/x") {
		t.Error("patterns")
	}
}

func TestPartsOfAPackageCanBeNoise(t *testing.T) {
	zipped := func(label, stamp string) kind.FileSource {
		var b bytes.Buffer
		w := zip.NewWriter(&b)
		for _, e := range [][2]string{{"form.xml", `<form><field id="tank" label="` + label + `"/></form>`}, {"stamp.txt", stamp}} {
			out, err := w.Create(e[0])
			if err != nil {
				t.Fatal(err)
			}
			_, _ = out.Write([]byte(e[1]))
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		return kind.FileSource{Name: "rounds.app", Data: b.Bytes()}
	}
	tab := table(t, "[[recipe]]\nname = \"apps\"\nmatch = \"*.app\"\n[[recipe.element]]\nat = \"package\"\nnoise = [\"part=stamp.txt\"]\n")
	one, two, three := read(t, tab, zipped("Tank", "1")), read(t, tab, zipped("Tank", "2")), read(t, tab, zipped("Pool", "3"))
	if one.Root.Sum() != two.Root.Sum() || one.Hidden == two.Hidden {
		t.Error("a part that is noise shows, or is forgotten")
	}
	src := zipped("Tank", "1")
	k := tab.For(src.Name, src.Data)
	files, err := k.(kind.Writer).Write(src, three.Root, three.Content)
	if err != nil {
		t.Fatal(err)
	}
	raw := read(t, all.Table(), kind.FileSource{Name: src.Name, Data: files["rounds.app"]})
	if dump := raw.Root.Dump(); !strings.Contains(dump, `label="Pool"`) || !strings.Contains(dump, `text="1"`) {
		t.Errorf("written:\n%s", dump)
	}
	if s, ok := k.(kind.Splitter); !ok || s.Marker() != "oaken-package.json" {
		t.Error("it can't be split any more")
	}
}

func TestRowsOfATableHaveTheKeyThatARecipeSays(t *testing.T) {
	tab := table(t, "[[recipe]]\nname = \"feedings\"\nmatch = \"*.csv\"\n[[recipe.element]]\nat = \"table\"\nordered = false\n"+
		"[[recipe.element]]\nat = \"row\"\nkey = [\"tank\", \"day\"]\nnoise = [\"stamp\"]\n")
	from := source("fed.csv", "tank,day,grams,stamp\nReef,Mon,40,1\nReef,Tue,50,2\nKelp,Mon,40,3\n")
	to := source("fed.csv", "tank,day,grams,stamp\nKelp,Mon,40,7\nReef,Mon,45,8\nReef,Tue,50,9\n")
	a, b := read(t, tab, from), read(t, tab, to)
	changes := element.Compare(a.Root, b.Root).Changes("fed.csv")
	if len(changes) != 1 || changes[0].Address.String() != "fed.csv::row:Reef Mon.grams" {
		t.Errorf("changes: %v", changes)
	}
	files, err := tab.For("fed.csv", from.Data).(kind.Writer).Write(from, b.Root, nil)
	if want := strings.Replace(string(from.Data), "Reef,Mon,40", "Reef,Mon,45", 1); err != nil || string(files["fed.csv"]) != want {
		t.Errorf("%v:\n%s", err, files["fed.csv"])
	}
}
