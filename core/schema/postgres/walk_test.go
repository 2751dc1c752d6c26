package postgres

import (
	"context"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"oakenchest/core/element"
	"oakenchest/core/schema/schematest"
)

// generator writes random statements for PostgreSQL.
func generator(r *rand.Rand) *schematest.Generator {
	return &schematest.Generator{R: r, Quote: func(s string) string { return pgx.Identifier{s}.Sanitize() },
		Retype: "alter table %s alter column %s type %s using null", DropIndex: "drop index %[1]s",
		Comment: "comment on table %s is 'comment %d'",
		Types: []string{"int", "bigint", "text", "varchar(20)", "numeric(10,2)", "timestamptz", "date", "boolean", "jsonb", "text[]",
			"uuid", "double precision", "bytea", "interval", "inet", "bit(4)", "char(3)", "int4range"}}
}

// TestWanderingDatabases lets one database wander by random edits that people make, and
// brings another along by computed deployments, now and then over several edits at
// once, or back to an earlier state. After each deployment both catalogs must agree;
// Apply sees to it. OAKEN_WALK says how many deployments; the seed is told.
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
	defer func() { online = false }()
	name, admin := base(t)
	_, hand, dropHand := copyOf(t, admin, name)
	defer dropHand()
	_, conn, dropConn := copyOf(t, admin, name)
	defer dropConn()
	past := []*Catalog{reading(t, hand)}
	steps, made, deployments, refused := 0, 0, 0, 0
	var trail []string
	for deployments < most {
		for range 1 + r.IntN(4) {
			sql := edits[r.IntN(len(edits))]
			if r.IntN(3) == 0 {
				sql = "set local search_path = care; " + g.Edit(reading(t, hand).Root)
			}
			if strings.Contains(sql, "detach") || strings.Contains(sql, "no inherit") {
				continue // together with other changes of the same tables it may be refused
			}
			if _, err := hand.Exec(context.Background(), "begin;"+sql+";commit", pgx.QueryExecModeSimpleProtocol); err != nil {
				run(t, hand, "rollback") // it does not fit any more
				continue
			}
			made++
			trail = append(trail, sql)
		}
		want := reading(t, hand)
		past = append(past, want)
		if r.IntN(5) == 0 {
			want = past[r.IntN(len(past))]
		}
		online = r.IntN(2) == 0
		s, err := deploy(t, conn, want)
		if _, family := err.(*FamilyError); family {
			refused++
			continue
		}
		if err != nil {
			t.Fatalf("seed %d: %v\n%s\nafter %q", seed, err, statementsOf(s), trail[max(0, len(trail)-12):])
		}
		if d := element.Compare(all.Apply(reading(t, conn).Root), all.Apply(want.Root)); d != nil {
			t.Fatalf("seed %d: %v", seed, d.Changes("db"))
		}
		steps += len(s)
		deployments++
		if r.IntN(10) == 0 { // back home, for the edits to fit again
			if _, err := deploy(t, hand, past[0]); err != nil {
				if _, family := err.(*FamilyError); !family {
					t.Fatalf("seed %d, home: %v\nafter %q", seed, err, trail[max(0, len(trail)-12):])
				}
			}
			trail = append(trail, "home")
		}
	}
	t.Logf("seed %d: %d edits, %d deployments of %d steps, %d refused", seed, made, deployments, steps, refused)
}
