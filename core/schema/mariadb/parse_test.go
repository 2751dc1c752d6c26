package mariadb

import (
	"os"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/schema/declared"
)

func parse(text string) (*Declared, error) {
	return Parse(declared.Files{"a.sql": []byte(text)})
}

func TestMistakesInDeclaredFiles(t *testing.T) {
	for text, want := range map[string]string{
		"create table a (x int);\n\ncreate table a (y int);":                   "a.sql, line 3: the table a is declared twice",
		"create table a (x int, x int)":                                        "the column x is declared twice",
		"create table a (x int,)":                                              "a column is expected",
		"create table other.a (x int)":                                         "a name without a database",
		"create table a (x int) engine":                                        "a value is expected",
		"insert into a values (1)":                                             "makes nothing",
		"create index i on nowhere (x)":                                        "no file declares the table nowhere",
		"create view v":                                                        "query is expected",
		"create view v as select 1; create table v (x int)":                    "declared as a view already",
		"create function f() return 1":                                         "\"returns\" and a type",
		"create procedure p()":                                                 "no body",
		"create event e on schedule every 1 day":                               "\"do\"",
		"create table a (x int); alter table a drop column x":                  "can't be declared",
		"create trigger t before insert on nowhere for each row set new.x = 1": "no file declares the table nowhere",
		"'": "never closed",
	} {
		if _, err := parse(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", text, err)
		}
	}
}

func TestWhatPeopleWrite(t *testing.T) {
	d, err := parse("-- formerly: basin\nCREATE TABLE `Tank` (\n  id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY,\n" +
		"  deep double DEFAULT -1.5 COMMENT 'it''s', -- formerly: depth\n  period int, code varchar(20) UNIQUE,\n" +
		"  keeper int references keeper (id) on delete set null,\n  KEY (period)\n" +
		") ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COMMENT='All; tanks';\n" +
		"set sql_mode = 'ANSI';\ndelimiter //\ncreate trigger t before insert on Tank for each row begin set new.period = 1; end//\n" +
		"delimiter ;\ncreate fulltext index words on Tank (code);")
	if err != nil {
		t.Fatal(err)
	}
	for address, want := range map[string]string{
		"db::table:Tank.comment":                  "All; tanks",
		"db::table:Tank/column:id.type":           "int unsigned",
		"db::table:Tank/column:deep.default":      "-1.5",
		"db::table:Tank/column:deep.comment":      "it's",
		"db::table:Tank/column:period.type":       "int",
		"db::table:Tank/index:primary.definition": "primary key (id)",
		"db::table:Tank/index:code.definition":    "unique key code (code)",
		"db::table:Tank/index:words.definition":   "fulltext key words (code)",
		"db::table:Tank/trigger:t.body":           "begin set new.period = 1; end",
		"db::table:Tank/trigger:t.\"sql mode\"":   "ANSI",
	} {
		a, err := element.ParseAddress(address)
		if err != nil {
			t.Fatal(address, err)
		}
		e := d.Root.Find(a.Steps)
		if e == nil || e.Prop(a.Property).Text() != want {
			t.Errorf("%s: %v", address, e)
		}
	}
	if d.Formerly["table Tank"] != "basin" || d.Formerly["table Tank/column deep"] != "depth" {
		t.Errorf("former names: %v", d.Formerly)
	}
}

func FuzzParse(f *testing.F) {
	everything, err := os.ReadFile("testdata/everything.sql")
	if err != nil {
		f.Fatal(err)
	}
	for s := range strings.SplitSeq(string(everything), ";\n") {
		f.Add(s)
	}
	f.Add(string(everything))
	f.Fuzz(func(t *testing.T, text string) {
		d, err := parse(text)
		if err != nil {
			return
		}
		Update(nil, &Declared{}, d.Root)
		creation(d.Root)
	})
}
