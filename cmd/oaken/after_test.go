package main

import (
	"strings"
	"testing"
)

const smokes = "\n[[pipeline.after]]\nname = \"doors\"\nenvironments = [\"test\"]\n" +
	"command = [\"sh\", \"-c\", \"echo looking at $OAKEN_ENVIRONMENT; ! grep -q shut signs/tank.txt\"]\n" +
	"\n[[pipeline.after]]\nname = \"water\"\ntiers = [\"live\"]\ncommand = [\"sh\", \"-c\", \"! grep -q dirty signs/tank.txt\"]\n" +
	"otherwise = \"rollback\"\n"

func TestWhatMustPassAfterADeployment(t *testing.T) {
	p := lane(t, noGates+smokes)
	p.change("alter table tank add column keeper text", "Keepers")
	p.says(p.ok("promote", "dev", "test"), "After it: passed", "doors", "passed")
	out := p.object("deployments", "show", p.newest())
	if after := out["after"].(map[string]any); after["outcome"] != "passed" {
		t.Errorf("shown: %v", after)
	}
	p.write("signs/tank.txt", "The reef is shut\n")
	p.ok("commit", "-m", "Shut")
	r := p.run("promote", "dev", "test")
	if r.status != 1 && r.status != 5 || !strings.Contains(r.err, "doors did not pass in test") ||
		!strings.Contains(r.out, "looking at test") {
		t.Errorf("a smoke test that does not pass: %d %s%s", r.status, r.out, r.err)
	}
	p.says(p.ok("pipeline", "show"), "in doubt", "doors did not pass", "shut: proof")
	p.fails(4, "test is in doubt: doors did not pass there", "promote", "test", "live")
	p.ok("verify", "env:dev", "env:test") // it is there all the same
	if r := p.run("deployments", "prove", "test"); r.status == 0 || !strings.Contains(r.err, "doors did not pass") {
		t.Errorf("once more: %d %s", r.status, r.err)
	}
	p.write("signs/tank.txt", "The reef\n")
	p.ok("commit", "-m", "Open")
	p.says(p.ok("promote", "dev", "test"), "After it: passed")
	p.says(p.ok("deployments", "prove", "test"), "test is as it should be")
	p.ok("promote", "test", "live")
	p.fails(2, "Nothing is declared that must pass", "deployments", "prove", "dev")
}

func TestWhatDoesNotPassIsTakenBack(t *testing.T) {
	p := lane(t, noGates+smokes)
	p.change("alter table tank add column keeper text", "Keepers", "--item", "AQ-7")
	p.write("signs/tank.txt", "The water is dirty\n")
	p.ok("commit", "-m", "Dirty", "--item", "AQ-7")
	p.ok("promote", "dev", "test")
	r := p.run("promote", "test", "live", "--json")
	if r.status == 0 || !strings.Contains(r.out, `"outcome": "rolled back"`) || !strings.Contains(r.out, "The deployment was taken back") {
		t.Errorf("rollback: %d %s%s", r.status, r.out, r.err)
	}
	if text := p.read("../live-signs/tank.txt"); text != "The reef\n" {
		t.Errorf("live has %q", text)
	}
	p.sql("../live.db", "create table proof (n integer check (n = 0)); insert into proof select count(*) from pragma_table_info('tank') "+
		"where name = 'keeper'; drop table proof")
	p.says(p.ok("deployments", "live"), "taken back by Imke")
	p.fails(4, "were taken back from live", "promote", "test", "live")
	p.ok("drift", "live", "--check")
	p.write("signs/tank.txt", "The reef\n")
	p.ok("commit", "-m", "Clean", "--item", "AQ-7")
	p.ok("promote", "dev", "test")
	p.ok("promote", "test", "live", "--again")
	p.ok("verify", "env:test", "env:live")
}

func TestWhatMustPassIsAgreedToBefore(t *testing.T) {
	p := lane(t, noGates+smokes)
	p.change("alter table tank add column keeper text", "Keepers")
	p.ok("promote", "dev", "test")
	p.ok("go", "main") // whose rules count
	p.write("oaken.toml", strings.NewReplacer("echo looking", "echo once more looking",
		`environments = ["test"]`, `environments = ["dev", "test"]`).Replace(p.read("oaken.toml")))
	p.ok("commit", "-m", "Look again")
	p.ok("go", "reef")
	p.write("signs/tank.txt", "The new reef\n")
	p.ok("commit", "-m", "New")
	p.wary = true
	before := p.ok("deployments")
	for _, call := range [][]string{{"promote", "dev", "test"}, {"deploy", "dev", "reef"},
		{"promote", "dev", "test", "--at", "2099-01-01 10:00"}} {
		r := p.run(call...)
		if r.status != 4 || !strings.Contains(r.err, "once more looking") || strings.Contains(r.out, "After it") {
			t.Errorf("%v: %d %s%s", call, r.status, r.out, r.err)
		}
	}
	if after := p.ok("deployments"); after != before {
		t.Errorf("it was deployed before anybody agreed to what must pass:\n%s", after)
	}
	if text := p.read("../test-signs/tank.txt"); text != "The reef\n" {
		t.Errorf("test has %q", text)
	}
	p.wary = false
	p.says(p.ok("promote", "dev", "test"), "After it: passed")
}

// TestWhatMustPassSeesWhatWasDeployed has a branch with work of its own, so that what is deployed is in no other place.
func TestWhatMustPassSeesWhatWasDeployed(t *testing.T) {
	p := lane(t, noGates+"\n[[pipeline.after]]\nname = \"doors\"\nenvironments = [\"test\"]\n"+
		"command = [\"sh\", \"-c\", \"case $OAKEN_STATE in main:2|test:3) exit 0;; test:*) ;; *) exit 1;; esac; "+
		"grep -q own signs/own.txt && grep -q new signs/tank.txt\"]\n")
	p.change("alter table tank add column keeper text", "Keepers")
	p.ok("promote", "dev", "test")
	p.ok("go", "test")
	p.write("signs/own.txt", "own\n")
	p.ok("commit", "-m", "Own")
	p.ok("go", "reef")
	p.write("signs/tank.txt", "The new reef\n")
	p.ok("commit", "-m", "New")
	p.says(p.ok("promote", "dev", "test"), "After it: passed")
}

// TestTheFirstDeploymentIsTakenBack has nothing to go back to but nothing.
func TestTheFirstDeploymentIsTakenBack(t *testing.T) {
	p := empty(t)
	p.ok("begin")
	p.ok("env", "add", "dev", "sqlite:dev.db", "--into", "database")
	p.ok("env", "add", "live", "sqlite:live.db", "--branch", "live", "--after", "dev")
	p.write("database/tables/tank.sql", "create table tank (id integer primary key);\n")
	p.ok("commit", "-m", "Tanks", "--item", "AQ-1")
	p.ok("deploy", "dev")
	p.ok("promote", "dev", "live")
	p.says(p.ok("rollback", "live", "--yes"), "Takes back from live", "Tanks")
	p.says(p.ok("pipeline", "items"), "taken back")
	p.says(p.ok("pipeline", "show"), "shut: again")
	p.fails(4, "was taken back from live", "promote", "dev", "live")
	p.ok("promote", "dev", "live", "--again")
	p.ok("verify", "env:dev", "env:live")
	// What was there before anybody knew of it is no work of ours that goes.
	p.sql("old.db", "create table tank (id integer primary key); create table other (id integer)")
	p.ok("env", "add", "old", "sqlite:old.db", "--branch", "old", "--after", "dev")
	p.ok("commit", "-m", "Old")
	p.ok("deploy", "old", "--replace-drift", "--allow-loss")
	if out := p.ok("rollback", "old", "--yes"); strings.Contains(out, "Takes back") {
		t.Errorf("back to what nobody knows:\n%s", out)
	}
}
