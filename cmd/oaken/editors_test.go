package main

import (
	"os"
	"os/exec"
	"strings"
	"testing"

	"oakenchest/sample"
)

// others gives the path of somebody else's program, or leaves the test out.
func others(t *testing.T, name string) string {
	t.Helper()
	path, err := exec.LookPath(name)
	if err != nil {
		t.Skipf("%s is not installed", name)
	}
	return path
}

// call runs a program in the project's folder.
func (p *project) call(name string, args ...string) {
	p.t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Dir, cmd.Env = p.dir, append(os.Environ(), "HOME="+p.dir)
	if out, err := cmd.CombinedOutput(); err != nil {
		p.t.Fatalf("%s %v: %v\n%s", name, args, err, out)
	}
}

// changed gives the addresses that differ between two files, those left out that hold
// one of some words.
func (p *project) changed(from, to string, besides ...string) []string {
	p.t.Helper()
	var out []string
	for _, c := range p.object("compare", "file:"+from, "file:"+to)["changes"].([]any) {
		row := c.(map[string]any)
		address := row["address"].(string)
		if note, ok := row["note"].(string); ok {
			address += " " + note
		}
		if !strings.Contains(address, strings.Join(besides, "")) || len(besides) == 0 {
			out = append(out, address)
		}
	}
	return out
}

// TestPicturesEditedByOthersShowTheEdit lets ImageMagick paint a box.
func TestPicturesEditedByOthersShowTheEdit(t *testing.T) {
	convert := others(t, "/usr/bin/convert")
	p := empty(t)
	p.write("sand.png", string(sample.SandPNG(64)))
	for _, form := range []string{"png", "bmp", "tiff", "gif"} {
		p.call(convert, "sand.png", "-strip", "was."+form)
		p.call(convert, "was."+form, "-fill", "red", "-draw", "rectangle 10,20 29,39", "-strip", "is."+form)
		got := strings.Join(p.changed("was."+form, "is."+form), "\n")
		if !strings.Contains(got, "20 × 20 at 10, 20") {
			t.Errorf("%s: %s", form, got)
		}
	}
}

// TestSoundsEditedByOthersShowTheEdit lets SoX put silence behind a sound.
func TestSoundsEditedByOthersShowTheEdit(t *testing.T) {
	sox := others(t, "sox")
	p := empty(t)
	p.write("was.wav", string(sample.BubblesWAV()))
	p.call(sox, "was.wav", "is.wav", "pad", "0", "2")
	got := strings.Join(p.changed("was.wav", "is.wav"), "\n")
	if !strings.Contains(got, "2 s longer") || strings.Count(got, "\n") > 2 {
		t.Errorf("changes:\n%s", got)
	}
	p.call(sox, "was.wav", "was.flac")
	p.call(sox, "was.wav", "louder.flac", "vol", "0.5")
	if got := strings.Join(p.changed("was.flac", "louder.flac"), "\n"); !strings.Contains(got, "peak") ||
		!strings.Contains(got, "loudness") {
		t.Errorf("changes:\n%s", got)
	}
}

// TestOfficeFilesEditedByOthersShowTheEdit lets LibreOffice write a text and a table
// twice, with one word and one number changed between.
func TestOfficeFilesEditedByOthersShowTheEdit(t *testing.T) {
	office := others(t, "soffice")
	p := empty(t)
	for _, version := range []struct{ folder, season, litres string }{{"was", "spring", "42000"}, {"is", "autumn", "41000"}} {
		p.write("note.txt", "The reef exhibit opens in "+version.season+".\nImke builds the scene.\n")
		p.write("tanks.csv", "id,name,litres\n1,Reef,"+version.litres+"\n2,Kelp,9000\n")
		for _, c := range [][2]string{{"odt", "note.txt"}, {"docx", "note.txt"}, {"ods", "tanks.csv"}, {"xlsx", "tanks.csv"}} {
			p.call(office, "--headless", "--convert-to", c[0], "--outdir", version.folder, c[1])
		}
	}
	for file, want := range map[string]string{
		"note.odt": `"text:p":#1.text`, "note.docx": `"w:t":#1.text`, "tanks.xlsx": "sheet:tanks/cell:C2.value",
		"tanks.ods": `"table:table-row":#2/"table:table-cell":#3`,
	} {
		got := p.changed("was/"+file, "is/"+file, "Thumbnails/")
		if len(got) == 0 || len(got) > 2 || !strings.Contains(got[0], want) {
			t.Errorf("%s:\n%s", file, strings.Join(got, "\n"))
		}
	}
}
