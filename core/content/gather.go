package content

import (
	"context"
	"encoding/binary"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
)

// Each batch is a bale of its own, so bales would become as many as commits.
// Gather writes many small ones into one, in tiers as a log-structured merge
// tree does (P. O'Neil et al., "The Log-Structured Merge-Tree", Acta Informatica
// 33, 1996): a byte is written again once for each tier, each sixteen times as
// large as the one before.
const (
	gatherAt   = 16       // so many bales of a tier become one
	leastTier  = 64 << 10 // the first tier: bales below this size in bytes
	gatherMost = 64 << 20 // bales from this size on stay
)

// tier gives the tier of a bale by its size, negative for one that stays.
func tier(size int64) int {
	if size >= gatherMost {
		return -1
	}
	n := 0
	for top := int64(leastTier); size >= top; top *= gatherAt {
		n++
	}
	return n
}

// tiers parts the bales by their sizes, but for those that stay.
func (s *Store) tiers() (map[int][]*bale, error) {
	if err := s.reload(); err != nil {
		return nil, err
	}
	s.mu.Lock()
	bales := slices.Clone(s.bales)
	s.mu.Unlock()
	out := map[int][]*bale{}
	if len(bales) < gatherAt {
		return out, nil
	}
	for _, p := range bales {
		if info, err := os.Stat(p.name()); err == nil {
			out[tier(info.Size())] = append(out[tier(info.Size())], p)
		}
	}
	delete(out, -1)
	return out, nil
}

// Many reports whether bales have become so many that Gather would write some into one.
func (s *Store) Many() (bool, error) {
	tiers, err := s.tiers()
	for _, list := range tiers {
		if len(list) >= gatherAt {
			return true, err
		}
	}
	return false, err
}

// Gather writes the bales of a tier into one where they have become many, and gives how many went. Others may
// read and write meanwhile, but not gather or tidy: the caller sees to that. The new bale is durable before old
// ones go.
func (s *Store) Gather(ctx context.Context) (int, error) {
	tiers, err := s.tiers()
	if err != nil {
		return 0, err
	}
	gone := 0
	for _, list := range tiers {
		if len(list) < gatherAt {
			continue
		}
		if err := s.gather(ctx, list); err != nil {
			return gone, err
		}
		gone += len(list)
	}
	return gone, nil
}

// gather writes bales into one. A bale with damage stays, for health to find.
func (s *Store) gather(ctx context.Context, bales []*bale) error {
	var out baleWriter
	defer out.abandon()
	have := map[Digest]bool{}
	var copied []*bale
	for _, p := range bales {
		if err := ctx.Err(); err != nil {
			return err
		}
		records, err := s.rawRecords(p)
		var damage *DamageError
		if errors.As(err, &damage) {
			continue
		}
		if err != nil {
			return err
		}
		for _, r := range records {
			if have[r.digest] {
				continue
			}
			have[r.digest] = true
			if err := out.write(s.dir, r.digest, r.size, r.bytes); err != nil {
				return err
			}
		}
		copied = append(copied, p)
	}
	if len(copied) < 2 || out.empty() {
		return nil
	}
	made, err := out.finish(s.dir)
	if err != nil {
		return err
	}
	if err := s.reload(); err != nil {
		return err
	}
	var errs []error
	for _, p := range copied {
		if p.stem == filepath.Join(s.dir, made) { // it held what all of them do, and was written anew
			continue
		}
		s.forget(p)
		errs = append(errs, s.removeBale(p))
	}
	return errors.Join(append(errs, syncFolder(s.dir))...)
}

// removeBale removes a bale, its keys first: a bale without them is harmless.
func (s *Store) removeBale(p *bale) error {
	return errors.Join(os.Remove(p.keysName()), os.Remove(p.name()))
}

// rawRecord is a record as it lies in its bale.
type rawRecord struct {
	digest Digest
	size   int64 // of the content
	bytes  []byte
}

// rawRecords reads the records of a small bale, each checked by its sum, in the
// order of the keys.
func (s *Store) rawRecords(p *bale) ([]rawRecord, error) {
	f, err := s.baleFile(p)
	if err != nil {
		return nil, err
	}
	data, err := io.ReadAll(io.NewSectionReader(f, 0, gatherMost))
	if err != nil {
		return nil, err
	}
	var out []rawRecord
	keys := p.keys()
	for i := 0; i < len(keys); i += entrySize {
		d := Digest(keys[i : i+32])
		at, size := binary.LittleEndian.Uint64(keys[i+32:]), binary.LittleEndian.Uint64(keys[i+40:])
		damage := &DamageError{d, p.name(), "it is cut short"}
		if at > uint64(len(data)) || uint64(len(data))-at < headSize {
			return nil, damage
		}
		record := data[at:]
		stored := uint64(binary.LittleEndian.Uint32(record[37:]))
		if uint64(len(record)-headSize) < stored {
			return nil, damage
		}
		record = record[:headSize+stored]
		sum := binary.LittleEndian.Uint64(record[headSize-checkSize:])
		if recordSum(record[:headSize-checkSize], record[headSize:]) != sum || Digest(record[1:33]) != d {
			damage.Reason = "the bytes do not agree with their sum"
			return nil, damage
		}
		out = append(out, rawRecord{d, int64(size), record})
	}
	return out, nil
}
