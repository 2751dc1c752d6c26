package content

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/klauspost/compress/zstd"
)

// Bytes is what a store gives and takes from afar: which of many contents are missing, many records as one stream,
// one bale. What crosses is the format of a bale, as it lies on disk.
type Bytes interface {
	// Missing gives those of many digests that are not there, in their order.
	Missing(ctx context.Context, want []Digest) ([]Digest, error)
	// Fetch streams the records of some digests as one bale, in their order: of content that was cut, its list.
	// Each is checked by its sum; the stream ends with ErrMissing, or a DamageError, at one that can't be given.
	Fetch(ctx context.Context, want []Digest) (io.ReadCloser, error)
	// Receive takes one bale in, whole or not at all, and gives how many records of it were not there before. It
	// is durable when Receive returns. Every record is held against its sum and, but for lists of whole contents,
	// against its digest.
	Receive(ctx context.Context, bale io.Reader) (int, error)
}

// Missing answers Bytes, as do those below.
func (s *Store) Missing(ctx context.Context, want []Digest) (out []Digest, err error) {
	if err := s.reload(); err != nil {
		return nil, err
	}
	for i, d := range want {
		if i%4096 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if !s.Has(d) {
			out = append(out, d)
		}
	}
	return out, nil
}

func (s *Store) Fetch(ctx context.Context, want []Digest) (io.ReadCloser, error) {
	return &fetching{ctx: ctx, store: s, want: want, rest: []byte(current.baleMagic)}, nil
}

// fetching reads one record after the other.
type fetching struct {
	ctx   context.Context
	store *Store
	want  []Digest
	rest  []byte
	mem   []byte
}

func (f *fetching) Read(p []byte) (int, error) {
	for len(f.rest) == 0 {
		if len(f.want) == 0 {
			return 0, io.EOF
		}
		if err := f.ctx.Err(); err != nil {
			return 0, err
		}
		record, err := f.store.raw(f.want[0], f.mem)
		if err != nil {
			return 0, err
		}
		f.rest, f.mem, f.want = record, record, f.want[1:]
	}
	n := copy(p, f.rest)
	f.rest = f.rest[n:]
	return n, nil
}

func (f *fetching) Close() error { f.want, f.rest = nil, nil; return nil }

// raw gives a record as it lies in its bale, from another one when the first is damaged; in mem, when there is
// room.
func (s *Store) raw(d Digest, mem []byte) ([]byte, error) {
	at, err := s.locate(d)
	if err != nil {
		return nil, err
	}
	if _, _, err := s.record(d, at, bySum, &buffers{}); err != nil {
		return nil, err
	}
	if at, err = s.locate(d); err != nil { // it may have been gathered elsewhere
		return nil, err
	}
	for _, at := range append([]place{at}, s.others(d, at.bale)...) {
		f, err := s.baleFile(at.bale)
		if err != nil {
			continue
		}
		in := io.NewSectionReader(f, at.offset, maxRecord+headSize)
		var head [headSize]byte
		if _, err := io.ReadFull(in, head[:]); err != nil {
			continue
		}
		stored := binary.LittleEndian.Uint32(head[37:])
		if stored > maxRecord || Digest(head[1:33]) != d {
			continue
		}
		out := room(mem, headSize+int(stored))
		copy(out, head[:])
		if _, err := io.ReadFull(in, out[headSize:]); err != nil {
			continue
		}
		if recordSum(head[:headSize-checkSize], out[headSize:]) == binary.LittleEndian.Uint64(head[headSize-checkSize:]) {
			return out, nil
		}
	}
	return nil, &DamageError{d, at.bale.name(), "no copy of it is sound"}
}

// ErrNoBale says that what came is not a bale of this format.
var ErrNoBale = errors.New("it is no bale of this format")

func (s *Store) Receive(ctx context.Context, bale io.Reader) (int, error) {
	if s.far == nil {
		return s.takeIn(ctx, bale)
	}
	held, err := os.CreateTemp(s.dir, "writing-*")
	if err != nil {
		return 0, s.condition(err)
	}
	defer func() { _, _ = held.Close(), os.Remove(held.Name()) }()
	size, err := io.Copy(held, bale)
	if err == nil {
		err = s.far.Send(ctx, filepath.Base(held.Name()), held, size)
	}
	if err != nil {
		return 0, err
	}
	return s.takeIn(ctx, io.NewSectionReader(held, 0, size))
}

// takeIn is Receive into this store alone.
func (s *Store) takeIn(ctx context.Context, bale io.Reader) (int, error) {
	in, err := s.unpacking(ctx, bale, 1<<62, maxRecord)
	if err != nil {
		return 0, err
	}
	defer in.close()
	for {
		head, stored, err := in.next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return 0, err
		}
		if d := Digest(head[1:33]); !in.seen[d] && !s.Has(d) {
			if err := in.keep(d, head, stored); err != nil {
				return 0, err
			}
		}
	}
	if in.out.empty() {
		return 0, nil
	}
	if _, err := in.out.finish(s.dir); err != nil {
		return 0, s.condition(err)
	}
	return len(in.seen), s.reload()
}

// receiveRecord reads one record, and holds it against what it says of itself; most bounds what it unpacks to.
func receiveRecord(in io.Reader, dec *zstd.Decoder, most int64) (head, stored []byte, err error) {
	head = make([]byte, headSize)
	if _, err := io.ReadFull(in, head); err != nil {
		if err == io.ErrUnexpectedEOF { // not one that a connection wraps
			err = ErrNoBale
		}
		return nil, nil, err
	}
	kind, raw, n := head[0], binary.LittleEndian.Uint32(head[33:]), binary.LittleEndian.Uint32(head[37:])
	d := Digest(head[1:33])
	if kind&^kindPart > kindList || raw > maxRecord || n > maxRecord || int64(raw) > most || int64(n) > most+headSize {
		return nil, nil, ErrNoBale
	}
	var data bytes.Buffer // grows as bytes come, whatever the head says
	if _, err := io.CopyN(&data, in, int64(n)); err != nil {
		if err == io.EOF || err == io.ErrUnexpectedEOF {
			err = ErrNoBale
		}
		return nil, nil, err
	}
	stored = data.Bytes()
	wrong := fmt.Errorf("%w: the record %s is not what it says", ErrNoBale, d.Short())
	if recordSum(head[:headSize-checkSize], stored) != binary.LittleEndian.Uint64(head[headSize-checkSize:]) {
		return nil, nil, wrong
	}
	whole := stored
	if kind&^kindPart == kindZstd {
		if whole, err = dec.DecodeAll(stored, nil); err != nil {
			return nil, nil, wrong
		}
	}
	if len(whole) != int(raw) || isList(kind) && len(whole)%listEntry != 0 || kind != kindList && digestOf(kind, whole) != d {
		return nil, nil, wrong
	}
	return head, stored, nil
}

// fetchAtOnce is how many records Copy asks for in one call.
const fetchAtOnce = 4096

// Copy brings contents from one store to another that lacks them, with the chunks and lists that they are made
// of: chunks first, so that what is there is whole. It gives how many records came.
func Copy(ctx context.Context, to, from Bytes, want []Digest) (n int, err error) {
	if want, err = to.Missing(ctx, want); err != nil || len(want) == 0 {
		return 0, err
	}
	for len(want) > 0 {
		some := want[:min(len(want), fetchAtOnce)]
		want = want[len(some):]
		came, err := copySome(ctx, to, from, some)
		if n += came; err != nil {
			return n, err
		}
	}
	return n, nil
}

func copySome(ctx context.Context, to, from Bytes, some []Digest) (n int, err error) {
	in, err := from.Fetch(ctx, some)
	if err != nil {
		return 0, err
	}
	defer in.Close()
	var bale bytes.Buffer
	parts, err := partsOf(io.TeeReader(in, &bale))
	if err != nil {
		return 0, err
	}
	if len(parts) > 0 {
		if n, err = Copy(ctx, to, from, parts); err != nil {
			return n, err
		}
	}
	came, err := to.Receive(ctx, &bale)
	return n + came, err
}

// partsOf lists what the lists in a bale are made of.
func partsOf(bale io.Reader) (out []Digest, err error) {
	if _, err := io.CopyN(io.Discard, bale, int64(len(current.baleMagic))); err != nil {
		return nil, err
	}
	var head [headSize]byte
	for {
		if _, err := io.ReadFull(bale, head[:]); err == io.EOF {
			return out, nil
		} else if err != nil {
			return nil, err
		}
		n := int64(binary.LittleEndian.Uint32(head[37:]))
		if !isList(head[0]) {
			if _, err := io.CopyN(io.Discard, bale, n); err != nil {
				return nil, err
			}
			continue
		}
		list := make([]byte, n)
		if _, err := io.ReadFull(bale, list); err != nil {
			return nil, err
		}
		for ; len(list) >= listEntry; list = list[listEntry:] {
			out = append(out, Digest(list[:32]))
		}
	}
}
