package pack

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"slices"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/jsondoc"
)

// Texts shorter than leastEmbedded are never taken for base64; those shorter
// than sureEmbedded only when a known sort of content comes out.
const (
	leastEmbedded = 32
	sureEmbedded  = 512
)

// signatures are the first bytes of sorts of content that are often embedded.
var signatures = map[string]string{
	".png": "\x89PNG\r\n\x1a\n", ".jpg": "\xff\xd8\xff", ".gif": "GIF8", ".zip": "PK\x03\x04", ".pdf": "%PDF-", ".gz": "\x1f\x8b\x08", ".wav": "RIFF", ".ogg": "OggS", ".glb": "glTF",
}

// decodeEmbedded gives the bytes of base64 text that encodes back to itself,
// and a file-name ending for them.
func decodeEmbedded(text string) (data []byte, ext string, ok bool) {
	if len(text) < leastEmbedded || len(text)%4 != 0 {
		return nil, "", false
	}
	data, err := base64.StdEncoding.DecodeString(text)
	if err != nil || base64.StdEncoding.EncodeToString(data) != text {
		return nil, "", false
	}
	for ext, magic := range signatures {
		if bytes.HasPrefix(data, []byte(magic)) {
			return data, ext, true
		}
	}
	trimmed := bytes.TrimLeft(data, "\ufeff \t\r\n")
	switch {
	case bytes.HasPrefix(trimmed, []byte("<?xml")):
		return data, ".xml", true
	case len(trimmed) > 0 && (trimmed[0] == '{' || trimmed[0] == '['):
		if _, err := jsondoc.Parse(data); err == nil {
			return data, ".json", true
		}
	}
	return data, ".bin", len(text) >= sureEmbedded
}

// openEmbedded opens base64 texts everywhere below e.
func (k Kind) openEmbedded(e *element.Element, held map[element.Digest][]byte) {
	for _, c := range e.Children {
		k.openEmbedded(c, held)
	}
	var opened []*element.Element
	for i := 0; i < len(e.Props); i++ {
		p := e.Props[i]
		if p.Value.Sort() != element.Text {
			continue
		}
		data, ext, ok := decodeEmbedded(p.Value.Text())
		if !ok {
			continue
		}
		part := k.part("embedded", p.Name, p.Name+ext, data, held)
		if v := part.Prop(contentProperty); part.Prop(kindProperty).IsAbsent() {
			e.Props[i].Value = v
			continue
		}
		e.Props = slices.Delete(e.Props, i, i+1)
		i--
		opened = append(opened, part)
	}
	e.Children = append(e.Children, opened...)
}

// closeEmbedded gives a copy of e in which everything embedded is base64 text again.
func (k Kind) closeEmbedded(e *element.Element, content kind.Content) (*element.Element, error) {
	c := *e
	c.Props, c.Children = slices.Clone(e.Props), nil
	for i, p := range c.Props {
		if p.Value.Sort() != element.Bytes {
			continue
		}
		d, _ := p.Value.Content()
		data, ok := content(d)
		if !ok {
			return nil, fmt.Errorf("the bytes of %s are not at hand", p.Name)
		}
		c.Props[i].Value = element.TextValue(base64.StdEncoding.EncodeToString(data))
	}
	for _, kid := range e.Children {
		if kid.Type == "embedded" {
			data, err := k.bytesOf(kid, kid.Key, content)
			if err != nil {
				return nil, err
			}
			c.Set(kid.Key, element.TextValue(base64.StdEncoding.EncodeToString(data)))
			continue
		}
		closed, err := k.closeEmbedded(kid, content)
		if err != nil {
			return nil, err
		}
		c.Children = append(c.Children, closed)
	}
	return &c, nil
}
