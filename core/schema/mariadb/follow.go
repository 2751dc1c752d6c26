package mariadb

import (
	"maps"

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
	for _, e := range kids(d.Root, "table") {
		t := declared.Table{ID: ID(e), Names: []string{e.Key}}
		for _, c := range kids(e, "column") {
			t.Columns = append(t.Columns, declared.Column{ID: sub(ID(e), c), Name: c.Key})
		}
		out = append(out, t)
	}
	return out
}
