package postgres

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// The log of changes is a schema with a table, into which two event triggers write who
// changed what (PostgreSQL's documentation, "Event Triggers"). Catalogs are read without
// it.

// LogSchema is the schema of the log.
const LogSchema = "oaken_log"

var logParts = []string{
	`create schema ` + LogSchema,
	`comment on schema ` + LogSchema + ` is 'Who changed what in this database, as oaken env prepare set it up'`,
	`create table ` + LogSchema + `.changes (
  id bigint generated always as identity primary key,
  at timestamptz not null default pg_catalog.clock_timestamp(),
  login text not null default session_user,
  program text not null default pg_catalog.current_setting('application_name'),
  command text not null,
  sort text not null,
  schema text,
  name text not null
)`,
	`create function ` + LogSchema +
		`.note() returns event_trigger language plpgsql security definer set search_path = pg_catalog, pg_temp as $body$
declare
  o record;
begin
  if tg_event = 'sql_drop' then
    for o in select * from pg_catalog.pg_event_trigger_dropped_objects() where (original or object_type in ('table column', 'index', 'table constraint', 'trigger', 'rule', 'policy')) and not is_temporary loop
      if o.schema_name is distinct from '` + LogSchema + `' then
        insert into ` + LogSchema +
		`.changes (command, sort, schema, name) values (tg_tag, o.object_type, o.schema_name, o.object_identity);
      end if;
    end loop;
    return;
  end if;
  for o in select c.*, i.indrelid from pg_catalog.pg_event_trigger_ddl_commands() c left join pg_catalog.pg_index i on c.object_type = 'index' and i.indexrelid = c.objid loop
    if o.schema_name is distinct from '` + LogSchema + `' and o.schema_name is distinct from 'pg_temp' then
      if o.indrelid is not null then
        insert into ` + LogSchema +
		`.changes (command, sort, schema, name) select tg_tag, 'table', n.nspname, pg_catalog.quote_ident(n.nspname) || '.' || pg_catalog.quote_ident(c.relname)
          from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace where c.oid = o.indrelid;
      else
        insert into ` + LogSchema +
		`.changes (command, sort, schema, name) values (tg_tag, o.object_type, o.schema_name, o.object_identity);
      end if;
    end if;
  end loop;
end
$body$`,
	`revoke all on function ` + LogSchema + `.note() from public`,
	`grant usage on schema ` + LogSchema + ` to public`,
	`grant select on ` + LogSchema + `.changes to public`,
	`create event trigger ` + LogSchema + `_changes on ddl_command_end execute function ` + LogSchema + `.note()`,
	`create event trigger ` + LogSchema + `_drops on sql_drop execute function ` + LogSchema + `.note()`,
}

// Prepared says whether a database keeps the log of changes.
func Prepared(ctx context.Context, conn *pgx.Conn) (there bool, err error) {
	err = conn.QueryRow(ctx, "select exists (select from pg_catalog.pg_namespace where nspname = $1)", LogSchema).Scan(&there)
	return there, EngineError(err)
}

// Prepare sets up the log of changes, whole or not at all.
func Prepare(ctx context.Context, conn *pgx.Conn) error { return allOrNothing(ctx, conn, logParts) }

// Unprepare takes the log of changes away, with what it holds.
func Unprepare(ctx context.Context, conn *pgx.Conn) error {
	return allOrNothing(ctx, conn, []string{"drop event trigger if exists " + LogSchema + "_changes",
		"drop event trigger if exists " + LogSchema + "_drops", "drop schema " + LogSchema + " cascade"})
}

func allOrNothing(ctx context.Context, conn *pgx.Conn, statements []string) error {
	tx, err := conn.Begin(ctx)
	if err != nil {
		return EngineError(err)
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
	for _, sql := range statements {
		if _, err := tx.Exec(ctx, sql); err != nil {
			return EngineError(err)
		}
	}
	return EngineError(tx.Commit(ctx))
}

// Logged is the last change of one thing, as the log tells it.
type Logged struct {
	// Sort and Name are the engine's words for the thing: "table column", care.tank.note.
	Sort, Schema, Name string
	Login, Program     string
	Command            string
	At                 time.Time
}

// Log gives the changes that were logged, the newest of each thing, the oldest first.
func Log(ctx context.Context, conn *pgx.Conn) ([]Logged, error) {
	rows, err := conn.Query(ctx, "select sort, coalesce(schema, ''), name, login, program, command, at from (select distinct on (sort, "+
		"name) * from "+LogSchema+".changes order by sort, name, id desc) c order by id")
	if err != nil {
		return nil, EngineError(err)
	}
	list, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (l Logged, err error) {
		return l, row.Scan(&l.Sort, &l.Schema, &l.Name, &l.Login, &l.Program, &l.Command, &l.At)
	})
	return list, EngineError(err)
}

// objectSorts are the engine's words for objects with a file of their own.
var objectSorts = map[string]string{"table": "table", "foreign table": "table", "view": "view", "materialized view": "view",
	"sequence": "sequence", "function": "function", "procedure": "procedure", "aggregate": "aggregate",
	"type": "type", "composite type": "type", "domain": "type", "schema": "schema", "extension": "extension",
	"event trigger": "event-trigger", "collation": "collation"}

// Names gives the identities, as ID writes them, that a logged thing may be or belong to.
func (l Logged) Names() []string {
	parts := splitNames(l.Name)
	switch sort := objectSorts[l.Sort]; {
	case l.Sort == "table column" && len(parts) == 3:
		return []string{"table " + ident(parts[0], parts[1])}
	case l.Sort == "index" && len(parts) == 2:
		return []string{"index " + ident(parts[0], parts[1])}
	case sort == "":
		if _, owner, ok := lastCut(l.Name, " on "); ok {
			if parts := splitNames(owner); len(parts) == 2 {
				return []string{"table " + ident(parts[0], parts[1]), "view " + ident(parts[0], parts[1])}
			}
		}
		return nil
	case routine(sort):
		name, _ := splitRoutine(l.Name)
		if parts := splitNames(name); len(parts) == 2 {
			return []string{sort + " " + ident(parts[0], parts[1])}
		}
	case len(parts) == 2:
		return []string{sort + " " + ident(parts[0], parts[1])}
	case len(parts) == 1:
		return []string{sort + " " + ident(parts[0])}
	}
	return nil
}

// splitNames parts a qualified name.
func splitNames(s string) []string {
	ts, err := Dialect.Scan(s)
	if err != nil {
		return nil
	}
	var out []string
	for i := 0; i < len(ts); i += 2 {
		out = append(out, Dialect.NameOf(ts[i]))
	}
	return out
}

func lastCut(s, sep string) (before, after string, found bool) {
	for i := len(s) - len(sep); i >= 0; i-- {
		if s[i:i+len(sep)] == sep {
			return s[:i], s[i+len(sep):], true
		}
	}
	return s, "", false
}

// String writes who and what.
func (l Logged) String() string { return fmt.Sprintf("%s %s by %s", l.Command, l.Name, l.Login) }
