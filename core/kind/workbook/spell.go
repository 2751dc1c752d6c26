package workbook

import (
	"errors"
	"strconv"
	"strings"

	"oakenchest/core/element"
)

// spell writes an element of XML in words: its name, and in brackets its attributes as
// name=value, children that only have a val as name:value, bare ones by their names.
//
//	font(b sz:11 color(rgb=FFFF0000) name:Arial)
func spell(e *element.Element) string {
	var b strings.Builder
	spellInto(&b, e)
	return b.String()
}

func spellInto(b *strings.Builder, e *element.Element) {
	b.WriteString(e.Type)
	if len(e.Children) == 0 && len(e.Props) == 1 && e.Props[0].Name == "val" {
		b.WriteString(":" + word(e.Props[0].Value.Text()))
		return
	}
	if len(e.Props)+len(e.Children) == 0 {
		return
	}
	b.WriteByte('(')
	for i, p := range e.Props {
		if i > 0 {
			b.WriteByte(' ')
		}
		b.WriteString(p.Name + "=" + word(p.Value.Text()))
	}
	for i, c := range e.Children {
		if i > 0 || len(e.Props) > 0 {
			b.WriteByte(' ')
		}
		spellInto(b, c)
	}
	b.WriteByte(')')
}

// word writes a value, in quotes where it needs them.
func word(s string) string {
	if s == "" || strings.ContainsAny(s, " ()=:\"\\\n\t\r") {
		return strconv.Quote(s)
	}
	return s
}

var errSpelling = errors.New("a style is not written as styles are")

// unspell is the reverse of spell.
func unspell(s string) (*element.Element, error) {
	p := &speller{s: s}
	e, err := p.element(0)
	if err == nil && p.s != "" {
		err = errSpelling
	}
	return e, err
}

type speller struct{ s string }

// deepest bounds elements in elements.
const deepest = 50

func (p *speller) element(depth int) (*element.Element, error) {
	n := strings.IndexAny(p.s, " ()=:")
	if n < 0 {
		n = len(p.s)
	}
	if n == 0 || depth > deepest {
		return nil, errSpelling
	}
	e := &element.Element{Type: p.s[:n], Ordered: true, Firm: true}
	p.s = p.s[n:]
	switch {
	case strings.HasPrefix(p.s, ":"):
		p.s = p.s[1:]
		v, err := p.value()
		e.Props = []element.Prop{{Name: "val", Value: element.TextValue(v)}}
		return e, err
	case strings.HasPrefix(p.s, "("):
		p.s = p.s[1:]
		return e, p.inside(e, depth)
	}
	return e, nil
}

// inside reads attributes and children up to the bracket that ends them. A name before
// XML's colon is part of a name only in quotes, which no name has: such names are told by
// the sign behind them.
func (p *speller) inside(e *element.Element, depth int) error {
	for {
		p.s = strings.TrimLeft(p.s, " ")
		if strings.HasPrefix(p.s, ")") {
			p.s = p.s[1:]
			return nil
		}
		n := strings.IndexAny(p.s, " ()=")
		if n < 0 {
			return errSpelling
		}
		if p.s[n] == '=' {
			name := p.s[:n]
			p.s = p.s[n+1:]
			v, err := p.value()
			if err != nil {
				return err
			}
			e.Props = append(e.Props, element.Prop{Name: name, Value: element.TextValue(v)})
			continue
		}
		kid, err := p.element(depth + 1)
		if err != nil {
			return err
		}
		e.Children = append(e.Children, kid)
	}
}

func (p *speller) value() (string, error) {
	if strings.HasPrefix(p.s, `"`) {
		quoted, err := strconv.QuotedPrefix(p.s)
		if err != nil {
			return "", errSpelling
		}
		p.s = p.s[len(quoted):]
		v, err := strconv.Unquote(quoted)
		return v, err
	}
	n := strings.IndexAny(p.s, " ()")
	if n < 0 {
		n = len(p.s)
	}
	v := p.s[:n]
	p.s = p.s[n:]
	return v, nil
}
