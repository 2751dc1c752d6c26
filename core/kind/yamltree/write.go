package yamltree

import (
	"bytes"
	"cmp"
	"encoding/json"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"oakenchest/core/element"
)

// splice replaces a run of bytes.
type splice struct {
	from, to int
	text     string
}

// editor changes a document into another tree.
type editor struct {
	doc     *document
	splices []splice
}

func (w *editor) rewrite(d *element.Delta) (string, error) {
	if err := w.change(d); err != nil {
		return "", err
	}
	return w.apply(0, len(w.doc.src))
}

// apply gives the text of a region with the splices in it.
func (w *editor) apply(from, to int) (string, error) {
	slices.SortStableFunc(w.splices, func(a, b splice) int { return cmp.Or(cmp.Compare(a.from, b.from), cmp.Compare(a.to, b.to)) })
	var b strings.Builder
	at := from
	for _, s := range w.splices {
		if s.from < at || s.to > to {
			return "", errPlace
		}
		b.WriteString(w.doc.src[at:s.from])
		if s.from == s.to && strings.HasSuffix(s.text, "\n") && b.Len() > 0 && !strings.HasSuffix(b.String(), "\n") &&
			w.doc.lineStart(s.from) != s.from {
			b.WriteByte('\n')
		}
		b.WriteString(s.text)
		at = s.to
	}
	b.WriteString(w.doc.src[at:to])
	return b.String(), nil
}

func (w *editor) put(from, to int, text string) {
	w.splices = append(w.splices, splice{from, to, text})
}

func (w *editor) change(d *element.Delta) error {
	n := w.doc.nodes[d.A]
	switch {
	case n == nil: // the file of several documents
		return w.documents(d)
	case d.A.Type == "value":
		return w.replace(n, d.B.Prop(scalarItem))
	case n.y.Style&yaml.FlowStyle != 0 && structural(d):
		end, ok := flowEnd(w.doc.src, n.at)
		if !ok {
			return errPlace
		}
		w.put(n.at, end, flow(d.B))
		return nil
	case d.A.Type == "list":
		if len(d.Props) > 0 {
			return errPlace
		}
		return w.list(n, d)
	}
	return w.mapping(n, d)
}

// structural reports whether something comes, goes or moves, or lists of scalars
// change.
func structural(d *element.Delta) bool {
	return rearranged(d) || slices.ContainsFunc(d.Props, func(p element.PropEdit) bool {
		return p.From.IsAbsent() || p.To.IsAbsent() || p.From.Sort() == element.List || p.To.Sort() == element.List
	})
}

// rearranged reports whether children come, go or move.
func rearranged(d *element.Delta) bool {
	return slices.ContainsFunc(d.Kids, func(k element.KidEdit) bool { return k.From < 0 || k.To < 0 || k.Moved })
}

func (w *editor) documents(d *element.Delta) error {
	for _, k := range d.Kids {
		if k.From < 0 || k.To < 0 || k.Moved {
			return errPlace
		}
		if k.Delta != nil {
			if err := w.change(k.Delta); err != nil {
				return err
			}
		}
	}
	return nil
}

func (w *editor) mapping(n *node, d *element.Delta) error {
	kept := len(n.order)
	indent := strings.Repeat(" ", w.column(n))
	for _, p := range d.Props {
		m := n.members[p.Name]
		switch {
		case strings.HasPrefix(p.Name, "("):
			return errPlace
		case p.To.IsAbsent() && !holds(d.B, p.Name):
			kept--
			w.remove(n, m)
		case p.To.IsAbsent(): // an object comes in its place
		case m != nil && p.To.Sort() != element.List && m.y.Kind != yaml.SequenceNode && m.y.Kind != yaml.MappingNode:
			if err := w.replace(m, p.To); err != nil {
				return err
			}
		case m != nil:
			w.lines(m, indent+member(p.Name, p.To, indent))
		default:
			w.insert(n, d.B, p.Name, indent+member(p.Name, p.To, indent))
		}
	}
	for _, k := range d.Kids {
		switch {
		case k.To < 0:
			if name := d.A.Children[k.From].Key; !holds(d.B, name) {
				kept--
				w.remove(n, n.members[name])
			}
		case k.From < 0:
			e := d.B.Children[k.To]
			text := indent + block(e, indent)
			if m := n.members[e.Key]; m != nil {
				w.lines(m, text)
			} else {
				w.insert(n, d.B, e.Key, text)
			}
		case k.Delta != nil:
			if err := w.change(k.Delta); err != nil {
				return err
			}
		}
	}
	if kept == 0 && len(n.order) > 0 {
		return errPlace // an empty mapping is written otherwise
	}
	return nil
}

// insert writes a new member: behind the member that it follows in the wanted object, else
// before the one that it precedes, else at the end.
func (w *editor) insert(n *node, want *element.Element, name, text string) {
	var names []string
	if want.Prop(name).IsAbsent() {
		for _, c := range want.Children {
			names = append(names, c.Key)
		}
	} else {
		for _, p := range want.Props {
			names = append(names, p.Name)
		}
	}
	at := slices.Index(names, name)
	place := w.doc.trimmed(n.from, n.end)
	for i := at - 1; i >= 0; i-- {
		if m := n.members[names[i]]; m != nil {
			place = w.doc.trimmed(m.from, m.end)
			w.put(place, place, text)
			return
		}
	}
	for _, later := range names[at+1:] {
		m := n.members[later]
		if m == nil {
			continue
		}
		if start := w.doc.lineStart(m.from); strings.Trim(w.doc.src[start:m.from], " ") == "" {
			place = w.doc.withRemarks(w.doc.above(n), start)
		}
		break
	}
	w.put(place, place, text)
}

// holds reports whether an object has a member of a name.
func holds(e *element.Element, name string) bool {
	return !e.Prop(name).IsAbsent() || slices.ContainsFunc(e.Children, func(c *element.Element) bool { return c.Key == name })
}

// column gives the column in which the members of a mapping stand.
func (w *editor) column(n *node) int {
	if len(n.order) == 0 {
		return 0
	}
	at := n.order[0].from
	return len([]rune(strings.TrimPrefix(w.doc.src[w.doc.lineStart(at):at], "\ufeff")))
}

// trimmed gives where a region ends without the blank lines and comments at its
// end.
func (d *document) trimmed(from, to int) int {
	for to > from {
		start := d.lineStart(to - 1)
		body := strings.TrimSpace(d.src[start:to])
		if start <= from || body != "" && !strings.HasPrefix(body, "#") && body != "---" && body != "..." {
			break
		}
		to = start
	}
	return to
}

// withRemarks gives where the comments begin that stand right above a line, and
// below the line of a byte.
func (d *document) withRemarks(from, line int) int {
	for line > 0 {
		above := d.lineStart(line - 1)
		if above <= from && from >= 0 || !strings.HasPrefix(strings.TrimSpace(d.src[above:line]), "#") {
			break
		}
		line = above
	}
	return line
}

// remove takes a member away, with its lines.
func (w *editor) remove(n, m *node) {
	start := w.doc.lineStart(m.from)
	if strings.TrimSpace(w.doc.src[start:m.from]) != "" { // behind a dash: what follows moves up
		next := slices.Index(n.order, m) + 1
		if next < len(n.order) {
			w.put(m.from, n.order[next].from, "")
			return
		}
		start = m.from
	} else { // comments right above it are about it
		start = w.doc.withRemarks(w.doc.above(n), start)
	}
	w.put(start, w.doc.trimmed(m.from, m.end), "")
}

// above gives where what stands above the members of a mapping begins.
func (d *document) above(n *node) int {
	if len(n.order) > 0 && n.from == n.order[0].from { // of the document
		return -1
	}
	return n.from
}

// lines writes a member anew.
func (w *editor) lines(m *node, text string) {
	start := w.doc.lineStart(m.from)
	if strings.TrimSpace(w.doc.src[start:m.from]) != "" {
		start, text = m.from, strings.TrimLeft(text, " ")
	}
	w.put(start, w.doc.trimmed(m.from, m.end), text)
}

// replace writes a scalar in the place of another.
func (w *editor) replace(n *node, v element.Value) error {
	at, end, ok := w.doc.span(n)
	if !ok {
		return errPlace
	}
	if strings.HasPrefix(v.Text(), "!") && v.Sort() == element.Number || n.y.Style&yaml.TaggedStyle != 0 {
		if n.y.Anchor != "" {
			return errPlace
		}
		at = n.at // with the tag
	}
	like := w.doc.src[at:end]
	text := scalar(v, like)
	switch {
	case like == "" && at > 0 && w.doc.src[at-1] != ' ':
		text = " " + text
	case strings.HasPrefix(like, "|") || strings.HasPrefix(like, ">"):
		text = literal(v, like, w.doc.src[w.doc.lineStart(n.from):n.from]) + "\n"
	}
	w.put(at, end, text)
	return nil
}

// span gives the bytes of a scalar, anchors and tags before it left out.
func (d *document) span(n *node) (at, end int, ok bool) {
	at = n.at
	for at < len(d.src) && (d.src[at] == '&' || d.src[at] == '!') && n.y.Kind == yaml.ScalarNode {
		i := strings.IndexAny(d.src[at:], " \n")
		if i < 0 || d.src[at+i] == '\n' {
			return 0, 0, false
		}
		for at += i; at < len(d.src) && d.src[at] == ' '; {
			at++
		}
	}
	switch {
	case n.y.Kind == yaml.AliasNode:
		return at, at + 1 + len(n.y.Value), true
	case n.y.Style&yaml.DoubleQuotedStyle != 0, n.y.Style&yaml.SingleQuotedStyle != 0:
		end, ok = quoteEnd(d.src, at)
		return at, end, ok
	case n.y.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0:
		return at, d.blockEnd(at, n.end), true
	case n.y.Value == "": // nothing stands there: behind the key
		i := strings.IndexByte(d.src[n.from:], ':')
		if n.from == n.at || i < 0 {
			return 0, 0, false
		}
		return n.from + i + 1, n.from + i + 1, true
	}
	return at, at + len(n.y.Value), strings.HasPrefix(d.src[at:], n.y.Value)
}

// blockEnd gives where the lines of a literal or folded text end that begins at a
// byte: before the first one that stands further left.
func (d *document) blockEnd(at, most int) int {
	end, indent := at+len(d.src[at:])-len(strings.TrimLeft(d.src[at:], "|>+-0123456789")), -1
	for next := end; next < most; {
		i := strings.IndexByte(d.src[next:most], '\n')
		if i < 0 {
			return most
		}
		start := next + i + 1
		line, _, _ := strings.Cut(d.src[start:most], "\n")
		here := len(line) - len(strings.TrimLeft(line, " "))
		if strings.TrimSpace(line) != "" {
			if indent < 0 {
				indent = here
			}
			if here < indent {
				return end
			}
			end = min(start+len(line)+1, most)
		}
		if next = start; start >= most {
			break
		}
	}
	return end
}

// quoteEnd gives where the quoted text ends that begins at a byte.
func quoteEnd(src string, at int) (int, bool) {
	if at >= len(src) {
		return 0, false
	}
	for i := at + 1; i < len(src); i++ {
		switch {
		case src[i] == '\\' && src[at] == '"':
			i++
		case src[i] == src[at]:
			if src[at] == '\'' && i+1 < len(src) && src[i+1] == '\'' {
				i++
				continue
			}
			return i + 1, true
		}
	}
	return 0, false
}

// flowEnd gives where the flow mapping or sequence ends that begins at a byte.
func flowEnd(src string, at int) (int, bool) {
	depth := 0
	for i := at; i < len(src); i++ {
		switch src[i] {
		case '"', '\'':
			end, ok := quoteEnd(src, i)
			if !ok {
				return 0, false
			}
			i = end - 1
		case '[', '{':
			depth++
		case ']', '}':
			if depth--; depth == 0 {
				return i + 1, true
			}
		case '#':
			return 0, false
		}
		if depth == 0 {
			return 0, false
		}
	}
	return 0, false
}

// list turns a block sequence into the one that is wanted: its items are runs of
// lines, which stay whole wherever they go.
func (w *editor) list(n *node, d *element.Delta) error {
	if !rearranged(d) {
		for _, k := range d.Kids {
			if k.Delta != nil {
				if err := w.change(k.Delta); err != nil {
					return err
				}
			}
		}
		return nil
	}
	if len(d.B.Children) == 0 || len(n.order) == 0 {
		return errPlace
	}
	first := w.doc.dash(n.order[0].from)
	start := w.doc.lineStart(first)
	indent := w.doc.src[start:first]
	if strings.TrimSpace(indent) != "" {
		return errPlace
	}
	start = w.doc.withRemarks(n.from, start)
	begins := make([]int, len(n.order)+1)
	for i, it := range n.order {
		begins[i] = w.doc.lineStart(w.doc.dash(it.from))
		if i == 0 {
			begins[i] = start
		} else { // comments before an item go with it
			begins[i] = w.doc.trimmed(n.order[i-1].from, begins[i])
		}
	}
	end := w.doc.trimmed(n.order[len(n.order)-1].from, n.end)
	begins[len(n.order)] = end
	var b strings.Builder
	for _, k := range d.Kids {
		switch {
		case k.To < 0:
			continue
		case k.From < 0:
			b.WriteString(indent + "- " + itemText(d.B.Children[k.To], indent+"  "))
			continue
		}
		inner := &editor{doc: w.doc}
		if k.Delta != nil {
			if err := inner.change(k.Delta); err != nil {
				return err
			}
		}
		text, err := inner.apply(begins[k.From], begins[k.From+1])
		if err != nil {
			return err
		}
		if b.WriteString(text); !strings.HasSuffix(text, "\n") {
			b.WriteByte('\n')
		}
	}
	text := b.String()
	if !strings.HasSuffix(w.doc.src[start:end], "\n") {
		text = strings.TrimSuffix(text, "\n")
	}
	w.put(start, end, text)
	return nil
}

// member writes a property as a member of a block mapping, without the indent
// before it.
func member(name string, v element.Value, indent string) string {
	key := keyFor(name)
	if v.Sort() != element.List {
		return key + ": " + scalar(v, "") + "\n"
	}
	if len(v.Items()) == 0 {
		return key + ": []\n"
	}
	out := key + ":\n"
	for _, it := range v.Items() {
		out += indent + "  - " + flowValue(it) + "\n"
	}
	return out
}

// block writes an object or a list as a member.
func block(e *element.Element, indent string) string {
	key := keyFor(e.Key)
	marks, e := unmarked(e)
	if len(e.Props)+len(e.Children) == 0 {
		return key + ": " + marks + flow(e) + "\n"
	}
	return key + ":" + strings.TrimRight(" "+marks, " ") + "\n" + indent + "  " + itemText(e, indent+"  ")
}

// keyFor writes the key of a member, from its name in the tree.
func keyFor(name string) string {
	switch {
	case strings.HasPrefix(name, `"`), name == "<<", former[strings.ToLower(name)]:
		return name
	case plainSort(name) != "!!str" && name != "":
		return name
	}
	return scalar(element.TextValue(name), "")
}

// unmarked gives the tag and the anchor of a container, as they stand before it, and the
// container without them.
func unmarked(e *element.Element) (string, *element.Element) {
	marks := ""
	for _, p := range e.Props {
		switch p.Name {
		case anchorMark:
			marks = "&" + p.Value.Text() + " " + marks
		case tagMark:
			marks += p.Value.Text() + " "
		}
	}
	if marks == "" {
		return "", e
	}
	c := *e
	c.Props = slices.DeleteFunc(slices.Clone(e.Props), func(p element.Prop) bool { return p.Name == anchorMark || p.Name == tagMark })
	return marks, &c
}

// itemText writes what stands behind a dash or on the lines below a key; indent is
// that of further lines.
func itemText(e *element.Element, indent string) string {
	var lines []string
	if marks, bare := unmarked(e); marks != "" {
		return marks + flow(bare) + "\n"
	}
	switch {
	case e.Type == "value":
		return scalar(e.Prop(scalarItem), "") + "\n"
	case len(e.Props)+len(e.Children) == 0:
		return flow(e) + "\n"
	case e.Type == "list":
		for _, c := range e.Children {
			lines = append(lines, "- "+itemText(c, indent+"  "))
		}
	default:
		for _, p := range e.Props {
			lines = append(lines, member(p.Name, p.Value, indent))
		}
		for _, c := range e.Children {
			lines = append(lines, block(c, indent))
		}
	}
	return strings.Join(lines, indent)
}

// flow writes an element on one line.
func flow(e *element.Element) string {
	var parts []string
	marks, e := unmarked(e)
	for _, p := range e.Props {
		if e.Type == "value" {
			return flowValue(p.Value)
		}
		parts = append(parts, flowKey(p.Name)+": "+flowValue(p.Value))
	}
	for _, c := range e.Children {
		if e.Type == "list" {
			parts = append(parts, flow(c))
		} else {
			parts = append(parts, flowKey(c.Key)+": "+flow(c))
		}
	}
	if e.Type == "list" {
		return marks + "[" + strings.Join(parts, ", ") + "]"
	}
	return marks + "{" + strings.Join(parts, ", ") + "}"
}

// flowKey writes the key of a member on one line with others.
func flowKey(name string) string {
	if key := keyFor(name); !strings.ContainsAny(key, ",[]{} ") || strings.HasPrefix(key, `"`) {
		return key
	}
	return doubleQuoted(name)
}

func flowValue(v element.Value) string {
	if v.Sort() == element.List {
		parts := make([]string, len(v.Items()))
		for i, it := range v.Items() {
			parts[i] = flowValue(it)
		}
		return "[" + strings.Join(parts, ", ") + "]"
	}
	if text := v.Text(); v.Sort() == element.Text && strings.ContainsAny(text, ",[]{}") {
		return doubleQuoted(text)
	}
	return scalar(v, "")
}

// scalar writes a scalar on one line, in the quotes of like where it has some.
func scalar(v element.Value, like string) string {
	switch v.Sort() {
	case element.Null:
		return "null"
	case element.Text:
	case element.List:
		return flowValue(v)
	default:
		return v.Text()
	}
	s := v.Text()
	switch {
	case strings.HasPrefix(like, "'") && !strings.ContainsAny(s, "\n\r\t\u0085\u2028\u2029") && printable(s):
		return "'" + strings.ReplaceAll(s, "'", "''") + "'"
	case strings.HasPrefix(like, `"`) || !plain(s):
		return doubleQuoted(s)
	}
	return s
}

func printable(s string) bool {
	return strings.IndexFunc(s, func(r rune) bool { return r < ' ' || r == 0x7f || r == 0xfeff || r >= 0x80 && r < 0xa0 }) < 0
}

// former are words that stood for true and false in YAML 1.1, which many programs
// still read.
var former = map[string]bool{"y": true, "n": true, "yes": true, "no": true, "on": true, "off": true}

// plain reports whether a text can stand without quotes.
func plain(s string) bool {
	if s == "" || former[strings.ToLower(s)] || strings.ContainsAny(s, "\n\r\t") || strings.TrimSpace(s) != s || len(s) > 1000 ||
		!printable(s) {
		return false
	}
	var n yaml.Node
	if err := yaml.Unmarshal([]byte("k: "+s+"\n"), &n); err != nil || len(n.Content) != 1 || len(n.Content[0].Content) != 2 {
		return false
	}
	v := n.Content[0].Content[1]
	return v.Kind == yaml.ScalarNode && v.Style == 0 && v.ShortTag() == "!!str" && v.Value == s && v.LineComment == "" &&
		n.Content[0].Content[0].Value == "k"
}

// doubleQuoted writes a text in JSON's form, which YAML takes.
func doubleQuoted(s string) string {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	_ = enc.Encode(s) // a string always encodes
	return strings.NewReplacer("\u007f", `\u007f`, "\u0085", `\u0085`, "\ufeff", `\ufeff`).Replace(strings.TrimSuffix(b.String(), "\n"))
}

// literal writes a text of several lines as a block, else on one line. lead is
// what stands before the key.
func literal(v element.Value, like, lead string) string {
	s := v.Text()
	if v.Sort() != element.Text || !strings.HasPrefix(like, "|") || strings.HasPrefix(s, " ") || strings.TrimRight(s, "\n") == "" ||
		!printable(strings.ReplaceAll(s, "\n", "")) {
		return scalar(v, `"`)
	}
	head := "|"
	if !strings.HasSuffix(s, "\n") {
		head = "|-"
	} else if strings.HasSuffix(s, "\n\n") {
		head = "|+"
	}
	indent := strings.Repeat(" ", len([]rune(lead))+2)
	if _, body, ok := strings.Cut(like, "\n"); ok {
		if first := body[:len(body)-len(strings.TrimLeft(body, " "))]; first != "" {
			indent = first
		}
	}
	lines := strings.Split(strings.TrimSuffix(s, "\n"), "\n")
	for i, l := range lines {
		if l != "" {
			lines[i] = indent + l
		}
	}
	return head + "\n" + strings.Join(lines, "\n")
}
