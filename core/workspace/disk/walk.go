package disk

import (
	"context"
	"errors"
	"io/fs"
	"runtime"
	"slices"
	"strings"
	"sync"

	"oakenchest/core/chest"
	"oakenchest/core/state"
)

// Seen is what the file system says of one name.
type Seen struct {
	Name          string
	Sort          Sort
	Executable    bool
	Size, Changed int64 // bytes; Unix nanoseconds
	Inode         uint64
}

// Sort is what a name stands for. Sockets, pipes and devices are neither.
type Sort byte

// The sorts of names.
const (
	IsOther Sort = iota
	IsFile
	IsLink
	IsFolder
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
	t *Tree
	// read gives the files of a folder from its entries, by name, that are no
	// folders and not left out.
	read func(folder string, entries []Seen) ([]state.File, error)

	mu      sync.Mutex // guards what follows
	changed *sync.Cond
	waiting []*folder
	busy    int
	err     error
}

// walk lists the workspace, without what is left out.
func (t *Tree) walk(ctx context.Context, read func(folder string, entries []Seen) ([]state.File, error)) (*folder, error) {
	top := &folder{}
	k := &walker{t: t, read: read, waiting: []*folder{top}}
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
	all, err := listFolder(k.t.Local(f.path))
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
	slices.SortFunc(all, func(a, b Seen) int { return strings.Compare(a.Name, b.Name) })
	prefix := f.path
	if prefix != "" {
		prefix += "/"
	}
	files := all[:0]
	for _, e := range all {
		if k.t.Rules().LeftOutHere(prefix + e.Name) {
			continue
		}
		if e.Sort == IsFolder {
			f.below = append(f.below, &folder{path: prefix + e.Name})
		} else {
			files = append(files, e)
		}
	}
	f.files, err = k.read(f.path, files)
	return err
}

// Count counts the files that are not left out, without reading them.
func (t *Tree) Count(ctx context.Context) (int, error) {
	var mu sync.Mutex
	n := 0
	_, err := t.walk(ctx, func(_ string, entries []Seen) ([]state.File, error) {
		mu.Lock()
		defer mu.Unlock()
		for _, e := range entries {
			if e.Sort == IsFile || e.Sort == IsLink {
				n++
			}
		}
		return nil, nil
	})
	return n, err
}
