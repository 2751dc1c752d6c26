package postgres

import (
	"strings"

	"oakenchest/core/element"
)

// What takes long on a table that is in use can be done without keeping others out: a
// constraint is added for new rows only, and the rows that are there are looked at when
// the transaction is over; an index is built beside the work of others (PostgreSQL's
// documentation, ALTER TABLE and CREATE INDEX). Such steps come after the others.

const notValid = " not valid"

// gentle plans a part of a table that is there in this way; false when it can't be.
func (p *planner) gentle(st statement, n node) bool {
	if !p.wanted.Online || has(n.o.e, "partition by") || has(n.o.e, "partition of") || has(n.e, "attached to") || n.o.e.Type != "table" {
		return false
	}
	if p.again(sub(n.o.id(), n.e)) || len(n.e.Props) > propsAlone(n.e) {
		return false // others of the same transaction may need it whole
	}
	def := textOf(n.e, "definition")
	switch {
	case n.e.Type == "constraint" && (strings.HasPrefix(def, "foreign key") || strings.HasPrefix(def, "check")) &&
		!strings.HasSuffix(def, notValid):
		p.addOrJoin(Step{Address: at(n), What: "add the constraint for new rows", Effect: Instant, Statements: []string{st.sql + notValid},
			AfterRows: p.wanted.Due.Between || strings.HasPrefix(def, "foreign key")})
		p.validate(n)
		return true
	case n.e.Type == "index" && strings.HasPrefix(st.sql, "create index "):
		sql := strings.Replace(st.sql, "create index ", "create index concurrently ", 1)
		p.after = append(p.after, Step{Address: at(n), What: "create the index", Effect: Scans, Statements: []string{sql}, After: true})
		return true
	}
	return false
}

// propsAlone counts the properties that the statement of a part says itself.
func propsAlone(e *element.Element) int {
	n := 0
	for _, p := range e.Props {
		if p.Name == "definition" || p.Name == "name" {
			n++
		}
	}
	return n
}

// validate plans that the rows that are there are held against a constraint.
func (p *planner) validate(n node) {
	s := Step{Address: at(n), What: "validate the constraint", Effect: Scans,
		Statements: []string{"alter table " + n.o.name() + " validate constraint " + ident(n.e.Key)}, After: p.wanted.Online}
	if s.After {
		p.after = append(p.after, s)
	} else {
		p.steps = append(p.steps, s)
	}
}

// onlyUnvalidated says that a constraint is there as it is wanted, but for rows that have
// not been held against it.
func onlyUnvalidated(l, w node) bool {
	return w.e.Type == "constraint" && w.o.e.Type == "table" && textOf(l.e, "definition") == textOf(w.e, "definition")+notValid
}

// validations plans what is left to validate of a table.
func (p *planner) validations(l, w object) {
	for _, c := range kids(w.e, "constraint") {
		if k := kid(l.e, "constraint", c.Key); k != nil && onlyUnvalidated(node{l, k, true}, node{w, c, true}) {
			p.validate(node{w, c, true})
		}
	}
}

// before gives a wanted tree as it is when the steps that come after the transaction have
// not been done yet.
func before(want *element.Element, after []Step) *element.Element {
	for _, s := range after {
		want = without(want, s.Address.Steps)
	}
	return want
}

// without gives a tree in which a constraint is not validated yet, or an index is not
// there; what stays as it is, is shared.
func without(e *element.Element, steps []element.Step) *element.Element {
	if len(steps) == 0 {
		return e
	}
	out := *e
	out.Children = nil
	for _, k := range e.Children {
		if k.Type != steps[0].Type || k.Key != steps[0].Key {
			out.Children = append(out.Children, k)
			continue
		}
		switch {
		case len(steps) > 1:
			k = without(k, steps[1:])
		case k.Type == "index":
			continue
		case k.Type == "constraint":
			k = k.Clone()
			k.Set("definition", element.TextValue(textOf(k, "definition")+notValid))
		}
		out.Children = append(out.Children, k)
	}
	return &out
}
