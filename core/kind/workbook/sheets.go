package workbook

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind/linked"
)

// The part of a sheet is named for its place among them, and so are its ids: the view has
// it below the sheet, by name.

const (
	toSheet      = "sheet "
	layoutKey    = "layout"
	relationsKey = "relations"
	sheetType    = "application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml"
)

// say tells a relation that leads to a sheet by its name.
func (b *book) say(owner, to string) string {
	part := linked.Target(owner, to)
	i := slices.IndexFunc(b.sheets, func(s sheet) bool { return s.part == part })
	if i < 0 {
		return to
	}
	return toSheet + b.sheets[i].name
}

// lift puts the parts of sheets below them, and gives what is left of the package.
func (b *book) lift(sheets []*element.Element) *element.Element {
	said := linked.Speech{Say: b.say}.InWords(b.raw)
	lifted := map[string]bool{}
	for i, s := range b.sheets {
		for _, p := range []*element.Element{linked.Part(said, s.part), linked.Part(said, linked.RelationsOf(s.part))} {
			switch {
			case p == nil:
			case p.Key == s.part:
				p, _ = numbered(p, b.inWords) // words are said without errors
				sheets[i].Add(linked.Named(b.bare(p), layoutKey))
			default:
				sheets[i].Add(linked.Named(p, relationsKey))
			}
		}
		lifted[s.part], lifted[linked.RelationsOf(s.part)] = true, true
	}
	rest := linked.Without(said, func(name string) bool { return lifted[name] })
	for i, p := range rest.Children {
		if p.Key == workbookPart && len(p.Children) == 1 {
			rest.Children[i] = linked.WithRoot(p, b.unnumbered(p.Children[0]))
		}
	}
	return rest
}

// unnumbered gives the root of the workbook whose entries of lifted sheets have names alone.
func (b *book) unnumbered(top *element.Element) *element.Element {
	return withEntries(top, func(e *element.Element) {
		if b.part(e.Prop("name").Text()) == "" {
			return
		}
		e.Props = slices.DeleteFunc(slices.Clone(e.Props),
			func(p element.Prop) bool { return p.Name == "sheetId" || p.Value.Text() == linked.Below })
		e.Children = slices.DeleteFunc(slices.Clone(e.Children), func(c *element.Element) bool { return c.Type == "Relationship" })
		e.Key, e.Firm = e.Prop("name").Text(), true
	})
}

// withEntries gives the root of a workbook in which a copy of each entry of a sheet has
// been changed.
func withEntries(top *element.Element, change func(*element.Element)) *element.Element {
	out := *top
	out.Children = slices.Clone(top.Children)
	for i, c := range out.Children {
		if c.Type != "sheets" {
			continue
		}
		list := *c
		list.Children = make([]*element.Element, len(c.Children))
		for j, e := range c.Children {
			k := *e
			change(&k)
			list.Children[j] = &k
		}
		out.Children[i] = &list
	}
	return &out
}

// settle puts the parts of sheets back into a package: those that are there keep theirs.
func (w *writer) settle(want *element.Element) ([]*element.Element, error) {
	out := &element.Element{Type: "package"}
	parts, fresh := map[string]string{}, linked.Fresh(w.book.raw)
	var own []string
	for _, e := range want.Children {
		if e.Type != "sheet" {
			if e.Type != "named-style" {
				out.Add(e)
			}
			continue
		}
		name := w.book.part(e.Key)
		if name == "" {
			name = fresh("xl/worksheets/sheet%d.xml")
		}
		parts[e.Key] = name
		for _, c := range e.Children {
			switch {
			case c.Type != "part":
			case c.Key == layoutKey:
				out.Add(linked.Named(c, name))
				own = append(own, name)
			case c.Key == relationsKey:
				out.Add(linked.Named(c, linked.RelationsOf(name)))
				own = append(own, linked.RelationsOf(name))
			default:
				return nil, fmt.Errorf("a sheet has no part %s", c.Key)
			}
		}
	}
	for i, p := range out.Children {
		if p.Key == workbookPart && len(p.Children) == 1 {
			out.Children[i] = linked.WithRoot(p, w.entries(p.Children[0], parts))
		}
	}
	lead := func(owner, word string) (string, error) {
		name, ok := strings.CutPrefix(word, toSheet)
		if !ok {
			return word, nil
		}
		if parts[name] == "" {
			return "", fmt.Errorf("%s refers to the sheet %s, which is not there", owner, name)
		}
		return linked.From(owner, parts[name]), nil
	}
	out = linked.Declared(w.book.raw, out, own, func(name string) string {
		if _, list := linked.OwnerOf(name); list {
			return ""
		}
		return sheetType
	})
	out, err := linked.Speech{Say: w.book.say, Lead: lead}.InIDs(w.book.raw, out)
	if err != nil {
		return nil, err
	}
	return out.Children, nil
}

// entries gives the root of a workbook whose entries of sheets have numbers again.
func (w *writer) entries(top *element.Element, parts map[string]string) *element.Element {
	was, last, reference := map[string]*element.Element{}, 0, linked.Reference(top)
	if list := child(linked.Root(w.book.raw, workbookPart), "sheets"); list != nil {
		for _, e := range list.Children {
			was[e.Prop("name").Text()] = e
			n, _ := strconv.Atoi(e.Prop("sheetId").Text())
			last = max(last, n)
		}
	}
	return withEntries(top, func(e *element.Element) {
		name := e.Prop("name").Text()
		if parts[name] == "" || reference == "" {
			return
		}
		props := []element.Prop{{Name: "name"}, {Name: "sheetId"}, {Name: "state"}, {Name: reference}}
		id := ""
		if old := was[name]; old != nil {
			props, id, e.Key, e.Firm = slices.Clone(old.Props), old.Prop("sheetId").Text(), old.Key, old.Firm
			for i := range props {
				props[i].Value = element.Value{}
			}
		} else {
			last++
			id = strconv.Itoa(last)
		}
		said := e.Props
		e.Props = props
		for _, p := range said {
			e.Set(p.Name, p.Value)
		}
		e.Set("sheetId", element.TextValue(id))
		e.Set(reference, element.TextValue(linked.Below))
		e.Props = slices.DeleteFunc(e.Props, func(p element.Prop) bool { return p.Value.IsAbsent() })
		e.Children = append(slices.Clone(e.Children), &element.Element{Type: "Relationship", Key: reference, Firm: true,
			Props: []element.Prop{
				{Name: "Type", Value: element.TextValue("http://schemas.openxmlformats.org/officeDocument/2006/relationships/worksheet")},
				{Name: "Target", Value: element.TextValue(toSheet + name)}}})
	})
}
