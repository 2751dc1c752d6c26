package workspace

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/kind"
	"oakenchest/core/state"
)

// Files lists the files of the workspace that are not left out, with their
// digests. The file system is asked once for each; only those that may differ
// from what the index remembers are read.
func (w *Workspace) Files(ctx context.Context) ([]state.File, error) {
	return w.scan(ctx, func(state.File) bool { return true })
}

// scan lists the files; needed says of a file that the index does not know, with
// its path, mode and size, whether its digest is wanted. Without, it is zero.
// Several goroutines call it.
func (w *Workspace) scan(ctx context.Context, needed func(state.File) bool) ([]state.File, error) {
	w.needIndex()
	s := &scanner{w: w, needed: needed, fresh: make(map[string][]indexEntry, len(w.index.folders)), unread: map[string]found{}}
	top, err := w.walk(ctx, s.folder)
	if err != nil {
		return nil, fault.New(fault.Failed, "Check the rights on it, or leave it out in oaken.toml.", "The workspace can't be read: %w.", err)
	}
	w.unread = s.unread
	if s.learned || len(s.fresh) != len(w.index.folders) {
		w.index.folders = s.fresh
		w.saveIndex()
	}
	return top.list(make([]state.File, 0, s.files)), nil
}

// scanner holds the entries of folders against the index.
type scanner struct {
	w      *Workspace
	needed func(state.File) bool

	mu          sync.Mutex // guards what follows
	fresh       map[string][]indexEntry
	unread      map[string]found
	learned     bool // fresh differs from the index
	files, read int
}

// folder gives the files of one folder.
func (s *scanner) folder(dir string, entries []found) ([]state.File, error) {
	prefix := dir
	if prefix != "" {
		prefix += "/"
	}
	known := s.w.index.folders[dir]
	remembered := known
	alike := 0 // so many entries of the index still hold, in order
	var fresh []indexEntry
	out := make([]state.File, 0, len(entries))
	for _, e := range entries {
		f := state.File{Path: prefix + e.name, Size: e.size}
		for len(known) > 0 && known[0].name < e.name {
			known = known[1:]
		}
		if e.what == isLink {
			target, err := os.Readlink(s.w.local(f.Path))
			if err != nil {
				return nil, err
			}
			f.Mode, f.Size, f.Digest = chest.Link, int64(len(target)), element.DigestOf([]byte(filepath.ToSlash(target)))
			out = append(out, f)
			continue
		}
		if f.Mode = modeOf(e); f.Mode == 0 {
			continue
		}
		if len(known) > 0 && known[0].name == e.name && known[0].sameFile(e) && !s.w.index.racy(known[0]) {
			f.Digest = known[0].digest
			out = append(out, f)
			if fresh == nil && alike < len(remembered) && remembered[alike].name == e.name {
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
		entry.digest, f.Size, err = digestFile(s.w.local(f.Path))
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

// modeOf gives the mode of a file; none for what is neither file nor link.
func modeOf(f found) chest.Mode {
	switch {
	case f.what == isLink:
		return chest.Link
	case f.what != isFile:
		return 0
	case f.executable:
		return chest.Executable
	}
	return chest.Plain
}

// leave notes a file that was not read.
func (s *scanner) leave(p string, e found) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.unread[p] = e
}

// tell says how many files were read.
func (s *scanner) tell() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.read++; s.read%500 == 0 {
		s.w.host.progress("reading files", s.read, 0)
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

func digestFile(full string) (element.Digest, int64, error) {
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

// Work is the state of the workspace as it lies there.
func (w *Workspace) Work() state.State { return workState{w} }

type workState struct{ *Workspace }

func (s workState) Label() string { return "work" }

// Files lists what lies there, and what a partial workspace does not lay out.
func (s workState) Files(ctx context.Context) ([]state.File, error) {
	now, err := s.Workspace.Files(ctx)
	if err != nil || len(s.rec.Only) == 0 {
		return now, err
	}
	before, err := s.BaseState().Files(ctx)
	return s.withAbsent(before, now), err
}

func (s workState) Open(p string) (io.ReadCloser, error) {
	full := s.local(p)
	info, err := os.Lstat(full)
	if err != nil {
		if !s.wanted(p) {
			return s.BaseState().Open(p)
		}
		return nil, fmt.Errorf("%s: %w", p, kind.ErrNoFile)
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		target, err := os.Readlink(full)
		return io.NopCloser(strings.NewReader(filepath.ToSlash(target))), err
	}
	return os.Open(full)
}

// At gives the file at a path; of a folder that holds something, its mode alone.
func (s workState) At(p string) (state.File, error) {
	s.needIndex()
	f, err := s.fileAt(p)
	if err != nil || f.Mode != 0 {
		return f, err
	}
	seen, missing := lookAt(s.local(p))
	switch {
	case missing == nil && seen.what == isFolder && !s.Manifest.LeftOut(p):
		return state.File{Path: p, Mode: chest.Folder}, nil
	case missing != nil && !s.wanted(p):
		return s.CommitState(s.Base, "base").(state.Finder).At(p)
	}
	return state.File{}, nil
}

// Below lists the files of a folder.
func (s workState) Below(p string) ([]state.File, error) {
	all, err := s.Files(context.Background())
	return slices.DeleteFunc(all, func(f state.File) bool { return !strings.HasPrefix(f.Path, p+"/") }), err
}
