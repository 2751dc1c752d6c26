// Package sqlitefile is the kind of SQLite database files (SQLite's "Database File
// Format"): their schema as core/schema/sqlite reads it, and in each table its rows,
// by primary key, or by rowid where there is none.
//
// The engine reads a copy of the file that nothing can write to; what a write-ahead
// log beside the file holds is not in it. A table of more than MaxRows rows, counted
// over all tables, says how many it has and a digest of them instead. A file can compute much more than
// it holds (generated columns, rows out of expressions): what it gives is bounded by its size, and
// what it may take by a time.
//
// Such files are not merged: a schema that is declared as SQL is.
package sqlitefile

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	driver "modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/schema/sqlite"
)

// MaxRows bounds the rows that are read as elements.
const MaxRows = 200_000

// Kind reads database files.
type Kind struct{}

var _ kind.Quick = Kind{}

// Name is "database".
func (Kind) Name() string { return "database" }

// About describes the kind.
func (Kind) About() string {
	return "SQLite database files: tables, columns, indexes, views, and rows by primary key; no merge"
}

// Claims takes what begins as such a file.
func (Kind) Claims(_ string, head []byte) bool {
	return bytes.HasPrefix(head, []byte("SQLite format 3\x00"))
}

// Quick says that a database is not read to be listed.
func (Kind) Quick() {}

// Read reads schema and rows.
func (Kind) Read(src kind.Source) (*kind.Reading, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), patience(int64(len(data))))
	defer cancel()
	db, done, err := open(ctx, data)
	if err != nil {
		return nil, err
	}
	defer done()
	root, err := sqlite.Read(ctx, db)
	if err != nil {
		return nil, fmt.Errorf("the database is damaged: %w", err)
	}
	root.Type = "database"
	_, budget := kind.Budgeted(src)
	r := &reader{db: db, held: map[element.Digest][]byte{}, left: MaxRows, budget: budget}
	for _, e := range root.Children {
		if e.Type != "table" || !e.Prop("module").IsAbsent() {
			continue
		}
		if err := r.table(ctx, e); err != nil {
			if ctx.Err() != nil {
				err = fmt.Errorf("%w: the engine is at it for longer than %s", kind.ErrBudget, patience(int64(len(data))))
			}
			return nil, fmt.Errorf("the table %s can't be read: %w", e.Key, err)
		}
	}
	return &kind.Reading{Root: root, Content: kind.Held(r.held)}, nil
}

// patience is how long the engine may take for a file of a size in bytes: much longer than it takes on a
// busy machine to read it. What a file could compute without end, columns that are generated when they
// are read, is not asked for.
func patience(size int64) time.Duration {
	const second = 1 << 20 // bytes
	return 20*time.Second + time.Duration(size)*time.Second/second
}

// open opens a copy of a database for reading alone, in which no value is longer than the file, or a
// page of text; done removes it.
func open(ctx context.Context, data []byte) (db *sql.DB, done func(), err error) {
	f, err := os.CreateTemp("", "oaken-database-*")
	if err != nil {
		return nil, nil, err
	}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Close()); err == nil {
		u := url.URL{Scheme: "file", Path: filepath.ToSlash(f.Name()),
			RawQuery: "mode=ro&immutable=1&_pragma=trusted_schema(0)&_pragma=query_only(1)"}
		db, err = sql.Open("sqlite", u.String())
	}
	if err != nil {
		return nil, nil, errors.Join(err, os.Remove(f.Name()))
	}
	db.SetMaxOpenConns(1)
	done = func() { db.Close(); os.Remove(f.Name()) }
	conn, err := db.Conn(ctx)
	if err == nil {
		const least = 64 << 10
		_, err = driver.Limit(conn, sqlite3.SQLITE_LIMIT_LENGTH, max(least, len(data)))
		err = errors.Join(err, conn.Close())
	}
	if err != nil {
		done()
		return nil, nil, fmt.Errorf("the database is damaged: %w", err)
	}
	return db, done, nil
}

// reader reads rows into tables.
type reader struct {
	db   *sql.DB
	held map[element.Digest][]byte
	left int // so many rows may still be read
	// budget bounds the values, and what stands for them.
	budget *kind.Budget
}

func quoteName(s string) string { return `"` + strings.ReplaceAll(s, `"`, `""`) + `"` }

// keyOf gives the columns of a table's primary key, in order; none for a table
// that has a rowid alone.
func (r *reader) keyOf(ctx context.Context, table string) ([]string, error) {
	rows, err := r.db.QueryContext(ctx, "select name from pragma_table_info(?) where pk > 0 order by pk", table)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		out = append(out, name)
	}
	return out, rows.Err()
}

// stored lists the columns of a table whose values lie in the file: not those that are computed when they
// are read, out of the others and what the schema says.
func (r *reader) stored(ctx context.Context, table string) (string, error) {
	const virtual = 2 // of pragma table_xinfo, "hidden"
	rows, err := r.db.QueryContext(ctx, "select name from pragma_table_xinfo(?) where hidden <> ? order by cid", table, virtual)
	if err != nil {
		return "", err
	}
	defer rows.Close()
	var names []string
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return "", err
		}
		names = append(names, quoteName(name))
	}
	return strings.Join(names, ", "), rows.Err()
}

func (r *reader) table(ctx context.Context, e *element.Element) error {
	key, err := r.keyOf(ctx, e.Key)
	if err != nil {
		return err
	}
	keyColumns := []string{"rowid"}
	if len(key) > 0 {
		keyColumns = nil
		for _, k := range key {
			keyColumns = append(keyColumns, quoteName(k))
		}
	}
	order := strings.Join(keyColumns, ", ")
	var count int
	if err := r.db.QueryRowContext(ctx, "select count(*) from "+quoteName(e.Key)).Scan(&count); err != nil {
		return err
	}
	many := count > r.left
	stored, err := r.stored(ctx, e.Key)
	if err != nil {
		return err
	}
	rows, err := r.db.QueryContext(ctx, "select "+order+", "+stored+" from "+quoteName(e.Key)+" order by "+order)
	if err != nil {
		return err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return err
	}
	sum := sha256.New()
	var list []*element.Element
	for rows.Next() {
		row, err := r.row(rows, names, len(keyColumns), many)
		if err != nil {
			return err
		}
		if many {
			d := row.Sum()
			sum.Write(d[:])
			continue
		}
		list = append(list, row)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if many {
		e.Set("rows", element.IntValue(int64(count)))
		e.Set("rows digest", element.TextValue(fmt.Sprintf("%x", sum.Sum(nil)[:8])))
		return nil
	}
	r.left -= count
	element.Distinguish(list)
	e.Add(list...)
	return nil
}

// row reads one row; its first values are those of the key.
func (r *reader) row(rows *sql.Rows, names []string, keys int, brief bool) (*element.Element, error) {
	values, at := make([]any, len(names)), make([]any, len(names))
	for i := range values {
		at[i] = &values[i]
	}
	if err := rows.Scan(at...); err != nil {
		return nil, err
	}
	if err := r.take(values, brief); err != nil {
		return nil, err
	}
	e := &element.Element{Type: "row", Firm: true}
	var key []string
	for _, v := range values[:keys] {
		key = append(key, keyText(v))
	}
	e.Key = strings.Join(key, ", ")
	var gist []string
	for i, name := range names[keys:] {
		v := r.value(values[keys+i], brief)
		e.Set(name, v)
		if len(gist) < 4 && v.Sort() != element.Null {
			gist = append(gist, v.String())
		}
	}
	e.Gist = strings.Join(gist, ", ")
	return e, nil
}

// take takes a row out of the budget.
func (r *reader) take(values []any, brief bool) error {
	const cells = 6 // that take as much as an element
	size := int64(0)
	for _, v := range values {
		switch v := v.(type) {
		case []byte:
			size += int64(len(v))
		case string:
			size += int64(len(v))
		}
	}
	if err := r.budget.Decoded(size); err != nil || brief {
		return err
	}
	return r.budget.Built(1 + int64(len(values))/cells)
}

// keyText writes a value of a key; the empty text must not become no key at all.
func keyText(v any) string {
	switch v := v.(type) {
	case nil:
		return "null"
	case []byte:
		return fmt.Sprintf("%x", v)
	case string:
		if v == "" {
			return `""`
		}
		return v
	}
	return fmt.Sprint(v)
}

func (r *reader) value(v any, brief bool) element.Value {
	switch v := v.(type) {
	case nil:
		return element.NullValue()
	case int64:
		return element.IntValue(v)
	case float64:
		return element.NumberValue(strconv.FormatFloat(v, 'g', -1, 64))
	case bool:
		return element.BoolValue(v)
	case []byte:
		d := element.DigestOf(v)
		if !brief {
			r.held[d] = bytes.Clone(v)
		}
		return element.BytesValue(d, int64(len(v)))
	}
	return element.TextValue(fmt.Sprint(v))
}
