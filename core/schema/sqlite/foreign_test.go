package sqlite

import (
	"context"
	"database/sql"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"oakenchest/core/schema/schematest"
)

func fresh(t *testing.T) *sql.DB {
	t.Helper()
	db, err := Open(filepath.Join(t.TempDir(), "x.db"), true)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db
}

// facts is what the engine itself knows of a schema: its pragmas on every table, and the
// text of triggers and views without what makes no difference.
func facts(t *testing.T, db *sql.DB) string {
	t.Helper()
	var out []string
	add := func(query string, args ...any) {
		rows, err := db.QueryContext(t.Context(), query, args...)
		if err != nil {
			t.Fatal(query, err)
		}
		defer rows.Close()
		names, _ := rows.Columns()
		for rows.Next() {
			values, at := make([]any, len(names)), make([]any, len(names))
			for i := range values {
				at[i] = &values[i]
			}
			if err := rows.Scan(at...); err != nil {
				t.Fatal(err)
			}
			out = append(out, strings.ToLower(strings.Join(strings.Fields(fmt.Sprint(append([]any{query[14:28], args}, values...))), " ")))
		}
	}
	list, err := db.QueryContext(t.Context(), "select name from sqlite_master where type = 'table' and name not like 'sqlite_%'")
	if err != nil {
		t.Fatal(err)
	}
	var tables []string
	for list.Next() {
		var name string
		if err := list.Scan(&name); err != nil {
			t.Fatal(err)
		}
		tables = append(tables, name)
	}
	list.Close()
	for _, name := range tables {
		add("select * from pragma_table_list(?) where schema = 'main'", name)
		add("select name, type, \"notnull\", replace(dflt_value, ' ', ''), pk, hidden from pragma_table_xinfo(?)", name)
		add("select \"table\", \"from\", \"to\", on_update, on_delete, match from pragma_foreign_key_list(?)", name)
		add("select l.\"unique\", l.origin, l.partial, group_concat(coalesce(x.name, '-') || x.\"desc\" || x.coll || x.key) from "+
			"pragma_index_list(?) l, pragma_index_xinfo(l.name) x group by l.name", name)
	}
	add("select type, name, replace(replace(replace(replace(sql, ' ', ''), char(10), ''), char(9), ''), '\"', '') from sqlite_master " +
		"where type in ('view', 'trigger')")
	slices.Sort(out)
	return strings.Join(out, "\n")
}

// TestOtherPeoplesSchemas takes schemas that other people wrote and that the engine takes.
// Each is captured and deployed into an empty database, and over its own first half; what
// the engine then knows must be the same.
func TestOtherPeoplesSchemas(t *testing.T) {
	all := schematest.Corpus(t, func(p string) bool { return schematest.SQLFile(p) || strings.Contains(p, "sqlite") })
	var judged, tables, grown, refused int
	for _, name := range slices.Sorted(maps.Keys(all)) {
		t.Run(name, func(t *testing.T) {
			theirs := fresh(t)
			if _, err := theirs.ExecContext(context.Background(), all[name]); err != nil {
				refused++
				return // it is none for this engine
			}
			live, err := Read(t.Context(), theirs)
			if err != nil {
				t.Fatal(err)
			}
			if len(live.Children) == 0 {
				return
			}
			d, err := Load(t.Context(), Anew(nil, live))
			if err != nil {
				t.Fatal(err)
			}
			want := facts(t, theirs)
			over := func(how string, db *sql.DB) {
				now, err := Read(t.Context(), db)
				if err != nil {
					t.Fatal(err)
				}
				steps, err := Plan(t.Context(), db, now, d)
				if err == nil {
					err = Apply(t.Context(), db, d.Root, steps, ApplyOptions{})
				}
				if err != nil {
					t.Errorf("%s: %v", how, err)
				} else if got := facts(t, db); got != want {
					t.Errorf("%s, the engine knows otherwise: %s", how, schematest.FirstDifference(want, got))
				}
			}
			over("into an empty database", fresh(t))
			judged++
			tables += len(kidsOf(live, "table"))
			list, err := statements(all[name])
			older := fresh(t)
			if err != nil || len(list) < 4 {
				return
			}
			if _, err := older.ExecContext(context.Background(), all[name][:list[len(list)/2].to]); err != nil {
				return
			}
			over("over its first half", older)
			grown++
		})
	}
	t.Logf("%d schemas with %d tables into empty databases, %d over their first half; %d texts are none for this engine", judged, tables,
		grown, refused)
}
