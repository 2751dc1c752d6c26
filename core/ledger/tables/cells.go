package tables

import (
	"fmt"
	"strings"
	"time"

	"oakenchest/core/element"
	"oakenchest/core/ledger"
)

// The declared types of columns.
const (
	wholeNumber = "integer not null"
	words       = "text not null"
	perhaps     = "text"
)

// cell carries one field between a record and a column.
type cell struct {
	// sort is the declared type of the column.
	sort  string
	value func() any
	read  func(v any) error
}

// Scan takes what the engine gives.
func (c cell) Scan(v any) error { return c.read(v) }

// none writes what a row holds that was there before the column.
func (c cell) none() string {
	if c.sort == wholeNumber {
		return "0"
	}
	return "''"
}

func wrongValue(v any) error {
	return fmt.Errorf("%w: a field holds %v", ledger.ErrDamaged, v)
}

// ofText makes a cell of a field that is kept as text.
func ofText(write func() string, read func(string) error) cell {
	return cell{words, func() any { return write() }, func(v any) error {
		switch v := v.(type) {
		case string:
			return read(v)
		case []byte:
			return read(string(v))
		}
		return wrongValue(v)
	}}
}

// ofNumber makes a cell of a field that is kept as a whole number.
func ofNumber(write func() int64, read func(int64)) cell {
	return cell{wholeNumber, func() any { return write() }, func(v any) error {
		n, ok := v.(int64)
		if !ok {
			return wrongValue(v)
		}
		read(n)
		return nil
	}}
}

func text[T ~string](p *T) cell {
	return ofText(func() string { return string(*p) }, func(s string) error { *p = T(s); return nil })
}

func number[T ~int | ~int64](p *T) cell {
	return ofNumber(func() int64 { return int64(*p) }, func(n int64) { *p = T(n) })
}

func flag(p *bool) cell {
	return ofNumber(func() int64 {
		if *p {
			return 1
		}
		return 0
	}, func(n int64) { *p = n != 0 })
}

// moment is a time, to the millisecond; 0 for none.
func moment(p *time.Time) cell {
	return ofNumber(func() int64 {
		if p.IsZero() {
			return 0
		}
		return p.UnixMilli()
	}, func(ms int64) {
		if *p = (time.Time{}); ms != 0 {
			*p = time.UnixMilli(ms).UTC()
		}
	})
}

// span is a length of time, to the millisecond.
func span(p *time.Duration) cell {
	return ofNumber(func() int64 { return p.Milliseconds() }, func(ms int64) { *p = time.Duration(ms) * time.Millisecond })
}

// id is the name of a commit, empty for the zero one.
func id(p *ledger.ID) cell {
	return ofText(func() string { return optional(*p) }, func(s string) (err error) {
		if *p = (ledger.ID{}); s != "" {
			*p, err = ledger.ParseID(s)
		}
		return err
	})
}

func optional(id ledger.ID) string {
	if id == (ledger.ID{}) {
		return ""
	}
	return id.String()
}

// digest is the name of content.
func digest(p *element.Digest) cell {
	return ofText(func() string { return ledger.ID(*p).String() }, func(s string) error {
		d, err := ledger.ParseID(s)
		*p = element.Digest(d)
		return err
	})
}

// lines are texts without line ends.
func lines(p *[]string) cell {
	return ofText(func() string { return strings.Join(*p, "\n") }, func(s string) error {
		if *p = nil; s != "" {
			*p = strings.Split(s, "\n")
		}
		return nil
	})
}

// parent is one of a commit's parents, which there may not be.
func parent(c *ledger.Commit, n int) cell {
	return cell{perhaps, func() any {
		if n >= len(c.Parents) {
			return nil
		}
		return c.Parents[n].String()
	}, func(v any) error {
		s, ok := v.(string)
		if v == nil {
			return nil
		}
		if !ok {
			return wrongValue(v)
		}
		p, err := ledger.ParseID(s)
		c.Parents = append(c.Parents, p)
		return err
	}}
}

// sortOf says what a lock's address is: 1 for a pattern, 2 for a folder.
func sortOf(l *ledger.Lock) cell {
	return ofNumber(func() int64 {
		switch {
		case l.Pattern:
			return 1
		case l.Folder:
			return 2
		}
		return 0
	}, func(n int64) { l.Pattern, l.Folder = n == 1, n == 2 })
}
