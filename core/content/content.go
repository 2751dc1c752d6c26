// Package content keeps bytes: content of any size, named by its SHA-256, cut into
// chunks that are stored once over all versions and artifacts.
//
// # Format
//
// A store is a folder of bale files, each with a file of keys. A bale is written
// whole by one process, synchronised to disk, and only then given its final
// name; it is never changed afterwards. Numbers are little-endian.
//
//	bale    "OAKBALE\x01", then records
//	record  kind (1 byte), digest (32), raw size (uint32), stored size (uint32),
//	        XXH64 of the fields before and the stored bytes (uint64; Y. Collet,
//	        "xxHash fast digest algorithm", seed 0), then the stored bytes
//	kind    0 bytes as they are; 1 bytes compressed with Zstandard (RFC 8878);
//	        2 a list: for each chunk its digest (32) and its size (uint32), whose
//	        highest bit says that it is a list itself, of so much content;
//	        16 more for a chunk or a list that lists name
//	keys   "OAKKEYS\x01", then for each record of the bale, sorted by digest:
//	        digest (32), offset of the record (uint64), content size (uint64)
//
// Content is named by its SHA-256 (FIPS 180-4), a list by that of the content
// that it makes up, so content has one name whether it was cut or not. The chunks
// of a list are named by BLAKE3 (J. O'Connor et al., "BLAKE3: one function, fast
// everywhere", 2020), so that each byte is read by one slow function only. A bale `NAME.bale` goes with `NAME.keys`, NAME
// being the first 16 bytes of the SHA-256 of its digests in order, in
// hexadecimal.
//
// # Promises
//
// Several processes may read and write one store at once; each writes bales of
// its own. What Batch.Commit has acknowledged survives a crash. A read checks
// the sum of every record: damage is an error of its own, never a wrong byte.
// Verify and OpenExact check the digests too, which guard against wrong content
// in a sound record. Memory is bounded whatever the content's size, but for the
// list of its chunks (36 bytes for each 64 KiB).
package content

import (
	"errors"
	"fmt"
	"io"

	"oakenchest/core/element"
)

// Digest names content by its SHA-256.
type Digest = element.Digest

// ErrMissing says that the store has no such content.
var ErrMissing = errors.New("content is not in the store")

// ErrElsewhere says that a store which holds a part of another one does not have some content: the other
// may.
var ErrElsewhere = errors.New("content is in a store that is out of reach")

// DamageError says that stored bytes are not what their name says.
type DamageError struct {
	Digest Digest
	File   string
	Reason string
}

// Error names the file and the content.
func (e *DamageError) Error() string {
	return fmt.Sprintf("%s is damaged at content %s: %s", e.File, e.Digest.Short(), e.Reason)
}

// Source gives content by its digest.
type Source interface {
	// Open streams content; the reader fails with a DamageError at the first
	// chunk that is damaged. ErrMissing when there is none.
	Open(Digest) (io.ReadCloser, error)
}

// ReadAll reads content whole; more than limit bytes is an error.
func ReadAll(s Source, d Digest, limit int64) ([]byte, error) {
	r, err := s.Open(d)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	data, err := io.ReadAll(io.LimitReader(r, limit+1))
	if err == nil && int64(len(data)) > limit {
		err = fmt.Errorf("content %s has more than %s", d.Short(), element.SizeText(limit))
	}
	return data, err
}
