package manifest

import (
	"reflect"
	"strings"
)

// keysAt lists the keys that can stand in a table of a manifest, by the path of the table, in the order of declaration; nil
// where any can, or where there is no such table.
func keysAt(path []string) []string {
	t := reflect.TypeFor[Manifest]()
	for _, key := range path {
		field, ok := keyed(t, key)
		if !ok {
			return nil
		}
		t = field.Type
		for t.Kind() == reflect.Slice || t.Kind() == reflect.Pointer {
			t = t.Elem()
		}
		if t.Kind() != reflect.Struct {
			return nil
		}
	}
	var out []string
	for _, f := range reflect.VisibleFields(t) {
		if key := keyOf(f); key != "" {
			out = append(out, key)
		}
	}
	return out
}

// keyed finds the field of a table that a key stands for.
func keyed(t reflect.Type, key string) (reflect.StructField, bool) {
	for _, f := range reflect.VisibleFields(t) {
		if keyOf(f) == key {
			return f, true
		}
	}
	return reflect.StructField{}, false
}

// keyOf is the key of a field; empty for one that is not written down.
func keyOf(f reflect.StructField) string {
	key, _, _ := strings.Cut(f.Tag.Get("toml"), ",")
	if key == "-" {
		return ""
	}
	return key
}

// keysHint says which keys a table has, after one that it has not.
func keysHint(key []string) string {
	table := key[:len(key)-1]
	keys := keysAt(table)
	if len(keys) == 0 {
		return ""
	}
	where := Name + " itself"
	if len(table) > 0 {
		where = strings.Join(table, ".")
	}
	return " " + where + " can have " + strings.Join(keys, ", ") + "."
}
