package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"strconv"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/schema/sqltext"
)

// Querier is what a connection and a pool have in common.
type Querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
}

// Catalog is the schema of a database in the engine's own normal form.
type Catalog struct {
	Root *element.Element
	// Untracked lists what the database has and is not read, one line each.
	Untracked []string
	// Unseen gives, by sort or by sort and name of an object, the right that the user lacks to
	// see them: they may be there or not.
	Unseen map[string]string
}

// together is how many statements go to the engine in one round trip.
const together = 200

// shows are the statements that tell how each sort of object is made, with the column
// of the answer that has it, the one that has the sql_mode, and the one that has the character
// set of the session, behind which stands its collation (-1 for none).
var shows = []struct {
	typ, list, show     string
	text, mode, session int
}{
	{"table", "select table_name from information_schema.tables where table_schema = database() and table_type in ('BASE TABLE', 'SYSTEM " +
		"VERSIONED') and table_name <> '" + journalTable + "' order by table_name", "show create table ", 1, -1, -1},
	{"view", "select table_name from information_schema.views where table_schema = database() order by table_name",
		"show create view ", 1, -1, 2},
	{"sequence", "select table_name from information_schema.tables where table_schema = database() and table_type = 'SEQUENCE' order " +
		"by table_name", "show create sequence ", 1, -1, -1},
	{"function", "select routine_name from information_schema.routines where routine_schema = database() and routine_type = 'FUNCTION' " +
		"order by routine_name", "show create function ", 2, 1, 3},
	{"procedure", "select routine_name from information_schema.routines where routine_schema = database() and routine_type = 'PROCEDURE' " +
		"order by routine_name", "show create procedure ", 2, 1, 3},
	{"event", "select event_name from information_schema.events where event_schema = database() order by event_name",
		"show create event ", 3, 1, 4},
}

// Read reads the schema of the database that q is connected to.
func Read(ctx context.Context, q Querier) (*Catalog, error) {
	c := &Catalog{Root: &element.Element{Type: "database"}}
	r := newReader(true)
	r.d.Root = c.Root
	if _, err := q.ExecContext(ctx, "set session sql_quote_show_create = 1"); err != nil {
		return nil, err
	}
	may, err := rightsIn(ctx, q)
	if err != nil {
		return nil, err
	}
	c.Unseen = may.unseen()
	for _, s := range shows {
		names, err := column(ctx, q, s.list)
		if err != nil {
			return nil, err
		}
		for from := 0; from < len(names); from += together {
			var b strings.Builder
			part := names[from:min(from+together, len(names))]
			for _, n := range part {
				b.WriteString(s.show + "`" + strings.ReplaceAll(n, "`", "``") + "`;")
			}
			err := answers(ctx, q, b.String(), func(i int, row []sql.RawBytes) error {
				mode := ""
				if s.mode >= 0 {
					mode = string(row[s.mode])
				}
				if row[s.text] == nil {
					c.Untracked = append(c.Untracked, fmt.Sprintf("the %s %s, whose text this user may not read", s.typ, ident(part[i])))
					c.Unseen[s.typ+" "+part[i]] = "to read its text: SELECT on mysql.proc, or as its owner"
					return nil
				}
				session := ""
				if s.session >= 0 {
					session = sessionOf(string(row[s.session]), string(row[s.session+1]))
				}
				if err := r.made(string(row[s.text]), mode, session); err != nil {
					return fmt.Errorf("the %s %s: %w", s.typ, part[i], err)
				}
				return nil
			})
			if err != nil {
				return nil, err
			}
		}
	}
	if err := triggers(ctx, q, r); err != nil {
		return nil, err
	}
	if err := packages(ctx, q, c); err != nil {
		return nil, err
	}
	normal(c.Root)
	return c, nil
}

// made reads the text of a CREATE statement that the engine gave.
func (r *reader) made(text, mode, session string) error {
	ts, err := Dialect.Scan(text)
	if err != nil {
		return err
	}
	st := declaration{Statement: sqltext.Statement{Tokens: ts}, c: &sqltext.Cursor{Tokens: sqltext.Meaning(ts)}, text: text, mode: mode,
		session: session}
	return r.create(st)
}

// column gives the first column of a query's rows.
func column(ctx context.Context, q Querier, query string) ([]string, error) {
	var out []string
	err := answers(ctx, q, query, func(_ int, row []sql.RawBytes) error {
		out = append(out, string(row[0]))
		return nil
	})
	return out, err
}

// answers runs statements in one round trip and walks over the rows of each.
func answers(ctx context.Context, q Querier, query string, add func(statement int, row []sql.RawBytes) error) error {
	rows, err := q.QueryContext(ctx, query)
	if err != nil {
		return err
	}
	defer rows.Close()
	for n := 0; ; n++ {
		names, err := rows.Columns()
		if err != nil {
			return err
		}
		row, at := make([]sql.RawBytes, len(names)), make([]any, len(names))
		for i := range row {
			at[i] = &row[i]
		}
		for rows.Next() {
			if err := rows.Scan(at...); err != nil {
				return err
			}
			if err := add(n, row); err != nil {
				return err
			}
		}
		if !rows.NextResultSet() {
			return rows.Err()
		}
	}
}

func triggers(ctx context.Context, q Querier, r *reader) error {
	return answers(ctx, q, `select trigger_name, event_object_table, action_timing, event_manipulation, action_statement, sql_mode, definer, action_order, character_set_client, collation_connection
		from information_schema.triggers where trigger_schema = database() order by event_object_table, action_timing, event_manipulation, action_order`, func(_ int, row []sql.RawBytes) error {
		owner := r.objects["table "+ident(string(row[1]))]
		if owner == nil {
			return nil
		}
		when := strings.ToLower(string(row[2]) + " " + string(row[3]))
		e := &element.Element{Type: "trigger", Key: string(row[0]), Firm: true, Gist: when}
		setText(e, "when", when)
		if order, _ := strconv.Atoi(string(row[7])); order > 1 {
			before := kids(owner, "trigger")
			setText(e, "follows", before[len(before)-1].Key)
		}
		e.Set("body", element.TextValue(string(row[4])))
		setText(e, "owner", string(row[6]))
		if mode := string(row[5]); mode != usualMode {
			setText(e, "sql mode", mode)
		}
		setText(e, "session", sessionOf(string(row[8]), string(row[9])))
		owner.Add(e)
		return nil
	})
}

func packages(ctx context.Context, q Querier, c *Catalog) error {
	names, err := column(ctx, q, "select concat('the ', lower(routine_type), ' ', routine_name) from information_schema.routines where "+
		"routine_schema = database() and routine_type not in ('FUNCTION', 'PROCEDURE') order by 1")
	c.Untracked = append(c.Untracked, names...)
	return err
}

// normal drops what the engine writes out though it goes without saying: the
// character set of a column that its table has too.
func normal(root *element.Element) {
	for _, e := range kids(root, "table") {
		for _, c := range kids(e, "column") {
			if textOf(c, "charset") != "" && textOf(c, "charset") == textOf(e, "charset") && textOf(c, "collate") == textOf(e, "collate") {
				c.Set("charset", element.Value{})
				c.Set("collate", element.Value{})
				c.Gist = columnText(c)
			}
		}
	}
}
