package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"oakenchest/sample"
)

// program is the built binary that these tests drive.
var program string

func TestMain(m *testing.M) {
	if to := os.Getenv(makeElsewhere); to != "" {
		makers[to](os.Getenv(makeElsewhere + "_IN"))
		return
	}
	dir, err := os.MkdirTemp("", "oaken-test-*")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "oaken")
	build := exec.Command("go", "build", "-o", program, ".")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "%s\n", out)
		os.Exit(1)
	}
	status := m.Run()
	os.RemoveAll(dir)
	os.Exit(status)
}

// makeElsewhere names the variable that makes this process only write files, as one of the makers does:
// the memory that it takes for that would count as that of the programs it starts.
const makeElsewhere = "OAKEN_TEST_MAKES"

// makers write files for tests into a folder.
var makers = map[string]func(folder string){}

// made has files written by another process.
func (p *project) made(maker string) {
	p.t.Helper()
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), makeElsewhere+"="+maker, makeElsewhere+"_IN="+p.dir)
	if out, err := cmd.CombinedOutput(); err != nil {
		p.t.Fatalf("%s: %v", out, err)
	}
}

// project is a folder that calls are made in.
type project struct {
	t   *testing.T
	dir string
	// wary has nothing agreed to by itself.
	wary bool
	// config is where the machine keeps what it knows of the person; empty for that of all tests.
	config string
}

// trusting has a project agree to what it wants to run and to reach when a call is refused for that: in
// most tests the person who calls has written it. Tests of trust itself do without.
func (p *project) trusting(r result, args []string) bool {
	if r.status != 4 || p.wary || !strings.Contains(r.err+r.out, "nobody on this machine has agreed") {
		return false
	}
	call := []string{"trust", "--yes"}
	if i := slices.Index(args, "--in"); i >= 0 {
		call = append(call, "--in", args[i+1])
	}
	return p.once(call...).status == 0
}

// result is what one call printed, and its status.
type result struct {
	status   int
	out, err string
}

func (p *project) run(args ...string) result {
	p.t.Helper()
	r := p.once(args...)
	if p.trusting(r, args) {
		return p.once(args...)
	}
	return r
}

func (p *project) once(args ...string) result {
	p.t.Helper()
	var out, errs bytes.Buffer
	if slices.Contains(args, "--as") {
		args = append([]string{"--yes"}, args...) // these people share a workspace
	}
	cmd := p.command(args...)
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		p.t.Fatal(err)
	}
	if slices.Contains(args, "--json") {
		if err := fits(out.String()); err != nil {
			p.t.Errorf("oaken %s: %v", strings.Join(args, " "), err)
		}
	}
	return result{cmd.ProcessState.ExitCode(), out.String(), errs.String()}
}

// command prepares a call: of a test that is played at a server, as whoever has signed in there.
func (p *project) command(args ...string) *exec.Cmd {
	config := p.config
	if config == "" {
		config = filepath.Join(filepath.Dir(program), "config")
	}
	if at := playedAt(p.t.Name()); at != nil {
		args, config = at.call(p, args)
	}
	cmd := exec.Command(program, args...)
	cmd.Dir = p.dir
	cmd.Env = append(os.Environ(), "TZ=UTC", "XDG_CONFIG_HOME="+config, "XDG_CACHE_HOME="+filepath.Join(config, "cache"),
		"OAKEN_KEYRING=off")
	return cmd
}

// ok makes a call that must succeed and gives its output.
func (p *project) ok(args ...string) string {
	p.t.Helper()
	r := p.run(args...)
	if r.status != 0 {
		p.t.Fatalf("oaken %s: status %d\n%s%s", strings.Join(args, " "), r.status, r.out, r.err)
	}
	return r.out
}

// fails makes a call that must end with a status, a message and a hint, and
// must leave every file of the project as it was.
func (p *project) fails(status int, want string, args ...string) result {
	p.t.Helper()
	before := p.tree(".")
	r := p.run(args...)
	if r.status != status || !strings.Contains(r.err, want) {
		p.t.Errorf("oaken %s: status %d (want %d), %q is not in\n%s%s", strings.Join(args, " "), r.status, status, want, r.out, r.err)
	}
	if strings.Count(r.err, "\n") < 2 {
		p.t.Errorf("oaken %s: no hint: %s", strings.Join(args, " "), r.err)
	}
	if after := p.tree("."); after != before {
		p.t.Errorf("oaken %s failed and changed files:\n%.2000s\n---\n%.2000s", strings.Join(args, " "), before, after)
	}
	return r
}

// tree writes down every file below a folder, but for oaken's own.
func (p *project) tree(dir string) string {
	var b strings.Builder
	err := filepath.WalkDir(p.path(dir), func(full string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.Name() == ".oaken" {
			return filepath.SkipDir
		}
		if d.IsDir() {
			return nil
		}
		if to, err := os.Readlink(full); err == nil {
			fmt.Fprintf(&b, "%s → %s\n", strings.TrimPrefix(full, p.dir), to)
			return nil
		}
		data, err := os.ReadFile(full)
		fmt.Fprintf(&b, "%s %x\n", strings.TrimPrefix(full, p.dir), data)
		return err
	})
	if err != nil {
		p.t.Fatal(err)
	}
	return b.String()
}

func (p *project) path(name string) string { return filepath.Join(p.dir, filepath.FromSlash(name)) }

func (p *project) write(name, data string) {
	p.t.Helper()
	if err := os.MkdirAll(filepath.Dir(p.path(name)), 0o777); err != nil {
		p.t.Fatal(err)
	}
	os.Chmod(p.path(name), 0o666)
	if err := os.WriteFile(p.path(name), []byte(data), 0o666); err != nil {
		p.t.Fatal(err)
	}
}

func (p *project) read(name string) string {
	p.t.Helper()
	data, err := os.ReadFile(p.path(name))
	if err != nil {
		p.t.Fatal(err)
	}
	return string(data)
}

func (p *project) reef(l sample.Lamp) {
	p.t.Helper()
	data, err := sample.Reef(l)
	if err != nil {
		p.t.Fatal(err)
	}
	p.write(sample.Scene, string(data))
}

func (p *project) sql(file, text string) {
	p.t.Helper()
	if err := sample.Run(context.Background(), p.path(file), text); err != nil {
		p.t.Fatal(err)
	}
}

// object makes a call with --json and gives the object that it prints.
func (p *project) object(args ...string) map[string]any {
	p.t.Helper()
	r := p.run(append([]string{"--json"}, args...)...)
	var v map[string]any
	dec := json.NewDecoder(strings.NewReader(r.out))
	if err := dec.Decode(&v); err != nil || dec.More() {
		p.t.Fatalf("oaken --json %s printed %q, %v", strings.Join(args, " "), r.out, err)
	}
	if r.err != "" {
		p.t.Errorf("oaken --json %s wrote to standard error: %s", strings.Join(args, " "), r.err)
	}
	return v
}

// empty gives an empty folder.
func empty(t *testing.T) *project { t.Helper(); return &project{t: t, dir: t.TempDir()} }

// unlocked lets everything be edited without locks.
func (p *project) unlocked() {
	p.t.Helper()
	p.write("oaken.toml", p.read("oaken.toml")+"\n[[lock]]\nmatch = \"**\"\npolicy = \"off\"\n")
	p.ok("commit", "oaken.toml", "-m", "Nothing needs a lock")
}

// world gives the sample world with two environments, in a first commit.
func world(t *testing.T) *project {
	t.Helper()
	p := empty(t)
	if err := sample.Write(context.Background(), p.dir); err != nil {
		t.Fatal(err)
	}
	p.ok("--as", "Imke", "begin")
	p.ok("env", "add", "dev", "sqlite:dev.db", "--into", "database")
	p.ok("env", "add", "test", "sqlite:test.db")
	p.ok("capture", "dev")
	p.ok("commit", "-m", "First state")
	return p
}
