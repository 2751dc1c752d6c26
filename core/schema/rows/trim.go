package rows

import (
	"bytes"
	"slices"
)

// records walks over the records of a file without taking them apart.
type records struct {
	text     []byte
	at, line int
}

// next gives a record with what ends it, and the line that it begins on; empty at the
// end. A line end within quotes is not its end.
func (r *records) next() (record []byte, line int) {
	rest := r.text[r.at:]
	line = r.line
	n, quotes := 0, 0
	for n < len(rest) {
		end := bytes.IndexByte(rest[n:], '\n') + 1
		if end == 0 {
			end = len(rest) - n
		}
		quotes += bytes.Count(rest[n:n+end], quoteMark)
		n += end
		r.line++
		if quotes%2 == 0 {
			break
		}
	}
	r.at += n
	return rest[:n], line
}

var quoteMark = []byte{'"'}

// Trim gives the rows in which two files of the same columns differ, and leaves out
// what is written alike in both. ok is false when the columns are not the same. Rows
// that a file has in another order than that of the key may be given though they are
// alike.
func Trim(a, b []byte, key []string) (x, y *Sheet, ok bool, err error) {
	ra, rb := &records{text: a, line: 1}, &records{text: b, line: 1}
	head, _ := ra.next()
	if other, _ := rb.next(); !bytes.Equal(head, other) {
		return nil, nil, false, nil
	}
	if x, err = Parse(head); err != nil {
		return nil, nil, false, err
	}
	y = &Sheet{Columns: x.Columns}
	at, err := x.keyOf(key)
	if err != nil {
		return nil, nil, false, err
	}
	p, lp := ra.next()
	q, lq := rb.next()
	for len(p) > 0 || len(q) > 0 {
		if bytes.Equal(p, q) {
			p, lp = ra.next()
			q, lq = rb.next()
			continue
		}
		var rowA, rowB Row
		if len(p) > 0 {
			if rowA, err = x.recordRow(p, lp); err != nil {
				return nil, nil, false, err
			}
		}
		if len(q) > 0 {
			if rowB, err = x.recordRow(q, lq); err != nil {
				return nil, nil, false, err
			}
		}
		c := 0
		switch {
		case len(q) == 0:
			c = -1
		case len(p) == 0:
			c = 1
		default:
			c = compareKeys(rowA, rowB, at)
		}
		if c <= 0 {
			x.Rows, x.lines = append(x.Rows, rowA), append(x.lines, lp)
			p, lp = ra.next()
		}
		if c >= 0 {
			y.Rows, y.lines = append(y.Rows, rowB), append(y.lines, lq)
			q, lq = rb.next()
		}
	}
	return x, y, true, nil
}

// recordRow takes one record apart.
func (s *Sheet) recordRow(record []byte, line int) (Row, error) {
	p := &parser{text: string(record), line: line}
	row, err := p.record(nil)
	if err == nil && len(row) != len(s.Columns) {
		err = fieldsError(line, len(row), len(s.Columns))
	}
	return row, err
}

// InOrder says that the rows of a file stand in the order of the key.
func InOrder(data []byte, key []string) bool {
	r := &records{text: data, line: 1}
	head, _ := r.next()
	s, err := Parse(head)
	if err != nil {
		return false
	}
	at, err := s.keyOf(key)
	if err != nil {
		return false
	}
	n := slices.Max(at) + 1
	var last, now Row
	text := string(data)
	for from := r.at; from < len(text); from = r.at {
		_, line := r.next()
		p := &parser{text: text[from:r.at], line: line}
		if now, err = p.first(n, now[:0]); err != nil {
			return false
		}
		if last != nil && compareKeys(last, now, at) >= 0 {
			return false
		}
		last, now = now, last
	}
	return true
}

// first appends the first fields of a record to a list.
func (p *parser) first(n int, to Row) (Row, error) {
	for range n {
		v, err := p.field()
		if err != nil {
			return nil, err
		}
		to = append(to, v)
		p.at = min(p.at+1, len(p.text))
	}
	return to, nil
}

// Header gives the line of names of a file.
func Header(data []byte) []byte {
	head, _ := (&records{text: data}).next()
	return head
}
