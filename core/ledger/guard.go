package ledger

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strings"

	"github.com/cespare/xxhash/v2"
)

// Rows other than commits, whose ids say what they are, carry a sum of their
// fields: XXH64 over each as text with its length before it.

// guarded lists the tables with such rows, and the fields in the order of the sum.
var guarded = map[string]string{
	"branches":    "name, tip, origin, author, time",
	"releases":    "name, commit_id, comment, author, time",
	"locks":       "address, holder, workspace, since, reason, ends, sort",
	"deployments": "environment, commit_id, author, workspace, time, source, steps",
	"kept":        "environment, time, tree, deployment",
	"undone":      "deployment, author, workspace, time",
	"touches":     "path, commit_id, gone, origin",
	"workspaces":  "name, mark, person, machine, folder, branch, base, held, seen",
	"edits":       "workspace, path, state, kind, content, merges, contested, since, told",
	"notices":     "workspace, time, text",
	"parked":      "person, name, workspace, branch, base, tree, time, note, shared, paths",
	"reviews":     "title, text, item, source, target, author, workspace, opened, state, closer, closed, outcome",
	"accounts":    "deployment, action, origin, lane, source, began, took, gates, items, reason, tree",
	"approvals":   "environment, commit_id, person, time, text, withdrawn",
	"bookings":    "environment, lane, person, workspace, asked, begins, ends, lasts, note, ended",
	"picks":       "commit_id, origin",
	"deeds":       "commit_id, deed",
	"settled":     "commit_id",
	"proofs":      "deployment, folder, rules",
	"takings":     "commit_id, work",
	"absences":    "environment, work, person, time, reason, kept",
	"attempts":    "environment, action, person, workspace, time, outcome, said",
	"pending":     "origin, target, chosen, person, time",
	"choices":     "origin, target, address, sides, keep, sort, value, person, time",

	"approved_trees": "approval, tree",
	"distincts":      "one, other, person, time, reason",
	"looks":          "environment, time, commit_id, differences, failure, person",
	"remarks":        "review, kind, address, tip, author, time, text",
}

func rowSum(fields []any) int64 {
	var h xxhash.Digest
	h.Reset()
	for _, f := range fields {
		text := fmt.Sprint(f)
		_, _ = h.Write(binary.LittleEndian.AppendUint32(nil, uint32(len(text)))) // never fails
		_, _ = h.WriteString(text)
	}
	return int64(h.Sum64())
}

// insertion writes the statement that adds a row to a guarded table.
func insertion(table string) string {
	fields := guarded[table]
	return "insert into " + table + " (" + fields + ", sum) values (?" + strings.Repeat(", ?", strings.Count(fields, ",")+1) + ")"
}

// insert adds a row to a guarded table; its fields are texts and numbers. A
// clash of the primary key is ErrTaken.
func (tx *Tx) insert(table string, fields ...any) error {
	_, err := tx.tx.ExecContext(tx.ctx, insertion(table), append(fields, rowSum(fields))...)
	if err != nil && strings.Contains(err.Error(), "constraint failed: UNIQUE") {
		return ErrTaken
	}
	return err
}

// put is insert, in place of a row of the same key.
func (tx *Tx) put(table string, fields ...any) error {
	statement := strings.Replace(insertion(table), "insert into", "insert or replace into", 1)
	_, err := tx.tx.ExecContext(tx.ctx, statement, append(fields, rowSum(fields))...)
	return err
}

// flag is a boolean as the records keep it.
func flag(b bool) int {
	if b {
		return 1
	}
	return 0
}

// remove runs a delete statement; ErrNotFound when it took nothing away.
func (tx *Tx) remove(statement string, args ...any) error {
	r, err := tx.tx.ExecContext(tx.ctx, statement, args...)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, ErrNotFound)
	}
	return nil
}

// Flaws says what is wrong with the records: where the engine finds its own file
// damaged, objects that are not of this program, and rows that are not what their sums say.
func (tx *Tx) Flaws() ([]string, error) {
	out, err := rows(tx, func(scan func(...any) error) (string, error) {
		var line string
		err := scan(&line)
		return line, err
	}, "pragma integrity_check(20)")
	if len(out) == 1 && out[0] == "ok" {
		out = nil
	}
	if err != nil {
		return nil, err
	}
	strange, err := tx.foreign()
	out = append(out, strange...)
	errs := []error{err}
	for table := range guarded {
		bad, err := tx.flawsOf(table)
		out, errs = append(out, bad...), append(errs, err)
	}
	return out, errors.Join(errs...)
}

func (tx *Tx) flawsOf(table string) ([]string, error) {
	n := strings.Count(guarded[table], ",") + 1
	lines, err := rows(tx, func(scan func(...any) error) (string, error) {
		fields, at := make([]any, n), make([]any, n+1)
		for i := range fields {
			at[i] = &fields[i]
		}
		var sum int64
		at[n] = &sum
		if err := scan(at...); err != nil || rowSum(fields) == sum {
			return "", err
		}
		return fmt.Sprintf("the record of %v in %s is not what its sum says", fields[0], table), nil
	}, "select "+guarded[table]+", sum from "+table)
	var out []string
	for _, l := range lines {
		if l != "" {
			out = append(out, l)
		}
	}
	return out, err
}

// guardAll gives sums to rows that have none yet.
func (tx *Tx) guardAll(table, key string) error {
	n := strings.Count(guarded[table], ",") + 1
	type row struct{ fields []any }
	all, err := rows(tx, func(scan func(...any) error) (row, error) {
		r := row{make([]any, n+1)}
		at := make([]any, n+1)
		for i := range at {
			at[i] = &r.fields[i]
		}
		return r, scan(at...)
	}, "select "+guarded[table]+", "+key+" from "+table)
	for _, r := range all {
		if err == nil {
			_, err = tx.tx.ExecContext(tx.ctx, "update "+table+" set sum = ? where "+key+" = ?", rowSum(r.fields[:n]), r.fields[n])
		}
	}
	return err
}
