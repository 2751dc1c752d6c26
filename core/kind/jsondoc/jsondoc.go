// Package jsondoc reads JSON (RFC 8259) so that it can be changed and written
// back with every other byte as it was: white space, the order of members, the
// spelling of numbers and strings, a byte-order mark.
//
// Parse gives a Doc; Node.Become turns one node into another with as few
// changed bytes as it can; Doc.Bytes writes it. It refuses what RFC 8259 calls
// unpredictable: two members of one name. Depth is bounded by MaxDepth.
package jsondoc

import (
	"encoding/json"
	"fmt"
	"strings"
	"unicode/utf8"
)

// MaxDepth bounds nesting.
const MaxDepth = 500

// Weigh counts what makes nodes in a document: the signs before values, outside of texts. Text that is no
// JSON has a count too.
func Weigh(data []byte) (n int64) {
	inside := false
	for i := 0; i < len(data); i++ {
		switch data[i] {
		case '\\':
			i++
		case '"':
			inside = !inside
		case ',', '[', '{':
			if !inside {
				n++
			}
		}
	}
	return n
}

// Kind says what a Node is.
type Kind byte

// The kinds of a Node.
const (
	Null Kind = iota
	Bool
	Number
	String
	Array
	Object
)

// Node is a JSON value. Nodes that were made, not parsed, have no white space
// of their own and take on that of their surroundings.
type Node struct {
	Kind Kind
	// Text is the decoded text of a String, the literal of a Number or Bool.
	Text string
	// Items holds the members of an Object or the values of an Array.
	Items []Item

	raw  string // of a scalar that was parsed
	tail string // white space before the closing bracket
}

// Item is a member of an object or a value of an array.
type Item struct {
	Key   string
	Value *Node

	lead   string // white space before the key, or the value of an array
	keyRaw string
	mid    string // from the key to the value
	trail  string // white space after the value
	placed bool   // it has a layout of its own
}

// Doc is a parsed document.
type Doc struct {
	Root        *Node
	lead, trail string
	unit        string // one step of indentation; empty for a compact document
}

// Str makes a string.
func Str(s string) *Node { return &Node{Kind: String, Text: s} }

// Num makes a number from its literal.
func Num(literal string) *Node { return &Node{Kind: Number, Text: literal} }

// Int makes a whole number.
func Int(n int) *Node { return Num(fmt.Sprint(n)) }

// Truth makes true or false.
func Truth(b bool) *Node { return &Node{Kind: Bool, Text: fmt.Sprint(b)} }

// Nothing makes null.
func Nothing() *Node { return &Node{} }

// Arr makes an array.
func Arr(values ...*Node) *Node {
	n := &Node{Kind: Array}
	for _, v := range values {
		n.Append(v)
	}
	return n
}

// Obj makes an object without members.
func Obj() *Node { return &Node{Kind: Object} }

// Get gives the member's value, or nil; a nil node has none.
func (n *Node) Get(key string) *Node {
	if n == nil {
		return nil
	}
	for i := range n.Items {
		if n.Kind == Object && n.Items[i].Key == key {
			return n.Items[i].Value
		}
	}
	return nil
}

// Set gives a member a value and gives n back; nil takes the member away.
func (n *Node) Set(key string, v *Node) *Node {
	for i := range n.Items {
		if n.Items[i].Key == key {
			if v == nil {
				n.Items = append(n.Items[:i:i], n.Items[i+1:]...)
			} else {
				n.Items[i].Value = v
			}
			return n
		}
	}
	if v != nil {
		n.Items = append(n.Items, Item{Key: key, Value: v})
	}
	return n
}

// Append adds a value to an array.
func (n *Node) Append(v *Node) { n.Items = append(n.Items, Item{Value: v}) }

// Clone copies the node without its white space.
func (n *Node) Clone() *Node {
	if n == nil {
		return nil
	}
	c := &Node{Kind: n.Kind, Text: n.Text, raw: n.raw}
	for _, it := range n.Items {
		c.Items = append(c.Items, Item{Key: it.Key, Value: it.Value.Clone()})
	}
	return c
}

// Equal reports whether two nodes mean the same; members may stand in any
// order, and numbers are compared by their literals.
func (n *Node) Equal(m *Node) bool {
	if n == nil || m == nil {
		return n == m
	}
	if n.Kind != m.Kind || len(n.Items) != len(m.Items) {
		return false
	}
	if n.Kind != Object && n.Kind != Array {
		return n.Text == m.Text
	}
	for i, it := range n.Items {
		other := m.Items[i].Value
		if n.Kind == Object && it.Key != m.Items[i].Key {
			other = m.Get(it.Key)
		}
		if !it.Value.Equal(other) {
			return false
		}
	}
	return true
}

// Parse reads a document. An error names line and column.
func Parse(data []byte) (*Doc, error) {
	p := &reader{src: string(data)}
	d := &Doc{}
	if strings.HasPrefix(p.src, "\ufeff") {
		p.at = len("\ufeff")
	}
	p.space()
	d.lead = p.src[:p.at]
	root, err := p.value(0)
	if err != nil {
		return nil, err
	}
	from := p.at
	p.space()
	if p.at != len(p.src) {
		return nil, p.fail("unexpected text after the end")
	}
	d.Root, d.trail = root, p.src[from:]
	d.unit = indentation(root)
	return d, nil
}

func indentation(root *Node) string {
	if len(root.Items) == 0 {
		return ""
	}
	lead := root.Items[0].lead
	return lead[strings.LastIndexByte(lead, '\n')+1:]
}

type reader struct {
	src string
	at  int
}

func (p *reader) fail(what string) error {
	before := p.src[:min(p.at, len(p.src))]
	line := strings.Count(before, "\n") + 1
	col := utf8.RuneCountInString(before[strings.LastIndexByte(before, '\n')+1:]) + 1
	return fmt.Errorf("line %d, column %d: %s", line, col, what)
}

func (p *reader) space() string {
	from := p.at
	for p.at < len(p.src) && strings.IndexByte(" \t\r\n", p.src[p.at]) >= 0 {
		p.at++
	}
	return p.src[from:p.at]
}

func (p *reader) value(depth int) (*Node, error) {
	if depth > MaxDepth {
		return nil, p.fail("it is nested too deeply")
	}
	if p.at == len(p.src) {
		return nil, p.fail("it ends where a value should stand")
	}
	switch c := p.src[p.at]; {
	case c == '{' || c == '[':
		return p.container(depth)
	case c == '"':
		raw, text, err := p.str()
		return &Node{Kind: String, Text: text, raw: raw}, err
	case c == '-' || c >= '0' && c <= '9':
		return p.number()
	}
	for _, w := range words {
		if strings.HasPrefix(p.src[p.at:], w.text) {
			p.at += len(w.text)
			return &Node{Kind: w.kind, Text: w.text, raw: w.text}, nil
		}
	}
	return nil, p.fail("expected a value")
}

var words = []struct {
	text string
	kind Kind
}{{"null", Null}, {"true", Bool}, {"false", Bool}}

func (p *reader) container(depth int) (*Node, error) {
	n, end := &Node{Kind: Array}, byte(']')
	if p.src[p.at] == '{' {
		n.Kind, end = Object, '}'
	}
	begin := p.at
	p.at++
	var names seen
	for {
		it := Item{lead: p.space(), placed: true}
		if p.at < len(p.src) && p.src[p.at] == end && len(n.Items) == 0 {
			n.tail = it.lead
			p.at++
			return n, nil
		}
		if n.Kind == Object {
			if err := p.key(&it); err != nil {
				return nil, err
			}
			if names.add(it.Key) {
				return nil, p.fail(fmt.Sprintf("the member %q stands twice in one object", it.Key))
			}
		}
		v, err := p.value(depth + 1)
		if err != nil {
			return nil, err
		}
		it.Value, it.trail = v, p.space()
		n.Items = append(n.Items, it)
		if p.at == len(p.src) {
			p.at = begin
			return nil, p.fail("what begins here is never closed")
		}
		p.at++
		switch p.src[p.at-1] {
		case ',':
		case end:
			last := &n.Items[len(n.Items)-1]
			n.tail, last.trail = last.trail, ""
			return n, nil
		default:
			p.at--
			return nil, p.fail(fmt.Sprintf("expected , or %c", end))
		}
	}
}

func (p *reader) key(it *Item) error {
	if p.at == len(p.src) || p.src[p.at] != '"' {
		return p.fail("expected the name of a member in quotes")
	}
	raw, text, err := p.str()
	if err != nil {
		return err
	}
	from := p.at
	p.space()
	if p.at == len(p.src) || p.src[p.at] != ':' {
		return p.fail("expected :")
	}
	p.at++
	p.space()
	it.keyRaw, it.Key, it.mid = raw, text, p.src[from:p.at]
	return nil
}

func (p *reader) str() (raw, text string, err error) {
	from := p.at
	for p.at++; p.at < len(p.src); p.at++ {
		switch c := p.src[p.at]; {
		case c == '\\':
			p.at++
		case c < ' ':
			return "", "", p.fail("a control character inside a string")
		case c == '"':
			p.at++
			raw = p.src[from:p.at]
			if !strings.ContainsRune(raw, '\\') && utf8.ValidString(raw) {
				return raw, raw[1 : len(raw)-1], nil
			}
			if !utf8.ValidString(raw) {
				p.at = from
				return "", "", p.fail("a string that is not UTF-8")
			}
			if json.Unmarshal([]byte(raw), &text) != nil {
				p.at = from
				return "", "", p.fail("a string with a wrong escape")
			}
			return raw, text, nil
		}
	}
	p.at = from
	return "", "", p.fail("a string that is never closed")
}

func (p *reader) number() (*Node, error) {
	from := p.at
	for p.at < len(p.src) && strings.IndexByte("+-.eE0123456789", p.src[p.at]) >= 0 {
		p.at++
	}
	lit := p.src[from:p.at]
	if !json.Valid([]byte(lit)) {
		p.at = from
		return nil, p.fail("expected a number")
	}
	return &Node{Kind: Number, Text: lit, raw: lit}, nil
}
