package workbook

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"oakenchest/core/element"
)

// Other parts refer by number too: to formats that conditions put on (dxfId and its like),
// and to sheets (localSheetId). The view says which they are.

// differential reports whether a property is the number of such a format.
func differential(name string) bool {
	return name == "dxfId" || strings.HasSuffix(name, "DxfId")
}

const localSheet = "localSheetId"

// numbered gives a part whose numbers are words, or the reverse, by say.
func numbered(p *element.Element, say func(name, v string) (string, error)) (*element.Element, error) {
	if len(p.Children) != 1 {
		return p, nil
	}
	root, err := renumbered(p.Children[0], say)
	if err != nil || root == p.Children[0] {
		return p, err
	}
	c := *p
	c.Children = []*element.Element{root}
	return &c, nil
}

func renumbered(e *element.Element, say func(name, v string) (string, error)) (*element.Element, error) {
	out := e
	own := func() *element.Element {
		if out == e {
			c := *e
			c.Props, c.Children = slices.Clone(e.Props), slices.Clone(e.Children)
			out = &c
		}
		return out
	}
	for i, p := range e.Props {
		if !differential(p.Name) && p.Name != localSheet {
			continue
		}
		v, err := say(p.Name, p.Value.Text())
		if err != nil {
			return nil, err
		}
		if v != p.Value.Text() {
			own().Props[i].Value = element.TextValue(v)
		}
	}
	for i, k := range e.Children {
		c, err := renumbered(k, say)
		if err != nil {
			return nil, err
		}
		if c != k {
			own().Children[i] = c
		}
	}
	return out, nil
}

// inWords says which format or sheet a number stands for.
func (b *book) inWords(name, v string) (string, error) {
	if name == localSheet {
		if n, ok := index(v, len(b.order)); ok {
			return b.order[n], nil
		}
		return v, nil
	}
	if list := child(b.sheetOfStyles(), dxfs); list != nil {
		if n, ok := index(v, len(list.Children)); ok {
			return spell(list.Children[n]), nil
		}
	}
	return v, nil
}

// sheetOfStyles gives the style sheet, an empty element for none.
func (b *book) sheetOfStyles() *element.Element {
	if b.styles.sheet == nil {
		return &element.Element{}
	}
	return b.styles.sheet
}

// inNumbers is the reverse, for a workbook whose sheets have an order.
func (w *writer) inNumbers(order []string) func(name, v string) (string, error) {
	return func(name, v string) (string, error) {
		if name == localSheet {
			if i := slices.Index(order, v); i >= 0 {
				return strconv.Itoa(i), nil
			}
			return "", fmt.Errorf("a name belongs to the sheet %q, which is not there", v)
		}
		if !strings.HasPrefix(v, "dxf") { // it led nowhere, and does still
			return v, nil
		}
		e, err := unspell(v)
		if err != nil {
			return "", err
		}
		if w.styles.sheet == nil {
			return "", errors.New("the workbook has no style sheet")
		}
		w.styles.own()
		return w.styles.entry(dxfs, e)
	}
}
