package sqlfolder

import (
	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/schema/postgres"
)

// Postgres reads folders of SQL that declare a PostgreSQL database. It reads the text
// as it is written and needs no server; what the text means there, the engine tells
// when an environment is captured or deployed to.
type Postgres struct{ Kind }

var (
	_ kind.Writer = Postgres{}
	_ kind.Owner  = Postgres{}
)

// Name is "postgres-schema".
func (Postgres) Name() string { return "postgres-schema" }

// About describes the kind.
func (Postgres) About() string {
	return "a folder of SQL files that declare a PostgreSQL database: schemas with tables, views, types, routines, and what stands in none"
}

// Read reads the declared statements and rows.
func (Postgres) Read(src kind.Source) (*kind.Reading, error) {
	files, err := Files(src)
	if err != nil {
		return nil, err
	}
	d, err := postgres.Parse(files)
	if err != nil {
		return nil, err
	}
	d.SayFormer()
	return whole(src, d.Root, files, postgres.Tables(d.Root))
}

// Write gives the files that differ for the wanted schema; nil content means that a
// file goes.
func (Postgres) Write(src kind.Source, want *element.Element, _ kind.Content) (map[string][]byte, error) {
	files, err := Files(src)
	if err != nil {
		return nil, err
	}
	d, err := postgres.Parse(files)
	if err != nil {
		return nil, err
	}
	return withRows(files, postgres.Update(files, d, schemaOf(want)), want, postgres.Tables(want))
}
