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

// victim is what TestKilledAtAnyMoment works on: a workspace on one of two
// branches, another workspace of the same chest, and what both must look like.
type victim struct {
	*project
	other  *project // stays on main
	r      *rand.Rand
	branch string
	states map[string]string // by branch, what its tip looks like
	merged bool              // main holds a merge of other
	died   int
}

func newVictim(t *testing.T) *victim {
	p := world(t)
	p.unlocked()
	v := &victim{project: p, r: rand.New(rand.NewPCG(1, 2)), branch: "other", states: map[string]string{}}
	v.fill("a")
	p.ok("commit", "-m", "Many files")
	p.ok("branch", "other")
	v.other = p.beside("second")
	p.ok("go", "other")
	v.fill("b")
	os.Remove(p.path("many/3.bin"))
	p.write("many/new.bin", "new\x00")
	p.ok("commit", "-m", "All of them otherwise")
	v.states["other"] = p.tree(".")
	p.ok("go", "main")
	v.states["main"] = p.tree(".")
	p.ok("go", "other")
	return v
}

func (v *victim) fill(letter string) {
	for i := range 40 {
		v.write(fmt.Sprintf("many/%d.bin", i), strings.Repeat(fmt.Sprint(letter, i, "\x00"), 2000))
	}
}

// kill starts a call and kills it after a random while.
func (v *victim) kill(p *project, args ...string) (ended bool) {
	v.t.Helper()
	ended, out := p.killed(time.Duration(v.r.IntN(45))*time.Millisecond, args...)
	if !ended {
		v.died++
		if strings.Contains(out, "panic") {
			v.t.Fatalf("oaken %s: %s", strings.Join(args, " "), out)
		}
	}
	return ended
}

// same demands that the workspace looks as a branch does.
func (v *victim) same(p *project, branch, when string) {
	v.t.Helper()
	if got := p.tree("."); got != v.states[branch] {
		v.t.Fatalf("%s: the files are not those of %s", when, branch)
	}
}

func (v *victim) commits(p *project) int {
	return len(p.object("history", "--limit", "100000")["commits"].([]any))
}

func (v *victim) commit(n int) {
	v.write("many/new.bin", fmt.Sprint(n, "\x00", strings.Repeat("x", v.r.IntN(3000))))
	before, count := v.tree("."), v.commits(v.project)
	ended := v.kill(v.project, "commit", "-m", fmt.Sprint("commit ", n))
	if v.tree(".") != before {
		v.t.Fatalf("kill %d: a killed commit changed files", n)
	}
	now := v.commits(v.project)
	if ended && now != count+1 || now < count {
		v.t.Fatalf("kill %d: %d commits before, %d after", n, count, now)
	}
	if !strings.Contains(v.ok("changes"), "Nothing has changed") {
		v.ok("commit", "-m", fmt.Sprint("again ", n))
	}
	v.states[v.branch] = before
}

func (v *victim) swap(n int) {
	to := map[string]string{"main": "other", "other": "main"}[v.branch]
	v.kill(v.project, "go", to)
	now := v.object("changes")
	v.branch = now["branch"].(string)
	if len(now["changes"].([]any)) != 0 {
		v.t.Fatalf("kill %d: after a killed switch to %s the workspace is on %s and has changes %v", n, to, v.branch, now["changes"])
	}
	v.same(v.project, v.branch, fmt.Sprint("switch ", n))
}

func (v *victim) restore(n int) {
	v.kill(v.project, "restore", "many", "--from", "main:2")
	v.ok("changes") // finishes what was begun
	v.ok("restore", ".", "--from", v.branch)
	v.same(v.project, v.branch, fmt.Sprint("restore ", n))
}

func (v *victim) merge(n int) {
	if v.branch == "other" || v.merged {
		return
	}
	v.kill(v.project, "merge", "other")
	if s := v.object("changes"); s["underWay"] != "" {
		v.ok("merge", "--abandon")
		v.same(v.project, v.branch, fmt.Sprint("giving up merge ", n))
	} else if v.tree(".") != v.states[v.branch] {
		v.merged = true
		v.ok("revert", "main")
		v.same(v.project, v.branch, fmt.Sprint("undoing merge ", n))
	}
}

// sync kills the other workspace while it brings in what is newer on main.
func (v *victim) sync(n int) {
	if v.branch != "main" {
		return
	}
	v.write("many/new.bin", fmt.Sprint("sync ", n, "\x00"))
	v.write(fmt.Sprintf("many/%d.bin", v.r.IntN(40)), fmt.Sprint("sync ", n, "\x00"))
	v.ok("commit", "-m", fmt.Sprint("for sync ", n))
	v.states["main"] = v.tree(".")
	v.kill(v.other, "sync")
	if now := v.other.object("changes"); len(now["changes"].([]any)) != 0 {
		v.t.Fatalf("kill %d: after a killed sync the workspace has changes %v", n, now["changes"])
	}
	v.other.ok("sync")
	for _, folder := range []string{"many", "exhibit", "notes", "database"} { // not the databases beside them
		if v.other.tree(folder) != v.tree(folder) {
			v.t.Fatalf("kill %d: after a killed sync and another the folder %s differs", n, folder)
		}
	}
}

// tidy leaves something to remove, and kills the removing.
func (v *victim) tidy(n int) {
	v.write("many/new.bin", fmt.Sprint("wasted ", n, "\x00"))
	v.killed(time.Duration(5+v.r.IntN(15))*time.Millisecond, "commit", "-m", "Wasted")
	v.ok("discard", ".")
	v.kill(v.project, "tidy", "--grace", "0s")
	if strings.Contains(v.ok("history", "--limit", "1"), "Wasted") {
		v.states[v.branch] = v.tree(".")
	}
	v.same(v.project, v.branch, fmt.Sprint("tidy ", n))
}

// TestKilledAtAnyMoment kills commits, switches, restores, merges, syncs and
// tidyings at random moments. After each, the chest opens and is whole,
// everything that was acknowledged is there, and the workspace is as before or
// as after.
func TestKilledAtAnyMoment(t *testing.T) {
	v := newVictim(t)
	acts := []func(int){v.commit, v.commit, v.swap, v.swap, v.restore, v.merge, v.sync, v.tidy}
	for n := range kills(t) {
		acts[v.r.IntN(len(acts))](n)
		if n%10 == 0 {
			v.ok("health")
		}
	}
	if out := v.ok("health"); !strings.Contains(out, "is whole") {
		t.Errorf("health: %s", out)
	}
	for _, p := range []*project{v.project, v.other} {
		if left, err := filepath.Glob(p.path(".oaken/temp/*")); err != nil || len(left) > 0 {
			t.Errorf("temporary files are left: %v", left)
		}
	}
	t.Logf("%d of %d calls were killed; %d commits are in the history", v.died, kills(t), v.commits(v.project))
	if v.died < 10 {
		t.Errorf("only %d calls were killed before they ended", v.died)
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
	bales, err := filepath.Glob(p.path(".oaken/chest/bales/*.bale"))
	if err != nil || len(bales) == 0 {
		t.Fatal(err)
	}
	touched, mended := 0, 0
	for _, full := range bales {
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
			for _, pattern := range []string{"*.bale", "*.keys"} { // the bales of repairs
				now, _ := filepath.Glob(p.path(".oaken/chest/bales/" + pattern))
				for _, f := range now {
					if stem := strings.TrimSuffix(strings.TrimSuffix(f, ".keys"), ".bale"); !strings.Contains(strings.Join(bales, " "),
						stem+".bale") {
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
	os.Remove(bales[0])
	if r := p.run("health"); r.status != 6 || !strings.Contains(r.out, "the bale is gone") || !strings.Contains(r.out, "touches") {
		t.Errorf("a bale that is gone: %d\n%s", r.status, r.out)
	}
}

// TestFlippedBitsInEverySortOfFile flips bits in every file of the chest and of
// the workspace's own: health names the file, or nothing that oaken tells is
// otherwise than before.
func TestFlippedBitsInEverySortOfFile(t *testing.T) {
	p := world(t)
	p.ok("branch", "kelp")
	p.ok("go", "kelp")
	p.write("notes/opening.txt", "kelp\n")
	p.ok("commit", "-m", "Kelp")
	p.ok("go", "main")
	p.write("notes/opening.txt", "main\n")
	p.ok("commit", "-m", "Main")
	p.ok("release", "spring")
	p.ok("lock", "exhibit/reef.glb")
	p.ok("deploy", "test", "main")
	if r := p.run("merge", "kelp"); r.status != 3 {
		t.Fatalf("a merge without conflicts: %s", r.err)
	}
	views := [][]string{{"history"}, {"history", "--drawn"}, {"history", "notes/opening.txt"}, {"changes"}, {"branch"}, {"release", "list"},
		{"locks"}, {"conflicts"}, {"env", "list"}, {"show", "main"}}
	look := func() string {
		var all strings.Builder
		for _, v := range views {
			r := p.run(append([]string{"--json"}, v...)...)
			fmt.Fprintln(&all, r.status, r.out, r.err)
		}
		return all.String()
	}
	before := look()
	var files []string
	err := filepath.WalkDir(p.path(".oaken"), func(full string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() && !strings.Contains(full, "rescue") {
			files = append(files, full)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	r := rand.New(rand.NewPCG(8, 39))
	sorts := map[string]int{}
	for _, full := range files {
		whole, err := os.ReadFile(full)
		if err != nil {
			t.Fatal(err)
		}
		name := filepath.Base(full)
		flips := 24
		if name == "ledger.db" { // most of it is empty
			flips = 60
		}
		for range min(len(whole), flips) {
			damaged := append([]byte{}, whole...)
			at, bit := r.IntN(len(whole)), r.IntN(8)
			for name == "ledger.db" && whole[at] == 0 {
				at = r.IntN(len(whole))
			}
			damaged[at] ^= 1 << bit
			os.Chmod(full, 0o666)
			if err := os.WriteFile(full, damaged, 0o666); err != nil {
				t.Fatal(err)
			}
			h := p.run("health")
			switch said := h.out + h.err; {
			case h.status == 0:
				if now := look(); now != before {
					t.Errorf("bit %d of byte %d of %s: health finds nothing, and other things are told:\n%s", bit, at, name, now)
				}
			case strings.Contains(said, "panic") || !strings.Contains(said, name) &&
				!strings.Contains(said, strings.TrimSuffix(name, filepath.Ext(name))):
				t.Errorf("bit %d of byte %d of %s: status %d\n%s", bit, at, name, h.status, said)
			default:
				sorts[name[strings.LastIndexByte(name, '.')+1:]]++
			}
			if err := os.WriteFile(full, whole, 0o666); err != nil {
				t.Fatal(err)
			}
		}
	}
	if h := p.run("health"); h.status != 0 || look() != before {
		t.Errorf("with all bits back: %s%s", h.out, h.err)
	}
	t.Logf("found in files of these sorts: %v", sorts)
}
