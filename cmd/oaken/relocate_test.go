package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestTheChestMoves brings a chest out of a workspace, then to another folder by hand, with a second
// workspace that has to find it.
func TestTheChestMoves(t *testing.T) {
	p := &project{t: t, dir: filepath.Join(t.TempDir(), "work")}
	p.write("note.txt", "one\n")
	p.ok("begin")
	p.ok("commit", "-m", "First")
	p.ok("release", "first")
	p.ok("lock", "note.txt")
	second := p.beside("second")
	p.fails(2, "lies inside the folder", "relocate", "inner/chest")
	p.write("../full/x.txt", "x\n")
	p.fails(4, "is not empty", "relocate", "../full")
	p.says(p.ok("relocate", "../shared/chest"), "The chest is in ", "each file proven")
	for _, name := range []string{"bales"} {
		if _, err := os.Stat(p.path(".oaken/chest/" + name)); err == nil {
			t.Errorf("%s is left in the old place", name)
		}
	}
	p.says(p.ok("locks"), "note.txt")
	p.ok("health")
	second.says(second.ok("history"), "First")
	second.write("own.txt", "two\n")
	second.ok("commit", "-m", "By the second")
	p.ok("sync")
	p.ok("open", ".", "../third")
	p.says(p.ok("release", "list"), "first")

	// The folder is moved by hand: each workspace is told where it is, and believes no other chest.
	if err := os.Rename(p.path("../shared"), p.path("../drive")); err != nil {
		t.Fatal(err)
	}
	p.fails(5, "holds none", "relocate", "../drive")
	p.write("../other/a.txt", "a\n")
	p.ok("begin", "--in", "../other", "--chest", "../otherchest")
	p.ok("commit", "--in", "../other", "-m", "Another project")
	p.fails(4, "does not hold main:2", "relocate", "../otherchest")
	p.says(p.ok("relocate", "../drive/chest"), "looks for its chest in")
	p.fails(4, "holds another chest", "relocate", "../otherchest")
	p.ok("commit", "-m", "Nothing new")
	second.ok("relocate", p.path("../drive/chest"))
	second.ok("health")

	// A copy that lags behind is no other path of the same chest.
	p.call("cp", "-r", p.path("../drive/chest"), p.path("../copy"))
	p.fails(4, "holds another chest", "relocate", "../copy")
}

// TestAMoveLosesNothing kills moves of the chest at any moment, while another workspace commits: what was
// acknowledged is there, and there is one chest.
func TestAMoveLosesNothing(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 19))
	p := &project{t: t, dir: filepath.Join(t.TempDir(), "work")}
	for i := range 30 {
		p.write(fmt.Sprintf("many/%d.bin", i), strings.Repeat(fmt.Sprint(i, "\x00"), 3000))
	}
	p.ok("begin", "--chest", "../chest0")
	p.ok("commit", "-m", "First")
	second := p.beside("second")
	acknowledged, died, moved := 1, 0, 0
	for n := 1; n <= kills(t)/8; n++ {
		to := fmt.Sprint("../chest", n)
		done := make(chan int)
		go func() {
			second.write("own.txt", fmt.Sprint("line ", n, "\n"))
			done <- second.run("commit", "-m", fmt.Sprint("Commit ", n)).status
		}()
		if ended, out := p.killed(time.Duration(r.IntN(60))*time.Millisecond, "relocate", to); !ended {
			died++
			if strings.Contains(out, "panic") {
				t.Fatal(out)
			}
		} else {
			moved++
		}
		if <-done == 0 {
			acknowledged++
		} else {
			second.ok("commit", "-m", fmt.Sprint("Commit ", n, " again"))
			acknowledged++
		}
		second.ok("sync") // the chest may have been out of reach for a moment: the commit is held then
		p.ok("sync")
		if got := strings.Count(p.ok("history", "--limit", "1000"), "\n"); got != acknowledged {
			t.Fatalf("move %d: %d commits, %d were acknowledged\n%s%s", n, got, acknowledged, second.ok("changes"), second.ok("history"))
		}
		if p.read("own.txt") != fmt.Sprint("line ", n, "\n") {
			t.Fatalf("move %d: the two workspaces are not of one chest", n)
		}
	}
	p.ok("relocate", "../chest-at-last")
	moved++
	second.ok("sync")
	p.ok("health")
	second.ok("health")
	live := 0
	places, _ := filepath.Glob(p.path("../chest*/bales"))
	for _, dir := range places {
		if _, err := os.Stat(filepath.Join(filepath.Dir(dir), "format")); err == nil {
			live++
		}
	}
	if live != 1 || died == 0 || moved == 0 {
		t.Errorf("%d chests; %d moves killed, %d not", live, died, moved)
	}
}
