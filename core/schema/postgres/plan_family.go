package postgres

import (
	"slices"
	"strings"

	"oakenchest/core/element"
)

// family looks at partitions and heirs: who is below whom now, and which tables leave
// or come under another one. Those are compared with all that they inherit as their
// own, because they keep it when they leave, and must have it when they come.
func (p *planner) family(wanted *element.Element) {
	liveTables, wantTables := tablesByName(p.live), tablesByName(p.want)
	for _, id := range ids(p.live) {
		l := p.live[id]
		if l.part || l.e.Type != "table" {
			continue
		}
		for _, name := range parents(l.e) {
			p.heirs[name] = append(p.heirs[name], l.o)
		}
	}
	for _, id := range ids(p.want) {
		w := p.want[id]
		l, there := p.live[id]
		if w.part || w.e.Type != "table" || !there || sameFamily(l.e, w.e) {
			continue
		}
		p.leave(id, l, w, liveTables)
		p.freed[id] = true
		if whole := effective(w.e, wantTables); has(w.e, "inherits") {
			for _, c := range kids(whole, "column") {
				own := kid(w.e, "column", c.Key)
				p.inherits[sub(id, c)] = own == nil || has(own, "inherited")
			}
		}
		p.live = withNode(p.live, id, object{l.o.schema, effective(l.e, liveTables)})
		p.want = withNode(p.want, id, object{w.o.schema, effective(w.e, wantTables)})
		p.swap(wanted, w.o, p.want[id].e)
	}
}

// swap puts an element in place of another of the wanted tree.
func (p *planner) swap(root *element.Element, o object, e *element.Element) {
	s := kid(root, "schema", o.schema)
	i := slices.Index(s.Children, o.e)
	if i < 0 {
		return
	}
	c := *s
	c.Children = slices.Clone(s.Children)
	c.Children[i] = e
	r := *root
	r.Children = slices.Clone(root.Children)
	r.Children[slices.Index(r.Children, s)] = &c
	p.wanted.Root = &r
}

func sameFamily(l, w *element.Element) bool {
	return textOf(l, "partition of") == textOf(w, "partition of") && textOf(l, "bound") == textOf(w, "bound") &&
		textOf(l, "inherits") == textOf(w, "inherits")
}

// leave plans that a table leaves those above it.
func (p *planner) leave(id string, l, w node, liveTables map[string]*element.Element) {
	head := "alter table " + l.o.name() + " "
	if v := textOf(l.e, "partition of"); v != "" {
		if _, kept := p.want["table "+v]; kept {
			p.add(w, "detach the partition", Locks, "alter table "+v+" detach partition "+l.o.name())
		}
		return
	}
	want := parents(w.e)
	for _, name := range parents(l.e) {
		if !slices.Contains(want, name) || has(w.e, "partition of") {
			p.add(w, "leave the table above", Locks, head+"no inherit "+name)
		}
	}
}

func tablesByName(all map[string]node) map[string]*element.Element {
	out := map[string]*element.Element{}
	for _, n := range all {
		if !n.part && n.e.Type == "table" {
			out[n.o.name()] = n.e
		}
	}
	return out
}

// withNode puts a table in place of another of the same identity.
func withNode(all map[string]node, id string, o object) map[string]node {
	all[id] = node{o, o.e, false}
	for _, k := range o.e.Children {
		all[sub(id, k)] = node{o, k, true}
		if k.Type == "column" && has(k, "default") {
			all[sub(id, k)+".default"] = node{o, k, true}
		}
	}
	return all
}

// effective is a table with all that it inherits as its own.
func effective(e *element.Element, tables map[string]*element.Element) *element.Element {
	out := e.Clone()
	var columns []*element.Element
	for _, name := range parents(e) {
		above := tables[name]
		if above == nil {
			continue
		}
		above = effective(above, tables)
		for _, pc := range kids(above, "column") {
			c := pc.Clone()
			if own := kid(e, "column", pc.Key); own != nil {
				for _, p := range own.Props {
					c.Set(p.Name, p.Value)
				}
			}
			c.Set("inherited", element.Value{})
			c.Set("comment", element.Value{})
			if textOf(c, "default") == "null" {
				c.Set("default", element.Value{})
			}
			columns = append(columns, c)
		}
		for _, k := range kids(above, "constraint") {
			def := textOf(k, "definition")
			inherits := len(def) > 5 && def[:5] == "check" || has(e, "partition of") && len(def) > 7 && def[:7] == "foreign"
			if inherits && kid(out, "constraint", k.Key) == nil {
				out.Add(k.Clone())
			}
		}
	}
	out.Children = slices.DeleteFunc(out.Children, func(c *element.Element) bool {
		return c.Type == "column" && slices.ContainsFunc(columns, func(o *element.Element) bool { return o.Key == c.Key })
	})
	out.Children = append(columns, out.Children...)
	return out
}

// comesFromAbove says that a wanted table has a column from one above it.
func (p *planner) comesFromAbove(e *element.Element, column string) bool {
	for _, name := range parents(e) {
		if above, ok := p.want["table "+name]; ok && (kid(above.e, "column", column) != nil || p.comesFromAbove(above.e, column)) {
			return true
		}
	}
	return false
}

// renameAttached plans another name for the keys and indexes of partitions that belong
// to those of the table above: they can't be dropped, and the engine names them anew when
// it builds them again.
func (p *planner) renameAttached() {
	for _, id := range ids(p.live) {
		l := p.live[id]
		parent := textOf(l.e, "attached to")
		if _, stays := p.want[id]; stays || !l.part || parent == "" {
			continue
		}
		w, ok := p.want[l.o.id()]
		if !ok {
			continue
		}
		for _, k := range w.e.Children {
			to := sub(l.o.id(), k)
			if _, there := p.live[to]; there || k.Type != l.e.Type || textOf(k, "attached to") != parent {
				continue
			}
			p.lastName(node{w.o, k, true})
			p.relabel(id, to, l, k.Key)
			break
		}
	}
}

// lastName plans that an index of a partition has its name when all else is done.
func (p *planner) lastName(n node) {
	p.last = append(p.last, Step{Address: at(n), What: "name the " + n.e.Type, Effect: Instant, Statements: []string{p.rename(n.o, n.e)}})
}

// keepNames plans the names of indexes of the partitions of tables with a column whose
// type changes: the engine builds them again, with names of its own.
func (p *planner) keepNames() {
	again := map[string]bool{} // tables by name
	for id := range p.retyped {
		if o := p.live[id].o; has(o.e, "partition by") {
			again[o.name()] = true
		}
	}
	if len(again) == 0 {
		return
	}
	for more := true; more; {
		more = false
		for _, o := range p.wantList {
			if of := textOf(o.e, "partition of"); of != "" && again[of] && !again[o.name()] {
				again[o.name()], more = true, true
			}
		}
	}
	for _, o := range p.wantList {
		if !again[o.name()] || p.fresh(o.id()) {
			continue
		}
		for _, k := range o.e.Children {
			if textOf(k, "attached to") != "" && !p.fresh(sub(o.id(), k)) {
				p.lastName(node{o, k, true})
			}
		}
	}
}

// relabel lets a part of the live database have another name from here on.
func (p *planner) relabel(id, to string, l node, name string) {
	e := l.e.Clone()
	e.Key = name
	if has(e, "name") {
		setText(e, "name", name)
	}
	if def := textOf(e, "definition"); e.Type == "index" {
		e.Set("definition", element.TextValue(strings.Replace(def, "index "+ident(l.e.Key)+" on ", "index "+ident(name)+" on ", 1)))
	}
	table := *l.o.e
	table.Children = slices.Clone(table.Children)
	for i, k := range table.Children {
		if k == l.e {
			table.Children[i] = e
		}
	}
	o := object{l.o.schema, &table}
	delete(p.live, id)
	for other, n := range p.live {
		if n.o.e == l.o.e {
			n.o = o
			if !n.part {
				n.e = &table
			}
			p.live[other] = n
		}
	}
	p.live[to] = node{o, e, true}
}
