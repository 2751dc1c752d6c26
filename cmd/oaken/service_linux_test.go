package main

import (
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// TestTheUnitFileStartsAServer starts what the unit file starts, with folders and a port of the test, asks whether it is
// ready, and ends it as the system would; where systemd is there, it judges the file.
func TestTheUnitFileStartsAServer(t *testing.T) {
	data, err := os.ReadFile("../../docs/oaken.service")
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	var start []string
	for line := range strings.Lines(string(data)) {
		if command, ok := strings.CutPrefix(strings.TrimSpace(line), "ExecStart="); ok {
			command = strings.NewReplacer("/usr/local/bin/oaken", program, "/srv/oaken", dir, ":7410", ":0").Replace(command)
			start = append(strings.Fields(command), "--json")
		}
	}
	if len(start) == 0 {
		t.Fatal("it starts nothing")
	}
	at := &playing{t: t, dir: dir}
	cmd := exec.Command(start[0], start[1:]...)
	url, _ := at.listen(cmd)["url"].(string)
	answer, err := http.Get(url + "/ready")
	if err != nil || answer.StatusCode != http.StatusOK {
		t.Errorf("%v, %v", answer, err)
	}
	began := time.Now()
	if err := cmd.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); err != nil || time.Since(began) > 15*time.Second {
		t.Errorf("it ended after %s with %v:\n%s", time.Since(began), err, at.errs.String())
	}
	judge, err := exec.LookPath("systemd-analyze")
	if err != nil {
		return
	}
	file := filepath.Join(dir, "oaken.service")
	text := strings.ReplaceAll(string(data), "/usr/local/bin/oaken", program)
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	out, _ := exec.Command(judge, "verify", file).CombinedOutput() // its status says more of the machine than of the file
	for line := range strings.Lines(string(out)) {
		if strings.Contains(line, "oaken.service") {
			t.Errorf("systemd says: %s", line)
		}
	}
}
