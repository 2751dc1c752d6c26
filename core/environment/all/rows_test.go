package all

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5"

	"oakenchest/core/environment"
	"oakenchest/core/environment/database"
	"oakenchest/core/fault"
	"oakenchest/core/schema/scope"
	"oakenchest/core/schema/sqlite"
	"oakenchest/core/schema/step"
)

// engine is one sort of database that rows are tried on.
type engine struct {
	name string
	// make gives an empty database and a way to run statements in it.
	make func(t *testing.T) (target string, run func(sql string))
	// files are where the table kind and its rows stand.
	table, rows string
	// types are columns with values, as SQL.
	types map[string][]string
}

var texts = []string{"'reef'", "''", "null", "'a,b'", "'say \"x\"'", "'two\nlines'", "'null'", "'  spaces '", "'it''s'", "'日本 ∞'",
	"'5'", "'1e3'"}

var engines = []engine{
	{"PostgreSQL", postgresDatabase, "public/tables/kind.sql", "public/rows/kind.csv", map[string][]string{
		"text": append([]string{`E'back\\slash'`, `'\x41'`}, texts...), "varchar(30)": texts, "char(4)": {"'ab'", "null", "''"},
		"numeric(12,3)": {"1.5", "null", "-0.001", "'NaN'"}, "double precision": {"0.1", "1e300", "'Infinity'", "'-0'", "1.0/3"},
		"real":  {"0.1", "16777216", "1.17549435e-38"},
		"bytea": {`'\x00ff27'`, `''`, "null"}, "boolean": {"true", "false", "null"}, "date": {"'2024-02-29'", "'infinity'",
			"'0044-03-15 BC'"},
		"timestamptz": {"'2024-03-31 01:30:00+01'", "'1900-01-01 00:00:00.000001Z'", "null"}, "timestamp": {"'2024-01-01'", "null"},
		"time":     {"'23:59:59.999999'"},
		"interval": {"'1 year -3 days 04:05:06.7'", "'-1 month'", "null"}, "jsonb": {`'{"b": 1, "a": [null, "x"]}'`, "null", "'null'"},
		"json":   {`'{"b" :  1}'`, "null"},
		"text[]": {`array['a', null, '', 'x"y', 'null']`, "'{}'", "null"}, "int[][]": {"'{{1,2},{3,4}}'"}, "int4range": {"'[1,5)'",
			"'empty'", "null"}, "uuid": {"'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'"},
		"inet": {"'10.0.0.0/8'", "null"}, "bit(5)": {"'10101'", "null"}, "money": {"'12.34'", "null"}, "xml": {"'<a/>'", "null"},
		"point": {"'(1,2.5)'", "null"}}},
	{"MariaDB", mariadbDatabase, "tables/kind.sql", "rows/kind.csv", map[string][]string{
		"text": append([]string{`'back\\slash'`, `'\\x41'`}, texts...), "varchar(30)": texts, "decimal(12,3)": {"1.5", "null", "-0.001"},
		"double": {"0.1", "1e300", "-0e0", "1e0/3"},
		"float":  {"0.1", "16777216", "1.17549e-38", "3.14159265"}, "blob": {"x'00ff27'", "''", "null"}, "varbinary(9)": {"x'5c78'",
			"null"}, "binary(3)": {"x'00'", "null"}, "bit(9)": {"b'100000001'", "0", "null"},
		"date": {"'2024-02-29'", "null"}, "datetime(6)": {"'2024-03-31 01:30:00.000001'", "null"},
		"timestamp(3) null": {"'2024-07-31 01:30:00.123'", "null"}, "time": {"'-838:59:59'", "null"}, "year": {"1901", "null"},
		"enum('a','b,c')": {"'a'", "'b,c'", "null"}, "set('x','y')": {"'x,y'", "''", "null"}, "json": {`'{"b" :  1}'`, "null"},
		"uuid": {"'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'", "null"}, "point": {"point(1, 2.5)", "null"},
		"bigint unsigned": {"18446744073709551615", "0"}}},
	{"SQLite", sqliteDatabase, "tables/kind.sql", "rows/kind.csv", map[string][]string{
		"text": append([]string{`'back\slash'`, `'\x41'`, "x'00ff'", "cast(x'610062' as text)"}, texts...), "integer": {"5", "null",
			"'five'", "1.5", "9223372036854775807"}, "real": {"0.1", "1e300", "1.0/3", "9e999", "'x'"},
		"numeric": {"1", "1.5", "'a'", "null"}, "": append([]string{"5", "'5'", "5.0", "'5.0'", `'\s5'`, "x'35'", "'x'"}, texts...),
		"blob": {"x''", "x'00ff27'", "'text'", "'12'", "7", "null"}, "datetime": {"'2024-03-31 01:30:00'", "1711848600", "null"}}},
}

func sqliteDatabase(t *testing.T) (string, func(string)) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "rows.db")
	db, err := sqlite.Open(file, true)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	run := func(text string) {
		t.Helper()
		if _, err := db.ExecContext(context.Background(), text); err != nil {
			t.Fatal(text, err)
		}
	}
	run("pragma user_version = 1")
	return "sqlite:" + file, run
}

// deployAll brings a target to what files declare.
func deployAll(t *testing.T, d environment.Driver, files environment.Files) *environment.Plan {
	t.Helper()
	p, err := d.Plan(t.Context(), files, nil)
	if err == nil {
		err = p.Apply(t.Context(), nil)
	}
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// TestRowsTravelExactly fills a table that has every type, in every engine, by chance;
// captures it, builds another database from the files, edits both sides on, and sees
// that the engine reads the same in both.
func TestRowsTravelExactly(t *testing.T) {
	for _, e := range engines {
		t.Run(e.name, func(t *testing.T) {
			r := rand.New(rand.NewPCG(rand.Uint64(), 7))
			target, run := e.make(t)
			other, _ := e.make(t)
			columns := []string{"id int primary key", "code varchar(20) not null unique"}
			var types []string
			for typ := range e.types {
				columns = append(columns, fmt.Sprintf("c%d %s", len(types), typ))
				types = append(types, typ)
			}
			run("create table kind (" + strings.Join(columns, ", ") + ")")
			insert := func(id int) {
				values := []string{fmt.Sprint(id), fmt.Sprintf("'k%d'", id)}
				for _, typ := range types {
					values = append(values, e.types[typ][r.IntN(len(e.types[typ]))])
				}
				run("insert into kind values (" + strings.Join(values, ", ") + ")")
			}
			for id := range 40 {
				insert(id)
			}
			here, there := open(t, environment.Host{}, target, environment.Settings{}), open(t, environment.Host{}, other,
				environment.Settings{})
			files := captureRows(t, here, nil)
			deployAll(t, there, files)
			same(t, e, here, there, files)
			for range 6 {
				for _, sql := range []string{"delete from kind where id % 7 = " + fmt.Sprint(r.IntN(7)),
					"update kind set c0 = null where id % 5 = 1",
					"update kind set code = 'y' where id = (select min(id) from (select id from kind) x)"} {
					run(sql)
				}
				insert(100 + r.IntN(1_000_000))
				files = captureRows(t, here, files)
				if p := deployAll(t, there, files); len(p.Loses()) > 0 && p.Save == nil {
					t.Error("what is lost can't be saved")
				}
				same(t, e, here, there, files)
				run("update kind set code = concat('n', id) where code = 'y'")
			}
		})
	}
}

func captureRows(t *testing.T, d environment.Driver, have environment.Files) environment.Files {
	t.Helper()
	if have == nil {
		files, err := d.(environment.RowsKeeper).Rows(t.Context(), []string{"kind"})
		if err != nil {
			t.Fatal(err)
		}
		have = files
	}
	c, err := d.Capture(t.Context(), have)
	if err != nil {
		t.Fatal(err)
	}
	return c.Files
}

// same checks that two databases hold the same rows by the engine's own reckoning, and
// that nothing is left to do.
func same(t *testing.T, e engine, a, b environment.Driver, files environment.Files) {
	t.Helper()
	sum := map[string]string{"PostgreSQL": "select coalesce(string_agg(k::text, '|' order by id), '') from public.kind k",
		"MariaDB": "checksum table kind extended", "SQLite": ""}[e.name]
	read := func(d environment.Driver) string {
		switch e.name {
		case "PostgreSQL":
			var s string
			if err := postgresAt(t, d).QueryRow(t.Context(), sum).Scan(&s); err != nil {
				t.Fatal(err)
			}
			return s
		case "MariaDB":
			var table, s string
			if err := mariadbAt(t, d).QueryRowContext(t.Context(), sum).Scan(&table, &s); err != nil {
				t.Fatal(err)
			}
			return s
		}
		return quotedRows(t, sqliteAt(t, d))
	}
	if x, y := read(a), read(b); x != y {
		t.Fatalf("the engine reads\n%s\nand\n%s\nof\n%s", x, y, files[e.rows])
	}
	for _, d := range []environment.Driver{a, b} {
		p, err := d.Plan(t.Context(), files, nil)
		if err != nil || len(p.Steps) != 0 {
			t.Fatalf("there is something left to do: %v, %v", p, err)
		}
	}
}

// targets are those of the drivers that were opened, for a look past them.
var targets sync.Map

func postgresAt(t *testing.T, d environment.Driver) *pgx.Conn {
	t.Helper()
	target, _ := targets.Load(d)
	conn, err := pgx.Connect(t.Context(), target.(string))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close(context.Background()) })
	if _, err := conn.Exec(t.Context(), "set search_path = ''"); err != nil { // as the driver has it: names are whole
		t.Fatal(err)
	}
	return conn
}

func mariadbAt(t *testing.T, d environment.Driver) *sql.DB {
	t.Helper()
	target, _ := targets.Load(d)
	u, err := url.Parse(target.(string))
	if err != nil {
		t.Fatal(err)
	}
	config := mysql.NewConfig()
	config.User, config.Net, config.Addr, config.DBName = u.User.Username(), "tcp", u.Host, strings.Trim(u.Path, "/")
	return connected(t, "mysql", config.FormatDSN())
}

func sqliteAt(t *testing.T, d environment.Driver) *sql.DB {
	t.Helper()
	target, _ := targets.Load(d)
	return connected(t, "sqlite", strings.TrimPrefix(target.(string), "sqlite:"))
}

func connected(t *testing.T, driver, dsn string) *sql.DB {
	t.Helper()
	db, err := sql.Open(driver, dsn)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db
}

func quotedRows(t *testing.T, db *sql.DB) string {
	t.Helper()
	names, err := db.QueryContext(t.Context(), "select 'typeof(' || name || ') || hex(' || name || ')' from pragma_table_info('kind')")
	if err != nil {
		t.Fatal(err)
	}
	defer names.Close()
	var parts []string
	for names.Next() {
		var s string
		if err := names.Scan(&s); err != nil {
			t.Fatal(err)
		}
		parts = append(parts, s)
	}
	var out string
	if err := db.QueryRowContext(t.Context(), "select coalesce(group_concat(line, char(10)), '') from (select "+strings.Join(parts,
		" || ' ' || ")+" as line from kind order by id)").Scan(&out); err != nil {
		t.Fatal(err)
	}
	return out
}

// TestRowsInOtherWords lets people write values in their own way: what means the same to
// the engine is no difference, and stays as they wrote it.
func TestRowsInOtherWords(t *testing.T) {
	target, run := postgresDatabase(t)
	run(`create table kind (id int primary key, price numeric(6,2), since timestamptz, open boolean, tags text[]);
		insert into kind values (1, 1.5, '2024-03-01 12:00Z', true, '{a,b}'), (2, 7, null, false, null)`)
	d := open(t, environment.Host{}, target, environment.Settings{})
	files := captureRows(t, d, nil)
	mine := "id,price,since,open,tags\n01,1.5,2024-03-01 13:00:00+01,yes,\"{ a, \"\"b\"\" }\"\n2,7,,no,\n"
	files["public/rows/kind.csv"] = []byte(mine)
	if c, err := d.Capture(t.Context(), files); err != nil || len(c.Edits) != 0 {
		t.Errorf("captured %q, %v", c.Edits, err)
	}
	run("update kind set price = 8 where id = 2")
	c, err := d.Capture(t.Context(), files)
	if err != nil || string(c.Edits["public/rows/kind.csv"]) != strings.Replace(mine, "2,7,,no,", "2,8.00,,f,", 1) {
		t.Errorf("captured %q, %v", c.Edits, err)
	}
	files["public/rows/kind.csv"] = []byte(strings.Replace(mine, "2,7,", "2,seven,", 1))
	if _, err := d.Plan(t.Context(), files, nil); fault.CodeOf(err) != fault.Refused ||
		!strings.Contains(err.Error(), "public/rows/kind.csv, line 3: PostgreSQL says: invalid input syntax") {
		t.Errorf("a value that the column can't hold: %v", err)
	}
}

// TestRowsAndTablesChangeTogether deploys a new lookup table with its rows and a column
// that refers to it, and takes it all back with what it lost.
func TestRowsAndTablesChangeTogether(t *testing.T) {
	for _, e := range engines {
		t.Run(e.name, func(t *testing.T) {
			target, run := e.make(t)
			run("create table tank (id int primary key, code varchar(20), depth int)")
			run("insert into tank values (1, 'Reef', 4), (2, 'Kelp', null)")
			d := open(t, environment.Host{}, target, environment.Settings{LockWait: 1e9})
			c, err := d.Capture(t.Context(), nil)
			if err != nil {
				t.Fatal(err)
			}
			folder := filepath.Dir(filepath.Dir(e.table))
			files := environment.With(c.Files,
				environment.Files{e.table: []byte("create table kind (id int primary key, name varchar(20) not null);\n"),
					e.rows: []byte("id,name\n1,reef\n2,kelp\n"),
					filepath.Join(folder, "tables/tank.sql"): []byte("create table tank (id int primary key, code varchar(20), kind int " +
						"not null default 1 references kind (id));\n")})
			p, err := d.Plan(t.Context(), files, nil)
			if err != nil || len(p.Loses()) != 1 || p.Save == nil {
				t.Fatalf("%v, %v", p, err)
			}
			before, err := p.Before(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			lost := t.TempDir()
			if err := p.Save(t.Context(), lost); err != nil {
				t.Fatal(err)
			}
			if err := p.Apply(t.Context(), nil); err != nil {
				t.Fatal(err)
			}
			if p, err := d.Plan(t.Context(), files, nil); err != nil || len(p.Steps) != 0 {
				t.Fatalf("there is something left to do: %v, %v", p, err)
			}
			kept := filepath.Join(folder, "rows/tank/depth.csv")
			data, err := os.ReadFile(filepath.Join(lost, kept))
			if err != nil || string(data) != "id,depth\n1,4\n" {
				t.Errorf("kept: %q, %v", data, err)
			}
			back, err := d.Plan(t.Context(), before, &environment.Past{Lost: environment.Files{kept: data}})
			if err == nil {
				err = back.Apply(t.Context(), nil)
			}
			if err != nil {
				t.Fatal(err)
			}
			rows, err := d.(environment.RowsKeeper).Rows(t.Context(), []string{"tank"})
			if got := string(rows[filepath.Join(folder, "rows/tank.csv")]); err != nil || !strings.Contains(got, "depth") ||
				!strings.Contains(got, "1,Reef,4") {
				t.Errorf("back again: %q, %v", got, err)
			}
		})
	}
}

func TestColumnsThatAreNotTracked(t *testing.T) {
	target, run := sqliteDatabase(t)
	run("create table kind (id int primary key, name text, touched text default 'never')")
	run("insert into kind values (1, 'reef', 'today')")
	d := open(t, environment.Host{}, target, environment.Settings{Scope: scope.Scope{Skip: []string{"rows:*.touched"}}})
	files := captureRows(t, d, nil)
	if got := string(files["rows/kind.csv"]); got != "id,name\n1,reef\n" {
		t.Errorf("captured %q", got)
	}
	files["rows/kind.csv"] = []byte("id,name\n1,kelp\n2,bay\n")
	deployAll(t, d, files)
	if got := quotedRows(t, sqliteAt(t, d)); !strings.Contains(got, "746F646179") || !strings.Contains(got, "6E65766572") {
		t.Errorf("what is not tracked was touched: %s", got)
	}
	if _, err := d.(environment.RowsKeeper).Rows(t.Context(), []string{"none"}); fault.CodeOf(err) != fault.Usage {
		t.Errorf("a table that is not there: %v", err)
	}
	run("create table loose (a text)")
	if _, err := d.(environment.RowsKeeper).Rows(t.Context(), []string{"loose"}); fault.CodeOf(err) != fault.Refused {
		t.Errorf("a table without key: %v", err)
	}
}

// TestRowsOfPartitionsAreKeptWhole drops partitions and an heir, whose columns are those of
// the tables above, and brings them back.
func TestRowsOfPartitionsAreKeptWhole(t *testing.T) {
	target, run := postgresDatabase(t)
	run(`create table r (id int, at date, v text default 'x', primary key (id, at)) partition by range (at);
		create table r1 partition of r for values from ('2024-01-01') to ('2025-01-01'); create table r2 partition of r (v default 'y') for values from ('2025-01-01') to ('2026-01-01');
		insert into r values (1, '2024-02-02', 'a'), (2, '2025-02-02', 'b');
		create table above (id int primary key, n text); create table heir (extra int) inherits (above); insert into heir values (1, 'n', 5);
		create materialized view zz as select count(*) as n from heir; create view mm as select n from zz; create materialized view aa as select n from mm;
		create type size as (width int, height int); create table typed of size (primary key (height)); insert into typed values (7, 8)`)
	d := open(t, environment.Host{}, target, environment.Settings{})
	c, err := d.Capture(t.Context(), nil)
	if err != nil {
		t.Fatal(err)
	}
	files := environment.With(c.Files, environment.Files{"public/tables/r1.sql": nil, "public/tables/r2.sql": nil,
		"public/tables/heir.sql": nil, "public/tables/typed.sql": nil, "public/views/aa.sql": nil, "public/views/mm.sql": nil,
		"public/views/zz.sql": nil})
	p, err := d.Plan(t.Context(), files, nil)
	if err != nil || p.Save == nil {
		t.Fatalf("%v, %v", p, err)
	}
	before, err := p.Before(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	folder, lost := t.TempDir(), environment.Files{}
	if err := p.Save(t.Context(), folder); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"r1": "id,at,v\n1,2024-02-02,a\n", "r2": "id,at,v\n2,2025-02-02,b\n",
		"heir": "id,n,extra\n1,n,5\n", "typed": "height,width\n8,7\n"} {
		data, err := os.ReadFile(filepath.Join(folder, "public/rows", name+".csv"))
		if err != nil || string(data) != want {
			t.Errorf("kept of %s: %q, %v", name, data, err)
		}
		lost["public/rows/"+name+".csv"] = data
	}
	if err := p.Apply(t.Context(), nil); err != nil {
		t.Fatal(err)
	}
	back, err := d.Plan(t.Context(), before, &environment.Past{Lost: lost})
	if err == nil {
		err = back.Apply(t.Context(), nil)
	}
	if err != nil {
		t.Fatal(err)
	}
	var got string
	if err := postgresAt(t, d).QueryRow(t.Context(),
		"select (select string_agg(tableoid::pg_catalog.regclass || ':' || r, ' ' order by id) from public.r) || ' ' || (select "+
			"string_agg(h::text, ' ') from public.heir h) || ' ' || (select n from public.aa)").Scan(&got); err != nil ||
		got != "public.r1:(1,2024-02-02,a) public.r2:(2,2025-02-02,b) (1,n,5) 1" {
		t.Errorf("back: %q, %v", got, err)
	}
}

// TestWhatCanNotBeKeptIsRefused asks for rows of a table whose columns nobody knows.
func TestWhatCanNotBeKeptIsRefused(t *testing.T) {
	folder := t.TempDir()
	err := database.Tracked{}.Save(t.Context(), []environment.Step{{Saves: []step.Save{{Table: "strange"}}}}, nil, nil, folder)
	if fault.CodeOf(err) != fault.Refused || !strings.Contains(err.Error(), "strange") {
		t.Errorf("got %v", err)
	}
	if left, _ := os.ReadDir(folder); len(left) != 0 {
		t.Errorf("%d files are left", len(left))
	}
}
