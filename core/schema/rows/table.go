package rows

import (
	"bytes"
	"cmp"
	"context"
	"io"
	"slices"
	"strings"

	"oakenchest/core/element"
)

// Table is a table that can have tracked rows, with what an engine needs to read and
// write them.
type Table struct {
	// Name is the table's name for people, with its schema where there are any: care.kind.
	Name string
	// Bare is the name within its schema.
	Bare string
	// SQL is the name in statements.
	SQL string
	// File is where the rows have their file in a folder: care/rows/kind.csv.
	File string
	// Schema is the schema that the table is in, empty where there are none.
	Schema string
	// Columns are those that hold values of their own: none that are computed.
	Columns []Column
	// Key are the names of the primary key's columns; none for a table without.
	Key []string
	// Unique are the other keys whose values can't be there twice.
	Unique []Unique
	// Refers are the SQL names of the tables that its foreign keys lead to.
	Refers []string
	// Links are those foreign keys, as far as an engine looks at them while rows are written.
	Links []Link
	// Insert stands between the columns and the values of an insert, for engines that
	// want a word there.
	Insert string
	// After are statements that follow when rows have been added.
	After []string
	// Begin and End stand around the statements that write rows; empty for nothing.
	Begin, End string
}

// Link is a foreign key. Where tables refer to each other or to themselves there is no order in
// which each row finds what it refers to: then Loosen puts off that the engine looks, Check lets
// it look, and Tighten brings back how it was.
type Link struct {
	To                     string // the SQL name of a table
	Loosen, Check, Tighten []string
}

// Column is a column of a Table.
type Column struct {
	Name string
	// SQL is the name in statements, Read the expression that gives the value as text.
	SQL, Read string
	// Order is the expression to sort by; empty for the name.
	Order string
	// Type is the SQL type, as the schema says it.
	Type string
	// Literal writes a value that is not null.
	Literal func(text string) string
	// Decode, when set, gives the value for what Read gave.
	Decode func(Value) (Value, error)
}

// write gives the literal of a value.
func (c Column) write(v Value) string {
	if v.Null {
		return "null"
	}
	return c.Literal(v.Text)
}

// Column gives a column by name.
func (t Table) Column(name string) (Column, bool) {
	i := slices.IndexFunc(t.Columns, func(c Column) bool { return c.Name == name })
	if i < 0 {
		return Column{}, false
	}
	return t.Columns[i], true
}

// Unique is a key whose values can't be there twice.
type Unique struct {
	Columns []string
	// Drop and Add are statements that take the key away and bring it back, for rows that
	// exchange their values; empty where the engine can't.
	Drop, Add string
}

// AddUnique notes a key whose columns a definition names.
func (t *Table) AddUnique(names []string, drop, add string) {
	if names = Resolve(t.Columns, names); names != nil {
		t.Unique = append(t.Unique, Unique{names, drop, add})
	}
}

// Address is that of the element of the table's rows, within the database.
func (t Table) Address() element.Address {
	var a element.Address
	if t.Schema != "" {
		a = a.Below(element.Step{Type: "schema", Key: t.Schema})
	}
	return a.Below(element.Step{Type: SheetType, Key: t.Bare})
}

// Counted says that the key is whole numbers, which the engine orders as files are.
func (t Table) Counted() bool {
	for _, k := range t.Key {
		if c, _ := t.Column(k); !slices.Contains([]string{"smallint", "integer", "bigint"}, c.Type) {
			return false
		}
	}
	return true
}

// Conn runs statements on one connection.
type Conn interface {
	// Query gives the rows of a query, as texts.
	Query(ctx context.Context, sql string, each func(Row) error) error
	// Exec runs one statement.
	Exec(ctx context.Context, sql string) error
}

// Copier is a Conn that writes the result of a query as a file of this package's form,
// without the line of names, faster than row by row.
type Copier interface {
	Conn
	Copy(ctx context.Context, sql string, to io.Writer) error
}

// Selection chooses what Read reads.
type Selection struct {
	// Columns are the columns; nil for all.
	Columns []Column
	// From stands in the place of the table's name; empty for that.
	From string
	// Where chooses rows; empty for all.
	Where string
	// Ordered asks for the order of the key.
	Ordered bool
}

func (s Selection) sql(t Table) string {
	read := make([]string, len(s.Columns))
	for i, c := range s.Columns {
		read[i] = c.Read
	}
	from := s.From
	if from == "" {
		from = t.SQL
	}
	sql := "select " + strings.Join(read, ", ") + " from " + from
	if s.Where != "" {
		sql += " where " + s.Where
	}
	if s.Ordered && len(t.Key) > 0 {
		var order []string
		for _, k := range t.Key {
			c, _ := t.Column(k)
			order = append(order, cmp.Or(c.Order, c.SQL))
		}
		sql += " order by " + strings.Join(order, ", ")
	}
	return sql
}

// header gives a sheet without rows.
func (s Selection) header() *Sheet {
	out := &Sheet{}
	for _, c := range s.Columns {
		out.Columns = append(out.Columns, c.Name)
	}
	return out
}

// each gives the rows of a live table, one after the other.
func (s Selection) each(ctx context.Context, conn Conn, t Table, take func(Row) error) error {
	return conn.Query(ctx, s.sql(t), func(r Row) error {
		for i, c := range s.Columns {
			if c.Decode == nil {
				continue
			}
			v, err := c.Decode(r[i])
			if err != nil {
				return err
			}
			r[i] = v
		}
		return take(r)
	})
}

// Read gives rows of a live table, in no order that counts.
func Read(ctx context.Context, conn Conn, t Table, what Selection) (*Sheet, error) {
	if what.Columns == nil {
		what.Columns = t.Columns
	}
	out := what.header()
	err := what.each(ctx, conn, t, func(r Row) error {
		out.Rows = append(out.Rows, r)
		return nil
	})
	return out, err
}

// Write writes rows of a live table as a file, with the line of names unless bare is
// set. They are not all held at once.
func Write(ctx context.Context, conn Conn, t Table, what Selection, bare bool, to io.Writer) error {
	if what.Columns == nil {
		what.Columns = t.Columns
	}
	if !bare {
		if _, err := to.Write(what.header().Bytes()); err != nil {
			return err
		}
	}
	if c, ok := conn.(Copier); ok {
		return c.Copy(ctx, what.sql(t), to)
	}
	var b bytes.Buffer
	return what.each(ctx, conn, t, func(r Row) error {
		b.Reset()
		writeRow(&b, r)
		_, err := to.Write(b.Bytes())
		return err
	})
}

// File gives all rows of a live table as the file that they have, in the order of the
// key as the engine sees it, and the columns in the order that a file has already. about is
// the size in bytes that is expected.
func File(ctx context.Context, conn Conn, t Table, have []string, about int) ([]byte, error) {
	var b bytes.Buffer
	b.Grow(about + about/16)
	err := Write(ctx, conn, t, Selection{Columns: t.arranged(have), Ordered: true}, false, &b)
	return b.Bytes(), err
}

// arranged gives the table's columns: those of a list first, in its order.
func (t Table) arranged(have []string) []Column {
	var out []Column
	for _, name := range have {
		if c, ok := t.Column(name); ok {
			out = append(out, c)
		}
	}
	for _, c := range t.Columns {
		if !slices.Contains(have, c.Name) {
			out = append(out, c)
		}
	}
	return out
}

// Number gives a function that writes values of a numeric column: those that are plain
// numbers as they are, and others, such as 1e300, -0 and infinity, as other writes them.
func Number(other func(string) string) func(string) string {
	return func(s string) string {
		digits := strings.TrimPrefix(s, "-")
		before, after, point := strings.Cut(digits, ".")
		if before == "" || len(digits) > 17 || point && after == "" || strings.Trim(before+after, "0123456789") != "" || s != digits &&
			strings.Trim(digits, "0.") == "" {
			return other(s)
		}
		return s
	}
}
