package state

import (
	"context"
	"slices"
	"strings"

	"oakenchest/core/element"
)

// Hit is a place where a text was found: in a path, in the key of an element,
// or in the value of a property.
type Hit struct {
	Address element.Address
	// Value is the property's value, or the element's summary.
	Value string
	Kind  string
}

// Find looks for a text, without regard to capitals, in the paths, element keys
// and values of a state, in the order of paths. found is called for each hit;
// false stops.
func (r *Reader) Find(ctx context.Context, s State, text string, paths []string, found func(Hit) bool) error {
	t, err := open(ctx, s)
	if err != nil {
		return err
	}
	units := map[string]bool{}
	for p := range t.files {
		if u := r.Unit(p); Under(paths, p) || Under(paths, u) {
			units[u] = true
		}
	}
	var sorted []string
	for u := range units {
		sorted = append(sorted, u)
	}
	slices.Sort(sorted)
	f := &finder{text: strings.ToLower(text), found: found}
	for _, u := range sorted {
		if err := ctx.Err(); err != nil {
			return err
		}
		a, err := r.ignoreMissing(t, u)
		if err != nil {
			return err
		}
		if a == nil {
			continue
		}
		f.kind = a.Kind.Name()
		at := element.Address{Path: u}
		if f.holds(u) && !f.found(Hit{at, summary(a).Gist, f.kind}) || !f.element(a.Reading.Root, at) {
			return nil
		}
	}
	return nil
}

type finder struct {
	text, kind string
	found      func(Hit) bool
}

func (f *finder) holds(s string) bool { return strings.Contains(strings.ToLower(s), f.text) }

// element looks through an element's properties and below it; false stops.
func (f *finder) element(e *element.Element, at element.Address) bool {
	for _, p := range e.Props {
		if p.Value.Sort() != element.Bytes && f.holds(p.Value.String()) && !f.found(Hit{at.Of(p.Name), p.Value.String(), f.kind}) {
			return false
		}
	}
	steps := e.Steps()
	for i, k := range e.Children {
		below := at.Below(steps[i])
		if k.Key != "" && f.holds(k.Key) && !f.found(Hit{below, k.Summary(), f.kind}) {
			return false
		}
		if !f.element(k, below) {
			return false
		}
	}
	return true
}
