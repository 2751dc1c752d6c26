package document

import (
	"errors"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind/linked"
)

// textLayout is that of a text: one list of paragraphs and tables in one part.
type textLayout struct {
	part string
	// at leads from the root of the part to the list.
	at []string
	// last is the type of what stays behind all paragraphs.
	last string
	// headings gives a test by which a package tells headings.
	headings func(raw *element.Element) func(*element.Element) bool
}

// The holder of the sections, and of the slides.
const (
	holderKey = "main"
	textType  = "text"
)

func holderOf(want *element.Element, typ string) *element.Element {
	for _, c := range want.Children {
		if c.Type == typ && c.Key == holderKey {
			return c
		}
	}
	return nil
}

func (l textLayout) list(raw *element.Element) *element.Element {
	root := linked.Root(raw, l.part)
	if root == nil || root.Type != l.at[0] {
		return nil
	}
	return find(root, l.at[1:]...)
}

func (l textLayout) view(raw *element.Element) (*view, error) {
	list := l.list(raw)
	if list == nil {
		return nil, errNoDocument
	}
	var rest, body []*element.Element
	for _, c := range list.Children {
		if c.Type == l.last {
			rest = append(rest, c)
		} else {
			body = append(body, c)
		}
	}
	out := &element.Element{Type: "document", Gist: raw.Gist}
	out.Add(l.sections(raw, body))
	part := linked.Part(raw, l.part)
	whole := withPart(raw, linked.WithRoot(part, replaced(part.Children[0], l.at, rest)))
	return &view{root: out.Add(whole.Children...)}, nil
}

// sections gathers what stands below each heading.
func (l textLayout) sections(raw *element.Element, body []*element.Element) *element.Element {
	heading := l.headings(raw)
	text := &element.Element{Type: textType, Key: holderKey, Ordered: true, Firm: true}
	var in *element.Element
	for _, c := range body {
		if heading(c) {
			in = &element.Element{Type: "section", Key: words(c, notSaid...), Ordered: true}
			text.Add(in)
		} else if in == nil {
			in = &element.Element{Type: "section", Ordered: true}
			text.Add(in)
		}
		said := *c
		if said.Gist == "" {
			said.Gist = words(c, notSaid...)
		}
		in.Add(&said)
	}
	for _, s := range text.Children {
		s.Children[0] = titled(s.Children[0], s.Key, notSaid...)
	}
	element.Distinguish(text.Children)
	for _, s := range text.Children {
		s.Gist = element.Counted(len(s.Children), "paragraph")
	}
	return text
}

func (l textLayout) raw(raw, want *element.Element) (*element.Element, error) {
	text := holderOf(want, textType)
	part := linked.Part(want, l.part)
	if text == nil || part == nil || l.list(want) == nil {
		return nil, errors.New("the text or the part that it lies in is missing")
	}
	var body []*element.Element
	titles := own(text.Children)
	for i, s := range text.Children {
		if s.Type != "section" || len(s.Children) == 0 {
			return nil, errors.New("a text has sections alone, and each begins with its heading")
		}
		body = append(append(body, entitled(s.Children[0], titles[i])), s.Children[1:]...)
	}
	body = append(body, l.list(want).Children...)
	out := *raw
	out.Children = slices.DeleteFunc(slices.Clone(want.Children), func(c *element.Element) bool { return c == text })
	return withPart(&out, linked.WithRoot(part, replaced(part.Children[0], l.at, body))), nil
}

// notSaid are types whose text is not read: instructions to the program, and what is marked
// as taken away.
var notSaid = []string{"w:instrText", "w:delText", "text:tracked-changes", "office:annotation", "text:note"}

// openHeadings tells headings of OpenDocument.
func openHeadings(*element.Element) func(*element.Element) bool {
	return func(e *element.Element) bool { return e.Type == "text:h" }
}

// wordHeadings tells headings of WordprocessingML: paragraphs with an outline level, of
// their own or by their style. Such a level is 0 to 8; 9 stands for the body of the text.
func wordHeadings(raw *element.Element) func(*element.Element) bool {
	leveled := func(properties *element.Element) bool {
		level := find(properties, "w:outlineLvl")
		return level != nil && level.Prop("w:val").Text() != "9"
	}
	styles := map[string]bool{}
	if root := linked.Root(raw, "word/styles.xml"); root != nil {
		for _, s := range root.Children {
			if s.Type != "w:style" {
				continue
			}
			name := find(s, "w:name")
			builtin := name != nil && strings.HasPrefix(strings.ToLower(name.Prop("w:val").Text()), "heading ")
			styles[s.Prop("w:styleId").Text()] = builtin || leveled(find(s, "w:pPr"))
		}
	}
	return func(e *element.Element) bool {
		if e.Type != "w:p" {
			return false
		}
		properties := find(e, "w:pPr")
		style := find(properties, "w:pStyle")
		return leveled(properties) || style != nil && styles[style.Prop("w:val").Text()]
	}
}

// linkedText is a text in Open Packaging, whose relations are told in words.
type linkedText struct{ textLayout }

func (l linkedText) view(raw *element.Element) (*view, error) {
	v, err := l.textLayout.view(linked.Plain.InWords(raw))
	if err == nil {
		v.placed = linked.Placed(v.root)
	}
	return v, err
}

func (l linkedText) raw(raw, want *element.Element) (*element.Element, error) {
	out, err := l.textLayout.raw(raw, want)
	if err != nil {
		return nil, err
	}
	return linked.Plain.InIDs(raw, out)
}
