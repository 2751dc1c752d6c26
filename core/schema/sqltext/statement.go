package sqltext

import (
	"fmt"
	"strings"
)

// Statement is one SQL statement of a text.
type Statement struct {
	Tokens []Token // without what ends it; comments included
	From   int     // offset of its first key word; comments before it are not in From..To
	To     int     // offset after what ends it
	Line   int
	// Before are the comments between the statement before and this one.
	Before []Token
}

// Statements cuts a text at its semicolons, or at what a `delimiter` line says. A
// statement with a parenthesis that is never closed is refused with its line.
// Semicolons in parentheses and in the body of a routine belong to the statement.
func (d *Dialect) Statements(sql string) ([]Statement, error) {
	ts, err := d.Scan(sql)
	if err != nil {
		return nil, err
	}
	c := &cutter{dialect: d, sql: sql, end: ";"}
	for i := 0; i < len(ts); i++ {
		if d.Delimiter && ts[i].Is("delimiter") && len(c.cur) == 0 {
			i = c.delimiter(ts, i)
			continue
		}
		i = c.take(ts, i)
	}
	if len(Meaning(c.cur)) > 0 {
		c.flush(c.cur[len(c.cur)-1].To)
	}
	if c.open > 0 {
		return nil, fmt.Errorf("line %d: a parenthesis of the statement that begins there is never closed", c.open)
	}
	return c.out, nil
}

// cutter gathers statements.
type cutter struct {
	dialect  *Dialect
	sql, end string
	out      []Statement
	cur      []Token
	before   []Token
	depth    int // of parentheses
	blocks   int // of begin and case in a routine
	routine  bool
	open     int // line of the first statement with a parenthesis that is never closed
}

// delimiter reads the line that sets what ends a statement.
func (c *cutter) delimiter(ts []Token, i int) int {
	stop := strings.IndexByte(c.sql[ts[i].To:], '\n')
	if stop < 0 {
		stop = len(c.sql) - ts[i].To
	}
	stop += ts[i].To
	if end := strings.TrimSpace(c.sql[ts[i].To:stop]); end != "" {
		c.end = end
	}
	for i+1 < len(ts) && ts[i+1].From < stop {
		i++
	}
	return i
}

// take adds the token at i, or ends the statement there.
func (c *cutter) take(ts []Token, i int) int {
	t := ts[i]
	if len(c.cur) == 0 && t.Sort == Comment {
		c.before = append(c.before, t)
		return i
	}
	switch {
	case c.end != ";" && strings.HasPrefix(c.sql[t.From:], c.end) && t.Sort != Comment:
		to := t.From + len(c.end)
		for i+1 < len(ts) && ts[i+1].From < to {
			i++
		}
		c.flush(to)
		return i
	case c.end == ";" && t.Is(";") && c.depth == 0 && c.blocks == 0:
		c.flush(t.To)
		return i
	}
	c.cur = append(c.cur, t)
	c.nest(ts, i)
	return i
}

// nest follows parentheses, and the blocks of a routine's body.
func (c *cutter) nest(ts []Token, i int) {
	t := ts[i]
	follows := func(words ...string) bool {
		for _, w := range words {
			if i+1 < len(ts) && ts[i+1].Is(w) {
				return true
			}
		}
		return false
	}
	if len(c.cur) <= 10 && !c.routine {
		for _, w := range []string{"function", "procedure", "trigger", "event", "package"} {
			c.routine = c.routine || t.Is(w) && c.cur[0].Is("create")
		}
	}
	switch {
	case t.Is("("):
		c.depth++
	case t.Is(")"):
		c.depth = max(c.depth-1, 0)
	case !c.routine:
	case t.Is("begin") && (follows("atomic") || c.dialect.Delimiter), c.blocks > 0 && t.Is("case") && !(i > 0 && ts[i-1].Is("end")):
		c.blocks++
	case c.blocks > 0 && t.Is("end") && !(c.dialect.Delimiter && follows("if", "loop", "while", "repeat", "for")):
		c.blocks--
	}
}

func (c *cutter) flush(to int) {
	if m := Meaning(c.cur); len(m) > 0 {
		if c.depth > 0 && c.open == 0 {
			c.open = m[0].Line
		}
		c.out = append(c.out, Statement{Tokens: c.cur, From: m[0].From, To: to, Line: m[0].Line, Before: c.before})
		c.before = nil
	}
	c.cur, c.depth, c.blocks, c.routine = nil, 0, 0, false
}
