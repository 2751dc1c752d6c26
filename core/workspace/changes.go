package workspace

import (
	"context"
	"sync"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
	"oakenchest/core/workspace/disk"
)

// A Change is a file that commit would record; its State says what became of it since the workspace was brought here.
type (
	Change    = disk.Change
	FileState = disk.FileState
)

// The states of a file.
const (
	New       = disk.New
	Edited    = disk.Edited
	Gone      = disk.Gone
	Moved     = disk.Moved
	Contested = disk.Contested
)

// Status is everything that `changes` tells.
type Status struct {
	Changes []Change
	// Held lists the locks of other people and workspaces.
	Held []ledger.Lock
	// Mine lists this workspace's own locks.
	Mine []ledger.Lock
	// Newer counts the commits of the branch that are not in this workspace.
	Newer int
	// Unreadable lists what could be read before it was edited, and can't any more.
	Unreadable []Unreadable
	// Waiting lists the commits that are held here, the oldest first.
	Waiting []Held

	now []state.File
}

// Changes compares the workspace with its base, and says the kind of each
// artifact that changed.
func (w *Workspace) Changes(ctx context.Context) (*Status, error) {
	s, now, err := w.status(ctx, false)
	if err != nil {
		return nil, err
	}
	known, err := w.nameKinds(ctx, s.Changes, now)
	if err != nil {
		return nil, err
	}
	if s.Unreadable, err = w.unreadable(ctx, s.Changes, known); err != nil {
		return nil, err
	}
	s.Waiting = w.HeldCommits()
	if w.Offline {
		return s, nil
	}
	tip, err := w.Chest.Branch(ctx, w.Branch)
	if err != nil || tip.Tip == w.Base.ID {
		return s, err
	}
	err = w.Chest.Ancestors(ctx, tip.Tip, func(c ledger.Commit) (bool, error) {
		if c.ID == w.Base.ID || c.Generation <= w.Base.Generation {
			return false, nil
		}
		s.Newer++
		return true, nil
	})
	return s, err
}

// status is Changes without the kinds; it also gives the files as they are. When
// it may suppose, a file that was written since the last look counts as edited
// without being read.
func (w *Workspace) status(ctx context.Context, suppose bool) (*Status, []state.File, error) {
	base := sync.OnceValues(func() ([]state.File, error) {
		files, err := w.BaseState().Files(ctx)
		return chest.InOrder(files), err
	})
	go base() // beside the reading of the workspace
	now, err := w.disk.Scan(ctx, func(f state.File) bool {
		before, err := base()
		old := chest.Find(before, f.Path)
		return err == nil && old.Mode != 0 && old.Size == f.Size && !suppose
	})
	if err != nil {
		return nil, nil, err
	}
	before, err := base()
	if err != nil {
		return nil, nil, err
	}
	if err := w.disk.ReadMoved(w.settled(chest.DiffFiles(before, now)), now); err != nil {
		return nil, nil, err
	}
	s := &Status{Changes: disk.ChangesOf(w.settled(chest.DiffFiles(before, now)))}
	now = w.withAbsent(before, now)
	s.now = now
	locks, err := w.locks(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, l := range locks {
		if w.locking.Holds(l) {
			s.Mine = append(s.Mine, l)
		} else {
			s.Held = append(s.Held, l)
		}
	}
	others := chest.NewLockSet(s.Held)
	for i := range s.Changes {
		if c := &s.Changes[i]; c.State == Edited && w.locking.IsWaived(c.Path) {
			c.State = Contested
		}
		if c := &s.Changes[i]; c.State != New {
			for _, l := range append(others.Over(c.Path), others.Over(c.From)...) {
				c.State, c.Holder = Contested, l.Holder
			}
		}
	}
	return s, now, nil
}

// nameKinds says of each changed artifact its kind, and whether it can be read; it gives what it has found.
func (w *Workspace) nameKinds(ctx context.Context, changes []Change, now []state.File) (map[string]state.Checked, error) {
	if len(changes) == 0 {
		return nil, nil
	}
	r := w.Reader()
	units := make(map[string]bool, len(changes))
	for _, c := range changes {
		units[r.Unit(c.Path)] = true
	}
	work := state.PartOf(w.Work().(state.Finder), now, units)
	known := map[string]state.Checked{}
	for i := range changes {
		c := &changes[i]
		if c.Is.Mode == 0 && c.Was.Mode == chest.Folder {
			c.Kind = "folder"
			continue
		}
		if c.Is.Mode == 0 {
			c.Kind = w.kindByPath(r, c.Path)
			continue
		}
		unit := r.Unit(c.Path)
		f, ok := known[unit]
		if !ok {
			var err error
			if f, err = r.Check(work, unit); err != nil {
				return nil, err
			}
			known[unit] = f
		}
		c.Kind = f.Kind
		if f.Why != nil {
			c.Why = f.Why.Error()
		}
		if c.State == Edited && f.Hidden != (element.Digest{}) && c.Was.Mode == c.Is.Mode {
			was, err := r.Read(ctx, w.BaseState(), unit)
			c.Noise = err == nil && was.Reading.Root.Sum() == f.Sum && was.Reading.Hidden != f.Hidden
		}
	}
	return known, nil
}

func (w *Workspace) kindByPath(r *state.Reader, p string) string {
	if a, ok := w.Manifest.Declared(r.Unit(p)); ok {
		return a.Kind
	}
	data, err := state.ReadFile(w.BaseState(), p)
	if err != nil {
		return w.host.Kinds.Opaque().Name()
	}
	return r.KindOf(p, data).Name()
}
