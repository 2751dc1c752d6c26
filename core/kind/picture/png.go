package picture

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"io"
	"strings"
	"unicode/utf8"

	"oakenchest/core/element"
)

var errShort = errors.New("it is cut short")

// maxText bounds a compressed text in bytes.
const maxText = 1 << 24

// colours names the colour types of PNG (ISO/IEC 15948, section 11.2.2).
var colours = map[byte]string{0: "grey", 2: "colour", 3: "palette", 4: "grey with alpha", 6: "colour with alpha"}

// png reads the chunks of a PNG picture.
func (p *parts) png(data []byte) error {
	var pixels []byte
	for rest := data[8:]; ; {
		if len(rest) < 12 {
			return errShort
		}
		n := binary.BigEndian.Uint32(rest)
		if uint64(n) > uint64(len(rest)-12) {
			return errShort
		}
		name, body := string(rest[4:8]), rest[8:8+n]
		rest = rest[12+n:]
		switch name {
		case "IHDR":
			if len(body) < 13 {
				return errShort
			}
			p.Root.Set("depth", element.IntValue(int64(body[8])))
			p.Root.Set("colours", element.TextValue(colours[body[9]]))
			if body[12] != 0 {
				p.Root.Set("interlaced", element.BoolValue(true))
			}
		case "IDAT":
			pixels = append(pixels, body...)
		case "tEXt", "zTXt", "iTXt":
			p.pngText(name, body)
		case "pHYs":
			if len(body) == 9 && body[8] == 1 {
				p.Root.Set("dots per metre", element.ListValue(element.IntValue(int64(binary.BigEndian.Uint32(body))),
					element.IntValue(int64(binary.BigEndian.Uint32(body[4:])))))
			}
		case "eXIf":
			p.fields(body, "")
		case "IEND":
			p.Stored(pixels)
			return nil
		default:
			p.Chunk(name, body)
		}
	}
}

// pngText adds a text chunk; one that can't be read is kept whole.
func (p *parts) pngText(name string, body []byte) {
	key, rest, ok := bytes.Cut(body, []byte{0})
	var text []byte
	switch {
	case !ok:
	case name == "tEXt":
		text = latin(rest)
	case name == "zTXt" && len(rest) > 1:
		text = latin(inflate(rest[1:]))
	case name == "iTXt" && len(rest) > 2:
		packed := rest[0] == 1
		_, after, _ := bytes.Cut(rest[2:], []byte{0}) // the language
		_, text, ok = bytes.Cut(after, []byte{0})     // the key in that language
		if packed {
			text = inflate(text)
		}
	}
	if !ok || len(key) == 0 || !utf8.Valid(text) {
		p.Chunk(name, body)
		return
	}
	p.Text(string(latin(key)), string(text))
}

// latin gives UTF-8 for text in ISO 8859-1.
func latin(data []byte) []byte {
	var b strings.Builder
	for _, c := range data {
		b.WriteRune(rune(c))
	}
	return []byte(b.String())
}

func inflate(data []byte) []byte {
	z, err := zlib.NewReader(bytes.NewReader(data))
	if err != nil {
		return nil
	}
	out, err := io.ReadAll(io.LimitReader(z, maxText))
	if err != nil {
		return nil
	}
	return out
}
