package server

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"time"

	"oakenchest/core/access"
	"oakenchest/core/chest/local"
	"oakenchest/core/fault"
)

// Copied is what BackUp, or Restore, has done.
type Copied struct {
	Projects      int
	Bytes, Copied int64
}

const bookName = "server.db"

// BackUp brings a copy of the folder of a server to another folder, while the server goes on. One that has an earlier
// copy gets what is new. Everything is read back.
func BackUp(ctx context.Context, dir, to string, now func() time.Time, progress func(what string, done, total int)) (c Copied, err error) {
	if _, err := os.Stat(filepath.Join(dir, bookName)); err != nil {
		return c, fault.New(fault.Unreachable, "Name the server's folder with --data.", "%s is no folder of a server.", dir)
	}
	if rel, err := filepath.Rel(dir, to); err == nil && filepath.IsLocal(rel) {
		return c, fault.New(fault.Usage, "Name a folder elsewhere, best on another machine.", "%s lies in the server's own folder.", to)
	}
	if entries, err := os.ReadDir(to); err == nil && len(entries) > 0 {
		if _, err := os.Stat(filepath.Join(to, bookName)); err != nil {
			return c, fault.New(fault.Refused, "Name an empty folder, or that of an earlier backup.",
				"%s is not empty, and holds no backup of a server.", to)
		}
	}
	if err := os.MkdirAll(filepath.Join(to, "projects"), 0o700); err != nil {
		return c, err
	}
	book, err := access.Open(ctx, filepath.Join(dir, bookName), now)
	if err != nil {
		return c, err
	}
	defer book.Close()
	projects, err := book.Projects(ctx) // before the book: none is in it that is not copied
	if err != nil {
		return c, err
	}
	for _, p := range projects {
		f, err := local.OpenServed(ctx, filepath.Join(dir, "projects", p.ID), now)
		if err != nil {
			return c, err
		}
		b, err := f.BackUp(ctx, filepath.Join(to, "projects", p.ID), progress)
		if err = errors.Join(err, f.Close()); err != nil {
			return c, err
		}
		c.Projects, c.Bytes, c.Copied = c.Projects+1, c.Bytes+b.Bytes, c.Copied+b.Copied
	}
	next := filepath.Join(to, bookName+".new")
	if err := os.Remove(next); err != nil && !errors.Is(err, os.ErrNotExist) {
		return c, err
	}
	if err := book.BackUp(ctx, next, projects); err != nil {
		return c, err
	}
	return c, os.Rename(next, filepath.Join(to, bookName))
}

// Restore makes the folder of a server of a backup. Nobody is signed in then: a session that was ended after the backup
// was made must not come back with it.
func Restore(ctx context.Context, from, dir string, now func() time.Time, progress func(what string, done, total int)) (c Copied,
	err error) {
	if _, err := os.Stat(filepath.Join(from, bookName)); err != nil {
		return c, fault.New(fault.Unreachable, "Name the folder that oaken serve backup has made.", "%s is no backup of a server.", from)
	}
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return c, fault.New(fault.Refused, "Name a new folder with --data; what is there stays as it is.",
			"%s is not empty, so nothing was brought back there.", dir)
	}
	_, existed := os.Stat(dir)
	defer func() {
		if err != nil { // half a server is none
			entries, _ := os.ReadDir(dir)
			for _, e := range entries {
				_ = os.RemoveAll(filepath.Join(dir, e.Name()))
			}
			if existed != nil {
				_ = os.Remove(dir)
			}
		}
	}()
	if err := os.MkdirAll(filepath.Join(dir, "projects"), 0o700); err != nil {
		return c, err
	}
	source, err := access.Open(ctx, filepath.Join(from, bookName), now)
	if err != nil {
		return c, err
	}
	projects, err := source.Projects(ctx)
	if err == nil {
		err = source.BackUp(ctx, filepath.Join(dir, bookName), projects)
	}
	if err = errors.Join(err, source.Close()); err != nil {
		return c, err
	}
	for _, p := range projects {
		b, err := local.Restore(ctx, filepath.Join(from, "projects", p.ID), filepath.Join(dir, "projects", p.ID), now, progress)
		if err != nil {
			return c, err
		}
		c.Projects, c.Bytes, c.Copied = c.Projects+1, c.Bytes+b.Bytes, c.Copied+b.Copied
	}
	book, err := access.Open(ctx, filepath.Join(dir, bookName), now)
	if err != nil {
		return c, err
	}
	return c, errors.Join(book.SignAllOut(ctx), book.Close())
}
