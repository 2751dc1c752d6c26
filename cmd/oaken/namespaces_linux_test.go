package main

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// apart starts a call in a process namespace of its own, as containers have: no process there knows of one
// here, and two may have the same number.
type apart struct {
	t   *testing.T
	cmd *exec.Cmd
	out bytes.Buffer
}

func (p *project) apart(args ...string) *apart {
	p.t.Helper()
	a := &apart{t: p.t, cmd: exec.Command(program, args...)}
	a.cmd.Dir, a.cmd.Stdout, a.cmd.Stderr = p.dir, &a.out, &a.out
	a.cmd.Env = append(os.Environ(), "TZ=UTC", "XDG_CONFIG_HOME="+filepath.Join(filepath.Dir(program), "config"))
	a.cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWPID | syscall.CLONE_NEWUTS}
	if err := a.cmd.Start(); err != nil {
		p.t.Skip("no process namespaces here: ", err)
	}
	return a
}

// sleeps stops the process after a while; false when it had ended before.
func (a *apart) sleeps(after time.Duration) bool {
	time.Sleep(after)
	return a.cmd.Process.Signal(syscall.SIGSTOP) == nil
}

// ends wakes the process and gives its exit status.
func (a *apart) ends() int {
	_ = a.cmd.Process.Signal(syscall.SIGCONT)
	_ = a.cmd.Wait()
	return a.cmd.ProcessState.ExitCode()
}

// sleeps is how often something is stopped: some of it takes as long as a lease lives.
func sleeps(t *testing.T) int {
	t.Helper()
	if n, err := strconv.Atoi(os.Getenv("OAKEN_SLEEPS")); err == nil {
		return n
	}
	return 2
}

// TestACommitThatSleptLosesNothing stops commits at any moment, tidies the chest of all that nothing reaches
// from another namespace, and lets them go on.
func TestACommitThatSleptLosesNothing(t *testing.T) {
	t.Parallel()
	p := &project{t: t, dir: filepath.Join(t.TempDir(), "work")}
	p.write("a.txt", "one\n")
	p.ok("begin", "--chest", "../chest")
	p.ok("commit", "-m", "First")
	other := p.beside("second")
	slept := 0
	for range sleeps(t) {
		for i := range 40 {
			p.write("many/"+string(rune('a'+i%26))+string(rune('a'+i/26))+".txt",
				strings.Repeat(string(rune('a'+rand.IntN(26))), 20000+rand.IntN(9000)))
		}
		a := p.apart("commit", "-m", "Slept")
		if a.sleeps(time.Duration(8+rand.IntN(40)) * time.Millisecond) {
			slept++
		}
		tidy := other.apart("tidy", "--grace", "0s")
		if status := tidy.ends(); status != 0 && status != 5 { // 5: it was stopped within a transaction, and waited for
			t.Errorf("tidy: %d\n%s", status, tidy.out.String())
		}
		if status := a.ends(); status != 0 {
			t.Errorf("the commit: %d\n%s", status, a.out.String())
		}
		p.ok("health")
		if out := p.ok("changes"); !strings.Contains(out, "Nothing has changed") {
			t.Errorf("after a commit that slept:\n%s", out)
		}
	}
	t.Logf("%d slept", slept)
}

// TestADeploymentThatSleptChangesNothingAnew stops deployments at any moment for longer than a lease lives, lets
// another namespace deploy something else meanwhile, and wakes them: the database holds what its record says.
func TestADeploymentThatSleptChangesNothingAnew(t *testing.T) {
	t.Parallel()
	p := &project{t: t, dir: filepath.Join(t.TempDir(), "work")}
	p.write("database/schema.sql", "create table tank (id integer primary key);\n")
	p.ok("begin", "--chest", "../chest")
	p.ok("env", "add", "dev", "sqlite:"+filepath.Join(filepath.Dir(p.dir), "dev.db"), "--into", "database")
	p.ok("commit", "-m", "First")
	p.ok("trust", "--yes")
	p.ok("deploy", "dev", "main")
	for _, column := range []string{"depth", "heat", "salt", "light"} {
		p.write("database/schema.sql", "create table tank (id integer primary key, "+column+" integer);\n")
		p.ok("commit", "-m", column)
	}
	other := p.beside("second")
	slept := 0
	for n := range sleeps(t) {
		a := p.apart("deploy", "dev", fmt.Sprint("main:", 2+n%3), "--yes")
		if a.sleeps(time.Duration(10+rand.IntN(70)) * time.Millisecond) {
			slept++
		}
		b := other.apart("deploy", "dev", "main:5", "--yes")
		there := b.ends()
		woken := a.ends()
		t.Logf("the one that slept: %d, the other: %d", woken, there)
		if strings.Contains(a.out.String()+b.out.String(), "mistake of oaken") {
			t.Errorf("%s\n%s", a.out.String(), b.out.String())
		}
		if woken != 0 && there != 0 { // it fell asleep in the database, and its lease was gone: the next one goes on
			p.ok("deploy", "dev", "main:5", "--yes")
		}
		if out := p.ok("drift", "dev"); !strings.Contains(out, "as it was deployed") {
			t.Errorf("the database is not what its record says:\n%s\n%s\n%s", out, a.out.String(), b.out.String())
		}
		p.ok("health")
	}
	t.Logf("%d slept", slept)
}
