// Package yamltree is the kind of YAML files (YAML 1.2.2).
//
// The tree is that of JSON: scalars and lists of scalars are properties, a mapping
// inside is an element `object:KEY`, a sequence of anything else `list:KEY` with
// items. A file of several documents has an element `document` for each. Aliases
// and tagged scalars are values as they are written.
//
// A change touches the scalar or the lines that it is about; comments, order,
// quotes and indentation stay. What is written is read again and must be the
// wanted tree; a change that the layout has no place for is an error.
package yamltree

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// Limits of a file: its size in bytes, its depth, the number of its nodes.
const (
	MaxSize  = 32 << 20
	MaxDepth = 200
	MaxNodes = 2_000_000
)

// Kind reads YAML.
type Kind struct{}

var _ kind.Writer = Kind{}

// Name is "yaml".
func (Kind) Name() string { return "yaml" }

// About describes the kind.
func (Kind) About() string { return "YAML: mappings and sequences as elements, scalars as properties" }

// Claims takes files by their endings.
func (Kind) Claims(p string, _ []byte) bool {
	return slices.Contains([]string{".yaml", ".yml"}, strings.ToLower(path.Ext(p)))
}

// document is a file with the nodes that its elements were read from.
type document struct {
	src   string
	lines []int // where each line begins
	root  *element.Element
	nodes map[*element.Element]*node
	count int
}

// node is a YAML node with its place in the file.
type node struct {
	y       *yaml.Node
	from    int // of its key, or of itself
	at      int // of the value itself
	end     int // where the lines end that belong to it
	members map[string]*node
	order   []*node // members or items
}

func open(src kind.Source) (*document, error) {
	data, err := kind.Main(src)
	switch {
	case err != nil:
		return nil, err
	case len(data) > MaxSize:
		return nil, errors.New("it is longer than " + element.SizeText(MaxSize))
	case !utf8.Valid(data):
		return nil, errors.New("it is not UTF-8 text")
	}
	return parse(string(data))
}

func parse(src string) (*document, error) {
	d := &document{src: src, lines: []int{0}, nodes: map[*element.Element]*node{}}
	for i := range len(src) {
		if src[i] == '\n' {
			d.lines = append(d.lines, i+1)
		}
	}
	var docs []*yaml.Node
	dec := yaml.NewDecoder(strings.NewReader(src))
	for {
		var n yaml.Node
		err := dec.Decode(&n)
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, errors.New(strings.TrimPrefix(err.Error(), "yaml: "))
		}
		docs = append(docs, &n)
	}
	if len(docs) == 1 {
		return d, d.single(docs[0])
	}
	d.root = &element.Element{Type: "documents", Ordered: true}
	for i, y := range docs {
		end := len(src)
		if i+1 < len(docs) {
			end = d.lineStart(d.offset(docs[i+1]))
		}
		e, err := d.item(y.Content[0], end, 0)
		if err != nil {
			return nil, err
		}
		if e.Type != "value" {
			e.Type = "document"
		}
		d.root.Add(e)
	}
	return d, nil
}

func (d *document) single(y *yaml.Node) error {
	e, err := d.item(y.Content[0], len(d.src), 0)
	if err != nil {
		return err
	}
	if d.root = e; e.Type == "item" {
		e.Type = "object"
	}
	e.Firm = e.Type == "list"
	return nil
}

// offset gives the byte at which a node stands.
func (d *document) offset(y *yaml.Node) int {
	line := min(max(y.Line, 1), len(d.lines)) - 1
	at := d.lines[line]
	if line == 0 {
		at += len(d.src) - len(strings.TrimPrefix(d.src, "\ufeff"))
	}
	for range max(y.Column, 1) - 1 {
		if at >= len(d.src) {
			break
		}
		_, n := utf8.DecodeRuneInString(d.src[at:])
		at += n
	}
	return at
}

func (d *document) lineStart(at int) int {
	return strings.LastIndexByte(d.src[:min(at, len(d.src))], '\n') + 1
}

const scalarItem = "(value)"

// item gives the element of a node that has no key.
func (d *document) item(y *yaml.Node, end, depth int) (*element.Element, error) {
	n := &node{y: y, from: d.offset(y), at: d.offset(y), end: end}
	e := &element.Element{Type: "item", Firm: true}
	var err error
	switch y.Kind {
	case yaml.MappingNode:
		err = d.mapping(e, n, depth)
	case yaml.SequenceNode:
		e.Type = "list"
		err = d.sequence(e, n, depth)
	default:
		e.Type = "value"
		e.Props = []element.Prop{{Name: scalarItem, Value: d.scalar(y)}}
	}
	d.nodes[e] = n
	return e, err
}

func (d *document) enter(depth int) error {
	if d.count++; depth > MaxDepth || d.count > MaxNodes {
		return errors.New("it is nested too deeply or holds too much")
	}
	return nil
}

func (d *document) mapping(e *element.Element, n *node, depth int) error {
	if err := d.enter(depth); err != nil {
		return err
	}
	n.members = map[string]*node{}
	tagged(e, n.y)
	content := n.y.Content
	for i := 0; i+1 < len(content); i += 2 {
		key, value := content[i], content[i+1]
		name := keyText(key)
		if key.Kind != yaml.ScalarNode || name == "" || n.members[name] != nil {
			return fmt.Errorf("line %d: a key that is no text, or stands twice", key.Line)
		}
		m := &node{y: value, from: d.offset(key), at: d.offset(value), end: n.end}
		if i+2 < len(content) {
			m.end = d.before(d.offset(content[i+2]))
		}
		n.members[name] = m
		n.order = append(n.order, m)
		if err := d.member(e, name, m, depth); err != nil {
			return err
		}
	}
	return nil
}

// keyText gives the name of a member: its text, or in quotes a text that would be no text
// without them, as "1" is beside 1.
func keyText(key *yaml.Node) string {
	if key.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) == 0 {
		return key.Value
	}
	if plainSort(key.Value) != "!!str" || strings.HasPrefix(key.Value, `"`) || key.Value == "<<" || former[strings.ToLower(key.Value)] {
		return doubleQuoted(key.Value)
	}
	return key.Value
}

// plainSort gives the tag that a word has when it stands without quotes.
func plainSort(s string) string {
	return (&yaml.Node{Kind: yaml.ScalarNode, Value: s}).ShortTag()
}

// before gives where the lines end that stand before what begins at a byte: at its
// line, or right there when something else stands on the line too.
func (d *document) before(at int) int {
	if start := d.lineStart(at); strings.TrimLeft(d.src[start:at], " ") == "" {
		return start
	}
	return at
}

// Properties of a container that stand before it.
const (
	tagMark    = "(tag)"
	anchorMark = "(anchor)"
)

// tagged notes a tag or an anchor of a container.
func tagged(e *element.Element, y *yaml.Node) {
	if y.Style&yaml.TaggedStyle != 0 {
		e.Props = append(e.Props, element.Prop{Name: tagMark, Value: element.TextValue(y.Tag)})
	}
	if y.Anchor != "" {
		e.Props = append(e.Props, element.Prop{Name: anchorMark, Value: element.TextValue(y.Anchor)})
	}
}

func (d *document) member(e *element.Element, key string, m *node, depth int) error {
	switch {
	case m.y.Kind == yaml.MappingNode:
		kid := &element.Element{Type: "object", Key: key, Firm: true}
		e.Add(kid)
		d.nodes[kid] = m
		return d.mapping(kid, m, depth+1)
	case m.y.Kind == yaml.SequenceNode && !scalars(m.y):
		kid := &element.Element{Type: "list", Key: key, Firm: true}
		e.Add(kid)
		d.nodes[kid] = m
		return d.sequence(kid, m, depth+1)
	case m.y.Kind == yaml.SequenceNode:
		values := make([]element.Value, len(m.y.Content))
		for i, y := range m.y.Content {
			values[i] = d.scalar(y)
		}
		e.Props = append(e.Props, element.Prop{Name: key, Value: element.ListValue(values...)})
	default:
		e.Props = append(e.Props, element.Prop{Name: key, Value: d.scalar(m.y)})
	}
	return nil
}

func scalars(y *yaml.Node) bool {
	return y.Style&yaml.TaggedStyle == 0 && y.Anchor == "" &&
		!slices.ContainsFunc(y.Content, func(c *yaml.Node) bool { return c.Kind != yaml.ScalarNode })
}

func (d *document) sequence(e *element.Element, n *node, depth int) error {
	if err := d.enter(depth); err != nil {
		return err
	}
	e.Ordered = true
	tagged(e, n.y)
	for i, y := range n.y.Content {
		end := n.end
		if i+1 < len(n.y.Content) {
			end = d.before(d.dash(d.offset(n.y.Content[i+1])))
		}
		kid, err := d.item(y, end, depth+1)
		if err != nil {
			return err
		}
		n.order = append(n.order, d.nodes[kid])
		e.Add(kid)
	}
	kind.KeyItems(e.Children)
	return nil
}

// dash gives where the dash stands before an item.
func (d *document) dash(at int) int {
	i := strings.LastIndexByte(d.src[:min(at, len(d.src))], '-')
	if i < 0 || strings.Trim(d.src[i+1:min(at, len(d.src))], " \r\n\t") != "" {
		return at
	}
	return i
}

// scalar gives the value of a scalar or an alias. What no other sort holds, such
// as an alias or a tagged scalar, is kept as it is written.
func (d *document) scalar(y *yaml.Node) element.Value {
	if y.Kind == yaml.AliasNode {
		return element.NumberValue("*" + y.Value)
	}
	if y.Style&yaml.TaggedStyle != 0 {
		return element.NumberValue(d.tagged(y))
	}
	switch y.ShortTag() {
	case "!!int", "!!float":
		return element.NumberValue(y.Value)
	case "!!bool":
		return element.BoolValue(strings.EqualFold(y.Value, "true"))
	case "!!null":
		return element.NullValue()
	case "!!timestamp":
		return element.NumberValue(y.Value)
	}
	if y.Style == 0 && former[strings.ToLower(y.Value)] { // many programs read it as true or false
		return element.NumberValue(y.Value)
	}
	return element.TextValue(y.Value)
}

// tagged gives a tagged scalar as it is written.
func (d *document) tagged(y *yaml.Node) string {
	n := &node{y: y, from: d.offset(y), at: d.offset(y), end: len(d.src)}
	at, end, ok := d.span(n)
	if !ok || y.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0 {
		return y.Tag + " " + y.Value
	}
	return y.Tag + " " + d.src[at:end]
}

// Weigh counts lines and the values of lists in a line, which take three times as much as elsewhere.
func (Kind) Weigh(data []byte) int64 { return 3 * kind.Count(data, "\n,[{") }

// Read reads the file.
func (Kind) Read(src kind.Source) (r *kind.Reading, err error) {
	d, err := open(src)
	if err != nil {
		return nil, err
	}
	return &kind.Reading{Root: d.root}, nil
}

// Write changes the file into the wanted tree.
func (Kind) Write(src kind.Source, want *element.Element, _ kind.Content) (map[string][]byte, error) {
	d, err := open(src)
	if err != nil {
		return nil, err
	}
	delta := element.Compare(d.root, want)
	if delta == nil {
		return nil, nil
	}
	w := &editor{doc: d}
	out, err := w.rewrite(delta)
	if err != nil {
		return nil, err
	}
	out = string(kind.LikeEnds([]byte(out), []byte(d.src)))
	again, err := parse(out)
	same := *want
	same.Type = d.root.Type
	if err != nil || element.Compare(again.root, &same) != nil {
		return nil, errPlace
	}
	if bytes.Equal([]byte(out), []byte(d.src)) {
		return nil, nil
	}
	return map[string][]byte{src.Files()[0]: []byte(out)}, nil
}

var errPlace = errors.New("the change can't be written into the file as it is laid out")
