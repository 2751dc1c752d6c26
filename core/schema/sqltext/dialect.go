package sqltext

import (
	"strings"
)

// Dialect says how an engine writes names, strings and comments.
type Dialect struct {
	// Quote is the mark around names: `"` in PostgreSQL and the standard, a
	// backtick in MariaDB.
	Quote byte
	// Fold says that bare names are read in small letters.
	Fold bool
	// Backslash says that \ escapes in every string; else in E'' strings alone.
	Backslash bool
	// Dollar says that $tag$ ... $tag$ is a string.
	Dollar bool
	// Hash says that # begins a comment to the end of the line.
	Hash bool
	// Nested says that /* */ comments nest.
	Nested bool
	// DoubleString says that "text" is a string and no name.
	DoubleString bool
	// Delimiter says that a line `delimiter X` sets what ends a statement.
	Delimiter bool
	// Bare says that names are written without quotes where they need none.
	Bare bool
	// Reserved are the words that a bare name can't be, in small letters.
	Reserved map[string]bool
	// Keywords are the words that are written in small letters where the dialect does
	// not fold all bare ones.
	Keywords map[string]bool
}

// Words makes a set of the words of a text.
func Words(text string) map[string]bool {
	m := map[string]bool{}
	for w := range strings.FieldsSeq(text) {
		m[w] = true
	}
	return m
}

// Name writes a name as the dialect needs it: bare where that is the same name,
// else in quotes.
func (d *Dialect) Name(name string) string {
	bare := name != "" && !d.Reserved[strings.ToLower(name)]
	for i, r := range name {
		letter := r == '_' || r >= 'a' && r <= 'z' || !d.Fold && r >= 'A' && r <= 'Z'
		bare = bare && (letter || i > 0 && (r >= '0' && r <= '9'))
	}
	if bare {
		return name
	}
	q := string(d.Quote)
	return q + strings.ReplaceAll(name, q, q+q) + q
}

// Names writes a name with those that it stands in: `care.tank`.
func (d *Dialect) Names(names ...string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = d.Name(n)
	}
	return strings.Join(out, ".")
}

// String writes a text as a literal.
func (d *Dialect) String(s string) string {
	if strings.Contains(s, `\`) {
		switch {
		case d.Backslash:
			s = strings.ReplaceAll(s, `\`, `\\`)
		case d.Dollar:
			return "E'" + strings.ReplaceAll(strings.ReplaceAll(s, `\`, `\\`), "'", "''") + "'"
		}
	}
	return "'" + strings.ReplaceAll(s, "'", "''") + "'"
}

// Unquote gives the text of a string literal: '...', E'...', $tag$...$tag$. What is none
// stays as it is.
func (d *Dialect) Unquote(lit string) string {
	if len(lit) < 2 || !strings.ContainsAny(lit[:2], `'"$`) {
		return lit
	}
	if strings.HasPrefix(lit, "$") {
		n := strings.IndexByte(lit[1:], '$') + 2
		return lit[n : len(lit)-n]
	}
	escapes := d.Backslash
	if lit[0] == 'E' || lit[0] == 'e' {
		escapes, lit = true, lit[1:]
	} else if lit[0] == 'N' || lit[0] == 'n' {
		lit = lit[1:]
	}
	q := lit[:1]
	body := lit[1 : len(lit)-1]
	if !escapes || !strings.Contains(body, `\`) {
		return strings.ReplaceAll(body, q+q, q)
	}
	var b strings.Builder
	for i := 0; i < len(body); i++ {
		c := body[i]
		if c == '\\' && i+1 < len(body) {
			i++
			b.WriteByte(escaped(body[i]))
			continue
		}
		if c == q[0] {
			i++
		}
		b.WriteByte(c)
	}
	return b.String()
}

func escaped(c byte) byte {
	switch c {
	case 'n':
		return '\n'
	case 't':
		return '\t'
	case 'r':
		return '\r'
	case 'b':
		return '\b'
	case '0':
		return 0
	}
	return c
}
