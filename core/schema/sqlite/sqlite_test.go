package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"oakenchest/core/element"
)

// schemas are declared states of one database; each must be able to become any other.
var schemas = map[string]string{
	"empty": "",
	"first": `create table tank (id integer primary key, name text not null unique, litres real default 100.5);
create table feeding (id integer primary key autoincrement, tank_id integer not null references tank(id) on delete cascade, food text collate nocase, note text);
create index feeding_tank on feeding (tank_id, food desc);
create view hungry as select name from tank where id not in (select tank_id from feeding);`,
	"amount": `create table tank (id integer primary key, name text not null unique, litres real default 100.5);
create table feeding (id integer primary key autoincrement, tank_id integer not null references tank(id) on delete cascade, food text collate nocase, note text,
  amount_g integer not null default 0);
create index feeding_tank on feeding (tank_id, food desc);
create view hungry as select name from tank where id not in (select tank_id from feeding);`,
	"checked": `create table tank (id integer primary key, name text not null unique, litres real default 100.5 check (litres > 0), label text generated always as (name || '!') virtual,
  constraint named check (length(name) < 100));
create table feeding (id integer primary key autoincrement, tank_id integer references tank(id), food text, constraint once unique (tank_id, food));
create unique index feeding_food on feeding (lower(food)) where food is not null;
create trigger feeding_log after insert on feeding when new.food <> '' begin
  update tank set name = case when name = '' then 'x' else name end where id = new.tank_id; select 1; end;
create view hungry as select name, litres from tank; create view "odd name; --" as select 1 as "a ""b""";
create trigger hungry_insert instead of insert on hungry begin insert into tank (name) values (new.name); end;`,
	"renamed": `create table basin -- formerly: tank
 (id integer primary key, title text not null, -- formerly: name
  litres real default 100.5);
create table feeding (id integer primary key, tank_id integer not null references basin(id), food text not null default 'none');`,
	"strict":  `create table k (a text primary key, b int, c any) strict, without rowid; create table "we""ird; table" ("a b" text default 'it''s', "select" int default -1, d default (1 + 2), e default current_timestamp);`,
	"virtual": `create virtual table notes using fts5(title, body); create table tank (name varchar(20), litres numeric(10,2));`,
}

func load(t *testing.T, text string) *Declared {
	t.Helper()
	d, err := Load(t.Context(), map[string][]byte{"all.sql": []byte(text)})
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func database(t *testing.T, schema string) *sql.DB {
	t.Helper()
	db, err := Open(filepath.Join(t.TempDir(), "x.db"), true)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	if _, err := db.Exec(schema); err != nil {
		t.Fatal(err)
	}
	return db
}

func read(t *testing.T, db *sql.DB) *element.Element {
	t.Helper()
	e, err := Read(t.Context(), db)
	if err != nil {
		t.Fatal(err)
	}
	return e
}

func TestAnySchemaBecomesAnyOther(t *testing.T) {
	for a, from := range schemas {
		for b, to := range schemas {
			d := load(t, to)
			db := database(t, from)
			live := read(t, db)
			steps, err := Plan(t.Context(), db, live, d)
			if err == nil {
				err = Apply(t.Context(), db, d.Root, steps, ApplyOptions{})
			}
			if err != nil {
				t.Errorf("%s to %s: %v\n%v", a, b, err, steps)
				continue
			}
			if again, err := Plan(t.Context(), db, read(t, db), d); err != nil || len(again) != 0 {
				t.Errorf("%s to %s: a second plan has %v, %v", a, b, again, err)
			}
			if a == b && len(steps) != 0 {
				t.Errorf("%s to itself: %v", a, steps)
			}
			var ok string
			if err := db.QueryRow("pragma integrity_check").Scan(&ok); err != nil || ok != "ok" {
				t.Errorf("%s to %s: the database is %s, %v", a, b, ok, err)
			}
		}
	}
}

func TestWhatIsWrittenReadsBackEqual(t *testing.T) {
	for name, text := range schemas {
		d := load(t, text)
		files := map[string][]byte{}
		for f, data := range (&Declared{Root: &element.Element{Type: "schema"}}).Update(nil, d.Root) {
			files[f] = data
		}
		again, err := Load(t.Context(), files)
		if err != nil {
			t.Fatalf("%s: %v\n%s", name, err, files)
		}
		if diff := element.Compare(d.Root, again.Root); diff != nil {
			t.Errorf("%s: %v\n%s", name, diff.Changes("x"), files)
		}
		for f, data := range again.Update(files, d.Root) {
			t.Errorf("%s: %s is written again: %s", name, f, data)
		}
	}
}

func TestStyle(t *testing.T) {
	d := load(t, schemas["checked"])
	want := `create table feeding (
  id integer primary key autoincrement,
  tank_id integer references tank(id),
  food text,
  constraint once unique (tank_id, food)
);

create unique index feeding_food on feeding(lower(food)) where food is not null;

create trigger feeding_log after insert on feeding
when new.food <> ''
begin
  update tank
    set name = case when name = '' then 'x' else name end
    where id = new.tank_id;
  select 1;
end;
`
	if got := SQL(find(d.Root, "table", "feeding")); got != want {
		t.Errorf("got\n%s", got)
	}
}

func TestRowsSurvive(t *testing.T) {
	db := database(t, schemas["first"]+
		`; insert into tank (name) values ('Reef'), ('Kelp'); insert into feeding (tank_id, food) values (1, 'krill'), (2, 'Algae'); delete from feeding where id = 2;`)
	d := load(t, schemas["renamed"])
	steps, err := Plan(t.Context(), db, read(t, db), d)
	if err != nil {
		t.Fatal(err)
	}
	if err := Apply(t.Context(), db, d.Root, steps, ApplyOptions{}); err != nil {
		t.Fatal(err)
	}
	var got string
	if err := db.QueryRow("select group_concat(title) || (select food from feeding where tank_id = 1) from basin").Scan(&got); err != nil ||
		got != "Reef,Kelpkrill" {
		t.Errorf("%q, %v", got, err)
	}
}

func TestLossIsSaidBeforehand(t *testing.T) {
	db := database(t, schemas["first"]+
		`; insert into tank (name) values ('Reef'); insert into feeding (tank_id, food, note) values (1, 'krill', 'ate well'), (1, 'x', null);`)
	for name, want := range map[string]string{
		"create table tank (id integer primary key, name text not null unique, litres real default 100.5);": "table feeding has 2 rows",
		strings.Replace(schemas["first"], ", note text", "",
			1): "column feeding.note has 1 value",
		strings.Replace(strings.Replace(schemas["first"], ", note text", ", remark text -- formerly: note\n", 1),
			"food text collate nocase,", "food text,", 1): "",
	} {
		steps, err := Plan(t.Context(), db, read(t, db), load(t, name))
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		for _, s := range steps {
			got += s.Loss
		}
		if got != want {
			t.Errorf("got loss %q, want %q", got, want)
		}
	}
}

func TestRowsThatDoNotFitAreRefused(t *testing.T) {
	db := database(t, schemas["first"]+
		`; insert into tank (name) values ('Reef'), ('Kelp'); insert into feeding (tank_id, food) values (1, null);`)
	for _, to := range []string{
		strings.Replace(schemas["first"], "note text", "note text, keeper text not null", 1),
		strings.Replace(schemas["first"], "food text collate nocase", "food text collate nocase not null", 1),
	} {
		_, err := Plan(t.Context(), db, read(t, db), load(t, to))
		var rows *RowsError
		if !errors.As(err, &rows) {
			t.Errorf("got %v", err)
		}
	}
	unfit := load(t, strings.Replace(schemas["first"], "litres real default 100.5", "litres real default 100.5 check (litres > 1000)", 1))
	before := read(t, db).Sum()
	steps, err := Plan(t.Context(), db, read(t, db), unfit)
	if err == nil {
		err = Apply(t.Context(), db, unfit.Root, steps, ApplyOptions{})
	}
	if err == nil || !strings.Contains(err.Error(), "CHECK") || read(t, db).Sum() != before {
		t.Errorf("a check that rows break: %v", err)
	}
	var n int
	if db.QueryRow("select count(*) from tank").Scan(&n); n != 2 {
		t.Errorf("%d rows are left", n)
	}
}

func TestDeclaredFilesThatTheEngineRefuses(t *testing.T) {
	for text, want := range map[string]string{
		"create table a (b text);\ncreate table a (c text);": "all.sql, line 2: SQLite says: table a already exists",
		"create table a (b text;":                            "line 1",
		"insert into x values (1)":                           "is no create statement",
		"\n\ncreate view v as select x from none":            "line 3: SQLite says: no such table: main.none",
		"create table a (b text default 'x)":                 "never closed",
		"create temp table a (b)":                            "temporary",
	} {
		_, err := Load(t.Context(), map[string][]byte{"all.sql": []byte(text)})
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func TestUpdateTouchesOneObject(t *testing.T) {
	files := map[string][]byte{
		"mine.sql": []byte("-- tanks\ncreate table tank (id integer PRIMARY KEY,   name text);\n\n-- food\n" +
			"create table food (name text);\n"),
		"tables/round.sql": []byte("create table round (id int);\n"),
		"readme.txt":       []byte("x"),
	}
	d, err := Load(t.Context(), files)
	if err != nil {
		t.Fatal(err)
	}
	want := load(t, "create table tank (id integer primary key, name text); create table food (name text, grams int); create table "+
		"keeper (name text);")
	got := fmt.Sprintf("%q", d.Update(files, want.Root))
	if want := `map["mine.sql":"-- tanks\ncreate table tank (id integer PRIMARY KEY,   name text);\n\n-- food\ncreate table food (name text, grams int);\n" "tables/keeper.sql":"create table keeper (\n  name text\n);\n" "tables/round.sql":""]`; got != want {
		t.Errorf("got %s", got)
	}
}

func FuzzStatements(f *testing.F) {
	for _, s := range schemas {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		parts, err := statements(s)
		if err != nil {
			return
		}
		for _, p := range parts {
			once := flat(p.tokens)
			ts, err := scan(once)
			if err != nil || flat(ts) != once {
				t.Fatalf("%q in normal form is %q, and then %q, %v", s, once, flat(ts), err)
			}
		}
		db, err := Scratch()
		if err != nil {
			t.Fatal(err)
		}
		defer db.Close()
		if strings.ContainsAny(s, "\x00") || strings.Contains(strings.ToLower(s), "attach") ||
			strings.Contains(strings.ToLower(s), "pragma") || strings.Contains(strings.ToLower(s), "recursive") {
			return
		}
		if _, err := Load(context.Background(), map[string][]byte{"a.sql": []byte(s)}); err != nil {
			return
		}
	})
}
