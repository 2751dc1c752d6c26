package postgres

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/url"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"oakenchest/core/element"
	"oakenchest/core/schema/declared"
	"oakenchest/core/schema/schematest"
	"oakenchest/core/schema/scope"
)

// server gives the URL of a server that tests may make databases on.
func server(t testing.TB) string {
	t.Helper()
	at := os.Getenv("OAKEN_POSTGRES")
	if at == "" {
		at = "postgres://postgres@127.0.0.1:5432/postgres"
	}
	conn, err := pgx.Connect(context.Background(), at)
	if err != nil {
		t.Skipf("no PostgreSQL at %s: set OAKEN_POSTGRES to the URL of one where databases may be made (%v)", at, err)
	}
	conn.Close(context.Background())
	return at
}

// database makes an empty database, and gives its URL and a connection.
func database(t testing.TB) (string, *pgx.Conn) {
	t.Helper()
	at, err := url.Parse(server(t))
	if err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	admin, err := pgx.Connect(ctx, at.String())
	if err != nil {
		t.Fatal(err)
	}
	name := fmt.Sprintf("oaken_test_%08x", rand.Uint32())
	if _, err := admin.Exec(ctx, "create database "+name+" template template0"); err != nil {
		t.Fatal(err)
	}
	at.Path = "/" + name
	conn, err := pgx.Connect(ctx, at.String())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		conn.Close(ctx)
		if _, err := admin.Exec(ctx, "drop database "+name+" with (force)"); err != nil {
			t.Error(err)
		}
		admin.Close(ctx)
	})
	return at.String(), conn
}

func run(t testing.TB, conn *pgx.Conn, sql string) {
	t.Helper()
	if _, err := conn.Exec(context.Background(), sql, pgx.QueryExecModeSimpleProtocol); err != nil {
		var pg *pgconn.PgError
		if errors.As(err, &pg) && pg.Position > 0 && len(sql) > int(pg.Position) {
			sql = sql[max(0, int(pg.Position)-200):int(pg.Position)]
		}
		t.Fatalf("%v\n%s", EngineError(err), sql[:min(len(sql), 2000)])
	}
}

func reading(t testing.TB, conn *pgx.Conn) *Catalog {
	t.Helper()
	c, err := Read(context.Background(), conn)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// folder writes a tree as files.
func folder(root *element.Element) declared.Files { return Update(nil, &Declared{}, root) }

// different says how two trees differ.
func different(a, b *element.Element) string {
	d := element.Compare(a, b)
	if d == nil {
		return ""
	}
	var out strings.Builder
	for i, c := range d.Changes("db") {
		if i == 30 {
			out.WriteString("...\n")
			break
		}
		fmt.Fprintf(&out, "%s %s: %s → %s\n", c.Address, c.Kind, c.From, c.To)
	}
	return out.String()
}

// dump is the engine's own account of a database.
func dump(t testing.TB, at string) string {
	t.Helper()
	cmd := exec.Command("pg_dump", "--schema-only", "--no-owner", "--no-privileges", at)
	var out, bad bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &bad
	if err := cmd.Run(); err != nil {
		t.Fatalf("pg_dump: %v\n%s", err, bad.String())
	}
	var kept strings.Builder
	for line := range strings.SplitSeq(out.String(), "\n") {
		if !strings.HasPrefix(line, `\restrict`) && !strings.HasPrefix(line, `\unrestrict`) {
			kept.WriteString(line + "\n")
		}
	}
	return kept.String()
}

func TestEverythingIsCapturedAndDeclared(t *testing.T) {
	at, conn := database(t)
	sql, err := os.ReadFile("testdata/everything.sql")
	if err != nil {
		t.Fatal(err)
	}
	run(t, conn, string(sql))
	live := reading(t, conn)
	live.Root = scope.Scope{Track: []string{"replication"}}.Apply(live.Root)
	files := folder(live.Root)
	if again := folder(scope.Scope{Track: []string{"replication"}}.Apply(reading(t, conn).Root)); !maps.EqualFunc(files, again,
		bytes.Equal) {
		t.Error("two captures of one database differ")
	}
	d, err := Parse(files)
	if err != nil {
		t.Fatal(err)
	}
	if diff := different(live.Root, d.Root); diff != "" {
		t.Errorf("what the files say is not what was captured:\n%s", diff)
	}
	second, other := database(t)
	loaded, err := Load(context.Background(), other, d)
	if err != nil {
		t.Fatal(err)
	}
	if diff := different(live.Root, scope.Scope{Track: []string{"replication"}}.Apply(loaded.Root)); diff != "" {
		t.Errorf("loading the files makes something else:\n%s", diff)
	}
	if a, b := withoutOrder(dump(t, at)), withoutOrder(dump(t, second)); a != b {
		t.Errorf("the engine's own dumps differ:\n%s", schematest.FirstDifference(a, b))
	}
}
