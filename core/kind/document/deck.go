package document

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind/linked"
)

// deckLayout is that of PresentationML: each slide is a part, and so are its notes. Their
// names count slides, and so do the ids of slides; both are told as which slide it is.
type deckLayout struct{}

const (
	deckPart  = "ppt/presentation.xml"
	slideList = "sldIdLst"

	ownSlide = "own slide"
	ownNotes = "own notes"
	toSlide  = "slide "
)

// deck is the slides of a package.
type deck struct {
	raw    *element.Element
	slides []*deckSlide
	byPart map[string]*deckSlide
	// lost says that something refers to a slide that nothing tells apart.
	lost bool
}

// deckSlide is a slide: its parts, and by what it is called.
type deckSlide struct {
	part, notes, id string
	key, title      string // the title is as the slide has it
	word, said      string // how others refer to it
	entry           *element.Element
}

// local gives a type without its prefix.
func local(typ string) string {
	_, name, ok := strings.Cut(typ, ":")
	if !ok {
		return typ
	}
	return name
}

func childOf(e *element.Element, name string) *element.Element {
	if e == nil {
		return nil
	}
	i := slices.IndexFunc(e.Children, func(c *element.Element) bool { return local(c.Type) == name })
	if i < 0 {
		return nil
	}
	return e.Children[i]
}

// newDeck finds the slides of a package.
func newDeck(raw *element.Element) (*deck, error) {
	d := &deck{raw: raw, byPart: map[string]*deckSlide{}}
	top, list := linked.Root(raw, deckPart), linked.Root(raw, linked.RelationsOf(deckPart))
	ids := childOf(top, slideList)
	if list == nil || ids == nil || childOf(top, "custShowLst") != nil {
		return nil, errNoDocument
	}
	leads := map[string]string{}
	for _, r := range list.Children {
		leads[r.Prop("Id").Text()] = linked.Target(deckPart, r.Prop("Target").Text())
	}
	reference := linked.Reference(top)
	for _, entry := range ids.Children {
		s := &deckSlide{id: entry.Prop("id").Text(), entry: entry, part: leads[entry.Prop(reference).Text()]}
		if linked.Root(raw, s.part) == nil || d.byPart[s.part] != nil || s.id == "" {
			return nil, errors.New("a slide has no part, no id, or the part of another")
		}
		s.notes = d.notesOf(s.part)
		if s.notes != "" && d.byPart[s.notes] != nil {
			return nil, errors.New("two slides have the same notes")
		}
		d.byPart[s.part], d.byPart[s.notes] = s, s
		d.slides = append(d.slides, s)
	}
	delete(d.byPart, "")
	roots := make([]*element.Element, len(d.slides))
	for i, s := range d.slides {
		roots[i] = linked.Root(raw, s.part)
	}
	call(d.slides, roots)
	return d, nil
}

// notesOf gives the part with the notes of a slide, empty for none.
func (d *deck) notesOf(part string) string {
	list := linked.Root(d.raw, linked.RelationsOf(part))
	if list == nil {
		return ""
	}
	for _, r := range list.Children {
		if strings.HasSuffix(r.Prop("Type").Text(), "/notesSlide") {
			if p := linked.Target(part, r.Prop("Target").Text()); linked.Root(d.raw, p) != nil {
				return p
			}
		}
	}
	return ""
}

// call gives every slide its key, and the word by which others refer to it: its title or,
// where that is not its alone, all that it says. A slide that nothing tells apart has none.
func call(slides []*deckSlide, roots []*element.Element) {
	titles := make([]*element.Element, len(slides))
	times := map[string]int{}
	for i, s := range slides {
		s.title = slideTitle(roots[i])
		s.word, s.said = toSlide+s.title, toSlide+"that says "+words(roots[i])
		titles[i] = &element.Element{Type: "slide", Key: s.title}
		times[s.word]++
		times[s.said]++
	}
	element.Distinguish(titles)
	for i, s := range slides {
		s.key = titles[i].Key
		if s.title == "" || times[s.word] > 1 {
			s.word = s.said
		}
		if times[s.word] > 1 {
			s.word = ""
		}
	}
}

// slideTitle is the text of the title of a slide.
func slideTitle(root *element.Element) string {
	tree := childOf(childOf(root, "cSld"), "spTree")
	if tree == nil {
		return ""
	}
	for _, shape := range tree.Children {
		ph := childOf(childOf(childOf(shape, "nvSpPr"), "nvPr"), "ph")
		if ph == nil {
			continue
		}
		if sort := ph.Prop("type").Text(); sort == "title" || sort == "ctrTitle" {
			return words(shape)
		}
	}
	return ""
}

func (d *deck) say(owner, to string) string {
	part := linked.Target(owner, to)
	s := d.byPart[part]
	switch {
	case s == nil:
		return to
	case owner == s.notes:
		return ownSlide
	case part == s.notes && owner == s.part:
		return ownNotes
	case part == s.notes:
		return to
	case owner == deckPart:
		return toSlide + s.part
	}
	d.lost = d.lost || s.word == ""
	return s.word
}

// The parts of a slide in the view, by what each is.
var slideParts = []string{"slide", "relations", "notes", "notes-relations"}

// names gives the parts of a slide in that order.
func (s *deckSlide) names() []string {
	out := []string{s.part, linked.RelationsOf(s.part)}
	if s.notes != "" {
		out = append(out, s.notes, linked.RelationsOf(s.notes))
	}
	return out
}

func (l deckLayout) view(raw *element.Element) (*view, error) {
	d, err := newDeck(raw)
	if err != nil {
		return nil, err
	}
	said := linked.Speech{Say: d.say}.InWords(raw)
	slides := &element.Element{Type: slidesType, Key: holderKey, Ordered: true, Firm: true}
	lifted := map[string]bool{}
	for _, s := range d.slides {
		e := &element.Element{Type: "slide", Key: s.key, Gist: words(linked.Root(raw, s.part))}
		for i, name := range s.names() {
			lifted[name] = true
			if p := linked.Part(said, name); p != nil && i == 0 {
				e.Add(titled(uncounted(linked.Named(p, slideParts[i])), s.title))
			} else if p != nil {
				e.Add(linked.Named(p, slideParts[i]))
			}
		}
		slides.Add(e)
	}
	out := (&element.Element{Type: "document", Gist: raw.Gist}).Add(slides)
	for _, p := range linked.Without(said, func(name string) bool { return lifted[name] }).Children {
		if p.Key == deckPart && len(p.Children) == 1 {
			p = linked.WithRoot(p, d.sectionsInWords(emptied(p.Children[0])))
		}
		out.Add(p)
	}
	if d.lost {
		return nil, errors.New("something refers to a slide that nothing tells apart")
	}
	return &view{out, linked.Placed(out)}, nil
}

// emptied gives the root of a presentation whose list of slides is empty.
func emptied(top *element.Element) *element.Element {
	c := *top
	c.Children = slices.Clone(top.Children)
	for i, k := range c.Children {
		if local(k.Type) == slideList {
			list := *k
			list.Children = nil
			c.Children[i] = &list
		}
	}
	return &c
}

// sectionsInWords says which slides a presentation's sections hold.
func (d *deck) sectionsInWords(top *element.Element) *element.Element {
	byID := map[string]*deckSlide{}
	for _, s := range d.slides {
		byID[s.id] = s
	}
	return renamedEntries(top, func(id string) string {
		s := byID[id]
		if s == nil {
			return id
		}
		d.lost = d.lost || s.word == ""
		return s.word
	})
}

// renamedEntries gives a tree whose entries of slides, outside of the list, have other ids.
func renamedEntries(e *element.Element, say func(string) string) *element.Element {
	out := *e
	if id := e.Prop("id"); local(e.Type) == "sldId" && !id.IsAbsent() {
		out.Set("id", element.TextValue(say(id.Text())))
		if out.Key == id.Text() {
			out.Key = out.Prop("id").Text()
		}
	}
	out.Children = make([]*element.Element, len(e.Children))
	for i, c := range e.Children {
		out.Children[i] = renamedEntries(c, say)
	}
	return &out
}

// deckWriter puts slides back into parts.
type deckWriter struct {
	had    *deck
	slides []*deckSlide
	byWord map[string]*deckSlide
	byPart map[string]*deckSlide
}

func (l deckLayout) raw(raw, want *element.Element) (*element.Element, error) {
	had, err := newDeck(raw)
	if err != nil {
		return nil, err
	}
	holder := holderOf(want, slidesType)
	if holder == nil {
		return nil, errors.New("the slides are missing")
	}
	w := &deckWriter{had: had, byWord: map[string]*deckSlide{}, byPart: map[string]*deckSlide{}}
	haveView, err := l.view(raw)
	if err != nil {
		return nil, err
	}
	w.assign(holder, holderOf(haveView.root, slidesType))
	out := &element.Element{Type: raw.Type, Gist: raw.Gist, Ordered: raw.Ordered}
	titles, roots := own(holder.Children), make([]*element.Element, len(holder.Children))
	for i, e := range holder.Children {
		if e.Type != "slide" {
			return nil, errors.New("a deck has slides alone")
		}
		names := w.slides[i].names()
		for _, p := range e.Children {
			at := slices.Index(slideParts, p.Key)
			if at < 0 || at >= len(names) {
				return nil, fmt.Errorf("a slide has no part %s", p.Key)
			}
			if p = entitled(linked.Named(p, names[at]), titles[i]); at == 0 {
				p = counted(p, linked.Part(raw, names[at]))
			}
			if out.Add(p); at == 0 && len(p.Children) == 1 {
				roots[i] = p.Children[0]
			}
		}
		if roots[i] == nil {
			return nil, errors.New("a slide has no part of its own")
		}
	}
	call(w.slides, roots)
	for _, s := range w.slides {
		w.byWord[s.word] = s
	}
	var own []string
	for _, p := range out.Children {
		own = append(own, p.Key)
	}
	for _, p := range want.Children {
		if p == holder {
			continue
		}
		if p.Key == deckPart && len(p.Children) == 1 {
			p = linked.WithRoot(p, w.listed(p.Children[0]))
		}
		out.Add(p)
	}
	return linked.Speech{Say: had.say, Lead: w.lead}.InIDs(raw, linked.Declared(raw, out, own, contentTypeOf))
}

// assign gives every wanted slide its parts: those that it had, or new ones.
func (w *deckWriter) assign(want, have *element.Element) {
	w.slides = make([]*deckSlide, len(want.Children))
	taken := make([]bool, len(have.Children))
	pair := func(alike func(a, b *element.Element) bool) {
		for i, e := range want.Children {
			for j, h := range have.Children {
				if w.slides[i] == nil && !taken[j] && alike(e, h) {
					s := *w.had.slides[j]
					w.slides[i], taken[j] = &s, true
				}
			}
		}
	}
	pair(func(a, b *element.Element) bool { return a.Sum() == b.Sum() })
	pair(func(a, b *element.Element) bool { return a.Key == b.Key && a.Key != "" })
	pair(func(a, b *element.Element) bool { return len(want.Children) == len(have.Children) })
	fresh, ids := linked.Fresh(w.had.raw), 255
	for _, s := range w.had.slides {
		if n, err := strconv.Atoi(s.id); err == nil {
			ids = max(ids, n)
		}
	}
	for i, e := range want.Children {
		s := w.slides[i]
		if s == nil {
			ids++
			s = &deckSlide{part: fresh("ppt/slides/slide%d.xml"), id: strconv.Itoa(ids)}
			w.slides[i] = s
		}
		switch notes := linked.Part(e, "notes"); {
		case notes == nil:
			s.notes = ""
		case s.notes == "":
			s.notes = fresh("ppt/notesSlides/notesSlide%d.xml")
		}
		w.byPart[s.part], w.byPart[s.notes] = s, s
	}
}

// lead gives the target of a relation, as seen from its owner.
func (w *deckWriter) lead(owner, word string) (string, error) {
	to := ""
	switch s := w.byPart[owner]; {
	case word == ownSlide && s != nil:
		to = s.part
	case word == ownNotes && s != nil:
		to = s.notes
	case !strings.HasPrefix(word, toSlide):
		return word, nil
	case owner == deckPart && w.byPart[strings.TrimPrefix(word, toSlide)] != nil:
		to = strings.TrimPrefix(word, toSlide)
	case w.byWord[word] == nil:
		return "", fmt.Errorf("%s refers to the %s, which is not there", owner, word)
	default:
		to = w.byWord[word].part
	}
	return linked.From(owner, to), nil
}

// listed gives the root of the presentation with its list of slides.
func (w *deckWriter) listed(top *element.Element) *element.Element {
	top = renamedEntries(top, func(word string) string {
		if s := w.byWord[word]; s != nil && word != "" {
			return s.id
		}
		return word
	})
	prefix, _, _ := strings.Cut(top.Type, ":")
	reference := linked.Reference(top)
	list := &element.Element{Type: prefix + ":" + slideList, Ordered: true}
	at := slices.IndexFunc(top.Children, func(c *element.Element) bool { return local(c.Type) == slideList })
	if at >= 0 {
		c := *top.Children[at]
		list, top.Children = &c, slices.Delete(top.Children, at, at+1)
	} else {
		for at = 0; at < len(top.Children) && strings.HasSuffix(top.Children[at].Type, "MasterIdLst"); at++ {
		}
	}
	for _, s := range w.slides {
		e := &element.Element{Type: prefix + ":sldId", Key: s.id, Ordered: true, Firm: true}
		if s.entry != nil {
			*e = *s.entry
		}
		e.Set("id", element.TextValue(s.id))
		e.Set(reference, element.TextValue(linked.Below))
		list.Children = append(list.Children,
			e.Add(&element.Element{Type: "Relationship", Key: reference, Firm: true, Props: []element.Prop{
				{Name: "Type", Value: element.TextValue("http://schemas.openxmlformats.org/officeDocument/2006/relationships/slide")},
				{Name: "Target", Value: element.TextValue(toSlide + s.part)}}}))
	}
	if len(list.Children) > 0 || at >= 0 {
		top.Children = slices.Insert(top.Children, at, list)
	}
	return top
}

// contentTypeOf gives the type of contents of a new part of a slide; lists of relations have
// one by default.
func contentTypeOf(part string) string {
	sort := "slide"
	switch _, list := linked.OwnerOf(part); {
	case list:
		return ""
	case strings.Contains(part, "/notesSlides/"):
		sort = "notesSlide"
	}
	return "application/vnd.openxmlformats-officedocument.presentationml." + sort + "+xml"
}
