package mariadb

import (
	"fmt"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/schema/sqltext"
)

func (r *reader) function(st declaration, h heading) error  { return r.routine(st, h, "function") }
func (r *reader) procedure(st declaration, h heading) error { return r.routine(st, h, "procedure") }

// source gives the text of tokens as it is written.
func (st declaration) source(ts []sqltext.Token) string {
	if len(ts) == 0 {
		return ""
	}
	return st.text[ts[0].From:ts[len(ts)-1].To]
}

// finish sets what every stored program can have.
func (st declaration) finish(e *element.Element, h heading) {
	setText(e, "owner", h.definer)
	if st.mode != "" && st.mode != usualMode {
		setText(e, "sql mode", st.mode)
	}
	setText(e, "session", st.session)
}

// usualMode is the sql_mode of a new server, which goes without saying.
const usualMode = "STRICT_TRANS_TABLES,ERROR_FOR_DIVISION_BY_ZERO,NO_AUTO_CREATE_USER,NO_ENGINE_SUBSTITUTION"

func (r *reader) routine(st declaration, h heading, typ string) error {
	name, err := st.name()
	if err != nil {
		return err
	}
	c := st.c
	if !c.Peek("(") {
		return fmt.Errorf("the arguments' parenthesis is expected%s", st.found())
	}
	e := &element.Element{Type: typ, Key: name}
	group := c.Group()
	setText(e, "arguments", st.text[group[0].To:group[len(group)-1].From])
	if typ == "function" {
		if !c.Skip("returns") {
			return fmt.Errorf("\"returns\" and a type are expected%s", st.found())
		}
		setText(e, "returns", r.returned(c))
	}
	setText(e, "attributes", strings.Join(r.attributes(e, c), " "))
	body := st.source(c.Rest())
	if body == "" {
		return fmt.Errorf("the %s %s has no body", typ, ident(name))
	}
	e.Set("body", element.TextValue(body))
	e.Gist = textOf(e, "returns")
	st.finish(e, h)
	return r.put(st, e)
}

// returned reads a type.
func (r *reader) returned(c *sqltext.Cursor) string {
	from := c.At
	c.Next()
	if c.Peek("(") {
		c.Group()
	}
	for {
		switch {
		case c.Skip("unsigned"), c.Skip("zerofill"), c.Skip("signed"), c.Skip("precision"), c.Skip("varying"):
			if c.Peek("(") {
				c.Group()
			}
		case c.Skip("character", "set"), c.Skip("charset"), c.Skip("collate"):
			c.Next()
		default:
			return r.flat(c.Tokens[from:c.At])
		}
	}
}

// attributes reads the characteristics of a routine.
func (r *reader) attributes(e *element.Element, c *sqltext.Cursor) []string {
	var out []string
	for {
		from := c.At
		switch {
		case c.Skip("language", "sql"), c.Skip("contains", "sql"), c.Skip("not", "deterministic"), c.Skip("sql", "security", "definer"):
			continue // the usual
		case c.Skip("deterministic"), c.Skip("no", "sql"), c.Skip("reads", "sql", "data"), c.Skip("modifies", "sql", "data"), c.Skip("sql",
			"security", "invoker"):
			out = append(out, strings.ToLower(r.flat(c.Tokens[from:c.At])))
		case c.Skip("comment"):
			setText(e, "comment", Dialect.Unquote(c.Next().Text))
		default:
			return out
		}
	}
}

func (r *reader) trigger(st declaration, h heading) error {
	c := st.c
	c.Skip("if", "not", "exists")
	name, err := st.name()
	if err != nil {
		return err
	}
	when := r.flat(c.Upto(func(c *sqltext.Cursor) bool { return c.Peek("on") }))
	c.Skip("on")
	table, err := st.name()
	if err != nil {
		return err
	}
	owner, err := r.tableNamed(st, table)
	if err != nil {
		return err
	}
	c.Skip("for", "each", "row")
	follows := ""
	if c.Skip("follows") {
		follows = Dialect.NameOf(c.Next())
	}
	if kid(owner, "trigger", name) != nil {
		return fmt.Errorf("the trigger %s is declared twice", name)
	}
	e := &element.Element{Type: "trigger", Key: name, Firm: true, Gist: when}
	setText(e, "when", strings.ToLower(when))
	setText(e, "follows", follows)
	e.Set("body", element.TextValue(st.source(c.Rest())))
	st.finish(e, h)
	owner.Add(e)
	return nil
}

func (r *reader) event(st declaration, h heading) error {
	name, err := st.name()
	if err != nil {
		return err
	}
	c := st.c
	e := &element.Element{Type: "event", Key: name}
	header := c.Upto(func(c *sqltext.Cursor) bool { return c.Peek("do") || c.Peek("comment") })
	setText(e, "schedule", r.flat(header))
	if c.Skip("comment") {
		setText(e, "comment", Dialect.Unquote(c.Next().Text))
	}
	if !c.Skip("do") {
		return fmt.Errorf("\"do\" and what is to be done are expected%s", st.found())
	}
	e.Set("body", element.TextValue(st.source(c.Rest())))
	e.Gist = clip(textOf(e, "schedule"))
	st.finish(e, h)
	return r.put(st, e)
}

func (r *reader) sequence(st declaration, _ heading) error {
	name, err := st.name()
	if err != nil {
		return err
	}
	e := &element.Element{Type: "sequence", Key: name}
	text := r.flat(st.c.Rest())
	text = strings.TrimSuffix(text, " engine=innodb")
	setText(e, "definition", strings.TrimSuffix(text, " engine=InnoDB"))
	e.Gist = clip(text)
	return r.put(st, e)
}

func (r *reader) view(st declaration, h heading) error {
	name, err := st.name()
	if err != nil {
		return err
	}
	c := st.c
	e := &element.Element{Type: "view", Key: name}
	if c.Peek("(") {
		setText(e, "names", r.flat(sqltext.Inside(c.Group())))
	}
	if !c.Skip("as") || !c.More() {
		return fmt.Errorf("the view's query is expected after \"as\"%s", st.found())
	}
	if h.algorithm != "undefined" {
		setText(e, "algorithm", h.algorithm)
	}
	if h.security == "invoker" {
		setText(e, "security", h.security)
	}
	body := c.Rest()
	for _, option := range []string{"cascaded", "local", ""} {
		words := strings.Fields("with " + option + " check option")
		tail := sqltext.Cursor{Tokens: body, At: max(len(body)-len(words), 0)}
		if tail.Peek(words...) {
			if option == "" {
				option = "cascaded"
			}
			setText(e, "check option", option)
			body = body[:len(body)-len(words)]
			break
		}
	}
	text := st.source(body)
	if r.engine {
		text = tall(body)
	}
	setText(e, "definition", text)
	e.Gist = clip(strings.Join(strings.Fields(text), " "))
	st.finish(e, h)
	e.Set("sql mode", element.Value{})
	return r.put(st, e)
}

// breaks start a line of a query.
var breaks = sqltext.Words("from where group having order limit union except intersect left right join inner")

// tall writes a query that the engine wrote on one line with a line for each clause
// and column.
func tall(ts []sqltext.Token) string {
	var b strings.Builder
	depth, columns := 0, false
	for i, t := range ts {
		text := engineFlat(ts[i : i+1])
		word := strings.ToLower(t.Text)
		switch {
		case i == 0:
		case depth == 0 && t.Sort == sqltext.Word && breaks[word] &&
			!(word == "join" && (ts[i-1].Is("left") || ts[i-1].Is("right") || ts[i-1].Is("inner"))) && !ts[i-1].Is("straight"):
			b.WriteByte('\n')
		case depth == 0 && columns && ts[i-1].Is(","):
			b.WriteString("\n  ")
		case ts[i-1].Is(","):
			b.WriteByte(' ')
		case ts[i-1].To < t.From:
			b.WriteByte(' ')
		}
		if depth == 0 && t.Sort == sqltext.Word {
			if t.Is("select") {
				columns = true
			} else if breaks[word] {
				columns = false
			}
		}
		switch {
		case t.Is("("):
			depth++
		case t.Is(")"):
			depth--
		}
		b.WriteString(text)
	}
	return b.String()
}
