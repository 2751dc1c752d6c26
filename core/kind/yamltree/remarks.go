package yamltree

import (
	"errors"
	"io"
	"strings"

	"go.yaml.in/yaml/v3"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

var _ kind.Remarker = Kind{}

// Remarks lists comments, anchors of scalars, and what aliases stand for whose anchor is
// set more than once. A line of a block scalar that looks like a comment is listed too.
func (Kind) Remarks(data []byte) []kind.Remark {
	out := kind.LineRemarks(string(data), "#", true)
	if !strings.ContainsAny(string(data), "&") {
		return out
	}
	a := anchors{set: map[string]int{}}
	dec := yaml.NewDecoder(strings.NewReader(string(data)))
	for {
		var n yaml.Node
		if err := dec.Decode(&n); err != nil {
			if !errors.Is(err, io.EOF) {
				return out // what is broken was said elsewhere
			}
			break
		}
		a.visit(&n, "")
	}
	for _, alias := range a.aliases {
		if a.set[alias.Value] > 1 {
			a.found = append(a.found, kind.Remark{Text: "*" + alias.Value, Of: meaning(alias.Alias)})
		}
	}
	return append(out, a.found...)
}

// anchors gathers what is set and used in a file.
type anchors struct {
	set     map[string]int
	aliases []*yaml.Node
	found   []kind.Remark
}

func (a *anchors) visit(n *yaml.Node, key string) {
	if n.Anchor != "" {
		a.set[n.Anchor]++
		if n.Kind == yaml.ScalarNode {
			a.found = append(a.found, kind.Remark{Text: "&" + n.Anchor, Of: key})
		}
	}
	if n.Kind == yaml.AliasNode {
		a.aliases = append(a.aliases, n)
		return
	}
	for i, c := range n.Content {
		if n.Kind == yaml.MappingNode && i%2 == 1 {
			key = n.Content[i-1].Value
		}
		a.visit(c, key)
	}
}

// meaning tells what an alias stands for.
func meaning(n *yaml.Node) string {
	out, err := yaml.Marshal(n)
	if err != nil {
		return n.Value
	}
	return element.DigestOf(out).Short()
}
