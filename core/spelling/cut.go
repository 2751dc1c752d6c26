package spelling

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// cut takes a text apart into tokens: words, runs of space, quoted texts and remarks of
// the usual forms whole, other signs one by one. Together they are the text. What is one
// token is never made of two sides.
func cut(s string) []string {
	var out []string
	fresh := true // at the beginning of a line, or behind space
	for len(s) > 0 {
		n := remark(s, fresh)
		if n == 0 {
			n = quoted(s)
		}
		if n == 0 {
			n = word(s)
		}
		fresh = strings.TrimRight(s[:n], " \t\n") != s[:n]
		out, s = append(out, s[:n]), s[n:]
	}
	return out
}

// remark gives the length of a remark that a text begins with; zero for none.
func remark(s string, fresh bool) int {
	for _, r := range [][2]string{{"<!--", "-->"}, {"/*", "*/"}, {"<?", "?>"}, {"<![CDATA[", "]]>"}} {
		if strings.HasPrefix(s, r[0]) {
			if end := strings.Index(s, r[1]); end > 0 {
				return end + len(r[1])
			}
		}
	}
	if fresh && (s[0] == '#' || s[0] == ';' || strings.HasPrefix(s, "//") || strings.HasPrefix(s, "--")) {
		if end := strings.IndexByte(s, '\n'); end >= 0 {
			return end
		}
		return len(s)
	}
	return 0
}

// quoted gives the length of a quoted text on one line that a text begins with.
func quoted(s string) int {
	if s[0] != '"' && s[0] != '\'' && s[0] != '`' {
		return 0
	}
	for i := 1; i < len(s) && s[i] != '\n'; i++ {
		switch s[i] {
		case '\\':
			i++
		case s[0]:
			return i + 1
		}
	}
	return 0
}

// word gives the length of the word, the run of blanks or the sign that a text begins with.
func word(s string) int {
	first, n := utf8.DecodeRuneInString(s)
	c := class(first)
	for c > 0 && n < len(s) {
		r, size := utf8.DecodeRuneInString(s[n:])
		if class(r) != c && !(c == 1 && (r == '.' || r == '-') && n+size < len(s) && class(rune(s[n+size])) == 1) {
			break
		}
		n += size
	}
	return n
}

func class(r rune) int {
	switch {
	case unicode.IsLetter(r) || unicode.IsDigit(r) || r == '_':
		return 1
	case r != '\n' && unicode.IsSpace(r):
		return 2
	}
	return 0
}
