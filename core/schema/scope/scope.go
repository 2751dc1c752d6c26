// Package scope says what of a database is tracked: which objects, by type, schema,
// name and owner, and which of their properties. It works on the elements of any
// engine and knows none.
package scope

import (
	"fmt"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"oakenchest/core/element"
)

// Scope chooses. The zero Scope takes every object, without owners, privileges and
// what belongs to replication.
type Scope struct {
	// Only and Skip are patterns of objects: `TYPE:NAME` or `NAME`, a name with its
	// schema where the engine has schemas, `*` for any run of characters:
	// `table:care.*`, `tmp_*`, `publication:*`. Without Only every object is taken.
	Only, Skip []string
	// Owners limits objects to those of these owners; empty for all.
	Owners []string
	// Ignore names the properties that make no difference; see Switches.
	Ignore []string
	// Track names what is left out unless it is asked for: owners, privileges,
	// replication, counters (where automatic numbers stand).
	Track []string
}

// Switches are what Ignore may name, with a line about each.
var Switches = [][2]string{
	{"collation", "collations and character sets of columns"},
	{"storage", "storage options, compression, tablespaces, engines' row formats, fill factors"},
	{"comments", "comments"},
	{"constraint-names", "names of constraints that the engine made"},
	{"auto-increment", "where sequences begin"},
	{"white-space", "white space in bodies and queries"},
	{"statistics", "statistics targets and extended statistics"},
}

// Extras are what Track may name.
var Extras = []string{"owners", "privileges", "replication", "counters"}

// Types are the sorts of objects that a pattern may name, of all engines.
var Types = []string{"aggregate", "cast", "collation", "conversion", "event", "event-trigger", "extension", "function", "index", "operator",
	"operator-class", "operator-family", "procedure", "publication",
	"rows", "schema", "sequence", "server", "table", "text-search-configuration", "text-search-dictionary", "trigger", "type",
	"view", "wrapper"}

// Check says what is wrong with a scope.
func (s Scope) Check() error {
	for _, p := range slices.Concat(s.Only, s.Skip) {
		if t, _, typed := strings.Cut(p, ":"); typed && t != "*" && !slices.Contains(Types, t) {
			return fmt.Errorf("%q names no sort of object; the sorts are %s", p, strings.Join(Types, ", "))
		}
		if !doublestar.ValidatePattern(strings.ReplaceAll(p, "**", "*")) || p == "" {
			return fmt.Errorf("%q is no pattern", p)
		}
	}
	for _, w := range s.Ignore {
		if !slices.ContainsFunc(Switches, func(k [2]string) bool { return k[0] == w }) {
			return fmt.Errorf("%q can't be ignored; what can is %s", w, names())
		}
	}
	for _, w := range s.Track {
		if !slices.Contains(Extras, w) {
			return fmt.Errorf("%q can't be tracked; what can is %s", w, strings.Join(Extras, ", "))
		}
	}
	return nil
}

func names() string {
	var out []string
	for _, s := range Switches {
		out = append(out, s[0])
	}
	return strings.Join(out, ", ")
}

func (s Scope) ignores(what string) bool { return slices.Contains(s.Ignore, what) }
func (s Scope) tracks(what string) bool  { return slices.Contains(s.Track, what) }

// Apply gives the tree without what is out of scope. The tree itself is not changed;
// parts that stay as they are, are shared.
func (s Scope) Apply(root *element.Element) *element.Element {
	out := *root
	out.Children = nil
	for _, e := range root.Children {
		if e.Type != "schema" {
			if s.takes(e, e.Key) {
				out.Children = append(out.Children, s.slim(e))
			}
			continue
		}
		inner := *s.slim(&element.Element{Type: e.Type, Key: e.Key, Props: e.Props, Firm: e.Firm, Gist: e.Gist})
		for _, k := range e.Children {
			if s.takes(k, e.Key+"."+k.Key) {
				inner.Children = append(inner.Children, s.slim(k))
			}
		}
		if len(inner.Children) > 0 || s.takes(e, e.Key) {
			out.Children = append(out.Children, &inner)
		}
	}
	return &out
}

// Takes says whether an object is in scope; name has its schema.
func (s Scope) Takes(e *element.Element, name string) bool { return s.takes(e, name) }

func (s Scope) takes(e *element.Element, name string) bool {
	if e.Type == "publication" && !s.tracks("replication") {
		return false
	}
	if len(s.Owners) > 0 && e.Type != "schema" && !slices.Contains(s.Owners, e.Prop("owner").Text()) {
		return false
	}
	if len(s.Only) > 0 && !matches(s.Only, e.Type, name) {
		return false
	}
	return !matches(s.Skip, e.Type, name)
}

// SkipsColumn says whether a column is left out of the tracked rows of a table: a
// pattern of Skip that is written `rows:TABLE.COLUMN` means it.
func (s Scope) SkipsColumn(table, column string) bool {
	return slices.ContainsFunc(s.Skip, func(p string) bool {
		return strings.HasPrefix(p, "rows:") && matches([]string{p}, "rows", table+"."+column)
	})
}

// matches says whether one of the patterns means an object.
func matches(patterns []string, typ, name string) bool {
	flat := func(s string) string { return strings.ReplaceAll(s, "/", "\x00") }
	for _, p := range patterns {
		if t, rest, ok := strings.Cut(p, ":"); ok {
			if t != typ && t != "*" {
				continue
			}
			p = rest
		}
		if ok, _ := doublestar.Match(flat(p), flat(name)); ok {
			return true
		}
		if _, bare, ok := strings.Cut(name, "."); ok {
			if ok, _ := doublestar.Match(flat(p), flat(bare)); ok {
				return true
			}
		}
	}
	return false
}

// storage are the properties that say how and where bytes lie.
var storage = []string{"storage", "compression", "with", "tablespace", "using", "set", "row format", "key block size",
	"options of the engine", "cluster on"}

// keeps says whether a property makes a difference.
func (s Scope) keeps(name string) bool {
	switch {
	case name == "owner":
		return s.tracks("owners")
	case strings.HasPrefix(name, "grant to "):
		return s.tracks("privileges")
	case name == "comment", name == "index comment":
		return !s.ignores("comments")
	case name == "collate", name == "charset", name == "session":
		return !s.ignores("collation")
	case slices.Contains(storage, name):
		return !s.ignores("storage")
	case name == "counting from":
		return s.tracks("counters")
	case name == "start":
		return !s.ignores("auto-increment")
	case name == "target", name == "statistics", strings.HasPrefix(name, "statistics "):
		return !s.ignores("statistics")
	}
	return true
}

// slim drops the properties that make no difference, here and below.
func (s Scope) slim(e *element.Element) *element.Element {
	out := *e
	changed := false
	if slices.ContainsFunc(e.Props, func(p element.Prop) bool { return !s.keeps(p.Name) }) {
		out.Props = slices.DeleteFunc(slices.Clone(e.Props), func(p element.Prop) bool { return !s.keeps(p.Name) })
		changed = true
	}
	if s.ignores("white-space") {
		for _, name := range []string{"definition", "body", "sql body"} {
			if v := out.Prop(name); !v.IsAbsent() {
				out.Set(name, element.TextValue(strings.Join(strings.Fields(v.Text()), " ")))
				changed = true
			}
		}
	}
	var kids []*element.Element
	for _, k := range e.Children {
		if k.Type == "statistics" && s.ignores("statistics") {
			changed = true
			continue
		}
		n := s.slim(k)
		if e.Type != "type" && n.Type == "column" && len(n.Props) == 0 && len(k.Props) > 0 { // said nothing else
			changed = true
			continue
		}
		changed = changed || n != k
		kids = append(kids, n)
	}
	if !changed {
		return e
	}
	out.Children = kids
	return &out
}
