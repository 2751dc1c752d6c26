// Package schematest has what the tests of all engines need: schemas that other people
// wrote, and a way to show how two of the engines' own dumps differ.
package schematest

import (
	"compress/gzip"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// Corpus gives the schemas in the folder that OAKEN_CORPUS names, by path, for which
// belongs is true: texts that create a table. It is a sample, unless OAKEN_JUDGE is
// "all". Without OAKEN_CORPUS the test is skipped.
func Corpus(t testing.TB, belongs func(path string) bool) map[string]string {
	t.Helper()
	root := os.Getenv("OAKEN_CORPUS")
	if root == "" {
		t.Skip("set OAKEN_CORPUS to what test/corpus prints")
	}
	all := map[string]string{}
	err := filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		name := strings.TrimPrefix(filepath.ToSlash(p), filepath.ToSlash(root)+"/")
		if err != nil || !d.Type().IsRegular() || !belongs(strings.ToLower(name)) {
			return err
		}
		text, err := read(p)
		if strings.Contains(strings.ToLower(text), "create table") {
			all[name] = text
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	if os.Getenv("OAKEN_JUDGE") != "all" {
		for i, name := range slices.Sorted(maps.Keys(all)) {
			if i%8 != 3 {
				delete(all, name)
			}
		}
	}
	return all
}

func read(p string) (string, error) {
	f, err := os.Open(p)
	if err != nil {
		return "", err
	}
	defer f.Close()
	var r io.Reader = f
	if strings.HasSuffix(p, ".gz") {
		if r, err = gzip.NewReader(f); err != nil {
			return "", err
		}
	}
	text, err := io.ReadAll(r)
	return string(text), err
}

// SQLFile says that a path is one of an SQL script.
func SQLFile(p string) bool { return strings.HasSuffix(p, ".sql") || strings.HasSuffix(p, ".sql.gz") }

// FirstDifference shows where two texts part.
func FirstDifference(a, b string) string {
	la, lb := strings.Split(a, "\n"), strings.Split(b, "\n")
	for i := range la {
		if i >= len(lb) || la[i] != lb[i] {
			return fmt.Sprintf("line %d\n%s\n--- against\n%s", i+1, strings.Join(la[max(0, i-3):min(i+12, len(la))], "\n"),
				strings.Join(lb[max(0, i-3):min(i+12, len(lb))], "\n"))
		}
	}
	return "one is longer"
}
