// Package oakenchest_test checks the house itself: which floor may use which,
// that every package says what it is for, and that no unwanted dependency came in.
package oakenchest_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// floors lists the packages from the ground up. A package imports only from
// lines above its own; widening this is a decision.
var floors = [][]string{
	{"docs", "core/element", "core/fault", "core/check", "core/lookalike", "core/rights", "core/trace", "core/content/cut",
		"core/kind/jsondoc", "core/schema/sqltext"},
	{"core/access", "core/content", "core/kind", "core/schema/scope", "core/schema/shape", "core/schema/step", "core/schema/schematest"},
	{"core/kind/media", "core/kind/partfile", "core/kind/charset", "core/lines", "core/manifest"},
	{"core/schema/declared", "core/spelling"},
	{"core/schema/rows", "core/schema/datastep"},
	{"core/kind/nested"},
	{"core/kind/recipe", "core/kind/linked"},
	{"core/ledger", "core/kind/text", "core/kind/opaque", "core/kind/model", "core/kind/apart", "core/kind/picture", "core/kind/sound",
		"core/kind/table", "core/kind/jsontree", "core/kind/xmltree", "core/kind/yamltree", "core/kind/settings"},
	{"core/kind/pack", "core/kind/scene", "core/schema/sqlite", "core/schema/postgres", "core/schema/mariadb", "core/ledger/tables",
		"core/chest"},
	{"core/chest/enact", "core/chest/wire"},
	{"core/chest/local"},
	{"core/chest/remote"},
	{"core/chest/chesttest"},
	{"core/kind/sqlfolder", "core/kind/sqlitefile", "core/kind/workbook", "core/kind/document"},
	{"core/kind/all", "core/state", "core/environment", "core/preset", "core/landscape", "core/declare"},
	{"core/environment/database", "core/environment/folder"},
	{"core/environment/postgres", "core/environment/mariadb", "core/environment/sqlite"},
	{"core/environment/drivertest"},
	{"core/environment/all"},
	{"core/overlap", "core/arrival", "core/choice", "core/trust"},
	{"core/project", "core/history", "core/owed"},
	{"core/workspace/disk"},
	{"core/workspace/unsent", "core/workspace/merging", "core/workspace/locking", "core/workspace/presence"},
	{"core/workspace"},
	{"core/pipeline", "core/review", "core/watch"},
	{"sample"},
	{"core/report"},
	{"core/service/result"},
	{"core/service"},
	{"page", "board", "cli/screen", "server"},
	{"cli"},
	{"cmd/oaken", "bench/commits", "bench/serving", "tools/man"},
}

// unwanted are packages that no file of core may import.
var unwanted = []string{"github.com/spf13/", "github.com/fatih/color", "github.com/schollz/", "log"}

func TestFloorsAndPackageComments(t *testing.T) {
	floor := map[string]int{}
	for i, names := range floors {
		for _, n := range names {
			floor[n] = i
		}
	}
	documented := map[string]bool{}
	err := filepath.WalkDir(".", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(p, ".go") {
			return err
		}
		pkg := filepath.ToSlash(filepath.Dir(p))
		if pkg == "." {
			return nil
		}
		f, err := parser.ParseFile(token.NewFileSet(), p, nil, parser.ImportsOnly|parser.ParseComments)
		if err != nil {
			return err
		}
		here, known := floor[pkg]
		if !known {
			t.Errorf("%s stands on no floor: add it to the list", pkg)
		}
		if f.Doc != nil && !strings.HasSuffix(p, "_test.go") {
			documented[pkg] = true
		} else if !documented[pkg] {
			documented[pkg] = false
		}
		if strings.HasSuffix(p, "_test.go") {
			return nil
		}
		for _, im := range f.Imports {
			name, _ := strconv.Unquote(im.Path.Value)
			if own, ok := strings.CutPrefix(name, "oakenchest/"); ok && floor[own] >= here {
				t.Errorf("%s imports %s, which is not below it", p, own)
			}
			if strings.HasPrefix(pkg, "core/") &&
				slices.ContainsFunc(unwanted, func(u string) bool { return strings.HasPrefix(name, u) && (u != "log" || name == "log") }) {
				t.Errorf("%s imports %s, which core must not", p, name)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for pkg, ok := range documented {
		if !ok {
			t.Errorf("package %s has no comment that says what it is for", pkg)
		}
	}
	if len(documented) < 15 {
		t.Errorf("only %d packages were seen", len(documented))
	}
}

func TestEveryDependencyIsExplained(t *testing.T) {
	mod, err := os.ReadFile("go.mod")
	if err != nil {
		t.Fatal(err)
	}
	doc, err := os.ReadFile("docs/dependencies.md")
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.SplitSeq(string(mod), "\n") {
		fields := strings.Fields(line)
		if len(fields) < 2 || strings.HasSuffix(line, "// indirect") || !strings.Contains(fields[0], ".") {
			continue
		}
		if !strings.Contains(string(doc), fields[0]) {
			t.Errorf("docs/dependencies.md gives no reason for %s", fields[0])
		}
	}
}
