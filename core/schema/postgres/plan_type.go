package postgres

import (
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/schema/sqltext"
)

func commaTexts(ts []sqltext.Token) []string {
	var out []string
	for _, part := range sqltext.Commas(ts) {
		out = append(out, flat(part))
	}
	return out
}

// extendsEnum says that the wanted values hold all that are there, in their order.
func extendsEnum(l, w *element.Element) bool {
	i := 0
	wanted := kids(w, "value")
	for _, v := range kids(l, "value") {
		for i < len(wanted) && wanted[i].Key != v.Key {
			i++
		}
		if i == len(wanted) {
			return false
		}
		i++
	}
	return true
}

func (p *planner) alterType(l, w object) {
	switch textOf(w.e, "sort") {
	case "enum":
		p.extendEnum(l, w)
	case "composite":
		p.alterComposite(l, w)
	case "base":
		if o := settable(textOf(l.e, "definition"), textOf(w.e, "definition")); len(o) > 0 {
			p.add(node{w, w.e, false}, "change the type", Instant, "alter type "+w.name()+" set ("+strings.Join(o, ", ")+")")
		}
	case "domain":
		p.alterDomain(l, w)
	}
}

// extendEnum adds values where they belong. A new value can't be used in the
// transaction that adds it, so that is one of its own, before.
func (p *planner) extendEnum(l, w object) {
	wanted := kids(w.e, "value")
	before := ""
	var out []string
	for i, v := range wanted {
		if kid(l.e, "value", v.Key) == nil {
			text := "alter type " + w.name() + " add value " + literal(v.Key)
			if i > 0 {
				text += " after " + literal(before)
			} else if len(wanted) > 1 {
				next := ""
				for _, o := range wanted[1:] {
					if kid(l.e, "value", o.Key) != nil {
						next = o.Key
						break
					}
				}
				if next != "" {
					text += " before " + literal(next)
				}
			}
			out = append(out, text)
		}
		before = v.Key
	}
	if len(out) > 0 {
		p.steps = append(p.steps, Step{Address: at(node{w, w.e, false}), What: "add the new values", Effect: Instant, Statements: out,
			Before: true})
	}
}

// settable gives what ALTER TYPE ... SET can change of a base type, from one definition
// to another; nil when something else differs.
func settable(from, to string) []string {
	have, want := optionMap(from), optionMap(to)
	out := []string{}
	for _, name := range ids(want) {
		if have[name] == want[name] {
			continue
		}
		switch name {
		case "receive", "send", "typmod_in", "typmod_out", "analyze", "subscript", "storage":
			out = append(out, name+" = "+want[name])
		default:
			return nil
		}
	}
	for _, name := range ids(have) {
		if _, ok := want[name]; !ok {
			return nil
		}
	}
	return out
}

func (p *planner) alterComposite(l, w object) {
	n := node{w, w.e, false}
	for _, a := range kids(l.e, "attribute") {
		if kid(w.e, "attribute", a.Key) == nil {
			s := Step{Address: at(node{w, a, true}), What: "drop the attribute", Effect: Loses,
				Statements: []string{"alter type " + w.name() + " drop attribute " + ident(a.Key) + " cascade"}}
			s.Loss = "the attribute " + a.Key + " of every " + w.name()
			p.steps = append(p.steps, s)
		}
	}
	for _, a := range kids(w.e, "attribute") {
		text := ident(a.Key) + " "
		old := kid(l.e, "attribute", a.Key)
		switch {
		case old == nil:
			text = "add attribute " + text
		case retypes(old, a):
			text = "alter attribute " + text + "type "
		default:
			continue
		}
		text += textOf(a, "type")
		if v := textOf(a, "collate"); v != "" {
			text += " collate " + v
		}
		p.add(n, "change the attribute "+a.Key, Rewrites, "alter type "+w.name()+" "+text+" cascade")
	}
}

func (p *planner) alterDomain(l, w object) {
	head := "alter domain " + w.name() + " "
	n := node{w, w.e, false}
	p.alterDefault(n, head, l.e, w.e)
	if has(l.e, "not null") != has(w.e, "not null") {
		p.add(n, "change what is allowed", Scans, head+map[bool]string{true: "set not null", false: "drop not null"}[has(w.e, "not null")])
	}
	for _, c := range kids(w.e, "constraint") {
		if p.fresh(sub(w.id(), c)) {
			p.add(node{w, c, true}, "add the constraint", Scans, head+"add "+constraintText(c))
		}
	}
}

// alterDefault plans a changed default of a column or domain.
func (p *planner) alterDefault(n node, head string, l, w *element.Element) {
	from, to := textOf(l, "default"), textOf(w, "default")
	if p.reset[sub(n.o.id(), n.e)] && to != "" {
		from = ""
	}
	switch {
	case from == to && !p.down[sub(n.o.id(), n.e)+".default"]:
	case to == "":
		if from != "" && !p.down[sub(n.o.id(), n.e)+".default"] {
			p.add(n, "drop the default", Instant, head+"drop default")
		}
	default:
		p.add(n, "set the default", Instant, head+"set default "+to)
	}
}

// alterTable plans what changes a table that stays: its columns and the constraints
// that stand in its own statement, then the rest of it.
func (p *planner) alterTable(l, w object) {
	head := "alter " + sortWords(w.e) + " " + w.name() + " "
	p.alterParents(l, w, head)
	own := w.id()
	for _, c := range kids(w.e, "column") {
		id := sub(own, c)
		lc := kid(l.e, "column", c.Key)
		switch {
		case has(c, "inherited") || lc != nil && has(lc, "inherited"):
			p.alterColumn(w, head, orEmpty(lc), c)
		case lc == nil || p.down[id]:
			p.addColumn(w, head, c, lc != nil)
		default:
			p.alterColumn(w, head, lc, c)
		}
	}
	for _, lc := range kids(l.e, "column") {
		if has(lc, "inherited") && kid(w.e, "column", lc.Key) == nil && p.comesFromAbove(w.e, lc.Key) {
			p.alterColumn(w, head, lc, named(&element.Element{}, lc.Key))
		}
	}
	wr := &writer{o: w, id: own, apart: true}
	for _, c := range sortedKids(w.e, "constraint") {
		if p.fresh(sub(own, c)) && !wr.detach(c) {
			n, sql := node{w, c, true}, w.addConstraint(c, false)
			if !p.gentle(statement{sql: sql}, n) {
				p.later(n, "add the constraint", Scans, sql)
			}
		}
	}
	p.alterTableOptions(l, w, head)
}

// alterParents plans that a table comes under another; leaving one is planned first
// of all, see family.
func (p *planner) alterParents(l, w object, head string) {
	n := node{w, w.e, false}
	bound := func(e *element.Element) string { return textOf(e, "partition of") + " " + textOf(e, "bound") }
	if v := textOf(w.e, "partition of"); v != "" && bound(l.e) != bound(w.e) {
		p.last = append(p.last, Step{Address: at(n), What: "attach the partition", Effect: Scans,
			Statements: []string{"alter table " + v + " attach partition " + w.name() + " " + textOf(w.e, "bound")}})
	}
	if has(w.e, "partition of") {
		return
	}
	var have []string
	if !has(l.e, "partition of") {
		have = parents(l.e)
	}
	for _, name := range parents(w.e) {
		if !slices.Contains(have, name) {
			for _, c := range kids(w.e, "column") {
				if lc := kid(p.live[w.id()].e, "column", c.Key); lc != nil && p.inherits[sub(w.id(), c)] {
					p.fail(&FamilyError{Table: w.name(), Above: name, Column: ident(c.Key)})
				}
			}
			p.last = append(p.last, Step{Address: at(n), What: "inherit from the table above", Effect: Locks,
				Statements: []string{head + "inherit " + name}})
		}
	}
}

func (p *planner) alterTableOptions(l, w object, head string) {
	n := node{w, w.e, false}
	differs := func(name string) bool { return textOf(l.e, name) != textOf(w.e, name) }
	if differs("with") {
		p.add(n, "change the options", Locks, prefixed(head, optionChanges(textOf(l.e, "with"), textOf(w.e, "with")))...)
	}
	if has(l.e, "unlogged") != has(w.e, "unlogged") {
		p.add(n, "change how it is logged", Rewrites, head+map[bool]string{true: "set unlogged", false: "set logged"}[has(w.e, "unlogged")])
	}
	if differs("using") {
		method := textOf(w.e, "using")
		if method == "" {
			method = "heap"
		}
		p.add(n, "change the access method", Rewrites, head+"set access method "+ident(method))
	}
	if differs("tablespace") {
		space := textOf(w.e, "tablespace")
		if space == "" {
			space = "pg_default"
		}
		p.add(n, "move the table", Rewrites, head+"set tablespace "+ident(space))
	}
	if differs("options") {
		p.add(n, "change the options", Instant,
			head+"options ("+strings.Join(serverOptionChanges(textOf(l.e, "options"), textOf(w.e, "options")), ", ")+")")
	}
	if differs("row security") {
		from, to := textOf(l.e, "row security"), textOf(w.e, "row security")
		for _, x := range [][3]string{{"enabled", "enable row level security", "disable row level security"},
			{"forced", "force row level security", "no force row level security"}} {
			if had, has := strings.Contains(from, x[0]), strings.Contains(to, x[0]); had != has {
				p.add(n, "change row security", Locks, head+map[bool]string{true: x[1], false: x[2]}[has])
			}
		}
	}
	if differs("replica identity") {
		to := textOf(w.e, "replica identity")
		if to == "" {
			to = "default"
		}
		p.last = append(p.last, Step{Address: at(n), What: "change the replica identity", Effect: Instant,
			Statements: []string{head + "replica identity " + to}})
	}
	if differs("cluster on") {
		sql := head + "set without cluster"
		if to := textOf(w.e, "cluster on"); to != "" {
			sql = head + "cluster on " + ident(to)
		}
		p.last = append(p.last, Step{Address: at(n), What: "change the order on disk", Effect: Instant, Statements: []string{sql}})
	}
}

// serverOptionChanges gives ADD, SET and DROP for options of foreign tables.
func serverOptionChanges(from, to string) []string {
	pairs := func(list string) map[string]string {
		out := map[string]string{}
		if ts, err := Dialect.Scan(list); err == nil && len(ts) > 0 {
			for _, part := range sqltext.Commas(ts) {
				if len(part) == 2 {
					out[flat(part[:1])] = part[1].Text
				}
			}
		}
		return out
	}
	have, want := pairs(from), pairs(to)
	var out []string
	for _, name := range ids(have) {
		if _, ok := want[name]; !ok {
			out = append(out, "drop "+name)
		}
	}
	for _, name := range ids(want) {
		switch v, ok := have[name]; {
		case !ok:
			out = append(out, "add "+name+" "+want[name])
		case v != want[name]:
			out = append(out, "set "+name+" "+want[name])
		}
	}
	return out
}
