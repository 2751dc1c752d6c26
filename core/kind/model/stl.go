package model

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"strings"

	"oakenchest/core/element"
)

// readSTL reads triangles, in text or in bytes (the forms that 3D Systems
// published in 1989).
func readSTL(data []byte) (*mesh, error) {
	const head, size = 84, 50
	if len(data) >= head {
		if n := int64(binary.LittleEndian.Uint32(data[80:])); int64(len(data)) == head+n*size {
			return binarySTL(data, int(n))
		}
	}
	if !strings.HasPrefix(strings.TrimLeft(string(data[:min(len(data), 200)]), " \t\r\n"), "solid") {
		return nil, errors.New("it is neither text that begins with solid nor of the length that its head says")
	}
	return textSTL(string(data))
}

func binarySTL(data []byte, n int) (*mesh, error) {
	if n > MaxVertices/3 {
		return nil, errMany
	}
	m := &mesh{form: "STL"}
	if says := strings.TrimRight(string(data[:80]), " \x00"); says != "" {
		m.says = append(m.says, element.Prop{Name: "head", Value: element.TextValue(strings.ToValidUTF8(says, "?"))})
	}
	for i := range n {
		at := data[84+i*50+12:]
		for range 3 {
			var p point
			for k := range p {
				p[k] = float64(math.Float32frombits(binary.LittleEndian.Uint32(at[4*k:])))
			}
			m.vertices = append(m.vertices, p)
			at = at[12:]
		}
	}
	m.objects = []*object{{name: "triangles", faces: n, data: data[84:]}}
	return m, nil
}

func textSTL(src string) (*mesh, error) {
	m := &mesh{form: "STL as text"}
	var o *object
	first, corners := 0, 0
	for n, line := range strings.Split(src, "\n") {
		fields := strings.Fields(line)
		if len(fields) == 0 {
			continue
		}
		switch fields[0] {
		case "solid":
			if o = (&object{name: strings.Join(fields[1:], " ")}); o.name == "" {
				o.name = "solid"
			}
			m.objects, first = append(m.objects, o), len(m.vertices)
		case "vertex":
			p, err := placeOf(fields[1:])
			if err != nil || o == nil {
				return nil, fmt.Errorf("line %d: a vertex that is malformed or stands in no solid", n+1)
			}
			if m.vertices = append(m.vertices, p); len(m.vertices) > MaxVertices {
				return nil, errMany
			}
			corners++
		case "endfacet":
			if o == nil || corners != 3 {
				return nil, fmt.Errorf("line %d: a facet of %d corners", n+1, corners)
			}
			o.faces++
			corners = 0
		case "endsolid":
			if o != nil {
				o.data = places(m.vertices[first:])
				o.uses = []int{}
				for i := first; i < len(m.vertices); i++ {
					o.uses = append(o.uses, i)
				}
			}
			o = nil
		case "facet", "outer", "endloop", "color":
		default:
			return nil, fmt.Errorf("line %d: the word %.20q is not known", n+1, fields[0])
		}
	}
	if o != nil || len(m.objects) == 0 {
		return nil, errors.New("a solid that never ends")
	}
	return m, nil
}
