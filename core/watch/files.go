package watch

import (
	"context"
	"io/fs"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"

	"oakenchest/core/workspace"
)

// settleTime is how long a folder must be quiet before a burst of events counts as one;
// patience bounds the wait while it is not.
const (
	settleTime = 400 * time.Millisecond
	patience   = 3 * time.Second
)

// files tells when something below a folder changed: by the events of the system where it
// has room for them, else by looking every now and then.
type files struct {
	root string
	// skip says of a folder, by its path below root, that nothing in it matters.
	skip    func(rel string) bool
	watcher *fsnotify.Watcher
	// Polling says that the system has no room for so many folders.
	polling bool
	changed chan struct{}

	mu    sync.Mutex // guards signs
	signs []string   // files, below root, that came and could be a program's beside its own
}

// took gives the signs that came since the last call.
func (f *files) took() []string {
	f.mu.Lock()
	defer f.mu.Unlock()
	out := f.signs
	f.signs = nil
	return out
}

// follow begins to follow a folder until ctx ends.
func follow(ctx context.Context, root string, skip func(string) bool, pollEvery time.Duration) (*files, error) {
	f := &files{root: root, skip: skip, changed: make(chan struct{}, 1)}
	var err error
	if f.watcher, err = fsnotify.NewWatcher(); err != nil || f.add(root) != nil {
		f.polling = true
		if f.watcher != nil {
			_ = f.watcher.Close()
		}
		go f.poll(ctx, pollEvery)
		return f, nil
	}
	go f.listen(ctx)
	return f, nil
}

// add watches a folder and those below it.
func (f *files) add(dir string) error {
	return filepath.WalkDir(dir, func(full string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil // gone while we looked
		}
		if !d.IsDir() {
			return nil
		}
		rel, err := filepath.Rel(f.root, full)
		if err == nil && rel != "." && f.skip(filepath.ToSlash(rel)) {
			return filepath.SkipDir
		}
		return f.watcher.Add(full)
	})
}

func (f *files) tell() {
	select {
	case f.changed <- struct{}{}:
	default: // it is told already
	}
}

func (f *files) poll(ctx context.Context, every time.Duration) {
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			f.tell()
		}
	}
}

// listen waits for bursts of events to end.
func (f *files) listen(ctx context.Context) {
	defer f.watcher.Close()
	var quiet, latest <-chan time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case e, ok := <-f.watcher.Events:
			if !ok {
				return
			}
			rel, err := filepath.Rel(f.root, e.Name)
			if err != nil {
				continue
			}
			rel = filepath.ToSlash(rel)
			sign := e.Has(fsnotify.Create) && isSign(path.Base(rel)) && !strings.HasPrefix(rel, workspace.Folder+"/")
			if sign {
				f.mu.Lock()
				f.signs = append(f.signs, rel)
				f.mu.Unlock()
			}
			if f.skip(rel) && !sign {
				continue
			}
			if e.Has(fsnotify.Create) {
				_ = f.add(e.Name) // a new folder; without room for it the others still tell
			}
			quiet = time.After(settleTime)
			if latest == nil {
				latest = time.After(patience)
			}
		case _, ok := <-f.watcher.Errors: // more events than the system keeps: look anew
			if !ok {
				return
			}
			quiet = time.After(settleTime)
		case <-quiet:
			quiet, latest = nil, nil
			f.tell()
		case <-latest:
			quiet, latest = nil, nil
			f.tell()
		}
	}
}
