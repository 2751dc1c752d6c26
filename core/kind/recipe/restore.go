package recipe

import (
	"slices"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/nested"
)

// restorer turns a changed view back into a tree as the kind reads it: noise is
// put back where it stood, content is text again.
type restorer struct {
	origin  map[*element.Element]*element.Element // of each element of the view
	reader  *nested.Reader
	content kind.Content
	former  map[string]string // names of styles in the file, by those in the view
}

// mirror copies a tree and remembers where each element came from.
func mirror(e *element.Element, origin map[*element.Element]*element.Element) *element.Element {
	c := *e
	c.Props = slices.Clone(e.Props)
	c.Children = make([]*element.Element, len(e.Children))
	for i, k := range e.Children {
		c.Children[i] = mirror(k, origin)
	}
	origin[&c] = e
	return &c
}

// changed gives the raw element of d.B, which d.A became.
func (r *restorer) changed(d *element.Delta) (*element.Element, error) {
	raw := r.origin[d.A]
	out := &element.Element{Type: d.B.Type, Key: d.B.Key, Ordered: raw.Ordered, Firm: raw.Firm}
	if d.A.Key != raw.Key {
		out.Key = raw.Key
	}
	if name := d.B.Prop(NameProperty); !name.IsAbsent() {
		out.Key = name.Text()
	}
	gone := map[string]bool{} // properties of the view that are no more
	for _, p := range d.Props {
		gone[p.Name] = p.To.IsAbsent()
	}
	if len(d.Kids) > 0 {
		for _, c := range d.A.Children {
			if nested.IsEmbedded(c) {
				gone[c.Key] = true
			}
		}
	}
	for _, p := range raw.Props {
		if now := d.B.Prop(p.Name); now.IsAbsent() && !gone[p.Name] || now.Equal(d.A.Prop(p.Name)) && !now.IsAbsent() {
			out.Props = append(out.Props, p)
			continue
		}
		if now := d.B.Prop(p.Name); !now.IsAbsent() {
			if err := r.property(out, p.Name, now); err != nil {
				return nil, err
			}
		}
	}
	for i, p := range d.B.Props {
		if !raw.Prop(p.Name).IsAbsent() || p.Name == NameProperty {
			continue
		}
		if err := r.property(out, p.Name, p.Value); err != nil {
			return nil, err
		}
		if i > 0 {
			behind(out, d.B.Props[i-1].Name)
		}
	}
	if len(d.Kids) == 0 {
		out.Children = raw.Children
		return out, nil
	}
	return out, r.children(out, raw, d)
}

// behind puts the last property of an element behind another one.
func behind(e *element.Element, name string) {
	last := len(e.Props) - 1
	at := slices.IndexFunc(e.Props[:last], func(p element.Prop) bool { return p.Name == name })
	if at < 0 {
		return
	}
	p := e.Props[last]
	e.Props = slices.Insert(slices.Delete(e.Props, last, last+1), at+1, p)
}

// property sets a property; a value that stands for bytes becomes text again.
func (r *restorer) property(out *element.Element, name string, v element.Value) error {
	if v.Sort() == element.Bytes {
		text, err := nested.ValueText(name, v, r.content)
		if err != nil {
			return err
		}
		v = element.TextValue(text)
	}
	if was := r.former[v.Text()]; was != "" && namesStyle(name) {
		v = element.TextValue(was)
	}
	out.Set(name, v)
	return nil
}

func (r *restorer) children(out, raw *element.Element, d *element.Delta) error {
	noise := r.noise(raw, d.A) // by the raw sibling that it follows, nil for none
	out.Add(noise[nil]...)
	for _, k := range inOrder(raw, d) {
		if k.To < 0 {
			if was := d.A.Children[k.From]; !nested.IsEmbedded(was) {
				out.Add(noise[r.origin[was]]...)
			}
			continue
		}
		kid := d.B.Children[k.To]
		var was, made *element.Element
		if k.From >= 0 {
			was = d.A.Children[k.From]
		}
		var err error
		switch {
		case nested.IsEmbedded(kid):
			var text string
			if was != nil && k.Delta == nil && was.Key == kid.Key {
				text = raw.Prop(kid.Key).Text()
			} else if text, err = r.reader.Text(from(kid, was), raw.Prop(kid.Key).Text(), r.content); err != nil {
				return err
			}
			out.Set(kid.Key, element.TextValue(text))
			continue
		case was == nil:
			made, err = r.fresh(kid)
		case k.Delta != nil:
			made, err = r.changed(k.Delta)
		default:
			made = r.origin[was]
			if was.Key == made.Key && kid.Key != was.Key {
				c := *made
				c.Key = kid.Key
				made = &c
			}
		}
		if err != nil {
			return err
		}
		out.Add(made)
		if was != nil {
			out.Add(noise[r.origin[was]]...)
		}
	}
	return nil
}

// from gives wanted content with the bytes behind it that it has in this document.
func from(want, was *element.Element) *element.Element {
	if was == nil || was.Origin == (element.Digest{}) || !was.Prop(nested.KindProperty).Equal(want.Prop(nested.KindProperty)) {
		return want
	}
	c := *want
	c.Origin = was.Origin
	return &c
}

// inOrder gives the edits of children in the order in which they are written: where
// a view calls a set what the raw tree has in order, what stays keeps its place.
func inOrder(raw *element.Element, d *element.Delta) []element.KidEdit {
	if !raw.Ordered || d.B.Ordered {
		return d.Kids
	}
	kids := slices.Clone(d.Kids)
	slices.SortStableFunc(kids, func(x, y element.KidEdit) int {
		switch {
		case x.From >= 0 && y.From >= 0:
			return x.From - y.From
		case x.From >= 0:
			return -1
		case y.From >= 0:
			return 1
		}
		return 0
	})
	return kids
}

// noise gives the raw children that the view leaves out, by the child before them.
func (r *restorer) noise(raw, view *element.Element) map[*element.Element][]*element.Element {
	seen := map[*element.Element]bool{}
	for _, c := range view.Children {
		seen[r.origin[c]] = true
	}
	out := map[*element.Element][]*element.Element{}
	var last *element.Element
	for _, c := range raw.Children {
		if seen[c] {
			last = c
		} else {
			out[last] = append(out[last], c)
		}
	}
	return out
}

// fresh gives the raw element of one that is new.
func (r *restorer) fresh(e *element.Element) (*element.Element, error) {
	out := *e
	out.Props, out.Children = nil, nil
	for _, p := range e.Props {
		if p.Name == NameProperty {
			out.Key = p.Value.Text()
			continue
		}
		if err := r.property(&out, p.Name, p.Value); err != nil {
			return nil, err
		}
	}
	for _, c := range e.Children {
		if nested.IsEmbedded(c) {
			text, err := r.reader.Text(c, "", r.content)
			if err != nil {
				return nil, err
			}
			out.Set(c.Key, element.TextValue(text))
			continue
		}
		made, err := r.fresh(c)
		if err != nil {
			return nil, err
		}
		out.Children = append(out.Children, made)
	}
	return &out, nil
}
