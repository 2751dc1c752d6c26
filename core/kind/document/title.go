package document

import (
	"slices"

	"oakenchest/core/element"
)

// The title of a section or slide is its key. Where it stands in one piece, the place says
// only that it stands there: so a title that is given another wording is one change, and
// what has it is known by all the rest.

const (
	textProperty   = "text"
	titledProperty = "is the title"
)

// titled gives a tree in which the one place that has the title says so.
func titled(e *element.Element, title string, skip ...string) *element.Element {
	if title == "" || times(e, title, skip) != 1 || times(e, "", skip) != 0 {
		return e
	}
	return changed(e, func(c *element.Element) bool {
		at := slices.IndexFunc(c.Props, func(p element.Prop) bool { return p.Name == textProperty && p.Value.Text() == title })
		if at < 0 || slices.Contains(skip, c.Type) {
			return false
		}
		c.Props = slices.Clone(c.Props)
		c.Props[at] = element.Prop{Name: titledProperty, Value: element.BoolValue(true)}
		return true
	})
}

// entitled is the reverse.
func entitled(e *element.Element, title string) *element.Element {
	return changed(e, func(c *element.Element) bool {
		at := slices.IndexFunc(c.Props, func(p element.Prop) bool { return p.Name == titledProperty })
		if at < 0 {
			return false
		}
		c.Props = slices.Clone(c.Props)
		c.Props[at] = element.Prop{Name: textProperty, Value: element.TextValue(title)}
		return true
	})
}

// times counts the places that have a text; with an empty one, those that are titles.
func times(e *element.Element, text string, skip []string) int {
	n := 0
	if v := e.Prop(textProperty); text != "" && v.Sort() == element.Text && v.Text() == text && !slices.Contains(skip, e.Type) {
		n++
	}
	if text == "" && !e.Prop(titledProperty).IsAbsent() {
		n++
	}
	for _, c := range e.Children {
		n += times(c, text, skip)
	}
	return n
}

// changed gives a tree in which an act was done to a copy of every element that it says it
// has changed.
func changed(e *element.Element, act func(*element.Element) bool) *element.Element {
	out := *e
	did := act(&out)
	kids := slices.Clone(e.Children)
	for i, c := range e.Children {
		kids[i] = changed(c, act)
		did = did || kids[i] != c
	}
	if !did {
		return e
	}
	out.Children = kids
	return &out
}

// own gives the key of each of some elements as it was before equal ones were told apart:
// Distinguish makes the second "Lamp" a "Lamp~2".
func own(kids []*element.Element) []string {
	keys := make([]string, len(kids))
	seen := map[string]bool{}
	for i, k := range kids {
		keys[i] = undoubled(k.Key, seen)
		seen[k.Key] = true
	}
	return keys
}

// undoubled takes the number off a key, when what is before it was seen.
func undoubled(key string, seen map[string]bool) string {
	for i := len(key) - 1; i > 0; i-- {
		switch c := key[i]; {
		case c == '~' && i < len(key)-1 && seen[key[:i]]:
			return key[:i]
		case c < '0' || c > '9':
			return key
		}
	}
	return key
}
