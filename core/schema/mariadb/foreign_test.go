package mariadb

import (
	"bytes"
	"context"
	"maps"
	"slices"
	"strings"
	"testing"

	"oakenchest/core/schema/schematest"
)

// client runs a text as the engine's own client does.
func client(t testing.TB, name, text string) error {
	t.Helper()
	cmd := own(t, "mariadb", name)
	cmd.Stdin = strings.NewReader(text)
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
		return schematest.SQLFile(p) && strings.Contains(p, "mysql") || strings.HasSuffix(p, "install/mysql") ||
			strings.HasSuffix(p, ".mysql") || strings.HasSuffix(p, "cacti.sql") || strings.HasSuffix(p, "create_tables.sql")
	})
	var judged, tables, grown, refused int
	for _, name := range slices.Sorted(maps.Keys(all)) {
		if low := strings.ToLower(all[name]); strings.Contains(low, "create database") || strings.Contains(low, "\nuse ") {
			continue // it would leave the test's own database
		}
		t.Run(name, func(t *testing.T) {
			first, db := database(t)
			if client(t, first, all[name]) != nil {
				refused++
				return // it is no schema by itself
			}
			live := reading(t, db)
			if len(live.Root.Children) == 0 {
				return
			}
			d, err := Parse(folder(live.Root))
			if err != nil {
				t.Fatal(err)
			}
			second, other := database(t)
			if _, err := deployDeclared(t, other, d); err != nil {
				t.Fatalf("into an empty database: %v", err)
			}
			want := dump(t, first)
			if got := dump(t, second); got != want {
				t.Errorf("the dumps differ: %s", schematest.FirstDifference(want, got))
			}
			judged++
			tables += strings.Count(want, "CREATE TABLE `")
			third, older := database(t)
			if part := half(all[name]); part == "" || client(t, third, part) != nil {
				return
			}
			if steps, err := deploy(t, older, live.Root); err != nil {
				t.Errorf("over its first half: %v\n%s", err, statementsOf(steps))
			} else if got := dump(t, third); got != want {
				t.Errorf("over its first half the dumps differ: %s", schematest.FirstDifference(want, got))
			}
			grown++
		})
	}
	t.Logf("%d schemas with %d tables into empty databases, %d over their first half; %d texts are no schema by themselves", judged, tables,
		grown, refused)
}

// deployDeclared goes the whole way: declared files, a scratch database, a plan.
func deployDeclared(t *testing.T, q Querier, d *Declared) ([]Step, error) {
	t.Helper()
	_, scratch := database(t)
	loaded, err := Load(context.Background(), scratch, d)
	if err != nil {
		return nil, err
	}
	return deploy(t, q, loaded.Root)
}
