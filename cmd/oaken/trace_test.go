package main

import (
	"fmt"
	"os"
	"strings"
	"testing"
)

// asked makes a call and counts what it asked of the chest, by kind.
func (p *project) asked(args ...string) map[string]int {
	p.t.Helper()
	file := p.path("../trace")
	os.Remove(file)
	p.t.Setenv("OAKEN_TRACE", file)
	p.ok(args...)
	p.t.Setenv("OAKEN_TRACE", "")
	data, err := os.ReadFile(file)
	if err != nil {
		p.t.Fatal(err)
	}
	out := map[string]int{}
	for line := range strings.Lines(string(data)) {
		fields := strings.Split(line, "\t")
		if len(fields) != 3 || !strings.HasSuffix(line, "\n") {
			p.t.Errorf("a line of the trace is %q", line)
		}
		if strings.HasSuffix(fields[2], "into held\n") { // a store of the workspace's own
			continue
		}
		out[fields[0]]++
	}
	return out
}

// TestCommandsAskLittleOfTheChest counts views, acts, statements and bales, which are journeys when a chest is far
// away.
func TestCommandsAskLittleOfTheChest(t *testing.T) {
	p := &project{t: t, dir: t.TempDir() + "/work"}
	for i := range 30 {
		p.write(fmt.Sprintf("many/%d.txt", i), fmt.Sprint(i))
	}
	p.write("a.json", `{"a": 1}`)
	p.ok("begin", "--chest", "../chest")
	p.ok("commit", "-m", "First")
	for i := range 12 {
		p.write("a.json", fmt.Sprintf(`{"a": %d}`, i))
		p.ok("commit", "-m", fmt.Sprint(i))
	}
	for _, c := range []struct {
		args []string
		most map[string]int
	}{
		{[]string{"changes"}, map[string]int{"view": 2}},
		{[]string{"commit", "-m", "one file"}, map[string]int{"view": 3, "act": 1, "sign": 1, "bale": 1}},
		{[]string{"compare", "main:5", "main:6"}, map[string]int{"view": 3, "statement": 10, "bale": 0}},
		{[]string{"authors", "a.json"}, map[string]int{"view": 2}},
		{[]string{"lock", "a.json"}, map[string]int{"view": 6, "act": 1, "sign": 1}},
		{[]string{"unlock", "a.json"}, map[string]int{"view": 4, "act": 1, "sign": 1}},
	} {
		if c.args[0] == "commit" {
			p.write("a.json", `{"a": "committed"}`)
		}
		got := p.asked(c.args...)
		t.Log(c.args, got)
		for kind, n := range got {
			if most, bounded := c.most[kind]; bounded && n > most || !bounded && kind != "statement" {
				t.Errorf("oaken %s: %d times %s, at most %d", strings.Join(c.args, " "), n, kind, most)
			}
		}
	}
}
