package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// playing is a server, a process of the built program, at which tests are played that were written for chests in folders:
// each person of theirs has an account, and a machine of its own.
type playing struct {
	t    *testing.T
	dir  string
	data string
	url  string
	said string // when it started

	mu       sync.Mutex
	process  *exec.Cmd
	admin    string            // the configuration of the administrator
	people   map[string]string // configurations, by name
	projects map[string]string // names, by the folder that a test means
	errs     bytes.Buffer
}

var (
	atServers   sync.Mutex
	serversByOf = map[string]*playing{}
)

// playedAt gives the server at which a test is played; nil for none.
func playedAt(test string) *playing {
	atServers.Lock()
	defer atServers.Unlock()
	for prefix, at := range serversByOf {
		if test == prefix || strings.HasPrefix(test, prefix+"/") {
			return at
		}
	}
	return nil
}

const secret = "four words like these"

// serve starts a server.
func serve(t *testing.T) *playing {
	t.Helper()
	return serveIn(t, filepath.Join(t.TempDir(), "data"))
}

// serveIn starts a server with its data in a folder.
func serveIn(t *testing.T, data string) *playing {
	t.Helper()
	at := &playing{t: t, dir: t.TempDir(), data: data, people: map[string]string{}, projects: map[string]string{}}
	first := at.start("127.0.0.1:0")
	at.url, _ = first["url"].(string)
	at.admin = filepath.Join(at.dir, "config-admin")
	invitation, _ := first["invitation"].(string)
	if out, err := at.as(at.admin, "Admin\n"+secret+"\n", "login", at.url, "--invitation", invitation); err != nil {
		t.Fatalf("%s: %v", out, err)
	}
	t.Cleanup(func() {
		if err := at.stop(); err != nil {
			t.Errorf("the server ended with %v:\n%.3000s", err, at.errs.String())
		}
	})
	return at
}

// start starts the process, and gives what it says first.
func (at *playing) start(listen string) map[string]any {
	at.t.Helper()
	return at.listen(exec.Command(program, "--json", "serve", "--data", at.data, "--listen", listen))
}

// listen starts a process that serves, and gives what it says first.
func (at *playing) listen(cmd *exec.Cmd) map[string]any {
	at.t.Helper()
	cmd.Env = append(os.Environ(), "TZ=UTC")
	cmd.Stderr = &at.errs
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		at.t.Fatal(err)
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	var said map[string]any
	if err != nil || json.Unmarshal([]byte(line), &said) != nil {
		at.t.Fatalf("the server said %q, %v: %s", line, err, at.errs.String())
	}
	at.process, at.said = cmd, line
	return said
}

// stop stops the process, cleanly.
func (at *playing) stop() error {
	at.mu.Lock()
	defer at.mu.Unlock()
	_ = at.process.Process.Signal(os.Interrupt)
	return at.process.Wait()
}

// restart kills the process and starts it again at the same address.
func (at *playing) restart() {
	at.t.Helper()
	at.mu.Lock()
	defer at.mu.Unlock()
	_ = at.process.Process.Kill()
	_ = at.process.Wait()
	at.start(strings.TrimPrefix(at.url, "http://"))
}

// as makes a call with a configuration.
func (at *playing) as(config, input string, args ...string) (string, error) {
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Stdin = at.dir, strings.NewReader(input)
	cmd.Env = append(os.Environ(), "TZ=UTC", "XDG_CONFIG_HOME="+config, "XDG_CACHE_HOME="+filepath.Join(config, "cache"),
		"OAKEN_KEYRING=off")
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// config gives the configuration of somebody, who is invited and signs in the first time.
func (at *playing) config(name string) string {
	at.t.Helper()
	at.mu.Lock()
	defer at.mu.Unlock()
	if c, ok := at.people[name]; ok {
		return c
	}
	out, err := at.as(at.admin, "", "people", "invite", name, "--json")
	var said map[string]any
	if err != nil || json.Unmarshal([]byte(out), &said) != nil {
		at.t.Fatalf("%s: %v", out, err)
	}
	config := filepath.Join(at.dir, fmt.Sprint("config-", len(at.people)))
	if out, err := at.as(config, secret+"\n", "login", at.url, "--invitation", said["invitation"].(string)); err != nil {
		at.t.Fatalf("%s: %v", out, err)
	}
	at.people[name] = config
	return config
}

// chest gives the folder of the only project.
func (at *playing) chest() string {
	at.t.Helper()
	list, err := filepath.Glob(filepath.Join(at.data, "projects", "*"))
	if err != nil || len(list) != 1 {
		at.t.Fatalf("%v, %v", list, err)
	}
	return list[0]
}

// address gives the address that stands for a folder.
func (at *playing) address(p *project, folder string) string {
	at.mu.Lock()
	defer at.mu.Unlock()
	if !filepath.IsAbs(folder) {
		folder = filepath.Join(p.dir, folder)
	}
	if at.projects[folder] == "" {
		at.projects[folder] = fmt.Sprint("p", len(at.projects))
	}
	return at.url + "/" + at.projects[folder]
}

// call turns a call that means a chest in a folder into one that means a project of the server.
func (at *playing) call(p *project, args []string) ([]string, string) {
	args = slices.Clone(args)
	name := p.owner()
	if i := slices.Index(args, "--as"); i >= 0 {
		name = args[i+1]
		args = slices.Delete(args, i, i+2)
	}
	for i := range args {
		switch {
		case args[i] == "--chest":
			args[i+1] = at.address(p, args[i+1])
		case args[i] == "open" && i+1 < len(args) && !slices.Contains(args, "review"):
			args[i+1] = at.address(p, args[i+1])
		}
	}
	return args, at.config(name)
}

// owner gives whose workspace the folder is.
func (p *project) owner() string {
	for dir := p.dir; dir != filepath.Dir(dir); dir = filepath.Dir(dir) {
		data, err := os.ReadFile(filepath.Join(dir, ".oaken", "workspace.toml"))
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(data)) {
			if name, ok := strings.CutPrefix(line, "person = "); ok {
				return strings.Trim(strings.TrimSpace(name), `'"`)
			}
		}
	}
	return "somebody"
}

// TestTwoPeopleAtAServer plays tests of two people on a chest in a folder at a server.
func TestTwoPeopleAtAServer(t *testing.T) {
	at := serve(t)
	atServers.Lock()
	serversByOf[t.Name()] = at
	atServers.Unlock()
	for name, play := range map[string]func(*testing.T){
		"locks": TestLocksReachPatternsFoldersAndElements, "locks end": TestLocksEndAndAreTakenOver, "the newest": TestLockBringsTheNewest,
		"waived": TestWaivedEditsAreContested, "warnings": TestWarningsComeBeforeTheWork, "held": TestHeldCommitsTravelLater,
		"parked": TestParkedWork, "reviews": TestReviewsKeepTheRules, "watching": TestWatchTellsAndTakesLocks,
		"foreseen": TestConflictsAreForeseenAndSettledByPattern, "one thing": TestALockOfOneThingLetsItBeEdited,
		"a part": TestAPartOfTheProjectGrows, "many merges": TestMergesOfWhatOthersEdited,
	} {
		t.Run(name, play)
	}
}

// TestACrowdAtAServer is the crowd, with a server that is killed now and then.
func TestACrowdAtAServer(t *testing.T) {
	at := serve(t)
	atServers.Lock()
	serversByOf[t.Name()] = at
	atServers.Unlock()
	done := make(chan struct{})
	var killing sync.WaitGroup
	if every := number("OAKEN_KILL_EVERY", 3); every > 0 {
		killing.Go(func() {
			for {
				select {
				case <-done:
					return
				case <-time.After(time.Duration(every) * time.Second):
					at.restart()
				}
			}
		})
	}
	t.Run("crowd", TestACrowdAtWork)
	close(done)
	killing.Wait()
}

// TestACrowdBehindABadLine is the crowd, each connection of which is cut after some bytes in one direction or the other.
func TestACrowdBehindABadLine(t *testing.T) {
	at := serve(t)
	line := badLine(t, strings.TrimPrefix(at.url, "http://"))
	direct := at.url
	at.url = "http://" + line.addr
	for n := range number("OAKEN_PEOPLE", 5) {
		at.config(fmt.Sprint("P", n))
	}
	at.config("First")
	crowdTrouble[t.Name()+"/crowd"] = line.bad.Store
	atServers.Lock()
	serversByOf[t.Name()] = at
	atServers.Unlock()
	t.Run("crowd", TestACrowdAtWork)
	at.url = direct
	t.Logf("%d connections were cut of %d", line.cut.Load(), line.all.Load())
}

// line is a connection that is cut now and then.
type line struct {
	addr     string
	bad      atomic.Bool
	cut, all atomic.Int64
}

// badLine passes connections on to an address.
func badLine(t *testing.T, to string) *line {
	t.Helper()
	in, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { in.Close() })
	l := &line{addr: in.Addr().String()}
	go func() {
		for {
			c, err := in.Accept()
			if err != nil {
				return
			}
			l.all.Add(1)
			go l.pass(c, to)
		}
	}()
	return l
}

// pass passes one connection on, until one direction has had so many bytes that it is cut.
func (l *line) pass(c net.Conn, to string) {
	defer c.Close()
	s, err := net.Dial("tcp", to)
	if err != nil {
		return
	}
	defer s.Close()
	ended := make(chan struct{}, 2)
	carry := func(dst, src net.Conn, usual int) {
		var from io.Reader = src
		if l.bad.Load() && rand.IntN(8) == 0 {
			from = io.LimitReader(src, int64(rand.IntN(usual)))
		}
		_, err := io.Copy(dst, from)
		if _, cut := from.(*io.LimitedReader); cut && err == nil {
			l.cut.Add(1)
		}
		ended <- struct{}{}
	}
	go carry(s, c, 3000)
	go carry(c, s, 3000)
	<-ended
}

// world gives workspaces of two people of a project at the server.
func (at *playing) world(t *testing.T) (imke, tarek *project) {
	t.Helper()
	atServers.Lock()
	serversByOf[t.Name()] = at
	atServers.Unlock()
	return team(t)
}

// TestWorkGoesOnWithoutTheServer stops the server while people work, and starts it again.
func TestWorkGoesOnWithoutTheServer(t *testing.T) {
	at := serve(t)
	imke, tarek := at.world(t)
	imke.write("a.txt", "one\n")
	imke.ok("commit", "-m", "one")
	if err := at.stop(); err != nil {
		t.Error(err)
	}
	imke.write("a.txt", "two\n")
	imke.tells("a.txt", "changes")
	imke.tells("unsent", "commit", "-m", "two")
	imke.fails(5, "out of reach", "lock", "art/coral.bin")
	imke.fails(5, "out of reach", "sync")
	imke.write("a.txt", "three\n")
	imke.tells("unsent", "commit", "-m", "three")
	at.start(strings.TrimPrefix(at.url, "http://"))
	tarek.write("b.txt", "his\n")
	tarek.ok("commit", "-m", "his")
	imke.tells("was unsent", "sync")
	tarek.ok("sync")
	if tarek.read("a.txt") != "three\n" || imke.read("b.txt") != "his\n" {
		t.Error("what was committed without the server did not arrive")
	}
	imke.ok("health")
}

// TestASessionEnds signs people out in all the ways that there are: what they do then is refused, and says what to do.
func TestASessionEnds(t *testing.T) {
	at := serve(t)
	imke, tarek := at.world(t)
	admin := func(args ...string) string {
		t.Helper()
		out, err := at.as(at.admin, "", append(args, "--server", at.url)...)
		if err != nil {
			t.Fatalf("%v: %s", args, out)
		}
		return out
	}
	tarek.ok("lock", "art/coral.bin")
	tarek.write("draft.txt", "draft\n")
	tarek.ok("park", "draft")
	tarek.write("unsent.txt", "unsent\n")
	tarek.ok("commit", "--hold", "-m", "Mine alone")
	tarek.ok("changes")
	out := admin("people", "end", "Tarek", "--to", "Imke", "--yes")
	for _, want := range []string{"1 lock; free now", "1 parked piece; Imke has it now", "1 commit unsent"} {
		if !strings.Contains(out, want) {
			t.Errorf("the end of an account does not say %q:\n%s", want, out)
		}
	}
	tarek.fails(4, "not signed in any more", "sync")
	imke.ok("lock", "art/coral.bin")
	imke.tells("draft", "park")
	config := at.config("Imke")
	if out, err := at.as(config, "wrong words here\n", "login", at.url, "--name", "Imke"); err == nil || !strings.Contains(out,
		"not right") {
		t.Errorf("a wrong secret: %s", out)
	}
	imke.ok("history") // the session from before goes on
	for range 8 {
		out, _ = at.as(config, "wrong words here\n", "login", at.url, "--name", "Imke")
	}
	if !strings.Contains(out, "too many tries") {
		t.Errorf("guessing is not slowed: %s", out)
	}
	if out, err := at.as(config, "", "logout", at.url); err != nil {
		t.Errorf("%s: %v", out, err)
	}
	imke.fails(4, "Nobody is signed in", "history")
}

// TestATokenHasFewerRights signs in with tokens for automation.
func TestATokenHasFewerRights(t *testing.T) {
	at := serve(t)
	imke, _ := at.world(t)
	var said map[string]any
	out, err := at.as(at.config("Imke"), "", "people", "token", "--for", "night", "--until", "30d", "--looks", "--server", at.url, "--json")
	if err != nil || json.Unmarshal([]byte(out), &said) != nil {
		t.Fatalf("%s: %v", out, err)
	}
	config := filepath.Join(at.dir, "robot")
	if out, err := at.as(config, said["token"].(string)+"\n", "login", at.url, "--token"); err != nil {
		t.Fatalf("%s: %v", out, err)
	}
	place := at.address(imke, filepath.Join(filepath.Dir(imke.dir), "chest"))
	if out, err := at.as(config, "", "open", place, "robot-work"); err == nil || !strings.Contains(out, "change nothing") {
		t.Errorf("a token that may look opened a workspace: %s", out)
	}
	for _, args := range [][]string{{"people", "token", "--for", "more", "--until", "3d"}, {"people", "invite", "Eve"}} {
		if out, err := at.as(config, "", append(args, "--server", at.url)...); err == nil {
			t.Errorf("%v: %s", args, out)
		}
	}
	for want, args := range map[string][]string{"has a purpose": {"--until", "3d"}, "has an end": {"--for", "x"},
		"two years at most": {"--for", "x", "--until", "2999-01-01"}, "day to come": {"--for", "x", "--until", "2020-01-01"}} {
		out, err := at.as(at.config("Imke"), "", append([]string{"people", "token", "--server", at.url}, args...)...)
		if err == nil || !strings.Contains(out, want) {
			t.Errorf("%v: %s", args, out)
		}
	}
	if out, err := at.as(at.config("Imke"), "", "people", "invite", "Eve", "--server", at.url); err == nil ||
		!strings.Contains(out, "Administrators alone") {
		t.Errorf("somebody let somebody in: %s", out)
	}
}

// TestTheStoryOfATeam plays the demo with a server, which is killed in it, and looks whether its process has ended.
func TestTheStoryOfATeam(t *testing.T) {
	p := empty(t)
	out := p.ok("demo", "--team", "reef")
	p.says(out, "on top of 1 newer commit", "combined by element", "kept here as unsent commit 1", "was unsent, published as",
		"1 parked piece; Imke has it now", "not signed in any more", "The chest is whole", "Every byte was read back")
	p.fails(4, "is not empty", "demo", "--team", "reef")
	url := regexp.MustCompile(`http://127\.0\.0\.1:\d+`).FindString(out)
	if c, err := net.Dial("tcp", strings.TrimPrefix(url, "http://")); err == nil {
		c.Close()
		t.Errorf("the server of the story still answers at %s", url)
	}
}

// TestAChestComesToAServer brings a chest of a folder to a server, twice, and a backup of the server back.
func TestAChestComesToAServer(t *testing.T) {
	imke, tarek := team(t)
	imke.write("a.txt", "one\n")
	imke.ok("commit", "-m", "one")
	before := imke.ok("history")
	at := serve(t)
	at.config("Imke")
	place := at.url + "/reef"
	imke.config, tarek.config = at.config("Imke"), at.config("Tarek")
	imke.says(imke.ok("relocate", place), place)
	if after := imke.ok("history"); after != before {
		t.Errorf("the history was\n%s, and is\n%s", before, after)
	}
	tarek.ok("sync") // is led there
	tarek.write("b.txt", "two\n")
	tarek.ok("commit", "-m", "two")
	imke.ok("sync")
	imke.fails(4, "at a server already", "relocate", at.url+"/elsewhere")

	copied := filepath.Join(at.dir, "copy")
	for range 2 {
		if out, err := at.as(at.admin, "", "serve", "backup", copied, "--data", at.data); err != nil || !strings.Contains(out,
			"1 project") {
			t.Fatalf("%s: %v", out, err)
		}
	}
	tarek.write("c.txt", "three\n")
	tarek.ok("commit", "-m", "three")
	if err := at.stop(); err != nil {
		t.Error(err)
	}
	at.data = filepath.Join(at.dir, "again")
	if out, err := at.as(at.admin, "", "serve", "restore", copied, "--data", at.data); err != nil {
		t.Fatalf("%s: %v", out, err)
	}
	if out, err := at.as(at.admin, "", "serve", "restore", copied, "--data", at.data); err == nil || !strings.Contains(out,
		"is not empty") {
		t.Errorf("over a server: %s", out)
	}
	at.start(strings.TrimPrefix(at.url, "http://"))
	imke.fails(4, "not signed in any more", "history")
	if out, err := at.as(imke.config, secret+"\n", "login", at.url, "--name", "Imke"); err != nil {
		t.Fatalf("%s: %v", out, err)
	}
	imke.says(imke.ok("history"), "two")
	if strings.Contains(imke.ok("history"), "three") {
		t.Error("what came after the backup is there")
	}
	imke.ok("health")
}
