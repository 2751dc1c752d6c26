package main

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"
)

// kills is how many processes TestKilledAtAnyMoment kills; OAKEN_KILLS sets
// another number, for long runs.
func kills(t *testing.T) int {
	if s := os.Getenv("OAKEN_KILLS"); s != "" {
		n, err := strconv.Atoi(s)
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	return 120
}

// killed starts a call and kills it after a while, unless it ends before.
func (p *project) killed(after time.Duration, args ...string) (ended bool, out string) {
	p.t.Helper()
	var buf bytes.Buffer
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Stdout, cmd.Stderr = p.dir, &buf, &buf
	if err := cmd.Start(); err != nil {
		p.t.Fatal(err)
	}
	timer := time.AfterFunc(after, func() { _ = cmd.Process.Kill() })
	err := cmd.Wait()
	timer.Stop()
	return err == nil, buf.String()
}

// TestKilledAtAnyMoment kills commits, switches, restores and merges at random
// moments. After each, the chest opens and is whole, everything that was
// acknowledged is there, and the workspace is as before or as after.
func TestKilledAtAnyMoment(t *testing.T) {
	p := world(t)
	r := rand.New(rand.NewPCG(1, 2))
	for i := range 40 {
		p.write(fmt.Sprintf("many/%d.bin", i), strings.Repeat(fmt.Sprint("a", i, "\x00"), 2000))
	}
	p.ok("commit", "-m", "Many files")
	p.ok("branch", "other")
	p.ok("switch", "other")
	for i := range 40 {
		p.write(fmt.Sprintf("many/%d.bin", i), strings.Repeat(fmt.Sprint("b", i, "\x00"), 2000))
	}
	os.Remove(p.path("many/3.bin"))
	p.write("many/new.bin", "new\x00")
	p.ok("commit", "-m", "All of them otherwise")
	p.ok("switch", "main")
	states := map[string]string{"main": p.tree("."), "other": ""}
	p.ok("switch", "other")
	states["other"] = p.tree(".")
	branch, acknowledged, died := "other", 2, 0
	base := map[string]int{"main": 2, "other": 3}
	for n := range kills(t) {
		delay := time.Duration(r.IntN(45)) * time.Millisecond
		before := p.tree(".")
		var ended bool
		var out string
		switch r.IntN(4) {
		case 0:
			p.write("many/new.bin", fmt.Sprint(n, "\x00"))
			before = p.tree(".")
			ended, out = p.killed(delay, "commit", "-m", fmt.Sprint("commit ", n))
			if p.tree(".") != before {
				t.Fatalf("kill %d: a killed commit changed files", n)
			}
			count := len(p.object("history", "--limit", "100000")["commits"].([]any))
			if ended {
				acknowledged = count
			}
			if !strings.Contains(p.ok("changes"), "Nothing has changed") {
				p.ok("commit", "-m", fmt.Sprint("again ", n))
			}
			states[branch] = before
		case 1:
			to := map[string]string{"main": "other", "other": "main"}[branch]
			ended, out = p.killed(delay, "switch", to)
			now := p.object("changes")
			branch = now["branch"].(string)
			if got := p.tree("."); got != states[branch] || len(now["changes"].([]any)) != 0 {
				t.Fatalf("kill %d: after a killed switch to %s the workspace is on %s and has changes %v", n, to, branch, now["changes"])
			}
		case 2:
			ended, out = p.killed(delay, "restore", "many", "--from", "main:2")
			p.ok("changes") // finishes what was begun
			p.ok("restore", ".", "--from", branch)
			if got := p.tree("."); got != states[branch] {
				t.Fatalf("kill %d: restoring after a killed restore gives other files", n)
			}
		default:
			if branch == "other" || base["main"] > 2 {
				continue
			}
			ended, out = p.killed(delay, "merge", "other")
			if s := p.object("changes"); s["underWay"] != "" {
				p.ok("merge", "--abandon")
				if got := p.tree("."); got != states[branch] {
					t.Fatalf("kill %d: giving a killed merge up gives other files", n)
				}
			} else if got := p.tree("."); got != states[branch] {
				states[branch], base["main"] = got, 3
				p.ok("revert", "main")
				if got := p.tree("."); got != before {
					t.Fatalf("kill %d: undoing the merge gives other files", n)
				}
				states[branch] = before
			}
		}
		if !ended {
			died++
			if strings.Contains(out, "panic") {
				t.Fatalf("kill %d: %s", n, out)
			}
		}
		if n%10 == 0 {
			p.ok("health")
			if got := len(p.object("history", "--limit", "100000")["commits"].([]any)); got < 1 {
				t.Fatalf("kill %d: %d commits are left", n, got)
			}
		}
	}
	if out := p.ok("health"); !strings.Contains(out, "is whole") {
		t.Errorf("health: %s", out)
	}
	left, err := filepath.Glob(p.path(".oaken/temp/*"))
	if err != nil || len(left) > 0 {
		t.Errorf("temporary files are left: %v", left)
	}
	t.Logf("%d calls were killed, the last acknowledged history has %d commits", died, acknowledged)
	if died < 10 {
		t.Errorf("only %d calls were killed before they ended", died)
	}
}

// TestTwoProcessesOnOneWorkspace lets several calls run at once: each works or
// waits, and none spoils anything.
func TestTwoProcessesOnOneWorkspace(t *testing.T) {
	p := world(t)
	var wg sync.WaitGroup
	for i := range 8 {
		wg.Go(func() {
			name := fmt.Sprintf("notes/%d.txt", i)
			if err := os.WriteFile(p.path(name), []byte(name), 0o666); err != nil {
				t.Error(err)
			}
			cmd := exec.CommandContext(context.Background(), program, "commit", name, "-m", name)
			cmd.Dir = p.dir
			if out, err := cmd.CombinedOutput(); err != nil {
				t.Errorf("%v\n%s", err, out)
			}
		})
	}
	wg.Wait()
	if n := len(p.object("history")["commits"].([]any)); n != 9 {
		t.Errorf("%d commits, want 9", n)
	}
	if out := p.ok("changes"); !strings.Contains(out, "Nothing has changed") {
		t.Errorf("changes: %s", out)
	}
	p.ok("health")
}

func TestHealthNamesWhatIsDamagedAndMendsIt(t *testing.T) {
	p := world(t)
	p.write("large.bin", strings.Repeat("0123456789abcdef\x00", 1<<16))
	p.ok("commit", "-m", "Large")
	packs, err := filepath.Glob(p.path(".oaken/chest/packs/*.pack"))
	if err != nil || len(packs) == 0 {
		t.Fatal(err)
	}
	touched, mended := 0, 0
	for _, full := range packs {
		name := strings.TrimPrefix(full, p.dir)
		whole := p.read(name)
		r := rand.New(rand.NewPCG(3, uint64(len(whole))))
		for range 12 {
			at := 8 + r.IntN(len(whole)-8)
			damaged := []byte(whole)
			damaged[at] ^= 1 << r.IntN(8)
			p.write(name, string(damaged))
			bad := p.run("--json", "health")
			if bad.status != 6 || !strings.Contains(bad.out, filepath.Base(name)) {
				t.Fatalf("byte %d of %s: status %d\n%s", at, name, bad.status, bad.out)
			}
			if strings.Contains(bad.out, " in main:") {
				repair, after := p.run("health", "--repair"), p.run("health")
				if repair.status != after.status || (after.status == 0) != strings.Contains(after.out, "is whole") {
					t.Fatalf("byte %d of %s: %d, then %d\n%s%s", at, name, repair.status, after.status, repair.out, after.out)
				}
				if touched++; after.status == 0 {
					mended++
				}
			}
			p.write(name, whole)
			for _, pattern := range []string{"*.pack", "*.index"} { // the packs of repairs
				now, _ := filepath.Glob(p.path(".oaken/chest/packs/" + pattern))
				for _, f := range now {
					if stem := strings.TrimSuffix(strings.TrimSuffix(f, ".index"), ".pack"); !strings.Contains(strings.Join(packs, " "), stem+".pack") {
						os.Remove(f)
					}
				}
			}
		}
	}
	if touched < 10 || mended < touched/2 { // what the workspace no longer holds can't be mended from it
		t.Errorf("%d damages touched something, %d were mended", touched, mended)
	}
	p.ok("health")
	os.Remove(packs[0])
	if r := p.run("health"); r.status != 6 || !strings.Contains(r.out, "the pack is gone") || !strings.Contains(r.out, "touches") {
		t.Errorf("a pack that is gone: %d\n%s", r.status, r.out)
	}
}
