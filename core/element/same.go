package element

// same reports whether two trees are equal, keys included. Trees of one shape are
// walked side by side, which is far cheaper than digests; only a set whose
// children stand in another order is held against the other by digest.
func (m digests) same(a, b *Element) bool {
	return a == b || a.Key == b.Key && m.sameBody(a, b)
}

// sameBody is same for all but the keys of the two.
func (m digests) sameBody(a, b *Element) bool {
	if a.Type != b.Type || len(a.Props) != len(b.Props) || len(a.Children) != len(b.Children) || a.Ordered != b.Ordered &&
		len(a.Children) > 1 {
		return false
	}
	for i, p := range a.Props {
		v := b.Props[i].Value
		if p.Name != b.Props[i].Name {
			v = b.Prop(p.Name)
		}
		if !p.Value.Equal(v) {
			return false
		}
	}
	for i, k := range a.Children {
		if m.same(k, b.Children[i]) {
			continue
		}
		return !a.Ordered && len(a.Children) > 1 && !aligned(a.Children, b.Children) && m.of(a).body == m.of(b).body
	}
	return true
}

// aligned reports whether two lists of children are the same keyed things in the
// same places, so that they pair by place.
func aligned(a, b []*Element) bool {
	if len(a) != len(b) {
		return false
	}
	for i, k := range a {
		if k.Key == "" || k.Key != b[i].Key || k.Type != b[i].Type {
			return false
		}
	}
	return true
}
