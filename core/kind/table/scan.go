package table

import (
	"errors"
	"strings"
)

// record is one line of a table as it is written: the text of its fields with
// their quotes, and what ends it.
type record struct {
	fields []string
	end    string // "\n", "\r\n", or nothing at the end of the file
}

func (r record) values() []string {
	out := make([]string, len(r.fields))
	for i, f := range r.fields {
		out[i] = unquote(f)
	}
	return out
}

// unquote gives the value of a field.
func unquote(f string) string {
	if len(f) < 2 || f[0] != '"' || f[len(f)-1] != '"' {
		return f
	}
	return strings.ReplaceAll(f[1:len(f)-1], `""`, `"`)
}

// quote writes a value as a field; always says that it stands in quotes anyway.
func quote(v string, sep byte, always bool) string {
	if !always && !strings.ContainsAny(v, "\"\r\n"+string(sep)) {
		return v
	}
	return `"` + strings.ReplaceAll(v, `"`, `""`) + `"`
}

const byteOrderMark = "\ufeff"

// scanner reads records.
type scanner struct {
	text string
	at   int
	sep  byte
	mark string
}

func newScanner(text string) *scanner {
	s := &scanner{text: text}
	if strings.HasPrefix(text, byteOrderMark) {
		s.mark, s.at = byteOrderMark, len(byteOrderMark)
	}
	s.sep = separator(text[s.at:])
	return s
}

// separator gives the one of comma, semicolon and tab that the first line has
// most of, outside of quotes.
func separator(text string) byte {
	count := map[byte]int{}
	quoted := false
	for i := range len(text) {
		c := text[i]
		if c == '"' {
			quoted = !quoted
		}
		if c == '\n' && !quoted {
			break
		}
		if !quoted {
			count[c]++
		}
	}
	best := byte(',')
	for _, c := range []byte{';', '\t'} {
		if count[c] > count[best] {
			best = c
		}
	}
	return best
}

func (s *scanner) done() bool { return s.at >= len(s.text) }

// record reads the next record.
func (s *scanner) record() (record, error) {
	var r record
	for {
		field, err := s.field()
		if err != nil {
			return r, err
		}
		r.fields = append(r.fields, field)
		switch rest := s.text[s.at:]; {
		case rest == "":
			return r, nil
		case rest[0] == s.sep:
			s.at++
		case rest[0] == '\n':
			r.end, s.at = "\n", s.at+1
			return r, nil
		default: // \r\n, or field would have gone on
			r.end, s.at = "\r\n", s.at+2
			return r, nil
		}
	}
}

// field reads the text of a field, with its quotes.
func (s *scanner) field() (string, error) {
	begin := s.at
	if s.at < len(s.text) && s.text[s.at] == '"' {
		for s.at++; ; s.at++ {
			i := strings.IndexByte(s.text[min(s.at, len(s.text)):], '"')
			if i < 0 {
				return "", errors.New("a quote is never closed")
			}
			s.at += i
			if s.at+1 >= len(s.text) || s.text[s.at+1] != '"' {
				s.at++
				break
			}
			s.at++
		}
		if !s.ends(s.at) {
			return "", errors.New("text follows a closing quote")
		}
		return s.text[begin:s.at], nil
	}
	for !s.ends(s.at) {
		if s.text[s.at] == '"' {
			return "", errors.New("a quote stands inside a field that has none around it")
		}
		s.at++
	}
	return s.text[begin:s.at], nil
}

// ends reports whether a field ends before a place.
func (s *scanner) ends(at int) bool {
	rest := s.text[at:]
	return rest == "" || rest[0] == s.sep || rest[0] == '\n' || strings.HasPrefix(rest, "\r\n")
}
