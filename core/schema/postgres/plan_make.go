package postgres

import (
	"strings"

	"oakenchest/core/element"
)

// makeAll plans what is made or altered, in an order in which each finds what it needs.
func (p *planner) makeAll() {
	settled := func(id string) bool { _, there := p.live[id]; return there && !p.down[id] }
	altered := map[string]bool{}
	for _, st := range creation(p.wanted.Root, settled) {
		n, known := p.nodeOf(st.id)
		if !known {
			continue
		}
		own := n.o.id()
		switch {
		case st.id == own && settled(own):
			altered[own] = true
			p.alter(own, p.live[own].o, n.o)
		case st.id == own+".shell" && settled(own):
		case !settled(own):
			p.make(st, n)
		default:
			if !altered[own] { // what has no statement of its own: a schema that is there
				altered[own] = true
				p.alter(own, p.live[own].o, n.o)
			}
			if n.part && p.fresh(p.base(st.id)) {
				p.makePart(st, n)
			}
		}
	}
}

// base gives the identity of the part or object that a statement is about.
func (p *planner) base(id string) string {
	for {
		if _, ok := p.want[id]; ok && !strings.HasSuffix(id, ".default") {
			return id
		}
		i := strings.LastIndexByte(id, '.')
		if i < 0 {
			return id
		}
		id = id[:i]
	}
}

func (p *planner) nodeOf(id string) (node, bool) {
	n, ok := p.want[p.base(strings.TrimSuffix(id, "/data"))]
	return n, ok
}

// fresh says that a wanted thing is not there, or not any more.
func (p *planner) fresh(id string) bool {
	_, there := p.live[id]
	return !there || p.down[id]
}

// again says that a wanted thing was there before.
func (p *planner) again(id string) bool { _, there := p.live[id]; return there }

// make plans one statement of an object that is made.
func (p *planner) make(st statement, n node) {
	id := p.base(st.id)
	what := "create the " + sortWords(n.e)
	effect := Instant
	if strings.HasSuffix(st.id, ".owner") && strings.HasSuffix(st.sql, " owner to "+ident(p.user)) {
		return // it is theirs already
	}
	if has(n.o.e, "partition of") && n.o.e.Type == "table" {
		sql, whole := p.makePartition(st, n)
		if !whole {
			return
		}
		st.sql = sql
	}
	switch {
	case st.id == n.o.id():
		if p.again(id) {
			what = "create the " + sortWords(n.e) + " again"
			effect = Locks
		}
		if n.e.Type == "schema" && n.e.Key == "public" && p.again(id) {
			return
		}
		p.addOrJoin(Step{Address: at(n), What: what, Effect: effect, Statements: []string{st.sql}})
		return
	case st.late:
		if !p.populated(id) {
			return
		}
		p.fills = append(p.fills, Step{Address: at(n), What: "fill the materialized view", Effect: Scans, AfterRows: true,
			Statements: []string{st.sql}})
		return
	case n.part && st.id == id:
		what = "create the " + n.e.Type
		links := strings.HasPrefix(textOf(n.e, "definition"), "foreign key")
		if links && p.again(n.o.id()) {
			effect = Scans
		}
		p.addOrJoin(Step{Address: at(n), What: what, Effect: effect, Statements: []string{st.sql}, AfterRows: links})
		return
	}
	p.addOrJoin(Step{Address: at(n), What: "complete it", Effect: effect, Statements: []string{st.sql}})
}

// populated says that a materialized view is to have rows: a new one, or one that had
// them.
func (p *planner) populated(id string) bool {
	n, there := p.live[id]
	if !there {
		return true
	}
	return p.count("select count(*) from pg_catalog.pg_class where oid = "+literal(p.tableNow(n.o))+"::pg_catalog.regclass and "+
		"relispopulated") > 0
}

// addOrJoin adds a step, or its statements to the last step when that is about the
// same thing and costs the same.
func (p *planner) addOrJoin(s Step) {
	if s.What == "complete it" {
		if k := len(p.steps) - 1; k >= 0 && p.steps[k].Address.String() == s.Address.String() && !p.steps[k].Before {
			p.steps[k].Statements = append(p.steps[k].Statements, s.Statements...)
			return
		}
		s.What = "complete the " + lastType(s.Address)
	}
	p.steps = append(p.steps, s)
}

func lastType(a element.Address) string {
	if len(a.Steps) == 0 {
		return "object"
	}
	return strings.ReplaceAll(a.Steps[len(a.Steps)-1].Type, "-", " ")
}

// makePart plans a part that an object which is there gains.
func (p *planner) makePart(st statement, n node) {
	id := p.base(st.id)
	if n.e.Type == "column" && !has(n.e, "inherited") && n.o.e.Type == "table" {
		if strings.HasSuffix(st.id, ".default") {
			return // stands in the statement that adds the column
		}
	}
	effect, what := Instant, "create the "+n.e.Type
	if strings.HasSuffix(st.id, ".attached") && p.freed[n.o.id()] {
		return // comes with the attachment of the table
	}
	if st.id != id || strings.HasPrefix(st.sql, "alter table only") && n.e.Type == "column" {
		p.addOrJoin(Step{Address: at(n), What: "complete it", Effect: effect, Statements: []string{st.sql}})
		return
	}
	if p.gentle(st, n) {
		return
	}
	switch n.e.Type {
	case "index":
		effect = Scans
	case "constraint":
		effect = Scans
		what = "add the constraint"
	case "trigger", "rule", "policy":
		effect = Locks
	}
	links := n.e.Type == "constraint" && strings.HasPrefix(textOf(n.e, "definition"), "foreign key")
	holds := p.wanted.Due.Between && (n.e.Type == "constraint" || n.e.Type == "index")
	p.addOrJoin(Step{Address: at(n), What: what, Effect: effect, Statements: []string{st.sql}, AfterRows: links || holds})
}

// makePartition gives the statement for a new partition or a part of it. Where the
// table above has a key or index already, the engine makes that of the partition by
// itself, and it only gets its name.
func (p *planner) makePartition(st statement, n node) (sql string, whole bool) {
	own := n.o.id()
	if st.id == own {
		bare := n.o.e.Clone()
		var names []string
		bare.Children = nil
		for _, k := range n.o.e.Children {
			if (k.Type == "constraint" || k.Type == "index") && p.automatic(k) {
				names = append(names, p.rename(n.o, k)) // at once: others may want the name that the engine gave
				if k.Type == "constraint" {
					continue
				}
			}
			bare.Children = append(bare.Children, k)
		}
		sql := object{n.o.schema, bare}.statements(true)[0].sql
		return strings.Join(append([]string{sql}, names...), ";\n"), true
	}
	if !n.part || !p.automatic(n.e) {
		return st.sql, true
	}
	switch {
	case strings.HasSuffix(st.id, ".attached"):
		return "", false
	case st.id == sub(own, n.e): // has its name from the statement of the table
		return "", false
	}
	return st.sql, true
}

// automatic says that a key or index of a new partition comes from one that the table
// above has, or gets by itself in the same way.
func (p *planner) automatic(k *element.Element) bool {
	parent := textOf(k, "attached to")
	if parent == "" {
		return false
	}
	if id, _ := p.byIndexName(parent); id != "" && !p.down[id] {
		return true
	}
	for id, n := range p.want {
		if n.part && (n.e.Type == "index" || n.e.Type == "constraint") && ident(n.o.schema, n.e.Key) == parent {
			return p.fresh(id) && p.fresh(n.o.id()) && has(n.o.e, "partition of") && p.automatic(n.e)
		}
	}
	return false
}

// rename writes what gives the index that the engine made for a partition its name.
func (p *planner) rename(o object, k *element.Element) string {
	return "do " + dollarQuote("declare sql text; begin for sql in select format('alter index %s rename to %I', c.oid::regclass, "+
		literal(k.Key)+
		") from pg_catalog.pg_index i join pg_catalog.pg_class c on c.oid = i.indexrelid join pg_catalog.pg_inherits h on h.inhrelid = "+
		"c.oid where i.indrelid = "+literal(o.name())+
		"::regclass and h.inhparent = "+literal(textOf(k,
		"attached to"))+"::regclass and c.relname <> "+literal(k.Key)+" loop execute sql; end loop; end")
}
