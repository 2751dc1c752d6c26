package mariadb

import (
	"fmt"
	"iter"
	"maps"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/schema/declared"
	"oakenchest/core/schema/sqltext"
)

func mapKeys[V any](m map[string]V) iter.Seq[string] { return maps.Keys(m) }

func (r *reader) table(st declaration, _ heading) error {
	name, err := st.name()
	if err != nil {
		return err
	}
	c := st.c
	e := &element.Element{Type: "table", Key: name}
	group := c.Group()
	if len(group) < 2 {
		return fmt.Errorf("the columns are expected in parentheses%s", st.found())
	}
	for _, def := range sqltext.Commas(sqltext.Inside(group)) {
		if len(def) == 0 {
			return fmt.Errorf("a column is expected between the commas")
		}
		from := len(e.Children)
		if err := r.item(e, def); err != nil {
			return err
		}
		for _, k := range e.Children[from:] {
			if old, ok := declared.FormerName(st.Tokens, def); ok && k.Type == "column" {
				r.d.Formerly[sub(ID(e), k)] = old
			}
		}
	}
	if err := r.options(e, c); err != nil {
		return err
	}
	e.Gist = element.Counted(len(kids(e, "column")), "column")
	return r.put(st, e)
}

// options reads what follows the columns.
func (r *reader) options(e *element.Element, c *sqltext.Cursor) error {
	var others []string
	for c.More() {
		c.Skip(",")
		switch {
		case c.Peek("partition", "by"):
			c.At += 2
			setText(e, "partition by", r.flat(c.Rest()))
		case c.Skip("with", "system", "versioning"):
			setTrue(e, "versioned", true)
		default:
			c.Skip("default")
			var name []string
			for c.More() && !c.Peek("=") && len(name) < 3 {
				name = append(name, strings.ToLower(c.Next().Text))
				if len(name) == 1 && name[0] != "character" && name[0] != "data" && name[0] != "index" {
					break
				}
			}
			c.Skip("=")
			if !c.More() {
				return fmt.Errorf("a value is expected for the option %s", strings.Join(name, " "))
			}
			value := c.Next().Text
			if c.Peek("(") || value == "(" {
				c.At--
				value = r.flat(c.Group())
			}
			switch option := strings.Join(name, " "); option {
			case "engine":
				setText(e, "engine", value)
			case "auto_increment":
				setText(e, "counting from", value)
			case "charset", "character set":
				setText(e, "charset", strings.ToLower(value))
			case "collate":
				setText(e, "collate", strings.ToLower(value))
			case "comment":
				setText(e, "comment", Dialect.Unquote(value))
			case "row_format":
				setText(e, "row format", strings.ToLower(value))
			case "key_block_size":
				setText(e, "key block size", value)
			default:
				others = append(others, option+"="+value)
			}
		}
	}
	setText(e, "options of the engine", strings.Join(others, " "))
	return nil
}

// item reads one column, index or constraint.
func (r *reader) item(e *element.Element, ts []sqltext.Token) error {
	c := &sqltext.Cursor{Tokens: ts}
	name := ""
	if c.Skip("constraint") && !c.Peek("foreign") && !c.Peek("check") && !c.Peek("primary") && !c.Peek("unique") {
		name = Dialect.NameOf(c.Next())
	}
	index := func(sort string) error {
		key := name
		if c.More() && !c.Peek("(") && !c.Peek("using") {
			key = Dialect.NameOf(c.Next())
		}
		text := sort + "key "
		if key != "" {
			text += ident(key) + " "
		}
		return addPart(e, "index", key, text+r.flat(c.Rest()))
	}
	skipKey := func() { _ = c.Skip("key") || c.Skip("index") }
	switch {
	case c.Skip("primary", "key"):
		return addPart(e, "index", "primary", "primary key "+r.flat(c.Rest()))
	case c.Skip("unique"):
		skipKey()
		return index("unique ")
	case c.Skip("fulltext"):
		skipKey()
		return index("fulltext ")
	case c.Skip("spatial"):
		skipKey()
		return index("spatial ")
	case c.Peek("foreign", "key"):
		c.At += 2
		if !c.Peek("(") {
			c.Next()
		}
		return addPart(e, "constraint", name, "foreign key "+r.flat(c.Rest()))
	case c.Peek("check"):
		return addPart(e, "constraint", name, r.flat(c.Rest()))
	case name != "":
		return fmt.Errorf("%q is no constraint", clip(r.flat(ts)))
	case (c.Peek("key") || c.Peek("index")) && len(ts) > 1:
		skipKey()
		return index("")
	case c.Peek("period", "for"):
		return addPart(e, "constraint", "", r.flat(c.Rest()))
	}
	c.At = 0
	return r.column(e, c)
}

var clauseWords = []string{"character", "charset", "collate", "not", "null", "default", "auto_increment", "comment", "check", "generated",
	"as", "invisible", "virtual",
	"persistent", "stored", "on", "unique", "primary", "key", "references", "compressed", "without", "with", "constraint"}

func startsClause(c *sqltext.Cursor) bool {
	for _, w := range clauseWords {
		if c.Peek(w) {
			return true
		}
	}
	return false
}

func (r *reader) column(e *element.Element, c *sqltext.Cursor) error {
	t := c.Next()
	if t.Sort != sqltext.Word && t.Sort != sqltext.Quoted {
		return fmt.Errorf("a column's name is expected where %q stands", clip(t.Text))
	}
	col := &element.Element{Type: "column", Key: Dialect.NameOf(t), Firm: true}
	if kid(e, "column", col.Key) != nil {
		return fmt.Errorf("the column %s is declared twice", col.Key)
	}
	setText(col, "type", r.flat(c.Upto(startsClause)))
	e.Add(col)
	for c.More() {
		if err := r.clause(e, col, c); err != nil {
			return fmt.Errorf("column %s: %w", col.Key, err)
		}
	}
	if textOf(col, "default") == "null" && !has(col, "not null") {
		col.Set("default", element.Value{}) // that is what there is without one
	}
	if !strings.HasPrefix(textOf(col, "type"), "timestamp") {
		col.Set("null", element.Value{})
	}
	col.Gist = columnText(col)
	return nil
}

func (r *reader) clause(table, col *element.Element, c *sqltext.Cursor) error {
	own := " (" + ident(col.Key) + ")"
	name := ""
	if c.Skip("constraint") && !c.Peek("check") {
		name = Dialect.NameOf(c.Next())
	}
	value := func() string {
		from := c.At
		if c.Peek("(") {
			c.Group()
		} else {
			if c.Peek("-") || c.Peek("+") {
				c.At++
			}
			c.Next()
			if c.Peek("(") {
				c.Group()
			}
		}
		return r.flat(c.Tokens[from:c.At])
	}
	switch {
	case c.Skip("character", "set"), c.Skip("charset"):
		setText(col, "charset", strings.ToLower(c.Next().Text))
	case c.Skip("collate"):
		setText(col, "collate", strings.ToLower(Dialect.NameOf(c.Next())))
	case c.Skip("not", "null"):
		setTrue(col, "not null", true)
	case c.Skip("null"):
		setTrue(col, "null", true)
	case c.Skip("default"):
		setText(col, "default", value())
	case c.Skip("on", "update"):
		setText(col, "on update", value())
	case c.Skip("auto_increment"):
		setTrue(col, "auto increment", true)
	case c.Skip("comment"):
		setText(col, "comment", Dialect.Unquote(c.Next().Text))
	case c.Peek("check"):
		text := r.flat(c.Tokens[c.At : c.At+1])
		c.At++
		text += " " + r.flat(c.Group())
		if name != "" {
			return addPart(table, "constraint", name, text)
		}
		setText(col, "check", strings.TrimPrefix(text, "check "))
	case c.Skip("generated", "always", "as"), c.Skip("as"):
		if c.Skip("row", "start") || c.Skip("row", "end") {
			setText(col, "generated", "row "+c.Tokens[c.At-1].Text)
			break
		}
		setText(col, "generated", r.flat(c.Group()))
	case c.Skip("stored"), c.Skip("persistent"):
		setTrue(col, "stored", true)
	case c.Skip("virtual"):
	case c.Skip("invisible"):
		setTrue(col, "invisible", true)
	case c.Skip("compressed"):
		setText(col, "compression", "compressed")
	case c.Skip("without", "system", "versioning"):
		setTrue(col, "without versioning", true)
	case c.Skip("with", "system", "versioning"):
	case c.Skip("primary", "key"), c.Skip("key"):
		return addPart(table, "index", "primary", "primary key"+own)
	case c.Skip("unique"):
		c.Skip("key")
		return addPart(table, "index", col.Key, "unique key "+ident(col.Key)+own)
	case c.Peek("references"):
		return addPart(table, "constraint", name, "foreign key"+own+" "+r.flat(c.Upto(func(c *sqltext.Cursor) bool {
			return startsClause(c) && !c.Peek("references") && !c.Peek("on") && !c.Tokens[c.At-1].Is("set")
		})))
	default:
		return fmt.Errorf("%q is no clause of a column", clip(c.Next().Text))
	}
	return nil
}
