package rows

import (
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/schema/step"
)

// Wanted is the rows that a table is to have.
type Wanted struct {
	// Table is the table as it is when the rows are written.
	Table Table
	// Live is its SQL name before the deployment, where the rows that go are kept from.
	Live string
	// Have are the rows that are there; nil for a table that is new.
	Have *Sheet
	// Want are the rows that are to be there, and Diff what leads to them.
	Want *Sheet
	Diff *Diff
	// Links are the foreign keys of the table that are there while its rows are written.
	Links []Link
}

// Plan gives the steps that bring the rows of tables to what is wanted: rows are added
// and changed from the tables that are referred to on, then removed the other way round.
func Plan(list []Wanted) (out, gone []step.Step) {
	for _, circle := range circles(ordered(list)) {
		var write, remove []step.Step
		for _, w := range circle {
			a := newActs(w)
			if s, ok := a.write(); ok {
				write = append(write, s)
			}
			if s, ok := a.remove(); ok {
				remove = append(remove, s)
			}
		}
		slices.Reverse(remove)
		out = append(out, loosely(write, links(circle))...)
		gone = append(gone, loosely(remove, links(circle))...)
	}
	slices.Reverse(gone)
	return out, gone
}

// ordered puts tables after those that they refer to, as far as there is such an order. A
// table may be there several times, with a column of its rows each.
func ordered(list []Wanted) []Wanted {
	slices.SortStableFunc(list, func(a, b Wanted) int { return strings.Compare(a.Table.Name, b.Table.Name) })
	var out []Wanted
	seen := map[string]bool{}
	var visit func(w Wanted)
	visit = func(w Wanted) {
		if seen[w.Table.SQL] {
			return
		}
		seen[w.Table.SQL] = true
		for _, other := range list {
			if slices.Contains(w.Table.Refers, other.Table.SQL) {
				visit(other)
			}
		}
		for _, same := range list {
			if same.Table.SQL == w.Table.SQL {
				out = append(out, same)
			}
		}
	}
	for _, w := range list {
		visit(w)
	}
	return out
}

// acts plans what is done to one table.
type acts struct {
	Wanted
	key   []int // places in Want
	early map[int]bool
}

func newActs(w Wanted) *acts {
	a := &acts{Wanted: w, early: map[int]bool{}}
	a.key, _ = w.Want.keyOf(w.Table.Key)
	return a
}

// act is one row that is written: what it takes of the keys that are there once, and
// what it gives back.
type act struct {
	row         int // of Want
	edit        *Edit
	takes, free []mark
}

// mark is a place in a unique key, by the key's number in the table.
type mark struct {
	key   int
	value string
}

// write plans the rows that are added and changed. A row that goes or changes first
// makes room for one that takes its place in a unique key.
func (a *acts) write() (step.Step, bool) {
	s := step.Step{Address: a.Table.Address(), Effect: step.Instant}
	var list []act
	for _, i := range a.Diff.Added {
		list = append(list, act{row: i, takes: a.marks(a.Want, i, nil)})
	}
	for k := range a.Diff.Edited {
		e := &a.Diff.Edited[k]
		list = append(list, act{row: e.Want, edit: e, takes: a.marks(a.Want, e.Want, e.Columns), free: a.marks(a.Have, e.Have, e.Columns)})
	}
	if len(list) == 0 {
		return s, false
	}
	taken := map[mark]bool{}
	for _, x := range list {
		for _, m := range x.takes {
			taken[m] = true
		}
	}
	var early []int
	for _, i := range a.Diff.Removed {
		if slices.ContainsFunc(a.marks(a.Have, i, nil), func(m mark) bool { return taken[m] }) {
			early, a.early[i] = append(early, i), true
		}
	}
	var what []string
	if len(early) > 0 {
		what = append(what, "remove "+step.Counted(int64(len(early)), "row"))
		a.removal(&s, early)
	}
	if n := len(a.Diff.Added); n > 0 {
		what = append(what, "add "+step.Counted(int64(n), "row"))
	}
	if n := len(a.Diff.Edited); n > 0 {
		what = append(what, "change "+step.Counted(int64(n), "row"))
	}
	s.What = strings.Join(what, ", ")
	var exchanged []int
	list, exchanged = makeRoom(list)
	for _, n := range exchanged {
		if key := a.Table.Unique[n]; key.Drop != "" {
			s.Statements = append(s.Statements, key.Drop)
		}
	}
	a.statements(&s, list)
	for _, n := range exchanged {
		if key := a.Table.Unique[n]; key.Add != "" {
			s.Statements, s.Effect = append(s.Statements, key.Add), step.Scans
		}
	}
	if len(a.Diff.Added) > 0 {
		s.Statements = append(s.Statements, a.Table.After...)
	}
	a.Table.surround(&s)
	return s, true
}

// marks names the places that a row takes in the table's unique keys; only in those that
// have one of the columns, given by their places in Want, unless these are nil.
func (a *acts) marks(s *Sheet, row int, columns []int) []mark {
	var out []mark
	for n, unique := range a.Table.Unique {
		text, counts := "", columns == nil
		for _, name := range unique.Columns {
			at := s.Column(name)
			if at < 0 || s.Rows[row][at].Null {
				counts = false
				break
			}
			if columns != nil && slices.Contains(columns, a.Want.Column(name)) {
				counts = true
			}
			text += s.Rows[row][at].Text + "\x00"
		}
		if counts {
			out = append(out, mark{n, text})
		}
	}
	return out
}

// makeRoom puts what gives a place back before what takes it. exchanged are the keys in
// which rows exchange their places, so that there is no such order.
func makeRoom(list []act) (out []act, exchanged []int) {
	giver := map[mark]int{}
	for i, x := range list {
		for _, m := range x.free {
			giver[m] = i
		}
	}
	if len(giver) == 0 {
		return list, nil
	}
	const waiting, done = 1, 2
	state := make([]byte, len(list))
	var visit func(i int)
	visit = func(i int) {
		state[i] = waiting
		for _, m := range list[i].takes {
			g, ok := giver[m]
			switch {
			case !ok || g == i || state[g] == done:
			case state[g] == waiting:
				if !slices.Contains(exchanged, m.key) {
					exchanged = append(exchanged, m.key)
				}
			default:
				visit(g)
			}
		}
		state[i] = done
		out = append(out, list[i])
	}
	for i := range list {
		if state[i] == 0 {
			visit(i)
		}
	}
	return out, exchanged
}

// statements writes acts in their order; rows that are added one after the other go
// into one statement.
func (a *acts) statements(s *step.Step, list []act) {
	var waiting []int
	flush := func() {
		_ = inChunks(waiting, func(part []int) error {
			s.Statements = append(s.Statements, a.insert(part))
			return nil
		})
		waiting = nil
	}
	for _, x := range list {
		if x.edit == nil {
			waiting = append(waiting, x.row)
			continue
		}
		flush()
		var set []string
		for _, c := range x.edit.Columns {
			if col, ok := a.Table.Column(a.Want.Columns[c]); ok {
				set = append(set, col.SQL+" = "+col.write(a.Want.Rows[x.row][c]))
			}
		}
		s.Statements = append(s.Statements,
			"update "+a.Table.SQL+" set "+strings.Join(set, ", ")+" where "+a.Table.is(a.Want.Rows[x.row], a.key))
	}
	flush()
}

func (a *acts) insert(rows []int) string {
	var names []string
	var columns []Column
	for _, name := range a.Want.Columns {
		c, _ := a.Table.Column(name)
		names, columns = append(names, c.SQL), append(columns, c)
	}
	tuples := make([]string, len(rows))
	for k, i := range rows {
		parts := make([]string, len(columns))
		for n, c := range columns {
			parts[n] = c.write(a.Want.Rows[i][n])
		}
		tuples[k] = "  (" + strings.Join(parts, ", ") + ")"
	}
	return "insert into " + a.Table.SQL + " (" + strings.Join(names, ", ") + ")" + a.Table.Insert + " values\n" +
		strings.Join(tuples, ",\n")
}

// is writes the condition for the row with the key of another.
func (t Table) is(r Row, at []int) string {
	parts := make([]string, len(at))
	for i, k := range at {
		c, _ := t.Column(t.Key[i])
		parts[i] = c.SQL + " = " + c.write(r[k])
	}
	return strings.Join(parts, " and ")
}

// remove plans the rows that go, but for those that have made room.
func (a *acts) remove() (step.Step, bool) {
	s := step.Step{Address: a.Table.Address()}
	rows := slices.DeleteFunc(slices.Clone(a.Diff.Removed), func(i int) bool { return a.early[i] })
	if len(rows) == 0 {
		return s, false
	}
	s.What = "remove " + step.Counted(int64(len(rows)), "row")
	a.removal(&s, rows)
	a.Table.surround(&s)
	return s, true
}

// surround puts what an engine wants around the statements of a step.
func (t Table) surround(s *step.Step) {
	if t.Begin != "" {
		s.Statements = append([]string{t.Begin}, s.Statements...)
	}
	if t.End != "" {
		s.Statements = append(s.Statements, t.End)
	}
}

// removal adds the removal of rows that are there, and what is kept of them.
func (a *acts) removal(s *step.Step, rows []int) {
	s.Effect = step.Loses
	s.Loss = fmt.Sprintf("%s of table %s", step.Counted(int64(len(rows)), "row"), a.Table.Name)
	at, _ := a.Have.keyOf(a.Table.Key)
	_ = inChunks(rows, func(part []int) error {
		conditions := make([]string, len(part))
		for k, i := range part {
			conditions[k] = a.Table.is(a.Have.Rows[i], at)
		}
		where := strings.Join(conditions, " or ")
		if len(at) > 1 {
			where = "(" + strings.Join(conditions, ") or (") + ")"
		}
		s.Statements = append(s.Statements, "delete from "+a.Table.SQL+" where "+where)
		s.Saves = append(s.Saves, step.Save{Table: a.Live, Where: where})
		return nil
	})
}
