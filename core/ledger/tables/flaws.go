package tables

import (
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"sync"
)

// Rows other than commits, whose ids say what they are, carry a sum of their fields.

// Flaws says what is wrong with the records: where the engine finds its own file damaged, objects that are
// not of this program, and rows that are not what their sums say.
func (tx *Tx) Flaws() ([]string, error) {
	out, err := tx.texts("pragma integrity_check(20)")
	if len(out) == 1 && out[0] == "ok" {
		out = nil
	}
	if err != nil {
		return nil, err
	}
	strange, err := tx.foreign()
	out = append(out, strange...)
	errs := []error{err}
	for _, t := range all {
		if !t.guarded() {
			continue
		}
		bad, err := tx.flawsOf(t)
		out, errs = append(out, bad...), append(errs, err)
	}
	return out, errors.Join(errs...)
}

func (tx *Tx) flawsOf(t declared) (out []string, err error) {
	columns := given(t.listColumns())
	row, into := make([]any, len(columns)+1), make([]any, len(columns)+1)
	for i := range row {
		into[i] = &row[i]
	}
	rows, err := collectRows(tx, row, into, "select "+names(columns, "")+", sum from "+t.title())
	for _, r := range rows {
		if sum, ok := r[len(columns)].(int64); !ok || rowSum(r[:len(columns)]) != sum {
			out = append(out, fmt.Sprintf("the record of %v in %s is not what its sum says", r[0], t.title()))
		}
	}
	return out, err
}

// objects lists what an SQLite file declares: a table, an index, a trigger, a view. An index that the engine
// made by itself has no text.
const objects = "select type || ' ' || name from sqlite_master where sql is not null order by 1"

// ours lists the objects of a ledger that this program makes.
var ours = sync.OnceValues(func() (own []string, err error) {
	db, err := sql.Open("sqlite", ":memory:")
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	for _, s := range schema() {
		if _, err := db.Exec(s); err != nil {
			return nil, err
		}
	}
	return column1(db.Query(objects))
})

// foreign says which objects a ledger has that are not of this program, or lacks: a trigger, say, could
// change what is written.
func (tx *Tx) foreign() ([]string, error) {
	own, err := ours()
	if err != nil {
		return nil, err
	}
	here, err := tx.texts(objects)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, name := range here {
		if !slices.Contains(own, name) {
			out = append(out, fmt.Sprintf("the %s is not oaken's: somebody put it there", name))
		}
	}
	for _, name := range own {
		if !slices.Contains(here, name) {
			out = append(out, fmt.Sprintf("the %s is missing", name))
		}
	}
	return out, nil
}

// texts reads the one column of a query.
func (tx *Tx) texts(query string, args ...any) ([]string, error) {
	out, err := column1(tx.query(query, args...))
	return out, tx.explain(err)
}

func column1(rs *sql.Rows, err error) ([]string, error) {
	if err != nil {
		return nil, err
	}
	defer rs.Close()
	var out []string
	for rs.Next() {
		var name string
		if err := rs.Scan(&name); err != nil {
			return nil, err
		}
		out = append(out, name)
	}
	return out, errors.Join(rs.Err(), rs.Close())
}
