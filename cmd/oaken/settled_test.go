package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// twoLanes gives a project in which lanes north and south come to test, each by its own
// development folder, a and b, with a gate that asks for somebody's approval. Both have changed the depth
// of one tank, north's is in test.
func twoLanes(t *testing.T) *project {
	t.Helper()
	p := &project{t: t, dir: filepath.Join(t.TempDir(), "work")}
	var b strings.Builder
	b.WriteString("project = \"Brindle Bay\"\n\n[[lock]]\nmatch = \"**\"\npolicy = \"off\"\n\n[[pipeline.gate]]\nname = \"seen\"\n" +
		"approvals = 1\n")
	for _, x := range [][2]string{{"a", "north"}, {"b", "south"}} {
		fmt.Fprintf(&b, "\n[[pipeline.lane]]\nname = %q\nbranch = %q\n\n[[environment]]\nname = %q\ntarget = \"folder:../%s\"\n"+
			"into = \"tanks\"\ntier = \"development\"\nlane = %q\n\n[[pipeline.move]]\nfrom = %q\nto = \"test\"\ngates = [\"seen\"]\n",
			x[1], x[1], x[0], x[0], x[1], x[0])
	}
	b.WriteString("\n[[environment]]\nname = \"test\"\ntarget = \"folder:../test\"\ninto = \"tanks\"\ntier = \"test\"\n" +
		"branch = \"at-test\"\n")
	p.write("oaken.toml", b.String())
	p.tank(10, 20)
	p.ok("--as", "Imke", "begin")
	p.ok("commit", "-m", "First")
	p.ok("branch", "north")
	p.ok("branch", "south")
	p.ok("go", "south")
	p.tank(12, 22)
	p.ok("commit", "-m", "South's depth", "--item", "S-1")
	p.ok("deploy", "b")
	p.ok("go", "north")
	p.tank(11, 21)
	p.ok("commit", "-m", "North's depth", "--item", "N-1")
	p.ok("deploy", "a")
	p.by("Jan", "approve", "test", "--from", "a")
	p.ok("promote", "a", "test", "--yes")
	return p
}

// tank writes the one file of the project.
func (p *project) tank(depth, heat int) {
	p.write("tanks/reef.json", fmt.Sprintf("{\"name\": \"Reef\", \"depth\": %d, \"heat\": %d, \"note\": \"calm\"}\n", depth, heat))
}

// by lets somebody else do something.
func (p *project) by(person string, args ...string) string {
	p.t.Helper()
	return p.ok(append([]string{"--as", person, "--yes"}, args...)...)
}

// TestAPromotionIsSettled settles a conflict between lanes in the promotion: nothing is in the
// shared branch before, approvals are for what came of it, and who chose is the author of that.
func TestAPromotionIsSettled(t *testing.T) {
	p := twoLanes(t)
	before := p.ok("show", "at-test")
	p.fails(3, "oaken promote b test --settle", "promote", "b", "test", "--yes")
	p.fails(2, "Nothing of it is in conflict", "promote", "a", "test", "--settle")
	p.fails(2, "No promotion into test is being settled", "conflicts", "--to", "test")
	p.says(p.ok("promote", "b", "test", "--settle"), "tanks/reef.json::.depth", "tanks/reef.json::.heat",
		"mine is what at-test has, theirs what b has")
	p.says(p.ok("pipeline", "show"), "what comes from b is being settled, by Imke")
	p.differs("conflicts", "--to", "test", "--check")
	p.ok("conflicts", "--to", "test", "--html", "clash.html")
	p.says(p.read("clash.html"), "oaken resolve tanks/reef.json::.depth --to test --from b --keep mine")
	if err := os.Remove(p.path("clash.html")); err != nil {
		t.Fatal(err)
	}
	p.fails(3, "2 conflicts are still open", "approve", "test", "--from", "b")
	p.fails(2, "can't be settled with both", "resolve", "tanks/reef.json::.depth", "--to", "test", "--keep", "both")
	p.fails(2, "No conflict is open at tanks/reef.json::.note", "resolve", "tanks/reef.json::.note", "--to", "test", "--keep", "mine")
	p.says(p.by("Odalys", "resolve", "tanks/reef.json::.depth", "--to", "test", "--keep", "theirs"), "1 conflict is still open")
	p.fails(3, "does not merge with at-test, at tanks/reef.json::.heat", "promote", "b", "test", "--yes")
	p.says(p.by("Imke", "resolve", "tanks/*", "--to", "test", "--value", "23"), "All conflicts are settled", "oaken promote b test")

	// Approvals count for just that; those who chose are among its authors.
	p.by("Odalys", "approve", "test", "--from", "b")
	p.fails(4, "nobody has approved it (Odalys did, and wrote some of it)", "promote", "b", "test", "--yes")
	p.by("Jan", "approve", "test", "--from", "b")
	p.says(p.ok("promote", "b", "test", "--dry-run"), "approved by Jan", "kept theirs", "set to 23", "11 → 12", "21 → 23")
	p.ok("resolve", "tanks/reef.json::.heat", "--to", "test", "--keep", "theirs")
	p.fails(4, "approved has become something else", "promote", "b", "test", "--yes")
	if got := p.ok("show", "at-test"); got != before {
		t.Fatalf("something entered the branch before its gates were open:\n%s", got)
	}
	p.ok("resolve", "tanks/reef.json::.heat", "--to", "test", "--value", "23")
	if rows := p.object("promote", "b", "test", "--dry-run")["settled"].([]any); len(rows) != 2 ||
		rows[0].(map[string]any)["person"] != "Odalys" {
		t.Errorf("settled: %v", rows)
	}
	p.ok("promote", "b", "test", "--yes") // it is again what Jan approved

	if got, want := p.read("../test/reef.json"), "\"depth\": 12, \"heat\": 23"; !strings.Contains(got, want) {
		t.Errorf("test holds %s, not %s", got, want)
	}
	p.ok("go", "at-test")
	p.says(p.ok("history"), "Settled in", "south:2 from b to test")
	lines := p.object("history")["commits"].([]any)
	for i, who := range []string{"Imke", "Odalys"} {
		if got := lines[i].(map[string]any)["author"]; got != who {
			t.Errorf("%d commits before the newest of at-test is %v's, not %s's", i, got, who)
		}
	}
	p.says(p.ok("show", "at-test"), "21 → 23")
	p.fails(2, "is being settled", "conflicts", "--to", "test")

	// It comes back to the lanes without being settled anew.
	p.says(p.ok("backfill", "south"), "south")
	p.ok("verify", "south", "at-test")
}

// TestChoicesHoldForWhatTheyWereMadeOf lets the lane go on after a conflict was settled: what
// became something else is asked again, the rest is not; given up, all is.
func TestChoicesHoldForWhatTheyWereMadeOf(t *testing.T) {
	p := twoLanes(t)
	p.ok("promote", "b", "test", "--settle")
	p.ok("resolve", ".", "--to", "test", "--keep", "mine")
	p.ok("go", "south")
	p.tank(14, 22)
	p.ok("commit", "-m", "Deeper")
	p.ok("deploy", "b", "--yes")
	open := p.object("conflicts", "--to", "test")["conflicts"].([]any)
	if len(open) != 1 || open[0].(map[string]any)["address"] != "tanks/reef.json::.depth" {
		t.Fatalf("open: %v", open)
	}
	p.fails(3, "does not merge with at-test", "promote", "b", "test", "--yes")
	p.ok("resolve", ".", "--to", "test", "--keep", "theirs")
	p.says(p.ok("promote", "b", "test", "--abandon"), "are forgotten")
	p.fails(2, "is not being settled", "promote", "b", "test", "--abandon")
	p.fails(3, "does not merge with at-test", "promote", "b", "test", "--yes")

	// One item of it is settled by itself.
	p.says(p.ok("promote", "b", "test", "--settle", "--item", "S-1"), "12")
	p.ok("resolve", ".", "--to", "test", "--keep", "theirs")
	p.by("Jan", "approve", "test", "--from", "b")
	p.ok("promote", "b", "test", "--item", "S-1", "--yes")
	p.says(p.read("../test/reef.json"), "\"depth\": 12", "\"heat\": 22")
	p.says(p.ok("show", "at-test"), "Imke settled tanks/reef.json::.depth: theirs")
}

// TestNoLaneCarriesWorkPastItsGates takes south's work in north and brings it along, and finds
// it in the branch of test, where somebody merged it.
func TestNoLaneCarriesWorkPastItsGates(t *testing.T) {
	p := twoLanes(t)
	rules := p.read("oaken.toml")
	p.ok("go", "main")
	p.write("oaken.toml", strings.Replace(rules, "from = \"b\"\nto = \"test\"\ngates = [\"seen\"]",
		"from = \"b\"\nto = \"test\"\ngates = [\"seen\", \"tried\"]\n\n[[pipeline.gate]]\nname = \"tried\"\napprovals = 1\n"+
			"by = [\"Odalys\"]", 1))
	p.ok("commit", "-m", "South's work is tried")
	p.ok("go", "south")
	p.write("tanks/kelp.json", "{\"name\": \"Kelp\"}\n")
	p.ok("commit", "-m", "Kelp", "--item", "S-2")
	p.ok("go", "north")
	p.write("tanks/deep.json", "{\"name\": \"Deep\"}\n")
	p.ok("commit", "-m", "Deep", "--item", "N-2")
	p.run("merge", "south")
	p.ok("resolve", ".", "--keep", "mine")
	p.ok("commit", "-m", "South's kelp is here too")
	p.ok("deploy", "a", "--yes")
	p.by("Jan", "approve", "test", "--from", "a")
	p.fails(4, "gate lane (it would carry work of south past its gate tried", "promote", "a", "test", "--yes")
	p.by("Jan", "approve", "test", "--from", "a")
	p.ok("promote", "a", "test", "--item", "N-2", "--yes") // what is north's own goes

	p.ok("go", "at-test") // somebody merges south by hand
	p.run("merge", "south")
	p.ok("resolve", ".", "--keep", "mine")
	p.ok("commit", "-m", "By hand")
	p.ok("go", "north")
	p.write("tanks/deep.json", "{\"name\": \"Deep\", \"depth\": 30}\n")
	p.ok("commit", "-m", "Deeper", "--item", "N-3")
	p.ok("deploy", "a", "--yes")
	p.by("Jan", "approve", "test", "--from", "a")
	p.fails(4, "past its gate tried", "promote", "a", "test", "--item", "N-3", "--yes")

	// South brings it by its own way, and north goes on.
	p.ok("go", "south")
	p.ok("deploy", "b", "--yes")
	for _, who := range []string{"Jan", "Odalys"} {
		p.by(who, "approve", "test", "--from", "b")
	}
	p.ok("promote", "b", "test", "--yes")
	p.says(p.read("../test/kelp.json"), "Kelp")
	p.ok("promote", "a", "test", "--yes")
	p.says(p.read("../test/deep.json"), "30")
}

// TestABackfillIsNotPromisedWhereItWillNotGo has work merged, and an environment that is frozen.
func TestABackfillIsNotPromisedWhereItWillNotGo(t *testing.T) {
	p := twoLanes(t)
	p.says(p.ok("owed", "--lane", "south"), "To bring back: oaken backfill south")
	p.ok("go", "main")
	p.write("oaken.toml", p.read("oaken.toml")+
		"\n[[pipeline.freeze]]\nenvironments = [\"b\"]\nfrom = \"2020-01-01\"\nwhy = \"inventory\"\n")
	if r := p.run("commit", "-m", "b is frozen"); r.status != 0 {
		t.Fatalf("%s%s", r.out, r.err)
	}
	p.ok("go", "south")
	p.run("merge", "north")
	p.ok("resolve", ".", "--keep", "theirs")
	p.ok("commit", "-m", "North's depth here")
	out := p.ok("owed", "--lane", "south")
	p.says(out, "merged, to be deployed to b", "It waits for b (it is frozen")
	if strings.Contains(out, "oaken backfill") {
		t.Errorf("a promise:\n%s", out)
	}
}
