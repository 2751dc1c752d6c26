package main

import (
	"path/filepath"
	"strings"
	"testing"
)

const masks = "\n[[mask]]\ncolumn = \"keeper.name\"\nwith = \"hash\"\n\n[[mask]]\ncolumn = \"keeper.mail\"\nwith = \"value\"\n" +
	"value = \"nobody@bay.example\"\n" +
	"\n[[mask]]\ncolumn = \"keeper.phone\"\nwith = \"null\"\n\n[[mask]]\ncolumn = \"keeper.wage\"\nwith = \"shuffle\"\n"

const keepers = "create table keeper (id integer not null primary key, name text not null, mail text, phone text, wage integer); " +
	"create table visit (id integer not null primary key, keeper_id integer references keeper (id)); "

func TestAStageIsRefreshedAndMasked(t *testing.T) {
	p := lane(t, noGates+masks+"\n[[pipeline.after]]\nname = \"doors\"\nenvironments = [\"test\"]\ncommand = [\"true\"]\n")
	p.sql("../dev.db", keepers)
	p.ok("capture", "dev", "--commit", "-m", "Keepers")
	p.ok("promote", "dev", "--as-far-as", "live")
	p.sql("../live.db", "insert into keeper values (1, 'Imke Sandhu', 'imke@bay.example', '555', 10), (2, 'Tarek Noor', "+
		"'tarek@bay.example', '556', 20), "+
		"(3, 'Imke Sandhu', null, '557', 30); insert into visit values (1, 1), (2, 2); create trigger seen after update on keeper begin "+
		"insert into visit values (100 + new.id, new.id); end")
	p.sql("../test.db", "insert into keeper values (9, 'Test', 't', 't', 1)")
	p.change("alter table tank add column depth real", "Depths")
	p.ok("promote", "dev", "test")

	p.fails(4, "Everything that test holds would go", "env", "refresh", "test", "--from", "live")
	p.fails(4, "live is live", "env", "refresh", "live", "--from", "test", "--allow-loss")
	p.fails(2, "--from ENV", "env", "refresh", "test", "--allow-loss")
	p.sql("../live.db", "drop trigger seen")
	p.says(p.ok("env", "refresh", "test", "--from", "live", "--allow-loss"), "test is a copy of live", "Masked: keeper.name",
		"was deployed to it again",
		"What it held is kept in", "After it: passed")
	if out := p.ok("pipeline", "show"); strings.Contains(out, "in doubt") {
		t.Errorf("after a refresh:\n%s", out)
	}
	check := func(name, sql string) {
		t.Helper()
		p.sql("../test.db", "create table proof (n integer check (n = 1)); insert into proof select "+sql+"; drop table proof")
		_ = name
	}
	check("all came", "count(*) = 3 from keeper")
	check("equal names stay equal", "(select count(distinct name) from keeper) = 2")
	check("no name is told", "not exists (select 1 from keeper where name like '%Imke%' or length(name) <> 32)")
	check("mails", "(select count(*) from keeper where mail = 'nobody@bay.example') = 2")
	check("phones", "not exists (select 1 from keeper where phone is not null)")
	check("wages", "(select sum(wage) from keeper) = 60 and not exists (select 1 from keeper where wage = 10 * id)")
	check("the work that test had is there again", "count(*) = 1 from pragma_table_info('tank') where name = 'depth'")
	if data := p.read("../test.db"); strings.Contains(data, "Imke Sandhu") || strings.Contains(data, "tarek@bay") {
		t.Error("what was masked is in the file still")
	}
	p.ok("verify", "env:dev", "env:test")
	p.says(p.ok("deployments", "test", "--limit", "0"), "refreshed from live")
	kept, _ := filepath.Glob(p.path(".oaken/*/*/test/database.dump"))
	if more, _ := filepath.Glob(p.path(".oaken/*/*/*/database.dump")); len(kept)+len(more) == 0 {
		t.Error("nothing is kept of what test held")
	}
	p.ok("env", "refresh", "test", "--from", "live", "--skip", "visit", "--allow-loss")
	check("skipped", "count(*) = 0 from visit")
	p.fails(4, "Rows of visit would refer to rows", "env", "refresh", "test", "--from", "live", "--table", "visit", "--allow-loss")
	check("nothing was changed", "count(*) = 3 from keeper")
}

func TestAMaskThatHidesNothingIsRefused(t *testing.T) {
	p := lane(t, noGates+"\n[[mask]]\ncolumn = \"tank.nam\"\nwith = \"hash\"\n")
	p.ok("promote", "dev", "test")
	p.sql("../live.db", "insert into tank (name, litres) values ('Secret', 1)")
	p.sql("../test.db", "insert into tank (name, litres) values ('Own', 1)")
	p.fails(4, "There is no column tank.nam", "env", "refresh", "test", "--from", "live", "--allow-loss")
	p.write("oaken.toml", p.read("oaken.toml")+"\n[[mask]]\ncolumn = \"tank.name\"\nwith = \"hash\"\n")
	p.fails(4, "declared in this workspace alone", "env", "refresh", "test", "--from", "live", "--allow-loss")
	p.sql("../test.db", "create table proof (n integer check (n = 1)); insert into proof select count(*) from tank; drop table proof")
}

// TestADatabaseOnAServerIsRefreshed does the same where the engine's own programs dump and load.
func TestADatabaseOnAServerIsRefreshed(t *testing.T) {
	bothServers(t, func(t *testing.T, s server) {
		p := empty(t)
		names := map[string]string{"dev": s.database(t), "test": s.database(t), "live": s.database(t)}
		toml := "project = \"bay\"\n[[artifact]]\npath = \"database\"\nkind = \"" +
			map[string]string{"postgres": "postgres-schema"}[s.engine] + "\"\n"
		if s.engine != "postgres" {
			toml = strings.Replace(toml, "kind = \"\"", "kind = \"mariadb-schema\"", 1)
		}
		for _, e := range [][2]string{{"dev", "development"}, {"test", "test"}, {"live", "live"}} {
			toml += "[[environment]]\nname = \"" + e[0] + "\"\ntarget = \"" + s.target(names[e[0]]) +
				"\"\ninto = \"database\"\ntier = \"" + e[1] + "\"\n"
		}
		p.write("oaken.toml", toml+masks)
		p.ok("begin")
		s.run(t, names["dev"], "create table keeper (id integer not null primary key, name varchar(40) not null, mail varchar(40), phone "+
			"varchar(20), "+
			"wage integer)")
		s.run(t, names["dev"], "create table visit (id integer not null primary key, keeper_id integer, foreign key (keeper_id) "+
			"references keeper (id))")
		p.ok("capture", "dev", "--commit", "-m", "Keepers")
		p.ok("deploy", "live")
		p.ok("deploy", "test")
		s.run(t, names["live"], "insert into keeper values (1, 'Imke Sandhu', 'imke@bay.example', '555', 10), (2, 'Tarek Noor', "+
			"null, '556', 20)")
		s.run(t, names["live"], "insert into visit values (1, 1), (2, 2)")
		s.run(t, names["test"], "insert into keeper values (9, 'Test', 't', 't', 1)")
		p.ok("env", "refresh", "test", "--from", "live", "--allow-loss")
		check := func(sql string) {
			t.Helper()
			s.run(t, names["test"], "create table proof (n integer not null check (n = 1))")
			s.run(t, names["test"], "insert into proof "+sql)
			s.run(t, names["test"], "drop table proof")
		}
		check("select count(*) - 1 from keeper")
		check("select count(*) - 1 from visit")
		check("select 1 - count(*) from keeper where name like '%Imke%' or name like '%Tarek%' or length(name) <> 32 or phone is not null")
		check("select count(*) from keeper where mail = 'nobody@bay.example'")
		check("select sum(wage) - 29 from keeper")
		check("select 1 + count(*) from keeper where wage = 10 * id")
		p.ok("verify", "env:live", "env:test")
		p.ok("env", "refresh", "test", "--from", "live", "--skip", "visit", "--allow-loss")
		check("select count(*) + 1 from visit")
		p.write("oaken.toml", strings.Replace(p.read("oaken.toml"), "keeper.phone", "keeper.fax", 1))
		p.ok("commit", "-m", "A mask for what is not there")
		p.fails(4, "There is no column keeper.fax", "env", "refresh", "test", "--from", "live", "--allow-loss")
		check("select count(*) - 1 from keeper")
	})
}
