package jsontree

import (
	"fmt"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/jsondoc"
)

// builder makes the tree of a document while it is read; it gives what Root gives
// of the parsed document, in a fraction of the memory.
type builder struct {
	open []level
	root *element.Element
	name string // of the member whose value comes next
}

// level is an object or an array that is still open.
type level struct {
	kind   jsondoc.Kind
	e      *element.Element
	values []element.Value // of an array so far, while it holds scalars alone
	mixed  bool            // the array holds something else too
	in     string          // the member that it is the value of
}

// build gives the tree of a document.
func build(data []byte) (*element.Element, error) {
	b := &builder{}
	if err := jsondoc.Walk(data, b); err != nil {
		return nil, err
	}
	return b.root, nil
}

// Member notes the name of what comes next.
func (b *builder) Member(name string) error {
	name, ok := memberName(name)
	if !ok {
		return fmt.Errorf("a member is called %q", name)
	}
	b.name = name
	return nil
}

// Scalar puts a value where it belongs.
func (b *builder) Scalar(sort jsondoc.Kind, text string) error {
	return b.put(Scalar(&jsondoc.Node{Kind: sort, Text: text}))
}

// put places a scalar, or an array of scalars that is not in an array.
func (b *builder) put(v element.Value) error {
	if len(b.open) == 0 {
		b.root = &element.Element{Type: "value", Props: []element.Prop{{Name: scalarRoot, Value: v}}}
		return nil
	}
	top := &b.open[len(b.open)-1]
	switch {
	case top.kind == jsondoc.Object:
		top.e.Props = append(top.e.Props, element.Prop{Name: b.name, Value: v})
	case top.mixed:
		top.e.Children = append(top.e.Children, loose(v))
	default:
		top.values = append(top.values, v)
	}
	return nil
}

// loose is a scalar among objects.
func loose(v element.Value) *element.Element {
	return &element.Element{Type: "value", Firm: true, Props: []element.Prop{{Name: scalarRoot, Value: v}}}
}

// Begin opens an object or an array.
func (b *builder) Begin(sort jsondoc.Kind) error {
	l := level{kind: sort, in: b.name, e: &element.Element{Type: "object", Firm: true}}
	if sort == jsondoc.Array {
		l.e = &element.Element{Type: "list", Ordered: true, Firm: true}
	}
	if n := len(b.open); n > 0 {
		top := &b.open[n-1]
		if top.kind == jsondoc.Array {
			for _, v := range top.values {
				top.e.Children = append(top.e.Children, loose(v))
			}
			top.values, top.mixed, l.in = nil, true, ""
			l.e.Type = "item"
			if sort == jsondoc.Array {
				l.e.Type = "list"
			}
		}
		l.e.Key = l.in
	} else {
		l.e.Firm = sort == jsondoc.Array
	}
	b.open = append(b.open, l)
	return nil
}

// End closes what was opened last.
func (b *builder) End() error {
	l := b.open[len(b.open)-1]
	b.open = b.open[:len(b.open)-1]
	if len(b.open) == 0 {
		for _, v := range l.values {
			l.e.Children = append(l.e.Children, loose(v))
		}
		l.key()
		b.root = l.e
		return nil
	}
	top := &b.open[len(b.open)-1]
	if l.kind == jsondoc.Array && !l.mixed {
		if top.kind == jsondoc.Object {
			b.name = l.in
			return b.put(element.ListValue(l.values...))
		}
		for _, v := range l.values {
			l.e.Children = append(l.e.Children, loose(v))
		}
	}
	l.key()
	top.e.Children = append(top.e.Children, l.e)
	return nil
}

// key gives the items of an array their keys.
func (l level) key() {
	if l.kind == jsondoc.Array {
		kind.KeyItems(l.e.Children)
	}
}
