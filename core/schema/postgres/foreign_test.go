package postgres

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"strings"
	"testing"

	"oakenchest/core/schema/schematest"
	"oakenchest/core/schema/scope"
)

// every is the scope of these tests: what the engine's dump shows.
var every = scope.Scope{Track: []string{"replication"}}

// psql runs a text as the engine's own client does.
func psql(at, text string) error {
	cmd := exec.Command("psql", "-q", "-X", "-v", "ON_ERROR_STOP=1", "-d", at)
	cmd.Stdin = strings.NewReader(text)
	cmd.Env = append(os.Environ(), "PGOPTIONS=-c client_min_messages=error")
	out, err := cmd.CombinedOutput()
	if err != nil {
		return &engineError{string(bytes.TrimSpace(out)), err}
	}
	return nil
}

// half gives the first statements of a text, as an older version would have them.
func half(text string) string {
	list, err := Dialect.Statements(text)
	if err != nil || len(list) < 4 {
		return ""
	}
	return text[:list[len(list)/2].To] + "\n"
}

// TestOtherPeoplesSchemas takes schemas that other people wrote. Each is captured and
// deployed into an empty database, and over its own first half; the engine's own dumps
// must be the same.
func TestOtherPeoplesSchemas(t *testing.T) {
	all := schematest.Corpus(t, func(p string) bool {
		if strings.HasSuffix(p, "install/pgsql") || strings.HasSuffix(p, "/pg.sql") || strings.HasSuffix(p, "/pg.new.sql") ||
			strings.HasSuffix(p, ".pgsql") {
			return true
		}
		return schematest.SQLFile(p) && (strings.Contains(p, "pgsql") || strings.Contains(p, "postgres") || strings.Contains(p, "davical"))
	})
	var judged, tables, grown, refused int
	for _, name := range ids(all) {
		t.Run(name, func(t *testing.T) {
			at, conn := database(t)
			if err := psql(at, all[name]); err != nil {
				refused++
				return // it is no schema by itself
			}
			live := reading(t, conn)
			live.Root = every.Apply(live.Root)
			if Empty(live.Root) {
				return
			}
			d, err := Parse(folder(live.Root))
			if err != nil {
				t.Fatal(err)
			}
			second, other := database(t)
			if err := Apply(context.Background(), other, nil, Build(d, reading(t, other).Root), ApplyOptions{}); err != nil {
				t.Fatalf("into an empty database: %v", err)
			}
			want := dump(t, at)
			if got := dump(t, second); got != want {
				t.Errorf("the dumps differ: %s", schematest.FirstDifference(want, got))
			}
			judged++
			tables += strings.Count(want, "CREATE TABLE")
			part := half(all[name])
			third, older := database(t)
			if part == "" || psql(third, part) != nil {
				return
			}
			if steps, err := deploy(t, older, &Catalog{Root: live.Root, Columns: live.Columns}); err != nil {
				t.Errorf("over its first half: %v\n%s", err, statementsOf(steps))
			} else if got := withoutOrder(dump(t, third)); got != withoutOrder(want) {
				t.Errorf("over its first half the dumps differ: %s", schematest.FirstDifference(withoutOrder(want), got))
			}
			grown++
		})
	}
	t.Logf("%d schemas with %d tables into empty databases, %d over their first half; %d texts are no schema by themselves", judged, tables,
		grown, refused)
}

// TestVersionsOfExtensions takes the versions of the extensions that come with the
// engine, set free so that their objects are like anybody's, and deploys the newest
// over each older one.
func TestVersionsOfExtensions(t *testing.T) {
	if os.Getenv("OAKEN_JUDGE") != "all" {
		t.Skip("set OAKEN_JUDGE=all: it takes minutes")
	}
	_, admin := database(t)
	rows, err := admin.Query(context.Background(),
		"select name, array_agg(version order by version) from pg_available_extension_versions where name not like '%plperl%' and name "+
			"not like '%plpython%' group by name having count(*) > 1 order by name")
	if err != nil {
		t.Fatal(err)
	}
	versions := map[string][]string{}
	for rows.Next() {
		var name string
		var list []string
		if err := rows.Scan(&name, &list); err != nil {
			t.Fatal(err)
		}
		versions[name] = list
	}
	steps, pairs := 0, 0
	for _, name := range ids(versions) {
		t.Run(name, func(t *testing.T) {
			newest := versions[name][len(versions[name])-1]
			to, wantConn := database(t)
			if free(t, to, name, newest) != nil {
				return
			}
			want := reading(t, wantConn)
			for _, v := range versions[name][:len(versions[name])-1] {
				from, conn := database(t)
				if free(t, from, name, v) != nil {
					continue
				}
				pairs++
				s, err := deploy(t, conn, want)
				if err != nil {
					t.Errorf("%s %s → %s: %v\n%s", name, v, newest, err, statementsOf(s))
					continue
				}
				steps += len(s)
				if a, b := withoutOrder(dump(t, to)), withoutOrder(dump(t, from)); a != b {
					t.Errorf("%s %s → %s: the dumps differ: %s", name, v, newest, schematest.FirstDifference(a, b))
				}
			}
		})
	}
	t.Logf("%d pairs of versions, %d steps", pairs, steps)
}

// free makes an extension's objects and lets go of the extension.
func free(t *testing.T, at, name, version string) error {
	t.Helper()
	return psql(at, "create schema if not exists public; create extension "+ident(name)+" version "+literal(version)+`;
		do $$ declare d record; n int; begin loop n := 0;
			for d in select i.type, i.identity from pg_depend x, pg_identify_object(x.classid, x.objid, x.objsubid) i where x.deptype = 'e' and x.refobjid = (select oid from pg_extension where extname = `+literal(name)+`) loop
				begin execute format('alter extension `+ident(name)+
		` drop %s %s', d.type, d.identity); n := n + 1; exception when others then null; end;
			end loop; exit when n = 0; end loop; end $$; drop extension `+ident(name))
}
