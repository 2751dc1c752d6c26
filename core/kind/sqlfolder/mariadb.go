package sqlfolder

import (
	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/schema/mariadb"
)

// MariaDB reads folders of SQL that declare a MariaDB or MySQL database, as they are
// written, without a server.
type MariaDB struct{ Kind }

var (
	_ kind.Writer = MariaDB{}
	_ kind.Owner  = MariaDB{}
)

// Name is "mariadb-schema".
func (MariaDB) Name() string { return "mariadb-schema" }

// About describes the kind.
func (MariaDB) About() string {
	return "a folder of SQL files that declare a MariaDB or MySQL database: tables, views, sequences, routines, triggers, events"
}

// Read reads the declared statements and rows.
func (MariaDB) Read(src kind.Source) (*kind.Reading, error) {
	files, err := Files(src)
	if err != nil {
		return nil, err
	}
	d, err := mariadb.Parse(files)
	if err != nil {
		return nil, err
	}
	d.SayFormer()
	return whole(src, d.Root, files, mariadb.Tables(d.Root))
}

// Write gives the files that differ for the wanted schema; nil content means that a
// file goes.
func (MariaDB) Write(src kind.Source, want *element.Element, _ kind.Content) (map[string][]byte, error) {
	files, err := Files(src)
	if err != nil {
		return nil, err
	}
	d, err := mariadb.Parse(files)
	if err != nil {
		return nil, err
	}
	return withRows(files, mariadb.Update(files, d, schemaOf(want)), want, mariadb.Tables(want))
}
