package element

import "slices"

// Merge combines mine and theirs, two descendants of base. Changes to different
// elements or properties combine; the same property changed to different
// values, and deletion against edit, are conflicts. settle decides conflicts;
// one left open stands as mine in the result and is listed, in the order of
// the tree.
//
// The form is that of a three-way merge over matched trees, after T. Lindholm,
// "A three-way merge for XML documents" (ACM DocEng 2004), with conflicts
// reported for each property rather than for each subtree.
func Merge(path string, base, mine, theirs *Element, settle Settle) (*Element, []Conflict) {
	return MergeBy(Rules{}, path, base, mine, theirs, settle)
}

// MergeBy is Merge for elements of which there are rules.
func MergeBy(rules Rules, path string, base, mine, theirs *Element, settle Settle) (*Element, []Conflict) {
	g := &merger{sums: digests{}, settle: settle, rules: rules}
	at := Address{Path: path}
	out := g.crossed(g.node(at, base, mine, theirs))
	return g.unsound(at, mine, theirs, out), g.conflicts
}

type merger struct {
	sums      digests
	settle    Settle
	conflicts []Conflict
	moves     moved
	rules     Rules
	// lost lists the base's elements that one side alone took away.
	lost []*Element
}

// ask gives the choice for a conflict: the person's, or mine with the conflict
// left open.
func (g *merger) ask(c Conflict) Choice {
	if g.settle != nil {
		if choice, ok := g.settle(c); ok && slices.Contains(c.Allows, choice.Keep) {
			return choice
		}
	}
	g.conflicts = append(g.conflicts, c)
	return Choice{Keep: KeepMine}
}

func (g *merger) same(a, b *Element) bool { return g.sums.same(a, b) }

func (g *merger) node(at Address, b, m, t *Element) *Element {
	switch {
	case g.same(m, t), g.same(b, t):
		g.renamed(b, m)
		return m
	case g.same(b, m):
		g.renamed(b, t)
		return t
	}
	if b.Key != m.Key || b.Key != t.Key {
		g.lost = append(g.lost, b) // under its former key
	}
	r := *m
	carrier := keyCarrier(b, m, t)
	if carrier == "" && (b.Key != "" || m.Key != t.Key) {
		key := g.value(at.Of(NameProperty), keyValue(b), keyValue(m), keyValue(t))
		r.Key = key.text
	}
	r.Props = g.props(at, b, m, t)
	if carrier != "" {
		r.Key = r.Prop(carrier).text
	}
	if m.Gist != t.Gist && b.Gist == m.Gist {
		r.Gist = t.Gist
	}
	r.Children = g.children(at, b, m, t)
	return &r
}

// renamed remembers that an element has another key, also among all below it.
func (g *merger) renamed(b, is *Element) {
	if b != is && !g.same(b, is) { // what changed inside is on one side alone
		g.lost = append(g.lost, b)
	}
}

// keyCarrier gives the property whose value is the key in all three versions, which do not
// have the same one: the key is then what becomes of the property.
func keyCarrier(b, m, t *Element) string {
	if b.Key == m.Key && m.Key == t.Key {
		return ""
	}
	for _, p := range b.Props {
		if p.Value.text == b.Key && m.Prop(p.Name).text == m.Key && t.Prop(p.Name).text == t.Key && m.Key != "" && t.Key != "" {
			return p.Name
		}
	}
	return ""
}

func keyValue(e *Element) Value {
	if e.Key == "" {
		return Value{}
	}
	return TextValue(e.Key)
}

func (g *merger) props(at Address, b, m, t *Element) []Prop {
	var out []Prop
	put := func(name string) {
		if v := g.value(at.Of(name), b.Prop(name), m.Prop(name), t.Prop(name)); !v.IsAbsent() {
			out = append(out, Prop{name, v})
		}
	}
	var gone []string
	for _, p := range b.Props {
		if m.Prop(p.Name).IsAbsent() && t.Prop(p.Name).IsAbsent() {
			gone = append(gone, p.Name)
		}
	}
	drop := g.renamedProps(at, b, m, t, gone)
	for _, p := range m.Props {
		if !drop[p.Name] {
			put(p.Name)
		}
	}
	for i, p := range t.Props {
		if !m.Prop(p.Name).IsAbsent() || drop[p.Name] {
			continue
		}
		n := len(out)
		if put(p.Name); len(out) == n || i == 0 {
			continue
		}
		// It stands behind what it follows there.
		if after := slices.IndexFunc(out[:n], func(q Prop) bool { return q.Name == t.Props[i-1].Name }); after >= 0 {
			last := out[n]
			out = slices.Insert(out[:n], after+1, last)
		}
	}
	return out
}

func (g *merger) value(at Address, b, m, t Value) Value {
	switch {
	case m.Equal(t), b.Equal(t):
		return m
	case b.Equal(m):
		return t
	}
	if v, ok := grownList(b, m, t); ok {
		return v
	}
	allows := valueChoices
	if m.sort == Bytes || t.sort == Bytes {
		allows = elementChoices
	}
	choice := g.ask(Conflict{Address: at, Base: Side{Value: b}, Mine: Side{Value: m}, Theirs: Side{Value: t}, Allows: allows})
	switch choice.Keep {
	case KeepTheirs:
		return t
	case KeepBase:
		return b
	case KeepValue:
		return choice.Value
	default:
		return m
	}
}

// survivor decides about a base child that one side took away; gone is nil on
// the side that did.
func (g *merger) survivor(at Address, b, m, t *Element) *Element {
	kept := m
	if kept == nil {
		kept = t
	}
	if g.same(b, kept) {
		return nil
	}
	choice := g.ask(Conflict{Address: at, Base: Side{Element: b}, Mine: Side{Element: m}, Theirs: Side{Element: t}, Allows: elementChoices})
	switch choice.Keep {
	case KeepTheirs:
		return t
	case KeepBase:
		return b
	default:
		return m
	}
}
