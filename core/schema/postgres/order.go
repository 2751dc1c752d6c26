package postgres

import (
	"cmp"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/schema/sqltext"
)

// ranks are the sorts of objects in the order in which they are made when nothing
// else tells.
var ranks = map[string]int{"schema": 0, "extension": 1, "wrapper": 2, "server": 3, "collation": 4, "type": 5, "sequence": 6, "function": 7,
	"procedure": 7, "aggregate": 8, "operator": 9, "operator-family": 10,
	"operator-class": 11, "cast": 12, "conversion": 12, "text-search-dictionary": 13, "text-search-configuration": 14, "table": 15,
	"view": 16, "publication": 18, "event-trigger": 19}

const (
	rankForeignKey = 17
	rankLate       = 20
)

// creation gives the statements that make everything in a tree, from nothing, in an
// order in which each finds what its text names. What stands in a circle is cut up as
// far as it can be; a circle that stays is broken anywhere. Tables that settled tells
// are there already: what their new columns need must come before their turn.
func creation(root *element.Element, settled func(id string) bool) []statement {
	s := &sorter{provides: map[string][]int{}, ids: map[string]int{}, views: map[string]object{}}
	all := objects(root)
	attached := map[string]bool{}
	partitions := map[string][]string{} // identities by parent's name
	for _, o := range all {
		for _, k := range o.e.Children {
			if p := textOf(k, "attached to"); p != "" {
				attached[p] = true
			}
		}
		if p := textOf(o.e, "partition of"); p != "" {
			partitions[p] = append(partitions[p], o.id())
		}
	}
	for _, o := range all {
		if o.e.Type == "view" {
			s.views[o.name()] = o
		}
	}
	for _, o := range all {
		s.add(o, attached, partitions[o.name()], settled != nil && settled(o.id()))
	}
	return s.sorted()
}

// sorter finds an order.
type sorter struct {
	list     []statement
	rank     []int
	provides map[string][]int // by name
	ids      map[string]int   // the first statement of an identity
	views    map[string]object
}

// fillsBefore gives the statements that fill the materialized views which a view reads,
// itself or through other views.
func (s *sorter) fillsBefore(view *element.Element, seen map[string]bool) []string {
	var out []string
	for _, name := range namesIn(textOf(view, "definition")) {
		o, ok := s.views[name]
		if !ok || seen[name] {
			continue
		}
		seen[name] = true
		if has(o.e, "materialized") {
			out = append(out, o.id()+"/data")
		}
		out = append(out, s.fillsBefore(o.e, seen)...)
	}
	return out
}

func (s *sorter) add(o object, attached map[string]bool, partitions []string, settled bool) {
	own := o.id()
	base := ranks[o.e.Type]
	if o.e.Type == "type" && textOf(o.e, "sort") == "base" {
		s.put(statement{id: own + ".shell", sql: "create type " + o.name(), self: o.name()}, base)
		s.provide("shell "+o.name(), len(s.list)-1)
	}
	for _, st := range o.statements(true) {
		rank := base
		switch {
		case st.late:
			rank = rankLate
			st.after = append(st.after, s.fillsBefore(o.e, map[string]bool{})...)
		case strings.HasPrefix(st.id, own+"/constraint "):
			rank = base
			if i := strings.Index(st.sql, " add "); i >= 0 && strings.Contains(st.sql[i:], "foreign key") {
				rank = rankForeignKey
			} else if has(o.e, "partition by") && strings.HasPrefix(st.sql, "alter table "+o.name()+" add ") {
				st.after = append(st.after, partitions...)
				for name := range attached {
					if name == constraintIndex(o, st.id) {
						st.sql = strings.Replace(st.sql, "alter table ", "alter table only ", 1)
					}
				}
			}
		case strings.HasPrefix(st.id, own+"/index "):
			st.after = append(st.after, partitions...)
		case st.id != own:
			rank = max(base, rankForeignKey)
		}
		if st.id != own {
			st.after = append(st.after, own)
		} else if o.e.Type != "table" && o.e.Type != "view" {
			st.self = o.name() // others may have its name too, and need it
		} else if o.e.Type == "table" {
			st.above = parents(o.e)
			if settled {
				for _, c := range kids(o.e, "column") {
					st.also += textOf(c, "default") + " "
				}
			}
		}
		s.put(st, rank)
		if strings.HasPrefix(st.id, own+"/column ") && !strings.HasSuffix(st.id, ".sequence") {
			s.provide("columns of "+o.name(), len(s.list)-1)
		}
	}
	if len(s.list) == 0 {
		return
	}
	first, ok := s.ids[own]
	if !ok {
		return
	}
	s.provide(o.name(), first)
	for _, k := range o.e.Children {
		if k.Type != "index" && k.Type != "constraint" {
			continue
		}
		at := first
		if i, ok := s.ids[sub(own, k)]; ok {
			at = i
		}
		s.provide(ident(o.schema, k.Key), at)
	}
}

// constraintIndex is the name of the index behind a constraint.
func constraintIndex(o object, id string) string {
	return ident(o.schema, strings.TrimPrefix(id, o.id()+"/constraint "))
}

func (s *sorter) put(st statement, rank int) {
	if _, ok := s.ids[st.id]; !ok {
		s.ids[st.id] = len(s.list)
	}
	s.list = append(s.list, st)
	s.rank = append(s.rank, rank)
}

func (s *sorter) provide(name string, at int) { s.provides[name] = append(s.provides[name], at) }

// sorted gives the statements, what is needed first.
func (s *sorter) sorted() []statement {
	order := make([]int, len(s.list))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(s.rank[a], s.rank[b]) })
	out := make([]statement, 0, len(s.list))
	state := make([]byte, len(s.list))
	var visit func(i int)
	visit = func(i int) {
		if state[i] != 0 {
			return
		}
		state[i] = 1
		for _, n := range s.needs(i) {
			visit(n)
		}
		state[i] = 2
		out = append(out, s.list[i])
	}
	for _, i := range order {
		visit(i)
	}
	return out
}

// needs gives the statements whose names a statement's text has.
func (s *sorter) needs(i int) []int {
	var out []int
	for _, id := range s.list[i].after {
		if n, ok := s.ids[id]; ok && n != i {
			out = append(out, n)
		}
	}
	for _, name := range s.list[i].above {
		out = append(out, s.provides[name]...)
		out = append(out, s.provides["columns of "+name]...)
	}
	for _, name := range namesIn(s.list[i].sql + " " + s.list[i].also) {
		if shells := s.provides["shell "+name]; len(shells) > 0 && strings.HasPrefix(s.list[i].sql, "create function ") {
			out = append(out, shells...)
			continue
		}
		for _, n := range s.provides[name] {
			if n != i && name != s.list[i].self {
				out = append(out, n)
			}
		}
	}
	return out
}

// namesIn lists the names in a statement, with their schema, as ident writes them; a
// bare one is taken to stand in public. Strings that hold a name count, as in
// 'care.tank'::regclass; bodies of routines do not.
func namesIn(sql string) []string {
	ts, err := Dialect.Scan(sql)
	if err != nil {
		return nil
	}
	var out []string
	for i := 0; i < len(ts); i++ {
		switch t := ts[i]; {
		case t.Sort == sqltext.Literal && t.Text[0] == '\'' && i+1 < len(ts) && ts[i+1].Is("::"):
			if inner, err := Dialect.Scan(Dialect.Unquote(t.Text)); err == nil && len(inner) > 0 && len(inner) <= 3 {
				out = append(out, qualifiedText(inner)...)
			}
		case t.Sort == sqltext.Word || t.Sort == sqltext.Quoted:
			end := i + 1
			for end+1 < len(ts) && ts[end].Is(".") && end-i < 6 {
				end += 2
			}
			out = append(out, qualifiedText(ts[i:end])...)
			if ts[i].Is("operator") && i+4 < len(ts) && ts[i+1].Is("(") && ts[i+3].Is(".") {
				out = append(out, ident(Dialect.NameOf(ts[i+2]))+"."+ts[i+4].Text)
			}
			i = end - 1
		}
	}
	return out
}

// qualifiedText gives the names that a.b.c may mean: a.b, and b.c of a catalog; and a
// itself for what stands in no schema.
func qualifiedText(ts []sqltext.Token) []string {
	if len(ts) == 1 {
		name := Dialect.Name(Dialect.NameOf(ts[0]))
		return []string{"public." + name, name}
	}
	var out []string
	if len(ts) >= 3 {
		out = append(out, ident(Dialect.NameOf(ts[0]), Dialect.NameOf(ts[2])))
		out = append(out, "public."+ident(Dialect.NameOf(ts[0])))
	}
	return append(out, ident(Dialect.NameOf(ts[0])))
}
