package blob

import (
	"context"
	"encoding/binary"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
)

// Each batch is a pack of its own, so packs would become as many as commits.
// Gather writes many small ones into one, in tiers as a log-structured merge
// tree does (P. O'Neil et al., "The Log-Structured Merge-Tree", Acta Informatica
// 33, 1996): a byte is written again once for each tier, each sixteen times as
// large as the one before.
const (
	gatherAt   = 16       // so many packs of a tier become one
	leastTier  = 64 << 10 // the first tier: packs below this size in bytes
	gatherMost = 64 << 20 // packs from this size on stay
)

// tier gives the tier of a pack by its size, negative for one that stays.
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

// Gather writes the packs of a tier into one where they have become many, and
// gives how many went. Others may read and write meanwhile, but not gather or
// tidy: the caller sees to that. The new pack is durable before old ones go.
func (s *Store) Gather(ctx context.Context) (int, error) {
	if err := s.reload(); err != nil {
		return 0, err
	}
	s.mu.Lock()
	packs := slices.Clone(s.packs)
	s.mu.Unlock()
	if len(packs) < gatherAt {
		return 0, nil
	}
	tiers := map[int][]*pack{}
	for _, p := range packs {
		if info, err := os.Stat(s.packName(p)); err == nil {
			tiers[tier(info.Size())] = append(tiers[tier(info.Size())], p)
		}
	}
	delete(tiers, -1)
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

func (s *Store) packName(p *pack) string { return filepath.Join(s.dir, p.name+".pack") }

// gather writes packs into one. A pack with damage stays, for health to find.
func (s *Store) gather(ctx context.Context, packs []*pack) error {
	var out packWriter
	defer out.abandon()
	have := map[Digest]bool{}
	var copied []*pack
	for _, p := range packs {
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
		if p.name == made { // it held what all of them do, and was written anew
			continue
		}
		s.forget(p)
		errs = append(errs, s.removePack(p))
	}
	return errors.Join(append(errs, syncFolder(s.dir))...)
}

// removePack removes a pack, its index first: a pack without one is harmless.
func (s *Store) removePack(p *pack) error {
	return errors.Join(os.Remove(filepath.Join(s.dir, p.name+".index")), os.Remove(s.packName(p)))
}

// rawRecord is a record as it lies in its pack.
type rawRecord struct {
	digest Digest
	size   int64 // of the content
	bytes  []byte
}

// rawRecords reads the records of a small pack, each checked by its sum, in the
// order of the index.
func (s *Store) rawRecords(p *pack) ([]rawRecord, error) {
	f, err := s.packFile(p, s.packName(p))
	if err != nil {
		return nil, err
	}
	data, err := io.ReadAll(io.NewSectionReader(f, 0, gatherMost))
	if err != nil {
		return nil, err
	}
	var out []rawRecord
	index := p.index()
	for i := 0; i < len(index); i += entrySize {
		d := Digest(index[i : i+32])
		at, size := binary.LittleEndian.Uint64(index[i+32:]), binary.LittleEndian.Uint64(index[i+40:])
		damage := &DamageError{d, s.packName(p), "it is cut short"}
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
