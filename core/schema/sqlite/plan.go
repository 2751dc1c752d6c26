package sqlite

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/element"
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
	Rewrites = step.Rewrites
	Loses    = step.Loses
)

var counted = step.Counted

// planner computes the steps from a live schema to a declared one.
type planner struct {
	ctx            context.Context
	q              Querier
	live, want     *element.Element
	formerly       map[string]string
	fill           map[string]string
	due            step.Due
	counting       *step.Counting
	was            map[*element.Element]*element.Element // of expanded tables and their columns: the live ones
	steps          []Step
	dropped        map[string]bool // live indexes, triggers and views that a step has dropped or taken along
	rebuilt        map[string]bool // wanted tables that are made anew, with indexes and triggers
	late, lateMost []Step
}

// Plan gives the steps that turn the live schema into the declared one, in
// order: what is in the way goes first, then tables, then what stands on them.
// It reads the live database to say what would be lost, and refuses what its
// rows do not allow.
func Plan(ctx context.Context, q Querier, live *element.Element, d *Declared) ([]Step, error) {
	if d.Counting != nil && big(ctx, q) {
		d.Counting.Rehearse()
		_, _ = plan(ctx, q, live, d)
		d.Counting.Ask(func(condition string) string { return "coalesce(sum(" + condition + "), 0)" },
			func(query string, n int) ([]int64, error) {
				out, at := make([]int64, n), make([]any, n)
				for i := range out {
					at[i] = &out[i]
				}
				return out, q.QueryRowContext(ctx, query).Scan(at...)
			})
	}
	return plan(ctx, q, live, d)
}

// big reports whether the database is so big that it is worth asking its tables once for everything.
func big(ctx context.Context, q Querier) bool {
	var pages int64
	return q.QueryRowContext(ctx, "pragma page_count").Scan(&pages) == nil && pages > 10000
}

// plan is Plan, for a rehearsal or in earnest.
func plan(ctx context.Context, q Querier, live *element.Element, d *Declared) ([]Step, error) {
	p := &planner{counting: d.Counting, ctx: ctx, q: q, live: live, want: d.Root, formerly: d.Formerly, fill: d.Fill, due: d.Due,
		was: map[*element.Element]*element.Element{}, dropped: map[string]bool{}, rebuilt: map[string]bool{}}
	if live.Sum() == d.Root.Sum() {
		return nil, nil
	}
	if err := p.tables(); err != nil {
		return nil, err
	}
	p.dependents()
	steps := slices.Concat(p.steps, p.late, p.lateMost)
	if p.due.Between {
		step.Tighten(steps)
	}
	return steps, nil
}

func find(root *element.Element, typ, name string) *element.Element {
	for _, e := range root.Children {
		if e.Type == typ && strings.EqualFold(e.Key, name) {
			return e
		}
	}
	return nil
}

func at(e *element.Element) element.Address {
	return element.Address{}.Below(element.Step{Type: e.Type, Key: e.Key})
}

// tables plans tables that go, come, are renamed or changed.
func (p *planner) tables() error {
	source := map[*element.Element]*element.Element{} // wanted table to live table
	used := map[*element.Element]bool{}
	for _, t := range kidsOf(p.want, "table") { // first what has a new name: another may have the former one
		if old := p.formerly[strings.ToLower(t.Key)]; old != "" && find(p.live, "table", t.Key) == nil {
			if l := find(p.live, "table", old); l != nil && !used[l] {
				source[t], used[l] = l, true
			}
		}
	}
	for _, t := range kidsOf(p.want, "table") {
		if l := find(p.live, "table", t.Key); l != nil && !used[l] {
			source[t], used[l] = l, true
		}
	}
	for _, l := range kidsOf(p.live, "table") {
		if used[l] {
			continue
		}
		if err := p.drop(l); err != nil {
			return err
		}
	}
	for _, t := range kidsOf(p.want, "table") {
		l := source[t]
		var err error
		switch {
		case l == nil:
			p.steps = append(p.steps, Step{Address: at(t), What: "create the table", Effect: Instant,
				Statements: []string{tableSQL(t, t.Key)}})
		case l.Key != t.Key || !sameTable(l, t):
			err = p.change(l, t)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// sameTable compares tables without their indexes and triggers.
func sameTable(a, b *element.Element) bool {
	return tableOnly(a).Sum() == tableOnly(b).Sum()
}

func tableOnly(t *element.Element) *element.Element {
	c := *t
	c.Children = append(kidsOf(t, "column"), kidsOf(t, "constraint")...)
	return &c
}

// rowsOf counts the rows of a table that a condition chooses.
func (p *planner) rowsOf(table, where string) (int64, error) {
	return p.counting.Rows(table, where, p.count)
}

func (p *planner) count(query string) (n int64, err error) {
	rows, err := p.q.QueryContext(p.ctx, query)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	for rows.Next() {
		if err := rows.Scan(&n); err != nil {
			return 0, err
		}
	}
	return n, rows.Err()
}

func (p *planner) drop(l *element.Element) error {
	n, err := p.rowsOf(ident(l.Key), "")
	if err != nil {
		return err
	}
	s := Step{Address: at(l), What: "drop the table", Effect: Instant, Statements: []string{"drop table " + ident(l.Key)},
		AfterRows: p.due.Between && find(p.want, "table", l.Key) == nil}
	if n > 0 {
		s.Effect, s.Loss = Loses, fmt.Sprintf("table %s has %s", l.Key, counted(n, "row"))
		s.Saves = []Save{{Table: ident(l.Key)}}
	}
	p.takeAlong(l)
	p.steps = append(p.steps, s)
	return nil
}

// takeAlong notes that what stands on a live table goes with it.
func (p *planner) takeAlong(l *element.Element) {
	for _, k := range l.Children {
		if k.Type == "index" || k.Type == "trigger" {
			p.dropped[k.Type+k.Key] = true
		}
	}
}

// change plans a table that stays with another definition: by adding columns
// where that is all and the engine can, else by copying its rows into a new
// table, as https://www.sqlite.org/lang_altertable.html section 7 describes.
func (p *planner) change(l, t *element.Element) error {
	if !l.Prop("module").IsAbsent() || !t.Prop("module").IsAbsent() {
		return p.replaceVirtual(l, t)
	}
	added, simple, err := p.addable(l, t)
	if err != nil {
		return err
	}
	if simple {
		for _, c := range added {
			p.steps = append(p.steps, Step{Address: at(t).Below(element.Step{Type: "column", Key: c.Key}), What: "add the column " + c.Gist,
				Effect:     Instant,
				Statements: []string{"alter table " + ident(t.Key) + " add column " + columnSQL(c)}})
		}
		return nil
	}
	if p.due.Between {
		return p.rebuild(l, p.expand(l, t), t)
	}
	return p.rebuild(l, l, t)
}

func (p *planner) replaceVirtual(l, t *element.Element) error {
	if err := p.drop(l); err != nil {
		return err
	}
	p.rebuilt[t.Key] = true
	p.steps = append(p.steps, Step{Address: at(t), What: "create the table", Effect: Instant, Statements: []string{tableSQL(t, t.Key)}})
	return nil
}

// addable says whether the table only gains columns that ALTER TABLE can add.
func (p *planner) addable(l, t *element.Element) (added []*element.Element, ok bool, err error) {
	without := *tableOnly(t)
	without.Children = nil
	for _, c := range tableOnly(t).Children {
		if c.Type == "column" && find(l, "column", c.Key) == nil {
			if p.source(l, t, c) != nil {
				return nil, false, nil
			}
			added = append(added, c)
			continue
		}
		without.Children = append(without.Children, c)
	}
	if l.Key != t.Key || len(added) == 0 || without.Sum() != tableOnly(l).Sum() {
		return nil, false, nil
	}
	for _, c := range added {
		def := c.Prop("default").Text()
		constant := def == "" || !strings.HasPrefix(def, "(") && !strings.HasPrefix(strings.ToLower(def), "current_")
		missing := c.Prop("default").IsAbsent() || strings.EqualFold(def, "null")
		switch {
		case !c.Prop("primary key").IsAbsent(), !c.Prop("unique").IsAbsent(), !constant,
			strings.HasSuffix(c.Prop("generated").Text(), "stored"),
			!c.Prop("references").IsAbsent() && !missing, !c.Prop("not null").IsAbsent() && missing &&
				c.Prop("generated").IsAbsent(), !c.Prop("check").IsAbsent():
			return nil, false, nil
		}
	}
	return added, true, nil
}

// source gives the live column that a wanted column continues, or nil.
func (p *planner) source(l, t, c *element.Element) *element.Element {
	if k := find(l, "column", c.Key); k != nil {
		for _, o := range kidsOf(t, "column") { // another goes on from it
			if p.formerly[strings.ToLower(t.Key+"."+o.Key)] == strings.ToLower(c.Key) && find(l, "column", o.Key) == nil {
				return nil
			}
		}
		return k
	}
	old := p.formerly[strings.ToLower(t.Key+"."+c.Key)]
	if old == "" {
		return nil
	}
	return find(l, "column", old)
}

// rebuild plans a table made anew from how it is then: as it is live, or as data steps found it.
func (p *planner) rebuild(live, l, t *element.Element) error {
	var into, from []string
	continued := map[*element.Element]bool{}
	rows, err := p.rowsOf(ident(live.Key), "")
	if err != nil {
		return err
	}
	goesOn := func(k *element.Element) {
		if was, expanded := p.was[k]; expanded {
			k = was
		}
		continued[k] = true
	}
	for _, c := range kidsOf(t, "column") {
		k := p.source(l, t, c)
		if !c.Prop("generated").IsAbsent() {
			if k != nil {
				goesOn(k)
			}
			continue
		}
		expr, err := p.value(live, t, k, c, rows)
		if err != nil {
			return err
		}
		if k != nil {
			goesOn(k)
		}
		if expr != "" {
			into, from = append(into, ident(c.Key)), append(from, expr)
		}
	}
	lost, saves, err := p.lostColumns(live, continued)
	if err != nil {
		return err
	}
	changed, kept, err := p.lostValues(live, t)
	if err != nil {
		return err
	}
	lost, saves = append(lost, changed...), append(saves, kept...)
	s := Step{Address: at(t), What: "rebuild the table" + describe(l, t), Effect: Rewrites, Loss: strings.Join(lost, ", "), Saves: saves,
		Statements: rebuildSQL(l, t, into, from), AfterRows: p.due.Between}
	if len(lost) > 0 {
		s.Effect = Loses
	}
	p.takeAlong(live)
	p.rebuilt[t.Key] = true
	p.steps = append(p.steps, s)
	return nil
}

// describe says in words why a table is rebuilt.
func describe(l, t *element.Element) string {
	var what []string
	if l.Key != t.Key {
		what = append(what, "formerly "+l.Key)
	}
	for _, c := range element.Compare(tableOnly(l), tableOnly(t)).Changes("x") {
		steps := strings.TrimPrefix(strings.TrimPrefix(c.Address.String(), "x::"), "x")
		if c.Kind == element.Edited {
			what = append(what, fmt.Sprintf("%s %s → %s", steps, c.From, c.To))
		} else {
			what = append(what, fmt.Sprintf("%s %s", steps, c.Kind))
		}
	}
	if len(what) == 0 {
		return ""
	}
	return ": " + strings.Join(what, ", ")
}

// value gives the expression that fills a column of a rebuilt table; empty
// leaves it to its default.
func (p *planner) value(l, t, k, c *element.Element, rows int64) (string, error) {
	def := c.Prop("default").Text()
	required := !c.Prop("not null").IsAbsent()
	if fill, ok := p.fill[t.Key+"."+c.Key]; ok && required && def == "" {
		def = "(" + fill + ")"
		if k == nil {
			return def, nil
		}
	}
	if k == nil {
		if required && def == "" && rows > 0 && c.Prop("primary key").IsAbsent() {
			return "", &RowsError{Table: t.Key, Column: c.Key, Rows: rows, Reason: "the new column takes no null and has no default"}
		}
		return "", nil
	}
	if required && k.Prop("not null").IsAbsent() {
		asked := k
		if was, expanded := p.was[k]; expanded {
			asked = was
		}
		switch {
		case asked == nil && def != "":
			return "coalesce(" + ident(k.Key) + ", " + def + ")", nil
		case asked == nil && rows > 0 && !p.due.Mends(l.Key, c.Key) && !p.due.Mends(t.Key, c.Key) && c.Prop("primary key").IsAbsent():
			return "", &RowsError{Table: t.Key, Column: c.Key, Rows: rows, Reason: "the new column takes no null and has no default"}
		case asked == nil: // a data step fills it
			return ident(k.Key), nil
		}
		nulls, err := p.rowsOf(ident(l.Key), ident(asked.Key)+" is null")
		if err != nil {
			return "", err
		}
		if nulls > 0 && def == "" && (p.due.Mends(l.Key, c.Key) || p.due.Mends(t.Key, c.Key)) {
			return ident(k.Key), nil
		}
		if nulls > 0 && def == "" {
			return "", &RowsError{Table: t.Key, Column: c.Key, Rows: nulls, Reason: "the column is to take no null any more, and has nulls"}
		}
		if nulls > 0 {
			return "coalesce(" + ident(k.Key) + ", " + def + ")", nil
		}
	}
	return ident(k.Key), nil
}

// lostColumns says what of a table's columns that do not go on would be lost, and keeps it.
func (p *planner) lostColumns(l *element.Element, continued map[*element.Element]bool) (lost []string, saves []Save, err error) {
	for _, k := range kidsOf(l, "column") {
		if continued[k] || !k.Prop("generated").IsAbsent() {
			continue
		}
		n, err := p.rowsOf(ident(l.Key), ident(k.Key)+" is not null")
		if err != nil {
			return nil, nil, err
		}
		if n > 0 {
			lost = append(lost, fmt.Sprintf("column %s.%s has %s", l.Key, k.Key, counted(n, "value")))
			saves = append(saves, Save{Table: ident(l.Key), Column: ident(k.Key)})
		}
	}
	return lost, saves, nil
}

const newPrefix = "oaken_new_"

func rebuildSQL(l, t *element.Element, into, from []string) []string {
	fresh := newPrefix + t.Key
	out := []string{tableSQL(t, fresh)}
	if len(into) > 0 {
		out = append(out, fmt.Sprintf("insert into %s (%s)\nselect %s from %s", ident(fresh), strings.Join(into, ", "),
			strings.Join(from, ", "), ident(l.Key)))
	}
	if counts(l) && counts(t) {
		out = append(out, fmt.Sprintf("update sqlite_sequence set seq = (select seq from sqlite_sequence where name = %s) where name = %s",
			text(l.Key), text(fresh)))
	}
	return append(out, "drop table "+ident(l.Key), "alter table "+ident(fresh)+" rename to "+ident(t.Key))
}

// counts says that the table's key is counted by the engine for good.
func counts(t *element.Element) bool {
	return slices.ContainsFunc(t.Children,
		func(c *element.Element) bool { return strings.Contains(c.Prop("primary key").Text(), "autoincrement") })
}

func text(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// dependents plans indexes, views and triggers: those that go or change are
// dropped before the tables are touched, the wanted ones made after.
func (p *planner) dependents() {
	var first []Step
	drop := func(owner, e *element.Element) {
		if !p.dropped[e.Type+e.Key] {
			address := at(e)
			if owner != nil {
				address = at(owner).Below(element.Step{Type: e.Type, Key: e.Key})
			}
			first = append(first, Step{Address: address, What: "drop the " + e.Type, Effect: Instant,
				Statements: []string{"drop " + e.Type + " " + ident(e.Key)}})
		}
	}
	for _, l := range p.live.Children {
		w := find(p.want, l.Type, l.Key)
		if l.Type == "view" && (w == nil || w.Prop("definition").String() != l.Prop("definition").String()) {
			p.takeAlong(l)
			drop(nil, l)
			if w != nil {
				p.rebuilt[w.Key] = true
			}
			continue
		}
		for _, k := range l.Children {
			if k.Type == "column" || k.Type == "constraint" {
				continue
			}
			var kw *element.Element
			if w != nil {
				kw = find(w, k.Type, k.Key)
			}
			if kw == nil || kw.Sum() != k.Sum() {
				drop(l, k)
			}
		}
	}
	p.steps = append(first, p.steps...)
	for _, w := range p.want.Children {
		p.make(w)
	}
}

// make plans what stands on a wanted table or view, and views themselves.
func (p *planner) make(w *element.Element) {
	l := find(p.live, w.Type, w.Key)
	anew := l == nil || p.rebuilt[w.Key]
	if w.Type == "view" && anew {
		p.late = append(p.late, Step{Address: at(w), What: "create the view", Effect: Instant,
			Statements: []string{w.Prop("definition").Text()}, AfterRows: p.due.Between})
	}
	for _, k := range append(sortedKids(w, "index"), sortedKids(w, "trigger")...) {
		if !anew {
			if old := find(l, k.Type, k.Key); old != nil && old.Sum() == k.Sum() {
				continue
			}
		}
		s := Step{Address: at(w).Below(element.Step{Type: k.Type, Key: k.Key}), What: "create the " + k.Type, Effect: Instant,
			Statements: []string{k.Prop("definition").Text()}, AfterRows: p.due.Between}
		if k.Type == "index" {
			p.steps = append(p.steps, s)
		} else {
			p.lateMost = append(p.lateMost, s)
		}
	}
}
