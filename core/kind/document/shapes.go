package document

import (
	"slices"
	"strconv"

	"oakenchest/core/element"
)

// The shapes of a slide have numbers, which some programs give anew when they save. Where
// nothing on the slide refers to one (an animation, a line that ties two), the view has none.

const shapeName = "cNvPr"

// uncounted gives the part of a slide without the numbers of its shapes.
func uncounted(p *element.Element) *element.Element {
	if refersToShapes(p) {
		return p
	}
	return changed(p, func(c *element.Element) bool {
		at := slices.IndexFunc(c.Props, func(p element.Prop) bool { return p.Name == "id" })
		if local(c.Type) != shapeName || at < 0 {
			return false
		}
		c.Key, c.Firm = "", false
		c.Props = slices.Delete(slices.Clone(c.Props), at, at+1)
		return true
	})
}

func refersToShapes(e *element.Element) bool {
	name := local(e.Type)
	return name == "stCxn" || name == "endCxn" || !e.Prop("spid").IsAbsent() || slices.ContainsFunc(e.Children, refersToShapes)
}

// counted is the reverse. The part that is there, nil for none, lends the numbers that it
// has; others count on.
func counted(p, raw *element.Element) *element.Element {
	var had []string
	if raw != nil {
		had = shapeNumbers(raw, nil)
	}
	used := map[string]bool{}
	for _, id := range shapeNumbers(p, nil) {
		used[id] = true
	}
	last, n := 0, 0
	for _, id := range had {
		k, _ := strconv.Atoi(id)
		last = max(last, k)
	}
	return changed(p, func(c *element.Element) bool {
		if local(c.Type) != shapeName || !c.Prop("id").IsAbsent() {
			return false
		}
		id := ""
		if n < len(had) && !used[had[n]] {
			id = had[n]
		}
		for n++; id == "" || used[id]; {
			last++
			id = strconv.Itoa(last)
		}
		used[id] = true
		c.Key = id
		c.Props = slices.Insert(slices.Clone(c.Props), 0, element.Prop{Name: "id", Value: element.TextValue(id)})
		return true
	})
}

// shapeNumbers lists the numbers of shapes as they stand.
func shapeNumbers(e *element.Element, list []string) []string {
	if id := e.Prop("id"); local(e.Type) == shapeName && !id.IsAbsent() {
		list = append(list, id.Text())
	}
	for _, c := range e.Children {
		list = shapeNumbers(c, list)
	}
	return list
}
