package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"oakenchest/cli"
	"oakenchest/core/chest"
	"oakenchest/core/chest/chesttest"
	"oakenchest/core/ledger"

	"oakenchest/cli/screen"
)

// people is a crowd at work on one chest, each a process at a time in a workspace of their
// own. What they do is drawn at random; what comes of it is held against a model that
// knows files as maps from keys to values.
type people struct {
	t     *testing.T
	dir   string
	mu    sync.Mutex
	acked map[string]string // commits that were acknowledged, with their branch
	// chosen are those of them that completed what somebody had settled: a side's remarks may
	// have been given up in them.
	chosen map[string]bool
	steps  int
	calls  int
	count  map[string]int
	fresh  int
}

// setting names a value in a file.
type setting struct{ File, Key string }

// intent is what a commit is to change; an empty value takes the key away.
type intent struct {
	Strict bool
	Edits  map[string]string // "file key" to value
}

const ruleFiles, artFiles, mostBranches = 5, 3, 7

// number gives a number from the environment.
func number(name string, usual int) int {
	if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
		return n
	}
	return usual
}

// crowdTrouble makes trouble for the crowd of a test, while it is at work, and ends it.
var crowdTrouble = map[string]func(bool){}

func TestACrowdAtWork(t *testing.T) {
	crowd, each, seed := number("OAKEN_PEOPLE", 5), number("OAKEN_STEPS", 40), number("OAKEN_SEED", 1)
	dir := t.TempDir()
	if shm := os.Getenv("OAKEN_SHM"); shm != "" {
		dir, _ = os.MkdirTemp(shm, "crowd-*")
		t.Cleanup(func() {
			if !t.Failed() { // else it stays to be looked at
				os.RemoveAll(dir)
			}
		})
	}
	ps := &people{t: t, dir: dir, acked: map[string]string{}, chosen: map[string]bool{}, count: map[string]int{}}
	first := &project{t: t, dir: filepath.Join(dir, "first")}
	for f := range ruleFiles {
		var b strings.Builder
		for k := range 10 {
			fmt.Fprintf(&b, "# key%d says start%d\nkey%d=start%d\n", k, k, k, k)
		}
		first.write(fmt.Sprintf("rules/%d.properties", f), b.String())
	}
	for f := range artFiles {
		first.write(fmt.Sprintf("art/%d.bin", f), strings.Repeat("\x00\x01\x02", 100+f))
	}
	first.ok("begin", "--as", "First", "--chest", filepath.Join(dir, "chest"))
	first.ok("commit", "-m", "First")
	var wg sync.WaitGroup
	all := make([]*person, crowd)
	for n := range all {
		name := fmt.Sprint("P", n)
		(&project{t: t, dir: dir}).ok("open", "chest", name, "--as", name)
		all[n] = &person{project: &project{t: t, dir: filepath.Join(dir, name)}, ps: ps, name: name,
			r: rand.New(rand.NewPCG(uint64(seed), uint64(n))), edits: map[string]string{}}
	}
	trouble := crowdTrouble[t.Name()]
	if trouble != nil {
		trouble(true)
	}
	for n := range all {
		wg.Go(func() {
			for range each {
				all[n].step()
			}
		})
	}
	done := make(chan struct{})
	go func() {
		for {
			select {
			case <-done:
				return
			case <-time.After(50 * time.Millisecond):
				ps.checkLocks(first)
			}
		}
	}()
	wg.Wait()
	close(done)
	if trouble != nil {
		trouble(false)
	}
	ps.converge(append(all, &person{project: first, ps: ps, name: "First", r: rand.New(rand.NewPCG(9, 9)), edits: map[string]string{}}))
	ps.checkHistory()
	first.ok("health")
	t.Logf("%d people, %d steps with %d commands, %d acknowledged commits: %v", crowd, ps.steps, ps.calls, len(ps.acked), ps.count)
}

// person is one of the crowd.
type person struct {
	*project
	ps     *people
	name   string
	r      *rand.Rand
	edits  map[string]string // what is not committed, as far as it is known
	unsure bool              // a command was killed: what is committed is not known
}

func (p *person) tally(what string) {
	p.ps.mu.Lock()
	defer p.ps.mu.Unlock()
	p.ps.steps++
	p.ps.count[what]++
}

// call runs a command with --json: now and then as a process that is killed in the middle,
// else in this one where that is asked for, which takes less time.
func (p *person) call(args ...string) (status int, out map[string]any) {
	var stdout, stderr bytes.Buffer
	args = append([]string{"--json"}, args...)
	p.ps.mu.Lock()
	p.ps.calls++
	p.ps.mu.Unlock()
	doomed := p.r.IntN(15) == 0
	defer func() { p.log("%v: %d %v", args[1:], status, out["commit"]) }()
	if !doomed && os.Getenv("OAKEN_INSIDE") != "" {
		app := &cli.App{Screen: screen.Screen{Out: &stdout, Err: &stderr}, Dir: p.dir, Now: time.Now, Person: p.name}
		status = cli.Run(context.Background(), app, args)
	} else if status = p.process(doomed, &stdout, &stderr, args); status < 0 {
		p.unsure = true
		p.tally("killed")
		return status, nil
	}
	if err := json.Unmarshal(stdout.Bytes(), &out); err != nil {
		p.t.Errorf("%s: oaken %v: status %d, %q %s", p.name, args, status, stdout.String(), stderr.String())
	}
	harmless := []string{"names no state", "is not locked", "is locked as a part", "There is no branch", "nothing to set aside",
		"Nothing is parked", "as aside already", "Nothing is being merged", "No conflict is open", "There is no commit yet"}
	if status == 1 || status == 6 || status == 2 &&
		!slices.ContainsFunc(harmless, func(s string) bool { return strings.Contains(stdout.String(), s) }) {
		p.t.Errorf("%s: oaken %v: status %d\n%s", p.name, args, status, stdout.String())
	}
	return status, out
}

// log writes what a person did, for whoever looks for a mistake.
func (p *person) log(format string, args ...any) {
	f, err := os.OpenFile(p.dir+".log", os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o666)
	if err != nil {
		p.t.Error(err)
		return
	}
	fmt.Fprintf(f, "%d "+format+"\n", append([]any{time.Now().UnixMilli()}, args...)...)
	f.Close()
}

// process runs the program; -1 says that it was killed.
func (p *person) process(doomed bool, stdout, stderr *bytes.Buffer, args []string) int {
	cmd := p.command(args...)
	cmd.Stdout, cmd.Stderr = stdout, stderr
	if err := cmd.Start(); err != nil {
		p.t.Error(err)
		return 1
	}
	if doomed {
		timer := time.AfterFunc(time.Duration(p.r.IntN(40))*time.Millisecond, func() { _ = cmd.Process.Kill() })
		defer timer.Stop()
	}
	err := cmd.Wait()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		p.t.Error(err)
	}
	return cmd.ProcessState.ExitCode()
}

// settings reads a file as the model knows it.
func settings(text string) map[string]string {
	out := map[string]string{}
	for line := range strings.Lines(text) {
		if remark, ok := strings.CutPrefix(line, "# "); ok { // a remark is a setting of its own
			k, v, _ := strings.Cut(strings.TrimSpace(remark), " says ")
			out["#"+k] = v
		} else if k, v, ok := strings.Cut(strings.TrimSpace(line), "="); ok {
			out[k] = v
		}
	}
	return out
}

// modeKey is the setting that says whether a file is a program.
const modeKey = "(mode)"

func modeOf(program bool) string {
	if program {
		return "program"
	}
	return "plain"
}

// link makes a link of one's own lead somewhere: in the project, outside of it, nowhere.
func (p *person) link() {
	if err := os.MkdirAll(p.path("links"), 0o777); err != nil {
		p.t.Error(err)
	}
	name := p.path("links/" + p.name)
	_ = os.Remove(name)
	to := []string{"../rules/0.properties", "/etc/hostname", "../../elsewhere", "nowhere", "../rules"}[p.r.IntN(5)]
	if err := os.Symlink(to, name); err != nil {
		p.t.Error(err)
	}
	p.tally("link")
}

// edit changes one value, which nobody else ever writes, or takes one away.
func (p *person) edit() {
	if p.r.IntN(12) == 0 {
		p.link()
	}
	name := fmt.Sprintf("rules/%d.properties", p.r.IntN(ruleFiles))
	data, err := os.ReadFile(p.path(name))
	if err != nil {
		return
	}
	lines := strings.Split(strings.TrimSuffix(string(data), "\n"), "\n")
	p.ps.mu.Lock()
	p.ps.fresh++
	value := fmt.Sprint(p.name, "x", p.ps.fresh)
	p.ps.mu.Unlock()
	i := p.r.IntN(len(lines))
	if strings.HasPrefix(lines[i], "#") && i+1 < len(lines) {
		i++
	}
	key, _, ok := strings.Cut(lines[i], "=")
	if !ok {
		return
	}
	above := -1 // the line of its remark
	if i > 0 && strings.HasPrefix(lines[i-1], "# "+key+" says ") {
		above = i - 1
	}
	switch n := p.r.IntN(10); {
	case n == 0:
		if len(lines) > 8 {
			from := i
			if above >= 0 { // it goes with its remark
				from = above
				p.edits[name+" #"+key] = ""
			}
			lines = slices.Delete(lines, from, i+1)
			value = ""
		} else {
			lines[i] = key + "=" + value
		}
	case n == 1:
		key = "key" + value
		at := i
		if above >= 0 {
			at = above
		}
		lines = slices.Insert(lines, at, key+"="+value)
	case n < 4 && above >= 0:
		lines[above] = "# " + key + " says " + value
		key = "#" + key
	case n == 4:
		info, err := os.Stat(p.path(name))
		if err != nil {
			return
		}
		mode := info.Mode() ^ 0o111
		if err := os.Chmod(p.path(name), mode); err != nil {
			p.t.Error(err)
		}
		p.edits[name+" "+modeKey] = modeOf(mode&0o100 != 0)
		p.log("mode %s %v", name, mode)
		p.tally("mode")
		return
	default:
		lines[i] = key + "=" + value
	}
	info, err := os.Stat(p.path(name))
	if err != nil {
		return
	}
	p.write(name, strings.Join(lines, "\n")+"\n")
	if err := os.Chmod(p.path(name), info.Mode()|0o600); err != nil {
		p.t.Error(err)
	}
	p.edits[name+" "+key] = value
	p.log("edit %s %s %s", name, key, value)
	p.tally("edit")
}

func (p *person) step() {
	if !p.settle() {
		return
	}
	switch n := p.r.IntN(100); {
	case n < 35:
		p.edit()
	case n < 60:
		p.commit()
	case n < 68:
		p.tally("sync")
		status, _ := p.call("sync")
		p.after(status)
	case n < 73:
		p.branch()
	case n < 80:
		p.tally("merge")
		name := p.someBranch()
		status, out := p.call("merge", name)
		p.ack(status, out)
		p.after(status)
	case n < 90:
		p.art()
	case n < 94:
		p.tally("park")
		if status, _ := p.call("park", "aside"); status == 0 {
			held := p.edits
			p.edits = map[string]string{}
			if status, _ := p.call("unpark", "aside"); status == 0 {
				p.edits = held
			} else {
				p.unsure = true
			}
		}
	case n < 97:
		p.tally("changes")
		p.call("changes")
	default:
		p.tally("overlaps")
		p.call("overlaps")
	}
}

// settle finishes what is under way, one way or the other; false says that it could not.
func (p *person) settle() bool {
	status, out := p.call("conflicts")
	if status != 0 {
		return false
	}
	if len(out["conflicts"].([]any)) > 0 {
		if p.r.IntN(4) == 0 {
			p.tally("abandon")
			p.call("merge", "--abandon")
			return false
		}
		p.tally("resolve")
		if status, _ := p.call("resolve", ".", "--keep", []string{"mine", "theirs"}[p.r.IntN(2)]); status != 0 {
			return false
		}
	}
	status, out = p.call("changes")
	if status != 0 {
		return false
	}
	if out["underWay"] != "" {
		p.unsure = true
		status, out := p.call("commit")
		p.ack(status, out)
		if c, ok := out["commit"].(map[string]any); ok && c != nil {
			p.ps.mu.Lock()
			p.ps.chosen[c["id"].(string)] = true
			p.ps.mu.Unlock()
		}
		if status != 0 {
			return false
		}
	}
	if p.unsure { // begin from what is committed
		if status, _ := p.call("discard", "."); status != 0 {
			return false
		}
		p.unsure, p.edits = false, map[string]string{}
	}
	return true
}

// after goes on after a call that may have left conflicts.
func (p *person) after(status int) {
	if status == 3 {
		p.settle()
	}
}

func (p *person) commit() {
	if len(p.edits) == 0 || p.unsure {
		return
	}
	p.tally("commit")
	text, err := json.Marshal(intent{true, p.edits})
	if err != nil {
		p.t.Error(err)
	}
	args := []string{"commit", "rules", "-m", string(text)}
	if p.r.IntN(5) == 0 {
		args = append(args, "--hold")
		p.tally("held")
	}
	status, out := p.call(args...)
	p.ack(status, out)
	switch status {
	case 0:
		p.edits = map[string]string{}
	case 3:
		p.unsure = true
		p.settle()
	}
}

// ack notes a commit that was acknowledged.
func (p *person) ack(status int, out map[string]any) {
	c, _ := out["commit"].(map[string]any)
	if status != 0 || c == nil {
		return
	}
	p.ps.mu.Lock()
	defer p.ps.mu.Unlock()
	branch, _, _ := strings.Cut(c["state"].(string), ":")
	p.ps.acked[c["id"].(string)] = branch
}

func (p *person) someBranch() string {
	n := p.r.IntN(mostBranches)
	if n == 0 {
		return "main"
	}
	return fmt.Sprint("b", n)
}

// branch makes a branch, or goes to one.
func (p *person) branch() {
	p.tally("branch")
	name := p.someBranch()
	if p.r.IntN(3) == 0 {
		p.callQuiet("branch", name)
	}
	p.call("go", name)
}

// callQuiet is for calls that may be refused because somebody was faster.
func (p *person) callQuiet(args ...string) {
	_ = p.command(args...).Run()
}

// art edits what can't be merged: only with its lock.
func (p *person) art() {
	p.tally("art")
	name := fmt.Sprintf("art/%d.bin", p.r.IntN(artFiles))
	address := []string{name, "art", "art/*.bin"}[p.r.IntN(3)]
	if status, _ := p.call("lock", address, "--for", "1h"); status != 0 {
		return
	}
	p.write(name, strings.Repeat("\x00", 300)+fmt.Sprint(p.name, p.r.Uint64()))
	status, out := p.call("commit", name, "-m", `{"Strict":false,"Edits":{}}`)
	p.ack(status, out)
	if status != 0 {
		p.call("discard", name)
	}
	p.call("unlock", address)
}

// checkLocks looks for two holders of one thing.
func (ps *people) checkLocks(p *project) {
	r := p.run("--json", "locks")
	var out struct{ Locks []ledger.Lock }
	if r.status != 0 || json.Unmarshal([]byte(r.out), &out) != nil {
		return
	}
	for i, a := range out.Locks {
		for _, b := range out.Locks[:i] {
			if a.Workspace != b.Workspace && chest.Meet(a, b) {
				ps.t.Errorf("two holders: %v and %v", a, b)
			}
		}
	}
}

// converge lets everybody finish, and come to the newest of main: all have the same then.
func (ps *people) converge(all []*person) {
	want := ""
	for _, p := range all {
		var out struct{ Locks []ledger.Lock }
		if err := json.Unmarshal([]byte(p.ok("--json", "locks", "--mine")), &out); err != nil {
			ps.t.Fatal(err)
		}
		for _, l := range out.Locks {
			p.callQuiet("unlock", l.Address)
		}
	}
	for round := range 2 {
		for _, p := range all {
			p.t = ps.t
			for range 20 {
				p.r = rand.New(rand.NewPCG(uint64(round), 77)) // few kills
				p.callQuiet("merge", "--abandon")
				p.run("discard", ".")
				if r := p.run("sync"); r.status == 0 {
					break
				}
				p.run("resolve", ".", "--keep", "mine")
				p.run("commit")
			}
			if r := p.run("go", "main"); r.status != 0 {
				ps.t.Errorf("%s can't go to main: %s", p.name, r.err)
			}
			if r := p.run("sync"); r.status != 0 {
				ps.t.Errorf("%s can't sync: %s", p.name, r.err)
			}
			if round == 0 {
				continue
			}
			got := p.tree(".")
			if want == "" {
				want = got
			}
			if got != want {
				ps.t.Errorf("%s does not have what the others have", p.name)
			}
		}
	}
}

// model reads the chest itself and holds every commit against the reference.
type model struct {
	t       *testing.T
	c       *chest.Chest
	commits map[ledger.ID]ledger.Commit
	known   map[ledger.ID]map[setting]string
	ps      *people
	settled map[ledger.ID]bool // merges in which somebody settled something
	above   map[ledger.ID]map[ledger.ID]bool
}

func (ps *people) checkHistory() {
	var c *chest.Chest
	if at := playedAt(ps.t.Name()); at != nil {
		c = chesttest.OpenServed(ps.t, at.chest())
	} else {
		c = chesttest.Open(ps.t, filepath.Join(ps.dir, "chest"))
	}
	m := &model{ps.t, c, map[ledger.ID]ledger.Commit{}, map[ledger.ID]map[setting]string{}, ps, nil, map[ledger.ID]map[ledger.ID]bool{}}
	var order []ledger.Commit
	tips := map[string]ledger.ID{}
	err := c.View(ps.t.Context(), func(tx ledger.Records) (err error) {
		if order, err = tx.Commits(); err != nil {
			return err
		}
		if m.settled, err = tx.Settled(); err != nil {
			return err
		}
		branches, err := tx.Branches()
		for _, b := range branches {
			tips[b.Name] = b.Tip
		}
		return err
	})
	if err != nil {
		ps.t.Fatal(err)
	}
	for _, k := range order {
		m.commits[k.ID] = k
	}
	for id, branch := range ps.acked {
		parsed, err := ledger.ParseID(id)
		if err != nil || m.commits[parsed].ID != parsed {
			ps.t.Errorf("the acknowledged commit %s is lost", id)
		} else if !m.ancestors(tips[branch])[parsed] {
			ps.t.Errorf("the acknowledged commit %s is not on its branch %s", id, branch)
		}
	}
	merges := 0
	for _, k := range order {
		switch len(k.Parents) {
		case 1:
			m.checkEdit(k)
		case 2:
			m.checkMerge(k)
			merges++
		}
	}
	ps.count["merge commits"], ps.count["all commits"] = merges, len(order)
}

func (m *model) ancestors(id ledger.ID) map[ledger.ID]bool {
	if id == (ledger.ID{}) {
		return nil
	}
	if a, ok := m.above[id]; ok {
		return a
	}
	out := map[ledger.ID]bool{id: true}
	for _, p := range m.commits[id].Parents {
		maps.Copy(out, m.ancestors(p))
	}
	m.above[id] = out
	return out
}

// values reads all settings of a commit.
func (m *model) values(k ledger.Commit) map[setting]string {
	if v, ok := m.known[k.ID]; ok {
		return v
	}
	out := map[setting]string{}
	files, err := m.c.Files(k.Tree)
	if err != nil {
		m.t.Fatal(err)
	}
	for _, f := range files {
		if strings.HasPrefix(f.Path, "rules/") {
			data, err := m.c.Head(f.Digest, 1<<20)
			if err != nil {
				m.t.Fatal(err)
			}
			for key, v := range settings(string(data)) {
				out[setting{f.Path, key}] = v
			}
			out[setting{f.Path, modeKey}] = modeOf(f.Mode == chest.Executable)
		}
		if strings.HasPrefix(f.Path, "art/") {
			out[setting{f.Path, ""}] = fmt.Sprintf("%x", f.Digest)
		}
	}
	m.known[k.ID] = out
	return out
}

func keysOf(all ...map[setting]string) map[setting]bool {
	out := map[setting]bool{}
	for _, m := range all {
		for k := range m {
			out[k] = true
		}
	}
	return out
}

// checkEdit: a commit changes what its author changed, and nothing else.
func (m *model) checkEdit(k ledger.Commit) {
	var want intent
	whole := json.Unmarshal([]byte(k.Message), &want) == nil
	if !whole { // several held commits that were settled together
		want.Edits = map[string]string{}
		for part := range strings.SplitSeq(k.Message, "\n\n") {
			var one intent
			if json.Unmarshal([]byte(part), &one) != nil {
				return
			}
			maps.Copy(want.Edits, one.Edits)
		}
	}
	before, after := m.values(m.commits[k.Parents[0]]), m.values(k)
	for s := range keysOf(before, after) {
		if before[s] == after[s] || s.Key == "" {
			continue
		}
		if _, acked := m.ps.acked[k.ID.String()]; strings.HasPrefix(s.Key, "#") && (m.ps.chosen[k.ID.String()] || !acked) {
			continue // by a choice, or by one that a killed command may have completed
		}
		v, meant := want.Edits[s.File+" "+s.Key]
		if !meant || v != after[s] {
			m.t.Errorf("%s:%d by %s changes %v from %q to %q, which nobody meant: %s", k.Branch, k.Depth, k.Author, s, before[s],
				after[s], k.Message)
		}
	}
}

// base is the reference of what two commits have in common.
func (m *model) base(a, b ledger.ID) map[setting]string {
	var common, nearest []ledger.ID
	x, y := m.ancestors(a), m.ancestors(b)
	for id := range x {
		if y[id] {
			common = append(common, id)
		}
	}
	for _, id := range common {
		if !slices.ContainsFunc(common, func(o ledger.ID) bool { return o != id && m.ancestors(o)[id] }) {
			nearest = append(nearest, id)
		}
	}
	slices.SortFunc(nearest, func(p, q ledger.ID) int { return bytes.Compare(p[:], q[:]) })
	if len(nearest) == 0 {
		return nil
	}
	out := m.values(m.commits[nearest[0]])
	for _, id := range nearest[1:] {
		before := m.base(nearest[0], id)
		merged, theirs := map[setting]string{}, m.values(m.commits[id])
		for s := range keysOf(before, out, theirs) {
			v, ok := merge3(before[s], out[s], theirs[s])
			if !ok {
				v = before[s]
			}
			if v != "" {
				merged[s] = v
			}
		}
		out = merged
	}
	return out
}

func merge3(base, mine, theirs string) (string, bool) {
	switch {
	case mine == theirs, base == theirs:
		return mine, true
	case base == mine:
		return theirs, true
	}
	return "", false
}

// checkMerge: a merge comes to what the reference says; where that has no answer, to one
// of the sides.
func (m *model) checkMerge(k ledger.Commit) {
	base := m.base(k.Parents[0], k.Parents[1])
	mine, theirs, got := m.values(m.commits[k.Parents[0]]), m.values(m.commits[k.Parents[1]]), m.values(k)
	for s := range keysOf(base, mine, theirs, got) {
		want, ok := merge3(base[s], mine[s], theirs[s])
		if strings.HasPrefix(s.Key, "#") && m.settled[k.ID] && (got[s] == mine[s] || got[s] == theirs[s]) {
			continue // it stood where something else was settled
		}
		if ok && got[s] != want || !ok && got[s] != mine[s] && got[s] != theirs[s] {
			m.t.Errorf("%s:%d by %s merges %v to %q: base %q, mine %q, theirs %q", k.Branch, k.Depth, k.Author, s, got[s], base[s],
				mine[s], theirs[s])
		}
	}
}
