package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"oakenchest/core/schema/datastep"
)

// Split cuts the text of a data step into its statements.
func Split(text string) ([]datastep.Statement, error) { return datastep.SplitBy(Dialect, text) }

// StepsSchema is where a database says which data steps were run by deployments of which nothing
// is recorded yet. It is no part of what is captured.
const StepsSchema = "oaken_steps"

// Journal is how this engine keeps it. A step reads names without a schema in public, as people
// write them; what constraints put off is looked at when it ends, because tables with such work
// can't be changed.
var Journal = datastep.Journal{
	Make: []string{"create schema if not exists " + StepsSchema,
		"create table if not exists " + StepsSchema +
			".done (id bigint generated always as identity primary key, token text not null, name text not null, back boolean not null, " +
			"text text not null)"},
	Add: func(token, name, text string, back bool) string {
		return fmt.Sprintf("insert into "+StepsSchema+".done (token, name, back, text) values (%s, %s, %v, %s)", literal(token),
			literal(name), back, literal(text))
	},
	Begin: []string{"set local search_path = public"},
	End:   []string{"set constraints all immediate", "set local search_path = ''"},
	Check: func(name, query string) []string {
		return []string{"do " + dollarQuote("begin if exists ("+query+") then raise exception using message = "+
			literal(datastep.Unmet(name))+"; end if; end")}
	},
	Clear: []string{"drop schema if exists " + StepsSchema + " cascade"},
}

// JournalOf reads the journal, in the order in which it was written.
func JournalOf(ctx context.Context, conn *pgx.Conn) (out []datastep.Entry, err error) {
	var there bool
	if err := conn.QueryRow(ctx, "select to_regclass('"+StepsSchema+".done') is not null").Scan(&there); err != nil || !there {
		return nil, err
	}
	rows, err := conn.Query(ctx, "select token, name, text, back from "+StepsSchema+".done order by id")
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowToStructByName[datastep.Entry])
}

// ClearJournal takes the journal away.
func ClearJournal(ctx context.Context, conn *pgx.Conn) error {
	_, err := conn.Exec(ctx, strings.Join(Journal.Clear, ";"), pgx.QueryExecModeSimpleProtocol)
	return err
}
