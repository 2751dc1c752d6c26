package workspace

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
)

// write puts data at a project path by way of a temporary file.
func (w *Workspace) write(p string, data []byte, mode os.FileMode) error {
	temp, err := w.temporary(data, mode)
	if err != nil {
		return err
	}
	return w.place(temp, p)
}

// place renames a finished temporary file to its project path.
func (w *Workspace) place(temp, p string) error {
	full := w.local(p)
	if err := w.folderFor(p); err != nil {
		os.Remove(temp)
		return err
	}
	err := os.Rename(temp, full)
	if err != nil {
		os.Remove(temp)
	}
	return err
}

// folderFor makes the folders of a path. A link among them would lead outside
// of the project and is refused.
func (w *Workspace) folderFor(p string) error {
	for i, r := range p {
		if r != '/' {
			continue
		}
		info, err := os.Lstat(w.local(p[:i]))
		if err == nil && !info.IsDir() {
			return fault.New(fault.Refused, "Move it away first.", "%s is in the way: a folder has to go there.", p[:i])
		}
	}
	return os.MkdirAll(filepath.Dir(w.local(p)), 0o777)
}

// fetch writes a file of a state to its place.
func (w *Workspace) fetch(from state.State, f state.File, writable bool) error {
	in, err := from.Open(f.Path)
	if err != nil {
		return err
	}
	defer in.Close()
	if f.Mode == chest.Link {
		target, err := io.ReadAll(io.LimitReader(in, 1<<16))
		if err != nil {
			return err
		}
		return w.link(f.Path, string(target))
	}
	dir := filepath.Join(w.Root, Folder, "temp")
	out, err := os.CreateTemp(dir, "w-*")
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	mode := os.FileMode(0o666)
	if f.Mode == chest.Executable {
		mode = 0o777
	}
	if !writable {
		mode &^= 0o222
	}
	err = errors.Join(err, out.Chmod(mode&^umask), out.Close())
	if err != nil {
		os.Remove(out.Name())
		return err
	}
	return w.place(out.Name(), f.Path)
}

// fetchAll writes files of a state, on all cores, and tells the index of them.
func (w *Workspace) fetchAll(ctx context.Context, from state.State, files []state.File, writable func(state.File) bool) error {
	workers := min(runtime.GOMAXPROCS(0), max(len(files), 1))
	errs := make([]error, workers)
	next := make(chan int)
	var wg sync.WaitGroup
	for k := range workers {
		wg.Go(func() {
			for i := range next {
				if errs[k] == nil {
					errs[k] = w.fetch(from, files[i], writable(files[i]))
				}
			}
		})
	}
	for i := range files {
		if ctx.Err() != nil {
			break
		}
		w.host.progress("writing files", i, len(files))
		next <- i
	}
	close(next)
	wg.Wait()
	if err := errors.Join(append(errs, ctx.Err())...); err != nil {
		return err
	}
	if w.index == nil {
		w.index = w.loadIndex()
	}
	for _, f := range files {
		if info, err := os.Lstat(w.local(f.Path)); err == nil && info.Mode().IsRegular() && info.Size() == f.Size {
			entry := entryOf(info)
			entry.digest = f.Digest
			w.index.entries[f.Path] = entry
		}
	}
	w.saveIndex()
	return nil
}

// link makes a symbolic link; one that leads outside of the project is refused.
func (w *Workspace) link(p, target string) error {
	if path.IsAbs(target) || filepath.IsAbs(target) || !manifest.Inside(path.Join(path.Dir(p), target)) {
		return fault.New(fault.Refused, "Nothing was written there; the link is kept in the chest.", "The link %s leads outside of the project, to %s.", p, target)
	}
	if err := w.folderFor(p); err != nil {
		return err
	}
	reserved, err := w.temporary(nil, 0o666) // a name that no other goroutine has
	if err != nil {
		return err
	}
	temp := reserved + "-link"
	defer os.Remove(reserved)
	if err := os.Symlink(filepath.FromSlash(target), temp); err != nil {
		return err
	}
	return w.place(temp, p)
}

// remove takes a file away, and folders that become empty.
func (w *Workspace) remove(p string) error {
	if info, err := os.Lstat(w.local(p)); err != nil || info.IsDir() {
		return nil // gone, or its folder is a file now, or it is a folder
	}
	if err := os.Remove(w.local(p)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for dir := path.Dir(p); dir != "."; dir = path.Dir(dir) {
		if os.Remove(w.local(dir)) != nil {
			break // not empty
		}
	}
	return nil
}

// rescue keeps copies of files that a command is about to overwrite and whose
// content the chest does not have, and gives the folder that they are in, below
// the workspace; empty when there were none.
func (w *Workspace) rescue(paths []string) (string, error) {
	name := filepath.Join(Folder, "rescue", w.host.Now().UTC().Format(rescueStamp))
	kept := false
	for _, p := range paths {
		info, err := os.Lstat(w.local(p))
		if err != nil || !info.Mode().IsRegular() {
			continue
		}
		if d, _, err := digestFile(w.local(p)); err == nil && w.Chest.Blobs.Has(d) {
			continue
		}
		to := filepath.Join(w.Root, name, filepath.FromSlash(p))
		if err := os.MkdirAll(filepath.Dir(to), 0o777); err != nil {
			return "", err
		}
		if err := copyFile(w.local(p), to); err != nil {
			return "", fault.New(fault.Failed, "Make room on the disk and try again; nothing was changed.", "No rescue copy of %s could be kept: %w.", p, err)
		}
		kept = true
	}
	if !kept {
		return "", nil
	}
	return filepath.ToSlash(name), nil
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.Create(to)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Sync(), out.Close())
}

// Transition is what carry has done.
type Transition struct {
	Written, Removed int
	// Rescued is the folder with copies of what was overwritten; empty for none.
	Rescued string
}

// carry brings the files of the workspace from one state to another. Files
// that are alike in both keep the edits that they have; a file that differs and
// was edited here is refused before anything is written. begin is called between
// the two. Files named in keep are left alone.
func (w *Workspace) carry(ctx context.Context, from, to state.State, keep []string, begin func() error) (Transition, error) {
	var t Transition
	a, err := from.Files(ctx)
	if err != nil {
		return t, err
	}
	b, err := to.Files(ctx)
	if err != nil {
		return t, err
	}
	now, err := w.Files(ctx)
	if err != nil {
		return t, err
	}
	kept := func(f state.File) bool { return slices.Contains(keep, f.Path) }
	a, b = slices.DeleteFunc(a, kept), slices.DeleteFunc(b, kept)
	is := byPath(now)
	was, wanted := byPath(a), byPath(b)
	var blocked []string
	for _, c := range diff(a, b) {
		for _, p := range []string{c.Path, c.From} {
			if p == "" || is[p].Same(was[p]) || is[p].Same(wanted[p]) {
				continue
			}
			blocked = append(blocked, p)
		}
	}
	for p := range wanted {
		if was[p].Mode == 0 && is[p].Mode == 0 {
			blocked = append(blocked, w.inTheWay(p, was)...)
		}
	}
	if len(blocked) > 0 {
		slices.Sort(blocked)
		return t, &blockedError{blocked, fault.New(fault.Refused, "Commit them, or take them back with oaken discard PATH, and try again.",
			"%s edited here and would be overwritten: %s.", isAre(len(blocked)), listed(blocked))}
	}
	if err := begin(); err != nil {
		return t, err
	}
	var write []state.File
	for _, f := range b {
		if is[f.Path].Same(f) || was[f.Path].Same(f) {
			continue // there already; or alike in both, and edited or removed here
		}
		if err := w.clearWay(f.Path, wanted); err != nil {
			return t, err
		}
		write = append(write, f)
	}
	if err := w.fetchAll(ctx, to, write, func(f state.File) bool { return !w.readOnly(f.Path) }); err != nil {
		return t, err
	}
	t.Written = len(write)
	for _, f := range a {
		if wanted[f.Path].Mode == 0 && is[f.Path].Same(f) {
			if err := w.remove(f.Path); err != nil {
				return t, err
			}
			t.Removed++
		}
	}
	return t, nil
}

// blockedError says which edits stand in the way of laying a state out.
type blockedError struct {
	paths  []string
	refuse *fault.Error
}

// Error gives the first sentence for people.
func (e *blockedError) Error() string { return e.refuse.Error() }

// Unwrap gives the error for people.
func (e *blockedError) Unwrap() error { return e.refuse }

// inTheWay lists what stands where a new file has to go and is not of the state
// that is left: a file that is left out, or anything in a folder of that name.
func (w *Workspace) inTheWay(p string, was map[string]state.File) []string {
	for i, r := range p {
		if r != '/' {
			continue
		}
		if info, err := os.Lstat(w.local(p[:i])); err == nil && !info.IsDir() && was[p[:i]].Mode == 0 {
			return []string{p[:i]}
		}
	}
	info, err := os.Lstat(w.local(p))
	if err != nil {
		return nil
	}
	if !info.IsDir() {
		return []string{p}
	}
	var out []string
	_ = filepath.WalkDir(w.local(p), func(full string, d fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(w.Root, full)
		if err == nil && !d.IsDir() && was[filepath.ToSlash(rel)].Mode == 0 {
			out = append(out, filepath.ToSlash(rel))
		}
		return nil
	})
	return out
}

// clearWay removes a file that stands where a folder has to go, or empty
// folders where a file has to.
func (w *Workspace) clearWay(p string, wanted map[string]state.File) error {
	for i, r := range p {
		if r == '/' && wanted[p[:i]].Mode == 0 {
			if info, err := os.Lstat(w.local(p[:i])); err == nil && !info.IsDir() {
				if err := os.Remove(w.local(p[:i])); err != nil {
					return err
				}
			}
		}
	}
	info, err := os.Lstat(w.local(p))
	if err != nil || !info.IsDir() {
		return nil
	}
	moved, err := w.temporary(nil, 0o666)
	if err != nil {
		return err
	}
	os.Remove(moved)
	return os.Rename(w.local(p), moved) // its files are of the state that is left
}

func byPath(files []state.File) map[string]state.File {
	out := make(map[string]state.File, len(files))
	for _, f := range files {
		out[f.Path] = f
	}
	return out
}

func isAre(n int) string {
	if n == 1 {
		return "1 file was"
	}
	return fmt.Sprintf("%d files were", n)
}

// listed writes the first few of many names.
func listed(names []string) string {
	const most = 5
	if len(names) > most {
		return strings.Join(names[:most], ", ") + fmt.Sprintf(" and %d more", len(names)-most)
	}
	return strings.Join(names, ", ")
}
