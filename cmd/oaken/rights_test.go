package main

import (
	"strings"
	"testing"
)

// TestWhatALoginMayNotSeeIsKept reads a database as a user who sees only some of it: a capture
// takes nothing away that it did not see, and no proof says that it is there.
func TestWhatALoginMayNotSeeIsKept(t *testing.T) {
	s := mariadbServer(t)
	p := empty(t)
	db := s.database(t)
	reader := "r_" + db[len(db)-8:]
	s.run(t, db, "create table tank (id int primary key, name varchar(20)); create function two() returns int return 2; create procedure "+
		"p() select 1; create trigger tr before insert on tank for each row set new.name = 'x'; create event ev on schedule every 1 day "+
		"disable do select 1;")
	s.run(t, "", "create user "+reader+"@'%' identified by 'x'; create user "+reader+"@localhost identified by 'x'; grant select on `"+
		strings.ReplaceAll(db, "_", "\\_")+"`.* to "+reader+"@'%', "+reader+"@localhost")
	t.Cleanup(func() { s.run(t, "", "drop user "+reader+"@'%', "+reader+"@localhost") })
	p.ok("begin")
	p.ok("env", "add", "dev", s.target(db))
	p.ok("capture", "dev", "--commit", "-m", "First")
	t.Setenv("READER_SECRET", "x")
	target := s.target(db)
	weak := strings.Replace(target, target[strings.Index(target, "//")+2:strings.Index(target, "@")], reader+":${READER_SECRET}", 1)
	p.write("oaken.toml", strings.Replace(p.read("oaken.toml"), target, weak, 1))
	p.ok("commit", "-m", "A weaker user")

	s.run(t, db, "create table feeding (id int primary key)")
	p.says(p.ok("capture", "dev"), "Kept as it is", "the event ev (right: EVENT)", "the trigger tr (right: TRIGGER)", "the procedure p",
		"the function two", "table:feeding")
	p.says(p.ok("changes"), "new  database/tables/feeding.sql")
	if list := p.object("changes")["changes"].([]any); len(list) != 1 {
		t.Errorf("more than the new table was captured: %v", list)
	}
	p.says(p.read("database/tables/tank.sql"), "create trigger tr")
	p.ok("commit", "-m", "Feeding")
	for _, c := range [][]string{{"drift", "dev"}, {"drift", "dev", "--check"}, {"verify", "work", "env:dev"},
		{"compare", "work", "env:dev", "--check"}, {"deploy", "dev", "--dry-run"}, {"settle", "dev"}} {
		p.fails(5, "nobody can tell how it stands", c...)
	}
	if unseen := p.object("capture", "dev")["unseen"].([]any); len(unseen) != 4 {
		t.Errorf("unseen: %v", unseen)
	}

	s.run(t, "", "grant all on `"+strings.ReplaceAll(db, "_",
		"\\_")+"`.* to "+reader+"@'%', "+reader+"@localhost; grant select on mysql.proc to "+reader+"@'%', "+reader+"@localhost")
	p.ok("verify", "work", "env:dev")
	s.run(t, db, "drop event ev")
	p.says(p.ok("capture", "dev"), "database::event:ev  removed")
}
