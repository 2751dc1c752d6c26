// Package nested reads content inside content: the parts of a package, and texts
// that hold a file of their own in an encoding.
//
// Bytes that a kind of the table can read and write are an element with that
// kind's elements inside; others are a value that stands for bytes. What is
// decoded keeps its former bytes for as long as it does not change.
package nested

import (
	"crypto/sha256"
	"fmt"
	"hash"
	"path"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// Properties of an element that stands for content.
const (
	KindProperty     = "(kind)"
	EncodingProperty = "(encoding)"
	ContentProperty  = "content"
)

// MaxDepth bounds content inside content.
const MaxDepth = 6

// Reader reads content that lies in one artifact. The zero value is not ready.
type Reader struct {
	table  *kind.Table
	src    kind.Source
	depth  int
	held   map[element.Digest][]byte
	budget *kind.Budget

	hidden hash.Hash // of what readings leave out; nil for nothing
}

// NewReader begins to read what lies in an artifact.
func NewReader(t *kind.Table, src kind.Source) *Reader {
	src, budget := kind.Budgeted(src)
	return &Reader{table: t, src: src, depth: kind.DepthOf(src) + 1, held: map[element.Digest][]byte{}, budget: budget}
}

// Content gives the bytes behind the elements that were read.
func (r *Reader) Content() kind.Content { return kind.Held(r.held) }

// Hidden gives a digest of what the elements leave out; zero for nothing.
func (r *Reader) Hidden() element.Digest {
	if r.hidden == nil {
		return element.Digest{}
	}
	return element.Digest(r.hidden.Sum(nil))
}

// Element gives the element of some bytes, of a type and with a key. name is the
// path of the bytes in the artifact, by which their kind is told.
func (r *Reader) Element(typ, key, name string, data []byte) *element.Element {
	d := element.DigestOf(data)
	r.held[d] = data
	e := &element.Element{Type: typ, Key: key, Firm: true, Origin: d, Gist: element.SizeText(int64(len(data)))}
	used, root := r.read(name, data)
	if root == nil {
		e.Set(ContentProperty, element.BytesValue(d, int64(len(data))))
		return e
	}
	e.Gist = used.Name() + ", " + e.Gist
	e.Props = append([]element.Prop{{Name: KindProperty, Value: element.TextValue(used.Name())}}, root.Props...)
	e.Children, e.Ordered = root.Children, root.Ordered
	return e
}

// source gives the source of bytes that lie in the artifact.
func (r *Reader) source(name string, data []byte) kind.FileSource {
	return kind.FileSource{Name: path.Join(r.src.Path(), name), Data: data, Depth: r.depth, Budget: r.budget}
}

// read reads bytes with the kind that claims them; the root is nil when nothing
// but their size is to be said.
func (r *Reader) read(name string, data []byte) (kind.Writer, *element.Element) {
	src := r.source(name, data)
	used, ok := r.table.For(src.Name, data[:min(len(data), kind.HeadSize)]).(kind.Writer)
	if !ok || len(data) == 0 || r.depth > MaxDepth {
		return nil, nil
	}
	if w, ok := kind.Ability[kind.Weigher](used); ok && r.budget.Built(w.Weigh(data)) != nil {
		return nil, nil
	}
	r.table.Decoding(int64(len(data)))
	reading, err := used.Read(src)
	if err != nil || len(reading.Uses) > 0 {
		return nil, nil
	}
	if reading.Hidden != (element.Digest{}) {
		if r.hidden == nil {
			r.hidden = sha256.New()
		}
		r.hidden.Write(reading.Hidden[:])
	}
	r.collect(reading, reading.Root)
	return used, reading.Root
}

// collect takes over the bytes behind values and origins.
func (r *Reader) collect(from *kind.Reading, e *element.Element) {
	if from.Content == nil {
		return
	}
	take := func(d element.Digest) {
		if data, ok := from.Content(d); ok {
			r.held[d] = data
		}
	}
	if e.Origin != (element.Digest{}) {
		take(e.Origin)
	}
	for _, p := range e.Props {
		if p.Value.Sort() == element.Bytes {
			d, _ := p.Value.Content()
			take(d)
		}
	}
	for _, c := range e.Children {
		r.collect(from, c)
	}
}

// Bytes gives the bytes that an element of Element stands for: those that it was
// read from, changed as far as its tree differs from theirs.
func (r *Reader) Bytes(e *element.Element, name string, content kind.Content) ([]byte, error) {
	if v := e.Prop(ContentProperty); v.Sort() == element.Bytes && e.Prop(KindProperty).IsAbsent() {
		d, _ := v.Content()
		data, ok := content(d)
		if !ok {
			return nil, fmt.Errorf("the bytes of %s are not at hand", name)
		}
		return data, nil
	}
	origin, _ := content(e.Origin)
	src := r.source(name, origin)
	used, ok := r.table.As(e.Prop(KindProperty).Text(), src.Name)
	writer, writes := used.(kind.Writer)
	if !ok || !writes {
		return nil, fmt.Errorf("no kind %q can write %s", e.Prop(KindProperty).Text(), name)
	}
	files, err := writer.Write(src, rootOf(e), content)
	if err != nil {
		return nil, err
	}
	if out, ok := files[path.Base(src.Name)]; ok {
		return out, nil
	}
	return origin, nil
}

// rootOf gives the element that a kind read, out of one that stands for content.
func rootOf(e *element.Element) *element.Element {
	root := &element.Element{Type: "root", Children: e.Children, Ordered: e.Ordered}
	for _, p := range e.Props {
		if p.Name != KindProperty && p.Name != EncodingProperty {
			root.Props = append(root.Props, p)
		}
	}
	return root
}
