package element

// dangling makes conflicts of references that one side put in, to elements that the other
// side took away. A reference is a text that is the key of an element of the same version.
// Where such a conflict is open, mine stands.
func (g *merger) dangling(at Address, b, m, t, out *Element) *Element {
	if len(g.moves.gone)+len(g.lost) == 0 {
		return out
	}
	left := keysIn(out)
	gone := map[string]bool{}
	for _, side := range []*Element{m, t} {
		for key := range keysIn(side) {
			if !left[key] {
				gone[key] = true
			}
		}
	}
	if len(gone) == 0 {
		return out
	}
	known := [2]map[reference]bool{references(m, gone, keysIn(m)), references(t, gone, keysIn(t))}
	bare := [2]map[reference]bool{references(m, gone, nil), references(t, gone, nil)}
	var visit func(at Address, e *Element) *Element
	visit = func(at Address, e *Element) *Element {
		r := e
		for _, p := range e.Props {
			ref := reference{p.Name, p.Value.text}
			if p.Value.sort != Text || !gone[p.Value.text] || p.Value.text == e.Key {
				continue
			}
			// Somebody has it and what it leads to; the other one has neither.
			for side := range known {
				if !known[side][ref] || bare[1-side][ref] {
					continue
				}
				c := Conflict{Address: at.Of(p.Name), Allows: []Keep{KeepMine, KeepTheirs}}
				had := &c.Mine
				if side == 1 {
					had = &c.Theirs
				}
				*had = Side{Value: p.Value}
				if choice := g.ask(c); (choice.Keep == KeepMine) != (side == 0) {
					x := *r
					r = &x
					r.Set(p.Name, Value{})
				}
				break
			}
		}
		steps := steps{kids: e.Children}
		for i, kid := range e.Children {
			if k := visit(at.Below(steps.at(i)), kid); k != kid {
				if r == e {
					x := *e
					r = &x
				}
				if len(r.Children) > 0 && &r.Children[0] == &e.Children[0] {
					r.Children = append([]*Element{}, e.Children...)
				}
				r.Children[i] = k
			}
		}
		return r
	}
	return visit(at, out)
}

// reference is a property that names an element.
type reference struct{ name, key string }

// references lists properties whose value is one of some keys, and, unless nil, one of
// others too.
func references(e *Element, keys, among map[string]bool) map[reference]bool {
	out := map[reference]bool{}
	var visit func(e *Element)
	visit = func(e *Element) {
		for _, p := range e.Props {
			if p.Value.sort == Text && keys[p.Value.text] && p.Value.text != e.Key && (among == nil || among[p.Value.text]) {
				out[reference{p.Name, p.Value.text}] = true
			}
		}
		for _, k := range e.Children {
			visit(k)
		}
	}
	visit(e)
	return out
}

// leastKey is the least length of a key that is taken for one that others refer to.
const leastKey = 2

func keysIn(e *Element) map[string]bool {
	out := map[string]bool{}
	var visit func(e *Element)
	visit = func(e *Element) {
		if len(e.Key) >= leastKey {
			out[e.Key] = true
		}
		for _, k := range e.Children {
			visit(k)
		}
	}
	visit(e)
	return out
}
