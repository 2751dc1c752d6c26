// Package opaque is the kind of everything that no other kind reads: an
// artifact with a size and a digest, and nothing inside.
package opaque

import (
	"io"

	"oakenchest/core/element"
	"oakenchest/core/kind"
)

// Kind reads any file. It can't merge.
type Kind struct{}

var _ kind.Seamer = Kind{}

// Seams gives where the chunks of files in a form that is widely used begin.
func (Kind) Seams(file io.ReaderAt, size int64) []int64 { return kind.ChunkSeams(file, size) }

// Name is "opaque".
func (Kind) Name() string { return "opaque" }

// About describes the kind.
func (Kind) About() string {
	return "anything else: size and digest; whole files only, no merge of contents"
}

// Claims takes everything.
func (Kind) Claims(string, []byte) bool { return true }

// Read gives an element with the content as its only property.
func (Kind) Read(src kind.Source) (*kind.Reading, error) {
	held := map[element.Digest][]byte{}
	root := &element.Element{Type: "opaque"}
	for _, name := range src.Files() {
		data, err := src.File(name)
		if err != nil {
			return nil, err
		}
		d := element.DigestOf(data)
		held[d] = data
		v := element.BytesValue(d, int64(len(data)))
		if len(src.Files()) == 1 {
			root.Set("content", v)
			break
		}
		root.Add(&element.Element{Type: "file", Key: name, Props: []element.Prop{{Name: "content", Value: v}}})
	}
	return &kind.Reading{Root: root, Content: kind.Held(held)}, nil
}
