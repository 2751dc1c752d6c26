package tables

import (
	"errors"
	"strings"
)

// upgrade brings older records to the format of this program.
func (tx *Tx) upgrade() error {
	var version int
	if err := tx.row("select version from format").Scan(&version); err != nil || version >= Version {
		return err // another process was faster
	}
	if momentsSince > version {
		for _, s := range following() {
			if _, err := tx.exec(s); err != nil {
				return err
			}
		}
		if err := tx.beginMoments(); err != nil {
			return err
		}
	}
	for _, t := range all {
		statements, resum := t.extend(version)
		for _, s := range statements {
			if _, err := tx.exec(s); err != nil {
				return err
			}
		}
		if resum {
			if err := tx.resum(t, ""); err != nil {
				return err
			}
		}
	}
	if version == 1 {
		if err := tx.allBroad(); err != nil {
			return err
		}
	}
	_, err := tx.exec("update format set version = ?", Version)
	return err
}

// allBroad notes all commits as broad ones: what those of the first format touched is not known.
func (tx *Tx) allBroad() error {
	commits, err := tx.Commits()
	for _, c := range commits {
		err = errors.Join(err, tx.AddTouches(c.ID, nil))
	}
	return err
}

// resum writes the sums of the rows that a clause chooses anew.
func (tx *Tx) resum(t declared, clause string, args ...any) error {
	columns := t.listColumns()
	n := len(columns)
	row := make([]any, n)
	into := make([]any, n)
	for i := range row {
		into[i] = &row[i]
	}
	rows, err := collectRows(tx, row, into, "select "+names(columns, "")+" from "+t.title()+" "+clause, args...)
	if err != nil {
		return err
	}
	for _, r := range rows {
		var sum, which []any
		var where []string
		for i, c := range columns {
			if c.role != counted {
				sum = append(sum, r[i])
			}
			if c.role != plain {
				where, which = append(where, c.name+" = ?"), append(which, r[i])
			}
		}
		if _, err := tx.exec("update "+t.title()+" set sum = ? where "+strings.Join(where, " and "),
			append([]any{rowSum(sum)}, which...)...); err != nil {
			return err
		}
	}
	return nil
}

// collectRows gives rows as the engine has them.
func collectRows(tx *Tx, row, into []any, query string, args ...any) (out [][]any, err error) {
	rs, err := tx.query(query, args...)
	if err != nil {
		return nil, err
	}
	defer rs.Close()
	for rs.Next() {
		if err := rs.Scan(into...); err != nil {
			return nil, tx.explain(err)
		}
		out = append(out, append([]any{}, row...))
	}
	return out, tx.explain(errors.Join(rs.Err(), rs.Close()))
}
