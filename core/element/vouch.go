package element

// Unvouched lists properties of a merged tree that have a value which, at their address,
// neither the base nor a side has: a merge must not come to such. It looks at elements that
// all three have under one key, by their addresses alone, and so knows nothing of how the
// merge came about. Lists that grew on both sides are left out.
func Unvouched(path string, b, m, t, out *Element) []Address {
	var found []Address
	unvouched(Address{Path: path}, b, m, t, out, &found)
	return found
}

func unvouched(at Address, b, m, t, out *Element, found *[]Address) {
	if out == m || out == t {
		return
	}
	for _, p := range out.Props {
		v := p.Value
		if v.sort != List && !v.Equal(b.Prop(p.Name)) && !v.Equal(m.Prop(p.Name)) && !v.Equal(t.Prop(p.Name)) {
			*found = append(*found, at.Of(p.Name))
		}
	}
	in := [3]map[name]*Element{keyed(b), keyed(m), keyed(t)}
	for _, kid := range out.Children {
		id := name{kid.Type, kid.Key}
		x, y, z := in[0][id], in[1][id], in[2][id]
		if kid.Key != "" && x != nil && y != nil && z != nil {
			unvouched(at.Below(Step{Type: kid.Type, Key: kid.Key}), x, y, z, kid, found)
		}
	}
}

// keyed gives the children that have a key of their own, which no copy shares.
func keyed(e *Element) map[name]*Element {
	out := make(map[name]*Element, len(e.Children))
	for _, k := range e.Children {
		if k.Key != "" && !doubled(k.Key) {
			out[name{k.Type, k.Key}] = k
		}
	}
	for _, k := range e.Children {
		if doubled(k.Key) {
			delete(out, name{k.Type, rootKey(k.Key)})
		}
	}
	return out
}
