package postgres

import (
	"errors"
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
		"create table a (x int);\n\ncreate table a (y int);":  "a.sql, line 3: the table public.a is declared twice",
		"create table a (x int, x int)":                       "the column x is declared twice",
		"create table a (x int":                               "never closed",
		"create table a (x int,)":                             "a column is expected",
		"create table a (like b)":                             "can't be declared",
		"create temporary table a (x int)":                    "temporary",
		"insert into a values (1)":                            "declares nothing",
		"create index i on nowhere (x)":                       "no file declares public.nowhere",
		"comment on table nowhere is 'x'":                     "no file declares public.nowhere",
		"comment on column a.b.c.d is 'x'":                    "a schema and itself",
		"create view v":                                       "query is expected",
		"create type t as enum (a)":                           "value in quotes",
		"create type t":                                       "without a definition",
		"create view v as select 1; create table v (x int)":   "declared as a view already",
		"create function f() returns int language sql as x":   "body is expected",
		"create sequence s sideways":                          "no option of a sequence",
		"grant a to b":                                        "membership",
		"create thing x":                                      "makes nothing",
		"create table a (x int); alter table a drop column x": "can't be declared",
		"'": "never closed",
	} {
		_, err := parse(text)
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", text, err)
		}
	}
	_, err := parse("create table a (x int);\nalter table b add check (x > 0);")
	var at *declared.FileError
	if !errors.As(err, &at) || at.Line != 2 || at.File != "a.sql" {
		t.Errorf("the place of a mistake: %v", err)
	}
}

func TestWhatPeopleWrite(t *testing.T) {
	d, err := parse(`-- formerly: basin
		CREATE TABLE tank (
		  id SERIAL PRIMARY KEY, -- the number
		  code varchar(20) NOT NULL UNIQUE DEFAULT 'a' || 'b',
		  deep double precision CONSTRAINT positive CHECK (deep > 0), -- formerly: depth
		  keeper int REFERENCES keeper (id) ON DELETE SET NULL,
		  at timestamp with time zone DEFAULT CASE WHEN true THEN now() END NOT NULL
		);
		CREATE TABLE keeper (id int PRIMARY KEY, exclude int, "like" int);
		COMMENT ON COLUMN tank.deep IS 'in metres';
		ALTER TABLE tank ENABLE ROW LEVEL SECURITY;
		GRANT SELECT, UPDATE (code) ON tank TO PUBLIC, imke WITH GRANT OPTION;`)
	if err != nil {
		t.Fatal(err)
	}
	for address, want := range map[string]string{
		"db::schema:public/table:tank/column:code.default":                        "'a' || 'b'",
		"db::schema:public/table:tank/column:deep.type":                           "double precision",
		"db::schema:public/table:tank/column:deep.comment":                        "in metres",
		"db::schema:public/table:tank/constraint:positive.definition":             "check (deep > 0)",
		"db::schema:public/table:tank/column:at.type":                             "timestamp with time zone",
		"db::schema:public/table:tank/column:at.\"not null\"":                     "true",
		"db::schema:public/table:tank.\"row security\"":                           "enabled",
		"db::schema:public/table:tank.\"grant to imke\"":                          "select with grant option",
		"db::schema:public/table:tank/column:code.\"grant to public\"":            "update with grant option",
		"db::schema:public/table:keeper/column:exclude.type":                      "int",
		"db::schema:public/table:tank/constraint:\"unique (code)\".definition":    "unique (code)",
		"db::schema:public/table:tank/constraint:\"primary key (id)\".definition": "primary key (id)",

		"db::schema:public/table:tank/constraint:\"foreign key (keeper) references keeper (id) on delete set null\".definition": "foreign key (keeper) references keeper (id) on delete set null",
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
	if d.Formerly["table public.tank"] != "basin" || d.Formerly["table public.tank/column deep"] != "depth" {
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
		creation(d.Root, nil)
	})
}
