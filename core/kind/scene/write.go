package scene

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/jsondoc"
	"oakenchest/core/kind/jsontree"
)

// Write changes the scene into the wanted tree. What stays keeps its bytes and
// its place; new bytes are appended to the buffer. Bytes that nothing refers to
// any more stay in the buffer.
func (k Kind) Write(src kind.Source, want *element.Element, content kind.Content) (map[string][]byte, error) {
	f, err := open(src)
	if err != nil {
		return nil, err
	}
	out, err := write(f, want, content)
	if err != nil || out == nil {
		return nil, err
	}
	return map[string][]byte{src.Files()[0]: out}, nil
}

func write(f *file, want *element.Element, content kind.Content) ([]byte, error) {
	r, err := newReader(f)
	if err != nil {
		return nil, err
	}
	have, err := r.root()
	if err != nil {
		return nil, err
	}
	d := element.Compare(have, want)
	if d == nil {
		return nil, nil
	}
	w := &sceneWriter{sceneReader: r, content: kind.Contents(kind.Held(r.held), content), doc: f.doc.Root.Clone(),
		index: map[string]map[string]int{}}
	w.plan(d)
	if err := w.entries(); err != nil {
		return nil, err
	}
	if err := w.hierarchy(); err != nil {
		return nil, err
	}
	if err := w.topLevel(want); err != nil {
		return nil, err
	}
	w.buffer.finish(w.doc)
	f.doc.Root.Become(w.doc)
	return f.bytes(), nil
}

// slot is one entry of a collection as it will be.
type slot struct {
	want *element.Element
	old  int // its index in the source; -1 for a new one
	kept bool
	node *jsondoc.Node
}

type sceneWriter struct {
	*sceneReader
	content kind.Content
	doc     *jsondoc.Node
	slots   map[string][]slot
	index   map[string]map[string]int // by list and key
	buffer  bufferWriter
	moved   bool // some index now means another entry
}

// plan says which entries there will be, in which places.
func (w *sceneWriter) plan(d *element.Delta) {
	old := map[*element.Element]int{}
	count := map[string]int{}
	for _, e := range d.A.Children {
		if list := listOf(e.Type); list != "" {
			old[e] = count[list]
			count[list]++
		}
	}
	w.slots = map[string][]slot{}
	kids := d.Kids
	if len(kids) == 0 {
		for i := range d.A.Children {
			kids = append(kids, element.KidEdit{From: i, To: i})
		}
	}
	for _, k := range kids {
		switch {
		case k.To < 0:
			w.moved = w.moved || listOf(d.A.Children[k.From].Type) != ""
			continue
		case listOf(d.B.Children[k.To].Type) == "":
			continue
		}
		e := d.B.Children[k.To]
		s := slot{want: e, old: -1}
		if k.From >= 0 {
			s.old = old[d.A.Children[k.From]]
			s.kept = k.Delta == nil && d.A.Children[k.From].Key == e.Key
		}
		w.slots[listOf(e.Type)] = append(w.slots[listOf(e.Type)], s)
	}
	for list, slots := range w.slots {
		slices.SortStableFunc(slots, func(a, b slot) int {
			if a.old < 0 || b.old < 0 {
				return b.old - a.old // the old first
			}
			return a.old - b.old
		})
		w.index[list] = map[string]int{}
		for i, s := range slots {
			w.index[list][s.want.Key] = i
		}
	}
}

func (w *sceneWriter) entries() error {
	w.buffer.file, w.buffer.known = w.f, w.f.list("accessors")
	for _, c := range collections {
		source := w.f.entries(c.list)
		for i := range w.slots[c.list] {
			s := &w.slots[c.list][i]
			if s.kept && !w.moved {
				s.node = source[s.old].Clone()
				continue
			}
			old := jsondoc.Obj()
			if s.old >= 0 {
				old = source[s.old]
			}
			n, err := w.entry(c.list, s, old)
			if err != nil {
				return fmt.Errorf("%s %q: %w", c.typ, s.want.Key, err)
			}
			s.node = n
		}
	}
	return nil
}

// at gives the index of the entry that a value names.
func (w *sceneWriter) at(list string, v element.Value) (*jsondoc.Node, error) {
	i, ok := w.index[list][v.Text()]
	if !ok {
		return nil, fmt.Errorf("it refers to %q among the %s, which is not there", v.Text(), list)
	}
	return jsondoc.Int(i), nil
}

// entry is the reverse of the reader's entry.
func (w *sceneWriter) entry(list string, s *slot, old *jsondoc.Node) (*jsondoc.Node, error) {
	e := *s.want
	e.Props, e.Children = slices.Clone(e.Props), slices.Clone(e.Children)
	out := jsondoc.Obj()
	if s.old >= 0 && w.names[list][s.old] == e.Key {
		out.Set("name", old.Get("name").Clone())
	} else {
		out.Set("name", jsondoc.Str(e.Key))
	}
	for _, to := range references[list] {
		if v := e.Prop(to.member); !v.IsAbsent() {
			n, err := w.at(to.list, v)
			if err != nil {
				return nil, err
			}
			out.Set(to.member, n)
			e.Set(to.member, element.Value{})
		}
	}
	var err error
	switch list {
	case "scenes":
		err = w.scene(&e, out, old)
	case "nodes":
		err = w.node(&e, out, old)
	case "meshes":
		err = w.mesh(&e, out)
	case "images":
		err = w.image(&e, out, old)
	case "animations":
		err = w.animation(&e, out)
	case "skins":
		err = w.skin(&e, out)
	}
	if err != nil {
		return nil, err
	}
	rest, err := jsontree.Object(&e)
	if err != nil {
		return nil, err
	}
	switch list {
	case "materials":
		err = w.textureIndexes(rest)
	case "textures":
		if v := rest.Get("sampler"); v != nil {
			rest.Set("sampler", w.sampler(v))
		}
	}
	if err != nil {
		return nil, err
	}
	for _, it := range rest.Items {
		if have := out.Get(it.Key); have != nil && have.Kind == jsondoc.Object {
			for _, inner := range it.Value.Items {
				have.Set(inner.Key, inner.Value)
			}
			continue
		}
		out.Set(it.Key, it.Value)
	}
	return out, nil
}

// take gives a property and takes it out of e.
func take(e *element.Element, name string) element.Value {
	v := e.Prop(name)
	e.Set(name, element.Value{})
	return v
}

// takeKids gives the children of some types and takes them out of e.
func takeKids(e *element.Element, types ...string) []*element.Element {
	var out, rest []*element.Element
	for _, k := range e.Children {
		if slices.Contains(types, k.Type) {
			out = append(out, k)
		} else {
			rest = append(rest, k)
		}
	}
	e.Children = rest
	return out
}

func (w *sceneWriter) scene(e *element.Element, out, old *jsondoc.Node) error {
	wanted := map[int]bool{}
	for _, k := range takeKids(e, "root") {
		n, err := w.at("nodes", element.TextValue(k.Key))
		if err != nil {
			return err
		}
		i, _ := whole(n)
		wanted[i] = true
	}
	if list := w.inOldOrder(old.Get("nodes"), wanted); list != nil {
		out.Set("nodes", list)
	}
	return nil
}

// inOldOrder lists node indexes: those of the old list first, in its order.
func (w *sceneWriter) inOldOrder(old *jsondoc.Node, wanted map[int]bool) *jsondoc.Node {
	var out []int
	for _, v := range values(old) {
		i, err := whole(v)
		if err != nil || i >= len(w.names["nodes"]) {
			continue
		}
		for k, s := range w.slots["nodes"] {
			if s.old == i && wanted[k] {
				out = append(out, k)
				delete(wanted, k)
			}
		}
	}
	var rest []int
	for k := range wanted {
		rest = append(rest, k)
	}
	slices.Sort(rest)
	list := jsondoc.Arr()
	for _, k := range append(out, rest...) {
		list.Append(jsondoc.Int(k))
	}
	if len(list.Items) == 0 && old == nil {
		return nil
	}
	return list
}

func (w *sceneWriter) node(e *element.Element, out, old *jsondoc.Node) error {
	take(e, "parent")
	for _, p := range placement {
		if v := e.Prop(p.name); old.Get(p.name) == nil && v.String() == p.missing {
			take(e, p.name)
		}
	}
	if v := take(e, "light"); !v.IsAbsent() {
		n, err := w.at(lightList, v)
		if err != nil {
			return err
		}
		out.Set("extensions", jsondoc.Obj().Set(lightExtension, jsondoc.Obj().Set("light", n)))
	}
	return nil
}

func (w *sceneWriter) mesh(e *element.Element, out *jsondoc.Node) error {
	list := jsondoc.Arr()
	for _, p := range takeKids(e, "primitive") {
		kid := *p
		kid.Props = slices.Clone(p.Props)
		n := jsondoc.Obj()
		attrs, err := w.attributes(takeKids(&kid, "attribute"))
		if err != nil {
			return err
		}
		n.Set("attributes", attrs)
		for _, v := range takeKids(&kid, "values") {
			i, err := w.accessor(v)
			if err != nil {
				return err
			}
			n.Set(v.Key, i)
		}
		if v := take(&kid, "material"); !v.IsAbsent() {
			i, err := w.at("materials", v)
			if err != nil {
				return err
			}
			n.Set("material", i)
		}
		if targets := takeKids(&kid, "target"); len(targets) > 0 {
			all := jsondoc.Arr()
			for _, t := range targets {
				attrs, err := w.attributes(t.Children)
				if err != nil {
					return err
				}
				all.Append(attrs)
			}
			n.Set("targets", all)
		}
		rest, err := jsontree.Object(&kid)
		if err != nil {
			return err
		}
		for _, it := range rest.Items {
			n.Set(it.Key, it.Value)
		}
		list.Append(n)
	}
	out.Set("primitives", list)
	return nil
}

func (w *sceneWriter) attributes(kids []*element.Element) (*jsondoc.Node, error) {
	out := jsondoc.Obj()
	for _, a := range kids {
		i, err := w.accessor(a)
		if err != nil {
			return nil, err
		}
		out.Set(a.Key, i)
	}
	return out, nil
}

func (w *sceneWriter) textureIndexes(n *jsondoc.Node) error {
	for _, it := range n.Items {
		if name := it.Value.Get("texture"); name != nil && strings.HasSuffix(strings.ToLower(it.Key), "texture") {
			i, err := w.at("textures", element.TextValue(name.Text))
			if err != nil {
				return err
			}
			it.Value.Set("index", i).Set("texture", nil)
		}
		if err := w.textureIndexes(it.Value); err != nil {
			return err
		}
	}
	return nil
}

// sampler gives the index of an equal sampler, a new one when there is none.
func (w *sceneWriter) sampler(n *jsondoc.Node) *jsondoc.Node {
	all := w.doc.Get("samplers")
	if all == nil {
		all = jsondoc.Arr()
		w.doc.Set("samplers", all)
	}
	for i, it := range all.Items {
		if it.Value.Equal(n) {
			return jsondoc.Int(i)
		}
	}
	all.Append(n)
	return jsondoc.Int(len(all.Items) - 1)
}

func (w *sceneWriter) image(e *element.Element, out, old *jsondoc.Node) error {
	v := take(e, "content")
	if v.Sort() != element.Bytes {
		return nil
	}
	was := &element.Element{}
	if err := w.sceneReader.image(was, old.Clone()); err == nil && was.Prop("content").Equal(v) {
		out.Set("uri", old.Get("uri").Clone()).Set("bufferView", old.Get("bufferView").Clone())
		return nil
	}
	d, _ := v.Content()
	data, ok := w.content(d)
	if !ok {
		return errors.New("its bytes are not at hand")
	}
	out.Set("bufferView", w.buffer.view(w.doc, data))
	return nil
}

func (w *sceneWriter) animation(e *element.Element, out *jsondoc.Node) error {
	channels, samplers := jsondoc.Arr(), jsondoc.Arr()
	for _, c := range takeKids(e, "channel") {
		sampler, target := jsondoc.Obj(), jsondoc.Obj()
		for _, v := range c.Children {
			i, err := w.accessor(v)
			if err != nil {
				return err
			}
			sampler.Set(v.Key, i)
		}
		if v := c.Prop("interpolation"); !v.IsAbsent() {
			sampler.Set("interpolation", jsondoc.Str(v.Text()))
		}
		if v := c.Prop("node"); !v.IsAbsent() {
			i, err := w.at("nodes", v)
			if err != nil {
				return err
			}
			target.Set("node", i)
		}
		target.Set("path", jsondoc.Str(c.Prop("path").Text()))
		at := -1
		for i, it := range samplers.Items {
			if it.Value.Equal(sampler) {
				at = i
			}
		}
		if at < 0 {
			at = len(samplers.Items)
			samplers.Append(sampler)
		}
		channels.Append(jsondoc.Obj().Set("sampler", jsondoc.Int(at)).Set("target", target))
	}
	out.Set("channels", channels).Set("samplers", samplers)
	return nil
}

func (w *sceneWriter) skin(e *element.Element, out *jsondoc.Node) error {
	joints := jsondoc.Arr()
	for _, v := range take(e, "joints").Items() {
		n, err := w.at("nodes", v)
		if err != nil {
			return err
		}
		joints.Append(n)
	}
	out.Set("joints", joints)
	for _, v := range takeKids(e, "values") {
		i, err := w.accessor(v)
		if err != nil {
			return err
		}
		out.Set("inverseBindMatrices", i)
	}
	return nil
}
