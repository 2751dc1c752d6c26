package partfile

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind/jsondoc"
)

// An element's file is JSON:
//
//	{
//	  "element": "node:Lamp",             (type:"" for one without a key)
//	  "ordered": true,                    (left out when false)
//	  "properties": {"scale": [1, 1, 1], "data": {"bytes": "FILE"}},
//	  "children": [ ... ]
//	}
//
// `bytes` names a file of the same split that holds a value's bytes.

// Encode writes an element, equal ones alike: properties are sorted by name and
// the children of a set by type and key. put stores the bytes behind a value under a name
// that it chooses from the path of keys, and gives that name.
func Encode(e *element.Element, put func(at []string, v element.Value) (string, error)) ([]byte, error) {
	n, err := encode(e, []string{e.Key}, put)
	if err != nil {
		return nil, err
	}
	return jsondoc.Format(n, "  "), nil
}

func encode(e *element.Element, at []string, put func([]string, element.Value) (string, error)) (*jsondoc.Node, error) {
	out := jsondoc.Obj().Set("element", jsondoc.Str(element.Step{Type: e.Type, Key: e.Key}.String()))
	if e.Ordered {
		out.Set("ordered", jsondoc.Truth(true))
	}
	props := jsondoc.Obj()
	for _, p := range slices.SortedFunc(slices.Values(e.Props), func(a, b element.Prop) int { return strings.Compare(a.Name, b.Name) }) {
		v, err := encodeValue(p.Value, append(at[:len(at):len(at)], p.Name), put)
		if err != nil {
			return nil, err
		}
		props.Set(p.Name, v)
	}
	if len(props.Items) > 0 {
		out.Set("properties", props)
	}
	kids := jsondoc.Arr()
	order := slices.Clone(e.Children)
	if !e.Ordered {
		slices.SortStableFunc(order, func(a, b *element.Element) int {
			return cmp.Or(strings.Compare(a.Type, b.Type), strings.Compare(a.Key, b.Key))
		})
	}
	for i, k := range order {
		name := k.Key
		if name == "" {
			name = fmt.Sprint(k.Type, " ", i+1)
		}
		v, err := encode(k, append(at[:len(at):len(at)], name), put)
		if err != nil {
			return nil, err
		}
		kids.Append(v)
	}
	if len(kids.Items) > 0 {
		out.Set("children", kids)
	}
	return out, nil
}

func encodeValue(v element.Value, at []string, put func([]string, element.Value) (string, error)) (*jsondoc.Node, error) {
	switch v.Sort() {
	case element.Bytes:
		name, err := put(at, v)
		return jsondoc.Obj().Set("bytes", jsondoc.Str(name)), err
	case element.List:
		out := jsondoc.Arr()
		for _, it := range v.Items() {
			n, err := encodeValue(it, at, put)
			if err != nil {
				return nil, err
			}
			out.Append(n)
		}
		return out, nil
	case element.Text:
		return jsondoc.Str(v.Text()), nil
	case element.Number:
		return jsondoc.Num(v.Text()), nil
	case element.Bool:
		return jsondoc.Truth(v.Text() == "true"), nil
	default:
		return jsondoc.Nothing(), nil
	}
}

// Decode reads an element's file; get gives the bytes of a named file.
func Decode(data []byte, get func(name string) (element.Value, error)) (*element.Element, error) {
	doc, err := jsondoc.Parse(data)
	if err != nil {
		return nil, err
	}
	return decode(doc.Root, get)
}

func decode(n *jsondoc.Node, get func(string) (element.Value, error)) (*element.Element, error) {
	name := n.Get("element")
	if name == nil || name.Kind != jsondoc.String {
		return nil, errors.New(`an element has no "element": "type:key"`)
	}
	a, err := element.ParseAddress("x::" + name.Text)
	if err != nil || len(a.Steps) != 1 || a.Property != "" {
		return nil, fmt.Errorf("%q is not type:key", name.Text)
	}
	e := &element.Element{Type: a.Steps[0].Type, Key: a.Steps[0].Key}
	if o := n.Get("ordered"); o != nil {
		e.Ordered = o.Text == "true"
	}
	if props := n.Get("properties"); props != nil {
		for _, it := range props.Items {
			v, err := decodeValue(it.Value, get)
			if err != nil {
				return nil, fmt.Errorf("%s.%s: %w", name.Text, it.Key, err)
			}
			e.Props = append(e.Props, element.Prop{Name: it.Key, Value: v})
		}
	}
	if kids := n.Get("children"); kids != nil {
		for _, it := range kids.Items {
			k, err := decode(it.Value, get)
			if err != nil {
				return nil, err
			}
			e.Add(k)
		}
	}
	return e, nil
}

func decodeValue(n *jsondoc.Node, get func(string) (element.Value, error)) (element.Value, error) {
	switch n.Kind {
	case jsondoc.Object:
		file := n.Get("bytes")
		if file == nil || file.Kind != jsondoc.String {
			return element.Value{}, errors.New("an object is no value here, but for {\"bytes\": FILE}")
		}
		return get(file.Text)
	case jsondoc.Array:
		items := make([]element.Value, len(n.Items))
		for i, it := range n.Items {
			v, err := decodeValue(it.Value, get)
			if err != nil {
				return v, err
			}
			items[i] = v
		}
		return element.ListValue(items...), nil
	case jsondoc.String:
		return element.TextValue(n.Text), nil
	case jsondoc.Number:
		return element.NumberValue(n.Text), nil
	case jsondoc.Bool:
		return element.BoolValue(n.Text == "true"), nil
	default:
		return element.NullValue(), nil
	}
}
