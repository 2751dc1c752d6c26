package blob

import "io"

const listEntry = 32 + 4

// listReader streams the chunks of a list. That they together are the content
// of the list's name is for Verify to check.
type listReader struct {
	store  *Store
	digest Digest
	list   []byte
	how    depth
	mem    buffers
	rest   []byte
}

// next reads the next chunk into rest; io.EOF after the last.
func (r *listReader) next() error {
	if len(r.list) < listEntry {
		return io.EOF
	}
	d := Digest(r.list[:32])
	r.list = r.list[listEntry:]
	at, err := r.store.locate(d)
	if err != nil {
		return &DamageError{r.digest, r.store.dir, "its chunk " + d.Short() + " is missing"}
	}
	kind, data, err := r.store.record(d, at, r.how, &r.mem)
	if err == nil && kind == kindList {
		err = &DamageError{d, r.store.dir, "a list inside a list"}
	}
	r.rest = data
	return err
}

func (r *listReader) Read(p []byte) (int, error) {
	for len(r.rest) == 0 {
		if err := r.next(); err != nil {
			return 0, err
		}
	}
	n := copy(p, r.rest)
	r.rest = r.rest[n:]
	return n, nil
}

// WriteTo writes each chunk at once.
func (r *listReader) WriteTo(w io.Writer) (int64, error) {
	total := int64(0)
	for {
		n, err := w.Write(r.rest)
		total += int64(n)
		if err != nil {
			return total, err
		}
		if err := r.next(); err == io.EOF {
			return total, nil
		} else if err != nil {
			r.rest = nil
			return total, err
		}
	}
}
