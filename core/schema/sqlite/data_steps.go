package sqlite

import (
	"context"
	"fmt"
	"strings"

	"oakenchest/core/schema/datastep"
)

// Split cuts the text of a data step into its statements.
func Split(sql string) ([]datastep.Statement, error) {
	list, err := statements(sql)
	var out []datastep.Statement
	for _, s := range list {
		out = append(out, datastep.Statement{Text: strings.TrimRight(sql[s.from:s.to], "; \t\r\n"), From: s.from, To: s.to, Line: s.line})
	}
	return out, err
}

// journalTable is where a database says which data steps were run by deployments of which nothing
// is recorded yet. It is no part of what is captured.
const journalTable = "oaken_steps"

// Journal is how this engine keeps it.
var Journal = datastep.Journal{
	Make: []string{"create table if not exists " + journalTable +
		" (token text not null, name text not null, back integer not null, text text not null)"},
	Add: func(token, name, whole string, back bool) string {
		return fmt.Sprintf("insert into "+journalTable+" values (%s, %s, %v, %s)", text(token), text(name), back, text(whole))
	},
	Check: func(name, query string) []string {
		const probe = "temp.oaken_check"
		return []string{"create table " + probe + " (n integer, constraint " + ident(datastep.Unmet(name)) + " check (n = 0))",
			"insert into " + probe + " select count(*) from (" + query + ")", "drop table " + probe}
	},
	Clear: []string{"drop table if exists " + journalTable},
}

// JournalOf reads the journal, in the order in which it was written.
func JournalOf(ctx context.Context, q Querier) (out []datastep.Entry, err error) {
	var there bool
	if err := q.QueryRowContext(ctx, "select count(*) > 0 from sqlite_master where name = "+text(journalTable)).Scan(&there); err != nil ||
		!there {
		return nil, err
	}
	rows, err := q.QueryContext(ctx, "select token, name, text, back from "+journalTable+" order by rowid")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	return datastep.Entries(rows)
}
