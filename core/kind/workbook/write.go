package workbook

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/linked"
)

// Write gives the workbook with the wanted cells and parts. Texts and styles that are new
// in it come last in their lists.
func (k Kind) Write(src kind.Source, want *element.Element, content kind.Content) (map[string][]byte, error) {
	r, err := k.Kind.Read(src)
	if err != nil {
		return nil, err
	}
	b, err := open(r.Root)
	if err != nil { // it was read as a package
		return k.Kind.Write(src, want, content)
	}
	have := b.view()
	if element.Compare(have, asWorkbook(want)) == nil {
		return nil, nil
	}
	raw, err := (&writer{book: b, have: have}).raw(want)
	if err != nil {
		return nil, err
	}
	return k.Kind.Write(src, raw, kind.Contents(r.Content, content))
}

// asWorkbook gives a tree the type that a workbook's has.
func asWorkbook(e *element.Element) *element.Element {
	c := *e
	c.Type = "workbook"
	return &c
}

type writer struct {
	*book
	have  *element.Element
	added []*element.Element // shared texts
	fresh bool               // a formula changed: the order of working them out is another
	stale bool               // a cell changed: what is stored of formulas is out of date
}

// raw gives the tree of the package.
func (w *writer) raw(want *element.Element) (*element.Element, error) {
	out := &element.Element{Type: "package", Gist: w.book.raw.Gist}
	wanted := map[string]*element.Element{} // sheets, by their parts
	var named []namedStyle
	for _, e := range want.Children {
		if e.Type == "named-style" {
			named = append(named, namedStyle{e.Key, e.Prop("style").Text()})
		}
	}
	if !slices.Equal(sortedStyles(named), sortedStyles(w.styles.named)) {
		return nil, errors.New("named styles can't be changed")
	}
	parts, err := w.settle(want)
	if err != nil {
		return nil, err
	}
	names, err := sheetsOf(parts)
	if err != nil {
		return nil, err
	}
	for _, e := range want.Children {
		if e.Type != "sheet" {
			continue
		}
		if names[e.Key] == "" {
			return nil, fmt.Errorf("the sheet %s has no part", e.Key)
		}
		wanted[names[e.Key]] = e
		w.stale = w.stale || !slices.ContainsFunc(w.have.Children, func(h *element.Element) bool {
			return h.Type == "sheet" && h.Key == e.Key && cellsOf(h).Sum() == cellsOf(e).Sum()
		})
	}
	order, err := open(&element.Element{Children: parts})
	if err != nil {
		return nil, err
	}
	for _, p := range parts {
		if speaksOfNumbers(p.Key) {
			if p, err = numbered(p, w.inNumbers(order.order)); err != nil {
				return nil, err
			}
		}
		if s := wanted[p.Key]; s != nil {
			if p, err = w.sheet(p, s); err != nil {
				return nil, fmt.Errorf("the sheet %s: %w", s.Key, err)
			}
		}
		out.Children = append(out.Children, p)
	}
	return out, w.lists(out)
}

// cellsOf gives a sheet with its rows and cells alone.
func cellsOf(sheet *element.Element) *element.Element {
	c := *sheet
	c.Children = slices.DeleteFunc(slices.Clone(sheet.Children), func(k *element.Element) bool { return k.Type == "part" })
	return &c
}

func sortedStyles(list []namedStyle) []namedStyle {
	return slices.SortedFunc(slices.Values(list), func(a, b namedStyle) int { return strings.Compare(a.name+a.text, b.name+b.text) })
}

// sheetsOf gives the parts of sheets by their names.
func sheetsOf(parts []*element.Element) (map[string]string, error) {
	b, err := open(&element.Element{Children: parts})
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, s := range b.sheets {
		out[s.name] = s.part
	}
	return out, nil
}

// lists puts the shared texts and the style sheet among the parts.
func (w *writer) lists(out *element.Element) error {
	for i, p := range out.Children {
		if p.Key == stylesPart && w.styles.sheet != nil && len(p.Children) == 1 {
			grown := *p
			root := *p.Children[0]
			root.Children = nil
			// The lists stand before all else, in the order that the format asks for.
			for _, c := range w.styles.sheet.Children {
				if slices.Contains(listed, c.Type) {
					root.Children = append(root.Children, c)
				}
			}
			root.Children = append(root.Children, p.Children[0].Children...)
			grown.Children = []*element.Element{&root}
			out.Children[i] = &grown
		}
	}
	for _, p := range w.book.raw.Children {
		switch {
		case p.Key == stringsPart && len(p.Children) == 1:
			grown := *p
			root := *p.Children[0]
			root.Children = append(slices.Clone(root.Children), w.added...)
			for _, name := range []string{"count", "uniqueCount"} {
				if !root.Prop(name).IsAbsent() && len(w.added) > 0 {
					root.Set(name, element.TextValue(strconv.Itoa(len(root.Children))))
				}
			}
			grown.Children = []*element.Element{&root}
			out.Children = append(out.Children, &grown)
		case p.Key == calcPart && !w.fresh:
			out.Children = append(out.Children, p)
			out.Children = linked.Declared(w.book.raw, out, []string{calcPart}, func(string) string { return "" }).Children
			w.leadToOrder(out)
		}
	}
	return nil
}

// leadToOrder puts the relation back that leads to the order of working out.
func (w *writer) leadToOrder(out *element.Element) {
	for i, p := range out.Children {
		if p.Key != relsPart || len(p.Children) != 1 {
			continue
		}
		list := *p.Children[0]
		list.Children = slices.Clone(list.Children)
		for _, r := range linked.Root(w.book.raw, relsPart).Children {
			if leadsToOrder(r) {
				list.Children = append(list.Children, r)
			}
		}
		out.Children[i] = linked.WithRoot(p, &list)
	}
}

// sheet gives the part of a sheet with its cells.
func (w *writer) sheet(p, want *element.Element) (*element.Element, error) {
	out := *p
	root := *p.Children[0]
	root.Children = slices.Clone(root.Children)
	out.Children = []*element.Element{&root}
	for i, c := range root.Children {
		if c.Type != "cols" {
			continue
		}
		var failed error
		root.Children[i] = w.restyled(c, "style", func(words string) (string, bool) {
			if _, number := index(words, len(w.styles.texts)); number { // the first one
				return words, true
			}
			id, err := w.styles.find(words)
			failed = errors.Join(failed, err)
			return id, err == nil
		})
		if failed != nil {
			return nil, failed
		}
	}
	data, err := w.sheetWriter(p.Key).write(want)
	if err != nil {
		return nil, err
	}
	// Cells stand behind the columns, and before all that speaks of cells.
	at := 0
	for i, c := range root.Children {
		if slices.Contains([]string{"sheetPr", "sheetViews", "sheetFormatPr", "cols"}, c.Type) {
			at = i + 1
		}
	}
	root.Children = slices.Insert(root.Children, at, data)
	if old := linked.Root(w.book.raw, p.Key); old != nil {
		if d := child(old, "dimension"); d != nil { // wherever cells are, it only has to be no less
			place := 0
			if len(root.Children) > 0 && root.Children[0].Type == "sheetPr" {
				place = 1
			}
			root.Children = slices.Insert(root.Children, place, d)
		}
	}
	return &out, nil
}

func (w *writer) rowProps(r, want *element.Element) error {
	n := r.Prop("r")
	r.Props = []element.Prop{{Name: "r", Value: n}}
	for _, p := range want.Props {
		if p.Name != styleProperty {
			r.Props = append(r.Props, p)
			continue
		}
		id, err := w.styles.find(p.Value.Text())
		if err != nil {
			return err
		}
		r.Set("s", element.TextValue(id))
	}
	return nil
}

// cell writes a cell that changed.
func (w *writer) cell(want, old, raw *element.Element) (*element.Element, error) {
	set := func(e *element.Element, name, v string) {
		e.Props = append(e.Props, element.Prop{Name: name, Value: element.TextValue(v)})
	}
	c := &element.Element{Type: "c", Key: want.Key, Ordered: true, Firm: true}
	set(c, "r", want.Key)
	if words := want.Prop(styleProperty).Text(); words != "" {
		id, err := w.styles.find(words)
		if err != nil {
			return nil, err
		}
		set(c, "s", id)
	}
	same := old != nil && raw != nil
	for _, name := range []string{valueProperty, richProperty, formulaProperty, typeProperty} {
		same = same && old.Prop(name).Equal(want.Prop(name))
	}
	if same { // only its style is another
		if t := raw.Prop("t"); !t.IsAbsent() {
			set(c, "t", t.Text())
		}
		c.Children = raw.Children
		return c, nil
	}
	inner := func(typ, text string) *element.Element {
		e := &element.Element{Type: typ, Ordered: true, Firm: true}
		if text != "" {
			set(e, "text", text)
		}
		return e
	}
	v := want.Prop(valueProperty)
	switch f := want.Prop(formulaProperty).Text(); {
	case strings.Contains(f, sharedMark):
		return nil, errors.New("a formula that several cells share can't be written anew")
	case !want.Prop(formulaProperty).IsAbsent():
		w.fresh = true
		c.Add(inner("f", f))
	case !want.Prop(typeProperty).IsAbsent():
		set(c, "t", want.Prop(typeProperty).Text())
		c.Add(inner("v", v.Text()))
	case v.Sort() == element.Text:
		n, inList, err := w.sharedText(text{v.Text(), want.Prop(richProperty).Text()})
		if err != nil {
			return nil, err
		}
		if inList {
			set(c, "t", "s")
			c.Add(inner("v", strconv.Itoa(n)))
			break
		}
		set(c, "t", "inlineStr")
		c.Add((&element.Element{Type: "is", Ordered: true, Firm: true}).Add(w.textElement(v.Text())))
	case v.Sort() == element.Bool:
		set(c, "t", "b")
		c.Add(inner("v", map[bool]string{true: "1", false: "0"}[v.Text() == "true"]))
	case !v.IsAbsent():
		c.Add(inner("v", v.Text()))
	}
	if old != nil && !old.Prop(formulaProperty).Equal(want.Prop(formulaProperty)) {
		w.fresh = true
	}
	return c, nil
}

func (w *writer) textElement(s string) *element.Element {
	t := &element.Element{Type: "t", Ordered: true, Firm: true}
	if strings.TrimSpace(s) != s {
		t.Props = append(t.Props, element.Prop{Name: "xml:space", Value: element.TextValue("preserve")})
	}
	if s != "" {
		t.Props = append(t.Props, element.Prop{Name: "text", Value: element.TextValue(s)})
	}
	return t
}

// sharedText gives the place of a text in the list of shared ones; false when the workbook
// has no such list.
func (w *writer) sharedText(t text) (int, bool, error) {
	if i := slices.Index(w.texts, t); i >= 0 {
		return i, true, nil
	}
	if linked.Root(w.book.raw, stringsPart) == nil {
		if t.rich != "" {
			return 0, false, errors.New("the workbook has no list of texts")
		}
		return 0, false, nil
	}
	si := &element.Element{Type: "si", Ordered: true, Firm: true}
	if t.rich != "" {
		e, err := unspell(t.rich)
		if err != nil {
			return 0, false, err
		}
		si.Children = e.Children
	} else {
		si.Add(w.textElement(t.plain))
	}
	w.added = append(w.added, si)
	w.texts = append(w.texts, t)
	return len(w.texts) - 1, true, nil
}

// place gives the column, from 1, and the row of a cell.
func place(ref string) (column, row int, ok bool) {
	i := 0
	for i < len(ref) && ref[i] >= 'A' && ref[i] <= 'Z' && i < 4 {
		column = column*26 + int(ref[i]-'A') + 1
		i++
	}
	row, err := strconv.Atoi(ref[i:])
	return column, row, err == nil && i > 0 && row > 0
}
