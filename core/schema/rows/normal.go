package rows

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// scratch is the name of the temporary table in which values are tried.
const scratch = "oaken_rows"

// Normalize lets the engine write what differs between a declared sheet and the rows of
// a live table, so that 1.50 and 1.5 of a type that knows no difference are alike. The
// live table must have the columns of those that differ. A copy of want is given, in
// which the rows that differ have the engine's own texts; Compare then tells the rest.
// A value that the column can't hold gives a LineError.
func Normalize(ctx context.Context, conn Conn, t Table, have, want *Sheet, d *Diff) (out *Sheet, err error) {
	list := d.touched()
	var columns []Column
	var at []int // places in want
	for i, name := range want.Columns {
		if c, ok := t.Column(name); ok && have.Column(name) >= 0 {
			columns, at = append(columns, c), append(at, i)
		}
	}
	if len(list) == 0 || len(columns) == 0 {
		return want, nil
	}
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = c.SQL
	}
	if err := conn.Exec(ctx, "create temporary table "+scratch+" as select 0 as oaken_row, "+strings.Join(names,
		", ")+" from "+t.SQL+" limit 0"); err != nil {
		return nil, fmt.Errorf("values can't be tried in a temporary table: %w", err)
	}
	defer func() {
		if e := conn.Exec(context.WithoutCancel(ctx), "drop table "+scratch); err == nil {
			err = e
		}
	}()
	tuple := func(i int) string {
		parts := []string{strconv.Itoa(i)}
		for k, c := range columns {
			parts = append(parts, c.write(want.Rows[i][at[k]]))
		}
		return "(" + strings.Join(parts, ", ") + ")"
	}
	insert := "insert into " + scratch + " values\n"
	err = inChunks(list, func(part []int) error {
		tuples := make([]string, len(part))
		for k, i := range part {
			tuples[k] = tuple(i)
		}
		return conn.Exec(ctx, insert+strings.Join(tuples, ",\n"))
	})
	if err != nil {
		for _, i := range list {
			if one := conn.Exec(ctx, insert+tuple(i)); one != nil {
				return nil, &LineError{want.Line(i), one}
			}
		}
		return nil, err
	}
	out = &Sheet{Columns: want.Columns, Rows: append([]Row(nil), want.Rows...), lines: want.lines}
	read := []Column{{Read: "oaken_row"}}
	read = append(read, columns...)
	got, err := Read(ctx, conn, t, Selection{Columns: read, From: scratch})
	if err != nil {
		return nil, err
	}
	for _, r := range got.Rows {
		i, err := strconv.Atoi(r[0].Text)
		if err != nil || i >= len(out.Rows) {
			return nil, errors.New("the engine gave back another row than it was given")
		}
		row := append(Row(nil), out.Rows[i]...)
		for k, p := range at {
			row[p] = r[k+1]
		}
		out.Rows[i] = row
	}
	return out, out.Sort(t.Key)
}

// chunk is how many rows go into one statement.
const chunk = 500

func inChunks(list []int, do func(part []int) error) error {
	for len(list) > 0 {
		n := min(chunk, len(list))
		if err := do(list[:n]); err != nil {
			return err
		}
		list = list[n:]
	}
	return nil
}

// Differences compares the rows of a live table with what is declared, in the engine's
// own texts. have may lack columns that the table does not have yet.
func Differences(ctx context.Context, conn Conn, t Table, have, want *Sheet) (*Sheet, *Diff, error) {
	d, err := Compare(have, want, t.Key)
	if err != nil || d.Empty() {
		return want, d, err
	}
	normal, err := Normalize(ctx, conn, t, have, want, d)
	if err != nil {
		return nil, nil, err
	}
	d, err = Compare(have, normal, t.Key)
	return normal, d, err
}

// KeepWords writes rows in the words that an earlier sheet of the same columns has for
// them; normal is that sheet in the engine's texts. It says whether there were any.
func (s *Sheet) KeepWords(old, normal *Sheet, key []string) (kept bool) {
	at, err := s.keyOf(key)
	if err != nil || len(old.Rows) != len(normal.Rows) {
		return false
	}
	onLine := map[int]Row{}
	for i, r := range old.Rows {
		onLine[old.Line(i)] = r
	}
	words := map[string]int{}
	for i, r := range normal.Rows {
		words[keyText(r, at)] = i
	}
	for i, r := range s.Rows {
		if k, ok := words[keyText(r, at)]; ok && slices.Equal(r, normal.Rows[k]) {
			s.Rows[i], kept = onLine[normal.Line(k)], true
		}
	}
	return kept
}
