package main

import (
	"path/filepath"
	"strings"
	"testing"
)

// engines gives a database of each engine with a way to run statements and ask it.
func engines(t *testing.T, test func(t *testing.T, p *project, target string, run func(text string))) {
	t.Run("sqlite", func(t *testing.T) {
		p := &project{t, filepath.Join(t.TempDir(), "work")}
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
		run("create table tank (id int primary key, litres decimal(10,4), depth double precision, since " + map[bool]string{true: "text", false: "timestamp"}[strings.HasPrefix(target, "sqlite")] + ", name varchar(20))")
		run("insert into tank values (1, 1.2345, 2.75, '2026-01-02 03:04:05', 'The great reef'), (2, 2, 3, '2026-01-02 00:00:00', 'kelp'), (3, null, null, '2026-01-03 00:00:00', null)")
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
		for _, old := range [][2]string{{"decimal(10,4)", "decimal(10,2)"}, {"decimal(10, 4)", "decimal(10, 2)"}, {"numeric(10,4)", "numeric(10,2)"}, {"numeric(10, 4)", "numeric(10, 2)"}, {"double precision", "int"}, {"depth double", "depth int"}, {"varchar(20)", "varchar(5)"}, {"character varying(20)", "character varying(5)"}} {
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
		same := "create table agrees (n int check (n = 0)); insert into agrees select count(*) from (select * from tank except select * from proof) x; drop table agrees"
		for _, part := range strings.Split(same, "; ") {
			run(part)
		}
	})
}
