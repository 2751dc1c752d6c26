// Package preset knows sorts of projects by what lies in their folders, and what
// is to be left out of each: what a platform generates, caches, or keeps for one
// machine only. A preset is only a proposal: it is written into oaken.toml, where
// people can edit it.
package preset

import (
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"oakenchest/core/manifest"
)

// Preset is what is known of one sort of project.
type Preset struct {
	Name  string
	About string
	// Signs lists patterns, in the project's top folder, that must all be there
	// for the preset to be recognised.
	Signs []string
	// LeaveOut lists patterns of what is never recorded.
	LeaveOut []string
	// Locks lists rules for what can't be merged.
	Locks []manifest.LockRule
	// Companions lists files that travel with others.
	Companions []manifest.Companion
}

// All lists the presets by name.
var All = []Preset{
	{"engine-assets", "a game engine's project of Assets and ProjectSettings",
		[]string{"Assets", "ProjectSettings"},
		[]string{"Library", "Temp", "Obj", "Logs", "UserSettings", "MemoryCaptures", "Build", "Builds", "*.csproj", "*.sln"}, nil,
		[]manifest.Companion{{Of: "Assets/**", Is: "{path}.meta"}}},
	{"engine-content", "a game engine's project with a .uproject file",
		[]string{"*.uproject"},
		[]string{"Binaries", "DerivedDataCache", "Intermediate", "Saved", "**/*.VC.db", ".vs"}, nil, nil},
	{"engine-scenes", "a game engine's project with a project.godot file",
		[]string{"project.godot"},
		[]string{".godot", ".import", "export.cfg"}, nil, nil},
	{"modelling", "files of a 3-D modelling program",
		[]string{"*.blend"},
		[]string{"**/*.blend[0-9]", "**/*.blend@"}, nil, nil},
	{"database-project", "a database project that is built into a package",
		[]string{"*.sqlproj"},
		[]string{"bin", "obj", "**/*.dbmdl", "**/*.jfm", "**/*.dacpac"}, nil, nil},
	{"low-code-export", "an app platform's export, taken apart",
		[]string{"*olution.xml", "*ustomizations.xml"},
		[]string{"**/*.log", "**/*_unpacked.tmp"}, nil, nil},
	{"web", "a web project with a package.json",
		[]string{"package.json"},
		[]string{"**/node_modules", "dist", "build", "coverage", "**/.cache"}, nil, nil},
	{"office", "office documents, drawings and reports",
		[]string{"*.{docx,xlsx,pptx,odt,ods,odp,vsdx}"},
		[]string{"**/.~lock.*#", "**/*.asd", "**/*.wbk"}, nil, nil},
}

// Named gives a preset by its name.
func Named(name string) (Preset, bool) {
	i := slices.IndexFunc(All, func(p Preset) bool { return p.Name == name })
	if i < 0 {
		return Preset{}, false
	}
	return All[i], true
}

// Recognise gives the presets whose signs a folder shows.
func Recognise(folder string) ([]Preset, error) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, err
	}
	var out []Preset
	for _, p := range All {
		if !slices.ContainsFunc(p.Signs, func(sign string) bool { return !shows(entries, sign) }) {
			out = append(out, p)
		}
	}
	return out, nil
}

func shows(entries []fs.DirEntry, sign string) bool {
	for _, pattern := range alternatives(sign) {
		for _, e := range entries {
			if ok, _ := filepath.Match(pattern, e.Name()); ok {
				return true
			}
		}
	}
	return false
}
