package settings

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/element"
)

// splice replaces a run of bytes of the document.
type splice struct {
	from, to int
	text     string
	order    int // of splices at one place
}

// editor changes a document into another tree.
type editor struct {
	syntax
	doc     *document
	at      places
	splices []splice
	opened  map[string]bool // headers that were written for objects without one
	done    map[*entry]bool // entries whose value was a list and is replaced
}

// rewrite gives the text of the document once its tree is d.B.
func (w *editor) rewrite(d *element.Delta) (string, error) {
	if err := w.object(d); err != nil {
		return "", err
	}
	slices.SortStableFunc(w.splices, func(a, b splice) int {
		return cmp.Or(cmp.Compare(a.from, b.from), cmp.Compare(a.to, b.to), cmp.Compare(a.order, b.order))
	})
	var b strings.Builder
	last := 0
	for _, s := range w.splices {
		if s.from < last {
			return "", errPlace
		}
		b.WriteString(w.doc.src[last:s.from])
		if s.from == s.to && s.text != "" && b.Len() > 0 && !strings.HasSuffix(b.String(), "\n") {
			b.WriteString(w.newline())
		}
		b.WriteString(s.text)
		last = s.to
	}
	b.WriteString(w.doc.src[last:])
	return b.String(), nil
}

func (w *editor) newline() string {
	if strings.Contains(w.doc.src, "\r\n") {
		return "\r\n"
	}
	return "\n"
}

func (w *editor) put(from, to int, text string) {
	w.splices = append(w.splices, splice{from: from, to: to, text: text})
}

// object turns an object into the one that is wanted.
func (w *editor) object(d *element.Delta) error {
	p := w.at[d.A]
	if p.entry != nil {
		return w.whole(p.entry, d)
	}
	for _, e := range d.Props {
		if err := w.property(p, d.B, e); err != nil {
			return err
		}
	}
	if len(d.Kids) > 0 && d.A.Type == "list" {
		return w.list(d)
	}
	for _, k := range d.Kids {
		var err error
		switch {
		case k.To < 0:
			err = w.remove(d.A.Children[k.From])
		case k.From < 0:
			err = w.create(d, k.To, p)
		case k.Delta != nil:
			if inner := w.at[k.Delta.A].entry; inner != nil {
				err = w.whole(inner, k.Delta)
			} else {
				err = w.object(k.Delta)
			}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// whole writes an entry anew whose value is a list or an object.
func (w *editor) whole(e *entry, d *element.Delta) error {
	text, err := w.syntax.object(d.B)
	if err == nil {
		w.put(e.valueAt, e.valueTo, text)
	}
	return err
}

func (w *editor) property(p place, want *element.Element, e element.PropEdit) error {
	old := w.entryOf(p, e.Name)
	switch {
	case e.To.IsAbsent() && old != nil:
		w.put(w.withRemarks(old.from), old.to, "")
	case e.To.IsAbsent():
		return errPlace
	case old != nil:
		text, err := w.syntax.value(e.To, w.doc.src[old.valueAt:old.valueTo])
		if err != nil {
			return err
		}
		w.put(old.valueAt, old.valueTo, text)
		w.done[old] = true
	case p.in == nil:
		text, err := w.syntax.value(e.To, "")
		if err != nil {
			return err
		}
		return w.open(p, e.Name, text)
	default:
		text, err := w.syntax.value(e.To, "")
		if err != nil {
			return err
		}
		return w.entry(p, e.Name, text, w.behind(p, want, e.Name))
	}
	return nil
}

// behind gives where an entry stands that another one follows in the wanted object; the
// section's end for none.
func (w *editor) behind(p place, want *element.Element, name string) *entry {
	at := slices.IndexFunc(want.Props, func(x element.Prop) bool { return x.Name == name })
	for i := at - 1; i >= 0; i-- {
		if e := w.entryOf(p, want.Props[i].Name); e != nil {
			return e
		}
	}
	return nil
}

// open gives a header to an object that had none, for its first entry.
func (w *editor) open(p place, name, value string) error {
	head, err := w.syntax.header(p.path, false)
	if err != nil {
		return err
	}
	head += w.newline()
	if w.opened == nil {
		w.opened = map[string]bool{}
	}
	if w.opened[head] {
		head = ""
	}
	w.opened[head] = true
	first := slices.IndexFunc(w.doc.sections, func(s *section) bool { return under(s.path, p.path) })
	if first < 0 {
		return errPlace
	}
	key, err := w.syntax.key([]string{name})
	if err == nil {
		w.put(w.doc.sections[first].from, w.doc.sections[first].from, head+key+w.syntax.sign()+value+w.newline())
	}
	return err
}

func under(path, of []string) bool {
	return len(path) >= len(of) && slices.Equal(path[:len(of)], of)
}

func (w *editor) entryOf(p place, name string) *entry {
	if p.in == nil {
		return nil
	}
	want := append(p.prefix[:len(p.prefix):len(p.prefix)], name)
	for _, e := range p.in.entries {
		if slices.Equal(e.path, want) {
			return e
		}
	}
	return nil
}

// entry adds an entry behind another one, or at the end of a section, laid out like the
// last one there.
func (w *editor) entry(p place, name, value string, behind *entry) error {
	key, err := w.syntax.key(append(p.prefix[:len(p.prefix):len(p.prefix)], name))
	if err != nil {
		return err
	}
	indent, sign := "", w.syntax.sign()
	if n := len(p.in.entries); n > 0 {
		e := p.in.entries[n-1]
		line := w.doc.src[e.from:e.valueAt]
		indent = line[:len(line)-len(strings.TrimLeft(line, " \t"))]
		sign = signOf(line, sign)
	}
	at := p.in.end
	if behind != nil {
		at = behind.to
	}
	w.put(at, at, indent+key+sign+value+w.newline())
	return nil
}

// signOf gives the sign behind the key of a line, with the space around it.
func signOf(line, usual string) string {
	i := strings.LastIndexAny(line, "=:")
	if i < 0 {
		return usual
	}
	from := len(strings.TrimRight(line[:i], " \t"))
	if sign := line[from:]; len(sign) <= 3 { // more is meant to stand in columns
		return sign
	}
	return usual
}

func (w *editor) line(path []string, v element.Value) (string, error) {
	key, err := w.syntax.key(path)
	if err != nil {
		return "", err
	}
	value, err := w.syntax.value(v, "")
	return key + w.syntax.sign() + value, err
}

// remove takes an object or a list away, with its sections.
func (w *editor) remove(e *element.Element) error {
	p := w.at[e]
	if p.entry != nil {
		if !w.done[p.entry] {
			w.put(w.withRemarks(p.entry.from), p.entry.to, "")
		}
		return nil
	}
	if e.Type == "item" || p.in == nil || len(p.prefix) == 0 {
		return w.sections(e)
	}
	for _, x := range p.in.entries {
		if under(x.path, p.prefix) {
			w.put(w.withRemarks(x.from), x.to, "")
		}
	}
	return nil
}

// sections takes away the sections of an element and of all that is in it.
func (w *editor) sections(e *element.Element) error {
	found := false
	var visit func(*element.Element)
	visit = func(e *element.Element) {
		if p := w.at[e]; p.in != nil && p.entry == nil && p.in.root == e {
			w.put(w.withSpace(w.withRemarks(p.in.from), w.last(p.in)))
			found = true
		}
		for _, c := range e.Children {
			visit(c)
		}
	}
	visit(e)
	if !found {
		return errPlace
	}
	return nil
}

// withSpace gives a run of lines that goes, with the free lines that would be left over: those behind it where one stands
// before it too, those before it at the end of the document.
func (w *editor) withSpace(from, to int) (int, int, string) {
	src := w.doc.src
	before, behind := from, to
	for before > 0 {
		above := strings.LastIndexByte(src[:before-1], '\n') + 1
		if strings.TrimSpace(src[above:before]) != "" {
			break
		}
		before = above
	}
	for behind < len(src) {
		_, next := lineAt(src, behind)
		if strings.TrimSpace(src[behind:next]) != "" {
			break
		}
		behind = next
	}
	switch {
	case behind == len(src):
		return before, to, ""
	case before < from || from == 0:
		return from, behind, ""
	}
	return from, to, ""
}

// withRemarks gives where the comments begin that stand right above a line, and are about
// it.
func (w *editor) withRemarks(line int) int {
	for line > 0 {
		above := strings.LastIndexByte(w.doc.src[:line-1], '\n') + 1
		body := strings.TrimSpace(strings.TrimPrefix(w.doc.src[above:line], "\ufeff"))
		if body == "" || strings.IndexByte(w.syntax.remarks(), body[0]) < 0 {
			break
		}
		if line = above; strings.HasPrefix(w.doc.src[above:], "\ufeff") {
			line += len("\ufeff")
			break
		}
	}
	return line
}

// last gives where what belongs to a section ends: with its last entry.
func (w *editor) last(s *section) int { return max(s.to, s.end) }

// create writes a new object or list: a list of more than objects as an entry of
// its owner, others as sections of their own.
func (w *editor) create(d *element.Delta, to int, owner place) error {
	in, e := d.A, d.B.Children[to]
	if e.Type == "list" && !allObjects(e) {
		value, err := w.syntax.object(e)
		switch {
		case err != nil:
			return err
		case owner.in == nil:
			return w.open(owner, e.Key, value)
		}
		return w.entry(owner, e.Key, value, nil)
	}
	text, err := w.render(append(owner.path[:len(owner.path):len(owner.path)], e.Key), e, false)
	if err != nil {
		return err
	}
	if at, found := w.beside(d, to); found {
		w.splices = append(w.splices, splice{at, at, w.newline() + text, behindEntries})
	} else if at, found := w.before(d, to); found && len(owner.path) == 0 {
		w.put(at, at, text+w.newline())
	} else if end := w.endOf(in); len(owner.path) > 0 && end > 0 {
		w.splices = append(w.splices, splice{end, end, w.newline() + text, behindEntries})
	} else {
		w.append(text)
	}
	return nil
}

// beside gives where the sections end of the sibling that a new one follows.
func (w *editor) beside(d *element.Delta, to int) (int, bool) {
	for i := to - 1; i >= 0; i-- {
		for _, k := range d.Kids {
			if k.To != i || k.From < 0 {
				continue
			}
			e := d.A.Children[k.From]
			if p := w.at[e]; p.entry == nil && w.endOf(e) > 0 {
				return w.endOf(e), true
			}
		}
	}
	return 0, false
}

// before gives where the section begins of the sibling that a new one precedes, when that is
// the first of the document.
func (w *editor) before(d *element.Delta, to int) (int, bool) {
	if len(w.doc.sections) < 2 {
		return 0, false
	}
	first := w.doc.sections[1]
	for _, k := range d.Kids {
		if k.To <= to || k.From < 0 {
			continue
		}
		if p := w.at[d.A.Children[k.From]]; p.in == first && p.entry == nil {
			return w.withRemarks(first.from), true
		}
	}
	return 0, false
}

// append writes text at the end of the document, a free line before it.
func (w *editor) append(text string) {
	end := len(w.doc.src)
	if strings.TrimSpace(w.doc.src) != "" && !strings.HasSuffix(w.doc.src, "\n\n") {
		text = w.newline() + text
	}
	w.splices = append(w.splices, splice{end, end, text, behindItems})
}

// The order of what is put at one place: entries, then sections of the same
// object, then further items of its list, then other sections.
const (
	behindEntries = iota + 1
	asItem
	behindItems
)

// render writes the sections of an object or a list.
func (w *editor) render(path []string, e *element.Element, item bool) (string, error) {
	var b strings.Builder
	if e.Type == "list" && w.syntax.nests() && allObjects(e) {
		for i, it := range e.Children {
			text, err := w.render(path, it, true)
			if err != nil {
				return "", err
			}
			if i > 0 {
				b.WriteString(w.newline())
			}
			b.WriteString(text)
		}
		return b.String(), nil
	}
	head, err := w.syntax.header(path, item)
	if err != nil {
		return "", err
	}
	b.WriteString(head + w.newline())
	for _, p := range e.Props {
		line, err := w.line([]string{p.Name}, p.Value)
		if err != nil {
			return "", err
		}
		b.WriteString(line + w.newline())
	}
	var later []string
	for _, c := range e.Children {
		if c.Type == "list" && !allObjects(c) {
			key, err := w.syntax.key([]string{c.Key})
			if err != nil {
				return "", err
			}
			value, err := w.syntax.object(c)
			if err != nil {
				return "", err
			}
			b.WriteString(key + w.syntax.sign() + value + w.newline())
			continue
		}
		if !w.syntax.nests() {
			return "", fmt.Errorf("a section can't lie in another: %s", c.Key)
		}
		text, err := w.render(append(path[:len(path):len(path)], c.Key), c, false)
		if err != nil {
			return "", err
		}
		later = append(later, text)
	}
	for _, text := range later {
		b.WriteString(w.newline() + text)
	}
	return b.String(), nil
}

func allObjects(list *element.Element) bool {
	return len(list.Children) > 0 && !slices.ContainsFunc(list.Children, func(c *element.Element) bool { return c.Type != "item" })
}

// list turns a list of sections into the one that is wanted. New items go behind
// those that stay.
func (w *editor) list(d *element.Delta) error {
	p := w.at[d.A]
	after := -1 // where the sections of the last item end
	for _, k := range d.Kids {
		switch {
		case k.Moved:
			return errPlace
		case k.To < 0:
			if err := w.remove(d.A.Children[k.From]); err != nil {
				return err
			}
		case k.From < 0:
			text, err := w.render(p.path, d.B.Children[k.To], true)
			if err != nil {
				return err
			}
			if after < 0 {
				if len(d.A.Children) == 0 {
					return errPlace
				}
				at := w.at[d.A.Children[0]].in.from
				w.put(at, at, text+w.newline())
			} else {
				w.splices = append(w.splices, splice{after, after, w.newline() + text, asItem})
			}
			continue
		case k.Delta != nil:
			if err := w.object(k.Delta); err != nil {
				return err
			}
		}
		if k.To >= 0 {
			after = w.endOf(d.A.Children[k.From])
		}
	}
	return nil
}

// endOf gives where the last section of an element ends.
func (w *editor) endOf(e *element.Element) int {
	end := 0
	if p := w.at[e]; p.in != nil {
		end = w.last(p.in)
	}
	for _, c := range e.Children {
		end = max(end, w.endOf(c))
	}
	return end
}
