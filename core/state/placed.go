package state

import (
	"slices"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// confused reports whether both sides changed things that have no name and are known by
// their place in a list alone: who is who can't be told then.
func confused(b, m, t *Artifact) bool {
	if b == nil {
		return len(m.Reading.Placed) > 0 && len(t.Reading.Placed) > 0
	}
	if len(b.Reading.Placed)+len(m.Reading.Placed)+len(t.Reading.Placed) == 0 {
		return false
	}
	return touchesPlaced(b.Reading, m.Reading) && touchesPlaced(b.Reading, t.Reading)
}

// touchesPlaced reports whether a version has other things without names than the base,
// changed one, or refers to one where the base does not.
func touchesPlaced(b, is *kind.Reading) bool {
	if !slices.Equal(b.Placed, is.Placed) {
		return true
	}
	placed, keys := map[string]bool{}, map[string]bool{}
	for _, p := range b.Placed {
		placed[p] = true
	}
	was := map[string]*element.Element{}
	for _, e := range b.Root.Children {
		was[e.Type+":"+e.Key] = e
		if placed[e.Type+":"+e.Key] {
			keys[e.Key] = true
		}
	}
	for _, e := range is.Root.Children {
		old := was[e.Type+":"+e.Key]
		switch {
		case old != nil && old.Sum() == e.Sum():
		case placed[e.Type+":"+e.Key], refersTo(e, old, keys):
			return true
		}
	}
	return false
}

// refersTo reports whether an element names one of some keys where another one does not.
func refersTo(e, old *element.Element, keys map[string]bool) bool {
	for _, p := range e.Props {
		if p.Value.Sort() == element.Text && keys[p.Value.Text()] && (old == nil || !old.Prop(p.Name).Equal(p.Value)) {
			return true
		}
	}
	return slices.ContainsFunc(e.Children, func(c *element.Element) bool { return keys[c.Key] || refersTo(c, nil, keys) })
}
