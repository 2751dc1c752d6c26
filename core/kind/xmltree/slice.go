package xmltree

import (
	"regexp"
	"strings"

	"oakenchest/core/element"
)

// A processing instruction stands where an element was taken out.
var partReference = regexp.MustCompile(`<\?oaken-part ([^?]*)\?>`)

// Slice gives the document with a processing instruction in the place of each
// element that give takes; give gets the line of elements from the root of the tree
// down, and the element's bytes.
func (Kind) Slice(data []byte, give func(line []*element.Element, raw []byte) (string, bool)) ([]byte, error) {
	data, encode, err := decoded(data)
	if err != nil {
		return nil, err
	}
	doc, err := parse(data)
	if err != nil {
		return nil, err
	}
	o := origins{}
	root := doc.tree(o)
	var visit func(line []*element.Element)
	visit = func(line []*element.Element) {
		n := o[line[len(line)-1]]
		if n != nil && n.run {
			return
		}
		if n != nil && n != doc.root {
			var b strings.Builder
			lead, after := n.lead, n.after
			n.lead, n.after = "", ""
			n.write(&b)
			n.lead, n.after = lead, after
			if file, take := give(line, []byte(b.String())); take {
				*n = node{run: true, lead: lead, raw: "<?oaken-part " + file + "?>" + after}
				return
			}
		}
		for _, c := range line[len(line)-1].Children {
			visit(append(line[:len(line):len(line)], c))
		}
	}
	visit([]*element.Element{root})
	var b strings.Builder
	doc.root.write(&b)
	b.WriteString(doc.trail)
	return encode([]byte(b.String()))
}

// Unslice puts the bytes back that Slice has given.
func (Kind) Unslice(data []byte, get func(string) ([]byte, error)) ([]byte, error) {
	text, encode, err := decoded(data)
	if err != nil {
		return nil, err
	}
	var failed error
	out := partReference.ReplaceAllFunc(text, func(m []byte) []byte {
		part, err := get(string(partReference.FindSubmatch(m)[1]))
		if err != nil {
			failed = err
		}
		return part
	})
	if failed != nil {
		return nil, failed
	}
	return encode(out)
}
