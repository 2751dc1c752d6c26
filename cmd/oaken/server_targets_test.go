package main

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
)

// pipelineAt is a project of two environments, the second of which is reached as RUNS says.
const pipelineAt = `project = "reef"

[[artifact]]
path = "database"
kind = "schema"

[[environment]]
name = "test"
target = "sqlite:DIR/test.db"
into = "database"
branch = "main"
runs = "RUNS"

[[environment]]
name = "live"
tier = "live"
target = "sqlite:DIR/live.db"
into = "database"
branch = "live"
runs = "RUNS"

[[pipeline.move]]
from = "test"
to = "live"
gates = ["judged"]

[[pipeline.gate]]
name = "judged"
command = ["sh", "-c", "JUDGE"]

[[pipeline.after]]
name = "smoke"
environments = ["live"]
command = ["sh", "-c", "SMOKE"]
`

// target makes the project, and commits it; with a server it is one that at keeps.
func targetProject(t *testing.T, manifest string, replace ...string) (imke *project, dbs string) {
	t.Helper()
	imke, dbs = empty(t), t.TempDir()
	manifest = strings.NewReplacer(replace...).Replace(manifest)
	imke.write("oaken.toml", strings.ReplaceAll(manifest, "DIR", filepath.ToSlash(dbs)))
	imke.write("database/schema.sql", "create table tank (id integer primary key, litres integer not null);\n")
	imke.ok("begin", "--as", "Imke", "--chest", "../chest-"+filepath.Base(dbs))
	imke.ok("commit", "-m", "First state")
	return imke, dbs
}

// playAt plays a test at a server from here on.
func playAt(t *testing.T) *playing {
	t.Helper()
	at := serve(t)
	atServers.Lock()
	serversByOf[t.Name()] = at
	atServers.Unlock()
	return at
}

// asAdmin makes a call of the server's administrator, from a workspace of the administrator's own.
func (at *playing) asAdmin(p *project, input string, args ...string) (string, error) {
	at.t.Helper()
	folder := filepath.Join(at.dir, "admins")
	if _, err := os.Stat(folder); err != nil {
		if out, err := at.as(at.admin, "", "open", at.url+"/p0", folder); err != nil {
			at.t.Fatalf("%s: %v", out, err)
		}
	}
	return at.as(at.admin, input, append([]string{"--in", folder}, args...)...)
}

func (at *playing) admits(p *project, input string, args ...string) {
	at.t.Helper()
	if out, err := at.asAdmin(p, input, args...); err != nil {
		at.t.Fatalf("oaken %s: %v\n%s", strings.Join(args, " "), err, out)
	}
}

// alike takes out of an answer what differs between two projects by itself.
var alike = []struct{ from, to string }{{`"[0-9a-z]{52}"`, `"ID"`}, {`"[0-9]{4}-[0-9]{2}-[0-9]{2}T[^"]*"`, `"TIME"`},
	{`"milliseconds": *[0-9]+`, `"milliseconds": 0`}, {`on [0-9]{4}-[0-9]{2}-[0-9]{2} [0-9:]{5}`, "on DAY"},
	{`"(saved|runs|workspace)": *"[^"]*"`, `"$1": ""`},
	{`/[^" ]*/(test|live)\.db`, "$1.db"}, {`[0-9a-f]{64}`, "SUM"}, {`"took": *"[^"]*"`, `"took": ""`}, {`"rescued": *"[^"]*"`,
		`"rescued": ""`}}

// twinOf plays a story of a pipeline, and gives what each command answered.
func twinOf(t *testing.T, p *project, dbs string) (said []string) {
	t.Helper()
	call := func(args ...string) {
		t.Helper()
		r := p.run(append([]string{"--json"}, args...)...)
		text := r.out + r.err
		for _, a := range alike {
			text = regexp.MustCompile(a.from).ReplaceAllString(text, a.to)
		}
		said = append(said, "oaken "+strings.Join(args, " ")+" → "+string(rune('0'+r.status))+"\n"+text)
	}
	change := func(sql, message string) {
		p.write("database/schema.sql", sql)
		call("commit", "-m", message, "--item", message)
	}
	const one, two = "create table tank (id integer primary key, litres integer not null);\n",
		"create table tank (id integer primary key, litres integer not null, name text);\n"
	call("drift")
	call("deploy", "test", "--dry-run")
	call("deploy", "test", "--yes")
	call("promote", "test", "live", "--dry-run")
	call("promote", "test", "live", "--yes")
	change(two, "Names")
	call("deploy", "live", "--yes")
	call("promote", "test", "live", "--yes")
	call("deploy", "test", "--yes")
	call("promote", "test", "live", "--plan", "move.json")
	call("promote", "test", "live", "--follow", "move.json", "--yes")
	call("approve", "live", "--plan", "move.json")
	call("promote", "test", "live", "--follow", "move.json", "--yes")
	call("promote", "test", "live", "--follow", "move.json", "--yes")
	onSQLite(t, filepath.Join(dbs, "live.db"), "insert into tank values (1, 100, 'kelp')")
	onSQLite(t, filepath.Join(dbs, "live.db"), "create index tank_name on tank (name)")
	call("drift", "live")
	call("compare", "env:live", "live")
	call("drift", "live", "--undo")
	call("drift", "live", "--check")
	change(one, "No names")
	call("deploy", "test", "--yes", "--allow-loss")
	call("promote", "test", "live", "--yes")
	call("promote", "test", "live", "--yes", "--allow-loss")
	call("rollback", "live", "--dry-run", "--allow-loss")
	call("rollback", "live", "--yes", "--allow-loss")
	call("drift", "live")
	call("withdraw", "live", "--item", "Names", "--yes", "--allow-loss")
	call("deployments", "live")
	call("deployments", "prove", "live")
	onSQLite(t, filepath.Join(dbs, "test.db"), "create view big as select id from tank where litres > 50")
	call("capture", "test", "--commit", "-m", "What was made by hand", "--item", "x")
	call("deploy", "test", "--plan", "plan.json")
	call("deploy", "test", "--follow", "plan.json")
	call("approve", "test", "--plan", "plan.json")
	call("deploy", "test", "--follow", "plan.json", "--yes")
	call("env", "refresh", "test", "--from", "live", "--allow-loss")
	call("promote", "live", "test", "--dry-run")
	call("verify", "live")
	call("env", "list")
	call("pipeline", "show")
	return said
}

// TestTheServerReachesTargetsAsAPersonDoes plays one story of a pipeline twice: with environments that are reached from the
// person's machine, and with such that the server reaches. Every command answers the same.
func TestTheServerReachesTargetsAsAPersonDoes(t *testing.T) {
	var here, there []string
	t.Run("here", func(t *testing.T) {
		p, dbs := targetProject(t, pipelineAt, "RUNS", "person", "JUDGE", "test -d database", "SMOKE", "test -d database")
		p.ok("trust", "--yes")
		here = twinOf(t, p, dbs)
	})
	t.Run("there", func(t *testing.T) {
		at := playAt(t)
		p, dbs := targetProject(t, pipelineAt, "RUNS", "server", "JUDGE", "test -d database", "SMOKE", "test -d database")
		at.admits(p, "", "trust", "--server", "--yes")
		there = twinOf(t, p, dbs)
	})
	if len(here) < 30 || len(here) != len(there) {
		t.Fatalf("%d commands here, %d there", len(here), len(there))
	}
	for i := range here {
		if here[i] != there[i] {
			t.Errorf("%s\nfrom the server:\n%s", here[i], there[i])
		}
	}
}

// TestASecretOfATargetStaysAtTheServer: what an administrator gives it opens the target that it was given for, and is nowhere
// else: in no answer, log, copy or backup; the server's own variables fill nothing.
func TestASecretOfATargetStaysAtTheServer(t *testing.T) {
	const value = "hushed-place"
	t.Setenv("LIVE_PLACE", "of-the-server") // the server is started with it, and so is every command
	at := playAt(t)
	manifest := strings.ReplaceAll(pipelineAt, "DIR/live.db", "DIR/${LIVE_PLACE}/live.db")
	p, dbs := targetProject(t, manifest, "RUNS", "server", "JUDGE", "echo [$LIVE_PLACE]", "SMOKE", "true")
	for _, name := range []string{value, "of-the-server"} {
		if err := os.Mkdir(filepath.Join(dbs, name), 0o700); err != nil {
			t.Fatal(err)
		}
	}
	p.fails(4, "nobody has agreed to that there", "deploy", "live", "--yes")
	p.fails(4, "Administrators alone", "trust", "--server", "--yes")
	at.admits(p, "", "trust", "--server", "--yes")
	p.fails(4, "needs the secret LIVE_PLACE", "deploy", "live", "--yes")
	p.fails(4, "Administrators alone", "login", "live")
	p.fails(4, "Administrators alone", "logout", "live")
	if out, err := at.asAdmin(p, value+"\n", "login", "nowhere"); err == nil || !strings.Contains(out, "Those that there are: test, live") {
		t.Errorf("%v: %s", err, out)
	}
	if out, err := at.asAdmin(p, value+"\n", "--json", "login", "live"); err != nil || !strings.Contains(out, `"LIVE_PLACE"`) {
		t.Errorf("%v: %s", err, out)
	}
	p.tells("1 step done", "deploy", "live", "--yes")
	if _, err := os.Stat(filepath.Join(dbs, value, "live.db")); err != nil {
		t.Error("it was not deployed to where the secret leads:", err)
	}
	if list, _ := filepath.Glob(filepath.Join(dbs, "of-the-server", "*")); len(list) > 0 {
		t.Errorf("a variable of the server filled a target: %v", list)
	}
	p.ok("deploy", "test", "--yes")
	said := ""
	for _, call := range [][]string{{"env", "list"}, {"drift", "live"}, {"deployments", "live"}, {"compare", "env:live", "main"}, {"trust",
		"--server"},
		{"promote", "test", "live", "--yes", "--json"}, {"deploy", "live", "--script", "x.sql"}} {
		r := p.run(call...)
		said += r.out + r.err
	}
	backup := filepath.Join(at.dir, "backup")
	if out, err := at.as(at.admin, "", "serve", "backup", backup, "--data", at.data); err != nil {
		t.Fatalf("%s: %v", out, err)
	}
	said += at.errs.String() + everythingIn(t, backup) + everythingIn(t, p.dir) + everythingIn(t, at.config("Imke"))
	if strings.Contains(said, value) {
		t.Error("the secret stands where others read it")
	}
	// Another target, even of the same environment, does not get it.
	p.write("oaken.toml", strings.ReplaceAll(p.read("oaken.toml"), "/live.db", "/other.db"))
	p.ok("commit", "oaken.toml", "-m", "Elsewhere")
	p.fails(4, "nobody has agreed to that there", "drift", "live")
	at.admits(p, "", "trust", "--server", "--yes")
	p.fails(4, "needs the secret LIVE_PLACE", "drift", "live")
	p.write("oaken.toml", strings.ReplaceAll(p.read("oaken.toml"), "/other.db", "/live.db"))
	p.ok("commit", "oaken.toml", "-m", "Back")
	p.ok("drift", "live")
	if out, err := at.asAdmin(p, "", "--json", "logout", "live"); err != nil || !strings.Contains(out, `"forgotten": 1`) {
		t.Errorf("%v: %s", err, out)
	}
	p.fails(4, "needs the secret LIVE_PLACE", "drift", "live")
}

// everythingIn gives the contents of all files of a folder.
func everythingIn(t *testing.T, folder string) string {
	t.Helper()
	var all bytes.Buffer
	err := filepath.WalkDir(folder, func(p string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() {
			return err
		}
		data, err := os.ReadFile(p)
		all.Write(data)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return all.String()
}

// TestWhatRunsAtTheServerIsAgreedToByAnAdministrator: gates, smoke tests and targets, and again when they change; and what the
// server must not reach it does not reach whoever agrees.
func TestWhatRunsAtTheServerIsAgreedToByAnAdministrator(t *testing.T) {
	at := playAt(t)
	p, _ := targetProject(t, pipelineAt, "RUNS", "server", "JUDGE", "true", "SMOKE", "true")
	if out, err := at.asAdmin(p, "", "trust", "--server", "--check"); err == nil {
		t.Errorf("nothing was agreed to, and it says: %s", out)
	}
	shown := p.object("trust", "--server")
	if list, _ := shown["wishes"].([]any); len(list) != 4 || shown["digest"] == "" {
		t.Errorf("%v", shown)
	}
	at.admits(p, "", "trust", "--server", "--trust", shown["digest"].(string))
	p.ok("deploy", "test", "--yes")
	p.ok("promote", "test", "live", "--yes")
	p.write("oaken.toml", strings.ReplaceAll(p.read("oaken.toml"), `"true"`, `"exit 0"`))
	p.write("database/schema.sql", "create table tank (id integer primary key, litres integer not null, name text);\n")
	p.ok("commit", "-m", "Another gate")
	p.ok("deploy", "test", "--yes")
	p.fails(4, `run sh -c "exit 0" at the server (gate judged)`, "promote", "test", "live", "--yes")
	if out, err := at.asAdmin(p, "", "trust", "--server", "--trust", shown["digest"].(string)); err == nil && strings.Contains(out,
		"All of this") {
		t.Errorf("the digest of what was wanted before counts: %s", out)
	}
	at.admits(p, "", "trust", "--server", "--yes")
	p.ok("promote", "test", "live", "--yes")
	at.admits(p, "", "trust", "--server", "--forget")
	p.fails(4, "nobody has agreed", "drift", "live")
	for _, target := range []string{filepath.Join(at.data, "server.db"), filepath.Join(at.data, "projects", "new.db")} {
		p.write("oaken.toml", regexp.MustCompile(`sqlite:[^"]*live.db|sqlite:[^"]*data/[^"]*`).ReplaceAllString(p.read("oaken.toml"),
			"sqlite:"+filepath.ToSlash(target)))
		p.ok("commit", "oaken.toml", "-m", "Where it must not be")
		at.admits(p, "", "trust", "--server", "--yes")
		p.fails(4, "among the server's own files", "deploy", "live", "--yes", "--replace-drift", "--allow-loss")
	}
}

// TestAnEnvironmentRunsWhereItSays: live ones at the server, others and those in the project's folder at the person; what is said
// counts, and what can't be is refused.
func TestAnEnvironmentRunsWhereItSays(t *testing.T) {
	at := playAt(t)
	p, _ := targetProject(t, strings.ReplaceAll(pipelineAt, `runs = "RUNS"`, ""), "JUDGE", "true", "SMOKE", "true")
	p.ok("deploy", "test", "--yes") // the person's own
	p.fails(4, "at the server (target live)", "drift", "live")
	p.fails(2, "reached from your machine", "login", "test")
	p.write("oaken.toml", strings.Replace(p.read("oaken.toml"), `tier = "live"`, "tier = \"live\"\nruns = \"person\"", 1))
	p.ok("commit", "-m", "By ourselves")
	p.ok("promote", "test", "live", "--yes")
	at.admits(p, "", "trust", "--server", "--yes") // there is nothing to agree to
	p.write("oaken.toml", strings.Replace(p.read("oaken.toml"), `runs = "person"`, `runs = "server"`, 1))
	p.ok("drift", "live") // what the first branch says counts
	p.write("oaken.toml", strings.Replace(p.read("oaken.toml"), `runs = "server"`, `runs = "moon"`, 1))
	p.fails(2, "is person or server", "env", "list")
	p.write("oaken.toml", regexp.MustCompile(`sqlite:[^"]*live.db`).ReplaceAllString(strings.Replace(p.read("oaken.toml"), `"moon"`,
		`"server"`, 1),
		"sqlite:live.db"))
	p.fails(2, "write the whole path", "env", "list")
}

// TestAJobGoesOnWithoutItsCaller: a promotion is done when who asked for it is killed, is taken back when they stop it, and is
// done once when the server is killed meanwhile, or asked to stop.
func TestAJobGoesOnWithoutItsCaller(t *testing.T) {
	at := playAt(t)
	p, dbs := targetProject(t, pipelineAt, "RUNS", "server", "JUDGE", "echo >> DIR/judging; sleep 2", "SMOKE", "true")
	judging := filepath.Join(dbs, "judging")
	at.admits(p, "", "trust", "--server", "--yes")
	p.ok("deploy", "test", "--yes")
	begin := func() (wait func() (int, string), process *os.Process) {
		_ = os.Remove(judging)
		cmd := p.command("--yes", "promote", "test", "live")
		var out bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &out
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		for range 200 {
			if _, err := os.Stat(judging); err == nil {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
		return func() (int, string) { _ = cmd.Wait(); return cmd.ProcessState.ExitCode(), out.String() }, cmd.Process
	}
	deployments := func() int {
		list, _ := p.object("deployments", "live")["deployments"].([]any)
		return len(list)
	}
	settled := func(want int) {
		t.Helper()
		for range 100 {
			if deployments() == want {
				return
			}
			time.Sleep(100 * time.Millisecond)
		}
		t.Errorf("%d deployments, not %d", deployments(), want)
	}
	wait, process := begin()
	_ = process.Signal(os.Interrupt)
	if status, said := wait(); status != 7 && status != 130 {
		t.Errorf("interrupted, it ends with %d: %s", status, said)
	}
	time.Sleep(3 * time.Second)
	settled(0)
	wait, process = begin()
	_ = process.Kill()
	wait()
	settled(1)
	next := 1
	more := func() {
		next++
		p.write("database/schema.sql", "create table tank (id integer primary key, litres integer not null"+strings.Repeat(", c"+
			strings.Repeat("x", next)+" text", 1)+");\n")
		p.ok("commit", "-m", "More")
		p.ok("deploy", "test", "--yes", "--allow-loss")
	}
	more()
	wait, _ = begin()
	at.restart()
	if status, said := wait(); status != 0 {
		t.Errorf("the server was killed and came again: %d, %s", status, said)
	}
	settled(2)
	p.ok("drift", "live", "--check")
	more()
	wait, _ = begin()
	if err := at.stop(); err != nil { // it is asked to stop: what is under way is finished
		t.Error(err)
	}
	status, said := wait()
	at.start(strings.TrimPrefix(at.url, "http://"))
	if status != 0 {
		t.Errorf("the server stopped: %d, %s", status, said)
	}
	settled(3)
	if err := at.stop(); err != nil {
		t.Error(err)
	}
	p.fails(5, "is out of reach", "drift", "live") // nobody reaches it from here instead
	p.fails(5, "is out of reach", "promote", "test", "live", "--yes")
	at.start(strings.TrimPrefix(at.url, "http://"))
}

// TestAJobOfAnotherIsNobodysElse: who knows the name of a job hears nothing of it, and can't stop it, unless it is their own; a
// request that can't be one is refused.
func TestAJobOfAnotherIsNobodysElse(t *testing.T) {
	at := playAt(t)
	p, _ := targetProject(t, pipelineAt, "RUNS", "server", "JUDGE", "true", "SMOKE", "true")
	at.admits(p, "", "trust", "--server", "--yes")
	at.config("Tarek")
	ask := func(config, call, body string) (int, string) { return at.post(t, config, "p0/"+call, body) }
	deploy := func(id string) string {
		e, _ := json.Marshal(map[string]any{"do": "prove", "environment": "live"})
		return `{"id":"` + id + `","workspace":"","errand":` + string(e) + `}`
	}
	if status, said := ask(at.people["Imke"], "jobs", deploy("one")); status != 200 || !strings.Contains(said,
		"Nothing was deployed to live") {
		t.Errorf("%d: %s", status, said)
	}
	for _, bad := range []string{deploy("../x"), deploy(""), `{"id":"a","errand":{"do":"dance","environment":"live"}}`, `{"id":"a"}`, `{`,
		`{"id":"a","workspace":"","errand":{"do":"prove","environment":"live"},"seen":-1}`} {
		if status, said := ask(at.people["Imke"], "jobs", bad); status != 400 {
			t.Errorf("%s: %d, %s", bad, status, said)
		}
	}
	if status, said := ask(at.people["Tarek"], "jobs/stop", deploy("one")); status != 200 {
		t.Errorf("%d: %s", status, said)
	}
	for _, q := range []string{`{"at":{"environment":"live","into":"elsewhere"},"question":{"ask":"reach"}}`,
		`{"at":{"environment":"none","into":"database"},"question":{"ask":"reach"}}`,
		`{"at":{"environment":"live","into":"database"},"question":{"ask":"apply"}}`} {
		if status, said := ask(at.people["Tarek"], "target", q); status != 200 || !strings.Contains(said, `"error"`) {
			t.Errorf("%s: %d, %s", q, status, said)
		}
	}
}

// post makes a request in the session of a configuration.
func (at *playing) post(t *testing.T, config, address, body string) (status int, said string) {
	t.Helper()
	token := regexp.MustCompile(`oaken-session-[A-Za-z0-9_-]+`).FindString(everythingIn(t, filepath.Join(config, "oaken")))
	q, err := http.NewRequestWithContext(t.Context(), http.MethodPost, at.url+"/"+address, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	q.Header.Set("Authorization", "Bearer "+token)
	answer, err := http.DefaultClient.Do(q)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(answer.Body)
	if err != nil {
		t.Error(err)
	}
	return answer.StatusCode, string(data)
}

// onSQLite carries out statements in a database file.
func onSQLite(t *testing.T, file string, statements ...string) {
	t.Helper()
	db, err := sql.Open("sqlite", file)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	for _, s := range statements {
		if _, err := db.ExecContext(t.Context(), s); err != nil {
			t.Fatal(s, err)
		}
	}
}

// TestWorkGoesBetweenWhatPeopleAndTheServerReach: from a database that a person reaches to one that the server does, and the other
// way; planned for later too, and carried out by somebody else, as who planned it.
func TestWorkGoesBetweenWhatPeopleAndTheServerReach(t *testing.T) {
	at := playAt(t)
	for n, runs := range [][2]string{{"person", "server"}, {"server", "person"}} {
		manifest := strings.Replace(strings.Replace(pipelineAt, "RUNS", runs[0], 1), "RUNS", runs[1], 1)
		p, dbs := targetProject(t, manifest, "JUDGE", "true", "SMOKE", "true")
		folder := filepath.Join(t.TempDir(), "admins")
		address := at.address(p, "../chest-"+filepath.Base(dbs))
		for _, call := range [][]string{{"open", address, folder}, {"--in", folder, "trust", "--server", "--yes"}, {"--in", folder, "trust",
			"--yes"}} {
			if out, err := at.as(at.admin, "", call...); err != nil {
				t.Fatalf("%v: %v\n%s", call, err, out)
			}
		}
		p.ok("deploy", "test", "--yes")
		p.tells("1 step done", "promote", "test", "live", "--yes")
		p.write("database/schema.sql", "create table tank (id integer primary key, litres integer not null, name text);\n")
		p.ok("commit", "-m", "Names")
		p.ok("deploy", "test", "--yes")
		p.ok("promote", "test", "live", "--at", "1s")
		time.Sleep(1100 * time.Millisecond)
		if out, err := at.as(at.admin, "", "--in", folder, "--yes", "promote", "--due"); err != nil {
			t.Errorf("%d: %v\n%s", n, err, out)
		}
		p.says(p.ok("deployments", "live", "--limit", "1"), "promoted from test")
		p.ok("verify", "env:test", "env:live")
		p.fails(4, "nothing can be copied between them", "env", "refresh", "test", "--from", "live", "--allow-loss")
	}
}
