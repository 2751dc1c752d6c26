package oakenchest_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// licencePhrases are what the texts of licences say, by their names (SPDX).
var licencePhrases = map[string]string{
	"MIT": "Permission is hereby granted, free of charge", "Apache-2.0": "Apache License", "MPL-2.0": "Mozilla Public License",
	"BSD-3-Clause": "endorse or promote", "BSD-2-Clause": "Redistribution and use in source and binary forms",
	"Unlicense": "free and unencumbered software",
}

var (
	licenceRow  = regexp.MustCompile("(?m)^\\| `([^`]+)` \\| ([^|]+) \\|$")
	licenceFile = regexp.MustCompile(`(?i)^(un)?licen[sc]e|^copying`)
)

// TestEveryModuleHasItsLicenceListed holds docs/dependencies.md against the modules that the program is built
// of, and what it says against their own files.
func TestEveryModuleHasItsLicenceListed(t *testing.T) {
	text, err := os.ReadFile("docs/dependencies.md")
	if err != nil {
		t.Fatal(err)
	}
	_, table, found := strings.Cut(string(text), "\n## Licences\n")
	if !found {
		t.Fatal("docs/dependencies.md has no list of licences")
	}
	listed := map[string]string{}
	for _, row := range licenceRow.FindAllStringSubmatch(table, -1) {
		listed[row[1]] = row[2]
	}
	out, err := exec.Command("go", "list", "-deps", "-f", "{{with .Module}}{{if not .Main}}{{.Path}} {{.Dir}}{{end}}{{end}}",
		"./...").Output()
	if err != nil {
		t.Fatal(err)
	}
	used := map[string]bool{}
	for line := range strings.Lines(string(out)) {
		module, dir, _ := strings.Cut(strings.TrimSpace(line), " ")
		if module == "" || used[module] {
			continue
		}
		used[module] = true
		licence := listed[module]
		if licence == "" {
			t.Errorf("%s is not in docs/dependencies.md: list it with its licence, and say what it is for", module)
			continue
		}
		name, _, _ := strings.Cut(strings.NewReplacer(",", " ", ";", " ").Replace(licence), " ")
		if phrase := licencePhrases[name]; phrase == "" || !strings.Contains(licenceOf(t, dir), phrase) {
			t.Errorf("%s is listed under %s, and its files do not say so", module, licence)
		}
	}
	for module := range listed {
		if !used[module] {
			t.Errorf("%s is listed, and the program is not built of it", module)
		}
	}
}

// licenceOf gives the texts of a module's licence files, with single blanks.
func licenceOf(t *testing.T, dir string) string {
	entries, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	var all strings.Builder
	for _, e := range entries {
		if e.IsDir() || !licenceFile.MatchString(e.Name()) {
			continue
		}
		data, err := os.ReadFile(filepath.Join(dir, e.Name()))
		if err != nil {
			t.Fatal(err)
		}
		all.Write(data)
	}
	return strings.Join(strings.Fields(all.String()), " ")
}
