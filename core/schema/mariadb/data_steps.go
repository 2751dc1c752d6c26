package mariadb

import (
	"context"
	"fmt"

	"oakenchest/core/schema/datastep"
)

// Split cuts the text of a data step into its statements.
func Split(text string) ([]datastep.Statement, error) { return datastep.SplitBy(Dialect, text) }

// journalTable is where a database says which data steps were run by deployments of which nothing
// is recorded yet. It is no part of what is captured.
const journalTable = "oaken_steps"

// Journal is how this engine keeps it: a step and its entry are one transaction.
var Journal = datastep.Journal{
	Make: []string{"create table if not exists " + journalTable +
		" (id bigint auto_increment primary key, token varchar(200) not null, name varchar(1000) not null, back boolean not null, text " +
		"longtext not null) engine=InnoDB default charset=utf8mb4"},
	Add: func(token, name, text string, back bool) string {
		return fmt.Sprintf("insert into "+journalTable+" (token, name, back, text) values (%s, %s, %v, %s)", literal(token), literal(name),
			back, literal(text))
	},
	Begin: []string{"start transaction"},
	Check: func(name, query string) []string {
		return []string{"begin not atomic if exists (" + query + ") then signal sqlstate '45000' set message_text = " +
			literal(datastep.Unmet(name)) + "; end if; end"}
	},
	End:   []string{"commit"},
	Clear: []string{"drop table if exists " + journalTable},
}

// JournalOf reads the journal, in the order in which it was written.
func JournalOf(ctx context.Context, q Querier) (out []datastep.Entry, err error) {
	names, err := column(ctx, q, "select table_name from information_schema.tables where table_schema = database() and table_name = '"+
		journalTable+"'")
	if err != nil || len(names) == 0 {
		return nil, err
	}
	rows, err := q.QueryContext(ctx, "select token, name, text, back from "+journalTable+" order by id")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	return datastep.Entries(rows)
}

// SetMode gives the statement that sets the mode in which others run; the usual one for an empty.
func SetMode(mode string) string {
	if mode == "" {
		mode = usualMode
	}
	return "set sql_mode = " + literal(mode)
}
