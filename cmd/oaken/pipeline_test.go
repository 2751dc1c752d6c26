package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/xuri/excelize/v2"

	"oakenchest/sample"
)

// month plays the month of the sample world, and gives Ravi's workspace at its end.
func month(t *testing.T, args ...string) (p *project, told string) {
	t.Helper()
	p = empty(t)
	told = p.ok(append([]string{"demo", "--pipeline"}, args...)...)
	return &project{t: t, dir: p.path("brindle-bay-month")}, told
}

func TestAMonthInThePipeline(t *testing.T) {
	p, told := month(t)
	p.says(told, "in conflict: database::view:hungry_tank.definition", "received and arrival: mean much the same",
		"gate notes (exit status 2", "rehearsal is booked for Exhibit by Tarek until 2026-06-11 23:59",
		"AQ-77  Feedings know whether a robot gave them       Maren   in live, owed",
		"gate owed (Exhibit has owed hotfix:4 of live for more than 5d", "taken back by Sefa", "live is frozen until 2026-06-30",
		"Yes: every environment holds that.", "acceptance is a copy of live now", "Masked: feeding.food",
		"no loose ends did not pass in test", "The deployment was taken back", "You approved the plan",
		"Release july is live with all its items")
	page := p.read("../brindle-bay-month-stages/board.html")
	p.says(page, "<svg", "Brindle Bay: the pipeline", "AQ-31", "husbandry:4", "id=\"stage-rehearsal\"")
	if strings.Contains(page, "http://") && strings.Count(page, "http://") != strings.Count(page, "http://www.w3.org/2000/svg") ||
		strings.Contains(page, "https://") {
		t.Error("the board loads something from elsewhere")
	}
	p.says(p.read("../brindle-bay-month-stages/june.html"), "What went to live from 1 June 2026 to 30 June 2026", "AQ-77",
		"alter table feeding add column robot")
	book, err := excelize.OpenReader(strings.NewReader(p.read("../brindle-bay-month-stages/june.xlsx")))
	if err != nil {
		t.Fatal(err)
	}
	rows, err := book.GetRows("Deployments")
	if err != nil || len(rows) != 5 || rows[1][4] != "withdraw" || rows[2][1] != "2026-06-15 18:55" || rows[2][3] != "live:4" ||
		rows[2][8] != "AQ-77" || rows[3][4] != "promote" {
		t.Errorf("the sheet: %v, %v", rows, err)
	}
	if got := book.GetSheetList(); !slices.Equal(got, []string{"Deployments", "Items", "Changes"}) {
		t.Errorf("sheets: %v", got)
	}
	p.says(p.ok("health"), "The chest is whole")
	p.fails(4, "is not empty", "--in", "..", "demo", "--pipeline")
	p.fails(2, "--on goes with --pipeline", "--in", "..", "demo", "other", "--on", "postgres://x")

	// The owed work is in the form that scripts rely on.
	o := p.object("owed")
	row := o["owed"].([]any)[0].(map[string]any)
	commit := row["commits"].([]any)[0].(map[string]any)
	if len(o["owed"].([]any)) != 3 || row["lane"] != "Husbandry" || row["environment"] != "odalys" || commit["state"] != "exhibit:8" ||
		commit["item"] != "AQ-31" || commit["in"] != "live" || commit["merged"] != false {
		t.Errorf("owed: %v", o)
	}
	if r := p.run("owed", "--check"); r.status != 1 {
		t.Errorf("owed --check: %d", r.status)
	}
	if r := p.run("owed", "--check", "--lane", "Exhibit"); r.status != 0 || !strings.Contains(r.out, "Nothing is owed") {
		t.Errorf("owed of Exhibit: %d %s", r.status, r.out)
	}
	p.says(p.ok("owed", "--lane", "Exhibit"), "Nothing is owed to Exhibit; 4 other pieces of work are.")
	p.says(p.ok("owed", "--item", "AQ-99", "--older", "2d"), "Nothing is owed for AQ-99, for longer than 2d; 4 other pieces of work are.")
	if o := p.object("owed", "--lane", "Exhibit"); o["besides"].(float64) != 4 || len(o["empty"].([]any)) != 0 {
		t.Errorf("owed of Exhibit: %v", o)
	}
	p.says(p.ok("owed", "--by", "item"), "AQ-31")
	p.says(p.ok("owed", "--by", "age", "--item", "AQ-31", "--older", "1d"), "not in odalys, maren")
	p.fails(2, "--by takes one of lane, age, item", "owed", "--by", "weight")
	if r := p.run("verify", "--pipeline", "--each"); r.status != 1 || strings.Count(r.out, "env:") < 90 {
		t.Errorf("each with each: %d %s", r.status, r.out)
	}
	p.ok("--as", "Odalys", "backfill", "--all")
	p.says(p.ok("owed"), "Nothing is owed")
}

// TestAMonthOnAServer plays it with databases on PostgreSQL.
func TestAMonthOnAServer(t *testing.T) {
	server := os.Getenv("OAKEN_POSTGRES")
	if server == "" {
		t.Skip("set OAKEN_POSTGRES to the URL of a PostgreSQL server to run this")
	}
	base := server[:strings.LastIndexByte(server, '/')]
	name := fmt.Sprintf("oaken-month-%d", rand.Uint32())
	conn, err := pgx.Connect(context.Background(), server)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	defer func() {
		for _, e := range sample.Stages() {
			if _, err := conn.Exec(context.Background(), "drop database if exists "+strings.ReplaceAll(name, "-", "_")+"_"+e); err != nil {
				t.Error(err)
			}
		}
	}()
	p := empty(t)
	told := p.ok("demo", "--pipeline", name, "--on", base)
	p.says(told, "in conflict: database::schema:public/view:hungry_tank.definition", "arrival: mean much the same", "gate notes",
		"is booked for Exhibit", "taken back by Sefa", "Yes: every environment holds that.")
	in := &project{t: t, dir: p.path(name)}
	if r := in.run("verify", "--pipeline", "release:june"); r.status != 1 || !strings.Contains(r.out, "No: ") {
		t.Errorf("verify against the release: %d %s", r.status, r.out)
	}
}

// lane gives a small pipeline: dev → test → live, of a database and a folder, on branches
// main, main and live; rest is put at the end of its oaken.toml.
func lane(t *testing.T, rest string) *project {
	t.Helper()
	p := &project{t: t, dir: filepath.Join(t.TempDir(), "work")}
	p.write("oaken.toml", `project = "Brindle Bay"

[[artifact]]
path = "database"
kind = "schema"

[[lock]]
match = "**"
policy = "off"

[[environment]]
name = "dev"
target = "sqlite:../dev.db"
into = "database"
tier = "development"
lane = "Reef"

[[environment]]
name = "test"
target = "sqlite:../test.db"
into = "database"
tier = "test"
branch = "test"
gates = ["tests"]

[[environment.also]]
target = "folder:../test-signs"
into = "signs"

[[environment]]
name = "live"
target = "sqlite:../live.db"
into = "database"
tier = "live"
branch = "live"

[[environment.also]]
target = "folder:../live-signs"
into = "signs"

[[pipeline.lane]]
name = "Reef"
branch = "reef"
developers = ["Imke"]

[[pipeline.move]]
from = "dev"
to = "test"

[[pipeline.move]]
from = "test"
to = "live"
gates = ["passed"]
`+rest)
	p.write("signs/tank.txt", "The reef\n")
	p.sql("../dev.db", sample.Schema+" insert into tank (name, litres) values ('Reef', 42000);")
	p.ok("--as", "Imke", "begin")
	p.ok("commit", "-m", "Signs")
	p.ok("capture", "dev", "--commit", "-m", "Tanks")
	p.ok("branch", "reef")
	p.ok("go", "reef")
	for _, e := range []string{"test", "live"} {
		p.ok("deploy", e, "reef")
	}
	return p
}

// declared brings what oaken.toml says to where it counts.
func (p *project) declared() {
	p.t.Helper()
	p.ok("go", "main")
	p.ok("merge", "reef")
	p.ok("go", "reef")
}

const noGates = "\n[[pipeline.gate]]\nname = \"tests\"\ncommand = [\"true\"]\n\n[[pipeline.gate]]\nname = \"passed\"\n" +
	"command = [\"true\"]\n"

// change changes the development database, and commits that.
func (p *project) change(sql, message string, more ...string) {
	p.t.Helper()
	p.sql("../dev.db", sql)
	p.ok(append([]string{"capture", "dev", "--commit", "-m", message}, more...)...)
}

func TestEachGateShutsAndOpens(t *testing.T) {
	for _, c := range []struct {
		name, toml string
		shut       string // part of what the promotion to live says
		open       func(p *project)
	}{
		{"a command", "[[pipeline.gate]]\nname = \"passed\"\ncommand = [\"grep\", \"-q\", \"open\", \"signs/tank.txt\"]\n",
			"passed (exit status 1", func(p *project) {
				p.write("signs/tank.txt", "The reef is open\n")
				p.ok("commit", "-m", "open")
				p.ok("promote", "dev")
			}},
		{"a command that hangs", "[[pipeline.gate]]\nname = \"passed\"\ncommand = [\"sleep\", \"30\"]\nwithin = \"200ms\"\n",
			"passed (it took longer than 200ms", nil},
		{"an approval", "[team.roles]\nleads = [\"Ravi\", \"Imke\"]\n[[pipeline.gate]]\nname = \"passed\"\napprovals = 1\n" +
			"by = [\"leads\"]\n", "nobody has approved it", func(p *project) {
			p.says(p.ok("approve", "live"), "Imke did, and wrote some of it")
			p.says(p.ok("--as", "Tarek", "approve", "live"), "shut")
			p.fails(4, "may not override gates", "promote", "test", "live", "--override", "passed", "--reason", "x")
			p.says(p.ok("--as", "Ravi", "approve", "live"), "approved by Ravi")
			p.says(p.ok("--as", "Ravi", "approve", "live", "--withdraw"), "taken back", "shut")
			p.ok("--as", "Ravi", "approve", "live")
		}},
		{"a rest", "[[pipeline.gate]]\nname = \"passed\"\nrest = \"1d\"\n", "in test for less than a minute", nil},
		{"reviews", "[[pipeline.gate]]\nname = \"passed\"\nneeds = \"reviews\"\n", "came through no review", nil},
		{"a booking", "[[pipeline.gate]]\nname = \"passed\"\nneeds = \"booking\"\n", "live is not booked for this lane",
			func(p *project) { p.ok("book", "live", "--lane", "Reef", "--for", "2h") }},
		{"a freeze", "[[pipeline.gate]]\nname = \"passed\"\ncommand = [\"true\"]\n[[pipeline.freeze]]\nenvironments = [\"live\"]\n" +
			"from = \"2020-01-01\"\nwhy = \"holidays\"\n", "freeze (live is frozen: holidays)", nil},
		{"a control", "[[pipeline.gate]]\nname = \"passed\"\ncommand = [\"true\"]\n", "", nil},
		{"a gate that is not there", "", "there is no gate of that name", nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := lane(t, "\n[pipeline]\nmay-override = [\"Odalys\"]\n[[pipeline.gate]]\nname = \"tests\"\ncommand = [\"true\"]\n"+c.toml)
			p.change("alter table tank add column keeper text", "Keepers")
			p.ok("promote", "dev")
			if c.shut == "" {
				p.ok("promote", "test", "live")
				return
			}
			r := p.run("promote", "test", "live")
			if r.status != 4 || !strings.Contains(r.err, c.shut) {
				t.Fatalf("promote: %d %s%s", r.status, r.out, r.err)
			}
			if r := p.run("compare", "--check", "env:live", "main"); r.status != 0 {
				t.Errorf("the refused promotion changed something: %s", r.out)
			}
			if c.open != nil {
				c.open(p)
				p.ok("promote", "test", "live")
				return
			}
			gate := "passed"
			if c.name == "a freeze" {
				gate = "freeze"
			}
			p.fails(2, "An override needs a reason", "--as", "Odalys", "promote", "test", "live", "--override", gate)
			p.fails(2, "has no gate nothing", "--as", "Odalys", "promote", "test", "live", "--override", "nothing", "--reason", "x")
			p.ok("--as", "Odalys", "promote", "test", "live", "--override", gate, "--reason", "it can't wait")
			p.says(p.ok("deployments", "live"), "overridden: ", "it can't wait")
			p.says(p.ok("deployments", "show", p.newest()), gate, "overridden", "alter table tank add column keeper text")
		})
	}
}

// TestReviewedWorkPasses lets all work come through a review.
func TestReviewedWorkPasses(t *testing.T) {
	p := lane(t, "\n[[pipeline.gate]]\nname = \"tests\"\nneeds = \"reviews\"\n")
	p.ok("branch", "crabs")
	p.ok("go", "crabs")
	p.change("create table crab (id integer primary key)", "Crabs", "--onto", "crabs")
	p.ok("review", "open", "--into", "reef", "--title", "Crabs")
	p.ok("go", "reef")
	p.ok("--as", "Tarek", "review", "merge", "1")
	p.ok("sync")
	p.ok("deploy", "dev", "reef")
	p.says(p.ok("promote", "dev", "--dry-run"), "all work came through reviews")
	p.write("signs/tank.txt", "In a hurry\n")
	p.ok("commit", "-m", "In a hurry")
	p.fails(4, "reef:4 came through no review", "promote", "dev")
}

// newest gives the number of the newest deployment.
func (p *project) newest() string {
	list := p.object("deployments")["deployments"].([]any)
	return fmt.Sprint(list[0].(map[string]any)["number"])
}

func TestAWorkItemMovesWithWhatItNeeds(t *testing.T) {
	p := lane(t, noGates)
	p.change("create table moult (id integer primary key, specimen_id integer, seen_on text)", "Moults are noted", "--item", "AQ-1")
	p.change("create table guide (id integer primary key, name text)", "Guides", "--item", "AQ-2")
	p.change("create view moults_lately as select specimen_id, seen_on from moult where seen_on > '2026'", "Moults of this year",
		"--item", "AQ-3")
	p.write("signs/tank.txt", "The reef, with crabs that moult\n")
	p.ok("commit", "-m", "A sign", "--item", "AQ-3")
	r := p.run("promote", "dev", "test", "--item", "AQ-3")
	if r.status != 4 || !strings.Contains(r.out, "It depends on work that was not chosen") ||
		!strings.Contains(r.out, "AQ-1  Moults are noted") || strings.Contains(r.out, "Guides") ||
		!strings.Contains(r.err, "reef:5 uses database::table:moult, which reef:3 brings") {
		t.Errorf("an item with a need: %d %s%s", r.status, r.out, r.err)
	}
	dry := p.object("promote", "dev", "test", "--item", "AQ-3", "--dry-run")
	if need := dry["needs"].([]any)[0].(map[string]any); need["how"] != "uses" || need["for"] != "reef:5" || dry["done"] != false {
		t.Errorf("needs: %v", dry["needs"])
	}
	p.fails(4, "has no such work", "promote", "dev", "test", "--item", "AQ-9")
	p.says(p.ok("promote", "dev", "test", "--item", "AQ-3", "--with-needed"), "Taken along", "test:")
	if out := p.ok("compare", "env:test", "reef", "database"); !strings.Contains(out, "table:guide  added") ||
		strings.Contains(out, "moult") {
		t.Errorf("after the item: %s", out)
	}
	if got := p.read("../test-signs/tank.txt"); !strings.Contains(got, "moult") {
		t.Errorf("the sign: %q", got)
	}
	// What was picked counts as arrived, and the rest moves alone.
	out := p.ok("promote", "dev", "test")
	if !strings.Contains(out, "Moves: 1 commit") || !strings.Contains(out, "Guides") {
		t.Errorf("the rest: %s", out)
	}
	p.says(p.ok("promote", "dev", "test"), "test has everything that dev has")
	p.says(p.ok("owed"), "Nothing is owed")
	p.says(p.ok("authors", "signs/tank.txt"), "Imke")
	p.ok("verify", "env:test", "reef")
	p.says(p.ok("--as", "Imke", "promote", "dev", "test", "--path", "signs", "--dry-run"), "nothing")
}

// TestAStageChangesWholeOrNotAtAll lets the second target of a stage fail, and later the
// process die.
func TestAStageChangesWholeOrNotAtAll(t *testing.T) {
	p := lane(t, noGates)
	p.sql("../test.db", "insert into tank (name, litres) values ('Kelp', 9000); insert into specimen (tank_id, species, arrived) values "+
		"(1, 'Blue tang', '2026-02-11')")
	p.write("signs/tank.txt", "The reef, larger\n")
	p.change("alter table specimen drop column arrived", "No days of arrival any more")
	p.ok("commit", "-m", "A larger sign")
	p.says(p.run("promote", "dev", "--dry-run").out, "Not tried in dev, which does not hold it: signs")
	p.fails(4, "would lose data", "promote", "dev")
	p.ok("promote", "dev", "--script", "../up.sql")
	p.says(p.read("../up.sql"), "-- Target 1: sqlite:../test.db, which holds database", "begin immediate;", "-- LOSES DATA: ",
		"-- Target 2: folder:../test-signs, which holds signs", "-- file:\"tank.txt\": replace the file")
	if err := os.Remove(p.path("../test-signs/tank.txt")); err != nil {
		t.Fatal(err)
	}
	p.fails(4, "drift (test differs from", "promote", "dev", "--allow-loss")
	p.says(p.ok("drift", "test"), "signs/tank.txt", "drift test --undo")
	p.ok("drift", "test", "--undo")
	before := p.ok("compare", "reef", "env:test", "--json")
	p.write("../test-signs/more/x.txt", "by hand\n")
	p.says(p.ok("drift", "test", "--keep", "by-hand", "-m", "Somebody's sign"), "by-hand:")
	p.says(p.ok("promote", "dev", "--dry-run"), "test has work that dev has not", "by-hand:3", "stays")
	p.says(p.ok("owed"), "Somebody's sign", "in test")
	p.ok("merge", "by-hand")
	os.Chmod(p.path("../test-signs"), 0o777)
	// A folder stands where a file is to go: the second target can't be changed.
	p.write("signs/zoo.txt", "A sign that can't be written\n")
	p.ok("commit", "-m", "Another sign")
	p.write("../test-signs/zoo.txt/in-the-way", "")
	os.Remove(p.path("../test-signs/zoo.txt/in-the-way"))
	r := p.run("promote", "dev", "--allow-loss")
	if r.status == 0 || !strings.Contains(r.err, "can't be written") {
		t.Fatalf("the blocked stage: %d %s%s", r.status, r.out, r.err)
	}
	if r := p.run("drift", "test", "--check"); r.status != 0 {
		t.Errorf("the failed promotion left something: %s%s", r.out, r.err)
	}
	p.sql("../test.db", "create table proof (n integer check (n = 1)); insert into proof select count(*) from specimen where arrived = "+
		"'2026-02-11'; drop table proof")
	os.Remove(p.path("../test-signs/zoo.txt"))
	p.ok("promote", "dev", "--allow-loss")
	p.ok("verify", "env:test", "reef")
	if strings.Contains(before, "zoo") {
		t.Error("the sign was there before")
	}
	// Back to what it was at first, with the rows.
	list := p.object("deployments", "test")["deployments"].([]any)
	first := fmt.Sprint(list[len(list)-1].(map[string]any)["number"])
	p.says(p.ok("rollback", "test", "--to", first), "steps done")
	p.sql("../test.db", "create table proof (n integer check (n = 1)); insert into proof select count(*) from specimen where arrived = "+
		"'2026-02-11'; drop table proof")
	p.fails(2, "is none that test could go back to", "rollback", "test", "--to", p.newest())
	if got := p.read("../test-signs/tank.txt"); got != "The reef\n" {
		t.Errorf("after the rollback: %q", got)
	}
}

// TestAPromotionGoesOnAfterAKill kills the program while it promotes.
func TestAPromotionGoesOnAfterAKill(t *testing.T) {
	p := lane(t, noGates)
	r := rand.New(rand.NewPCG(rand.Uint64(), 1))
	died := 0
	for round := range 25 {
		for i := range 30 {
			p.write(fmt.Sprintf("signs/%d.txt", i), fmt.Sprintf("sign %d of round %d\n", i, round))
		}
		p.ok("commit", "-m", "Signs")
		p.change(fmt.Sprintf("alter table tank add column c%d text; create view v%d as select id, c%d from tank", round, round, round),
			"Columns")
		for range 3 {
			if ended, _ := p.killed(time.Duration(20+r.IntN(120))*time.Millisecond, "promote", "dev", "test"); ended {
				break
			}
			died++
			p.ok("pipeline", "show")
		}
		p.ok("promote", "dev", "test")
		p.ok("verify", "env:test", "reef")
		p.says(p.ok("drift", "test"), "as it was deployed")
	}
	if died == 0 {
		t.Error("no process died")
	}
	// What somebody changes after one that was killed is not overwritten unseen.
	for i := range 400 {
		p.write(fmt.Sprintf("signs/%d.txt", i), "the last sign\n")
	}
	p.ok("commit", "-m", "Signs")
	p.change("alter table tank add column last text", "A column")
	for range 40 {
		if ended, _ := p.killed(time.Duration(60+r.IntN(60))*time.Millisecond, "promote", "dev", "test"); ended {
			break
		}
		if out := p.ok("pipeline", "show"); !strings.Contains(out, "unfinished") {
			continue
		}
		p.write("../test-signs/3.txt", "by hand\n")
		p.fails(4, "signs/3.txt there is neither as it was nor as it is to be", "promote", "dev", "test")
		p.says(p.ok("rollback", "test", "--allow-loss"), "agree")
		break
	}
	p.ok("promote", "dev", "test")
	p.says(p.ok("owed"), "Nothing is owed")
	p.says(p.ok("health"), "The chest is whole")
	t.Logf("%d processes died", died)
}

func TestWorkThatOvertakesIsOwed(t *testing.T) {
	p := lane(t, noGates+"\n[[environment]]\nname = \"fix\"\ntarget = \"sqlite:../fix.db\"\ninto = \"database\"\ntier = \"development\"\n"+
		"lane = \"Fix\"\n\n[[pipeline.lane]]\nname = \"Fix\"\nbranch = \"fix\"\n\n[[pipeline.move]]\nfrom = \"fix\"\nto = \"live\"\n")
	p.ok("branch", "fix", "--from", "main")
	p.ok("go", "fix")
	p.ok("deploy", "fix", "fix")
	p.sql("../fix.db", "alter table tank add column alarm integer not null default 0")
	p.ok("capture", "fix", "--commit", "-m", "An alarm", "--item", "AQ-77")
	p.ok("promote", "fix")
	p.ok("go", "reef")
	rows := p.object("owed")["owed"].([]any)
	var names []string
	for _, r := range rows {
		names = append(names, r.(map[string]any)["environment"].(string))
	}
	if !slices.Equal(names, []string{"dev", "test"}) {
		t.Errorf("owed to %v", names)
	}
	// The lane changes the same thing otherwise: the merge is refused, with the address.
	p.change("alter table tank add column alarm text", "Another alarm")
	r := p.run("backfill", "Reef")
	if r.status != 3 || !strings.Contains(r.err, "database::table:tank/column:alarm") ||
		!strings.Contains(r.err, "oaken go reef and oaken merge live:") {
		t.Errorf("a backfill in conflict: %d %s%s", r.status, r.out, r.err)
	}
	if r := p.run("merge", "live"); r.status != 3 {
		t.Errorf("merge: %d %s%s", r.status, r.out, r.err)
	}
	p.ok("resolve", "**", "--keep", "theirs")
	p.ok("commit", "-m", "The alarm of live")
	out := p.ok("backfill", "Reef", "--allow-loss")
	p.says(out, "dev  has it")
	// Who deployed last hears of it when somebody else finds a change by hand.
	q := &project{t: t, dir: filepath.Join(filepath.Dir(p.dir), "second")}
	p.ok("open", p.dir, "../second", "--branch", "reef")
	p.sql("../live.db", "create index live_by_hand on tank (litres)")
	if r := q.run("drift", "--check", "--summary"); r.status != 1 {
		t.Errorf("drift --check: %d %s%s", r.status, r.out, r.err)
	}
	q.run("drift", "live")
	if r := p.run("owed"); strings.Count(r.err, "Somebody changed live by hand since you deployed to it") != 1 {
		t.Errorf("the notice: %s", r.err)
	}
	p.ok("drift", "live", "--undo")
	// A change by hand keeps an environment from being deployed to.
	p.says(p.ok("owed"), "not in test")
	p.sql("../test.db", "create index by_name on tank (name, id)")
	if r := p.run("backfill", "test"); r.status != 4 || !strings.Contains(r.out, "somebody changed it by hand") {
		t.Errorf("backfill of a drifted environment: %d %s%s", r.status, r.out, r.err)
	}
	p.ok("drift", "test", "--undo")
	p.ok("promote", "dev", "test")
	p.says(p.ok("owed"), "Nothing is owed")
	p.ok("verify", "--pipeline")
	// A release, and the whole landscape against it.
	p.ok("promote", "test", "live")
	p.ok("release", "autumn", "--from", "live")
	v := p.object("verify", "--pipeline", "release:autumn")
	if v["same"] != true || len(v["pairs"].([]any)) != 4 {
		t.Errorf("verify: %v", v)
	}
	p.sql("../test.db", "create index by_name on tank (name, id)")
	if r := p.run("verify", "--pipeline", "release:autumn"); r.status != 1 || !strings.Contains(r.out, "No: 1 of 4 environments differ") {
		t.Errorf("verify: %d %s", r.status, r.out)
	}
	p.says(p.ok("pipeline", "show"), "autumn")
}

func TestBookingsInTheProgram(t *testing.T) {
	p := lane(t, noGates+"\n[[pipeline.lane]]\nname = \"Kelp\"\nbranch = \"kelp\"\ndevelopers = [\"Odalys\"]\n")
	p.says(p.ok("book", "live"), "live is not booked")
	p.says(p.ok("book", "live", "--lane", "Reef", "--for", "2h", "-m", "Opening"), "booked for Reef until", "Opening")
	p.fails(4, "Imke does not work in the lane Kelp", "book", "live", "--lane", "Kelp", "--for", "2h")
	p.says(p.ok("--as", "Odalys", "book", "live", "--lane", "Kelp", "--for", "3h"), "behind others", "Kelp  waits")
	p.fails(4, "live is booked by others until then", "--as", "Odalys", "book", "live", "--lane", "Kelp", "--until",
		time.Now().Add(time.Hour).Format("2006-01-02T15:04"))
	p.fails(2, "A booking needs an end", "book", "live", "--lane", "Reef")
	p.fails(2, "A booking is for a lane", "book", "live", "--for", "2h")
	p.fails(2, "There is no lane Sand", "book", "live", "--lane", "Sand", "--for", "2h")
	p.fails(2, "would end before it begins", "book", "live", "--lane", "Reef", "--until", "2020-01-01")
	p.change("alter table tank add column keeper text", "Keepers")
	p.ok("promote", "dev")
	p.fails(4, "is booked for Reef by Imke until", "--as", "Odalys", "promote", "test", "live", "--lane", "Kelp")
	p.fails(4, "The booking is one of the lane Reef", "--as", "Odalys", "book", "live", "--end", "--lane", "Reef")
	p.says(p.ok("book", "live", "--end", "--lane", "Reef"), "given back by Reef", "Kelp  has it")
	b := p.object("book", "live")["bookings"].([]any)[0].(map[string]any)
	if b["lane"] != "Kelp" || b["holds"] != true || b["person"] != "Odalys" {
		t.Errorf("bookings: %v", b)
	}
	p.fails(4, "is booked for Kelp", "promote", "test", "live")

	// One that is ended while it waits never gets its turn, whenever the one before it ends.
	p.ok("book", "live", "--lane", "Reef", "--for", "5h")
	p.says(p.ok("book", "live", "--end", "--lane", "Reef"), "given back by Reef")
	if list := p.object("book", "live")["bookings"].([]any); len(list) != 1 {
		t.Errorf("a booking that was ended waits still: %v", list)
	}
	out := p.ok("--as", "Odalys", "--yes", "book", "live", "--end", "--lane", "Kelp")
	if strings.Contains(out, "Reef  has it") {
		t.Errorf("a booking that was ended has it: %s", out)
	}
	p.says(p.ok("book", "live"), "live is not booked")
}

func TestOnlyWhoControlsMayPromote(t *testing.T) {
	p := lane(t, noGates)
	p.write("oaken.toml", strings.Replace(p.read("oaken.toml"), "tier = \"live\"", "tier = \"live\"\ncontrollers = [\"Ravi\"]", 1))
	p.ok("commit", "-m", "Ravi controls live")
	p.says(p.run("pipeline", "show").err, "What branch main has counts")
	p.declared()
	p.change("alter table tank add column keeper text", "Keepers")
	p.ok("promote", "dev")
	p.fails(4, "control (Ravi controls live)", "promote", "test", "live")
	// An edit that nobody has committed opens nothing.
	p.write("oaken.toml", strings.Replace(p.read("oaken.toml"), "controllers = [\"Ravi\"]", "", 1))
	p.fails(4, "control (Ravi controls live)", "promote", "test", "live")
	p.ok("discard", "oaken.toml")
	p.fails(4, "live takes work by promotion alone", "--as", "Ravi", "deploy", "live", "reef")
	p.ok("--as", "Ravi", "promote", "test", "live")
	p.fails(4, "so Imke can't roll it back", "rollback", "live")
	// No other way leads round the gates either.
	p.sql("../live.db", "create index by_name on tank (name, id)")
	p.fails(4, "so Imke can't change it", "drift", "live", "--undo")
	if r := p.run("backfill", "live"); r.status != 0 || !strings.Contains(r.out, "is owed nothing") {
		t.Errorf("backfill: %d %s%s", r.status, r.out, r.err)
	}
	p.ok("--as", "Ravi", "drift", "live", "--undo")
	p.ok("--as", "Ravi", "rollback", "live")
	if r := p.run("pipeline", "check"); r.status != 0 || !strings.Contains(r.out, "Nobody is said to control it") {
		t.Errorf("pipeline check: %d %s", r.status, r.out)
	}
	p.write("oaken.toml", p.read("oaken.toml")+"\n[[pipeline.move]]\nfrom = \"live\"\nto = \"test\"\n")
	if r := p.run("pipeline", "check"); r.status != 1 || !strings.Contains(r.out, "round in a circle") {
		t.Errorf("a circle: %d %s", r.status, r.out)
	}
	check := p.run("--json", "pipeline", "check")
	if check.status != 1 || !strings.Contains(check.out, "\"good\": false") {
		t.Errorf("check as JSON: %s", check.out)
	}
}

// TestSettlingGoesNotRoundTheGates has an environment that takes promotions alone.
func TestSettlingGoesNotRoundTheGates(t *testing.T) {
	p := lane(t, noGates+"\n[[environment]]\nname = \"try\"\ntarget = \"sqlite:../try.db\"\ninto = \"database\"\ntier = \"acceptance\"\n"+
		"branch = \"try\"\n\n[[pipeline.move]]\nfrom = \"dev\"\nto = \"try\"\n")
	p.ok("deploy", "try", "reef")
	p.fails(2, "Several moves lead on from dev: to test and try", "promote", "dev")
	p.change("alter table tank add column keeper text", "Keepers")
	p.fails(4, "try takes work by promotion alone", "settle", "try", "--prefer", "chest", "--yes")
	p.fails(4, "try takes work by promotion alone", "deploy", "try", "reef", "--mine")
	p.sql("../try.db", "create view names as select name from tank")
	p.ok("settle", "try", "--prefer", "environment", "--yes") // what is there comes into the workspace
	p.says(p.read("database/views/names.sql"), "create view names as")
	p.ok("discard", "database")
	p.ok("drift", "try", "--undo")
	p.ok("promote", "dev", "try")
	// A rollback over several deployments is one: all of them are undone.
	p.change("alter table tank add column depth real", "Depths")
	p.ok("promote", "dev", "try")
	list := p.object("deployments", "try")["deployments"].([]any)
	first := fmt.Sprint(list[len(list)-1].(map[string]any)["number"])
	p.ok("rollback", "try", "--to", first)
	undone := 0
	for _, d := range p.object("deployments", "try")["deployments"].([]any) {
		if d.(map[string]any)["undone"] != nil {
			undone++
		}
	}
	if undone != 2 {
		t.Errorf("%d deployments are undone", undone)
	}
	p.says(p.ok("drift", "try"), "as it was deployed")
	p.fails(4, "is at deployment "+first, "rollback", "try", "--to", first)
}

// TestTwoPromoteAtOnce lets several processes promote into one branch at the same time.
func TestTwoPromoteAtOnce(t *testing.T) {
	p := lane(t, noGates+"\n[[environment]]\nname = \"dev2\"\ntarget = \"folder:../dev2\"\ninto = \"signs\"\ntier = \"development\"\n"+
		"lane = \"Two\"\n\n[[pipeline.lane]]\nname = \"Two\"\nbranch = \"two\"\n\n[[pipeline.move]]\nfrom = \"dev2\"\nto = \"test\"\n")
	p.ok("branch", "two", "--from", "main")
	q := &project{t: t, dir: filepath.Join(filepath.Dir(p.dir), "second")}
	p.ok("open", p.dir, "../second", "--branch", "two")
	for round := range 4 {
		p.change(fmt.Sprintf("alter table tank add column c%d text", round), "Columns")
		q.write(fmt.Sprintf("signs/s%d.txt", round), "sign\n")
		q.ok("commit", "-m", "Signs")
		q.ok("deploy", "dev2", "two")
		done := make(chan result)
		go func() { done <- q.run("promote", "dev2", "test") }()
		a := p.run("promote", "dev", "test")
		b := <-done
		for _, r := range []result{a, b} { // who comes second may be told that the target has just changed
			if r.status != 0 && r.status != 4 && r.status != 5 {
				t.Errorf("%d %s%s", r.status, r.out, r.err)
			}
		}
		p.run("promote", "dev", "test")
		q.run("promote", "dev2", "test")
		p.says(p.ok("drift", "test"), "as it was deployed")
		p.says(p.ok("owed", "--json"), "owed")
	}
	if got := p.read("../test-signs/s3.txt"); got != "sign\n" {
		t.Errorf("signs: %q", got)
	}
	p.says(p.ok("compare", "main", "env:test"), "column:c3")
}

// TestColumnsThatTakeNoNullComeBack rolls back what dropped one, with rows that came since.
func TestColumnsThatTakeNoNullComeBack(t *testing.T) {
	p := lane(t, noGates)
	p.sql("../test.db", "insert into feeding (tank_id, fed_at, food) values (1, '2026-04-01', 'krill'), (1, '2026-04-02', 'it''s algae')")
	p.change("alter table feeding drop column food", "No food")
	p.ok("promote", "dev", "--allow-loss")
	p.sql("../test.db", "insert into feeding (tank_id, fed_at) values (1, '2026-05-01')")
	dry := p.run("rollback", "test", "--dry-run")
	p.says(dry.err, "feeding.food takes no null: rows that came since get 'krill' there, unless --fill says otherwise.")
	p.ok("rollback", "test", "--fill", "feeding.food='mussels'")
	p.sql("../test.db", "create table proof (n integer check (n = 3)); insert into proof select count(*) from feeding where (id, food) "+
		"in (values (1, 'krill'), (2, 'it''s algae'), (3, 'mussels')); drop table proof")
	p.ok("promote", "dev", "--allow-loss", "--again")
	p.ok("rollback", "test")
	p.sql("../test.db", "create table proof (n integer check (n = 3)); insert into proof select count(*) from feeding where (id, food) "+
		"in (values (1, 'krill'), (2, 'it''s algae'), (3, 'mussels')); drop table proof")
	p.says(p.ok("drift", "test"), "as it was deployed")
}

// TestNothingGoesBackUnseen has stages that share a branch: what overtakes is not lost.
func TestNothingGoesBackUnseen(t *testing.T) {
	p := lane(t, noGates)
	toml := strings.Replace(strings.Replace(p.read("oaken.toml"), "branch = \"test\"", "branch = \"reef\"", 1), "branch = \"live\"",
		"branch = \"reef\"", 1)
	p.write("oaken.toml", toml+"\n[pipeline]\nmay-override = [\"Imke\"]\n")
	p.ok("commit", "-m", "One branch for all stages")
	p.declared()
	p.change("alter table tank add column keeper text", "Keepers")
	p.ok("promote", "dev")
	p.fails(4, "takes its work from the same branch", "promote", "dev", "test", "--path", "signs")
	p.ok("deploy", "dev", "main", "--allow-loss")
	p.says(p.ok("promote", "dev", "test"), "test has everything that dev has")
	if r := p.run("verify", "main", "env:test"); r.status != 1 {
		t.Errorf("test went back with dev: %s", r.out)
	}
	// Who means it says so, and stays on the record.
	p.fails(4, "takes work by promotion alone", "deploy", "test", "main", "--allow-loss")
	p.ok("deploy", "test", "main", "--allow-loss", "--reason", "a mistake")
	p.ok("verify", "main", "env:test")
}

// TestAStageThatWasOutOfReachIsSeenAgain by whoever reaches it next, not only by who looks for drift.
func TestAStageThatWasOutOfReachIsSeenAgain(t *testing.T) {
	p := lane(t, noGates)
	p.change("alter table tank add column keeper text", "Keepers")
	p.ok("promote", "dev", "test")
	for _, names := range [][2]string{{"test.db", "away.db"}, {"away.db", "test.db"}} {
		if err := os.Rename(p.path("../"+names[0]), p.path("../"+names[1])); err != nil {
			t.Fatal(err)
		}
		if names[0] == "test.db" {
			p.fails(5, "There is no database", "drift", "test")
			p.says(p.ok("pipeline", "show"), "out of reach")
		}
	}
	p.ok("promote", "test", "live", "--dry-run")
	if out := p.ok("pipeline", "show"); strings.Contains(out, "out of reach") {
		t.Errorf("it was reached:\n%s", out)
	}
}
