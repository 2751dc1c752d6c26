package settings

import (
	"errors"
	"fmt"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// A document is text with statements: headers, which open a section, and
// entries `key = value`. What stands between, comments and space, belongs to
// nobody and stays where it is.
type document struct {
	src      string
	sections []*section // the first is what stands before all headers
}

// section is a header with its entries.
type section struct {
	path     []string
	item     bool // it is one more item of the list at path
	from, to int  // the header's lines
	end      int  // where a further entry goes
	entries  []*entry
	root     *element.Element // of what is in it
}

// entry gives a value to a path below its section.
type entry struct {
	path             []string
	from, to         int // its lines
	valueAt, valueTo int
	value            any // element.Value, or *element.Element for a list or an object inside
}

// syntax is how one format writes what documents consist of.
type syntax interface {
	// parse reads a document.
	parse(src string) (*document, error)
	// key and value write parts of an entry; header opens a section.
	key(path []string) (string, error)
	value(v element.Value, like string) (string, error)
	object(e *element.Element) (string, error)
	header(path []string, item bool) (string, error)
	// sign stands between key and value where the document shows no habit.
	sign() string
	// nests says that sections may lie in sections.
	nests() bool
	// remarks are the signs that comments begin with.
	remarks() string
}

// place says where an object is written.
type place struct {
	in     *section // nil for one that has no header of its own
	prefix []string // below the section
	entry  *entry   // what it is inside the value of; nil for none
	path   []string
}

// places remembers where each element was read from.
type places map[*element.Element]place

// tree makes the elements of a document. Objects are `object:NAME`, or
// `section:NAME` in formats without nesting.
func (d *document) tree(typ, kidType string, at places) (*element.Element, error) {
	root := &element.Element{Type: typ}
	names := members{}
	at[root] = place{in: d.sections[0]}
	for _, s := range d.sections {
		owner := root
		for i, name := range s.path {
			last := i == len(s.path)-1
			kid := names.child(owner, name)
			switch {
			case kid == nil && last && s.item:
				kid = &element.Element{Type: "list", Key: name, Ordered: true, Firm: true}
				names.add(owner, kid)
				at[kid] = place{path: s.path}
			case kid == nil:
				kid = &element.Element{Type: kidType, Key: name, Firm: true}
				names.add(owner, kid)
				at[kid] = place{path: s.path[:i+1]}
			case last && !s.item && at[kid].in != nil:
				return nil, fmt.Errorf("the section %s stands twice", strings.Join(s.path, "."))
			}
			if kid.Type == "list" {
				if last {
					it := &element.Element{Type: "item", Firm: true}
					kid.Add(it)
					kid = it
				} else if n := len(kid.Children); n > 0 {
					kid = kid.Children[n-1]
				}
			}
			owner = kid
		}
		at[owner] = place{in: s, path: s.path}
		s.root = owner
		for _, e := range s.entries {
			if err := put(names, owner, s, e, kidType, at); err != nil {
				return nil, err
			}
		}
	}
	keyLists(root)
	return root, nil
}

// members finds what an element that is being built has under a name: a child, or nil for a property.
type members map[*element.Element]map[string]*element.Element

// of gives the names of an element. One that lists hold under no name has no place in it.
func (m members) of(e *element.Element) map[string]*element.Element {
	if m[e] == nil {
		m[e] = map[string]*element.Element{}
	}
	return m[e]
}

func (m members) child(e *element.Element, name string) *element.Element { return m[e][name] }

// add puts a child with a key into an element.
func (m members) add(e, child *element.Element) {
	e.Add(child)
	m.of(e)[child.Key] = child
}

// take reserves a name; false when it is taken.
func (m members) take(e *element.Element, name string) bool {
	if _, taken := m[e][name]; taken {
		return false
	}
	m.of(e)[name] = nil
	return true
}

// put places an entry's value below the element of its section.
func put(names members, owner *element.Element, s *section, e *entry, kidType string, at places) error {
	for i, name := range e.path[:len(e.path)-1] {
		kid := names.child(owner, name)
		if kid == nil {
			kid = &element.Element{Type: kidType, Key: name, Firm: true}
			names.add(owner, kid)
			at[kid] = place{in: s, prefix: e.path[:i+1], path: append(s.path[:len(s.path):len(s.path)], e.path[:i+1]...)}
		}
		owner = kid
	}
	name := e.path[len(e.path)-1]
	if !names.take(owner, name) {
		return fmt.Errorf("the key %s stands twice", strings.Join(append(s.path[:len(s.path):len(s.path)], e.path...), "."))
	}
	switch v := e.value.(type) {
	case element.Value:
		owner.Props = append(owner.Props, element.Prop{Name: name, Value: v})
	case *element.Element:
		v.Key = name
		names.add(owner, v)
		inside(v, place{in: s, entry: e}, at)
	}
	return nil
}

// inside says of an element and all below that they are part of an entry's value.
func inside(e *element.Element, p place, at places) {
	at[e] = p
	for _, c := range e.Children {
		inside(c, p, at)
	}
}

// keyLists gives the items of lists keys, where a property tells all apart.
func keyLists(e *element.Element) {
	for _, c := range e.Children {
		keyLists(c)
	}
	if e.Type == "list" {
		kind.KeyItems(e.Children)
	}
}

var errPlace = errors.New("the change has no place in the file")
