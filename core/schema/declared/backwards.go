package declared

import "maps"

// Table is a table as far as its names go.
type Table struct {
	// ID is its key among former names; Names are the ways in which it may be named, the first
	// being the one to write.
	ID      string
	Names   []string
	Columns []Column
}

// Column is one of its columns.
type Column struct{ ID, Name string }

func (t Table) named(name string) bool {
	for _, n := range t.Names {
		if n == name {
			return true
		}
	}
	return false
}

func (t Table) has(column string) bool {
	for _, c := range t.Columns {
		if c.Name == column {
			return true
		}
	}
	return false
}

// Backwards gives the former names of what is wanted, when that is what there was before the
// held tables got other names: their own former names, the other way round. So what takes a
// rename back keeps the data.
func Backwards(held []Table, formerly map[string]string, want []Table) map[string]string {
	out := map[string]string{}
	is := func(list []Table, name string) bool {
		for _, t := range list {
			if t.named(name) {
				return true
			}
		}
		return false
	}
	for _, w := range want {
		for _, h := range held {
			same := h.named(w.Names[0])
			if old := formerly[h.ID]; !same && old != "" && w.named(old) && !is(want, h.Names[0]) && !is(held, w.Names[0]) {
				out[w.ID], same = h.Names[0], true
			}
			if !same {
				continue
			}
			for _, c := range h.Columns {
				old := formerly[c.ID]
				if old == "" || w.has(c.Name) || h.has(old) {
					continue
				}
				for _, wc := range w.Columns {
					if wc.Name == old {
						out[wc.ID] = c.Name
					}
				}
			}
		}
	}
	return out
}

// Follow adds to the former names of what is wanted those that Backwards gives, where the files
// name none.
func Follow(formerly map[string]string, want []Table, heldFormerly map[string]string, held []Table) {
	back := Backwards(held, heldFormerly, want)
	maps.DeleteFunc(back, func(id, _ string) bool { return formerly[id] != "" })
	maps.Copy(formerly, back)
}
