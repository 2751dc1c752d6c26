package pack

import (
	"archive/zip"
	"bytes"
	"io"
	"slices"

	"oakenchest/core/kind"
)

var _ kind.Seamer = Kind{}

// Seams gives where the records of the entries begin, and the central directory.
func (Kind) Seams(file io.ReaderAt, size int64) []int64 {
	z, err := zip.NewReader(file, size)
	if err != nil || len(z.File) > MaxEntries {
		return nil
	}
	var out []int64
	for _, f := range z.File {
		at, err := f.DataOffset()
		if err != nil {
			return nil
		}
		out = append(out, at+int64(f.CompressedSize64)+trailer(file, at+int64(f.CompressedSize64)))
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// trailer gives the length of what follows an entry's bytes up to the next
// record: nothing, or a data descriptor of at most 24 bytes (.ZIP File Format
// Specification 6.3.10, section 4.3.9).
func trailer(file io.ReaderAt, at int64) int64 {
	buf := make([]byte, 28)
	n, _ := file.ReadAt(buf, at)
	for _, next := range [][]byte{[]byte("PK\x03\x04"), []byte("PK\x01\x02")} {
		if i := bytes.Index(buf[:n], next); i >= 0 {
			return int64(i)
		}
	}
	return 0
}
