package blob

import (
	"bytes"
	"hash"
	"io"
)

const listEntry = 32 + 4

// listReader streams the chunks of a list and checks the whole at the end.
type listReader struct {
	store  *Store
	digest Digest
	list   []byte
	rest   []byte
	sum    hash.Hash
}

func (r *listReader) Read(p []byte) (int, error) {
	for len(r.rest) == 0 {
		if len(r.list) < listEntry {
			return 0, r.finish()
		}
		d := Digest(r.list[:32])
		r.list = r.list[listEntry:]
		at, err := r.store.locate(d)
		if err != nil {
			return 0, &DamageError{r.digest, r.store.dir, "its chunk " + d.Short() + " is missing"}
		}
		kind, data, err := r.store.record(d, at)
		if err != nil {
			return 0, err
		}
		if kind == kindList {
			return 0, &DamageError{d, r.store.dir, "a list inside a list"}
		}
		r.sum.Write(data)
		r.rest = data
	}
	n := copy(p, r.rest)
	r.rest = r.rest[n:]
	return n, nil
}

func (r *listReader) finish() error {
	if len(r.list) != 0 || !bytes.Equal(r.sum.Sum(nil), r.digest[:]) {
		return &DamageError{r.digest, r.store.dir, "the chunks do not make up the content"}
	}
	return io.EOF
}
