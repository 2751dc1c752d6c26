package sqlite

import (
	"context"
	"database/sql"
	"fmt"
	"net/url"
	"path/filepath"
	"strings"

	_ "modernc.org/sqlite" // the engine

	"oakenchest/core/element"
)

// Querier is what a connection and a transaction have in common.
type Querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
}

// Open opens a database file for reading and writing, which must exist unless
// create is set.
func Open(file string, create bool) (*sql.DB, error) {
	abs, err := filepath.Abs(file)
	if err != nil {
		return nil, err
	}
	mode := "rw"
	if create {
		mode = "rwc"
	}
	u := url.URL{Scheme: "file", Path: filepath.ToSlash(abs), RawQuery: "mode=" + mode + "&_pragma=busy_timeout(10000)"}
	db, err := sql.Open("sqlite", u.String())
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	return db, nil
}

// Scratch opens an empty database in memory.
func Scratch() (*sql.DB, error) {
	db, err := sql.Open("sqlite", ":memory:")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	return db, nil
}

type catalogRow struct{ sort, name, table, sql string }

// Read gives the schema of a database as elements.
func Read(ctx context.Context, q Querier) (*element.Element, error) {
	all, shadow, err := catalog(ctx, q)
	if err != nil {
		return nil, err
	}
	root := &element.Element{Type: "schema"}
	owners := map[string]*element.Element{}
	for _, r := range all {
		if shadow[r.name] || shadow[r.table] || strings.HasPrefix(r.name, "sqlite_") || r.sql == "" {
			continue
		}
		var e *element.Element
		if r.sort == "table" {
			e, err = parseTable(r.sql)
		} else {
			e, err = parseOther(r.sort, r.name, r.sql)
		}
		if err != nil {
			return nil, fmt.Errorf("the %s %s: %w", r.sort, r.name, err)
		}
		e.Key = r.name
		switch r.sort {
		case "table", "view":
			owners[strings.ToLower(r.name)] = e
			root.Add(e)
		default:
			if owner := owners[strings.ToLower(r.table)]; owner != nil {
				owner.Add(e)
			}
		}
	}
	return root, nil
}

// catalog lists the schema's rows, owners first, and the names of shadow tables.
func catalog(ctx context.Context, q Querier) ([]catalogRow, map[string]bool, error) {
	shadow := map[string]bool{}
	rows, err := q.QueryContext(ctx, "select name from pragma_table_list where schema = 'main' and type = 'shadow'")
	if err != nil {
		return nil, nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, nil, err
		}
		shadow[name] = true
	}
	if err := rows.Err(); err != nil {
		return nil, nil, err
	}
	rows, err = q.QueryContext(ctx,
		"select type, name, tbl_name, coalesce(sql, '') from sqlite_master where tbl_name <> '"+journalTable+"' order by case type when "+
			"'table' then 0 when 'view' then 1 else 2 end, name")
	if err != nil {
		return nil, nil, err
	}
	defer rows.Close()
	var all []catalogRow
	for rows.Next() {
		var r catalogRow
		if err := rows.Scan(&r.sort, &r.name, &r.table, &r.sql); err != nil {
			return nil, nil, err
		}
		all = append(all, r)
	}
	return all, shadow, rows.Err()
}
