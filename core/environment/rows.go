package environment

import (
	"context"

	"oakenchest/core/schema/rows"
)

// RowsKeeper is a Driver of a target with tables.
type RowsKeeper interface {
	Driver
	// Rows gives the files of the rows of tables, by the tables' names.
	Rows(ctx context.Context, tables []string) (Files, error)
}

// TrackedRows tells which tables the files of rows in a folder belong to: names of
// tables by those of files. target says of which sort the folder is.
func TrackedRows(ctx context.Context, target string, files Files) (map[string]string, error) {
	s, _, err := split(target)
	if err != nil || s.Tables == nil {
		return map[string]string{}, err
	}
	tables, err := s.Tables(ctx, files)
	if err != nil {
		return map[string]string{}, nil // what can't be read declares none
	}
	out := map[string]string{}
	for _, name := range rows.Names(files) {
		if t, ok := rows.TableOf(tables, name); ok {
			out[name] = t.Name
		}
	}
	return out, nil
}
