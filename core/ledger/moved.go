package ledger

import (
	"context"
	"errors"
	"fmt"
	"strings"
)

// MovedError says that the records were brought to another place.
type MovedError struct {
	// Place is where they went, as Leave was told.
	Place string
}

// Error says where they are.
func (e *MovedError) Error() string { return "the records are in " + e.Place + " now" }

// Leave gives the records up for a copy of them at a place: while nobody can write, take copies the file
// and proves the copy; only then, and in the same transaction, every record here goes, and the place is
// noted instead. Processes that have the records open meet a MovedError from then on, and lose nothing
// that they were told is kept. An error of take leaves all as it is.
func (l *Ledger) Leave(ctx context.Context, place string, take func() error) error {
	err := l.Update(ctx, func(tx *Tx) error {
		if err := take(); err != nil {
			return err
		}
		tables, err := rows(tx, func(scan func(...any) error) (name string, err error) { return name, scan(&name) },
			"select name from sqlite_master where type = 'table' and name not like 'sqlite_%' and name <> 'format'")
		if err != nil {
			return err
		}
		for _, name := range tables {
			if _, err := tx.tx.ExecContext(ctx, `drop table "`+strings.ReplaceAll(name, `"`, `""`)+`"`); err != nil {
				return err
			}
		}
		if _, err := tx.tx.ExecContext(ctx, "create table moved (place text not null)"); err != nil {
			return err
		}
		_, err = tx.tx.ExecContext(ctx, "insert into moved (place) values (?)", place)
		return err
	})
	if err != nil {
		return err
	}
	_, _ = l.db.ExecContext(ctx, "vacuum") // else the file stays as large as it was
	return nil
}

// movedTo tells whether the records went to another place; nil when they are here, or nobody can tell.
func (l *Ledger) movedTo(ctx context.Context) error {
	var place string
	err := l.db.QueryRowContext(ctx, "select place from moved").Scan(&place)
	if err != nil {
		return nil
	}
	return &MovedError{place}
}

// explainHere is explain, where tables that are missing may have been moved.
func (l *Ledger) explainHere(ctx context.Context, err error) error {
	if err != nil && l != nil && strings.Contains(err.Error(), "no such table") {
		if moved := l.movedTo(ctx); moved != nil {
			return moved
		}
	}
	return explain(err)
}

// check looks at a copy of the records with the engine's own check.
func (l *Ledger) check(ctx context.Context) error {
	var says string
	err := l.db.QueryRowContext(ctx, "pragma quick_check(1)").Scan(&says)
	if err == nil && says != "ok" {
		err = fmt.Errorf("%w: %s", ErrDamaged, says)
	}
	return explain(err)
}

// Check opens the records in a file, looks at them with the engine's own check, and closes them.
func Check(ctx context.Context, file string) error {
	l, err := Open(ctx, file)
	if err != nil {
		return err
	}
	return errors.Join(l.check(ctx), l.Close())
}
