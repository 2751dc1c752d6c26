package recipe

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/jsondoc"
	"oakenchest/core/kind/nested"
	"oakenchest/core/kind/partfile"
)

// A split document is a folder with
//
//	oaken-document.json   its file name and its kind
//	NAME                  the document; what was taken out has left references
//	NAME.embedded/        embedded content, decoded, and elements that recipes
//	                      make parts of their own
const (
	marker = "oaken-document.json"
	format = "oaken document 1"
)

// Slicer is a kind whose elements are runs of bytes.
type Slicer interface {
	kind.Kind
	// Slice gives the document with a reference in the place of each element that
	// give takes; give gets the line of elements from the root of the tree, and the bytes.
	Slice(data []byte, give func(line []*element.Element, raw []byte) (file string, take bool)) ([]byte, error)
	// Unslice is the reverse.
	Unslice(data []byte, get func(file string) ([]byte, error)) ([]byte, error)
}

// Marker is the file that says that a folder is a split document.
func (Kind) Marker() string { return marker }

// Split takes a document apart.
func (k Kind) Split(src kind.Source) ([]kind.Part, error) {
	name := partfile.Safe(base(src))
	names := partfile.Names{}
	names.Take(marker, "", "")
	names.Take(name, "", "")
	body, parts, err := k.TakeApart(src, name, names)
	if err != nil {
		return nil, err
	}
	if len(parts) == 0 {
		return nil, kind.ErrWhole
	}
	about := jsondoc.Obj().Set("format", jsondoc.Str(format)).Set("file", jsondoc.Str(name)).Set("kind", jsondoc.Str(k.Name()))
	return append([]kind.Part{{Name: marker, Data: jsondoc.Format(about, "  ")}, {Name: name, Data: body}}, parts...), nil
}

// Join puts a document together.
func (k Kind) Join(parts []kind.Part) ([]byte, error) {
	files := map[string][]byte{}
	for _, p := range parts {
		files[p.Name] = p.Data
	}
	about, err := jsondoc.Parse(files[marker])
	if err != nil {
		return nil, fmt.Errorf("%s: %w", marker, err)
	}
	file, word := about.Root.Get("file"), about.Root.Get("kind")
	if f := about.Root.Get("format"); f == nil || f.Text != format || file == nil || word == nil {
		return nil, fmt.Errorf("%s does not say \"format\": %q, file and kind", marker, format)
	}
	used, ok := k.table.As(word.Text, file.Text)
	divider, divides := used.(nested.Divider)
	if !ok || !divides {
		return nil, fmt.Errorf("%s names the kind %q, of which no document can be put together", marker, word.Text)
	}
	get := func(name string) ([]byte, error) {
		if data, ok := files[name]; ok {
			return data, nil
		}
		return nil, fmt.Errorf("the file %s is missing", name)
	}
	body, err := get(file.Text)
	if err != nil {
		return nil, err
	}
	return divider.PutTogether(kind.FileSource{Name: file.Text, Data: body}, get)
}

// taker takes content out of one document.
type taker struct {
	k     Kind
	src   kind.Source
	file  string
	names partfile.Names
	parts []kind.Part
}

// TakeApart gives the document with references in the place of embedded content
// and of elements that are parts of their own.
func (k Kind) TakeApart(src kind.Source, file string, names partfile.Names) ([]byte, []kind.Part, error) {
	data, err := kind.Main(src)
	if err != nil || nested.Mentions(data) {
		return data, nil, err // references of its own would be taken for ours
	}
	if (k.Name() == "xml" || k.Name() == "json") && !k.divides() && !nested.MayHold(data, k.Name() == "json") {
		return data, nil, nil
	}
	raw, err := k.Writer.Read(src)
	if err != nil {
		return nil, nil, err
	}
	t := &taker{k: k, src: src, file: file, names: names}
	origin := map[*element.Element]*element.Element{}
	view := mirror(raw.Root, origin)
	v := &viewer{rules: k.rules(raw.Root), reader: nested.NewReader(k.table, src)}
	v.root(view)
	if v.opened {
		changed := t.content(view, origin, v.reader, "")
		files, err := k.Writer.Write(src, changed, nil)
		if err != nil {
			return nil, nil, err
		}
		if out, ok := files[path.Base(src.Path())]; ok {
			data = out
		}
	}
	data, err = t.slices(data, v.rules)
	return data, t.parts, err
}

// divides reports whether a recipe may ask for parts or for embedded content.
func (k Kind) divides() bool {
	for _, r := range k.recipes {
		for _, e := range r.Elements {
			if e.Part || len(e.Embedded) > 0 {
				return true
			}
		}
	}
	return false
}

// content gives the raw tree of a view with references for what is embedded.
func (t *taker) content(view *element.Element, origin map[*element.Element]*element.Element, r *nested.Reader,
	owner string) *element.Element {
	raw := origin[view]
	out := *raw
	out.Props = slices.Clone(raw.Props)
	if view.Key != "" {
		owner = view.Key
	}
	for _, p := range view.Props {
		if p.Value.Sort() == element.Bytes && raw.Prop(p.Name).Sort() == element.Text {
			d, _ := p.Value.Content()
			data, _ := r.Content()(d)
			t.take(&out, owner, p.Name, nested.Base64, data)
		}
	}
	kids := map[*element.Element]*element.Element{}
	for _, c := range view.Children {
		if !nested.IsEmbedded(c) {
			kids[origin[c]] = t.content(c, origin, r, owner)
			continue
		}
		data, _ := r.Content()(c.Origin)
		t.take(&out, owner, c.Key, c.Prop(nested.EncodingProperty).Text(), data)
	}
	out.Children = nil
	for _, c := range raw.Children {
		if made := kids[c]; made != nil {
			c = made
		}
		out.Children = append(out.Children, c)
	}
	return &out
}

// take makes a file of a property's content, and content in that files of their own.
func (t *taker) take(e *element.Element, owner, property, encoding string, data []byte) {
	file := t.name(strings.Trim(owner+"-"+property, "-"), nested.Extension(data), e.Prop(property).Text())
	e.Set(property, element.TextValue(nested.Reference(file, encoding)))
	t.put(file, property, data)
}

func (t *taker) name(what, ext, text string) string {
	return t.names.Take(t.file+".embedded/"+partfile.Safe(what), ext, text)
}

func (t *taker) put(file, name string, data []byte) {
	src := kind.FileSource{Name: path.Join(t.src.Path(), name+path.Ext(file)), Data: data, Depth: kind.DepthOf(t.src) + 1}
	used, divides := t.k.table.For(src.Name, data[:min(len(data), kind.HeadSize)]).(nested.Divider)
	if divides && src.Depth <= nested.MaxDepth {
		if body, parts, err := used.TakeApart(src, file, t.names); err == nil {
			t.parts = append(append(t.parts, kind.Part{Name: file, Data: body}), parts...)
			return
		}
	}
	t.parts = append(t.parts, kind.Part{Name: file, Data: data})
}

// slices takes out the elements that rules make parts of their own.
func (t *taker) slices(data []byte, r *rules) ([]byte, error) {
	slicer, ok := t.k.Writer.(Slicer)
	if !ok || !slices.ContainsFunc(r.all, func(r *Rule) bool { return r.Part }) {
		return data, nil
	}
	ext := path.Ext(t.src.Path())
	return slicer.Slice(data, func(line []*element.Element, raw []byte) (string, bool) {
		if line[0].Type == "xml" {
			line = line[1:]
		}
		if len(line) < 2 || !slices.ContainsFunc(r.at(line), func(r *Rule) bool { return r.Part }) {
			return "", false
		}
		e := line[len(line)-1]
		key := e.Key
		if names := r.say(line).key; names != nil {
			key = r.keyOf(e, names)
		}
		file := t.name(strings.Trim(e.Type+"-"+key, "-"), ext, key)
		t.parts = append(t.parts, kind.Part{Name: file, Data: raw})
		return file, true
	})
}

// PutTogether gives the document with its references resolved.
func (k Kind) PutTogether(src kind.Source, get func(string) ([]byte, error)) ([]byte, error) {
	data, err := kind.Main(src)
	if err != nil || !nested.Mentions(data) {
		return data, err
	}
	if slicer, ok := k.Writer.(Slicer); ok {
		if data, err = slicer.Unslice(data, get); err != nil {
			return nil, err
		}
	}
	whole := kind.FileSource{Name: src.Path(), Data: data, Depth: kind.DepthOf(src)}
	r, err := k.Writer.Read(whole)
	if err != nil {
		return nil, err
	}
	found, err := k.resolve(r.Root, whole, get)
	if err != nil || !found {
		return data, err
	}
	files, err := k.Writer.Write(whole, r.Root, nil)
	if err != nil {
		return nil, err
	}
	if out, ok := files[path.Base(src.Path())]; ok {
		return out, nil
	}
	return data, nil
}

// resolve puts content in the place of references, in place.
func (k Kind) resolve(e *element.Element, src kind.FileSource, get func(string) ([]byte, error)) (found bool, err error) {
	for i, p := range e.Props {
		file, encoding, ok := nested.ParseReference(p.Value.Text())
		if !ok || p.Value.Sort() != element.Text {
			continue
		}
		data, err := get(file)
		if err != nil {
			return false, err
		}
		inner := kind.FileSource{Name: path.Join(src.Name, p.Name+path.Ext(file)), Data: data, Depth: src.Depth + 1}
		if used, divides := k.table.For(inner.Name, data[:min(len(data), kind.HeadSize)]).(nested.Divider); divides &&
			inner.Depth <= nested.MaxDepth {
			within := func(name string) ([]byte, error) {
				if name == file {
					return nil, fmt.Errorf("the file %s refers to itself", file)
				}
				return get(name)
			}
			if data, err = used.PutTogether(inner, within); err != nil {
				return false, fmt.Errorf("%s: %w", file, err)
			}
		}
		text, err := nested.Encode(data, encoding, "")
		if err != nil {
			return false, err
		}
		e.Props[i].Value, found = element.TextValue(text), true
	}
	for _, c := range e.Children {
		below, err := k.resolve(c, src, get)
		if err != nil {
			return false, err
		}
		found = found || below
	}
	return found, nil
}
