package main

import (
	"bytes"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// stopped starts a call, sends it signals after a while, one soon after the other, and gives its status.
func (p *project) stopped(after time.Duration, signals []os.Signal, args ...string) (status int, told string) {
	p.t.Helper()
	var out bytes.Buffer
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Stdout, cmd.Stderr = p.dir, &out, &out
	cmd.Env = append(os.Environ(), "TZ=UTC", "XDG_CONFIG_HOME="+filepath.Join(filepath.Dir(program), "config"))
	if err := cmd.Start(); err != nil {
		p.t.Fatal(err)
	}
	time.Sleep(after)
	for _, s := range signals {
		_ = cmd.Process.Signal(s) // it may have ended
		time.Sleep(5 * time.Millisecond)
	}
	_ = cmd.Wait()
	return cmd.ProcessState.ExitCode(), out.String()
}

// TestAStoppedCommandLeavesAllAsItWas stops a commit of a large file in each way: it has a status of its own, the
// workspace is as it was, and the next commit does what was wanted.
func TestAStoppedCommandLeavesAllAsItWas(t *testing.T) {
	p := &project{t: t, dir: filepath.Join(t.TempDir(), "work")}
	p.write("a.txt", "one\n")
	p.ok("begin")
	p.ok("commit", "-m", "First")
	big := make([]byte, 120<<20)
	r := rand.NewChaCha8([32]byte{7})
	_, _ = r.Read(big) // never fails
	if err := os.WriteFile(p.path("big.bin"), big, 0o666); err != nil {
		t.Fatal(err)
	}
	before, err := os.Stat(p.path("big.bin"))
	if err != nil {
		t.Fatal(err)
	}
	for _, signals := range [][]os.Signal{{os.Interrupt}, {syscall.SIGTERM}, {os.Interrupt, os.Interrupt},
		{syscall.SIGTERM, syscall.SIGTERM}} {
		status, told := p.stopped(100*time.Millisecond, signals, "commit", "-m", "Large")
		if status != 130 || !strings.Contains(told, "interrupted") {
			t.Errorf("%v: status %d\n%s", signals, status, told)
		}
		if now, err := os.Stat(p.path("big.bin")); err != nil || !now.ModTime().Equal(before.ModTime()) || p.read("a.txt") != "one\n" {
			t.Errorf("%v changed files: %v", signals, err)
		}
		p.says(p.ok("changes"), "new", "big.bin")
		if n := len(p.object("history")["commits"].([]any)); n != 1 {
			t.Errorf("%v: %d commits", signals, n)
		}
	}
	if left, _ := filepath.Glob(p.path(".oaken/chest/bales/writing-*")); len(left) > 2 { // those that were stopped twice
		t.Errorf("left behind: %v", left)
	}
	status, told := p.stopped(100*time.Millisecond, []os.Signal{os.Interrupt}, "--json", "commit", "-m", "Large")
	if status != 130 || !strings.Contains(told, `"interrupted"`) {
		t.Errorf("as JSON: %d\n%s", status, told)
	}
	p.ok("commit", "-m", "Large")
	p.ok("health")
}
