package environment

import (
	"bufio"
	"context"
	"database/sql"
	"errors"
	"os"
	"strings"
)

// saveRows writes the rows of a query as CSV (RFC 4180) with a line of names. Every
// value stands in quotes; null is nothing at all.
func saveRows(ctx context.Context, db *sql.DB, query, file string) error {
	rows, err := db.QueryContext(ctx, query)
	if err != nil {
		return err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return err
	}
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	w := bufio.NewWriter(f)
	line := func(values []sql.RawBytes) {
		for i, v := range values {
			if i > 0 {
				w.WriteByte(',')
			}
			if v != nil {
				w.WriteString(`"` + strings.ReplaceAll(string(v), `"`, `""`) + `"`)
			}
		}
		w.WriteByte('\n')
	}
	row, at := make([]sql.RawBytes, len(names)), make([]any, len(names))
	for i, n := range names {
		row[i], at[i] = sql.RawBytes(n), &row[i]
	}
	line(row)
	for rows.Next() {
		if err := rows.Scan(at...); err != nil {
			return errors.Join(err, f.Close())
		}
		line(row)
	}
	return errors.Join(rows.Err(), w.Flush(), f.Sync(), f.Close())
}
