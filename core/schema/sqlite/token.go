package sqlite

import (
	"errors"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"oakenchest/core/schema/sqltext"
)

// tokenSort says what a token is.
type tokenSort byte

const (
	word    tokenSort = iota // a key word or a bare name
	quoted                   // a name in quotes, backticks or brackets
	literal                  // a string, number or blob
	mark                     // punctuation or an operator
	comment
)

// token is one lexical unit of SQL, with where it stands.
type token struct {
	sort     tokenSort
	text     string // as written
	from, to int
	line     int // from 1
}

// is reports whether the token is a key word or a mark.
func (t token) is(s string) bool {
	return (t.sort == word || t.sort == mark) && strings.EqualFold(t.text, s)
}

// name gives the name that a token stands for.
func (t token) name() string {
	if t.sort != quoted && !(t.sort == literal && t.text[0] == '\'') {
		return t.text
	}
	body, q := t.text[1:len(t.text)-1], t.text[len(t.text)-1:]
	return strings.ReplaceAll(body, q+q, q)
}

// scan takes SQL apart (https://www.sqlite.org/lang.html, "tokens" as in the
// engine's own tokenize.c). An error says on which line something is not closed.
func scan(sql string) ([]token, error) {
	if !utf8.ValidString(sql) {
		return nil, errors.New("it is not UTF-8 text")
	}
	var out []token
	line := 1
	for i := len(sqltext.ByteOrder(sql)); i < len(sql); {
		c := sql[i]
		if c == '\n' {
			line++
		}
		if strings.IndexByte(" \t\r\n\f", c) >= 0 {
			i++
			continue
		}
		sort, n, err := next(sql[i:])
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", line, err)
		}
		out = append(out, token{sort, sql[i : i+n], i, i + n, line})
		line += strings.Count(sql[i:i+n], "\n")
		i += n
	}
	return out, nil
}

func next(s string) (tokenSort, int, error) {
	until := func(sort tokenSort, open, end string, what string) (tokenSort, int, error) {
		at := len(open)
		for {
			k := strings.Index(s[at:], end)
			if k < 0 {
				return 0, 0, fmt.Errorf("%s is never closed", what)
			}
			at += k + len(end)
			if len(end) == 1 && end != "]" && at < len(s) && s[at] == end[0] { // doubled: stands for itself
				at++
				continue
			}
			return sort, at, nil
		}
	}
	switch c := s[0]; {
	case strings.HasPrefix(s, "--"):
		n := strings.IndexByte(s, '\n')
		if n < 0 {
			n = len(s)
		}
		return comment, n, nil
	case strings.HasPrefix(s, "/*"):
		return until(comment, "/*", "*/", "a comment")
	case c == '\'':
		return until(literal, "'", "'", "a string")
	case c == '"':
		return until(quoted, `"`, `"`, "a name in quotes")
	case c == '`':
		return until(quoted, "`", "`", "a name in backticks")
	case c == '[':
		return until(quoted, "[", "]", "a name in brackets")
	case (c == 'x' || c == 'X') && len(s) > 1 && s[1] == '\'':
		return until(literal, "x'", "'", "a blob")
	case c >= '0' && c <= '9' || c == '.' && len(s) > 1 && s[1] >= '0' && s[1] <= '9':
		return literal, numberLength(s), nil
	}
	n := 0
	for i, r := range s {
		if r < 0x80 && r != '_' && r != '$' && !unicode.IsLetter(r) && (i == 0 || !unicode.IsDigit(r)) {
			break
		}
		n = i + len(string(r))
	}
	if n > 0 {
		return word, n, nil
	}
	for _, op := range []string{"->>", "||", "<<", ">>", "<=", ">=", "<>", "!=", "==", "->"} {
		if strings.HasPrefix(s, op) {
			return mark, len(op), nil
		}
	}
	return mark, 1, nil
}

func numberLength(s string) int {
	i := 0
	for i < len(s) {
		c := s[i]
		switch {
		case c >= '0' && c <= '9' || c == '.' || c == '_', c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F' || c == 'x' || c == 'X':
			i++
		case (c == '+' || c == '-') && (s[i-1] == 'e' || s[i-1] == 'E') && !strings.HasPrefix(s, "0x"):
			i++
		default:
			return i
		}
	}
	return i
}

// meaning drops comments.
func meaning(ts []token) []token {
	var out []token
	for _, t := range ts {
		if t.sort != comment {
			out = append(out, t)
		}
	}
	return out
}

// statement is one SQL statement of a file.
type statement struct {
	tokens []token // without the final semicolon; comments included
	from   int     // offset of its first key word; comments before it are not in from..to
	to     int     // offset after its semicolon
	line   int
}

// statements cuts a file at its semicolons; a trigger's body belongs to it.
func statements(sql string) ([]statement, error) {
	ts, err := scan(sql)
	if err != nil {
		return nil, err
	}
	var out []statement
	var cur []token
	depth, trigger := 0, false
	flush := func(to int) {
		if m := meaning(cur); len(m) > 0 {
			out = append(out, statement{cur, m[0].from, to, m[0].line})
		}
		cur, depth, trigger = nil, 0, false
	}
	for _, t := range ts {
		if t.is(";") && depth == 0 {
			flush(t.to)
			continue
		}
		cur = append(cur, t)
		switch {
		case t.is("trigger") && len(meaning(cur)) <= 4:
			trigger = true
		case trigger && t.is("begin") && depth == 0, trigger && depth > 0 && t.is("case"):
			depth++
		case depth > 0 && t.is("end"):
			depth--
		}
	}
	if m := meaning(cur); len(m) > 0 {
		flush(cur[len(cur)-1].to)
	}
	return out, nil
}
