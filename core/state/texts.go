package state

import (
	"bytes"
	"context"
	"slices"
	"unicode/utf8"

	"oakenchest/core/element"
	"oakenchest/core/kind"
	"oakenchest/core/kind/charset"
	"oakenchest/core/kind/jsondoc"
	"oakenchest/core/kind/nested"
)

// Versions reads both sides of a difference again; a side that is not there is nil.
func (r *Reader) Versions(ctx context.Context, from, to State, d Difference) (was, is *Artifact, err error) {
	a, err := openAt(ctx, from, d.former())
	if err != nil {
		return nil, nil, err
	}
	b, err := openAt(ctx, to, d.Path)
	if err != nil {
		return nil, nil, err
	}
	if was, err = r.ignoreMissing(a, d.former()); err != nil {
		return nil, nil, err
	}
	is, err = r.ignoreMissing(b, d.Path)
	return was, is, err
}

// former gives the path that the artifact had before.
func (d Difference) former() string {
	for _, c := range d.Changes {
		if c.Kind == element.Moved && c.Address.Whole() {
			return c.From.Text()
		}
	}
	return d.Path
}

// TextPair is a text in two versions: an artifact's, or that of something in it.
type TextPair struct {
	Address element.Address
	Was, Is string
	// LaidOut says that the texts were written on one line, and are laid out here
	// for people.
	LaidOut bool
}

// maxText bounds, in bytes, a text that is shown line by line.
const maxText = 4 << 20

// Texts gives the texts that differ between two versions of an artifact: its own,
// or those of the parts and the embedded content in it.
func Texts(was, is *Artifact) []TextPair {
	if a, b, ok := ownTexts(was, is); ok {
		return []TextPair{pair(element.Address{Path: is.Path}, a, b)}
	}
	if was == nil || is == nil {
		return nil
	}
	before, after := inside(was.Reading), inside(is.Reading)
	var out []TextPair
	for _, x := range after {
		i := slices.IndexFunc(before, func(y content) bool { return y.at.String() == x.at.String() })
		if i < 0 || before[i].sum == x.sum {
			continue
		}
		a, okA := text(was.Reading.Content, before[i])
		b, okB := text(is.Reading.Content, x)
		if okA && okB && !bytes.Equal(a, b) {
			out = append(out, pair(x.at.InPath(is.Path), a, b))
		}
	}
	return out
}

// ownTexts gives the bytes of two single-file artifacts that are text.
func ownTexts(was, is *Artifact) (a, b []byte, ok bool) {
	if was == nil || is == nil || was.Source == nil || is.Source == nil {
		return nil, nil, false
	}
	var err1, err2 error
	a, err1 = kind.Main(was.Source)
	b, err2 = kind.Main(is.Source)
	if err1 != nil || err2 != nil || bytes.Equal(a, b) || len(a) > maxText || len(b) > maxText {
		return nil, nil, false
	}
	a, okA := charset.Text(a)
	b, okB := charset.Text(b)
	return a, b, okA && okB
}

// readable reports whether bytes are text that can be shown.
func readable(data []byte) bool {
	return len(data) <= maxText && utf8.Valid(data) && bytes.IndexByte(data, 0) < 0
}

// text gives the bytes of something in an artifact. What is encoded in them is
// left out: it is compared by itself.
func text(of kind.Content, c content) ([]byte, bool) {
	if of == nil {
		return nil, false
	}
	data, ok := of(c.sum)
	if !ok || !readable(data) {
		return nil, false
	}
	for _, e := range c.encoded {
		inner, held := of(e.sum)
		encoded, err := nested.Encode(inner, e.encoding, "")
		if held && err == nil && len(encoded) >= longLine/4 {
			data = bytes.ReplaceAll(data, []byte(encoded), []byte("⟨content⟩"))
		}
	}
	return data, true
}

// content is something in an artifact that has bytes of its own.
type content struct {
	at      element.Address
	sum     element.Digest
	encoded []encoded
}

// encoded is content that stands as text in other content.
type encoded struct {
	sum      element.Digest
	encoding string
}

// encodedIn lists what is encoded in the text of e, outside of content in it.
func encodedIn(e *element.Element) []encoded {
	var out []encoded
	for _, p := range e.Props {
		if p.Value.Sort() == element.Bytes {
			d, _ := p.Value.Content()
			out = append(out, encoded{d, nested.Base64})
		}
	}
	for _, c := range e.Children {
		switch {
		case nested.IsEmbedded(c):
			how := c.Prop(nested.EncodingProperty).Text()
			if how == "" {
				how = nested.Base64
			}
			out = append(out, encoded{c.Origin, how})
		case c.Origin == (element.Digest{}):
			out = append(out, encodedIn(c)...)
		}
	}
	return out
}

// inside lists what has bytes of its own.
func inside(r *kind.Reading) []content {
	var out []content
	var visit func(e *element.Element, at element.Address)
	visit = func(e *element.Element, at element.Address) {
		for i, s := range e.Steps() {
			visit(e.Children[i], at.Below(s))
		}
		if e.Origin != (element.Digest{}) {
			out = append(out, content{at, e.Origin, encodedIn(e)})
		}
	}
	visit(r.Root, element.Address{})
	return out
}

// pair makes a pair of texts; JSON on one long line is laid out on several.
func pair(at element.Address, a, b []byte) TextPair {
	p := TextPair{Address: at, Was: string(a), Is: string(b)}
	x, okX := layOut(a)
	y, okY := layOut(b)
	if okX && okY {
		p.Was, p.Is, p.LaidOut = x, y, true
	}
	return p
}

// longLine is the length in bytes from which a line is hard to compare.
const longLine = 160

func layOut(data []byte) (string, bool) {
	if len(data) < longLine || bytes.Count(bytes.TrimSpace(data), []byte("\n")) > len(data)/longLine {
		return "", false
	}
	doc, err := jsondoc.Parse(data)
	if err != nil {
		return "", false
	}
	return string(jsondoc.Format(doc.Root.Clone(), "  ")), true
}
