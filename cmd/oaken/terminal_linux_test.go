package main

import (
	"os/exec"
	"strings"
	"testing"
	"time"
)

// TestWhatWasTypedAheadIsLeftAlone pastes lines into a pseudo-terminal, each of which would be run by a
// shell: commands ask the terminal nothing, and swallow nothing of what is still to come.
func TestWhatWasTypedAheadIsLeftAlone(t *testing.T) {
	if _, err := exec.LookPath("script"); err != nil {
		t.Skip("no pseudo-terminal: install util-linux's script")
	}
	p := empty(t)
	p.ok("begin")
	p.write("note.txt", "x\n")
	cmd := exec.Command("script", "-qec", "sh", "/dev/null")
	cmd.Dir = p.dir
	cmd.Env = append(cmd.Environ(), "TERM=xterm-256color", "PS1=", "OAKEN="+program)
	in, err := cmd.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	var out strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	lines := []string{`"$OAKEN" changes`, `"$OAKEN" commit -m "First"`, `"$OAKEN" history`,
		`"$OAKEN" compare main:1 work; echo "the last"" line"`, "exit"}
	if _, err := in.Write([]byte(strings.Join(lines, "\n") + "\n")); err != nil { // all at once
		t.Fatal(err)
	}
	timer := time.AfterFunc(30*time.Second, func() { _ = cmd.Process.Kill() })
	err = cmd.Wait()
	timer.Stop()
	text := out.String()
	for _, want := range []string{"note.txt", "published as", "the last line"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is missing: %v\n%q", want, err, text)
		}
	}
	for _, query := range []string{"\x1b]10;", "\x1b]11;", "\x1b[6n", "\x1b[c"} {
		if strings.Contains(text, query) {
			t.Errorf("the terminal is asked %q", query)
		}
	}
}
