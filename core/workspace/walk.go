package workspace

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"oakenchest/core/chest"
	"oakenchest/core/state"
)

// found is what the file system says of one name.
type found struct {
	name          string
	what          sort
	executable    bool
	size, changed int64 // bytes; Unix nanoseconds
	inode         uint64
}

// sort is what a name stands for. Sockets, pipes and devices are neither.
type sort byte

const (
	isOther sort = iota
	isFile
	isLink
	isFolder
)

// folder is a folder of the workspace that was listed.
type folder struct {
	path  string       // of the project; empty for the top
	files []state.File // by name
	below []*folder    // by name
}

// list gives the files in the order of chest.ComparePaths.
func (f *folder) list(out []state.File) []state.File {
	files := f.files
	for _, b := range f.below {
		for len(files) > 0 && chest.ComparePaths(files[0].Path, b.path) < 0 {
			out, files = append(out, files[0]), files[1:]
		}
		out = b.list(out)
	}
	return append(out, files...)
}

// walker lists folders, several at once.
type walker struct {
	w *Workspace
	// read gives the files of a folder from its entries, by name, that are no
	// folders and not left out.
	read func(folder string, entries []found) ([]state.File, error)

	mu      sync.Mutex // guards what follows
	changed *sync.Cond
	waiting []*folder
	busy    int
	err     error
}

// walk lists the workspace, without what is left out.
func (w *Workspace) walk(ctx context.Context, read func(folder string, entries []found) ([]state.File, error)) (*folder, error) {
	top := &folder{}
	k := &walker{w: w, read: read, waiting: []*folder{top}}
	k.changed = sync.NewCond(&k.mu)
	var crew sync.WaitGroup
	for range 2 * runtime.GOMAXPROCS(0) {
		crew.Go(func() { k.work(ctx) })
	}
	crew.Wait()
	return top, k.err
}

// work lists folders until none is waiting and none can come.
func (k *walker) work(ctx context.Context) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for {
		for len(k.waiting) == 0 && k.busy > 0 && k.err == nil {
			k.changed.Wait()
		}
		if len(k.waiting) == 0 || k.err != nil {
			return
		}
		f := k.waiting[len(k.waiting)-1]
		k.waiting = k.waiting[:len(k.waiting)-1]
		k.busy++
		k.mu.Unlock()
		err := ctx.Err()
		if err == nil {
			err = k.folder(f)
		}
		k.mu.Lock()
		k.busy--
		if k.err == nil {
			k.err = err
		}
		k.waiting = append(k.waiting, f.below...)
		k.changed.Broadcast()
	}
}

// folder lists one folder.
func (k *walker) folder(f *folder) error {
	all, err := listFolder(k.w.local(f.path))
	if errors.Is(err, fs.ErrNotExist) && f.path != "" {
		return nil // gone while we looked
	}
	if err != nil {
		return err
	}
	if len(all) == 0 && f.path != "" {
		f.files = []state.File{chest.Bare(f.path)}
		return nil
	}
	slices.SortFunc(all, func(a, b found) int { return strings.Compare(a.name, b.name) })
	prefix := f.path
	if prefix != "" {
		prefix += "/"
	}
	files := all[:0]
	for _, e := range all {
		if k.w.Manifest.LeftOutHere(prefix + e.name) {
			continue
		}
		if e.what == isFolder {
			f.below = append(f.below, &folder{path: prefix + e.name})
		} else {
			files = append(files, e)
		}
	}
	f.files, err = k.read(f.path, files)
	return err
}

// Count counts the files that are not left out, without reading them.
func (w *Workspace) Count(ctx context.Context) (int, error) {
	var mu sync.Mutex
	n := 0
	_, err := w.walk(ctx, func(_ string, entries []found) ([]state.File, error) {
		mu.Lock()
		defer mu.Unlock()
		for _, e := range entries {
			if e.what == isFile || e.what == isLink {
				n++
			}
		}
		return nil, nil
	})
	return n, err
}

// local gives the place of a project path on this machine.
func (w *Workspace) local(p string) string { return filepath.Join(w.Root, filepath.FromSlash(p)) }
