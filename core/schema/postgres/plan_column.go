package postgres

import (
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"oakenchest/core/element"
	"oakenchest/core/schema/step"
)

// addColumn plans a new column; again says that it was there with another content that
// the engine computes.
func (p *planner) addColumn(w object, head string, c *element.Element, again bool) {
	n := node{w, c, true}
	effect, what := Instant, "add the column "+c.Gist
	if again {
		what = "make the column again: " + c.Gist
	}
	if has(c, "generated") || has(c, "identity") || calls(textOf(c, "default")) {
		effect = Rewrites
	}
	id := w.name() + "." + ident(c.Key)
	if !has(c, "not null") || has(c, "default") || has(c, "generated") || has(c, "identity") || has(w.e, "server") || p.domainDefault(c) {
		p.add(n, what, effect, head+"add column "+ident(c.Key)+" "+columnText(c))
		p.fill(n, w, c, id)
		return
	}
	if p.err != nil {
		return
	}
	rows := int64(0)
	if _, there := p.live[w.id()]; there {
		rows = p.rows(p.tableNow(w), "")
	}
	if rows == 0 {
		p.add(n, what, effect, head+"add column "+ident(c.Key)+" "+columnText(c))
		return
	}
	value, ok := p.wanted.Fill[id]
	free := c.Clone()
	free.Set("not null", element.Value{})
	switch {
	case !ok && p.wanted.Due.Between && p.wanted.Due.Mends(w.e.Key, c.Key): // a data step sees to it
		p.add(n, "add the column "+c.Key+", which takes null until data steps have run", effect,
			head+"add column "+ident(c.Key)+" "+columnText(free))
		p.later(n, "refuse null", Scans, head+"alter column "+ident(c.Key)+" set not null")
		return
	case !ok:
		p.fail(&RowsError{Table: w.name(), Column: ident(c.Key), Rows: rows, Reason: "the new column takes no null and has no default"})
		return
	}
	if step.Constant(value) { // which the engine notes once, as a default, and not in each row
		p.add(n, what, effect, head+"add column "+ident(c.Key)+" "+columnText(c)+" default "+value,
			head+"alter column "+ident(c.Key)+" drop default")
		return
	}
	p.add(n, what, Rewrites, head+"add column "+ident(c.Key)+" "+columnText(free), "update "+w.name()+" set "+ident(c.Key)+" = "+value,
		head+"alter column "+ident(c.Key)+" set not null")
}

// fill gives the rows that are there a value other than the default.
func (p *planner) fill(n node, w object, c *element.Element, id string) {
	if value, ok := p.wanted.Fill[id]; ok && !has(c, "generated") {
		p.add(n, "fill the column", Rewrites, "update "+w.name()+" set "+ident(c.Key)+" = "+value)
	}
}

// domainDefault says that a column's type is a wanted domain with a default.
func (p *planner) domainDefault(c *element.Element) bool {
	n, ok := p.want["type "+textOf(c, "type")]
	return ok && has(n.e, "default")
}

// alterColumn plans what changes a column that stays.
func (p *planner) alterColumn(w object, head string, l, c *element.Element) {
	n := node{w, c, true}
	col := head + "alter column " + ident(c.Key) + " "
	if has(c, "inherited") || has(l, "inherited") {
		n.e = named(c, c.Key)
	}
	id := sub(w.id(), c)
	retyped := p.retyped[id]
	if has(l, "generated") && !has(c, "generated") {
		p.add(n, "keep the values as plain ones", Instant, col+"drop expression")
	}
	if has(l, "identity") && !has(c, "identity") {
		p.add(n, "stop the numbering", Instant, col+"drop identity")
	}
	if retyped {
		p.retype(n, w, col, l, c)
	} else {
		p.alterDefault(n, col, l, c)
	}
	if textOf(l, "default") != textOf(c, "default") {
		p.resetBelow(w, c.Key)
	}
	if !has(l, "not null") && has(c, "not null") {
		p.refuseNull(n, w, col, c)
	}
	if from, to := textOf(l, "identity"), textOf(c, "identity"); from != to && to != "" {
		if from == "" {
			p.add(n, "number the column", Instant, col+"add "+identityText(to), countOn(w, c))
		} else {
			p.alterIdentity(n, w, c, col, from, to)
		}
	}
	if has(l, "not null") && !has(c, "not null") && !has(c, "identity") {
		p.add(n, "allow null", Instant, col+"drop not null")
	}
	for _, pair := range [][2]string{{"storage", ""}, {"compression", "default"}, {"statistics", "-1"}} {
		name, usual := pair[0], pair[1]
		from, to := textOf(l, name), textOf(c, name)
		if name == "storage" && p.retyped[sub(w.id(), c)] {
			from = "" // the new type brings its own
		}
		if from == to || has(w.e, "server") && to == "" {
			continue
		}
		if to == "" {
			to = usual
			if name == "storage" {
				to = p.usualStorage(w, c)
			}
		}
		p.add(n, "change the "+name, Instant, col+"set "+name+" "+to)
	}
	if from, to := textOf(l, "set"), textOf(c, "set"); from != to {
		p.add(n, "change the options", Instant, prefixed(col, optionChanges(from, to))...)
	}
	if from, to := textOf(l, "options"), textOf(c, "options"); from != to {
		p.add(n, "change the options", Instant, col+"options ("+strings.Join(serverOptionChanges(from, to), ", ")+")")
	}
	p.alterOwned(n, w, l, c)
}

// resetBelow notes that the columns of tables below get a changed default too, so that
// their own must be set again.
func (p *planner) resetBelow(o object, column string) {
	for _, child := range p.heirs[o.name()] {
		p.reset[sub(child.id(), &element.Element{Type: "column", Key: column})] = true
		p.resetBelow(child, column)
	}
}

// usualStorage is what the type of a column has by itself.
func (p *planner) usualStorage(w object, c *element.Element) string {
	if p.err != nil {
		return ""
	}
	var s string
	err := p.conn.QueryRow(p.ctx, "select t.typstorage::text from pg_catalog.pg_attribute a join pg_catalog.pg_type t on t.oid = "+
		"a.atttypid where a.attrelid = $1::text::regclass and pg_catalog.quote_ident(a.attname) = $2", p.tableNow(w),
		p.columnNow(w, c)).Scan(&s)
	if err != nil {
		p.fail(EngineError(err))
	}
	return storages[s]
}

func (p *planner) alterOwned(n node, w object, l, c *element.Element) {
	from, to := textOf(l, "sequence"), textOf(c, "sequence")
	if from == to && !p.down["sequence "+to] {
		return
	}
	if to != "" {
		p.last = append(p.last, Step{Address: at(n), What: "let the sequence go with the column", Effect: Instant,
			Statements: []string{"alter sequence " + to + " owned by " + w.name() + "." + ident(c.Key), countOn(w, c)}})
	}
}

// identity options as SET gives them.
func (p *planner) alterIdentity(n node, w object, c *element.Element, col, from, to string) {
	fromHow, fromOptions, _ := strings.Cut(strings.TrimSuffix(from, ")"), " (")
	toHow, toOptions, _ := strings.Cut(strings.TrimSuffix(to, ")"), " (")
	var out []string
	if fromHow != toHow {
		out = append(out, col+"set generated "+toHow)
	}
	if fromOptions != toOptions {
		out = append(out, col+"drop identity", col+"add "+identityText(to), countOn(w, c))
		if fromHow != toHow {
			out = out[1:]
		}
	}
	p.add(n, "change the numbering", Instant, out...)
}

// refuseNull plans NOT NULL for a column that may have nulls.
func (p *planner) refuseNull(n node, w object, col string, c *element.Element) {
	if has(w.e, "server") {
		p.add(n, "refuse null", Instant, col+"set not null")
		return
	}
	nulls := int64(0)
	if lc, ok := p.live[sub(w.id(), c)]; ok && lc.e != nil || has(c, "inherited") {
		nulls = p.rows(p.tableNow(w), p.columnNow(w, c)+" is null")
	}
	if nulls > 0 {
		id := w.name() + "." + ident(c.Key)
		value, ok := p.wanted.Fill[id]
		if !ok {
			value = textOf(c, "default")
		}
		mended := p.wanted.Due.Mends(w.e.Key, c.Key)
		switch {
		case (value == "" || value == "null") && mended:
			p.later(n, "refuse null", Scans, col+"set not null")
			return
		case value == "" || value == "null":
			p.fail(&RowsError{Table: w.name(), Column: ident(c.Key), Rows: nulls,
				Reason: "the column is to take no null any more, and has nulls"})
			return
		}
		p.add(n, "fill "+counted(nulls, "null"), Rewrites,
			"update "+w.name()+" set "+ident(c.Key)+" = "+value+" where "+ident(c.Key)+" is null")
	}
	p.later(n, "refuse null", Scans, col+"set not null")
}

// later plans what comes after the data steps, where there are any.
func (p *planner) later(n node, what string, effect Effect, statement string) {
	p.steps = append(p.steps, Step{Address: at(n), What: what, Effect: effect, Statements: []string{statement},
		AfterRows: p.wanted.Due.Between})
}

// retype plans another type for a column, with a cast of its values.
func (p *planner) retype(n node, w object, col string, l, c *element.Element) {
	from, to := textOf(l, "type"), textOf(c, "type")
	if has(c, "inherited") {
		return
	}
	var out []string
	if has(l, "default") && !p.down[sub(w.id(), c)+".default"] {
		out = append(out, col+"drop default")
	}
	if has(l, "default") || has(c, "default") {
		p.resetBelow(w, c.Key)
	}
	sql := col + "type " + to
	if v := textOf(c, "collate"); v != "" {
		sql += " collate " + v
	}
	using := ident(c.Key) + "::" + to
	set := p.replacedType(to) || p.replacedType(from)
	if set {
		using = ident(c.Key) + "::text::" + to
		if strings.HasSuffix(to, "[]") {
			using = ident(c.Key) + "::text[]::" + to
		}
	}
	if !has(c, "generated") && !has(w.e, "server") {
		sql += " using " + using
	}
	out = append(out, sql)
	if v := textOf(c, "default"); v != "" {
		out = append(out, col+"set default "+v)
	}
	s := Step{Address: at(n), What: "change the type: " + from + " → " + to, Effect: Rewrites, Statements: out}
	if !set && from != to && keepsRows(from, to) && textOf(l, "collate") == textOf(c, "collate") {
		s.Effect = Locks
	}
	switch {
	case from == to && set:
		s.What = "move the values to the new type"
	case from == to:
		s.What = "change the collation"
	}
	if !set && from != to && !has(w.e, "server") {
		p.lossOfType(&s, w, c, from, to)
	}
	p.steps = append(p.steps, s)
}

// replacedType says that a type, or that of an array's items, is made anew.
func (p *planner) replacedType(typ string) bool {
	return p.down["type "+strings.TrimSuffix(typ, "[]")]
}

// lossOfType counts the values that do not come back from the new type as they were, and are
// not written alike in it.
func (p *planner) lossOfType(s *Step, w object, c *element.Element, from, to string) {
	if p.err != nil {
		return
	}
	if n, ok := p.live["type "+strings.TrimSuffix(to, "[]")]; !ok && n.e == nil && p.wants("type "+strings.TrimSuffix(to, "[]")) {
		return // a type that is not there yet: what does not fit, fails
	}
	name, table := p.columnNow(w, c), p.tableNow(w)
	cast := name + "::" + to
	if castless(p.conn.QueryRow(p.ctx, fmt.Sprintf("select count(%s) from %s where false", cast, table)).Scan(new(int64))) {
		cast = name + "::text::" + to
		for i, sql := range s.Statements {
			s.Statements[i] = strings.Replace(sql, " using "+ident(c.Key)+"::"+to, " using "+ident(c.Key)+"::text::"+to, 1)
		}
	}
	alike := int64(0) // values that are written alike, and would not come back as they were
	asked := func(condition, back string) (rows int64, err error) {
		one := func(where string) (n int64, err error) {
			return p.counting.Rows(table, where,
				func(query string) (n int64, err error) { return n, p.conn.QueryRow(p.ctx, query).Scan(&n) })
		}
		set := name + " is not null and "
		if rows, err = one(set + condition + " and " + back); err == nil {
			alike, err = one(set + "not (" + condition + ") and " + back)
		}
		return rows, err
	}
	written := "(" + cast + ")::text is distinct from " + name + "::text"
	back := "(" + cast + ")::" + from + " is distinct from " + name
	fits, filled := "", int64(0)
	rows, err := asked(written, back)
	if err != nil {
		if _, refused := asked("("+cast+") is null", "true"); refused != nil { // not all of them become that
			if fits, filled = p.unfit(s, w, c, cast, from, to, refused); fits == "" {
				return
			}
			written, back = "case when "+fits+" then "+written+" end", "case when "+fits+" then "+back+" end"
		}
		if rows, err = asked(written, back); err != nil { // there is no way back
			rows, err = asked(written, "true")
		}
	}
	if err != nil {
		p.fail(EngineError(err))
		return
	}
	if rows += filled; rows > 0 {
		s.Effect, s.Loss = Loses, fmt.Sprintf("column %s.%s has %s as %s", w.name(), name, step.Changing(rows), to)
	}
	if rows+alike > 0 {
		s.Saves = []Save{{Table: table, Column: name}}
	}
}

// unfit deals with values that can't become a new type: each gets the value that somebody gave
// for them, or they are in the way. It gives the condition for those that fit.
func (p *planner) unfit(s *Step, w object, c *element.Element, cast, from, to string, refused error) (fits string, filled int64) {
	name, table := p.columnNow(w, c), p.tableNow(w)
	const test = "pg_temp.oaken_fits"
	make := "create or replace function " + test + "(v " + from + ") returns boolean language plpgsql as $$ begin perform " +
		strings.Replace(cast, name, "v", 1) + "; return true; exception when others then return false; end $$"
	_, err := p.conn.Exec(p.ctx, make)
	if err == nil {
		err = p.conn.QueryRow(p.ctx, "select count(*) from "+table+" where "+name+" is not null and not "+test+"("+name+")").Scan(&filled)
	}
	value, ok := p.wanted.Fill[w.name()+"."+ident(c.Key)]
	if err != nil || !ok {
		if p.wanted.Due.Before && p.wanted.Due.Mends(w.e.Key) { // a data step may see to it
			return "", 0
		}
		if err != nil {
			_ = p.conn.QueryRow(p.ctx, "select count("+name+") from "+table).Scan(&filled)
		}
		p.fail(&RowsError{Table: w.name(), Column: name, Rows: filled, Reason: fmt.Sprintf("not all of its values can become %s (%v)", to,
			EngineError(refused)), NoFill: err != nil})
		return "", 0
	}
	for i, sql := range s.Statements {
		if head, using, found := strings.Cut(sql, " using "); found {
			s.Statements[i] = head + " using case when " + ident(c.Key) + " is null or " + test + "(" + ident(c.Key) + ") then " + using +
				" else (" + value + ")::" + to + " end"
		}
	}
	s.Statements = append([]string{make}, s.Statements...)
	return test + "(" + name + ")", filled
}

// castless says that the engine knows no way from one type to another.
func castless(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && pg.Code == "42846"
}
