package postgres

import (
	"context"
	"errors"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"oakenchest/core/schema/declared"
)

// planned is one change, and the steps that it must come to: `what [effect]` each, and
// what must be among the statements.
type planned struct {
	name, from, to string
	steps          []string
	statements     []string
	loss           string
	fill           map[string]string
	refused        string
}

var changes = []planned{
	{name: "a new table", from: "", to: "create table t.a (id int primary key)", steps: []string{"create the table [instant]"}},
	{name: "a new column", from: "create table t.a (id int)", to: "create table t.a (id int, name text)",
		steps: []string{"add the column text [instant]"}, statements: []string{"alter table t.a add column name text"}},
	{name: "a column goes that is empty", from: "create table t.a (id int, name text); insert into t.a values (1, null)",
		to: "create table t.a (id int)", steps: []string{"drop the column [instant]"}},
	{name: "a column goes that has values", from: "create table t.a (id int, name text); insert into t.a values (1, 'x'), (2, null)",
		to: "create table t.a (id int)", steps: []string{"drop the column [loses data]"}, loss: "column t.a.name has 1 value"},
	{name: "a table goes that has rows", from: "create table t.a (id int); insert into t.a values (1), (2)", to: "",
		steps: []string{"drop the table [loses data]"}, loss: "table t.a has 2 rows"},
	{name: "not null over nulls, with a default", from: "create table t.a (id int); insert into t.a values (null)",
		to: "create table t.a (id int default 5 not null)", steps: []string{"set the default [instant]", "fill 1 null [rewrites]",
			"refuse null [scans]"}, statements: []string{"update t.a set id = 5 where id is null"}},
	{name: "not null over nulls, without one", from: "create table t.a (id int); insert into t.a values (null)",
		to: "create table t.a (id int not null)", refused: "has nulls in 1 row"},
	{name: "not null over nulls, filled", from: "create table t.a (id int); insert into t.a values (null)",
		to: "create table t.a (id int not null)", fill: map[string]string{"t.a.id": "9"}, steps: []string{"fill 1 null [rewrites]",
			"refuse null [scans]"}, statements: []string{"update t.a set id = 9 where id is null"}},
	{name: "a new column that takes no null, rows there", from: "create table t.a (id int); insert into t.a values (1)",
		to: "create table t.a (id int, n int not null)", refused: "takes no null and has no default in 1 row"},
	{name: "the same, filled", from: "create table t.a (id int); insert into t.a values (1)",
		to: "create table t.a (id int, n int not null)", fill: map[string]string{"t.a.n": "id + 1"},
		steps: []string{"add the column integer not null [rewrites]"}, statements: []string{"update t.a set n = id + 1"}},
	{name: "a wider type", from: "create table t.a (id int); insert into t.a values (1)", to: "create table t.a (id bigint)",
		steps:      []string{"change the type: integer → bigint [rewrites]"},
		statements: []string{"alter table t.a alter column id type bigint using id::bigint"}},
	{name: "a type that rounds", from: "create table t.a (n numeric(6,2)); insert into t.a values (1.25), (2.00)",
		to: "create table t.a (n numeric(6,0))", steps: []string{"change the type: numeric(6, 2) → numeric(6, 0) [loses data]"},
		loss: "column t.a.n has 1 value that changes as numeric(6, 0)"},
	{name: "a type that does not take the values", from: "create table t.a (n text); insert into t.a values ('x')",
		to: "create table t.a (n int)", refused: "not all of its values can become integer"},
	{name: "a type that does not take some values, which are given",
		from: "create table t.a (n text); insert into t.a values ('x'), ('7'), (null), ('007')", to: "create table t.a (n int)",
		fill:  map[string]string{"t.a.n": "-1"},
		steps: []string{"change the type: text → integer [loses data]"}, loss: "column t.a.n has 2 values that change as integer"},
	{name: "a type without a way back", from: "create table t.a (n timestamp); insert into t.a values ('2026-01-02 03:04:05')",
		to:    "create table t.a (n time)",
		steps: []string{"change the type: timestamp without time zone → time without time zone [loses data]"},
		loss:  "column t.a.n has 1 value that changes as time without time zone"},
	{name: "a view in the way", from: "create table t.a (n int); create view t.v as select n from t.a; grant select on t.v to public",
		to:         "create table t.a (n bigint); create view t.v as select n from t.a",
		steps:      []string{"drop the view [locks]", "change the type: integer → bigint [rewrites]", "create the view again [locks]"},
		statements: []string{"grant select on table t.v to public"}},
	{name: "a view that only gains columns", from: "create view t.v as select 1 as a", to: "create view t.v as select 1 as a, 2 as b",
		steps: []string{"replace the view [locks]"}},
	{name: "a function in a default", from: "create table t.a (n int)",
		to:    "create function t.f() returns int language sql as 'select 1'; create table t.a (n int, m int default t.f())",
		steps: []string{"create the function [instant]", "add the column integer default t.f() [rewrites]"}},
	{name: "an index", from: "create table t.a (n int)", to: "create table t.a (n int); create index i on t.a (n)",
		steps: []string{"create the index [scans]"}},
	{name: "a foreign key", from: "create table t.a (n int primary key); create table t.b (a int)",
		to:    "create table t.a (n int primary key); create table t.b (a int, constraint k foreign key (a) references t.a)",
		steps: []string{"add the constraint [scans]"}},
	{name: "tables that need each other", from: "",
		to: "create table t.a (n int primary key); create table t.b (n int primary key, a int references t.a); alter table t.a add b int " +
			"references t.b", steps: []string{"create the table [instant]", "create the table [instant]", "create the constraint [instant]",
			"create the constraint [instant]"}},
	{name: "they go together", from: "create table t.a (n int primary key); create table t.b (n int primary key, a int references t.a); " +
		"alter table t.a add b int references t.b", to: "", steps: []string{"drop the constraint [instant]", "drop the table [instant]",
		"drop the table [instant]"}},
	{name: "a new value of an enum", from: "create type t.e as enum ('a', 'c')", to: "create type t.e as enum ('a', 'b', 'c')",
		steps: []string{"add the new values [instant]"}, statements: []string{"alter type t.e add value 'b' after 'a'"}},
	{name: "a value of an enum goes", from: "create type t.e as enum ('a', 'b'); create table t.a (e t.e default 'a')",
		to: "create type t.e as enum ('a'); create table t.a (e t.e default 'a')",
		steps: []string{"drop the default [instant]", "put the old type aside [instant]", "create the type again [locks]",
			"move the values to the new type [rewrites]", "drop the old type [instant]"}},
	{name: "a comment", from: "create table t.a (n int)", to: "create table t.a (n int); comment on column t.a.n is 'it''s'",
		steps: []string{"change the comment [instant]"}, statements: []string{"comment on column t.a.n is 'it''s'"}},
	{name: "identity", from: "create table t.a (n int not null)", to: "create table t.a (n int generated always as identity)",
		steps: []string{"number the column [instant]"}},
	{name: "storage options", from: "create table t.a (n int) with (fillfactor = 70)",
		to: "create table t.a (n int) with (autovacuum_enabled = false)", steps: []string{"change the options [locks]"},
		statements: []string{"alter table t.a set (autovacuum_enabled='false')", "alter table t.a reset (fillfactor)"}},
	{name: "unlogged", from: "create unlogged table t.a (n int)", to: "create table t.a (n int)",
		steps: []string{"change how it is logged [rewrites]"}},
	{name: "a partition", from: "create table t.a (n int) partition by list (n)",
		to:    "create table t.a (n int) partition by list (n); create table t.a1 partition of t.a for values in (1)",
		steps: []string{"create the table [instant]"}},
	{name: "row security", from: "create table t.a (n int)",
		to:    "create table t.a (n int); alter table t.a enable row level security; create policy p on t.a using (n > 0)",
		steps: []string{"change row security [locks]", "create the policy [locks]"}},
	{name: "a function's result", from: "create function t.f() returns int language sql as 'select 1'",
		to: "create function t.f() returns bigint language sql as 'select 1::bigint'", steps: []string{"drop the function [locks]",
			"create the function again [locks]"}},
	{name: "a function's body", from: "create function t.f() returns int language sql as 'select 1'",
		to: "create function t.f() returns int language sql as 'select 2'", steps: []string{"replace the function [instant]"}},
	{name: "a sequence", from: "create sequence t.s", to: "create sequence t.s increment by 3 cycle",
		steps: []string{"change the sequence [instant]"}, statements: []string{"alter sequence t.s increment by 3 cycle"}},
	{name: "a trigger is switched off",
		from: "create table t.a (n int); create function t.f() returns trigger language plpgsql as 'begin return new; end'; create " +
			"trigger g before insert on t.a for each row execute function t.f()",
		to: "create table t.a (n int); create function t.f() returns trigger language plpgsql as 'begin return new; end'; create trigger " +
			"g before insert on t.a for each row execute function t.f(); alter table t.a disable trigger g",
		steps: []string{"switch the trigger [locks]"}},
}

// TestSteps checks which steps a change comes to, what they cost, and that they do it.
func TestSteps(t *testing.T) {
	_, live := database(t)
	_, target := database(t)
	for _, c := range changes {
		t.Run(c.name, func(t *testing.T) {
			run(t, live, "drop schema if exists t cascade; create schema t; "+c.from)
			run(t, target, "drop schema if exists t cascade; create schema t; "+c.to)
			have, want := reading(t, live), reading(t, target)
			w := Wanted{Root: every.Overlay(want.Root, have.Root), Columns: want.Columns, Fill: c.fill}
			steps, err := Plan(context.Background(), live, have, w)
			if c.refused != "" {
				var rows *RowsError
				if !errors.As(err, &rows) || !strings.Contains(err.Error(), c.refused) {
					t.Errorf("refused with %v", err)
				}
				return
			}
			if err != nil {
				t.Fatal(err)
			}
			var got, lost []string
			for _, s := range steps {
				got = append(got, s.What+" ["+string(s.Effect)+"]")
				if s.Loss != "" {
					lost = append(lost, s.Loss)
				}
			}
			if !slices.Equal(got, c.steps) {
				t.Errorf("the steps are\n%s", statementsOf(steps))
			}
			if strings.Join(lost, "; ") != c.loss {
				t.Errorf("it loses %q", lost)
			}
			for _, s := range c.statements {
				if !strings.Contains(statementsOf(steps), s+";") {
					t.Errorf("%q is not among\n%s", s, statementsOf(steps))
				}
			}
			if err := Apply(context.Background(), live, w.Root, steps, ApplyOptions{Scope: every}); err != nil {
				t.Errorf("%v\n%s", err, statementsOf(steps))
			}
		})
	}
}

// TestRenamesKeepRows renames a table and a column that a view, an index and a foreign
// key name.
func TestRenamesKeepRows(t *testing.T) {
	_, live := database(t)
	run(t, live, "create table public.basin (id int primary key, depth int); create index by_depth on public.basin (depth); create table "+
		"public.feeding (basin int references public.basin); create view public.deep as select depth from public.basin; insert into "+
		"public.basin values (1, 7)")
	d, err := Parse(declared.Files{"a.sql": []byte("-- formerly: basin\ncreate table tank (\n  id int primary key,\n" +
		"  deep int -- formerly: depth\n);\ncreate index by_depth on tank (deep);\n" +
		"create table feeding (basin int, constraint feeding_basin_fkey foreign key (basin) references tank (id));\n" +
		"create view deep as select tank.deep as depth from tank;\nalter table tank add constraint basin_pkey_is_kept check (id > 0);")})
	if err != nil {
		t.Fatal(err)
	}
	_, scratch := database(t)
	loaded, err := Load(context.Background(), scratch, d)
	if err != nil {
		t.Fatal(err)
	}
	_, second := database(t)
	have := reading(t, live)
	renamed, err := Renames(context.Background(), have, loaded.Root, d.Formerly, func() (*pgx.Conn, error) { return second, nil })
	if err != nil || renamed == nil || len(renamed.Steps) != 2 {
		t.Fatalf("renames: %v, %v", renamed, err)
	}
	w := Wanted{Root: every.Overlay(loaded.Root, renamed.Live.Root), Columns: loaded.Columns, Renamed: renamed}
	steps, err := Plan(context.Background(), live, renamed.Live, w)
	if err != nil {
		t.Fatal(err)
	}
	if err := Apply(context.Background(), live, w.Root, steps, ApplyOptions{Scope: every}); err != nil {
		t.Fatalf("%v\n%s", err, statementsOf(steps))
	}
	var deep int
	if err := live.QueryRow(context.Background(), "select deep from public.tank").Scan(&deep); err != nil || deep != 7 {
		t.Errorf("the value is %d, %v", deep, err)
	}
}

// TestADeploymentThatFailsChangesNothing lets the last statement of a plan fail.
func TestADeploymentThatFailsChangesNothing(t *testing.T) {
	_, conn := database(t)
	run(t, conn, "create table public.a (n int); insert into public.a values (1), (1)")
	have := reading(t, conn)
	steps := []Step{{What: "add", Statements: []string{"alter table public.a add column m int"}},
		{What: "break", Statements: []string{"alter table public.a add primary key (n)"}}}
	err := Apply(context.Background(), conn, have.Root, steps, ApplyOptions{Scope: every})
	if err == nil || !strings.Contains(err.Error(), "break") || !strings.Contains(err.Error(), "could not create unique index") {
		t.Errorf("the error is %v", err)
	}
	if d := different(have.Root, reading(t, conn).Root); d != "" {
		t.Errorf("it left\n%s", d)
	}
	steps = steps[:1]
	var disagree *DisagreeError
	if err := Apply(context.Background(), conn, have.Root, steps, ApplyOptions{Scope: every}); !errors.As(err, &disagree) {
		t.Errorf("a plan that does not lead there: %v", err)
	}
	if d := different(have.Root, reading(t, conn).Root); d != "" {
		t.Errorf("it left\n%s", d)
	}
	first := Step{What: "first", Before: true, Statements: []string{"create type public.e as enum ('a')"}}
	var half *HalfwayError
	if err := Apply(context.Background(), conn, have.Root, []Step{first, {What: "break", Statements: []string{"select 1/0"}}},
		ApplyOptions{Scope: every}); !errors.As(err, &half) || len(half.Done) != 1 {
		t.Errorf("a plan that stops halfway: %v", err)
	}
}

// TestACatalogIsKept writes a catalog down and reads it again.
func TestACatalogIsKept(t *testing.T) {
	_, conn := database(t)
	run(t, conn, "create table public.a (n int not null default 3, primary key (n)); create type public.e as enum ('b', 'a'); create "+
		"view public.v as select n from public.a")
	c := reading(t, conn)
	data, err := c.Keep()
	if err != nil {
		t.Fatal(err)
	}
	again, ok := Kept(data)
	if !ok || different(c.Root, again.Root) != "" || !slices.Equal(again.Columns["view public.v"], c.Columns["view public.v"]) ||
		again.Root.Sum() != c.Root.Sum() {
		t.Errorf("it comes back as %v", again)
	}
	if _, ok := Kept(data[:len(data)/2]); ok {
		t.Error("half of it is taken for a catalog")
	}
}

// TestCostsAreTrue changes types, with rows in the table, and holds what the plan says of the
// rows against the file that the engine keeps them in: it is another one when they were
// written again.
func TestCostsAreTrue(t *testing.T) {
	_, live := database(t)
	_, target := database(t)
	types := []string{"varchar(5)", "varchar(20)", "varchar", "text", "char(5)", "char(9)", "numeric(6,2)", "numeric(9,2)", "numeric(9,4)",
		"numeric", "int", "bigint", "timestamp", "timestamp(3)", "timestamptz", "timestamptz(3)", "time", "time(2)", "bit varying(4)",
		"bit varying(9)", "bit varying", "date", "json", "jsonb", "xml"}
	file := func() (n uint32) {
		if err := live.QueryRow(context.Background(), "select pg_relation_filenode('t.a')").Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	run(t, live, "set timezone = 'Europe/Berlin'") // where it is not that of the times
	tried := 0
	for _, from := range types {
		for _, to := range types {
			if from == to || os.Getenv("OAKEN_TYPES") != "all" && rand.IntN(12) > 0 {
				continue
			}
			run(t, live, "drop schema if exists t cascade; create schema t; create table t.a (id int primary key, n "+from+
				"); insert into t.a (id) values (1), (2)")
			run(t, target, "drop schema if exists t cascade; create schema t; create table t.a (id int primary key, n "+to+")")
			have, want := reading(t, live), reading(t, target)
			w := Wanted{Root: every.Overlay(want.Root, have.Root), Columns: want.Columns}
			steps, err := Plan(context.Background(), live, have, w)
			if err != nil {
				continue // there is no way from one to the other
			}
			before := file()
			if err := Apply(context.Background(), live, w.Root, steps, ApplyOptions{LockWait: time.Second, Scope: every}); err != nil {
				continue
			}
			tried++
			said := steps[0].Effect == Rewrites || steps[0].Effect == Loses
			if wrote := file() != before; wrote != said {
				t.Errorf("%s → %s: the plan says %s, and the rows were written again: %v", from, to, steps[0].Effect, wrote)
			}
		}
	}
	t.Logf("%d changes of type", tried)
}
