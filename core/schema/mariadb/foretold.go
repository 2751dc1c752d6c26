package mariadb

import (
	"fmt"
	"strconv"
	"strings"

	"oakenchest/core/element"
)

// This engine commits each step, so what the rows do not allow is found before the first one:
// keys that are not unique, checks that do not hold, foreign keys that lead nowhere.

// part is a column of a key, or the beginning of its values.
type part struct {
	name   string
	prefix int
}

// keyParts reads the columns in the first parentheses of a definition, and gives what follows.
func keyParts(definition string) (parts []part, rest string) {
	ts, err := Dialect.Scan(definition)
	if err != nil {
		return nil, ""
	}
	depth := 0
	for i, t := range ts {
		switch {
		case t.Is("("):
			depth++
		case t.Is(")"):
			if depth--; depth == 0 {
				words := make([]string, 0, len(ts)-i)
				for _, r := range ts[i+1:] {
					words = append(words, r.Text)
				}
				return parts, strings.Join(words, " ")
			}
		case depth == 1 && !t.Is(",") && !t.Is("desc") && !t.Is("asc"):
			parts = append(parts, part{name: Dialect.NameOf(t)})
		case depth == 2 && len(parts) > 0:
			parts[len(parts)-1].prefix, _ = strconv.Atoi(t.Text)
		}
	}
	return nil, ""
}

// stays reports whether a column of the wanted table is there already as it will be.
func (a *alteration) stays(name string) bool {
	l, w := kid(a.l, "column", name), kid(a.w, "column", name)
	if l == nil || w == nil || a.source(w) != l {
		return false
	}
	for _, p := range []string{"type", "charset", "collate", "generated"} {
		if textOf(l, p) != textOf(w, p) {
			return false
		}
	}
	return true
}

// foresee asks the rows for what a changed table is to have.
func (a *alteration) foresee() {
	if a.p.wanted.Due.Mends(a.w.Key) {
		return
	}
	table := a.p.now(a.w)
	for _, k := range kids(a.w, "index") {
		def := textOf(k, "definition")
		if lk := kid(a.l, "index", k.Key); lk != nil && lk.Sum() == k.Sum() || !strings.HasPrefix(def, "unique") &&
			!strings.HasPrefix(def, "primary") {
			continue
		}
		parts, _ := keyParts(def)
		a.unique(table, k, parts)
	}
	for _, c := range kids(a.w, "constraint") {
		if lc := kid(a.l, "constraint", c.Key); foreign(c) || lc != nil && lc.Sum() == c.Sum() {
			continue
		}
		expr, ok := strings.CutPrefix(textOf(c, "definition"), "check")
		if !ok || !a.known(expr) {
			continue
		}
		if n := a.p.rows(table, "not ("+expr+")"); n > 0 {
			a.p.fail(&RowsError{Table: ident(a.w.Key), Column: c.Key, Rows: n, Reason: "the check does not hold", NoFill: true})
		}
	}
}

// known reports whether all columns that an expression names stay as they are.
func (a *alteration) known(expr string) bool {
	ts, err := Dialect.Scan(expr)
	if err != nil {
		return false
	}
	for _, t := range ts {
		name := Dialect.NameOf(t)
		if (kid(a.w, "column", name) != nil || kid(a.l, "column", name) != nil) && !a.stays(name) {
			return false
		}
	}
	return true
}

func (a *alteration) unique(table string, k *element.Element, parts []part) {
	var by, set, names []string
	for _, x := range parts {
		if !a.stays(x.name) {
			return
		}
		expr := ident(x.name)
		if x.prefix > 0 {
			expr = fmt.Sprintf("left(%s, %d)", expr, x.prefix)
		}
		by, set, names = append(by, expr), append(set, ident(x.name)+" is not null"), append(names, x.name)
	}
	if len(by) == 0 || a.p.wanted.Counting.Rehearsing() {
		return
	}
	n := a.p.count("select coalesce(sum(n), 0) from (select count(*) as n from " + table + " where " + strings.Join(set, " and ") +
		" group by " + strings.Join(by, ", ") + " having count(*) > 1) x")
	if n > 0 {
		a.p.fail(&RowsError{Table: ident(a.w.Key), Column: strings.Join(names, ", "), Rows: n,
			Reason: "the key " + k.Key + " is to be unique, and values are there more than once", NoFill: true})
	}
}

// leadsSomewhere asks the rows of a table for a foreign key that is added.
func (p *planner) leadsSomewhere(l, w, c *element.Element) {
	to := target(c)
	other := kid(p.live, "table", to)
	from, rest := keyParts(textOf(c, "definition"))
	there, _ := keyParts(rest)
	wanted := kid(p.want, "table", to)
	if p.wanted.Due.Mends(w.Key) || p.wanted.Due.Mends(to) || p.wanted.Tracked[to] || p.wanted.Tracked[w.Key] || l == nil || other == nil ||
		wanted == nil || len(from) == 0 || len(from) != len(there) || p.err != nil || p.wanted.Counting.Rehearsing() {
		return
	}
	a, b := p.alteration(l, w), p.alteration(other, wanted)
	var set, same []string
	for i := range from {
		if !a.stays(from[i].name) || !b.stays(there[i].name) {
			return
		}
		set = append(set, "a."+ident(from[i].name)+" is not null")
		same = append(same, "b."+ident(there[i].name)+" = a."+ident(from[i].name))
	}
	n := p.count("select count(*) from " + p.now(w) + " a where " + strings.Join(set, " and ") + " and not exists (select 1 from " +
		p.now(wanted) + " b where " + strings.Join(same, " and ") + ")")
	if n > 0 {
		p.fail(&RowsError{Table: ident(w.Key), Column: from[0].name, Rows: n, Reason: "the foreign key " + c.Key + " is to lead to table " +
			to + ", and leads nowhere", NoFill: true})
	}
}
