package content

import (
	"context"
	"encoding/binary"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"time"
)

// Stored gives the bytes that one record takes in its bale, and whether there is one.
func (s *Store) Stored(d Digest) (int64, bool) {
	at, ok := s.find(d)
	if !ok {
		return 0, false
	}
	f, err := s.baleFile(at.bale)
	if err != nil {
		return 0, false
	}
	var head [headSize]byte
	if _, err := f.ReadAt(head[:], at.offset); err != nil {
		return 0, false
	}
	return headSize + int64(binary.LittleEndian.Uint32(head[37:])), true
}

// Tidied is what Tidy has done.
type Tidied struct {
	// Bales counts bales that went or were written anew; Bytes is the space won.
	Bales int
	Bytes int64
}

// wasteful is the share of a bale that must be unreachable before it is written anew.
const wasteful = 0.1

// Tidy removes records that reachable does not name, and what killed processes
// have left, from bales that are older than grace. The caller keeps everybody
// from writing to the store meanwhile; readers may go on. New bales are durable
// before old ones go.
func (s *Store) Tidy(ctx context.Context, now time.Time, grace time.Duration, reachable func(Digest) bool) (Tidied, error) {
	var t Tidied
	if err := s.reload(); err != nil {
		return t, err
	}
	old := func(name string) bool {
		info, err := os.Stat(name)
		return err == nil && now.Sub(info.ModTime()) >= grace
	}
	s.mu.Lock()
	bales := append([]*bale{}, s.bales...)
	s.mu.Unlock()
	for _, p := range bales {
		if err := ctx.Err(); err != nil {
			return t, err
		}
		keep := reachable
		if !old(p.name()) {
			if p.form == current {
				continue
			}
			keep = func(Digest) bool { return true }
		}
		won, err := s.tidyBale(ctx, p, keep)
		if err != nil {
			return t, err
		}
		if won > 0 {
			t.Bales++
			t.Bytes += won
		}
	}
	leftovers, err := s.leftovers()
	if err != nil {
		return t, err
	}
	for _, name := range leftovers {
		if info, err := os.Stat(name); err == nil && old(name) {
			if err := os.Remove(name); err != nil {
				return t, err
			}
			t.Bales, t.Bytes = t.Bales+1, t.Bytes+info.Size()
		}
	}
	for _, dir := range s.dirs[1:] {
		_ = os.Remove(dir) // when nothing is left in it
	}
	return t, syncFolder(s.dir)
}

// tidyBale takes unreachable records out of a bale and gives the bytes won. One of the former form is
// written anew in any case.
func (s *Store) tidyBale(ctx context.Context, p *bale, reachable func(Digest) bool) (int64, error) {
	info, err := os.Stat(p.name())
	if err != nil {
		return 0, nil // gone meanwhile
	}
	var keep []Digest
	waste := int64(0)
	keys := p.keys()
	for i := 0; i < len(keys); i += entrySize {
		d := Digest(keys[i : i+32])
		if reachable(d) && !s.elsewhere(d, p) {
			keep = append(keep, d)
		} else if size, ok := s.Stored(d); ok {
			waste += size
		}
	}
	if p.form == current && len(keep) > 0 && float64(waste) < wasteful*float64(info.Size()) {
		return 0, nil
	}
	before := info.Size() + int64(len(keys))
	after := int64(0)
	if len(keep) > 0 {
		b := s.Replace(ctx)
		defer b.Abandon()
		for _, d := range keep {
			at, _ := p.find(d)
			err := b.copyRecord(d, at)
			var damage *DamageError
			if errors.As(err, &damage) {
				return 0, nil // for health to find; the bale stays as it is
			}
			if err != nil {
				return 0, err
			}
		}
		if err := b.Commit(); err != nil {
			return 0, err
		}
		after = b.bytes
	}
	s.forget(p)
	return before - after, s.removeBale(p)
}

// elsewhere reports whether the copy of content in a bale is not needed: another
// bale, which is read before it, has a good one, or this one is damaged and any
// other has a good one.
func (s *Store) elsewhere(d Digest, own *bale) bool {
	good := func(at place) bool {
		_, _, err := s.recordIn(d, at, byDigest, &buffers{})
		return err == nil
	}
	first, ok := s.find(d)
	if ok && first.bale != own {
		return good(first)
	}
	others := s.others(d, own)
	if at, here := own.find(d); len(others) == 0 || !here || good(at) {
		return false
	}
	return slices.ContainsFunc(others, good)
}

// copyRecord brings a record over into the batch as it is.
func (b *Batch) copyRecord(d Digest, at place) error {
	kind, data, err := b.store.recordIn(d, at, byDigest, &buffers{})
	if err != nil {
		return err
	}
	if isList(kind) {
		_, err = b.submitList(kind, d, data, at.size)
	} else {
		_, err = b.submit(kind&kindPart, data)
	}
	return err
}

// forget lets go of a bale that is about to go.
func (s *Store) forget(p *bale) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i, q := range s.bales {
		if q == p {
			s.bales = append(s.bales[:i:i], s.bales[i+1:]...)
			if p.file != nil {
				p.file.Close()
				p.file = nil
			}
			return
		}
	}
}

// leftovers lists what killed processes have left: temporary files, and bales
// without keys.
func (s *Store) leftovers() ([]string, error) {
	var out []string
	for _, dir := range s.dirs {
		names, err := filepath.Glob(filepath.Join(dir, "writing-*"))
		if err != nil {
			return nil, err
		}
		out = append(out, names...)
	}
	s.mu.Lock()
	bales := append([]*bale{}, s.bales...)
	s.mu.Unlock()
	flaws, err := s.withoutKeys(bales)
	for _, f := range flaws {
		out = append(out, f.File)
	}
	if err == nil {
		err = s.withoutBale(func(stem string, f form) { out = append(out, stem+f.keys) })
	}
	return out, err
}
