package mariadb

import (
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/schema/step"
)

// tables creates new tables and alters those that stay, each with one statement.
func (p *planner) tables() {
	for _, w := range kids(p.want, "table") {
		l := kid(p.live, "table", w.Key)
		if l == nil {
			p.add(w, nil, "create the table", Instant, tableSQL(w, true))
		} else if l.Sum() != w.Sum() {
			p.alter(l, w)
		}
		for _, c := range kids(w, "constraint") {
			if !foreign(c) {
				continue
			}
			effect := Instant
			if l != nil {
				if lc := kid(l, "constraint", c.Key); lc != nil && lc.Sum() == c.Sum() && !p.touched(l, c) {
					continue
				}
				effect = Rewrites // while the engine looks at foreign keys, it copies the table
				if lc := kid(l, "constraint", c.Key); lc == nil || lc.Sum() != c.Sum() {
					p.leadsSomewhere(l, w, c)
				}
			}
			statements := append(p.ownIndex(l, w, c), "alter table "+ident(w.Key)+" add "+constraintSQL(c))
			p.foreign = append(p.foreign, Step{Address: at(w, c), What: "add the foreign key", Effect: effect, AfterRows: true,
				Statements: statements})
		}
	}
}

// ownIndex makes the index that a foreign key brought with it, and that stays when the key is
// taken away for a while, one of its own: else the engine replaces it by another when the key
// comes again ("Foreign Keys": an index that was made by itself may be dropped silently).
func (p *planner) ownIndex(l, w, c *element.Element) []string {
	if l == nil || kid(l, "constraint", c.Key) == nil {
		return nil
	}
	from, _ := keyParts(textOf(c, "definition"))
	for _, k := range kids(w, "index") {
		def := textOf(k, "definition")
		parts, _ := keyParts(def)
		if lk := kid(l, "index", k.Key); lk != nil && lk.Sum() == k.Sum() && strings.HasPrefix(def, "key ") && slices.Equal(parts, from) {
			return []string{"alter table " + ident(w.Key) + " drop index " + ident(k.Key) + ", add " + def}
		}
	}
	return nil
}

// alteration gathers what is done to one table: with one ALTER TABLE, or, when data steps come
// between, with one that adds and one that takes away and holds rows to more.
type alteration struct {
	*batch
	p              *planner
	l, w           *element.Element
	expand, narrow *batch
	fates          map[string]fate // of the values of columns that get another type, by name
	first          []Step          // what has to be done before the statement, each by itself
}

// batch is what one ALTER TABLE does.
type batch struct {
	parts  []string
	before []string // statements that come first
	what   []string
	effect Effect
	loss   []string
	saves  []Save
}

func (p *planner) alteration(l, w *element.Element) *alteration {
	a := &alteration{p: p, l: l, w: w, expand: &batch{effect: Instant}}
	a.batch, a.narrow = a.expand, a.expand
	if p.wanted.Due.Between {
		a.narrow = &batch{effect: Instant}
	}
	return a
}

// later plans what comes after data steps.
func (a *alteration) later(plan func()) {
	now := a.batch
	a.batch = a.narrow
	plan()
	a.batch = now
}

func (a *alteration) do(effect Effect, what, part string) {
	a.parts = append(a.parts, part)
	if what != "" {
		a.what = append(a.what, what)
	}
	a.raise(effect)
}

var severity = []Effect{Instant, Scans, Rewrites, Loses}

func (a *alteration) raise(effect Effect) {
	if slices.Index(severity, effect) > slices.Index(severity, a.effect) {
		a.effect = effect
	}
}

func (p *planner) alter(l, w *element.Element) {
	a := p.alteration(l, w)
	a.dropParts()
	a.columns()
	a.foresee()
	a.addParts()
	a.options()
	p.steps = append(p.steps, a.first...)
	if p.err != nil {
		return
	}
	a.statement(false)
	if a.narrow != a.expand {
		a.later(func() { a.statement(true) })
	}
	a.partitions()
}

// statement adds the step of a batch.
func (a *alteration) statement(late bool) {
	if len(a.parts)+len(a.before) == 0 {
		return
	}
	statements := a.before
	if len(a.parts) > 0 {
		statements = append(statements, "alter table "+ident(a.w.Key)+"\n  "+join(a.parts))
	}
	a.p.steps = append(a.p.steps, Step{Address: at(a.w, nil), What: "alter the table: " + strings.Join(a.what, ", "), Effect: a.effect,
		Loss: strings.Join(a.loss, ", "), Saves: a.saves, Statements: statements, AfterRows: late})
}

// dropParts drops indexes and checks that go or change.
func (a *alteration) dropParts() {
	for _, k := range kids(a.l, "constraint") {
		if wk := kid(a.w, "constraint", k.Key); !foreign(k) && (wk == nil || wk.Sum() != k.Sum()) {
			a.do(Instant, "drop the check "+k.Key, "drop constraint "+ident(k.Key))
		}
	}
	for _, k := range kids(a.l, "index") {
		wk := kid(a.w, "index", k.Key)
		if wk != nil && wk.Sum() == k.Sum() {
			continue
		}
		drop := func() {
			if k.Key == "primary" {
				a.do(Rewrites, "drop the primary key", "drop primary key")
			} else {
				a.do(Instant, "drop the index "+k.Key, "drop index "+ident(k.Key))
			}
		}
		if wk != nil && a.holds(wk) {
			a.later(drop) // with the one that takes its place
		} else {
			drop()
		}
	}
}

// holds says that an index holds rows to something, and can wait until they comply: a column
// that counts needs its key at once.
func (a *alteration) holds(k *element.Element) bool {
	def := textOf(k, "definition")
	parts, _ := keyParts(def)
	for _, x := range parts {
		if c := kid(a.w, "column", x.name); c != nil && has(c, "auto increment") {
			return false
		}
	}
	return strings.HasPrefix(def, "unique") || k.Key == "primary"
}

func (a *alteration) addParts() {
	for _, k := range kids(a.w, "index") {
		if lk := kid(a.l, "index", k.Key); lk != nil && lk.Sum() == k.Sum() {
			continue
		}
		effect := Scans
		if k.Key == "primary" {
			effect = Rewrites
		}
		add := func() { a.do(effect, "add the index "+k.Key, "add "+textOf(k, "definition")) }
		if a.holds(k) {
			a.later(add)
		} else {
			add()
		}
	}
	for _, k := range kids(a.w, "constraint") {
		if lk := kid(a.l, "constraint", k.Key); !foreign(k) && (lk == nil || lk.Sum() != k.Sum()) {
			a.later(func() { a.do(Rewrites, "add the check "+k.Key, "add "+constraintSQL(k)) })
		}
	}
}

// source gives the live column that a wanted column continues, or nil.
func (a *alteration) source(c *element.Element) *element.Element {
	if lc := kid(a.l, "column", c.Key); lc != nil {
		for _, o := range kids(a.w, "column") { // another goes on from it
			if a.p.wanted.Formerly[sub(ID(a.w), o)] == c.Key && kid(a.l, "column", o.Key) == nil {
				return nil
			}
		}
		return lc
	}
	old := a.p.wanted.Formerly[sub(ID(a.w), c)]
	if old == "" {
		return nil
	}
	return kid(a.l, "column", old)
}

func (a *alteration) columns() {
	a.askFates()
	continued := map[*element.Element]bool{}
	place := "first"
	var changes []func()
	for _, c := range kids(a.w, "column") {
		lc := a.source(c)
		where := place
		switch {
		case lc == nil:
			changes = append(changes, func() { a.addColumn(c, where) })
		default:
			continued[lc] = true
			if lc.Key != c.Key || !sameColumn(lc, c) {
				changes = append(changes, func() { a.changeColumn(lc, c) })
			}
		}
		place = "after " + ident(c.Key)
	}
	for _, lc := range kids(a.l, "column") {
		if !continued[lc] {
			a.later(func() { a.dropColumn(lc) })
		}
	}
	for _, change := range changes {
		change()
	}
}

func sameColumn(a, b *element.Element) bool {
	return sameProps(a, b, func(string) bool { return true })
}

func (a *alteration) dropColumn(c *element.Element) {
	effect := Instant
	if has(c, "stored") {
		effect = Rewrites
	}
	a.do(effect, "drop the column "+c.Key, "drop column "+ident(c.Key))
	if has(c, "generated") {
		return
	}
	table := a.p.now(a.w)
	if n := a.p.rows(table, ident(c.Key)+" is not null"); n > 0 {
		a.raise(Loses)
		a.loss = append(a.loss, fmt.Sprintf("column %s.%s has %s", ident(a.w.Key), ident(c.Key), counted(n, "value")))
		a.saves = append(a.saves, Save{Table: table, Column: ident(c.Key)})
	}
}

// free says that a column needs no value of its own.
func free(c *element.Element) bool {
	return !has(c, "not null") || has(c, "default") || has(c, "auto increment") || has(c, "generated")
}

func (a *alteration) addColumn(c *element.Element, where string) {
	text := "add column " + columnSQL(c) + " " + where
	name := a.w.Key + "." + c.Key
	value, filled := a.p.wanted.Fill[name]
	open := c.Clone()
	open.Set("not null", element.Value{})
	if !free(c) && !filled {
		rows := a.p.rows(a.p.now(a.w), "")
		switch {
		case rows > 0 && a.p.wanted.Due.Between && a.p.wanted.Due.Mends(a.w.Key, c.Key): // a data step sees to it
			a.do(Instant, "add the column "+c.Key+", which takes null until data steps have run", "add column "+columnSQL(open)+" "+where)
			a.later(func() { a.do(Rewrites, "refuse null in "+c.Key, "modify column "+columnSQL(c)) })
			return
		case rows > 0:
			a.p.fail(&RowsError{Table: ident(a.w.Key), Column: ident(c.Key), Rows: rows,
				Reason: "the new column takes no null and has no default"})
			return
		}
	}
	if !filled {
		effect := Instant
		if has(c, "stored") || has(c, "auto increment") {
			effect = Rewrites
		}
		a.do(effect, "add the column "+c.Key, text)
		return
	}
	early, late := where, "" // what it is to stand behind may not be there yet
	if name := strings.TrimPrefix(where, "after "); name != where && !a.there(name) {
		early, late = "", " "+where
	}
	if step.Constant(value) && !has(c, "default") && !has(c, "generated") && !has(c, "auto increment") { // noted once, not in each row
		filled := c.Clone()
		setText(filled, "default", value)
		a.before = append(a.before, "alter table "+ident(a.w.Key)+" add column "+strings.TrimSpace(columnSQL(filled)+" "+early))
		drop := "alter column " + ident(c.Key) + " drop default"
		if late != "" {
			drop = "modify column " + columnSQL(c) + late
		}
		a.do(Instant, "add the column "+c.Key+" and fill it", drop)
		return
	}
	a.before = append(a.before, "alter table "+ident(a.w.Key)+" add column "+strings.TrimSpace(columnSQL(open)+" "+early),
		"update "+ident(a.w.Key)+" set "+ident(c.Key)+" = "+value)
	a.do(Rewrites, "add the column "+c.Key+" and fill it", "modify column "+columnSQL(c)+late)
}

func (a *alteration) changeColumn(l, c *element.Element) {
	effect := a.cost(l, c)
	if a.openFor(l, c) {
		whole := c
		c = c.Clone()
		c.Set("not null", element.Value{})
		a.later(func() {
			a.notNull(l, whole)
			a.do(Rewrites, "refuse null in "+c.Key, "modify column "+columnSQL(whole))
		})
		if l.Key == c.Key && sameColumn(l, c) {
			return
		}
	} else {
		a.notNull(l, c)
	}
	if has(c, "generated") && !has(l, "generated") || has(l, "generated") && has(l, "stored") != has(c, "stored") {
		a.do(Rewrites, "make the column "+c.Key+" again", "drop column "+ident(l.Key))
		a.parts = append(a.parts, "add column "+columnSQL(c)+" "+a.place(c))
		return
	}
	if a.lose(l, c) {
		return
	}
	if l.Key != c.Key {
		a.do(effect, "rename the column "+l.Key+" to "+c.Key, "change column "+ident(l.Key)+" "+columnSQL(c))
		return
	}
	what := "change the column " + c.Key
	if textOf(l, "type") != textOf(c, "type") {
		what += ": " + textOf(l, "type") + " → " + textOf(c, "type")
	}
	a.do(effect, what, "modify column "+columnSQL(c))
}

// there reports whether the live table has a column under the name that is wanted, as it is written.
func (a *alteration) there(name string) bool {
	for _, l := range kids(a.l, "column") {
		if w := kid(a.w, "column", l.Key); ident(l.Key) == name && w != nil && a.source(w) == l {
			return true
		}
	}
	return false
}

// openFor says that a column takes nulls until data steps have seen to them.
func (a *alteration) openFor(l, c *element.Element) bool {
	return a.narrow != a.expand && has(c, "not null") && !has(l, "not null") && !has(c, "generated") && !has(c, "auto increment")
}

// place says where a column stands.
func (a *alteration) place(c *element.Element) string {
	place := "first"
	for _, o := range kids(a.w, "column") {
		if o.Key == c.Key {
			break
		}
		place = "after " + ident(o.Key)
	}
	return place
}

// notNull fills the nulls of a column that is to take none.
func (a *alteration) notNull(l, c *element.Element) {
	if has(l, "not null") || !has(c, "not null") || has(c, "generated") {
		return
	}
	table := a.p.now(a.w)
	nulls := a.p.rows(table, ident(l.Key)+" is null")
	if nulls == 0 {
		return
	}
	value, ok := a.p.wanted.Fill[a.w.Key+"."+c.Key]
	if !ok {
		value = textOf(c, "default")
	}
	if value == "" && a.p.wanted.Due.Mends(a.w.Key, c.Key) {
		return
	}
	if value == "" {
		a.p.fail(&RowsError{Table: ident(a.w.Key), Column: ident(c.Key), Rows: nulls,
			Reason: "the column is to take no null any more, and has nulls"})
		return
	}
	name := l.Key
	if a.batch != a.expand { // it has its new name by then
		name = c.Key
	}
	a.before = append(a.before, "update "+ident(a.w.Key)+" set "+ident(name)+" = "+value+" where "+ident(name)+" is null")
	a.what = append(a.what, "fill "+counted(nulls, "null"))
	a.raise(Rewrites)
}

func (p *planner) fail(err error) {
	if p.err == nil {
		p.err = err
	}
}

func (a *alteration) options() {
	differs := func(name string) bool { return textOf(a.l, name) != textOf(a.w, name) }
	if differs("engine") && has(a.w, "engine") {
		a.do(Rewrites, "change the engine", "engine="+textOf(a.w, "engine"))
	}
	if differs("charset") || differs("collate") {
		text := ""
		if v := textOf(a.w, "charset"); v != "" {
			text = "default charset=" + v
		}
		if v := textOf(a.w, "collate"); v != "" {
			text = strings.TrimSpace(text + " collate=" + v)
		}
		a.do(Instant, "change the character set", text)
		for _, c := range kids(a.w, "column") { // those that have the table's own
			if lc := kid(a.l, "column", c.Key); lc != nil && sameColumn(lc, c) && textual(c) && !has(c, "collate") {
				if a.lose(lc, c) {
					continue
				}
				own := c.Clone()
				setText(own, "charset", textOf(a.w, "charset"))
				setText(own, "collate", textOf(a.w, "collate"))
				a.do(Rewrites, "", "modify column "+columnSQL(own))
			}
		}
	}
	if differs("row format") {
		v := textOf(a.w, "row format")
		if v == "" {
			v = "default"
		}
		a.do(Rewrites, "change the row format", "row_format="+v)
	}
	if differs("key block size") {
		v := textOf(a.w, "key block size")
		if v == "" {
			v = "0"
		}
		a.do(Rewrites, "change the block size", "key_block_size="+v)
	}
	if differs("comment") {
		a.do(Instant, "change the comment", "comment="+literal(textOf(a.w, "comment")))
	}
	if differs("counting from") && has(a.w, "counting from") {
		a.do(Instant, "change where counting stands", "auto_increment="+textOf(a.w, "counting from"))
	}
	if has(a.l, "versioned") != has(a.w, "versioned") {
		if has(a.w, "versioned") {
			a.do(Rewrites, "keep versions of rows", "add system versioning")
		} else {
			a.do(Loses, "keep no versions of rows", "drop system versioning")
			a.loss = append(a.loss, "the older versions of the rows of "+ident(a.w.Key))
		}
	}
	if differs("options of the engine") && has(a.w, "options of the engine") {
		a.do(Rewrites, "change the options", textOf(a.w, "options of the engine"))
	}
	if differs("partition by") && len(a.parts) == 0 {
		what, effect, sql := repartition(a.l, a.w)
		a.what = append(a.what, what)
		a.raise(effect)
		a.before = append(a.before, sql)
	}
}

func textual(c *element.Element) bool {
	t := textOf(c, "type")
	return strings.Contains(t, "char") || strings.Contains(t, "text") || strings.HasPrefix(t, "enum") || strings.HasPrefix(t, "set(") ||
		strings.HasPrefix(t, "set (")
}

// partitions changes them after all else, in a statement of its own.
func (a *alteration) partitions() {
	if textOf(a.l, "partition by") != textOf(a.w, "partition by") && len(a.parts) > 0 {
		what, effect, sql := repartition(a.l, a.w)
		a.p.steps = append(a.p.steps, Step{Address: at(a.w, nil), What: what, Effect: effect, Statements: []string{sql},
			AfterRows: a.narrow != a.expand})
	}
}
