package sqlite

import (
	"strings"

	"oakenchest/core/schema/declared"
)

// Follow takes in what a database is known to hold; see declared.Follow.
func (d *Declared) Follow(held *Declared) {
	declared.Follow(d.Formerly, d.tables(), held.Formerly, held.tables())
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

// SayFormer lets the elements of tables and columns say what they were called.
func (d *Declared) SayFormer() {
	for _, e := range kidsOf(d.Root, "table") {
		name := strings.ToLower(e.Key)
		e.Former = d.Formerly[name]
		for _, c := range kidsOf(e, "column") {
			c.Former = d.Formerly[name+"."+strings.ToLower(c.Key)]
		}
	}
}
