package element

// renamedProps makes conflicts of properties that are gone on both sides, where a side has
// the same value under a new name: two names, or a new name against a deletion. It gives the
// new names that do not stand.
func (g *merger) renamedProps(at Address, b, m, t *Element, gone []string) map[string]bool {
	drop := map[string]bool{}
	for _, name := range gone {
		was := b.Prop(name)
		if !says(was) {
			continue
		}
		x, y := newName(b, m, was), newName(b, t, was)
		if x == y {
			x, y = exchanged(b, m, name), exchanged(b, t, name)
			if x == y {
				continue
			}
		}
		text := func(name string) Side {
			if name == "" {
				return Side{}
			}
			return Side{Value: TextValue(name)}
		}
		choice := g.ask(Conflict{Address: at.Of(name), Base: Side{Value: was}, Mine: text(x), Theirs: text(y),
			Allows: []Keep{KeepMine, KeepTheirs, KeepBoth}})
		switch choice.Keep {
		case KeepMine:
			drop[y] = y != ""
		case KeepTheirs:
			drop[x] = x != ""
		}
	}
	g.replacedKids(at, b, m, t, drop)
	return drop
}

// replacedKids makes conflicts of children in whose place one side has put a property, and
// which the other side took away.
func (g *merger) replacedKids(at Address, b, m, t *Element, drop map[string]bool) {
	for _, c := range b.Children {
		if !structural(c) || hasChild(m, c) || hasChild(t, c) || !b.Prop(c.Key).IsAbsent() {
			continue
		}
		x, y := m.Prop(c.Key), t.Prop(c.Key)
		if x.IsAbsent() == y.IsAbsent() { // both did, or neither
			continue
		}
		choice := g.ask(Conflict{Address: at.Of(c.Key), Base: Side{Element: c}, Mine: Side{Value: x}, Theirs: Side{Value: y},
			Allows: []Keep{KeepMine, KeepTheirs}})
		drop[c.Key] = x.IsAbsent() == (choice.Keep == KeepMine)
	}
}

// says reports whether a value is enough to be known again under another name.
func says(v Value) bool {
	return v.sort != Absent && v.sort != Null && v.sort != Bool && v.String() != ""
}

// newName gives the only new property of a side that has a value; empty for none.
func newName(b, side *Element, v Value) string {
	found := ""
	for _, p := range side.Props {
		if b.Prop(p.Name).IsAbsent() && p.Value.Equal(v) {
			if found != "" {
				return ""
			}
			found = p.Name
		}
	}
	return found
}

// exchanged gives the name of a property in whose place a side has put a child.
func exchanged(b, side *Element, name string) string {
	for _, c := range side.Children {
		if structural(c) && c.Key == name && !hasChild(b, c) {
			return name
		}
	}
	return ""
}

// structural reports whether an element is a member of data like a property, by its key.
func structural(e *Element) bool {
	return e.Firm && (e.Type == "object" || e.Type == "list" || e.Type == "section")
}

func hasChild(e, like *Element) bool {
	for _, c := range e.Children {
		if c.Type == like.Type && c.Key == like.Key {
			return true
		}
	}
	return false
}
