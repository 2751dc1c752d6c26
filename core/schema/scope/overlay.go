package scope

import (
	"slices"

	"oakenchest/core/element"
)

// Overlay gives what a database is to hold whole: the wanted tree, and all that is out
// of scope as the live one has it now: objects that are not tracked, and the
// properties of tracked ones that make no difference.
func (s Scope) Overlay(want, live *element.Element) *element.Element {
	inScope := s.Apply(live)
	return s.overlay(s.Align(s.Apply(want), live), live, inScope)
}

func (s Scope) overlay(want, live, inScope *element.Element) *element.Element {
	out := *want
	out.Props = slices.Clone(want.Props)
	for _, p := range live.Props {
		if inScope.Prop(p.Name).IsAbsent() && !s.keeps(p.Name) {
			out.Set(p.Name, p.Value)
		}
	}
	out.Children = nil
	used := map[*element.Element]bool{}
	for _, w := range want.Children {
		l := find(live, w)
		if l == nil {
			out.Children = append(out.Children, w)
			continue
		}
		used[l] = true
		in := find(inScope, w)
		if in == nil {
			in = &element.Element{Type: l.Type, Key: l.Key}
		}
		out.Children = append(out.Children, s.overlay(w, l, in))
	}
	for _, l := range live.Children {
		if !used[l] && find(inScope, l) == nil {
			out.Children = append(out.Children, l)
		}
	}
	return &out
}

// WithUntracked gives a tree with the objects of another one that are out of scope: what no
// filter lets pass is nobody's to change, and stays as it is declared.
func (s Scope) WithUntracked(tree, declared *element.Element) *element.Element {
	out := *tree
	out.Children = slices.Clone(tree.Children)
	for _, d := range declared.Children {
		if d.Type != "schema" {
			if !s.takes(d, d.Key) {
				out.Children = append(out.Children, d)
			}
			continue
		}
		var left []*element.Element
		for _, k := range d.Children {
			if !s.takes(k, d.Key+"."+k.Key) {
				left = append(left, k)
			}
		}
		at := slices.IndexFunc(out.Children, func(e *element.Element) bool { return e.Type == d.Type && e.Key == d.Key })
		switch {
		case len(left) == 0:
		case at >= 0:
			inner := *out.Children[at]
			inner.Children = append(slices.Clone(inner.Children), left...)
			out.Children[at] = &inner
		default:
			inner := *d
			inner.Children = left
			out.Children = append(out.Children, &inner)
		}
	}
	return &out
}

func find(e, like *element.Element) *element.Element {
	for _, k := range e.Children {
		if k.Key == like.Key && k.Type == like.Type {
			return k
		}
	}
	return nil
}
