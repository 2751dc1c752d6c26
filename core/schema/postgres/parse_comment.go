package postgres

import (
	"fmt"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/schema/sqltext"
)

// sorts are the words by which statements name a sort of object, with its type. Those
// with more words come first.
var sorts = []struct{ words, typ string }{
	{"materialized view", "view"}, {"foreign table", "table"}, {"foreign data wrapper", "wrapper"}, {"event trigger", "event-trigger"},
	{"text search configuration", "text-search-configuration"}, {"text search dictionary", "text-search-dictionary"},
	{"operator class", "operator-class"},
	{"operator family", "operator-family"}, {"foreign server", "server"},
	{"table", "table"}, {"view", "view"}, {"sequence", "sequence"}, {"column", "column"}, {"constraint", "constraint"}, {"index", "index"},
	{"trigger", "trigger"}, {"rule", "rule"},
	{"policy", "policy"}, {"function", "function"}, {"procedure", "procedure"}, {"aggregate", "aggregate"}, {"operator", "operator"},
	{"type", "type"}, {"domain", "type"},
	{"schema", "schema"}, {"extension", "extension"}, {"statistics", "statistics"}, {"server", "server"}, {"cast", "cast"}, {"collation",
		"collation"}, {"conversion", "conversion"},
	{"publication", "publication"},
}

// sortWords gives the words of SQL for an object.
func sortWords(e *element.Element) string {
	switch {
	case e.Type == "view" && has(e, "materialized"):
		return "materialized view"
	case e.Type == "table" && has(e, "server"):
		return "foreign table"
	case e.Type == "type" && textOf(e, "sort") == "domain":
		return "domain"
	case e.Type == "wrapper":
		return "foreign data wrapper"
	}
	return strings.ReplaceAll(e.Type, "-", " ")
}

// target finds what `TYPE NAME` in a statement means: the element, and the identity of
// the object that it is or belongs to.
func (r *reader) target(st declaration) (*element.Element, string, error) {
	c := st.c
	for _, s := range sorts {
		if !c.Skip(strings.Fields(s.words)...) {
			continue
		}
		e, id, err := r.named(st, s.typ)
		if err == nil && e == nil {
			err = fmt.Errorf("no file declares that %s", s.words)
		}
		return e, id, err
	}
	return nil, "", fmt.Errorf("what it is about can't be told%s", st.found())
}

func (r *reader) named(st declaration, typ string) (*element.Element, string, error) {
	c := st.c
	switch typ {
	case "table", "view", "sequence":
		return r.relationOf(st)
	case "column":
		names := c.QualifiedName(Dialect)
		if len(names) < 2 {
			return nil, "", fmt.Errorf("a column is named TABLE.COLUMN")
		}
		schema, table, err := qualified(names[:len(names)-1])
		if err != nil {
			return nil, "", err
		}
		return r.columnOfAny(schema, table, names[len(names)-1])
	case "constraint", "trigger", "rule", "policy":
		name := Dialect.NameOf(c.Next())
		if !c.Skip("on") {
			return nil, "", fmt.Errorf("\"on\" and a table are expected%s", st.found())
		}
		if c.Skip("domain") {
			schema, domain, err := st.name()
			id := ID(schema, &element.Element{Type: "type", Key: domain})
			if err != nil || r.objects[id] == nil {
				return nil, "", err
			}
			return kid(r.objects[id], typ, name), id, nil
		}
		owner, id, err := r.relationOf(st)
		if err != nil {
			return nil, "", err
		}
		return kid(owner, typ, name), id, nil
	case "function", "procedure", "aggregate":
		schema, name, err := st.name()
		if err != nil {
			return nil, "", err
		}
		group := c.Group()
		args := argumentTypes(group)
		if g := sqltext.Inside(group); len(g) == 1 && g[0].Is("*") {
			args = "*"
		}
		return r.object(schema, typ, ident(name)+"("+args+")")
	case "operator":
		return r.operatorNamed(st)
	case "operator-class", "operator-family":
		schema, name, err := st.name()
		c.Skip("using")
		if err != nil {
			return nil, "", err
		}
		return r.object(schema, typ, name+" using "+Dialect.NameOf(c.Next()))
	case "cast":
		return r.object("", typ, flat(sqltext.Inside(c.Group())))
	case "schema":
		name := Dialect.NameOf(c.Next())
		return r.schema(name), "schema " + ident(name), nil
	case "extension", "server", "wrapper", "event-trigger", "publication":
		return r.object("", typ, Dialect.NameOf(c.Next()))
	}
	schema, name, err := st.name()
	if err != nil {
		return nil, "", err
	}
	switch typ {
	case "index":
		e, id := r.index(schema, name)
		return e, id, nil
	case "statistics":
		e, id := r.statistics(schema, name)
		return e, id, nil
	}
	return r.object(schema, typ, name)
}

func (r *reader) object(schema, typ, key string) (*element.Element, string, error) {
	id := ID(schema, &element.Element{Type: typ, Key: key})
	return r.objects[id], id, nil
}

func (r *reader) columnOfAny(schema, name, column string) (*element.Element, string, error) {
	if id := r.owners[ident(schema, name)]; id != "" {
		e, err := columnOf(r.objects[id], column)
		return e, id, err
	}
	id := ID(schema, &element.Element{Type: "type", Key: name})
	if e := r.objects[id]; e != nil {
		return kid(e, "attribute", column), id, nil
	}
	return nil, "", nil
}

func (r *reader) operatorNamed(st declaration) (*element.Element, string, error) {
	c := st.c
	schema, name := "public", ""
	for c.More() && !c.Peek("(") {
		t := c.Next()
		switch {
		case t.Is("."):
		case isOperator(t.Text):
			name += t.Text
		default:
			schema = Dialect.NameOf(t)
		}
	}
	return r.object(schema, "operator", name+"("+flat(sqltext.Inside(c.Group()))+")")
}

func (r *reader) comment(st declaration) error {
	e, id, err := r.target(st)
	if err != nil {
		return err
	}
	if !st.c.Skip("is") {
		return fmt.Errorf("\"is\" and the comment are expected%s", st.found())
	}
	r.belongs(st, id)
	if st.c.Skip("null") {
		return nil
	}
	t := st.c.Next()
	if t.Sort != sqltext.Literal {
		return fmt.Errorf("the comment is expected in quotes after \"is\"")
	}
	e.Set("comment", element.TextValue(Dialect.Unquote(t.Text)))
	return nil
}

// alterOwner reads ALTER sort name OWNER TO role.
func (r *reader) alterOwner(st declaration) error {
	e, id, err := r.target(st)
	if err != nil {
		return err
	}
	if !st.c.Skip("owner", "to") {
		return fmt.Errorf("%q can't be declared", clip(flat(st.c.Tokens)))
	}
	setText(e, "owner", Dialect.NameOf(st.c.Next()))
	r.belongs(st, id)
	return nil
}

// grant reads GRANT and REVOKE ... FROM of one object.
func (r *reader) grant(st declaration) error {
	c := st.c
	revoke := c.Next().Is("revoke")
	what := c.Upto(func(c *sqltext.Cursor) bool { return c.Peek("on") })
	if !c.Skip("on") {
		return fmt.Errorf("\"on\" is expected: membership in roles can't be declared")
	}
	known := false
	for _, s := range sorts {
		known = known || c.Peek(strings.Fields(s.words)...)
	}
	var e *element.Element
	var id string
	var err error
	if known {
		e, id, err = r.target(st)
	} else {
		e, id, err = r.relationOf(st)
	}
	if err != nil {
		return err
	}
	r.belongs(st, id)
	if revoke {
		if !c.Skip("from") {
			return fmt.Errorf("\"from\" is expected%s", st.found())
		}
		for _, g := range sqltext.Commas(c.Rest()) {
			setText(e, "grant to "+Dialect.NameOf(g[0]), "nothing")
		}
		return nil
	}
	if !c.Skip("to") {
		return fmt.Errorf("\"to\" is expected%s", st.found())
	}
	roles := c.Upto(func(c *sqltext.Cursor) bool { return c.Peek("with", "grant", "option") })
	option := c.More()
	for _, right := range sqltext.Commas(what) {
		at := e
		if n := len(right); n > 3 && right[n-1].Is(")") {
			for _, col := range sqltext.Commas(right[2 : n-1]) {
				k, err := columnOf(e, Dialect.NameOf(col[0]))
				if err != nil {
					return err
				}
				addGrant(k, roles, flat(right[:1]), option)
			}
			continue
		}
		addGrant(at, roles, flat(right), option)
	}
	return nil
}

func addGrant(e *element.Element, roles []sqltext.Token, right string, option bool) {
	if option {
		right += " with grant option"
	}
	for _, g := range sqltext.Commas(roles) {
		name := "grant to " + Dialect.NameOf(g[len(g)-1])
		setText(e, name, strings.TrimPrefix(textOf(e, name)+", "+right, ", "))
	}
}
