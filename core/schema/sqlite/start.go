package sqlite

import (
	"context"
	"database/sql"
	"strings"
)

// otherState is what a script says that is run on another state than it was written for.
const otherState = "the database is not as it was when this script was written; write it anew"

const stateQuery = "select group_concat(sql, char(10)) from (select coalesce(sql, '') as sql from sqlite_master where tbl_name not like " +
	"'sqlite\\_%' escape '\\' and tbl_name <> '" + journalTable + "' order by type, name)"

// StartsFrom gives the statements by which a script makes sure that it begins with the state that
// the database has now.
func StartsFrom(ctx context.Context, q Querier) ([]string, error) {
	var state sql.NullString
	if err := q.QueryRowContext(ctx, stateQuery).Scan(&state); err != nil {
		return nil, engineError(err)
	}
	is := "null"
	if state.Valid {
		is = text(state.String)
	}
	const probe = "temp.oaken_start"
	return []string{"create table " + probe + " (n integer, constraint " + ident(otherState) + " check (n = 1))",
		"insert into " + probe + " select (" + stateQuery + ") is " + is, "drop table " + probe}, nil
}

// Ended gives a statement as a script needs it, with what ends it; what the engine's own program
// is told has nothing.
func Ended(sql string) string {
	if strings.HasPrefix(sql, ".") {
		return sql
	}
	return sql + ";"
}
