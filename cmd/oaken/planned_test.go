package main

import (
	"strings"
	"sync"
	"testing"
	"time"
)

func TestAPlannedPromotionIsJustWhatIsThere(t *testing.T) {
	p := lane(t, noGates)
	p.change("alter table tank add column keeper text", "Keepers")
	plan := p.object("promote", "dev", "--at", "2099-01-01 22:00")
	if !strings.HasPrefix(plan["time"].(string), "2099-01-01T22:00") || !strings.HasSuffix(plan["command"].(string), "promote --due") {
		t.Errorf("at: %v", plan)
	}
	p.fails(2, "is over", "promote", "dev", "--at", "2020-01-01")
	p.fails(2, "is no time", "promote", "dev", "--at", "soon")
	p.says(p.ok("promote", "--planned"), "2099-01-01 22:00", "dev → test", "reef:", "Imke", "to come")
	p.says(p.ok("pipeline", "show"), "Planned", "dev → test", "planned by Imke")
	p.says(p.ok("promote", "--due"), "Nothing is due")
	p.says(p.ok("promote", "--cancel", "1"), "1 is called off")
	p.fails(2, "There is no promotion 1 that is to come", "promote", "--cancel", "1")
	p.says(p.ok("promote", "--planned"), "called off by Imke")

	p.ok("promote", "dev", "test", "--at", "1s")
	p.change("alter table tank add column depth real", "Depths") // what was planned is there no more
	time.Sleep(1100 * time.Millisecond)
	r := p.run("promote", "--due")
	if r.status != 4 || !strings.Contains(r.err, "and not what was to be promoted") {
		t.Errorf("what was planned is not what is there: %d %s%s", r.status, r.out, r.err)
	}
	p.ok("promote", "dev", "test", "--at", "1s")
	time.Sleep(1100 * time.Millisecond)
	out := p.object("--as", "Nightly", "promote", "--due")
	list := out["planned"].([]any)
	if len(list) != 1 || list[0].(map[string]any)["outcome"] != "done" {
		t.Errorf("due: %v", out)
	}
	p.ok("verify", "env:dev", "env:test")
	p.says(p.ok("deployments", "test", "--limit", "1"), "Imke")
	p.says(p.ok("promote", "--due"), "Nothing is due")
	p.fails(4, "test has everything that dev has", "promote", "dev", "test", "--at", "2099-01-01")
}

// TestWhatCantGoIsNotPlanned plans past gates that are shut now, and past those that are shut then.
func TestWhatCantGoIsNotPlanned(t *testing.T) {
	p := lane(t, noGates+"\n[[pipeline.freeze]]\nenvironments = [\"live\"]\nfrom = \"2099-12-18\"\nwhy = \"the jubilee\"\n"+
		"\n[[pipeline.freeze]]\nenvironments = [\"test\"]\nfrom = \"2020-01-01\"\nuntil = \"2098-01-01\"\nwhy = \"moving\"\n")
	p.change("alter table tank add column keeper text", "Keepers")
	p.fails(4, "frozen", "promote", "dev")
	p.fails(4, "frozen", "promote", "dev", "--at", "3d")
	p.ok("promote", "dev", "--at", "2099-02-01") // it is open then
	p.fails(4, "frozen until", "promote", "dev", "--at", "2097-02-01")
	p.says(p.ok("promote", "--planned"), "2099-02-01")
}

func TestWorkMovesOnWhileGatesAreOpen(t *testing.T) {
	p := lane(t, "\n[team.roles]\nleads = [\"Ravi\"]\n[[pipeline.gate]]\nname = \"tests\"\ncommand = [\"true\"]\n"+
		"\n[[pipeline.gate]]\nname = \"passed\"\napprovals = 1\nby = [\"leads\"]\n")
	p.change("alter table tank add column keeper text", "Keepers", "--item", "AQ-7")
	show := p.ok("pipeline", "show")
	p.says(show, "What waits to move", "dev → test", "open; to be run: tests", "you can: oaken promote dev test")
	if r := p.run("promote", "dev", "--as-far-as", "live"); r.status != 4 || !strings.Contains(r.out, "It went as far as test.") ||
		!strings.Contains(r.err, "nobody has approved it") {
		t.Errorf("as far as live: %d %s%s", r.status, r.out, r.err)
	}
	p.ok("verify", "env:dev", "env:test")
	p.says(p.ok("pipeline", "show"), "test → live", "shut: passed")
	p.says(p.ok("--as", "Ravi", "pipeline", "show"), "you can: oaken approve live")
	if r := p.run("promote", "test", "live", "--check"); r.status != 1 || !strings.Contains(r.out, "passed") {
		t.Errorf("check: %d %s%s", r.status, r.out, r.err)
	}
	refused := p.run("promote", "test", "live", "--json")
	p.says(refused.out, `"error": {`, `"code": "refused"`, `"verdict": "shut"`, "alter table tank add column keeper text")
	if refused.status != 4 || refused.err != "" {
		t.Errorf("refused: %d %s", refused.status, refused.err)
	}
	p.says(p.ok("promote", "--ready"), "These wait", "test → live", "shut: passed")
	p.says(p.ok("--as", "Ravi", "approve", "live"), "Keepers", "AQ-7", "approved by Ravi")
	p.says(p.ok("--as", "Ravi", "pipeline", "show"), "you can: oaken promote test live")
	out := p.object("promote", "--ready")
	if list := out["promotions"].([]any); len(list) != 1 || list[0].(map[string]any)["done"] != true {
		t.Errorf("ready: %v", out)
	}
	p.ok("verify", "env:test", "env:live")
	p.change("alter table tank add column depth real", "Depths")
	p.ok("promote", "dev", "test")
	for _, none := range [][]string{{"--dry-run"}, {"--check"}, {"--plan", "../x.json"}, {"--script", "../x.sql"}, {"--at", "2099-01-01"}} {
		p.fails(2, "exclude each other", append([]string{"--as", "Ravi", "promote", "test", "live", "--approve"}, none...)...)
	}
	p.ok("--as", "Ravi", "promote", "test", "live", "--approve", "-m", "Seen")
	p.ok("verify", "env:test", "env:live")
	if r := p.run("promote", "test", "live", "--check"); r.status != 0 {
		t.Errorf("check of nothing: %d %s%s", r.status, r.out, r.err)
	}
	for _, c := range [][]string{{"promote"}, {"promote", "dev", "--ready"}, {"promote", "dev", "test", "--as-far-as", "live"},
		{"promote", "--ready", "--due"}, {"promote", "--ready", "--item", "AQ-7"}} {
		if r := p.run(c...); r.status != 2 {
			t.Errorf("%v: status %d", c, r.status)
		}
	}
	p.fails(4, "No moves lead from live to dev", "promote", "live", "--as-far-as", "dev")
}

func TestASignalOpensItsGateForJustThisWork(t *testing.T) {
	p := lane(t, "\n[team.roles]\nmachines = [\"Nightly\"]\n[[pipeline.gate]]\nname = \"tests\"\ncommand = [\"true\"]\n"+
		"\n[[pipeline.gate]]\nname = \"passed\"\nneeds = \"signal\"\nby = [\"machines\"]\n")
	p.change("alter table tank add column keeper text", "Keepers")
	p.ok("promote", "dev", "test")
	p.fails(4, "no signal for this work", "promote", "test", "live")
	p.fails(4, "machines gives the signal", "approve", "live", "--signal", "passed")
	p.fails(2, "has no gate tests that waits for a signal", "--as", "Nightly", "approve", "live", "--signal", "tests")
	p.ok("--as", "Nightly", "approve", "live") // an approval is no signal
	p.fails(4, "no signal for this work", "promote", "test", "live")
	p.says(p.ok("--as", "Nightly", "approve", "live", "--signal", "passed", "-m", "run 812 is green"), "You signalled passed",
		"run 812 is green")
	p.ok("--as", "Nightly", "approve", "live", "--signal", "passed", "--withdraw")
	p.fails(4, "no signal for this work", "promote", "test", "live")
	p.ok("--as", "Nightly", "approve", "live", "--signal", "passed")
	p.change("alter table tank add column depth real", "Depths")
	p.ok("promote", "dev", "test")
	p.fails(4, "no signal for this work", "promote", "test", "live")
	p.ok("--as", "Nightly", "approve", "live", "--signal", "passed")
	p.ok("promote", "test", "live")
}

func TestWindows(t *testing.T) {
	day := func(d time.Duration) string { return time.Now().UTC().Add(d).Weekday().String() }
	p := lane(t, noGates+"\n[[pipeline.window]]\nenvironments = [\"live\"]\ndays = [\""+day(48*time.Hour)+
		"\"]\nfrom = \"20:00\"\nuntil = \"22:00\"\n"+
		"\n[[pipeline.window]]\nenvironments = [\"test\"]\n days = [\""+day(0)+"\", \""+day(24*time.Hour)+"\"]\n")
	p.change("alter table tank add column keeper text", "Keepers")
	p.ok("promote", "dev", "test")
	p.fails(4, "takes no work at this time", "promote", "test", "live")
	r := p.run("promote", "test", "live")
	p.says(r.err, "opens on "+day(48*time.Hour))
	when := time.Now().UTC().Add(48 * time.Hour).Format("2006-01-02")
	p.ok("promote", "test", "live", "--at", when+" 21:00")
	p.fails(4, "takes no work at this time", "promote", "test", "live", "--at", when+" 22:00")
	p.says(p.ok("pipeline", "show"), "shut: window")
}

// TestWhatIsDueIsCarriedOutOnce has many schedulers at once.
func TestWhatIsDueIsCarriedOutOnce(t *testing.T) {
	p := lane(t, noGates)
	p.change("alter table tank add column keeper text", "Keepers")
	p.ok("promote", "dev", "test", "--at", "1s")
	time.Sleep(1100 * time.Millisecond)
	var wait sync.WaitGroup
	results := make([]result, 5)
	for i := range results {
		wait.Go(func() { results[i] = p.run("promote", "--due") })
	}
	wait.Wait()
	done := 0
	for _, r := range results {
		if strings.Contains(r.out, "done") {
			done++
		}
		if r.status != 0 && (r.status != 4 || !strings.Contains(r.err, "is carrying out what is planned")) {
			t.Errorf("one of many: %d %s%s", r.status, r.out, r.err)
		}
	}
	if done != 1 {
		t.Errorf("%d of them carried it out", done)
	}
	p.says(p.ok("promote", "--planned"), "done")
	if n := strings.Count(p.ok("deployments", "test", "--limit", "0"), "promoted from dev"); n != 1 {
		t.Errorf("it was promoted %d times", n)
	}
}
