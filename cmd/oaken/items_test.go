package main

import (
	"os"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"
)

func TestItemsAreFoundEverywhere(t *testing.T) {
	p := lane(t, noGates)
	p.says(p.ok("pipeline", "items"), "No work names an item yet")
	p.change("alter table tank add column keeper text", "Keepers", "--item", "AQ-1")
	p.ok("promote", "dev", "test")
	p.ok("promote", "test", "live")
	p.change("alter table tank add column depth real", "Depths", "--item", "AQ-2")
	p.ok("promote", "dev", "test")
	p.change("alter table tank add column light text", "Lights <b>", "--item", "AQ-2")
	p.change("alter table tank add column sand text", "Sand", "--item", "AQ-3")
	table := p.ok("pipeline", "items")
	p.says(table, "item", "dev", "test", "live", "AQ-1", "AQ-2", "1 of 2", "waits")
	if i, j := strings.Index(table, "AQ-3"), strings.Index(table, "AQ-1"); i > j {
		t.Errorf("what was worked on last is not the first:\n%s", table)
	}
	out := p.object("pipeline", "items", "--item", "AQ-2")
	items := out["items"].([]any)
	if len(items) != 1 {
		t.Fatalf("one item: %v", out)
	}
	states := map[string]string{}
	for _, s := range items[0].(map[string]any)["stands"].([]any) {
		cell := s.(map[string]any)
		states[cell["environment"].(string)] = cell["state"].(string)
	}
	if states["dev"] != "there" || states["test"] != "partly" || states["live"] != "waits" {
		t.Errorf("AQ-2 stands %v", states)
	}
	p.ok("rollback", "live", "--yes", "--allow-loss")
	p.says(p.ok("pipeline", "items", "--item", "AQ-1"), "taken back")
	p.says(p.ok("pipeline", "items", "--item", "AQ-9"), "No work for it is known")
	p.ok("pipeline", "items", "--html", "../items.html", "--sheet", "../items.xlsx")
	if page := p.read("../items.html"); !strings.Contains(page, "Lights &lt;b&gt;") || !strings.Contains(page, "taken back") {
		t.Error("the page lacks what the table has")
	}
	f, err := excelize.OpenFile(p.path("../items.xlsx"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	rows, err := f.GetRows("Items")
	if err != nil || len(rows) != 4 || rows[0][3] != "dev" {
		t.Errorf("the sheet: %v, %v", rows, err)
	}
}

func TestAReleaseIsPlannedBeforeItShips(t *testing.T) {
	p := lane(t, noGates)
	p.fails(2, "No release june is planned", "release", "plan", "june")
	p.change("alter table tank add column keeper text", "Keepers\n\nFor the jubilee.", "--item", "AQ-1")
	p.change("alter table tank add column depth real", "Depths", "--item", "AQ-2")
	p.write("signs/tank.txt", "The reef, new\n")
	p.ok("commit", "-m", "Signs", "--item", "AQ-3")
	p.says(p.ok("release", "plan", "june", "--item", "AQ-1", "--item", "AQ-3", "--item", "AQ-7", "-m", "The jubilee"),
		"AQ-7", "no work for it is known", "lacks AQ-7", "has more: AQ-2")
	p.says(p.ok("release", "plan", "june", "--without", "AQ-7"), "dev", "complete", "lacks AQ-1, AQ-3")
	p.fails(2, "AQ-7 is no item of june", "release", "plan", "june", "--without", "AQ-7")
	p.says(p.ok("release", "plan"), "june", "AQ-1, AQ-3", "The jubilee")
	p.ok("release", "plan", "june", "--notes", "../june.md")
	p.says(p.read("../june.md"), "# june", "The jubilee", "## AQ-1", "- Keepers (Imke", "For the jubilee.", "## AQ-3")
	p.ok("promote", "dev", "test", "--release", "june")
	p.says(p.ok("release", "plan", "june"), "complete")
	p.sql("../test.db", "create table proof (n integer check (n = 1)); insert into proof select count(*) from pragma_table_info('tank') "+
		"where name in ('keeper', 'depth'); drop table proof")
	p.fails(2, "No release none is planned", "promote", "test", "live", "--release", "none")
	p.says(p.ok("promote", "test", "live", "--release", "june"), "Release june is live with all its items")
	p.says(p.ok("release", "list"), "june", "The jubilee")
	p.fails(4, "june is planned no more: it was released on", "release", "plan", "june")
	p.says(p.ok("release", "plan", "--all"), "released")
	p.says(p.ok("pipeline", "show"), "(june)")
	p.fails(4, "There is a release june already", "release", "plan", "june", "--item", "AQ-2")
	p.ok("release", "plan", "july", "--item", "AQ-2")
	p.ok("release", "plan", "july", "--drop")
	p.fails(2, "No release july is planned", "release", "plan", "july", "--drop")
	if _, err := os.Stat(p.path("../july.md")); err == nil {
		t.Error("notes of nothing")
	}
}
