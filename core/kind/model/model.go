// Package model is the kind of meshes in simple forms: OBJ (Wavefront), PLY
// (Stanford), and STL in text and bytes.
//
// Objects and groups are elements with their number of faces, their materials and
// their bounds; what a file says of itself are properties. Faces count vertices
// over the whole file, so two edits can't be merged.
package model

import (
	"errors"
	"fmt"
	"math"
	"path"
	"strconv"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// Kind reads meshes.
type Kind struct{}

var _ kind.Measurer = Kind{}

// Name is "model".
func (Kind) Name() string { return "model" }

// About describes the kind.
func (Kind) About() string {
	return "meshes in OBJ, PLY and STL: objects with faces, materials and bounds"
}

// Claims takes files by their endings and their beginning.
func (Kind) Claims(p string, head []byte) bool {
	switch strings.ToLower(path.Ext(p)) {
	case ".obj":
		return strings.IndexByte(string(head), 0) < 0
	case ".ply":
		return strings.HasPrefix(string(head), "ply\n") || strings.HasPrefix(string(head), "ply\r\n")
	case ".stl":
		return true
	}
	return false
}

// point is a place in space.
type point [3]float64

// mesh is what all forms have in common.
type mesh struct {
	form     string
	says     []element.Prop // what the file says of itself
	vertices []point
	objects  []*object
}

// object is a named part of a mesh.
type object struct {
	name      string
	faces     int
	materials []string
	uses      []int  // vertices, by number from 0; nil for all
	data      []byte // what it was read from
}

// MaxVertices bounds the vertices of a mesh.
const MaxVertices = 20_000_000

var errMany = errors.New("it has too many vertices")

func open(src kind.Source) (*mesh, error) {
	data, err := kind.Main(src)
	if err != nil {
		return nil, err
	}
	switch strings.ToLower(path.Ext(src.Path())) {
	case ".ply":
		return readPLY(data)
	case ".stl":
		return readSTL(data)
	}
	return readOBJ(string(data))
}

// Read reads a mesh.
func (Kind) Read(src kind.Source) (*kind.Reading, error) {
	m, err := open(src)
	if err != nil {
		return nil, err
	}
	held := map[element.Digest][]byte{}
	faces := 0
	for _, o := range m.objects {
		faces += o.faces
	}
	root := &element.Element{Type: "model", Gist: fmt.Sprintf("%s, %d vertices, %d faces", m.form, len(m.vertices), faces)}
	root.Set("format", element.TextValue(m.form))
	root.Props = append(root.Props, m.says...)
	root.Set("vertices", element.IntValue(int64(len(m.vertices))))
	setBounds(root, m.vertices, nil)
	shape := places(m.vertices)
	d := element.DigestOf(shape)
	held[d] = shape
	root.Set("shape", element.BytesValue(d, int64(len(shape))))
	for _, o := range m.objects {
		e := &element.Element{Type: "object", Key: o.name, Gist: fmt.Sprintf("%d faces", o.faces)}
		e.Set("faces", element.IntValue(int64(o.faces)))
		if len(o.materials) > 0 {
			list := make([]element.Value, len(o.materials))
			for i, n := range o.materials {
				list[i] = element.TextValue(n)
			}
			e.Set("materials", element.ListValue(list...))
		}
		setBounds(e, m.vertices, o.uses)
		d := element.DigestOf(o.data)
		held[d] = o.data
		e.Set("data", element.BytesValue(d, int64(len(o.data))))
		root.Add(e)
	}
	element.Distinguish(root.Children)
	return &kind.Reading{Root: root, Content: kind.Held(held)}, nil
}

// places writes vertices as text, one a line, to be told apart.
func places(all []point) []byte {
	var b []byte
	for _, p := range all {
		for i, v := range p {
			if i > 0 {
				b = append(b, ' ')
			}
			b = strconv.AppendFloat(b, v, 'g', -1, 64)
		}
		b = append(b, '\n')
	}
	return b
}

// setBounds gives an element the box around vertices: those that are used, or all.
func setBounds(e *element.Element, vertices []point, uses []int) {
	low, high, any := point{math.Inf(1), math.Inf(1), math.Inf(1)}, point{math.Inf(-1), math.Inf(-1), math.Inf(-1)}, false
	take := func(p point) {
		any = true
		for i := range p {
			low[i], high[i] = min(low[i], p[i]), max(high[i], p[i])
		}
	}
	if uses == nil {
		for _, p := range vertices {
			take(p)
		}
	}
	for _, i := range uses {
		take(vertices[i])
	}
	if any {
		e.Set("least", element.ListValue(number(low[0]), number(low[1]), number(low[2])))
		e.Set("greatest", element.ListValue(number(high[0]), number(high[1]), number(high[2])))
	}
}

func number(v float64) element.Value {
	return element.NumberValue(strconv.FormatFloat(v, 'g', 7, 64))
}

// Facts has nothing to add to what Read gives.
func (Kind) Facts(kind.Source) ([]element.Prop, error) { return nil, nil }

// Measure says of `shape` how many vertices lie elsewhere, and how far.
func (Kind) Measure(was, is kind.Source) (map[string]string, error) {
	a, err := open(was)
	if err != nil {
		return nil, err
	}
	b, err := open(is)
	if err != nil {
		return nil, err
	}
	if len(a.vertices) != len(b.vertices) {
		return map[string]string{"shape": fmt.Sprintf("%d vertices, and %d before", len(b.vertices), len(a.vertices))}, nil
	}
	moved, most := 0, 0.0
	for i, p := range a.vertices {
		q := b.vertices[i]
		if p == q {
			continue
		}
		moved++
		most = max(most, math.Sqrt((p[0]-q[0])*(p[0]-q[0])+(p[1]-q[1])*(p[1]-q[1])+(p[2]-q[2])*(p[2]-q[2])))
	}
	return map[string]string{"shape": fmt.Sprintf("%d of %d vertices lie elsewhere, by up to %.4g", moved, len(a.vertices), most)}, nil
}
