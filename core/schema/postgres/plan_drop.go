package postgres

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"oakenchest/core/element"
)

// dropAll plans the drops: what stands on others first.
func (p *planner) dropAll() {
	done := map[string]bool{}
	var visit func(id string)
	visit = func(id string) {
		if done[id] || !p.down[id] {
			return
		}
		done[id] = true
		for _, e := range p.standing(id, p.live[id]) {
			visit(e.id)
			if n, ok := p.live[e.id]; ok && n.part && n.o.e != p.live[id].o.e {
				visit(n.o.id())
			}
			for _, carrier := range p.taken[e.id] { // what goes with another must have gone
				visit(carrier)
			}
		}
		p.drop(id)
	}
	for _, id := range ids(p.down) {
		if strings.HasSuffix(id, ".default") {
			visit(id)
		}
	}
	for _, id := range ids(p.down) {
		visit(id)
	}
}

// drop plans the drop of one thing, unless it goes with something else.
func (p *planner) drop(id string) {
	n := p.live[id]
	if n.part && p.down[n.o.id()] {
		return
	}
	if len(p.taken[id]) > 0 {
		return
	}
	if has(n.e, "attached to") && n.part {
		parent, _ := p.byIndexName(textOf(n.e, "attached to"))
		if parent != "" && p.down[parent] {
			return // goes with the index of the table above
		}
	}
	if n.part {
		p.dropPart(id, n)
		return
	}
	p.dropObject(id, n)
}

// byIndexName finds the index or constraint of a qualified name.
func (p *planner) byIndexName(name string) (string, node) {
	for id, n := range p.live {
		if n.part && (n.e.Type == "index" || n.e.Type == "constraint") && ident(n.o.schema, n.e.Key) == name {
			return id, n
		}
	}
	return "", node{}
}

func (p *planner) dropPart(id string, n node) {
	table := "alter " + sortWords(n.o.e) + " " + n.o.name()
	switch n.e.Type {
	case "column":
		if strings.HasSuffix(id, ".default") {
			p.add(n, "drop the default", Instant, table+" alter column "+ident(n.e.Key)+" drop default")
			return
		}
		p.dropColumn(n, table)
	case "constraint":
		if n.o.e.Type == "type" {
			p.add(n, "drop the constraint", Instant, "alter domain "+n.o.name()+" drop constraint "+ident(n.e.Key))
			return
		}
		p.add(n, "drop the constraint", Instant, table+" drop constraint "+ident(n.e.Key))
	case "index":
		p.add(n, "drop the index", Instant, "drop index "+ident(n.o.schema, n.e.Key))
	case "statistics":
		p.add(n, "drop the statistics", Instant, "drop statistics "+n.o.statisticsName(n.e))
	case "trigger", "rule", "policy":
		p.add(n, "drop the "+n.e.Type, Instant, "drop "+n.e.Type+" "+ident(n.e.Key)+" on "+n.o.name())
	case "member":
		p.add(n, "drop the member", Instant, "alter "+n.o.spec()+" drop "+memberKey(n.e.Key))
	}
}

// memberKey is what ALTER OPERATOR FAMILY DROP wants: number and types.
func memberKey(member string) string {
	words := strings.Fields(member)
	if i := strings.LastIndexByte(member, '('); i >= 0 && len(words) > 1 {
		if words[0] == "function" {
			i = strings.IndexByte(member, '(')
		}
		if j := strings.IndexByte(member[i:], ')'); j >= 0 {
			return words[0] + " " + words[1] + " " + member[i:i+j+1]
		}
	}
	return member
}

func (p *planner) dropColumn(n node, table string) {
	s := Step{Address: at(n), What: "drop the column", Effect: Instant, Statements: []string{table + " drop column " + ident(n.e.Key)}}
	if !has(n.e, "generated") && !has(n.o.e, "server") {
		table, name := p.tableNow(n.o), p.columnNow(n.o, n.e)
		if rows := p.rows(table, name+" is not null"); rows > 0 {
			s.Effect, s.Loss = Loses, fmt.Sprintf("column %s.%s has %s", n.o.name(), ident(n.e.Key), counted(rows, "value"))
			s.Saves = []Save{{Table: table, Column: name}}
		}
	}
	p.steps = append(p.steps, s)
}

func (p *planner) dropObject(id string, n node) {
	for _, e := range p.standing(id, n) { // foreign keys of tables that go later
		if k := p.live[e.id]; k.part && strings.HasPrefix(textOf(k.e, "definition"), "foreign key") && k.o.e != n.e && p.down[k.o.id()] &&
			!p.gone[k.o.id()] && !p.gone[e.id] {
			p.gone[e.id] = true
			p.dropPart(e.id, k)
		}
	}
	p.gone[id] = true
	s := Step{Address: at(n), What: "drop the " + sortWords(n.e), Effect: Instant, Statements: []string{"drop " + n.o.spec()}}
	if n.e.Type == "type" && textOf(n.e, "sort") == "base" {
		if p.wants(id) {
			p.fail(fmt.Errorf("the base type %s can't be changed while it is there: drop it first", n.o.name()))
		}
		s.Statements = []string{"drop " + n.o.spec() + " cascade"} // it and its functions need each other
	}
	if n.e.Type == "view" || n.e.Type == "function" {
		s.Effect = Locks
	}
	if n.e.Type == "table" && !has(n.e, "server") {
		if rows := p.rows("only "+p.tableNow(n.o), ""); rows > 0 {
			s.Effect, s.Loss = Loses, fmt.Sprintf("table %s has %s", n.o.name(), counted(rows, "row"))
			s.Saves = []Save{{Table: p.tableNow(n.o), Only: true}}
		}
	}
	if n.e.Type == "type" && p.wants(id) {
		// Columns keep their values: the old type waits under another name.
		s.What = "put the old type aside"
		s.Statements = []string{"alter " + n.o.spec() + " rename to " + ident(oldName(n.e.Key))}
		p.last = append(p.last, Step{Address: at(n), What: "drop the old type", Effect: Instant,
			Statements: []string{"drop " + object{n.o.schema, renamed(n.e)}.spec()}})
	}
	p.steps = append(p.steps, s)
}

func oldName(name string) string { return "oaken_old_" + name }

func renamed(e *element.Element) *element.Element {
	c := *e
	c.Key = oldName(e.Key)
	return &c
}

// dropLater lets columns and tables go late whose values somebody fills others with, or a data
// step may read. What would be in the way of something that comes goes at once.
func (p *planner) dropLater() {
	moved := false
	read := func(s Step) bool {
		at := s.Address.Steps[len(s.Address.Steps)-1]
		if moved && slices.Contains(lateTypes, at.Type) && strings.HasPrefix(s.What, "drop the ") && !p.comesAgain(s) {
			return true // what is dropped late may stand on it
		}
		if s.What != "drop the column" && s.What != "drop the table" {
			return false
		}
		if p.wanted.Due.Between && !p.comesAgain(s) {
			moved = true
			return true
		}
		name := regexp.MustCompile(`(?i)(^|\W)` + regexp.QuoteMeta(at.Key) + `(\W|$)`)
		for _, value := range p.wanted.Fill {
			if name.MatchString(value) {
				moved = true
				return true
			}
		}
		return false
	}
	var stay []Step
	for _, s := range p.steps {
		if !read(s) {
			stay = append(stay, s)
			continue
		}
		s.AfterRows = s.AfterRows || p.wanted.Due.Between
		p.late = append(p.late, s)
	}
	p.steps = stay
}

// lateTypes are the sorts of things that tables stand on.
var lateTypes = []string{"type", "function", "sequence", "schema", "extension", "collation", "server", "wrapper", "operator",
	"operator-class"}

// comesAgain says that a thing that is dropped is made again, or that something of its names
// comes: what a table that goes has made, such as its keys' indexes, has names too.
func (p *planner) comesAgain(s Step) bool {
	steps := s.Address.Steps
	names := map[string]bool{steps[len(steps)-1].Key: true}
	for _, n := range p.live {
		if n.o.schema == steps[0].Key && len(steps) == 2 && n.o.e.Type == steps[1].Type && n.o.e.Key == steps[1].Key &&
			(n.e.Type == "index" || n.e.Type == "constraint") {
			names[n.e.Key] = true
		}
	}
	for _, n := range p.want {
		switch {
		case len(steps) == 3 && n.part && n.e.Type == "column":
			if n.o.schema == steps[0].Key && n.o.e.Key == steps[1].Key && names[n.e.Key] {
				return true
			}
		case len(steps) < 3 && n.o.schema == steps[0].Key && (!n.part || n.e.Type == "index" || n.e.Type == "constraint") && names[n.e.Key]:
			return true
		case len(steps) == 1 && !n.part && names[n.e.Key]:
			return true
		}
	}
	return false
}
