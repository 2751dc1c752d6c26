package sqlfolder

import (
	"slices"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// files is a folder of declared SQL.
type files map[string]string

func (f files) Files() []string {
	var out []string
	for name := range f {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

func (f files) File(name string) ([]byte, error) { return []byte(f[name]), nil }

func (f files) Path() string { return "database" }

func tree(t *testing.T, k kind.Writer, f files) *element.Element {
	t.Helper()
	r, err := k.Read(f)
	if err != nil {
		t.Fatal(err)
	}
	return r.Root
}

// TestBranchesOfDeclaredDatabasesMerge lets two branches add a column each to one table,
// and one of them a view, without any server.
func TestBranchesOfDeclaredDatabasesMerge(t *testing.T) {
	for _, k := range []kind.Writer{Postgres{}, MariaDB{}, Kind{}} {
		base := files{"tables/tank.sql": "-- The tanks.\ncreate table tank (\n  id int primary key,\n  code text\n);\n",
			"tables/other.sql": "create table   other (id int primary key);\n"}
		mine := files{"tables/tank.sql": strings.Replace(base["tables/tank.sql"], "  code text", "  code text,\n  depth int", 1),
			"tables/other.sql": base["tables/other.sql"]}
		theirs := files{"tables/tank.sql": strings.Replace(base["tables/tank.sql"], "  code text", "  code text,\n  keeper text", 1),
			"tables/other.sql": base["tables/other.sql"], "views/v.sql": "create view v as select id from tank;\n"}
		merged, conflicts := element.Merge("database", tree(t, k, base), tree(t, k, mine), tree(t, k, theirs), nil)
		if len(conflicts) > 0 {
			t.Errorf("%s: conflicts %v", k.Name(), conflicts)
			continue
		}
		out, err := k.Write(mine, merged, nil)
		if err != nil {
			t.Errorf("%s: %v", k.Name(), err)
			continue
		}
		tank := string(out["tables/tank.sql"])
		if !strings.Contains(tank, "depth int") || !strings.Contains(tank, "keeper text") || !strings.HasPrefix(tank, "-- The tanks.\n") {
			t.Errorf("%s: the table becomes\n%s", k.Name(), tank)
		}
		if _, touched := out["tables/other.sql"]; touched || len(out) != 2 {
			t.Errorf("%s: written %q", k.Name(), out)
		}
		for name, data := range mine {
			if _, ok := out[name]; !ok {
				out[name] = []byte(data)
			}
		}
		again := files{}
		for name, data := range out {
			again[name] = string(data)
		}
		if d := element.Compare(merged, tree(t, k, again)); d != nil {
			t.Errorf("%s: what was written is not what was merged: %v", k.Name(), d.Changes("database"))
		}
	}
}

func TestWhatTheKindsOwn(t *testing.T) {
	for _, k := range []interface {
		kind.Owner
		Claims(string, []byte) bool
		About() string
	}{Postgres{}, MariaDB{}, Kind{}} {
		if !k.Owns("a/B.SQL") || k.Owns("readme.md") || k.Claims("a.sql", []byte("create table a (id int)")) || k.About() == "" {
			t.Errorf("%T owns or claims something else", k)
		}
	}
}
