package main

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// engines gives a database of each engine with a way to run statements and ask it.
func engines(t *testing.T, test func(t *testing.T, p *project, target string, run func(text string))) {
	t.Run("sqlite", func(t *testing.T) {
		p := &project{t: t, dir: filepath.Join(t.TempDir(), "work")}
		p.write("note.txt", "x\n")
		test(t, p, "sqlite:../live.db", func(text string) { p.sql("../live.db", text) })
	})
	for _, s := range []server{postgresServer(t), mariadbServer(t)} {
		t.Run(s.engine, func(t *testing.T) {
			p := empty(t)
			name := s.database(t)
			test(t, p, s.target(name), func(text string) { s.run(t, name, text) })
		})
	}
}

// TestTypesThatLoseAskAndComeBack gives columns types in which their values become others: it
// is told, consented to, saved, and a rollback brings the very values back.
func TestTypesThatLoseAskAndComeBack(t *testing.T) {
	engines(t, func(t *testing.T, p *project, target string, run func(string)) {
		run("create table tank (id int primary key, litres decimal(10,4), depth double precision, since " + map[bool]string{true: "text",
			false: "timestamp"}[strings.HasPrefix(target, "sqlite")] + ", name varchar(20))")
		run("insert into tank values (1, 1.2345, 2.75, '2026-01-02 03:04:05', 'The great reef'), (2, 2, 3, '2026-01-02 00:00:00', " +
			"'kelp'), (3, null, null, '2026-01-03 00:00:00', null)")
		if strings.HasPrefix(target, "sqlite") { // there a type of text holds any text
			run("insert into tank values (4, 7, 0.5, '007', '7')")
		}
		run("create table proof as select * from tank")
		p.ok("begin")
		p.ok("env", "add", "live", target)
		p.ok("capture", "live", "--commit", "-m", "First")
		file := ""
		for _, name := range []string{"database/tables/tank.sql", "database/public/tables/tank.sql"} {
			if p.has(name) {
				file = name
			}
		}
		text := strings.ToLower(p.read(file))
		for _, old := range [][2]string{{"decimal(10,4)", "decimal(10,2)"}, {"decimal(10, 4)", "decimal(10, 2)"},
			{"numeric(10,4)", "numeric(10,2)"}, {"numeric(10, 4)", "numeric(10, 2)"}, {"double precision", "int"}, {"depth double",
				"depth int"}, {"varchar(20)", "varchar(5)"}, {"character varying(20)", "character varying(5)"}} {
			text = strings.Replace(text, old[0], old[1], 1)
		}
		if strings.HasPrefix(target, "sqlite") {
			text = strings.Replace(strings.Replace(text, "since text", "since integer", 1), "depth int", "depth text", 1)
		}
		p.write(file, text)
		out := p.ok("deploy", "live", "work", "--dry-run")
		p.says(out, "[loses data: ")
		p.ok("commit", "-m", "Smaller")
		p.fails(4, "would lose data", "deploy", "live", "--yes")
		p.ok("deploy", "live", "--allow-loss", "--yes")
		p.ok("verify", "work", "env:live")
		p.ok("rollback", "live", "--allow-loss", "--yes")
		same := "create table agrees (n int check (n = 0)); insert into agrees select count(*) from (select * from tank except select * " +
			"from proof) x; drop table agrees"
		for _, part := range strings.Split(same, "; ") {
			run(part)
		}
	})
}

// TestRenamesGoBothWays renames a column and its table, and takes that back: no value is lost
// on the way, also of rows that came between. A name that is used again goes to the new one.
func TestRenamesGoBothWays(t *testing.T) {
	engines(t, func(t *testing.T, p *project, target string, run func(string)) {
		holds := func(table, column string, sum int) {
			t.Helper()
			run("create table agrees (n int check (n = " + strconv.Itoa(sum) + "))")
			run("insert into agrees select sum(" + column + ") from " + table)
			run("drop table agrees")
		}
		run("create table tank (id int primary key, age int)")
		run("insert into tank values (1, 5), (2, 7)")
		p.ok("begin")
		p.ok("env", "add", "live", target)
		p.ok("capture", "live", "--commit", "-m", "First")
		file := "database/tables/tank.sql"
		if !p.has(file) {
			file = "database/public/tables/tank.sql"
		}
		text := p.read(file)
		i := strings.Index(text, "  age ")
		line, rest, _ := strings.Cut(text[i:], "\n")
		comma := ""
		if strings.HasSuffix(line, ",") {
			comma = ","
		}
		years := strings.Replace(strings.TrimSuffix(line, ","), "age", "years", 1) + comma + " -- formerly: age\n"
		p.write(file, text[:i]+years+rest)
		p.ok("commit", "-m", "Years")
		p.says(p.ok("deploy", "live", "--yes"), "live and main:2 agree")
		run("insert into tank values (3, 9)")
		p.ok("rollback", "live", "--yes")
		holds("tank", "age", 21)
		p.ok("deploy", "live", "--yes")
		holds("tank", "years", 21)
		p.ok("rollback", "live", "--yes")

		// The name is used again: years takes the values, age begins with none.
		p.write(file, text[:i]+"  age varchar(5),\n"+years+rest)
		p.ok("commit", "-m", "Age in words")
		p.ok("deploy", "live", "--yes")
		holds("tank", "years", 21)
		run("create table agrees (n int check (n = 0))")
		run("insert into agrees select count(age) from tank")
		run("drop table agrees")

		// A table goes the same way, with its rows.
		name := "create table tank ("
		if strings.Contains(text, "public.tank") {
			name = "create table public.tank ("
		}
		is := p.read(file)
		p.write(strings.Replace(file, "tank.sql", "basin.sql", 1),
			strings.ReplaceAll(strings.Replace(is, name, "-- formerly: tank\n"+strings.Replace(name, "tank", "basin", 1), 1), "tank_pkey",
				"basin_pkey"))
		if err := os.Remove(p.path(file)); err != nil {
			t.Fatal(err)
		}
		p.ok("commit", "-m", "Basins")
		p.ok("deploy", "live", "--yes")
		holds("basin", "years", 21)
		run("insert into basin (id, years) values (4, 1)")
		p.ok("rollback", "live", "--yes")
		holds("tank", "years", 22)
		p.ok("deploy", "live", "--yes")
		holds("basin", "years", 22)
	})
}

// TestAFillMayReadWhatGoes fills a new column from one that the same deployment drops, and
// values that can't become a new type.
func TestAFillMayReadWhatGoes(t *testing.T) {
	engines(t, func(t *testing.T, p *project, target string, run func(string)) {
		run("create table tank (id int primary key, litres int not null, note varchar(10), last int)")
		run("insert into tank values (1, 10, '1', 0), (7, 20, 'x', 0)")
		p.ok("begin")
		p.ok("env", "add", "live", target)
		p.ok("capture", "live", "--commit", "-m", "First")
		file, name := "database/tables/tank.sql", "tank"
		if !p.has(file) {
			file, name = "database/public/tables/tank.sql", "public.tank"
		}
		lines := strings.Split(p.read(file), "\n")
		change := func(column, to string) {
			for i, l := range lines {
				if strings.HasPrefix(l, "  "+column+" ") {
					lines[i] = "  " + to + ","
				}
			}
			p.write(file, strings.Join(lines, "\n"))
		}
		change("litres", "cubic int not null")
		p.ok("commit", "-m", "Cubic metres")
		p.fails(4, "--fill '"+name+".cubic=VALUE'", "deploy", "live", "--yes")
		p.ok("deploy", "live", "--yes", "--allow-loss", "--fill", name+".cubic=litres / 10")
		run("create table agrees (n int check (n = 3))")
		run("insert into agrees select sum(cubic) from tank")
		run("drop table agrees")
		if strings.HasPrefix(target, "sqlite") {
			return // there each type holds each value
		}
		change("note", "note int")
		p.ok("commit", "-m", "Notes are numbers")
		p.fails(4, "in 1 row", "deploy", "live", "--yes")
		p.ok("deploy", "live", "--yes", "--allow-loss", "--fill", name+".note=40")
		run("create table agrees (n int check (n = 41))")
		run("insert into agrees select sum(note) from tank")
		run("drop table agrees")
		p.ok("rollback", "live", "--yes")
		run("create table agrees (n int check (n = 1))")
		run("insert into agrees select count(*) from tank where note = 'x'")
	})
}

// TestCaptureSeesRenames has an outside tool rename a column: the capture says so in the file
// where it can be nothing else, and asks elsewhere; another database then renames it.
func TestCaptureSeesRenames(t *testing.T) {
	engines(t, func(t *testing.T, p *project, target string, run func(string)) {
		run("create table tank (id int primary key, age int, name varchar(20))")
		run("create table keeper (id int primary key, one int, two int)")
		run("insert into tank values (1, 5, 'a'), (2, 7, 'b')")
		p.ok("begin")
		p.ok("env", "add", "live", target)
		p.ok("capture", "live", "--commit", "-m", "First")
		run("alter table tank rename column age to years")
		run("alter table keeper drop column one")
		run("alter table keeper drop column two")
		run("alter table keeper add column three int")
		out := p.ok("capture", "live", "--commit", "-m", "By hand")
		file := "database/tables/tank.sql"
		if !p.has(file) {
			file = "database/public/tables/tank.sql"
		}
		if strings.HasPrefix(target, "postgres") {
			p.says(out, "In table tank, years was called age")
			p.says(p.read(file), "years integer, -- formerly: age")
		} else {
			p.says(out, "In table tank, age went and years came", "-- formerly: age")
			text := p.read(file)
			i := strings.Index(text, "  years ")
			line, rest, _ := strings.Cut(text[i:], "\n")
			p.write(file, text[:i]+line+" -- formerly: age\n"+rest)
			p.ok("commit", "-m", "It was age")
		}
		if strings.Contains(out, "keeper") && strings.Contains(out, "three was called") || strings.Contains(out, "and three came") {
			t.Errorf("one of two columns is taken for the new one:\n%s", out)
		}
		run("alter table tank rename column years to age") // as another database has it
		p.ok("deploy", "live", "--yes", "--replace-drift")
		run("create table agrees (n int check (n = 12))")
		run("insert into agrees select sum(years) from tank")
	})
}

// TestOtherToolsRenamesAreSeen renames a table with another program: the capture names it, and with
// the mark in its file a deployment elsewhere renames it, with its rows. compare says renamed.
func TestOtherToolsRenamesAreSeen(t *testing.T) {
	engines(t, func(t *testing.T, p *project, target string, run func(string)) {
		run("create table tank (id int primary key, litres int, code varchar(9))")
		run("insert into tank values (1, 5, 'reef')")
		p.ok("begin")
		p.ok("env", "add", "live", target)
		p.ok("capture", "live", "--commit", "-m", "First")
		p.ok("commit", "-m", "Where it lives")
		run("alter table tank rename to basin")
		p.says(p.ok("capture", "live"), "Table tank went and basin came, with the same columns", "write -- formerly: tank above it")
		_, file := folderOf(p, "basin")
		p.write(file, "-- formerly: tank\n"+p.read(file))
		p.ok("commit", "-m", "Basins")
		p.says(p.ok("compare", "main:1", "main:3"), "table:basin", "renamed  tank → basin")
		p.ok("verify", "main", "env:live")
		run("alter table basin rename to tank")
		out := p.ok("deploy", "live", "--yes", "--replace-drift")
		if strings.Contains(out, "loses data") {
			t.Errorf("the table goes with its rows:\n%s", out)
		}
		rowsAre(run, "basin", "code", "reef")
	})
}

// TestValuesOfAnEnumGetOtherNames lets PostgreSQL rename a value, and back.
func TestValuesOfAnEnumGetOtherNames(t *testing.T) {
	s, p := postgresServer(t), empty(t)
	live := s.database(t)
	run := func(text string) { s.run(t, live, text) }
	run("create type mood as enum ('calm', 'starving'); create table fish (id int primary key, mood mood default 'starving'); insert " +
		"into fish values (1, 'starving'), (2, 'calm'); create view hungry as select id from fish where mood = 'starving'")
	p.ok("begin")
	p.ok("env", "add", "live", s.target(live))
	p.ok("capture", "live", "--commit", "-m", "First")
	types := "database/public/types/mood.sql"
	p.write(types, strings.Replace(p.read(types), "'starving'", "'hungry' -- formerly: starving", 1))
	for _, file := range []string{"database/public/tables/fish.sql", "database/public/views/hungry.sql"} {
		p.write(file, strings.ReplaceAll(p.read(file), "'starving'", "'hungry'"))
	}
	p.ok("commit", "-m", "Hungry")
	out := p.ok("deploy", "live", "--yes")
	p.says(out, "rename the value starving", "1 step done")
	rowsAre(run, "fish", "mood::text", "hungry", "calm")
	p.says(p.ok("compare", "main:1", "main:2"), "value:hungry", "renamed  starving → hungry")
	p.ok("rollback", "live", "--yes")
	rowsAre(run, "fish", "mood::text", "starving", "calm")
}
