package picture

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"strings"
	"unicode/utf8"

	"oakenchest/core/element"
)

// fieldNames are the fields that people know, of TIFF 6.0 and Exif 2.32.
var fieldNames = map[uint16]string{
	0x10e: "description", 0x10f: "maker", 0x110: "model", 0x112: "orientation", 0x11a: "horizontal resolution",
	0x11b: "vertical resolution", 0x131: "software",
	0x129: "page", 0x132: "changed", 0x13e: "white point", 0x13f: "primaries", 0x13b: "artist", 0x8298: "copyright",
	0x829a: "exposure time", 0x829d: "aperture", 0x8827: "sensitivity", 0x9003: "taken", 0x920a: "focal length", 0xa001: "colour space",
}

// skipped are fields that only say where others lie, or how pixels are stored.
var skipped = map[uint16]bool{0x100: true, 0x101: true, 0x102: true, 0x103: true, 0x106: true, 0x10a: true, 0x111: true, 0x115: true,
	0x116: true, 0x117: true, 0x11c: true, 0x13d: true, 0x152: true, 0x153: true, 0x927c: true}

// Pointers to further directories.
const (
	exifPointer = 0x8769
	gpsPointer  = 0x8825
)

// maxFields bounds one directory.
const maxFields = 512

// fields adds the fields of a TIFF structure. One that is damaged is left out:
// the bytes are stored anyway.
func (p *parts) fields(data []byte, group string) {
	if len(data) < 8 {
		return
	}
	var order binary.ByteOrder = binary.LittleEndian
	if data[0] == 'M' {
		order = binary.BigEndian
	}
	d := directory{p, data, order}
	d.read(order.Uint32(data[4:]), group, 0)
}

type directory struct {
	parts *parts
	data  []byte
	order binary.ByteOrder
}

// at gives n bytes at an offset, nil when they are not there.
func (d directory) at(offset, n uint64) []byte {
	if offset > uint64(len(d.data)) || n > uint64(len(d.data))-offset {
		return nil
	}
	return d.data[offset : offset+n]
}

func (d directory) read(offset uint32, group string, deep int) {
	head := d.at(uint64(offset), 2)
	if head == nil || deep > 2 {
		return
	}
	for i := range min(uint64(d.order.Uint16(head)), maxFields) {
		e := d.at(uint64(offset)+2+i*12, 12)
		if e == nil {
			return
		}
		tag := d.order.Uint16(e)
		switch {
		case tag == exifPointer:
			d.read(d.order.Uint32(e[8:]), group, deep+1)
		case tag == gpsPointer:
			d.read(d.order.Uint32(e[8:]), "place ", deep+1)
		case !skipped[tag]:
			d.field(tag, group, e)
		}
	}
}

// sizes are those of the types of values, in bytes.
var sizes = map[uint16]uint64{1: 1, 2: 1, 3: 2, 4: 4, 5: 8, 6: 1, 7: 1, 8: 2, 9: 4, 10: 8}

func (d directory) field(tag uint16, group string, e []byte) {
	typ, count := d.order.Uint16(e[2:]), uint64(d.order.Uint32(e[4:]))
	size := sizes[typ]
	if size == 0 || count > 1<<20 {
		return
	}
	value := e[8:12]
	if size*count > 4 {
		if value = d.at(uint64(d.order.Uint32(e[8:])), size*count); value == nil {
			return
		}
	}
	name := fieldNames[tag]
	if name == "" || group != "" {
		name = fmt.Sprintf("%s0x%04X", group, tag)
	}
	v, ok := d.value(typ, value[:size*count], size)
	if !ok {
		return
	}
	d.parts.Root.Add(&element.Element{Type: "field", Key: name, Props: []element.Prop{{Name: "value", Value: v}}, Gist: v.String()})
}

func (d directory) value(typ uint16, data []byte, size uint64) (element.Value, bool) {
	if typ == 2 {
		text := strings.TrimRight(string(data), "\x00 ")
		return element.TextValue(text), utf8.ValidString(text)
	}
	if typ == 7 || typ == 1 || typ == 6 {
		if len(data) <= 8 {
			return element.TextValue(fmt.Sprintf("%X", data)), true
		}
		return d.parts.Bytes(bytes.Clone(data)), true
	}
	var out []element.Value
	for ; uint64(len(data)) >= size && len(out) < 64; data = data[size:] {
		switch typ {
		case 3:
			out = append(out, element.IntValue(int64(d.order.Uint16(data))))
		case 8:
			out = append(out, element.IntValue(int64(int16(d.order.Uint16(data)))))
		case 4:
			out = append(out, element.IntValue(int64(d.order.Uint32(data))))
		case 9:
			out = append(out, element.IntValue(int64(int32(d.order.Uint32(data)))))
		case 5:
			out = append(out, element.TextValue(fmt.Sprintf("%d/%d", d.order.Uint32(data), d.order.Uint32(data[4:]))))
		case 10:
			out = append(out, element.TextValue(fmt.Sprintf("%d/%d", int32(d.order.Uint32(data)), int32(d.order.Uint32(data[4:])))))
		}
	}
	switch len(out) {
	case 0:
		return element.Value{}, false
	case 1:
		return out[0], true
	}
	return element.ListValue(out...), true
}
