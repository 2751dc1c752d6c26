package main

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"
)

// flat gives a document of one file, which LibreOffice makes others of.
func flat(sort, styles, body string) string {
	var names strings.Builder
	for prefix, uri := range map[string]string{
		"office": "urn:oasis:names:tc:opendocument:xmlns:office:1.0", "style": "urn:oasis:names:tc:opendocument:xmlns:style:1.0",
		"text": "urn:oasis:names:tc:opendocument:xmlns:text:1.0", "table": "urn:oasis:names:tc:opendocument:xmlns:table:1.0",
		"fo": "urn:oasis:names:tc:opendocument:xmlns:xsl-fo-compatible:1.0", "of": "urn:oasis:names:tc:opendocument:xmlns:of:1.2",
		"draw": "urn:oasis:names:tc:opendocument:xmlns:drawing:1.0", "svg": "urn:oasis:names:tc:opendocument:xmlns:svg-compatible:1.0",
	} {
		names.WriteString(" xmlns:" + prefix + `="` + uri + `"`)
	}
	return `<?xml version="1.0" encoding="UTF-8"?><office:document` + names.String() +
		` office:version="1.3" office:mimetype="application/vnd.oasis.opendocument.` + sort + `"><office:automatic-styles>` + styles +
		`</office:automatic-styles><office:body><office:` + sort + ">" + body + "</office:" + sort + "></office:body></office:document>"
}

// TestDocumentsOfTwoPeopleMerge lets LibreOffice write six documents in three versions each.
// They merge without a conflict, and LibreOffice opens the outcome with both edits.
func TestDocumentsOfTwoPeopleMerge(t *testing.T) {
	office := others(t, "soffice")
	const bold = `<style:style style:name="N1" style:family="FAMILY"><style:text-properties fo:font-weight="bold"/></style:style>`
	cell := func(text string) string {
		return `<table:table-cell office:value-type="string"><text:p>` + text + `</text:p></table:table-cell>`
	}
	figure := func(n string) string {
		return `<table:table-cell office:value-type="float" office:value="` + n + `"><text:p>` + n + `</text:p></table:table-cell>`
	}
	box := func(words ...string) string {
		return `<draw:frame svg:width="20cm" svg:height="3cm" svg:x="2cm" svg:y="1cm"><draw:text-box><text:p>` +
			strings.Join(words, "</text:p><text:p>") + `</text:p></draw:text-box></draw:frame>`
	}
	for _, c := range []struct {
		flat, body  string
		mine, their []string
		endings     [2]string
		want        []string
	}{
		{"text", `<text:h text:outline-level="1">The reef</text:h><text:p>The exhibit opens at nine.</text:p><text:p>Tickets are sold inside.</text:p><text:p>The kelp is fed at noon.</text:p>`,
			[]string{"sold inside", "sold at the gate"}, []string{"fed at noon",
				`fed <text:span text:style-name="N1">at three</text:span>`}, [2]string{"odt", "docx"},
			[]string{"sold at the gate", "at three"}},
		{"spreadsheet", `<table:table table:name="Tanks"><table:table-row>` + cell("Reef") + figure("42000") + cell("Imke") +
			`</table:table-row><table:table-row>` + cell("Kelp") + figure("31000") + cell("Tarek") +
			`</table:table-row><table:table-row>` + cell("All") +
			`<table:table-cell table:formula="of:=SUM([.B1:.B2])" office:value-type="float" office:value="73000"><text:p>73000</text:p></table:table-cell></table:table-row></table:table>`,
			[]string{"42000", "43000", ">Imke", ">Odalys"}, []string{">Tarek", ">Ravi",
				`<table:table-cell office:value-type="string"><text:p>Kelp`,
				`<table:table-cell table:style-name="N1" office:value-type="string"><text:p>Kelp forest`}, [2]string{"ods", "xlsx"},
			[]string{"43000", "Odalys", "Ravi", "Kelp forest", "74000"}},
		{"presentation", `<draw:page draw:name="Reef">` + box("The reef exhibit") + box("It opens at nine", "Fish are fed at noon") +
			`</draw:page><draw:page draw:name="Kelp">` + box("The kelp forest") + `</draw:page>`,
			[]string{"opens at nine", "opens at ten", `<draw:page draw:name="Kelp">`,
				`<draw:page draw:name="Mangroves">` + box("The mangroves") + `</draw:page><draw:page draw:name="Kelp">`},
			[]string{"fed at noon", "fed at three", "The kelp", "The giant kelp"}, [2]string{"odp", "pptx"}, []string{"opens at ten",
				"fed at three", "giant kelp", "mangroves"}},
	} {
		p := empty(t)
		styles := strings.Replace(bold, "FAMILY", map[string]string{"spreadsheet": "table-cell"}[c.flat], 1)
		if c.flat != "spreadsheet" {
			styles = strings.Replace(bold, "FAMILY", "text", 1)
		}
		for name, edits := range map[string][]string{"base": nil, "mine": c.mine, "theirs": c.their} {
			p.write("made/"+name+".f"+c.endings[0], flat(c.flat, styles, strings.NewReplacer(edits...).Replace(c.body)))
			for _, ending := range c.endings {
				p.call(office, "--headless", "--convert-to", ending, "--outdir", "made", "made/"+name+".f"+c.endings[0])
			}
		}
		made := p.path("made")
		kept := filepath.Join(t.TempDir(), "made")
		if err := os.Rename(made, kept); err != nil {
			t.Fatal(err)
		}
		for _, ending := range c.endings {
			p := empty(t)
			put := func(version string) {
				data, err := os.ReadFile(filepath.Join(kept, version+"."+ending))
				if err != nil {
					t.Fatal(err)
				}
				p.write("doc."+ending, string(data))
			}
			put("base")
			p.ok("begin", "--as", "Imke")
			p.ok("commit", "-m", "First")
			p.ok("branch", "theirs")
			put("mine")
			p.ok("commit", "-m", "mine")
			p.ok("go", "theirs")
			put("theirs")
			p.ok("commit", "-m", "theirs")
			p.ok("go", "main")
			if r := p.run("merge", "theirs"); r.status != 0 {
				t.Errorf("%s: status %d\n%s%s", ending, r.status, r.out, r.err)
				continue
			}
			p.call(office, "--headless", "--convert-to", "f"+c.endings[0], "--outdir", "read", "doc."+ending)
			text := p.read("read/doc.f" + c.endings[0])
			for _, words := range c.want {
				if !strings.Contains(text, words) {
					t.Errorf("%s: %q is not in the outcome", ending, words)
				}
			}
		}
	}
}

// sheetOf writes a workbook of one sheet; what begins with = is a formula.
func (p *project) sheetOf(name string, rows ...[]any) {
	p.t.Helper()
	f := excelize.NewFile()
	defer f.Close()
	var errs error
	for i, row := range rows {
		for j, v := range row {
			at, _ := excelize.CoordinatesToCellName(j+1, i+1)
			if words, ok := v.(string); ok && strings.HasPrefix(words, "=") {
				errs = errors.Join(errs, f.SetCellFormula("Sheet1", at, words[1:]))
			} else {
				errs = errors.Join(errs, f.SetCellValue("Sheet1", at, v))
			}
		}
	}
	if err := errors.Join(errs, f.SaveAs(p.path(name))); err != nil {
		p.t.Fatal(err)
	}
}

// sheet reads it, with formulas in place of figures.
func (p *project) sheet(name string) string {
	p.t.Helper()
	f, err := excelize.OpenFile(p.path(name))
	if err != nil {
		p.t.Fatal(err)
	}
	defer f.Close()
	rows, err := f.GetRows("Sheet1")
	if err != nil {
		p.t.Fatal(err)
	}
	var out []string
	for i := range rows {
		var cells []string
		for j := range 4 {
			at, _ := excelize.CoordinatesToCellName(j+1, i+1)
			v, _ := f.GetCellValue("Sheet1", at)
			if words, _ := f.GetCellFormula("Sheet1", at); words != "" {
				v = "=" + words
			}
			cells = append(cells, v)
		}
		out = append(out, strings.TrimRight(strings.Join(cells, " "), " "))
	}
	return strings.Join(out, "\n")
}

// TestRowsThatMoveInASheet lets one person put a row in, and the other edit below it; then
// one take a row away that the other edits; then, with a key, one sort what the other fills.
func TestRowsThatMoveInASheet(t *testing.T) {
	head := []any{"Tank", "Litres", "Fish", "Each"}
	reef, kelp, lagoon := []any{"Reef", 42000, 120, "=B2/C2"}, []any{"Kelp", 31000, 80, "=B3/C3"}, []any{"Lagoon", 12000, 60, "=B4/C4"}
	all := []any{"All", "=SUM(B2:B4)"}
	begin := func(manifest string) *project {
		p := empty(t)
		p.write("oaken.toml", "project = \"Tanks\"\n"+manifest)
		p.sheetOf("tanks.xlsx", head, reef, kelp, lagoon, all)
		p.ok("begin", "--as", "Imke")
		p.ok("commit", "-m", "First")
		p.ok("branch", "theirs")
		return p
	}
	both := func(p *project, mine, theirs [][]any) result {
		p.sheetOf("tanks.xlsx", mine...)
		p.ok("commit", "-m", "Mine")
		p.ok("go", "theirs")
		p.sheetOf("tanks.xlsx", theirs...)
		p.ok("commit", "-m", "Theirs")
		p.ok("go", "main")
		return p.run("merge", "theirs")
	}
	want := func(p *project, lines ...string) {
		t.Helper()
		if is := p.sheet("tanks.xlsx"); is != strings.Join(lines, "\n") {
			t.Errorf("the sheet is\n%s\nwant\n%s", is, strings.Join(lines, "\n"))
		}
	}

	p := begin("")
	r := both(p, [][]any{head, reef, {"Mangrove", 9000, 40, "=B3/C3"}, {"Kelp", 31000, 80, "=B4/C4"}, {"Lagoon", 12000, 60, "=B5/C5"},
		{"All", "=SUM(B2:B5)"}},
		[][]any{head, reef, kelp, {"Lagoon", 12500, 65, "=B4/C4"}, all})
	if r.status != 0 {
		t.Fatalf("a row that was put in: %s", r.out)
	}
	want(p, "Tank Litres Fish Each", "Reef 42000 120 =B2/C2", "Mangrove 9000 40 =B3/C3", "Kelp 31000 80 =B4/C4", "Lagoon 12500 65 =B5/C5",
		"All =SUM(B2:B5)")

	p = begin("")
	r = both(p, [][]any{head, reef, {"Lagoon", 12000, 60, "=B3/C3"}, {"All", "=SUM(B2:B3)"}},
		[][]any{head, reef, {"Kelp", 31000, 85, "=B3/C3"}, lagoon, all})
	if r.status != 3 || !strings.Contains(r.out, "line:row 3 before") || !strings.Contains(r.out, "Kelp | 31000 | 85") {
		t.Fatalf("a row that was taken away and edited: %d, %s", r.status, r.out)
	}
	p.ok("resolve", "tanks.xlsx::sheet:Sheet1/line:row 3 before", "--keep", "theirs")
	p.ok("commit", "-m", "It stays")
	want(p, "Tank Litres Fish Each", "Reef 42000 120 =B2/C2", "Kelp 31000 85 =B3/C3", "Lagoon 12000 60 =B4/C4", "All =SUM(B2:B4)")

	p = begin("\n[[recipe]]\nname = \"tanks\"\nmatch = \"*.xlsx\"\n\n[[recipe.element]]\nat = \"workbook/Sheet1\"\nkey = [\"Tank\"]\n")
	p.ok("recipe", "check")
	sorted := [][]any{head, {"Kelp", 31000, 80, "=B2/C2"}, {"Lagoon", 12000, 60, "=B3/C3"}, {"Reef", 42000, 120, "=B4/C4"}}
	r = both(p, append(slices.Clone(sorted), []any{}, []any{"sorted by Imke"}),
		[][]any{head, reef, kelp, {"Lagoon", 12500, 65, "=B4/C4"}, {"Mangrove", 9000, 40, "=B5/C5"}})
	if r.status != 0 {
		t.Fatalf("a sheet that was sorted: %s", r.out)
	}
	want(p, "Tank Litres Fish Each", "Kelp 31000 80 =B2/C2", "Lagoon 12500 65 =B3/C3", "Reef 42000 120 =B4/C4", "Mangrove 9000 40 =B5/C5",
		"", "sorted by Imke")
}
