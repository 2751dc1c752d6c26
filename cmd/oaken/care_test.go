package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"oakenchest/sample"
)

func TestTidyTakesOnlyWhatNothingReaches(t *testing.T) {
	p := world(t)
	for i := range 3 {
		p.reef(sample.Lamp{Scale: float64(2 + i), Brightness: 40})
		p.write("noise.bin", strings.Repeat(fmt.Sprint(i, "\x00"), 100_000))
		p.ok("commit", "-m", fmt.Sprint("version ", i))
	}
	bales := p.path(".oaken/chest/bales")
	p.write(".oaken/chest/bales/writing-123", "left by a killed process")
	p.write(".oaken/chest/bales/feed.bale", "OAKBALE\x01 without keys")
	if out := p.ok("tidy"); !strings.Contains(out, "Nothing to tidy") {
		t.Errorf("within the grace time: %s", out)
	}
	if out := p.ok("tidy", "--grace", "0s"); !strings.Contains(out, "won back from 2 bales") {
		t.Errorf("tidy: %s", out)
	}
	// Damage, mended by a second copy: tidy takes the damaged one away.
	found, err := filepath.Glob(filepath.Join(bales, "*.bale"))
	if err != nil || len(found) == 0 {
		t.Fatal(err)
	}
	for _, full := range found {
		name := strings.TrimPrefix(full, p.dir)
		data := []byte(p.read(name))
		data[len(data)-20] ^= 1
		p.write(name, string(data))
	}
	p.run("health", "--repair")
	p.ok("restore", ".", "--from", "main")
	before := p.run("health")
	p.run("tidy", "--grace", "0s")
	after := p.run("health")
	if after.status > before.status {
		t.Errorf("tidy made it worse: %s%s", after.out, after.err)
	}
	p.ok("restore", ".", "--from", "main")
}

func TestTidyBesideCommitsAndReaders(t *testing.T) {
	p := world(t)
	p.unlocked()
	var wg sync.WaitGroup
	call := func(args ...string) {
		cmd := exec.Command(program, args...)
		cmd.Dir = p.dir
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Errorf("%v: %v\n%s", args, err, out)
		}
	}
	wg.Go(func() {
		for i := range 8 {
			if err := os.WriteFile(p.path("busy.bin"), []byte(strings.Repeat(fmt.Sprint(i%3, "\x00"), 50_000)), 0o666); err != nil {
				t.Error(err)
			}
			call("commit", "busy.bin", "-m", "busy")
		}
	})
	wg.Go(func() {
		for range 8 {
			call("tidy", "--grace", "0s")
		}
	})
	other := t.TempDir()
	wg.Go(func() {
		for i := range 4 {
			call("open", p.dir, filepath.Join(other, fmt.Sprint(i)))
		}
	})
	wg.Wait()
	p.ok("health")
	if n := len(p.object("history")["commits"].([]any)); n != 10 {
		t.Errorf("%d commits, want 10", n)
	}
}

func TestUsageCountsWhatVersionsTake(t *testing.T) {
	p := world(t)
	p.write("noise.bin", strings.Repeat("\x00\x01", 1000))
	p.ok("commit", "-m", "one")
	p.write("noise.bin", strings.Repeat("\x00\x02", 1000))
	p.ok("commit", "-m", "two")
	for _, a := range p.object("usage")["artifacts"].([]any) {
		row := a.(map[string]any)
		if row["path"] == "noise.bin" && (row["versions"] != 2.0 || row["bytes"] != 2000.0 || row["stored"].(float64) > 400) {
			t.Errorf("usage: %v", row)
		}
	}
	if out := p.ok("usage", "--limit", "1"); !strings.Contains(out, "One more workspace of main:3: 11 files") ||
		!strings.Contains(out, "and 10 more") {
		t.Errorf("usage: %s", out)
	}
}

func TestBeginProposesWhatToLeaveOut(t *testing.T) {
	p := empty(t)
	p.write("package.json", "{}")
	p.write("node_modules/x/y.js", "x")
	p.write("src/a.js", "x")
	if out := p.ok("begin"); !strings.Contains(out, "preset     web") || !strings.Contains(out, "3 files are waiting") {
		t.Errorf("begin: %s", out)
	}
	p = empty(t)
	p.write("package.json", "{}")
	p.fails(2, "There is no preset", "begin", "--preset", "nothing")
	if out := p.ok("begin", "--preset", "office", "--preset", "modelling"); strings.Contains(out, "web") ||
		!strings.Contains(p.read("oaken.toml"), "**/*.blend[0-9]") {
		t.Errorf("begin: %s", out)
	}
	if out := p.ok("preset", "web"); !strings.Contains(out, "node_modules") {
		t.Errorf("preset: %s", out)
	}
}

func TestRepairFromACopyElsewhere(t *testing.T) {
	p := world(t)
	p.write("notes/opening.txt", "the second version, which the workspace holds\n")
	p.ok("commit", "-m", "Second")
	backup := &project{t: t, dir: t.TempDir()}
	if err := os.CopyFS(backup.path("copy"), os.DirFS(p.path(".oaken/chest"))); err != nil {
		t.Fatal(err)
	}
	bales, err := filepath.Glob(p.path(".oaken/chest/bales/*.bale"))
	if err != nil || len(bales) == 0 {
		t.Fatal(bales, err)
	}
	for _, f := range bales { // nothing of the chest's bytes is left
		os.Chmod(f, 0o666)
		if err := os.WriteFile(f, []byte("OAKPACK\x02"), 0o666); err != nil {
			t.Fatal(err)
		}
	}
	if r := p.run("health", "--repair"); r.status != 6 {
		t.Errorf("the workspace can't hold everything: status %d\n%s", r.status, r.out)
	}
	p.fails(2, "--from needs --repair", "health", "--from", backup.path("copy"))
	p.fails(5, "no chest to open", "health", "--repair", "--from", backup.path("none"))
	p.ok("health", "--repair", "--from", backup.path("copy"))
	for _, state := range []string{"main:1", "main:2"} {
		p.ok("restore", ".", "--from", state, "--to", p.path("../"+strings.ReplaceAll(state, ":", "")))
	}
	p.ok("tidy", "--grace", "0s")
	if out := p.ok("health"); !strings.Contains(out, "is whole") {
		t.Errorf("health: %s", out)
	}
}

func TestUsageByKind(t *testing.T) {
	p := world(t)
	u := p.object("usage")
	kinds := map[string]float64{}
	total := 0.0
	for _, k := range u["kinds"].([]any) {
		row := k.(map[string]any)
		kinds[row["kind"].(string)] = row["artifacts"].(float64)
		total += row["stored"].(float64)
	}
	if kinds["scene"] != 1 || kinds["picture"] != 1 || kinds["sound"] != 1 || kinds["schema"] == 0 || kinds["package"] != 1 {
		t.Errorf("kinds: %v", kinds)
	}
	if transfer := u["transfer"].(float64); transfer != total || transfer >= u["stored"].(float64) || transfer <= 0 {
		t.Errorf("with one commit the transfer is what its files take, %v: %v", total, transfer)
	}
	p.write("exhibit/more.bin", strings.Repeat("more\x00", 1000))
	p.ok("commit", "-m", "More")
	if again := p.object("usage"); again["transfer"].(float64) <= u["transfer"].(float64) ||
		again["workspace"].(float64) != u["workspace"].(float64)+5000 {
		t.Errorf("after another file: %v", again)
	}
}
