package content

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync"
)

// A near store holds a part of one that is far away: what was read from there once, and what was written there from
// here. It never says that something is missing before the far one was asked; nothing is put into it that the far one
// has not acknowledged.

// Want is content that is wanted from afar.
type Want struct {
	// Content names it.
	Content Digest
	// Parts, when there are some, are chunks and lists of it, and it is not wanted itself.
	Parts []Digest
}

// Far is a store that is far away.
type Far interface {
	// Fetch streams records as one bale: of each content its own, with all its parts where it is small, or the parts
	// that are named. What the far store does not have is left out.
	Fetch(ctx context.Context, want []Want) (io.ReadCloser, error)
	// Send brings a bale there. It is durable when Send returns; what of it came over before is not sent again.
	Send(ctx context.Context, name string, bale io.ReaderAt, size int64) error
}

// WholeUpTo is the size in bytes up to which the parts of content come with it.
const WholeUpTo = 1 << 20

const (
	// ahead is how much of large content is asked for at once, in bytes, when the first of it is read.
	ahead = 32 << 20
	// fetchBytes bounds what is asked for in one call.
	fetchBytes = 256 << 20
	// nearBale is the size at which a bale that is sent is finished, so that sending goes on beside making.
	nearBale = 64 << 20
)

// Near makes the store one that holds a part of another one; ctx ends all that is asked of that.
func (s *Store) Near(ctx context.Context, far Far) { s.far, s.farCtx = far, ctx }

// fetch takes in what is wanted.
func (s *Store) fetch(ctx context.Context, want []Want) error {
	const patience = 4
	for n := 1; ; n++ {
		err := s.fetchOnce(ctx, want)
		var passing interface{ Temporary() bool }
		if err == nil || n == patience || ctx.Err() != nil || !errors.As(err, &passing) || !passing.Temporary() {
			return err
		}
	}
}

func (s *Store) fetchOnce(ctx context.Context, want []Want) error {
	in, err := s.far.Fetch(ctx, want)
	if err != nil {
		return err
	}
	_, err = s.takeIn(ctx, in)
	return errors.Join(err, in.Close())
}

// Bring makes sure that contents are near, with all that they are made of, before they are read one by one. What the
// far store does not have is passed over: reading it says so. For a store that is not near it does nothing.
func (s *Store) Bring(ctx context.Context, contents []Digest, told func(done, total int64)) error {
	if s.far == nil {
		return nil
	}
	if err := s.reload(); err != nil {
		return err
	}
	want := map[Digest]bool{}
	for _, d := range contents {
		if !s.Has(d) && (s.beside == nil || !s.beside.Has(d)) {
			want[d] = true
		}
	}
	var list []Want
	for _, d := range contents {
		if want[d] {
			list, want[d] = append(list, Want{Content: d}), false
		}
	}
	for some := range slices.Chunk(list, fetchAtOnce) {
		if err := s.fetch(ctx, some); err != nil {
			return err
		}
	}
	for lists := 0; lists <= maxDepth; lists++ { // lists may name lists
		more, total, err := s.partsWanted(contents)
		if err != nil || len(more) == 0 {
			return err
		}
		if err := s.bringParts(ctx, more, total, told); err != nil {
			return err
		}
	}
	return nil
}

// part is a part that is wanted, with its size.
type part struct {
	of, digest Digest
	size       int64
}

// partsWanted lists the parts of contents that are not near, as far as is known.
func (s *Store) partsWanted(contents []Digest) (out []part, total int64, err error) {
	seen := map[Digest]bool{}
	var look func(of, d Digest, depth int) error
	look = func(of, d Digest, depth int) error {
		at, ok := s.find(d)
		if !ok || depth > maxDepth {
			return nil
		}
		kind, data, err := s.record(d, at, bySum, &buffers{})
		if err != nil || !isList(kind) {
			return err
		}
		for list := data; len(list) >= listEntry; list = list[listEntry:] {
			p, size := Digest(list[:32]), binary.LittleEndian.Uint32(list[32:])
			if seen[p] {
				continue
			}
			seen[p] = true
			if !s.Has(p) {
				out, total = append(out, part{of, p, int64(size &^ listMark)}), total+int64(size&^listMark)
			} else if size&listMark != 0 {
				if err := look(of, p, depth+1); err != nil {
					return err
				}
			}
		}
		return nil
	}
	for _, d := range contents {
		if !seen[d] {
			seen[d] = true
			if err := look(d, d, 0); err != nil {
				return nil, 0, err
			}
		}
	}
	return out, total, nil
}

// bringParts fetches parts, as many in one call as are worth it.
func (s *Store) bringParts(ctx context.Context, parts []part, total int64, told func(done, total int64)) error {
	done := int64(0)
	for len(parts) > 0 {
		n, size := 0, int64(0)
		for n < len(parts) && n < 1<<16 && (n == 0 || size+parts[n].size <= fetchBytes) {
			size += parts[n].size
			n++
		}
		if err := s.fetch(ctx, wantsOf(parts[:n])); err != nil {
			return err
		}
		for _, p := range parts[:n] {
			if !s.Has(p.digest) {
				return fmt.Errorf("%s: %w", p.digest.Short(), ErrMissing)
			}
		}
		parts, done = parts[n:], done+size
		if told != nil {
			told(done, total)
		}
	}
	return nil
}

// wantsOf groups parts by the content that they are of.
func wantsOf(parts []part) (out []Want) {
	for _, p := range parts {
		if n := len(out); n == 0 || out[n-1].Content != p.of {
			out = append(out, Want{Content: p.of})
		}
		w := &out[len(out)-1]
		w.Parts = append(w.Parts, p.digest)
	}
	return out
}

// fetchPart brings a part of content near, with those that come after it in a list.
func (s *Store) fetchPart(of, d Digest, rest []byte) error {
	parts, size := []part{{of: of, digest: d}}, int64(0)
	for ; len(rest) >= listEntry && size < ahead; rest = rest[listEntry:] {
		n := binary.LittleEndian.Uint32(rest[32:])
		if p := Digest(rest[:32]); n&listMark == 0 && !s.Has(p) {
			parts, size = append(parts, part{of: of, digest: p}), size+int64(n)
		}
	}
	return s.fetch(s.farCtx, wantsOf(parts))
}

// anew takes a bale away that is damaged, and fetches content that was in it again.
func (s *Store) anew(d Digest, p *bale) (place, error) {
	s.forget(p)
	if err := s.removeBale(p); err != nil && !errors.Is(err, os.ErrNotExist) {
		return place{}, err
	}
	return s.locate(d)
}

// sender sends bales one after the other, beside their making.
type sender struct {
	store *Store
	work  chan baleWriter
	done  sync.WaitGroup

	mu  sync.Mutex // guards err
	err error
}

func (s *Store) startSender(ctx context.Context) *sender {
	x := &sender{store: s, work: make(chan baleWriter)}
	x.done.Go(func() {
		for w := range x.work {
			if x.failed() == nil {
				x.note(s.sendBale(ctx, &w))
			}
			w.abandon()
		}
	})
	return x
}

func (x *sender) note(err error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.err == nil {
		x.err = err
	}
}

func (x *sender) failed() error {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.err
}

// finish waits until all is sent.
func (x *sender) finish() error {
	if x == nil {
		return nil
	}
	close(x.work)
	x.done.Wait()
	return x.failed()
}

// sendBale sends a bale, and keeps it when it has arrived.
func (s *Store) sendBale(ctx context.Context, w *baleWriter) error {
	if err := w.out.Flush(); err != nil {
		return s.condition(err)
	}
	if err := s.far.Send(ctx, w.name(), w.file, w.at); err != nil {
		return err
	}
	_, err := w.finish(s.dir)
	return s.condition(err)
}

// Resend sends contents that are near, with all that they are made of, though the far store was believed to have them.
func (s *Store) Resend(ctx context.Context, contents []Digest) error {
	var w baleWriter
	defer w.abandon()
	seen := map[Digest]bool{}
	var send func(d Digest) error
	send = func(d Digest) error {
		if seen[d] {
			return nil
		}
		seen[d] = true
		kind, data, err := s.recordOf(d)
		if err != nil {
			return err
		}
		size := int64(len(data))
		if isList(kind) {
			size = contentSize(data)
			for list := data; len(list) >= listEntry; list = list[listEntry:] {
				if err := send(Digest(list[:32])); err != nil {
					return err
				}
			}
		}
		return w.record(s.dir, kind&^kindZstd, d, int64(len(data)), size, data)
	}
	for _, d := range contents {
		if err := send(d); err != nil {
			return err
		}
		if w.at >= nearBale {
			if err := s.resent(ctx, &w); err != nil {
				return err
			}
		}
	}
	if w.empty() {
		return nil
	}
	return s.resent(ctx, &w)
}

// resent sends a bale that holds nothing new.
func (s *Store) resent(ctx context.Context, w *baleWriter) error {
	defer w.abandon()
	err := w.out.Flush()
	if err == nil {
		err = s.far.Send(ctx, w.name(), w.file, w.at)
	}
	w.abandon()
	*w = baleWriter{}
	return err
}

// recordOf reads a record from here, or from the store beside.
func (s *Store) recordOf(d Digest) (kind byte, data []byte, err error) {
	at, ok := s.find(d)
	if !ok && s.beside != nil && s.beside.Has(d) {
		return s.beside.recordOf(d)
	}
	if !ok {
		if at, err = s.locate(d); err != nil {
			return 0, nil, err
		}
	}
	kind, data, err = s.record(d, at, byDigest, &buffers{})
	return kind, data, err
}

// Shrink takes the bales of a near store away that were not used for longest, until it has no more than so many bytes.
// What they hold can be had again.
func (s *Store) Shrink(most int64) error {
	names, err := filepath.Glob(filepath.Join(s.dir, "*"+current.bale))
	if err != nil {
		return err
	}
	type file struct {
		name string
		info os.FileInfo
	}
	var files []file
	total := int64(0)
	for _, n := range names {
		if info, err := os.Stat(n); err == nil {
			files, total = append(files, file{n, info}), total+info.Size()
		}
	}
	slices.SortFunc(files, func(a, b file) int { return a.info.ModTime().Compare(b.info.ModTime()) })
	for _, f := range files {
		if total <= most {
			break
		}
		stem := f.name[:len(f.name)-len(current.bale)]
		if err := errors.Join(os.Remove(stem+current.keys), os.Remove(f.name)); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
		total -= f.info.Size()
	}
	return nil
}
