package state

import (
	"fmt"
	"math/rand/v2"
	"slices"
)

// A paper is what a document means, apart from any format: sections with entries, a list of
// words and a list of things with ids. Each piece has a number that it keeps whatever becomes
// of it, so that the merge of three papers is known without any matching.
type paper struct {
	sections []*section
	// crlf and mark say how the text is as a whole.
	crlf, mark bool
}

type section struct {
	id      int
	name    string
	remark  string
	entries []*entry
	words   []string
	things  []*thing
	// loose are things that have nothing but themselves to be known by.
	loose []*loose
}

type loose struct {
	id    int
	props [3]string
}

type entry struct {
	id         int
	key, value string
	remark     string // on the line above
	beside     string // on its line
	quoted     bool
}

type thing struct {
	id     int
	name   string
	fields [2]string
	remark string
}

func (p *paper) clone() *paper {
	out := &paper{crlf: p.crlf, mark: p.mark}
	for _, s := range p.sections {
		c := *s
		c.words = slices.Clone(s.words)
		c.entries, c.things, c.loose = nil, nil, nil
		for _, l := range s.loose {
			x := *l
			c.loose = append(c.loose, &x)
		}
		for _, e := range s.entries {
			x := *e
			c.entries = append(c.entries, &x)
		}
		for _, t := range s.things {
			x := *t
			c.things = append(c.things, &x)
		}
		out.sections = append(out.sections, &c)
	}
	return out
}

// hand edits a paper as one person would.
type hand struct {
	*rand.Rand
	next *int
	who  string
	// f says what the format can hold.
	f format
}

func (h hand) number() int { *h.next++; return *h.next }

func (h hand) word() string {
	return []string{"reef", "kelp", "ray", "coral", "tide", "gravel", "lamp", "pump"}[h.IntN(8)] + fmt.Sprint(h.number())
}

func (h hand) remark() string { return fmt.Sprintf("remark %d of %s", h.number(), h.who) }

func (h hand) paper() *paper {
	p := &paper{}
	for range 2 + h.IntN(3) {
		p.sections = append(p.sections, h.section())
	}
	return p
}

func (h hand) section() *section {
	s := &section{id: h.number(), name: h.word(), remark: h.maybe()}
	for range 2 + h.IntN(4) {
		s.entries = append(s.entries, h.entry())
	}
	if h.f.lists {
		for range h.IntN(4) {
			s.words = append(s.words, h.word())
		}
		for range h.IntN(4) {
			s.things = append(s.things, h.thing())
		}
		for range h.IntN(5) - 1 {
			s.loose = append(s.loose, h.loose())
		}
	}
	return s
}

func (h hand) maybe() string {
	if h.f.remarks && h.IntN(3) == 0 {
		return h.remark()
	}
	return ""
}

func (h hand) entry() *entry {
	e := &entry{id: h.number(), key: h.word(), value: h.value(), remark: h.maybe(), quoted: h.IntN(3) == 0}
	if h.f.beside {
		e.beside = h.maybe()
	}
	return e
}

func (h hand) value() string {
	if h.IntN(2) == 0 {
		return fmt.Sprint(h.number())
	}
	return "the " + h.word()
}

func (h hand) thing() *thing {
	return &thing{id: h.number(), name: h.word(), fields: [2]string{h.value(), h.value()}, remark: h.maybe()}
}

func (h hand) loose() *loose { return &loose{h.number(), [3]string{h.word(), h.value(), h.value()}} }

// edit changes one thing.
func (h hand) edit(p *paper) {
	if len(p.sections) == 0 {
		p.sections = append(p.sections, h.section())
		return
	}
	s := p.sections[h.IntN(len(p.sections))]
	switch h.IntN(26) {
	case 0:
		p.sections = slices.Insert(p.sections, h.IntN(len(p.sections)+1), h.section())
	case 1:
		if len(p.sections) > 2 {
			p.sections = slices.DeleteFunc(p.sections, func(x *section) bool { return x == s })
		}
	case 2, 3:
		s.entries = slices.Insert(s.entries, h.IntN(len(s.entries)+1), h.entry())
	case 4:
		if len(s.entries) > 1 {
			i := h.IntN(len(s.entries))
			s.entries = slices.Delete(s.entries, i, i+1)
		}
	case 5, 6, 7:
		s.entries[h.IntN(len(s.entries))].value = h.value()
	case 8:
		if h.f.remarks {
			s.entries[h.IntN(len(s.entries))].remark = h.remark()
		}
	case 9:
		if h.f.beside {
			s.entries[h.IntN(len(s.entries))].beside = h.remark()
		}
	case 10:
		s.entries[h.IntN(len(s.entries))].remark = ""
	case 11:
		e := s.entries[h.IntN(len(s.entries))]
		e.quoted = !e.quoted
	case 12:
		if h.f.lists {
			s.words = slices.Insert(s.words, h.IntN(2)*len(s.words), h.word())
		}
	case 13:
		if h.f.lists {
			s.things = slices.Insert(s.things, h.IntN(len(s.things)+1), h.thing())
		}
	case 14:
		if len(s.things) > 0 {
			s.things[h.IntN(len(s.things))].fields[h.IntN(2)] = h.value()
		}
	case 15:
		if h.f.remarks {
			s.remark = h.remark()
		}
	case 16:
		s.entries[h.IntN(len(s.entries))].key = h.word()
	case 17:
		if len(s.things) > 0 {
			s.things[h.IntN(len(s.things))].name = h.word()
		}
	case 18:
		if h.f.lists {
			s.loose = slices.Insert(s.loose, h.IntN(len(s.loose)+1), h.loose())
		}
	case 19:
		if len(s.loose) > 0 { // another thing in its place
			s.loose[h.IntN(len(s.loose))] = h.loose()
		}
	case 20:
		if len(s.loose) > 0 {
			s.loose[h.IntN(len(s.loose))].props[1+h.IntN(2)] = h.value()
		}
	case 21:
		if len(s.loose) > 1 { // elsewhere
			i := h.IntN(len(s.loose))
			l := s.loose[i]
			s.loose = slices.Delete(s.loose, i, i+1)
			s.loose = slices.Insert(s.loose, h.IntN(len(s.loose)+1), l)
		}
	case 22:
		if len(s.loose) > 0 {
			i := h.IntN(len(s.loose))
			s.loose = slices.Delete(s.loose, i, i+1)
		}
	case 23:
		if len(s.things) > 1 {
			i := h.IntN(len(s.things))
			s.things = slices.Delete(s.things, i, i+1)
		}
	case 24:
		if h.IntN(4) == 0 {
			p.crlf = !p.crlf
		}
	case 25:
		if h.IntN(4) == 0 && !h.f.markless {
			p.mark = !p.mark
		}
	}
}

// known is a merge of three papers, made by numbers.
type known struct {
	paper     *paper
	conflicts []string
	// both are remarks that the two put in at one place: they are a conflict, or stand there
	// both.
	both []string
	// soft are places where a conflict is as good as the outcome.
	soft []string
}

// loose merges things without keys. What both edited may be a conflict, and so may what one
// side moved and the other took away.
func (k *known) loose(b, m, t []*loose) []*loose {
	same := func(x, y *loose) bool { return x.props == y.props }
	place := func(list []*loose, n int) int {
		return slices.IndexFunc(list, func(l *loose) bool { return l.id == n })
	}
	for _, x := range b {
		i, j := place(m, x.id), place(t, x.id)
		switch {
		case i >= 0 && j >= 0 && !same(x, m[i]) && !same(x, t[j]):
			k.soft = append(k.soft, "both edited a loose thing")
		case (i < 0) != (j < 0):
			k.soft = append(k.soft, "a loose thing went") // from between things that came or moved
		}
	}
	if !slices.EqualFunc(b, m, same) && !slices.EqualFunc(b, t, same) {
		k.soft = append(k.soft, "both changed a list of loose things")
	}
	return pick(k, "loose thing", b, m, t, func(l *loose) int { return l.id }, same, func(b, m, t *loose) *loose {
		out := &loose{id: m.id}
		for i := range out.props {
			if b == nil {
				b = &loose{}
			}
			out.props[i] = k.value("loose", b.props[i], m.props[i], t.props[i])
		}
		return out
	})
}

// remark merges a remark.
func (k *known) remark(b, m, t string) string {
	if b == "" && m != "" && t != "" && m != t {
		k.both = append(k.both, m, t)
		return ""
	}
	return k.value("remark", b, m, t)
}

func (k *known) value(what, b, m, t string) string {
	switch {
	case m == t, t == b:
		return m
	case m == b:
		return t
	}
	k.conflicts = append(k.conflicts, what)
	return m
}

// pick merges lists of pieces by their numbers; alike says that a piece did not change.
func pick[T any](k *known, what string, b, m, t []*T, id func(*T) int, alike func(x, y *T) bool, blend func(b, m, t *T) *T) []*T {
	find := func(list []*T, n int) *T {
		for _, x := range list {
			if id(x) == n {
				return x
			}
		}
		return nil
	}
	var out []*T
	for _, x := range m {
		y, was := find(t, id(x)), find(b, id(x))
		switch {
		case y != nil:
			out = append(out, blend(was, x, y))
		case was == nil:
			out = append(out, x)
		case !alike(was, x):
			k.conflicts = append(k.conflicts, what+" edited and taken away")
		}
	}
	for _, y := range t {
		if find(m, id(y)) != nil {
			continue
		}
		switch was := find(b, id(y)); {
		case was == nil:
			out = append(out, y)
		case !alike(was, y):
			k.conflicts = append(k.conflicts, what+" taken away and edited")
		}
	}
	return out
}

func either(b, m, t bool) bool {
	if m == b {
		return t
	}
	return m
}

// blend gives what a merge has to come to.
func blend(b, m, t *paper) *known {
	k := &known{paper: &paper{crlf: either(b.crlf, m.crlf, t.crlf), mark: either(b.mark, m.mark, t.mark)}}
	// A remark that was taken away, and other quotes, say nothing for a piece to stay.
	kept := func(was, is string) bool { return is == "" || is == was }
	sameEntry := func(x, y *entry) bool {
		return x.key == y.key && x.value == y.value && kept(x.remark, y.remark) && kept(x.beside, y.beside)
	}
	sameThing := func(x, y *thing) bool {
		return x.name == y.name && x.fields == y.fields && kept(x.remark, y.remark)
	}
	sameSection := func(x, y *section) bool {
		return x.name == y.name && kept(x.remark, y.remark) && slices.Equal(x.words, y.words) &&
			slices.EqualFunc(x.loose, y.loose, func(x, y *loose) bool { return *x == *y }) &&
			slices.EqualFunc(x.entries, y.entries, sameEntry) && slices.EqualFunc(x.things, y.things, sameThing)
	}
	b, m, t = b.clone(), m.clone(), t.clone()
	m.rename(b, 1_000_000)
	t.rename(b, 2_000_000)
	k.paper.sections = pick(k, "section", b.sections, m.sections, t.sections, func(s *section) int { return s.id }, sameSection,
		func(b, m, t *section) *section {
			out := &section{id: m.id, name: k.value("name", b.name, m.name, t.name), remark: k.remark(b.remark, m.remark, t.remark)}
			out.entries = pick(k, "entry", b.entries, m.entries, t.entries, func(e *entry) int { return e.id }, sameEntry,
				func(b, m, t *entry) *entry {
					return &entry{id: m.id, key: k.renamed(b.key, m.key, t.key, b.value == m.value && b.value == t.value),
						value: k.value("value", b.value, m.value, t.value), remark: k.remark(b.remark, m.remark, t.remark),
						beside: k.remark(b.beside, m.beside, t.beside)}
				})
			out.things = pick(k, "thing", b.things, m.things, t.things, func(e *thing) int { return e.id }, sameThing,
				func(b, m, t *thing) *thing {
					return &thing{id: m.id, name: k.value("name", b.name, m.name, t.name), remark: k.remark(b.remark, m.remark, t.remark),
						fields: [2]string{k.value("field", b.fields[0], m.fields[0], t.fields[0]),
							k.value("field", b.fields[1], m.fields[1], t.fields[1])}}
				})
			out.loose = k.loose(b.loose, m.loose, t.loose)
			out.words = k.words(b.words, m.words, t.words)
			return out
		})
	return k
}

// renamed merges the key of an entry. An entry is known by its key alone: when one side
// gives it another one, and the other side changes it, that is a conflict.
func (k *known) renamed(b, m, t string, alike bool) string {
	if (b != m || b != t) && !alike {
		k.soft = append(k.soft, "an entry has another key and value")
	}
	return k.value("key", b, m, t)
}

// words merges lists that grow at their ends; what both put in at one end is a conflict or
// stands in either order.
func (k *known) words(b, m, t []string) []string {
	grown := func(x []string) (head, tail []string) {
		for i := 0; i+len(b) <= len(x); i++ {
			if slices.Equal(x[i:i+len(b)], b) {
				return x[:i], x[i+len(b):]
			}
		}
		return nil, x
	}
	mh, mt := grown(m)
	th, tt := grown(t)
	if len(mh) > 0 && len(th) > 0 || len(mt) > 0 && len(tt) > 0 {
		k.conflicts = append(k.conflicts, "words")
	}
	return slices.Concat(mh, th, b, mt, tt)
}

// rename makes other entries of those that got another key and another value: nothing is
// left to know them by.
func (p *paper) rename(b *paper, more int) {
	was := map[int]*entry{}
	for _, s := range b.sections {
		for _, e := range s.entries {
			was[e.id] = e
		}
	}
	for _, s := range p.sections {
		for _, e := range s.entries {
			if x := was[e.id]; x != nil && x.key != e.key && x.value != e.value {
				e.id += more
			}
		}
	}
}

// remarks lists all remarks of a paper.
func (p *paper) remarks() []string {
	var out []string
	for _, s := range p.sections {
		out = append(out, s.remark)
		for _, e := range s.entries {
			out = append(out, e.remark, e.beside)
		}
		for _, t := range s.things {
			out = append(out, t.remark)
		}
	}
	return slices.DeleteFunc(out, func(s string) bool { return s == "" })
}
