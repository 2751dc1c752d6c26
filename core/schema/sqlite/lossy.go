package sqlite

import (
	"errors"
	"fmt"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/schema/step"
)

// affinity gives how the engine stores values of a column with a declared type:
// https://www.sqlite.org/datatype3.html section 3.1.
func affinity(typ string) string {
	typ = strings.ToUpper(typ)
	has := func(words ...string) bool {
		for _, w := range words {
			if strings.Contains(typ, w) {
				return true
			}
		}
		return false
	}
	switch {
	case has("INT"):
		return "integer"
	case has("CHAR", "CLOB", "TEXT"):
		return "text"
	case typ == "" || has("BLOB"):
		return "blob"
	case has("REAL", "FLOA", "DOUB"):
		return "real"
	}
	return "numeric"
}

// retyped asks the rows of a table what becomes of the values of a column k that goes on as c:
// how many become others, how many come back as others though they are written alike, and how many
// the engine does not take. The values are copied into a
// table of the new type, and back, as the engine itself converts them.
func (p *planner) retyped(l, t, k, c *element.Element) (changed, alike, refused int64, err error) {
	strict := !t.Prop("strict").IsAbsent()
	from, to := k.Prop("type").Text(), c.Prop("type").Text()
	if affinity(from) == affinity(to) && (!strict || !l.Prop("strict").IsAbsent() && strings.EqualFold(from, to)) {
		return 0, 0, 0, nil
	}
	run := func(text string) error { _, err := p.q.ExecContext(p.ctx, text); return err }
	defer func() {
		err = errors.Join(err, run("drop table if exists temp.oaken_probe"), run("drop table if exists temp.oaken_back"))
	}()
	options, any := "", ""
	if strict {
		options, any = " strict", " any"
	}
	if err := run("create temp table oaken_probe (was" + any + ", v " + to + ")" + options); err != nil {
		return 0, 0, 0, err
	}
	name, table := ident(k.Key), ident(l.Key)
	if err := run("insert into temp.oaken_probe select " + name + ", " + name + " from main." + table + " where " + name +
		" is not null"); err != nil {
		if !strings.Contains(err.Error(), "cannot store") { // in a column of another type
			return 0, 0, 0, err
		}
		refused, err := p.count("select count(" + name + ") from " + table)
		return 0, 0, refused, err
	}
	if err := errors.Join(run("create temp table oaken_back (was, v, back "+from+")"),
		run("insert into temp.oaken_back select was, v, v from temp.oaken_probe")); err != nil {
		return 0, 0, 0, err
	}
	other := inFull("v") + " is not " + inFull("was")
	err = p.q.QueryRowContext(p.ctx,
		"select coalesce(sum("+other+"), 0), coalesce(sum(not ("+other+")), 0) from temp.oaken_back where back is not was or "+
			"typeof(back) <> typeof(was)").Scan(&changed, &alike)
	return changed, alike, 0, err
}

// inFull is how a value is written in full: a number with all its digits.
func inFull(v string) string {
	return "case typeof(" + v + ") when 'real' then format('%!.17g', " + v + ") else cast(" + v + " as text) end"
}

// lostValues says what of the values of columns that get another type would be lost, and
// keeps it.
func (p *planner) lostValues(l, t *element.Element) (lost []string, saves []Save, err error) {
	for _, c := range kidsOf(t, "column") {
		k := p.source(l, t, c)
		if k == nil || !c.Prop("generated").IsAbsent() || !k.Prop("generated").IsAbsent() {
			continue
		}
		if p.counting.Rehearsing() {
			continue
		}
		changed, alike, refused, err := p.retyped(l, t, k, c)
		if err != nil {
			return nil, nil, err
		}
		to := c.Prop("type").Text()
		if refused > 0 && !p.due.Mends(t.Key) { // else data steps may see to it
			return nil, nil, &RowsError{Table: t.Key, Column: c.Key, Rows: refused, Reason: "not all of its values can become " + to,
				NoFill: true}
		}
		if changed > 0 {
			lost = append(lost, fmt.Sprintf("column %s.%s has %s as %s", l.Key, k.Key, step.Changing(changed), to))
		}
		if changed+alike > 0 { // a number that was a text comes back as that
			saves = append(saves, Save{Table: ident(l.Key), Column: ident(k.Key)})
		}
	}
	return lost, saves, nil
}
