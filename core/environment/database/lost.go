package database

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"oakenchest/core/environment"
	"oakenchest/core/kind/partfile"
	"oakenchest/core/schema/rows"
	"oakenchest/core/schema/step"
)

// What a deployment loses is kept as files of rows: those of a table under the name of
// the file that its tracked rows would have, care/rows/kind.csv; the values of one
// column, with the key, in a folder of the table's name, care/rows/kind/depth.csv.

func lostFile(t rows.Table, column string) string {
	if column == "" {
		return t.File
	}
	return path.Join(strings.TrimSuffix(t.File, path.Ext(t.File)), partfile.Safe(column)+".csv")
}

// Save writes the rows that steps lose into a folder. tables are those that the target
// has; other, when set, gives one that is not among them, by its SQL name. What can't be
// kept is refused.
func (d Tracked) Save(ctx context.Context, steps []step.Step, tables []rows.Table, other func(sql string) (rows.Table, error),
	folder string) error {
	if err := d.saveAll(ctx, steps, tables, other, folder); err != nil {
		return environment.Unsaved(err)
	}
	return nil
}

func (d Tracked) saveAll(ctx context.Context, steps []step.Step, tables []rows.Table, other func(sql string) (rows.Table, error),
	folder string) error {
	begun := map[string]bool{}
	for _, s := range steps {
		for _, lost := range s.Saves {
			i := slices.IndexFunc(tables, func(t rows.Table) bool { return t.SQL == lost.Table })
			var t rows.Table
			var err error
			switch {
			case i >= 0:
				t = tables[i]
			case other != nil:
				t, err = other(lost.Table)
			default:
				err = fmt.Errorf("the columns of table %s are not known", lost.Table)
			}
			if err != nil {
				return err
			}
			if len(t.Columns) == 0 {
				continue // its rows hold nothing
			}
			what := rows.Selection{From: t.SQL, Where: lost.Where}
			column := ""
			if lost.Only {
				what.From = "only " + t.SQL
			}
			if lost.Column != "" {
				what.Where = lost.Column + " is not null"
				for _, c := range t.Columns {
					if slices.Contains(t.Key, c.Name) || c.SQL == lost.Column {
						what.Columns = append(what.Columns, c)
					}
					if c.SQL == lost.Column {
						column = c.Name
					}
				}
			}
			name := lostFile(t, column)
			if lost.Apart {
				name = apart + name
			}
			if begun[name] && lost.Apart {
				continue // all of it is there
			}
			if err := d.append(ctx, t, what, filepath.Join(folder, filepath.FromSlash(name)), begun[name]); err != nil {
				return err
			}
			begun[name] = true
		}
	}
	return nil
}

func (d Tracked) append(ctx context.Context, t rows.Table, what rows.Selection, file string, more bool) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil { // rows are nobody else's
		return err
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	w := bufio.NewWriterSize(f, 1<<16)
	err = rows.Write(ctx, d.Conn, t, what, more, w)
	return errors.Join(err, w.Flush(), f.Sync(), f.Close())
}

// restore plans what puts lost rows back into the tables that are declared: rows of
// whole tables that are not there, and values of single columns of tables that change; late are
// those that want columns to have their types.
func restore(all RowsWanted) (out, late []rows.Wanted, err error) {
	lost, wanted, Tracked := all.Lost, all.Tables, all.Declared
	for _, t := range wanted {
		if _, already := Tracked[t.File]; already {
			continue
		}
		whole := all.liveAs(t) >= 0
		if data, ok := lost[t.File]; ok && !whole {
			w, err := lostRows(t, data)
			if err != nil {
				return nil, nil, rows.InFile(t.File, err)
			}
			out = append(out, w)
		}
		for _, c := range t.Columns {
			name := lostFile(t, c.Name)
			if data, ok := lost[name]; ok && whole && len(t.Key) > 0 && all.changes(t) {
				w, err := lostValues(t, c, data)
				if err != nil {
					return nil, nil, rows.InFile(name, err)
				}
				if _, there := all.Live[all.liveAs(t)].Column(c.Name); there && all.TypesLate {
					late = append(late, w)
					continue
				}
				out = append(out, w)
			}
		}
	}
	return out, late, nil
}

func lostRows(t rows.Table, data []byte) (rows.Wanted, error) {
	s, err := rows.Parse(data)
	if err != nil {
		return rows.Wanted{}, err
	}
	w := rows.Wanted{Table: t, Live: t.SQL, Have: &rows.Sheet{Columns: s.Columns}, Want: s, Diff: &rows.Diff{}}
	for i := range s.Rows {
		w.Diff.Added = append(w.Diff.Added, i)
	}
	return w, nil
}

func lostValues(t rows.Table, c rows.Column, data []byte) (rows.Wanted, error) {
	s, err := rows.Parse(data)
	if err != nil {
		return rows.Wanted{}, err
	}
	w := rows.Wanted{Table: t, Live: t.SQL, Have: s, Want: s, Diff: &rows.Diff{}}
	for i := range s.Rows {
		w.Diff.Edited = append(w.Diff.Edited, rows.Edit{Have: i, Want: i, Columns: []int{s.Column(c.Name)}})
	}
	return w, nil
}
