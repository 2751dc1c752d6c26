package schematest

import (
	"fmt"
	"math/rand/v2"
	"strings"

	"oakenchest/core/element"
)

// Generator writes statements by chance that build up a schema and change it: tables,
// columns of every type, keys, indexes, checks, views. Not every statement fits the
// schema that is there; the engine tells.
type Generator struct {
	R *rand.Rand
	// Types are column types, each perhaps with clauses.
	Types []string
	// Quote writes a name.
	Quote func(name string) string
	// Retype, DropIndex and Comment are formats for what engines write differently: of
	// table, column and type; of index and table; of table, column and text.
	Retype, DropIndex, Comment string
	n                          int
}

// names are bases of names, some of them awkward.
var names = []string{"tank", "Feeding", "keeper", "order", "a b", "ä", "it's", "x\"y", "semi;colon", "v1.2", "select"}

func (g *Generator) fresh() string {
	g.n++
	return g.Quote(fmt.Sprintf("%s %d", names[g.R.IntN(len(names))], g.n))
}

func pick[T any](r *rand.Rand, list []T) (one T, ok bool) {
	if len(list) == 0 {
		return one, false
	}
	return list[r.IntN(len(list))], true
}

// table is what a Generator knows of a table.
type table struct {
	name                     string
	columns, indexes, checks []string
}

// tables lists the tables and views of a tree.
func (g *Generator) tables(root *element.Element) (list []table, views []string) {
	for _, e := range root.Children {
		if e.Type == "schema" {
			more, v := g.tables(e)
			list, views = append(list, more...), append(views, v...)
			continue
		}
		if e.Type == "view" {
			views = append(views, g.Quote(e.Key))
		}
		if e.Type != "table" {
			continue
		}
		t := table{name: g.Quote(e.Key)}
		for _, k := range e.Children {
			switch k.Type {
			case "column":
				t.columns = append(t.columns, g.Quote(k.Key))
			case "index":
				if k.Key == "primary" {
					continue // MariaDB drops one that a foreign key needs, and can't make that anew
				}
				t.indexes = append(t.indexes, g.Quote(k.Key))
			case "constraint":
				t.checks = append(t.checks, g.Quote(k.Key))
			}
		}
		list = append(list, t)
	}
	return list, views
}

// Edit writes one edit of the schema that a tree says.
func (g *Generator) Edit(root *element.Element) string {
	list, views := g.tables(root)
	t, any := pick(g.R, list)
	if !any || len(list) < 4 && g.R.IntN(2) == 0 {
		return g.create(list)
	}
	column, _ := pick(g.R, t.columns)
	other, _ := pick(g.R, list)
	typ, _ := pick(g.R, g.Types)
	switch g.R.IntN(16) {
	case 0, 1:
		return g.create(list)
	case 2, 3:
		return fmt.Sprintf("alter table %s add column %s %s", t.name, g.fresh(), typ)
	case 4:
		return fmt.Sprintf("alter table %s drop column %s", t.name, column)
	case 5, 6:
		return fmt.Sprintf(g.Retype, t.name, column, typ)
	case 7:
		return fmt.Sprintf("create index %s on %s (%s)", g.fresh(), t.name, column)
	case 8:
		return fmt.Sprintf("create unique index %s on %s (%s)", g.fresh(), t.name, column)
	case 9:
		if i, ok := pick(g.R, t.indexes); ok {
			return fmt.Sprintf(g.DropIndex, i, t.name)
		}
	case 10:
		return fmt.Sprintf("alter table %s add constraint %s check (%s is not null)", t.name, g.fresh(), column)
	case 11:
		if c, ok := pick(g.R, t.checks); ok {
			return fmt.Sprintf("alter table %s drop constraint %s", t.name, c)
		}
	case 12:
		c := g.fresh()
		return fmt.Sprintf("alter table %s add column %s bigint; alter table %s add constraint %s foreign key (%s) references %s (id)",
			t.name, c, t.name, g.fresh(), c, other.name)
	case 13:
		return fmt.Sprintf("create view %s as select %s from %s", g.fresh(), column, t.name)
	case 14:
		if v, ok := pick(g.R, views); ok {
			return "drop view " + v
		}
		return "drop table " + t.name
	}
	if g.Comment != "" && g.R.IntN(2) == 0 {
		return fmt.Sprintf(g.Comment, t.name, g.R.IntN(100))
	}
	return "drop table " + t.name
}

func (g *Generator) create(list []table) string {
	parts := []string{"id bigint primary key"}
	for range 1 + g.R.IntN(5) {
		typ, _ := pick(g.R, g.Types)
		parts = append(parts, g.fresh()+" "+typ)
	}
	if other, ok := pick(g.R, list); ok && g.R.IntN(2) == 0 {
		c := g.fresh()
		parts = append(parts, c+" bigint", fmt.Sprintf("constraint %s foreign key (%s) references %s (id)", g.fresh(), c, other.name))
	}
	return fmt.Sprintf("create table %s (%s)", g.fresh(), strings.Join(parts, ", "))
}
