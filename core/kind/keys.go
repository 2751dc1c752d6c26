package kind

import "oakenchest/core/element"

// KeyMembers name the items of a list in formats of data, the likeliest first.
var KeyMembers = []string{"id", "name", "key", "uri", "code"}

// KeyItems gives the items of a list their keys: by the first of KeyMembers that tells
// them apart. A list of anything else keeps none.
func KeyItems(items []*element.Element) {
	for _, name := range KeyMembers {
		if keys, ok := keysOf(items, name); ok && Tells(keys) {
			for i, it := range items {
				it.Key = keys[i]
			}
			element.Distinguish(items)
			return
		}
	}
}

func keysOf(items []*element.Element, name string) ([]string, bool) {
	keys := make([]string, len(items))
	for i, it := range items {
		v := it.Prop(name)
		if it.Type != "item" || v.Sort() != element.Text && v.Sort() != element.Number || v.Text() == "" {
			return nil, false
		}
		keys[i] = v.Text()
	}
	return keys, len(items) > 0
}

// Tells reports whether keys tell things apart, but for a few copies: somebody who copies
// and pastes makes two things of one key, and that must not take their keys from all the
// others.
func Tells(keys []string) bool {
	seen := make(map[string]int, len(keys))
	copies := 0
	for _, k := range keys {
		if seen[k]++; seen[k] > 1 {
			copies++
		}
		if seen[k] > mostAlike {
			return false
		}
	}
	return len(keys) > 0 && copies <= max(fewCopies, len(keys)/copiesAmong)
}

const (
	// mostAlike is how many things may share a key, fewCopies how many copies there may be
	// in any list, and copiesAmong among how many things there may be one more.
	mostAlike   = 3
	fewCopies   = 2
	copiesAmong = 8
)
