package recipe

import (
	"slices"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

var _, _ kind.Hushed = Kind{}, packed{}

// Hush gives the document with the noise of another version of it.
func (k Kind) Hush(src, like kind.Source) (map[string][]byte, error) {
	here, err := k.Writer.Read(src)
	if err != nil {
		return nil, err
	}
	there, err := k.Writer.Read(like)
	if err != nil {
		return nil, err
	}
	h := hush{k.rules(here.Root)}
	top, other := []*element.Element{here.Root}, []*element.Element{there.Root}
	if here.Root.Type == "xml" && len(here.Root.Children) == 1 && len(there.Root.Children) == 1 {
		root := *here.Root
		root.Children = []*element.Element{h.element(here.Root.Children[:1:1], there.Root.Children[:1:1])}
		return k.Writer.Write(src, &root, kind.Contents(here.Content, there.Content))
	}
	return k.Writer.Write(src, h.element(top, other), kind.Contents(here.Content, there.Content))
}

// hush carries noise over from one raw tree to another.
type hush struct{ rules *rules }

// element gives the last element of a line with the noise of the one beside it.
func (h hush) element(line, other []*element.Element) *element.Element {
	e, like := line[len(line)-1], other[len(other)-1]
	noise := h.rules.say(line).noise
	out := *e
	if len(noise) > 0 {
		out.Props = slices.Clone(e.Props)
		for _, name := range noise {
			out.Set(name, like.Prop(name))
		}
	}
	isNoise := func(c *element.Element) bool {
		name := h.rules.nameOf(c)
		return slices.Contains(noise, name) || slices.Contains(noise, name+"="+c.Key)
	}
	pairs := beside(h.keys(line), h.keys(other), e.Children, like.Children)
	out.Children = make([]*element.Element, 0, len(e.Children))
	for i, c := range e.Children {
		twin := pairs[i]
		switch {
		case isNoise(c) && twin != nil:
			c = twin
		case isNoise(c):
			continue
		case twin != nil:
			c = h.element(append(line[:len(line):len(line)], c), append(other[:len(other):len(other)], twin))
		}
		out.Children = append(out.Children, c)
	}
	for i, c := range like.Children { // noise that is there alone, after what it follows there
		if !isNoise(c) || slices.Contains(out.Children, c) {
			continue
		}
		out.Children = slices.Insert(out.Children, min(i, len(out.Children)), c)
	}
	return &out
}

// keys gives the keys that rules make of the children of the last element of a line.
func (h hush) keys(line []*element.Element) []string {
	kids := line[len(line)-1].Children
	out := make([]string, len(kids))
	for i, c := range kids {
		out[i] = c.Key
		if names := h.rules.say(append(line[:len(line):len(line)], c)).key; names != nil {
			out[i] = h.rules.keyOf(c, names)
		}
	}
	return out
}

// beside pairs children by type and key, those of equal or no key by their place among them.
func beside(keys, otherKeys []string, kids, others []*element.Element) []*element.Element {
	type id struct {
		typ, key string
		n        int
	}
	number := func(list []*element.Element, keys []string) []id {
		count := map[id]int{}
		out := make([]id, len(list))
		for i, e := range list {
			at := id{e.Type, keys[i], 0}
			out[i] = id{e.Type, keys[i], count[at]}
			count[at]++
		}
		return out
	}
	where := make(map[id]*element.Element, len(others))
	for i, at := range number(others, otherKeys) {
		where[at] = others[i]
	}
	out := make([]*element.Element, len(kids))
	for i, at := range number(kids, keys) {
		out[i] = where[at]
	}
	return out
}

// Hush gives the archive with the noise of another version of it: parts that are noise,
// and what is noise in others.
func (p packed) Hush(src, like kind.Source) (map[string][]byte, error) {
	h, ok := p.archive.(interface {
		HushParts(src, like kind.Source, noise func(name string) bool) (map[string][]byte, error)
	})
	if !ok {
		return nil, nil
	}
	return h.HushParts(src, like, func(name string) bool { return p.hides(&element.Element{Type: "part", Key: name}) != nil })
}
