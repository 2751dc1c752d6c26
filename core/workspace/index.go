package workspace

import (
	"bytes"
	"encoding/binary"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"oakenchest/core/element"
)

// The index remembers, for each file, what the file system said of it when its
// digest was taken:
//
//	"OAKWIDX\x01", time of writing (int64, Unix nanoseconds), count (uint64),
//	then for each path, sorted: length (uvarint), path, size (int64), changed
//	(int64, nanoseconds), inode (uint64), digest (32), numbers little-endian
//
// It only saves work: a missing or damaged one is made anew.
type index struct {
	written int64
	entries map[string]indexEntry
}

type indexEntry struct {
	size, changed int64
	inode         uint64
	digest        element.Digest
}

const indexMagic = "OAKWIDX\x01"

func entryOf(info fs.FileInfo) indexEntry {
	return indexEntry{size: info.Size(), changed: info.ModTime().UnixNano(), inode: inodeOf(info)}
}

func (e indexEntry) sameFile(o indexEntry) bool {
	return e.size == o.size && e.changed == o.changed && e.inode == o.inode
}

// granularity is the coarsest clock of a file system that we allow for.
const granularity = 2e9

// racy says that the file may have changed after its digest was taken, within
// the tick of the file system's clock in which the index was written.
func (x *index) racy(e indexEntry) bool { return e.changed+granularity > x.written }

func (w *Workspace) indexFile() string { return filepath.Join(w.Root, Folder, "index") }

func (w *Workspace) loadIndex() *index {
	x := &index{entries: map[string]indexEntry{}}
	data, err := os.ReadFile(w.indexFile())
	rest, ok := bytes.CutPrefix(data, []byte(indexMagic))
	if err != nil || !ok || len(rest) < 16 {
		return x
	}
	x.written = int64(binary.LittleEndian.Uint64(rest))
	count := binary.LittleEndian.Uint64(rest[8:])
	rest = rest[16:]
	for range count {
		n, k := binary.Uvarint(rest)
		if k <= 0 || n > uint64(len(rest)-k) || len(rest)-k-int(n) < 56 {
			return &index{entries: map[string]indexEntry{}}
		}
		p := string(rest[k : k+int(n)])
		rest = rest[k+int(n):]
		e := indexEntry{size: int64(binary.LittleEndian.Uint64(rest)), changed: int64(binary.LittleEndian.Uint64(rest[8:])), inode: binary.LittleEndian.Uint64(rest[16:])}
		copy(e.digest[:], rest[24:])
		x.entries[p] = e
		rest = rest[56:]
	}
	return x
}

// saveIndex writes the index; that it can't be written is no error, it is only slower.
func (w *Workspace) saveIndex() {
	x := w.index
	x.written = w.host.Now().UnixNano()
	paths := make([]string, 0, len(x.entries))
	for p := range x.entries {
		paths = append(paths, p)
	}
	slices.Sort(paths)
	out := binary.LittleEndian.AppendUint64([]byte(indexMagic), uint64(x.written))
	out = binary.LittleEndian.AppendUint64(out, uint64(len(paths)))
	for _, p := range paths {
		e := x.entries[p]
		out = binary.AppendUvarint(out, uint64(len(p)))
		out = append(out, p...)
		out = binary.LittleEndian.AppendUint64(out, uint64(e.size))
		out = binary.LittleEndian.AppendUint64(out, uint64(e.changed))
		out = binary.LittleEndian.AppendUint64(out, e.inode)
		out = append(out, e.digest[:]...)
	}
	temp := filepath.Join(w.Root, Folder, "temp", "index-"+itoa(os.Getpid()))
	if os.WriteFile(temp, out, 0o666) == nil {
		_ = os.Rename(temp, w.indexFile())
	}
}
