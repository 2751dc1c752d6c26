package element

import "slices"

// Graft gives a tree in which what an address names is as another tree has it:
// an element with all below it, or one property. What the other tree does not
// have goes. ok is false when neither has it, or the element that it lies in is
// missing here. Neither tree is changed.
func Graft(onto, from *Element, a Address) (grafted *Element, ok bool) {
	out := onto.Clone()
	there := from.Find(a.Steps)
	if a.Property != "" {
		here := out.Find(a.Steps)
		if here == nil || there == nil || here.Prop(a.Property).IsAbsent() && there.Prop(a.Property).IsAbsent() {
			return nil, false
		}
		here.Set(a.Property, there.Prop(a.Property))
		return out, true
	}
	if len(a.Steps) == 0 {
		return from.Clone(), true
	}
	step := a.Steps[len(a.Steps)-1]
	parent := out.Find(a.Steps[:len(a.Steps)-1])
	if parent == nil {
		return nil, false
	}
	at := childAt(parent.Children, step)
	switch {
	case there == nil && at < 0:
		return nil, false
	case there == nil:
		parent.Children = slices.Delete(parent.Children, at, at+1)
	case at >= 0:
		parent.Children[at] = there.Clone()
	default:
		beside := from.Find(a.Steps[:len(a.Steps)-1])
		at = placeFor(parent, beside, childAt(beside.Children, step))
		parent.Children = slices.Insert(parent.Children, at, there.Clone())
	}
	return out, true
}

// placeFor gives where the k-th child of one element goes among the children of
// another: after the nearest one before it that both have.
func placeFor(parent, from *Element, k int) int {
	steps := from.Steps()
	for i := k - 1; i >= 0; i-- {
		if at := childAt(parent.Children, steps[i]); at >= 0 {
			return at + 1
		}
	}
	return 0
}
