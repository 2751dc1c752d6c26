package preset

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/bmatcuk/doublestar/v4"

	"oakenchest/core/manifest"
)

func TestProjectsAreRecognisedByTheirSigns(t *testing.T) {
	for _, c := range []struct{ lies, want string }{
		{"Assets/ ProjectSettings/", "engine-assets"}, {"Assets/", ""}, {"Reef.uproject Content/", "engine-content"}, {"project.godot",
			"engine-scenes"}, {"package.json plan.docx", "web office"},
		{"reef.blend", "modelling"}, {"solution.xml customizations.xml", "low-code-export"}, {"Solution.xml", ""}, {"a.sqlproj",
			"database-project"}, {"notes.txt", ""},
	} {
		dir := t.TempDir()
		for name := range strings.FieldsSeq(c.lies) {
			full := filepath.Join(dir, name)
			var err error
			if strings.HasSuffix(name, "/") {
				err = os.Mkdir(full, 0o777)
			} else {
				err = os.WriteFile(full, nil, 0o666)
			}
			if err != nil {
				t.Fatal(err)
			}
		}
		found, err := Recognise(dir)
		if err != nil {
			t.Fatal(err)
		}
		var names []string
		for _, p := range found {
			names = append(names, p.Name)
		}
		if strings.Join(names, " ") != c.want {
			t.Errorf("%s: recognised %v, want %s", c.lies, names, c.want)
		}
	}
}

func TestPresetsAreWellFormed(t *testing.T) {
	seen := map[string]bool{}
	for _, p := range All {
		if seen[p.Name] || p.About == "" || len(p.Signs) == 0 || len(p.LeaveOut) == 0 {
			t.Errorf("preset %q is not complete, or stands twice", p.Name)
		}
		seen[p.Name] = true
		for _, pattern := range p.LeaveOut {
			if !doublestar.ValidatePattern(pattern) {
				t.Errorf("%s: the pattern %q is not well formed", p.Name, pattern)
			}
		}
		if got, ok := Named(p.Name); !ok || got.About != p.About {
			t.Errorf("%s is not found by its name", p.Name)
		}
		var sections []manifest.Section
		for _, q := range All {
			sections = append(sections, manifest.Section{Title: q.Name + ": " + q.About, LeaveOut: q.LeaveOut, Locks: q.Locks})
		}
		m, err := manifest.Parse(manifest.First("x", sections...))
		if err != nil || !m.LeftOut("node_modules/x/y.js") || !m.LeftOut("Library/a") || m.LeftOut("src/a.js") {
			t.Errorf("the manifest of all presets: %v", err)
		}
	}
	if _, ok := Named("none"); ok {
		t.Error("a preset that there is not was found")
	}
}
