package sqltext

// Cursor walks over tokens without comments.
type Cursor struct {
	Tokens []Token
	At     int
}

// More says whether a token is left.
func (c *Cursor) More() bool { return c.At < len(c.Tokens) }

// Peek says whether these words come next.
func (c *Cursor) Peek(words ...string) bool {
	for i, w := range words {
		if c.At+i >= len(c.Tokens) || !c.Tokens[c.At+i].Is(w) {
			return false
		}
	}
	return true
}

// Skip goes past these words when they come next.
func (c *Cursor) Skip(words ...string) bool {
	if c.Peek(words...) {
		c.At += len(words)
		return true
	}
	return false
}

// Next gives the next token and goes past it; the zero token at the end.
func (c *Cursor) Next() Token {
	if !c.More() {
		return Token{}
	}
	c.At++
	return c.Tokens[c.At-1]
}

// Group gives the tokens of a parenthesis that comes next, both marks included.
func (c *Cursor) Group() []Token {
	from, depth := c.At, 0
	for c.More() {
		t := c.Next()
		if t.Is("(") {
			depth++
		} else if t.Is(")") {
			if depth--; depth == 0 {
				break
			}
		} else if depth == 0 {
			c.At--
			break
		}
	}
	return c.Tokens[from:c.At]
}

// Inside drops the marks of a group.
func Inside(group []Token) []Token {
	if len(group) < 2 {
		return nil
	}
	return group[1 : len(group)-1]
}

// Upto gives the tokens before the first, outside parentheses, at which stop is
// true, and goes there.
func (c *Cursor) Upto(stop func(*Cursor) bool) []Token {
	from := c.At
	for c.More() && !stop(c) {
		if c.Peek("(") {
			c.Group()
		} else {
			c.At++
		}
	}
	return c.Tokens[from:c.At]
}

// Rest gives what is left, and goes to the end.
func (c *Cursor) Rest() []Token {
	ts := c.Tokens[c.At:]
	c.At = len(c.Tokens)
	return ts
}

// Commas cuts tokens at the commas outside parentheses and brackets.
func Commas(ts []Token) [][]Token {
	if len(ts) == 0 {
		return nil
	}
	var out [][]Token
	depth, from := 0, 0
	for i, t := range ts {
		switch {
		case t.Is("(") || t.Is("["):
			depth++
		case t.Is(")") || t.Is("]"):
			depth--
		case t.Is(",") && depth == 0:
			out = append(out, ts[from:i])
			from = i + 1
		}
	}
	return append(out, ts[from:])
}

// QualifiedName reads a.b.c and gives its names.
func (c *Cursor) QualifiedName(d *Dialect) []string {
	var out []string
	for c.More() {
		t := c.Tokens[c.At]
		if t.Sort != Word && t.Sort != Quoted && !(t.Sort == Literal && d.DoubleString) {
			break
		}
		out = append(out, d.NameOf(t))
		c.At++
		if !c.Skip(".") {
			break
		}
	}
	return out
}

// ColumnList gives the names in the first parenthesis of a definition; nil when there
// is anything but plain names in it.
func (d *Dialect) ColumnList(definition string) []string {
	ts, err := d.Scan(definition)
	if err != nil {
		return nil
	}
	c := &Cursor{Tokens: Meaning(ts)}
	c.Upto(func(c *Cursor) bool { return c.Peek("(") })
	var out []string
	for _, part := range Commas(Inside(c.Group())) {
		if len(part) != 1 || part[0].Sort != Word && part[0].Sort != Quoted {
			return nil
		}
		out = append(out, d.NameOf(part[0]))
	}
	return out
}

// Referred gives the name of the table that a foreign key leads to, with those that it
// stands in.
func (d *Dialect) Referred(definition string) []string {
	ts, err := d.Scan(definition)
	if err != nil {
		return nil
	}
	c := &Cursor{Tokens: Meaning(ts)}
	c.Upto(func(c *Cursor) bool { return c.Peek("references") })
	if !c.Skip("references") {
		return nil
	}
	return c.QualifiedName(d)
}
