package picture

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"unicode/utf8"

	"oakenchest/core/element"
)

// jpeg reads the segments of a JPEG picture (ITU-T T.81, annex B) up to its scans.
func (p *parts) jpeg(data []byte) error {
	var tables []byte // they belong to how the pixels are stored
	for rest := data[2:]; ; {
		if len(rest) < 4 || rest[0] != 0xff {
			return errShort
		}
		mark := rest[1]
		if mark == 0xff { // padding
			rest = rest[1:]
			continue
		}
		n := int(binary.BigEndian.Uint16(rest[2:]))
		if n < 2 || n+2 > len(rest) {
			return errShort
		}
		body := rest[4 : n+2]
		switch {
		case mark == 0xda: // the scans, and all after them
			p.Stored(append(tables, rest...))
			return nil
		case mark == 0xfe && utf8.Valid(body):
			p.Text("comment", string(bytes.TrimRight(body, "\x00")))
		case mark == 0xe1 && bytes.HasPrefix(body, []byte("Exif\x00\x00")):
			p.fields(body[6:], "")
		case mark >= 0xe0 && mark <= 0xef:
			p.Chunk(fmt.Sprintf("APP%d", mark-0xe0), body)
		case mark >= 0xc0 && mark <= 0xcf && mark != 0xc4 && mark != 0xc8 && mark != 0xcc && len(body) > 5:
			p.Root.Set("depth", element.IntValue(int64(body[0])))
			p.Root.Set("colours", element.TextValue(map[byte]string{1: "grey", 3: "colour", 4: "four inks"}[body[5]]))
			if mark == 0xc2 {
				p.Root.Set("progressive", element.BoolValue(true))
			}
		default:
			tables = append(tables, rest[:n+2]...)
		}
		rest = rest[n+2:]
	}
}
