// Package xmltree is the kind of XML files (W3C XML 1.0, fifth edition).
//
// An element of the document is an element of the tree: its type is the tag
// name with its prefix, its key an identifying attribute (id, name, key and the
// like) where siblings have distinct ones, its properties the attributes, and
// `text` where only text is inside. Text among elements is a keyless element
// `text`. Space between elements, comments and processing instructions are no
// elements, and stay as they are when the document is written back.
package xmltree

import (
	"bytes"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// Kind reads XML.
type Kind struct{}

var _ kind.Writer = Kind{}

// Name is "xml".
func (Kind) Name() string { return "xml" }

// About describes the kind.
func (Kind) About() string {
	return "XML, SVG and the like: elements, keyed by id, name or key; attributes and text as properties"
}

// Claims takes what begins like XML.
func (Kind) Claims(path string, head []byte) bool {
	head = bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\ufeff")), " \t\r\n")
	if bytes.HasPrefix(head, []byte("<?xml")) {
		return true
	}
	lower := strings.ToLower(path)
	return bytes.HasPrefix(head, []byte("<")) && (strings.HasSuffix(lower, ".xml") || strings.HasSuffix(lower, ".svg"))
}

// Read reads the document; the root of the tree has the root element as its
// only child.
func (Kind) Read(src kind.Source) (*kind.Reading, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	doc, err := parse(data)
	if err != nil {
		return nil, err
	}
	return &kind.Reading{Root: doc.tree(nil)}, nil
}

// origins remembers which node an element was read from.
type origins map[*element.Element]*node

func (d *document) tree(o origins) *element.Element {
	top := elementOf(d.root, o)
	top.Key = keyOf(d.root)
	return (&element.Element{Type: "xml"}).Add(top)
}

// textProperty is the property of an element that has only text inside; an
// attribute of that name is written with @ before it.
const textProperty = "text"

func elementOf(n *node, o origins) *element.Element {
	e := &element.Element{Type: n.name, Ordered: true, Firm: true}
	if o != nil {
		o[e] = n
	}
	for _, a := range n.attrs {
		e.Props = append(e.Props, element.Prop{Name: propertyName(a.name), Value: element.TextValue(a.value)})
	}
	if n.leaf() {
		if n.text != "" {
			e.Props = append(e.Props, element.Prop{Name: textProperty, Value: element.TextValue(n.text)})
		}
		return e
	}
	for _, k := range n.kids {
		if k.run {
			kid := &element.Element{Type: "text", Props: []element.Prop{{Name: textProperty, Value: element.TextValue(k.text)}}, Gist: strings.TrimSpace(k.text)}
			if o != nil {
				o[kid] = k
			}
			e.Add(kid)
			continue
		}
		e.Add(elementOf(k, o))
	}
	nameKids(n, e)
	return e
}

// leaf says that no element is inside.
func (n *node) leaf() bool {
	for _, k := range n.kids {
		if !k.run {
			return false
		}
	}
	return true
}

func propertyName(attribute string) string {
	if attribute == textProperty || strings.HasPrefix(attribute, "@") {
		return "@" + attribute
	}
	return attribute
}

func attributeName(property string) string { return strings.TrimPrefix(property, "@") }

// nameKids gives keys to the children whose identifying attributes are distinct.
func nameKids(n *node, e *element.Element) {
	type id struct{ typ, key string }
	count := make(map[id]int, len(n.kids))
	for _, k := range n.kids {
		if key := keyOf(k); key != "" {
			count[id{k.name, key}]++
		}
	}
	for i, k := range n.kids {
		if key := keyOf(k); key != "" && count[id{k.name, key}] == 1 {
			e.Children[i].Key = key
		}
	}
}

var keyAttributes = []string{"xml:id", "id", "Id", "ID", "name", "Name", "key", "Key", "uid", "code"}

// keyOf gives the value of the identifying attribute: one of the usual names,
// or any prefixed `name`.
func keyOf(n *node) string {
	if n.run {
		return ""
	}
	for _, want := range keyAttributes {
		for _, a := range n.attrs {
			if a.name == want && a.value != "" {
				return a.value
			}
		}
	}
	for _, a := range n.attrs {
		if strings.HasSuffix(a.name, ":name") && a.value != "" {
			return a.value
		}
	}
	return ""
}
