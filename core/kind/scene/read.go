package scene

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind/jsondoc"
	"oakenchest/core/kind/jsontree"
)

// sceneReader makes elements out of a file.
type sceneReader struct {
	f      *file
	names  map[string][]string
	parent []int // of each node; -1 for none
	held   map[element.Digest][]byte
	placed []string // entries without a name of their own
}

func newReader(f *file) (*sceneReader, error) {
	r := &sceneReader{f: f, names: f.names(), held: map[element.Digest][]byte{}}
	nodes := f.list("nodes")
	r.parent = make([]int, len(nodes))
	for i := range r.parent {
		r.parent[i] = -1
	}
	for i, n := range nodes {
		for _, c := range values(n.Get("children")) {
			k, err := whole(c)
			if err != nil || k >= len(nodes) {
				return nil, fmt.Errorf("node %q has a child that is not there", r.names["nodes"][i])
			}
			if r.parent[k] >= 0 {
				return nil, fmt.Errorf("node %q has two parents", r.names["nodes"][k])
			}
			r.parent[k] = i
		}
	}
	for i := range r.parent {
		for steps, at := 0, i; at >= 0; steps, at = steps+1, r.parent[at] {
			if steps > jsondoc.MaxDepth {
				return nil, fmt.Errorf("node %q hangs below itself, or too deep", r.names["nodes"][i])
			}
		}
	}
	return r, nil
}

// elsewhere lists top-level members that are not read as properties of the root.
var elsewhere = []string{"accessors", "bufferViews", "buffers", "samplers", "scene", "asset", "extensions"}

func (r *sceneReader) root() (*element.Element, error) {
	doc := r.f.doc.Root
	root := &element.Element{Type: "scene file"}
	rest := jsondoc.Obj()
	for _, it := range doc.Items {
		known := slices.Contains(elsewhere, it.Key)
		for _, c := range collections {
			known = known || c.list == it.Key
		}
		if !known {
			rest.Set(it.Key, it.Value)
		}
	}
	if ext := without(doc.Get("extensions"), lightExtension); ext != nil {
		rest.Set("extensions", ext)
	}
	if s := doc.Get("scene"); s != nil {
		name, err := r.refer("scenes", s)
		if err != nil {
			return nil, err
		}
		root.Set("default scene", name)
	}
	asset := &element.Element{Type: "asset", Key: "file", Firm: true}
	if err := jsontree.Members(asset, doc.Get("asset")); err != nil {
		return nil, err
	}
	root.Add(asset)
	if err := jsontree.Members(root, rest); err != nil {
		return nil, err
	}
	for _, c := range collections {
		for i, e := range r.f.entries(c.list) {
			kid, err := r.entry(c.list, c.typ, i, e)
			if err != nil {
				return nil, fmt.Errorf("%s %q: %w", c.typ, r.names[c.list][i], err)
			}
			root.Add(kid)
		}
	}
	return root, nil
}

// without gives a copy of an object less one member, nil when nothing is left.
func without(n *jsondoc.Node, key string) *jsondoc.Node {
	if n == nil {
		return nil
	}
	c := n.Clone().Set(key, nil)
	if len(c.Items) == 0 {
		return nil
	}
	return c
}

// refer gives the name that an index stands for.
func (r *sceneReader) refer(list string, n *jsondoc.Node) (element.Value, error) {
	i, err := whole(n)
	if err != nil || i >= len(r.names[list]) {
		return element.Value{}, fmt.Errorf("it refers to one of the %s that is not there", list)
	}
	return element.TextValue(r.names[list][i]), nil
}

// references are the members of entries that are an index, and the lists that
// they point into.
var references = map[string][]struct{ member, list string }{
	"nodes":    {{"mesh", "meshes"}, {"camera", "cameras"}, {"skin", "skins"}},
	"textures": {{"source", "images"}},
	"skins":    {{"skeleton", "nodes"}},
}

func (r *sceneReader) entry(list, typ string, i int, n *jsondoc.Node) (*element.Element, error) {
	if n.Kind != jsondoc.Object {
		return nil, errors.New("it is no object")
	}
	e := &element.Element{Type: typ, Key: r.names[list][i]}
	if e.Key != member(n, "name") {
		r.placed = append(r.placed, typ+":"+e.Key)
	}
	rest := n.Clone().Set("name", nil)
	for _, to := range references[list] {
		if v := rest.Get(to.member); v != nil {
			name, err := r.refer(to.list, v)
			if err != nil {
				return nil, err
			}
			e.Set(to.member, name)
			rest.Set(to.member, nil)
		}
	}
	var err error
	switch list {
	case "scenes":
		err = r.scene(e, rest)
	case "nodes":
		err = r.node(e, i, rest)
	case "meshes":
		err = r.mesh(e, rest)
	case "materials":
		err = r.textureNames(rest)
	case "textures":
		err = r.texture(rest)
	case "images":
		err = r.image(e, rest)
	case "animations":
		err = r.animation(e, rest)
	case "skins":
		err = r.skin(e, rest)
	}
	if err != nil {
		return nil, err
	}
	return e, jsontree.Members(e, rest)
}

func (r *sceneReader) scene(e *element.Element, rest *jsondoc.Node) error {
	for _, v := range values(rest.Get("nodes")) {
		name, err := r.refer("nodes", v)
		if err != nil {
			return err
		}
		e.Add(&element.Element{Type: "root", Key: name.Text(), Firm: true})
	}
	rest.Set("nodes", nil)
	return nil
}

// placement gives the members of a node that say where it is, with the values
// that stand when they are missing.
var placement = []struct{ name, missing string }{{"translation", "0 0 0"}, {"rotation", "0 0 0 1"}, {"scale", "1 1 1"}}

func (r *sceneReader) node(e *element.Element, i int, rest *jsondoc.Node) error {
	if p := r.parent[i]; p >= 0 {
		e.Set("parent", element.TextValue(r.names["nodes"][p]))
	}
	for _, p := range placement {
		switch v := rest.Get(p.name); {
		case v != nil:
			e.Set(p.name, jsontree.Scalar(v))
		case rest.Get("matrix") == nil:
			e.Set(p.name, defaultPlacement(p.missing))
		}
		rest.Set(p.name, nil)
	}
	rest.Set("children", nil)
	if v := rest.Get("extensions").Get(lightExtension).Get("light"); v != nil {
		name, err := r.refer(lightList, v)
		if err != nil {
			return err
		}
		e.Set("light", name)
		rest.Set("extensions", without(rest.Get("extensions"), lightExtension))
	}
	return nil
}

func defaultPlacement(numbers string) element.Value {
	var items []element.Value
	for f := range strings.FieldsSeq(numbers) {
		items = append(items, element.NumberValue(f))
	}
	return element.ListValue(items...)
}

// values gives an element for the values of an accessor.
func (r *sceneReader) values(typ, key string, index *jsondoc.Node) (*element.Element, error) {
	i, err := whole(index)
	if err != nil {
		return nil, err
	}
	a, data, err := r.f.accessor(i)
	if err != nil {
		return nil, err
	}
	e := &element.Element{Type: typ, Key: key, Firm: true}
	e.Set("type", element.TextValue(strings.ToLower(member(a, "type"))+" of "+componentName[member(a, "componentType")]))
	e.Set("count", jsontree.Scalar(a.Get("count")))
	for _, m := range []string{"normalized", "min", "max"} {
		if v := a.Get(m); v != nil {
			e.Set(m, jsontree.Scalar(v))
		}
	}
	if s := a.Get("sparse"); s != nil {
		e.Set("sparse", element.TextValue(fmt.Sprintf("%s of %s", member(s, "count"),
			componentName[member(s.Get("indices"), "componentType")])))
		e.Set("base", element.BoolValue(a.Get("bufferView") != nil))
	}
	d := element.DigestOf(data)
	r.held[d] = data
	e.Set("data", element.BytesValue(d, int64(len(data))))
	e.Gist = fmt.Sprintf("%s × %s", member(a, "count"), e.Prop("type").Text())
	return e, nil
}

func (r *sceneReader) mesh(e *element.Element, rest *jsondoc.Node) error {
	e.Ordered = true
	for _, p := range values(rest.Get("primitives")) {
		kid := &element.Element{Type: "primitive"}
		left := p.Clone()
		if v := left.Get("material"); v != nil {
			name, err := r.refer("materials", v)
			if err != nil {
				return err
			}
			kid.Set("material", name)
		}
		if v := left.Get("indices"); v != nil {
			ind, err := r.values("values", "indices", v)
			if err != nil {
				return err
			}
			kid.Add(ind)
		}
		if err := r.attributes(kid, left.Get("attributes")); err != nil {
			return err
		}
		for i, t := range values(left.Get("targets")) {
			target := &element.Element{Type: "target", Key: fmt.Sprint(i + 1), Firm: true}
			if err := r.attributes(target, t); err != nil {
				return err
			}
			kid.Add(target)
		}
		for _, m := range []string{"material", "indices", "attributes", "targets"} {
			left.Set(m, nil)
		}
		if err := jsontree.Members(kid, left); err != nil {
			return err
		}
		e.Add(kid)
	}
	rest.Set("primitives", nil)
	e.Gist = meshGist(e)
	return nil
}

func (r *sceneReader) attributes(e *element.Element, n *jsondoc.Node) error {
	if n == nil {
		return nil
	}
	for _, it := range n.Items {
		kid, err := r.values("attribute", it.Key, it.Value)
		if err != nil {
			return err
		}
		e.Add(kid)
	}
	return nil
}

// textureNames replaces, below a material, the index in each reference to a
// texture by its name.
func (r *sceneReader) textureNames(n *jsondoc.Node) error {
	for _, it := range n.Items {
		if index := it.Value.Get("index"); index != nil && strings.HasSuffix(strings.ToLower(it.Key), "texture") {
			name, err := r.refer("textures", index)
			if err != nil {
				return err
			}
			it.Value.Set("texture", jsondoc.Str(name.Text())).Set("index", nil)
		}
		if err := r.textureNames(it.Value); err != nil {
			return err
		}
	}
	return nil
}

func (r *sceneReader) texture(rest *jsondoc.Node) error {
	v := rest.Get("sampler")
	if v == nil {
		return nil
	}
	i, err := whole(v)
	samplers := r.f.list("samplers")
	if err != nil || i >= len(samplers) {
		return errors.New("its sampler is not there")
	}
	rest.Set("sampler", samplers[i].Clone())
	return nil
}

func (r *sceneReader) image(e *element.Element, rest *jsondoc.Node) error {
	var data []byte
	var err error
	uri, view := rest.Get("uri"), rest.Get("bufferView")
	switch {
	case view != nil:
		i, err := whole(view)
		if err != nil {
			return err
		}
		if data, _, err = r.f.view(i); err != nil {
			return err
		}
	case uri != nil && strings.HasPrefix(uri.Text, "data:"):
		if data, err = r.f.fetch(uri.Text); err != nil {
			return err
		}
	case uri != nil: // a file of its own, versioned as such
		return nil
	default:
		return nil
	}
	d := element.DigestOf(data)
	r.held[d] = data
	e.Set("content", element.BytesValue(d, int64(len(data))))
	rest.Set("uri", nil).Set("bufferView", nil)
	return nil
}

func (r *sceneReader) animation(e *element.Element, rest *jsondoc.Node) error {
	samplers := values(rest.Get("samplers"))
	for _, c := range values(rest.Get("channels")) {
		i, err := whole(c.Get("sampler"))
		if err != nil || i >= len(samplers) {
			return errors.New("a channel's sampler is not there")
		}
		kid := &element.Element{Type: "channel", Firm: true, Key: member(c.Get("target"), "path")}
		kid.Set("path", element.TextValue(kid.Key))
		if n := c.Get("target").Get("node"); n != nil {
			name, err := r.refer("nodes", n)
			if err != nil {
				return err
			}
			kid.Key = name.Text() + " " + kid.Key
			kid.Set("node", name)
		}
		if v := samplers[i].Get("interpolation"); v != nil {
			kid.Set("interpolation", jsontree.Scalar(v))
		}
		for _, side := range []string{"input", "output"} {
			v, err := r.values("values", side, samplers[i].Get(side))
			if err != nil {
				return err
			}
			kid.Add(v)
		}
		e.Add(kid)
	}
	element.Distinguish(e.Children)
	rest.Set("channels", nil).Set("samplers", nil)
	return nil
}

func (r *sceneReader) skin(e *element.Element, rest *jsondoc.Node) error {
	var joints []element.Value
	for _, v := range values(rest.Get("joints")) {
		name, err := r.refer("nodes", v)
		if err != nil {
			return err
		}
		joints = append(joints, name)
	}
	e.Set("joints", element.ListValue(joints...))
	rest.Set("joints", nil)
	if v := rest.Get("inverseBindMatrices"); v != nil {
		kid, err := r.values("values", "inverse bind matrices", v)
		if err != nil {
			return err
		}
		e.Add(kid)
		rest.Set("inverseBindMatrices", nil)
	}
	return nil
}
