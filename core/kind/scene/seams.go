package scene

import (
	"encoding/binary"
	"encoding/json"
	"io"
	"slices"

	"oakenchest/core/kind"
)

var _ kind.Seamer = Kind{}

// Seams gives where the buffer of a binary scene begins, and the views in it.
func (Kind) Seams(file io.ReaderAt, size int64) []int64 {
	const heads = 12 + 8 // of the file and of its first chunk
	head := make([]byte, heads)
	if _, err := file.ReadAt(head, 0); err != nil || string(head[:4]) != "glTF" {
		return nil
	}
	length := int64(binary.LittleEndian.Uint32(head[12:]))
	bin := heads + length + 8
	if length > kind.MaxFile || bin > size {
		return nil
	}
	text := make([]byte, length)
	if _, err := file.ReadAt(text, heads); err != nil {
		return nil
	}
	var doc struct {
		BufferViews []struct {
			Buffer     int   `json:"buffer"`
			ByteOffset int64 `json:"byteOffset"`
			ByteLength int64 `json:"byteLength"`
		} `json:"bufferViews"`
	}
	if json.Unmarshal(text, &doc) != nil {
		return nil
	}
	out := []int64{bin}
	for _, v := range doc.BufferViews {
		if v.Buffer == 0 && v.ByteOffset >= 0 && v.ByteLength >= 0 && v.ByteOffset < size && v.ByteLength < size {
			out = append(out, bin+v.ByteOffset, bin+v.ByteOffset+v.ByteLength)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
