// Package charset reads text files that are not in UTF-8: UTF-16 with a byte-order
// mark, and the one-byte encoding of Windows (code page 1252, of which ISO 8859-1
// is a part). Kinds of text see UTF-8; what they write is encoded as it was.
package charset

import (
	"bytes"
	"errors"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// detect gives the encoding of text that is not UTF-8, by its first bytes; nil
// when it is UTF-8, or no text.
func detect(head []byte) encoding.Encoding {
	switch {
	case bytes.HasPrefix(head, []byte("\xff\xfe")) && len(head) > 2 && !bytes.HasPrefix(head, []byte("\xff\xfe\x00\x00")):
		return unicode.UTF16(unicode.LittleEndian, unicode.UseBOM)
	case bytes.HasPrefix(head, []byte("\xfe\xff")) && len(head) > 2:
		return unicode.UTF16(unicode.BigEndian, unicode.UseBOM)
	}
	if utf8.Valid(head) {
		return nil
	}
	letters, odd := 0, 0
	for i := 0; i < len(head); {
		r, n := utf8.DecodeRune(head[i:])
		switch c := head[i]; {
		case r == utf8.RuneError && n == 1 && len(head)-i < utf8.UTFMax && !utf8.FullRune(head[i:]):
			n = len(head) - i // a character may be cut at the end
		case r == utf8.RuneError && n == 1 && c < 0xa0:
			return nil // signs that hardly any text has: bytes of something else
		case r == utf8.RuneError && n == 1:
			odd++
		case c < ' ' && c != '\t' && c != '\n' && c != '\r' && c != '\f':
			return nil
		default:
			letters++
		}
		i += n
	}
	if odd == 0 || odd*4 > letters {
		return nil
	}
	return charmap.Windows1252
}

// Head gives the first bytes of a text in UTF-8; false when they are that already,
// or no text.
func Head(head []byte) ([]byte, bool) {
	e := detect(head)
	if e == nil {
		return nil, false
	}
	if e != charmap.Windows1252 {
		head = head[:len(head)/2*2]
	}
	out, err := e.NewDecoder().Bytes(head)
	return out, err == nil && utf8.Valid(out) && bytes.IndexByte(out, 0) < 0
}

// Kind reads files in other encodings by a kind of text.
type Kind struct{ kind.Writer }

// Inner gives the kind that reads the text.
func (k Kind) Inner() kind.Kind { return k.Writer }

// texts are the kinds that read text in UTF-8 alone; XML names its encoding, and its
// kind follows that.
var texts = map[string]bool{"text": true, "table": true, "json": true, "yaml": true, "toml": true, "settings": true}

// Of gives the kind of files in other encodings that k reads; false for kinds of
// something else.
func Of(k kind.Kind) (kind.Kind, bool) {
	w, ok := k.(kind.Writer)
	return Kind{w}, ok && texts[k.Name()]
}

var errBytes = errors.New("its bytes are no text in the encoding that it seems to have")

// decode gives a source in UTF-8, and how it is written back. A text that would not
// come back byte for byte is refused.
func decode(src kind.Source) (kind.FileSource, encoding.Encoding, error) {
	data, err := kind.Main(src)
	if err != nil {
		return kind.FileSource{}, nil, err
	}
	out := kind.FileSource{Name: src.Path(), Data: data, Depth: kind.DepthOf(src)}
	e := detect(data[:min(len(data), kind.HeadSize)])
	if e == nil {
		return out, nil, nil
	}
	text, err := e.NewDecoder().Bytes(data)
	if err != nil {
		return out, nil, errBytes
	}
	if back, err := e.NewEncoder().Bytes(text); err != nil || !bytes.Equal(back, data) {
		return out, nil, errBytes
	}
	out.Data = text
	return out, e, nil
}

// Names of encodings, as IANA has them; UTF-8 has the empty name.
const (
	littleEndian = "UTF-16LE"
	bigEndian    = "UTF-16BE"
	windows      = "windows-1252"
)

// Decode gives a whole text in UTF-8, a byte-order mark included, and the name of its
// encoding; false when it is no text, or would not come back byte for byte.
func Decode(data []byte) (text []byte, name string, ok bool) {
	e := detect(data[:min(len(data), kind.HeadSize)])
	if e == nil {
		return data, "", utf8.Valid(data)
	}
	name = windows
	if marked := bytes.HasPrefix(data, []byte("\xff\xfe")); marked || bytes.HasPrefix(data, []byte("\xfe\xff")) {
		if name = bigEndian; marked {
			name = littleEndian
		}
	}
	plain, _, err := decode(kind.FileSource{Name: "x", Data: data})
	if err == nil && name != windows {
		plain.Data = append([]byte("\ufeff"), plain.Data...)
	}
	return plain.Data, name, err == nil && utf8.Valid(plain.Data)
}

// Encode is the reverse of Decode; false when the encoding has no place for a character.
func Encode(text []byte, name string) ([]byte, bool) {
	var e encoding.Encoding
	switch name {
	case "":
		return text, true
	case windows:
		e = charmap.Windows1252
	case littleEndian:
		e = unicode.UTF16(unicode.LittleEndian, unicode.UseBOM)
	case bigEndian:
		e = unicode.UTF16(unicode.BigEndian, unicode.UseBOM)
	default:
		return nil, false
	}
	if name != windows {
		text = bytes.TrimPrefix(text, []byte("\ufeff"))
	}
	out, err := e.NewEncoder().Bytes(text)
	return out, err == nil
}

// Text gives a whole text in UTF-8, whatever its encoding; false when it is none.
func Text(data []byte) ([]byte, bool) {
	plain, _, err := decode(kind.FileSource{Name: "x", Data: data})
	return plain.Data, err == nil && utf8.Valid(plain.Data) && bytes.IndexByte(plain.Data, 0) < 0
}

// Read reads the text in UTF-8.
func (k Kind) Read(src kind.Source) (*kind.Reading, error) {
	plain, _, err := decode(src)
	if err != nil {
		return nil, err
	}
	return k.Writer.Read(plain)
}

// Write encodes what the kind of text writes.
func (k Kind) Write(src kind.Source, want *element.Element, content kind.Content) (map[string][]byte, error) {
	plain, e, err := decode(src)
	if err != nil {
		return nil, err
	}
	files, err := k.Writer.Write(plain, want, content)
	if err != nil || e == nil {
		return files, err
	}
	for name, data := range files {
		out, err := e.NewEncoder().Bytes(data)
		if err != nil {
			return nil, errors.New("the encoding of the file has no place for a character")
		}
		files[name] = out
	}
	return files, nil
}
