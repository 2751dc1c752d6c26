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
func (w *Workspace) scan(ctx context.Context, needed func(state.File) bool) ([]state.File, error) {
	if w.index == nil {
		w.index = w.loadIndex()
	}
	var out []state.File
	fresh := map[string]indexEntry{}
	w.unread = map[string]indexEntry{}
	read := 0
	err := w.walk(ctx, func(p, full string, info fs.FileInfo) error {
		f, entry, known := w.look(p, info)
		switch {
		case f.Mode == 0:
			return nil
		case f.Mode == chest.Link:
			target, err := os.Readlink(full)
			if err != nil {
				return err
			}
			f.Size, f.Digest = int64(len(target)), element.DigestOf([]byte(filepath.ToSlash(target)))
			out = append(out, f)
			return nil
		case !known && !needed(f):
			w.unread[p] = entry
			out = append(out, f)
			return nil
		case !known:
			d, n, err := digestFile(full)
			if errors.Is(err, fs.ErrNotExist) {
				return nil // gone while we looked
			}
			if err != nil {
				return err
			}
			f.Digest, f.Size, entry.digest = d, n, d
			if read++; read%500 == 0 {
				w.host.progress("reading files", read, 0)
			}
		}
		fresh[p] = entry
		out = append(out, f)
		return nil
	})
	if err != nil {
		return nil, fault.New(fault.Failed, "Check the rights on it, or leave it out in oaken.toml.", "The workspace can't be read: %w.", err)
	}
	slices.SortFunc(out, func(a, b state.File) int { return strings.Compare(a.Path, b.Path) })
	if read > 0 || len(fresh) != len(w.index.entries) {
		w.index.entries = fresh
		w.saveIndex()
	}
	return out, nil
}

// Count counts the files that are not left out, without reading them.
func (w *Workspace) Count(ctx context.Context) (n int, err error) {
	err = w.walk(ctx, func(_, _ string, info fs.FileInfo) error {
		if info.Mode().IsRegular() || info.Mode()&fs.ModeSymlink != 0 {
			n++
		}
		return nil
	})
	return n, err
}

// walk visits everything in the workspace that is no folder and not left out.
func (w *Workspace) walk(ctx context.Context, visit func(p, full string, info fs.FileInfo) error) error {
	return filepath.WalkDir(w.Root, func(full string, d fs.DirEntry, err error) error {
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(w.Root, full)
		if err != nil || rel == "." {
			return err
		}
		p := filepath.ToSlash(rel)
		if w.Manifest.LeftOutHere(p) {
			if d.IsDir() {
				return filepath.SkipDir
			}
			return nil
		}
		if d.IsDir() {
			return nil
		}
		info, err := d.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil // gone while we looked
		}
		if err != nil {
			return err
		}
		return visit(p, full, info)
	})
}

// look gives a file as the file system describes it, with its digest when the
// index knows it. What is neither file nor link has no mode.
func (w *Workspace) look(p string, info fs.FileInfo) (f state.File, entry indexEntry, known bool) {
	f = state.File{Path: p, Size: info.Size()}
	switch {
	case info.Mode()&fs.ModeSymlink != 0:
		f.Mode = chest.Link
		return f, entry, true
	case !info.Mode().IsRegular():
		return f, entry, false
	case info.Mode()&0o100 != 0:
		f.Mode = chest.Executable
	default:
		f.Mode = chest.Plain
	}
	entry = entryOf(info)
	if old, ok := w.index.entries[p]; ok && old.sameFile(entry) && !w.index.racy(old) {
		f.Digest, entry.digest = old.digest, old.digest
		return f, entry, true
	}
	return f, entry, false
}

func digestFile(full string) (element.Digest, int64, error) {
	in, err := os.Open(full)
	if err != nil {
		return element.Digest{}, 0, err
	}
	defer in.Close()
	h := sha256.New()
	n, err := io.Copy(h, in)
	return element.Digest(h.Sum(nil)), n, err
}

// Work is the state of the workspace as it lies there.
func (w *Workspace) Work() state.State { return workState{w} }

type workState struct{ *Workspace }

func (s workState) Label() string { return "work" }

func (s workState) Open(p string) (io.ReadCloser, error) {
	full := s.local(p)
	info, err := os.Lstat(full)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", p, kind.ErrNoFile)
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		target, err := os.Readlink(full)
		return io.NopCloser(strings.NewReader(filepath.ToSlash(target))), err
	}
	return os.Open(full)
}
