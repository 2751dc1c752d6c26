package model

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"oakenchest/core/element"
)

// plyElement is a sort of thing that a PLY file lists (G. Turk, "The PLY Polygon
// File Format", 1994).
type plyElement struct {
	name  string
	count int
	props []plyProperty
}

type plyProperty struct {
	name, typ string
	length    string // the type of a list's length; empty for one value
}

var plySizes = map[string]int{"char": 1, "uchar": 1, "int8": 1, "uint8": 1, "short": 2, "ushort": 2, "int16": 2, "uint16": 2,
	"int": 4, "uint": 4, "int32": 4, "uint32": 4, "float": 4, "float32": 4, "double": 8, "float64": 8}

func readPLY(data []byte) (*mesh, error) {
	m := &mesh{form: "PLY"}
	head, form, list, err := plyHead(m, string(data))
	if err != nil {
		return nil, err
	}
	r := &plyReader{rest: data[head:], form: form}
	if form == "ascii" {
		m.form = "PLY as text"
		r.words = strings.Fields(string(data[head:]))
	}
	for _, e := range list {
		before := r.rest
		beforeWords := r.words
		if err := r.element(m, e); err != nil {
			return nil, fmt.Errorf("the list of %s: %w", e.name, err)
		}
		if e.name == "vertex" {
			continue
		}
		o := &object{name: e.name, faces: e.count, data: before[:len(before)-len(r.rest)]}
		if form == "ascii" {
			o.data = []byte(strings.Join(beforeWords[:len(beforeWords)-len(r.words)], " "))
		}
		m.objects = append(m.objects, o)
	}
	return m, nil
}

// plyHead reads the header and gives its length, the form of what follows, and
// what is listed there.
func plyHead(m *mesh, src string) (int, string, []plyElement, error) {
	at, form := 0, ""
	var list []plyElement
	for n := 1; ; n++ {
		i := strings.IndexByte(src[at:min(len(src), at+10_000)], '\n')
		if i < 0 {
			return 0, "", nil, errors.New("its header never ends")
		}
		fields := strings.Fields(src[at : at+i])
		at += i + 1
		if len(fields) == 0 {
			continue
		}
		bad := fmt.Errorf("line %d of the header is malformed", n)
		switch fields[0] {
		case "ply", "obj_info":
		case "format":
			if len(fields) < 2 || !slices.Contains([]string{"ascii", "binary_little_endian", "binary_big_endian"}, fields[1]) {
				return 0, "", nil, bad
			}
			form = fields[1]
		case "comment":
			m.says = append(m.says, element.Prop{Name: fmt.Sprint("comment ", len(m.says)+1),
				Value: element.TextValue(strings.Join(fields[1:], " "))})
		case "element":
			if len(fields) != 3 {
				return 0, "", nil, bad
			}
			count, err := strconv.Atoi(fields[2])
			if err != nil || count < 0 || count > MaxVertices {
				return 0, "", nil, bad
			}
			list = append(list, plyElement{name: fields[1], count: count})
		case "property":
			p, ok := plyPropertyOf(fields)
			if !ok || len(list) == 0 {
				return 0, "", nil, bad
			}
			last := &list[len(list)-1]
			last.props = append(last.props, p)
		case "end_header":
			if form == "" {
				return 0, "", nil, errors.New("its header names no format")
			}
			return at, form, list, nil
		default:
			return 0, "", nil, bad
		}
	}
}

func plyPropertyOf(fields []string) (plyProperty, bool) {
	switch {
	case len(fields) == 3:
		return plyProperty{name: fields[2], typ: fields[1]}, plySizes[fields[1]] > 0
	case len(fields) == 5 && fields[1] == "list":
		return plyProperty{name: fields[4], typ: fields[3], length: fields[2]}, plySizes[fields[2]] > 0 && plySizes[fields[3]] > 0
	}
	return plyProperty{}, false
}

type plyReader struct {
	rest  []byte
	words []string
	form  string
}

var errShort = errors.New("the file is cut short")

// value reads one number of a type.
func (r *plyReader) value(typ string) (float64, error) {
	if r.form == "ascii" {
		if len(r.words) == 0 {
			return 0, errShort
		}
		v, err := strconv.ParseFloat(r.words[0], 64)
		r.words = r.words[1:]
		return v, err
	}
	n := plySizes[typ]
	if len(r.rest) < n {
		return 0, errShort
	}
	var order binary.ByteOrder = binary.LittleEndian
	if r.form == "binary_big_endian" {
		order = binary.BigEndian
	}
	data := r.rest[:n]
	r.rest = r.rest[n:]
	switch typ {
	case "char", "int8":
		return float64(int8(data[0])), nil
	case "uchar", "uint8":
		return float64(data[0]), nil
	case "short", "int16":
		return float64(int16(order.Uint16(data))), nil
	case "ushort", "uint16":
		return float64(order.Uint16(data)), nil
	case "int", "int32":
		return float64(int32(order.Uint32(data))), nil
	case "uint", "uint32":
		return float64(order.Uint32(data)), nil
	case "float", "float32":
		return float64(math.Float32frombits(order.Uint32(data))), nil
	}
	return math.Float64frombits(order.Uint64(data)), nil
}

func (r *plyReader) element(m *mesh, e plyElement) error {
	for range e.count {
		var p point
		for _, prop := range e.props {
			n := 1
			if prop.length != "" {
				v, err := r.value(prop.length)
				if err != nil || v < 0 || v > MaxVertices {
					return errShort
				}
				n = int(v)
			}
			for range n {
				v, err := r.value(prop.typ)
				if err != nil {
					return errShort
				}
				if axis := strings.Index("xyz", prop.name); len(prop.name) == 1 && axis >= 0 {
					p[axis] = v
				}
			}
		}
		if e.name == "vertex" && len(m.vertices) == MaxVertices {
			return errMany
		}
		if e.name == "vertex" {
			m.vertices = append(m.vertices, p)
		}
	}
	return nil
}
