package model

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"oakenchest/core/element"
)

// readOBJ reads the text form that is called after its files' ending. Lines that
// it does not know belong to the object that they stand in.
func readOBJ(src string) (*mesh, error) {
	m := &mesh{form: "OBJ"}
	o := &object{}
	var text strings.Builder
	used := map[int]bool{}
	finish := func() {
		o.data = []byte(text.String())
		for i := range used {
			o.uses = append(o.uses, i)
		}
		slices.Sort(o.uses)
		if o.faces > 0 || o.name != "" {
			if o.uses == nil {
				o.uses = []int{}
			}
			m.objects = append(m.objects, o)
		}
	}
	known := 0
	for n, line := range strings.Split(src, "\n") {
		line = strings.TrimRight(line, "\r")
		fields := strings.Fields(line)
		if len(fields) == 0 || strings.HasPrefix(fields[0], "#") {
			continue
		}
		switch fields[0] {
		case "v":
			p, err := placeOf(fields[1:])
			if err != nil {
				return nil, fmt.Errorf("line %d: %w", n+1, err)
			}
			if m.vertices = append(m.vertices, p); len(m.vertices) > MaxVertices {
				return nil, errMany
			}
			known++
			continue
		case "vt", "vn", "vp":
			known++
			continue
		case "mtllib":
			m.says = append(m.says[:0:0], element.Prop{Name: "materials in", Value: element.TextValue(strings.Join(fields[1:], " "))})
			known++
			continue
		case "o", "g":
			finish()
			o, used = &object{name: strings.Join(fields[1:], " ")}, map[int]bool{}
			text.Reset()
			known++
			continue
		case "usemtl":
			if name := strings.Join(fields[1:], " "); !slices.Contains(o.materials, name) {
				o.materials = append(o.materials, name)
			}
		case "f", "l", "p":
			for _, f := range fields[1:] {
				number, _, _ := strings.Cut(f, "/")
				i, err := strconv.Atoi(number)
				if i < 0 {
					i += len(m.vertices) + 1
				}
				if err != nil || i < 1 || i > len(m.vertices) {
					return nil, fmt.Errorf("line %d: a face of the vertex %s, of which there is none", n+1, number)
				}
				used[i-1] = true
			}
			o.faces++
			known++
		}
		text.WriteString(line + "\n")
	}
	finish()
	if known == 0 {
		return nil, errors.New("it holds no mesh")
	}
	return m, nil
}

// placeOf reads the first three of some numbers.
func placeOf(fields []string) (point, error) {
	var p point
	if len(fields) < 3 {
		return p, errors.New("a vertex of fewer than three numbers")
	}
	for i := range p {
		v, err := strconv.ParseFloat(fields[i], 64)
		if err != nil {
			return p, fmt.Errorf("%q is no number", fields[i])
		}
		p[i] = v
	}
	return p, nil
}
