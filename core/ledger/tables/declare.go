package tables

import (
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/cespare/xxhash/v2"

	"oakenchest/core/ledger"
)

// Each table is declared once: its columns with the fields of the record that they hold. The schema, what is
// read and written, the sums and the upgrade from older formats follow from that.

// column is one column, with the field of a record that it holds.
type column struct {
	name string
	cell cell
	role role
	// since is the format that it came with, when that is not the table's.
	since int
}

// role says what a column is for.
type role byte

const (
	plain role = iota
	// inKey says that the column is of the primary key.
	inKey
	// counted is a number that the engine gives; it is the primary key, and in no sum.
	counted
)

// key makes a column one of the primary key.
func key(name string, c cell) column { return column{name: name, cell: c, role: inKey} }

// serial makes a column the engine's count.
func serial(name string, c cell) column { return column{name: name, cell: c, role: counted} }

// col is a column.
func col(name string, c cell) column { return column{name: name, cell: c} }

// from says that a column came later than its table.
func (c column) from(format int) column { c.since = format; return c }

// index is an index on a table; on is what follows its name in the declaration.
type index struct {
	name, on string
	unique   bool
	since    int
}

// table is a table of records of one type.
type table[T any] struct {
	name  string
	since int
	bind  func(*T) []column
	// unguarded says that rows have no sum: their names say what they hold.
	unguarded bool
	// follows says how a copy of the records is kept up to date with the table.
	follows followed
	// unique names columns whose values no two rows share, beside the key.
	unique string
	// sumsSince is the format with which sums came, when that is not the table's.
	sumsSince int
	indexes   []index
}

// declared is what is asked of tables whose type does not matter.
type declared interface {
	title() string
	create() []string
	extend(from int) (statements []string, resum bool)
	listColumns() []column
	guarded() bool
	followed() followed
}

func (t *table[T]) title() string { return t.name }

func (t *table[T]) guarded() bool { return !t.unguarded }

func (t *table[T]) followed() followed { return t.follows }

func (t *table[T]) listColumns() []column { return t.bind(new(T)) }

// names gives the columns that some roles have, each with a prefix.
func names(columns []column, prefix string) string {
	out := make([]string, len(columns))
	for i, c := range columns {
		out[i] = prefix + c.name
	}
	return strings.Join(out, ", ")
}

// given leaves out what the engine gives.
func given(columns []column) []column {
	return slices.DeleteFunc(slices.Clone(columns), func(c column) bool { return c.role == counted })
}

// keys gives the columns of the primary key.
func keys(columns []column) []column {
	return slices.DeleteFunc(slices.Clone(columns), func(c column) bool { return c.role == plain })
}

// create gives the statements that make the table with its indexes.
func (t *table[T]) create() []string {
	columns := t.listColumns()
	var lines []string
	for _, c := range columns {
		line := c.name + " " + c.cell.sort
		if c.role == counted {
			line = c.name + " integer primary key"
		}
		lines = append(lines, line)
	}
	if !t.unguarded {
		lines = append(lines, "sum integer not null")
	}
	if t.follows == byMoment {
		lines = append(lines, momentColumn)
	}
	if t.unique != "" {
		lines = append(lines, "unique ("+t.unique+")")
	}
	without := ""
	if k := keys(columns); len(k) > 0 && k[0].role == inKey {
		lines = append(lines, "primary key ("+names(k, "")+")")
		if len(k) > 1 || k[0].cell.sort != wholeNumber {
			without = " without rowid"
		}
	}
	out := []string{"create table " + t.name + " (" + strings.Join(lines, ", ") + ")" + without}
	for _, x := range t.indexes {
		out = append(out, x.create(t.name))
	}
	if t.follows == byMoment {
		out = append(out, momentIndex(t.name))
	}
	return out
}

func (x index) create(table string) string {
	unique := ""
	if x.unique {
		unique = "unique "
	}
	return "create " + unique + "index " + x.name + " on " + table + " " + x.on
}

// extend gives the statements that bring the table from an older format to the present one; resum says that
// its rows need new sums then.
func (t *table[T]) extend(from int) (out []string, resum bool) {
	if t.since > from {
		return t.create(), false
	}
	for _, c := range t.listColumns() {
		if c.since > from {
			out, resum = append(out, "alter table "+t.name+" add column "+c.name+" "+c.cell.sort+" default "+c.cell.none()), true
		}
	}
	if t.sumsSince > from {
		out, resum = append(out, "alter table "+t.name+" add column sum integer not null default 0"), true
	}
	for _, x := range t.indexes {
		if x.since > from {
			out = append(out, x.create(t.name))
		}
	}
	if t.follows == byMoment && momentsSince > from {
		out = append(out, "alter table "+t.name+" add column "+momentColumn+" default 0", momentIndex(t.name))
	}
	return out, resum && !t.unguarded
}

// values gives what the columns hold.
func values(columns []column) []any {
	out := make([]any, len(columns))
	for i, c := range columns {
		out[i] = c.cell.value()
	}
	return out
}

// targets gives what a row is read into.
func targets(columns []column) []any {
	out := make([]any, len(columns))
	for i, c := range columns {
		out[i] = c.cell
	}
	return out
}

// rowSum is the sum of a row: XXH64 over each field as text with its length before it (Y. Collet, "xxHash
// fast digest algorithm", seed 0).
func rowSum(fields []any) int64 {
	var h xxhash.Digest
	h.Reset()
	for _, f := range fields {
		text := fmt.Sprint(f)
		_, _ = h.Write(binary.LittleEndian.AppendUint32(nil, uint32(len(text)))) // never fails
		_, _ = h.WriteString(text)
	}
	return int64(h.Sum64())
}

// insertion writes the statement that adds a row.
func (t *table[T]) insertion() string {
	columns := given(t.listColumns())
	fields, n := names(columns, ""), len(columns)
	if !t.unguarded {
		fields, n = fields+", sum", n+1
	}
	if t.follows == byMoment {
		fields, n = fields+", at", n+1
	}
	return "insert into " + t.name + " (" + fields + ") values (?" + strings.Repeat(", ?", n-1) + ")"
}

// row gives the values of a record in the order of its insertion.
func (t *table[T]) row(tx *Tx, r T) ([]any, error) {
	out := values(given(t.bind(&r)))
	if !t.unguarded {
		out = append(out, rowSum(out))
	}
	if t.follows != byMoment {
		return out, nil
	}
	at, err := tx.moment()
	return append(out, at), err
}

// insert adds a record; ErrTaken when one of its key is there.
func insert[T any](tx *Tx, t *table[T], r T) error {
	row, err := t.row(tx, r)
	if err == nil {
		_, err = tx.exec(t.insertion(), row...)
	}
	return taken(err)
}

// insertCounted is insert into a table whose key the engine gives; it gives that.
func insertCounted[T any](tx *Tx, t *table[T], r T) (id int64, err error) {
	row, err := t.row(tx, r)
	if err == nil {
		err = tx.row(t.insertion()+" returning "+keys(t.listColumns())[0].name, row...).Scan(&id)
	}
	return id, taken(err)
}

// put is insert, in place of a record of the same key. A table with a count has another key, by unique.
func put[T any](tx *Tx, t *table[T], r T, unique ...string) error {
	columns := t.listColumns()
	if len(unique) == 0 {
		for _, k := range keys(columns) {
			unique = append(unique, k.name)
		}
	}
	var set []string
	for _, c := range given(columns) {
		if !slices.Contains(unique, c.name) {
			set = append(set, c.name+" = excluded."+c.name)
		}
	}
	if !t.unguarded {
		set = append(set, "sum = excluded.sum")
	}
	if t.follows == byMoment {
		set = append(set, "at = excluded.at")
	}
	row, err := t.row(tx, r)
	if err == nil {
		_, err = tx.exec(t.insertion()+" on conflict ("+strings.Join(unique, ", ")+") do update set "+strings.Join(set, ", "), row...)
	}
	return err
}

// rewrite writes a record anew that is there, by its key, where a condition holds too; ErrNotFound when there
// is none like that.
func rewrite[T any](tx *Tx, t *table[T], r T, condition string, args ...any) error {
	columns := t.bind(&r)
	var set, where []string
	var fields, which []any
	for _, c := range columns {
		if c.role == plain {
			set, fields = append(set, c.name+" = ?"), append(fields, c.cell.value())
		} else {
			where, which = append(where, c.name+" = ?"), append(which, c.cell.value())
		}
	}
	if !t.unguarded {
		set, fields = append(set, "sum = ?"), append(fields, rowSum(values(given(columns))))
	}
	if t.follows == byMoment {
		at, err := tx.moment()
		if err != nil {
			return err
		}
		set, fields = append(set, "at = ?"), append(fields, at)
	}
	if condition != "" {
		where = append(where, condition)
	}
	return tx.change("update "+t.name+" set "+strings.Join(set, ", ")+" where "+strings.Join(where, " and "),
		append(append(fields, which...), args...)...)
}

// change runs a statement; ErrNotFound when it changed nothing.
func (tx *Tx) change(statement string, args ...any) error {
	r, err := tx.exec(statement, args...)
	if err != nil {
		return err
	}
	n, err := r.RowsAffected()
	if err == nil && n == 0 {
		return ledger.ErrNotFound
	}
	return err
}

// list gives the records that a clause chooses.
func list[T any](tx *Tx, t *table[T], clause string, args ...any) ([]T, error) {
	var r T
	columns := t.bind(&r)
	return collect(tx, &r, targets(columns), "select "+names(columns, "")+" from "+t.name+" "+clause, args...)
}

// collect reads rows into one record, and gives a copy of it for each. What is read into must leave nothing
// of the row before.
func collect[T any](tx *Tx, r *T, into []any, query string, args ...any) (out []T, err error) {
	rs, err := tx.query(query, args...)
	if err != nil {
		return nil, err
	}
	defer rs.Close()
	var none T
	for rs.Next() {
		*r = none
		if err := rs.Scan(into...); err != nil {
			return nil, tx.explain(err)
		}
		out = append(out, *r)
	}
	return out, tx.explain(errors.Join(rs.Err(), rs.Close()))
}

// one gives the first record that a clause chooses, or ErrNotFound.
func one[T any](tx *Tx, t *table[T], clause string, args ...any) (r T, err error) {
	columns := t.bind(&r)
	err = tx.row("select "+names(columns, "")+" from "+t.name+" "+clause, args...).Scan(targets(columns)...)
	return r, missing(err)
}

// missing maps a missing row to ErrNotFound.
func missing(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ledger.ErrNotFound
	}
	return err
}
