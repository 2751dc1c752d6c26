package rows

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/schema/declared"
)

// folder is the name of the folders that hold files of rows.
const folder = "rows"

// Owns says that a file of a folder holds rows, by its name below the folder.
func Owns(name string) bool {
	return strings.EqualFold(path.Ext(name), ".csv") && path.Base(path.Dir(name)) == folder
}

// Place gives the file of a table: below says in which folder, empty for the top.
func Place(below, safe string) string { return path.Join(below, folder, safe+".csv") }

// Names lists the files of rows in a folder, sorted.
func Names(files declared.Files) []string {
	return declared.Which(files, Owns)
}

// Tracked is a table with the rows that a file declares.
type Tracked struct {
	Table Table
	Sheet *Sheet
}

// ErrNoKey says that a table's rows can't be told apart.
var ErrNoKey = errors.New("the table has no primary key, so its rows can't be told apart")

// Sheets reads the files of rows; tables are those that the folder declares. What is
// wrong is told as a declared.FileError. Rows that stand alike in the files of another
// version are left out, when one is given.
func Sheets(files declared.Files, tables []Table, beside declared.Files) ([]Tracked, error) {
	var out []Tracked
	for _, name := range Names(files) {
		i := slices.IndexFunc(tables, func(t Table) bool { return t.File == name })
		if i < 0 {
			return nil, &declared.FileError{File: name, Line: 1,
				Err: errors.New("no table that is declared has its rows in a file of this name")}
		}
		s, err := trimmed(files[name], beside[name], tables[i])
		if err != nil {
			return nil, InFile(name, err)
		}
		out = append(out, Tracked{tables[i], s})
	}
	return out, nil
}

// InFile says in which file something is wrong.
func InFile(name string, err error) error {
	f := &declared.FileError{File: name, Line: 1, Err: err}
	var at *LineError
	if errors.As(err, &at) {
		f.Line, f.Err = at.Line, at.Err
	}
	return f
}

// trimmed reads a file without the rows that another has too.
func trimmed(data, other []byte, t Table) (*Sheet, error) {
	if other == nil || len(t.Key) == 0 {
		return readSheet(data, t)
	}
	s, _, ok, err := Trim(data, other, t.Key)
	if err != nil || !ok {
		return readSheet(data, t)
	}
	return s, s.check(t)
}

func readSheet(data []byte, t Table) (*Sheet, error) {
	if len(t.Key) == 0 {
		return nil, ErrNoKey
	}
	s, err := Parse(data)
	if err != nil {
		return nil, err
	}
	return s, s.check(t)
}

// check sees that a sheet is one of a table, and sorts it.
func (s *Sheet) check(t Table) error {
	for _, c := range s.Columns {
		if _, ok := t.Column(c); !ok {
			return &LineError{1, fmt.Errorf("the table %s has no column %s that holds values of its own", t.Name, c)}
		}
	}
	return s.Sort(t.Key)
}

// Attach adds the rows that files declare to a tree of the schema, without those that
// stand alike in another version of the files, when one is given.
func Attach(root *element.Element, files declared.Files, tables []Table, beside declared.Files) error {
	list, err := Sheets(files, tables, beside)
	if err != nil {
		return err
	}
	for _, t := range list {
		e, err := t.Sheet.Element(t.Table.Bare, t.Table.Key)
		if err != nil {
			return InFile(t.Table.File, err)
		}
		holder := root
		if t.Table.Schema != "" {
			holder = root.Find([]element.Step{{Type: "schema", Key: t.Table.Schema}})
		}
		holder.Add(e)
	}
	return nil
}

// Update gives the files of rows that differ when a folder is to hold the rows in a
// tree; tables are those of the tree. A file that says the same stays as it is.
func Update(files declared.Files, want *element.Element, tables []Table) (declared.Files, error) {
	out, stays := declared.Files{}, map[string]bool{}
	for _, t := range tables {
		e := want.Find(t.Address().Steps)
		if e == nil {
			continue
		}
		stays[t.File] = true
		s, err := FromElement(e, t.Key)
		if err != nil {
			return nil, InFile(t.File, err)
		}
		if old, err := readSheet(files[t.File], t); err == nil && slices.Equal(old.Columns, s.Columns) {
			if d, err := Compare(old, s, t.Key); err == nil && d.Empty() {
				continue
			}
		}
		out[t.File] = s.Bytes()
	}
	for _, name := range Names(files) {
		if !stays[name] {
			out[name] = nil
		}
	}
	return out, nil
}

// Resolve gives the columns of names that a definition writes, in whatever letters; nil
// when one is not there.
func Resolve(columns []Column, names []string) []string {
	var out []string
	for _, n := range names {
		i := slices.IndexFunc(columns, func(c Column) bool { return c.Name == n })
		if i < 0 {
			i = slices.IndexFunc(columns, func(c Column) bool { return strings.EqualFold(c.Name, n) })
		}
		if i < 0 {
			return nil
		}
		out = append(out, columns[i].Name)
	}
	return out
}

// Distinct gives each table a file of its own, where names differ in letters' case
// alone; tables are in an order that does not change.
func Distinct(tables []Table, other func(t Table) string) {
	taken := map[string]bool{}
	for i := range tables {
		if taken[strings.ToLower(tables[i].File)] {
			tables[i].File = other(tables[i])
		}
		taken[strings.ToLower(tables[i].File)] = true
	}
}
