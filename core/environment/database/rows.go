package database

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/environment"
	"oakenchest/core/fault"
	"oakenchest/core/schema/declared"
	"oakenchest/core/schema/rows"
	"oakenchest/core/schema/scope"
	"oakenchest/core/schema/step"
)

// Tracked deals with the rows of a target's tables, for all engines alike.
type Tracked struct {
	Conn  rows.Conn
	Scope scope.Scope
}

// columns leaves out the columns that are not tracked.
func (d Tracked) columns(tables []rows.Table) []rows.Table {
	out := slices.Clone(tables)
	for i, t := range out {
		out[i].Columns = slices.DeleteFunc(slices.Clone(t.Columns), func(c rows.Column) bool {
			return d.Scope.SkipsColumn(t.Name, c.Name) && !slices.Contains(t.Key, c.Name)
		})
	}
	return out
}

// Capture gives the files of rows that differ from those that the project has, and what
// can't be tracked any more. tables are those that the target has.
func (d Tracked) Capture(ctx context.Context, have environment.Files, tables []rows.Table) (edits environment.Files,
	untracked []string, err error) {
	edits = environment.Files{}
	for _, name := range rows.Names(have) {
		t, ok := rows.TableOf(d.columns(tables), name)
		switch {
		case !ok:
			edits[name] = nil
			continue
		case len(t.Key) == 0:
			untracked = append(untracked, fmt.Sprintf("rows of table %s, which has no primary key", t.Name))
			continue
		}
		data, err := d.file(ctx, t, have[name])
		if err != nil {
			return nil, nil, fault.New(fault.Unreachable, "Check the rights of the user.", "The rows of table %s can't be read: %w.",
				t.Name, err)
		}
		if !bytes.Equal(data, have[name]) {
			edits[name] = data
		}
	}
	return edits, untracked, nil
}

// file gives the file of a table's rows. Rows that the file there has, in other words
// for the same, keep their words.
func (d Tracked) file(ctx context.Context, t rows.Table, have []byte) ([]byte, error) {
	old, broken := rows.Parse(rows.Header(have))
	if broken != nil {
		old = &rows.Sheet{}
	}
	data, err := rows.File(ctx, d.Conn, t, old.Columns, len(have))
	if err != nil || bytes.Equal(data, have) {
		return data, err
	}
	if broken == nil {
		switch same, kept, ok := d.apart(ctx, t, data, have); {
		case ok && same:
			return have, nil
		case ok && !kept && (t.Counted() || rows.InOrder(data, t.Key)):
			return data, nil
		}
	}
	live, err := rows.Parse(data)
	if err == nil {
		err = live.Sort(t.Key)
	}
	if err != nil {
		return nil, err
	}
	if old, err := rows.Parse(have); err == nil && slices.Equal(old.Columns, live.Columns) && old.Sort(t.Key) == nil {
		if normal, _, err := rows.Differences(ctx, d.Conn, t, live, old); err == nil {
			live.KeepWords(old, normal, t.Key)
		}
	}
	return live.Bytes(), nil
}

// apart looks only at the rows that two files write otherwise: whether they are the same
// to the engine, and whether some are, so that their words are to be kept.
func (d Tracked) apart(ctx context.Context, t rows.Table, data, have []byte) (same, kept, ok bool) {
	live, old, ok, err := rows.Trim(data, have, t.Key)
	if !ok || err != nil || live.Sort(t.Key) != nil || old.Sort(t.Key) != nil {
		return false, false, false
	}
	normal, diff, err := rows.Differences(ctx, d.Conn, t, live, old)
	if err != nil {
		return false, false, false
	}
	return diff.Empty(), live.KeepWords(old, normal, t.Key), true
}

// Start gives the files of rows for tables that are to be tracked.
func (d Tracked) Start(ctx context.Context, tables []rows.Table, names []string) (environment.Files, error) {
	out := environment.Files{}
	tables = d.columns(tables)
	for _, name := range names {
		t, err := chooseTable(tables, name)
		if err != nil {
			return nil, err
		}
		if len(t.Key) == 0 {
			return nil, fault.New(fault.Refused, "Give it a primary key, deploy that, and track its rows then.",
				"The rows of table %s can't be tracked: it has no primary key, so they can't be told apart.", t.Name)
		}
		if out[t.File], err = d.file(ctx, t, nil); err != nil {
			return nil, fault.New(fault.Unreachable, "Check the rights of the user.", "The rows of table %s can't be read: %w.", t.Name,
				err)
		}
	}
	return out, nil
}

// chooseTable finds a table by the name that a person wrote: with its schema, or
// without where that is clear.
func chooseTable(tables []rows.Table, name string) (rows.Table, error) {
	var found []rows.Table
	for _, t := range tables {
		if t.Name == name {
			return t, nil
		}
		if t.Bare == name {
			found = append(found, t)
		}
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return rows.Table{}, fault.New(fault.Usage, "Check the spelling; oaken capture shows what the environment has.",
			"The environment has no table %s that is in scope.", name)
	}
	return rows.Table{}, fault.New(fault.Usage, fmt.Sprintf("Name it with its schema: %s or %s.", found[0].Name, found[1].Name),
		"There are %d tables %s.", len(found), name)
}

// RowsWanted is what the rows of a target are planned from.
type RowsWanted struct {
	Declared, Lost environment.Files
	// Tables are the declared ones, Live those that the target has.
	Tables, Live []rows.Table
	// Formerly gives the name that a declared table has in the target, when that is
	// another.
	Formerly func(rows.Table) string
	// Schema are the steps of the schema.
	Schema []step.Step
	// TypesLate says that columns get their types after data steps.
	TypesLate bool
}

// liveAs gives the place of a declared table among those that the target has, by its name or its
// former one; -1 for one that is not there.
func (w RowsWanted) liveAs(t rows.Table) int {
	i := slices.IndexFunc(w.Live, func(l rows.Table) bool { return l.SQL == t.SQL })
	if old := w.Formerly(t); i < 0 && old != "" {
		i = slices.IndexFunc(w.Live, func(l rows.Table) bool { return (l.Bare == old || l.Name == old) && l.Schema == t.Schema })
	}
	return i
}

// changes reports whether a table changes.
func (w RowsWanted) changes(t rows.Table) bool {
	at := element.Step{Type: "table", Key: t.Bare}
	return slices.ContainsFunc(w.Schema, func(s step.Step) bool {
		a := s.Address.Steps
		if t.Schema != "" {
			if len(a) == 0 || a[0].Key != t.Schema {
				return false
			}
			a = a[1:]
		}
		return len(a) > 0 && a[0].Type == at.Type && strings.EqualFold(a[0].Key, at.Key)
	})
}

// Plan computes what the rows need.
func (d Tracked) Plan(ctx context.Context, all RowsWanted) (step.Rows, error) {
	list, err := rows.Sheets(all.Declared, d.columns(all.Tables), nil)
	if err != nil {
		return step.Rows{}, Undeclarable(err)
	}
	out, late, err := restore(all)
	if err == nil {
		var more []rows.Wanted
		more, err = d.restoreApart(ctx, all)
		out = append(out, more...)
	}
	if err != nil {
		return step.Rows{}, Undeclarable(err)
	}
	live := all.Live
	for _, w := range list {
		one := rows.Wanted{Table: w.Table, Want: w.Sheet}
		i := all.liveAs(w.Table)
		if i < 0 {
			one.Have = &rows.Sheet{Columns: w.Sheet.Columns}
			one.Diff, err = rows.Compare(one.Have, one.Want, w.Table.Key)
		} else {
			err = d.differences(ctx, &one, live[i])
			one.Links = inForce(w.Table, live[i])
		}
		if err != nil {
			return step.Rows{}, Undeclarable(rows.InFile(w.Table.File, err))
		}
		if !one.Diff.Empty() {
			out = append(out, one)
		}
	}
	var changes step.Rows
	changes.Write, changes.Remove = rows.Plan(out)
	changes.Late, _ = rows.Plan(late)
	return changes, nil
}

// inForce gives the foreign keys of a table that are there already.
func inForce(wanted, live rows.Table) (out []rows.Link) {
	for _, l := range wanted.Links {
		if slices.ContainsFunc(live.Links, func(o rows.Link) bool {
			return o.To == l.To && slices.Equal(o.Loosen, l.Loosen) && slices.Equal(o.Check, l.Check)
		}) {
			out = append(out, l)
		}
	}
	return out
}

// differences compares a table's rows that are there with those that are wanted; what
// changes its type in the same deployment is written in every row.
func (d Tracked) differences(ctx context.Context, w *rows.Wanted, live rows.Table) error {
	w.Live = live.SQL
	shared := live
	shared.Key = w.Table.Key
	shared.Columns = nil
	for _, name := range w.Want.Columns {
		c, _ := w.Table.Column(name)
		isKey := slices.Contains(w.Table.Key, name)
		if l, ok := live.Column(name); ok && (l.Type == c.Type || isKey) {
			shared.Columns = append(shared.Columns, l)
		} else if isKey {
			return fmt.Errorf("the key of table %s gets the column %s in the same deployment: deploy that without these rows first",
				w.Table.Name, name)
		}
	}
	have, err := rows.Read(ctx, d.Conn, shared, rows.Selection{})
	if err == nil {
		err = have.Sort(shared.Key)
	}
	if err != nil {
		return err
	}
	w.Have = have
	w.Want, w.Diff, err = rows.Differences(ctx, d.Conn, shared, have, w.Want)
	return err
}

// RowsDisagreeError says that the rows after a deployment are not the declared ones.
type RowsDisagreeError struct{ Table string }

// Error names the table.
func (e *RowsDisagreeError) Error() string {
	return fmt.Sprintf("after the statements, rows of table %s still differ; perhaps a trigger changes them", e.Table)
}

// Prove reads the rows back. tables are the declared ones.
func (d Tracked) Prove(ctx context.Context, files environment.Files, tables []rows.Table) error {
	list, err := rows.Sheets(files, d.columns(tables), nil)
	if err != nil {
		return err
	}
	for _, w := range list {
		what := w.Table
		what.Columns = slices.DeleteFunc(slices.Clone(w.Table.Columns), func(c rows.Column) bool { return w.Sheet.Column(c.Name) < 0 })
		have, err := rows.Read(ctx, d.Conn, what, rows.Selection{})
		if err == nil {
			err = have.Sort(what.Key)
		}
		if err != nil {
			return err
		}
		_, diff, err := rows.Differences(ctx, d.Conn, what, have, w.Sheet)
		if err != nil {
			return err
		}
		if !diff.Empty() {
			return &RowsDisagreeError{w.Table.Name}
		}
	}
	return nil
}

// SchemaFiles are the files without those of rows.
func SchemaFiles(files environment.Files) environment.Files {
	out := maps.Clone(files)
	maps.DeleteFunc(out, func(name string, _ []byte) bool { return !declared.Owns(name) })
	return out
}

// Before gives the files of rows that are declared, as the target has them.
func (d Tracked) Before(ctx context.Context, declared environment.Files, live []rows.Table) (environment.Files, error) {
	have := environment.Files{}
	for _, name := range rows.Names(declared) {
		have[name] = declared[name]
	}
	edits, _, err := d.Capture(ctx, have, live)
	return environment.With(have, edits), err
}

// AddTo adds the files of rows that differ to what was captured.
func (d Tracked) AddTo(ctx context.Context, c *environment.Captured, have environment.Files, tables []rows.Table) error {
	edits, untracked, err := d.Capture(ctx, have, tables)
	if c.Edits == nil {
		c.Edits = environment.Files{}
	}
	maps.Copy(c.Edits, edits)
	c.Untracked = append(c.Untracked, untracked...)
	return err
}
