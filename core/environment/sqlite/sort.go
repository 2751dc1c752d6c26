// Package sqlite reaches SQLite database files.
package sqlite

import (
	"context"
	"os"

	"oakenchest/core/environment"
	"oakenchest/core/manifest"
	"oakenchest/core/schema/rows"
	catalog "oakenchest/core/schema/sqlite"
)

// Sort is what there is to know of such targets.
var Sort = environment.Sort{
	Scheme: "sqlite", About: "an SQLite database file: sqlite:PATH", Kind: "schema", Open: open, Tables: tables, Copy: copyFile,
	Disk: &manifest.Disk{Beside: []string{"-journal", "-wal", "-shm"}}, Endings: []string{".db", ".sqlite", ".sqlite3"},
	Begins: "SQLite format 3\x00", Speaks: speaks,
	Drop: func(_ context.Context, h environment.Host, rest string) error { return os.Remove(h.File(rest)) },
}

func tables(ctx context.Context, files environment.Files) ([]rows.Table, error) {
	d, err := catalog.Load(ctx, files)
	if err != nil {
		return nil, err
	}
	return catalog.Tables(d.Root), nil
}

// speaks gives a plan what its scripts are written with.
func speaks(p *environment.Plan) { p.Journal, p.Ending = catalog.Journal, catalog.Ended }
