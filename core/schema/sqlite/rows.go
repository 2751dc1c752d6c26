package sqlite

import (
	"context"
	"encoding/hex"
	"fmt"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind/partfile"
	"oakenchest/core/schema/rows"
)

// Tables gives the tables of a tree as those that can have tracked rows.
func Tables(root *element.Element) []rows.Table {
	var out []rows.Table
	for _, e := range kidsOf(root, "table") {
		if e.Prop("module").IsAbsent() {
			out = append(out, rowsTable(e))
		}
	}
	rows.Distinct(out, func(t rows.Table) string {
		return rows.Place("", partfile.Safe(t.Bare)+"~"+element.DigestOf([]byte(t.Bare)).Short())
	})
	return out
}

func rowsTable(e *element.Element) rows.Table {
	t := rows.Table{Name: e.Key, Bare: e.Key, SQL: ident(e.Key), File: rows.Place("", partfile.Safe(e.Key))}
	for _, c := range kidsOf(e, "column") {
		if c.Prop("generated").IsAbsent() {
			t.Columns = append(t.Columns, rowsColumn(c))
		}
	}
	for _, c := range kidsOf(e, "column") {
		if !c.Prop("primary key").IsAbsent() {
			t.Key = rows.Resolve(t.Columns, []string{c.Key})
		}
		if !c.Prop("unique").IsAbsent() {
			t.AddUnique([]string{c.Key}, "", "")
		}
		for _, p := range c.Props {
			if p.Name == "references" {
				t.Refers = append(t.Refers, referred("references "+p.Value.Text())...)
			} else if strings.HasPrefix(p.Name, "clause") {
				t.Refers = append(t.Refers, referred(p.Value.Text())...)
			}
		}
	}
	for _, c := range kidsOf(e, "constraint") {
		def := c.Prop("definition").Text()
		switch {
		case strings.HasPrefix(def, "primary key"):
			t.Key = rows.Resolve(t.Columns, columnList(def))
		case strings.HasPrefix(def, "unique"):
			t.AddUnique(columnList(def), "", "")
		}
		t.Refers = append(t.Refers, referred(def)...)
	}
	for _, k := range kidsOf(e, "index") {
		if def := k.Prop("definition").Text(); strings.HasPrefix(def, "create unique ") && !strings.Contains(def, " where ") {
			t.AddUnique(columnList(def), "drop index "+ident(k.Key), def)
		}
	}
	return t
}

// columnList gives the names in the first parenthesis of a definition; nil when there is
// anything but plain names in it.
func columnList(def string) []string {
	ts, err := scan(def)
	if err != nil {
		return nil
	}
	c := cursor{ts: meaning(ts)}
	for c.more() && !c.peek("(") {
		c.at++
	}
	group := c.group()
	if len(group) < 2 {
		return nil
	}
	var out []string
	for _, part := range splitCommas(group[1 : len(group)-1]) {
		if len(part) != 1 {
			return nil
		}
		out = append(out, part[0].name())
	}
	return out
}

// referred gives the SQL name of the table that a foreign key leads to.
func referred(def string) []string {
	ts, err := scan(def)
	if err != nil {
		return nil
	}
	for i, t := range meaning(ts) {
		if t.is("references") && i+1 < len(meaning(ts)) {
			return []string{ident(meaning(ts)[i+1].name())}
		}
	}
	return nil
}

// rowsColumn says how the values of a column are read as texts, and written. Any column
// can hold any sort of value: bytes are \x and hexadecimal digits; a text that begins
// with a backslash, or that could be taken for a number where the column does not make
// one of it, has \s before it.
func rowsColumn(c *element.Element) rows.Column {
	name := ident(c.Key)
	typ := strings.ToLower(c.Prop("type").Text())
	loose := typ == "" || typ == "any" || strings.Contains(typ, "blob") // "Datatypes In SQLite", section 3.1
	numeric := strings.Contains(typ, "int") || strings.Contains(typ, "real") || strings.Contains(typ, "floa") ||
		strings.Contains(typ, "doub")
	return rows.Column{Name: c.Key, SQL: name, Read: "case when typeof(" + name + ") = 'text' and instr(cast(" + name +
		" as blob), x'00') > 0 then 'T''' || hex(cast(" + name + " as blob)) || '''' else quote(" + name + ") end", Type: typ,
		Decode: func(v rows.Value) (rows.Value, error) { return decode(v, loose) },
		Literal: func(s string) string {
			if digits, ok := strings.CutPrefix(s, `\x`); ok {
				if _, err := hex.DecodeString(digits); err == nil {
					return "x'" + digits + "'"
				}
			}
			if text, ok := strings.CutPrefix(s, `\s`); ok {
				return literalText(text)
			}
			if loose && element.IsNumber(s) {
				return s
			}
			if numeric {
				return rows.Number(literalText)(s)
			}
			return literalText(s)
		}}
}

// literalText writes a text; one with a zero in it in the only way that keeps it.
func literalText(s string) string {
	if strings.Contains(s, "\x00") {
		return "cast(x'" + hex.EncodeToString([]byte(s)) + "' as text)"
	}
	return text(s)
}

// decode reads what quote() wrote.
func decode(v rows.Value, loose bool) (rows.Value, error) {
	lit := v.Text
	switch {
	case lit == "NULL":
		return rows.Value{Null: true}, nil
	case strings.HasPrefix(lit, "X'"):
		return rows.Value{Text: `\x` + strings.ToLower(strings.Trim(lit[1:], "'"))}, nil
	case strings.HasPrefix(lit, "T'"): // a text with a zero in it, which quote() would cut there
		data, err := hex.DecodeString(strings.Trim(lit[1:], "'"))
		return rows.Value{Text: string(data)}, err
	case strings.HasPrefix(lit, "'"):
		s := strings.ReplaceAll(lit[1:len(lit)-1], "''", "'")
		if strings.HasPrefix(s, `\`) || loose && element.IsNumber(s) {
			s = `\s` + s
		}
		return rows.Value{Text: s}, nil
	case lit == "":
		return v, fmt.Errorf("a value can't be read")
	}
	return rows.Value{Text: lit}, nil
}

// AnyTable gives a table as it can be read, by its SQL name, for those that the tree
// does not know the columns of: virtual ones.
func AnyTable(ctx context.Context, q Querier, sqlName string) (rows.Table, error) {
	ts, err := scan(sqlName)
	if err != nil || len(ts) != 1 {
		return rows.Table{}, fmt.Errorf("there is no table %s", sqlName)
	}
	name := ts[0].name()
	t := rows.Table{Name: name, Bare: name, SQL: sqlName, File: rows.Place("", partfile.Safe(name))}
	list, err := q.QueryContext(ctx, "select name from pragma_table_info(?)", name)
	if err != nil {
		return t, err
	}
	defer list.Close()
	for list.Next() {
		var column string
		if err := list.Scan(&column); err != nil {
			return t, err
		}
		t.Columns = append(t.Columns, rowsColumn(&element.Element{Type: "column", Key: column}))
	}
	return t, list.Err()
}
