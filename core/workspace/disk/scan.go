package disk

import (
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/state"
)

// Files lists the files of the workspace that are not left out, with their
// digests. The file system is asked once for each; only those that may differ
// from what the index remembers are read.
func (t *Tree) Files(ctx context.Context) ([]state.File, error) {
	return t.Scan(ctx, func(state.File) bool { return true })
}

// Scan lists the files; needed says of a file that the index does not know, with
// its path, mode and size, whether its digest is wanted. Without, it is zero.
// Several goroutines call it.
func (t *Tree) Scan(ctx context.Context, needed func(state.File) bool) ([]state.File, error) {
	t.needIndex()
	s := &scanner{t: t, needed: needed, fresh: make(map[string][]indexEntry, len(t.index.folders)), unread: map[string]Seen{}}
	top, err := t.walk(ctx, s.folder)
	if err != nil {
		return nil, fault.New(fault.Failed, "Check the rights on it, or leave it out in oaken.toml.",
			"The workspace can't be read: %w.", err)
	}
	t.unread = s.unread
	if s.learned || len(s.fresh) != len(t.index.folders) {
		t.index.folders = s.fresh
		t.SaveIndex()
	}
	return top.list(make([]state.File, 0, s.files)), nil
}

// scanner holds the entries of folders against the index.
type scanner struct {
	t      *Tree
	needed func(state.File) bool

	mu          sync.Mutex // guards what follows
	fresh       map[string][]indexEntry
	unread      map[string]Seen
	learned     bool // fresh differs from the index
	files, read int
}

// folder gives the files of one folder.
func (s *scanner) folder(dir string, entries []Seen) ([]state.File, error) {
	prefix := dir
	if prefix != "" {
		prefix += "/"
	}
	known := s.t.index.folders[dir]
	remembered := known
	alike := 0 // so many entries of the index still hold, in order
	var fresh []indexEntry
	out := make([]state.File, 0, len(entries))
	for _, e := range entries {
		f := state.File{Path: prefix + e.Name, Size: e.Size}
		for len(known) > 0 && known[0].Name < e.Name {
			known = known[1:]
		}
		if e.Sort == IsLink {
			target, err := os.Readlink(s.t.Local(f.Path))
			if err != nil {
				return nil, err
			}
			f.Mode, f.Size, f.Digest = chest.Link, int64(len(target)), element.DigestOf([]byte(filepath.ToSlash(target)))
			out = append(out, f)
			continue
		}
		if f.Mode = ModeOf(e); f.Mode == 0 {
			continue
		}
		if len(known) > 0 && known[0].Name == e.Name && known[0].sameFile(e) && !s.t.index.racy(known[0]) {
			f.Digest = known[0].digest
			out = append(out, f)
			if fresh == nil && alike < len(remembered) && remembered[alike].Name == e.Name {
				alike++
				continue
			}
			if fresh == nil {
				fresh = slices.Clone(remembered[:alike])
			}
			fresh = append(fresh, known[0])
			continue
		}
		if fresh == nil {
			fresh = slices.Clone(remembered[:alike])
		}
		if !s.needed(f) {
			s.leave(f.Path, e)
			out = append(out, f)
			continue
		}
		entry := entryOf(e)
		var err error
		entry.digest, f.Size, err = DigestFile(s.t.Local(f.Path))
		if errors.Is(err, fs.ErrNotExist) {
			continue // gone while we looked
		}
		if err != nil {
			return nil, err
		}
		f.Digest = entry.digest
		out, fresh = append(out, f), append(fresh, entry)
		s.tell()
	}
	s.note(dir, remembered, fresh, alike, len(out))
	return out, nil
}

// ModeOf gives the mode of a file; none for what is neither file nor link.
func ModeOf(f Seen) chest.Mode {
	switch {
	case f.Sort == IsLink:
		return chest.Link
	case f.Sort != IsFile:
		return 0
	case f.Executable:
		return chest.Executable
	}
	return chest.Plain
}

// leave notes a file that was not read.
func (s *scanner) leave(p string, e Seen) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.unread[p] = e
}

// tell says how many files were read.
func (s *scanner) tell() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.read++; s.read%500 == 0 {
		s.t.progress("reading files", s.read, 0)
	}
}

// note keeps what is known of a folder now: fresh, or the first entries of what
// was remembered.
func (s *scanner) note(dir string, remembered, fresh []indexEntry, alike, files int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if fresh == nil {
		fresh = remembered[:alike]
	}
	s.learned = s.learned || len(fresh) != len(remembered) || alike < len(remembered)
	if len(fresh) > 0 {
		s.fresh[dir] = fresh
	}
	s.files += files
}

// copyBuffers holds memory for reading files: many are smaller than it.
var copyBuffers = sync.Pool{New: func() any { return new([128 << 10]byte) }}

// DigestFile gives the digest of a file, and its size.
func DigestFile(full string) (element.Digest, int64, error) {
	in, err := os.Open(full)
	if err != nil {
		return element.Digest{}, 0, err
	}
	defer in.Close()
	h := sha256.New()
	buf := copyBuffers.Get().(*[128 << 10]byte)
	defer copyBuffers.Put(buf)
	n, err := io.CopyBuffer(h, struct{ io.Reader }{in}, buf[:])
	return element.Digest(h.Sum(nil)), n, err
}
