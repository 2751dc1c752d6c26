package wire

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"

	"github.com/klauspost/compress/zstd"

	"oakenchest/core/element"
	"oakenchest/core/ledger"
	"oakenchest/core/ledger/tables"
)

// What happened to records crosses as one frame of Zstandard (RFC 8878), which holds
//
//	"OAKNEWS\x01", moment since, moment until (each: text, number), then for each table its
//	name (text), number of rows, number of columns, and column by column the values of the
//	rows; an empty name ends them; then the number of what is gone, and for each table and key
//
// where a number is a zigzag varint, and a text its length and its bytes. A value begins with a byte that says what it is:
//
//	0 nothing; 1 a text; 2 a number; 3 a text that is an id, in its 32 bytes; 4 an id that was
//	written before, by how many ids ago; 5 a text that is a digest in hexadecimal digits, in its
//	32 bytes; 6 the id of a commit, which follows from its other fields
//
// Columns are written apart so that like follows like.
const newsMagic = "OAKNEWS\x01"

const (
	isNothing = iota
	isText
	isNumber
	isID
	isKnownID
	isDigest
	isSealed
)

// errNews says that what came can't be read.
var errNews = errors.New("it is no news of this format")

// commitsTable has ids that follow from their rows.
const commitsTable = "commits"

// newsWriter writes values.
type newsWriter struct {
	out   []byte
	known map[ledger.ID]int // ids that were written, by when
}

func (w *newsWriter) number(n int64)   { w.out = binary.AppendVarint(w.out, n) }
func (w *newsWriter) text(s string)    { w.out = append(binary.AppendVarint(w.out, int64(len(s))), s...) }
func (w *newsWriter) know(x ledger.ID) { w.known[x] = len(w.known) }

// value writes one value, and what it is beside the values, so that these bytes are alike.
func (w *newsWriter) value(v any) (sort byte, err error) {
	switch v := v.(type) {
	case nil:
		return isNothing, nil
	case int64:
		w.number(v)
		return isNumber, nil
	case string:
		if id, err := ledger.ParseID(v); err == nil && len(v) == idLetters && id.String() == v {
			if at, ok := w.known[id]; ok {
				w.number(int64(len(w.known) - at))
				return isKnownID, nil
			}
			w.know(id)
			w.out = append(w.out, id[:]...)
			return isID, nil
		}
		if len(v) == 2*len(element.Digest{}) {
			if d, err := hex.DecodeString(v); err == nil && hex.EncodeToString(d) == v {
				w.out = append(w.out, d...)
				return isDigest, nil
			}
		}
		w.text(v)
		return isText, nil
	}
	return 0, fmt.Errorf("%w: a value %T", errNews, v)
}

// idLetters is how long an id is in writing.
var idLetters = len(ledger.ID{1}.String())

// EncodeHappened writes what happened.
func EncodeHappened(h *tables.Happened) ([]byte, error) {
	w := &newsWriter{out: []byte(newsMagic), known: map[ledger.ID]int{}}
	for _, m := range []tables.Moment{h.Since, h.Until} {
		w.text(m.Epoch)
		w.number(m.At)
	}
	for _, r := range h.Rows {
		if err := w.table(r); err != nil {
			return nil, err
		}
	}
	w.text("")
	w.number(int64(len(h.Gone)))
	for _, g := range h.Gone {
		w.text(g.Table)
		w.text(g.Key)
	}
	enc, err := packer()
	if err != nil {
		return nil, err
	}
	return enc.EncodeAll(w.out, nil), nil
}

// packer packs news; one serves all.
var packer = sync.OnceValues(func() (*zstd.Encoder, error) {
	return zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithLowerEncoderMem(true))
})

// table writes the rows of a table, column by column: what the values of a column are, then the values.
func (w *newsWriter) table(r tables.Rows) error {
	if len(r.Rows) == 0 {
		return nil
	}
	w.text(r.Table)
	w.number(int64(len(r.Rows)))
	columns := len(r.Rows[0])
	w.number(int64(columns))
	sealed := map[int]bool{}
	if r.Table == commitsTable { // their ids come first: parents name them
		for i, row := range r.Rows {
			id, ok := sealOf(row)
			if written, _ := row[0].(string); ok && id.String() == written {
				sealed[i] = true
				w.know(id)
			}
		}
	}
	for c := range columns {
		at := len(w.out)
		sorts := make([]byte, len(r.Rows))
		for i, row := range r.Rows {
			if len(row) != columns {
				return errNews
			}
			if c == 0 && sealed[i] {
				sorts[i] = isSealed
				continue
			}
			var err error
			if sorts[i], err = w.value(row[c]); err != nil {
				return err
			}
		}
		w.out = slices.Insert(w.out, at, sorts...)
	}
	return nil
}

// sealOf computes the id of a commit from its row: id, branch, depth, generation, parents, tree, author, workspace, time,
// message, item.
func sealOf(row []any) (id ledger.ID, ok bool) {
	if len(row) != 12 {
		return id, false
	}
	texts := map[int]string{}
	for _, i := range []int{1, 6, 7, 8, 10, 11} {
		if texts[i], ok = row[i].(string); !ok {
			return id, false
		}
	}
	depth, ok1 := row[2].(int64)
	ms, ok2 := row[9].(int64)
	tree, err := ledger.ParseID(texts[6])
	if !ok1 || !ok2 || err != nil {
		return id, false
	}
	c := ledger.Commit{Branch: texts[1], Depth: int(depth), Tree: element.Digest(tree), Author: texts[7], Workspace: texts[8],
		Message: texts[10], Item: texts[11], Time: timeOf(ms)}
	for _, i := range []int{4, 5} {
		if row[i] == nil {
			continue
		}
		p, err := ledger.ParseID(fmt.Sprint(row[i]))
		if err != nil {
			return id, false
		}
		c.Parents = append(c.Parents, p)
	}
	c.Seal()
	return c.ID, true
}

// newsReader reads values.
type newsReader struct {
	rest  []byte
	known []ledger.ID
	open  map[int]bool // those that are not computed yet
}

func (r *newsReader) number() (int64, error) {
	n, size := binary.Varint(r.rest)
	if size <= 0 {
		return 0, errNews
	}
	r.rest = r.rest[size:]
	return n, nil
}

// count reads a number of things that take at least a byte each.
func (r *newsReader) count() (int, error) {
	n, err := r.number()
	if err != nil || n < 0 || n > int64(len(r.rest)) {
		return 0, errNews
	}
	return int(n), nil
}

func (r *newsReader) text() (string, error) {
	n, err := r.count()
	if err != nil {
		return "", err
	}
	s := string(r.rest[:n])
	r.rest = r.rest[n:]
	return s, nil
}

func (r *newsReader) digest() (d [32]byte, err error) {
	if len(r.rest) < len(d) {
		return d, errNews
	}
	r.rest = r.rest[copy(d[:], r.rest):]
	return d, nil
}

func (r *newsReader) value(sort byte) (any, error) {
	switch sort {
	case isNothing:
		return nil, nil
	case isText:
		return r.text()
	case isNumber:
		return r.number()
	case isID:
		d, err := r.digest()
		r.known = append(r.known, d)
		return ledger.ID(d).String(), err
	case isDigest:
		d, err := r.digest()
		return hex.EncodeToString(d[:]), err
	case isKnownID:
		n, err := r.number()
		if err != nil || n < 1 || n > int64(len(r.known)) {
			return nil, errNews
		}
		return knownID(len(r.known) - int(n)), nil // a commit's is not known yet
	}
	return nil, errNews
}

// knownID stands for an id that was read before.
type knownID int

// mostNews bounds what news unpack to.
const mostNews = 4 << 30

// DecodeHappened reads what happened; most bounds the bytes that are read.
func DecodeHappened(in io.Reader, most int64) (*tables.Happened, error) {
	dec, err := zstd.NewReader(io.LimitReader(in, most), zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(mostNews))
	if err != nil {
		return nil, err
	}
	defer dec.Close()
	data, err := io.ReadAll(io.LimitReader(dec, mostNews))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", errNews, err)
	}
	if len(data) < len(newsMagic) || string(data[:len(newsMagic)]) != newsMagic {
		return nil, errNews
	}
	r := &newsReader{rest: data[len(newsMagic):], open: map[int]bool{}}
	h := &tables.Happened{}
	for _, m := range []*tables.Moment{&h.Since, &h.Until} {
		if m.Epoch, err = r.text(); err != nil {
			return nil, err
		}
		if m.At, err = r.number(); err != nil {
			return nil, err
		}
	}
	for {
		t, err := r.table()
		if err != nil {
			return nil, err
		}
		if t.Table == "" {
			break
		}
		h.Rows = append(h.Rows, t)
	}
	n, err := r.count()
	if err != nil {
		return nil, err
	}
	for range n {
		var g tables.Gone
		if g.Table, err = r.text(); err == nil {
			g.Key, err = r.text()
		}
		if err != nil {
			return nil, err
		}
		h.Gone = append(h.Gone, g)
	}
	if len(r.rest) > 0 {
		return nil, errNews
	}
	return h, nil
}

// table reads the rows of one table; one without a name after the last.
func (r *newsReader) table() (t tables.Rows, err error) {
	if t.Table, err = r.text(); err != nil || t.Table == "" {
		return t, err
	}
	rows, err := r.count()
	if err != nil {
		return t, err
	}
	columns, err := r.count()
	if err != nil || columns < 1 || columns > 64 || rows*columns > len(r.rest) {
		return t, errNews
	}
	flat := make([]any, rows*columns)
	t.Rows = make([][]any, rows)
	for i := range t.Rows {
		t.Rows[i] = flat[i*columns : (i+1)*columns : (i+1)*columns]
	}
	sealed := map[int]int{} // which of the known ids a row's is
	for c := range columns {
		if len(r.rest) < rows {
			return t, errNews
		}
		sorts := r.rest[:rows]
		r.rest = r.rest[rows:]
		for i, sort := range sorts {
			if sort == isSealed {
				if c > 0 || t.Table != commitsTable {
					return t, errNews
				}
				sealed[i] = len(r.known)
				r.open[len(r.known)] = true
				r.known = append(r.known, ledger.ID{})
			}
		}
		for i, sort := range sorts {
			if sort == isSealed {
				continue
			}
			if t.Rows[i][c], err = r.value(sort); err != nil {
				return t, err
			}
		}
	}
	return t, r.resolve(t, sealed)
}

// resolve puts ids in the place of what stands for them, and computes those that follow from their rows. A commit's
// parents come before it.
func (r *newsReader) resolve(t tables.Rows, sealed map[int]int) error {
	for i, row := range t.Rows {
		for c, v := range row {
			at, ok := v.(knownID)
			if !ok {
				continue
			}
			if r.open[int(at)] {
				return errNews
			}
			row[c] = r.known[at].String()
		}
		if at, ok := sealed[i]; ok {
			id, ok := sealOf(row)
			if !ok {
				return errNews
			}
			r.known[at] = id
			delete(r.open, at)
			row[0] = id.String()
		}
	}
	return nil
}
