package sqltext

import (
	"errors"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Sort says what a token is.
type Sort byte

// The sorts of tokens.
const (
	Word    Sort = iota // a key word or a bare name
	Quoted              // a name in quotes
	Literal             // a string or a number
	Mark                // punctuation or an operator
	Comment
)

// Token is one lexical unit, with where it stands.
type Token struct {
	Sort     Sort
	Text     string // as written
	From, To int    // offsets in the text, in bytes
	Line     int    // from 1
}

// Is reports whether the token is this key word or mark; s is in small letters.
func (t Token) Is(s string) bool {
	return (t.Sort == Word || t.Sort == Mark) && len(t.Text) == len(s) && strings.EqualFold(t.Text, s)
}

// NameOf gives the name that a token stands for.
func (d *Dialect) NameOf(t Token) string {
	switch {
	case t.Sort == Quoted, t.Sort == Literal && d.DoubleString && t.Text[0] == '"':
		q := string(t.Text[0])
		return strings.ReplaceAll(t.Text[1:len(t.Text)-1], q+q, q)
	case t.Sort == Word && d.Fold:
		return strings.ToLower(t.Text)
	}
	return t.Text
}

// ByteOrder gives the byte-order mark that a text of SQL begins with; it is no part of what
// the text says.
func ByteOrder(sql string) string {
	const mark = "\ufeff"
	if strings.HasPrefix(sql, mark) {
		return mark
	}
	return ""
}

// Scan takes SQL apart. An error says on which line something is not closed.
func (d *Dialect) Scan(sql string) ([]Token, error) {
	if !utf8.ValidString(sql) {
		return nil, errors.New("it is not UTF-8 text")
	}
	out := make([]Token, 0, len(sql)/6)
	line := 1
	for i := len(ByteOrder(sql)); i < len(sql); {
		switch sql[i] {
		case '\n':
			line++
			i++
			continue
		case ' ', '\t', '\r', '\f', '\v':
			i++
			continue
		}
		sort, n, err := d.next(sql[i:])
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", line, err)
		}
		out = append(out, Token{sort, sql[i : i+n], i, i + n, line})
		line += strings.Count(sql[i:i+n], "\n")
		i += n
	}
	return out, nil
}

func (d *Dialect) next(s string) (Sort, int, error) {
	switch c := s[0]; {
	case strings.HasPrefix(s, "--"), c == '#' && d.Hash:
		n := strings.IndexByte(s, '\n')
		if n < 0 {
			n = len(s)
		}
		return Comment, n, nil
	case strings.HasPrefix(s, "/*"):
		return d.comment(s)
	case c == '\'', c == '"' && d.DoubleString:
		return enclosed(Literal, s, 0, d.Backslash, "a string")
	case c == '"', c == '`' && d.Quote == '`':
		return enclosed(Quoted, s, 0, false, "a name in quotes")
	case len(s) > 1 && s[1] == '\'' && strings.IndexByte("eEnNbBxX", c) >= 0:
		return enclosed(Literal, s, 1, d.Backslash || c == 'e' || c == 'E', "a string")
	case c == '$' && d.Dollar:
		if n, ok, err := dollar(s); ok || err != nil {
			return Literal, n, err
		}
	case c >= '0' && c <= '9', c == '.' && len(s) > 1 && s[1] >= '0' && s[1] <= '9':
		if n := number(s); n > 0 {
			return Literal, n, nil
		}
	}
	if n := wordLength(s); n > 0 {
		return Word, n, nil
	}
	if n := operator(s); n > 0 {
		return Mark, n, nil
	}
	_, n := utf8.DecodeRuneInString(s)
	return Mark, n, nil
}

func (d *Dialect) comment(s string) (Sort, int, error) {
	depth := 0
	for i := 0; i+1 < len(s); i++ {
		switch {
		case s[i] == '/' && s[i+1] == '*' && (depth == 0 || d.Nested):
			depth++
			i++
		case s[i] == '*' && s[i+1] == '/':
			depth--
			i++
			if depth == 0 {
				return Comment, i + 1, nil
			}
		}
	}
	return 0, 0, errors.New("a comment is never closed")
}

// enclosed finds the end of what begins with a quote at s[at].
func enclosed(sort Sort, s string, at int, backslash bool, what string) (Sort, int, error) {
	q := s[at]
	for i := at + 1; i < len(s); i++ {
		switch {
		case s[i] == '\\' && backslash:
			i++
		case s[i] == q && i+1 < len(s) && s[i+1] == q:
			i++
		case s[i] == q:
			return sort, i + 1, nil
		}
	}
	return 0, 0, fmt.Errorf("%s is never closed", what)
}

// dollar finds the end of $tag$ ... $tag$.
func dollar(s string) (int, bool, error) {
	n := 1
	for n < len(s) && (s[n] == '_' || s[n] >= 'a' && s[n] <= 'z' || s[n] >= 'A' && s[n] <= 'Z' || s[n] >= 0x80 || n > 1 && s[n] >= '0' &&
		s[n] <= '9') {
		n++
	}
	if n >= len(s) || s[n] != '$' {
		return 0, false, nil
	}
	tag := s[:n+1]
	end := strings.Index(s[n+1:], tag)
	if end < 0 {
		return 0, false, fmt.Errorf("a string that begins with %s is never closed", tag)
	}
	return n + 1 + end + len(tag), true, nil
}

func number(s string) int {
	i := 0
	for i < len(s) {
		c := s[i]
		switch {
		case c >= '0' && c <= '9' || c == '.':
			i++
		case (c == 'e' || c == 'E') && i+1 < len(s) &&
			(s[i+1] >= '0' && s[i+1] <= '9' || i+2 < len(s) && (s[i+1] == '+' || s[i+1] == '-') && s[i+2] >= '0' && s[i+2] <= '9'):
			i += 2
		case c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80:
			if s[0] == '0' && len(s) > 1 && (s[1] == 'x' || s[1] == 'X') {
				i++
				continue
			}
			return wordLike(s, i) // a name that begins with digits, as one engine allows
		default:
			return i
		}
	}
	return i
}

// wordLike gives 0 when digits run on into letters, so that they are read as a word.
func wordLike(s string, i int) int {
	if strings.IndexByte(s[:i], '.') >= 0 {
		return i
	}
	return 0
}

func wordLength(s string) int {
	n := 0
	for i, r := range s {
		if r < 0x80 && r != '_' && (r != '$' || i == 0) && (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && (r < '0' || r > '9') ||
			r >= 0x80 && unicode.IsSpace(r) {
			break
		}
		n = i + utf8.RuneLen(r)
	}
	return n
}

const operatorMarks = "+-*/<>=~!@#%^&|?:"

// operator takes a run of operator characters; a comment ends it.
func operator(s string) int {
	n := 0
	for n < len(s) && strings.IndexByte(operatorMarks, s[n]) >= 0 {
		if n > 0 && (strings.HasPrefix(s[n:], "--") || strings.HasPrefix(s[n:], "/*")) {
			break
		}
		n++
	}
	if n > 1 && s[0] == ':' && s[1] != ':' && s[1] != '=' {
		return 1
	}
	if n > 2 && strings.HasPrefix(s, "::") {
		return 2
	}
	// A sign after an operator belongs to what follows: `=-1`.
	for n > 1 && (s[n-1] == '-' || s[n-1] == '+') && !strings.ContainsAny(s[:n], "~!@#%^&|`?") {
		n--
	}
	return n
}

// Meaning drops comments.
func Meaning(ts []Token) []Token {
	clean := true
	for _, t := range ts {
		clean = clean && t.Sort != Comment
	}
	if clean {
		return ts
	}
	out := make([]Token, 0, len(ts))
	for _, t := range ts {
		if t.Sort != Comment {
			out = append(out, t)
		}
	}
	return out
}
