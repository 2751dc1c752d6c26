package content

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync"

	"github.com/cespare/xxhash/v2"
	"github.com/klauspost/compress/zstd"
	"lukechampine.com/blake3"

	"oakenchest/core/rights"
)

const (
	headSize  = 1 + 32 + 4 + 4 + checkSize
	checkSize = 8
	entrySize = 32 + 8 + 8
	// maxRecord bounds a record's raw size: a list of chunks of 100 TiB.
	maxRecord = 1 << 30
)

// Reasons of damage that may be mended at once.
const (
	baleGone   = "the bale is gone"
	keysAstray = "its keys point to another record"
	cutShort   = "it is cut short"
)

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

// form is how the two files of a bale are called, and how they begin.
type form struct{ bale, keys, baleMagic, keysMagic string }

var (
	// current is the form of what is written.
	current = form{".bale", ".keys", "OAKBALE\x01", "OAKKEYS\x01"}
	// former is that of chests of format 2, which is read until Tidy writes it anew.
	former = form{".pack", ".index", "OAKPACK\x02", "OAKINDX\x01"}
)

// Store is bales in folders.
type Store struct {
	dir  string   // where bales are written
	dirs []string // where they are read

	mu    sync.Mutex // guards bales and dec
	bales []*bale
	dec   *zstd.Decoder

	beside  *Store // where readers find what is not here
	far     Far    // what this is a part of; nil for a store of its own
	farCtx  context.Context
	partial bool // what is not here may be elsewhere
}

type bale struct {
	stem string // of its two files
	form form
	file *os.File

	mu     sync.Mutex // guards what follows
	sorted []byte     // the entries, when loaded
	loaded bool
	poor   string // why its file of keys is of no use
	anew   bool   // they were read out of the bale to see
}

func (p *bale) name() string     { return p.stem + p.form.bale }
func (p *bale) keysName() string { return p.stem + p.form.keys }

// Open opens the store in dir, which is made when it is missing; the folder that it is to
// lie in must be there. Bales in the older folders, which may be missing, are read too.
func Open(dir string, older ...string) (*Store, error) {
	s := &Store{dir: dir, dirs: append([]string{dir}, older...)}
	if err := rights.Folder(dir); err != nil {
		return nil, s.condition(err) // the folder that it lies in may have gone this very moment
	}
	return s, s.reload()
}

// Close lets go of the files.
func (s *Store) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var errs []error
	for _, p := range s.bales {
		if p.file != nil {
			errs = append(errs, p.file.Close())
		}
	}
	s.bales = nil
	if s.dec != nil {
		s.dec.Close()
		s.dec = nil
	}
	return errors.Join(errs...)
}

// reload takes in bales that came since the last look.
func (s *Store) reload() error {
	if _, err := os.Stat(s.dir); err != nil {
		return s.condition(err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	known := map[string]bool{}
	for _, p := range s.bales {
		known[p.stem] = true
	}
	return s.everyFile(func(f form) string { return f.keys }, func(stem string, f form) {
		if known[stem] {
			return
		}
		if _, err := os.Stat(stem + f.bale); err == nil { // keys alone say nothing
			s.bales = append(s.bales, &bale{stem: stem, form: f})
		}
	})
}

// Refresh looks at the folders anew: bales that others have taken away are forgotten.
func (s *Store) Refresh() error {
	s.mu.Lock()
	bales := slices.Clone(s.bales)
	s.mu.Unlock()
	for _, p := range bales {
		if _, err := os.Stat(p.name()); errors.Is(err, os.ErrNotExist) {
			s.forget(p)
		}
	}
	return s.reload()
}

// everyFile visits the files of both forms with an ending.
func (s *Store) everyFile(ending func(form) string, visit func(stem string, f form)) error {
	for _, dir := range s.dirs {
		for _, f := range []form{former, current} {
			names, err := filepath.Glob(filepath.Join(dir, "*"+ending(f)))
			if err != nil {
				return err
			}
			for _, n := range names {
				visit(strings.TrimSuffix(n, ending(f)), f)
			}
		}
	}
	return nil
}

// place is where a record lies.
type place struct {
	bale   *bale
	offset int64
	size   int64 // of the content
}

func (s *Store) find(d Digest) (place, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := len(s.bales) - 1; i >= 0; i-- {
		if at, ok := s.bales[i].find(d); ok {
			return at, true
		}
	}
	return place{}, false
}

// find looks content up among a bale's keys.
func (p *bale) find(d Digest) (place, bool) {
	keys := p.keys()
	n := len(keys) / entrySize
	k := sort.Search(n, func(k int) bool { return bytes.Compare(keys[k*entrySize:k*entrySize+32], d[:]) >= 0 })
	if k == n || !bytes.Equal(keys[k*entrySize:k*entrySize+32], d[:]) {
		return place{}, false
	}
	e := keys[k*entrySize+32:]
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
	if s.far != nil && (s.beside == nil || !s.beside.Has(d)) {
		if err := s.fetch(s.farCtx, []Want{{Content: d}}); err != nil {
			return place{}, err
		}
		if p, ok := s.find(d); ok {
			return p, nil
		}
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

// record reads and checks a record, from another bale when the first is damaged
// and another has it. For a list, data is the list itself. It lies in the
// buffers until their next use.
func (s *Store) record(d Digest, at place, how depth, mem *buffers) (kind byte, data []byte, err error) {
	kind, data, err = s.recordIn(d, at, how, mem)
	var damage *DamageError
	const patience = 100 // other processes gather and tidy, but not for ever
	for range patience {
		if !errors.As(err, &damage) || damage.Reason != baleGone {
			break
		}
		s.forget(at.bale) // perhaps its content was gathered elsewhere
		var lost error
		if at, lost = s.locate(d); lost != nil {
			break
		}
		kind, data, err = s.recordIn(d, at, how, mem)
	}
	if !errors.As(err, &damage) {
		return kind, data, err
	}
	if (damage.Reason == keysAstray || damage.Reason == cutShort) && at.bale.readAnew() {
		if again, ok := at.bale.find(d); ok {
			if kind, data, err := s.recordIn(d, again, how, mem); err == nil {
				return kind, data, nil
			}
		}
	}
	for _, other := range s.others(d, at.bale) {
		if kind, data, again := s.recordIn(d, other, how, mem); again == nil {
			return kind, data, nil
		}
	}
	if s.far != nil {
		if again, lost := s.anew(d, at.bale); lost == nil {
			return s.recordIn(d, again, how, mem)
		}
	}
	return kind, data, err
}

// others gives the places of content in other bales than one.
func (s *Store) others(d Digest, but *bale) []place {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []place
	for _, p := range s.bales {
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
	name := at.bale.name()
	damaged := func(reason string) error { return &DamageError{d, name, reason} }
	f, err := s.baleFile(at.bale)
	if err != nil {
		if errors.Is(err, os.ErrNotExist) {
			return 0, nil, damaged(baleGone)
		}
		return 0, nil, err
	}
	var head [headSize]byte
	if _, err := f.ReadAt(head[:], at.offset); err != nil {
		return 0, nil, damaged(cutShort)
	}
	kind = head[0]
	raw, stored := binary.LittleEndian.Uint32(head[33:]), binary.LittleEndian.Uint32(head[37:])
	if !bytes.Equal(head[1:33], d[:]) || kind&^kindPart > kindList || raw > maxRecord || stored > maxRecord {
		return 0, nil, damaged(keysAstray)
	}
	data = room(mem.stored, int(stored))
	mem.stored = data
	if _, err := f.ReadAt(data, at.offset+headSize); err != nil {
		return 0, nil, damaged(cutShort)
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

func (s *Store) baleFile(p *bale) (*os.File, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if p.file == nil {
		f, err := os.Open(p.name())
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
