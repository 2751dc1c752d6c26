package environment

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/schema/declared"
	"oakenchest/core/schema/mariadb"
	"oakenchest/core/schema/postgres"
	"oakenchest/core/schema/rows"
	"oakenchest/core/schema/scope"
	"oakenchest/core/schema/sqlite"
	"oakenchest/core/schema/step"
)

// tracked deals with the rows of a target's tables, for all engines alike.
type tracked struct {
	conn  rows.Conn
	scope scope.Scope
}

// columns leaves out the columns that are not tracked.
func (d tracked) columns(tables []rows.Table) []rows.Table {
	out := slices.Clone(tables)
	for i, t := range out {
		out[i].Columns = slices.DeleteFunc(slices.Clone(t.Columns), func(c rows.Column) bool {
			return d.scope.SkipsColumn(t.Name, c.Name) && !slices.Contains(t.Key, c.Name)
		})
	}
	return out
}

// capture gives the files of rows that differ from those that the project has, and what
// can't be tracked any more. tables are those that the target has.
func (d tracked) capture(ctx context.Context, have Files, tables []rows.Table) (edits Files, untracked []string, err error) {
	edits = Files{}
	for _, name := range rows.Names(have) {
		t, ok := tableOf(d.columns(tables), name)
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
			return nil, nil, fault.New(fault.Unreachable, "Check the rights of the user.", "The rows of table %s can't be read: %w.", t.Name, err)
		}
		if !bytes.Equal(data, have[name]) {
			edits[name] = data
		}
	}
	return edits, untracked, nil
}

func tableOf(tables []rows.Table, file string) (rows.Table, bool) {
	i := slices.IndexFunc(tables, func(t rows.Table) bool { return t.File == file })
	if i < 0 {
		return rows.Table{}, false
	}
	return tables[i], true
}

// file gives the file of a table's rows. Rows that the file there has, in other words
// for the same, keep their words.
func (d tracked) file(ctx context.Context, t rows.Table, have []byte) ([]byte, error) {
	old, broken := rows.Parse(rows.Header(have))
	if broken != nil {
		old = &rows.Sheet{}
	}
	data, err := rows.File(ctx, d.conn, t, old.Columns, len(have))
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
		if normal, _, err := rows.Differences(ctx, d.conn, t, live, old); err == nil {
			live.KeepWords(old, normal, t.Key)
		}
	}
	return live.Bytes(), nil
}

// apart looks only at the rows that two files write otherwise: whether they are the same
// to the engine, and whether some are, so that their words are to be kept.
func (d tracked) apart(ctx context.Context, t rows.Table, data, have []byte) (same, kept, ok bool) {
	live, old, ok, err := rows.Trim(data, have, t.Key)
	if !ok || err != nil || live.Sort(t.Key) != nil || old.Sort(t.Key) != nil {
		return false, false, false
	}
	normal, diff, err := rows.Differences(ctx, d.conn, t, live, old)
	if err != nil {
		return false, false, false
	}
	return diff.Empty(), live.KeepWords(old, normal, t.Key), true
}

// start gives the files of rows for tables that are to be tracked.
func (d tracked) start(ctx context.Context, tables []rows.Table, names []string) (Files, error) {
	out := Files{}
	tables = d.columns(tables)
	for _, name := range names {
		t, err := chooseTable(tables, name)
		if err != nil {
			return nil, err
		}
		if len(t.Key) == 0 {
			return nil, fault.New(fault.Refused, "Give it a primary key, deploy that, and track its rows then.", "The rows of table %s can't be tracked: it has no primary key, so they can't be told apart.", t.Name)
		}
		if out[t.File], err = d.file(ctx, t, nil); err != nil {
			return nil, fault.New(fault.Unreachable, "Check the rights of the user.", "The rows of table %s can't be read: %w.", t.Name, err)
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
		return rows.Table{}, fault.New(fault.Usage, "Check the spelling; oaken capture shows what the environment has.", "The environment has no table %s that is in scope.", name)
	}
	return rows.Table{}, fault.New(fault.Usage, fmt.Sprintf("Name it with its schema: %s or %s.", found[0].Name, found[1].Name), "There are %d tables %s.", len(found), name)
}

// rowsWanted is what the rows of a target are planned from.
type rowsWanted struct {
	declared, lost Files
	// tables are the declared ones, live those that the target has.
	tables, live []rows.Table
	// formerly gives the name that a declared table has in the target, when that is
	// another.
	formerly func(rows.Table) string
	// schema are the steps of the schema.
	schema []step.Step
	// typesLate says that columns get their types after data steps.
	typesLate bool
}

// liveAs gives the place of a declared table among those that the target has, by its name or its
// former one; -1 for one that is not there.
func (w rowsWanted) liveAs(t rows.Table) int {
	i := slices.IndexFunc(w.live, func(l rows.Table) bool { return l.SQL == t.SQL })
	if old := w.formerly(t); i < 0 && old != "" {
		i = slices.IndexFunc(w.live, func(l rows.Table) bool { return (l.Bare == old || l.Name == old) && l.Schema == t.Schema })
	}
	return i
}

// changes reports whether a table changes.
func (w rowsWanted) changes(t rows.Table) bool {
	at := element.Step{Type: "table", Key: t.Bare}
	return slices.ContainsFunc(w.schema, func(s step.Step) bool {
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

// plan computes what the rows need.
func (d tracked) plan(ctx context.Context, all rowsWanted) (step.Rows, error) {
	list, err := rows.Sheets(all.declared, d.columns(all.tables), nil)
	if err != nil {
		return step.Rows{}, undeclarable(err)
	}
	out, late, err := restore(all)
	if err == nil {
		var more []rows.Wanted
		more, err = d.restoreApart(ctx, all)
		out = append(out, more...)
	}
	if err != nil {
		return step.Rows{}, undeclarable(err)
	}
	live := all.live
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
			return step.Rows{}, undeclarable(rows.InFile(w.Table.File, err))
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
func (d tracked) differences(ctx context.Context, w *rows.Wanted, live rows.Table) error {
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
			return fmt.Errorf("the key of table %s gets the column %s in the same deployment: deploy that without these rows first", w.Table.Name, name)
		}
	}
	have, err := rows.Read(ctx, d.conn, shared, rows.Selection{})
	if err == nil {
		err = have.Sort(shared.Key)
	}
	if err != nil {
		return err
	}
	w.Have = have
	w.Want, w.Diff, err = rows.Differences(ctx, d.conn, shared, have, w.Want)
	return err
}

// RowsDisagreeError says that the rows after a deployment are not the declared ones.
type RowsDisagreeError struct{ Table string }

// Error names the table.
func (e *RowsDisagreeError) Error() string {
	return fmt.Sprintf("after the statements, rows of table %s still differ; perhaps a trigger changes them", e.Table)
}

// prove reads the rows back. tables are the declared ones.
func (d tracked) prove(ctx context.Context, files Files, tables []rows.Table) error {
	list, err := rows.Sheets(files, d.columns(tables), nil)
	if err != nil {
		return err
	}
	for _, w := range list {
		what := w.Table
		what.Columns = slices.DeleteFunc(slices.Clone(w.Table.Columns), func(c rows.Column) bool { return w.Sheet.Column(c.Name) < 0 })
		have, err := rows.Read(ctx, d.conn, what, rows.Selection{})
		if err == nil {
			err = have.Sort(what.Key)
		}
		if err != nil {
			return err
		}
		_, diff, err := rows.Differences(ctx, d.conn, what, have, w.Sheet)
		if err != nil {
			return err
		}
		if !diff.Empty() {
			return &RowsDisagreeError{w.Table.Name}
		}
	}
	return nil
}

// schemaFiles are the files without those of rows.
func schemaFiles(files Files) Files {
	out := maps.Clone(files)
	maps.DeleteFunc(out, func(name string, _ []byte) bool { return !declared.Owns(name) })
	return out
}

// addRows adds the files of rows that differ to what was captured.
func (c *Captured) addRows(ctx context.Context, d tracked, have Files, tables []rows.Table) error {
	edits, untracked, err := d.capture(ctx, have, tables)
	if c.Edits == nil {
		c.Edits = Files{}
	}
	maps.Copy(c.Edits, edits)
	c.Untracked = append(c.Untracked, untracked...)
	return err
}

// before gives the files of rows that are declared, as the target has them.
func (d tracked) before(ctx context.Context, declared Files, live []rows.Table) (Files, error) {
	have := Files{}
	for _, name := range rows.Names(declared) {
		have[name] = declared[name]
	}
	edits, _, err := d.capture(ctx, have, live)
	return with(have, edits), err
}

// RowsKeeper is a Driver of a target with tables.
type RowsKeeper interface {
	Driver
	// Rows gives the files of the rows of tables, by the tables' names.
	Rows(ctx context.Context, tables []string) (Files, error)
}

// TrackedRows tells which tables the files of rows in a folder belong to: names of
// tables by those of files. target says of which sort the folder is.
func TrackedRows(ctx context.Context, target string, files Files) (map[string]string, error) {
	kind, err := KindOf(target)
	if err != nil {
		return nil, err
	}
	var tables []rows.Table
	switch kind {
	case "postgres-schema":
		if d, failed := postgres.Parse(files); failed == nil {
			tables = postgres.Tables(d.Root)
		}
	case "mariadb-schema":
		if d, failed := mariadb.Parse(files); failed == nil {
			tables = mariadb.Tables(d.Root)
		}
	case "schema":
		if d, failed := sqlite.Load(ctx, files); failed == nil {
			tables = sqlite.Tables(d.Root)
		}
	}
	out := map[string]string{}
	for _, name := range rows.Names(files) {
		if t, ok := tableOf(tables, name); ok {
			out[name] = t.Name
		}
	}
	return out, nil
}

// changedSince says that a plan is not one for the target as it is.
func changedSince(what string) error {
	return fault.New(fault.Refused, "Run the command again to see the new plan; nothing was changed.", "The %s has changed since the plan was made.", what)
}

// changedNow says that somebody else changes a database at this moment.
func changedNow() error {
	return fault.New(fault.Refused, "Wait until that has ended, and run the command again; nothing was changed.", "Another deployment is changing the database.")
}

func inTheWay(r *step.RowsError) error {
	if r.NoFill {
		return fault.New(fault.Refused, "Change those rows first; nothing was changed.", "The rows that are there do not allow it: %w.", r)
	}
	return fault.New(fault.Refused, fmt.Sprintf("Declare a default, give a value with --fill '%s.%s=VALUE', or change those rows first; nothing was changed.", r.Table, r.Column), "The rows that are there do not allow it: %w.", r)
}

// isRowsError says that the rows that are there do not allow a deployment.
func isRowsError(err error) (*step.RowsError, bool) {
	var r *step.RowsError
	return r, errors.As(err, &r)
}
