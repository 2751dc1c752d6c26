package element

import "slices"

// came is a child that one side has and the base has not, with where it stands.
type came struct {
	e  *Element
	at Address
}

// moved is what a merge remembers to find things that a side took from one parent to
// another: the base's children that a side took away, and what it put in.
type moved struct {
	gone       []*Element // on both sides
	newM, newT []came
}

// note remembers what came and went among the children of one element.
func (g *merger) note(c *childMerge) {
	for i, kid := range c.b.Children {
		switch {
		case c.pm.toB[i] < 0 && c.pt.toB[i] < 0:
			g.moves.gone = append(g.moves.gone, kid)
		case c.pm.toB[i] < 0 || c.pt.toB[i] < 0:
			g.lost = append(g.lost, kid)
		}
	}
	steps := stepsOf(c.m.Children)
	for j, kid := range c.m.Children {
		if c.pm.toA[j] < 0 {
			g.moves.newM = append(g.moves.newM, came{kid, c.at.Below(steps[j])})
		}
	}
	steps = stepsOf(c.t.Children)
	for j, kid := range c.t.Children {
		if c.pt.toA[j] < 0 {
			g.moves.newT = append(g.moves.newT, came{kid, c.at.Below(steps[j])})
		}
	}
}

// crossed makes conflicts of things that are gone from where they were on both sides, and
// that one side, or both at different places, put in elsewhere. Where a conflict is open,
// mine stands.
func (g *merger) crossed(root *Element) *Element {
	if len(g.moves.gone) == 0 || len(g.moves.newM)+len(g.moves.newT) == 0 {
		return root
	}
	mine, theirs := g.arrivals(g.moves.newM), g.arrivals(g.moves.newT)
	for _, kid := range all(g.moves.gone) {
		id, ok := g.identity(kid)
		if !ok {
			continue
		}
		x, inM := mine[id]
		y, inT := theirs[id]
		if inM && x.e == nil || inT && y.e == nil || !inM && !inT || inM && inT && x.at.String() == y.at.String() {
			continue // not the only one, gone altogether, or moved alike
		}
		at := y.at
		if inM {
			at = x.at
		}
		choice := g.ask(Conflict{Address: at.Of(PlaceProperty), Base: Side{Element: kid}, Mine: placeSide(x, inM),
			Theirs: placeSide(y, inT), Allows: []Keep{KeepMine, KeepTheirs}})
		if choice.Keep == KeepTheirs && inM {
			root = without(root, x.e)
		}
		if choice.Keep != KeepTheirs && inT {
			root = without(root, y.e)
		}
	}
	return root
}

func placeSide(c came, there bool) Side {
	if !there {
		return Side{}
	}
	return Side{Value: TextValue(c.at.String())}
}

// thing is what something is known again by under another parent.
type thing struct {
	typ, key string
	sum      Digest
}

// identity gives what an element is known again by: its key, or all of its content.
func (g *merger) identity(e *Element) (thing, bool) {
	if e.Key != "" {
		return thing{e.Type, e.Key, Digest{}}, len(e.Props)+len(e.Children) > 0
	}
	return thing{e.Type, "", g.sums.of(e).whole}, len(e.Props)+e.Count()-1 >= weighty
}

// arrivals gives what came, and all below it, by identity; without an element where two
// share one.
func (g *merger) arrivals(list []came) map[thing]came {
	out := map[thing]came{}
	var visit func(c came)
	visit = func(c came) {
		if id, ok := g.identity(c.e); ok {
			if _, twice := out[id]; twice {
				out[id] = came{}
			} else {
				out[id] = c
			}
		}
		steps := stepsOf(c.e.Children)
		for i, kid := range c.e.Children {
			visit(came{kid, c.at.Below(steps[i])})
		}
	}
	for _, c := range list {
		visit(c)
	}
	return out
}

// all lists elements and everything below them.
func all(list []*Element) []*Element {
	var out []*Element
	for _, e := range list {
		out = append(out, e)
		out = append(out, all(e.Children)...)
	}
	return out
}

// without gives a tree from which one element is taken.
func without(root, gone *Element) *Element {
	if i := slices.Index(root.Children, gone); i >= 0 {
		c := *root
		c.Children = slices.Delete(slices.Clone(root.Children), i, i+1)
		return &c
	}
	for i, kid := range root.Children {
		if r := without(kid, gone); r != kid {
			c := *root
			c.Children = slices.Clone(root.Children)
			c.Children[i] = r
			return &c
		}
	}
	return root
}
