package kind

import "oakenchest/core/element"

// KeyMembers name the items of a list in formats of data, the likeliest first.
var KeyMembers = []string{"id", "name", "key", "uri", "code"}

// KeyItems gives the items of a list their keys: by the first of KeyMembers that all
// of them have, and no two alike. A list of anything else keeps none.
func KeyItems(items []*element.Element) {
	for _, name := range KeyMembers {
		if len(items) > 0 && tells(items, name) {
			for _, it := range items {
				it.Key = it.Prop(name).Text()
			}
			return
		}
	}
}

// tells reports whether a property tells all items apart.
func tells(items []*element.Element, name string) bool {
	seen := make(map[string]bool, len(items))
	for _, it := range items {
		v := it.Prop(name)
		if it.Type != "item" || v.Sort() != element.Text && v.Sort() != element.Number || v.Text() == "" || seen[v.Text()] {
			return false
		}
		seen[v.Text()] = true
	}
	return true
}
