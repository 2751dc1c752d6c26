package element

import (
	"strings"
	"unicode"
)

// Rules say more of the elements of a kind than their trees do.
type Rules struct {
	// Words says that texts name elements by words in them, as SQL does, whatever the case.
	Words bool
	// Unique lists types whose keys no two elements share, wherever they are.
	Unique []string
}

// unsound makes conflicts of what can't be although each side alone can: references that
// one side put in to what the other took away, and keys that have to be unique and that
// each side gave to something. Where such a conflict is open, mine stands.
func (g *merger) unsound(at Address, m, t, out *Element) *Element {
	if len(g.moves.gone)+len(g.lost) > 0 {
		out = g.dangling(at, m, t, out)
	}
	for _, typ := range g.rules.Unique {
		out = g.twice(at, typ, m, t, out)
	}
	return out
}

// name is a typed key; without a type where references do not tell types.
type name struct{ typ, key string }

// reference is a property that names an element: where, and which.
type reference struct {
	at  string
	key string
}

// leastKey is the least length of a key that is taken for one that others refer to.
const leastKey = 2

// names gives what references can lead to.
func (g *merger) names(e *Element) map[name]bool {
	out := map[name]bool{}
	var visit func(e *Element)
	visit = func(e *Element) {
		switch {
		case len(e.Key) < leastKey:
		case g.rules.Words:
			out[name{e.Type, strings.ToLower(e.Key)}] = true
		default:
			out[name{"", e.Key}] = true
		}
		for _, k := range e.Children {
			visit(k)
		}
	}
	visit(e)
	return out
}

// uses gives the keys among some that a property names.
func (g *merger) uses(e *Element, p Prop, among map[string]bool) []string {
	if p.Value.sort != Text || p.Value.text == e.Key && !g.rules.Words {
		return nil
	}
	if !g.rules.Words {
		if among[p.Value.text] {
			return []string{p.Value.text}
		}
		return nil
	}
	var out []string
	for _, word := range strings.FieldsFunc(strings.ToLower(p.Value.text),
		func(r rune) bool { return r != '_' && !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
		if among[word] && word != strings.ToLower(e.Key) {
			out = append(out, word)
		}
	}
	return out
}

// references lists what the properties of a tree name.
func (g *merger) references(e *Element, among map[string]bool) map[reference]bool {
	out := map[reference]bool{}
	var visit func(at string, e *Element)
	visit = func(at string, e *Element) {
		for _, p := range e.Props {
			for _, key := range g.uses(e, p, among) {
				out[reference{at + p.Name, key}] = true
			}
		}
		for _, k := range e.Children {
			if g.rules.Words { // elsewhere the name of the property is enough
				visit(at+k.Type+":"+k.Key+"/", k)
			} else {
				visit(at, k)
			}
		}
	}
	visit("", e)
	return out
}

// dangling finds references that lead nowhere.
func (g *merger) dangling(at Address, m, t, out *Element) *Element {
	left := g.names(out)
	sides := [2]*Element{m, t}
	gone := map[string]bool{}
	var here [2]map[string]bool
	for i, side := range sides {
		here[i] = map[string]bool{}
		for n := range g.names(side) {
			if !left[n] {
				gone[n.key], here[i][n.key] = true, true
			}
		}
	}
	if len(gone) == 0 {
		return out
	}
	has := [2]map[reference]bool{g.references(m, gone), g.references(t, gone)}
	type finding struct {
		at   Address
		side int
	}
	var found []finding
	var visit func(at Address, path string, e *Element)
	visit = func(at Address, path string, e *Element) {
		for _, p := range e.Props {
			for _, key := range g.uses(e, p, gone) {
				ref := reference{path + p.Name, key}
				// Somebody has it and what it leads to; the other one has neither.
				for side := range sides {
					if has[side][ref] && here[side][key] && !has[1-side][ref] {
						found = append(found, finding{at.Of(p.Name), side})
						break
					}
				}
			}
		}
		steps := steps{kids: e.Children}
		for i, kid := range e.Children {
			next := path
			if g.rules.Words {
				next = path + kid.Type + ":" + kid.Key + "/"
			}
			visit(at.Below(steps.at(i)), next, kid)
		}
	}
	visit(at, "", out)
	seen := map[string]bool{}
	for _, f := range found {
		a := owner(f.at, sides[1-f.side])
		if !seen[a.String()] {
			seen[a.String()] = true
			out = g.withoutOne(a, f.side, sides, out)
		}
	}
	return out
}

// owner gives the address of what one side put in and the other does not have: the
// property, or the element that it came with.
func owner(a Address, other *Element) Address {
	for i := range a.Steps {
		if other.Find(a.Steps[:i+1]) == nil {
			a.Steps, a.Property = a.Steps[:i+1], ""
			return a
		}
	}
	return a
}

// withoutOne asks about what one side has put in, and gives the tree without it, or with
// what the other side has there, unless that side's stands.
func (g *merger) withoutOne(a Address, side int, sides [2]*Element, out *Element) *Element {
	has := func(root *Element) Side {
		e := root.Find(a.Steps)
		switch {
		case e == nil:
			return Side{}
		case a.Property != "":
			return Side{Value: e.Prop(a.Property)}
		}
		return Side{Element: e}
	}
	choice := g.ask(Conflict{Address: a, Mine: has(sides[0]), Theirs: has(sides[1]), Allows: []Keep{KeepMine, KeepTheirs}})
	if (choice.Keep == KeepMine) == (side == 0) {
		return out
	}
	if grafted, ok := Graft(out, sides[1-side], a); ok {
		return grafted
	}
	return out
}

// twice finds keys of a type that two elements have, one of each side.
func (g *merger) twice(at Address, typ string, m, t, out *Element) *Element {
	where := func(root *Element) map[string][]Address {
		found := map[string][]Address{}
		var visit func(at Address, e *Element)
		visit = func(at Address, e *Element) {
			for _, k := range e.Children {
				below := at.Below(Step{Type: k.Type, Key: k.Key})
				if k.Type == typ && k.Key != "" {
					key := strings.ToLower(k.Key)
					found[key] = append(found[key], below)
				}
				visit(below, k)
			}
		}
		visit(at, root)
		return found
	}
	inM, inT := where(m), where(t)
	for key, places := range where(out) {
		if len(places) < 2 || len(inM[key]) > 1 || len(inT[key]) > 1 {
			continue
		}
		for _, a := range places {
			if m.Find(a.Steps) == nil { // theirs put it in
				out = g.withoutOne(a, 1, [2]*Element{m, t}, out)
				break
			}
		}
	}
	return out
}
