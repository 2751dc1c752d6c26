// Package rows keeps the rows of lookup tables under version control: as CSV files
// sorted by the table's key, as elements, and as the statements that lead from the
// rows of a live table to those that a file declares.
//
// A file is CSV (RFC 4180) in UTF-8, with a line of column names. Null is nothing at
// all, an empty text is "", and a value stands in quotes only where it must. Values are
// written as the engine writes them in text; each engine's package says how.
//
// The package knows no engine. Tables come with the SQL that reads each column and
// with a function that writes a value as a literal.
package rows

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// Value is one field of a row.
type Value struct {
	Text string
	Null bool
}

// Row is the fields of one row, in the order of the sheet's columns.
type Row []Value

// Sheet is the rows of one table.
type Sheet struct {
	Columns []string
	Rows    []Row
	// lines tells on which line of its file each row begins; empty for a sheet that was
	// not read from one.
	lines []int
}

// LineError says what is wrong on a line of a file.
type LineError struct {
	Line int
	Err  error
}

// Error writes `line N: what`.
func (e *LineError) Error() string { return fmt.Sprintf("line %d: %v", e.Line, e.Err) }

// Unwrap gives the cause.
func (e *LineError) Unwrap() error { return e.Err }

// Line gives the line on which a row begins; 0 when that is not known.
func (s *Sheet) Line(row int) int {
	if row < len(s.lines) {
		return s.lines[row]
	}
	return 0
}

// Column gives the place of a column, or -1.
func (s *Sheet) Column(name string) int { return slices.Index(s.Columns, name) }

const byteOrderMark = "\ufeff"

// Parse reads a file.
func Parse(data []byte) (*Sheet, error) {
	if !utf8.Valid(data) {
		return nil, errors.New("it is not UTF-8")
	}
	p := &parser{text: strings.TrimPrefix(string(data), byteOrderMark), line: 1}
	if p.text == "" {
		return nil, &LineError{1, errors.New("the line with the names of the columns is missing")}
	}
	head, err := p.record(nil)
	if err != nil {
		return nil, err
	}
	s := &Sheet{}
	for _, v := range head {
		switch {
		case v.Text == "":
			return nil, &LineError{1, errors.New("a column has no name")}
		case slices.Contains(s.Columns, v.Text):
			return nil, &LineError{1, fmt.Errorf("the column %s is there twice", v.Text)}
		}
		s.Columns = append(s.Columns, v.Text)
	}
	n := strings.Count(p.text, "\n")
	s.Rows, s.lines = make([]Row, 0, n), make([]int, 0, n)
	pool := make([]Value, 0, min(n*len(head), 1<<22))
	for p.at < len(p.text) {
		line := p.line
		from := len(pool)
		if pool, err = p.record(pool); err != nil {
			return nil, err
		}
		row := pool[from:len(pool):len(pool)]
		if len(row) != len(head) {
			return nil, fieldsError(line, len(row), len(head))
		}
		s.Rows, s.lines = append(s.Rows, Row(row)), append(s.lines, line)
	}
	return s, nil
}

func fieldsError(line, fields, columns int) error {
	return &LineError{line, fmt.Errorf("there are %d fields, and %d columns", fields, columns)}
}

// parser reads records of CSV.
type parser struct {
	text     string
	at, line int
}

// record appends the fields of the next record to a list.
func (p *parser) record(to []Value) ([]Value, error) {
	for {
		v, err := p.field()
		if err != nil {
			return nil, err
		}
		to = append(to, v)
		switch rest := p.text[p.at:]; {
		case rest == "":
			return to, nil
		case rest[0] == ',':
			p.at++
		case rest[0] == '\n':
			p.at, p.line = p.at+1, p.line+1
			return to, nil
		case strings.HasPrefix(rest, "\r\n"):
			p.at, p.line = p.at+2, p.line+1
			return to, nil
		default:
			return nil, &LineError{p.line, errors.New("a comma is missing after a value in quotes")}
		}
	}
}

func (p *parser) field() (Value, error) {
	rest := p.text[p.at:]
	if !strings.HasPrefix(rest, `"`) {
		n, odd := 0, false
		for n < len(rest) && rest[n] != ',' && rest[n] != '\n' {
			odd = odd || rest[n] == '"' || rest[n] == '\r' && !strings.HasPrefix(rest[n+1:], "\n")
			n++
		}
		if n < len(rest) && rest[n] == '\n' && n > 0 && rest[n-1] == '\r' {
			n--
		}
		p.at += n
		if odd {
			return Value{}, &LineError{p.line, errors.New("a value with a quote or a line break must stand in quotes")}
		}
		return Value{rest[:n], n == 0}, nil
	}
	begin := p.line
	doubled := false
	for i := 1; i < len(rest); i++ {
		switch rest[i] {
		case '\n':
			p.line++
		case '"':
			if i+1 < len(rest) && rest[i+1] == '"' {
				doubled = true
				i++
				continue
			}
			text := rest[1:i]
			if doubled {
				text = strings.ReplaceAll(text, `""`, `"`)
			}
			p.at += i + 1
			return Value{Text: text}, nil
		}
	}
	return Value{}, &LineError{begin, errors.New("a value in quotes does not end")}
}

// Bytes writes the sheet as a file.
func (s *Sheet) Bytes() []byte {
	var b bytes.Buffer
	head := make(Row, len(s.Columns))
	for i, c := range s.Columns {
		head[i].Text = c
	}
	writeRow(&b, head)
	for _, r := range s.Rows {
		writeRow(&b, r)
	}
	return b.Bytes()
}

func writeRow(b *bytes.Buffer, r Row) {
	for i, v := range r {
		if i > 0 {
			b.WriteByte(',')
		}
		writeValue(b, v)
	}
	b.WriteByte('\n')
}

func writeValue(b *bytes.Buffer, v Value) {
	switch {
	case v.Null:
	case v.Text == "" || strings.ContainsAny(v.Text, ",\"\r\n"):
		b.WriteByte('"')
		b.WriteString(strings.ReplaceAll(v.Text, `"`, `""`))
		b.WriteByte('"')
	default:
		b.WriteString(v.Text)
	}
}

// keyOf gives the places of the key's columns.
func (s *Sheet) keyOf(key []string) ([]int, error) {
	out := make([]int, len(key))
	for i, k := range key {
		if out[i] = s.Column(k); out[i] < 0 {
			return nil, &LineError{1, fmt.Errorf("the column %s is missing, which belongs to the table's key", k)}
		}
	}
	return out, nil
}

// Sort puts the rows in the order of the key, and refuses a key that is there twice or
// has null in it.
func (s *Sheet) Sort(key []string) error {
	at, err := s.keyOf(key)
	if err != nil {
		return err
	}
	order := make([]int, len(s.Rows))
	for i, r := range s.Rows {
		order[i] = i
		for _, k := range at {
			if r[k].Null {
				return &LineError{s.Line(i), fmt.Errorf("%s belongs to the table's key and can't be null", s.Columns[k])}
			}
		}
	}
	byKey := func(a, b int) int { return compareKeys(s.Rows[a], s.Rows[b], at) }
	if !slices.IsSortedFunc(order, byKey) {
		slices.SortStableFunc(order, byKey)
		rows, lines := make([]Row, len(order)), make([]int, 0, len(order))
		for i, from := range order {
			rows[i] = s.Rows[from]
			if from < len(s.lines) {
				lines = append(lines, s.lines[from])
			}
		}
		s.Rows, s.lines = rows, lines
	}
	for i := 1; i < len(s.Rows); i++ {
		if sameKey(s.Rows[i-1], s.Rows[i], at) {
			return &LineError{s.Line(i), fmt.Errorf("the key %s is there twice", keyText(s.Rows[i], at))}
		}
	}
	return nil
}

func sameKey(a, b Row, at []int) bool {
	for _, k := range at {
		if a[k].Text != b[k].Text {
			return false
		}
	}
	return true
}

func compareKeys(a, b Row, at []int) int {
	for _, k := range at {
		if c := compareTexts(a[k].Text, b[k].Text); c != 0 {
			return c
		}
	}
	return 0
}

// compareTexts orders whole numbers by size and before all else, other texts by their
// bytes.
func compareTexts(a, b string) int {
	an, bn := whole(a), whole(b)
	switch {
	case an && bn:
		if c := compareWhole(a, b); c != 0 {
			return c
		}
	case an:
		return -1
	case bn:
		return 1
	}
	return strings.Compare(a, b)
}

// whole says that a text is a whole number.
func whole(s string) bool {
	s = strings.TrimPrefix(s, "-")
	if s == "" {
		return false
	}
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return true
}

func compareWhole(a, b string) int {
	na, nb := a[0] == '-', b[0] == '-'
	a, b = strings.TrimLeft(strings.TrimPrefix(a, "-"), "0"), strings.TrimLeft(strings.TrimPrefix(b, "-"), "0")
	c := len(a) - len(b)
	if c == 0 {
		c = strings.Compare(a, b)
	}
	switch {
	case na && nb:
		return -c
	case na != nb && a == "" && b == "":
		return 0
	case na:
		return -1
	case nb:
		return 1
	}
	return c
}

// keyText writes a row's key for people and as the key of its element: `3, north`. A
// part that could be taken for several stands in quotes.
func keyText(r Row, at []int) string {
	if len(at) == 1 && r[at[0]].Text == "" {
		return `""`
	}
	if len(at) == 1 {
		return r[at[0]].Text
	}
	parts := make([]string, len(at))
	for i, k := range at {
		if parts[i] = r[k].Text; strings.ContainsAny(parts[i], ",\"") {
			parts[i] = `"` + strings.ReplaceAll(parts[i], `"`, `""`) + `"`
		}
	}
	return strings.Join(parts, ", ")
}
