package rows

import "slices"

// TableOf finds the table whose rows are kept in a file.
func TableOf(tables []Table, file string) (Table, bool) {
	i := slices.IndexFunc(tables, func(t Table) bool { return t.File == file })
	if i < 0 {
		return Table{}, false
	}
	return tables[i], true
}
