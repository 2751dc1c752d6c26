package main

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"
)

// TestFoldersKeepModes deploys files that may be run, replaces one whose mode somebody set, and
// meets symbolic links.
func TestFoldersKeepModes(t *testing.T) {
	old := syscall.Umask(0o022)
	defer syscall.Umask(old)
	p := &project{t: t, dir: filepath.Join(t.TempDir(), "work")}
	mode := func(name string, want os.FileMode) {
		t.Helper()
		if info, err := os.Stat(p.path(name)); err != nil || info.Mode().Perm() != want {
			t.Errorf("%s: %v, %v; want %v", name, info.Mode().Perm(), err, want)
		}
	}
	p.write("tools/pump.sh", "echo pump\n")
	p.write("tools/notes.txt", "calm\n")
	p.call("chmod", "755", "tools/pump.sh")
	p.ok("begin")
	p.ok("env", "add", "live", "folder:../live", "--into", "tools")
	p.ok("commit", "-m", "First")
	p.ok("deploy", "live", "--yes")
	there := "../live/"
	mode(there+"pump.sh", 0o755)
	mode(there+"notes.txt", 0o644)
	p.call("chmod", "640", there+"notes.txt")
	p.write("tools/notes.txt", "high\n")
	p.ok("commit", "-m", "High")
	p.ok("deploy", "live", "--yes")
	mode(there+"notes.txt", 0o640)
	p.ok("verify", "work", "env:live")

	p.write(there+"pump.sh", "echo faster\n")
	p.call("ln", "-s", "notes.txt", there+"link")
	p.says(p.ok("capture", "live", "--commit", "-m", "Faster"), "pump.sh")
	p.ok("sync")
	mode("tools/pump.sh", 0o755)
	p.ok("verify", "main", "env:live")

	p.write("tools/link/inside.txt", "x\n")
	p.ok("commit", "-m", "Behind a link")
	p.fails(4, "link is a symbolic link in", "deploy", "live", "--yes")
	if target, err := os.Readlink(p.path(there + "link")); err != nil || target != "notes.txt" {
		t.Errorf("the link leads to %q, %v", target, err)
	}
}
