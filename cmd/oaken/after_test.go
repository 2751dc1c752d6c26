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
	p.fails(4, "was taken back from live", "promote", "test", "live")
	p.ok("drift", "live", "--check")
	p.write("signs/tank.txt", "The reef\n")
	p.ok("commit", "-m", "Clean", "--item", "AQ-7")
	p.ok("promote", "dev", "test")
	p.ok("promote", "test", "live", "--again")
	p.ok("verify", "env:test", "env:live")
}
