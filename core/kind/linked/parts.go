package linked

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"oakenchest/core/element"
)

// ContentTypes is the part that declares what each part is.
const ContentTypes = "[Content_Types].xml"

// Part gives a part of a package, nil for none.
func Part(raw *element.Element, name string) *element.Element {
	for _, p := range raw.Children {
		if p.Type == "part" && p.Key == name {
			return p
		}
	}
	return nil
}

// Root gives the root element of a part that is XML, nil for none.
func Root(raw *element.Element, name string) *element.Element {
	if p := Part(raw, name); p != nil && len(p.Children) == 1 {
		return p.Children[0]
	}
	return nil
}

// WithRoot gives a part another root element.
func WithRoot(part, root *element.Element) *element.Element {
	c := *part
	c.Children = []*element.Element{root}
	return &c
}

// Named gives a part another name.
func Named(part *element.Element, name string) *element.Element {
	c := *part
	c.Key = name
	return &c
}

// Target gives the part that a relation of another part leads to.
func Target(owner, to string) string {
	if strings.HasPrefix(to, "/") {
		return strings.TrimPrefix(to, "/")
	}
	return path.Join(path.Dir(owner), to)
}

// Without gives a package without some parts, and without what declares them.
func Without(raw *element.Element, gone func(name string) bool) *element.Element {
	out := *raw
	out.Children = nil
	for _, p := range raw.Children {
		switch {
		case p.Type == "part" && gone(p.Key):
			continue
		case p.Key == ContentTypes:
			p = Pruned(p, func(e *element.Element) bool {
				name, declared := strings.CutPrefix(e.Prop("PartName").Text(), "/")
				return declared && gone(name)
			})
		}
		out.Children = append(out.Children, p)
	}
	return &out
}

// Pruned gives a part whose root lacks some children.
func Pruned(p *element.Element, goes func(*element.Element) bool) *element.Element {
	if len(p.Children) != 1 {
		return p
	}
	root := *p.Children[0]
	root.Children = slices.DeleteFunc(slices.Clone(root.Children), goes)
	return WithRoot(p, &root)
}

// Declared gives a package whose parts of some names are declared: as raw declares them, or
// with the type of contents that sort gives, empty for what a default says.
func Declared(raw, want *element.Element, names []string, sort func(name string) string) *element.Element {
	was := map[string]*element.Element{}
	if old := Root(raw, ContentTypes); old != nil {
		for _, e := range old.Children {
			was[e.Prop("PartName").Text()] = e
		}
	}
	out := *want
	out.Children = slices.Clone(want.Children)
	for i, p := range out.Children {
		if p.Key != ContentTypes || len(p.Children) != 1 {
			continue
		}
		list := *p.Children[0]
		list.Children = slices.Clone(list.Children)
		for _, name := range names {
			if old := was["/"+name]; old != nil {
				list.Children = append(list.Children, old)
			} else if typ := sort(name); typ != "" {
				list.Children = append(list.Children, &element.Element{Type: "Override", Key: "/" + name, Firm: true, Props: []element.Prop{
					{Name: "PartName", Value: element.TextValue("/" + name)}, {Name: "ContentType", Value: element.TextValue(typ)}}})
			}
		}
		out.Children[i] = WithRoot(p, &list)
	}
	return &out
}

// Fresh gives names that no part of a package has, from a format with a number.
func Fresh(raw *element.Element) func(format string) string {
	used := map[string]bool{}
	for _, p := range raw.Children {
		used[p.Key] = true
	}
	return func(format string) string {
		for n := 1; ; n++ {
			if name := fmt.Sprintf(format, n); !used[name] {
				used[name] = true
				return name
			}
		}
	}
}

// numbered are names that count.
var numbered = regexp.MustCompile(`\d+\.\w+(\.rels)?$`)

// steady are folders whose parts programs do not count anew.
var steady = []string{"slideLayouts/", "slideMasters/", "theme/", "notesMasters/", "handoutMasters/", "printerSettings/"}

// Placed lists the parts of a view that are known by a number alone, as type:key.
func Placed(root *element.Element) []string {
	var out []string
	for _, p := range root.Children {
		if p.Type == "part" && numbered.MatchString(p.Key) &&
			!slices.ContainsFunc(steady, func(s string) bool { return strings.Contains(p.Key, s) }) {
			out = append(out, p.Type+":"+p.Key)
		}
	}
	slices.Sort(out)
	return out
}
