package xmltree

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
	"unicode/utf8"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// Write changes the document into the wanted tree.
func (Kind) Write(src kind.Source, want *element.Element, _ kind.Content) (map[string][]byte, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	if len(want.Children) != 1 {
		return nil, fmt.Errorf("an XML file has one root element, and %d were left", len(want.Children))
	}
	if len(data) == 0 {
		out, err := render(want.Children[0], "\n")
		return map[string][]byte{src.Files()[0]: []byte("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n" + out + "\n")}, err
	}
	data, encode, err := decoded(data)
	if err != nil {
		return nil, err
	}
	doc, err := parse(data)
	if err != nil {
		return nil, err
	}
	o := origins{}
	have := doc.tree(o)
	d := element.Compare(have, want)
	if d == nil {
		return nil, nil
	}
	w := &patcher{origins: o}
	root, err := w.root(doc.root, d)
	if err != nil {
		return nil, err
	}
	var b strings.Builder
	root.write(&b)
	b.WriteString(doc.trail)
	out, err := encode(kind.LikeEnds([]byte(b.String()), data))
	return map[string][]byte{src.Files()[0]: out}, err
}

func (n *node) write(b *strings.Builder) {
	b.WriteString(n.lead)
	if n.run {
		b.WriteString(n.raw)
		return
	}
	b.WriteString(n.start)
	for _, k := range n.kids {
		k.write(b)
	}
	b.WriteString(n.tail)
	b.WriteString(n.end)
	b.WriteString(n.after)
}

type patcher struct{ origins origins }

func (w *patcher) root(n *node, d *element.Delta) (*node, error) {
	for _, k := range d.Kids {
		switch {
		case k.To >= 0 && k.From >= 0 && k.Delta != nil:
			return n, w.patch(n, k.Delta)
		case k.To >= 0 && k.From < 0:
			root, err := w.create(d.B.Children[k.To], lineOf(n))
			if err == nil {
				root.lead = n.lead
			}
			return root, err
		}
	}
	return n, nil
}

// lineOf gives the line end after which the children of a node without a place of
// its own are laid out: none when they share its line.
func lineOf(n *node) string {
	for _, k := range n.kids {
		if strings.Contains(k.lead, "\n") || k.run && strings.Contains(k.raw, "\n") {
			return "\n"
		}
	}
	return ""
}

// patch turns n into the element d.B.
func (w *patcher) patch(n *node, d *element.Delta) error {
	if d.B.Type != n.name {
		return fmt.Errorf("<%s> can't become <%s>", n.name, d.B.Type)
	}
	for _, p := range d.Props {
		if p.Name == textProperty {
			continue
		}
		if err := n.setAttribute(attributeName(p.Name), p.To); err != nil {
			return err
		}
	}
	if len(d.B.Children) > 0 {
		if !d.B.Prop(textProperty).IsAbsent() {
			return fmt.Errorf("<%s> would have text and elements inside", n.name)
		}
		if len(d.Kids) == 0 {
			return nil
		}
		if n.leaf() {
			n.kids, n.text = nil, ""
		}
		return w.kids(n, d)
	}
	text := d.B.Prop(textProperty)
	if len(d.A.Children) > 0 && text.IsAbsent() {
		n.openUp()
		n.kids, n.text, n.tail = nil, "", strings.Join(remarks.FindAllString(n.tail, -1), "")
		return nil
	}
	if !text.Equal(d.A.Prop(textProperty)) || len(d.A.Children) > 0 {
		return n.setText(text)
	}
	return nil
}

func (w *patcher) kids(n *node, d *element.Delta) error {
	lead := n.childLead()
	n.openUp()
	var kids []*node
	for _, k := range d.Kids {
		if k.To < 0 {
			continue
		}
		wanted := d.B.Children[k.To]
		if k.From < 0 {
			kid, err := w.create(wanted, lead)
			if err != nil {
				return err
			}
			kids = append(kids, kid)
			continue
		}
		kid := w.origins[d.A.Children[k.From]]
		if k.Delta != nil {
			if kid.run {
				raw, err := escape(wanted.Prop(textProperty).Text(), false)
				if err != nil {
					return err
				}
				kid.raw = raw
			} else if err := w.patch(kid, k.Delta); err != nil {
				return err
			}
		}
		kids = append(kids, kid)
	}
	if len(n.kids) == 0 && len(kids) > 0 && n.tail == "" && strings.Contains(lead, "\n") {
		n.tail = "\n" + strings.TrimSuffix(lastLine(lead), indentStep(lead))
	}
	n.kids = kids
	return nil
}

// childLead gives the space for a new child: that of the last element inside,
// else one step more than the parent's own.
func (n *node) childLead() string {
	for i := len(n.kids) - 1; i >= 0; i-- {
		if lead := n.kids[i].lead; !n.kids[i].run {
			if strings.TrimSpace(lead) == "" {
				return lead
			}
			if j := strings.LastIndexByte(lead, '\n'); j >= 0 && strings.TrimSpace(lead[j:]) == "" {
				return lead[j:]
			}
		}
	}
	if j := strings.LastIndexByte(n.lead, '\n'); j >= 0 && strings.TrimSpace(n.lead[j:]) == "" {
		return n.lead[j:] + indentStep(n.lead[j:])
	}
	return ""
}

func lastLine(s string) string { return s[strings.LastIndexByte(s, '\n')+1:] }

func indentStep(lead string) string {
	if strings.HasSuffix(lead, "\t") {
		return "\t"
	}
	return "  "
}

// openUp gives a tag that closes itself an end tag.
func (n *node) openUp() {
	if n.end == "" && strings.HasSuffix(n.start, "/>") {
		n.start = strings.TrimRight(strings.TrimSuffix(n.start, "/>"), " \t\r\n") + ">"
		n.end = "</" + n.name + ">"
	}
}

// remarks are what may stand in an element that holds nothing.
var remarks = regexp.MustCompile(`(?s)<!--.*?-->|<\?.*?\?>`)

func (n *node) setText(v element.Value) error {
	raw, err := escape(v.Text(), false)
	if err != nil {
		return err
	}
	n.openUp()
	if len(n.kids) == 1 && n.kids[0].run && n.kids[0].text == n.text && raw != "" { // comments beside it stay
		n.kids[0].raw, n.kids[0].text, n.text = raw, v.Text(), v.Text()
		return nil
	}
	n.kids, n.tail = nil, ""
	if raw != "" {
		n.kids = []*node{{run: true, raw: raw, text: v.Text()}}
	}
	n.text = v.Text()
	return nil
}

func (n *node) setAttribute(name string, v element.Value) error {
	raw, err := escape(v.Text(), true)
	if err != nil {
		return err
	}
	for _, a := range n.attrs {
		switch {
		case a.name != name:
			continue
		case v.IsAbsent():
			n.start = n.start[:a.lead] + n.start[a.to+1:]
		case n.start[a.from-1] == '\'':
			n.start = n.start[:a.from] + strings.ReplaceAll(raw, "'", "&apos;") + n.start[a.to:]
		default:
			n.start = n.start[:a.from] + raw + n.start[a.to:]
		}
		return n.respan()
	}
	if v.IsAbsent() {
		return nil
	}
	end := len(n.start) - 1
	if strings.HasSuffix(n.start, "/>") {
		end--
	}
	end = len(strings.TrimRight(n.start[:end], " \t\r\n"))
	n.start = n.start[:end] + " " + name + `="` + raw + `"` + n.start[end:]
	n.attrs = append(n.attrs, attr{name: name, value: v.Text()})
	return n.respan()
}

// respan finds the attributes again after the start tag changed.
func (n *node) respan() error {
	p := &parser{src: strings.TrimSuffix(strings.TrimSuffix(n.start, "/>"), ">") + "/>"}
	if err := (&scanner{src: p.src, to: p, rough: true}).run(); err != nil || p.root == nil {
		return errors.Join(err, errors.New("a start tag can't be changed"))
	}
	n.attrs = p.root.attrs
	return nil
}

// create makes a node out of an element, laid out after lead.
func (w *patcher) create(e *element.Element, lead string) (*node, error) {
	if e.Type == "text" && e.Key == "" && len(e.Children) == 0 && len(e.Props) == 1 {
		raw, err := escape(e.Prop(textProperty).Text(), false)
		return &node{run: true, raw: raw}, err
	}
	out, err := render(e, lead)
	return &node{lead: lead, start: out}, err
}

// render writes an element with what is inside; children go on lines of their
// own when lead has a line end.
func render(e *element.Element, lead string) (string, error) {
	var b strings.Builder
	b.WriteString("<" + e.Type)
	for _, p := range e.Props {
		if p.Name == textProperty {
			continue
		}
		raw, err := escape(p.Value.Text(), true)
		if err != nil {
			return "", err
		}
		b.WriteString(" " + attributeName(p.Name) + `="` + raw + `"`)
	}
	text, err := escape(e.Prop(textProperty).Text(), false)
	if err != nil {
		return "", err
	}
	if text == "" && len(e.Children) == 0 {
		b.WriteString("/>")
		return b.String(), nil
	}
	b.WriteString(">" + text)
	inner, mixed := "", false
	for _, k := range e.Children {
		mixed = mixed || k.Type == "text" && k.Key == ""
	}
	if strings.Contains(lead, "\n") && !mixed {
		inner = lead + indentStep(lead)
	}
	for _, k := range e.Children {
		if k.Type == "text" && k.Key == "" {
			raw, err := escape(k.Prop(textProperty).Text(), false)
			if err != nil {
				return "", err
			}
			b.WriteString(raw)
			continue
		}
		out, err := render(k, inner)
		if err != nil {
			return "", err
		}
		b.WriteString(inner + out)
	}
	if inner != "" && len(e.Children) > 0 {
		b.WriteString(lead)
	}
	b.WriteString("</" + e.Type + ">")
	return b.String(), nil
}

var (
	textEscapes      = strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", "\r", "&#xD;")
	attributeEscapes = strings.NewReplacer("&", "&amp;", "<", "&lt;", `"`, "&quot;", "\r", "&#xD;", "\n", "&#xA;", "\t", "&#x9;")
)

// escape writes text for XML; characters that XML has no way to write are an error.
func escape(s string, attribute bool) (string, error) {
	for _, r := range s {
		if r == utf8.RuneError || r < ' ' && r != '\t' && r != '\n' && r != '\r' || r == 0xFFFE || r == 0xFFFF {
			return "", fmt.Errorf("the text %.40q holds a character that XML can't", s)
		}
	}
	if attribute {
		return attributeEscapes.Replace(s), nil
	}
	return textEscapes.Replace(s), nil
}
