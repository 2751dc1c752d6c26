package main

import (
	"os"
	"strings"
	"testing"
)

// TestNothingIsLostWithoutACopy plays the ways in which work leaves a workspace that no commit holds: each
// leaves a rescue copy, and restore --rescued brings it back.
func TestNothingIsLostWithoutACopy(t *testing.T) {
	start := func(t *testing.T) *project {
		p := empty(t)
		p.ok("begin")
		p.write("kept.txt", "as committed\n")
		p.write("set.json", `{"a": {"id": "1", "v": 1}, "b": 2}`+"\n")
		p.ok("commit", "-m", "First")
		return p
	}
	back := func(t *testing.T, p *project, name, want string) {
		t.Helper()
		p.ok("restore", name, "--rescued")
		if got := p.read(name); got != want {
			t.Errorf("%s came back as %q, not %q", name, got, want)
		}
	}
	t.Run("parked, brought back, discarded", func(t *testing.T) {
		p := start(t)
		p.write("new.txt", "hours of work\n")
		p.write("kept.txt", "edited\n")
		p.ok("park", "later")
		p.ok("unpark", "later")
		p.ok("discard", ".")
		back(t, p, "new.txt", "hours of work\n")
		back(t, p, "kept.txt", "edited\n")
	})
	t.Run("what a commit holds is not copied", func(t *testing.T) {
		p := start(t)
		p.write("kept.txt", "second\n")
		p.ok("commit", "-m", "Second")
		p.write("kept.txt", "as committed\n") // as an earlier commit has it
		p.ok("discard", ".")
		if out := p.ok("restore", "--rescued"); strings.Contains(out, "kept.txt") {
			t.Error(out)
		}
	})
	t.Run("a replaced link", func(t *testing.T) {
		p := start(t)
		p.call("ln", "-s", "kept.txt", "link")
		p.ok("commit", "-m", "A link")
		p.call("ln", "-sfn", "set.json", "link")
		p.ok("discard", ".")
		if to, _ := os.Readlink(p.path("link")); to != "kept.txt" {
			t.Errorf("the link leads to %q", to)
		}
		p.ok("restore", "link", "--rescued")
		if to, _ := os.Readlink(p.path("link")); to != "set.json" {
			t.Errorf("the link was brought back to %q", to)
		}
	})
	t.Run("a new link", func(t *testing.T) {
		p := start(t)
		p.call("ln", "-s", "/etc/hostname", "words")
		p.ok("discard", ".")
		p.ok("restore", "words", "--rescued")
		if to, _ := os.Readlink(p.path("words")); to != "/etc/hostname" {
			t.Errorf("the link was brought back to %q", to)
		}
	})
	t.Run("a folder in the place of a file", func(t *testing.T) {
		p := start(t)
		p.call("rm", "kept.txt")
		p.write("kept.txt/inner.txt", "in a folder\n")
		p.ok("discard", ".")
		if got := p.read("kept.txt"); got != "as committed\n" {
			t.Errorf("%q", got)
		}
		p.call("rm", "kept.txt")
		p.ok("restore", "kept.txt/inner.txt", "--rescued")
		if got := p.read("kept.txt/inner.txt"); got != "in a folder\n" {
			t.Errorf("%q", got)
		}
	})
	t.Run("texts settled in a merge that is given up", func(t *testing.T) {
		p := start(t)
		p.ok("branch", "other")
		p.ok("go", "other")
		p.write("set.json", `{"a": {"id": "1", "v": 2}, "b": 2}`+"\n")
		p.ok("commit", "-m", "Two")
		p.ok("go", "main")
		p.write("set.json", `{"a": {"id": "1", "v": 3}, "b": 2}`+"\n")
		p.ok("commit", "-m", "Three")
		p.run("merge", "other")
		p.ok("resolve", "set.json::object:a.v", "--value", "77")
		p.ok("merge", "--abandon", "--yes")
		p.ok("restore", "set.json", "--rescued")
		if got := p.read("set.json"); !strings.Contains(got, "77") {
			t.Error(got)
		}
	})
}
