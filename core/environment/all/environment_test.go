package all

import (
	"context"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/schema/sqlite"
)

func reach(t *testing.T, root, target string) environment.Driver {
	t.Helper()
	d, err := environment.Open(t.Context(),
		environment.Host{Root: root, Getenv: func(name string) (string, bool) { return "there", name == "WHERE" }}, target,
		environment.Settings{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.Close() })
	return d
}

var asked = environment.Files{"tables/tank.sql": []byte("create table tank (\n  id integer primary key,\n  name text\n);\n"),
	"readme.md": []byte("not SQL")}

func TestADriverMakesATargetHoldTheFiles(t *testing.T) {
	root := t.TempDir()
	d := reach(t, root, "sqlite:${WHERE}.db")
	if _, err := d.Capture(t.Context(), nil); fault.CodeOf(err) != fault.Unreachable {
		t.Errorf("capture before the database is there: %v", err)
	}
	p, err := d.Plan(t.Context(), asked, nil)
	if err != nil || len(p.Steps) != 1 {
		t.Fatalf("%v, %v", p, err)
	}
	if _, err := os.Stat(filepath.Join(root, "there.db")); err == nil {
		t.Error("planning made the database")
	}
	seen := 0
	if err := p.Apply(t.Context(), func(step int) { seen = step }); err != nil || seen != 1 {
		t.Fatal(seen, err)
	}
	if p, err := d.Plan(t.Context(), asked, nil); err != nil || len(p.Steps) != 0 {
		t.Errorf("a second plan: %v, %v", p, err)
	}
	c, err := d.Capture(t.Context(), asked)
	if err != nil || len(c.Edits) != 0 || !maps.EqualFunc(c.Files, asked, func(a, b []byte) bool { return string(a) == string(b) }) {
		t.Errorf("capture of what is declared: %q, %v", c.Edits, err)
	}
	c, err = d.Capture(t.Context(), environment.Files{"tables/old.sql": []byte("create table old (x);\n")})
	if err != nil || c.Edits["tables/old.sql"] != nil || !strings.Contains(string(c.Files["tables/tank.sql"]), "create table tank") ||
		len(c.Files) != 1 {
		t.Errorf("capture over another folder: %q, %v", c.Files, err)
	}
}

func TestACaptureReplacesFilesThatCanNotBeRead(t *testing.T) {
	root := t.TempDir()
	d := reach(t, root, "sqlite:x.db")
	p, err := d.Plan(t.Context(), asked, nil)
	if err == nil {
		err = p.Apply(t.Context(), nil)
	}
	if err != nil {
		t.Fatal(err)
	}
	c, err := d.Capture(t.Context(), environment.Files{"tables/tank.sql": []byte("create table tank (id;"),
		"old.sql": []byte("create table old (x);"), "readme.md": []byte("stays")})
	if err != nil {
		t.Fatal(err)
	}
	if !maps.EqualFunc(c.Files, environment.Files{"tables/tank.sql": asked["tables/tank.sql"], "readme.md": []byte("stays")},
		func(a, b []byte) bool { return string(a) == string(b) }) {
		t.Errorf("captured %q", c.Files)
	}
}

func TestAStalePlanIsRefused(t *testing.T) {
	root := t.TempDir()
	d := reach(t, root, "sqlite:x.db")
	p, err := d.Plan(t.Context(), asked, nil)
	if err != nil {
		t.Fatal(err)
	}
	other, err := sqlite.Open(filepath.Join(root, "x.db"), true)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	if _, err := other.ExecContext(context.Background(), "create table meanwhile (x)"); err != nil {
		t.Fatal(err)
	}
	if err := p.Apply(t.Context(), nil); fault.CodeOf(err) != fault.Refused {
		t.Errorf("got %v", err)
	}
}

func TestTargetsThatCanNotBeReached(t *testing.T) {
	root := t.TempDir()
	if err := os.Mkdir(filepath.Join(root, "folder"), 0o777); err != nil {
		t.Fatal(err)
	}
	for target, code := range map[string]fault.Code{"nothing:x": fault.Usage, "sqlite:": fault.Usage, "sqlite:${NONE}": fault.Usage,
		"sqlite:folder": fault.Unreachable, "sqlite:none/x.db": fault.Unreachable} {
		if _, err := environment.Open(t.Context(), environment.Host{Root: root, Getenv: func(string) (string, bool) { return "", false }},
			target, environment.Settings{}); fault.CodeOf(err) != code {
			t.Errorf("%s: %v", target, err)
		}
	}
	d := reach(t, root, "sqlite:x.db")
	if _, err := d.Plan(t.Context(), environment.Files{"a.sql": []byte("create tabel x")}, nil); fault.CodeOf(err) != fault.Refused {
		t.Errorf("a mistake in what is declared: %v", err)
	}
	if len(environment.Schemes()) == 0 {
		t.Error("no scheme is known")
	}
}
