package mariadb

import (
	"oakenchest/core/schema/declared"
)

// Follow takes in what a database is known to hold; see declared.Follow.
func (d *Declared) Follow(held *Declared) {
	declared.Follow(d.Formerly, d.tables(), held.Formerly, held.tables())
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

// SayFormer lets the elements of tables and columns say what they were called.
func (d *Declared) SayFormer() {
	for _, e := range kids(d.Root, "table") {
		e.Former = d.Formerly[ID(e)]
		for _, c := range kids(e, "column") {
			c.Former = d.Formerly[sub(ID(e), c)]
		}
	}
}
