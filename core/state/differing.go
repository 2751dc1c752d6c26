package state

import (
	"context"
	"path"

	"oakenchest/core/chest"
)

// openBoth gives snapshots that are enough to compare two states. Of two commits of one chest only the folders
// that differ are looked into: equal ones have equal digests.
func (r *Reader) openBoth(ctx context.Context, from, to State) (a, b *Snapshot, err error) {
	was, ok1 := from.(Commit)
	is, ok2 := to.(Commit)
	if ok1 && ok2 && was.Chest == is.Chest {
		return r.differing(ctx, was, is)
	}
	if a, err = open(ctx, from); err == nil {
		b, err = open(ctx, to)
	}
	return a, b, err
}

// differing gives snapshots of two commits with the files that differ, with those of declared folders that any
// of them lies in, and with the files beside them that may be made of them.
func (r *Reader) differing(ctx context.Context, was, is Commit) (a, b *Snapshot, err error) {
	pairs, err := was.Chest.Diff(was.Tree, is.Tree)
	if err != nil {
		return nil, nil, chest.Explain(err)
	}
	a, b = Listed(was, nil), Listed(is, nil)
	a.rest, b.rest = was, is
	folders, units := map[string]bool{}, map[string]bool{}
	for _, p := range pairs {
		if p.Was.Mode != 0 {
			a.files[p.Path] = p.Was
		}
		if p.Is.Mode != 0 {
			b.files[p.Path] = p.Is
		}
		u := r.Unit(p.Path)
		if folders[path.Dir(u)] = true; u != p.Path {
			units[u] = true
		}
	}
	for u := range units {
		for _, t := range []struct {
			commit Commit
			in     *Snapshot
		}{{was, a}, {is, b}} {
			below, err := t.commit.Below(u)
			if err != nil {
				return nil, nil, err
			}
			for _, f := range below {
				t.in.files[f.Path] = f
			}
		}
	}
	for dir := range folders {
		if err := r.addGatherers(a, b, was, is, dir); err != nil {
			return nil, nil, err
		}
	}
	return a, b, bring(ctx, was.Chest, a.files, b.files)
}

// mostAhead is the size in bytes up to which files come from afar before it is known whether they are read: kinds look into
// most of them, and seldom into what is larger.
const mostAhead = 4 << 20

// bring makes sure that files of commits are at hand, those of all lists at once.
func bring(ctx context.Context, c *chest.Chest, lists ...map[string]File) error {
	var files []File
	for _, l := range lists {
		for _, f := range l {
			files = append(files, f)
		}
	}
	return c.Bring(ctx, files, mostAhead)
}

// addGatherers adds the files of a folder that both commits have and that may be made of others.
func (r *Reader) addGatherers(a, b *Snapshot, was, is Commit, dir string) error {
	entries, err := is.in(dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if e.Mode == chest.Folder || !r.Kinds.Gathers(e.Path) {
			continue
		}
		p := path.Join(dir, e.Path)
		f, err := was.At(p)
		if err != nil {
			return err
		}
		if f.Mode != 0 && f.Mode != chest.Folder {
			f.Path, e.Path = p, p
			a.files[p], b.files[p] = f, e
		}
	}
	return nil
}

// in lists what lies in one folder of the tree; paths are names alone.
func (c Commit) in(dir string) ([]File, error) {
	f, err := c.Chest.At(c.Tree, dir)
	if err != nil || f.Mode != chest.Folder {
		return nil, chest.Explain(err)
	}
	entries, err := c.Chest.Entries(f.Digest)
	return entries, chest.Explain(err)
}
