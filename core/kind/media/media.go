// Package media is what the kinds of pictures and sounds share: they gather what
// a file says about itself, as properties, texts, and pieces kept whole.
package media

import (
	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// Parts gathers what a file consists of. The zero value is not ready; see New.
type Parts struct {
	Root *element.Element
	held map[element.Digest][]byte
}

// New begins an artifact of a type.
func New(typ string) *Parts {
	return &Parts{&element.Element{Type: typ}, map[element.Digest][]byte{}}
}

// Bytes keeps data and gives the value that stands for it.
func (p *Parts) Bytes(data []byte) element.Value {
	d := element.DigestOf(data)
	p.held[d] = data
	return element.BytesValue(d, int64(len(data)))
}

// Stored sets `data`, which stands for what is measured: pixels or samples.
func (p *Parts) Stored(data []byte) { p.Root.Set("data", p.Bytes(data)) }

// Text adds a text by its key.
func (p *Parts) Text(key, value string) {
	p.Root.Add(&element.Element{Type: "text", Key: key, Props: []element.Prop{{Name: "value", Value: element.TextValue(value)}},
		Gist: value})
}

// Chunk adds a piece of the file whole.
func (p *Parts) Chunk(key string, data []byte) {
	p.Root.Add(&element.Element{Type: "chunk", Key: key, Props: []element.Prop{{Name: "content", Value: p.Bytes(data)}}})
}

// Reading gives the artifact, with a gist that says what it is.
func (p *Parts) Reading(gist string) *kind.Reading {
	element.Distinguish(p.Root.Children)
	p.Root.Gist = gist
	return &kind.Reading{Root: p.Root, Content: kind.Held(p.held)}
}
