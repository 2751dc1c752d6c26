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
	"sync"

	"oakenchest/core/chest"
	"oakenchest/core/fault"
	"oakenchest/core/kind"
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
	at, err := w.spot(p, true)
	if err == nil {
		err = at.take(temp)
		at.close()
	}
	if err != nil {
		os.Remove(temp)
	}
	return err
}

// makeFolder makes a bare folder.
func (w *Workspace) makeFolder(p string) error {
	at, err := w.spot(p, true)
	if err != nil {
		return err
	}
	defer at.close()
	if err := at.mkdir(); err != nil {
		return fault.New(fault.Refused, "Move what is there away first.", "The folder %s can't be made: %w.", p, err)
	}
	return nil
}

// fetch writes a file of a state to its place, writable.
func (w *Workspace) fetch(from state.State, f state.File) error {
	return w.fetchGuarded(from, f, nil)
}

// fetchGuarded is fetch, read-only where a guard wants it so; nil wants nothing.
func (w *Workspace) fetchGuarded(from state.State, f state.File, g *guard) error {
	if f.Mode == chest.Folder {
		return w.makeFolder(f.Path)
	}
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
	mode := os.FileMode(0o666)
	if f.Mode == chest.Executable {
		mode = 0o777
	}
	if g != nil {
		var begin [kind.HeadSize]byte
		n, _ := io.ReadFull(in, begin[:]) // what fails here fails again below
		if g.readOnly(f.Path, func() []byte { return begin[:n] }) {
			mode &^= 0o222
		}
		_, err = out.Write(begin[:n])
	}
	if err == nil {
		_, err = io.Copy(out, in)
	}
	err = errors.Join(err, out.Chmod(mode&^umask), out.Close())
	if err != nil {
		os.Remove(out.Name())
		return err
	}
	return w.place(out.Name(), f.Path)
}

// fetchAll writes files of a state, on all cores, and tells the index of them. Guarded
// ones become read-only where they need a lock that is not held.
func (w *Workspace) fetchAll(ctx context.Context, from state.State, files []state.File, guarded bool) error {
	var g *guard
	if guarded && len(files) > 0 {
		locks, err := w.Chest.Locks(ctx)
		if err != nil {
			return err
		}
		if made := w.guard(ctx, locks); !made.idle() {
			g = &made
		}
	}
	err := w.onAllCores(ctx, len(files), func(i int) error { return w.fetchGuarded(from, files[i], g) })
	if err != nil {
		return err
	}
	w.needIndex()
	for _, f := range files {
		if seen, err := lookAt(w.local(f.Path)); err == nil && seen.what == isFile && seen.size == f.Size {
			w.index.learn(f.Path, seen, f.Digest)
		}
	}
	w.saveIndex()
	return nil
}

// onAllCores writes n files with several workers. Each stops at its first error.
func (w *Workspace) onAllCores(ctx context.Context, n int, write func(i int) error) error {
	workers := min(runtime.GOMAXPROCS(0), max(n, 1))
	errs := make([]error, workers)
	next := make(chan int)
	var wg sync.WaitGroup
	for k := range workers {
		wg.Go(func() {
			for i := range next {
				if errs[k] == nil {
					errs[k] = write(i)
				}
			}
		})
	}
	for i := range n {
		if ctx.Err() != nil {
			break
		}
		w.host.progress("writing files", i, n)
		next <- i
	}
	close(next)
	wg.Wait()
	return errors.Join(append(errs, ctx.Err())...)
}

// outside reports whether a link leads out of the project. Such a link is a link like others, and
// nothing is ever read or written by way of one; elsewhere it may lead to something else.
func outside(p, target string) bool {
	return path.IsAbs(target) || filepath.IsAbs(target) || !manifest.Inside(path.Join(path.Dir(p), target))
}

// strayLinks warns of links among changes that lead out of the project.
func (w *Workspace) strayLinks(changes []Change) (out []string) {
	for _, c := range changes {
		if target, err := os.Readlink(w.local(c.Path)); err == nil && outside(c.Path, filepath.ToSlash(target)) {
			out = append(out, fmt.Sprintf("%s is a link that leads outside of the project, to %s. For others it may lead to something else, or nowhere.", c.Path, target))
		}
	}
	return out
}

// link makes a symbolic link.
func (w *Workspace) link(p, target string) error {
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

// remove takes a file or a bare folder away, and folders that become empty.
func (w *Workspace) remove(p string) error {
	at, err := w.spot(p, false)
	if err != nil {
		return nil // gone, or its folder is a file or a link now
	}
	err = at.remove()
	at.close()
	var full *fs.PathError
	if seen, there := lookAt(w.local(p)); errors.As(err, &full) && there == nil && seen.what == isFolder {
		return nil // something lies in it
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for dir := path.Dir(p); dir != "."; dir = path.Dir(dir) {
		above, err := w.spot(dir, false)
		if err != nil {
			break
		}
		err = above.rmdir()
		above.close()
		if err != nil {
			break // not empty
		}
	}
	return nil
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
