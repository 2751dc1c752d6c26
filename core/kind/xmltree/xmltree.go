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
	"slices"
	"strings"
	"unsafe"

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
	if bytes.HasPrefix(head, []byte("\xff\xfe<\x00?\x00x\x00")) || bytes.HasPrefix(head, []byte("\xfe\xff\x00<\x00?\x00x")) ||
		bytes.HasPrefix(head, []byte("<\x00?\x00x\x00m\x00")) {
		return true
	}
	head = bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\ufeff")), " \t\r\n")
	if bytes.HasPrefix(head, []byte("<?xml")) {
		return true
	}
	lower := strings.ToLower(path)
	return bytes.HasPrefix(head, []byte("<")) && (strings.HasSuffix(lower, ".xml") || strings.HasSuffix(lower, ".svg") ||
		strings.HasSuffix(lower, ".rels"))
}

// Weigh counts tags.
func (Kind) Weigh(data []byte) int64 { return kind.Count(data, "<") }

// Read reads the document; the root of the tree has the root element as its
// only child.
func (Kind) Read(src kind.Source) (*kind.Reading, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	if data, _, err = decoded(data); err != nil {
		return nil, err
	}
	b := &builder{}
	if err := (&scanner{src: shared(data), to: b}).run(); err != nil {
		return nil, err
	}
	if err := finish(len(b.open) > 0, b.root != nil, func() string { return b.open[len(b.open)-1].e.Type }); err != nil {
		return nil, err
	}
	return &kind.Reading{Root: (&element.Element{Type: "xml"}).Add(b.root)}, nil
}

// shared gives bytes that nobody changes any more as text, without a copy: the texts
// in a large document are parts of its bytes.
func shared(data []byte) string { return unsafe.String(unsafe.SliceData(data), len(data)) }

// origins remembers which node an element was read from.
type origins map[*element.Element]*node

func (d *document) tree(o origins) *element.Element {
	top := elementOf(d.root, o)
	top.Key = keyOf(d.root.attrs)
	return (&element.Element{Type: "xml"}).Add(top)
}

// textProperty is the property of an element that has only text inside; an
// attribute of that name is written with @ before it.
const textProperty = "text"

func elementOf(n *node, o origins) *element.Element {
	e := &element.Element{Type: n.name, Ordered: true, Firm: true}
	o[e] = n
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
		var kid *element.Element
		if k.run {
			kid = runOf(k.text)
			o[kid] = k
		} else {
			kid = elementOf(k, o)
			kid.Key = keyOf(k.attrs)
		}
		e.Add(kid)
	}
	distinct(e.Children)
	return e
}

// runOf gives the element of a run of text among elements.
func runOf(text string) *element.Element {
	return &element.Element{Type: "text", Props: []element.Prop{{Name: textProperty, Value: element.TextValue(text)}},
		Gist: strings.TrimSpace(text)}
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

// distinct tells children of one type apart that share a key: a few copies get keys of
// their own behind the first, others have none.
func distinct(kids []*element.Element) {
	type id struct{ typ, key string }
	keys := map[string][]string{} // by type, of children with a key
	shared := false
	seen := make(map[id]int, len(kids))
	for _, k := range kids {
		if k.Key == "" {
			continue
		}
		keys[k.Type] = append(keys[k.Type], k.Key)
		seen[id{k.Type, k.Key}]++
		shared = shared || seen[id{k.Type, k.Key}] > 1
	}
	if !shared {
		return
	}
	tells := make(map[string]bool, len(keys))
	for typ, list := range keys {
		tells[typ] = kind.Tells(list)
	}
	for _, k := range kids {
		if k.Key != "" && seen[id{k.Type, k.Key}] > 1 && !tells[k.Type] {
			k.Key = ""
		}
	}
	element.Distinguish(kids)
}

var keyAttributes = []string{"xml:id", "id", "Id", "ID", "name", "Name", "key", "Key", "uid", "code"}

// keyOf gives the value of the identifying attribute: one of the usual names,
// or any prefixed `name`.
func keyOf(attrs []attr) string {
	best, key := len(keyAttributes)+1, ""
	for _, a := range attrs {
		if a.value == "" {
			continue
		}
		at := slices.Index(keyAttributes, a.name)
		if at < 0 && strings.HasSuffix(a.name, ":name") {
			at = len(keyAttributes)
		}
		if at >= 0 && at < best {
			best, key = at, a.value
		}
	}
	return key
}
