package ledger

import (
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"sync"
)

// objects lists what an SQLite file declares: a table, an index, a trigger, a view. An index that the engine
// made by itself has no text.
const objects = "select type || ' ' || name from sqlite_master where sql is not null order by 1"

// declared lists the objects of a ledger that this program makes.
var declared = sync.OnceValues(func() (own []string, err error) {
	db, err := sql.Open("sqlite", ":memory:")
	if err != nil {
		return nil, err
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	if _, err := db.Exec(schema); err != nil {
		return nil, err
	}
	return names(db.Query(objects))
})

// foreign says which objects a ledger has that are not of this program, or lacks: a trigger, say, could
// change what is written.
func (tx *Tx) foreign() ([]string, error) {
	own, err := declared()
	if err != nil {
		return nil, err
	}
	here, err := names(tx.tx.QueryContext(tx.ctx, objects))
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

// names reads the one column of a query.
func names(rs *sql.Rows, err error) ([]string, error) {
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
