package workbook

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// Formulas refer to cells by place: A1, $B$2, B2:B9, 3:5, C:D, with the sheet before them
// (ECMA-376 part 1, 18.17). Here they are found, and told otherwise.

// ref is a reference within a formula: one cell, or a range of cells, rows or columns.
type ref struct {
	sheet string // empty for the formula's own
	ends  []end
}

// end is a corner of a reference; row or column is 0 where it has none.
type end struct {
	col, row           int
	fixedCol, fixedRow bool
}

func (e end) String() string {
	var b strings.Builder
	if e.col > 0 {
		if e.fixedCol {
			b.WriteByte('$')
		}
		b.WriteString(columnName(e.col))
	}
	if e.row > 0 {
		if e.fixedRow {
			b.WriteByte('$')
		}
		b.WriteString(strconv.Itoa(e.row))
	}
	return b.String()
}

var (
	corner = regexp.MustCompile(`^(\$?)([A-Za-z]{1,3})(\$?)([1-9][0-9]{0,6})`)
	across = regexp.MustCompile(`^(\$?)([A-Za-z]{1,3}):(\$?)([A-Za-z]{1,3})`)
	along  = regexp.MustCompile(`^(\$?)([1-9][0-9]{0,6}):(\$?)([1-9][0-9]{0,6})`)
	named  = regexp.MustCompile(`^[\pL_\\][\pL\pN_.\\]*`)
	number = regexp.MustCompile(`^[0-9.]+([eE][+-]?[0-9]+)?`)
)

var errFormula = errors.New("a formula can't be read")

// mapRefs gives a formula whose references are told as say gives them.
func mapRefs(formula string, say func(ref) (ref, error)) (string, error) {
	var b strings.Builder
	s, sheet := formula, ""
	foreign := false // what comes belongs to another workbook
	for s != "" {
		n, quoted := 0, ""
		switch c := s[0]; {
		case c == '"':
			n = closed(s, '"')
		case c == '\'':
			if n = closed(s, '\''); n > 0 {
				quoted = strings.ReplaceAll(s[1:n-1], "''", "'")
			}
		case c == '[':
			n = strings.IndexByte(s, ']') + 1
			foreign = true
		default:
			r, m := reference(s)
			if m > 0 {
				if foreign {
					n = m
					break
				}
				r.sheet = sheet
				said, err := say(r)
				if err != nil {
					return "", err
				}
				b.WriteString(said.String())
				s, sheet = s[m:], ""
				continue
			}
			if n = len(named.FindString(s)); n > 0 {
				quoted = s[:n]
			} else if n = len(number.FindString(s)); n == 0 {
				n = 1
			}
		}
		if n <= 0 || n > len(s) {
			return "", errFormula
		}
		b.WriteString(s[:n])
		rest := s[n:]
		if quoted != "" && strings.HasPrefix(rest, "!") {
			if strings.ContainsAny(quoted, "[]") {
				foreign = true
			}
			sheet = quoted
			b.WriteByte('!')
			s = rest[1:]
			continue
		}
		if s[0] != '[' {
			sheet, foreign = "", false
		}
		s = rest
	}
	return b.String(), nil
}

// String writes a reference without its sheet.
func (r ref) String() string {
	text := r.ends[0].String()
	if len(r.ends) > 1 {
		text += ":" + r.ends[1].String()
	}
	return text
}

// closed gives the length of what stands in quotes, which may be doubled inside; 0 when it
// never ends.
func closed(s string, quote byte) int {
	for i := 1; i < len(s); i++ {
		if s[i] != quote {
			continue
		}
		if i+1 < len(s) && s[i+1] == quote {
			i++
			continue
		}
		return i + 1
	}
	return 0
}

// reference reads a reference at the beginning of a text; its length is 0 for none.
func reference(s string) (ref, int) {
	bounded := func(n int) bool {
		return n == len(s) || !strings.ContainsRune("_.!(\\", rune(s[n])) && !letter(s[n])
	}
	one := func(s string) (end, int) {
		m := corner.FindStringSubmatch(s)
		if m == nil {
			return end{}, 0
		}
		row, _ := strconv.Atoi(m[4])
		return end{column(m[2]), row, m[1] != "", m[3] != ""}, len(m[0])
	}
	if e, n := one(s); n > 0 {
		if n < len(s) && s[n] == ':' {
			if f, k := one(s[n+1:]); k > 0 && bounded(n+1+k) {
				return ref{ends: []end{e, f}}, n + 1 + k
			}
		}
		if bounded(n) {
			return ref{ends: []end{e}}, n
		}
		return ref{}, 0
	}
	if m := across.FindStringSubmatch(s); m != nil && bounded(len(m[0])) {
		return ref{ends: []end{{col: column(m[2]), fixedCol: m[1] != ""}, {col: column(m[4]), fixedCol: m[3] != ""}}}, len(m[0])
	}
	if m := along.FindStringSubmatch(s); m != nil && bounded(len(m[0])) {
		x, _ := strconv.Atoi(m[2])
		y, _ := strconv.Atoi(m[4])
		return ref{ends: []end{{row: x, fixedRow: m[1] != ""}, {row: y, fixedRow: m[3] != ""}}}, len(m[0])
	}
	return ref{}, 0
}

func letter(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c >= 0x80
}

// column gives the number of a column, from 1.
func column(name string) int {
	n := 0
	for _, c := range strings.ToUpper(name) {
		n = n*26 + int(c-'A') + 1
	}
	return n
}

// moved gives a formula as it is when it is filled into another cell, down and to the right
// by so many rows and columns.
func moved(formula string, rows, cols int) (string, error) {
	return mapRefs(formula, func(r ref) (ref, error) {
		out := ref{sheet: r.sheet, ends: make([]end, len(r.ends))}
		for i, e := range r.ends {
			if e.col > 0 && !e.fixedCol {
				e.col += cols
			}
			if e.row > 0 && !e.fixedRow {
				e.row += rows
			}
			if r.ends[i].col > 0 && e.col < 1 || r.ends[i].row > 0 && e.row < 1 {
				return r, fmt.Errorf("%s leads out of the sheet", formula)
			}
			out.ends[i] = e
		}
		return out, nil
	})
}
