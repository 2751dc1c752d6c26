package rows

import (
	"context"
	"database/sql"
)

// Querier is what this package needs of database/sql: one connection.
type Querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
}

// Over gives a Conn over a connection of database/sql.
func Over(q Querier) Conn { return overSQL{q} }

type overSQL struct{ q Querier }

func (c overSQL) Exec(ctx context.Context, query string) error {
	_, err := c.q.ExecContext(ctx, query)
	return err
}

func (c overSQL) Query(ctx context.Context, query string, each func(Row) error) error {
	rows, err := c.q.QueryContext(ctx, query)
	if err != nil {
		return err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return err
	}
	raw, at := make([]sql.RawBytes, len(names)), make([]any, len(names))
	for i := range raw {
		at[i] = &raw[i]
	}
	for rows.Next() {
		if err := rows.Scan(at...); err != nil {
			return err
		}
		r := make(Row, len(raw))
		for i, b := range raw {
			r[i] = Value{Text: string(b), Null: b == nil}
		}
		if err := each(r); err != nil {
			return err
		}
	}
	return rows.Err()
}
