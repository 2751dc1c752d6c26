// Package jsontree is the kind of JSON files, and maps JSON to elements for
// other kinds.
//
// Scalars, and arrays of scalars, are properties. An object inside is an
// element `object:MEMBER`; an array of anything else is `list:MEMBER`, ordered,
// with children `item`, keyed by their id, name or key where all have one.
package jsontree

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/jsondoc"
)

// Kind reads JSON.
type Kind struct{}

var _ kind.Writer = Kind{}

// Name is "json".
func (Kind) Name() string { return "json" }

// About describes the kind.
func (Kind) About() string { return "JSON: members as properties, objects and lists as elements" }

// Claims takes .json files.
func (Kind) Claims(path string, _ []byte) bool {
	return strings.HasSuffix(strings.ToLower(path), ".json")
}

// Weigh counts values and members outside of texts.
func (Kind) Weigh(data []byte) int64 { return jsondoc.Weigh(data) }

// Read reads the document.
func (Kind) Read(src kind.Source) (*kind.Reading, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	root, err := build(data)
	if err != nil {
		return nil, err
	}
	return &kind.Reading{Root: root}, nil
}

// Write changes the document into the wanted tree.
func (Kind) Write(src kind.Source, want *element.Element, _ kind.Content) (map[string][]byte, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	if len(data) == 0 {
		data = []byte("{}\n")
	}
	doc, err := jsondoc.Parse(data)
	if err != nil {
		return nil, err
	}
	node, err := Document(want)
	if err != nil {
		return nil, err
	}
	doc.Root.Become(like(doc.Root, node))
	return map[string][]byte{src.Files()[0]: kind.LikeEnds(doc.Bytes(), data)}, nil
}

// like gives want with the number literals of have where the values are equal:
// a tree holds 1.0 and 1 as one number.
func like(have, want *jsondoc.Node) *jsondoc.Node {
	switch {
	case have == nil:
	case want.Kind == jsondoc.Number && have.Kind == jsondoc.Number:
		if element.NumberValue(have.Text).Equal(element.NumberValue(want.Text)) {
			return have
		}
	case want.Kind == jsondoc.Object && have.Kind == jsondoc.Object:
		for i, it := range want.Items {
			want.Items[i].Value = like(have.Get(it.Key), it.Value)
		}
	case want.Kind == jsondoc.Array && have.Kind == jsondoc.Array:
		for i, it := range want.Items {
			if i < len(have.Items) {
				want.Items[i].Value = like(have.Items[i].Value, it.Value)
			}
		}
	}
	return want
}

const scalarRoot = "(value)"

// Root gives the element of a whole document.
func Root(n *jsondoc.Node) (*element.Element, error) {
	switch n.Kind {
	case jsondoc.Object:
		e := &element.Element{Type: "object"}
		return e, Members(e, n)
	case jsondoc.Array:
		return list("list", "", n)
	default:
		return &element.Element{Type: "value", Props: []element.Prop{{Name: scalarRoot, Value: Scalar(n)}}}, nil
	}
}

// Document is the reverse of Root; the types of roots do not matter.
func Document(e *element.Element) (*jsondoc.Node, error) {
	if v := e.Prop(scalarRoot); !v.IsAbsent() {
		return FromValue(v)
	}
	if e.Ordered {
		return fromList(e)
	}
	return Object(e)
}

// Members puts an object's members into e as properties and children.
func Members(e *element.Element, n *jsondoc.Node) error {
	for _, it := range n.Items {
		name, ok := memberName(it.Key)
		if !ok {
			return fmt.Errorf("a member is called %q", it.Key)
		}
		if err := member(e, name, it.Value); err != nil {
			return err
		}
	}
	return nil
}

// noName is the name in a tree of a member whose name is empty.
const noName = `""`

// memberName gives the name in a tree of a member; false for one that no tree can have.
func memberName(key string) (string, bool) {
	if key == "" {
		return noName, true
	}
	return key, key != noName && key != scalarRoot
}

// ownName is the reverse.
func ownName(name string) string {
	if name == noName {
		return ""
	}
	return name
}

func member(e *element.Element, key string, v *jsondoc.Node) error {
	switch {
	case v.Kind == jsondoc.Object:
		kid := &element.Element{Type: "object", Key: key, Firm: true}
		e.Add(kid)
		return Members(kid, v)
	case v.Kind == jsondoc.Array && !scalars(v):
		kid, err := list("list", key, v)
		if err != nil {
			return err
		}
		e.Add(kid)
	default:
		e.Props = append(e.Props, element.Prop{Name: key, Value: Scalar(v)})
	}
	return nil
}

func scalars(n *jsondoc.Node) bool {
	return !slices.ContainsFunc(n.Items, func(it jsondoc.Item) bool {
		return it.Value.Kind == jsondoc.Object || it.Value.Kind == jsondoc.Array
	})
}

func list(typ, key string, n *jsondoc.Node) (*element.Element, error) {
	e := &element.Element{Type: typ, Key: key, Ordered: true, Firm: true}
	keyed := keyMember(n)
	for _, it := range n.Items {
		kid := &element.Element{Type: "item", Firm: true}
		var err error
		switch it.Value.Kind {
		case jsondoc.Object:
			if keyed != "" {
				kid.Key = it.Value.Get(keyed).Text
			}
			err = Members(kid, it.Value)
		case jsondoc.Array:
			kid, err = list("list", "", it.Value)
		default:
			kid.Type = "value"
			kid.Props = []element.Prop{{Name: scalarRoot, Value: Scalar(it.Value)}}
		}
		if err != nil {
			return nil, err
		}
		e.Add(kid)
	}
	if keyed != "" {
		element.Distinguish(e.Children)
	}
	return e, nil
}

// keyMember gives the member that names the items of a list, empty for none.
func keyMember(n *jsondoc.Node) string {
	for _, name := range kind.KeyMembers {
		keys := make([]string, 0, len(n.Items))
		for _, it := range n.Items {
			v := it.Value.Get(name)
			if v == nil || v.Kind != jsondoc.String && v.Kind != jsondoc.Number || v.Text == "" {
				break
			}
			keys = append(keys, v.Text)
		}
		if len(keys) == len(n.Items) && kind.Tells(keys) {
			return name
		}
	}
	return ""
}

// Scalar gives the value of a scalar or of an array of scalars.
func Scalar(n *jsondoc.Node) element.Value {
	switch n.Kind {
	case jsondoc.String:
		return element.TextValue(n.Text)
	case jsondoc.Number:
		return element.NumberValue(n.Text)
	case jsondoc.Bool:
		return element.BoolValue(n.Text == "true")
	case jsondoc.Array:
		items := make([]element.Value, len(n.Items))
		for i, it := range n.Items {
			items[i] = Scalar(it.Value)
		}
		return element.ListValue(items...)
	default:
		return element.NullValue()
	}
}

// FromValue is the reverse of Scalar.
func FromValue(v element.Value) (*jsondoc.Node, error) {
	switch v.Sort() {
	case element.Null:
		return jsondoc.Nothing(), nil
	case element.Text:
		return jsondoc.Str(v.Text()), nil
	case element.Number:
		return jsondoc.Num(v.Text()), nil
	case element.Bool:
		return jsondoc.Truth(v.Text() == "true"), nil
	case element.List:
		out := jsondoc.Arr()
		for _, it := range v.Items() {
			n, err := FromValue(it)
			if err != nil {
				return nil, err
			}
			out.Append(n)
		}
		return out, nil
	}
	return nil, errors.New("bytes can't stand in JSON")
}

// Object is the reverse of Members.
func Object(e *element.Element) (*jsondoc.Node, error) {
	out := jsondoc.Obj()
	for _, p := range e.Props {
		v, err := FromValue(p.Value)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", p.Name, err)
		}
		out.Set(ownName(p.Name), v)
	}
	for _, k := range e.Children {
		var v *jsondoc.Node
		var err error
		switch k.Type {
		case "object":
			v, err = Object(k)
		case "list":
			v, err = fromList(k)
		default:
			err = fmt.Errorf("an element %s can't stand in JSON", k.Type)
		}
		if err != nil {
			return nil, err
		}
		out.Set(ownName(k.Key), v)
	}
	return out, nil
}

func fromList(e *element.Element) (*jsondoc.Node, error) {
	out := jsondoc.Arr()
	for _, k := range e.Children {
		var v *jsondoc.Node
		var err error
		switch k.Type {
		case "list":
			v, err = fromList(k)
		case "value":
			v, err = FromValue(k.Prop(scalarRoot))
		default:
			v, err = Object(k)
		}
		if err != nil {
			return nil, err
		}
		out.Append(v)
	}
	return out, nil
}
