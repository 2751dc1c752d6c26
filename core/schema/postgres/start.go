package postgres

import (
	"context"
	"strings"

	"github.com/jackc/pgx/v5"
)

// otherState is what a script says that is run on another state than it was written for.
const otherState = "the database is not as it was when this script was written; write it anew"

// stateQuery sums up what a plan changes: columns, constraints, indexes, views, routines, triggers
// and the values of enums, in the engine's own words, with no schema in the path.
const stateQuery = `select pg_catalog.md5(coalesce(pg_catalog.string_agg(x, E'\n' order by x collate "C"), '')) from (
  select pg_catalog.concat_ws(' ', 'column', n.nspname, c.relname, c.relkind, a.attname, pg_catalog.format_type(a.atttypid, a.atttypmod), a.attnotnull, a.attidentity, a.attgenerated, pg_catalog.pg_get_expr(d.adbin, d.adrelid))
    from pg_catalog.pg_attribute a join pg_catalog.pg_class c on c.oid = a.attrelid join pg_catalog.pg_namespace n on n.oid = c.relnamespace left join pg_catalog.pg_attrdef d on d.adrelid = a.attrelid and d.adnum = a.attnum
    where a.attnum > 0 and not a.attisdropped and c.relkind in ('r', 'p', 'v', 'm', 'f', 'c') and ` + ownSchema + `
  union all select pg_catalog.concat_ws(' ', 'constraint', n.nspname, o.conname, pg_catalog.pg_get_constraintdef(o.oid)) from pg_catalog.pg_constraint o join pg_catalog.pg_namespace n on n.oid = o.connamespace where ` + ownSchema + `
  union all select pg_catalog.pg_get_indexdef(i.indexrelid) from pg_catalog.pg_index i join pg_catalog.pg_class c on c.oid = i.indexrelid join pg_catalog.pg_namespace n on n.oid = c.relnamespace where ` + ownSchema + `
  union all select pg_catalog.concat_ws(' ', 'view', n.nspname, c.relname, pg_catalog.pg_get_viewdef(c.oid)) from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace where c.relkind in ('v', 'm') and ` + ownSchema + `
  union all select pg_catalog.pg_get_functiondef(p.oid) from pg_catalog.pg_proc p join pg_catalog.pg_namespace n on n.oid = p.pronamespace where p.prokind in ('f', 'p') and ` + ownSchema + `
  union all select pg_catalog.pg_get_triggerdef(t.oid) from pg_catalog.pg_trigger t join pg_catalog.pg_class c on c.oid = t.tgrelid join pg_catalog.pg_namespace n on n.oid = c.relnamespace where not t.tgisinternal and ` + ownSchema + `
  union all select pg_catalog.concat_ws(' ', 'value', n.nspname, t.typname, e.enumlabel) from pg_catalog.pg_enum e join pg_catalog.pg_type t on t.oid = e.enumtypid join pg_catalog.pg_namespace n on n.oid = t.typnamespace where ` + ownSchema + `
) s (x)`

// StartsFrom gives the statement by which a script makes sure that it begins with the state that
// the database has now.
func StartsFrom(ctx context.Context, conn *pgx.Conn) (string, error) {
	tx, err := conn.Begin(ctx)
	if err != nil {
		return "", EngineError(err)
	}
	defer func() { _ = tx.Rollback(ctx) }()
	var sum string
	if _, err = tx.Exec(ctx, "set local search_path = ''"); err == nil {
		err = tx.QueryRow(ctx, stateQuery).Scan(&sum)
	}
	return "do " + dollarQuote("begin\n  if ("+stateQuery+") is distinct from "+literal(sum)+" then raise exception using message = "+
		literal(otherState)+"; end if;\nend"), EngineError(err)
}

// Ended gives a statement as a script needs it, with what ends it; what the engine's own program
// is told has nothing.
func Ended(sql string) string {
	if strings.HasPrefix(sql, `\`) {
		return sql
	}
	return sql + ";"
}
