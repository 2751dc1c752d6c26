package main

import (
	"encoding/json"
	"os"
	"strings"
	"testing"
)

// plan reads the file of a plan as anything.
func (p *project) plan(name string) map[string]any {
	p.t.Helper()
	var out map[string]any
	if err := json.Unmarshal([]byte(p.read(name)), &out); err != nil {
		p.t.Fatal(err)
	}
	return out
}

// forged writes a plan anew with something in it otherwise.
func (p *project) forged(name, as, old, new string) {
	p.t.Helper()
	text := p.read(name)
	if !strings.Contains(text, old) {
		p.t.Fatalf("%s is not in %s", old, text)
	}
	p.write(as, strings.Replace(text, old, new, 1))
}

func TestAPlanThatIsSignedRunsJustSo(t *testing.T) {
	p := lane(t, noGates)
	p.change("alter table tank add column keeper text", "Keepers", "--item", "AQ-7")
	p.ok("merge", "main")
	p.says(p.ok("promote", "dev", "test", "--plan", "../plan.json"), "The plan is in ../plan.json: 1 step", "test was not changed")
	f := p.plan("../plan.json")
	if f["environment"] != "test" || f["from"] != "dev" ||
		!strings.Contains(p.read("../plan.json"), "alter table tank add column keeper text") ||
		!strings.Contains(p.read("../plan.json"), `"item": "AQ-7"`) {
		t.Errorf("the plan is %v", f)
	}
	p.fails(4, "Nobody has approved this plan", "promote", "dev", "test", "--follow", "../plan.json")
	p.ok("--as", "Ravi", "approve", "test", "--plan", "../plan.json", "-m", "Read it")
	for _, forgery := range [][2]string{
		{"alter table tank add column keeper text", "drop table tank"}, {`"effect": "`, `"effect": "x`}, {`"by": "`, `"by": "x`},
		{`"becomes": "`, `"becomes": "0`}, {`"was": "`, `"was": "0`}, {`"AQ-7"`, `"AQ-8"`},
	} {
		p.forged("../plan.json", "../forged.json", forgery[0], forgery[1])
		p.fails(4, "Nobody has approved this plan", "promote", "dev", "test", "--follow", "../forged.json")
	}
	// a layout is nothing that a plan says
	var any map[string]any
	data, _ := json.Marshal(json.RawMessage(p.read("../plan.json")))
	if err := json.Unmarshal(data, &any); err != nil {
		t.Fatal(err)
	}
	p.write("../flat.json", string(data))
	p.fails(2, "another kind of move", "deploy", "test", "--follow", "../plan.json")
	p.fails(4, "one for test", "promote", "test", "live", "--follow", "../plan.json")
	p.ok("promote", "dev", "test", "--follow", "../flat.json")
	p.ok("verify", "env:dev", "env:test")
	p.says(p.ok("deployments", "show", p.newest()), "followed plan", "approved by Ravi")
	p.fails(4, "was deployed to since the plan was made", "promote", "dev", "test", "--follow", "../plan.json")
}

// TestASignedPlanIsRefusedWhenSomethingMoved tries to have a plan carried out that is one for something else by now.
func TestASignedPlanIsRefusedWhenSomethingMoved(t *testing.T) {
	for _, c := range []struct {
		name, want string
		move       func(p *project)
	}{
		{"the target", "has changed since the plan was made", func(p *project) { p.sql("../test.db", "create table extra (id integer)") }},
		{"its rows that are tracked", "has changed since the plan was made", func(p *project) {
			p.sql("../test.db", "insert into food values (9, 'shrimp')")
		}},
		{"a file of the second target", "has changed since the plan was made",
			func(p *project) { p.write("../test-signs/tank.txt", "By hand\n") }},
		{"what it comes from", "and the plan brings", func(p *project) {
			p.change("alter table tank add column depth real", "Depths")
		}},
		{"what is known of it", "was deployed to since", func(p *project) {
			p.ok("promote", "dev", "test")
			p.ok("rollback", "test", "--yes")
			p.ok("deploy", "test", "reef:5", "--reason", "x")
		}},
		{"an approval", "Nobody has approved", func(p *project) {
			p.ok("--as", "Ravi", "approve", "test", "--plan", "../plan.json", "--withdraw")
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := lane(t, "\n[pipeline]\nmay-override = [\"Imke\"]\n"+noGates)
			p.sql("../dev.db", "create table food (id integer primary key, name text); insert into food values (1, 'krill')")
			p.ok("capture", "dev", "--commit", "-m", "Food")
			p.ok("rows", "track", "food", "--from", "dev")
			p.ok("commit", "-m", "Rows of food")
			p.ok("promote", "dev", "test")
			p.change("alter table tank add column keeper text", "Keepers")
			p.ok("promote", "dev", "test", "--plan", "../plan.json")
			p.ok("--as", "Ravi", "approve", "test", "--plan", "../plan.json")
			c.move(p)
			p.fails(4, c.want, "promote", "dev", "test", "--follow", "../plan.json")
		})
	}
}

func TestADeploymentFollowsAPlanWithConsent(t *testing.T) {
	p := world(t)
	p.ok("deploy", "test")
	p.sql("test.db", "insert into tank (name, litres) values ('Reef', 42000); insert into feeding (tank_id, fed_at, food) values (1, "+
		"'2026', 'krill')")
	p.sql("dev.db", "drop view if exists hungry_tank; drop table feeding")
	p.ok("capture", "dev", "--commit", "-m", "No feedings")
	p.says(p.ok("deploy", "test", "--plan", "careless.json"), "In the way:", "would lose data")
	p.ok("approve", "test", "--plan", "careless.json")
	p.fails(4, "would lose data", "deploy", "test", "--follow", "careless.json")
	p.fails(2, "exclude each other", "deploy", "test", "--follow", "careless.json", "--allow-loss")
	p.ok("deploy", "test", "--allow-loss", "--plan", "plan.json")
	out := p.object("approve", "test", "--plan", "plan.json")
	if out["plan"] == nil || len(out["plan"].(map[string]any)["approved"].([]any)) != 1 {
		t.Errorf("approved: %v", out)
	}
	p.says(p.ok("--yes", "deploy", "test", "--follow", "plan.json"), "agree")
	for name, text := range map[string]string{"empty.json": "", "other.json": `{"format": "x"}`, "more.json": p.read("plan.json") + "{}",
		"unknown.json": strings.Replace(p.read("plan.json"), `"made"`, `"x": 1, "made"`, 1)} {
		p.write(name, text)
		p.fails(2, "That is no plan", "deploy", "test", "--follow", name)
		p.fails(2, "That is no plan", "approve", "test", "--plan", name)
	}
	p.fails(2, "There is no file", "deploy", "test", "--follow", "none.json")
	p.fails(2, "The plan says what is deployed", "deploy", "test", "main", "--follow", "plan.json")
	if err := os.WriteFile(p.path("secret.json"), []byte(p.read("plan.json")), 0o600); err != nil {
		t.Fatal(err)
	}
}

// TestOnePersonIsOne approves a plan and the work in it, which are not the approvals of two.
func TestOnePersonIsOne(t *testing.T) {
	p := lane(t, strings.Replace(noGates, "command = [\"true\"]", "approvals = 2", 1))
	p.change("alter table tank add column keeper text", "Keepers")
	p.ok("promote", "dev", "test", "--plan", "../plan.json")
	p.ok("--as", "Ravi", "approve", "test", "--plan", "../plan.json")
	p.ok("--as", "Ravi", "approve", "test")
	p.fails(4, "approved by Ravi, which is not enough", "promote", "dev", "test", "--follow", "../plan.json")
	p.ok("--as", "Nadia", "approve", "test")
	p.ok("promote", "dev", "test", "--follow", "../plan.json")
}
