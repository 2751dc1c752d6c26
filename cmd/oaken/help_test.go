package main

import (
	"strings"
	"testing"

	"github.com/mattn/go-runewidth"
)

// TestHelpFitsAndIsComplete reads all help: no line is wider than a terminal, every command and topic is named, and no
// sentence of the packages beneath comes through.
func TestHelpFitsAndIsComplete(t *testing.T) {
	p := empty(t)
	fits := func(args ...string) string {
		t.Helper()
		out := p.ok(args...)
		for line := range strings.Lines(out) {
			if w := runewidth.StringWidth(strings.TrimSuffix(line, "\n")); w > 80 && !strings.HasPrefix(line, "  oaken ") {
				t.Errorf("oaken %s has a line of %d columns: %s", strings.Join(args, " "), w, line)
			}
		}
		for _, foreign := range []string{"Usage:", "Flags:", "Available Commands", "[command]", "[flags]", "(default"} {
			if strings.Contains(out, foreign) {
				t.Errorf("oaken %s says %q", strings.Join(args, " "), foreign)
			}
		}
		return out
	}
	first := fits()
	for _, name := range []string{"changes", "compare", "commit", "sync", "history", "lock", "go", "oaken guide",
		"oaken help --everything"} {
		if !strings.Contains(first, name) {
			t.Errorf("the first help does not name %s", name)
		}
	}
	commands := 0
	for line := range strings.Lines(fits("help", "--everything")) {
		if name, _, found := strings.Cut(strings.TrimPrefix(line, "  "), "  "); found && strings.HasPrefix(line, "  ") && name != "" &&
			name[0] != '-' && name[0] != ' ' {
			fits("help", name)
			commands++
		}
	}
	if commands < 50 {
		t.Errorf("help --everything lists %d commands", commands)
	}
	for _, topic := range []string{"start", "states", "addresses", "locks", "databases", "pipeline", "trouble", "exit"} {
		if out := fits("help", topic); strings.Contains(out, "`") || strings.Contains(out, "**") && topic != "locks" &&
			topic != "addresses" {
			t.Errorf("the topic %s shows its markup", topic)
		}
	}
}

// TestSlipsAreUnderstood writes what people mistype: each error names what was meant, and nothing is done.
func TestSlipsAreUnderstood(t *testing.T) {
	p := world(t)
	p.ok("branch", "kelp")
	for call, want := range map[string]string{
		"chagnes": "Did you mean oaken changes?", "switch kelp": "it is called go", "swich kelp": "Did you mean oaken go?",
		"env lst":         "Did you mean oaken env list?",
		"history --graph": "it is called --drawn", "discard --held": "it is called --unsent", "changes --chek": "Did you mean --check?",
		"go klep": "Did you mean kelp?", "compare mian work": "Did you mean main?", "deploy tset": "Did you mean test?",
		"restore notes/opning.txt --from main": "Did you mean notes/opening.txt?", "lock exhibit/ref.glb": "Did you mean exhibit/reef.glb?",
		"changes nots": "Did you mean notes?", "compare exhibt": "Did you mean exhibit?", "history --limit": "--limit needs a value",
		"history --limit x": "--limit takes a number", "go": "it reads oaken go NAME",
		"go a b": "it reads oaken go NAME", "compare --lines --summary": "exclude each other", "history -x": "There is no option -x",
		"help nothing": "There is no command",
	} {
		if r := p.run(strings.Fields(call)...); r.status != 2 || !strings.Contains(r.err, want) {
			t.Errorf("oaken %s: status %d, %q is not in %s", call, r.status, want, r.err)
		}
	}
	for _, call := range []string{"history --foo --json", "--json history --foo", "chagnes --json"} { // wherever it stands
		r := p.run(strings.Fields(call)...)
		if r.err != "" || !strings.Contains(r.out, `"oaken.error/1"`) {
			t.Errorf("oaken %s: %s%s", call, r.out, r.err)
		}
	}
}

// TestTheGuideFollowsTheWork asks the guide from the first folder to a conflict: its first line is what is to be done.
func TestTheGuideFollowsTheWork(t *testing.T) {
	p := empty(t)
	first := func(p *project, want string) {
		t.Helper()
		out := p.ok("guide")
		line, _, _ := strings.Cut(out, "\n")
		if !strings.HasSuffix(line, want) || strings.Count(out, "\n") > 3 {
			t.Errorf("the guide says\n%swhere %q was expected", out, want)
		}
	}
	first(p, "oaken begin")
	p.ok("demo", "--bare", "reef")
	p.dir += "/reef"
	p.ok("begin")
	first(p, `oaken commit -m "First state"`)
	p.ok("commit", "-m", "First state")
	first(p, "oaken lock PATH")
	p.write("notes/opening.txt", "one\n")
	first(p, "oaken compare")
	p.ok("commit", "-m", "one", "--hold")
	first(p, "oaken sync")
	p.ok("sync")
	p.ok("branch", "kelp", "--from", "main:1")
	p.ok("go", "kelp")
	p.write("notes/opening.txt", "two\n")
	p.ok("commit", "-m", "two")
	p.run("merge", "main")
	first(p, "oaken conflicts")
	p.ok("resolve", "notes/opening.txt", "--keep", "mine")
	first(p, "oaken commit")
}

// TestChangesOfAPath narrows what is told, and not what others are told.
func TestChangesOfAPath(t *testing.T) {
	p := world(t)
	p.write("notes/opening.txt", "one\n")
	p.write("notes/more.txt", "more\n")
	p.write("extra.txt", "x\n")
	out := p.ok("changes", "notes")
	if strings.Contains(out, "extra.txt") || !strings.Contains(out, "opening.txt") || !strings.Contains(out, "more.txt") {
		t.Errorf("changes of a folder:\n%s", out)
	}
	if got := len(p.object("changes", "extra.txt")["changes"].([]any)); got != 1 {
		t.Errorf("%d changes of a file", got)
	}
	if r := p.run("changes", "exhibit", "--check"); r.status != 0 {
		t.Errorf("--check of what did not change: %d\n%s", r.status, r.out)
	}
	if r := p.run("changes", "notes", "--check"); r.status != 1 {
		t.Errorf("--check of what changed: %d", r.status)
	}
}
