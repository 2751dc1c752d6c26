package sqlite

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"database/sql"
	sqldriver "database/sql/driver"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	engine "modernc.org/sqlite"

	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/manifest"
	catalog "oakenchest/core/schema/sqlite"
)

// veil is the function that hides a text: HMAC-SHA-256 (RFC 2104) of it under a salt, in hexadecimal digits.
const veil = "oaken_veil"

func init() {
	engine.MustRegisterDeterministicScalarFunction(veil, 2,
		func(_ *engine.FunctionContext, args []sqldriver.Value) (sqldriver.Value, error) {
			if args[1] == nil {
				return nil, nil
			}
			mac := hmac.New(sha256.New, fmt.Append(nil, args[0]))
			fmt.Fprint(mac, args[1])
			return hex.EncodeToString(mac.Sum(nil))[:32], nil
		})
}

// copyFile makes a database file a copy of another: the engine writes a new file, values are masked in it, and it takes the
// place of the old one.
func copyFile(ctx context.Context, h environment.Host, from, to string, c environment.Copying) (err error) {
	source, target := h.File(from), h.File(to)
	fresh := filepath.Join(filepath.Dir(target), fmt.Sprintf(".oaken-%s-%d", filepath.Base(target), os.Getpid()))
	defer func() {
		for _, ending := range []string{"", "-journal", "-wal", "-shm"} {
			_ = os.Remove(fresh + ending) // it is gone where all went well
		}
	}()
	if err := vacuumInto(ctx, source, fresh); err != nil {
		return environment.Uncopied(err)
	}
	if err := prepare(ctx, fresh, c); err != nil {
		return environment.Uncopied(err)
	}
	if _, err := os.Stat(target); err == nil {
		if err := os.MkdirAll(filepath.Dir(c.Save), 0o700); err != nil {
			return environment.Unsaved(err)
		}
		if err := vacuumInto(ctx, target, c.Save); err != nil {
			return environment.Unsaved(err)
		}
		if err := idle(ctx, target); err != nil {
			return err
		}
	}
	if err := os.Rename(fresh, target); err != nil {
		return environment.Uncopied(err)
	}
	for _, ending := range []string{"-journal", "-wal", "-shm"} {
		_ = os.Remove(target + ending) // those of the file that went
	}
	return nil
}

// vacuumInto writes a database anew into a file, without what is deleted in it.
func vacuumInto(ctx context.Context, file, into string) error {
	db, err := catalog.Open(file, false)
	if err != nil {
		return err
	}
	_, err = db.ExecContext(ctx, "vacuum into ?", into)
	return errors.Join(err, db.Close())
}

// idle refuses a database that somebody is working in.
func idle(ctx context.Context, file string) error {
	db, err := catalog.Open(file, false)
	if err != nil {
		return err
	}
	for _, statement := range []string{"pragma journal_mode = delete", "begin exclusive", "commit"} {
		if _, err := db.ExecContext(ctx, statement); err != nil {
			return errors.Join(fault.New(fault.Refused, "Let everybody close it, and run it again. Nothing was changed.",
				"%s is in use: %w.", file, err), db.Close())
		}
	}
	return db.Close()
}

// prepare takes the rows out of a copy that are not wanted, and masks values. What is taken away is no part of the file then.
func prepare(ctx context.Context, file string, c environment.Copying) error {
	db, err := catalog.Open(file, false)
	if err != nil {
		return err
	}
	defer db.Close()
	live, err := catalog.Read(ctx, db)
	if err != nil {
		return err
	}
	statements := []string{"pragma foreign_keys = off", "pragma journal_mode = delete"}
	triggers, err := texts(ctx, db, "select sql from sqlite_master where type = 'trigger'")
	if err != nil {
		return err
	}
	names, err := texts(ctx, db, "select name from sqlite_master where type = 'trigger'")
	if err != nil {
		return err
	}
	for _, name := range names {
		statements = append(statements, "drop trigger "+quoted(name))
	}
	tables := catalog.Tables(live)
	for _, t := range tables {
		if !c.Takes(t.Bare) {
			statements = append(statements, "delete from "+quoted(t.Bare))
		}
	}
	for _, m := range c.Masks {
		i := slices.IndexFunc(tables, func(t table) bool { return strings.EqualFold(t.Bare, m.Table()) })
		if i < 0 {
			return environment.NoColumn(m)
		}
		more, err := masking(ctx, db, tables[i], m, c.Salt)
		if err != nil {
			return err
		}
		statements = append(statements, more...)
	}
	statements = append(statements, triggers...)
	for _, s := range append(statements, "vacuum") {
		if _, err := db.ExecContext(ctx, s); err != nil {
			return err
		}
	}
	broken, err := texts(ctx, db, "select distinct \"table\" from pragma_foreign_key_check")
	if err == nil && len(broken) > 0 {
		err = fault.New(fault.Refused, "Take the rows of the tables that they refer to as well. Nothing was changed.",
			"Rows of %s would refer to rows that are not taken.", strings.Join(broken, ", "))
	}
	return err
}

// masking gives the statements that mask a column.
func masking(ctx context.Context, db *sql.DB, t table, m manifest.Mask, salt string) ([]string, error) {
	var name string
	var required bool
	err := db.QueryRowContext(ctx, "select name, \"notnull\" from pragma_table_xinfo(?) where lower(name) = lower(?)", t.Bare, m.Name()).
		Scan(&name, &required)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, environment.NoColumn(m)
	}
	if err != nil {
		return nil, err
	}
	column, of := quoted(name), quoted(t.Bare)
	switch m.With {
	case manifest.MaskNull:
		if required {
			return nil, environment.Unmaskable(m, "it takes no null")
		}
		return []string{"update " + of + " set " + column + " = null"}, nil
	case manifest.MaskValue:
		return []string{"update " + of + " set " + column + " = " + literal(m.Value) + " where " + column + " is not null"}, nil
	case manifest.MaskHash:
		return []string{"update " + of + " set " + column + " = " + veil + "(" + literal(salt) + ", " + column + ")"}, nil
	}
	if _, err := db.ExecContext(ctx, "select rowid from "+of+" limit 0"); err != nil {
		return nil, environment.Unmaskable(m, "the table has no row numbers")
	}
	return []string{
		"create temp table oaken_rows as select rowid as r, " + column + " as v, row_number() over (order by random()) as n, " +
			"count(*) over () as k from " + of,
		"create index temp.oaken_by_row on oaken_rows (r)", "create index temp.oaken_by_number on oaken_rows (n)",
		"update " + of + " set " + column + " = (select b.v from oaken_rows a join oaken_rows b on b.n = a.n % a.k + 1 where a.r = " + of +
			".rowid)", // each gets that of the next one in a random order, so that none keeps its own
		"drop table temp.oaken_rows",
	}, nil
}

func quoted(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

func literal(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }

// texts gives the only column of a query.
func texts(ctx context.Context, db *sql.DB, query string) (out []string, err error) {
	list, err := db.QueryContext(ctx, query)
	if err != nil {
		return nil, err
	}
	defer list.Close()
	for list.Next() {
		var s string
		if err := list.Scan(&s); err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, list.Err()
}
