package xmltree

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
)

// MaxDepth bounds nesting, MaxElements the number of elements of a document.
const (
	MaxDepth    = 500
	MaxElements = 5_000_000
)

// node is an element of a document, with the bytes that it was read from.
type node struct {
	name  string // with its prefix
	attrs []attr
	kids  []*node
	// text is the decoded text inside, when no element is.
	text string
	// run marks a run of text among elements: it has raw bytes and a text alone.
	run bool

	lead  string // what stands before it, since its elder sibling: space, comments
	start string // the start tag
	tail  string // what stands before the end tag, since the last child
	end   string // the end tag; empty when the start tag closes itself
	raw   string // of a run of text
}

// attr is an attribute; from and to bound its raw value, quotes left out, and
// lead its first byte with the space before it, in the start tag.
type attr struct {
	name, value    string
	lead, from, to int
}

type document struct {
	root  *node
	trail string // after the root element
}

var errNoRoot = errors.New("it holds no element")

// parse reads a document. Entities other than the five of XML, and encodings
// other than UTF-8, are refused; nothing is ever expanded or fetched.
func parse(data []byte) (*document, error) {
	dec := xml.NewDecoder(bytes.NewReader(data))
	p := &parser{src: string(data), dec: dec}
	for {
		from := dec.InputOffset()
		tok, err := dec.RawToken()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, reason(err)
		}
		if err := p.token(tok, int(from), int(dec.InputOffset())); err != nil {
			return nil, fmt.Errorf("line %d: %w", strings.Count(p.src[:from], "\n")+1, err)
		}
	}
	if len(p.open) > 0 {
		return nil, fmt.Errorf("<%s> is never closed", p.open[len(p.open)-1].name)
	}
	if p.root == nil {
		return nil, errNoRoot
	}
	return &document{p.root, p.src[p.done:]}, nil
}

func reason(err error) error {
	var syntax *xml.SyntaxError
	if errors.As(err, &syntax) {
		return fmt.Errorf("line %d: %s", syntax.Line, syntax.Msg)
	}
	return errors.New(strings.TrimPrefix(err.Error(), "xml: "))
}

type parser struct {
	src   string
	dec   *xml.Decoder
	root  *node
	open  []*node
	done  int // where the bytes begin that belong to no node yet
	count int
	texts [][]byte // the text of each open element so far; nil in those that hold an element
}

func (p *parser) top() *node {
	if len(p.open) == 0 {
		return nil
	}
	return p.open[len(p.open)-1]
}

func (p *parser) token(tok xml.Token, from, to int) error {
	switch t := tok.(type) {
	case xml.StartElement:
		return p.startTag(t, from, to)
	case xml.EndElement:
		top := p.top()
		if top == nil || top.name != qualified(t.Name) {
			return fmt.Errorf("</%s> closes nothing", qualified(t.Name))
		}
		if to > from {
			top.tail, top.end = p.src[p.done:from], p.src[from:to]
		}
		last := len(p.open) - 1
		top.text = string(p.texts[last])
		p.done = to
		p.open, p.texts = p.open[:last], p.texts[:last]
	case xml.CharData:
		text := strings.TrimLeft(string(t), "\ufeff \t\r\n")
		if top := p.top(); top != nil {
			if last := len(p.texts) - 1; p.texts[last] != nil {
				p.texts[last] = append(p.texts[last], t...)
			}
			if text != "" {
				top.kids = append(top.kids, &node{run: true, text: string(t), lead: p.src[p.done:from], raw: p.src[from:to]})
				p.done = to
			}
		} else if text != "" {
			return errors.New("text outside of the root element")
		}
	}
	return nil
}

func qualified(n xml.Name) string {
	if n.Space == "" {
		return n.Local
	}
	return n.Space + ":" + n.Local
}

func (p *parser) startTag(t xml.StartElement, from, to int) error {
	n := &node{name: qualified(t.Name), lead: p.src[p.done:from], start: p.src[from:to]}
	p.count++
	if len(p.open) >= MaxDepth || p.count > MaxElements {
		return errors.New("it is nested too deeply or has too many elements")
	}
	spans, err := attributeSpans(n.start)
	if err != nil || len(spans) != len(t.Attr) {
		return errors.New("a start tag is malformed")
	}
	for i, a := range t.Attr {
		spans[i].name, spans[i].value = qualified(a.Name), a.Value
	}
	if twice := duplicate(spans); twice != "" {
		return fmt.Errorf("the attribute %s stands twice", twice)
	}
	n.attrs = spans
	if top := p.top(); top != nil {
		top.kids = append(top.kids, n)
		p.texts[len(p.texts)-1] = nil
	} else if p.root == nil {
		p.root = n
	} else {
		return errors.New("a second root element")
	}
	p.open, p.texts, p.done = append(p.open, n), append(p.texts, []byte{}), to
	return nil
}

// duplicate gives the name that two attributes have; empty for none.
func duplicate(attrs []attr) string {
	const few = 12 // so many are compared each with each
	if len(attrs) <= few {
		for i, a := range attrs {
			for _, b := range attrs[:i] {
				if a.name == b.name {
					return a.name
				}
			}
		}
		return ""
	}
	seen := make(map[string]bool, len(attrs))
	for _, a := range attrs {
		if seen[a.name] {
			return a.name
		}
		seen[a.name] = true
	}
	return ""
}

// attributeSpans finds the attributes in a start tag that the decoder took.
func attributeSpans(tag string) ([]attr, error) {
	var out []attr
	i := strings.IndexAny(tag, " \t\r\n/>")
	for i >= 0 && i < len(tag) {
		lead := i
		for i < len(tag) && strings.IndexByte(" \t\r\n", tag[i]) >= 0 {
			i++
		}
		if i >= len(tag) || tag[i] == '>' || tag[i] == '/' {
			return out, nil
		}
		eq := strings.IndexByte(tag[i:], '=')
		if eq < 0 {
			break
		}
		i += eq + 1
		for i < len(tag) && strings.IndexByte(" \t\r\n", tag[i]) >= 0 {
			i++
		}
		if i >= len(tag) || tag[i] != '"' && tag[i] != '\'' {
			break
		}
		end := strings.IndexByte(tag[i+1:], tag[i])
		if end < 0 {
			break
		}
		out = append(out, attr{lead: lead, from: i + 1, to: i + 1 + end})
		i += end + 2
	}
	return nil, errors.New("no end")
}
