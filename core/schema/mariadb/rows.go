package mariadb

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind/partfile"
	"oakenchest/core/schema/rows"
)

// Tables gives the tables of a tree as those that can have tracked rows.
func Tables(root *element.Element) []rows.Table {
	var out []rows.Table
	for _, e := range kids(root, "table") {
		out = append(out, rowsTable(e))
	}
	rows.Distinct(out, func(t rows.Table) string {
		return rows.Place("", partfile.Safe(t.Bare)+"~"+element.DigestOf([]byte(t.Bare)).Short())
	})
	return out
}

func rowsTable(e *element.Element) rows.Table {
	t := rows.Table{Name: e.Key, Bare: e.Key, SQL: ident(e.Key), File: rows.Place("", partfile.Safe(e.Key))}
	for _, c := range kids(e, "column") {
		if !has(c, "generated") {
			t.Columns = append(t.Columns, rowsColumn(c))
		}
		if strings.HasPrefix(strings.ToLower(textOf(c, "type")), "timestamp") {
			t.Begin, t.End = "set time_zone = '+00:00'", "set time_zone = 'SYSTEM'"
		}
	}
	for _, k := range kids(e, "index") {
		def := textOf(k, "definition")
		switch {
		case strings.HasPrefix(def, "primary key"):
			t.Key = rows.Resolve(t.Columns, Dialect.ColumnList(def))
		case strings.HasPrefix(def, "unique "):
			t.AddUnique(Dialect.ColumnList(def), "alter table "+t.SQL+" drop index "+ident(k.Key), "alter table "+t.SQL+" add "+def)
		}
	}
	for _, c := range kids(e, "constraint") {
		if foreign(c) {
			t.Refers = append(t.Refers, ident(target(c)))
			t.Links = append(t.Links, link(e, c))
		}
	}
	return t
}

// link says how a foreign key is looked at when all rows are written: this engine can leave it
// alone for a time, and looks at nothing afterwards, so a query does. All of it is one transaction.
func link(e, c *element.Element) rows.Link {
	def := textOf(c, "definition")
	from, rest := keyParts(def)
	to, _ := keyParts(rest)
	l := rows.Link{To: ident(target(c)), Loosen: []string{"start transaction", "set foreign_key_checks = 0"},
		Check: []string{"set foreign_key_checks = 1"}, Tighten: []string{"commit"}}
	var set, same []string
	for i := range min(len(from), len(to)) {
		set = append(set, "a."+ident(from[i].name)+" is not null")
		same = append(same, "b."+ident(to[i].name)+" = a."+ident(from[i].name))
	}
	l.Check = append(l.Check, "begin not atomic if exists (select 1 from "+ident(e.Key)+" a where "+strings.Join(set,
		" and ")+" and not exists (select 1 from "+l.To+" b where "+strings.Join(same, " and ")+
		")) then signal sqlstate '45000' set message_text = "+literal("the foreign key "+c.Key+" of table "+e.Key+" would lead nowhere")+
		"; end if; end")
	return l
}

// rowsColumn says how the values of a column are read as texts, and written. What is
// bytes is written as \x and hexadecimal digits.
func rowsColumn(c *element.Element) rows.Column {
	name := ident(c.Key)
	out := rows.Column{Name: c.Key, SQL: name, Read: name, Type: textOf(c, "type"), Literal: literal}
	typ, _, _ := strings.Cut(strings.ToLower(out.Type), "(")
	switch typ, _, _ = strings.Cut(typ, " "); typ {
	case "binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob",
		"geometry", "point", "linestring", "polygon", "multipoint", "multilinestring", "multipolygon", "geometrycollection":
		out.Read = `concat('\\x', lower(hex(` + name + ")))"
		out.Literal = func(s string) string {
			if digits, ok := strings.CutPrefix(s, `\x`); ok && hexadecimal(digits) {
				return "x'" + digits + "'"
			}
			return literal(s)
		}
	case "bit":
		out.Read = "cast(" + name + " as unsigned)"
		out.Literal = func(s string) string {
			if _, err := strconv.ParseUint(s, 10, 64); err == nil {
				return s
			}
			return literal(s)
		}
	case "tinyint", "smallint", "mediumint", "int", "bigint", "decimal", "double":
		out.Literal = rows.Number(literal)
	case "float":
		out.Literal = rows.Number(literal)
		out.Read = "cast(" + name + " as double)" // the engine writes six digits of a float
		out.Decode = shortFloat
	}
	return out
}

func hexadecimal(s string) bool {
	return len(s)%2 == 0 && strings.Trim(s, "0123456789abcdefABCDEF") == ""
}

// shortFloat writes a number of single precision with as many digits as tell it.
func shortFloat(v rows.Value) (rows.Value, error) {
	if v.Null {
		return v, nil
	}
	f, err := strconv.ParseFloat(v.Text, 64)
	if err != nil {
		return v, fmt.Errorf("%q is no number: %w", v.Text, err)
	}
	return rows.Value{Text: strconv.FormatFloat(f, 'g', -1, 32)}, nil
}

// RowsConn gives a connection as package rows wants it. The session is set so that
// every value is written in one way.
func RowsConn(ctx context.Context, q Querier) (rows.Conn, error) {
	c := rowsConn{rows.Over(q)}
	return c, c.Exec(ctx, "set time_zone = '+00:00', sql_mode = '"+usualMode+"'")
}

type rowsConn struct{ rows.Conn }

// Exec runs one statement.
func (c rowsConn) Exec(ctx context.Context, sql string) error {
	return EngineError(c.Conn.Exec(ctx, sql))
}
