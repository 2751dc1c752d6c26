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

func find(e, like *element.Element) *element.Element {
	for _, k := range e.Children {
		if k.Key == like.Key && k.Type == like.Type {
			return k
		}
	}
	return nil
}
