// Package workbook is the kind of spreadsheets in Office Open XML (ECMA-376 part 1,
// SpreadsheetML), on top of the kind of packages.
//
// Inside such a file cells refer to texts and to styles by their place in lists, so that a
// new text or style moves the meaning of others. Here those references are resolved: a
// sheet is an element `sheet:NAME`, with a `cell:C5` that has its value or formula, and its
// style in words. Stored results of formulas, and the order in which they are worked out,
// are left out, and are worked out again when the file is opened. All other parts are as
// the package has them.
package workbook

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/linked"
	"oakenchest/core/kind/pack"
)

// Kind reads workbooks.
type Kind struct {
	pack.Kind
	// keys are the headings of columns by which rows are known, by the names of sheets.
	keys map[string][]string
}

var (
	_ kind.Writer = Kind{}
	_ kind.Holder = Kind{}
)

// Within gives the kind that reads parts by the kinds of a table.
func (k Kind) Within(t *kind.Table) kind.Kind {
	return Kind{pack.Kind{}.Within(t).(pack.Kind), k.keys}
}

// Name is "workbook".
func (Kind) Name() string { return "workbook" }

// About describes the kind.
func (Kind) About() string {
	return "spreadsheets in Office Open XML: sheets with cells, each with its value, formula and style"
}

// Claims takes packages by their endings.
func (Kind) Claims(p string, head []byte) bool {
	ext := strings.ToLower(path.Ext(p))
	return (ext == ".xlsx" || ext == ".xlsm" || ext == ".xltx") && pack.Kind{}.Claims(p, head)
}

// Read gives the sheets, and the parts that are left.
func (k Kind) Read(src kind.Source) (*kind.Reading, error) {
	r, err := k.Kind.Read(src)
	if err != nil {
		return nil, err
	}
	b, err := open(r.Root)
	if err != nil {
		return r, nil // it is a package all the same
	}
	r.Root = b.view()
	r.Placed = linked.Placed(r.Root)
	return r, nil
}

const (
	workbookPart = "xl/workbook.xml"
	relsPart     = "xl/_rels/workbook.xml.rels"
	stringsPart  = "xl/sharedStrings.xml"
	stylesPart   = "xl/styles.xml"
	calcPart     = "xl/calcChain.xml"
)

// book is a workbook as the package has it.
type book struct {
	raw    *element.Element
	sheets []sheet
	order  []string // the names of all sheets, charts among them
	texts  []text
	styles *styles
}

// sheet is a sheet with the part that it lies in.
type sheet struct{ name, part string }

// text is an entry of the list of shared texts: plain, or with runs of its own.
type text struct{ plain, rich string }

func open(raw *element.Element) (*book, error) {
	b := &book{raw: raw}
	top, rels := linked.Root(raw, workbookPart), linked.Root(raw, relsPart)
	if top == nil || rels == nil {
		return nil, errors.New("it holds no workbook")
	}
	target := map[string]string{}
	for _, r := range rels.Children {
		target[r.Prop("Id").Text()] = path.Join("xl", strings.TrimPrefix(r.Prop("Target").Text(), "/xl/"))
	}
	if list := child(top, "sheets"); list != nil {
		for _, s := range list.Children {
			name, part := s.Prop("name").Text(), target[s.Prop("r:id").Text()]
			b.order = append(b.order, name)
			if name == "" || part == "" || b.part(name) != "" {
				return nil, errors.New("a sheet has no name, no part, or the name of another")
			}
			if d := linked.Root(raw, part); d != nil && d.Type == "worksheet" {
				b.sheets = append(b.sheets, sheet{name, part})
			}
		}
	}
	if d := linked.Root(raw, stringsPart); d != nil {
		for _, si := range d.Children {
			b.texts = append(b.texts, textOf(si))
		}
	}
	for _, s := range b.sheets {
		if err := inPlace(linked.Root(raw, s.part)); err != nil {
			return nil, fmt.Errorf("the sheet %s: %w", s.name, err)
		}
	}
	var err error
	b.styles, err = newStyles(linked.Root(raw, stylesPart))
	return b, err
}

// inPlace checks that the cells of a sheet say where they are, and stand in that row and
// order.
func inPlace(sheet *element.Element) error {
	data := child(sheet, "sheetData")
	if data == nil {
		return nil
	}
	last := 0
	for _, r := range data.Children {
		n, err := strconv.Atoi(r.Prop("r").Text())
		if err != nil || n <= last {
			return fmt.Errorf("a row %q behind row %d", r.Prop("r").Text(), last)
		}
		last = n
		column := 0
		for _, c := range r.Children {
			at, row, ok := place(c.Prop("r").Text())
			if !ok || row != n || at <= column {
				return fmt.Errorf("a cell %q in row %d", c.Prop("r").Text(), n)
			}
			column = at
		}
	}
	return nil
}

func (b *book) part(name string) string {
	i := slices.IndexFunc(b.sheets, func(s sheet) bool { return s.name == name })
	if i < 0 {
		return ""
	}
	return b.sheets[i].part
}

func child(e *element.Element, typ string) *element.Element {
	for _, c := range e.Children {
		if c.Type == typ {
			return c
		}
	}
	return nil
}

// textOf gives a shared text, or one that stands in its cell.
func textOf(si *element.Element) text {
	var t text
	plain := true
	for _, c := range si.Children {
		switch c.Type {
		case "t":
			t.plain += c.Prop("text").Text()
		case "r":
			plain = false
			if inner := child(c, "t"); inner != nil {
				t.plain += inner.Prop("text").Text()
			}
		default:
			plain = false
		}
	}
	if !plain {
		t.rich = spell(&element.Element{Type: si.Type, Children: si.Children})
	}
	return t
}

// view gives the tree that people see.
func (b *book) view() *element.Element {
	out := &element.Element{Type: "workbook", Gist: b.raw.Gist}
	for _, s := range b.sheets {
		out.Add(b.sheetView(s))
	}
	rest := b.lift(out.Children)
	for _, style := range b.styles.named {
		out.Add(&element.Element{Type: "named-style", Key: style.name, Firm: true,
			Props: []element.Prop{{Name: "style", Value: element.TextValue(style.text)}}})
	}
	element.Distinguish(out.Children)
	for _, p := range linked.Without(rest, func(name string) bool { return name == calcPart }).Children {
		switch p.Key {
		case stringsPart: // what it has stands in the cells
			continue
		case relsPart:
			p = linked.Pruned(p, leadsToOrder)
		}
		if speaksOfNumbers(p.Key) {
			p, _ = numbered(p, b.inWords) // words are said without errors
		}
		if p.Key == stylesPart && b.styles.sheet != nil {
			p = without(p, listed...)
		}
		out.Add(p)
	}
	return out
}

// leadsToOrder reports whether a relation leads to the order in which formulas are worked out.
func leadsToOrder(r *element.Element) bool {
	return linked.Target(workbookPart, r.Prop("Target").Text()) == calcPart
}

// speaksOfNumbers reports whether a part may refer to formats and sheets by number.
func speaksOfNumbers(part string) bool {
	return part == workbookPart || strings.HasPrefix(part, "xl/worksheets/") && strings.HasSuffix(part, ".xml") ||
		strings.HasPrefix(part, "xl/tables/")
}

// without gives a part whose root element lacks children of some types.
func without(p *element.Element, types ...string) *element.Element {
	c, root := *p, *p.Children[0]
	root.Children = slices.DeleteFunc(slices.Clone(root.Children), func(k *element.Element) bool { return slices.Contains(types, k.Type) })
	c.Children = []*element.Element{&root}
	return &c
}

// bare gives the part of a sheet without its cells; columns say their styles in words.
func (b *book) bare(p *element.Element) *element.Element {
	c := without(p, "sheetData", "dimension")
	root := c.Children[0]
	for i, k := range root.Children {
		if k.Type == "cols" {
			root.Children[i] = b.restyled(k, "style", b.styles.words)
		}
	}
	return c
}

// restyled gives an element in whose children a property that names a style says another
// thing.
func (b *book) restyled(list *element.Element, name string, say func(string) (string, bool)) *element.Element {
	out := *list
	out.Children = make([]*element.Element, len(list.Children))
	for i, k := range list.Children {
		c := *k
		c.Props = slices.Clone(k.Props)
		if v := k.Prop(name); !v.IsAbsent() {
			if words, ok := say(v.Text()); ok {
				c.Set(name, element.TextValue(words))
			}
		}
		out.Children[i] = &c
	}
	return &out
}

// Properties of a cell.
const (
	valueProperty   = "value"
	richProperty    = "runs"
	formulaProperty = "formula"
	styleProperty   = "style"
	typeProperty    = "type"
)

func (b *book) sheetView(s sheet) *element.Element {
	e := &element.Element{Type: "sheet", Key: s.name, Firm: true}
	data := child(linked.Root(b.raw, s.part), "sheetData")
	if data == nil {
		return e
	}
	shared := map[string]sharedFormula{} // by their number
	for _, row := range data.Children {
		if r := b.rowView(row); len(r.Props) > 0 {
			e.Add(r)
		}
		for _, c := range row.Children {
			if cell := b.cellView(c, shared); len(cell.Props) > 0 {
				e.Add(cell)
			}
		}
	}
	return e
}

// rowView gives what is said of a row besides its cells.
func (b *book) rowView(row *element.Element) *element.Element {
	e := &element.Element{Type: "row", Key: row.Prop("r").Text(), Firm: true}
	for _, p := range row.Props {
		switch p.Name {
		case "r", "spans":
		case "s":
			if words, ok := b.styles.words(p.Value.Text()); ok {
				e.Set(styleProperty, element.TextValue(words))
			}
		default:
			e.Props = append(e.Props, p)
		}
	}
	return e
}

func (b *book) cellView(c *element.Element, shared map[string]sharedFormula) *element.Element {
	e := &element.Element{Type: "cell", Key: c.Prop("r").Text(), Firm: true}
	f := child(c, "f")
	v := ""
	if inner := child(c, "v"); inner != nil {
		v = inner.Prop("text").Text()
	}
	switch typ := c.Prop("t").Text(); {
	case f != nil:
		e.Set(formulaProperty, element.TextValue(formulaOf(f, e.Key, shared)))
	case typ == "s":
		if t, ok := b.text(v); ok {
			e.Set(valueProperty, element.TextValue(t.plain))
			if t.rich != "" {
				e.Set(richProperty, element.TextValue(t.rich))
			}
		}
	case typ == "inlineStr":
		if is := child(c, "is"); is != nil {
			t := textOf(&element.Element{Type: "si", Children: is.Children})
			e.Set(valueProperty, element.TextValue(t.plain))
			if t.rich != "" {
				e.Set(richProperty, element.TextValue(t.rich))
			}
		}
	case typ == "str":
		e.Set(valueProperty, element.TextValue(v))
	case typ == "b":
		e.Set(valueProperty, element.BoolValue(v == "1" || v == "true"))
	case typ == "" || typ == "n":
		if v != "" {
			e.Set(valueProperty, element.NumberValue(v))
		}
	default: // errors, dates
		e.Set(typeProperty, element.TextValue(typ))
		e.Set(valueProperty, element.TextValue(v))
	}
	if words, ok := b.styles.words(c.Prop("s").Text()); ok {
		e.Set(styleProperty, element.TextValue(words))
	}
	e.Gist = e.Prop(valueProperty).String()
	if f != nil {
		e.Gist = "=" + e.Prop(formulaProperty).Text()
	}
	return e
}

func (b *book) text(number string) (text, bool) {
	n, ok := index(number, len(b.texts))
	if !ok {
		return text{}, false
	}
	return b.texts[n], true
}

// sharedFormula is a formula that cells share, with the cell that has it.
type sharedFormula struct{ at, words string }

// formulaOf gives a formula. One that several cells share is told as it is in each.
func formulaOf(f *element.Element, at string, shared map[string]sharedFormula) string {
	words := f.Prop("text").Text()
	switch f.Prop("t").Text() {
	case "shared":
		n := f.Prop("si").Text()
		if words != "" {
			shared[n] = sharedFormula{at, words}
			return words
		}
		from := shared[n]
		col, row, _ := place(at)
		col0, row0, known := place(from.at)
		if told, err := moved(from.words, row-row0, col-col0); known && err == nil {
			return told
		}
		return "as in " + from.at + ": " + from.words + sharedMark
	case "":
		return words
	}
	return words + sharedMark + spell(&element.Element{Type: "f",
		Props: slices.DeleteFunc(slices.Clone(f.Props), func(p element.Prop) bool { return p.Name == "text" })})
}

// sharedMark stands before what a formula says beside its text; such a formula is never
// written anew.
const sharedMark = " \u00b7 "
