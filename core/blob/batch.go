package blob

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"

	"github.com/klauspost/compress/zstd"

	"oakenchest/core/blob/cut"
)

// Batch is one pack being written. Use it from one goroutine; end it with
// Commit or Abandon.
type Batch struct {
	store *Store
	file  *os.File
	out   *bufio.Writer
	enc   *zstd.Encoder
	at    int64
	have  map[Digest]bool
	index []indexEntry
	names []byte // digests in order of writing
}

type indexEntry struct {
	digest       Digest
	offset, size int64
}

// Begin starts a batch. Nothing is written before the first Put.
func (s *Store) Begin() *Batch { return &Batch{store: s, have: map[Digest]bool{}} }

func (b *Batch) open() error {
	if b.file != nil {
		return nil
	}
	f, err := os.CreateTemp(b.store.dir, "writing-*")
	if err != nil {
		return err
	}
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedDefault))
	if err != nil {
		f.Close()
		return err
	}
	b.file, b.out, b.enc = f, bufio.NewWriterSize(f, 1<<20), enc
	b.at = int64(len(packMagic))
	_, err = b.out.WriteString(packMagic)
	return err
}

// Has reports whether the content is in the store or in this batch.
func (b *Batch) Has(d Digest) bool { return b.have[d] || b.store.Has(d) }

// Put stores content and gives its digest and size. Content that the store has
// already costs nothing.
func (b *Batch) Put(r io.Reader) (Digest, int64, error) {
	whole, size, list := sha256.New(), int64(0), []byte(nil)
	cutter := cut.New(r)
	var held []byte // the first chunk waits: alone, it is the content
	flush := func(chunk []byte) error {
		d := Digest(sha256.Sum256(chunk))
		list = append(list, d[:]...)
		list = binary.LittleEndian.AppendUint32(list, uint32(len(chunk)))
		return b.write(d, chunk, kindPlain, int64(len(chunk)))
	}
	for n := 0; ; n++ {
		chunk, err := cutter.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return Digest{}, 0, err
		}
		whole.Write(chunk)
		size += int64(len(chunk))
		if n == 0 {
			held = slices.Clone(chunk)
			continue
		}
		if n == 1 {
			if err := flush(held); err != nil {
				return Digest{}, 0, err
			}
		}
		if err := flush(chunk); err != nil {
			return Digest{}, 0, err
		}
	}
	d := Digest(whole.Sum(nil))
	if len(list) == 0 {
		return d, size, b.write(d, held, kindPlain, size)
	}
	return d, size, b.write(d, list, kindList, size)
}

// PutBytes stores data.
func (b *Batch) PutBytes(data []byte) (Digest, error) {
	d, _, err := b.Put(bytes.NewReader(data))
	return d, err
}

func (b *Batch) write(d Digest, data []byte, kind byte, size int64) error {
	if b.Has(d) {
		return nil
	}
	if err := b.open(); err != nil {
		return err
	}
	stored := data
	if kind == kindPlain && len(data) >= 64 {
		if packed := b.enc.EncodeAll(data, nil); len(packed) < len(data)-len(data)/16 {
			kind, stored = kindZstd, packed
		}
	}
	head := append([]byte{kind}, d[:]...)
	head = binary.LittleEndian.AppendUint32(head, uint32(len(data)))
	head = binary.LittleEndian.AppendUint32(head, uint32(len(stored)))
	if _, err := b.out.Write(head); err != nil {
		return err
	}
	if _, err := b.out.Write(stored); err != nil {
		return err
	}
	b.have[d] = true
	b.index = append(b.index, indexEntry{d, b.at, size})
	b.names = append(b.names, d[:]...)
	b.at += int64(len(head) + len(stored))
	return nil
}

// Commit makes everything durable: the pack is written and synchronised, then
// its index, then the folder. After it, every Put of the batch is readable.
func (b *Batch) Commit() error {
	if b.file == nil {
		return nil
	}
	defer b.Abandon()
	if err := errors.Join(b.out.Flush(), b.file.Sync()); err != nil {
		return err
	}
	sum := sha256.Sum256(b.names)
	name := filepath.Join(b.store.dir, hex.EncodeToString(sum[:16]))
	temp := b.file.Name()
	if err := b.file.Close(); err != nil {
		return err
	}
	b.file = nil
	if err := os.Chmod(temp, 0o444); err != nil {
		return errors.Join(err, os.Remove(temp))
	}
	if err := os.Rename(temp, name+".pack"); err != nil {
		return errors.Join(err, os.Remove(temp))
	}
	if err := b.writeIndex(name + ".index"); err != nil {
		return err
	}
	if err := syncFolder(b.store.dir); err != nil {
		return err
	}
	return b.store.reload()
}

func (b *Batch) writeIndex(name string) error {
	slices.SortFunc(b.index, func(x, y indexEntry) int { return bytes.Compare(x.digest[:], y.digest[:]) })
	out := []byte(indexMagic)
	for _, e := range b.index {
		out = append(out, e.digest[:]...)
		out = binary.LittleEndian.AppendUint64(out, uint64(e.offset))
		out = binary.LittleEndian.AppendUint64(out, uint64(e.size))
	}
	return writeDurably(name, out)
}

// Abandon drops what was not committed.
func (b *Batch) Abandon() {
	if b.enc != nil {
		b.enc.Close()
		b.enc = nil
	}
	if b.file != nil {
		b.file.Close()
		os.Remove(b.file.Name())
		b.file = nil
	}
}

// writeDurably writes a file under a temporary name, synchronises it, and
// renames it.
func writeDurably(name string, data []byte) error {
	f, err := os.CreateTemp(filepath.Dir(name), "writing-*")
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	err = errors.Join(err, f.Sync(), f.Chmod(0o444), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), name)
	}
	if err != nil {
		os.Remove(f.Name())
	}
	return err
}

func syncFolder(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}
