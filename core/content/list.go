package content

import (
	"encoding/binary"
	"io"
)

const listEntry = 32 + 4

// A list longer than this many entries is itself cut, where its own entries say
// so, into lists that it names: a change in large content then writes a few of
// them anew, and not the whole. leastList and greatestList bound those.
const (
	longList     = 512
	leastList    = 64
	greatestList = 1024
)

// cutList cuts a list into lists; the ends depend on the entries alone.
func cutList(list []byte) [][]byte {
	var out [][]byte
	for len(list) > 0 {
		n := 1
		for n*listEntry < len(list) && n < greatestList {
			if e := list[(n-1)*listEntry:]; n >= leastList && e[0] == 0 { // one in 256
				break
			}
			n++
		}
		out, list = append(out, list[:n*listEntry]), list[n*listEntry:]
	}
	return out
}

// contentSize gives the size of the content that a list makes up.
func contentSize(list []byte) (n int64) {
	for ; len(list) >= listEntry; list = list[listEntry:] {
		n += int64(binary.LittleEndian.Uint32(list[32:]) &^ listMark)
	}
	return n
}

// listMark is set in the size of an entry that names a list.
const listMark = 1 << 31

// maxDepth bounds lists inside lists.
const maxDepth = 4

// listReader streams the chunks of a list. That they together are the content
// of the list's name is for Verify to check.
type listReader struct {
	store  *Store
	digest Digest
	lists  [][]byte // what is left of the list, and of lists that it names
	how    depth
	mem    buffers
	rest   []byte
}

// next reads the next chunk into rest; io.EOF after the last.
func (r *listReader) next() error {
	for {
		top := len(r.lists) - 1
		if top < 0 {
			return io.EOF
		}
		list := r.lists[top]
		if len(list) < listEntry {
			r.lists = r.lists[:top]
			continue
		}
		d := Digest(list[:32])
		r.lists[top] = list[listEntry:]
		if r.store.far != nil && !r.store.Has(d) {
			if err := r.store.fetchPart(r.digest, d, r.lists[top]); err != nil {
				return err
			}
		}
		at, err := r.store.locate(d)
		if err != nil {
			return &DamageError{r.digest, r.store.dir, "its chunk " + d.Short() + " is missing"}
		}
		kind, data, err := r.store.record(d, at, r.how, &r.mem)
		if err != nil && r.store.far != nil && !r.store.Has(d) { // it was damaged, and is wanted again
			if err = r.store.fetchPart(r.digest, d, list[listEntry:]); err == nil {
				if at, err = r.store.locate(d); err == nil {
					kind, data, err = r.store.record(d, at, r.how, &r.mem)
				}
			}
		}
		if err != nil || !isList(kind) {
			r.rest = data
			return err
		}
		if len(r.lists) >= maxDepth {
			return &DamageError{d, r.store.dir, "there are too many lists inside lists"}
		}
		r.lists = append(r.lists, append([]byte{}, data...))
	}
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
