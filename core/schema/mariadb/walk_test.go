package mariadb

import (
	"context"
	"math/rand/v2"
	"os"
	"strconv"
	"testing"

	"oakenchest/core/element"
	"oakenchest/core/schema/schematest"
	"oakenchest/core/schema/scope"
)

// generator writes random statements for MariaDB.
func generator(r *rand.Rand) *schematest.Generator {
	return &schematest.Generator{R: r, Quote: func(s string) string { return "`" + s + "`" }, Retype: "alter table %s modify %s %s",
		DropIndex: "drop index %s on %s", Comment: "alter table %s comment = 'comment %d'",
		Types: []string{"int", "int not null", "bigint", "bigint not null default 7", "varchar(20)", "varchar(40) not null default 'it''s'",
			"text", "decimal(10,2)", "decimal(6,3) unsigned", "datetime",
			"timestamp not null default current_timestamp on update current_timestamp",
			"date comment 'a day'", "enum('a','b')", "json", "double", "tinyint(1) not null default 0", "varbinary(16)",
			"char(3) character set ascii", "int invisible default 3", "blob", "year", "set('x','y') default 'x'", "bit(4)"}}
}

// TestWanderingDatabases lets a database wander by random statements, and brings another
// along by computed deployments, now and then back to an earlier state. OAKEN_WALK says
// how many deployments; the seed is told.
func TestWanderingDatabases(t *testing.T) {
	most, seed := 25, rand.Uint64()
	if n, err := strconv.Atoi(os.Getenv("OAKEN_WALK")); err == nil {
		most = n
	}
	if n, err := strconv.ParseUint(os.Getenv("OAKEN_SEED"), 10, 64); err == nil {
		seed = n
	}
	r := rand.New(rand.NewPCG(seed, 1))
	g := generator(r)
	_, hand := database(t)
	_, db := database(t)
	steps, made := 0, 0
	past := []*element.Element{reading(t, hand).Root}
	var trail []string
	for range most {
		for range 1 + r.IntN(4) {
			run(t, hand, "set foreign_key_checks = 1")
			sql := g.Edit(reading(t, hand).Root)
			if _, err := hand.ExecContext(context.Background(), sql); err == nil {
				made++
				trail = append(trail, sql)
			}
		}
		dropBroken(t, hand)
		want := reading(t, hand).Root
		past = append(past, want)
		if r.IntN(5) == 0 {
			want = past[r.IntN(len(past))]
		}
		s, err := deploy(t, db, want)
		if err != nil {
			t.Fatalf("seed %d: %v\n%s\nafter %q", seed, err, statementsOf(s), trail[max(0, len(trail)-12):])
		}
		if d := element.Compare(scope.Scope{}.Apply(reading(t, db).Root), scope.Scope{}.Apply(want)); d != nil {
			t.Fatalf("seed %d: %v", seed, d.Changes("db"))
		}
		steps += len(s)
		if len(past) > 40 {
			if s, err := deploy(t, hand, past[0]); err != nil {
				t.Fatalf("seed %d, home: %v\n%s", seed, err, statementsOf(s))
			}
			past, trail = past[:1], append(trail, "home")
		}
	}
	t.Logf("seed %d: %d edits, %d deployments of %d steps", seed, made, most, steps)
}

// dropBroken drops views whose tables or columns are gone, which nobody could make anew.
func dropBroken(t *testing.T, q Querier) {
	t.Helper()
	for again := true; again; {
		again = false
		for _, v := range kids(reading(t, q).Root, "view") {
			rows, err := q.QueryContext(context.Background(), "select * from "+ident(v.Key)+" limit 0")
			if err == nil {
				rows.Close()
				continue
			}
			run(t, q, "drop view "+ident(v.Key))
			again = true
		}
	}
}
