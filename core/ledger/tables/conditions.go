package tables

import (
	"context"
	"errors"
	"fmt"

	"modernc.org/sqlite"
	codes "modernc.org/sqlite/lib"

	"oakenchest/core/ledger"
)

// conditions are what the engine says of the machine by its codes, with our errors for them.
var conditions = map[int]error{
	codes.SQLITE_BUSY: ledger.ErrBusy, codes.SQLITE_LOCKED: ledger.ErrBusy, codes.SQLITE_PROTOCOL: ledger.ErrBusy,
	codes.SQLITE_FULL: ledger.ErrFull, codes.SQLITE_IOERR: ledger.ErrFull,
	codes.SQLITE_READONLY: ledger.ErrReadOnly, codes.SQLITE_CANTOPEN: ledger.ErrReadOnly, codes.SQLITE_PERM: ledger.ErrReadOnly,
	codes.SQLITE_CORRUPT: ledger.ErrDamaged, codes.SQLITE_NOTADB: ledger.ErrDamaged,
	// A statement of ours is wrong where the tables are not ours.
	codes.SQLITE_ERROR: ledger.ErrDamaged, codes.SQLITE_SCHEMA: ledger.ErrDamaged, codes.SQLITE_MISMATCH: ledger.ErrDamaged,
}

// code gives the engine's code; extended when it has one; 0 for an error that is not the engine's.
func code(err error) int {
	var engine *sqlite.Error
	if errors.As(err, &engine) {
		return engine.Code()
	}
	return 0
}

// explain adds the error of ours that an engine's error means.
func explain(ctx context.Context, err error) error {
	c := code(err)
	if c == 0 {
		return err
	}
	if c&0xff == codes.SQLITE_INTERRUPT && ctx.Err() != nil {
		return ctx.Err()
	}
	if is, ok := conditions[c&0xff]; ok {
		return fmt.Errorf("%w: %w", is, err)
	}
	return err
}

// taken maps a second row of one key to ErrTaken.
func taken(err error) error {
	switch code(err) {
	case codes.SQLITE_CONSTRAINT_UNIQUE, codes.SQLITE_CONSTRAINT_PRIMARYKEY, codes.SQLITE_CONSTRAINT_ROWID:
		return ledger.ErrTaken
	}
	return err
}

// strangers reports whether an error may say that tables are missing.
func strangers(err error) bool { return code(err)&0xff == codes.SQLITE_ERROR }
