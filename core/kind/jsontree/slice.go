package jsontree

import (
	"encoding/json"
	"regexp"

	"oakenchest/core/element"
	"oakenchest/core/kind/jsondoc"
)

// A string stands where a value was taken out.
const referenceHead = "oaken-part-value:"

var partReference = regexp.MustCompile(`"` + referenceHead + `((?:[^"\\]|\\.)*)"`)

// Slice gives the document with a string in the place of each object or list that
// give takes; give gets the line of elements from the root of the tree down, and
// the value's bytes.
func (Kind) Slice(data []byte, give func(line []*element.Element, raw []byte) (string, bool)) ([]byte, error) {
	doc, err := jsondoc.Parse(data)
	if err != nil {
		return nil, err
	}
	root, err := Root(doc.Root)
	if err != nil {
		return nil, err
	}
	var visit func(line []*element.Element, n *jsondoc.Node)
	visit = func(line []*element.Element, n *jsondoc.Node) {
		if len(line) > 1 {
			if file, take := give(line, doc.Source(n)); take {
				*n = *jsondoc.Str(referenceHead + file)
				return
			}
		}
		i := 0 // of the children, which stand in the order of what they were read from
		for _, it := range n.Items {
			v := it.Value
			if n.Kind == jsondoc.Object && (v.Kind == jsondoc.Array && scalars(v) || v.Kind != jsondoc.Object && v.Kind != jsondoc.Array) {
				continue // a property
			}
			kids := line[len(line)-1].Children
			if i < len(kids) && (v.Kind == jsondoc.Object || v.Kind == jsondoc.Array) {
				visit(append(line[:len(line):len(line)], kids[i]), v)
			}
			i++
		}
	}
	if root.Type != "value" {
		visit([]*element.Element{root}, doc.Root)
	}
	return doc.Bytes(), nil
}

// Unslice puts the bytes back that Slice has given.
func (Kind) Unslice(data []byte, get func(string) ([]byte, error)) ([]byte, error) {
	var failed error
	out := partReference.ReplaceAllFunc(data, func(m []byte) []byte {
		var text string
		err := json.Unmarshal(m, &text)
		var part []byte
		if err == nil {
			part, err = get(text[len(referenceHead):])
		}
		if err != nil {
			failed = err
		}
		return part
	})
	return out, failed
}
