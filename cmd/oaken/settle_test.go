package main

import (
	"strings"
	"testing"
)

func bothServers(t *testing.T, test func(*testing.T, server)) {
	for _, s := range []server{postgresServer(t), mariadbServer(t)} {
		t.Run(s.engine, func(t *testing.T) { test(t, s) })
	}
}

// says checks that an output has each of some texts.
func (p *project) says(out string, want ...string) {
	p.t.Helper()
	for _, w := range want {
		if !strings.Contains(out, w) {
			p.t.Errorf("%q is not in\n%s", w, out)
		}
	}
}

// below writes an address as the engine has it: with the schema where there is one.
func (s server) below(address string) string {
	if s.engine == "postgres" {
		return "schema:public/" + address
	}
	return address
}

// file gives the path of a file of the database's folder.
func (s server) file(name string) string {
	if s.engine == "postgres" {
		return "database/public/" + name
	}
	return "database/" + name
}

func TestRowsOfLookupTables(t *testing.T) {
	bothServers(t, func(t *testing.T, s server) {
		p := empty(t)
		dev, test := s.database(t), s.database(t)
		s.run(t, dev, "create table kind (id int primary key, code varchar(20) not null unique, note varchar(20)); insert into kind "+
			"values (1, 'reef', ''), (2, 'kelp', null), (10, 'bay', 'a,b'); create table tank (id int primary key, kind int references "+
			"kind (id)); create table loose (a int);")
		p.ok("begin")
		p.ok("env", "add", "dev", s.target(dev))
		p.ok("capture", "dev", "--commit", "-m", "As it is")
		p.says(p.ok("rows", "track", "kind"), "rows/kind.csv  tracked")
		p.says(p.ok("rows", "track", "kind"), "Nothing has changed")
		p.fails(4, "it has no primary key", "rows", "track", "loose")
		p.fails(2, "has no table nothing", "rows", "track", "nothing")
		p.fails(2, "rows of table tank are not tracked", "rows", "untrack", "tank")
		if got := p.read(s.file("rows/kind.csv")); got != "id,code,note\n1,reef,\"\"\n2,kelp,\n10,bay,\"a,b\"\n" {
			t.Errorf("the file has\n%s", got)
		}
		p.ok("commit", "-m", "Kinds")
		p.ok("env", "add", "test", s.target(test))
		p.says(p.ok("deploy", "test"), "add 3 rows")
		p.ok("verify", "main", "env:dev", "env:test")
		// Two branches change two rows, and both changes arrive.
		p.ok("branch", "kelp")
		p.write(s.file("rows/kind.csv"), strings.Replace(p.read(s.file("rows/kind.csv")), "2,kelp,", "2,kelp,tall", 1))
		p.ok("commit", "-m", "Kelp is tall")
		p.ok("go", "kelp")
		p.write(s.file("rows/kind.csv"), strings.Replace(p.read(s.file("rows/kind.csv")), "10,bay,\"a,b\"\n", "11,cove,\n", 1))
		p.ok("commit", "-m", "A cove instead of the bay")
		p.ok("go", "main")
		p.ok("merge", "kelp")
		p.says(p.ok("compare", "main:2", "work"), s.below("rows:kind/row:2.note"), s.below("rows:kind/row:11")+" ", "added")
		p.fails(4, "1 row of table", "deploy", "test")
		p.says(p.ok("deploy", "test", "--allow-loss"), "add 1 row, change 1 row", "remove 1 row", "Saved before: ")
		p.ok("verify", "main", "env:test")
		p.says(p.ok("rollback", "test", "--lost", "kept"), "1 file")
		p.says(p.read("kept/"+strings.TrimPrefix(s.file("rows/kind.csv"), "database/")), "10,bay,\"a,b\"\n")
		p.fails(4, "would lose data", "rollback", "test")
		p.ok("rollback", "test", "--allow-loss")
		p.ok("verify", "main:2", "env:test")
		p.ok("drift", "test", "--check")
		p.ok("health")
		// What the column can't hold is told with its line, and changes nothing.
		p.write(s.file("rows/kind.csv"), "id,code,note\n1,reef,\"\"\n2,kelp,\ntwo,kelp,\n")
		p.ok("commit", "-m", "A mistake")
		r := p.fails(4, "rows/kind.csv, line 4", "deploy", "test")
		if strings.Contains(r.err, "kept") {
			t.Error(r.err)
		}
		p.ok("rows", "untrack", "kind")
		if p.has(s.file("rows/kind.csv")) {
			t.Error("the file is still there")
		}
	})
}

func TestBothSidesAreSettled(t *testing.T) {
	bothServers(t, func(t *testing.T, s server) {
		p := empty(t)
		dev := s.database(t)
		s.run(t, dev, "create table tank (id int primary key, code varchar(20)); create table feeding (id int primary key, grams int); "+
			"create table keeper (id int primary key, name varchar(20));")
		p.ok("begin")
		p.ok("env", "add", "dev", s.target(dev))
		p.says(p.ok("settle", "dev"), "nothing was deployed there yet", "there", "missing", "← to the chest", "Nothing was changed")
		p.ok("settle", "dev", "--yes", "--commit", "-m", "As it is")
		p.says(p.ok("settle", "dev"), "dev and the workspace agree")
		p.ok("drift", "dev", "--check")
		s.run(t, dev, "alter table feeding add column note varchar(10); alter table keeper add column since date; create view deep as "+
			"select id from tank;")
		p.write(s.file("tables/tank.sql"), strings.Replace(p.read(s.file("tables/tank.sql")), "  code ", "  depth int,\n  code ", 1))
		p.write(s.file("tables/keeper.sql"), strings.Replace(p.read(s.file("tables/keeper.sql")), "  name ", "  team int,\n  name ", 1))
		out := p.ok("settle", "dev")
		for object, line := range map[string]string{"table:tank": "edited as deployed → to dev",
			"table:feeding": "as deployed edited ← to the chest", "table:keeper": "edited edited leave",
			"view:deep": "missing new ← to the chest"} {
			p.says(strings.Join(strings.Fields(out), " "), s.below(object)+" "+line)
		}
		p.says(p.ok("settle", "dev", "--plan", "plan.toml"), "The directions of 4 objects")
		p.fails(4, "There is a file plan.toml already", "settle", "dev", "--plan", "plan.toml")
		plan := p.read("plan.toml")
		p.write("other.toml", strings.Replace(plan, "'dev'", "'test'", 1))
		p.fails(2, "is one for test", "settle", "dev", "--follow", "other.toml")
		p.write("other.toml", strings.Replace(plan, "'to-chest'", "'away'", 1))
		p.fails(2, `The direction "away"`, "settle", "dev", "--follow", "other.toml")
		p.write("other.toml", plan+"[[")
		p.fails(2, "can't be read: line ", "settle", "dev", "--follow", "other.toml")
		s.run(t, dev, "alter table feeding add column more varchar(10);")
		p.fails(4, s.below("table:feeding")+" has changed since", "settle", "dev", "--follow", "plan.toml")
		s.run(t, dev, "alter table feeding drop column more;")
		out = p.ok("settle", "dev", "--follow", "plan.toml")
		p.says(out, "still differ in 1 object", "To record it: oaken commit database")
		p.says(p.read(s.file("tables/feeding.sql")), "note")
		p.says(p.ok("compare", "work", "env:dev"), s.below("table:keeper/column:since")+" ", s.below("table:keeper/column:team"))
		// The rest goes one way, with consent for what it loses.
		s.run(t, dev, "insert into keeper values (1, 'Imke', '2024-01-01');")
		p.fails(4, "would lose data", "settle", "dev", "--prefer", "chest", "--yes")
		got := p.object("settle", "dev", "--prefer", "chest", "--yes", "--allow-loss", "--commit", "-m", "The chest is right", "--json")
		if got["done"] != true || got["saved"] == "" || got["commit"] == nil {
			t.Errorf("settle --json gives %v", got)
		}
		p.ok("verify", "main", "env:dev")
		p.ok("drift", "dev", "--check")
		p.fails(2, "is none of chest", "settle", "dev", "--prefer", "me")
		p.fails(2, "A commit needs a message", "settle", "dev", "--commit")
	})
}

func TestABranchWithADatabaseOfItsOwn(t *testing.T) {
	bothServers(t, func(t *testing.T, s server) {
		p := empty(t)
		dev := s.database(t)
		own := dev + "_kelp"
		t.Cleanup(func() { s.run(t, "", "drop database if exists "+own) })
		s.run(t, dev, "create table kind (id int primary key, code varchar(20)); insert into kind values (1, 'reef'); create table tank "+
			"(id int primary key, kind int references kind (id));")
		p.ok("begin")
		p.ok("env", "add", "dev", s.target(dev))
		p.ok("capture", "dev")
		p.ok("rows", "track", "kind")
		p.ok("commit", "-m", "As it is")
		p.says(p.ok("branch", "kelp", "--env", s.target(own)), "Branch kelp begins at main:1", "Its environment kelp is")
		p.ok("go", "kelp")
		p.ok("verify", "work", "env:kelp", "env:dev")
		p.ok("drift", "kelp", "--check")
		p.fails(4, "is not empty", "branch", "other", "--env", s.target(own))
		p.fails(4, "There is a branch kelp already", "branch", "kelp", "--env", s.target(own))
		p.fails(2, "need the name", "branch", "--env", s.target(own))
		if out := p.ok("branch"); strings.Contains(out, "other") {
			t.Errorf("a branch was left behind:\n%s", out)
		}
	})
}

// TestOneSharedDatabase lets two people work in one database: they lock single objects,
// and each takes and gives their own.
func TestOneSharedDatabase(t *testing.T) {
	s := postgresServer(t)
	p := empty(t)
	dev := s.database(t)
	s.run(t, dev, "create table tank (id int primary key); create table feeding (id int primary key); create view deep as select "+
		"id from tank;")
	p.ok("begin")
	p.ok("env", "add", "dev", s.target(dev))
	p.ok("capture", "dev", "--commit", "-m", "As it is")
	p.ok("lock", "database::table:tank", "-m", "columns")
	p.ok("lock", "--new", "database::schema:public/view:new")
	p.fails(2, "There is no database::table:none", "lock", "database::table:none")
	p.fails(2, "That is no address", "lock", "database::")
	p.fails(4, "database::schema:public/table:tank is locked by", "--as", "Tarek", "lock", "database::table:tank")
	p.fails(4, "is locked by", "--as", "Tarek", "lock", "database")
	p.ok("--as", "Tarek", "lock", "database::table:feeding")
	p.says(p.ok("env", "prepare", "dev"), "keeps a log of changes from now on")
	if got := p.object("env", "prepare", "dev", "--json"); got["schema"] != "oaken.prepare/1" || got["environment"] != "dev" ||
		got["log"] != true || got["changed"] != false {
		t.Errorf("env prepare --json gives %v", got)
	}
	if out := p.ok("capture", "dev"); !strings.Contains(out, "none changed") {
		t.Errorf("the log is captured:\n%s", out)
	}
	role := "oaken_" + dev
	s.run(t, dev, "create role "+role+" login superuser;")
	t.Cleanup(func() {
		s.run(t, dev, "drop owned by "+role+" cascade;")
		s.run(t, "", "drop role "+role)
	})
	s.run(t, dev, "alter table tank add column depth int; alter table feeding add column grams int; create view new as select 1 as one;")
	s.run(t, dev, "set session authorization "+role+"; create index feeding_grams on feeding (grams); create function other() returns "+
		"int language sql return 1;")
	got := p.object("capture", "dev", "--mine", "--json")
	by := map[string]map[string]any{}
	for _, row := range got["by"].([]any) {
		r := row.(map[string]any)
		by[r["address"].(string)] = r
	}
	for address, want := range map[string]struct {
		login string
		mine  bool
	}{"table:tank": {"postgres", true}, "table:feeding": {role, false}, "view:new": {"postgres", true}, "function:other()": {role, false}} {
		r := by["database::schema:public/"+address]
		if r == nil || r["login"] != want.login || r["mine"] != want.mine {
			t.Errorf("%s is told as %v", address, r)
		}
	}
	if len(got["files"].([]any)) != 2 || strings.Contains(p.read("database/public/tables/feeding.sql"), "grams") {
		t.Errorf("captured %v", got["files"])
	}
	if text := p.read("database/public/tables/tank.sql"); strings.Contains(text, "owner") {
		t.Errorf("an owner is written down, which is not tracked:\n%s", text)
	}
	p.says(p.ok("commit", "-m", "My own"), "lock ended: database::schema:public/table:tank", "lock ended: database::schema:public/view:new")
	// Back: what is mine is deployed, the rest stays.
	p.ok("lock", "database::table:tank")
	p.write("database/public/tables/tank.sql", strings.Replace(p.read("database/public/tables/tank.sql"), "  depth integer",
		"  depth bigint", 1))
	p.write("oaken.toml", p.read("oaken.toml")+"\n[[pipeline.after]]\nname = \"doors\"\nenvironments = [\"dev\"]\n"+
		"command = [\"grep\", \"-q\", \"depth bigint\", \"database/public/tables/tank.sql\"]\n")
	p.ok("commit", "--keep-locks", "-m", "Deep")
	p.says(p.ok("deploy", "dev", "--mine"), "Your objects in dev are as main:3 declares them", "After it: passed")
	if out := p.ok("pipeline", "show"); strings.Contains(out, "in doubt") {
		t.Errorf("after a part of dev:\n%s", out)
	}
	out := p.ok("compare", "main", "env:dev")
	if strings.Contains(out, "depth") || !strings.Contains(out, "column:grams") {
		t.Errorf("after deploying one's own:\n%s", out)
	}
	// What somebody else has locked can't be committed.
	p.ok("capture", "dev")
	p.fails(4, "database::schema:public/table:feeding is locked by Tarek", "commit", "-m", "All")
	p.ok("--as", "Tarek", "unlock", "database::table:feeding")
	p.ok("commit", "-m", "All")
	p.says(p.ok("env", "prepare", "dev", "--remove"), "any more")
	p.says(p.ok("env", "prepare", "dev", "--remove"), "keeps no log")
	p.ok("env", "add", "file", "sqlite:x.db", "--into", "small")
	p.fails(4, "can't keep a log", "env", "prepare", "file")
}

func TestAPlainFolderIsSettledAndTakenBack(t *testing.T) {
	p := empty(t)
	p.ok("begin")
	p.ok("env", "add", "site", "folder:site", "--into", "exhibit")
	p.write("exhibit/a.txt", "one\n")
	p.write("exhibit/b.txt", "two\n")
	p.ok("commit", "-m", "First")
	p.ok("deploy", "site")
	p.write("site/a.txt", "changed there\n")
	p.write("site/new.txt", "new there\n")
	p.write("exhibit/b.txt", "changed here\n")
	out := strings.Join(strings.Fields(p.ok("settle", "site")), " ")
	p.says(out, `file:"a.txt" as deployed edited ← to the chest`, `file:"b.txt" edited as deployed → to site`,
		`file:"new.txt" missing new ← to the chest`)
	p.ok("settle", "site", "--yes", "--commit", "-m", "Agreed")
	if p.read("exhibit/a.txt") != "changed there\n" || p.read("site/b.txt") != "changed here\n" ||
		p.read("exhibit/new.txt") != "new there\n" {
		t.Error("the files did not go where they should")
	}
	p.ok("drift", "site", "--check")
	p.write("exhibit/a.txt", "three\n")
	p.ok("discard", "exhibit/a.txt")
	p.write("exhibit/c.txt", "c\n")
	p.ok("commit", "-m", "More")
	p.ok("deploy", "site")
	p.ok("rollback", "site", "--allow-loss")
	if p.has("site/c.txt") || p.read("site/b.txt") != "changed here\n" {
		t.Error("the folder is not as it was")
	}
	p.fails(4, "is no database", "rows", "track", "x", "--from", "site")
	p.fails(2, "no environment that is a database", "rows", "track", "x")
}

// TestHostileNamesOfRows tracks a table whose names could break out of every statement.
func TestHostileNamesOfRows(t *testing.T) {
	bothServers(t, func(t *testing.T, s server) {
		q := func(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }
		if s.engine == "mysql" {
			q = func(name string) string { return "`" + name + "`" }
		}
		table, column := `it's "a"; drop table x; --`, "水 槽,\\"
		p := empty(t)
		dev, test := s.database(t), s.database(t)
		s.run(t, dev, "create table "+q(table)+" ("+q(column)+" varchar(20) primary key, "+q("select")+" varchar(40)); insert into "+
			q(table)+" values ('a''b', 'x\"; drop table y; --'), ('', 'back\\\\slash');")
		p.ok("begin")
		p.ok("env", "add", "dev", s.target(dev))
		p.ok("capture", "dev")
		p.ok("rows", "track", table)
		p.ok("commit", "-m", "As it is")
		p.ok("env", "add", "test", s.target(test))
		p.ok("deploy", "test")
		p.ok("verify", "main", "env:dev", "env:test")
		s.run(t, test, "update "+q(table)+" set "+q("select")+" = null;")
		p.says(p.ok("compare", "work", "env:test"), "row:a'b.select", `row:"\"\"".select`, "(none)")
		p.ok("deploy", "test", "--replace-drift")
		p.ok("verify", "main", "env:dev", "env:test")
	})
}

// TestADeploymentThatStopsHalfway fails at its second step on an engine that keeps the
// first: it is told, the next one goes on from there, and it can be taken back.
func TestADeploymentThatStopsHalfway(t *testing.T) {
	s := mariadbServer(t)
	p := empty(t)
	dev := s.database(t)
	s.run(t, dev, "create table b (id int, n int); insert into b values (1, 7), (2, 7);")
	p.ok("begin")
	p.ok("env", "add", "dev", s.target(dev))
	p.ok("capture", "dev", "--commit", "-m", "As it is")
	p.write("database/tables/a.sql", "create table a (id int primary key);\n")
	// of a column that changes, nothing is foretold
	p.write("database/tables/b.sql", "create table b (id int, n varchar(5) primary key);\n")
	p.ok("commit", "-m", "Keys")
	for range 2 {
		r := p.run("deploy", "dev")
		p.says(r.err, "The deployment failed", "Duplicate entry")
		if r.status != 1 {
			t.Errorf("status %d", r.status)
		}
	}
	p.says(p.ok("deploy", "dev", "--dry-run"), "did not end", "alter the table")
	p.says(p.ok("rollback", "dev"), "drop the table")
	p.ok("verify", "main:1", "env:dev")
	s.run(t, dev, "delete from b where id = 2;")
	if out := p.ok("deploy", "dev"); strings.Contains(out, "did not end") {
		t.Errorf("after it was taken back:\n%s", out)
	}
	p.ok("drift", "dev", "--check")
	p.ok("health")
}

// TestSeveralTargetsAreSettled has a database and a folder in one environment: objects of both
// go both ways, and the result is proven for both.
func TestSeveralTargetsAreSettled(t *testing.T) {
	p := lane(t, strings.ReplaceAll(noGates, "tier = \"test\"", "tier = \"development\""))
	p.write("oaken.toml", strings.Replace(p.read("oaken.toml"), "[[pipeline.lane]]",
		"[[environment]]\nname = \"both\"\ntarget = \"sqlite:../both.db\"\ninto = \"database\"\n\n[[environment.also]]\n"+
			"target = \"folder:../both-signs\"\ninto = \"signs\"\n\n[[pipeline.lane]]", 1))
	p.ok("commit", "-m", "Rules")
	p.ok("deploy", "both", "--yes")
	p.sql("../both.db", "create view names as select name from tank")
	p.write("../both-signs/pump.txt", "The pump\n")
	p.write("../both-signs/tank.txt", "The kelp\n")
	p.write("signs/tank.txt", "The great reef\n")
	p.write("signs/door.txt", "The door\n")
	out := p.ok("settle", "both", "--dry-run")
	p.says(out, "database::view:names", "signs/pump.txt", "signs/door.txt", "signs/tank.txt")
	p.ok("settle", "both", "--plan", "../plan.toml")
	plan := p.read("../plan.toml")
	i := strings.Index(plan, "signs/tank.txt")
	p.write("../plan.toml", plan[:i]+strings.Replace(plan[i:], "leave", "to-chest", 1))
	p.says(p.ok("settle", "both", "--follow", "../plan.toml", "--commit", "-m", "Both agree"), "both and the workspace agree")
	p.says(p.read("database/views/names.sql"), "create view names")
	for file, want := range map[string]string{"signs/pump.txt": "The pump\n", "signs/tank.txt": "The kelp\n",
		"../both-signs/door.txt": "The door\n"} {
		if got := p.read(file); got != want {
			t.Errorf("%s holds %q, not %q", file, got, want)
		}
	}
	p.ok("verify", "work", "env:both")
	p.says(p.ok("capture", "both", "--commit", "-m", "x"), "none changed")
	p.fails(4, "has changed since the plan was made", "settle", "both", "--follow", "../plan.toml")
}
