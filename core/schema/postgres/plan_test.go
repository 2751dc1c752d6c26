package postgres

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/url"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"oakenchest/core/element"
	"oakenchest/core/schema/schematest"
	"oakenchest/core/schema/scope"
)

var all = scope.Scope{Track: []string{"replication", "privileges"}}

// copyOf makes a database like another, which nobody may be connected to.
func copyOf(t testing.TB, admin *pgx.Conn, from string) (string, *pgx.Conn, func()) {
	t.Helper()
	name := fmt.Sprintf("oaken_test_%08x", rand.Uint32())
	run(t, admin, "create database "+name+" template "+from)
	at, err := url.Parse(server(t))
	if err != nil {
		t.Fatal(err)
	}
	at.Path = "/" + name
	conn, err := pgx.Connect(context.Background(), at.String())
	if err != nil {
		t.Fatal(err)
	}
	return at.String(), conn, func() {
		conn.Close(context.Background())
		run(t, admin, "drop database "+name+" with (force)")
	}
}

// deploy makes a live database hold what a catalog says, and gives the steps.
// online says whether deploy plans for a database that is in use.
var online bool

func deploy(t testing.TB, conn *pgx.Conn, want *Catalog) ([]Step, error) {
	t.Helper()
	ctx := context.Background()
	live := reading(t, conn)
	w := Wanted{Root: all.Overlay(want.Root, live.Root), Columns: want.Columns, Online: online}
	steps, err := Plan(ctx, conn, live, w)
	if err != nil {
		return nil, err
	}
	return steps, Apply(ctx, conn, w.Root, steps, ApplyOptions{Scope: all})
}

func statementsOf(steps []Step) string {
	var b strings.Builder
	for _, s := range steps {
		fmt.Fprintf(&b, "-- %s: %s [%s]\n%s;\n", s.Address, s.What, s.Effect, strings.Join(s.Statements, ";\n"))
	}
	return b.String()
}

// withoutOrder is a dump in which the columns of each table are sorted, because an
// added column comes last.
func withoutOrder(dump string) string {
	var out []string
	var table []string
	for line := range strings.SplitSeq(dump, "\n") {
		switch {
		case strings.HasPrefix(line, "CREATE ") && strings.Contains(line, "TABLE ") && strings.HasSuffix(line, "("):
			table = []string{}
			out = append(out, line)
		case table != nil && strings.HasPrefix(line, ")"):
			slices.Sort(table)
			out = append(out, table...)
			out = append(out, line)
			table = nil
		case table != nil:
			table = append(table, strings.TrimSuffix(line, ","))
		case strings.HasPrefix(line, "    OPERATOR ") || strings.HasPrefix(line, "    FUNCTION "): // members of a family
			line = strings.TrimRight(line, " ,;")
			i := len(out)
			for i > 0 && strings.HasPrefix(out[i-1], line[:13]) && out[i-1] > line {
				i--
			}
			out = slices.Insert(out, i, line)
		case strings.HasPrefix(line, "WITH ("):
			list := strings.Split(strings.TrimSuffix(strings.TrimPrefix(line, "WITH ("), ");"), ", ")
			slices.Sort(list)
			out = append(out, strings.Join(list, ", "))
		default:
			out = append(out, line)
		}
	}
	return strings.Join(out, "\n")
}

// edits are what people do to the database of testdata/everything.sql.
var edits = []string{
	"alter table care.keeper add column phone text not null default 'none'",
	"alter table care.keeper drop column badge",
	"drop publication everything; drop view care.simple; drop trigger touch on care.tank; drop function care.total(text); alter table " +
		"care.tank alter column code type varchar(40); create view care.simple as select id, code from care.tank where code like 'A%' " +
		"with check option; create rule quiet as on delete to care.simple do instead nothing",
	"alter table care.tank alter column depth drop default",
	"alter table care.tank alter column notes set default 'x'",
	"alter table care.tank alter column notes set statistics -1",
	"alter table care.tank alter column photo set storage extended, alter column notes set compression lz4",
	"alter table care.tank drop constraint tank_code_check",
	"alter table care.tank add constraint short check (length(code) < 10)",
	"alter table care.tank add constraint once unique (code, depth)",
	"drop index care.tank_lower",
	"drop index care.tank_code cascade",
	"create index tank_more on care.tank (keeper, opened)",
	"alter index care.tank_tags rename to tank_labels",
	"comment on table care.tank is null",
	"comment on column care.tank.code is 'other'",
	"comment on index care.tank_tags is 'fast'",
	"alter type care.mood add value 'asleep' after 'calm'",
	"alter type care.mood add value 'awake' before 'calm'",
	"alter type care.mood rename value 'angry' to 'cross'",
	"drop table care.typed; alter type care.size add attribute weight numeric",
	"alter type care.size drop attribute label cascade",
	"alter domain care.depth drop constraint positive",
	"alter domain care.depth set default 3; alter domain care.depth drop not null",
	"alter domain care.depth drop not null",
	"alter domain care.depth add constraint even check (value <> 7)",
	"alter sequence care.ticket increment by 7 no cycle cache 1",
	"alter sequence care.ticket as bigint no maxvalue start with 101",
	"create or replace view care.busy with (security_barrier = true) as select k.name, count(*) as tanks, max(t.depth) as deepest, 1 as " +
		"more from care.keeper k join care.tank t on t.keeper = k.id group by k.id",
	"drop view care.busiest; drop view care.busy; create view care.busy as select k.name, count(*)::text as tanks from care.keeper k " +
		"join care.tank t on t.keeper = k.id group by k.id; create view care.busiest as select * from care.busy where tanks <> '0'",
	"drop view care.simple",
	"alter view care.simple alter column code drop default",
	"alter view care.busy set (security_barrier = false)",
	"drop materialized view care.summary",
	"drop materialized view care.summary; create materialized view care.summary as select mood, count(*) as n, 2 as k from care.tank " +
		"group by mood with no data; create unique index summary_mood on care.summary (mood, n)",
	"create or replace function care.touch() returns trigger language plpgsql as 'begin return new; end'",
	"alter function care.touch() cost 70",
	"drop function care.total(integer, integer[])",
	"drop function care.total(text)",
	"drop function care.both; create function care.both(inout a integer, out b text) language sql as 'select 1, ''x'''",
	"create or replace procedure care.close_day(day date, in loud boolean default true) language plpgsql as $$ begin null; end $$",
	"drop trigger touch on care.tank",
	"alter table care.tank enable trigger audit",
	"alter table care.tank disable trigger late",
	"drop rule quiet on care.simple",
	"drop policy own on care.tank; create policy own on care.tank using (keeper = 2)",
	"alter table care.tank disable row level security, force row level security",
	"drop aggregate care.sum_up(numeric)",
	"drop operator class care.mood_ops using btree",
	"drop cast (text as care.mood)",
	"alter text search configuration care.words drop mapping for asciiword",
	"alter text search configuration care.words alter mapping for word with care.stems",
	"drop text search configuration care.words; drop text search dictionary care.stems",
	"drop foreign table care.old_book",
	"alter foreign table care.old_book options (set room '4', add shelf '2'), alter column line options (add page '7')",
	"drop event trigger noticed; drop function care.noticed",
	"alter event trigger noticed enable always",
	"drop publication everything",
	"alter publication everything set (publish = 'delete')",
	"alter table care.keeper set (fillfactor = 70), reset (autovacuum_enabled)",
	"alter table care.keeper alter column id set generated by default",
	"alter table care.keeper alter column id drop identity",
	"alter table care.parent alter column id add generated always as identity",
	"alter table care.keeper drop constraint keeper_name, add constraint keeper_name unique (name)",
	"alter table care.tank drop constraint tank_keeper_fkey, add constraint tank_keeper_fkey foreign key (keeper) references care.keeper " +
		"on delete cascade",
	"drop function care.total(text); alter table care.tank drop column area",
	"alter table care.tank alter column area drop expression",
	"drop function care.total(text); alter table care.tank drop column area, add column area numeric generated always as ((size).width " +
		"* 2) stored",
	"drop function care.total(text); drop view care.busiest; drop view care.busy; drop policy own on care.tank; drop policy writes on " +
		"care.tank; alter table care.tank alter column keeper type bigint",
	"alter table care.tank alter column keeper set not null",
	"alter table care.tank alter column tags drop not null, alter column tags set default '{a}'",
	"alter table care.tank replica identity full",
	"alter table care.tank set without cluster",
	"drop statistics care.tank_stats; create statistics care.tank_stats (mcv) on code, depth from care.tank",
	"drop table care.part",
	"drop table care.reading_2025",
	"alter table care.reading detach partition care.reading_rest",
	"create table care.reading_2027 partition of care.reading for values from ('2027-01-01') to ('2028-01-01')",
	"alter table care.reading add column note text default 'n'",
	"alter table care.reading drop column value",
	"alter table care.reading drop constraint warm",
	"drop index care.reading_value",
	"create index reading_two on care.reading (tank, value)",
	"alter table care.reading drop constraint reading_tank",
	"alter table care.reading_2026 alter column value drop default",
	"alter table care.parent add column more int not null default 3",
	"alter table care.child no inherit care.parent",
	"alter table care.child alter column kind drop default",
	"alter table care.scratchpad set logged",
	"alter table care.scratchpad add column a int, add column b text",
	"drop table care.typed",
	"drop schema care cascade",
	"create schema other; create table other.thing (id int primary key, tank bigint references care.tank); create view other.all_things " +
		"as select * from other.thing",
	"alter table public.serials alter column small drop default; drop sequence public.serials_small_seq",
	"alter table public.serials alter column id type bigint; alter sequence public.serials_id_seq as bigint",
	"drop table public.serials",
	"create table public.self (id int primary key, up int references public.self, f int default care.total(1)); create view public.looks " +
		"as select * from public.self",
	"grant select on care.tank to public; grant usage on schema care to public; revoke execute on function care.touch() from public; " +
		"grant select (name) on care.keeper to public",
	"comment on schema care is 'other'; comment on type care.mood is null; comment on function care.touch() is null; comment on " +
		"constraint positive on domain care.depth is 'new'",
	"drop materialized view care.summary; drop function care.total(text); drop index care.tank_lower; drop policy own on care.tank; " +
		"alter table care.tank alter column mood drop default, alter column mood type text; drop cast (text as care.mood); drop function " +
		"care.mood_of(text)",
	"drop extension btree_gist cascade",
}

// base fills a database with testdata/everything.sql and some rows, and lets go of it.
func base(t testing.TB) (name string, admin *pgx.Conn) {
	t.Helper()
	at, conn := database(t)
	sql, err := os.ReadFile("testdata/everything.sql")
	if err != nil {
		t.Fatal(err)
	}
	run(t, conn, string(sql))
	conn.Close(context.Background())
	u, err := url.Parse(at)
	if err != nil {
		t.Fatal(err)
	}
	admin, err = pgx.Connect(context.Background(), server(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { admin.Close(context.Background()) })
	return strings.TrimPrefix(u.Path, "/"), admin
}

// TestEveryEditIsDeployed makes each edit by hand in one database, which is then
// undone, and by a computed deployment in another; forth, and back again. With
// OAKEN_EDITS=all the engine's own dumps of both are compared too.
func TestEveryEditIsDeployed(t *testing.T) {
	name, admin := base(t)
	_, hand, dropHand := copyOf(t, admin, name)
	defer dropHand()
	computed, conn, dropComputed := copyOf(t, admin, name)
	defer func() { dropComputed() }()
	original := reading(t, hand)
	again := false
	for _, sql := range edits {
		t.Run(sql[:min(len(sql), 60)], func(t *testing.T) {
			if again {
				dropComputed()
				computed, conn, dropComputed = copyOf(t, admin, name)
			}
			again = true
			run(t, hand, "begin")
			_, err := hand.Exec(context.Background(), sql, pgx.QueryExecModeSimpleProtocol)
			var want *Catalog
			if err == nil {
				want, err = ReadInside(context.Background(), hand)
			}
			run(t, hand, "rollback")
			if err != nil {
				t.Fatal("the edit by hand:", EngineError(err))
			}
			steps, err := deploy(t, conn, want)
			if err != nil {
				t.Fatalf("%v\n%s", err, statementsOf(steps))
			}
			if os.Getenv("OAKEN_EDITS") == "all" {
				sameDumps(t, admin, name, sql, computed)
			}
			if steps, err = deploy(t, conn, want); err != nil || len(steps) > 0 {
				t.Errorf("a second deployment does something: %v\n%s", err, statementsOf(steps))
			}
			var family *FamilyError
			if steps, err = deploy(t, conn, original); errors.As(err, &family) && strings.Contains(sql, "no inherit") {
				return // refused: what was local stays so
			}
			if err != nil {
				t.Fatalf("back: %v\n%s", err, statementsOf(steps))
			}
			if d := element.Compare(all.Apply(original.Root), all.Apply(reading(t, conn).Root)); d != nil {
				t.Errorf("back again it differs: %v", d.Changes("db"))
			}
			again = t.Failed()
		})
	}
}

// sameDumps compares the engine's own accounts of a database that was edited by hand
// and of one that was deployed to.
func sameDumps(t *testing.T, admin *pgx.Conn, name, sql, computed string) {
	t.Helper()
	byHand, hand, drop := copyOf(t, admin, name)
	defer drop()
	run(t, hand, sql)
	if a, b := withoutOrder(dump(t, byHand)), withoutOrder(dump(t, computed)); a != b {
		t.Errorf("the dumps differ: %s", schematest.FirstDifference(a, b))
	}
}
