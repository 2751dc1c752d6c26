package content

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"io"

	"github.com/klauspost/compress/zstd"

	"oakenchest/core/content/cut"
)

// Give answers Far.Fetch for a store that others hold a part of: it streams what is wanted, and leaves out what is not
// there. Parts that are not of the content that they are said to be of are not there.
func (s *Store) Give(ctx context.Context, want []Want) (io.ReadCloser, error) {
	if err := s.reload(); err != nil {
		return nil, err
	}
	return &giving{fetching: fetching{ctx: ctx, store: s, rest: []byte(current.baleMagic)}, wants: want}, nil
}

// giving is a fetching that finds out what is wanted as it goes.
type giving struct {
	fetching
	wants []Want
	given map[Digest]bool
}

func (g *giving) Read(p []byte) (int, error) {
	for len(g.rest) == 0 && len(g.want) == 0 && len(g.wants) > 0 {
		if err := g.ctx.Err(); err != nil {
			return 0, err
		}
		list, err := g.store.wanted(g.wants[0])
		if err != nil {
			return 0, err
		}
		if g.given == nil || len(g.given) > 1<<20 {
			g.given = map[Digest]bool{}
		}
		for _, d := range list {
			if !g.given[d] {
				g.given[d] = true
				g.want = append(g.want, d)
			}
		}
		g.wants = g.wants[1:]
	}
	return g.fetching.Read(p)
}

// wanted lists the records to give for a want, those first that others name.
func (s *Store) wanted(w Want) (out []Digest, err error) {
	at, ok := s.find(w.Content)
	if !ok {
		return nil, nil
	}
	if len(w.Parts) == 0 && at.size > WholeUpTo {
		return []Digest{w.Content}, nil
	}
	parts, err := s.Parts(w.Content)
	if err != nil {
		return nil, err
	}
	if len(w.Parts) == 0 {
		return append(parts, w.Content), nil
	}
	own := make(map[Digest]bool, len(parts))
	for _, p := range parts {
		own[p] = s.Has(p)
	}
	for _, p := range w.Parts {
		if own[p] {
			out = append(out, p)
		}
	}
	return out, nil
}

// Parts lists the chunks and lists that content is made of, without itself, those first that others name; none of
// content that was not cut.
func (s *Store) Parts(d Digest) (out []Digest, err error) {
	var look func(d Digest, depth int) error
	look = func(d Digest, depth int) error {
		kind, data, err := s.recordOf(d)
		if err != nil || !isList(kind) {
			return err
		}
		for ; len(data) >= listEntry; data = data[listEntry:] {
			p := Digest(data[:32])
			if binary.LittleEndian.Uint32(data[32:])&listMark != 0 {
				if depth >= maxDepth {
					return &DamageError{d, s.dir, "there are too many lists inside lists"}
				}
				if err := look(p, depth+1); err != nil {
					return err
				}
			}
			out = append(out, p)
		}
		return nil
	}
	err = look(d, 0)
	return out, err
}

// Received is what came with a bale.
type Received struct {
	// Contents are the contents that the bale names, whether they were there before or not.
	Contents []Digest
	// New counts records that were not there before.
	New int
}

// ReceiveProven is Receive of a bale that nobody vouches for: lists too are held against their digests, with all that
// they name, which has to be in the bale or in the store. most bounds what the bale unpacks to, in bytes.
func (s *Store) ReceiveProven(ctx context.Context, bale io.Reader, most int64) (Received, error) {
	var r Received
	in, err := s.unpacking(ctx, bale, most, mostFromStrangers)
	if err != nil {
		return r, err
	}
	defer in.close()
	var lists []Digest
	for {
		head, stored, err := in.next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return r, err
		}
		if raw := binary.LittleEndian.Uint32(head[33:]); !isList(head[0]) && raw > cut.Max {
			return r, ErrNoBale
		}
		d := Digest(head[1:33])
		if head[0]&kindPart == 0 {
			r.Contents = append(r.Contents, d)
		}
		if in.seen[d] || s.Has(d) {
			continue
		}
		if isList(head[0]) {
			lists = append(lists, d)
		}
		if err := in.keep(d, head, stored); err != nil {
			return r, err
		}
	}
	if in.out.empty() {
		return r, nil
	}
	if err := in.out.out.Flush(); err != nil {
		return r, s.condition(err)
	}
	for _, d := range lists {
		if err := in.prove(d); err != nil {
			return r, err
		}
	}
	r.New = len(in.seen)
	if _, err := in.out.finish(s.dir); err != nil {
		return r, s.condition(err)
	}
	return r, s.reload()
}

// unpacking is a bale on its way into a store.
type unpacking struct {
	ctx   context.Context
	store *Store
	in    io.Reader
	dec   *zstd.Decoder
	left  int64
	most  int64 // of one record
	out   baleWriter
	seen  map[Digest]bool
	at    map[Digest]int // of records in the bale, among its keys
}

// mostFromStrangers bounds what one record may unpack to that nobody vouches for: a list of chunks of 60 GiB, which has no
// lists in it.
const mostFromStrangers = 64 << 20

func (s *Store) unpacking(ctx context.Context, bale io.Reader, most int64, record uint64) (*unpacking, error) {
	magic := make([]byte, len(current.baleMagic))
	if _, err := io.ReadFull(bale, magic); err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return nil, err
	} else if err != nil || string(magic) != current.baleMagic {
		return nil, ErrNoBale
	}
	if err := s.reload(); err != nil {
		return nil, err
	}
	dec, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(record))
	if err != nil {
		return nil, err
	}
	return &unpacking{ctx: ctx, store: s, in: bale, dec: dec, left: most, most: int64(record), seen: map[Digest]bool{},
		at: map[Digest]int{}}, nil
}

func (u *unpacking) close() { u.out.abandon(); u.dec.Close() }

// next gives the next record, held against what it says of itself; io.EOF after the last.
func (u *unpacking) next() (head, stored []byte, err error) {
	if err := u.ctx.Err(); err != nil {
		return nil, nil, err
	}
	head, stored, err = receiveRecord(u.in, u.dec, min(u.left, u.most))
	if err == nil {
		u.left -= int64(binary.LittleEndian.Uint32(head[33:]))
	}
	return head, stored, err
}

// keep writes a record into the bale.
func (u *unpacking) keep(d Digest, head, stored []byte) error {
	size := int64(binary.LittleEndian.Uint32(head[33:]))
	if isList(head[0]) {
		size = contentSize(stored)
	}
	u.seen[d], u.at[d] = true, len(u.out.keys)
	return u.store.condition(u.out.write(u.store.dir, d, size, head, stored))
}

// record gives what a record holds, from the bale that came or from the store.
func (u *unpacking) record(d Digest) (kind byte, data []byte, err error) {
	i, here := u.at[d]
	if !here {
		return u.store.recordOf(d)
	}
	in := io.NewSectionReader(u.out.file, u.out.keys[i].offset, maxRecord+headSize)
	head, stored, err := receiveRecord(in, u.dec, maxRecord)
	if err != nil || head[0]&^kindPart != kindZstd {
		return head[0], stored, err
	}
	data, err = u.dec.DecodeAll(stored, nil)
	return head[0], data, err
}

// prove holds a list against its digest: of whole content that is the digest of what the list makes up.
func (u *unpacking) prove(d Digest) error {
	wrong := fmt.Errorf("%w: the list %s is not what it says", ErrNoBale, d.Short())
	kind, data, err := u.record(d)
	if err != nil {
		return err
	}
	var h hash.Hash
	if kind == kindList {
		h = sha256.New()
	}
	if err := u.sum(h, data, 0); err != nil {
		if errors.Is(err, ErrMissing) || errors.Is(err, ErrNoBale) {
			return wrong
		}
		return err
	}
	if h != nil && !bytes.Equal(h.Sum(nil), d[:]) {
		return wrong
	}
	return nil
}

// sum adds what a list makes up to a digest; without one it looks whether all is there, with the sizes that it says.
func (u *unpacking) sum(h hash.Hash, list []byte, depth int) error {
	for ; len(list) >= listEntry; list = list[listEntry:] {
		if err := u.ctx.Err(); err != nil {
			return err
		}
		size := binary.LittleEndian.Uint32(list[32:])
		if h == nil {
			if d := Digest(list[:32]); !u.seen[d] && !u.store.Has(d) {
				return ErrMissing
			}
			continue
		}
		kind, data, err := u.record(Digest(list[:32]))
		switch {
		case err != nil:
			return err
		case kind&kindPart == 0 || isList(kind) != (size&listMark != 0) || depth >= maxDepth:
			return ErrNoBale
		case isList(kind):
			if contentSize(data) != int64(size&^listMark) {
				return ErrNoBale
			}
			if err := u.sum(h, data, depth+1); err != nil {
				return err
			}
			continue
		case len(data) != int(size):
			return ErrNoBale
		}
		h.Write(data)
	}
	return nil
}
