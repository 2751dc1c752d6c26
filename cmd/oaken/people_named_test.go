package main

import (
	"path/filepath"
	"strings"
	"testing"
)

// TestWhoOneIs plays names: who only looks is nobody, a name given for one workspace stays there, and a
// person is called otherwise by a command.
func TestWhoOneIs(t *testing.T) {
	p := &project{t: t, dir: filepath.Join(t.TempDir(), "work"), config: t.TempDir()}
	p.write("a.txt", "a\n")
	p.write("pic.bin", "a\x00picture")
	p.says(p.ok("begin", "--as", "Imke"), "of Imke")
	p.ok("commit", "-m", "First")
	for _, call := range []string{"changes", "compare", "history", "locks", "overlaps", "inspect a.txt", "park"} {
		p.ok(append(strings.Fields(call), "--as", "Zed")...)
	}
	p.write("pic.bin", "new\x00picture")
	p.ok("commit", "-m", "Second, alone: no lock is needed")
	p.says(p.ok("person"), "You are Imke")
	second := &project{t: t, dir: filepath.Join(t.TempDir(), "second"), config: p.config}
	p.says(p.ok("open", ".", second.dir), "oaken person NAME")
	if strings.Contains(second.ok("person"), "Imke") {
		t.Error("the name of one workspace became that of another")
	}
	second.ok("lock", "a.txt")
	second.fails(4, "holds locks here", "person", "Tarek")
	second.ok("unlock", "a.txt")
	second.fails(2, "is no name", "person", " ")
	second.says(second.ok("person", "Tarek", "--always"), "You are Tarek")
	second.write("a.txt", "b\n")
	second.ok("commit", "-m", "Second")
	second.says(second.ok("history", "--limit", "1"), "Tarek")
	second.says(second.ok("open", ".", "../third"), "of Tarek")
}
