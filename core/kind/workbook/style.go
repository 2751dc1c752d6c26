package workbook

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"oakenchest/core/element"
)

// listed are the lists of a style sheet whose entries are known by their places.
var listed = []string{"numFmts", "fonts", "fills", "borders", "cellStyleXfs", "cellXfs", "cellStyles", dxfs}

// dxfs is the list of formats that conditions put on.
const dxfs = "dxfs"

// styles resolves the numbers of a style sheet.
type styles struct {
	sheet *element.Element // as it is, and as it grows; nil for none
	texts []string         // of cellXfs, in words
	named []namedStyle
	known map[string]int // numbers by words
	grown bool
}

type namedStyle struct{ name, text string }

func newStyles(sheet *element.Element) (*styles, error) {
	s := &styles{sheet: sheet, known: map[string]int{}}
	if sheet == nil {
		return s, nil
	}
	base := map[string]string{} // names by the number of what cells can stand on
	if list := child(sheet, "cellStyles"); list != nil {
		for _, c := range list.Children {
			base[c.Prop("xfId").Text()] = c.Prop("name").Text()
		}
	}
	if list := child(sheet, "cellStyleXfs"); list != nil {
		for i, xf := range list.Children {
			words, err := s.resolve(xf, nil)
			if err != nil {
				return nil, err
			}
			if name := base[strconv.Itoa(i)]; name != "" {
				s.named = append(s.named, namedStyle{name, words})
			}
		}
	}
	if list := child(sheet, "cellXfs"); list != nil {
		for i, xf := range list.Children {
			words, err := s.resolve(xf, base)
			if err != nil {
				return nil, err
			}
			s.texts = append(s.texts, words)
			if _, twice := s.known[words]; !twice {
				s.known[words] = i
			}
		}
	}
	return s, nil
}

// The references of a format, by the list that they lead to.
var references = []struct{ id, list string }{{"fontId", "fonts"}, {"fillId", "fills"}, {"borderId", "borders"}}

// baseAttribute names, in words, the style that another one stands on.
const baseAttribute = "on"

// resolve gives a format in words.
func (s *styles) resolve(xf *element.Element, base map[string]string) (string, error) {
	out := &element.Element{Type: "style"}
	for _, p := range xf.Props {
		switch p.Name {
		case "numFmtId":
			out.Props = append(out.Props, element.Prop{Name: "number", Value: element.TextValue(s.number(p.Value.Text()))})
		case "xfId":
			if name := base[p.Value.Text()]; name != "" {
				out.Props = append(out.Props, element.Prop{Name: baseAttribute, Value: element.TextValue(name)})
			}
		case "fontId", "fillId", "borderId":
		default:
			out.Props = append(out.Props, p)
		}
	}
	for _, r := range references {
		v := xf.Prop(r.id)
		if v.IsAbsent() {
			continue
		}
		list := child(s.sheet, r.list)
		if list == nil {
			return "", fmt.Errorf("a style refers to %s, and there are none", r.list)
		}
		n, ok := index(v.Text(), len(list.Children))
		if !ok {
			return "", fmt.Errorf("a style refers to number %s of %d %s", v.Text(), len(list.Children), r.list)
		}
		out.Children = append(out.Children, list.Children[n])
	}
	out.Children = append(out.Children, xf.Children...)
	return spell(out), nil
}

// number gives the code of a number format; one that every program knows by its number is
// told by that.
func (s *styles) number(id string) string {
	if list := child(s.sheet, "numFmts"); list != nil {
		for _, f := range list.Children {
			if f.Prop("numFmtId").Text() == id {
				return f.Prop("formatCode").Text()
			}
		}
	}
	return "#" + id
}

// words gives the style of a number; false for the first one, which is nothing to tell.
func (s *styles) words(number string) (string, bool) {
	n, ok := index(number, len(s.texts))
	if !ok || n == 0 {
		return "", false
	}
	return s.texts[n], true
}

// find gives the number of a style in words, which is made when the sheet has none.
func (s *styles) find(words string) (string, error) {
	if n, ok := s.known[words]; ok {
		return strconv.Itoa(n), nil
	}
	if s.sheet == nil {
		return "", errors.New("the workbook has no style sheet")
	}
	e, err := unspell(words)
	if err != nil {
		return "", err
	}
	s.own()
	xf := &element.Element{Type: "xf", Ordered: true, Firm: true}
	for _, p := range e.Props {
		switch p.Name {
		case "number":
			id, err := s.numberID(p.Value.Text())
			if err != nil {
				return "", err
			}
			xf.Props = append(xf.Props, element.Prop{Name: "numFmtId", Value: element.TextValue(id)})
		case baseAttribute:
			id, ok := s.base(p.Value.Text())
			if !ok {
				return "", fmt.Errorf("the workbook has no style %q", p.Value.Text())
			}
			xf.Props = append(xf.Props, element.Prop{Name: "xfId", Value: element.TextValue(id)})
		default:
			xf.Props = append(xf.Props, p)
		}
	}
	for _, c := range e.Children {
		at := slices.IndexFunc(references, func(r struct{ id, list string }) bool { return strings.TrimSuffix(r.list, "s") == c.Type })
		if at < 0 {
			xf.Children = append(xf.Children, c)
			continue
		}
		id, err := s.entry(references[at].list, c)
		if err != nil {
			return "", err
		}
		xf.Props = append(xf.Props, element.Prop{Name: references[at].id, Value: element.TextValue(id)})
	}
	n, err := s.append("cellXfs", xf)
	if err != nil {
		return "", err
	}
	s.known[words] = n
	return strconv.Itoa(n), nil
}

// own makes the style sheet one that may grow: what was read stays as it is.
func (s *styles) own() {
	if !s.grown {
		s.sheet, s.grown = s.sheet.Clone(), true
	}
}

// entry gives the number of an entry of a list, which is made when the list has none.
func (s *styles) entry(list string, e *element.Element) (string, error) {
	words := spell(e)
	if l := child(s.sheet, list); l != nil {
		for i, c := range l.Children {
			if spell(c) == words {
				return strconv.Itoa(i), nil
			}
		}
	}
	n, err := s.append(list, e)
	return strconv.Itoa(n), err
}

func (s *styles) append(list string, e *element.Element) (int, error) {
	l := child(s.sheet, list)
	if l == nil && list == dxfs {
		l = &element.Element{Type: dxfs, Ordered: true, Firm: true, Props: []element.Prop{{Name: "count", Value: element.TextValue("0")}}}
		at := slices.IndexFunc(s.sheet.Children, func(c *element.Element) bool { return c.Type == "cellStyles" || c.Type == "cellXfs" })
		if i := slices.IndexFunc(s.sheet.Children, func(c *element.Element) bool { return c.Type == "cellStyles" }); i > at {
			at = i
		}
		s.sheet.Children = slices.Insert(s.sheet.Children, at+1, l)
	}
	if l == nil {
		return 0, fmt.Errorf("the style sheet has no %s", list)
	}
	l.Children = append(l.Children, e)
	if !l.Prop("count").IsAbsent() {
		l.Set("count", element.TextValue(strconv.Itoa(len(l.Children))))
	}
	return len(l.Children) - 1, nil
}

// numberID gives the number of a number format.
func (s *styles) numberID(code string) (string, error) {
	if id, ok := strings.CutPrefix(code, "#"); ok {
		if _, err := strconv.Atoi(id); err == nil {
			return id, nil
		}
	}
	l := child(s.sheet, "numFmts")
	next := 164 // what is less is taken by the standard
	if l != nil {
		for _, f := range l.Children {
			if f.Prop("formatCode").Text() == code {
				return f.Prop("numFmtId").Text(), nil
			}
			if n, err := strconv.Atoi(f.Prop("numFmtId").Text()); err == nil {
				next = max(next, n+1)
			}
		}
	} else {
		l = &element.Element{Type: "numFmts", Ordered: true, Firm: true,
			Props: []element.Prop{{Name: "count", Value: element.TextValue("0")}}}
		s.sheet.Children = append([]*element.Element{l}, s.sheet.Children...)
	}
	id := strconv.Itoa(next)
	_, err := s.append("numFmts", &element.Element{Type: "numFmt", Ordered: true, Firm: true,
		Props: []element.Prop{{Name: "numFmtId", Value: element.TextValue(id)}, {Name: "formatCode", Value: element.TextValue(code)}}})
	return id, err
}

// base gives the number of a named style.
func (s *styles) base(name string) (string, bool) {
	if list := child(s.sheet, "cellStyles"); list != nil {
		for _, c := range list.Children {
			if c.Prop("name").Text() == name {
				return c.Prop("xfId").Text(), true
			}
		}
	}
	return "", false
}

// index reads a number that counts in a list.
func index(s string, length int) (int, bool) {
	n, err := strconv.Atoi(s)
	return n, err == nil && n >= 0 && n < length
}
