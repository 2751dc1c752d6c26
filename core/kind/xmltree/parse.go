package xmltree

import (
	"errors"
	"fmt"
	"strings"

	"oakenchest/core/element"
)

// MaxDepth bounds nesting, MaxElements the number of elements of a document.
const (
	MaxDepth    = 500
	MaxElements = 10_000_000
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
	after string // comments behind it on its line
	start string // the start tag
	tail  string // what stands before the end tag, since the last child
	end   string // the end tag; empty when the start tag closes itself
	raw   string // of a run of text
}

type document struct {
	root  *node
	trail string // after the root element
}

// parse reads a document with its bytes, to be changed and written.
func parse(data []byte) (*document, error) {
	p := &parser{src: string(data)}
	s := &scanner{src: p.src, to: p}
	if err := s.run(); err != nil {
		return nil, err
	}
	if err := finish(len(p.open) > 0, p.root != nil, func() string { return p.top().name }); err != nil {
		return nil, err
	}
	return &document{p.root, p.src[p.done:]}, nil
}

// finish says what is missing at the end of a document.
func finish(open, any bool, last func() string) error {
	switch {
	case open:
		return fmt.Errorf("<%s> is never closed", last())
	case !any:
		return errors.New("it holds no element")
	}
	return nil
}

type parser struct {
	src   string
	root  *node
	open  []*node
	done  int // where the bytes begin that belong to no node yet
	count int
	texts [][]byte // the text of each open element so far; nil in those that hold an element
	gap   gap
}

// gap is a run of blanks on one line behind an element: text, when it stands between two
// that have text themselves, as between words.
type gap struct {
	text     string
	from, to int
}

// between reports whether blanks behind an element can be text among elements.
func between(text string) bool { return text != "" && strings.IndexByte(text, '\n') < 0 }

// worded reports whether something is in an element that blanks beside it part from what
// follows.
func (n *node) worded() bool {
	if n.run {
		return true
	}
	for _, k := range n.kids {
		if k.worded() {
			return true
		}
	}
	return n.leaf() && !blank(n.text)
}

func (p *parser) top() *node {
	if len(p.open) == 0 {
		return nil
	}
	return p.open[len(p.open)-1]
}

func (p *parser) other(int, int) {}

// sinceLast gives what stands before a byte since the last node ended. Comments that stand
// on the line on which an element ended belong to that.
func (p *parser) sinceLast(at int) string {
	text, top := p.src[p.done:at], p.top()
	if top == nil || len(top.kids) == 0 || top.kids[len(top.kids)-1].run {
		return text
	}
	line, _, _ := strings.Cut(text, "\n")
	if whole := strings.TrimRight(line, " \t\r"); strings.HasSuffix(whole, "-->") && strings.Contains(text, "\n") {
		top.kids[len(top.kids)-1].after = whole
		return text[len(whole):]
	}
	return text
}

func (p *parser) startTag(name string, attrs []attr, from, to int, closed bool) error {
	p.fillGap()
	n := &node{name: name, lead: p.sinceLast(from), start: p.src[from:to]}
	p.count++
	if len(p.open) >= MaxDepth || p.count > MaxElements {
		return errors.New("it is nested too deeply or has too many elements")
	}
	if len(attrs) > 0 {
		n.attrs = append([]attr{}, attrs...)
	}
	if top := p.top(); top != nil {
		top.kids = append(top.kids, n)
		p.texts[len(p.texts)-1] = nil
	} else if p.root == nil {
		p.root = n
	} else {
		return errors.New("a second root element")
	}
	p.done = to
	if !closed {
		p.open, p.texts = append(p.open, n), append(p.texts, []byte{})
	}
	return nil
}

// fillGap makes text of the blanks before an element.
func (p *parser) fillGap() {
	g, top := p.gap, p.top()
	if p.gap = (gap{}); g.to == 0 || top == nil || len(top.kids) == 0 || !top.kids[len(top.kids)-1].worded() {
		return
	}
	top.kids = append(top.kids, &node{run: true, text: g.text, lead: p.src[p.done:g.from], raw: p.src[g.from:g.to]})
	p.done = g.to
}

func (p *parser) endTag(name string, from, to int) error {
	p.gap = gap{}
	top := p.top()
	if top == nil || top.name != name {
		return fmt.Errorf("</%s> closes nothing", name)
	}
	last := len(p.open) - 1
	top.tail, top.end, top.text = p.sinceLast(from), p.src[from:to], string(p.texts[last])
	p.done = to
	p.open, p.texts = p.open[:last], p.texts[:last]
	return nil
}

func (p *parser) text(text string, from, to int) error {
	space := blank(text)
	top := p.top()
	if top == nil {
		if !space || p.src[from] == '<' {
			return errors.New("text outside of the root element")
		}
		return nil
	}
	if last := len(p.texts) - 1; p.texts[last] != nil {
		p.texts[last] = append(p.texts[last], text...)
	}
	p.gap = gap{}
	if !space {
		top.kids = append(top.kids, &node{run: true, text: text, lead: p.src[p.done:from], raw: p.src[from:to]})
		p.done = to
	} else if between(text) && p.src[from] != '<' {
		p.gap = gap{text, from, to}
	}
	return nil
}

// builder makes elements right away, for documents that are only read.
type builder struct {
	root  *element.Element
	open  []frame
	count int
}

// frame is an element that is still open.
type frame struct {
	e     *element.Element
	texts []string // while no element is inside
	holds bool     // an element is inside
	keyed int      // children with a key
	gap   string   // blanks behind the last element
	words bool     // text is in the last element, or stands behind it
	// worded says that text is in some element, or among them.
	worded bool
}

func (b *builder) other(int, int) {}

func (b *builder) startTag(name string, attrs []attr, _, _ int, closed bool) error {
	b.count++
	if len(b.open) >= MaxDepth || b.count > MaxElements {
		return errors.New("it is nested too deeply or has too many elements")
	}
	e := &element.Element{Type: name, Ordered: true, Firm: true}
	if len(attrs) > 0 {
		e.Props = make([]element.Prop, len(attrs))
		for i, a := range attrs {
			e.Props[i] = element.Prop{Name: propertyName(a.name), Value: element.TextValue(a.value)}
		}
		e.Key = keyOf(attrs)
	}
	if n := len(b.open); n > 0 {
		f := &b.open[n-1]
		for _, text := range f.texts { // it is among elements after all
			if !blank(text) {
				f.e.Children, f.worded = append(f.e.Children, runOf(text)), true
				f.words = true
			}
		}
		if f.gap != "" && f.words {
			f.e.Children = append(f.e.Children, runOf(f.gap))
		}
		f.e.Children, f.holds, f.texts, f.gap, f.words = append(f.e.Children, e), true, nil, "", false
		if e.Key != "" {
			f.keyed++
		}
	} else if b.root == nil {
		b.root = e
	} else {
		return errors.New("a second root element")
	}
	if !closed {
		b.open = append(b.open, frame{e: e})
	}
	return nil
}

func (b *builder) endTag(name string, _, _ int) error {
	last := len(b.open) - 1
	if last < 0 || b.open[last].e.Type != name {
		return fmt.Errorf("</%s> closes nothing", name)
	}
	f := &b.open[last]
	switch {
	case f.holds:
		if f.keyed > 1 {
			distinct(f.e.Children)
		}
	case len(f.texts) > 0:
		if text := strings.Join(f.texts, ""); text != "" {
			f.e.Props = append(f.e.Props, element.Prop{Name: textProperty, Value: element.TextValue(text)})
		}
	}
	worded := f.worded || !f.holds && !blank(f.e.Prop(textProperty).Text())
	if b.open = b.open[:last]; last > 0 {
		up := &b.open[last-1]
		up.words, up.worded = worded, up.worded || worded
	}
	return nil
}

func (b *builder) text(text string, from, to int) error {
	if len(b.open) == 0 {
		if !blank(text) || to-from > len(text) && to-from >= len("<![CDATA[]]>") {
			return errors.New("text outside of the root element")
		}
		return nil
	}
	f := &b.open[len(b.open)-1]
	f.gap = ""
	switch {
	case !f.holds:
		f.texts = append(f.texts, text)
	case !blank(text):
		f.e.Children, f.words, f.worded = append(f.e.Children, runOf(text)), true, true
	case between(text) && to-from < len("<![CDATA[]]>"):
		f.gap = text
	}
	return nil
}

// blank reports whether a text is space alone.
func blank(s string) bool {
	for i := 0; i < len(s); i++ {
		if !isSpace(s[i]) {
			return false
		}
	}
	return true
}
