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
		if more, err := f.artifact(r, t, u); err != nil || !more {
			return err
		}
	}
	return nil
}

// FindIn is Find in one artifact, which may be missing.
func (r *Reader) FindIn(ctx context.Context, s State, unit, text string, found func(Hit) bool) error {
	t, err := openAt(ctx, s, unit)
	if err != nil {
		return err
	}
	_, err = (&finder{text: strings.ToLower(text), found: found}).artifact(r, t, unit)
	return err
}

// artifact looks through one artifact; more is false when found has had enough.
func (f *finder) artifact(r *Reader, t *Snapshot, unit string) (more bool, err error) {
	a, err := r.ignoreMissing(t, unit)
	if err != nil || a == nil {
		return err == nil, err
	}
	f.kind = a.Kind.Name()
	at := element.Address{Path: unit}
	if f.holds(unit) && !f.found(Hit{at, summary(a).Gist, f.kind}) {
		return false, nil
	}
	return f.element(a.Reading.Root, at), nil
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
