package postgres

import (
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/schema/sqltext"
)

// twoWords are the types whose name has several words, by the first.
var twoWords = sqltext.Words("double character bit timestamp time interval national")

// argumentType drops mode, name and default of an argument; ok is false for one that
// only gives something back.
func argumentType(ts []sqltext.Token) (string, bool) {
	c := &sqltext.Cursor{Tokens: ts}
	if c.Skip("out") {
		return "", false
	}
	if c.Skip("inout") || c.Skip("variadic") {
	} else if c.Peek("in") {
		c.Skip("in")
		if c.Skip("out") {
			c.At = max(c.At, 1)
		}
	}
	body := c.Upto(func(c *sqltext.Cursor) bool { return c.Peek("default") || c.Peek("=") || c.Peek(":=") })
	if len(body) > 1 && (body[0].Sort == sqltext.Word || body[0].Sort == sqltext.Quoted) && !body[1].Is(".") && !body[1].Is("(") &&
		!body[1].Is("[") && !body[1].Is("%") {
		first := strings.ToLower(body[0].Text)
		second := strings.ToLower(body[1].Text)
		pair := twoWords[first] && slices.Contains([]string{"precision", "varying", "with", "without", "year", "month", "day", "hour",
			"minute", "second", "character", "char"}, second) || first == "setof"
		if !pair {
			body = body[1:]
		}
	}
	return flat(body), true
}

// argumentTypes gives the types by which a routine is known.
func argumentTypes(group []sqltext.Token) string {
	var out []string
	for _, a := range sqltext.Commas(sqltext.Inside(group)) {
		for i, t := range a {
			if t.Is("order") { // of an ordered-set aggregate
				if typ, ok := argumentType(a[:i]); ok && typ != "" {
					out = append(out, typ)
				}
				a = a[min(i+2, len(a)):]
				break
			}
		}
		if typ, ok := argumentType(a); ok && typ != "" {
			out = append(out, typ)
		}
	}
	return strings.Join(out, ", ")
}

func routineOf(typ string) func(*reader, declaration, bool) error {
	return func(r *reader, st declaration, _ bool) error {
		schema, name, err := st.name()
		if err != nil {
			return err
		}
		c := st.c
		if !c.Peek("(") {
			return fmt.Errorf("the arguments' parenthesis is expected%s", st.found())
		}
		group := c.Group()
		e := &element.Element{Type: typ, Key: ident(name) + "(" + argumentTypes(group) + ")"}
		setText(e, "arguments", argumentText(group))
		if c.Skip("returns", "null") { // the clause, and not a type
			c.At -= 2
		} else if c.Skip("returns") {
			setText(e, "returns", flat(c.Upto(func(c *sqltext.Cursor) bool { return routineClause(c) && !c.Peek("table") })))
		}
		if err := attributes(e, st); err != nil {
			return err
		}
		e.Gist = textOf(e, "returns")
		return r.put(st, schema, e)
	}
}

func argumentText(group []sqltext.Token) string {
	var out []string
	for _, a := range sqltext.Commas(sqltext.Inside(group)) {
		text := flat(a)
		out = append(out, strings.TrimPrefix(text, "in "))
	}
	return strings.Join(out, ", ")
}

var routineWords = []string{"language", "transform", "window", "immutable", "stable", "volatile", "not", "leakproof", "called", "strict",
	"external", "security",
	"parallel", "cost", "rows", "support", "set", "as", "begin", "return", "returns"}

func routineClause(c *sqltext.Cursor) bool {
	return slices.ContainsFunc(routineWords, func(w string) bool { return c.Peek(w) })
}

// attributes reads the clauses of a routine in any order.
func attributes(e *element.Element, st declaration) error {
	c := st.c
	var list, sets []string
	add := func(s string) {
		if s != "" {
			list = append(list, s)
		}
	}
	clause := func() string {
		from := c.At
		c.At++
		c.Upto(routineClause)
		return flat(c.Tokens[from:c.At])
	}
	for c.More() {
		switch {
		case c.Skip("language"):
			t := c.Next()
			name := Dialect.NameOf(t)
			if t.Sort == sqltext.Literal {
				name = Dialect.Unquote(t.Text)
			}
			setText(e, "language", strings.ToLower(name))
		case c.Skip("as"):
			body := c.Next()
			if body.Sort != sqltext.Literal {
				return fmt.Errorf("the body is expected after \"as\"")
			}
			e.Set("body", element.TextValue(Dialect.Unquote(body.Text)))
			if c.Skip(",") {
				setText(e, "symbol", Dialect.Unquote(c.Next().Text))
			}
		case c.Peek("begin"), c.Peek("return"):
			from := c.At
			rest := c.Rest()
			e.Set("sql body", element.TextValue(st.text[c.Tokens[from].From:rest[len(rest)-1].To]))
		case c.Skip("called", "on", "null", "input"), c.Skip("volatile"), c.Skip("security", "invoker"), c.Skip("external", "security",
			"invoker"), c.Skip("not", "leakproof"), c.Skip("parallel", "unsafe"):
		case c.Skip("returns", "null", "on", "null", "input"):
			add("strict")
		case c.Skip("external", "security", "definer"):
			add("security definer")
		case c.Peek("set"):
			from := c.At + 1
			c.At++
			c.Upto(func(c *sqltext.Cursor) bool { return routineClause(c) })
			sets = append(sets, flat(c.Tokens[from:c.At]))
		case c.Peek("security"), c.Peek("not"), c.Peek("parallel"):
			from := c.At
			c.At += 2
			add(flat(c.Tokens[from:min(c.At, len(c.Tokens))]))
		case routineClause(c):
			add(clause())
		default:
			return fmt.Errorf("%q is no clause of a routine", clip(c.Next().Text))
		}
	}
	slices.Sort(list)
	setText(e, "attributes", strings.Join(list, " "))
	slices.Sort(sets)
	for _, s := range sets {
		name, v, _ := strings.Cut(strings.Replace(strings.Replace(s, " = ", " to ", 1), "=", " to ", 1), " to ")
		setText(e, "set "+name, v)
	}
	return nil
}

func (r *reader) aggregate(st declaration, _ bool) error {
	schema, name, err := st.name()
	if err != nil {
		return err
	}
	group := st.c.Group()
	args := argumentTypes(group)
	if g := sqltext.Inside(group); len(g) == 1 && g[0].Is("*") {
		args = "*"
	}
	e := &element.Element{Type: "aggregate", Key: ident(name) + "(" + args + ")"}
	setText(e, "arguments", argumentText(group))
	setText(e, "definition", flat(st.c.Rest()))
	return r.put(st, schema, e)
}

// operator reads CREATE OPERATOR name (...).
func (r *reader) operator(st declaration, _ bool) error {
	c := st.c
	names := []string{}
	for c.More() && !c.Peek("(") {
		t := c.Next()
		if !t.Is(".") {
			names = append(names, Dialect.NameOf(t))
		}
	}
	if len(names) == 0 {
		return fmt.Errorf("an operator's name is expected%s", st.found())
	}
	schema := "public"
	if len(names) > 1 && !isOperator(names[0]) {
		schema, names = names[0], names[1:]
	}
	left, right := "none", "none"
	inside := sqltext.Inside(c.Group())
	for _, o := range sqltext.Commas(inside) {
		oc := &sqltext.Cursor{Tokens: o}
		switch {
		case oc.Skip("leftarg"):
			oc.Skip("=")
			left = flat(oc.Rest())
		case oc.Skip("rightarg"):
			oc.Skip("=")
			right = flat(oc.Rest())
		}
	}
	e := &element.Element{Type: "operator", Key: strings.Join(names, "") + "(" + left + ", " + right + ")"}
	setText(e, "definition", flat(inside))
	return r.put(st, schema, e)
}

func isOperator(s string) bool { return s != "" && strings.Trim(s, "+-*/<>=~!@#%^&|`?") == "" }
