package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestTheFirstHour follows the README to the letter, as a newcomer types it: every line that stands behind a `$` ends
// as it says.
func TestTheFirstHour(t *testing.T) {
	text, err := os.ReadFile("../../README.md")
	if err != nil {
		t.Fatal(err)
	}
	_, hour, _ := strings.Cut(string(text), "\n## A first hour\n")
	hour, _, found := strings.Cut(hour, "\n## ")
	if !found {
		t.Fatal("the README has no first hour")
	}
	dir, lines := t.TempDir(), 0
	for line := range strings.Lines(hour) {
		call, is := strings.CutPrefix(strings.TrimSpace(line), "$ ")
		if !is {
			continue
		}
		lines++
		call, says, _ := strings.Cut(call, "#")
		call = strings.TrimSpace(call)
		if to, ok := strings.CutPrefix(call, "cd "); ok {
			dir = filepath.Join(dir, to)
			continue
		}
		want := 0
		switch {
		case strings.HasPrefix(says, " refused"):
			want = 4
		case strings.HasPrefix(says, " conflicts"):
			want = 3
		}
		cmd := exec.Command("sh", "-c", call)
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"), "TZ=UTC", "XDG_CONFIG_HOME="+t.TempDir())
		out, _ := cmd.CombinedOutput()
		if got := cmd.ProcessState.ExitCode(); got != want {
			t.Fatalf("$ %s\nends with %d, not %d:\n%s", call, got, want, out)
		}
		if len(out) == 0 && strings.HasPrefix(call, "oaken") {
			t.Errorf("$ %s\nsays nothing", call)
		}
	}
	if lines < 25 {
		t.Errorf("the first hour has %d lines", lines)
	}
	if text, err := os.ReadFile(filepath.Join(dir, "notes/opening.txt")); err != nil || !strings.Contains(string(text), "in April") {
		t.Errorf("after the conflict Imke has %s, %v", text, err)
	}
}
