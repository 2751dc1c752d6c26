package element

import "slices"

// Delta is what leads from tree A to tree B: a tree of its own that follows
// the pairs of matching elements. Equal subtrees have none.
type Delta struct {
	A, B  *Element
	Props []PropEdit
	// Kids says where each child of B comes from, in B's order; then, with
	// To < 0, the children of A that are gone. Empty when no child differs.
	Kids []KidEdit
}

// PropEdit is a property that differs; From or To is Absent when the property
// came or went.
type PropEdit struct {
	Name     string
	From, To Value
}

// KidEdit pairs child From of A with child To of B; -1 stands for none. Delta
// is nil when the two are equal but for their key. Moved marks a child whose
// place among its siblings changed.
type KidEdit struct {
	From, To int
	Delta    *Delta
	Moved    bool
}

// Compare gives the Delta from a to b, nil when they are equal. Cost is near
// linear in the two trees; equal subtrees are skipped by digest.
func Compare(a, b *Element) *Delta {
	m := digests{}
	if m.same(a, b) {
		return nil
	}
	return m.compare(a, b)
}

func (m digests) compare(a, b *Element) *Delta {
	d := &Delta{A: a, B: b, Props: propEdits(a, b)}
	if len(a.Children) == 0 && len(b.Children) == 0 {
		return d
	}
	p := m.match(a, b)
	differs := a.Ordered != b.Ordered
	pairs := make([][2]int, 0, len(b.Children))
	d.Kids = make([]KidEdit, 0, len(b.Children))
	for j, k := range b.Children {
		i := p.toA[j]
		edit := KidEdit{From: i, To: j}
		if i < 0 {
			differs = true
		} else {
			pairs = append(pairs, [2]int{j, i})
			if c := a.Children[i]; !m.same(c, k) {
				differs = true
				if !m.sameBody(c, k) {
					edit.Delta = m.compare(c, k)
				}
			}
		}
		d.Kids = append(d.Kids, edit)
	}
	for i := range a.Children {
		if p.toB[i] < 0 {
			differs = true
			d.Kids = append(d.Kids, KidEdit{From: i, To: -1})
		}
	}
	if a.Ordered && b.Ordered && !inOrder(pairs) {
		still := Increasing(pairs)
		for _, q := range pairs {
			if len(still) > 0 && still[0] == q {
				still = still[1:]
				continue
			}
			d.Kids[q[0]].Moved = true
			differs = true
		}
	}
	if !differs {
		d.Kids = nil
	}
	return d
}

func propEdits(a, b *Element) []PropEdit {
	var out []PropEdit
	for _, p := range a.Props {
		if q := b.Prop(p.Name); !p.Value.Equal(q) {
			out = append(out, PropEdit{p.Name, p.Value, q})
		}
	}
	for _, q := range b.Props {
		if a.Prop(q.Name).IsAbsent() {
			out = append(out, PropEdit{q.Name, Value{}, q.Value})
		}
	}
	return out
}

// Apply carries d out on a, the tree that it was computed from (or an equal
// one with its children in the same order), and gives the resulting tree. A nil
// Delta changes nothing.
func Apply(a *Element, d *Delta) *Element {
	if d == nil {
		return a
	}
	r := *a
	r.Type, r.Key, r.Ordered, r.Firm, r.Gist = d.B.Type, d.B.Key, d.B.Ordered, d.B.Firm, d.B.Gist
	r.Props = slices.Clone(a.Props)
	for _, p := range d.Props {
		r.Set(p.Name, p.To)
	}
	if len(d.Kids) == 0 {
		return &r
	}
	r.Children = make([]*Element, 0, len(d.B.Children))
	for _, k := range d.Kids {
		switch {
		case k.To < 0:
		case k.From < 0:
			r.Children = append(r.Children, d.B.Children[k.To])
		default:
			kid := Apply(a.Children[k.From], k.Delta)
			if want := d.B.Children[k.To]; kid.Key != want.Key {
				c := *kid
				c.Key = want.Key
				kid = &c
			}
			r.Children = append(r.Children, kid)
		}
	}
	return &r
}
