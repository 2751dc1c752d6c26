// Package linked is what kinds of Open Packaging (ECMA-376 part 2) share: parts of such a
// package refer to each other by numbers that any program gives anew when it saves. A view
// says in their place what they lead to, and has pictures where they are referred to.
package linked

import (
	"encoding/hex"
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind/nested"
)

// The list beside a part explains the ids by which it refers to others:
// `word/_rels/document.xml.rels` for `word/document.xml`. rId5 is a picture today and a link
// tomorrow. In the view an element that refers to something has it below itself, and the
// list has what nothing refers to by an id.

// OwnerOf gives the part that a list of relations belongs to, "" for that of the package
// itself; ok is false for other parts.
func OwnerOf(name string) (owner string, ok bool) {
	dir, base := path.Split(name)
	base, isList := strings.CutSuffix(base, ".rels")
	folder, inList := strings.CutSuffix(dir, "_rels/")
	return folder + base, isList && inList
}

// RelationsOf gives the name of the list of a part.
func RelationsOf(owner string) string {
	dir, base := path.Split(owner)
	return dir + "_rels/" + base + ".rels"
}

const (
	relationType = "Relationship"
	contentKey   = "content"
)

// references are the namespaces of attributes that hold ids of relations.
var references = map[string]bool{
	"http://schemas.openxmlformats.org/officeDocument/2006/relationships": true,
	"http://purl.oclc.org/ooxml/officeDocument/relationships":             true,
}

// Speech turns ids of relations into words, and back.
type Speech struct {
	// Say gives what a relation of a part leads to, for its target.
	Say func(owner, target string) string
	// Lead is the reverse.
	Lead func(owner, word string) (target string, err error)
}

// Plain is a speech in which targets are called as they are.
var Plain = Speech{
	Say:  func(_, target string) string { return target },
	Lead: func(_, word string) (string, error) { return word, nil },
}

// spoken is a speech about one package.
type spoken struct {
	Speech
	raw   *element.Element
	parts map[string]*element.Element
	shown map[string]bool // pictures that some relation leads to
}

func (s Speech) about(raw *element.Element) *spoken {
	out := &spoken{s, raw, map[string]*element.Element{}, map[string]bool{}}
	for _, p := range raw.Children {
		out.parts[p.Key] = p
	}
	return out
}

// list gives the root of the list of a part, nil for none.
func (s *spoken) list(owner string) *element.Element {
	p := s.parts[RelationsOf(owner)]
	if p == nil || len(p.Children) != 1 {
		return nil
	}
	return p.Children[0]
}

// told gives a relation as the view has it: what it leads to, without its id.
func (s *spoken) told(owner string, r *element.Element) *element.Element {
	c := *r
	c.Firm, c.Children, c.Props = true, nil, slices.Clone(r.Props)
	c.Set("Id", element.Value{})
	c.Set("Target", element.TextValue(s.Say(owner, r.Prop("Target").Text())))
	if p := s.picture(owner, r); p != nil {
		s.shown[p.Key] = true
		c.Set("Target", element.TextValue(contentKey+path.Ext(p.Key)))
		c.Add(Named(p, contentKey))
	}
	c.Key = s.word(&c)
	return &c
}

// word calls a relation of the view by what it leads to.
func (*spoken) word(r *element.Element) string {
	out := r.Prop("Target").Text()
	if p := Part(r, contentKey); p != nil {
		out = contentWord(Named(p, path.Ext(out)))
	}
	return strings.TrimSuffix(out+" "+r.Prop("TargetMode").Text(), " ")
}

// picture gives the part that a relation leads to when it holds a picture or the like, and
// nothing that refers to others.
func (s *spoken) picture(owner string, r *element.Element) *element.Element {
	if r.Prop("TargetMode").Text() == "External" {
		return nil
	}
	p := s.parts[Target(owner, r.Prop("Target").Text())]
	if p == nil || p.Type != "part" || !strings.Contains(p.Key, "/media/") || s.parts[RelationsOf(p.Key)] != nil {
		return nil
	}
	return p
}

// contentWord calls a picture by what it is.
func contentWord(p *element.Element) string {
	sum := Named(p, contentKey).Sum()
	return contentKey + " " + hex.EncodeToString(sum[:8]) + path.Ext(p.Key)
}

// InWords gives a package whose ids of relations are told by what they lead to.
func (s Speech) InWords(raw *element.Element) *element.Element {
	about := s.about(raw)
	out := *raw
	out.Children = slices.Clone(raw.Children)
	at := map[string]int{}
	for i, p := range out.Children {
		at[p.Key] = i
	}
	for i, p := range raw.Children {
		owner, ok := OwnerOf(p.Key)
		if !ok || len(p.Children) != 1 {
			continue
		}
		told, led := map[string]*element.Element{}, map[string]bool{}
		for _, r := range p.Children[0].Children {
			if id := r.Prop("Id").Text(); r.Type == relationType && id != "" {
				told[id] = about.told(owner, r)
			}
		}
		if j, there := at[owner]; there && owner != "" {
			out.Children[j] = explained(raw.Children[j], prefixesOf(raw.Children[j]), told, led)
		}
		out.Children[i] = about.unled(p, told, led)
	}
	return Without(&out, func(name string) bool {
		p := out.Children[at[name]]
		_, list := OwnerOf(name)
		return about.shown[name] || list && len(p.Children) == 1 && len(p.Children[0].Children) == 0
	})
}

// unled gives a list with the relations that nothing refers to, each once.
func (s *spoken) unled(list *element.Element, told map[string]*element.Element, led map[string]bool) *element.Element {
	there := map[string]bool{}
	for id := range led {
		there[told[id].Prop("Type").Text()+" "+s.word(told[id])] = true
	}
	root := *list.Children[0]
	root.Children = nil
	for _, r := range list.Children[0].Children {
		if is := told[r.Prop("Id").Text()]; is != nil {
			key := is.Prop("Type").Text() + " " + s.word(is)
			if there[key] {
				continue
			}
			there[key], r = true, is
		}
		root.Children = append(root.Children, r)
	}
	element.Distinguish(root.Children)
	return WithRoot(list, &root)
}

// Below stands for the id of a relation that the element has below itself.
const Below = "(below)"

// explained gives a tree in which every reference has its relation below; led notes the ids.
func explained(e *element.Element, prefixes map[string]bool, told map[string]*element.Element, led map[string]bool) *element.Element {
	out := *e
	out.Children = make([]*element.Element, 0, len(e.Children))
	for i, p := range e.Props {
		r := told[p.Value.Text()]
		if !refers(p.Name, prefixes) || r == nil {
			continue
		}
		led[p.Value.Text()] = true
		c := *r
		c.Key = p.Name
		out.Children = append(out.Children, &c)
		if len(out.Children) == 1 {
			out.Props = slices.Clone(e.Props)
		}
		out.Props[i].Value = element.TextValue(Below)
		if out.Key == p.Value.Text() {
			out.Key = ""
		}
	}
	for _, c := range e.Children {
		out.Children = append(out.Children, explained(c, prefixes, told, led))
	}
	return &out
}

// refers reports whether an attribute holds the id of a relation.
func refers(name string, prefixes map[string]bool) bool {
	prefix, _, ok := strings.Cut(name, ":")
	return ok && prefixes[prefix] || name == "o:relid"
}

// prefixesOf gives the prefixes that stand for references in a part.
func prefixesOf(p *element.Element) map[string]bool {
	out := map[string]bool{}
	bound(p, out)
	return out
}

func bound(e *element.Element, prefixes map[string]bool) {
	for _, p := range e.Props {
		if prefix, ok := strings.CutPrefix(p.Name, "xmlns:"); ok && references[p.Value.Text()] {
			prefixes[prefix] = true
		}
	}
	for _, c := range e.Children {
		bound(c, prefixes)
	}
}

// Reference gives the name of the attribute by which an element refers to another part; e
// is the root of a part. It is empty when the part refers to none.
func Reference(e *element.Element) string {
	var first string
	for p := range prefixesOf(e) {
		if first == "" || p < first {
			first = p
		}
	}
	if first == "" {
		return ""
	}
	return first + ":id"
}

// InIDs is the reverse of InWords: raw is the package that is there, whose ids stay for
// what they lead to.
func (s Speech) InIDs(raw, want *element.Element) (*element.Element, error) {
	w := &numberer{spoken: s.about(raw), fresh: Fresh(raw), pictures: map[string]string{}}
	for _, p := range raw.Children {
		if strings.Contains(p.Key, "/media/") {
			w.pictures[contentWord(p)] = p.Key
		}
	}
	out := *want
	out.Children = nil
	lists := map[string]*element.Element{} // by owner
	for _, p := range want.Children {
		if owner, ok := OwnerOf(p.Key); ok && len(p.Children) == 1 {
			lists[owner] = p
			continue
		}
		out.Children = append(out.Children, p)
	}
	for i, p := range out.Children {
		ids := w.idsOf(p.Key)
		if list := lists[p.Key]; list != nil { // what nothing refers to keeps its ids
			ids.reserve(list.Children[0])
		}
		led, err := ids.led(p)
		if err != nil {
			return nil, err
		}
		out.Children[i] = led
		if list := lists[p.Key]; list != nil || len(ids.made) > 0 {
			if lists[p.Key], err = ids.list(list); err != nil {
				return nil, err
			}
		}
	}
	if list := lists[""]; list != nil {
		var err error
		if lists[""], err = w.idsOf("").list(list); err != nil {
			return nil, err
		}
	}
	for _, owner := range slices.Sorted(maps.Keys(lists)) {
		out.Children = append(out.Children, lists[owner])
	}
	names := make([]string, len(w.added))
	for i, p := range w.added {
		names[i] = p.Key
	}
	out.Children = append(out.Children, w.added...)
	return Declared(raw, &out, names, func(string) string { return "" }), nil
}

// numberer puts the relations of a package back into lists.
type numberer struct {
	*spoken
	fresh    func(format string) string
	pictures map[string]string // the parts of pictures, by their words
	added    []*element.Element
}

// ids are the relations of one part.
type ids struct {
	*numberer
	owner  string
	before map[string]*element.Element // the relations that are there, by id
	known  map[string]string           // ids by type and word
	used   map[string]bool
	next   int
	made   []*element.Element // what the part refers to, with ids
}

func (w *numberer) idsOf(owner string) *ids {
	out := &ids{numberer: w, owner: owner, before: map[string]*element.Element{}, known: map[string]string{}, used: map[string]bool{}}
	list := w.spoken.list(owner)
	if list == nil {
		return out
	}
	for _, r := range list.Children {
		if id := r.Prop("Id").Text(); id != "" {
			out.before[id] = r
			if key := out.key(w.told(owner, r)); out.known[key] == "" {
				out.known[key] = id
			}
		}
	}
	return out
}

func (x *ids) key(r *element.Element) string { return r.Prop("Type").Text() + " " + x.word(r) }

// reserve keeps the ids of relations that stay in the list.
func (x *ids) reserve(list *element.Element) {
	for _, r := range list.Children {
		x.used[x.known[x.key(r)]] = true
	}
}

// id gives the id of a relation: the one that it has, or a new one.
func (x *ids) id(r *element.Element) string {
	if id := x.known[x.key(r)]; id != "" {
		return id
	}
	for {
		x.next++
		if id := "rId" + strconv.Itoa(x.next); x.before[id] == nil && !x.used[id] {
			x.known[x.key(r)], x.used[id] = id, true
			return id
		}
	}
}

// led gives a tree whose relations below are ids again.
func (x *ids) led(e *element.Element) (*element.Element, error) {
	out := *e
	out.Children = make([]*element.Element, 0, len(e.Children))
	for _, c := range e.Children {
		at := slices.IndexFunc(e.Props, func(p element.Prop) bool { return p.Name == c.Key && p.Value.Text() == Below })
		if c.Type != relationType || at < 0 {
			k, err := x.led(c)
			if err != nil {
				return nil, err
			}
			out.Children = append(out.Children, k)
			continue
		}
		id := x.id(c)
		r, err := x.relation(c, id)
		if err != nil {
			return nil, err
		}
		if !slices.ContainsFunc(x.made, func(m *element.Element) bool { return m.Key == id }) {
			x.made = append(x.made, r)
		}
		out.Props = slices.Clone(out.Props)
		out.Props[at].Value = element.TextValue(id)
	}
	for _, p := range out.Props {
		if p.Value.Text() == Below {
			return nil, fmt.Errorf("%s refers to something that is not said", x.owner)
		}
	}
	return &out, nil
}

// relation gives a relation with its id, as the list has it.
func (x *ids) relation(r *element.Element, id string) (*element.Element, error) {
	was := x.before[id]
	target, err := x.target(x.owner, r, was)
	if err != nil {
		return nil, err
	}
	c := *r
	c.Key, c.Children, c.Props = id, nil, []element.Prop{{Name: "Id"}}
	if was != nil { // in the order that is there
		c.Props = slices.Clone(was.Props)
		for i := range c.Props {
			c.Props[i].Value = element.Value{}
		}
	}
	for _, p := range r.Props {
		c.Set(p.Name, p.Value)
	}
	c.Set("Id", element.TextValue(id))
	c.Set("Target", element.TextValue(target))
	c.Props = slices.DeleteFunc(c.Props, func(p element.Prop) bool { return p.Value.IsAbsent() })
	return &c, nil
}

// list gives the part with the list: what the view has of it, nil for nothing, and what the
// part refers to.
func (x *ids) list(part *element.Element) (*element.Element, error) {
	name := RelationsOf(x.owner)
	if part == nil {
		root := &element.Element{Type: "Relationships",
			Props: []element.Prop{{Name: "xmlns",
				Value: element.TextValue("http://schemas.openxmlformats.org/package/2006/relationships")}}}
		part = (&element.Element{Type: "part", Key: name, Firm: true,
			Props: []element.Prop{{Name: nested.KindProperty, Value: element.TextValue("xml")}}}).Add(root)
	}
	root := *part.Children[0]
	root.Children = nil
	for _, r := range part.Children[0].Children {
		if r.Type == relationType {
			var err error
			if r, err = x.relation(r, x.id(r)); err != nil {
				return nil, err
			}
		}
		root.Children = append(root.Children, r)
	}
	root.Children = append(root.Children, x.made...)
	return WithRoot(Named(part, name), &root), nil
}

// target gives the target of a relation; before is the one that has its id, nil for none.
func (w *numberer) target(owner string, r, before *element.Element) (string, error) {
	word := r.Prop("Target").Text()
	content := Part(r, contentKey)
	if content == nil {
		target, err := w.Lead(owner, word)
		if before != nil && w.picture(owner, before) == nil && Target(owner, target) == Target(owner, before.Prop("Target").Text()) {
			return before.Prop("Target").Text(), err // however it is written
		}
		return target, err
	}
	key := contentWord(Named(content, path.Ext(word)))
	if w.pictures[key] == "" {
		folder, _, _ := strings.Cut(owner, "/")
		w.pictures[key] = w.fresh(folder + "/media/image%d" + path.Ext(word))
	}
	name := w.pictures[key]
	if !slices.ContainsFunc(w.added, func(p *element.Element) bool { return p.Key == name }) {
		w.added = append(w.added, Named(content, name))
	}
	return From(owner, name), nil
}

// From gives the path of a part as seen from another one.
func From(owner, part string) string {
	dir := strings.Split(path.Dir("/"+owner), "/")[1:]
	to := strings.Split(part, "/")
	for len(dir) > 0 && len(to) > 1 && dir[0] == to[0] {
		dir, to = dir[1:], to[1:]
	}
	if len(dir) == 1 && dir[0] == "" {
		dir = nil
	}
	return strings.Repeat("../", len(dir)) + path.Join(to...)
}
