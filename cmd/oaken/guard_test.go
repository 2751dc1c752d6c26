package main

import (
	"strings"
	"testing"
)

// TestRulesAreChangedByThoseWhoMay lets a developer try every way of opening a gate.
func TestRulesAreChangedByThoseWhoMay(t *testing.T) {
	p := lane(t, "\n[pipeline]\nmay-override = [\"Odalys\"]\n[[pipeline.gate]]\nname = \"tests\"\ncommand = [\"true\"]\n"+
		"[[pipeline.gate]]\nname = \"passed\"\ncommand = [\"false\"]\n"+
		"[[environment]]\nname = \"meet\"\ntarget = \"sqlite:../meet.db\"\ninto = \"database\"\ntier = \"integration\"\n"+
		"branch = \"main\"\n[[pipeline.move]]\nfrom = \"dev\"\nto = \"meet\"\n")
	p.ok("deploy", "meet", "main")
	p.change("alter table tank add column depth integer", "Depths")
	p.ok("promote", "dev", "test")
	p.fails(4, "passed (exit status 1", "promote", "test", "live")
	open := strings.Replace(p.read("oaken.toml"), "name = \"passed\"\ncommand = [\"false\"]", "name = \"passed\"\ncommand = [\"true\"]", 1)
	p.ok("branch", "sly")
	p.ok("--as", "Tarek", "--yes", "go", "sly")
	p.write("oaken.toml", open)
	p.ok("--as", "Tarek", "commit", "-m", "A small thing")
	p.fails(4, "passed (exit status 1", "--as", "Tarek", "promote", "test", "live")

	// By merge, commit, review and revert on the first branch.
	rules := "Rules that change on branch main: gate passed edited. They are changed by Imke alone."
	p.ok("--as", "Tarek", "go", "main")
	p.fails(4, rules, "--as", "Tarek", "merge", "sly")
	p.write("oaken.toml", open)
	p.fails(4, rules, "--as", "Tarek", "commit", "-m", "A small thing")
	p.ok("discard", "oaken.toml")
	p.ok("--as", "Tarek", "go", "sly")
	p.ok("--as", "Tarek", "review", "open", "--into", "main", "--title", "A small thing")
	p.fails(4, rules, "--as", "Tarek", "review", "merge", "1")

	// By a promotion into a stage of the first branch: nothing is deployed first.
	p.ok("--as", "Imke", "go", "reef")
	p.ok("merge", "sly")
	p.ok("deploy", "dev", "reef")
	p.fails(4, "gate passed edited", "--as", "Tarek", "promote", "dev", "meet")
	p.lacks("meet", "tank", "depth")

	// What only seems to be a rule goes in; who may, may; a break never opens anything.
	p.ok("go", "main")
	p.write("oaken.toml", p.read("oaken.toml")+"\n[[environment]]\nname = \"own\"\ntarget = \"sqlite:../own.db\"\ninto = \"database\"\n")
	p.ok("--as", "Tarek", "commit", "-m", "A database of my own")
	p.write("oaken.toml", strings.Replace(p.read("oaken.toml"), "project = \"Brindle Bay\"",
		"project = \"Brindle Bay\"\n\n[team]\nmay-rule = [\"Odalys\"]", 1))
	p.fails(4, "may-rule added", "--as", "Tarek", "commit", "-m", "I may")
	p.ok("--as", "Imke", "commit", "-m", "Odalys may")
	p.write("oaken.toml", strings.Replace(p.read("oaken.toml"), "command = [\"false\"]", "command = [\"true\"]", 1))
	p.fails(4, "changed by Odalys alone", "--as", "Imke", "commit", "-m", "Open")
	p.ok("--as", "Odalys", "--yes", "commit", "-m", "Open")
	p.ok("--as", "Imke", "promote", "test", "live")

	// Undone, it is changed too.
	p.fails(4, "gate passed edited", "--as", "Tarek", "revert", "main")
	p.says(p.read("oaken.toml"), "command = [\"true\"]")

	p.write("oaken.toml", "project = \n")
	p.fails(2, "can't be read", "--as", "Odalys", "commit", "-m", "Broken")
}

// TestTargetsCountAsTheFirstBranchHasThem lets a branch point live elsewhere.
func TestTargetsCountAsTheFirstBranchHasThem(t *testing.T) {
	p := lane(t, noGates)
	p.change("alter table tank add column depth integer", "Depths")
	p.ok("promote", "dev", "test")
	p.write("oaken.toml", strings.Replace(p.read("oaken.toml"), "sqlite:../live.db", "sqlite:../elsewhere.db", 1))
	p.ok("commit", "-m", "Elsewhere")
	p.ok("promote", "test", "live")
	if p.has("../elsewhere.db") {
		t.Error("the branch's own target was deployed to")
	}
	p.holds("live", "tank", "depth")
}

// TestAJudgeIsNotChangedByWhatItJudges has a gate that runs a script of the project.
func TestAJudgeIsNotChangedByWhatItJudges(t *testing.T) {
	p := lane(t, "\n[[pipeline.gate]]\nname = \"tests\"\ncommand = [\"true\"]\n\n[[pipeline.gate]]\nname = \"passed\"\n"+
		"command = [\"sh\", \"judge/check.sh\"]\nfiles = [\"judge\"]\n")
	p.ok("go", "main")
	p.write("judge/check.sh", "! grep -q closed signs/tank.txt\n")
	p.ok("commit", "-m", "A judge")
	p.declared()
	p.write("judge/check.sh", "true\n")
	p.write("signs/tank.txt", "closed\n")
	p.ok("commit", "-m", "Nothing to see")
	p.ok("deploy", "dev", "reef")
	p.ok("promote", "dev", "test")
	p.fails(4, "passed (exit status 1", "promote", "test", "live")
	p.write("signs/tank.txt", "The reef\n")
	p.ok("commit", "-m", "Open again")
	p.ok("promote", "dev", "test")
	p.ok("promote", "test", "live")
}

// TestLockRulesCountAsTheFirstBranchHasThem lets a branch say that a picture needs no lock.
func TestLockRulesCountAsTheFirstBranchHasThem(t *testing.T) {
	p := empty(t)
	p.write("oaken.toml", "project = \"Brindle Bay\"\n\n[[lock]]\nmatch = \"*.txt\"\npolicy = \"required\"\n")
	p.write("tank.txt", "The reef\n")
	p.ok("--as", "Imke", "begin")
	p.ok("commit", "-m", "First")
	p.ok("branch", "sly")
	p.ok("--as", "Tarek", "--yes", "go", "sly")
	p.write("oaken.toml", strings.Replace(p.read("oaken.toml"), "required", "off", 1))
	p.ok("--as", "Tarek", "commit", "-m", "No locks")
	p.ok("--as", "Tarek", "lock", "tank.txt")
	p.write("tank.txt", "The kelp\n")
	p.ok("--as", "Tarek", "commit", "-m", "With a lock")
	p.call("chmod", "u+w", "tank.txt")
	p.write("tank.txt", "The sly kelp\n")
	p.fails(4, "lock", "--as", "Tarek", "commit", "-m", "Without one")
	p.ok("--as", "Imke", "commit", "-m", "Who may change the rules tries new ones")
}
