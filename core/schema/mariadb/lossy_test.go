package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"oakenchest/core/schema/scope"
)

// valuesOf are rows for each type: the least, the greatest, and what lies at an edge.
var valuesOf = map[string]string{
	"tinyint":                   "-128|-1|0|1|99|100|127|null",
	"tinyint unsigned":          "0|1|127|128|255",
	"smallint":                  "-32768|0|12|255|256|32767",
	"int":                       "-2147483648|0|7|127|128|32767|32768|2147483647",
	"int unsigned":              "0|127|2147483647|2147483648|4294967295",
	"bigint":                    "-9223372036854775808|0|2147483648|9007199254740993|9223372036854775807",
	"bigint unsigned":           "0|18446744073709551615",
	"decimal(10,4)":             "0|1.2345|1.2300|-1.5|2.5|999999.9999|123.9999",
	"decimal(10,2)":             "0|1.25|-0.01|99999999.99|12.00",
	"decimal(4,2)":              "0|1.25|99.99|-99.99",
	"decimal(20,0)":             "0|12345678901234567890|99",
	"double":                    "0|0.1|1.5|2|1.23456789012|1e300|-7|9007199254740993|127.4|127.5",
	"float":                     "0|0.1|1.5|16777216|-2.25|3e38",
	"varchar(20)":               "''|'a'|'12'|' 12'|'012'|'1.5'|'a long value here'|'a '|'reef'|'Reef'|'2026-01-02'|'äöü€'|'128'|null",
	"varchar(5)":                "''|'a'|'reef '|'12345'|'äöü€x'",
	"char(10)":                  "''|'a'|'reef'|'1234567890'",
	"text":                      "''|'a'|'a long value here'|repeat('x', 300)|repeat('ä', 200)",
	"tinytext":                  "''|'a'|repeat('x', 255)",
	"mediumtext":                "''|'a'|repeat('x', 70000)",
	"varbinary(10)":             "''|'a'|x'00ff'|'1234567890'",
	"binary(4)":                 "'abcd'|x'00000000'|'a'",
	"blob":                      "''|'a'|x'00ff80'|repeat('x', 300)",
	"date":                      "'2026-01-02'|'1969-12-31'|'2039-01-01'|null",
	"datetime":                  "'2026-01-02 03:04:05'|'2026-01-02 00:00:00'|'1960-01-01 00:00:00'|'2050-06-06 12:00:00'",
	"datetime(3)":               "'2026-01-02 03:04:05.678'|'2026-01-02 03:04:05'|'2026-01-02 00:00:00'|'2026-01-02 23:59:59.999'",
	"datetime(6)":               "'2026-01-02 03:04:05.678901'|'2026-01-02 03:04:05.678'|'2026-01-02 03:04:05'",
	"timestamp":                 "'2026-01-02 03:04:05'|'1971-01-01 00:00:00'",
	"time":                      "'03:04:05'|'-12:00:00'|'800:00:00'|'00:00:00'",
	"time(3)":                   "'03:04:05.678'|'03:04:05'",
	"year":                      "2026|1901|2155",
	"enum('reef','kelp','bay')": "'reef'|'kelp'|'bay'",
	"enum('reef','kelp')":       "'reef'|'kelp'",
	"enum('kelp','reef','bay')": "'reef'|'bay'",
	"enum('Reef','kelp')":       "'Reef'|'kelp'",
	"set('a','b','c')":          "''|'a'|'a,c'|'a,b,c'",
	"set('a','b')":              "''|'a'|'a,b'",
	"set('b','a','c')":          "'a,b'|'c'",
	"bit(8)":                    "b'0'|b'1'|b'11111111'",
	"bit(1)":                    "b'0'|b'1'",
	"uuid":                      "'123e4567-e89b-12d3-a456-426655440000'",
	"inet6":                     "'::1'|'2001:db8::1'",
	"varchar(20) character set latin1 collate latin1_swedish_ci": "'a'|'äöü'|'reef'",
}

// TestEveryChangeOfTypeIsForetold changes each type into each other one with rows in the table:
// what comes through, what becomes another value and what the engine does not take is said
// beforehand, and the engine agrees. OAKEN_TYPES=all tries all pairs, else some by chance.
func TestEveryChangeOfTypeIsForetold(t *testing.T) {
	_, pool := database(t)
	ctx := context.Background()
	q, err := pool.Conn(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer q.Close()
	counts := map[string]int{}
	all := slices.Sorted(maps.Keys(valuesOf))
	for _, from := range all {
		for _, to := range all {
			if from != to && (os.Getenv("OAKEN_TYPES") == "all" || rand.IntN(12) == 0) {
				tryPair(t, q, from, to, valuesOf[from], counts)
			}
		}
	}
	t.Logf("pairs of types: %v", counts)
}

// tryPair changes one type into another.
func tryPair(t *testing.T, q *sql.Conn, from, to, values string, counts map[string]int) {
	t.Helper()
	ctx := context.Background()
	for _, text := range []string{session, "drop table if exists t", "create table t (id int primary key auto_increment, v " + to +
		") charset utf8mb4"} {
		run(t, q, text)
	}
	want := reading(t, q).Root
	run(t, q, "drop table t")
	run(t, q, "create table t (id int primary key auto_increment, v "+from+") charset utf8mb4")
	for v := range strings.SplitSeq(values, "|") {
		run(t, q, "insert into t (v) values ("+v+")")
	}
	steps, err := Plan(ctx, q, reading(t, q).Root, Wanted{Root: want})
	run(t, q, "create temporary table was as select * from t")
	defer run(t, q, "drop temporary table was")
	var rows *RowsError
	if errors.As(err, &rows) {
		counts["not taken"]++
		if _, err := q.ExecContext(ctx, "alter table t modify column v "+to); err == nil {
			counts["needlessly refused"]++
			t.Logf("%s → %s is refused, and the engine takes it: %v", from, to, rows)
		}
		return
	}
	if err != nil {
		t.Errorf("%s → %s: %v", from, to, err)
		return
	}
	loses := false
	for _, s := range steps {
		loses = loses || s.Effect == Loses
	}
	if err := Apply(ctx, q, want, steps, 5, scope.Scope{}, nil); err != nil {
		t.Errorf("%s → %s: %v", from, to, err)
		return
	}
	lost := changedRows(t, q, from)
	switch {
	case lost > 0 && !loses:
		t.Errorf("%s → %s loses %d values, and the plan says nothing", from, to, lost)
	case lost == 0 && loses:
		counts["needlessly told"]++
		t.Logf("%s → %s loses nothing, and the plan says: %s", from, to, steps[0].Loss)
	case loses:
		counts["loses"]++
	default:
		counts["comes through"]++
	}
}

// changedRows counts the values that don't come back as they were.
func changedRows(t *testing.T, q *sql.Conn, from string) (n int) {
	t.Helper()
	ctx := context.Background()
	run(t, q, "set sql_mode = ''")
	defer run(t, q, session)
	run(t, q, "create or replace temporary table other as select * from t")
	if _, err := q.ExecContext(ctx, "alter table t modify column v "+from); err != nil {
		return -1
	}
	err := q.QueryRowContext(ctx, "select count(*) from t join was using (id) join other using (id) where not (cast(t.v as binary) <=> "+
		"cast(was.v as binary)) and not (cast(other.v as char) <=> cast(was.v as char))").Scan(&n)
	if err != nil {
		t.Fatal(fmt.Errorf("%s: %w", from, err))
	}
	return n
}

// TestWhatRowsDoNotAllowIsForetold has rows that a new key, check or foreign key does not allow:
// it is said before any step, as the engine would say it.
func TestWhatRowsDoNotAllowIsForetold(t *testing.T) {
	_, pool := database(t)
	ctx := context.Background()
	q, err := pool.Conn(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer q.Close()
	const before = "create table kind (id int primary key, code varchar(20)); create table tank (id int, name varchar(20), kind int, " +
		"litres int); insert into kind values (1, 'reef'), (2, 'kelp'); insert into tank values (1, 'A long name', 1, 10), (2, 'A long " +
		"shot', 3, 5), (2, 'a', null, null)"
	for _, c := range []struct{ part, refused string }{
		{"primary key (id)", "column id: the key primary is to be unique"},
		{"unique key k (name)", ""},
		{"unique key k (name(6))", "column name: the key k is to be unique"},
		{"unique key k (id, kind)", ""},
		{"unique key k (litres, kind)", ""},
		{"constraint c check (litres > 6)", "the check does not hold in 1 row"},
		{"constraint c check (litres > 4)", ""},
		{"constraint f foreign key (kind) references kind (id)", "leads nowhere in 1 row"},
	} {
		for _, text := range []string{session, "drop table if exists tank", "drop table if exists kind"} {
			run(t, q, text)
		}
		for text := range strings.SplitSeq(before, "; ") {
			run(t, q, text)
		}
		live := reading(t, q).Root
		_, other := database(t)
		for text := range strings.SplitSeq(before, "; ") {
			if strings.HasPrefix(text, "create table tank") {
				text = strings.TrimSuffix(text, ")") + ", " + c.part + ")"
			}
			if strings.HasPrefix(text, "create") {
				run(t, other, text)
			}
		}
		_, err := Plan(ctx, q, live, Wanted{Root: reading(t, other).Root})
		var rows *RowsError
		switch _, failed := q.ExecContext(ctx, "set foreign_key_checks = 1"); {
		case failed != nil:
			t.Fatal(failed)
		case c.refused == "" && err != nil:
			t.Errorf("%s: %v", c.part, err)
		case c.refused != "" && (!errors.As(err, &rows) || !strings.Contains(err.Error(), c.refused)):
			t.Errorf("%s: %v", c.part, err)
		}
		if _, failed := q.ExecContext(ctx, "alter table tank add "+c.part); (failed != nil) != (c.refused != "") {
			t.Errorf("%s: the engine says %v", c.part, failed)
		}
	}
}
