package kind

import (
	"bytes"
	"encoding/binary"
	"io"
)

// maxSeams bounds how many chunks of one file are looked at.
const maxSeams = 100_000

// ChunkSeams gives where the chunks of a PNG picture (ISO/IEC 15948, section 5.3) or
// of a RIFF file such as a WAV sound ("Multimedia Programming Interface and Data
// Specifications 1.0", IBM and Microsoft 1991) begin; nothing for other
// files.
func ChunkSeams(file io.ReaderAt, size int64) []int64 {
	head := make([]byte, 12)
	if _, err := file.ReadAt(head, 0); err != nil {
		return nil
	}
	switch {
	case bytes.HasPrefix(head, []byte("\x89PNG\r\n\x1a\n")):
		return chunks(file, size, 8, func(h []byte) int64 { return 12 + int64(binary.BigEndian.Uint32(h)) })
	case bytes.HasPrefix(head, []byte("RIFF")):
		return chunks(file, size, 12, func(h []byte) int64 {
			n := int64(binary.LittleEndian.Uint32(h[4:]))
			return 8 + n + n&1
		})
	}
	return nil
}

// chunks walks from one chunk's head of 8 bytes to the next; length gives the
// length of a whole chunk.
func chunks(file io.ReaderAt, size, at int64, length func(head []byte) int64) []int64 {
	var out []int64
	head := make([]byte, 8)
	for at < size && len(out) < maxSeams {
		out = append(out, at)
		if _, err := file.ReadAt(head, at); err != nil {
			break
		}
		at += length(head)
	}
	return out
}
