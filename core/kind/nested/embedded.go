package nested

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// Texts shorter than leastEmbedded are never taken for content; those shorter
// than sureEmbedded only when a known sort of content comes out.
const (
	leastEmbedded = 32
	sureEmbedded  = 512
)

// signatures are the first bytes of sorts of content that are often embedded.
var signatures = []struct{ ext, magic string }{
	{".png", "\x89PNG\r\n\x1a\n"}, {".jpg", "\xff\xd8\xff"}, {".gif", "GIF8"}, {".zip", "PK\x03\x04"}, {".pdf", "%PDF-"},
	{".gz", "\x1f\x8b\x08"},
	{".wav", "RIFF"}, {".ogg", "OggS"}, {".glb", "glTF"}, {".xml", "<?xml"}, {".xml", "\ufeff<?xml"},
}

// Found is content that a text holds.
type Found struct {
	Encoding string
	Data     []byte
	Ext      string // a file-name ending that fits it
}

// Detect tells whether a text holds content within a budget, of which it takes what is unpacked.
func Detect(text string, b *kind.Budget) (Found, bool) {
	if len(text) < leastEmbedded {
		return Found{}, false
	}
	switch how := likely(text); how {
	case "":
		return Found{}, false
	case Plain, Percent:
		data, err := decodeText(text, how)
		if err != nil {
			return Found{}, false
		}
		ext := extension(data)
		return Found{how, data, ext}, ext == ".xml" || ext == ".json"
	default:
		return detectBytes(text, how, b)
	}
}

// MayHold reports whether a document of XML or JSON has signs of embedded content;
// when it has none, it need not be read to be taken apart. In JSON a brace behind space
// is one of its own.
func MayHold(data []byte, json bool) bool {
	run := 0
	for i, c := range data {
		switch class[c] {
		case letterOf64:
			if run++; run >= leastEmbedded {
				return true
			}
			continue
		case opener: // of JSON in a text, of references to < and ", of percent-encoded text, of CDATA
			if i+1 < len(data) && suspicious(data[max(i-1, 0):min(i+6, len(data))], i > 0, json) {
				return true
			}
		case angle: // of XML in a text of JSON
			if json && i > 0 && data[i-1] == '"' && i+1 < len(data) && opensMarkup(data[i:]) {
				return true
			}
		}
		run = 0
	}
	return false
}

// opensMarkup reports whether a text begins as XML does: with its declaration, or with an element.
func opensMarkup(text []byte) bool {
	if len(text) < 2 || text[0] != '<' {
		return false
	}
	c := text[1] | 0x20
	return text[1] == '?' || text[1] == '_' || c >= 'a' && c <= 'z' || text[1] >= 0x80
}

// markup reports whether a text is XML as a whole, and says more than one text does: a well-formed
// element with attributes or with elements in it.
func markup(data []byte) bool {
	d := xml.NewDecoder(bytes.NewReader(data))
	d.CharsetReader = func(string, io.Reader) (io.Reader, error) { return nil, errors.ErrUnsupported }
	depth, roots, rich := 0, 0, false
	for {
		t, err := d.Token() // which minds that each element is closed by its own name
		if err == io.EOF {
			return roots == 1 && rich
		}
		if err != nil {
			return false
		}
		switch t := t.(type) {
		case xml.StartElement:
			if depth == 0 {
				roots++
			}
			depth++
			rich = rich || len(t.Attr) > 0 || depth > 1
		case xml.EndElement:
			depth--
		case xml.CharData:
			if depth == 0 && len(bytes.TrimSpace(t)) > 0 {
				return false
			}
		}
		if roots > 1 {
			return false
		}
	}
}

// The classes of bytes that MayHold tells apart.
const (
	other = iota
	letterOf64
	opener
	angle
)

var class = func() (out [256]byte) {
	for _, c := range "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/=" {
		out[c] = letterOf64
	}
	for _, c := range "{[%&!\\" {
		out[c] = opener
	}
	out['<'] = angle
	return out
}()

// suspicious looks at an opening sign, with the byte before it and some behind it.
func suspicious(around []byte, before, json bool) bool {
	prev, at := byte(0), around
	if before {
		prev, at = around[0], around[1:]
	}
	switch at[0] {
	case '{', '[':
		return prev == '"' || !json && (prev == '\'' || prev == '>' || prev <= ' ')
	case '%':
		return bytes.HasPrefix(bytes.ToUpper(at), []byte("%3C")) || bytes.HasPrefix(bytes.ToUpper(at), []byte("%7B")) ||
			bytes.HasPrefix(bytes.ToUpper(at), []byte("%5B"))
	case '&':
		return len(at) > 4 && bytes.HasPrefix(at, []byte("&lt;")) && opensMarkup([]byte{'<', at[4]}) || bytes.HasPrefix(at, []byte("&#"))
	case '!':
		return bytes.HasPrefix(at, []byte("![CDA"))
	case '\\':
		return len(at) > 1 && (at[1] == '"' || at[1] == 'u' || at[1] == 'n')
	}
	return false
}

// likely tells from a text's signs which encoding it may have.
func likely(text string) string {
	head := strings.TrimLeft(text[:min(len(text), 80)], "\ufeff \t\r\n")
	switch {
	case opensMarkup([]byte(head)), strings.HasPrefix(head, "{") && strings.Contains(head, `"`), strings.HasPrefix(head, "[{"):
		return Plain
	case strings.HasPrefix(strings.ToUpper(head), "%3C"), strings.HasPrefix(strings.ToUpper(head), "%7B"),
		strings.HasPrefix(strings.ToUpper(head), "%5B%7B"):
		return Percent
	}
	hexadecimal := len(text)%2 == 0
	for i := 0; i < len(text); i++ {
		c := text[i]
		digit := c >= '0' && c <= '9'
		if !digit && (c < 'a' || c > 'f') && (c < 'A' || c > 'F') {
			hexadecimal = false
		}
		if !digit && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && c != '+' && c != '/' && c != '=' {
			return ""
		}
	}
	switch {
	case hexadecimal:
		return Hex
	case len(text)%4 == 0:
		return Base64
	}
	return ""
}

// detectBytes looks at what base64 or hexadecimal text stands for, and at what that
// is when it is compressed.
func detectBytes(text, how string, b *kind.Budget) (Found, bool) {
	data, err := decodeText(text, how)
	if err != nil {
		if how == Hex && len(text)%4 == 0 {
			return detectBytes(text, Base64, b)
		}
		return Found{}, false
	}
	for _, packed := range compressions[:2] {
		if packed == "gzip" && !bytes.HasPrefix(data, []byte("\x1f\x8b\x08")) || packed == "zlib" &&
			(len(data) < 2 || data[0] != 0x78 || (int(data[0])<<8|int(data[1]))%31 != 0) {
			continue
		}
		if out, err := inflate(data, packed, b); err == nil {
			if ext := extension(out); ext != "" {
				return Found{how + " " + packed, out, ext}, true
			}
		}
	}
	if ext := extension(data); ext != "" {
		return Found{how, data, ext}, true
	}
	return Found{how, data, ".bin"}, how == Base64 && len(text) >= sureEmbedded
}

// Extension gives a file-name ending for content.
func Extension(data []byte) string {
	if ext := extension(data); ext != "" {
		return ext
	}
	return ".bin"
}

// extension gives a file-name ending for content of a known sort, or nothing.
func extension(data []byte) string {
	trimmed := bytes.TrimLeft(data, " \t\r\n")
	for _, s := range signatures {
		if bytes.HasPrefix(trimmed, []byte(s.magic)) {
			return s.ext
		}
	}
	trimmed = bytes.TrimPrefix(trimmed, []byte("\ufeff"))
	if opensMarkup(trimmed) && markup(trimmed) {
		return ".xml"
	}
	if len(trimmed) > 0 && (trimmed[0] == '{' || trimmed[0] == '[') {
		if json.Valid(bytes.TrimPrefix(data, []byte("\ufeff"))) { // without a tree: it may be large
			return ".json"
		}
	}
	return ""
}

// look gives the content of a property: in the encoding that is asked for, or in
// any that is found.
func (r *Reader) look(text, encoding string) (Found, bool) {
	if encoding == "" {
		return Detect(text, r.budget)
	}
	data, err := Decode(text, encoding, r.budget)
	if err != nil {
		return Found{}, false
	}
	return Found{encoding, data, Extension(data)}, true
}

// Open opens the texts among e's properties that hold content, in place, and
// reports whether there were any. Content with elements becomes a child `embedded:PROPERTY`; base64 of
// other bytes becomes a value that stands for them. encodings tells, by property,
// how content is encoded that would not be found without.
func (r *Reader) Open(e *element.Element, encodings map[string]string) bool {
	any := false
	for i := 0; i < len(e.Props); i++ {
		p := e.Props[i]
		if p.Value.Sort() != element.Text || len(p.Value.Text()) < leastEmbedded && encodings[p.Name] == "" {
			continue
		}
		f, ok := r.look(p.Value.Text(), encodings[p.Name])
		if !ok || r.depth > MaxDepth {
			continue
		}
		if packed := strings.Contains(f.Encoding, " "); !packed && r.budget.Decoded(int64(len(f.Data))) != nil {
			continue
		}
		part := r.Element("embedded", p.Name, p.Name+f.Ext, f.Data)
		opaque := part.Prop(KindProperty).IsAbsent()
		switch {
		case f.Encoding == Plain && opaque:
			continue
		case f.Encoding == Base64 && opaque:
			e.Props = slices.Clone(e.Props)
			e.Props[i].Value, any = part.Prop(ContentProperty), true
			continue
		case f.Encoding != Base64:
			part.Props = append([]element.Prop{{Name: EncodingProperty, Value: element.TextValue(f.Encoding)}}, part.Props...)
		}
		e.Props = slices.Delete(slices.Clone(e.Props), i, i+1)
		i--
		e.Children, any = append(e.Children, part), true
	}
	return any
}

// IsEmbedded reports whether a child is content of its parent's property.
func IsEmbedded(e *element.Element) bool { return e.Type == "embedded" }

// Text gives the text of a property that holds content: of an element that Open
// has made. like is the property's former text.
func (r *Reader) Text(e *element.Element, like string, content kind.Content) (string, error) {
	encoding := e.Prop(EncodingProperty).Text()
	if encoding == "" {
		encoding = Base64
	}
	if err := CheckEncoding(encoding); err != nil {
		return "", err
	}
	name := e.Key
	if word := e.Prop(KindProperty).Text(); word != "" {
		name += "." + word
	}
	data, err := r.Bytes(e, name, content)
	if err != nil {
		return "", err
	}
	return Encode(data, encoding, like)
}

// ValueText gives the base64 text of a value that stands for bytes.
func ValueText(name string, v element.Value, content kind.Content) (string, error) {
	d, _ := v.Content()
	data, ok := content(d)
	if !ok {
		return "", fmt.Errorf("the bytes of %s are not at hand", name)
	}
	return Encode(data, Base64, "")
}
