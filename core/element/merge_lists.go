package element

// grownList merges lists of scalars to which both sides only added, at different places. Other
// changes of a list are one change of one value: what stands in a list may be known by its
// place.
func grownList(b, m, t Value) (Value, bool) {
	if b.sort != List || m.sort != List || t.sort != List {
		return Value{}, false
	}
	inM, okM := additions(b.Items(), m.Items())
	inT, okT := additions(b.Items(), t.Items())
	if !okM || !okT {
		return Value{}, false
	}
	var out []Value
	for i := range len(b.Items()) + 1 {
		if len(inM[i]) > 0 && len(inT[i]) > 0 {
			return Value{}, false
		}
		out = append(append(out, inM[i]...), inT[i]...)
		if i < len(b.Items()) {
			out = append(out, b.Items()[i])
		}
	}
	return ListValue(out...), true
}

// additions gives what a list has before each item of another one and behind the last,
// when it has all of those. Where an added item equals its neighbour, its place is not
// known, and there is no answer.
func additions(from, to []Value) ([][]Value, bool) {
	out := make([][]Value, len(from)+1)
	i := 0
	for _, v := range to {
		if i < len(from) && from[i].Equal(v) {
			i++
			continue
		}
		if i > 0 && from[i-1].Equal(v) {
			return nil, false
		}
		out[i] = append(out[i], v)
	}
	return out, i == len(from)
}
