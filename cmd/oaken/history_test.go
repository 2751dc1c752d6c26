package main

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"oakenchest/sample"
)

// chronicle gives a project whose notes were edited, moved and edited again.
func chronicle(t *testing.T) *project {
	t.Helper()
	p := world(t)
	p.write(sample.Notes, "one\ntwo\nthree\n")
	p.ok("commit", "-m", "Three lines", "--item", "AQ-1")
	if err := os.Rename(p.path(sample.Notes), p.path("notes/plan.txt")); err != nil {
		t.Fatal(err)
	}
	p.ok("--as", "Tarek", "commit", "-m", "A better name", "--item", "AQ-2")
	p.write("notes/plan.txt", "one\ntwo and a half\nthree\n")
	p.ok("--as", "Odalys", "commit", "-m", "A half more\n\nAs was agreed.")
	return p
}

func TestHistoryOfAPathFollowsIt(t *testing.T) {
	p := chronicle(t)
	var got []string
	for _, c := range p.object("history", "notes/plan.txt")["commits"].([]any) {
		row := c.(map[string]any)
		got = append(got, fmt.Sprint(row["state"], " ", row["version"], "/", row["versions"], " ", row["path"], " ", row["from"]))
	}
	want := "main:4 4/4 notes/plan.txt |main:3 3/4 notes/plan.txt notes/opening.txt|main:2 2/4 notes/opening.txt |main:1 1/4 " +
		"notes/opening.txt "
	if strings.Join(got, "|") != want {
		t.Errorf("got %s", strings.Join(got, "|"))
	}
	if out := p.ok("history", "notes/plan.txt", "--limit", "1"); !strings.Contains(out, "version 4 of 4") {
		t.Errorf("history: %s", out)
	}
	if n := len(p.object("history", "notes")["commits"].([]any)); n != 4 {
		t.Errorf("history of a folder: %d commits", n)
	}
	if n := len(p.object("history", sample.Scene)["commits"].([]any)); n != 1 {
		t.Errorf("history of an untouched file: %d commits", n)
	}
}

func TestHistoryIsFiltered(t *testing.T) {
	p := chronicle(t)
	for _, c := range []struct {
		args string
		want string
	}{
		{"--author tarek", "main:3"}, {"--item aq-1", "main:2"}, {"--text agreed", "main:4"}, {"--since 2000-01-01 --limit 1", "main:4"},
		{"--until 2000-01-01", ""}, {"--since 2999-01-01", ""}, {"--author x --item AQ-1", ""},
	} {
		var got []string
		for _, x := range p.object(append([]string{"history"}, strings.Fields(c.args)...)...)["commits"].([]any) {
			got = append(got, x.(map[string]any)["state"].(string))
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("%s: got %v", c.args, got)
		}
	}
	p.fails(2, "takes a day", "history", "--since", "yesterday")
}

func TestAuthorsOfLinesAndElements(t *testing.T) {
	p := chronicle(t)
	authors := func(path string) map[string]string {
		out := map[string]string{}
		for _, x := range p.object("authors", path)["elements"].([]any) {
			row := x.(map[string]any)
			out[strings.TrimPrefix(row["address"].(string), path+"::")] = row["commit"].(map[string]any)["state"].(string)
		}
		return out
	}
	if got := fmt.Sprint(authors("notes/plan.txt")); got != "map[line:#1:main:2 line:#2:main:4 line:#3:main:2]" {
		t.Errorf("lines: %s", got)
	}
	p.reef(sample.Lamp{Scale: 2, Brightness: 40})
	p.ok("commit", "-m", "Larger")
	if got := authors(sample.Scene); got["node:Lamp"] != "main:5" || got["node:Rock"] != "main:1" || got["light:Lamp light"] != "main:1" {
		t.Errorf("scene: %v", got)
	}
	p.sql("dev.db", "alter table tank add column keeper text")
	p.ok("capture", "dev")
	p.ok("commit", "-m", "Keepers")
	if got := authors("database"); got["table:tank/column:keeper"] != "main:6" || got["table:tank/column:name"] != "main:1" ||
		got["table:tank"] != "main:1" {
		t.Errorf("database: %v", got)
	}
	p.fails(2, "No commit holds", "authors", "nothing")
}

func TestFindLooksInsideArtifacts(t *testing.T) {
	p := chronicle(t)
	find := func(args ...string) string {
		var out []string
		for _, h := range p.object(append([]string{"find"}, args...)...)["hits"].([]any) {
			out = append(out, h.(map[string]any)["address"].(string))
		}
		return strings.Join(out, " ")
	}
	if got := find("HALF"); got != "notes/plan.txt::line:#2.text" {
		t.Errorf("a line: %s", got)
	}
	if got := find("fed_at", "database"); !strings.Contains(got, "database::table:feeding/column:fed_at") || strings.Contains(got, "apps") {
		t.Errorf("a column: %s", got)
	}
	if got := find("Feeding log of the week"); !strings.Contains(got,
		`apps/rounds.app::part:"reports/log.xml"/report:log/layout:#1/embedded:text.title`) {
		t.Errorf("inside an embedded layout: %s", got)
	}
	if got := find("half", "--from", "main:3"); got != "" {
		t.Errorf("in an older state: %s", got)
	}
	if got := find("bubbles"); got != sample.Sound {
		t.Errorf("a path: %s", got)
	}
	p.fails(2, "no text", "find", "")
}

func TestTheGraphShowsWhereBranchesMet(t *testing.T) {
	p := world(t)
	p.ok("branch", "kelp")
	p.write("a.txt", "a")
	p.ok("commit", "-m", "a")
	p.ok("go", "kelp")
	p.write("b.txt", "b")
	p.ok("commit", "-m", "b")
	p.ok("go", "main")
	p.ok("merge", "kelp")
	want := "main  kelp\n●─────╮  main:3\n│     ●  kelp:2\n●     │  main:2\n●─────╯  main:1\n"
	var got strings.Builder
	for line := range strings.Lines(p.ok("history", "--drawn")) {
		fields := strings.SplitN(strings.TrimRight(line, "\n"), "  20", 2)
		got.WriteString(strings.TrimRight(fields[0], " ") + "\n")
	}
	if got.String() != want {
		t.Errorf("got\n%s", got.String())
	}
}

func TestMessagesKeepTheProjectsRules(t *testing.T) {
	p := world(t)
	p.write("oaken.toml", p.read("oaken.toml")+"\n[message]\nminimum = 8\nitem = true\n")
	p.fails(2, "asks for 8", "commit", "-m", "rules")
	p.fails(2, "which work item", "commit", "-m", "rules for messages")
	p.ok("commit", "-m", "rules for messages", "--item", "AQ-3")
}
