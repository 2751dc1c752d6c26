package sqlite

import (
	"slices"
	"strings"

	"oakenchest/core/element"
)

// expand plans what is done to a table before data steps run: it gets its new name and those of
// its columns, and new columns that take anything. It gives the table as it is then; what it was
// is in p.was.
func (p *planner) expand(l, t *element.Element) *element.Element {
	out := *l
	out.Key, out.Children = t.Key, slices.Clone(l.Children)
	do := func(what, statement string) {
		p.steps = append(p.steps, Step{Address: at(t), What: what, Effect: Instant, Statements: []string{statement}})
	}
	if l.Key != t.Key {
		do("rename "+l.Key, "alter table "+ident(l.Key)+" rename to "+ident(t.Key))
	}
	var added []*element.Element
	for _, c := range kidsOf(t, "column") {
		switch k := p.source(l, t, c); {
		case k == nil && c.Prop("generated").IsAbsent():
			added = append(added, c)
		case k != nil && !strings.EqualFold(k.Key, c.Key):
			named := *k
			named.Key = c.Key
			out.Children[slices.Index(out.Children, k)] = &named
			p.was[&named] = k
			do("rename the column "+k.Key, "alter table "+ident(t.Key)+" rename column "+ident(k.Key)+" to "+ident(c.Key))
		}
	}
	for _, c := range added {
		open := openColumn(c)
		out.Children = append(out.Children, open)
		p.was[open] = nil
		do("add the column "+c.Key+", which takes null until data steps have run",
			"alter table "+ident(t.Key)+" add column "+columnSQL(open))
	}
	return &out
}

// openColumn gives a column that can be added to rows and takes anything of its type.
func openColumn(c *element.Element) *element.Element {
	open := &element.Element{Type: c.Type, Key: c.Key, Gist: c.Gist}
	for _, name := range []string{"type", "collate", "default"} {
		v := c.Prop(name)
		text := strings.ToLower(v.Text())
		if v.IsAbsent() || name == "default" && (strings.HasPrefix(text, "(") || strings.HasPrefix(text, "current_")) {
			continue
		}
		open.Set(name, v)
	}
	return open
}
