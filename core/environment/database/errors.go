// Package database has what drivers of databases have in common: tracked rows, what is lost and put back, data steps, and
// what engines said of the same files before.
package database

import (
	"errors"
	"fmt"
	"strings"

	"oakenchest/core/fault"
	"oakenchest/core/schema/step"
)

// ChangedNow says that somebody else changes a database at this moment.
func ChangedNow() error {
	return fault.New(fault.Refused, "Wait until that has ended, and run the command again; nothing was changed.",
		"Another deployment is changing the database.")
}

// InTheWay says which rows do not allow a change.
func InTheWay(r *step.RowsError) error {
	if r.NoFill {
		return fault.New(fault.Refused, "Change those rows first; nothing was changed.", "The rows that are there do not allow it: %w.", r)
	}
	return fault.New(fault.Refused,
		fmt.Sprintf("Declare a default, give a value with --fill '%s.%s=VALUE', or change those rows first; nothing was changed.", r.Table,
			r.Column), "The rows that are there do not allow it: %w.", r)
}

// IsRowsError says that the rows that are there do not allow a deployment.
func IsRowsError(err error) (*step.RowsError, bool) {
	var r *step.RowsError
	return r, errors.As(err, &r)
}

// Undeclarable says that what is declared can not be used.
func Undeclarable(err error) error {
	var f *fault.Error
	if errors.As(err, &f) {
		return err
	}
	return fault.New(fault.Refused, "Correct that file; nothing was changed.", "The declared database can't be used: %w.", err)
}

// Upper begins a sentence with a text.
func Upper(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

// Uncreated says that a database can not be made.
func Uncreated(name string, err error) error {
	var f *fault.Error
	if errors.As(err, &f) {
		return err
	}
	return fault.New(fault.Refused, "Give the user the right to make databases, or let somebody make it, empty, and try again.",
		"The database %s can't be made: %w.", fmt.Sprint(name), err)
}
