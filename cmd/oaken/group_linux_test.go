package main

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// member is a person of the system, in a group.
type member struct {
	*project
	user, group uint32
	umask       string
}

// do makes a call as the person.
func (m *member) do(args ...string) result {
	m.t.Helper()
	var out, errs bytes.Buffer
	cmd := exec.Command("/bin/sh", append([]string{"-c", `umask ` + m.umask + ` && exec "$0" "$@"`, program}, args...)...)
	cmd.Dir, cmd.Stdout, cmd.Stderr = m.dir, &out, &errs
	cmd.Env = append(os.Environ(), "TZ=UTC", "XDG_CONFIG_HOME="+m.path(".config"), "HOME="+m.dir)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: m.user, Gid: m.group}}
	_ = cmd.Run()
	return result{cmd.ProcessState.ExitCode(), out.String(), errs.String()}
}

func (m *member) must(args ...string) string {
	m.t.Helper()
	r := m.do(args...)
	if r.status != 0 {
		m.t.Fatalf("%s as %d: %d\n%s%s", strings.Join(args, " "), m.user, r.status, r.out, r.err)
	}
	return r.out + r.err
}

// TestAChestInTheFolderOfAGroup is used by two accounts of a group and looked at by a third, with
// the umasks that people happen to have.
func TestAChestInTheFolderOfAGroup(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can be several people")
	}
	const group, others = 47001, 47002
	top, err := os.MkdirTemp("", "oaken-group-*")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(top) })
	for _, dir := range []string{top, filepath.Dir(program)} {
		if err := os.Chmod(dir, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	shared := filepath.Join(top, "shared")
	if err := os.Mkdir(shared, 0o777); err != nil {
		t.Fatal(err)
	}
	share := func(dir string) {
		if err := os.Chown(dir, 0, group); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(dir, 0o775|os.ModeSetgid); err != nil {
			t.Fatal(err)
		}
	}
	share(shared)
	person := func(name string, user, group uint32, umask string) *member {
		home := filepath.Join(top, name)
		if err := os.Mkdir(home, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.Chown(home, int(user), int(group)); err != nil {
			t.Fatal(err)
		}
		return &member{&project{t: t, dir: home}, user, group, umask}
	}
	imke, tarek, guest := person("imke", 46001, group, "022"), person("tarek", 46002, group, "077"), person("guest", 46003, others, "022")
	chest := filepath.Join(shared, "chests", "exhibit")

	imke.write("w/note.txt", "one\n")
	if err := os.Chown(imke.path("w"), 46001, group); err != nil {
		t.Fatal(err)
	}
	imke.must("begin", "--in", "w", "--chest", chest, "--as", "Imke")
	imke.must("commit", "--in", "w", "-m", "First")
	if out := tarek.must("open", chest, "w", "--as", "Tarek"); strings.Contains(out, "chmod") {
		t.Errorf("a chest of the group is said not to be: %s", out)
	}
	for round := range 3 {
		for _, m := range []*member{tarek, imke} {
			m.must("sync", "--in", "w")
			file := m.path("w/own-" + filepath.Base(m.dir) + ".txt")
			if err := os.WriteFile(file, bytes.Repeat([]byte{byte('a' + round)}, 10), 0o644); err != nil {
				t.Fatal(err)
			}
			m.must("lock", "--in", "w", filepath.Base(file))
			m.must("commit", "--in", "w", "-m", "Round")
		}
	}
	tarek.must("sync", "--in", "w")
	for _, m := range []*member{imke, tarek} {
		m.must("health", "--in", "w")
		if out := m.must("history", "--in", "w"); strings.Count(out, "Round") != 6 {
			t.Errorf("the history: %s", out)
		}
	}
	// The guest reads; nothing that the guest does changes the chest.
	if out := guest.must("open", chest, "w", "--as", "Guest"); !strings.Contains(out, "can read it, but not write") {
		t.Errorf("a guest is not told: %s", out)
	}
	if err := os.WriteFile(guest.path("w/guest.txt"), nil, 0o666); err != nil {
		t.Fatal(err)
	}
	if r := guest.do("commit", "--in", "w", "-m", "By a guest"); r.status != 5 && r.status != 4 && !strings.Contains(r.out, "unsent") {
		t.Errorf("a guest commits: %d %s%s", r.status, r.out, r.err)
	}

	// A chest that was made elsewhere and moved here with its own rights: it is said what to do, and that helps.
	imke.write("alone/note.txt", "one\n")
	if err := os.Chown(imke.path("alone"), 46001, group); err != nil {
		t.Fatal(err)
	}
	moved := filepath.Join(shared, "moved")
	imke.must("begin", "--in", "alone", "--chest", imke.path("chest"))
	imke.must("commit", "--in", "alone", "-m", "First")
	if err := os.Rename(imke.path("chest"), moved); err != nil {
		t.Fatal(err)
	}
	share(moved)
	if out := tarek.must("open", moved, "w2", "--as", "Tarek"); !strings.Contains(out, "chmod -R g+rwX") {
		t.Errorf("it is not said what to do: %s", out)
	}
	imke.call("chmod", "-R", "g+rwX", moved)
	if out := tarek.must("open", moved, "w3", "--as", "Tarek"); strings.Contains(out, "chmod") {
		t.Errorf("it is said though it was done: %s", out)
	}
	if err := os.WriteFile(tarek.path("w3/note.txt"), []byte("two\n"), 0o666); err != nil {
		t.Fatal(err)
	}
	tarek.must("commit", "--in", "w3", "-m", "Second")
}

// TestAChestOfOnesOwn keeps to the umask: what a person keeps from others, the chest keeps too.
func TestAChestOfOnesOwn(t *testing.T) {
	old := syscall.Umask(0o077)
	defer syscall.Umask(old)
	p := &project{t: t, dir: filepath.Join(t.TempDir(), "w")}
	p.write("note.txt", "one\n")
	p.ok("begin", "--chest", "../chest")
	p.ok("commit", "-m", "First")
	p.write("note.txt", "two\n")
	p.ok("discard", "note.txt")
	for _, top := range []string{p.path("../chest"), p.path(".oaken")} {
		err := filepath.WalkDir(top, func(full string, d os.DirEntry, err error) error {
			if err != nil {
				return err
			}
			info, err := d.Info()
			if err == nil && info.Mode().Perm()&0o077 != 0 {
				t.Errorf("%s: %v", full, info.Mode())
			}
			return err
		})
		if err != nil {
			t.Error(err)
		}
	}
	// Nor may others ever write what the workspace goes by.
	syscall.Umask(0)
	p.write("note.txt", "three\n")
	p.ok("commit", "-m", "Third")
	p.ok("lock", "note.txt")
	err := filepath.WalkDir(p.path(".oaken"), func(full string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err == nil && info.Mode().Perm()&0o002 != 0 {
			t.Errorf("%s: %v", full, info.Mode())
		}
		return err
	})
	if err != nil {
		t.Error(err)
	}
}
