// Package document is the kind of text documents and slides, in Office Open XML (ECMA-376,
// WordprocessingML and PresentationML) and OpenDocument (ISO/IEC 26300), on top of the kind
// of packages.
//
// What people write comes first in the tree: `text:main` has a `section:HEADING` for each
// heading, with what stands below it up to the next one; `slides:main` has a `slide:TITLE`
// for each slide. Numbers by which parts of Open Packaging refer to each other are told as
// what they lead to, since any program gives them anew when it saves. All other parts are
// as the package has them.
package document

import (
	"errors"
	"path"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/linked"
	"oakenchest/core/kind/pack"
)

// Kind reads text documents and slides.
type Kind struct{ pack.Kind }

var (
	_ kind.Writer = Kind{}
	_ kind.Holder = Kind{}
)

// Within gives the kind that reads parts by the kinds of a table.
func (Kind) Within(t *kind.Table) kind.Kind { return Kind{pack.Kind{}.Within(t).(pack.Kind)} }

// Name is "document".
func (Kind) Name() string { return "document" }

// About describes the kind.
func (Kind) About() string {
	return "text documents and slides, Office Open XML and OpenDocument: sections by heading, slides by title"
}

var endings = []string{".docx", ".docm", ".dotx", ".pptx", ".pptm", ".potx", ".odt", ".ott", ".odp", ".otp"}

// Claims takes packages by their endings.
func (Kind) Claims(p string, head []byte) bool {
	return slices.Contains(endings, strings.ToLower(path.Ext(p))) && pack.Kind{}.Claims(p, head)
}

// Read gives the sections or slides, and the parts that are left.
func (k Kind) Read(src kind.Source) (*kind.Reading, error) {
	r, err := k.Kind.Read(src)
	if err != nil {
		return nil, err
	}
	v, err := viewOf(r.Root)
	if err != nil {
		return r, nil // it is a package all the same
	}
	r.Root, r.Placed = v.root, v.placed
	return r, nil
}

// Write gives the document with the wanted sections, slides and parts.
func (k Kind) Write(src kind.Source, want *element.Element, content kind.Content) (map[string][]byte, error) {
	r, err := k.Kind.Read(src)
	if err != nil {
		return nil, err
	}
	have, err := viewOf(r.Root)
	if err != nil { // it was read as a package
		return k.Kind.Write(src, want, content)
	}
	want = typed(want, have.root.Type)
	if element.Compare(have.root, want) == nil {
		return nil, nil
	}
	raw, err := rawOf(r.Root, want)
	if err != nil {
		return nil, err
	}
	again, err := viewOf(raw)
	if err != nil {
		return nil, err
	}
	if d := element.Compare(want, again.root); d != nil {
		return nil, errors.New("a section is called by its heading, a slide by its title, and these say otherwise")
	}
	return k.Kind.Write(src, raw, kind.Contents(r.Content, content))
}

// typed gives a tree another type.
func typed(e *element.Element, typ string) *element.Element {
	c := *e
	c.Type = typ
	return &c
}

// view is what people see of a package.
type view struct {
	root   *element.Element
	placed []string
}

var errNoDocument = errors.New("it holds no text and no slides")

// viewOf gives the view of a package.
func viewOf(raw *element.Element) (*view, error) {
	l := layoutOf(raw)
	if l == nil {
		return nil, errNoDocument
	}
	return l.view(raw)
}

// rawOf gives the package that a view stands for; raw is the one that is there.
func rawOf(raw, want *element.Element) (*element.Element, error) {
	l := layoutOf(raw)
	if l == nil {
		return nil, errNoDocument
	}
	return l.raw(raw, want)
}

// A layout knows where a format keeps what people write.
type layout interface {
	view(raw *element.Element) (*view, error)
	raw(raw, want *element.Element) (*element.Element, error)
}

func layoutOf(raw *element.Element) layout {
	switch {
	case linked.Root(raw, "word/document.xml") != nil:
		return linkedText{textLayout{part: "word/document.xml", at: []string{"w:document", "w:body"}, last: "w:sectPr",
			headings: wordHeadings}}
	case linked.Root(raw, deckPart) != nil:
		return deckLayout{}
	case linked.Root(raw, contentPart) == nil:
		return nil
	case find(linked.Root(raw, contentPart), "office:body", "office:text") != nil:
		return textLayout{part: contentPart, at: []string{"office:document-content", "office:body", "office:text"}, headings: openHeadings}
	case find(linked.Root(raw, contentPart), "office:body", "office:presentation") != nil:
		return pageLayout{}
	}
	return nil
}

const contentPart = "content.xml"

// find goes down by types, each time to the first child.
func find(e *element.Element, types ...string) *element.Element {
	for _, typ := range types {
		if e == nil {
			return nil
		}
		i := slices.IndexFunc(e.Children, func(c *element.Element) bool { return c.Type == typ })
		if i < 0 {
			return nil
		}
		e = e.Children[i]
	}
	return e
}

// replaced gives a tree in which the element at the end of types, the first of which is the
// tree's own, has other children.
func replaced(e *element.Element, types []string, kids []*element.Element) *element.Element {
	c := *e
	if len(types) == 1 {
		c.Children = kids
		return &c
	}
	i := slices.IndexFunc(e.Children, func(k *element.Element) bool { return k.Type == types[1] })
	c.Children = slices.Clone(e.Children)
	c.Children[i] = replaced(e.Children[i], types[1:], kids)
	return &c
}

// withPart gives a package in which a part is another one.
func withPart(raw, part *element.Element) *element.Element {
	c := *raw
	c.Children = slices.Clone(raw.Children)
	for i, p := range c.Children {
		if p.Type == "part" && p.Key == part.Key {
			c.Children[i] = part
		}
	}
	return &c
}

// words gives what people read in an element: the text of all that is in it, blanks folded.
func words(e *element.Element, skip ...string) string {
	var b strings.Builder
	gather(&b, e, skip)
	return strings.Join(strings.Fields(b.String()), " ")
}

func gather(b *strings.Builder, e *element.Element, skip []string) {
	if slices.Contains(skip, e.Type) {
		return
	}
	b.WriteString(e.Prop("text").Text())
	for _, c := range e.Children {
		gather(b, c, skip)
		if apart[c.Type[strings.IndexByte(c.Type, ':')+1:]] {
			b.WriteByte(' ')
		}
	}
}

// apart are the elements, without their prefixes, behind which a word ends.
var apart = map[string]bool{"p": true, "h": true, "br": true, "tab": true, "cr": true, "line-break": true, "s": true}
