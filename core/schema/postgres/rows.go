package postgres

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/jackc/pgx/v5"

	"oakenchest/core/element"
	"oakenchest/core/kind/partfile"
	"oakenchest/core/schema/rows"
)

// Tables gives the tables of a tree as those that can have tracked rows, with the columns
// that they have from tables above them.
func Tables(root *element.Element) []rows.Table {
	var out []rows.Table
	all := objects(root)
	byName := map[string]*element.Element{}
	for _, o := range all {
		if o.e.Type == "table" || o.e.Type == "type" {
			byName[o.name()] = o.e
		}
	}
	for _, o := range all {
		if o.e.Type != "table" || has(o.e, "server") {
			continue
		}
		if len(parents(o.e)) > 0 {
			o.e = effective(o.e, byName)
		}
		if of := byName[textOf(o.e, "of")]; of != nil {
			o.e = typed(o.e, of)
		}
		out = append(out, o.rowsTable())
	}
	rows.Distinct(out, func(t rows.Table) string {
		return rows.Place(partfile.Safe(t.Schema), partfile.Safe(t.Bare)+"~"+element.DigestOf([]byte(t.SQL)).Short())
	})
	return out
}

// typed is a table of a composite type with the columns that this has.
func typed(e, of *element.Element) *element.Element {
	out := e.Clone()
	for _, a := range kids(of, "attribute") {
		if kid(out, "column", a.Key) == nil {
			c := a.Clone()
			c.Type = "column"
			out.Add(c)
		}
	}
	return out
}

func (o object) rowsTable() rows.Table {
	name := o.schema + "." + o.e.Key
	t := rows.Table{Name: name, Bare: o.e.Key, Schema: o.schema, SQL: o.name(),
		File: rows.Place(partfile.Safe(o.schema), partfile.Safe(o.e.Key))}
	for _, c := range kids(o.e, "column") {
		if has(c, "generated") {
			continue
		}
		t.Columns = append(t.Columns, rowsColumn(c))
		if how := textOf(c, "identity"); how != "" || has(c, "sequence") {
			if how != "" {
				t.Insert = " overriding system value"
			}
			t.After = append(t.After, countOn(o, c))
		}
	}
	for _, c := range kids(o.e, "constraint") {
		def := textOf(c, "definition")
		switch {
		case strings.HasPrefix(def, "primary key"):
			t.Key = rows.Resolve(t.Columns, Dialect.ColumnList(def))
		case strings.HasPrefix(def, "unique ("):
			t.AddUnique(Dialect.ColumnList(def), "alter table "+o.name()+" drop constraint "+ident(c.Key),
				"alter table "+o.name()+" add constraint "+ident(c.Key)+" "+def)
		case strings.HasPrefix(def, "foreign key"):
			if schema, table, err := qualified(Dialect.Referred(def)); err == nil {
				t.Refers = append(t.Refers, ident(schema, table))
				t.Links = append(t.Links, o.link(c, ident(schema, table)))
			}
		}
	}
	for _, c := range kids(o.e, "index") {
		if def := textOf(c, "definition"); strings.HasPrefix(def, "unique ") && !strings.Contains(def, " where ") {
			t.AddUnique(Dialect.ColumnList(def), "drop index "+ident(o.schema, c.Key), "create "+def)
		}
	}
	return t
}

// link says how a foreign key is looked at when all rows are written: in the meantime it can be
// put off. One that is made again by then is left alone.
func (o object) link(c *element.Element, to string) rows.Link {
	const off, on = "set constraints all deferred", "set constraints all immediate"
	l := rows.Link{To: to, Loosen: []string{off}, Check: []string{on}}
	if def := strings.ReplaceAll(textOf(c, "definition"), "not deferrable", ""); strings.Contains(def, "deferrable") {
		return l
	}
	alter := func(how string) string {
		return "do " + dollarQuote("begin if exists (select from pg_catalog.pg_constraint where conrelid = "+literal(o.name())+
			"::pg_catalog.regclass and conname = "+literal(c.Key)+
			") then alter table "+o.name()+" alter constraint "+ident(c.Key)+" "+how+"; end if; end")
	}
	l.Loosen = []string{alter("deferrable initially deferred"), off}
	l.Tighten = []string{alter("not deferrable")}
	return l
}

func rowsColumn(c *element.Element) rows.Column {
	name := ident(c.Key)
	out := rows.Column{Name: c.Key, SQL: name, Read: name, Type: textOf(c, "type"), Literal: literal}
	switch sort, _, _ := strings.Cut(out.Type, "("); sort {
	case "smallint", "integer", "bigint", "numeric", "real", "double precision":
		out.Literal = rows.Number(literal)
	}
	if typ := out.Type; typ == "text" || strings.HasPrefix(typ, "character") || typ == "name" {
		out.Order = name + ` collate "C"`
	}
	return out
}

// RowsConn gives a connection as package rows wants it. The session is set so that
// every value is written in one way.
func RowsConn(ctx context.Context, conn *pgx.Conn) (rows.Copier, error) {
	c := rowsConn{conn}
	return c, c.Exec(ctx, "set datestyle = 'ISO, YMD'; set intervalstyle = 'postgres'; set timezone = 'UTC'; set extra_float_digits = 1; "+
		"set bytea_output = 'hex'; set xmloption = 'content'; set lc_monetary = 'C'; set client_encoding = 'UTF8'")
}

type rowsConn struct{ conn *pgx.Conn }

// Exec runs statements.
func (c rowsConn) Exec(ctx context.Context, sql string) error {
	_, err := c.conn.Exec(ctx, sql, pgx.QueryExecModeSimpleProtocol)
	return EngineError(err)
}

// Query gives the rows of a query.
func (c rowsConn) Query(ctx context.Context, sql string, each func(rows.Row) error) error {
	rr := c.conn.PgConn().Exec(ctx, sql)
	var failed error
	for rr.NextResult() {
		r := rr.ResultReader()
		for r.NextRow() {
			if failed != nil {
				continue
			}
			values := r.Values()
			row := make(rows.Row, len(values))
			for i, v := range values {
				row[i] = rows.Value{Text: string(v), Null: v == nil}
			}
			failed = each(row)
		}
	}
	if err := rr.Close(); err != nil {
		return EngineError(err)
	}
	return failed
}

// Copy writes the result of a query as CSV.
func (c rowsConn) Copy(ctx context.Context, sql string, to io.Writer) error {
	_, err := c.conn.PgConn().CopyTo(ctx, to, "copy ("+sql+") to stdout with (format csv)")
	return EngineError(err)
}

// countOn lets the sequence of a column go on after the values that are there.
func countOn(o object, c *element.Element) string {
	return fmt.Sprintf(`select pg_catalog.setval(x.s, case when q.seqincrement > 0 then x.high else x.low end)
from (select pg_catalog.pg_get_serial_sequence(%s, %s)::pg_catalog.regclass as s, max(%[3]s) as high, min(%[3]s) as low from %[4]s) x
join pg_catalog.pg_sequence q on q.seqrelid = x.s
where case when q.seqincrement > 0 then x.high > coalesce(pg_catalog.pg_sequence_last_value(x.s), q.seqstart - 1) else x.low < coalesce(pg_catalog.pg_sequence_last_value(x.s), q.seqstart + 1) end`,
		literal(o.name()), literal(c.Key), ident(c.Key), o.name())
}
