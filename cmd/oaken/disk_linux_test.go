package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
)

// smallDisk mounts a file system of some KiB; who may not mount skips the test.
func smallDisk(t *testing.T, kib int) string {
	t.Helper()
	dir := t.TempDir()
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, fmt.Sprintf("size=%dk", kib)); err != nil {
		t.Skipf("a small file system can't be mounted here: %v", err)
	}
	t.Cleanup(func() {
		if err := syscall.Unmount(dir, syscall.MNT_DETACH); err != nil {
			t.Error(err)
		}
	})
	return dir
}

// fill takes all the room of a file system but for some bytes, until free is called.
func fill(t *testing.T, dir string, leave int64) (free func()) {
	t.Helper()
	var st syscall.Statfs_t
	if err := syscall.Statfs(dir, &st); err != nil {
		t.Fatal(err)
	}
	name := filepath.Join(dir, "filler")
	if n := int64(st.Bavail)*st.Bsize - leave; n > 0 {
		if err := os.WriteFile(name, make([]byte, n), 0o666); err != nil {
			t.Fatal(err)
		}
	}
	return func() { os.Remove(name) }
}

// fullDisks is how often TestAFullDisk fills the disk; OAKEN_FULL sets another number.
func fullDisks(t *testing.T) int {
	s := os.Getenv("OAKEN_FULL")
	if s == "" {
		return 60
	}
	n, err := strconv.Atoi(s)
	if err != nil {
		t.Fatal(err)
	}
	return n
}

// TestAFullDisk lets the disk become full at random points of commits, switches,
// restores, syncs, discards, merges and tidyings: writes then fail, or write only
// a part. After each the chest is whole, everything that was acknowledged is
// there, and the workspace is as before or as after.
func TestAFullDisk(t *testing.T) {
	disk := smallDisk(t, 12<<10)
	p := &project{t: t, dir: filepath.Join(disk, "imke")}
	other := &project{t: t, dir: filepath.Join(disk, "tarek")}
	if err := os.Mkdir(p.dir, 0o777); err != nil {
		t.Fatal(err)
	}
	r := rand.New(rand.NewPCG(7, 7))
	content := func() string {
		b := make([]byte, 2000+r.IntN(30000))
		for i := range b {
			b[i] = byte(r.IntN(256))
		}
		return string(b)
	}
	for i := range 12 {
		p.write(fmt.Sprintf("many/%d.bin", i), content())
	}
	p.ok("begin")
	p.unlocked()
	p.ok("commit", "-m", "First")
	p.ok("branch", "kelp")
	p.ok("go", "kelp")
	for i := range 12 {
		p.write(fmt.Sprintf("many/%d.bin", i), content())
	}
	p.ok("commit", "-m", "Otherwise")
	states := map[string]string{"kelp": p.tree(".")}
	p.ok("go", "main")
	states["main"] = p.tree(".")
	(&project{t: t, dir: disk}).ok("open", p.dir, "tarek")
	branch, refused := "main", 0
	squeezed := func(q *project, args ...string) bool {
		t.Helper()
		free := fill(t, disk, int64(r.IntN(150_000)))
		res := q.run(args...)
		free()
		if strings.Contains(res.err, "panic") || strings.Contains(res.err, "mistake of oaken itself") || res.status != 0 &&
			strings.Count(res.err, "\n") < 2 {
			t.Errorf("oaken %s on a full disk: status %d\n%s", strings.Join(args, " "), res.status, res.err)
		}
		if res.status != 0 {
			refused++
		}
		return res.status == 0
	}
	commits := func() int { return len(p.object("history", "--limit", "100000")["commits"].([]any)) }
	for n := range fullDisks(t) {
		switch r.IntN(6) {
		case 0, 1:
			name := fmt.Sprintf("many/%d.bin", r.IntN(12))
			p.write(name, content())
			before, count := p.tree("."), commits()
			done := squeezed(p, "commit", "-m", fmt.Sprint("commit ", n))
			if p.tree(".") != before {
				t.Fatalf("%d: a commit changed files", n)
			}
			if now := commits(); done && now != count+1 || now < count {
				t.Fatalf("%d: %d commits before, %d after, acknowledged %v", n, count, now, done)
			}
			if !strings.Contains(p.ok("changes"), "Nothing has changed") {
				p.ok("commit", "-m", fmt.Sprint("again ", n))
			}
			states[branch] = before
		case 2:
			squeezed(p, "go", map[string]string{"main": "kelp", "kelp": "main"}[branch])
			now := p.object("changes")
			branch = now["branch"].(string)
			if got := p.tree("."); got != states[branch] || len(now["changes"].([]any)) != 0 {
				t.Fatalf("%d: after a switch on a full disk the workspace is on %s and has changes %v", n, branch, now["changes"])
			}
		case 3:
			squeezed(p, "restore", "many", "--from", map[string]string{"main": "kelp", "kelp": "main"}[branch])
			p.ok("changes")
			p.ok("restore", ".", "--from", branch)
			if p.tree(".") != states[branch] {
				t.Fatalf("%d: restoring after a restore on a full disk gives other files", n)
			}
		case 4:
			squeezed(other, "sync")
			if now := other.object("changes"); len(now["changes"].([]any)) != 0 {
				t.Fatalf("%d: after a sync on a full disk the workspace has changes %v", n, now["changes"])
			}
		default:
			p.write("many/3.bin", content())
			edited := p.tree(".")
			done := squeezed(p, "discard", "many/3.bin")
			if got := p.tree("."); done && got != states[branch] || !done && got != edited && got != states[branch] {
				t.Fatalf("%d: a discard on a full disk, done is %v, left other files", n, done)
			}
			p.ok("discard", ".")
			squeezed(p, "tidy", "--grace", "0s")
		}
		if err := os.RemoveAll(p.path(".oaken/rescue")); err != nil { // or they fill the disk themselves
			t.Fatal(err)
		}
		var st syscall.Statfs_t
		if err := syscall.Statfs(disk, &st); err == nil && st.Bavail*uint64(st.Bsize) < 3<<20 {
			break
		}
		if n%5 == 0 {
			p.ok("health")
		}
	}
	if out := p.ok("health"); !strings.Contains(out, "is whole") {
		t.Errorf("health: %s", out)
	}
	other.ok("sync")
	t.Logf("%d calls were refused for want of room", refused)
	if refused < 5 {
		t.Errorf("only %d calls met a full disk", refused)
	}
}

// TestADiskThatCantBeWritten looks at everything, and changes nothing.
func TestADiskThatCantBeWritten(t *testing.T) {
	disk := smallDisk(t, 8<<10)
	src := world(t)
	src.write("notes/edited.txt", "edited\n")
	p := &project{t: t, dir: filepath.Join(disk, "project")}
	if err := os.CopyFS(p.dir, os.DirFS(src.dir)); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Mount("", disk, "", syscall.MS_REMOUNT|syscall.MS_RDONLY, ""); err != nil {
		t.Fatal(err)
	}
	for _, call := range []string{"changes", "compare", "history", "history notes", "show main", "find lamp", "find --history lamp",
		"authors notes/opening.txt", "locks", "conflicts", "health", "usage", "branch", "release list", "env list", "compare main work",
		"inspect exhibit/reef.glb"} {
		p.ok(strings.Fields(call)...)
	}
	for _, call := range []string{"commit -m x", "lock exhibit/reef.glb", "tidy", "sync", "restore . --from main", "branch new",
		"release x", "health --repair", "discard .", "env add e sqlite:e.db", "capture dev"} {
		p.fails(5, "can't be written", strings.Fields(call)...)
	}
	at := &project{t: t, dir: t.TempDir()}
	at.ok("open", p.dir, "copy")
	copied := &project{t: t, dir: filepath.Join(at.dir, "copy")}
	copied.write("notes/new.txt", "new\n")
	copied.fails(5, "can't be written", "commit", "-m", "Into a chest that can't be written")
}

// TestAFullDiskUnderTheServer: what has no room is refused and loses nothing, on the disk that is full a little later than the
// acts before, or from the first byte on; once there is room, work goes on, and what had come of a bale is not sent again.
func TestAFullDiskUnderTheServer(t *testing.T) {
	disk := smallDisk(t, 24<<10)
	at := serveIn(t, filepath.Join(disk, "data"))
	atServers.Lock()
	serversByOf[t.Name()] = at
	atServers.Unlock()
	p := empty(t)
	p.write("a.txt", "one\n")
	p.ok("begin", "--as", "Imke", "--chest", "../chest")
	p.ok("commit", "-m", "One")
	for n, leave := range []int64{10 << 20, 64 << 10, 0} {
		free := fill(t, disk, leave)
		big := make([]byte, 12<<20)
		for i := range big {
			big[i] = byte(rand.Uint32())
		}
		p.write("big.bin", string(big))
		r := p.run("commit", "-m", "Too much")
		if r.status != 5 || !strings.Contains(r.err, "there is no room") && !strings.Contains(r.err, "full") {
			t.Errorf("with %d bytes left: %d\n%s%s", leave, r.status, r.out, r.err)
		}
		p.tells("main:"+strconv.Itoa(n+1), "history")
		free()
		if err := os.Remove(p.path("big.bin")); err != nil {
			t.Fatal(err)
		}
		p.write("a.txt", fmt.Sprint("after ", n, "\n"))
		p.tells(fmt.Sprint("main:", n+2), "commit", "-m", "There is room")
	}
	p.tells("The chest is whole", "health")
	if list, err := filepath.Glob(filepath.Join(at.data, "projects", "*", "bales", "*.part")); err != nil || len(list) > 0 {
		t.Errorf("%v, %v", list, err)
	}
}
