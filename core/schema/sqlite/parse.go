package sqlite

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/element"
)

// cursor walks over tokens without comments.
type cursor struct {
	ts []token
	at int
}

func (c *cursor) more() bool { return c.at < len(c.ts) }

func (c *cursor) peek(words ...string) bool {
	for i, w := range words {
		if c.at+i >= len(c.ts) || !c.ts[c.at+i].is(w) {
			return false
		}
	}
	return true
}

func (c *cursor) skip(words ...string) bool {
	if c.peek(words...) {
		c.at += len(words)
		return true
	}
	return false
}

// group gives the tokens of a parenthesis, both marks included.
func (c *cursor) group() []token {
	from, depth := c.at, 0
	for c.more() {
		t := c.ts[c.at]
		c.at++
		if t.is("(") {
			depth++
		} else if t.is(")") {
			if depth--; depth == 0 {
				break
			}
		}
	}
	return c.ts[from:c.at]
}

var errTable = errors.New("the table's definition can't be understood")

// head is what a CREATE statement makes.
type head struct {
	sort string // table, view, index, trigger
	name string
	on   string // the table of an index or trigger
	at   int    // after the name, among the tokens without comments
}

// parseHead reads the beginning of a CREATE statement.
func parseHead(ts []token) (head, error) {
	c := &cursor{ts: meaning(ts)}
	var h head
	if !c.skip("create") {
		return h, fmt.Errorf("%q is no create statement", clip(flat(ts)))
	}
	if c.skip("temp") || c.skip("temporary") {
		return h, errors.New("temporary objects can't be declared")
	}
	c.skip("unique")
	c.skip("virtual")
	for _, s := range []string{"table", "view", "index", "trigger"} {
		if c.skip(s) {
			h.sort = s
		}
	}
	if h.sort == "" {
		return h, fmt.Errorf("%q makes nothing that SQLite has", clip(flat(ts)))
	}
	c.skip("if", "not", "exists")
	if !c.more() {
		return h, errTable
	}
	h.name = c.ts[c.at].name()
	c.at++
	if c.skip(".") && c.more() {
		h.name = c.ts[c.at].name()
		c.at++
	}
	h.at = c.at
	if h.sort == "index" || h.sort == "trigger" {
		for c.more() && !c.skip("on") {
			c.at++
		}
		if c.more() {
			h.on = c.ts[c.at].name()
		}
	}
	return h, nil
}

func clip(s string) string {
	if len(s) > 40 {
		return s[:40] + " ..."
	}
	return s
}

// parseTable gives the element of a CREATE TABLE statement.
func parseTable(sql string) (*element.Element, error) {
	ts, err := scan(sql)
	if err != nil {
		return nil, err
	}
	h, err := parseHead(ts)
	if err != nil {
		return nil, err
	}
	table := &element.Element{Type: "table", Key: h.name, Firm: true}
	c := &cursor{ts: meaning(ts), at: h.at}
	if c.skip("using") {
		table.Set("module", element.TextValue(flat(c.ts[c.at:])))
		table.Gist = "virtual table using " + c.ts[c.at].text
		return table, nil
	}
	if !c.peek("(") {
		return nil, errTable
	}
	body := c.group()
	for _, def := range splitCommas(body[1 : len(body)-1]) {
		if err := definition(table, def); err != nil {
			return nil, err
		}
	}
	for c.more() {
		switch {
		case c.skip("without", "rowid"):
			table.Set("without rowid", element.BoolValue(true))
		case c.skip("strict"):
			table.Set("strict", element.BoolValue(true))
		case c.skip(","), c.skip(";"):
		default:
			return nil, errTable
		}
	}
	table.Gist = element.Counted(len(kidsOf(table, "column")), "column")
	return table, nil
}

func splitCommas(ts []token) [][]token {
	var out [][]token
	depth, from := 0, 0
	for i, t := range ts {
		switch {
		case t.is("("):
			depth++
		case t.is(")"):
			depth--
		case t.is(",") && depth == 0:
			out = append(out, ts[from:i])
			from = i + 1
		}
	}
	return append(out, ts[from:])
}

// definition reads one column or table constraint.
func definition(table *element.Element, ts []token) error {
	if len(ts) == 0 {
		return errTable
	}
	c := &cursor{ts: ts}
	for _, w := range []string{"constraint", "primary", "unique", "check", "foreign"} {
		if c.peek(w) {
			table.Add(constraint(ts))
			return nil
		}
	}
	col := &element.Element{Type: "column", Key: ts[0].name(), Firm: true}
	c.at = 1
	from := c.at
	for c.more() && !startsClause(c) {
		if c.peek("(") {
			c.group()
		} else {
			c.at++
		}
	}
	if c.at > from {
		col.Set("type", element.TextValue(strings.ToLower(flat(ts[from:c.at]))))
	}
	for c.more() {
		if err := clause(col, c); err != nil {
			return err
		}
	}
	col.Gist = columnText(col)
	table.Add(col)
	return nil
}

func constraint(ts []token) *element.Element {
	c := &cursor{ts: ts}
	e := &element.Element{Type: "constraint", Firm: true}
	if c.skip("constraint") {
		e.Key = c.ts[c.at].name()
		e.Set("name", element.TextValue(e.Key))
		c.at++
	}
	text := flat(c.ts[c.at:])
	if e.Key == "" {
		e.Key = text
	}
	e.Set("definition", element.TextValue(text))
	e.Gist = text
	return e
}

var clauseWords = []string{"constraint", "primary", "not", "null", "unique", "check", "default", "collate", "references", "generated", "as"}

func startsClause(c *cursor) bool {
	return slices.ContainsFunc(clauseWords, func(w string) bool { return c.peek(w) })
}

// clause reads one clause of a column definition into a property.
func clause(col *element.Element, c *cursor) error {
	name := ""
	if c.skip("constraint") {
		if !c.more() {
			return errTable
		}
		name = "constraint " + ident(c.ts[c.at].name()) + " "
		c.at++
	}
	property, from := "", c.at
	switch {
	case c.skip("primary", "key"):
		property = "primary key"
	case c.skip("not", "null"):
		property = "not null"
	case c.skip("null"):
		property = "null"
	case c.skip("unique"):
		property = "unique"
	case c.skip("check"):
		property = "check"
	case c.skip("default"):
		property = "default"
	case c.skip("collate"):
		property = "collate"
	case c.skip("references"):
		property = "references"
	case c.skip("generated", "always"), c.peek("as"):
		c.skip("as")
		property = "generated"
	default:
		return fmt.Errorf("column %s: %w at %q", col.Key, errTable, c.ts[c.at].text)
	}
	start := c.at
	c.operand(property)
	text := flat(c.ts[start:c.at])
	if name != "" || property == "check" && !col.Prop("check").IsAbsent() {
		text = name + flat(c.ts[from:c.at])
		for property = "clause"; !col.Prop(property).IsAbsent(); property += "+" {
		}
	}
	switch {
	case property == "null":
	case text == "":
		col.Set(property, element.BoolValue(true))
	default:
		col.Set(property, element.TextValue(text))
	}
	return nil
}

// operand takes what belongs to a clause: up to the next one.
func (c *cursor) operand(property string) {
	if property == "default" && c.more() {
		if c.peek("(") {
			c.group()
			return
		}
		if c.peek("-") || c.peek("+") {
			c.at++
		}
		c.at++
		return
	}
	for c.more() {
		switch {
		case c.peek("("):
			c.group()
		case property == "references" && (c.peek("on", "delete", "set") || c.peek("on", "update", "set")):
			c.at += 4 // set null, set default: no clauses of the column
		case property == "references" && c.peek("not", "deferrable"):
			c.at += 2
		case startsClause(c):
			return
		default:
			c.at++
		}
	}
}

func kidsOf(e *element.Element, typ string) []*element.Element {
	var out []*element.Element
	for _, k := range e.Children {
		if k.Type == typ {
			out = append(out, k)
		}
	}
	return out
}

// parseOther gives the element of an index, trigger or view.
func parseOther(sort, name, sql string) (*element.Element, error) {
	ts, err := scan(sql)
	if err != nil {
		return nil, err
	}
	m := meaning(ts)
	for len(m) > 0 && m[len(m)-1].is(";") {
		m = m[:len(m)-1]
	}
	text := tall(m)
	if sort == "index" {
		text = flat(m)
	}
	text = strings.Replace(text, " if not exists ", " ", 1)
	e := &element.Element{Type: sort, Key: name, Firm: true, Props: []element.Prop{{Name: "definition", Value: element.TextValue(text)}}}
	if h, err := parseHead(ts); err == nil {
		e.Gist = clipLine(strings.TrimPrefix(flat(m[h.at:]), "as "))
	}
	return e, nil
}

func clipLine(s string) string {
	if r := []rune(s); len(r) > 70 {
		return string(r[:70]) + " …"
	}
	return s
}
