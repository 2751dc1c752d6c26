package postgres

import (
	"fmt"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/schema/sqltext"
)

// create reads a statement that makes an object.
func (r *reader) create(st declaration) error {
	c := st.c
	c.Skip("create")
	c.Skip("or", "replace")
	for _, w := range []string{"temp", "temporary", "local", "global"} {
		if c.Peek(w) {
			return fmt.Errorf("temporary objects can't be declared")
		}
	}
	unlogged := c.Skip("unlogged")
	c.Skip("recursive")
	c.Skip("default") // conversion
	for _, k := range creators {
		if c.Skip(strings.Fields(k.words)...) {
			c.Skip("if", "not", "exists")
			return k.read(r, st, unlogged)
		}
	}
	return fmt.Errorf("%q makes nothing that can be declared", clip(flat(st.c.Tokens)))
}

// creators read what follows the words of a CREATE statement.
var creators = []struct {
	words string
	read  func(*reader, declaration, bool) error
}{
	{"table", (*reader).table},
	{"foreign table", (*reader).table},
	{"foreign data wrapper", global("wrapper")},
	{"materialized view", materialized},
	{"view", (*reader).view},
	{"sequence", (*reader).sequence},
	{"function", routineOf("function")},
	{"procedure", routineOf("procedure")},
	{"aggregate", (*reader).aggregate},
	{"type", (*reader).typ},
	{"domain", (*reader).domain},
	{"schema", (*reader).createSchema},
	{"extension", (*reader).extension},
	{"operator class", methodNamed("operator-class")},
	{"operator family", methodNamed("operator-family")},
	{"operator", (*reader).operator},
	{"text search configuration", local("text-search-configuration")},
	{"text search dictionary", local("text-search-dictionary")},
	{"collation", local("collation")},
	{"conversion", local("conversion")},
	{"cast", (*reader).cast},
	{"event trigger", global("event-trigger")},
	{"publication", global("publication")},
	{"server", global("server")},
}

// whole is the definition of an object whose inside is not looked at.
func (st declaration) whole() element.Value { return element.TextValue(flat(st.c.Tokens)) }

func defined(typ, key string, st declaration) *element.Element {
	return &element.Element{Type: typ, Key: key, Props: []element.Prop{{Name: "definition", Value: st.whole()}}}
}

// global reads an object that stands in no schema.
func global(typ string) func(*reader, declaration, bool) error {
	return func(r *reader, st declaration, _ bool) error {
		names := st.c.QualifiedName(Dialect)
		if len(names) != 1 {
			return fmt.Errorf("a name is expected%s", st.found())
		}
		return r.put(st, "", defined(typ, names[0], st))
	}
}

// local reads an object that stands in a schema.
func local(typ string) func(*reader, declaration, bool) error {
	return func(r *reader, st declaration, _ bool) error {
		schema, name, err := st.name()
		if err != nil {
			return err
		}
		return r.put(st, schema, defined(typ, name, st))
	}
}

// methodNamed reads an operator class or family, which an access method belongs to.
func methodNamed(typ string) func(*reader, declaration, bool) error {
	return func(r *reader, st declaration, _ bool) error {
		schema, name, err := st.name()
		if err != nil {
			return err
		}
		st.c.Upto(func(c *sqltext.Cursor) bool { return c.Peek("using") })
		st.c.Skip("using")
		return r.put(st, schema, defined(typ, name+" using "+Dialect.NameOf(st.c.Next()), st))
	}
}

func (r *reader) createSchema(st declaration, _ bool) error {
	names := st.c.QualifiedName(Dialect)
	if len(names) != 1 {
		return fmt.Errorf("a schema's name is expected%s", st.found())
	}
	s := r.schema(names[0])
	id := ID("", s)
	if r.objects[id] != nil {
		return fmt.Errorf("the %s is declared twice", id)
	}
	if st.c.Skip("authorization") {
		setText(s, "owner", Dialect.NameOf(st.c.Next()))
	}
	if st.c.More() {
		return fmt.Errorf("a schema is declared with its name alone; its objects have statements of their own")
	}
	r.objects[id] = s
	r.belongs(st, id)
	return nil
}

func (r *reader) extension(st declaration, _ bool) error {
	names := st.c.QualifiedName(Dialect)
	if len(names) != 1 {
		return fmt.Errorf("an extension's name is expected%s", st.found())
	}
	e := &element.Element{Type: "extension", Key: names[0]}
	st.c.Skip("with")
	for st.c.More() {
		switch {
		case st.c.Skip("schema"):
			setText(e, "schema", Dialect.NameOf(st.c.Next()))
		case st.c.Skip("version"):
			t := st.c.Next()
			if t.Sort == sqltext.Literal {
				t.Text = Dialect.Unquote(t.Text)
			}
			setText(e, "version", t.Text)
		case st.c.Skip("cascade"):
		default:
			return fmt.Errorf("%q is no option of an extension", st.c.Next().Text)
		}
	}
	return r.put(st, "", e)
}

func materialized(r *reader, st declaration, _ bool) error { return r.relationView(st, true) }

func (r *reader) view(st declaration, _ bool) error { return r.relationView(st, false) }

func (r *reader) relationView(st declaration, mat bool) error {
	schema, name, err := st.name()
	if err != nil {
		return err
	}
	c := st.c
	e := &element.Element{Type: "view", Key: name}
	setTrue(e, "materialized", mat)
	if c.Peek("(") {
		setText(e, "names", flat(sqltext.Inside(c.Group())))
	}
	if c.Skip("using") {
		setText(e, "using", Dialect.NameOf(c.Next()))
	}
	if c.Skip("with") {
		setText(e, "with", flat(sqltext.Inside(c.Group())))
	}
	if c.Skip("tablespace") {
		setText(e, "tablespace", Dialect.NameOf(c.Next()))
	}
	if !c.Skip("as") || !c.More() {
		return fmt.Errorf("the view's query is expected after \"as\"%s", st.found())
	}
	body := c.Rest()
	n := len(body)
	tail := func(words ...string) bool {
		for i, w := range words {
			if n-len(words)+i < 0 || !body[n-len(words)+i].Is(w) {
				return false
			}
		}
		body = body[:n-len(words)]
		n = len(body)
		return true
	}
	switch {
	case mat && (tail("with", "no", "data") || tail("with", "data")):
	case !mat && (tail("with", "check", "option") || tail("with", "cascaded", "check", "option")):
		setText(e, "with", strings.TrimPrefix(textOf(e, "with")+", check_option=cascaded", ", "))
	case !mat && tail("with", "local", "check", "option"):
		setText(e, "with", strings.TrimPrefix(textOf(e, "with")+", check_option=local", ", "))
	}
	if n == 0 {
		return fmt.Errorf("the view has no query")
	}
	e.Set("definition", element.TextValue(st.text[body[0].From:body[n-1].To]))
	e.Gist = clip(flat(body[:min(n, 24)]))
	return r.put(st, schema, e)
}

// sequenceOptions reads the options of a sequence or identity column.
func sequenceOptions(e *element.Element, c *sqltext.Cursor) error {
	for c.More() {
		value := func(name string) { setText(e, name, flat(numberTokens(c))) }
		switch {
		case c.Skip("as"):
			setText(e, "as", flat(c.Upto(func(c *sqltext.Cursor) bool { return sequenceWord(c) })))
		case c.Skip("start", "with"), c.Skip("start"):
			value("start")
		case c.Skip("increment", "by"), c.Skip("increment"):
			value("increment")
		case c.Skip("minvalue"):
			value("min")
		case c.Skip("maxvalue"):
			value("max")
		case c.Skip("cache"):
			value("cache")
		case c.Skip("no", "cycle"), c.Skip("no", "minvalue"), c.Skip("no", "maxvalue"), c.Skip("owned", "by", "none"):
		case c.Skip("cycle"):
			setTrue(e, "cycle", true)
		default:
			return fmt.Errorf("%q is no option of a sequence", c.Next().Text)
		}
	}
	return nil
}

func sequenceWord(c *sqltext.Cursor) bool {
	for _, w := range []string{"start", "increment", "minvalue", "maxvalue", "cache", "no", "cycle", "owned"} {
		if c.Peek(w) {
			return true
		}
	}
	return false
}

func numberTokens(c *sqltext.Cursor) []sqltext.Token {
	from := c.At
	if c.Peek("-") || c.Peek("+") {
		c.At++
	}
	c.Next()
	return c.Tokens[from:c.At]
}

func (r *reader) sequence(st declaration, unlogged bool) error {
	schema, name, err := st.name()
	if err != nil {
		return err
	}
	e := &element.Element{Type: "sequence", Key: name}
	setTrue(e, "unlogged", unlogged)
	if err := sequenceOptions(e, st.c); err != nil {
		return err
	}
	e.Gist = sequenceText(e)
	return r.put(st, schema, e)
}

func (r *reader) cast(st declaration, _ bool) error {
	group := sqltext.Inside(st.c.Group())
	return r.put(st, "", defined("cast", flat(group), st))
}
