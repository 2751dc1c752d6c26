package document

import (
	"errors"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind/linked"
)

// pageLayout is that of slides in OpenDocument: pages in one part.
type pageLayout struct{}

const (
	slidesType = "slides"
	pageType   = "draw:page"
	pageName   = "draw:name"
)

var pagesAt = []string{"office:document-content", "office:body", "office:presentation"}

func (pageLayout) view(raw *element.Element) (*view, error) {
	root := linked.Root(raw, contentPart)
	list := find(root, pagesAt[1:]...)
	slides := &element.Element{Type: slidesType, Key: holderKey, Ordered: true, Firm: true}
	var rest []*element.Element
	leads := linksWithin(list)
	last := -1
	for i, c := range list.Children {
		if c.Type != pageType {
			rest = append(rest, c)
			continue
		}
		if last >= 0 && last != i-1 {
			return nil, errors.New("pages do not stand together")
		}
		last = i
		slides.Add(slideOf(pageTitle(c), unnumbered(c, leads)))
	}
	element.Distinguish(slides.Children)
	out := (&element.Element{Type: "document", Gist: raw.Gist}).Add(slides)
	whole := withPart(raw, linked.WithRoot(linked.Part(raw, contentPart), replaced(root, pagesAt, rest)))
	return &view{root: out.Add(whole.Children...)}, nil
}

// slideOf gives a slide with what it consists of.
func slideOf(title string, parts ...*element.Element) *element.Element {
	e := &element.Element{Type: "slide", Key: title, Gist: words(parts[0], notSaid...), Ordered: true}
	return e.Add(titled(parts[0], title, notSaid...)).Add(parts[1:]...)
}

// numberedPage is a name that a program gave by itself.
var numberedPage = regexp.MustCompile(`^\pL{1,12} ?\d+$|^$`)

// pageTitle is the name that somebody gave a page, else the title on it.
func pageTitle(page *element.Element) string {
	if name := page.Prop(pageName).Text(); !numberedPage.MatchString(name) {
		return name
	}
	for _, shape := range page.Children {
		if shape.Prop("presentation:class").Text() == "title" {
			return words(shape, notSaid...)
		}
	}
	return ""
}

// linksWithin reports whether something leads to a page by its name.
func linksWithin(e *element.Element) bool {
	return strings.HasPrefix(e.Prop("xlink:href").Text(), "#") || slices.ContainsFunc(e.Children, linksWithin)
}

// unnumbered gives a page without the name that a program gave it for its place.
func unnumbered(page *element.Element, leads bool) *element.Element {
	if leads || !numberedPage.MatchString(page.Prop(pageName).Text()) {
		return page
	}
	c := *page
	c.Key = ""
	c.Set(pageName, element.Value{})
	return &c
}

// numbered is the reverse, for the page at a place.
func numbered(page *element.Element, at int) *element.Element {
	if !page.Prop(pageName).IsAbsent() {
		return page
	}
	c := *page
	c.Key = "page" + strconv.Itoa(at+1)
	c.Props = slices.Insert(slices.Clone(c.Props), 0, element.Prop{Name: pageName, Value: element.TextValue(c.Key)})
	return &c
}

func (pageLayout) raw(raw, want *element.Element) (*element.Element, error) {
	slides := holderOf(want, slidesType)
	part := linked.Part(want, contentPart)
	if slides == nil || part == nil || len(part.Children) != 1 || find(part.Children[0], pagesAt[1:]...) == nil {
		return nil, errors.New("the slides or the part that they lie in are missing")
	}
	rest := find(part.Children[0], pagesAt[1:]...).Children
	at := slices.IndexFunc(rest, func(c *element.Element) bool { return c.Type == "presentation:settings" })
	if at < 0 {
		at = len(rest)
	}
	var pages []*element.Element
	titles := own(slides.Children)
	for i, s := range slides.Children {
		if s.Type != "slide" || len(s.Children) != 1 || s.Children[0].Type != pageType {
			return nil, errors.New("a slide has one page")
		}
		pages = append(pages, numbered(entitled(s.Children[0], titles[i]), i))
	}
	out := *raw
	out.Children = slices.DeleteFunc(slices.Clone(want.Children), func(c *element.Element) bool { return c == slides })
	return withPart(&out, linked.WithRoot(part, replaced(part.Children[0], pagesAt, slices.Insert(slices.Clone(rest), at, pages...)))), nil
}
