package postgres

import (
	"fmt"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/schema/declared"
	"oakenchest/core/schema/sqltext"
)

// typ reads CREATE TYPE after these words.
func (r *reader) typ(st declaration, _ bool) error {
	schema, name, err := st.name()
	if err != nil {
		return err
	}
	c := st.c
	e := &element.Element{Type: "type", Key: name}
	switch {
	case c.Skip("as", "enum"):
		setText(e, "sort", "enum")
		e.Ordered = true
		for _, v := range sqltext.Commas(sqltext.Inside(c.Group())) {
			if len(v) != 1 || v[0].Sort != sqltext.Literal {
				return fmt.Errorf("a value in quotes is expected between the commas of an enum")
			}
			label := Dialect.Unquote(v[0].Text)
			if kid(e, "value", label) != nil {
				return fmt.Errorf("the value %q is declared twice", label)
			}
			k := &element.Element{Type: "value", Key: label, Firm: true}
			if old, ok := declared.FormerName(st.Tokens, v); ok {
				r.d.Formerly[sub(ID(schema, e), k)] = strings.Trim(old, "'")
			}
			e.Add(k)
		}
		e.Gist = fmt.Sprintf("enum of %d values", len(e.Children))
	case c.Skip("as", "range"):
		setText(e, "sort", "range")
		setText(e, "definition", flat(sqltext.Inside(c.Group())))
	case c.Skip("as"):
		setText(e, "sort", "composite")
		for _, a := range sqltext.Commas(sqltext.Inside(c.Group())) {
			ac := &sqltext.Cursor{Tokens: a}
			k := &element.Element{Type: "attribute", Key: Dialect.NameOf(ac.Next()), Firm: true}
			setText(k, "type", flat(ac.Upto(func(c *sqltext.Cursor) bool { return c.Peek("collate") })))
			if ac.Skip("collate") {
				setText(k, "collate", ident(ac.QualifiedName(Dialect)...))
			}
			e.Add(k)
		}
	case c.Peek("("):
		setText(e, "sort", "base")
		setText(e, "definition", flat(sqltext.Inside(c.Group())))
	case !c.More():
		return fmt.Errorf("a type without a definition can't be declared")
	default:
		return fmt.Errorf("%q is no sort of type", clip(c.Next().Text))
	}
	return r.put(st, schema, e)
}

func (r *reader) domain(st declaration, _ bool) error {
	schema, name, err := st.name()
	if err != nil {
		return err
	}
	c := st.c
	e := &element.Element{Type: "type", Key: name}
	setText(e, "sort", "domain")
	c.Skip("as")
	setText(e, "type", flat(c.Upto(columnClause)))
	for c.More() {
		named := ""
		if c.Skip("constraint") {
			named = Dialect.NameOf(c.Next())
		}
		switch {
		case c.Skip("collate"):
			setText(e, "collate", ident(c.QualifiedName(Dialect)...))
		case c.Skip("default"):
			setText(e, "default", flat(expression(c)))
		case c.Skip("not", "null"):
			setTrue(e, "not null", true)
		case c.Skip("null"):
		case c.Peek("check"):
			if err := addConstraint(e, named, flat(expression(c))); err != nil {
				return err
			}
		default:
			return fmt.Errorf("%q is no clause of a domain", clip(c.Next().Text))
		}
	}
	e.Gist = "domain over " + textOf(e, "type")
	return r.put(st, schema, e)
}
