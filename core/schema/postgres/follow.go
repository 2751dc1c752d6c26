package postgres

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
	for _, s := range kids(d.Root, "schema") {
		for _, e := range kids(s, "table") {
			id := ID(s.Key, e)
			t := declared.Table{ID: id, Names: []string{s.Key + "." + e.Key, e.Key}}
			for _, c := range kids(e, "column") {
				t.Columns = append(t.Columns, declared.Column{ID: sub(id, c), Name: c.Key})
			}
			out = append(out, t)
		}
	}
	return out
}
