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

	"github.com/klauspost/compress/zstd"
)

const (
	packMagic  = "OAKPACK\x01"
	indexMagic = "OAKINDX\x01"
	headSize   = 1 + 32 + 4 + 4
	entrySize  = 32 + 8 + 8
	// maxRecord bounds a record's raw size: a list of chunks of 100 TiB.
	maxRecord = 1 << 30
)

const packGone = "the pack is gone"

const (
	kindPlain byte = iota
	kindZstd
	kindList
)

// Store is a folder of packs.
type Store struct {
	dir string

	mu    sync.Mutex // guards packs and dec
	packs []*pack
	dec   *zstd.Decoder
}

type pack struct {
	name  string
	index []byte // the sorted entries
	file  *os.File
}

// Open opens the store in dir, which is made when it is missing.
func Open(dir string) (*Store, error) {
	if err := os.MkdirAll(dir, 0o777); err != nil {
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

// reload takes in packs that came since the last look.
func (s *Store) reload() error {
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
		data, err := os.ReadFile(n)
		if err != nil {
			return err
		}
		if !bytes.HasPrefix(data, []byte(indexMagic)) || (len(data)-len(indexMagic))%entrySize != 0 {
			return &DamageError{File: n, Reason: "it is no index of this format"}
		}
		s.packs = append(s.packs, &pack{name: name, index: data[len(indexMagic):]})
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
	n := len(p.index) / entrySize
	k := sort.Search(n, func(k int) bool { return bytes.Compare(p.index[k*entrySize:k*entrySize+32], d[:]) >= 0 })
	if k == n || !bytes.Equal(p.index[k*entrySize:k*entrySize+32], d[:]) {
		return place{}, false
	}
	e := p.index[k*entrySize+32:]
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
	return place{}, fmt.Errorf("%s: %w", d.Short(), ErrMissing)
}

// Has reports whether the store holds the content.
func (s *Store) Has(d Digest) bool { _, ok := s.find(d); return ok }

// Size gives the content's size in bytes.
func (s *Store) Size(d Digest) (int64, error) {
	p, err := s.locate(d)
	return p.size, err
}

// record reads and checks a record, from another pack when the first is damaged
// and another has it. For a list, data is the list itself.
func (s *Store) record(d Digest, at place) (kind byte, data []byte, err error) {
	kind, data, err = s.recordIn(d, at)
	var damage *DamageError
	if errors.As(err, &damage) && damage.Reason == packGone { // perhaps tidied away by another process
		s.forget(at.pack)
		if at, err := s.locate(d); err == nil {
			return s.recordIn(d, at)
		}
	}
	if !errors.As(err, &damage) {
		return kind, data, err
	}
	for _, other := range s.others(d, at.pack) {
		if kind, data, again := s.recordIn(d, other); again == nil {
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
func (s *Store) recordIn(d Digest, at place) (kind byte, data []byte, err error) {
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
	if !bytes.Equal(head[1:33], d[:]) || kind > kindList || raw > maxRecord || stored > maxRecord {
		return 0, nil, damaged("the index points to another record")
	}
	data = make([]byte, stored)
	if _, err := f.ReadAt(data, at.offset+headSize); err != nil {
		return 0, nil, damaged("it is cut short")
	}
	if kind == kindZstd {
		if data, err = s.expand(data, int(raw)); err != nil {
			return 0, nil, damaged(err.Error())
		}
	}
	if len(data) != int(raw) {
		return 0, nil, damaged("it has another size")
	}
	if kind == kindList {
		list, sum := data[:max(len(data)-sha256.Size, 0)], data[max(len(data)-sha256.Size, 0):]
		if len(list)%listEntry != 0 || len(sum) != sha256.Size || sha256.Sum256(list) != [sha256.Size]byte(sum) {
			return 0, nil, damaged("the list of chunks does not agree with its sum")
		}
		return kind, list, nil
	}
	if sha256.Sum256(data) != d {
		return 0, nil, damaged("the bytes do not agree with the digest")
	}
	return kind, data, nil
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

func (s *Store) expand(data []byte, raw int) ([]byte, error) {
	s.mu.Lock()
	if s.dec == nil {
		dec, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxRecord))
		if err != nil {
			s.mu.Unlock()
			return nil, err
		}
		s.dec = dec
	}
	dec := s.dec
	s.mu.Unlock()
	return dec.DecodeAll(data, make([]byte, 0, raw))
}

// Open streams content, as Source says.
func (s *Store) Open(d Digest) (io.ReadCloser, error) {
	at, err := s.locate(d)
	if err != nil {
		return nil, err
	}
	kind, data, err := s.record(d, at)
	if err != nil {
		return nil, err
	}
	if kind != kindList {
		return io.NopCloser(bytes.NewReader(data)), nil
	}
	return io.NopCloser(&listReader{store: s, digest: d, list: data}), nil
}
