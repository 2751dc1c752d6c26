package sqlite

import (
	"maps"
	"strings"

	"oakenchest/core/schema/declared"
)

// Follow takes in what a database is known to hold: the former names there, the other way
// round, are those of what is declared here and was called so before.
func (d *Declared) Follow(held *Declared) {
	back := declared.Backwards(held.tables(), held.Formerly, d.tables())
	maps.DeleteFunc(back, func(id, _ string) bool { return d.Formerly[id] != "" })
	maps.Copy(d.Formerly, back)
}

func (d *Declared) tables() (out []declared.Table) {
	for _, e := range kidsOf(d.Root, "table") {
		name := strings.ToLower(e.Key)
		t := declared.Table{ID: name, Names: []string{name}}
		for _, c := range kidsOf(e, "column") {
			column := strings.ToLower(c.Key)
			t.Columns = append(t.Columns, declared.Column{ID: name + "." + column, Name: column})
		}
		out = append(out, t)
	}
	return out
}
