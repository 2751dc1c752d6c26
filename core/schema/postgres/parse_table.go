package postgres

import (
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/schema/declared"
	"oakenchest/core/schema/sqltext"
)

// table reads CREATE TABLE and CREATE FOREIGN TABLE after these words.
func (r *reader) table(st declaration, unlogged bool) error {
	schema, name, err := st.name()
	if err != nil {
		return err
	}
	c := st.c
	e := &element.Element{Type: "table", Key: name}
	setTrue(e, "unlogged", unlogged)
	if c.Skip("of") {
		setText(e, "of", flat(c.Upto(tableClause)))
	}
	if c.Skip("partition", "of") {
		setText(e, "partition of", ident(c.QualifiedName(Dialect)...))
	}
	if c.Peek("(") {
		if err := r.body(st, schema, e); err != nil {
			return err
		}
	}
	for c.More() {
		if err := tableOption(e, c); err != nil {
			return err
		}
	}
	e.Gist = tableGist(e)
	return r.put(st, schema, e)
}

func tableGist(e *element.Element) string {
	if p := textOf(e, "partition of"); p != "" {
		return "partition of " + p + " " + textOf(e, "bound")
	}
	return element.Counted(len(kids(e, "column")), "column")
}

func tableClause(c *sqltext.Cursor) bool {
	for _, w := range []string{"(", "inherits", "partition", "using", "with", "without", "on", "tablespace", "server", "options",
		"for", "default"} {
		if c.Peek(w) {
			return true
		}
	}
	return false
}

// tableOption reads one clause after the columns.
func tableOption(e *element.Element, c *sqltext.Cursor) error {
	switch {
	case c.Skip("inherits"):
		setText(e, "inherits", flat(sqltext.Inside(c.Group())))
	case c.Peek("for", "values"), c.Peek("default"):
		setText(e, "bound", flat(c.Upto(func(c *sqltext.Cursor) bool {
			return c.Peek("partition") || c.Peek("using") || c.Peek("tablespace") || c.Peek("server") || c.Peek("with") &&
				!c.Peek("with", "(", "modulus")
		})))
	case c.Skip("partition", "by"):
		setText(e, "partition by", flat(c.Upto(func(c *sqltext.Cursor) bool {
			return c.Peek("using") || c.Peek("with") ||
				c.Peek("tablespace")
		})))
	case c.Skip("using"):
		setText(e, "using", Dialect.NameOf(c.Next()))
	case c.Skip("with"):
		setText(e, "with", sortedList(flat(sqltext.Inside(c.Group()))))
	case c.Skip("without", "oids"):
	case c.Skip("tablespace"):
		setText(e, "tablespace", Dialect.NameOf(c.Next()))
	case c.Skip("server"):
		setText(e, "server", Dialect.NameOf(c.Next()))
	case c.Skip("options"):
		setText(e, "options", flat(sqltext.Inside(c.Group())))
	default:
		return fmt.Errorf("%q is no clause of a table", clip(c.Next().Text))
	}
	return nil
}

// sortedList sorts options between commas.
func sortedList(list string) string {
	ts, err := Dialect.Scan(list)
	if err != nil || len(ts) == 0 {
		return list
	}
	out := commaTexts(ts)
	slices.Sort(out)
	return strings.Join(out, ", ")
}

// body reads what stands between the parentheses of a table.
func (r *reader) body(st declaration, schema string, e *element.Element) error {
	group := st.c.Group()
	if len(group) < 2 || !group[len(group)-1].Is(")") {
		return fmt.Errorf("the columns' parenthesis is never closed")
	}
	tableID := ID(schema, e)
	for _, def := range sqltext.Commas(sqltext.Inside(group)) {
		if len(def) == 0 {
			return fmt.Errorf("a column is expected between the commas")
		}
		from := len(e.Children)
		if err := tableItem(e, def); err != nil {
			return err
		}
		for _, k := range e.Children[from:] {
			id := sub(tableID, k)
			r.d.at[id] = declared.Place{File: st.place.File, From: def[0].From, To: def[len(def)-1].To, Line: def[0].Line}
			if k.Type == "column" {
				if old, ok := declared.FormerName(st.Tokens, def); ok {
					r.d.Formerly[id] = old
				}
			}
		}
	}
	return nil
}

var constraintWords = []string{"constraint", "primary", "unique", "check", "foreign", "exclude"}

// tableItem reads one column or table constraint.
func tableItem(e *element.Element, ts []sqltext.Token) error {
	c := &sqltext.Cursor{Tokens: ts}
	if c.Peek("like") {
		return fmt.Errorf("\"like\" can't be declared: write the columns themselves")
	}
	for _, w := range constraintWords {
		if c.Peek(w) && (w != "exclude" || c.Peek(w, "using") || c.Peek(w, "(")) { // a column may be called exclude
			name := ""
			if c.Skip("constraint") {
				name = Dialect.NameOf(c.Next())
			}
			return addConstraint(e, name, flat(c.Rest()))
		}
	}
	return column(e, c)
}

func addConstraint(e *element.Element, name, definition string) error {
	k := &element.Element{Type: "constraint", Key: name, Firm: true, Gist: clip(definition)}
	if name == "" {
		k.Key = definition
	} else {
		k.Set("name", element.TextValue(name))
	}
	k.Set("definition", element.TextValue(definition))
	if kid(e, "constraint", k.Key) != nil {
		return fmt.Errorf("the constraint %s is declared twice", k.Key)
	}
	e.Add(k)
	return nil
}

func columnClause(c *sqltext.Cursor) bool {
	for _, w := range []string{"collate", "compression", "storage", "constraint", "not", "null", "check", "default", "generated", "primary",
		"unique", "references", "options"} {
		if c.Peek(w) {
			return true
		}
	}
	return c.Peek("with", "options")
}

func column(e *element.Element, c *sqltext.Cursor) error {
	t := c.Next()
	if t.Sort != sqltext.Word && t.Sort != sqltext.Quoted {
		return fmt.Errorf("a column's name is expected where %q stands", clip(t.Text))
	}
	col := &element.Element{Type: "column", Key: Dialect.NameOf(t), Firm: true}
	if kid(e, "column", col.Key) != nil {
		return fmt.Errorf("the column %s is declared twice", col.Key)
	}
	setText(col, "type", flat(c.Upto(columnClause)))
	e.Add(col)
	for c.More() {
		if err := clause(e, col, c); err != nil {
			return fmt.Errorf("column %s: %w", col.Key, err)
		}
	}
	if has(e, "partition of") || has(e, "of") {
		setTrue(col, "inherited", true)
	}
	col.Gist = columnText(col)
	return nil
}

// expression takes tokens up to the next clause; what stands between case and end
// holds none.
func expression(c *sqltext.Cursor) []sqltext.Token {
	from, cases := c.At, 0
	for c.More() {
		switch {
		case c.Peek("case"):
			cases++
		case c.Peek("end"):
			cases--
		case cases <= 0 && c.At > from && columnClause(c):
			return c.Tokens[from:c.At]
		}
		if c.Peek("(") {
			c.Group()
		} else {
			c.At++
		}
	}
	return c.Tokens[from:c.At]
}

// clause reads one clause of a column; constraints become the table's.
func clause(table, col *element.Element, c *sqltext.Cursor) error {
	name := ""
	if c.Skip("constraint") {
		name = Dialect.NameOf(c.Next())
	}
	rest := func() string { return strings.TrimSpace(flat(expression(c))) }
	key := func() string { // what follows primary key and unique
		from := c.At
		_ = c.Skip("nulls", "not", "distinct") || c.Skip("nulls", "distinct")
		c.Upto(columnClause)
		return flat(c.Tokens[from:c.At])
	}
	own := " (" + ident(col.Key) + ")"
	switch {
	case c.Skip("with", "options"):
	case c.Skip("collate"):
		setText(col, "collate", ident(c.QualifiedName(Dialect)...))
	case c.Skip("compression"):
		setText(col, "compression", strings.ToLower(c.Next().Text))
	case c.Skip("storage"):
		setText(col, "storage", strings.ToLower(c.Next().Text))
	case c.Skip("not", "null"):
		setTrue(col, "not null", true)
	case c.Skip("null"):
	case c.Skip("default"):
		setText(col, "default", rest())
	case c.Skip("generated", "always", "as", "identity"), c.Skip("generated", "by", "default", "as", "identity"):
		how := "by default"
		if c.Tokens[c.At-3].Is("always") {
			how = "always"
		}
		if c.Peek("(") {
			how += " (" + flat(sqltext.Inside(c.Group())) + ")"
		}
		setText(col, "identity", how)
	case c.Skip("generated", "always", "as"):
		setText(col, "generated", flat(c.Group()))
		c.Skip("stored")
	case c.Skip("options"):
		setText(col, "options", flat(sqltext.Inside(c.Group())))
	case c.Skip("primary", "key"):
		return addConstraint(table, name, strings.TrimSpace("primary key"+own+" "+key()))
	case c.Skip("unique"):
		return addConstraint(table, name, strings.TrimSpace("unique"+own+" "+key()))
	case c.Peek("references"):
		return addConstraint(table, name, "foreign key"+own+" "+flat(c.Upto(func(c *sqltext.Cursor) bool {
			return columnClause(c) && !c.Peek("references") && !c.Peek("not", "deferrable") && !c.Tokens[c.At-1].Is("set")
		})))
	case c.Peek("check"):
		return addConstraint(table, name, rest())
	default:
		return fmt.Errorf("%q is no clause of a column", clip(c.Next().Text))
	}
	return nil
}
