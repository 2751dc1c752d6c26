// Package sqlite reaches SQLite database files.
package sqlite

import (
	"context"
	"os"

	"oakenchest/core/environment"
	"oakenchest/core/schema/rows"
	catalog "oakenchest/core/schema/sqlite"
)

// Sort is what there is to know of such targets.
var Sort = environment.Sort{
	Scheme: "sqlite", About: "an SQLite database file: sqlite:PATH", Kind: "schema", Open: open, Tables: tables,
	Drop: func(_ context.Context, h environment.Host, rest string) error { return os.Remove(h.File(rest)) },
}

func tables(ctx context.Context, files environment.Files) ([]rows.Table, error) {
	d, err := catalog.Load(ctx, files)
	if err != nil {
		return nil, err
	}
	return catalog.Tables(d.Root), nil
}
