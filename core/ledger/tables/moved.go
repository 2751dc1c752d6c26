package tables

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"oakenchest/core/ledger"
)

// Leave gives the records up for a copy of them at a place: while nobody can write, take copies the file and
// proves the copy; only then, and in the same transaction, every record here goes, and the place is noted
// instead. Processes that have the records open meet a MovedError from then on, and lose nothing that they
// were told is kept. An error of take leaves all as it is.
func (l *Ledger) Leave(ctx context.Context, place string, take func() error) error {
	return l.leave(ctx, place, func(*Tx) error { return take() })
}

// LeaveAt is Leave where the copy is there already, as it was made at a moment; ErrMoved when something happened since.
func (l *Ledger) LeaveAt(ctx context.Context, place string, m Moment) error {
	return l.leave(ctx, place, func(tx *Tx) error {
		now, err := tx.Now()
		if err == nil && now != m {
			err = ledger.ErrMoved
		}
		return err
	})
}

func (l *Ledger) leave(ctx context.Context, place string, take func(*Tx) error) error {
	err := l.Update(ctx, func(tx *Tx) error {
		if err := take(tx); err != nil {
			return err
		}
		tables, err := tx.texts("select name from sqlite_master where type = 'table' and name not like 'sqlite_%' and name <> 'format'")
		if err != nil {
			return err
		}
		for _, name := range tables {
			if _, err := tx.exec(`drop table "` + strings.ReplaceAll(name, `"`, `""`) + `"`); err != nil {
				return err
			}
		}
		if _, err := tx.exec("create table moved (place text not null)"); err != nil {
			return err
		}
		_, err = tx.exec("insert into moved (place) values (?)", place)
		return err
	})
	if err != nil {
		return err
	}
	_, _ = l.db.ExecContext(ctx, "vacuum") // else the file stays as large as it was
	return nil
}

// movedTo tells whether the records went to another place; nil when they are here, or nobody can tell.
func (tx *Tx) movedTo() error {
	var place string
	if err := tx.tx.QueryRowContext(tx.ctx, "select place from moved").Scan(&place); err != nil {
		return nil
	}
	return &ledger.MovedError{Place: place}
}

// explain is explain of the engine's errors, where tables that are missing may have been moved.
func (tx *Tx) explain(err error) error {
	if strangers(err) {
		if moved := tx.movedTo(); moved != nil {
			return moved
		}
	}
	return explain(tx.ctx, err)
}

// check looks at a copy of the records with the engine's own check.
func (l *Ledger) check(ctx context.Context) error {
	var says string
	err := l.db.QueryRowContext(ctx, "pragma quick_check(1)").Scan(&says)
	if err == nil && says != "ok" {
		err = fmt.Errorf("%w: %s", ledger.ErrDamaged, says)
	}
	return explain(ctx, err)
}

// Snapshot writes a copy of the records, of one moment, to a file that must not be there. Others go on meanwhile.
func (l *Ledger) Snapshot(ctx context.Context, file string) error {
	_, err := l.db.ExecContext(ctx, "vacuum into ?", file)
	return explain(ctx, err)
}

// BeginAnew is Arrive of records that were brought back from a copy: who followed those before has to begin anew.
func BeginAnew(ctx context.Context, file string) error {
	if err := Arrive(ctx, file); err != nil {
		return err
	}
	l, err := Open(ctx, file)
	if err != nil {
		return err
	}
	return errors.Join(l.Update(ctx, (*Tx).beginMoments), l.Close())
}

// Arrive opens a copy of records in a file, looks at them with the engine's own check, and frees all leases in
// it: who held them meets a MovedError where they were.
func Arrive(ctx context.Context, file string) error {
	l, err := Open(ctx, file)
	if err != nil {
		return err
	}
	err = l.check(ctx)
	if err == nil {
		err = l.Update(ctx, func(tx *Tx) error {
			err := tx.changeLease("owner = ''", "owner <> ''")
			return missingIsFine(err)
		})
	}
	return errors.Join(err, l.Close())
}
