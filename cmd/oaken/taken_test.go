package main

import (
	"strings"
	"testing"
)

// stages gives a lane whose stages have branches of their own: dev on reef, test and live;
// all hold the same.
func stages(t *testing.T) *project {
	t.Helper()
	p := lane(t, noGates)
	return p
}

// TestWhatWasTakenBackStaysAway rolls live back: a hot fix does not bring it again, nor is it
// taken away anywhere else.
func TestWhatWasTakenBackStaysAway(t *testing.T) {
	p := stages(t)
	p.change("alter table tank add column depth integer", "Depths", "--item", "A-1")
	p.ok("promote", "dev", "test")
	p.ok("promote", "test", "live")
	p.sql("../live.db", "insert into tank (name, litres, depth) values ('Reef', 42000, 7)")
	p.says(p.ok("rollback", "live", "--dry-run"), "Takes back from live:", "A-1")
	p.says(p.ok("rollback", "live", "--allow-loss", "--reason", "it is too slow"), "takes it back from the branch")
	p.says(p.ok("owed"), "Nothing is owed")

	p.change("create table guide (id integer primary key, name text)", "Guides", "--item", "A-2")
	p.ok("promote", "dev", "test")
	p.says(p.ok("promote", "test", "live", "--item", "A-2", "--dry-run"), "A-2")
	p.ok("promote", "test", "live", "--item", "A-2")
	p.lacks("live", "tank", "depth")
	p.holds("live", "guide", "name")

	// The hot fix comes back everywhere; what was taken back stays where it was.
	p.sql("../live.db", "create index by_name on guide (name)")
	p.ok("drift", "live", "--keep", "night")
	p.ok("go", "live")
	p.ok("merge", "night")
	p.ok("deploy", "live", "live", "--reason", "x", "--dry-run")
	p.ok("go", "reef")
	p.ok("backfill", "Reef")
	p.ok("backfill", "test")
	for _, e := range []string{"dev", "test"} {
		p.holds(e, "tank", "depth")
	}
	p.says(p.read("database/tables/tank.sql"), "depth")

	// All of it again: it is named, and really comes, with what was lost.
	r := p.run("promote", "test", "live")
	if r.status != 4 || !strings.Contains(r.err, "was taken back from live by Imke") || !strings.Contains(r.err, "it is too slow") {
		t.Fatalf("%d %s%s", r.status, r.out, r.err)
	}
	p.lacks("live", "tank", "depth")
	p.says(p.ok("deployments", "live", "--attempts"), "promote", "refused", "was taken back from live")
	if list := p.object("deployments", "--attempts")["attempts"].([]any); len(list) == 0 ||
		list[0].(map[string]any)["outcome"] != "refused" {
		t.Errorf("attempts: %v", list)
	}
	p.ok("promote", "test", "live", "--again")
	p.holds("live", "tank", "depth")
	p.sql("../live.db", "create table proof (n integer check (n > 0)); insert into proof select count(*) from tank where depth = 7; drop "+
		"table proof")
	p.ok("verify", "env:test", "env:live")
	p.says(p.ok("owed"), "Nothing is owed")
}

// holds says that a table of a stage has a column.
func (p *project) holds(env, table, column string) {
	p.t.Helper()
	p.sql("../"+env+".db", "create table proof (n integer check (n = 1)); insert into proof select count(*) from pragma_table_info('"+table+
		"') where name = '"+column+"'; drop table proof")
}

// lacks says that it has not.
func (p *project) lacks(env, table, column string) {
	p.t.Helper()
	p.sql("../"+env+".db", "create table proof (n integer check (n = 0)); insert into proof select count(*) from pragma_table_info('"+table+
		"') where name = '"+column+"'; drop table proof")
}

// TestAnItemIsWithdrawn takes one item out of live and leaves the rest; what stands on it is
// named, what is lost comes back with it.
func TestAnItemIsWithdrawn(t *testing.T) {
	p := stages(t)
	p.change("alter table tank add column depth integer", "Depths", "--item", "A-1")
	p.change("create table guide (id integer primary key, name text)", "Guides", "--item", "A-2")
	p.change("create view deep as select depth from tank where depth > 3", "Deep tanks", "--item", "A-3")
	p.ok("promote", "dev", "test")
	p.ok("promote", "test", "live")
	p.sql("../live.db", "insert into tank (name, litres, depth) values ('Reef', 42000, 7)")
	p.fails(4, "live has no work for A-9", "withdraw", "live", "--item", "A-9")
	p.fails(4, "has no branch of its own", "withdraw", "dev", "--item", "A-1")
	p.fails(2, "Say which item", "withdraw", "live")
	p.fails(4, "uses database::table:tank/column:depth, which reef:3 brings", "withdraw", "live", "--item", "A-1")
	p.says(p.ok("withdraw", "live", "--item", "A-1", "--with-dependents", "--dry-run"), "A-3", "drop", "this was a dry run")
	p.fails(4, "would lose data", "withdraw", "live", "--item", "A-1", "--with-dependents")
	p.holds("live", "tank", "depth")
	p.says(p.ok("withdraw", "live", "--item", "A-1", "--with-dependents", "--allow-loss", "--reason", "too slow"), "live and live:")
	p.lacks("live", "tank", "depth")
	p.holds("live", "guide", "name")
	p.ok("verify", "live", "env:live")
	p.says(p.ok("deployments", "live"), "withdraw")
	p.says(p.ok("owed"), "Nothing is owed")
	p.ok("backfill", "test")
	p.ok("verify", "env:test", "env:dev")

	// Other work goes on; a merge by hand of what live has takes nothing away.
	p.change("create table tour (id integer primary key)", "Tours", "--item", "A-4")
	p.ok("promote", "dev", "test")
	p.ok("promote", "test", "live", "--item", "A-4")
	p.lacks("live", "tank", "depth")
	p.ok("branch", "trial")
	p.ok("go", "trial")
	p.ok("merge", "live")
	p.says(p.read("database/tables/tank.sql"), "depth")
	p.ok("go", "reef")

	p.fails(4, "were taken back from live by Imke", "promote", "test", "live")
	p.ok("promote", "test", "live", "--again")
	p.holds("live", "tank", "depth")
	p.sql("../live.db", "create table proof (n integer check (n = 1)); insert into proof select count(*) from tank where depth = 7; drop "+
		"table proof")
	p.ok("verify", "env:test", "env:live")
	p.says(p.ok("health"), "The chest is whole")
}

// TestStagesOfOneBranchAreRolledBack has two stages that share a branch: no commit is made, and
// what was taken back is owed to nobody until somebody brings it.
func TestStagesOfOneBranchAreRolledBack(t *testing.T) {
	p := lane(t, noGates)
	toml := strings.Replace(strings.Replace(p.read("oaken.toml"), "branch = \"test\"", "branch = \"reef\"", 1), "branch = \"live\"",
		"branch = \"reef\"", 1)
	p.write("oaken.toml", toml)
	p.ok("commit", "-m", "One branch for all stages")
	p.declared()
	p.change("alter table tank add column keeper text", "Keepers", "--item", "A-1")
	p.ok("promote", "dev", "test")
	p.ok("promote", "test", "live")
	tip := p.ok("history")
	p.ok("rollback", "test")
	if now := p.ok("history"); now != tip {
		t.Errorf("a rollback made a commit on a branch that others share: %s", now)
	}
	p.lacks("test", "tank", "keeper")
	p.says(p.ok("owed"), "Nothing is owed", "Taken back from test, so not owed to it: record:dev", "A-1")
	if o := p.object("owed"); len(o["takenBack"].([]any)) != 1 || len(o["owed"].([]any)) != 0 {
		t.Errorf("owed: %v", o)
	}
	p.ok("backfill", "test")
	p.lacks("test", "tank", "keeper")
	p.fails(4, "was taken back from test by Imke", "promote", "dev", "test")
	p.ok("promote", "dev", "test", "--again")
	p.holds("test", "tank", "keeper")
	if out := p.ok("owed"); strings.Contains(out, "Taken back") {
		t.Errorf("what came again: %s", out)
	}
}
