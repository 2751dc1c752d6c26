package settings

import (
	"errors"
	"fmt"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"

	"oakenchest/core/element"
)

// tomlSyntax is TOML 1.0.
type tomlSyntax struct{}

func (tomlSyntax) sign() string { return " = " }
func (tomlSyntax) nests() bool  { return true }

func (tomlSyntax) remarks() string { return "#" }

func (tomlSyntax) parse(src string) (*document, error) {
	var all map[string]any // what the parser below takes may still be no TOML
	bare := []byte(strings.TrimPrefix(src, "\ufeff"))
	if err := toml.Unmarshal(bare, &all); err != nil {
		var at *toml.DecodeError
		if errors.As(err, &at) {
			row, col := at.Position()
			return nil, fmt.Errorf("line %d, column %d: %s", row, col, strings.TrimPrefix(at.Error(), "toml: "))
		}
		return nil, errors.New(strings.TrimPrefix(err.Error(), "toml: "))
	}
	start := len(src) - len(strings.TrimPrefix(src, "\ufeff"))
	d := &document{src: src, sections: []*section{{from: start, to: start, end: start}}}
	var p unstable.Parser
	p.Reset(bare)
	for p.NextExpression() {
		e := p.Expression()
		var path []string
		first, last := -1, 0
		for it := e.Key(); it.Next(); {
			n := it.Node()
			if first < 0 {
				first = start + int(n.Raw.Offset)
			}
			path, last = append(path, string(n.Data)), start+int(n.Raw.Offset+n.Raw.Length)
		}
		from := strings.LastIndexByte(src[:first], '\n') + 1
		s := d.sections[len(d.sections)-1]
		if e.Kind != unstable.KeyValue {
			_, to := lineAt(src, last)
			d.sections = append(d.sections, &section{path: path, item: e.Kind == unstable.ArrayTable, from: max(from, start),
				to: to, end: to})
			continue
		}
		x := &entry{path: path, from: max(from, start)}
		x.valueAt = last + strings.IndexByte(src[last:], '=') + 1
		for src[x.valueAt] == ' ' || src[x.valueAt] == '\t' {
			x.valueAt++
		}
		x.valueTo = valueEnd(src, x.valueAt)
		_, x.to = lineAt(src, x.valueTo)
		value, err := tomlValue(e.Value(), src[x.valueAt:x.valueTo])
		if err != nil {
			return nil, err
		}
		x.value = value
		s.entries, s.end = append(s.entries, x), x.to
	}
	return d, p.Error()
}

// valueEnd gives where the value ends that begins at a byte of a sound document.
func valueEnd(src string, at int) int {
	depth := 0
	for at < len(src) {
		switch c := src[at]; {
		case c == '"' || c == '\'':
			at = stringEnd(src, at)
			if depth == 0 {
				return at
			}
			continue
		case c == '[' || c == '{':
			depth++
		case c == ']' || c == '}':
			if depth--; depth == 0 {
				return at + 1
			}
		case c == '#':
			if depth == 0 {
				return len(strings.TrimRight(src[:at], " \t"))
			}
			_, next := lineAt(src, at)
			at = next
			continue
		case (c == '\n' || c == '\r') && depth == 0:
			return len(strings.TrimRight(src[:at], " \t"))
		}
		at++
	}
	return len(strings.TrimRight(src, " \t\r\n"))
}

// stringEnd gives where the string ends that begins at a byte.
func stringEnd(src string, at int) int {
	quote := src[at : at+1]
	if triple := strings.Repeat(quote, 3); strings.HasPrefix(src[at:], triple) {
		quote = triple
	}
	i := at + len(quote)
	for i < len(src) && !strings.HasPrefix(src[i:], quote) {
		if src[i] == '\\' && quote[0] == '"' {
			i++
		}
		i++
	}
	i += len(quote)
	for len(quote) == 3 && i < len(src) && src[i] == quote[0] { // up to two quotes may stand before the last three
		i++
	}
	return min(i, len(src))
}

// tomlValue gives a value, or an element for a list of more than scalars and for
// an inline table. raw is its text.
func tomlValue(n *unstable.Node, raw string) (any, error) {
	switch n.Kind {
	case unstable.String:
		return element.TextValue(string(n.Data)), nil
	case unstable.Bool:
		return element.BoolValue(string(n.Data) == "true"), nil
	case unstable.Array:
		return tomlList(n)
	case unstable.InlineTable:
		e := &element.Element{Type: "object", Firm: true}
		return e, tomlTable(e, n)
	}
	literal := string(n.Data)
	if literal == "" {
		literal = raw
	}
	return element.NumberValue(literal), nil
}

func tomlList(n *unstable.Node) (any, error) {
	var values []any
	scalars := true
	for it := n.Children(); it.Next(); {
		if it.Node().Kind == unstable.Comment {
			continue
		}
		v, err := tomlValue(it.Node(), "")
		if err != nil {
			return nil, err
		}
		_, scalar := v.(element.Value)
		values, scalars = append(values, v), scalars && scalar && it.Node().Kind != unstable.Array
	}
	if scalars {
		list := make([]element.Value, len(values))
		for i, v := range values {
			list[i] = v.(element.Value)
		}
		return element.ListValue(list...), nil
	}
	e := &element.Element{Type: "list", Ordered: true, Firm: true}
	for _, v := range values {
		e.Add(itemOf(v))
	}
	return e, nil
}

// itemOf gives the element of one value of a list.
func itemOf(v any) *element.Element {
	switch v := v.(type) {
	case *element.Element:
		if v.Type == "object" {
			v.Type = "item"
		}
		return v
	case element.Value:
		if v.Sort() == element.List {
			e := &element.Element{Type: "list", Ordered: true, Firm: true}
			for _, it := range v.Items() {
				e.Add(itemOf(it))
			}
			return e
		}
		return &element.Element{Type: "value", Firm: true, Props: []element.Prop{{Name: scalarItem, Value: v}}}
	}
	return nil
}

// scalarItem is the property of a scalar in a list of more than scalars.
const scalarItem = "(value)"

func tomlTable(e *element.Element, n *unstable.Node) error {
	names := members{}
	for it := n.Children(); it.Next(); {
		kv := it.Node()
		if kv.Kind != unstable.KeyValue {
			continue
		}
		var path []string
		for key := kv.Key(); key.Next(); {
			path = append(path, string(key.Node().Data))
		}
		v, err := tomlValue(kv.Value(), "")
		if err != nil {
			return err
		}
		if err := put(names, e, &section{}, &entry{path: path, value: v}, "object", places{}); err != nil {
			return err
		}
	}
	return nil
}

func (tomlSyntax) key(path []string) (string, error) {
	out := make([]string, len(path))
	for i, k := range path {
		out[i] = k
		if k == "" || strings.Trim(k, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_") != "" {
			out[i] = quoted(k)
		}
	}
	return strings.Join(out, "."), nil
}

func quoted(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r == '\r':
			b.WriteString(`\r`)
		case r < ' ' || r == 0x7f:
			fmt.Fprintf(&b, `\u%04X`, r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String() + `"`
}

// value writes a value; a text in single quotes, or over several lines, stays one.
func (t tomlSyntax) value(v element.Value, like string) (string, error) {
	switch v.Sort() {
	case element.Text:
		s := v.Text()
		plain := strings.IndexFunc(s, func(r rune) bool { return r < ' ' && r != '\t' || r == 0x7f }) < 0
		switch {
		case strings.HasPrefix(like, "'") && !strings.HasPrefix(like, "'''") && plain && !strings.Contains(s, "'"):
			return "'" + s + "'", nil
		case strings.HasPrefix(like, "'''") && !strings.Contains(s, "'''") && !strings.HasSuffix(s, "'") && !strings.Contains(s, "\r"):
			return "'''\n" + s + "'''", nil
		case strings.HasPrefix(like, `"""`) && !strings.Contains(s, "\r"):
			body := strings.ReplaceAll(strings.Trim(quoted(s), `"`), `\n`, "\n")
			if !strings.HasSuffix(s, `"`) && !strings.Contains(s, `\n`) {
				return `"""` + "\n" + body + `"""`, nil
			}
		}
		return quoted(s), nil
	case element.Number, element.Bool:
		return v.Text(), nil
	case element.List:
		parts := make([]string, len(v.Items()))
		for i, it := range v.Items() {
			text, err := t.value(it, "")
			if err != nil {
				return "", err
			}
			parts[i] = text
		}
		return "[" + strings.Join(parts, ", ") + "]", nil
	}
	return "", errors.New("TOML has no word for nothing")
}

// object writes a list or an object on one line.
func (t tomlSyntax) object(e *element.Element) (string, error) {
	var parts []string
	for _, p := range e.Props {
		text, err := t.value(p.Value, "")
		if err != nil {
			return "", err
		}
		if e.Type == "value" {
			return text, nil
		}
		key, err := t.key([]string{p.Name})
		if err != nil {
			return "", err
		}
		parts = append(parts, key+" = "+text)
	}
	for _, c := range e.Children {
		text, err := t.object(c)
		if err != nil {
			return "", err
		}
		if e.Type != "list" {
			key, err := t.key([]string{c.Key})
			if err != nil {
				return "", err
			}
			text = key + " = " + text
		}
		parts = append(parts, text)
	}
	if e.Type == "list" {
		return "[" + strings.Join(parts, ", ") + "]", nil
	}
	return "{ " + strings.Join(parts, ", ") + " }", nil
}

func (t tomlSyntax) header(path []string, item bool) (string, error) {
	key, err := t.key(path)
	if item {
		return "[[" + key + "]]", err
	}
	return "[" + key + "]", err
}
