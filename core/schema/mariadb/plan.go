package mariadb

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/schema/scope"
	"oakenchest/core/schema/shape"
	"oakenchest/core/schema/step"
)

// What a plan consists of; see package step.
type (
	Step      = step.Step
	Save      = step.Save
	Effect    = step.Effect
	RowsError = step.RowsError
)

// The effects of a step, the least first.
const (
	Instant  = step.Instant
	Scans    = step.Scans
	Rewrites = step.Rewrites
	Loses    = step.Loses
)

var counted = step.Counted

// Wanted is what a database is to hold.
type Wanted struct {
	Root *element.Element
	// Formerly are the old names; see Declared.
	Formerly map[string]string
	// Fill gives values for columns that are to take no null, by TABLE.COLUMN.
	Fill map[string]string
	// Due says which data steps come with the plan.
	Due step.Due
	// Counting asks for what would be lost; nil asks for each thing by itself.
	Counting *step.Counting
	// Tracked are the tables whose rows are declared: these come before foreign keys.
	Tracked map[string]bool
}

// planner computes the steps from a live database to a wanted one.
type planner struct {
	ctx        context.Context
	q          Querier
	live, want *element.Element
	wanted     Wanted
	oldName    map[*element.Element]string // live tables that are renamed, by their wanted element
	steps      []Step
	foreign    []Step // foreign keys, when all tables are there
	err        error
}

// Plan gives the steps that turn the live database into the wanted one, in order: what
// is in the way goes first, then tables, their foreign keys, and what is made of them.
func Plan(ctx context.Context, q Querier, live *element.Element, want Wanted) ([]Step, error) {
	if want.Counting != nil && big(ctx, q) {
		want.Counting.Rehearse()
		_, _ = plan(ctx, q, live, want)
		want.Counting.Ask(func(condition string) string { return "coalesce(sum(" + condition + "), 0)" },
			func(query string, n int) ([]int64, error) { return numbers(ctx, q, n, query) })
	}
	return plan(ctx, q, live, want)
}

// big reports whether a table has so many rows that it is worth asking it once for everything.
func big(ctx context.Context, q Querier) bool {
	names, err := column(ctx, q, "select table_name from information_schema.tables where table_schema = database() and table_rows > "+
		"100000 limit 1")
	return err == nil && len(names) > 0
}

// numbers runs a query that gives one row of numbers.
func numbers(ctx context.Context, q Querier, n int, query string) ([]int64, error) {
	out, at := make([]int64, n), make([]any, n)
	for i := range out {
		at[i] = &out[i]
	}
	rows, err := q.QueryContext(ctx, query)
	if err == nil {
		for rows.Next() {
			err = rows.Scan(at...)
		}
		err = firstOf(err, rows.Err(), rows.Close())
	}
	return out, err
}

// plan is Plan, for a rehearsal or in earnest.
func plan(ctx context.Context, q Querier, live *element.Element, want Wanted) ([]Step, error) {
	p := &planner{ctx: ctx, q: q, live: live, want: want.Root, wanted: want, oldName: map[*element.Element]string{}}
	if live.Sum() == want.Root.Sum() {
		return nil, nil
	}
	p.rename()
	p.dropPrograms()
	p.dropForeignKeys()
	p.dropTables()
	p.sequences()
	p.tables()
	p.steps = append(p.steps, p.foreign...)
	p.programs()
	if want.Due.Between {
		step.Tighten(p.steps)
	}
	return p.steps, p.err
}

func at(e *element.Element, part *element.Element) element.Address {
	a := element.Address{}.Below(element.Step{Type: e.Type, Key: e.Key})
	if part != nil {
		a = a.Below(element.Step{Type: part.Type, Key: part.Key})
	}
	return a
}

func (p *planner) add(e, part *element.Element, what string, effect Effect, statements ...string) {
	p.steps = append(p.steps, Step{Address: at(e, part), What: what, Effect: effect, Statements: statements})
}

// count runs a query that gives one number.
func (p *planner) count(query string) (n int64) {
	if p.err != nil {
		return 0
	}
	rows, err := p.q.QueryContext(p.ctx, query)
	if err == nil {
		for rows.Next() {
			err = rows.Scan(&n)
		}
		err = firstOf(err, rows.Err(), rows.Close())
	}
	if err != nil {
		p.err = EngineError(err)
	}
	return n
}

// rows counts the rows of a table that a condition chooses.
func (p *planner) rows(table, where string) int64 {
	if p.err != nil {
		return 0
	}
	n, err := p.wanted.Counting.Rows(table, where, func(query string) (int64, error) { return p.count(query), p.err })
	if err != nil {
		p.fail(err)
	}
	return n
}

func firstOf(errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// rename plans the renames of tables and views the live tree in its new names; those
// of columns happen where their table changes.
func (p *planner) rename() {
	live := *p.live
	live.Children = slices.Clone(p.live.Children)
	for _, w := range kids(p.want, "table") {
		old := p.wanted.Formerly[ID(w)]
		if old == "" || kid(p.live, "table", w.Key) != nil {
			continue
		}
		i := slices.IndexFunc(live.Children, func(e *element.Element) bool { return e.Type == "table" && e.Key == old })
		if i < 0 {
			continue
		}
		l := *live.Children[i]
		l.Key = w.Key
		live.Children[i] = &l
		p.oldName[w] = old
		p.add(w, nil, "rename "+ident(old), Instant, "rename table "+ident(old)+" to "+ident(w.Key))
	}
	p.live = &live
}

// now is the name by which a table can be asked for its rows before the renames.
func (p *planner) now(w *element.Element) string {
	if old, ok := p.oldName[w]; ok {
		return ident(old)
	}
	return ident(w.Key)
}

var programs = []string{"event", "view", "procedure", "function"}

// dropPrograms drops what is made of tables and not wanted any more. What changes is
// replaced later.
func (p *planner) dropPrograms() {
	for _, typ := range programs {
		for _, l := range kids(p.live, typ) {
			if kid(p.want, typ, l.Key) == nil {
				p.add(l, nil, "drop the "+typ, Instant, "drop "+typ+" "+ident(l.Key))
			}
		}
	}
	for _, l := range kids(p.live, "table") {
		w := kid(p.want, "table", l.Key)
		if w == nil {
			continue // they go with it
		}
		for _, k := range kids(l, "trigger") {
			if wk := kid(w, "trigger", k.Key); wk == nil || wk.Sum() != k.Sum() {
				p.add(l, k, "drop the trigger", Instant, "drop trigger "+ident(k.Key))
			}
		}
	}
}

// dropForeignKeys drops those that go or change, those of tables that go, and those
// that stand in the way of a change of their columns.
func (p *planner) dropForeignKeys() {
	for _, l := range kids(p.live, "table") {
		w := kid(p.want, "table", l.Key)
		for _, c := range kids(l, "constraint") {
			if !foreign(c) {
				continue
			}
			if w != nil {
				if wc := kid(w, "constraint", c.Key); wc != nil && wc.Sum() == c.Sum() && !p.touched(l, c) {
					continue
				}
			} else if !p.referred(l, c) {
				continue
			}
			p.add(l, c, "drop the foreign key", Instant, "alter table "+ident(l.Key)+" drop foreign key "+ident(c.Key))
		}
	}
}

// target gives the table that a foreign key refers to.
func target(c *element.Element) string {
	ts, _ := Dialect.Scan(textOf(c, "definition"))
	for i, t := range ts {
		if t.Is("references") && i+1 < len(ts) {
			return Dialect.NameOf(ts[i+1])
		}
	}
	return ""
}

// referred says that the foreign key of a table that goes refers to another that goes.
func (p *planner) referred(l, c *element.Element) bool {
	to := target(c)
	return to != l.Key && kid(p.want, "table", to) == nil
}

// touched says that columns of a foreign key, in either of its tables, change.
func (p *planner) touched(l, c *element.Element) bool {
	named := map[string]bool{}
	ts, _ := Dialect.Scan(textOf(c, "definition"))
	for _, t := range ts {
		named[Dialect.NameOf(t)] = true
	}
	for _, name := range []string{l.Key, target(c)} {
		lt, wt := kid(p.live, "table", name), kid(p.want, "table", name)
		if lt == nil || wt == nil {
			return true
		}
		for _, lc := range kids(lt, "column") {
			wc := kid(wt, "column", lc.Key)
			if named[lc.Key] && (wc == nil || textOf(lc, "type") != textOf(wc, "type") || textOf(lc, "collate") != textOf(wc, "collate") ||
				textOf(lc, "charset") != textOf(wc, "charset") || has(lc, "not null") != has(wc, "not null")) {
				return true
			}
		}
		if textOf(lt, "charset") != textOf(wt, "charset") || textOf(lt, "collate") != textOf(wt, "collate") ||
			textOf(lt, "engine") != textOf(wt, "engine") {
			return true
		}
	}
	return false
}

func (p *planner) dropTables() {
	for _, l := range kids(p.live, "table") {
		if kid(p.want, "table", l.Key) != nil {
			continue
		}
		late := p.wanted.Due.Between && kid(p.want, "view", l.Key) == nil && kid(p.want, "sequence", l.Key) == nil
		s := Step{Address: at(l, nil), What: "drop the table", Effect: Instant, Statements: []string{"drop table " + ident(l.Key)},
			AfterRows: late}
		if rows := p.rows(ident(l.Key), ""); rows > 0 {
			s.Effect, s.Loss = Loses, fmt.Sprintf("table %s has %s", ident(l.Key), counted(rows, "row"))
			s.Saves = []Save{{Table: ident(l.Key)}}
		}
		p.steps = append(p.steps, s)
	}
	for _, l := range kids(p.live, "sequence") {
		if kid(p.want, "sequence", l.Key) == nil {
			p.add(l, nil, "drop the sequence", Instant, "drop sequence "+ident(l.Key))
		}
	}
}

func (p *planner) sequences() {
	for _, w := range kids(p.want, "sequence") {
		l := kid(p.live, "sequence", w.Key)
		switch {
		case l == nil:
			p.add(w, nil, "create the sequence", Instant, createSQL(w, ""))
		case l.Sum() != w.Sum():
			p.add(w, nil, "change the sequence", Instant, "alter sequence "+ident(w.Key)+" "+textOf(w, "definition"))
		}
	}
}

// programs makes or replaces routines, views, triggers and events.
func (p *planner) programs() {
	for _, typ := range []string{"function", "procedure", "view", "event"} {
		list := kids(p.want, typ)
		if typ == "view" {
			list = orderedViews(list)
		}
		for _, w := range list {
			l := kid(p.live, typ, w.Key)
			switch {
			case l == nil:
				p.steps = append(p.steps, Step{Address: at(w, nil), What: "create the " + typ, Effect: Instant,
					Statements: []string{createSQL(w, "")}, Mode: textOf(w, "sql mode"), Session: textOf(w, "session")})
			case l.Sum() != w.Sum():
				p.steps = append(p.steps, Step{Address: at(w, nil), What: "replace the " + typ, Effect: Instant,
					Statements: []string{createSQL(w, "or replace ")}, Mode: textOf(w, "sql mode"), Session: textOf(w, "session")})
			}
		}
		if typ == "view" {
			p.triggers()
		}
	}
}

func (p *planner) triggers() {
	for _, w := range kids(p.want, "table") {
		l := kid(p.live, "table", w.Key)
		for _, k := range kids(w, "trigger") {
			if l != nil {
				if lk := kid(l, "trigger", k.Key); lk != nil && lk.Sum() == k.Sum() {
					continue
				}
			}
			p.steps = append(p.steps, Step{Address: at(w, k), What: "create the trigger", Effect: Instant,
				Statements: []string{triggerSQL(w.Key, k)}, Mode: textOf(k, "sql mode"), Session: textOf(k, "session")})
		}
	}
}

// Apply carries out the steps one after the other; the engine commits each. done is
// told after each step. In the end the catalog must say what is wanted.
func Apply(ctx context.Context, q Querier, want *element.Element, steps []Step, lockWait int, s scope.Scope, done func(step int)) error {
	for _, sql := range []string{session + ", foreign_key_checks = 1", fmt.Sprintf("set lock_wait_timeout = %d", max(lockWait, 1))} {
		if _, err := q.ExecContext(ctx, sql); err != nil {
			return EngineError(err)
		}
	}
	_, _ = q.ExecContext(ctx, "set system_versioning_alter_history = keep") // where there is such a thing
	for i, st := range steps {
		for k, sql := range st.Statements {
			if err := makePiece(ctx, q, piece{e: &element.Element{}, sql: sql, mode: st.Mode, session: st.Session,
				strict: true}); err != nil {
				_, _ = q.ExecContext(context.WithoutCancel(ctx), "rollback") // of a step that is one transaction
				return &StepError{i, st, EngineError(err), k > 0 && !slices.Contains(st.Statements[:k], "start transaction")}
			}
		}
		if done != nil {
			done(i + 1)
		}
	}
	now, err := Read(ctx, q)
	if err != nil {
		return EngineError(err)
	}
	if d := element.Compare(s.Apply(now.Root), s.Apply(want)); d != nil {
		return &DisagreeError{d.Changes("database")}
	}
	return nil
}

// StepError says which step was refused; those before it are done.
type StepError struct {
	Done int
	Step Step
	Err  error
	// Part says that some statements of the step itself are done and kept.
	Part bool
}

// Nothing reports that everything is as it was.
func (e *StepError) Nothing() bool { return e.Done == 0 && !e.Part }

// Error names the step.
func (e *StepError) Error() string {
	return fmt.Sprintf("%s (%s): %v", e.Step.What, e.Step.Address.InPath("database"), e.Err)
}

// Counted says how many steps are done: "the first 3 are".
func (e *StepError) Counted() string {
	if e.Done == 0 {
		return "a part of the first is"
	}
	if e.Done == 1 {
		return "the first is"
	}
	return fmt.Sprintf("the first %d are", e.Done)
}

// Unwrap gives the cause.
func (e *StepError) Unwrap() error { return e.Err }

// DisagreeError says that the schema after all steps is not the wanted one.
type DisagreeError struct{ Changes []element.Change }

// Error names the first difference.
func (e *DisagreeError) Error() string {
	c := e.Changes[0]
	return fmt.Sprintf("after the statements, %d things still differ, first %s: %s instead of %s", len(e.Changes), c.Address, c.From, c.To)
}

var sameProps = shape.SameProps

func join(list []string) string { return strings.Join(list, ",\n  ") }
