// Package ledger says what the records of a chest are: commits, branches, releases, locks, deployments and
// what is known of them, people at work. A record names bytes by digest. How records are kept is for the
// packages below it to say; here are their types, and the questions that can be asked of them.
package ledger

import (
	"errors"
)

// Errors that callers act on.
var (
	// ErrNotFound: no such record.
	ErrNotFound = errors.New("no such record")
	// ErrMoved: the branch is not where the caller believed it was.
	ErrMoved = errors.New("the branch has moved")
	// ErrTaken: the name is in use.
	ErrTaken = errors.New("the name is taken")
	// ErrNewer: the records were written by a newer program.
	ErrNewer = errors.New("the records have a newer format")
	// ErrBusy: another process kept the records for too long.
	ErrBusy = errors.New("the records are in use by another process")
	// ErrFull: there is no room to write them.
	ErrFull = errors.New("there is no room for the records")
	// ErrDamaged: they are not what this program wrote.
	ErrDamaged = errors.New("the records are damaged")
	// ErrReadOnly: they can't be written.
	ErrReadOnly = errors.New("the records can't be written")
	// ErrAway: the records are out of reach.
	ErrAway = errors.New("the records are out of reach")
)
