package unsent

import (
	"context"
	"os"

	"oakenchest/core/content"
	"oakenchest/core/fault"
)

func (l *List) folder() string { return l.disk.Own("held") }

// HasContents reports whether anything was ever kept here.
func (l *List) HasContents() bool {
	_, err := os.Stat(l.folder())
	return err == nil
}

// Contents opens the store of what is not published, and of the base's folders, which is made when it is missing. What
// is read from the chest may come from it.
func (l *List) Contents() (*content.Store, error) {
	if l.store != nil {
		return l.store, nil
	}
	var err error
	if l.store, err = content.Open(l.folder()); err != nil {
		return nil, fault.New(fault.Unreachable, "Check that you may write there, and that the disk has room.",
			"The workspace can't be written: %w.", err)
	}
	l.Beside()
	return l.store, nil
}

// Beside has the chest, when it is in reach, read what it lacks from here.
func (l *List) Beside() {
	if l.Chest != nil && l.store != nil {
		l.Chest.Contents.Beside(l.store)
	}
}

// Close closes the store.
func (l *List) Close() error {
	if l.store == nil {
		return nil
	}
	return l.store.Close()
}

// largest is the size in bytes above which what is published by now is thrown away.
const largest = 64 << 20

// KeepFolders keeps a copy of a tree's folders here, so that changes can be told and commits recorded while the chest
// is out of reach. It is for when no commit is unsent. That it fails harms nothing else.
func (l *List) KeepFolders(ctx context.Context, tree content.Digest) {
	if folderSize(l.folder()) > largest && l.store != nil {
		l.Chest.Contents.Beside(nil)
		_ = l.store.Close()
		l.store = nil
		_ = os.RemoveAll(l.folder())
	}
	to, err := l.Contents()
	if err != nil {
		return
	}
	batch := to.Begin(ctx)
	defer batch.Abandon()
	if err := l.Chest.CopyFolders(batch, tree); err != nil {
		return
	}
	if batch.Commit() == nil {
		_, _ = to.Gather(ctx)
	}
}

func folderSize(dir string) (n int64) {
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		if info, err := e.Info(); err == nil {
			n += info.Size()
		}
	}
	return n
}
