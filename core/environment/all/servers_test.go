package all

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5"

	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/schema/mariadb"
	"oakenchest/core/schema/scope"
)

// postgresDatabase makes an empty database and gives its target and a way to run
// statements in it.
func postgresDatabase(t *testing.T) (target string, run func(sql string)) {
	t.Helper()
	at := os.Getenv("OAKEN_POSTGRES")
	if at == "" {
		at = "postgres://postgres@127.0.0.1:5432/postgres"
	}
	admin, err := pgx.Connect(context.Background(), at)
	if err != nil {
		t.Skipf("no PostgreSQL at %s: set OAKEN_POSTGRES (%v)", at, err)
	}
	name := fmt.Sprintf("oaken_test_%08x", rand.Uint32())
	if _, err := admin.Exec(context.Background(), "create database "+name); err != nil {
		t.Fatal(err)
	}
	target = at[:strings.LastIndexByte(at, '/')+1] + name
	conn, err := pgx.Connect(context.Background(), target)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		conn.Close(context.Background())
		_, _ = admin.Exec(context.Background(), "drop database "+name+" with (force)")
		admin.Close(context.Background())
	})
	return target, func(sql string) {
		t.Helper()
		if _, err := conn.Exec(context.Background(), sql); err != nil {
			t.Fatal(sql, err)
		}
	}
}

func open(t *testing.T, h environment.Host, target string, s environment.Settings) environment.Driver {
	t.Helper()
	d, err := environment.Open(context.Background(), h, target, s)
	if err != nil {
		t.Fatal(err)
	}
	targets.Store(d, target)
	t.Cleanup(func() { d.Close() })
	return d
}

var tank = environment.Files{"public/schema.sql": []byte("create schema public;\n"),
	"public/tables/tank.sql": []byte("-- by hand\nCREATE TABLE tank (id INT PRIMARY KEY, code VARCHAR(20));\n")}

func TestFilesThatMeanTheSameStayAsTheyAre(t *testing.T) {
	target, run := postgresDatabase(t)
	cache := t.TempDir()
	d := open(t, environment.Host{Cache: cache}, target, environment.Settings{})
	p, err := d.Plan(t.Context(), tank, nil)
	if err != nil || len(p.Steps) != 1 {
		t.Fatalf("%v, %v", p, err)
	}
	if err := p.Apply(t.Context(), nil); err != nil {
		t.Fatal(err)
	}
	c, err := d.Capture(t.Context(), tank)
	if err != nil || len(c.Edits) != 0 {
		t.Errorf("captured %q, %v", c.Edits, err)
	}
	if kept, _ := os.ReadDir(cache); len(kept) != 1 {
		t.Errorf("%d answers are kept", len(kept))
	}
	if p, err := d.Plan(t.Context(), tank, nil); err != nil || len(p.Steps) != 0 {
		t.Errorf("a second plan: %v, %v", p, err)
	}
	run("alter table public.tank add column depth int")
	c, err = d.Capture(t.Context(), tank)
	if err != nil || len(c.Edits) != 1 || !strings.HasPrefix(string(c.Edits["public/tables/tank.sql"]),
		"-- by hand\nCREATE TABLE tank (id INT PRIMARY KEY, code VARCHAR(20), depth integer);") {
		t.Errorf("captured %q, %v", c.Edits, err)
	}
}

func TestPlansForServersGoStale(t *testing.T) {
	target, run := postgresDatabase(t)
	run("create table public.old (id int)")
	d := open(t, environment.Host{}, target, environment.Settings{})
	p, err := d.Plan(t.Context(), tank, nil)
	if err != nil {
		t.Fatal(err)
	}
	run("create table public.meanwhile (id int)")
	if err := p.Apply(t.Context(), nil); fault.CodeOf(err) != fault.Refused || !strings.Contains(err.Error(), "has changed since") {
		t.Errorf("a stale plan: %v", err)
	}
}

// TestOneDeploymentAtATimeChangesADatabase lets somebody who sleeps hold the session's lock, as a deployment that
// was stopped does.
func TestOneDeploymentAtATimeChangesADatabase(t *testing.T) {
	target, run := postgresDatabase(t)
	d := open(t, environment.Host{}, target, environment.Settings{LockWait: 200e6})
	p, err := d.Plan(t.Context(), tank, nil)
	if err != nil {
		t.Fatal(err)
	}
	run("select pg_advisory_lock(478375798126)")
	if err := p.Apply(t.Context(), nil); fault.CodeOf(err) != fault.Refused ||
		!strings.Contains(err.Error(), "Another deployment is changing") {
		t.Errorf("beside another one: %v", err)
	}
	run("select pg_advisory_unlock(478375798126)")
	if err := p.Apply(t.Context(), nil); err != nil {
		t.Error("afterwards:", err)
	}
}

func TestWhatIsOutOfScopeIsLeftAlone(t *testing.T) {
	target, run := postgresDatabase(t)
	run("create table public.tmp_x (id int); create view public.tmp_v as select id from public.tmp_x; comment on table " +
		"public.tmp_x is 'note'")
	s := environment.Settings{Scope: scope.Scope{Skip: []string{"tmp_*"}, Ignore: []string{"comments"}}}
	d := open(t, environment.Host{}, target, s)
	p, err := d.Plan(t.Context(), tank, nil)
	if err != nil || len(p.Steps) != 1 {
		t.Fatalf("%v, %v", p, err)
	}
	if err := p.Apply(t.Context(), nil); err != nil {
		t.Fatal(err)
	}
	run("select id from public.tmp_v")
	c, err := d.Capture(t.Context(), nil)
	if err != nil || len(c.Files) != 2 {
		t.Errorf("captured %q, %v", c.Files, err)
	}
}

func TestLocksOfOthersAreNotWaitedForForEver(t *testing.T) {
	target, run := postgresDatabase(t)
	run("create table public.tank (id int primary key)")
	run("begin; lock table public.tank in access share mode")
	d := open(t, environment.Host{}, target, environment.Settings{LockWait: 200e6})
	p, err := d.Plan(t.Context(), tank, nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := p.Apply(t.Context(), nil); fault.CodeOf(err) != fault.Refused || !strings.Contains(err.Error(), "holds a lock") {
		t.Errorf("while somebody holds a lock: %v", err)
	}
	run("rollback")
	if err := p.Apply(t.Context(), nil); err != nil {
		t.Error("afterwards:", err)
	}
}

func TestAScratchDatabaseNeedsARight(t *testing.T) {
	target, run := postgresDatabase(t)
	role := fmt.Sprintf("oaken_test_%08x", rand.Uint32())
	run("create table public.old (id int)")
	run("create role " + role + " login")
	t.Cleanup(func() { run("drop owned by " + role + "; drop role " + role) })
	at := strings.Replace(target, "//postgres@", "//"+role+"@", 1)
	if at == target {
		t.Skip("the server's URL names no user")
	}
	d := open(t, environment.Host{}, at, environment.Settings{})
	if _, err := d.Plan(t.Context(), tank, nil); fault.CodeOf(err) != fault.Refused ||
		!strings.Contains(err.Error(), "no scratch database") {
		t.Errorf("without the right: %v", err)
	}
	d = open(t, environment.Host{}, at, environment.Settings{Scratch: target})
	if _, err := d.Plan(t.Context(), tank, nil); fault.CodeOf(err) != fault.Refused || !strings.Contains(err.Error(), "permission denied") {
		t.Errorf("without the right to count rows: %v", err)
	}
	run("grant select on public.old to " + role)
	if _, err := d.Plan(t.Context(), tank, nil); err != nil {
		t.Errorf("with another place for it: %v", err)
	}
}

// mariadbDatabase is postgresDatabase for MariaDB.
func mariadbDatabase(t *testing.T) (target string, run func(sql string)) {
	t.Helper()
	dsn := os.Getenv("OAKEN_MARIADB")
	if dsn == "" {
		dsn = "root@tcp(127.0.0.1:3306)/"
	}
	addr := strings.TrimSuffix(dsn[strings.IndexByte(dsn, '(')+1:], ")/")
	name := fmt.Sprintf("oaken_test_%08x", rand.Uint32())
	target = "mysql://root@" + addr + "/" + name
	own := mysql.NewConfig()
	own.User, own.Net, own.Addr = "root", "tcp", addr
	db, err := mariadb.Open(context.Background(), own)
	if err != nil {
		t.Skipf("no MariaDB at %s: set OAKEN_MARIADB (%v)", addr, err)
	}
	db.SetMaxOpenConns(1)
	run = func(sql string) {
		t.Helper()
		if _, err := db.Exec(sql); err != nil {
			t.Fatal(sql, err)
		}
	}
	run("create database " + name)
	run("use " + name)
	t.Cleanup(func() {
		run("drop database " + name)
		db.Close()
	})
	return target, run
}

func TestMariaDBKeepsWhatWasDone(t *testing.T) {
	target, run := mariadbDatabase(t)
	run("create table b (id int, n int); insert into b values (1, 1)")
	files := environment.Files{"tables/a.sql": []byte("create table a (id int primary key);\n"),
		"tables/b.sql": []byte("create table b (id int primary key, n int);\n")}
	d := open(t, environment.Host{}, target, environment.Settings{})
	p, err := d.Plan(t.Context(), files, nil)
	if err != nil || len(p.Steps) != 2 {
		t.Fatalf("%v, %v", p, err)
	}
	run("insert into b values (1, 2)") // after the rows were asked
	err = p.Apply(t.Context(), nil)
	if err == nil || !strings.Contains(err.Error(), "step 2 of 2") {
		t.Fatalf("a step that the rows do not allow: %v", err)
	}
	if _, err := d.Plan(t.Context(), files, nil); err == nil || !strings.Contains(err.Error(), "is to be unique") {
		t.Errorf("rows that a key does not allow: %v", err)
	}
	run("delete from b where n = 2")
	if p, err = d.Plan(t.Context(), files, nil); err != nil || len(p.Steps) != 1 {
		t.Fatalf("what is left: %v, %v", p, err)
	}
	if err = p.Apply(t.Context(), nil); err != nil {
		t.Error(err)
	}
}

// TestLongWorkComesAfterTheTransaction adds a foreign key and an index to a table with
// rows that do not allow the key: all else is kept, and the next deployment goes on.
func TestLongWorkComesAfterTheTransaction(t *testing.T) {
	target, run := postgresDatabase(t)
	run("create table public.kind (id int primary key); create table public.tank (id int primary key, kind int); insert into public.kind " +
		"values (1); insert into public.tank values (1, 1), (2, 7)")
	d := open(t, environment.Host{}, target, environment.Settings{Online: true})
	c, err := d.Capture(t.Context(), nil)
	if err != nil {
		t.Fatal(err)
	}
	files := environment.With(c.Files,
		environment.Files{"public/tables/tank.sql": []byte("create table public.tank (\n  id int primary key,\n" +
			"  kind int constraint tank_kind references public.kind (id),\n  depth int,\n  constraint deep check (id > 0)\n);\n\n" +
			"create index tank_by_kind on public.tank (kind);\n")})
	plan := func() (out []string, p *environment.Plan) {
		p, err := d.Plan(t.Context(), files, nil)
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range p.Steps {
			if s.After {
				out = append(out, s.What)
			}
		}
		return out, p
	}
	after, p := plan()
	if strings.Join(after, ", ") != "validate the constraint, validate the constraint, create the index" &&
		strings.Join(after, ", ") != "validate the constraint, create the index, validate the constraint" {
		for _, s := range p.Steps {
			t.Log(s.Address, s.What, s.Statements, s.After)
		}
		t.Errorf("planned afterwards: %v", after)
	}
	if err := p.Apply(t.Context(), nil); err == nil || !strings.Contains(err.Error(), "failed at its last part") ||
		!strings.Contains(err.Error(), "violates foreign key") {
		t.Fatalf("with rows in the way: %v", err)
	}
	run("insert into public.tank values (3, 1)") // the table is free, and the key holds for new rows
	run("delete from public.tank where kind = 7")
	if after, p = plan(); len(after) == 0 || len(after) != len(p.Steps) {
		t.Errorf("left to do: %v of %d", after, len(p.Steps))
	}
	if err := p.Apply(t.Context(), nil); err != nil {
		t.Fatal(err)
	}
	if after, p = plan(); len(p.Steps) != 0 {
		t.Errorf("left to do in the end: %v", after)
	}
}

// TestACutConnection ends the session in the middle of a deployment: the database is as
// it was, and the next deployment does all of it.
func TestACutConnection(t *testing.T) {
	target, run := postgresDatabase(t)
	run("create table public.old (id int)")
	cut := false
	d := open(t, environment.Host{}, target, environment.Settings{})
	files := environment.With(tank, environment.Files{"public/tables/more.sql": []byte("create table more (id int primary key);\n"),
		"public/tables/old.sql": []byte("create table public.old (id int, n int);\n")})
	p, err := d.Plan(t.Context(), files, nil)
	if err != nil || len(p.Steps) != 3 {
		t.Fatalf("%v, %v", p, err)
	}
	err = p.Apply(t.Context(), func(int) {
		if !cut {
			run("select pg_terminate_backend(pid) from pg_stat_activity where datname = current_database() and pid <> pg_backend_pid()")
		}
		cut = true
	})
	if fault.CodeOf(err) != fault.Unreachable || !strings.Contains(err.Error(), "was cut in the middle") {
		t.Fatalf("the connection is cut: %v", err)
	}
	again := open(t, environment.Host{}, target, environment.Settings{})
	p, err = again.Plan(t.Context(), files, nil)
	if err != nil || len(p.Steps) != 3 {
		t.Fatalf("afterwards: %v, %v", p, err)
	}
	if err := p.Apply(t.Context(), nil); err != nil {
		t.Error(err)
	}
}
