// Package step says what a deployment does to a database: one thing at a time, with
// what it costs, the statements that do it, and the rows that are kept before they
// are lost. The planners of all engines give such steps.
package step

import (
	"fmt"
	"regexp"

	"oakenchest/core/element"
)

// Effect says what a step costs.
type Effect string

// The effects of a step, the least first.
const (
	Instant  Effect = "instant"
	Locks    Effect = "locks"    // others wait for as long as the deployment takes
	Scans    Effect = "scans"    // every row is read
	Rewrites Effect = "rewrites" // every row may be written again
	Unknown  Effect = "cost unknown"
	Loses    Effect = "loses data"
)

// Step is one thing to do, with the statements that do it.
type Step struct {
	// Address says which object, within the database: schema:care/table:feeding.
	Address    element.Address
	What       string
	Effect     Effect
	Loss       string // what would be lost, for people; empty for nothing
	Saves      []Save // the rows that are kept first
	Statements []string
	// Before says that the step must be committed before the others begin.
	Before bool
	// After says that the step runs by itself when the others have been committed.
	After bool
	// Mode is the sql_mode that a MariaDB step is made in; empty for the usual one.
	Mode string
	// Session is the character set and the collation of the session in which a MariaDB step makes
	// something; empty for the usual ones.
	Session string
	// AfterRows says that the step wants the tracked rows to be there: it adds a foreign
	// key, or fills a view; or that it comes after the data steps, because it takes away what
	// they may read, or holds rows to what they see to.
	AfterRows bool
	// Run says that this is a data step; nil for all others.
	Run *Run
	// Into is the folder of the project that the address lies in, where several targets
	// are changed together; empty for the only one.
	Into string
}

// Run is a data step that is carried out, or taken back.
type Run struct {
	Name, Text string
	Back       bool
	// Does are its statements, without checks.
	Does []string
}

// Constant says that an SQL expression gives the same value for every row: a number, a text, a truth.
func Constant(sql string) bool { return constant.MatchString(sql) }

var constant = regexp.MustCompile(`(?is)^\s*([-+]?[0-9]+(\.[0-9]+)?|'([^'\\]|'')*'|true|false)\s*$`)

// Due says which data steps come with a plan.
type Due struct {
	Before, Between bool
	// Texts are the statements of the steps.
	Texts []string
}

// Mends reports whether a data step may mend what of the rows of a table is in the way: one that
// names it, and all that names tell of it, such as a column; or that calls something of which
// nobody knows what it does.
func (d Due) Mends(table string, names ...string) bool {
	for _, text := range d.Texts {
		all := says(text, table)
		for _, n := range names {
			all = all && says(text, n)
		}
		if all || calls.MatchString(text) {
			return true
		}
	}
	return false
}

// says reports whether a text has a word.
func says(text, word string) bool {
	return regexp.MustCompile(`(?i)(^|[^\w$])` + regexp.QuoteMeta(word) + `($|[^\w$])`).MatchString(text)
}

var calls = regexp.MustCompile(`(?i)^\s*(call|do|select|execute|perform)\b`)

// Save is rows that a step loses, and that are kept first.
type Save struct {
	// Table is the SQL name of the table that they stand in, before the deployment.
	Table string
	// Column is the SQL name of the only column that is lost, of the rows in which it is
	// not null; empty when whole rows are.
	Column string
	// Where chooses the rows; empty for all.
	Where string
	// Only says that rows of tables below it are not meant.
	Only bool
	// Apart says that the table stays, and rows of it may change or go.
	Apart bool
}

// RowsError says that the rows of a live table do not allow a change.
type RowsError struct {
	Table, Column string
	Rows          int64
	Reason        string
	// NoFill says that no value that somebody gives would help.
	NoFill bool
}

// Error says which rows are in the way.
func (e *RowsError) Error() string {
	return fmt.Sprintf("table %s, column %s: %s in %s", e.Table, e.Column, e.Reason, Counted(e.Rows, "row"))
}

// Counted writes a number of things: "1 row", "3 rows".
func Counted(n int64, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// Changing writes how many values become others: "1 value that changes", "3 values that change".
func Changing(n int64) string {
	if n == 1 {
		return "1 value that changes"
	}
	return fmt.Sprintf("%d values that change", n)
}
