package blob

import "io"

const listEntry = 32 + 4

// listReader streams the chunks of a list. Each chunk is checked against its
// digest, and the list was checked against its sum; that together they are the
// content of the list's name is for Verify to check.
type listReader struct {
	store  *Store
	digest Digest
	list   []byte
	rest   []byte
}

func (r *listReader) Read(p []byte) (int, error) {
	for len(r.rest) == 0 {
		if len(r.list) < listEntry {
			return 0, io.EOF
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
		r.rest = data
	}
	n := copy(p, r.rest)
	r.rest = r.rest[n:]
	return n, nil
}
