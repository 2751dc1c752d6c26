package disk

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"oakenchest/core/chest"
	"oakenchest/core/content"
	"oakenchest/core/state"
)

// Transition is what a move has done.
type Transition struct {
	Written, Removed int
	// Rescued is the folder with copies of what was overwritten; empty for none.
	Rescued string
}

// Move brings the files of a workspace from one tree of a chest to another. Files that are alike in both keep the
// edits that they have; a file that differs and was edited here is refused, as Blocked, before anything is written.
type Move struct {
	*Tree
	Chest    *chest.Chest
	From, To content.Digest
	// Label names what is moved to.
	Label string
	// Keep lists files that are left alone.
	Keep []string
	// Wanted says which paths are laid out here.
	Wanted func(p string) bool
	// Stays says which of the files that go from the records stay on the disk, as nobody's but this workspace's.
	Stays func(p string) bool
	// Guards gives what says which files become read-only; it is asked when there is something to write.
	Guards func(ctx context.Context) (ReadOnly, error)

	err error // the first of looking into the trees
}

// Run moves. begin is called when it is known that nothing stands in the way, before anything is touched.
func (m *Move) Run(ctx context.Context, begin func() error) (Transition, error) {
	var t Transition
	pairs, err := m.Chest.Diff(m.From, m.To)
	if err != nil {
		return t, chest.Explain(err)
	}
	pairs = slices.DeleteFunc(pairs, func(p chest.Pair) bool { return slices.Contains(m.Keep, p.Path) })
	is, err := m.peek(ctx, pairs)
	if err != nil {
		return t, err
	}
	pairs = slices.DeleteFunc(pairs, func(p chest.Pair) bool { return is[p.Path].Mode == 0 && !m.Wanted(p.Path) })
	var stay []string
	pairs = slices.DeleteFunc(pairs, func(p chest.Pair) bool {
		stays := p.Is.Mode == 0 && p.Was.Mode != chest.Folder && m.Stays != nil && m.Stays(p.Path)
		if stays {
			stay = append(stay, p.Path)
		}
		return stays
	})
	var blocked []string
	for _, p := range pairs {
		now := is[p.Path]
		if !now.Same(p.Was) && !now.Same(p.Is) {
			blocked = append(blocked, p.Path)
		}
		if p.Was.Mode == 0 && now.Mode == 0 && p.Is.Mode != chest.Folder {
			blocked = append(blocked, m.inTheWay(p.Path)...)
		}
	}
	if m.err != nil {
		return t, chest.Explain(m.err)
	}
	if len(blocked) > 0 {
		slices.Sort(blocked)
		return t, &Blocked{blocked}
	}
	var coming []chest.File
	for _, p := range pairs {
		if !is[p.Path].Same(p.Is) {
			coming = append(coming, p.Is)
		}
	}
	if err := m.Chest.Bring(ctx, coming, 0); err != nil {
		return t, err
	}
	if err := begin(); err != nil {
		return t, err
	}
	for _, p := range stay { // no lock can be had for them any more
		m.Free(p)
	}
	return t, m.bring(ctx, pairs, is, &t)
}

// Blocked says which edits stand in the way of a move.
type Blocked struct{ Paths []string }

// Error says so.
func (e *Blocked) Error() string {
	return fmt.Sprintf("%d edited files would be overwritten, the first is %s", len(e.Paths), e.Paths[0])
}

// has reports whether a tree holds a file at a path.
func (m *Move) has(tree content.Digest, p string) bool {
	f, err := m.Chest.At(tree, p)
	if m.err == nil {
		m.err = err
	}
	return f.Mode != 0 && f.Mode != chest.Folder
}

// bring writes what the new tree has otherwise, and removes what it has not.
func (m *Move) bring(ctx context.Context, pairs []chest.Pair, is map[string]state.File, t *Transition) error {
	var write, bare []state.File
	for _, p := range pairs {
		switch {
		case p.Is.Mode == 0 || is[p.Path].Same(p.Is):
			continue
		case p.Is.Mode == chest.Folder:
			bare = append(bare, p.Is)
			continue
		}
		if err := m.ClearWay(p.Path, func(p string) bool { return m.has(m.To, p) }); err != nil {
			return err
		}
		write = append(write, p.Is)
	}
	if err := m.clearSpellings(pairs, is, t); err != nil {
		return err
	}
	var readOnly ReadOnly
	if len(write) > 0 {
		var err error
		if readOnly, err = m.Guards(ctx); err != nil {
			return err
		}
	}
	to := state.Commit{Chest: m.Chest, Tree: m.To, Name: m.Label}
	if err := m.FetchAll(ctx, to, write, readOnly); err != nil {
		return err
	}
	t.Written = len(write)
	for _, p := range pairs {
		if p.Is.Mode == 0 && is[p.Path].Same(p.Was) {
			if err := m.Remove(p.Path); err != nil {
				return err
			}
			if p.Was.Mode != chest.Folder {
				t.Removed++
			}
		}
	}
	for _, f := range bare { // last: a folder goes with the last file in it
		if err := m.MakeFolder(f.Path); err != nil {
			return err
		}
	}
	return m.err
}

// clearSpellings removes files whose names come back in other letters: systems
// that take capital and small letters for one would lose the new file with the
// old.
func (m *Move) clearSpellings(pairs []chest.Pair, is map[string]state.File, t *Transition) error {
	coming := map[string]bool{}
	for _, p := range pairs {
		if p.Is.Mode != 0 && p.Was.Mode == 0 {
			coming[strings.ToLower(p.Path)] = true
		}
	}
	for _, p := range pairs {
		if p.Is.Mode == 0 && coming[strings.ToLower(p.Path)] && is[p.Path].Same(p.Was) {
			if err := m.Remove(p.Path); err != nil {
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
func (m *Move) inTheWay(p string) []string {
	for i, r := range p {
		if r != '/' {
			continue
		}
		if info, err := os.Lstat(m.Local(p[:i])); err == nil && !info.IsDir() && !m.has(m.From, p[:i]) {
			return []string{p[:i]}
		}
	}
	info, err := os.Lstat(m.Local(p))
	if err != nil {
		return nil
	}
	if !info.IsDir() {
		return []string{p}
	}
	var out []string
	_ = filepath.WalkDir(m.Local(p), func(full string, d fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(m.Root, full)
		if err == nil && !d.IsDir() && !m.has(m.From, filepath.ToSlash(rel)) {
			out = append(out, filepath.ToSlash(rel))
		}
		return nil
	})
	return out
}
