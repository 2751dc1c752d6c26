package main

import (
	"path/filepath"
	"strings"
	"testing"

	"oakenchest/sample"
)

// twoDevelopers gives a project in which two databases, a and b, and i behind them take
// their work from main: all three hold what main:1 declares.
func twoDevelopers(t *testing.T) *project {
	t.Helper()
	p := &project{t: t, dir: filepath.Join(t.TempDir(), "work")}
	p.write("oaken.toml", `project = "Brindle Bay"

[[artifact]]
path = "database"
kind = "schema"

[[environment]]
name = "a"
target = "sqlite:../a.db"
into = "database"
tier = "development"
branch = "main"

[[environment]]
name = "b"
target = "sqlite:../b.db"
into = "database"
tier = "development"
branch = "main"

[[environment]]
name = "i"
target = "sqlite:../i.db"
into = "database"
tier = "integration"
branch = "main"

[[pipeline.move]]
from = "a"
to = "i"

[[pipeline.move]]
from = "b"
to = "i"
`)
	p.sql("../a.db", sample.Schema)
	p.ok("--as", "Imke", "begin")
	p.ok("commit", "-m", "Rules", "oaken.toml")
	p.ok("capture", "a", "--commit", "-m", "Tanks")
	p.ok("deploy", "b")
	p.ok("deploy", "i")
	return p
}

// TestACaptureTakesNothingOfAColleague lets two people add a column each, in databases of
// their own: neither capture takes the other's away, in the chest or in the next stage.
func TestACaptureTakesNothingOfAColleague(t *testing.T) {
	p := twoDevelopers(t)
	p.sql("../a.db", "alter table tank add column depth integer")
	p.ok("capture", "a", "--commit", "-m", "Depths", "--item", "AQ-1")
	p.ok("promote", "a", "i")
	p.says(p.ok("owed"), "AQ-1", "b")
	p.sql("../b.db", "alter table tank add column keeper text")
	said := p.ok("--as", "Tarek", "capture", "b", "--commit", "-m", "Keepers", "--item", "AQ-2")
	p.says(said, "record:b/1:3  Keepers", "main:4 takes it in", "b lacks 1 piece of work that main has: main:3")
	table := p.read("database/tables/tank.sql")
	p.says(table, "depth", "keeper")
	p.says(p.ok("owed"), "AQ-1")
	p.ok("promote", "b", "i")
	if r := p.run("verify", "main", "env:i"); r.status != 0 {
		t.Errorf("i: %s%s", r.out, r.err)
	}
	p.ok("deploy", "b") // what b lacked
	p.ok("deploy", "a")
	p.says(p.ok("owed"), "Nothing is owed")
	for _, e := range []string{"a", "b"} {
		p.says(p.ok("capture", e, "--commit", "-m", "Nightly"), "none changed", "no commit was made")
	}
	if !strings.Contains(p.ok("history"), "Keepers") {
		t.Error("the history does not tell of the keepers")
	}
}

// TestWhatWasCapturedIsCommittedWhole follows a capture that lies in the workspace: parts
// of it can't be recorded, what is discarded is a choice of the branch, and what others have
// published meanwhile stays.
func TestWhatWasCapturedIsCommittedWhole(t *testing.T) {
	p := twoDevelopers(t)
	p.sql("../a.db", "alter table tank add column depth integer; create table guide (id integer primary key)")
	p.says(p.ok("capture", "a"), "2 files written")
	p.says(p.ok("capture", "a"), "none changed", "oaken commit records it")
	p.fails(4, "What a holds was captured into database and belongs together", "commit", "database/tables/guide.sql", "-m", "Guides")
	p.ok("discard", "database/tables/guide.sql")
	p.ok("commit", "-m", "Depths")
	if out := p.ok("history"); !strings.Contains(out, "From a: Depths") || p.has("database/tables/guide.sql") {
		t.Errorf("what was discarded: %s", out)
	}
	o := p.object("env", "list")["environments"].([]any)[0].(map[string]any)
	if o["deployed"].(map[string]any)["state"] != "record:a/1:3" {
		t.Errorf("a is known to hold %v", o["deployed"])
	}
	p.says(p.ok("drift", "a"), "record:a/1:3, as it was deployed")
	p.says(p.ok("capture", "a"), "none changed")
	if p.has("database/tables/guide.sql") {
		t.Error("what the branch chose not to have came again")
	}
	p.says(p.ok("deploy", "a", "--dry-run"), "drop the table") // it is what the branch says
	p.ok("deploy", "a", "--allow-loss")

	// Others publish between a capture and its commit.
	p.sql("../a.db", "alter table tank add column keeper text")
	p.ok("capture", "a")
	other := &project{t: t, dir: p.path("../other")}
	p.ok("open", p.dir, other.dir, "--as", "Tarek")
	other.write("database/tables/guide.sql", "create table guide (\n  id integer primary key\n);\n")
	other.ok("commit", "-m", "Guides are back")
	p.ok("commit", "-m", "Keepers")
	p.says(p.read("database/tables/tank.sql"), "keeper")
	p.says(p.read("database/tables/guide.sql"), "guide")
	p.says(p.ok("drift", "a"), "as it was deployed")
	if out := p.ok("capture", "a", "--commit", "-m", "Nightly"); !strings.Contains(out, "no commit was made") ||
		!strings.Contains(out, "a lacks 1 piece of work that main has") || !p.has("database/tables/guide.sql") {
		t.Errorf("the nightly capture took away what a never had: %s", out)
	}
}

// TestACaptureInConflictIsSettled has the same column in two types, from two databases.
func TestACaptureInConflictIsSettled(t *testing.T) {
	p := twoDevelopers(t)
	p.sql("../a.db", "alter table tank add column depth integer")
	p.sql("../b.db", "alter table tank add column depth text")
	p.ok("capture", "a", "--commit", "-m", "Depths")
	r := p.run("capture", "b", "--commit", "-m", "Depths as words")
	if r.status != 3 || !strings.Contains(r.out, "record:b/1:3") || !strings.Contains(r.out, "Settle them with oaken resolve") {
		t.Fatalf("%d %s%s", r.status, r.out, r.err)
	}
	p.says(p.ok("drift", "b"), "record:b/1:3, as it was deployed")
	for strings.Contains(p.ok("conflicts"), "::") {
		o := p.object("conflicts")["conflicts"].([]any)[0].(map[string]any)
		p.ok("resolve", o["address"].(string), "--keep", "theirs")
	}
	p.ok("commit", "-m", "Depths are words")
	p.says(p.read("database/tables/tank.sql"), "depth text")
	p.ok("deploy", "b")
	p.ok("deploy", "a")

	// In the workspace, too.
	p.sql("../b.db", "create view deep as select id from tank")
	p.sql("../i.db", "create view deep as select name from tank")
	p.ok("capture", "b", "--commit", "-m", "Deep tanks")
	r = p.run("capture", "i")
	if r.status != 3 || !strings.Contains(r.out, "in conflict") && !strings.Contains(r.out, "deep") {
		t.Fatalf("%d %s%s", r.status, r.out, r.err)
	}
	p.says(p.ok("drift", "i"), "differs from main:2")
	p.ok("merge", "--abandon")
	p.says(p.read("database/views/deep.sql"), "select id")
	p.says(p.ok("drift", "i"), "differs from main:2")
}

// TestARestoredStageIsToldFromAnEditedOne brings a copy of a later stage into an earlier one.
func TestARestoredStageIsToldFromAnEditedOne(t *testing.T) {
	p := twoDevelopers(t)
	copyOf := p.read("../i.db")
	p.change2("a", "create table guide (id integer primary key); create table moult (id integer primary key); create table tour (id "+
		"integer primary key)", "Guides")
	p.ok("promote", "a", "i")
	// i is brought back to what it was: nothing was taken away by hand.
	p.write("../i.db", copyOf)
	p.says(p.ok("capture", "i", "--commit", "-m", "Nightly"), "i holds just what main:2 declares, which is noted",
		"i lacks 1 piece of work that main has: main:3")
	p.says(p.read("database/tables/guide.sql"), "guide")
	p.ok("deploy", "i", "--reason", "x", "--dry-run")
	p.says(p.ok("owed"), "Nothing is owed")
	p.ok("promote", "a", "i")
	// A copy that somebody has changed since: nobody can tell.
	p.write("../i.db", copyOf)
	p.sql("../i.db", "create table shop (id integer primary key)")
	p.fails(4, "from main:2 it differs in 1 object", "capture", "i", "--commit", "-m", "Nightly")
	p.fails(2, "Nothing is known of what nowhere holds", "capture", "i", "--stood-on", "env:nowhere")
	p.ok("capture", "i", "--commit", "-m", "A shop", "--stood-on", "env:b")
	for _, name := range []string{"guide", "moult", "tour", "shop"} {
		p.says(p.read("database/tables/"+name+".sql"), name)
	}
	// In a database of development somebody may well have taken it out.
	p.sql("../a.db", "drop table guide; drop table moult; drop table tour")
	p.fails(4, "Which of the two it stood on can't be told", "--as", "Imke", "capture", "a", "--commit", "-m", "No guides")
	p.ok("capture", "a", "--commit", "-m", "No guides", "--stood-on", "main:3")
	if p.has("database/tables/guide.sql") || !p.has("database/tables/shop.sql") {
		t.Error(p.tree("database"))
	}
}

// change2 changes one of the databases, and commits that.
func (p *project) change2(env, sql, message string, more ...string) {
	p.t.Helper()
	p.sql("../"+env+".db", sql)
	p.ok(append([]string{"capture", env, "--commit", "-m", message}, more...)...)
}

// TestAFirstCaptureTakesNothing captures a database that nothing is known of into a folder
// that has objects already, and one whose filters were opened since.
func TestAFirstCaptureTakesNothing(t *testing.T) {
	p := twoDevelopers(t)
	p.sql("../c.db", "create table tank (id integer primary key, name text not null unique); create table shop (id integer primary key)")
	p.ok("env", "add", "c", "sqlite:../c.db")
	p.ok("commit", "-m", "Another database")
	p.fails(4, "Nothing is known of what c held", "capture", "c", "--commit", "-m", "Nightly")
	p.fails(4, "c has what no commit knows", "deploy", "c", "--allow-loss")
	r := p.run("capture", "c")
	if r.status != 0 || strings.Contains(r.out, "removed") || !p.has("database/tables/feeding.sql") || !p.has("database/tables/shop.sql") {
		t.Fatalf("%d %s%s", r.status, r.out, r.err)
	}
	p.ok("commit", "-m", "With a shop")
	p.says(p.read("database/tables/tank.sql"), "litres")
	p.ok("deploy", "c", "--allow-loss")
	p.ok("verify", "main", "env:c")

	// What a filter let out was never looked at there.
	p.write("oaken.toml", strings.Replace(p.read("oaken.toml"), "kind = \"schema\"", "kind = \"schema\"\nskip = [\"view:*\"]", 1))
	p.ok("commit", "-m", "No views")
	p.ok("deploy", "b")
	p.sql("../b.db", "drop view hungry_tank")
	p.says(p.ok("capture", "b", "--commit", "-m", "Nightly"), "none changed")
	p.write("oaken.toml", strings.Replace(p.read("oaken.toml"), "\nskip = [\"view:*\"]", "", 1))
	p.ok("commit", "-m", "Views again")
	p.fails(4, "The folders or filters of b have changed since", "capture", "b", "--commit", "-m", "Nightly")
	if !p.has("database/views/hungry_tank.sql") {
		t.Error("a view that b never had was taken away")
	}
}

// TestWorkOfAnotherBranchStaysThere changes a database that another branch was deployed to.
func TestWorkOfAnotherBranchStaysThere(t *testing.T) {
	p := twoDevelopers(t)
	p.ok("branch", "kelp")
	p.ok("go", "kelp")
	p.write("database/tables/kelp.sql", "create table kelp (\n  id integer primary key\n);\n")
	p.ok("commit", "-m", "Kelp")
	p.ok("deploy", "a", "kelp")
	p.sql("../a.db", "create table guide (id integer primary key)")
	p.fails(4, "goes to branch main, and this workspace is on kelp", "capture", "a")
	p.ok("go", "main")
	p.fails(4, "a stood on kelp:3, which branch main has not", "capture", "a")
	p.says(p.ok("capture", "a", "--commit", "-m", "Guides"), "record:a/1:4  Guides", "a stood on kelp:3, so it stays beside the branches")
	if p.has("database/tables/guide.sql") || p.has("database/tables/kelp.sql") {
		t.Error("main got what it has not asked for")
	}
	p.ok("capture", "a", "--commit", "-m", "Guides", "--onto", "main")
	if !p.has("database/tables/guide.sql") || p.has("database/tables/kelp.sql") {
		t.Errorf("main has %s", p.tree("database"))
	}
	p.ok("go", "kelp")
	p.ok("capture", "a", "--onto", "kelp")
	p.says(p.read("database/tables/guide.sql"), "guide")
	p.says(p.ok("health"), "The chest is whole")
}

// TestWhatWasKeptIsNotDropped keeps a hot fix that somebody made by hand, and settles then.
func TestWhatWasKeptIsNotDropped(t *testing.T) {
	p := twoDevelopers(t)
	p.sql("../i.db", "create index by_name on tank (litres)")
	p.ok("drift", "i", "--keep", "by-hand")
	p.says(p.ok("drift", "i"), "by-hand:3, as it was deployed")
	out := p.ok("settle", "i", "--dry-run")
	if strings.Contains(out, "drop") || !strings.Contains(out, "to the chest") {
		t.Errorf("settle: %s", out)
	}
	p.says(p.ok("owed"), "What was changed in i by hand", "not in a, b")
}

// TestADeploymentStopsAtWhatNobodyKnows has an index in a stage that somebody made at night.
func TestADeploymentStopsAtWhatNobodyKnows(t *testing.T) {
	p := twoDevelopers(t)
	p.sql("../b.db", "create view night as select id from tank; create index by_litres on tank (litres)")
	p.change2("a", "alter table tank add column depth integer", "Depths")
	r := p.run("deploy", "b")
	if r.status != 4 || !strings.Contains(r.err,
		"b has what no commit knows, and this would change it: database::table:tank and database::view:night") {
		t.Fatalf("%d %s%s", r.status, r.out, r.err)
	}
	p.says(p.ok("deploy", "b", "--dry-run"), "In the way:", "--replace-drift")
	if o := p.object("deploy", "b", "--dry-run"); len(o["unknown"].([]any)) != 2 {
		t.Errorf("unknown: %v", o["unknown"])
	}
	p.ok("deploy", "b", "--replace-drift")
	p.ok("rollback", "b") // it was kept
	p.sql("../b.db", "create table proof (n integer check (n = 2)); insert into proof select count(*) from sqlite_master where name in "+
		"('night', 'by_litres'); drop table proof")
	p.ok("capture", "b", "--commit", "-m", "Night")
	p.ok("deploy", "b")
	p.ok("verify", "main", "env:b")
	// What is there already, by whatever hand, is nobody's loss.
	p.change2("a", "create table guide (id integer primary key)", "Guides")
	p.ok("deploy", "b")
	p.change2("a", "create table tour (id integer primary key)", "Tours")
	p.sql("../b.db", "create table tour (id integer primary key)")
	p.ok("deploy", "b")
	p.says(p.ok("drift", "b"), "as it was deployed")
}

// TestOnesOwnDatabaseIsOnesOwn has an environment whose database lies in each workspace.
func TestOnesOwnDatabaseIsOnesOwn(t *testing.T) {
	p := &project{t: t, dir: filepath.Join(t.TempDir(), "imke")}
	p.write("notes.txt", "Tanks\n")
	p.sql("dev.db", "create table tank (id integer primary key)")
	p.ok("--as", "Imke", "begin")
	p.ok("env", "add", "dev", "sqlite:dev.db")
	p.ok("capture", "dev")
	p.ok("commit", "-m", "Tanks")
	other := &project{t: t, dir: p.path("../tarek")}
	p.ok("open", p.dir, other.dir, "--as", "Tarek")
	p.says(other.ok("env", "list"), "nothing deployed yet")
	other.ok("deploy", "dev")
	p.sql("dev.db", "alter table tank add column depth integer")
	p.ok("capture", "dev", "--commit", "-m", "Depths")
	other.sql("dev.db", "alter table tank add column keeper text")
	other.ok("capture", "dev", "--commit", "-m", "Keepers")
	other.says(other.read("database/tables/tank.sql"), "depth", "keeper")
	other.ok("rollback", "dev") // not Imke's
	p.sql("dev.db", "create table proof (n integer check (n = 1)); insert into proof select count(*) from pragma_table_info('tank') "+
		"where name = 'depth'; drop table proof")
	p.says(p.ok("drift", "dev"), "as it was deployed")
	p.ok("env", "rename", "dev", "mine")
	p.says(p.ok("drift", "mine"), "as it was deployed")
	p.fails(2, "There is no environment dev", "drift", "dev")
	p.fails(2, "mine has that name", "env", "rename", "mine", "mine")
}

// TestADatabaseFileGoesFromNobody declares a database that is recorded as a file.
func TestADatabaseFileGoesFromNobody(t *testing.T) {
	p := &project{t: t, dir: filepath.Join(t.TempDir(), "imke")}
	p.write("notes.txt", "Tanks\n")
	p.sql("tanks.db", "create table tank (id integer primary key)")
	p.says(p.ok("--as", "Imke", "begin"), "tanks.db would be recorded as a file", "oaken env add NAME sqlite:tanks.db")
	p.ok("commit", "-m", "First")
	other := &project{t: t, dir: p.path("../tarek")}
	p.ok("open", p.dir, other.dir, "--as", "Tarek")
	data := other.read("tanks.db")
	p.fails(4, "tanks.db is recorded as a file of the project", "env", "add", "dev", "sqlite:tanks.db")
	p.ok("env", "add", "dev", "sqlite:tanks.db", "--stop-recording")
	p.ok("commit", "-m", "A database of one's own")
	p.ok("capture", "dev", "--commit", "-m", "Tanks")
	other.ok("sync")
	if !other.has("tanks.db") || other.read("tanks.db") != data || !p.has("tanks.db") {
		t.Error("a database went from somebody")
	}
	other.sql("tanks.db", "create table guide (id integer primary key)") // it can be written
	other.ok("capture", "dev", "--stood-on", "main")
	other.says(other.read("database/tables/guide.sql"), "guide")
}

// TestAMissingFolderHidesNothing has a stage of a database that holds something, and a folder
// that is to be made yet.
func TestAMissingFolderHidesNothing(t *testing.T) {
	p := lane(t, noGates)
	p.write("oaken.toml", p.read("oaken.toml")+"\n[[environment]]\nname = \"trial\"\ntarget = \"sqlite:../trial.db\"\n"+
		"into = \"database\"\n\n[[environment.also]]\ntarget = \"folder:../trial-signs\"\ninto = \"signs\"\n")
	p.ok("commit", "-m", "A trial")
	p.sql("../trial.db", "create view night as select 1 as one")
	p.fails(4, "trial has what no commit knows, and this would change it: database::view:night", "deploy", "trial")
	p.ok("deploy", "trial", "--replace-drift", "--allow-loss")
	p.ok("verify", "reef", "env:trial")
}

// TestACaptureForABranchOfReviewsIsProposed has a branch that takes work by reviews alone: a
// capture gets a review, the next one joins it.
func TestACaptureForABranchOfReviewsIsProposed(t *testing.T) {
	p := twoDevelopers(t)
	p.write("oaken.toml", p.read("oaken.toml")+"\n[review]\nonly = [\"main\"]\n")
	p.ok("commit", "-m", "By review")
	p.ok("deploy", "a")
	p.sql("../a.db", "alter table tank add column keeper text")
	p.says(p.ok("capture", "a", "--commit", "-m", "Keepers", "--item", "A-1"), "it is in review 1", "record:a/1")
	p.sql("../a.db", "alter table tank add column depth integer")
	p.says(p.ok("capture", "a", "--commit", "-m", "Depths"), "it is in review 1")
	p.says(p.ok("review", "show", "1"), "Keepers", "column:keeper", "column:depth")
	p.says(p.ok("capture", "a", "--commit", "-m", "x"), "none changed")
	p.fails(4, "takes work by reviews alone", "commit", "-m", "straight")
	p.ok("--as", "Odalys", "--yes", "review", "merge", "1")
	p.ok("--as", "Imke", "sync")
	p.says(p.read("database/tables/tank.sql"), "keeper", "depth")
	p.says(p.ok("owed"), "Nothing is owed")
	p.ok("verify", "main", "env:a")
	if list := p.object("review", "list")["reviews"].([]any); len(list) != 0 {
		t.Errorf("open: %v", list)
	}
}
