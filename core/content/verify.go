package content

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"io"
	"os"
)

// Flaw is something wrong with a store.
type Flaw struct {
	// File is the file that it lies in.
	File string
	// Digest names the content that is touched; zero when it is the file itself.
	Digest Digest
	Reason string
}

// Verify reads every record of every bale and gives what is wrong: damaged
// bytes, bales and files of keys that do not fit together, lists whose chunks are
// missing. done is told how many bytes of how many were read.
func (s *Store) Verify(ctx context.Context, done func(read, total int64)) ([]Flaw, error) {
	if err := s.Refresh(); err != nil {
		var damage *DamageError
		if !errors.As(err, &damage) {
			return nil, err
		}
		return []Flaw{{File: damage.File, Reason: damage.Reason}}, nil
	}
	s.mu.Lock()
	bales := append([]*bale{}, s.bales...)
	s.mu.Unlock()
	var flaws []Flaw
	var read, total int64
	for _, p := range bales {
		if info, err := os.Stat(p.name()); err == nil {
			total += info.Size()
		}
	}
	for _, p := range bales {
		found, err := s.verifyBale(ctx, p, func(n int64) {
			if read += n; done != nil {
				done(read, total)
			}
		})
		if err != nil {
			return nil, err
		}
		flaws = append(flaws, found...)
	}
	orphans, err := s.withoutKeys(bales)
	if err != nil {
		return nil, err
	}
	flaws = append(flaws, orphans...)
	err = s.withoutBale(func(stem string, f form) {
		flaws = append(flaws, Flaw{File: stem + f.bale, Reason: baleGone})
	})
	return flaws, err
}

func (s *Store) verifyBale(ctx context.Context, p *bale, done func(int64)) (flaws []Flaw, err error) {
	name := p.name()
	var mem buffers
	magic := make([]byte, len(p.form.baleMagic))
	f, err := s.baleFile(p)
	if err != nil {
		return []Flaw{{File: name, Reason: baleGone}}, nil
	}
	if _, err := f.ReadAt(magic, 0); err != nil || string(magic) != p.form.baleMagic {
		flaws = append(flaws, Flaw{File: name, Reason: "it does not begin as a bale of this format"})
	}
	defer func() {
		if reason := p.flaw(); reason != "" {
			flaws = append(flaws, Flaw{File: p.keysName(), Reason: reason})
		}
	}()
	keys := p.keys()
	for i := 0; i < len(keys); i += entrySize {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		d := Digest(keys[i : i+32])
		at := place{p, int64(binary.LittleEndian.Uint64(keys[i+32:])), int64(binary.LittleEndian.Uint64(keys[i+40:]))}
		kind, data, err := s.recordIn(d, at, byDigest, &mem)
		var damage *DamageError
		switch {
		case errors.As(err, &damage):
			if _, _, again := s.record(d, at, byDigest, &buffers{}); again == nil {
				continue // mended: another bale has it whole
			}
			flaws = append(flaws, Flaw{damage.File, d, damage.Reason})
			continue
		case err != nil:
			return nil, err
		}
		done(headSize + int64(len(data)))
		if isList(kind) {
			flaws = append(flaws, s.verifyList(name, kind, d, data, at.size)...)
		} else if at.size != int64(len(data)) {
			flaws = append(flaws, Flaw{p.keysName(), d, "it gives another size"})
		}
	}
	return flaws, nil
}

// verifyList holds a list against its chunks, and one that stands for content
// against the digest of that.
func (s *Store) verifyList(name string, kind byte, d Digest, list []byte, size int64) []Flaw {
	if contentSize(list) != size {
		return []Flaw{{name, d, "its chunks make up another size"}}
	}
	for ; len(list) > 0; list = list[listEntry:] {
		if !s.Has(Digest(list[:32])) {
			return []Flaw{{name, d, "its chunk " + Digest(list[:32]).Short() + " is missing"}}
		}
	}
	if kind != kindList {
		return nil
	}
	r, err := s.Open(d)
	if err != nil {
		return nil // the chunk's own record says so
	}
	defer r.Close()
	whole := sha256.New()
	if _, err := io.Copy(whole, r); err == nil && Digest(whole.Sum(nil)) != d {
		return []Flaw{{name, d, "its chunks do not make up the content"}}
	}
	return nil
}

// withoutKeys finds bales that no keys belong to: their content can't be
// read. A process that was killed between the two leaves one; nothing that was
// acknowledged is in it.
func (s *Store) withoutKeys(known []*bale) ([]Flaw, error) {
	keyed := map[string]bool{}
	for _, p := range known {
		keyed[p.name()] = true
	}
	var out []Flaw
	err := s.everyFile(func(f form) string { return f.bale }, func(stem string, f form) {
		if keyed[stem+f.bale] {
			return
		}
		if _, err := os.Stat(stem + f.keys); err != nil { // else somebody made it since
			out = append(out, Flaw{File: stem + f.bale, Reason: Unkeyed})
		}
	})
	return out, err
}

// withoutBale visits files of keys whose bale is not there.
func (s *Store) withoutBale(visit func(stem string, f form)) error {
	return s.everyFile(func(f form) string { return f.keys }, func(stem string, f form) {
		if _, gone := os.Stat(stem + f.bale); errors.Is(gone, os.ErrNotExist) {
			visit(stem, f)
		}
	})
}

// Unkeyed is the reason of a flaw that is harmless by itself: a bale whose
// keys were never written, or are lost: RebuildKeys.
const Unkeyed = "no keys belong to it"

// Chunks lists what content that was cut is made of, the lists between it and
// its chunks among them; nothing for content that was not.
func (s *Store) Chunks(d Digest) ([]Digest, error) { return s.chunks(d, 0, nil) }

func (s *Store) chunks(d Digest, deep int, out []Digest) ([]Digest, error) {
	at, err := s.locate(d)
	if err != nil {
		return nil, err
	}
	kind, data, err := s.record(d, at, bySum, &buffers{})
	if err != nil || !isList(kind) {
		return out, err
	}
	for ; len(data) >= listEntry; data = data[listEntry:] {
		part := Digest(data[:32])
		out = append(out, part)
		if binary.LittleEndian.Uint32(data[32:])&listMark != 0 && deep < maxDepth {
			if out, err = s.chunks(part, deep+1, out); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// Replace starts a batch that stores content anew even when the store believes
// to have it: for repairs.
func (s *Store) Replace(ctx context.Context) *Batch { b := s.Begin(ctx); b.anew = true; return b }
