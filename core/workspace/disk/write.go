package disk

import (
	"context"
	"errors"
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
	"oakenchest/core/state"
)

// Write puts data at a project path by way of a temporary file.
func (t *Tree) Write(p string, data []byte, mode os.FileMode) error {
	temp, err := t.temporary(data, mode)
	if err != nil {
		return err
	}
	return t.place(temp, p)
}

// place renames a finished temporary file to its project path.
func (t *Tree) place(temp, p string) error {
	at, err := t.spot(p, true)
	if err == nil {
		err = at.take(temp)
		at.close()
	}
	if err != nil {
		os.Remove(temp)
	}
	return err
}

// MakeFolder makes a bare folder.
func (t *Tree) MakeFolder(p string) error {
	at, err := t.spot(p, true)
	if err != nil {
		return err
	}
	defer at.close()
	if err := at.mkdir(); err != nil {
		return fault.New(fault.Refused, "Move what is there away first.", "The folder %s can't be made: %w.", p, err)
	}
	return nil
}

// ReadOnly says which files are to be read-only; head gives the first bytes of the file.
type ReadOnly func(p string, head func() []byte) bool

// Fetch writes a file of a state to its place, writable.
func (t *Tree) Fetch(from state.State, f state.File) error { return t.fetch(from, f, nil) }

// fetch is Fetch, read-only where that is wanted; nil wants nothing.
func (t *Tree) fetch(from state.State, f state.File, readOnly ReadOnly) error {
	if f.Mode == chest.Folder {
		return t.MakeFolder(f.Path)
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
		return t.Link(f.Path, string(target))
	}
	out, err := os.CreateTemp(t.Own("temp"), "w-*")
	if err != nil {
		return err
	}
	mode := FileMode(f.Mode == chest.Executable)
	if readOnly != nil {
		var begin [kind.HeadSize]byte
		n, _ := io.ReadFull(in, begin[:]) // what fails here fails again below
		if readOnly(f.Path, func() []byte { return begin[:n] }) {
			mode &^= 0o222
		}
		_, err = out.Write(begin[:n])
	}
	if err == nil {
		_, err = io.Copy(out, in)
	}
	err = errors.Join(err, out.Chmod(mode), out.Close())
	if err != nil {
		os.Remove(out.Name())
		return err
	}
	return t.place(out.Name(), f.Path)
}

// FetchAll writes files of a state, on all cores, and tells the index of them.
func (t *Tree) FetchAll(ctx context.Context, from state.State, files []state.File, readOnly ReadOnly) error {
	if c, ok := from.(state.Commit); ok {
		if err := c.Chest.Bring(ctx, files, 0); err != nil {
			return err
		}
	}
	err := t.OnAllCores(ctx, len(files), func(i int) error { return t.fetch(from, files[i], readOnly) })
	if err != nil {
		return err
	}
	t.needIndex()
	for _, f := range files {
		if seen, err := LookAt(t.Local(f.Path)); err == nil && seen.Sort == IsFile && seen.Size == f.Size {
			t.index.learn(f.Path, seen, f.Digest)
		}
	}
	t.SaveIndex()
	return nil
}

// FileMode gives the permission bits of a new file.
func FileMode(executable bool) os.FileMode {
	if executable {
		return 0o777 &^ umask
	}
	return 0o666 &^ umask
}

// OnAllCores writes n files with several workers. Each stops at its first error.
func (t *Tree) OnAllCores(ctx context.Context, n int, write func(i int) error) error {
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
		t.progress("writing files", i, n)
		next <- i
	}
	close(next)
	wg.Wait()
	return errors.Join(append(errs, ctx.Err())...)
}

// Link makes a symbolic link.
func (t *Tree) Link(p, target string) error {
	reserved, err := t.temporary(nil, 0o666) // a name that no other goroutine has
	if err != nil {
		return err
	}
	temp := reserved + "-link"
	defer os.Remove(reserved)
	if err := os.Symlink(filepath.FromSlash(target), temp); err != nil {
		return err
	}
	return t.place(temp, p)
}

// Remove takes a file or a bare folder away, and folders that become empty.
func (t *Tree) Remove(p string) error {
	at, err := t.spot(p, false)
	if err != nil {
		return nil // gone, or its folder is a file or a link now
	}
	err = at.remove()
	at.close()
	var full *fs.PathError
	if seen, there := LookAt(t.Local(p)); errors.As(err, &full) && there == nil && seen.Sort == IsFolder {
		return nil // something lies in it
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for dir := path.Dir(p); dir != "."; dir = path.Dir(dir) {
		above, err := t.spot(dir, false)
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
