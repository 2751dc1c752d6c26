package sqlitefile

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/schema/sqlite"
)

// database makes a file by running statements.
func database(t *testing.T, statements string) kind.FileSource {
	t.Helper()
	name := filepath.Join(t.TempDir(), "tanks.db")
	db, err := sqlite.Open(name, true)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec(statements); err != nil {
		t.Fatal(err)
	}
	if err := db.Close(); err != nil {
		t.Fatal(err)
	}
	data, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	return kind.FileSource{Name: "tanks.db", Data: data}
}

const tanks = `create table tank (id integer primary key, name text not null, litres real, photo blob);
	insert into tank values (1, 'Reef', 42000.5, x'00ff'), (2, 'Kelp', null, null), (7, '', 3, x'');
	create table feeding (tank integer, at text, food text, primary key (tank, at)) without rowid;
	insert into feeding values (1, '2026-05-01', 'krill'), (2, '2026-05-01', 'squid');
	create table note (text); insert into note values ('one'), ('one'), (null);
	create view large as select * from tank where litres > 1000; create index by_name on tank (name);`

func read(t *testing.T, src kind.Source) *element.Element {
	t.Helper()
	r, err := Kind{}.Read(src)
	if err != nil {
		t.Fatal(err)
	}
	return r.Root
}

func TestRowsAreElementsByTheirKeys(t *testing.T) {
	src := database(t, tanks)
	if !(Kind{}).Claims("tanks.db", src.Data[:100]) {
		t.Error("the file is not claimed")
	}
	root := read(t, src)
	for address, want := range map[string]string{
		"x::table:tank/row:1.name": "Reef", "x::table:tank/row:1.litres": "42000.5", "x::table:tank/row:2.litres": "null",
		"x::table:tank/row:7.name":                  "",
		`x::table:feeding/row:"2, 2026-05-01".food`: "squid", "x::table:note/row:2.text": "one", "x::table:tank/column:name.type": "text",
	} {
		a, err := element.ParseAddress(address)
		if err != nil {
			t.Fatal(err)
		}
		e := root.Find(a.Steps)
		if e == nil || e.Prop(a.Property).IsAbsent() || e.Prop(a.Property).String() != want {
			t.Errorf("%s: %v, want %q\n%s", address, e, want, root.Dump())
		}
	}
	if root.Find([]element.Step{{Type: "view", Key: "large"}}) == nil {
		t.Error("the view is missing")
	}
}

func TestAnEditOfARowShowsAsThatField(t *testing.T) {
	before := read(t, database(t, tanks))
	after := read(t, database(t, tanks+"update tank set litres = 41000 where id = 1; delete from feeding where food = 'squid'; insert "+
		"into tank (id, name) values (9, 'Rays'); vacuum;"))
	var got []string
	for _, c := range element.Compare(before, after).Changes("tanks.db") {
		got = append(got, string(c.Kind)+" "+strings.TrimPrefix(c.Address.String(), "tanks.db::"))
	}
	want := `removed table:feeding/row:2, 2026-05-01|edited table:tank/row:1.litres|added table:tank/row:9`
	if strings.Join(got, "|") != want {
		t.Errorf("got %s", strings.Join(got, "|"))
	}
}

func TestManyRowsAreTold(t *testing.T) {
	many := "create table n (i integer primary key, v); with recursive c(i) as (select 1 union all select i + 1 from c where i < 200001) " +
		"insert into n select i, i from c;"
	before, after := read(t, database(t, many)), read(t, database(t, many+"update n set v = 0 where i = 77;"))
	d := element.Compare(before, after)
	if d == nil || len(before.Children[0].Children) != 2 || before.Children[0].Prop("rows").Text() != "200001" {
		t.Fatalf("%v, %d children", d, len(before.Children[0].Children))
	}
	if c := d.Changes("x"); len(c) != 1 || c[0].Address.Property != "rows digest" {
		t.Errorf("%v", c)
	}
}

func TestDamagedFilesAreRefused(t *testing.T) {
	src := database(t, tanks)
	left, _ := filepath.Glob(filepath.Join(os.TempDir(), "oaken-database-*"))
	for _, n := range []int{16, 100, 600, len(src.Data) / 2} {
		if _, err := (Kind{}).Read(kind.FileSource{Name: "x", Data: src.Data[:n]}); err == nil {
			t.Errorf("the first %d bytes were read", n)
		}
	}
	if now, _ := filepath.Glob(filepath.Join(os.TempDir(), "oaken-database-*")); len(now) > len(left) {
		t.Errorf("copies are left: %v", now)
	}
}

// TestColumnsThatAreComputedAreNotAskedFor reads what lies in the file alone: a generated column that is
// stored, not one that is computed when it is read, however long or often it would be.
func TestColumnsThatAreComputedAreNotAskedFor(t *testing.T) {
	root := read(t, database(t, `create table t (a integer primary key, "b c" text, stored as (a * 2) stored, endless as (hex(zeroblob(400000000))), also as (a + 1) virtual);
		insert into t (a, "b c") values (1, 'x'), (2, 'y');`))
	text := root.Dump()
	for _, want := range []string{`b c="x" stored="2"`, `b c="y" stored="4"`} {
		if !strings.Contains(text, want) {
			t.Errorf("%s is not in\n%s", want, text)
		}
	}
	for _, row := range root.Children[0].Children {
		if row.Type == "row" && (!row.Prop("endless").IsAbsent() || !row.Prop("also").IsAbsent() || row.Prop("stored").IsAbsent()) {
			t.Errorf("a row: %s", row.Dump())
		}
	}
}
