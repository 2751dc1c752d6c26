package scene

import (
	"bytes"
	"fmt"

	"oakenchest/core/kind"
	"oakenchest/core/kind/jsondoc"
)

var _ kind.Examiner = Kind{}

// Flaws lists nodes that stand in a scene and below another node, which a scene's own
// nodes must not.
func (Kind) Flaws(data []byte) []string {
	f := &file{}
	text := data
	if bytes.HasPrefix(data, []byte("glTF")) {
		var err error
		if text, err = f.chunks(data); err != nil {
			return nil
		}
	}
	doc, err := jsondoc.Parse(text)
	if err != nil {
		return nil
	}
	f.doc = doc
	names := f.names()["nodes"]
	below := map[int]bool{}
	for _, n := range f.list("nodes") {
		for _, c := range values(n.Get("children")) {
			if i, err := whole(c); err == nil {
				below[i] = true
			}
		}
	}
	var out []string
	for _, s := range f.list("scenes") {
		for _, v := range values(s.Get("nodes")) {
			if i, err := whole(v); err == nil && below[i] && i < len(names) {
				out = append(out, fmt.Sprintf("the node %s stands in a scene and below another node", names[i]))
			}
		}
	}
	return out
}
