package postgres

import (
	"strings"

	"oakenchest/core/schema/declared"
)

// Follow takes in what a database is known to hold; see declared.Follow.
func (d *Declared) Follow(held *Declared) {
	declared.Follow(d.Formerly, d.tables(), held.Formerly, held.tables())
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
		for _, e := range kids(s, "type") { // an enum, whose values have names
			id := ID(s.Key, e)
			t := declared.Table{ID: id, Names: []string{s.Key + "." + e.Key, e.Key}}
			for _, v := range kids(e, "value") {
				t.Columns = append(t.Columns, declared.Column{ID: sub(id, v), Name: v.Key})
			}
			if len(t.Columns) > 0 {
				out = append(out, t)
			}
		}
	}
	return out
}

// SayFormer lets the elements of tables and columns say what they were called.
func (d *Declared) SayFormer() {
	for _, s := range kids(d.Root, "schema") {
		for _, e := range kids(s, "table") {
			id := ID(s.Key, e)
			e.Former = strings.TrimPrefix(d.Formerly[id], s.Key+".")
			for _, c := range kids(e, "column") {
				c.Former = d.Formerly[sub(id, c)]
			}
		}
		for _, e := range kids(s, "type") {
			for _, v := range kids(e, "value") {
				v.Former = d.Formerly[sub(ID(s.Key, e), v)]
			}
		}
	}
}
