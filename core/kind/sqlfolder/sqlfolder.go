// Package sqlfolder is the kinds of database schemas: a folder of declarative SQL, one
// object a file, and the tracked rows of its tables as CSV, and its data steps. SQLite itself reads what is
// declared for it; what is declared for PostgreSQL and MariaDB is read as it is written, because
// no server may be at hand.
//
// Only a folder that oaken.toml declares is of this kind; an SQL file elsewhere
// is plain text.
package sqlfolder

import (
	"context"
	"maps"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/schema/datastep"
	"oakenchest/core/schema/declared"
	"oakenchest/core/schema/rows"
	"oakenchest/core/schema/sqlite"
)

// Kind reads folders of SQL.
type Kind struct{}

var (
	_ kind.Writer = Kind{}
	_ kind.Owner  = Kind{}
)

// Name is "schema".
func (Kind) Name() string { return "schema" }

// About describes the kind.
func (Kind) About() string {
	return "a folder of SQL files that declare a database: tables with columns, constraints, indexes, triggers; views"
}

// Claims takes no single file.
func (Kind) Claims(string, []byte) bool { return false }

// Owns takes the folder's SQL files, its data steps, and the rows of its tables.
func (Kind) Owns(name string) bool {
	return declared.Owns(name) || datastep.Owns(name) || rows.Owns(name)
}

// Files reads the SQL files of a source.
func Files(src kind.Source) (map[string][]byte, error) {
	files := map[string][]byte{}
	for _, name := range src.Files() {
		data, err := src.File(name)
		if err != nil {
			return nil, err
		}
		files[name] = data
	}
	return files, nil
}

// besides gives the files of rows of the version that a source is compared with.
func besides(src kind.Source) map[string][]byte {
	c, ok := src.(kind.Compared)
	if !ok || c.Beside() == nil {
		return nil
	}
	files := map[string][]byte{}
	for _, name := range c.Beside().Files() {
		if !rows.Owns(name) {
			continue
		}
		if data, err := c.Beside().File(name); err == nil {
			files[name] = data
		}
	}
	return files
}

// Read lets the engine read the files and gives its catalog.
func (Kind) Read(src kind.Source) (*kind.Reading, error) {
	files, err := Files(src)
	if err != nil {
		return nil, err
	}
	d, err := sqlite.Load(context.Background(), files)
	if err != nil {
		return nil, err
	}
	d.SayFormer()
	return whole(src, d.Root, files, sqlite.Tables(d.Root))
}

// Write gives the files that differ for the wanted schema; nil content means
// that a file goes.
func (Kind) Write(src kind.Source, want *element.Element, _ kind.Content) (map[string][]byte, error) {
	files, err := Files(src)
	if err != nil {
		return nil, err
	}
	d, err := sqlite.Load(context.Background(), files)
	if err != nil {
		return nil, err
	}
	return withRows(files, d.Update(files, schemaOf(want)), want, sqlite.Tables(want))
}

// whole adds what a folder holds beside its schema to the tree of that.
func whole(src kind.Source, root *element.Element, files map[string][]byte, tables []rows.Table) (*kind.Reading, error) {
	if err := datastep.Attach(root, files); err != nil {
		return nil, err
	}
	return &kind.Reading{Root: root}, rows.Attach(root, files, tables, besides(src))
}

// schemaOf gives the tree of a schema alone.
func schemaOf(root *element.Element) *element.Element { return datastep.Without(rows.Without(root)) }

// withRows adds the files of rows and data steps that differ to those of the schema.
func withRows(files, edits map[string][]byte, want *element.Element, tables []rows.Table) (map[string][]byte, error) {
	more, err := rows.Update(files, want, tables)
	maps.Copy(edits, more)
	maps.Copy(edits, datastep.Update(files, want))
	return edits, err
}
