package blob

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"sync"

	"github.com/cespare/xxhash/v2"
	"github.com/klauspost/compress/zstd"
	"lukechampine.com/blake3"

	"oakenchest/core/rights"
)

const (
	packMagic  = "OAKPACK\x02"
	indexMagic = "OAKINDX\x01"
	headSize   = 1 + 32 + 4 + 4 + checkSize
	checkSize  = 8
	entrySize  = 32 + 8 + 8
	// maxRecord bounds a record's raw size: a list of chunks of 100 TiB.
	maxRecord = 1 << 30
)

const packGone = "the pack is gone"

const (
	kindPlain byte = 0x00
	kindZstd  byte = 0x01
	kindList  byte = 0x02
	// kindPart is added to the kind of a chunk that a list names.
	kindPart byte = 0x10
)

func isList(kind byte) bool { return kind&^kindPart == kindList }

// digestOf gives the name of data that a record of some kind holds.
func digestOf(kind byte, data []byte) Digest {
	if kind&kindPart != 0 {
		return blake3.Sum256(data)
	}
	return sha256.Sum256(data)
}

// Store is a folder of packs.
type Store struct {
	dir string

	mu    sync.Mutex // guards packs and dec
	packs []*pack
	dec   *zstd.Decoder

	beside  *Store // where readers find what is not here
	partial bool   // what is not here may be elsewhere
}

type pack struct {
	name  string
	index func() []byte // the sorted entries; read at the first call
	file  *os.File
}

// Open opens the store in dir, which is made when it is missing; the folder that it is to
// lie in must be there.
func Open(dir string) (*Store, error) {
	if err := rights.Folder(dir); err != nil {
		return nil, err
	}
	s := &Store{dir: dir}
	return s, s.reload()
}

// Close lets go of the files.
func (s *Store) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var errs []error
	for _, p := range s.packs {
		if p.file != nil {
			errs = append(errs, p.file.Close())
		}
	}
	s.packs = nil
	if s.dec != nil {
		s.dec.Close()
		s.dec = nil
	}
	return errors.Join(errs...)
}

// reload takes in packs that came since the last look. When one went while we
// looked, its content is in a pack that may have come after: it looks again.
func (s *Store) reload() error {
	const patience = 100 // a link that leads nowhere would go on for ever
	var err error
	for range patience {
		if err = s.takeIn(); !errors.Is(err, os.ErrNotExist) {
			break
		}
	}
	return err
}

func (s *Store) takeIn() error {
	names, err := filepath.Glob(filepath.Join(s.dir, "*.index"))
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	known := map[string]bool{}
	for _, p := range s.packs {
		known[p.name] = true
	}
	for _, n := range names {
		name := strings.TrimSuffix(filepath.Base(n), ".index")
		if known[name] {
			continue
		}
		if err := checkIndex(n); err != nil {
			return err
		}
		s.packs = append(s.packs, &pack{name: name, index: sync.OnceValue(func() []byte {
			data, err := os.ReadFile(n)
			if err != nil || len(data) < len(indexMagic) {
				return nil // gone meanwhile: its content is in another pack, or missing
			}
			return data[len(indexMagic):]
		})})
	}
	return nil
}

// checkIndex looks at the form of an index.
func checkIndex(name string) error {
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	magic := make([]byte, len(indexMagic))
	if _, err := f.ReadAt(magic, 0); err != nil || string(magic) != indexMagic || (info.Size()-int64(len(magic)))%entrySize != 0 {
		return &DamageError{File: name, Reason: "it is no index of this format"}
	}
	return nil
}

// place is where a record lies.
type place struct {
	pack   *pack
	offset int64
	size   int64 // of the content
}

func (s *Store) find(d Digest) (place, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := len(s.packs) - 1; i >= 0; i-- {
		if at, ok := s.packs[i].find(d); ok {
			return at, true
		}
	}
	return place{}, false
}

// find looks content up in a pack's index.
func (p *pack) find(d Digest) (place, bool) {
	index := p.index()
	n := len(index) / entrySize
	k := sort.Search(n, func(k int) bool { return bytes.Compare(index[k*entrySize:k*entrySize+32], d[:]) >= 0 })
	if k == n || !bytes.Equal(index[k*entrySize:k*entrySize+32], d[:]) {
		return place{}, false
	}
	e := index[k*entrySize+32:]
	return place{p, int64(binary.LittleEndian.Uint64(e)), int64(binary.LittleEndian.Uint64(e[8:]))}, true
}

// locate is find, with one more look at the folder when the content is unknown.
func (s *Store) locate(d Digest) (place, error) {
	if p, ok := s.find(d); ok {
		return p, nil
	}
	if err := s.reload(); err != nil {
		return place{}, err
	}
	if p, ok := s.find(d); ok {
		return p, nil
	}
	if s.partial {
		return place{}, fmt.Errorf("%s: %w", d.Short(), ErrElsewhere)
	}
	return place{}, fmt.Errorf("%s: %w", d.Short(), ErrMissing)
}

// Partial makes readers fail with ErrElsewhere where the store does not hold something: it stands for
// another one that is out of reach.
func (s *Store) Partial() { s.partial = true }

// Beside lets readers find what the store does not hold in another one. What is written
// is not compared with that one.
func (s *Store) Beside(other *Store) { s.beside = other }

// Has reports whether the store holds the content.
func (s *Store) Has(d Digest) bool { _, ok := s.find(d); return ok }

// Size gives the content's size in bytes.
func (s *Store) Size(d Digest) (int64, error) {
	p, err := s.locate(d)
	if errors.Is(err, ErrMissing) && s.beside != nil && s.beside.Has(d) {
		return s.beside.Size(d)
	}
	return p.size, err
}

// depth says how much of a record is checked.
type depth bool

const (
	bySum    depth = false // the record's own sum, which finds damage
	byDigest depth = true  // the digest too, which finds wrong content
)

// buffers are memory that one reader uses again for each record.
type buffers struct{ stored, raw []byte }

// room gives n bytes, of what is there when that is enough.
func room(have []byte, n int) []byte {
	if cap(have) < n {
		return make([]byte, n)
	}
	return have[:n]
}

// record reads and checks a record, from another pack when the first is damaged
// and another has it. For a list, data is the list itself. It lies in the
// buffers until their next use.
func (s *Store) record(d Digest, at place, how depth, mem *buffers) (kind byte, data []byte, err error) {
	kind, data, err = s.recordIn(d, at, how, mem)
	var damage *DamageError
	const patience = 100 // other processes gather and tidy, but not for ever
	for range patience {
		if !errors.As(err, &damage) || damage.Reason != packGone {
			break
		}
		s.forget(at.pack) // perhaps its content was gathered elsewhere
		var lost error
		if at, lost = s.locate(d); lost != nil {
			break
		}
		kind, data, err = s.recordIn(d, at, how, mem)
	}
	if !errors.As(err, &damage) {
		return kind, data, err
	}
	for _, other := range s.others(d, at.pack) {
		if kind, data, again := s.recordIn(d, other, how, mem); again == nil {
			return kind, data, nil
		}
	}
	return kind, data, err
}

// others gives the places of content in other packs than one.
func (s *Store) others(d Digest, but *pack) []place {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []place
	for _, p := range s.packs {
		if p == but {
			continue
		}
		if at, ok := p.find(d); ok {
			out = append(out, at)
		}
	}
	return out
}

// recordIn reads and checks one record at its place.
func (s *Store) recordIn(d Digest, at place, how depth, mem *buffers) (kind byte, data []byte, err error) {
	name := filepath.Join(s.dir, at.pack.name+".pack")
	damaged := func(reason string) error { return &DamageError{d, name, reason} }
	f, err := s.packFile(at.pack, name)
	if err != nil {
		if errors.Is(err, os.ErrNotExist) {
			return 0, nil, damaged(packGone)
		}
		return 0, nil, err
	}
	var head [headSize]byte
	if _, err := f.ReadAt(head[:], at.offset); err != nil {
		return 0, nil, damaged("it is cut short")
	}
	kind = head[0]
	raw, stored := binary.LittleEndian.Uint32(head[33:]), binary.LittleEndian.Uint32(head[37:])
	if !bytes.Equal(head[1:33], d[:]) || kind&^kindPart > kindList || raw > maxRecord || stored > maxRecord {
		return 0, nil, damaged("the index points to another record")
	}
	data = room(mem.stored, int(stored))
	mem.stored = data
	if _, err := f.ReadAt(data, at.offset+headSize); err != nil {
		return 0, nil, damaged("it is cut short")
	}
	if recordSum(head[:headSize-checkSize], data) != binary.LittleEndian.Uint64(head[headSize-checkSize:]) {
		return 0, nil, damaged("the bytes do not agree with their sum")
	}
	if kind&^kindPart == kindZstd {
		if data, err = s.expand(data, room(mem.raw, int(raw))[:0]); err != nil {
			return 0, nil, damaged(err.Error())
		}
		mem.raw = data
	}
	if len(data) != int(raw) || isList(kind) && len(data)%listEntry != 0 {
		return 0, nil, damaged("it has another size")
	}
	if how == byDigest && kind != kindList && digestOf(kind, data) != d {
		return 0, nil, damaged("the bytes do not agree with the digest")
	}
	return kind, data, nil
}

// recordSum is the sum that guards a record: over its head and stored bytes.
func recordSum(head, stored []byte) uint64 {
	var h xxhash.Digest
	h.Reset()
	_, _ = h.Write(head) // never fails
	_, _ = h.Write(stored)
	return h.Sum64()
}

func (s *Store) packFile(p *pack, name string) (*os.File, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if p.file == nil {
		f, err := os.Open(name)
		if err != nil {
			return nil, err
		}
		p.file = f
	}
	return p.file, nil
}

// expand decompresses data into the room of out.
func (s *Store) expand(data, out []byte) ([]byte, error) {
	s.mu.Lock()
	if s.dec == nil {
		dec, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(maxRecord))
		if err != nil {
			s.mu.Unlock()
			return nil, err
		}
		s.dec = dec
	}
	dec := s.dec
	s.mu.Unlock()
	return dec.DecodeAll(data, out)
}

// Open streams content, as Source says.
func (s *Store) Open(d Digest) (io.ReadCloser, error) { return s.open(d, bySum) }

// OpenExact is Open that holds every chunk against its digest too, which takes
// several times as long.
func (s *Store) OpenExact(d Digest) (io.ReadCloser, error) { return s.open(d, byDigest) }

func (s *Store) open(d Digest, how depth) (io.ReadCloser, error) {
	at, err := s.locate(d)
	if errors.Is(err, ErrMissing) && s.beside != nil && s.beside.Has(d) {
		return s.beside.open(d, how)
	}
	if err != nil {
		return nil, err
	}
	kind, data, err := s.record(d, at, how, &buffers{})
	if err != nil {
		return nil, err
	}
	if !isList(kind) {
		return io.NopCloser(bytes.NewReader(data)), nil
	}
	return io.NopCloser(&listReader{store: s, digest: d, lists: [][]byte{data}, how: how}), nil
}
