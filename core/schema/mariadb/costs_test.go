package mariadb

import (
	"context"
	"database/sql"
	"slices"

	"strings"
	"testing"

	"oakenchest/core/element"
)

// measured carries out an ALTER TABLE in the cheapest way that the engine takes, and says which
// that is: it answers for each whether it can do so ("ALGORITHM").
func measured(ctx context.Context, conn *sql.Conn, statement string) (Effect, error) {
	for _, try := range []struct {
		how    string
		effect Effect
	}{{"instant", Instant}, {"nocopy", Scans}} {
		if _, err := conn.ExecContext(ctx, statement+", algorithm="+try.how); err == nil {
			return try.effect, nil
		}
	}
	_, err := conn.ExecContext(ctx, statement)
	return Rewrites, err
}

// onlyDrops says that a statement takes away what stands beside the rows: the engine reads none of
// them, though it does not call that instant.
func onlyDrops(statement string) bool {
	_, parts, _ := strings.Cut(statement, "\n")
	for _, part := range strings.Split(parts, ",\n") {
		if part = strings.TrimSpace(part); !strings.HasPrefix(part, "drop index ") && !strings.HasPrefix(part, "drop constraint ") {
			return false
		}
	}
	return true
}

// costs holds what a plan says of each statement against what the engine does.
func costs(t *testing.T, db *sql.DB, steps []Step, name string) (checked int) {
	ctx := context.Background()
	conn, err := db.Conn(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if _, err := conn.ExecContext(ctx, session+", foreign_key_checks = 1"); err != nil {
		t.Fatal(err)
	}
	fresh := map[string]bool{} // tables without rows
	for _, s := range steps {
		alters := 0
		fresh[s.Address.Steps[0].Key] = fresh[s.Address.Steps[0].Key] || s.What == "create the table"
		for _, text := range s.Statements {
			if strings.HasPrefix(text, "alter table ") {
				alters++
			}
		}
		for _, text := range s.Statements {
			if alters != 1 || !strings.HasPrefix(text, "alter table ") || strings.Contains(text, "partition") ||
				strings.Contains(text, "engine=") || s.Effect == Loses || fresh[s.Address.Steps[0].Key] {
				if err := makePiece(ctx, conn, piece{e: &element.Element{}, sql: text, mode: s.Mode, session: s.Session,
					strict: true}); err != nil {
					t.Fatalf("%s: %s: %v", name, text, err)
				}
				continue
			}
			is, err := measured(ctx, conn, text)
			if err != nil {
				t.Fatalf("%s: %s: %v", name, text, err)
			}
			if checked++; is == Scans && onlyDrops(text) {
				is = Instant
			}
			if is != s.Effect {
				t.Errorf("%s: the plan says %s, the engine %s\n%s", name, s.Effect, is, text)
			}
		}
	}
	return checked
}

var more = []string{
	"alter table keeper modify name varchar(255) not null",
	"alter table keeper add column a int, add column b varchar(20) default 'x' first",
	"alter table keeper add column a varchar(20) default 'x'; alter table keeper modify a varchar(63) default 'y' comment 'longer'",
	"alter table keeper add column a varchar(60); alter table keeper modify a varchar(64)",
	"alter table keeper add column a varchar(70); alter table keeper modify a varchar(700)",
	"alter table keeper add column a int; alter table keeper modify a int not null default 0",
	"alter table keeper add column a int not null default 5; alter table keeper modify a int default 5",
	"alter table keeper add column a int; alter table keeper modify a bigint",
	"alter table keeper add column a int; alter table keeper modify a int default 3",
	"alter table keeper add column a int; alter table keeper change a b int",
	"alter table keeper add column a decimal(8,2); alter table keeper modify a decimal(10,2)",
	"alter table keeper add column a enum('x','z'); alter table keeper modify a enum('x','y','z')",
	"alter table keeper add column a set('x','y'); alter table keeper modify a set('x','y','z')",
	"alter table keeper add column a int generated always as (1 + 1) virtual",
	"alter table keeper add column a varchar(20) character set latin1; alter table keeper modify a varchar(30) character set latin1",
	"alter table keeper add column a varchar(20) character set latin1; alter table keeper modify a varchar(20) character set utf8mb4",
	"alter table keeper add column a datetime; alter table keeper modify a datetime(3)",
	"alter table keeper add column a char(10); alter table keeper modify a char(20)",
	"alter table keeper add column a varbinary(10); alter table keeper modify a varbinary(20)",
	"alter table keeper add column a text; alter table keeper modify a longtext",
	"alter table keeper add column a text; alter table keeper add fulltext key words (a)",
	"alter table keeper add column a varchar(20); alter table keeper modify a varchar(20) collate utf8mb4_bin",
	"create table named (name varchar(20) primary key); alter table named modify name varchar(20) collate utf8mb4_bin",
	"create table lone (id int, v varchar(9)); alter table lone add primary key (id)",
	"create table counted (id int not null, key (id)); alter table counted modify id int not null auto_increment",
}

// TestCostsAreTrue holds what plans say of each change of a table, there and back, against the way
// in which the engine takes it.
func TestCostsAreTrue(t *testing.T) {
	checked := 0
	for _, text := range append(slices.Clone(edits), more...) {
		name, db := database(t)
		fill(t, name, "testdata/everything.sql")
		last := text
		if i := strings.LastIndex(text, "; "); i >= 0 && slices.Contains(more, text) {
			run(t, db, text[:i])
			last = text[i+2:]
		}
		before := reading(t, db)
		run(t, db, last)
		after := reading(t, db)
		for _, way := range [][2]*Catalog{{after, before}, {before, after}} {
			steps, err := Plan(context.Background(), db, way[0].Root, Wanted{Root: way[1].Root})
			if err != nil {
				continue // the rows do not allow it
			}
			checked += costs(t, db, steps, text)
		}
	}
	t.Logf("%d statements", checked)
}
