package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

func TestAChangeGoesFromDevelopmentToTest(t *testing.T) {
	p := world(t)
	if out := p.ok("deploy", "test"); !strings.Contains(out, "5 steps done in one transaction. test and main:1 agree.") {
		t.Errorf("first deployment: %s", out)
	}
	p.sql("dev.db", "alter table feeding add column amount_g integer not null default 0")
	if out := p.ok("compare", "work", "env:dev"); !strings.Contains(out,
		"database::table:feeding/column:amount_g  added  integer not null default 0") || strings.Contains(out, "reef") {
		t.Errorf("compare with an environment: %s", out)
	}
	p.fails(4, "no commit has", "promote", "dev", "test")
	if out := p.ok("capture", "dev"); !strings.Contains(out, "1 file written") {
		t.Errorf("capture: %s", out)
	}
	if out := p.ok("capture", "dev"); !strings.Contains(out, "none changed") {
		t.Errorf("a second capture: %s", out)
	}
	p.ok("commit", "-m", "Amounts")
	dry := p.object("promote", "dev", "test", "--dry-run")
	step := dry["steps"].([]any)[0].(map[string]any)
	if dry["done"] != false || step["address"] != "database::table:feeding/column:amount_g" ||
		step["statements"].([]any)[0] != "alter table feeding add column amount_g integer not null default 0" {
		t.Errorf("dry run: %v", dry)
	}
	if r := p.run("compare", "--check", "main", "env:test"); r.status != 1 {
		t.Errorf("the dry run changed something: %s", r.out)
	}
	p.ok("promote", "dev", "test")
	if r := p.run("compare", "--check", "env:dev", "env:test"); r.status != 0 {
		t.Errorf("dev and test differ: %s", r.out)
	}
	env := p.object("env", "list")["environments"].([]any)[1].(map[string]any)
	if env["deployed"].(map[string]any)["state"] != "main:2" {
		t.Errorf("env list: %v", env)
	}
	if out := p.ok("changes"); !strings.Contains(out, "Nothing has changed") {
		t.Errorf("databases show up as changes: %s", out)
	}
}

func TestLossNeedsConsentAndIsSaved(t *testing.T) {
	p := world(t)
	os.Remove(p.path("database/tables/specimen.sql"))
	p.ok("commit", "-m", "No specimens")
	p.fails(4, "table specimen has 4 rows", "deploy", "dev")
	out := p.ok("deploy", "dev", "--allow-loss")
	_, saved, _ := strings.Cut(out, "Saved before: ")
	saved, _, _ = strings.Cut(saved, "\n")
	if _, err := os.Stat(saved); err != nil {
		t.Errorf("nothing was saved: %s", out)
	}
	if data, err := os.ReadFile(filepath.Join(saved, "rows", "specimen.csv")); err != nil || strings.Count(string(data), "\n") != 5 {
		t.Errorf("saved: %q, %v", data, err)
	}
	// Going back brings the table and its rows, and nothing is lost by that.
	p.says(p.ok("rollback", "dev"), "create the table", "add 4 rows")
	p.ok("verify", "main:1", "env:dev")
	p.fails(4, "No deployment to dev is recorded that could be taken back", "rollback", "dev")
	p.fails(4, "lost nothing", "rollback", "dev", "--lost", "x")
	p.ok("env", "add", "saved", "sqlite:saved.db")
	p.ok("env", "remove", "saved")
	if strings.Contains(p.read("oaken.toml"), "saved") {
		t.Error("env remove left something")
	}
}

func TestRowsThatDoNotFitStopADeployment(t *testing.T) {
	p := world(t)
	table := p.read("database/tables/tank.sql")
	p.write("database/tables/tank.sql", strings.Replace(table, "litres > 0", "litres > 5000", 1))
	p.ok("commit", "-m", "Large tanks only")
	r := p.run("deploy", "dev")
	if r.status != 1 || !strings.Contains(r.err, "CHECK constraint failed") || !strings.Contains(r.err, "as it was") {
		t.Errorf("deploy: %d %s", r.status, r.err)
	}
	if r := p.run("compare", "--check", "main:1", "env:dev"); r.status != 0 {
		t.Errorf("the failed deployment left something: %s", r.out)
	}
	p.write("database/tables/tank.sql", strings.Replace(table, "litres", "depth_m real not null,\n  litres", 1))
	p.ok("commit", "-m", "A depth")
	p.fails(4, "takes no null and has no default in 3 rows", "deploy", "dev")
	p.ok("deploy", "dev", "--fill", "tank.depth_m=litres / 1000.0")
	p.sql("dev.db", "create table proof (n integer check (n = 3)); insert into proof select count(*) from tank where depth_m = litres / "+
		"1000.0; drop table proof")
}

func TestRowsSurviveARenameAndAScript(t *testing.T) {
	p := world(t)
	p.write("database/tables/tank.sql", strings.Replace(p.read("database/tables/tank.sql"), "name text not null unique,",
		"title text not null unique, -- formerly: name", 1))
	p.write("database/views/hungry_tank.sql", "create view hungry_tank as select id, title from tank;\n")
	p.ok("commit", "-m", "Tanks have titles")
	p.ok("deploy", "dev", "--script", "up.sql")
	p.ok("deploy", "dev")
	p.sql("dev.db", "update tank set title = 'Reef!' where title = 'Reef'; create table proof (x check (x = 1)); insert into proof "+
		"select count(*) from tank where title = 'Reef!'")
	if !strings.Contains(p.read("up.sql"), "alter table oaken_new_tank rename to tank;") {
		t.Errorf("script:\n%s", p.read("up.sql"))
	}
}

// TestAnotherEngineAgrees lets the sqlite3 program, which is no part of ours,
// judge a script and a deployment.
func TestAnotherEngineAgrees(t *testing.T) {
	judge, err := exec.LookPath("sqlite3")
	if err != nil {
		t.Skip("install sqlite3 to run this")
	}
	p := world(t)
	p.ok("deploy", "test", "--script", "make.sql")
	p.ok("deploy", "test")
	cmd := exec.Command(judge, "byscript.db", ".read make.sql")
	cmd.Dir = p.dir
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	dump := func(file string) string {
		cmd := exec.Command(judge, file, ".schema")
		cmd.Dir = p.dir
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
		return string(out)
	}
	if a, b := dump("test.db"), dump("byscript.db"); a != b || !strings.Contains(a, "feeding_tank") {
		t.Errorf("deployed:\n%s\nby script:\n%s", a, b)
	}
}

func TestEnvironmentsThatCanNotBe(t *testing.T) {
	p := world(t)
	p.fails(2, "no target that this program reaches", "env", "add", "x", "oracle:y")
	p.fails(4, "There is an environment dev already", "env", "add", "dev", "sqlite:x.db")
	p.fails(2, "can't be an environment's name", "env", "add", "a/b", "sqlite:x.db")
	p.fails(2, "inside the project", "env", "add", "x", "sqlite:x.db", "--into", "../y")
	p.fails(2, "There is no environment nowhere", "capture", "nowhere")
	p.fails(2, "There is no environment nowhere", "env", "remove", "nowhere")
	p.ok("env", "add", "gone", "sqlite:gone.db")
	p.ok("env", "add", "secret", "sqlite:${OAKEN_TEST_NO_SUCH}/x.db")
	p.ok("env", "add", "far", "sqlite:no/such/folder/x.db")
	p.ok("env", "add", "rubbish", "sqlite:rubbish.db")
	p.write("rubbish.db", strings.Repeat("this is no database ", 100))
	p.fails(5, "There is no database", "capture", "gone")
	p.fails(2, "OAKEN_TEST_NO_SUCH", "capture", "secret")
	p.fails(5, "There is no folder", "deploy", "far")
	p.fails(5, "can't be opened", "capture", "rubbish")
	p.fails(4, "What is not committed can't be deployed", "deploy", "gone", "work")
	p.write("database/tables/feeding.sql", "create table feeding (id integer primary key;\n")
	if out := p.ok("changes"); !strings.Contains(out, "kept as opaque: tables/feeding.sql, line 1: SQLite says: near") {
		t.Errorf("changes: %s", out)
	}
	p.says(p.ok("capture", "dev"), "none changed") // an edit of the workspace is nothing that happened there
	p.says(p.read("database/tables/feeding.sql"), "primary key;")
	p.ok("commit", "-m", "A mistake")
	p.fails(4, "tables/feeding.sql, line 1: SQLite says", "deploy", "gone")
	if _, err := os.Stat(filepath.Join(p.dir, "gone.db")); err == nil {
		t.Error("a refused deployment made the database")
	}
}
