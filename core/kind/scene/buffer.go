package scene

import (
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind/jsondoc"
	"oakenchest/core/kind/jsontree"
)

// bufferWriter gathers new bytes: at the end of a .glb's buffer, or in a buffer
// of their own, written as a data URI, for a .gltf.
type bufferWriter struct {
	file    *file
	known   []*jsondoc.Node // the source's accessors
	byValue map[element.Digest]int
	fresh   []byte
	base    int // length of the buffer that fresh is appended to
	buffer  int
	began   bool
}

// begin finds the buffer to append to, once.
func (b *bufferWriter) begin(doc *jsondoc.Node) {
	if b.began {
		return
	}
	f := b.file
	b.began = true
	buffers := doc.Get("buffers")
	if buffers == nil {
		buffers = jsondoc.Arr()
		doc.Set("buffers", buffers)
	}
	if f.binary && (f.hasBin || len(buffers.Items) == 0) {
		b.buffer, b.base = 0, (len(f.bin)+3)&^3
		if len(buffers.Items) == 0 {
			buffers.Append(jsondoc.Obj().Set("byteLength", jsondoc.Int(0)))
		}
		return
	}
	b.buffer = len(buffers.Items)
	buffers.Append(jsondoc.Obj().Set("byteLength", jsondoc.Int(0)))
}

// view appends bytes and gives the index of a new buffer view of them.
func (b *bufferWriter) view(doc *jsondoc.Node, data []byte) *jsondoc.Node {
	b.begin(doc)
	for len(b.fresh)%4 != 0 {
		b.fresh = append(b.fresh, 0)
	}
	n := jsondoc.Obj().Set("buffer", jsondoc.Int(b.buffer))
	if at := b.base + len(b.fresh); at > 0 {
		n.Set("byteOffset", jsondoc.Int(at))
	}
	n.Set("byteLength", jsondoc.Int(len(data)))
	b.fresh = append(b.fresh, data...)
	return appendTo(doc, "bufferViews", n)
}

func appendTo(doc *jsondoc.Node, list string, n *jsondoc.Node) *jsondoc.Node {
	all := doc.Get(list)
	if all == nil {
		all = jsondoc.Arr()
		doc.Set(list, all)
	}
	all.Append(n)
	return jsondoc.Int(len(all.Items) - 1)
}

// finish puts the new bytes where they belong.
func (b *bufferWriter) finish(doc *jsondoc.Node) {
	if len(b.fresh) == 0 {
		return
	}
	f := b.file
	n := doc.Get("buffers").Items[b.buffer].Value
	if b.buffer == 0 && f.binary {
		f.bin = slices.Concat(f.bin, make([]byte, b.base-len(f.bin)), b.fresh)
		f.hasBin = true
		n.Set("byteLength", jsondoc.Int(len(f.bin)))
		return
	}
	n.Set("byteLength", jsondoc.Int(len(b.fresh)))
	n.Set("uri", jsondoc.Str("data:application/octet-stream;base64,"+base64.StdEncoding.EncodeToString(b.fresh)))
}

// valueSum names the values of an accessor, whatever they are used for.
func valueSum(e *element.Element) element.Digest {
	c := *e
	c.Type, c.Key = "values", ""
	return c.Sum()
}

// accessor gives the index of the accessor with the wanted values: one of the
// source where there is an equal one, else a new one.
func (w *sceneWriter) accessor(e *element.Element) (*jsondoc.Node, error) {
	b := &w.buffer
	if b.byValue == nil {
		b.byValue = map[element.Digest]int{}
		for i := range b.known {
			if v, err := w.values("values", "", jsondoc.Int(i)); err == nil {
				if sum := valueSum(v); b.byValue[sum] == 0 {
					b.byValue[sum] = i + 1
				}
			}
		}
	}
	sum := valueSum(e)
	if i := b.byValue[sum]; i > 0 {
		return jsondoc.Int(i - 1), nil
	}
	n, err := w.newAccessor(e)
	if err != nil {
		return nil, err
	}
	i, _ := whole(n)
	b.byValue[sum] = i + 1
	return n, nil
}

func (w *sceneWriter) newAccessor(e *element.Element) (*jsondoc.Node, error) {
	kindOf, component, ok := strings.Cut(e.Prop("type").Text(), " of ")
	code := componentCode(component)
	if !ok || code == "" || e.Prop("data").Sort() != element.Bytes {
		return nil, fmt.Errorf("the values %s are of an unknown type", e.Key)
	}
	d, _ := e.Prop("data").Content()
	data, held := w.content(d)
	if !held {
		return nil, fmt.Errorf("the bytes of %s are not at hand", e.Key)
	}
	n := jsondoc.Obj().Set("componentType", jsondoc.Num(code)).Set("type", jsondoc.Str(strings.ToUpper(kindOf)))
	for _, m := range []string{"count", "normalized", "min", "max"} {
		if v := e.Prop(m); !v.IsAbsent() {
			j, err := jsontree.FromValue(v)
			if err != nil {
				return nil, err
			}
			n.Set(m, j)
		}
	}
	if sparse := e.Prop("sparse"); !sparse.IsAbsent() {
		if err := w.sparse(n, e, data); err != nil {
			return nil, err
		}
	} else if len(data) > 0 {
		n.Set("bufferView", w.buffer.view(w.doc, data))
	}
	return appendTo(w.doc, "accessors", n), nil
}

func componentCode(name string) string {
	for code, n := range componentName {
		if n == name {
			return code
		}
	}
	return ""
}

// sparse lays out the three parts of a sparse accessor's bytes.
func (w *sceneWriter) sparse(n *jsondoc.Node, e *element.Element, data []byte) error {
	count, component, _ := strings.Cut(e.Prop("sparse").Text(), " of ")
	code := componentCode(component)
	k, err1 := whole(jsondoc.Num(count))
	all, err2 := whole(n.Get("count"))
	item, err3 := itemSize(n)
	base := 0
	if e.Prop("base").Text() == "true" {
		base = all * item
	}
	if err := errors.Join(err1, err2, err3); err != nil {
		return err
	}
	split := base + k*componentSize[code]
	if code == "" || split+k*item != len(data) {
		return errors.New("its sparse values do not fit together")
	}
	if base > 0 {
		n.Set("bufferView", w.buffer.view(w.doc, data[:base]))
	}
	n.Set("sparse", jsondoc.Obj().Set("count", jsondoc.Num(count)).
		Set("indices", jsondoc.Obj().Set("bufferView", w.buffer.view(w.doc, data[base:split])).Set("componentType", jsondoc.Num(code))).
		Set("values", jsondoc.Obj().Set("bufferView", w.buffer.view(w.doc, data[split:]))))
	return nil
}
