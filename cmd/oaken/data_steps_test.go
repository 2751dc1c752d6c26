package main

import (
	"math/rand/v2"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"
)

// rowsAre lets the engine itself say that a table has just these values in a column.
func rowsAre(run func(string), table, column string, want ...string) {
	run("create table agrees (n int check (n = 0))")
	run("insert into agrees select case when count(*) = " + strconv.Itoa(len(want)) + " then 0 else 1 end from " + table)
	if len(want) > 0 {
		run("insert into agrees select count(*) from " + table + " where " + column + " is null or " + column + " not in ('" +
			strings.Join(want, "', '") + "')")
	}
	run("drop table agrees")
}

// folderOf gives the folder of a project's database, and the file of a table below it.
func folderOf(p *project, table string) (folder, file string) {
	for _, name := range []string{"tables/", "public/tables/"} {
		if p.has("database/" + name + table + ".sql") {
			return "database/", "database/" + name + table + ".sql"
		}
	}
	p.t.Fatalf("no file of table %s", table)
	return "", ""
}

// gone removes a file.
func (p *project) gone(name string) {
	p.t.Helper()
	if err := os.Remove(p.path(name)); err != nil {
		p.t.Fatal(err)
	}
}

// instead gives the text of a table with a column replaced by others.
func instead(t *testing.T, text, column string, others ...string) string {
	t.Helper()
	i := strings.Index(text, "  "+column+" ")
	if i < 0 {
		t.Fatalf("no column %s in %s", column, text)
	}
	line, rest, _ := strings.Cut(text[i:], "\n")
	comma := ""
	if strings.HasSuffix(line, ",") {
		comma = ","
	}
	return text[:i] + "  " + strings.Join(others, ",\n  ") + comma + "\n" + rest
}

func splitting(target string) (split, join string) {
	switch {
	case strings.HasPrefix(target, "sqlite"):
		return "substr(name, 1, instr(name, ' ') - 1), family = substr(name, instr(name, ' ') + 1)", "given || ' ' || family"
	case strings.HasPrefix(target, "mysql"):
		return "substring_index(name, ' ', 1), family = substr(name, instr(name, ' ') + 1)", "concat(given, ' ', family)"
	}
	return "split_part(name, ' ', 1), family = substr(name, strpos(name, ' ') + 1)", "given || ' ' || family"
}

// TestDataStepsSplitAName plays what no declared schema can say alone: a name becomes two, in an
// environment with rows, back with a row that came between, and forth again.
func TestDataStepsSplitAName(t *testing.T) {
	engines(t, func(t *testing.T, p *project, target string, run func(string)) {
		run("create table keeper (id int primary key, name varchar(60) not null)")
		run("create table runs (n int primary key, at varchar(10))")
		run("insert into keeper values (1, 'Ada Reef'), (2, 'Cy de Bay')")
		p.ok("begin")
		p.ok("env", "add", "live", target)
		p.ok("capture", "live", "--commit", "-m", "First")
		p.ok("commit", "-m", "The environment")
		folder, file := folderOf(p, "keeper")
		one := p.read(file)
		split, join := splitting(target)
		step := folder + "data-steps/0001-names.sql"
		body := "-- run: between\nupdate keeper set given = " + split + ";\ninsert into runs select count(*) + 1, 'forth' from runs;\n"
		p.write(file, instead(t, one, "name", "given varchar(60) not null", "family varchar(60) not null"))
		p.fails(4, "takes no null and has no default", "deploy", "live", "work", "--dry-run")

		p.write(step, body+"-- check:\nselect id from keeper where family = 'Reef';\n-- back:\nupdate keeper set name = "+join+";\n")
		p.ok("commit", "-m", "Names in two parts")
		p.fails(1, "its check finds rows", "deploy", "live", "--yes", "--allow-loss")
		rowsAre(run, "runs", "at")
		if strings.HasPrefix(target, "mysql") { // this engine keeps what came before the step
			p.says(p.ok("deploy", "live", "--dry-run"), "did not end")
		}
		p.write(step, body+"-- check:\nselect id from keeper where family is null;\n-- back:\nupdate keeper set name = "+join+
			";\ninsert into runs select count(*) + 1, 'back' from runs;\n")
		if r := p.run("commit", "-m", "The check is right"); r.status != 0 || strings.Contains(r.err, "does not run there again") {
			t.Errorf("nothing has run it: %s", r.err)
		}
		p.ok("deploy", "live", "--yes", "--allow-loss")
		rowsAre(run, "keeper", "family", "Reef", "de Bay")
		rowsAre(run, "runs", "at", "forth")
		p.says(p.ok("deploy", "live", "--yes"), "nothing to do")
		p.ok("verify", "work", "env:live")
		run("insert into keeper (id, given, family) values (3, 'Di', 'Cove')")

		out := p.ok("rollback", "live", "--yes", "--allow-loss")
		p.says(out, "take the data step back")
		rowsAre(run, "keeper", "name", "Ada Reef", "Cy de Bay", "Di Cove")
		p.ok("deploy", "live", "--yes", "--allow-loss")
		rowsAre(run, "keeper", "family", "Reef", "de Bay", "Cove")
		run("delete from runs")

		// To take the work back takes the step back, by a commit too.
		p.ok("revert", "main:4")
		p.ok("revert", "main:3")
		run("delete from runs")
		p.ok("deploy", "live", "--yes", "--allow-loss")
		rowsAre(run, "keeper", "name", "Ada Reef", "Cy de Bay", "Di Cove")
		rowsAre(run, "runs", "at", "back")
		p.ok("rollback", "live", "--yes", "--allow-loss")
		rowsAre(run, "runs", "at", "back", "forth")
		run("delete from runs")
		p.ok("revert", "main:6")
		p.ok("revert", "main:5")
		p.says(p.ok("deploy", "live", "--yes"), "nothing to do")

		// It has run: an edit is told, another name and a tidy folder change nothing.
		p.write(step, p.read(step)+"-- Done in spring.\n")
		p.says(p.run("commit", "-m", "A remark").err, "has run in live, and does not run there again")
		p.says(p.ok("deploy", "live", "--yes"), "nothing to do")
		p.write(folder+"data-steps/0001-names-in-parts.sql", p.read(step))
		p.gone(step)
		p.ok("commit", "-m", "A better name")
		p.says(p.ok("deploy", "live", "--yes"), "nothing to do")
		p.gone(folder + "data-steps/0001-names-in-parts.sql")
		p.ok("commit", "-m", "It has run everywhere")
		p.says(p.ok("deploy", "live", "--yes"), "nothing to do", "counts as tidied away")
		rowsAre(run, "runs", "at")
	})
}

// TestDataStepsWithoutAWayBackAskAndAreSaved removes and changes rows by a step that says nothing
// of a way back: that needs consent, and a rollback puts the rows back; rows that came since stay.
func TestDataStepsWithoutAWayBackAskAndAreSaved(t *testing.T) {
	engines(t, func(t *testing.T, p *project, target string, run func(string)) {
		run("create table tank (id int primary key, code varchar(10), litres int)")
		run("insert into tank values (1, 'reef', 10), (2, 'kelp', 20), (3, 'bay', 30)")
		p.ok("begin")
		p.ok("env", "add", "live", target)
		p.ok("capture", "live", "--commit", "-m", "First")
		folder, _ := folderOf(p, "tank")
		p.write(folder+"data-steps/1-clean.sql",
			"-- run: after\ndelete from tank where id = 1;\nupdate tank set code = 'new' where id = 2;\n")
		p.ok("commit", "-m", "Clean")
		p.fails(4, "has no way back", "deploy", "live", "--yes")
		rowsAre(run, "tank", "code", "reef", "kelp", "bay")
		p.ok("deploy", "live", "--yes", "--allow-loss")
		rowsAre(run, "tank", "code", "new", "bay")
		run("insert into tank values (4, 'since', 40)")
		p.says(p.ok("rollback", "live", "--yes"), "1-clean")
		rowsAre(run, "tank", "code", "reef", "kelp", "bay", "since")
		p.ok("deploy", "live", "--yes", "--allow-loss")
		rowsAre(run, "tank", "code", "new", "bay", "since")

		// Another database of which nothing is known: nobody guesses.
		p.ok("env", "add", "copy", target)
		p.fails(4, "nobody can tell whether the data step 1-clean was run there", "deploy", "copy", "--yes")
		p.ok("deploy", "copy", "--yes", "--data-steps", "done")
		rowsAre(run, "tank", "code", "new", "bay", "since")
		p.write(folder+"data-steps/2.sql", "insert into tank values (5, 'bad'); rollback;\n")
		p.fails(4, "2.sql, line 1: rollback has no place", "deploy", "copy", "work", "--dry-run")
	})
}

// client gives the call of an engine's own program that runs a script in a target.
func client(t *testing.T, p *project, target string) *exec.Cmd {
	t.Helper()
	u, err := url.Parse(target)
	if err != nil {
		t.Fatal(err)
	}
	switch u.Scheme {
	case "sqlite":
		return exec.Command("sqlite3", p.path(u.Opaque))
	case "mysql":
		return exec.Command("mariadb", "--no-defaults", "--user="+u.User.Username(), "--host="+u.Hostname(), "--port="+u.Port(),
			"--default-character-set=utf8mb4", strings.Trim(u.Path, "/"))
	}
	return exec.Command("psql", "--no-psqlrc", "--quiet", target)
}

// TestScriptsRunOnTheStateTheyWereWrittenFor lets an engine's own program run a script with a
// trigger's body and a data step: on another state it changes nothing, on its own it does all,
// and what it ran is not run again.
func TestScriptsRunOnTheStateTheyWereWrittenFor(t *testing.T) {
	engines(t, func(t *testing.T, p *project, target string, run func(string)) {
		run("create table tank (id int primary key, code varchar(10))")
		run("insert into tank values (1, 'reef')")
		p.ok("begin")
		p.ok("env", "add", "live", target)
		p.ok("capture", "live", "--commit", "-m", "First")
		folder, file := folderOf(p, "tank")
		text := instead(t, p.read(file), "code", "code varchar(10)", "litres int")
		if strings.HasPrefix(target, "mysql") {
			text += "\ndelimiter //\ncreate trigger fuller before update on tank for each row begin set new.litres = new.litres + 1; " +
				"end//\ndelimiter ;\n"
		}
		p.write(file, text)
		p.write(folder+"data-steps/1.sql", "insert into tank (id, code, litres) values (2, 'new', 5);\n")
		p.ok("commit", "-m", "Litres")
		p.ok("deploy", "live", "--script", "up.sql")
		runs := func() string {
			cmd := client(t, p, target)
			script, err := os.Open(p.path("up.sql"))
			if err != nil {
				t.Fatal(err)
			}
			defer script.Close()
			cmd.Stdin = script
			out, _ := cmd.CombinedOutput()
			return string(out)
		}
		run("create table between_them (id int primary key)")
		p.says(runs(), "is not as it was when this script was written")
		rowsAre(run, "tank", "code", "reef")
		run("drop table between_them")
		if out := runs(); out != "" {
			t.Fatalf("the script says: %s", out)
		}
		rowsAre(run, "tank", "code", "reef", "new")
		p.says(p.ok("deploy", "live", "--yes"), "nothing to do")
		p.says(p.ok("deploy", "live", "--yes"), "nothing to do")
		rowsAre(run, "tank", "code", "reef", "new")
		p.says(runs(), "is not as it was")
	})
}

// TestTheDatabaseOfABranchEndsOnRequest drops what oaken branch --env made, and nothing else; what
// nobody has recorded, and rows, need consent.
func TestTheDatabaseOfABranchEndsOnRequest(t *testing.T) {
	for _, s := range []server{postgresServer(t), mariadbServer(t)} {
		t.Run(s.engine, func(t *testing.T) {
			p, dev := empty(t), s.database(t)
			s.run(t, dev, "create table tank (id int primary key)")
			p.ok("begin")
			p.ok("env", "add", "dev", s.target(dev))
			p.ok("capture", "dev", "--commit", "-m", "First")
			p.ok("commit", "-m", "Where it lives")
			p.fails(4, "was not made for a branch", "env", "remove", "dev", "--drop")
			kelp := dev + "_kelp"
			p.ok("branch", "kelp", "--env", s.target(kelp))
			p.ok("go", "kelp")
			s.run(t, kelp, "alter table tank add column code varchar(9)")
			p.fails(4, "holds what no commit knows", "env", "remove", "kelp", "--drop")
			p.ok("capture", "kelp", "--commit", "-m", "Codes")
			s.run(t, kelp, "insert into tank (id, code) values (1, 'reef')")
			p.fails(4, "would lose data", "env", "remove", "kelp", "--drop")
			out := p.ok("env", "remove", "kelp", "--drop", "--allow-loss")
			p.says(out, "Saved before: ", "its database is dropped")
			saved := strings.TrimSpace(strings.TrimPrefix(strings.SplitN(out, "\n", 2)[0], "Saved before: "))
			found, _ := filepath.Glob(filepath.Join(saved, "*", "*", "tank.csv"))
			more, _ := filepath.Glob(filepath.Join(saved, "*", "tank.csv"))
			if found = append(found, more...); len(found) != 1 {
				t.Fatalf("the rows are not in %s", saved)
			}
			if info, err := os.Stat(found[0]); err != nil || info.Mode().Perm() != 0o600 {
				t.Errorf("others may read the rows: %v, %v", info.Mode(), err)
			}
			if data, err := os.ReadFile(found[0]); err != nil || !strings.Contains(string(data), "reef") {
				t.Errorf("%s, %v", data, err)
			}
			p.ok("env", "add", "again", s.target(kelp))
			p.fails(5, "There is no database", "verify", "main", "env:again")
			s.run(t, dev, "insert into tank values (1)")
		})
	}
}

// TestDataStepsGoWithTheirWork moves work with data steps through a pipeline: all of it, one item
// before the other, taken back from live, brought again, and withdrawn from a stage.
func TestDataStepsGoWithTheirWork(t *testing.T) {
	p := &project{t: t, dir: filepath.Join(t.TempDir(), "work")}
	p.write("note.txt", "x\n")
	stages := []string{"dev", "test", "live"}
	for _, e := range stages {
		p.sql("../"+e+".db", "create table keeper (id integer primary key, name text not null); insert into keeper values (1, 'Ada "+
			"Reef'), (2, 'Cy de Bay'); create table runs (what text)")
	}
	p.ok("begin")
	for i, e := range stages {
		p.ok("env", "add", e, "sqlite:../"+e+".db", "--tier", []string{"development", "test", "live"}[i], "--branch",
			[]string{"main", "test", "live"}[i])
	}
	p.write("oaken.toml", p.read("oaken.toml")+"\n[[pipeline.move]]\nfrom = \"dev\"\nto = \"test\"\n\n[[pipeline.move]]\n"+
		"from = \"test\"\nto = \"live\"\n")
	p.ok("capture", "dev", "--commit", "-m", "First")
	p.ok("commit", "-m", "The pipeline")
	p.ok("deploy", "dev", "--yes")
	p.ok("promote", "dev", "test", "--yes")
	p.ok("promote", "test", "live", "--yes")
	_, file := folderOf(p, "keeper")
	p.write(file, instead(t, p.read(file), "name", "given text not null", "family text not null"))
	split, join := splitting("sqlite")
	p.write("database/data-steps/1-names.sql",
		"update keeper set given = "+split+";\ninsert into runs values ('forth');\n-- back:\nupdate keeper set name = "+join+
			";\ninsert into runs values ('back');\n")
	p.ok("commit", "-m", "Names", "--item", "N-1")
	p.write("database/data-steps/2-only.sql", "insert into runs values ('only');\n-- back: nothing\n")
	p.ok("commit", "-m", "Only a step", "--item", "N-2")
	ran := func(when string, want ...string) {
		t.Helper()
		for i, e := range stages {
			check := "create table agrees (n int check (n = 1)); insert into agrees select coalesce(group_concat(what), '') = '" + want[i] +
				"' from runs; drop table agrees"
			t.Log(when, e, want[i])
			p.sql("../"+e+".db", check)
		}
	}
	p.ok("deploy", "dev", "--yes", "--allow-loss")
	p.ok("promote", "dev", "test", "--item", "N-2", "--yes")
	ran("one item", "forth,only", "only", "")
	p.ok("promote", "dev", "test", "--yes", "--allow-loss")
	p.ok("promote", "test", "live", "--yes", "--allow-loss")
	ran("all", "forth,only", "only,forth", "forth,only")
	p.ok("rollback", "live", "--yes", "--allow-loss")
	ran("taken back", "forth,only", "only,forth", "forth,only,back")
	p.ok("promote", "test", "live", "--yes", "--allow-loss", "--again")
	ran("again", "forth,only", "only,forth", "forth,only,back,forth,only")
	p.ok("withdraw", "test", "--item", "N-1", "--yes", "--allow-loss")
	ran("withdrawn", "forth,only", "only,forth,back", "forth,only,back,forth,only")
	p.ok("verify", "main", "env:dev", "env:live")
}

// TestADataStepRunsOnceThroughKills kills deployments at any moment and lets the next one go on: each
// step has run just once, and no value is lost. OAKEN_KILLS sets how many are tried.
func TestADataStepRunsOnceThroughKills(t *testing.T) {
	engines(t, func(t *testing.T, p *project, target string, run func(string)) {
		run("create table keeper (id int primary key, name varchar(40) not null)")
		run("create table runs (at varchar(10))")
		run("insert into keeper values (1, 'Ada Reef'), (2, 'Cy de Bay')")
		p.ok("begin")
		p.ok("env", "add", "live", target)
		p.ok("capture", "live", "--commit", "-m", "First")
		folder, file := folderOf(p, "keeper")
		text := p.read(file)
		names := []string{"name", "called"}
		killed := 0
		for i := range max(kills(t)/12, 4) {
			from, to := names[i%2], names[(i+1)%2]
			text = instead(t, text, from, to+" varchar(40) not null")
			p.write(file, text)
			step := strconv.Itoa(1000 + i)
			p.write(folder+"data-steps/"+step+".sql",
				"update keeper set "+to+" = "+from+";\ninsert into runs values ('"+step+"');\n-- back: nothing\n")
			p.ok("commit", "-m", step)
			if ended, _ := p.killed(time.Duration(20+rand.IntN(120))*time.Millisecond, "deploy", "live", "--yes", "--allow-loss"); !ended {
				killed++
			}
			p.ok("deploy", "live", "--yes", "--allow-loss")
			rowsAre(run, "runs", "at", step)
			run("delete from runs")
			rowsAre(run, "keeper", to, "Ada Reef", "Cy de Bay")
		}
		t.Logf("%d killed", killed)
	})
}
