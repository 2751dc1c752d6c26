package workspace

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/element"
	"oakenchest/core/fault"
	"oakenchest/core/manifest"
	"oakenchest/core/state"
)

// Transition is what carry has done.
type Transition struct {
	Written, Removed int
	// Rescued is the folder with copies of what was overwritten; empty for none.
	Rescued string
}

// carry brings the files of the workspace from one tree to another. Files that
// are alike in both keep the edits that they have; a file that differs and was
// edited here is refused before anything is written. begin is called between the
// two. Files named in keep are left alone.
func (w *Workspace) carry(ctx context.Context, from, to content.Digest, label string, keep []string, begin func() error) (Transition, error) {
	var t Transition
	pairs, err := w.Chest.Diff(from, to)
	if err != nil {
		return t, chest.Explain(err)
	}
	pairs = slices.DeleteFunc(pairs, func(p chest.Pair) bool { return slices.Contains(keep, p.Path) })
	is, err := w.peek(ctx, pairs)
	if err != nil {
		return t, err
	}
	pairs = slices.DeleteFunc(pairs, func(p chest.Pair) bool { return is[p.Path].Mode == 0 && !w.wanted(p.Path) })
	if pairs, err = w.keepLeftOut(pairs, to); err != nil {
		return t, err
	}
	c := carrier{w: w, from: from, to: to}
	var blocked []string
	for _, p := range pairs {
		now := is[p.Path]
		if !now.Same(p.Was) && !now.Same(p.Is) {
			blocked = append(blocked, p.Path)
		}
		if p.Was.Mode == 0 && now.Mode == 0 && p.Is.Mode != chest.Folder {
			blocked = append(blocked, c.inTheWay(p.Path)...)
		}
	}
	if c.err != nil {
		return t, chest.Explain(c.err)
	}
	if len(blocked) > 0 {
		slices.Sort(blocked)
		return t, &blockedError{blocked, fault.New(fault.Refused, "Commit them, or take them back with oaken discard PATH, and try again.",
			"%s edited here and would be overwritten: %s.", isAre(len(blocked)), listed(blocked))}
	}
	if err := begin(); err != nil {
		return t, err
	}
	return t, c.bring(ctx, pairs, is, label, &t)
}

// keepLeftOut takes out of what differs the files that go from the records because they are
// left out from now on, such as a database that became an environment: they stay, as nobody's
// but this workspace's.
func (w *Workspace) keepLeftOut(pairs []chest.Pair, to content.Digest) ([]chest.Pair, error) {
	if !slices.ContainsFunc(pairs, func(p chest.Pair) bool { return p.Path == manifest.Name }) {
		return pairs, nil
	}
	m, err := w.ManifestIn(to)
	if err != nil {
		return pairs, nil // what can't be read leaves nothing out
	}
	return slices.DeleteFunc(pairs, func(p chest.Pair) bool {
		stays := p.Is.Mode == 0 && p.Was.Mode != chest.Folder && m.LeftOut(p.Path)
		if stays {
			w.free(p.Path)
		}
		return stays
	}), nil
}

// free lets a file be written that no lock can be had for any more.
func (w *Workspace) free(p string) {
	if info, err := os.Lstat(w.local(p)); err == nil && info.Mode().IsRegular() {
		_ = w.chmod(p, info.Mode().Perm()|0o200) // else its owner does it
	}
}

// Recorded reports whether a path is a file of the commit that the workspace stands on.
func (w *Workspace) Recorded(p string) (bool, error) {
	f, err := w.Chest.At(w.tree(), p)
	return f.Mode != 0 && f.Mode != chest.Folder, chest.Explain(err)
}

// RecordedIn lists the names of the files that lie right in a folder of the commit that the workspace stands
// on; none for a folder that is not there.
func (w *Workspace) RecordedIn(folder string) ([]string, error) {
	at, err := w.Chest.At(w.tree(), folder)
	if err != nil || at.Mode != chest.Folder {
		return nil, chest.Explain(err)
	}
	entries, err := w.Chest.Entries(at.Digest)
	var out []string
	for _, e := range entries {
		if e.Mode != chest.Folder {
			out = append(out, e.Path)
		}
	}
	return out, chest.Explain(err)
}

// Free lets a file that is to be recorded no longer be written.
func (w *Workspace) Free(p string) { w.free(p) }

// peek gives the files of the workspace at the paths of some pairs, by path;
// what is left out counts as not there.
func (w *Workspace) peek(ctx context.Context, pairs []chest.Pair) (map[string]state.File, error) {
	w.needIndex()
	out := make(map[string]state.File, len(pairs))
	for _, p := range pairs {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		f, err := w.fileAt(p.Path)
		if err != nil {
			return nil, err
		}
		if f.Mode != 0 {
			out[p.Path] = f
		}
	}
	return out, nil
}

// fileAt gives the file of the workspace at a path; the zero File when there is
// none, or it is left out.
func (w *Workspace) fileAt(p string) (state.File, error) {
	seen, err := lookAt(w.local(p))
	if err != nil || w.Manifest.LeftOut(p) || w.behindLink(p) {
		return state.File{}, nil
	}
	f := state.File{Path: p, Mode: modeOf(seen), Size: seen.size}
	switch {
	case f.Mode == chest.Link:
		target, err := os.Readlink(w.local(p))
		f.Size, f.Digest = int64(len(target)), element.DigestOf([]byte(filepath.ToSlash(target)))
		return f, err
	case seen.what == isFolder:
		if inside, err := os.ReadDir(w.local(p)); err == nil && len(inside) == 0 {
			return chest.Bare(p), nil
		}
		return state.File{}, nil
	case f.Mode == 0:
		return state.File{}, nil
	}
	if e, ok := w.index.knows(p, seen); ok {
		f.Digest = e.digest
		return f, nil
	}
	f.Digest, f.Size, err = digestFile(w.local(p))
	return f, err
}

// behindLink reports whether one of the folders of a path is a link: what lies
// behind it is not of the project.
func (w *Workspace) behindLink(p string) bool {
	for i, r := range p {
		if r == '/' {
			if info, err := os.Lstat(w.local(p[:i])); err == nil && !info.IsDir() {
				return true
			}
		}
	}
	return false
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

// carrier brings files from one tree to another.
type carrier struct {
	w        *Workspace
	from, to content.Digest
	err      error // the first of looking into the trees
}

// has reports whether a tree holds a file at a path.
func (c *carrier) has(tree content.Digest, p string) bool {
	f, err := c.w.Chest.At(tree, p)
	if c.err == nil {
		c.err = err
	}
	return f.Mode != 0 && f.Mode != chest.Folder
}

// bring writes what the new tree has otherwise, and removes what it has not.
func (c *carrier) bring(ctx context.Context, pairs []chest.Pair, is map[string]state.File, label string, t *Transition) error {
	var write, bare []state.File
	for _, p := range pairs {
		switch {
		case p.Is.Mode == 0 || is[p.Path].Same(p.Is):
			continue
		case p.Is.Mode == chest.Folder:
			bare = append(bare, p.Is)
			continue
		}
		if err := c.w.clearWay(p.Path, func(p string) bool { return c.has(c.to, p) }); err != nil {
			return err
		}
		write = append(write, p.Is)
	}
	if err := c.clearSpellings(pairs, is, t); err != nil {
		return err
	}
	to := state.Commit{Chest: c.w.Chest, Tree: c.to, Name: label}
	if err := c.w.fetchAll(ctx, to, write, true); err != nil {
		return err
	}
	t.Written = len(write)
	for _, p := range pairs {
		if p.Is.Mode == 0 && is[p.Path].Same(p.Was) {
			if err := c.w.remove(p.Path); err != nil {
				return err
			}
			if p.Was.Mode != chest.Folder {
				t.Removed++
			}
		}
	}
	for _, f := range bare { // last: a folder goes with the last file in it
		if err := c.w.makeFolder(f.Path); err != nil {
			return err
		}
	}
	return c.err
}

// clearSpellings removes files whose names come back in other letters: systems
// that take capital and small letters for one would lose the new file with the
// old.
func (c *carrier) clearSpellings(pairs []chest.Pair, is map[string]state.File, t *Transition) error {
	coming := map[string]bool{}
	for _, p := range pairs {
		if p.Is.Mode != 0 && p.Was.Mode == 0 {
			coming[strings.ToLower(p.Path)] = true
		}
	}
	for _, p := range pairs {
		if p.Is.Mode == 0 && coming[strings.ToLower(p.Path)] && is[p.Path].Same(p.Was) {
			if err := c.w.remove(p.Path); err != nil {
				return err
			}
			delete(is, p.Path)
			t.Removed++
		}
	}
	return nil
}

// inTheWay lists what stands where a new file has to go and is not of the state
// that is left: a file that is left out, or anything in a folder of that name.
func (c *carrier) inTheWay(p string) []string {
	for i, r := range p {
		if r != '/' {
			continue
		}
		if info, err := os.Lstat(c.w.local(p[:i])); err == nil && !info.IsDir() && !c.has(c.from, p[:i]) {
			return []string{p[:i]}
		}
	}
	info, err := os.Lstat(c.w.local(p))
	if err != nil {
		return nil
	}
	if !info.IsDir() {
		return []string{p}
	}
	var out []string
	_ = filepath.WalkDir(c.w.local(p), func(full string, d fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(c.w.Root, full)
		if err == nil && !d.IsDir() && !c.has(c.from, filepath.ToSlash(rel)) {
			out = append(out, filepath.ToSlash(rel))
		}
		return nil
	})
	return out
}

// clearWay removes a file that stands where a folder has to go, or empty
// folders where a file has to; wanted tells of a path whether a file belongs there.
func (w *Workspace) clearWay(p string, wanted func(string) bool) error {
	for i, r := range p {
		if r == '/' && !wanted(p[:i]) {
			if info, err := os.Lstat(w.local(p[:i])); err == nil && !info.IsDir() {
				if err := w.takeAway(p[:i]); err != nil {
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
	at, err := w.spot(p, false)
	if err != nil {
		return err
	}
	defer at.close()
	return at.give(moved) // its files are of the state that is left
}

// takeAway removes a file or a link.
func (w *Workspace) takeAway(p string) error {
	at, err := w.spot(p, false)
	if err != nil {
		return err
	}
	defer at.close()
	return at.remove()
}

// chmod gives a file other permission bits.
func (w *Workspace) chmod(p string, mode os.FileMode) error {
	at, err := w.spot(p, false)
	if err != nil {
		return err
	}
	defer at.close()
	return at.chmod(mode)
}

// listed writes the first few of many names.
func listed(names []string) string {
	const most = 5
	if len(names) > most {
		return strings.Join(names[:most], ", ") + " and " + itoa(len(names)-most) + " more"
	}
	return strings.Join(names, ", ")
}
