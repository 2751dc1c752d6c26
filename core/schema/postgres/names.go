package postgres

import (
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind/partfile"
)

// object is an element that has statements of its own, with the schema it stands in.
type object struct {
	schema string // empty for what stands in none
	e      *element.Element
}

func (o object) id() string { return ID(o.schema, o.e) }

// name is the object's name as statements write it, without arguments.
func (o object) name() string {
	key := o.e.Key
	if routine(o.e.Type) {
		name, _ := splitRoutine(key)
		return ident(o.schema) + "." + name
	}
	if o.e.Type == "operator-class" || o.e.Type == "operator-family" {
		key = key[:strings.LastIndex(key, " using ")]
	}
	if o.schema == "" {
		return ident(key)
	}
	return ident(o.schema, key)
}

// spec names the object as COMMENT ON and DROP do: `function care.feed(integer)`.
func (o object) spec() string {
	words := sortWords(o.e)
	switch {
	case o.e.Type == "cast":
		return "cast (" + o.e.Key + ")"
	case routine(o.e.Type):
		_, args := splitRoutine(o.e.Key)
		return words + " " + o.name() + args
	case o.e.Type == "operator-class", o.e.Type == "operator-family":
		return words + " " + o.name() + o.e.Key[strings.LastIndex(o.e.Key, " using "):]
	}
	return words + " " + o.name()
}

// objects lists everything that has statements of its own: schemas, what stands in
// none, and what stands in each.
func objects(root *element.Element) []object {
	var out []object
	for _, e := range root.Children {
		out = append(out, object{"", e})
		if e.Type == "schema" {
			for _, k := range e.Children {
				out = append(out, object{e.Key, k})
			}
		}
	}
	return out
}

// folders are where objects of a type have their files, below their schema.
var folders = map[string]string{"table": "tables", "view": "views", "sequence": "sequences", "type": "types", "function": "functions",
	"procedure": "procedures",
	"aggregate": "aggregates", "operator": "operators", "collation": "collations", "conversion": "conversions",
	"operator-class": "operator-classes", "operator-family": "operator-families",
	"text-search-configuration": "text-search", "text-search-dictionary": "text-search",
	"extension": "extensions", "cast": "casts", "event-trigger": "event-triggers", "publication": "publications", "server": "servers",
	"wrapper": "servers"}

// file gives the usual file of an object, and whether others may stand in it too:
// routines of one name.
func (o object) file() (name string, shared bool) {
	if o.e.Type == "schema" {
		return partfile.Safe(o.e.Key) + "/schema.sql", false
	}
	key := o.e.Key
	if routine(o.e.Type) {
		name, _ := splitRoutine(key)
		key = strings.ReplaceAll(strings.Trim(name, `"`), `""`, `"`)
		shared = true
	}
	base := folders[o.e.Type] + "/" + partfile.Safe(key) + ".sql"
	if o.schema == "" {
		return "database/" + base, shared
	}
	return partfile.Safe(o.schema) + "/" + base, shared
}

// splitRoutine parts the key of a routine: its name as SQL writes it, and its
// arguments with their parentheses.
func splitRoutine(key string) (name, args string) {
	quoted := false
	for i, r := range key {
		switch {
		case r == '"':
			quoted = !quoted
		case r == '(' && !quoted:
			return key[:i], key[i:]
		}
	}
	return key, ""
}
