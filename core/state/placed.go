package state

import (
	"maps"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// confused reports whether both sides changed things of one type that have no name and are
// known by their place in a list alone: who is who can't be told then.
func confused(b, m, t *Artifact) bool {
	if b == nil {
		return len(m.Reading.Placed) > 0 && len(t.Reading.Placed) > 0
	}
	if len(b.Reading.Placed)+len(m.Reading.Placed)+len(t.Reading.Placed) == 0 {
		return false
	}
	mine, theirs := touchesPlaced(b.Reading, m.Reading), touchesPlaced(b.Reading, t.Reading)
	for typ := range mine {
		if theirs[typ] {
			return true
		}
	}
	return false
}

// touchesPlaced gives the types of things without names that a version changed, has others
// of than the base, or refers to where the base does not.
func touchesPlaced(b, is *kind.Reading) map[string]bool {
	placed, types, touched := map[string]bool{}, map[string]map[string]bool{}, map[string]bool{}
	for _, p := range b.Placed {
		placed[p] = true
		typ, key, _ := strings.Cut(p, ":")
		if types[key] == nil {
			types[key] = map[string]bool{}
		}
		types[key][typ] = true
	}
	if !slices.Equal(b.Placed, is.Placed) {
		// Somebody came or went, and the rest may have moved.
		for _, p := range slices.Concat(b.Placed, is.Placed) {
			typ, _, _ := strings.Cut(p, ":")
			touched[typ] = true
		}
	}
	was := map[string]*element.Element{}
	for _, e := range b.Root.Children {
		was[e.Type+":"+e.Key] = e
	}
	for _, e := range is.Root.Children {
		old := was[e.Type+":"+e.Key]
		if old != nil && old.Sum() == e.Sum() {
			continue
		}
		if placed[e.Type+":"+e.Key] {
			touched[e.Type] = true
		}
		refersTo(e, old, types, touched)
	}
	return touched
}

// refersTo marks the types of the things that an element names, by their keys, where
// another one does not.
func refersTo(e, old *element.Element, types map[string]map[string]bool, touched map[string]bool) {
	for _, p := range e.Props {
		if p.Value.Sort() == element.Text && (old == nil || !old.Prop(p.Name).Equal(p.Value)) {
			maps.Copy(touched, types[p.Value.Text()])
		}
	}
	for i, c := range e.Children {
		var was *element.Element
		if old != nil && i < len(old.Children) && old.Children[i].Type == c.Type && old.Children[i].Key == c.Key {
			was = old.Children[i]
		}
		if was == nil {
			maps.Copy(touched, types[c.Key])
		}
		refersTo(c, was, types, touched)
	}
}
