package disk

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/cespare/xxhash/v2"

	"oakenchest/core/element"
)

// The index remembers, for each file, what the file system said of it when its
// digest was taken:
//
//	"OAKWIDX\x03", XXH64 of all that follows (uint64), time of writing (int64, Unix nanoseconds), number of folders
//	(uvarint), then for each folder, sorted: path (uvarint length, bytes), number
//	of files (uvarint), then for each file, sorted by name: name (uvarint length,
//	bytes), size (int64), changed (int64, nanoseconds), inode (uint64), digest
//	(32); numbers are little-endian
//
// It only saves work: a missing or damaged one is made anew.
type index struct {
	written int64
	loaded  int64                   // when this process read it
	folders map[string][]indexEntry // by name
}

type indexEntry struct {
	Name          string
	Size, Changed int64
	Inode         uint64
	digest        element.Digest
}

const (
	indexMagic = "OAKWIDX\x03"
	entryBytes = 8 + 8 + 8 + 32
)

func newIndex() *index { return &index{folders: map[string][]indexEntry{}} }

func entryOf(f Seen) indexEntry {
	return indexEntry{Name: f.Name, Size: f.Size, Changed: f.Changed, Inode: f.Inode}
}

func (e indexEntry) sameFile(f Seen) bool {
	return e.Size == f.Size && e.Changed == f.Changed && e.Inode == f.Inode
}

// granularity is the coarsest clock of a file system that we allow for.
const granularity = 2e9

// racy says that the file may have changed after its digest was taken, within
// the tick of the file system's clock in which the index was written.
func (x *index) racy(e indexEntry) bool { return e.Changed+granularity > x.written }

// ripen forgets entries that would cease to be racy by being written at a later time,
// though nobody has read their files again: they were taken over from the index as it was
// loaded.
func (x *index) ripen(now int64) {
	for _, list := range x.folders {
		for i, e := range list {
			if x.racy(e) && e.Changed < x.loaded-granularity && e.Changed+granularity <= now {
				list[i].Changed = 0
			}
		}
	}
}

// knows gives what is remembered of a file, when that still holds.
func (x *index) knows(p string, f Seen) (indexEntry, bool) {
	dir, name := SplitPath(p)
	i, ok := findEntry(x.folders[dir], name)
	if !ok {
		return indexEntry{}, false
	}
	e := x.folders[dir][i]
	return e, e.sameFile(f) && !x.racy(e)
}

// learn remembers the digest of a file.
func (x *index) learn(p string, f Seen, d element.Digest) {
	dir, name := SplitPath(p)
	e := entryOf(f)
	e.Name, e.digest = name, d
	i, ok := findEntry(x.folders[dir], name)
	if ok {
		x.folders[dir][i] = e
	} else {
		x.folders[dir] = slices.Insert(x.folders[dir], i, e)
	}
}

func findEntry(list []indexEntry, name string) (int, bool) {
	return slices.BinarySearchFunc(list, name, func(e indexEntry, n string) int { return strings.Compare(e.Name, n) })
}

// SplitPath parts a project path into its folder, empty for the top, and name.
func SplitPath(p string) (dir, name string) {
	i := strings.LastIndexByte(p, '/')
	return p[:max(i, 0)], p[i+1:]
}

// IndexFile is where the index is kept.
func (t *Tree) IndexFile() string { return t.Own("index") }

// needIndex reads the index, unless it is at hand.
func (t *Tree) needIndex() {
	if t.index != nil {
		return
	}
	data, err := os.ReadFile(t.IndexFile())
	if err == nil {
		t.index = decodeIndex(data)
	}
	if t.index == nil {
		t.index = newIndex()
	}
	t.index.loaded = t.Now().UnixNano()
}

// decodeIndex reads an index; nil when it is not well formed.
func decodeIndex(data []byte) *index {
	rest, ok := bytes.CutPrefix(data, []byte(indexMagic))
	if !ok || len(rest) < 16 || xxhash.Sum64(rest[8:]) != binary.LittleEndian.Uint64(rest) {
		return nil
	}
	rest = rest[8:]
	x := newIndex()
	x.written = int64(binary.LittleEndian.Uint64(rest))
	rest = rest[8:]
	all := namesOf(rest) // one piece of memory for all names, and nothing beside them
	number := func() (uint64, bool) {
		n, k := binary.Uvarint(rest)
		if k <= 0 || n > uint64(len(rest)-k) {
			return 0, false
		}
		rest = rest[k:]
		return n, true
	}
	text := func() (string, bool) {
		n, ok := number()
		if !ok {
			return "", false
		}
		if rest = rest[n:]; uint64(len(all)) < n {
			return "", false
		}
		name := all[:n]
		all = all[n:]
		return name, true
	}
	folders, ok := number()
	for range folders {
		dir, fine := text()
		files, counted := number()
		if !fine || !counted || files > uint64(len(rest)/entryBytes) {
			return nil
		}
		list := make([]indexEntry, files)
		for i := range list {
			e := &list[i]
			if e.Name, ok = text(); !ok || len(rest) < entryBytes {
				return nil
			}
			e.Size, e.Changed = int64(binary.LittleEndian.Uint64(rest)), int64(binary.LittleEndian.Uint64(rest[8:]))
			e.Inode = binary.LittleEndian.Uint64(rest[16:])
			copy(e.digest[:], rest[24:])
			rest = rest[entryBytes:]
		}
		x.folders[dir] = list
	}
	if !ok || len(rest) > 0 {
		return nil
	}
	return x
}

// namesOf gives the names in an index, one behind the other, as far as it is well formed.
func namesOf(rest []byte) string {
	var out strings.Builder
	number := func() (int, bool) {
		n, k := binary.Uvarint(rest)
		if k <= 0 || n > uint64(len(rest)-k) {
			return 0, false
		}
		rest = rest[k:]
		return int(n), true
	}
	text := func() bool {
		n, ok := number()
		if ok {
			out.Write(rest[:n])
			rest = rest[n:]
		}
		return ok
	}
	folders, ok := number()
	for range folders {
		if ok = ok && text(); !ok {
			break
		}
		files, counted := number()
		for range files {
			if !counted || !text() || len(rest) < entryBytes {
				return out.String()
			}
			rest = rest[entryBytes:]
		}
	}
	return out.String()
}

// writeTo writes the index; only a part of it is in memory at a time.
func (x *index) writeTo(f io.WriteSeeker) error {
	if _, err := f.Write(append([]byte(indexMagic), make([]byte, 8)...)); err != nil { // the sum, when the rest is known
		return err
	}
	var sum xxhash.Digest
	sum.Reset()
	out := bufio.NewWriterSize(io.MultiWriter(&sum, f), 1<<16)
	var b []byte
	put := func() { _, _ = out.Write(b); b = b[:0] } // Flush tells
	b = binary.LittleEndian.AppendUint64(b, uint64(x.written))
	b = binary.AppendUvarint(b, uint64(len(x.folders)))
	put()
	for _, dir := range slices.Sorted(maps.Keys(x.folders)) {
		b = binary.AppendUvarint(b, uint64(len(dir)))
		b = append(b, dir...)
		b = binary.AppendUvarint(b, uint64(len(x.folders[dir])))
		for _, e := range x.folders[dir] {
			b = binary.AppendUvarint(b, uint64(len(e.Name)))
			b = append(b, e.Name...)
			b = binary.LittleEndian.AppendUint64(b, uint64(e.Size))
			b = binary.LittleEndian.AppendUint64(b, uint64(e.Changed))
			b = binary.LittleEndian.AppendUint64(b, e.Inode)
			b = append(b, e.digest[:]...)
			put()
		}
		put()
	}
	if err := out.Flush(); err != nil {
		return err
	}
	if _, err := f.Seek(int64(len(indexMagic)), io.SeekStart); err != nil {
		return err
	}
	_, err := f.Write(binary.LittleEndian.AppendUint64(nil, sum.Sum64()))
	return err
}

// SaveIndex writes the index; that it can't be written is no error, it is only slower.
func (t *Tree) SaveIndex() {
	t.learnt = false
	now := t.Now().UnixNano()
	t.index.ripen(now)
	t.index.written = now
	temp := filepath.Join(t.Own("temp"), fmt.Sprintf("index-%d", os.Getpid()))
	f, err := os.OpenFile(temp, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, OwnMode)
	if err != nil {
		return
	}
	if errors.Join(t.index.writeTo(f), f.Close()) == nil {
		_ = os.Rename(temp, t.IndexFile())
	}
}

// IndexIsDamaged reports whether there is an index, and it can't be read.
func (t *Tree) IndexIsDamaged() bool {
	data, err := os.ReadFile(t.IndexFile())
	return err == nil && decodeIndex(data) == nil
}

// Forget has the index read anew when it is needed next.
func (t *Tree) Forget() { t.index = nil }

// Unread gives what the file system says of a file that the last scan did not read.
func (t *Tree) Unread(p string) (Seen, bool) {
	seen, left := t.unread[p]
	return seen, left
}

// Learn tells the index the digest of a file that the scan left out.
func (t *Tree) Learn(p string, seen Seen, d element.Digest) {
	t.index.learn(p, seen, d)
	delete(t.unread, p)
	t.learnt = true
}

// Remember writes what was learnt since the index was read, if anything was.
func (t *Tree) Remember() {
	if t.learnt {
		t.SaveIndex()
	}
}
