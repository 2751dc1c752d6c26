package mariadb

import (
	"fmt"

	"oakenchest/core/element"
	"oakenchest/core/schema/step"
)

// fate is how many values of a column do not come through a change of its type.
type fate struct {
	to                      string
	changed, short, refused int64
	// also is a condition for the rows that the engine does not take.
	also string
	// other says that values which are written alike would not come back as they were.
	other bool
}

// laxMode lets the engine cut off what does not fit.
const laxMode = "ERROR_FOR_DIVISION_BY_ZERO,NO_AUTO_CREATE_USER,NO_ENGINE_SUBSTITUTION"

// askFates asks the rows of a table what becomes of them in all columns that get another type.
func (a *alteration) askFates() {
	a.fates = map[string]fate{}
	for _, c := range kids(a.w, "column") {
		l := a.source(c)
		if l == nil || has(c, "generated") || has(l, "generated") {
			continue
		}
		from, to := typeOf(a.l, l), typeOf(a.w, c)
		if textType(from) == textType(to) && (from.charset == to.charset || !textual(c)) {
			continue
		}
		b := becomes(ident(l.Key), from, to)
		b.column, b.to = c.Key, textOf(c, "type")
		if b.tried {
			a.try(l, c)
			continue
		}
		if b.changed == "" && b.short == "" && b.refused == "" {
			continue
		}
		ask := func(condition string) int64 {
			if condition == "" || a.p.err != nil {
				return 0
			}
			return a.p.rows(a.p.now(a.w), condition)
		}
		a.fates[b.column] = fate{b.to, ask(b.changed), ask(b.short), ask(b.refused), b.refused, b.other}
	}
}

// lose plans what becomes of values that do not come through: it reports whether the column's
// change is planned with that.
func (a *alteration) lose(l, c *element.Element) bool {
	f, ok := a.fates[c.Key]
	saves := Save{Table: a.p.now(a.w), Column: ident(l.Key)}
	if ok && f.changed+f.short+f.refused == 0 && f.other {
		a.saves = append(a.saves, saves)
	}
	if !ok || f.changed+f.short+f.refused == 0 {
		return false
	}
	name := ident(a.w.Key) + "." + ident(c.Key)
	lost := f.changed + f.short
	var own []string
	if f.refused > 0 {
		value, filled := a.p.wanted.Fill[a.w.Key+"."+c.Key]
		if a.p.wanted.Due.Before && a.p.wanted.Due.Mends(a.w.Key) && (!filled || f.also == "") {
			return false // a data step may see to it
		}
		alone := f.also != "" || !a.indexed(c)
		if !filled || !alone {
			a.p.fail(&RowsError{Table: ident(a.w.Key), Column: ident(c.Key), Rows: f.refused, Reason: "not all of its values can become " +
				f.to, NoFill: !alone})
			return true
		}
		if f.also == "" || f.short == 0 && !a.indexed(c) { // the value is one of the new type
			a.anew(l, c, value, f)
			return true
		}
		own = append(own, "update "+ident(a.w.Key)+" set "+ident(l.Key)+" = "+value+" where "+f.also)
		a.what = append(a.what, "fill "+counted(f.refused, "value")+" that can't become "+f.to)
		lost += f.refused
	}
	loss := fmt.Sprintf("column %s has %s as %s", name, step.Changing(lost), f.to)
	if f.short == 0 {
		a.raise(Loses)
		a.before = append(a.before, own...)
		a.loss, a.saves = append(a.loss, loss), append(a.saves, saves)
		return false
	}
	short, whole := c, true // alone: what else is filled is filled strictly
	if has(c, "not null") && !has(l, "not null") {
		short, whole = c.Clone(), false // nulls stay nulls, for the statement that follows
		short.Key = l.Key
		short.Set("not null", element.Value{})
	}
	verb := "modify column " + columnSQL(short)
	if l.Key != short.Key {
		verb = "change column " + ident(l.Key) + " " + columnSQL(short)
	}
	what := fmt.Sprintf("shorten the column %s: %s → %s", c.Key, textOf(l, "type"), f.to)
	statements := append(own, "alter table "+ident(a.w.Key)+" "+verb)
	a.first = append(a.first, Step{Address: at(a.w, c), What: what, Effect: Loses, Loss: loss, Saves: []Save{saves}, Statements: statements,
		Mode: laxMode})
	return whole
}

// anew plans a column of which not all values can become another type: it is made again beside the
// old one, and those get the value that somebody gave; all of them, where nobody can tell which.
func (a *alteration) anew(l, c *element.Element, value string, f fate) {
	open := c.Clone()
	open.Key = "oaken_new_" + c.Key
	open.Set("not null", element.Value{})
	table := ident(a.w.Key)
	a.before = append(a.before, "alter table "+table+" add column "+columnSQL(open))
	set := "update " + table + " set " + ident(open.Key) + " = "
	if f.also == "" {
		a.before = append(a.before, set+value+" where "+ident(l.Key)+" is not null")
	} else {
		a.before = append(a.before, set+ident(l.Key)+" where not ("+f.also+")", set+value+" where "+f.also)
	}
	a.do(Rewrites, "make the column "+c.Key+" again and fill it", "drop column "+ident(l.Key))
	a.parts = append(a.parts, "change column "+ident(open.Key)+" "+columnSQL(c)+" "+a.place(c))
	table = a.p.now(a.w)
	lost := f.changed + f.refused
	if f.also == "" {
		lost = a.p.rows(table, ident(l.Key)+" is not null")
	}
	if lost > 0 {
		a.raise(Loses)
		a.loss = append(a.loss, fmt.Sprintf("column %s.%s has %s as %s", ident(a.w.Key), ident(l.Key), step.Changing(lost), f.to))
		a.saves = append(a.saves, Save{Table: table, Column: ident(l.Key)})
	}
}

// try converts a copy of a column's values to a type of which no condition tells, and back.
func (a *alteration) try(l, c *element.Element) {
	p := a.p
	if p.err != nil || p.wanted.Counting.Rehearsing() {
		return
	}
	table, name, from, to := p.now(a.w), ident(l.Key), textOf(l, "type"), textOf(c, "type")
	const probe = "oaken_probe"
	as := func(typ string, e *element.Element) string {
		if v := textOf(e, "charset"); v != "" {
			return typ + " character set " + v
		}
		return typ
	}
	run := func(statements ...string) error {
		for _, sql := range statements {
			if _, err := p.q.ExecContext(p.ctx, sql); err != nil {
				return err
			}
		}
		return nil
	}
	defer func() {
		_ = run("drop temporary table if exists "+probe, "set sql_mode = "+literal(usualMode)) // else with the connection
	}()
	if err := run("set sql_mode = "+literal(usualMode), "create temporary table "+probe+" (was "+as(from, l)+", `is` "+as(from,
		l)+", back "+as(from, l)+")",
		"insert into "+probe+" select "+name+", "+name+", "+name+" from "+table+" where "+name+" is not null"); err != nil {
		p.fail(fmt.Errorf("what becomes of %s.%s as %s can't be tried: %w", table, name, to, EngineError(err)))
		return
	}
	f := fate{to: to}
	switch err := run("alter table " + probe + " modify column `is` " + as(to, c) + ", modify column back " + as(to, c)); {
	case err != nil:
		f.refused = p.count("select count(" + name + ") from " + table)
	case run("set sql_mode = "+literal(laxMode), "alter table "+probe+" modify column back "+as(from, l)) != nil: // there is no way back
		f.changed = p.count("select count(*) from " + probe + " where not cast(was as char) <=> cast(`is` as char)")
		f.other = p.count("select count(*) from "+probe) > 0
	default:
		f.changed = p.count("select count(*) from " + probe +
			" where not cast(was as char) <=> cast(`is` as char) and not cast(was as binary) <=> cast(back as binary)")
		f.other = p.count("select count(*) from "+probe+" where not cast(was as binary) <=> cast(back as binary)") > 0
	}
	a.fates[c.Key] = f
}
