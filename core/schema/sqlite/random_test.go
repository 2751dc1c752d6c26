package sqlite

import (
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"oakenchest/core/element"
)

// design is a database as a person would think of it; SQL is written from it.
type design struct {
	tables []*designTable
	views  int
}

type designTable struct {
	name    string
	columns []designColumn
	options string
	unique  []string // columns of a table constraint
	indexes map[string]string
	trigger bool
}

type designColumn struct{ name, rest string }

var (
	awkward = []string{"tank", "order", "Käfig", "a b", `q"uote`, "it's", "x;y", "select", "水槽", "1st", "feeding", "new\nline"}
	clauses = []string{"", "integer", "text", "real default 1.5", "integer not null default 0", "text not null default 'it''s; --'",
		"text collate nocase", "integer check (1 > 0)", "numeric(10,2) default (1 + 2)",
		"text default current_timestamp", "blob", "varchar(20) unique", "integer not null default -1", "int default null"}
)

func randomDesign(r *rand.Rand) *design {
	d := &design{}
	for i := range 1 + r.IntN(4) {
		d.tables = append(d.tables, randomTable(r, awkward[(i*3+r.IntN(3))%len(awkward)]))
	}
	d.views = r.IntN(2)
	return d
}

func randomTable(r *rand.Rand, name string) *designTable {
	t := &designTable{name: name, indexes: map[string]string{}}
	key := []string{"integer primary key", "integer primary key autoincrement", "text primary key", "integer"}[r.IntN(4)]
	t.columns = append(t.columns, designColumn{"id", key})
	for range r.IntN(5) {
		t.addColumn(r)
	}
	if r.IntN(4) == 0 && !strings.Contains(key, "autoincrement") && strings.Contains(key, "primary") {
		t.options = " without rowid"
	}
	return t
}

func (t *designTable) addColumn(r *rand.Rand) {
	name := fmt.Sprintf("%s%d", awkward[r.IntN(len(awkward))], r.IntN(50))
	if !slices.ContainsFunc(t.columns, func(c designColumn) bool { return strings.EqualFold(c.name, name) }) {
		t.columns = append(t.columns, designColumn{name, clauses[r.IntN(len(clauses))]})
	}
}

// edit changes the design as a developer would.
func (d *design) edit(r *rand.Rand) {
	t := d.tables[r.IntN(len(d.tables))]
	switch r.IntN(8) {
	case 0:
		name := awkward[r.IntN(len(awkward))]
		if !slices.ContainsFunc(d.tables, func(o *designTable) bool { return strings.EqualFold(o.name, name) }) {
			d.tables = append(d.tables, randomTable(r, name))
		}
	case 1:
		if len(d.tables) > 1 {
			i := r.IntN(len(d.tables))
			d.tables = slices.Delete(d.tables, i, i+1)
		}
	case 2, 3:
		t.addColumn(r)
	case 4:
		if i := 1 + r.IntN(len(t.columns)); i < len(t.columns) && len(t.indexes) == 0 && len(t.unique) == 0 {
			t.columns = slices.Delete(t.columns, i, i+1)
		}
	case 5:
		if i := 1 + r.IntN(len(t.columns)); i < len(t.columns) {
			t.columns[i].rest = clauses[r.IntN(len(clauses))]
		}
	case 6:
		name := fmt.Sprintf("%s index %d", t.name, r.IntN(3))
		if _, ok := t.indexes[name]; ok {
			delete(t.indexes, name)
		} else {
			t.indexes[name] = t.columns[r.IntN(len(t.columns))].name
		}
	default:
		t.trigger = !t.trigger
		d.views = r.IntN(3)
	}
}

func (d *design) sql() string {
	var b strings.Builder
	for _, t := range d.tables {
		var defs []string
		for _, c := range t.columns {
			defs = append(defs, strings.TrimSpace(ident(c.name)+" "+c.rest))
		}
		fmt.Fprintf(&b, "CREATE TABLE %s (%s)%s;\n", ident(t.name), strings.Join(defs, " , "), t.options)
		for name, col := range t.indexes {
			fmt.Fprintf(&b, "create index %s on %s (%s desc);\n", ident(name), ident(t.name), ident(col))
		}
		if t.trigger {
			fmt.Fprintf(&b, "create trigger %s after insert on %s begin update %s set id = new.id where 0; select case when 1 then 2 "+
				"end; end;\n", ident(t.name+" log"), ident(t.name), ident(t.name))
		}
	}
	for i := range d.views {
		fmt.Fprintf(&b, "create view %s as select count(*) as n, %d as i from %s;\n", ident(fmt.Sprint("view ", i)), i,
			ident(d.tables[0].name))
	}
	return b.String()
}

// fill puts rows into every table; those that the table refuses are left out.
func fill(t *testing.T, db *sql.DB, d *design, r *rand.Rand) {
	t.Helper()
	for _, table := range d.tables {
		for range 1 + r.IntN(3) {
			_, _ = db.Exec(fmt.Sprintf("insert or ignore into %s (id) values (%d)", ident(table.name), r.IntN(100)))
		}
	}
}

// TestRandomSchemasFollowRandomEdits lets databases with rows follow random
// edits: after each, the catalog must be what a fresh database of the declared
// files has, and no row may be gone from a table that stayed.
func TestRandomSchemasFollowRandomEdits(t *testing.T) {
	steps, refused := 0, 0
	for seed := range uint64(18) {
		r := rand.New(rand.NewPCG(seed, 7))
		d := randomDesign(r)
		db := database(t, d.sql())
		fill(t, db, d, r)
		for range 12 {
			before := rowCounts(t, db)
			for range 1 + r.IntN(3) {
				d.edit(r)
			}
			want := load(t, d.sql())
			live := read(t, db)
			plan, err := Plan(t.Context(), db, live, want)
			var rows *RowsError
			if errors.As(err, &rows) {
				refused++
				break
			}
			if err == nil {
				err = Apply(t.Context(), db, want.Root, plan, ApplyOptions{})
			}
			if err != nil && strings.Contains(err.Error(), "constraint failed") {
				refused++
				break
			}
			if err != nil {
				t.Fatalf("seed %d: %v\n%s", seed, err, d.sql())
			}
			fresh := database(t, d.sql())
			if diff := element.Compare(read(t, db), read(t, fresh)); diff != nil {
				t.Fatalf("seed %d: %v", seed, diff.Changes("x"))
			}
			fresh.Close()
			for name, n := range rowCounts(t, db) {
				if was, ok := before[name]; ok && was != n {
					t.Fatalf("seed %d: table %s had %d rows and has %d", seed, name, was, n)
				}
			}
			if len(plan) > 0 {
				steps++
			}
			files := (&Declared{Root: &element.Element{Type: "schema"}}).Update(nil, want.Root)
			again, err := Load(t.Context(), files)
			if err != nil || element.Compare(again.Root, want.Root) != nil {
				t.Fatalf("seed %d: the written files declare something else: %v\n%s", seed, err, files)
			}
		}
		db.Close()
	}
	t.Logf("%d deployments, %d refused for their rows", steps, refused)
	if steps < 100 {
		t.Errorf("only %d deployments: the generator shows too little", steps)
	}
}

func rowCounts(t *testing.T, db *sql.DB) map[string]int64 {
	t.Helper()
	out := map[string]int64{}
	for _, e := range read(t, db).Children {
		if e.Type != "table" {
			continue
		}
		var n int64
		if err := db.QueryRow("select count(*) from " + ident(e.Key)).Scan(&n); err != nil {
			t.Fatal(err)
		}
		out[e.Key] = n
	}
	return out
}
