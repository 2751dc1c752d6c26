package pipeline

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"oakenchest/core/element"
	"oakenchest/core/environment"
	"oakenchest/core/kind/all"
	"oakenchest/core/ledger"
	"oakenchest/core/workspace"
)

// stand is a workspace that tests write into.
type stand struct {
	t *testing.T
	w *workspace.Workspace
	m *Mover
}

func newProject(t *testing.T, manifest string) *stand {
	t.Helper()
	root := filepath.Join(t.TempDir(), "work")
	p := &stand{t: t}
	now := time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC)
	clock := func() time.Time { now = now.Add(time.Minute); return now }
	if err := os.MkdirAll(root, 0o777); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(root, "oaken.toml"),
		[]byte("project = \"x\"\n[[lock]]\nmatch = \"**\"\npolicy = \"off\"\n"+manifest), 0o666); err != nil {
		t.Fatal(err)
	}
	w, err := workspace.Begin(t.Context(), workspace.Host{Now: clock, Machine: "desk", Person: "Imke", Kinds: all.Table()}, root,
		workspace.BeginOptions{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { w.Close() })
	p.w, p.m = w, &Mover{Project: w.Project, Desk: w, Host: environment.Host{Root: root}, Now: clock}
	return p
}

// commit writes files, empty ones removed, and commits them.
func (p *stand) commit(files map[string]string) ledger.Commit {
	p.t.Helper()
	for name, text := range files {
		full := filepath.Join(p.w.Root, filepath.FromSlash(name))
		err := os.MkdirAll(filepath.Dir(full), 0o777)
		if err == nil && text == "" {
			err = os.Remove(full)
		} else if err == nil {
			err = os.WriteFile(full, []byte(text), 0o666)
		}
		if err != nil {
			p.t.Fatal(err)
		}
	}
	c, err := p.w.Commit(context.Background(), workspace.CommitOptions{Message: "x"})
	if err != nil {
		p.t.Fatal(err)
	}
	return c.Commit
}

const schema = "[[artifact]]\npath = \"database\"\nkind = \"schema\"\n"

func TestWhatWorkDependsOn(t *testing.T) {
	base := map[string]string{
		"database/tables/tank.sql": "create table tank (\n  id integer primary key,\n  name text not null\n);\n",
		"notes/opening.txt":        "The reef exhibit opens in spring.\n",
	}
	for _, c := range []struct {
		name          string
		before, after map[string]string
		how, what     string // empty where nothing is needed
	}{
		{"a view of a new table", map[string]string{"database/tables/moult.sql": "create table moult (\n  id integer primary key,\n" +
			"  seen text\n);\n"},
			map[string]string{"database/views/recent.sql": "create view recent as\nselect seen from moult;\n"}, "uses",
			"database::table:moult"},
		{"a reference to a new table",
			map[string]string{"database/tables/keeper.sql": "create table keeper (\n  id integer primary key\n);\n"},
			map[string]string{"database/tables/round.sql": "create table round (\n  id integer primary key,\n" +
				"  keeper_id integer references keeper(id)\n);\n"}, "uses", "database::table:keeper"},
		{"an edit of a new column", map[string]string{"database/tables/tank.sql": "create table tank (\n  id integer primary key,\n" +
			"  name text not null,\n  depth integer\n);\n"},
			map[string]string{"database/tables/tank.sql": "create table tank (\n  id integer primary key,\n  name text not null,\n" +
				"  depth real not null default 0\n);\n"}, "edits", "database::table:tank/column:depth"},
		{"a column in a new table", map[string]string{"database/tables/moult.sql": "create table moult (\n  id integer primary key\n);\n"},
			map[string]string{"database/tables/moult.sql": "create table moult (\n  id integer primary key,\n  note text\n);\n"}, "lies in",
			"database::table:moult"},
		{"an index on a new column", map[string]string{"database/tables/tank.sql": "create table tank (\n  id integer primary key,\n" +
			"  name text not null,\n  depth integer\n);\n"},
			map[string]string{"database/tables/tank.sql": "create table tank (\n  id integer primary key,\n  name text not null,\n" +
				"  depth integer\n);\n\ncreate index by_depth on tank (depth);\n"}, "uses", "database::table:tank/column:depth"},
		{"a new file that is edited", map[string]string{"notes/crabs.txt": "Crabs.\n"},
			map[string]string{"notes/crabs.txt": "Crabs and shrimps.\n"}, "edits", "notes/crabs.txt"},
		{"a file that names a new one", map[string]string{"notes/crabs.txt": "Many of them.\n"},
			map[string]string{"notes/list.txt": "see crabs.txt for more\n"}, "uses", "notes/crabs.txt"},
		{"a new table of another name",
			map[string]string{"database/tables/guide.sql": "create table guide (\n  id integer primary key\n);\n"},
			map[string]string{"database/views/names.sql": "create view names as\nselect name from tank;\n"}, "", ""},
		{"another text", map[string]string{"notes/opening.txt": "The reef exhibit opens in June.\n"},
			map[string]string{"notes/shop.txt": "The shop sells shells.\n"}, "", ""},
		{"a word that is a column elsewhere",
			map[string]string{"database/tables/feeding.sql": "create table feeding (\n  id integer primary key,\n  food text\n);\n"},
			map[string]string{"notes/menu.txt": "The food of the guides is good.\n"}, "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := newProject(t, schema)
			p.commit(base)
			gives, err := p.m.readDeed(t.Context(), p.commit(c.before))
			if err != nil {
				t.Fatal(err)
			}
			wants, err := p.m.readDeed(t.Context(), p.commit(c.after))
			if err != nil {
				t.Fatal(err)
			}
			what, how, ok := wants.needs(gives)
			if ok != (c.how != "") || how != c.how || ok && what.String() != c.what {
				t.Errorf("needs %q %s, want %q %s", how, what, c.how, c.what)
			}
			if _, how, ok := gives.needs(wants); ok && how == "lies in" {
				t.Errorf("the earlier work depends on the later: %s", how)
			}
		})
	}
}

func TestAddressesWithinAddresses(t *testing.T) {
	parse := func(text string) element.Address {
		a, err := element.ParseAddress(text)
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	for _, c := range []struct {
		a, above string
		want     bool
	}{
		{"db::table:a/column:b", "db::table:a", true},
		{"db::table:a/column:b.type", "db::table:a/column:b", true},
		{"db::table:a.x", "db::table:a.x", true},
		{"db::table:a.x", "db::table:a.y", false},
		{"db::table:a", "db::table:a/column:b", false},
		{"db::table:ab", "db::table:a", false},
		{"db", "db", true},
		{"db/x", "db", true},
		{"dbx", "db", false},
		{"other::table:a", "db::table:a", false},
	} {
		if got := within(parse(c.a), parse(c.above)); got != c.want {
			t.Errorf("%s within %s: %v", c.a, c.above, got)
		}
	}
}

func TestStagesSayHowTheyStand(t *testing.T) {
	dir := t.TempDir()
	p := newProject(t, strings.NewReplacer("DIR", filepath.ToSlash(dir)).Replace(`
[[environment]]
name = "dev"
target = "folder:DIR/dev"
into = "notes"
tier = "development"
lane = "Reef"
[[environment]]
name = "live"
target = "folder:DIR/live"
into = "notes"
tier = "live"
branch = "live"
[[pipeline.lane]]
name = "Reef"
branch = "main"
[[pipeline.move]]
from = "dev"
to = "live"
[[pipeline.freeze]]
environments = ["live"]
from = "2026-07-01"
why = "summer"
`))
	first := p.commit(map[string]string{"notes/a.txt": "one\n"})
	word := func(name, want string) *StageView {
		t.Helper()
		o, err := p.m.Overview(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for i := range o.Stages {
			if s := &o.Stages[i]; s.Name == name {
				if s.Word() != want {
					t.Errorf("%s is %q, want %q", name, s.Word(), want)
				}
				return s
			}
		}
		t.Fatalf("there is no %s", name)
		return nil
	}
	deploy := func(name string, c ledger.Commit) {
		t.Helper()
		d, err := p.m.Prepare(t.Context(), name, c, false)
		if err == nil {
			err = p.m.Deploy(t.Context(), d, DeployOptions{})
			d.Close()
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	word("live", "empty")
	deploy("live", first)
	deploy("dev", first)
	word("dev", "level")
	p.commit(map[string]string{"notes/b.txt": "two\n"})
	if s := word("live", "work waits"); len(s.Waiting) != 1 || s.By != "Imke" || s.Targets() != "folder:"+filepath.ToSlash(dir)+"/live" {
		t.Errorf("live: %+v", s)
	}
	if err := os.WriteFile(filepath.Join(dir, "live", "by-hand.txt"), nil, 0o666); err != nil {
		t.Fatal(err)
	}
	word("live", "work waits") // nobody has looked yet
	if _, err := p.m.Drift(t.Context(), "live"); err != nil {
		t.Fatal(err)
	}
	word("live", "drifted")
	kept, err := p.m.KeepDrift(t.Context(), "live", "hand", "")
	if err != nil || kept.Branch != "hand" {
		t.Fatalf("%v, %v", kept, err)
	}
	if s := word("dev", "owed work"); len(s.Owed) != 1 || s.Owed[0].Where != "live" {
		t.Errorf("dev: %+v", s.Owed)
	}
	if err := os.RemoveAll(filepath.Join(dir, "live")); err != nil {
		t.Fatal(err)
	}
	if _, err := p.m.Drift(t.Context(), "live"); err == nil {
		t.Error("a folder that is gone was looked at")
	}
	word("live", "out of reach")
}
