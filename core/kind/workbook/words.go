package workbook

import (
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

var (
	_ kind.Speaker = Kind{}
	_ kind.Ranger  = Kind{}
)

// Say tells a style by what people see of it.
func (Kind) Say(property string, v element.Value) string {
	if property != styleProperty || v.Sort() != element.Text {
		return ""
	}
	e, err := unspell(v.Text())
	if err != nil {
		return ""
	}
	var words []string
	if font := child(e, "font"); font != nil {
		words = fontWords(font)
	}
	if fill := child(e, "fill"); fill != nil {
		if p := child(fill, "patternFill"); p != nil && p.Prop("patternType").Text() != "none" {
			words = append(words, strings.TrimSpace("filled "+color(child(p, "fgColor"))))
		}
	}
	if border := child(e, "border"); border != nil &&
		slices.ContainsFunc(border.Children, func(c *element.Element) bool { return !c.Prop("style").IsAbsent() }) {
		words = append(words, "with a border")
	}
	if a := child(e, "alignment"); a != nil {
		if h := a.Prop("horizontal").Text(); h != "" && h != "general" {
			words = append(words, h)
		}
	}
	if n := e.Prop("number").Text(); n != "" && n != "General" && n != "#0" {
		words = append(words, "number "+n)
	}
	if len(words) == 0 {
		return "plain"
	}
	return strings.Join(words, ", ")
}

func fontWords(font *element.Element) []string {
	var words []string
	for _, w := range [][2]string{{"b", "bold"}, {"i", "italic"}, {"u", "underlined"}, {"strike", "struck out"}} {
		if c := child(font, w[0]); c != nil && c.Prop("val").Text() != "0" && c.Prop("val").Text() != "false" {
			words = append(words, w[1])
		}
	}
	name, size := child(font, "name"), child(font, "sz")
	if name != nil && size != nil {
		words = append(words, name.Prop("val").Text()+" "+size.Prop("val").Text())
	}
	if c := color(child(font, "color")); c != "" && c != "theme 1" {
		words = append(words, "in "+c)
	}
	return words
}

// color tells a colour; the first two digits of eight say how much shines through.
func color(e *element.Element) string {
	switch {
	case e == nil:
		return ""
	case !e.Prop("rgb").IsAbsent():
		rgb := e.Prop("rgb").Text()
		return "#" + rgb[max(0, len(rgb)-6):]
	case !e.Prop("theme").IsAbsent():
		return "theme " + e.Prop("theme").Text()
	}
	return ""
}

// Ranges gathers cells into rectangles: A1:H40.
func (Kind) Ranges(typ string, keys []string) []string {
	if typ != "cell" {
		return nil
	}
	type span struct{ from, to int } // rows
	columns := map[int][]span{}
	at := make([][2]int, 0, len(keys))
	for _, k := range keys {
		c, r, ok := place(k)
		if !ok {
			return nil
		}
		at = append(at, [2]int{c, r})
	}
	slices.SortFunc(at, func(a, b [2]int) int { return slices.Compare(a[:], b[:]) })
	for _, p := range at {
		list := columns[p[0]]
		if n := len(list); n > 0 && list[n-1].to+1 == p[1] {
			list[n-1].to = p[1]
		} else {
			columns[p[0]] = append(list, span{p[1], p[1]})
		}
	}
	var out []string
	last := at[len(at)-1][0]
	for c := at[0][0]; c <= last; c++ {
		for _, s := range columns[c] {
			to := c // the last column that has the same rows
			for slices.Contains(columns[to+1], s) {
				to++
				columns[to] = slices.DeleteFunc(columns[to], func(x span) bool { return x == s })
			}
			out = append(out, rangeText(c, s.from, to, s.to))
		}
	}
	return out
}

func rangeText(c, r, c2, r2 int) string {
	if c == c2 && r == r2 {
		return columnName(c) + fmt.Sprint(r)
	}
	return fmt.Sprintf("%s%d:%s%d", columnName(c), r, columnName(c2), r2)
}

func columnName(c int) string {
	name := ""
	for ; c > 0; c = (c - 1) / 26 {
		name = string(rune('A'+(c-1)%26)) + name
	}
	return name
}
