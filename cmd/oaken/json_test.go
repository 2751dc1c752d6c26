package main

import (
	"strings"
	"testing"

	answers "oakenchest/core/service/result"
	"oakenchest/sample"
)

// TestEveryResultOccurs makes a call of every command with --json: each prints one object, which fits its schema
// (fits holds it against that in every test), and every schema that there is occurs.
func TestEveryResultOccurs(t *testing.T) {
	seen := map[string]bool{}
	p := world(t)
	ask := func(args ...string) {
		t.Helper()
		name, _ := p.object(args...)["schema"].(string)
		seen[name] = true
	}
	for _, call := range []string{
		"changes", "guide", "compare main work", "history", "history notes", "show main", "locks", "branch", "branch kelp",
		"release spring", "release list", "inspect notes/opening.txt", "kinds", "preset", "env list", "capture dev", "verify main main",
		"drift", "settle dev", "rows track tank --from dev",
		"deploy test --dry-run", "promote dev test", "health", "health --give-up", "tidy", "usage", "inspect apps/rounds.app --summary",
		"compare main work --html ../page.html", "recipe try apps/rounds.app", "recipe check", "find reef", "authors notes/opening.txt",
		"lock exhibit/reef.glb", "unlock exhibit/reef.glb", "sync", "conflicts", "restore --rescued", "restore notes --from main",
		"split apps/rounds.app ../parts", "join ../parts ../joined.app", "env add x sqlite:x.db", "env rename x y", "env remove y",
		"go nowhere", "demo ../story", "relocate ../elsewhere", "person", "trust", "trust --forget",
	} {
		ask(strings.Fields(call)...)
	}
	p.ok("deploy", "test", "--allow-loss")
	p.sql("test.db", "insert into tank (name, litres) values ('extra', 100)")
	p.write("database/rows/tank.csv", "id,name,litres\n")
	p.ok("commit", "database", "-m", "no tanks")
	p.run("deploy", "test", "--allow-loss")
	ask("rollback", "test", "--lost", "lost")
	ask("rollback", "test", "--dry-run")
	p.write(sample.Notes, "one\n")
	ask("discard", sample.Notes)
	p.write(sample.Notes, "one\n")
	ask("commit", "-m", "one")
	ask("commit", "-m", "nothing")
	ask("go", "kelp")
	p.write(sample.Notes, "two\n")
	p.ok("commit", "-m", "two")
	p.ok("go", "main")
	ask("merge", "kelp")
	ask("resolve", sample.Notes, "--keep", "mine")
	ask("merge", "--abandon")
	ask("merge", "main")
	p.write(sample.Notes, "three\n")
	ask("park", "three")
	ask("park")
	ask("unpark", "three")
	ask("park", "three")
	ask("park", "three", "--drop")
	ask("discard", "--unsent")
	ask("lock", sample.Scene, "--waive")
	ask("overlaps")
	ask("merge", "kelp", "--dry-run")
	ask("review", "open", "kelp", "--title", "Kelp")
	ask("review", "list")
	ask("review", "show", "1")
	(&project{t: t, dir: p.dir}).ok("revert", "main")
	r := lane(t, noGates+"\n[[pipeline.after]]\nname = \"doors\"\nenvironments = [\"test\"]\ncommand = [\"true\"]\n")
	p = r
	p.change("alter table tank add column keeper text", "Keepers", "--item", "AQ-1")
	for _, call := range []string{"pipeline show", "pipeline check", "promote dev --dry-run", "promote dev --at 3d", "promote dev",
		"approve live", "book live --lane Reef --for 2h", "owed", "backfill Reef --dry-run", "deployments", "deployments --attempts",
		"promote --planned", "promote --cancel 1", "promote --due", "promote --ready", "promote dev --as-far-as live", "pipeline items",
		"release plan june --item AQ-1", "release plan", "release plan june --drop", "deployments prove test",
		"env refresh test --from live --allow-loss", "pipeline add gate seen --rest 1d",
		"deployments --html ../page.html --sheet ../sheet.xlsx", "deployments show " + p.newest(), "deployments compare 2 " + p.newest()} {
		ask(strings.Fields(call)...)
	}
	p.sql("../test.db", "create index by_name on tank (name, id)")
	ask("drift", "test", "--keep", "by-hand")
	p.write("oaken.toml", p.read("oaken.toml")+"\n[[pipeline.lane]]\nname = \"Kelp\"\nbranch = \"kelp\"\n")
	p.ok("commit", "-m", "Another lane")
	p.declared()
	ask("lookalikes")
	ask("lookalikes", "distinct", "database::table:tank/column:name", "database::table:feeding/column:food", "-m", "x")
	out := empty(t)
	p = &project{t: t, dir: out.dir}
	ask("begin")
	ask("preset", "nothing") // an error
	at := serve(t)
	p = &project{t: t, dir: at.dir, config: at.admin}
	p = &project{t: t, dir: t.TempDir(), config: at.admin}
	p.write("oaken.toml", "project = \"reef\"\n[[environment]]\nname = \"live\"\ntarget = \"sqlite:/srv/${A}.db\"\ninto = \"d\"\nruns = \"server\"\n")
	ask("begin", "--chest", at.url+"/reef")
	ask("commit", "-m", "First")
	ask("logout", "live")
	p = &project{t: t, dir: at.dir, config: at.admin}
	for _, call := range []string{"who", "people invite Tarek", "people add Ysolde", "people list", "people show Admin",
		"people token --for night --until 3d", "people group artists Ysolde", "people end Ysolde --to Admin",
		"serve backup ../copy --data " + at.data, "logout"} {
		ask(strings.Fields(call)...)
	}
	if err := fits(at.said); err != nil {
		t.Error(err)
	}
	seen["oaken.serve/1"] = true
	for _, k := range answers.All {
		name := k.Result.Schema()
		// asked for below, of a server, and in a stream
		if !seen[name] && name != "oaken.open/1" && name != "oaken.prepare/1" && name != "oaken.watch/1" {
			t.Errorf("%s is declared and never seen", name)
		}
	}
	p = &project{t: t, dir: empty(t).dir}
	ask("open", out.dir, "mine")
}
