package scope

import (
	"regexp"
	"slices"

	"oakenchest/core/element"
)

// engineMade are the names that engines give to constraints without one: TABLE_COLUMN_key and
// the like in PostgreSQL, TABLE_ibfk_1 and CONSTRAINT_1 in MariaDB.
var engineMade = regexp.MustCompile(`(_(pkey|key|fkey|check|excl|not_null)[0-9]*|_ibfk_[0-9]+)$|^CONSTRAINT_[0-9]+$`)

// Align gives a tree in which constraints whose names the engine made have the names
// that another tree has for the same, when such names make no difference. The tree itself
// is not changed.
func (s Scope) Align(tree, like *element.Element) *element.Element {
	if !s.ignores("constraint-names") || like == nil {
		return tree
	}
	return align(tree, like)
}

func align(e, like *element.Element) *element.Element {
	out, changed := *e, false
	out.Children = make([]*element.Element, len(e.Children))
	taken := map[*element.Element]bool{}
	for i, k := range e.Children {
		out.Children[i] = k
		other := find(like, k)
		switch {
		case other != nil && (k.Type == "schema" || k.Type == "table"):
			out.Children[i] = align(k, other)
		case other == nil && k.Type == "constraint" && engineMade.MatchString(k.Key):
			if n := namesake(e, like, k, taken); n != "" {
				c := *k
				c.Key, c.Props = n, slices.Clone(k.Props)
				if !k.Prop("name").IsAbsent() {
					c.Set("name", element.TextValue(n))
				}
				out.Children[i] = &c
			}
		}
		changed = changed || out.Children[i] != k
	}
	if !changed {
		return e
	}
	return &out
}

// namesake finds the name that another table has for a constraint: one that says the
// same, whose name the engine made, and that this table does not have itself.
func namesake(e, like, c *element.Element, taken map[*element.Element]bool) string {
	for _, k := range like.Children {
		if k.Type == "constraint" && !taken[k] && engineMade.MatchString(k.Key) &&
			k.Prop("definition").String() == c.Prop("definition").String() && find(e, k) == nil {
			taken[k] = true
			return k.Key
		}
	}
	return ""
}
