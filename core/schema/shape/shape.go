// Package shape has the small acts on elements that every engine's package needs:
// finding children, setting properties only when they say something.
package shape

import (
	"slices"
	"strings"

	"oakenchest/core/element"
)

// Kid gives the child of a type and key, or nil.
func Kid(e *element.Element, typ, key string) *element.Element {
	for _, k := range e.Children {
		if k.Key == key && k.Type == typ {
			return k
		}
	}
	return nil
}

// Kids gives the children of a type, in their order.
func Kids(e *element.Element, typ string) []*element.Element {
	var out []*element.Element
	for _, k := range e.Children {
		if k.Type == typ {
			out = append(out, k)
		}
	}
	return out
}

// SortedKids gives the children of a type by key.
func SortedKids(e *element.Element, typ string) []*element.Element {
	out := Kids(e, typ)
	slices.SortFunc(out, func(a, b *element.Element) int { return strings.Compare(a.Key, b.Key) })
	return out
}

// SetText sets a property unless the text is empty.
func SetText(e *element.Element, name, v string) {
	if v != "" {
		e.Set(name, element.TextValue(v))
	}
}

// SetTrue sets a property when it is true.
func SetTrue(e *element.Element, name string, v bool) {
	if v {
		e.Set(name, element.BoolValue(true))
	}
}

// Has says that an element has a property.
func Has(e *element.Element, name string) bool { return !e.Prop(name).IsAbsent() }

// Text gives a property's text, empty for none.
func Text(e *element.Element, name string) string { return e.Prop(name).Text() }

// Clip shortens a text to what fits on a line.
func Clip(s string) string {
	if r := []rune(s); len(r) > 60 {
		return string(r[:60]) + " …"
	}
	return s
}

// SameProps compares the properties that count, in any order.
func SameProps(a, b *element.Element, counts func(string) bool) bool {
	n := 0
	for _, p := range a.Props {
		if counts(p.Name) {
			n++
			if b.Prop(p.Name).String() != p.Value.String() || b.Prop(p.Name).IsAbsent() {
				return false
			}
		}
	}
	for _, p := range b.Props {
		if counts(p.Name) {
			n--
		}
	}
	return n == 0
}
