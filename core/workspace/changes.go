package workspace

import (
	"context"
	"slices"
	"strings"
	"sync"

	"oakenchest/core/chest"
	"oakenchest/core/element"
	"oakenchest/core/ledger"
	"oakenchest/core/state"
)

// FileState is what became of a file since the workspace was brought here.
type FileState string

// The states of a file.
const (
	New       FileState = "new"
	Edited    FileState = "edited"
	Gone      FileState = "gone"
	Moved     FileState = "moved"
	Contested FileState = "contested" // edited while somebody else holds its lock
)

// Change is a file that commit would record.
type Change struct {
	Path string
	// From is the former path of a moved file.
	From  string
	State FileState
	// Kind is the word for the kind of the artifact that the file belongs to.
	Kind string
	// Why says why the artifact is kept as opaque, or read as plain text.
	Why string
	// Holder is who has the lock of a contested file.
	Holder string
	// Noise says that nothing differs but what recipes call noise.
	Noise bool

	was, is state.File
}

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
	now, err := w.scan(ctx, func(f state.File) bool {
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
	if err := w.readMoved(before, now); err != nil {
		return nil, nil, err
	}
	s := &Status{Changes: changesOf(w.settled(chest.DiffFiles(before, now)))}
	now = w.withAbsent(before, now)
	s.now = now
	locks, err := w.locks(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, l := range locks {
		if w.holds(l) {
			s.Mine = append(s.Mine, l)
		} else {
			s.Held = append(s.Held, l)
		}
	}
	others := chest.NewLockSet(s.Held)
	for i := range s.Changes {
		if c := &s.Changes[i]; c.State == Edited && w.waived(c.Path) {
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

// readMoved reads new files that the scan left out and that may be ones that
// moved: a file of the same size is gone.
func (w *Workspace) readMoved(before, now []state.File) error {
	if len(w.unread) == 0 {
		return nil
	}
	gone := map[int64]bool{}
	pairs := w.settled(chest.DiffFiles(before, now))
	for _, p := range pairs {
		if p.Is.Mode == 0 {
			gone[p.Was.Size] = true
		}
	}
	for _, p := range pairs {
		seen, left := w.unread[p.Path]
		if !left || !gone[p.Is.Size] || p.Was.Mode != 0 {
			continue
		}
		d, _, err := digestFile(w.local(p.Path))
		if err != nil {
			return err
		}
		i, _ := slices.BinarySearchFunc(now, p.Path, func(f state.File, p string) int { return chest.ComparePaths(f.Path, p) })
		now[i].Digest = d
		w.learn(p.Path, seen, d)
	}
	return nil
}

// learn tells the index the digest of a file that the scan left out.
func (w *Workspace) learn(p string, seen found, d element.Digest) {
	w.index.learn(p, seen, d)
	delete(w.unread, p)
}

func (w *Workspace) holds(l ledger.Lock) bool { return l.Holder == w.Person && l.Workspace == w.Name }

// changesOf tells from pairs of files, in order, what changed; a file that went
// and one of equal content that came are one that moved.
func changesOf(pairs []chest.Pair) []Change {
	var out []Change
	moved := chest.Moved(pairs)
	was := map[string]state.File{} // what moved, by the path that it had
	for _, from := range moved {
		was[from] = state.File{}
	}
	for _, p := range pairs {
		if _, ok := was[p.Path]; ok {
			was[p.Path] = p.Was
		}
	}
	for i, p := range pairs {
		from := moved[p.Path]
		switch _, left := was[p.Path]; {
		case from != "":
			out = append(out, Change{Path: p.Path, State: Moved, From: from, was: was[from], is: p.Is})
		case left && p.Is.Mode == 0:
			// it is listed where it moved to
		case p.Was.Mode == 0:
			out = append(out, Change{Path: p.Path, State: New, is: p.Is})
		case p.Is.Mode != 0:
			out = append(out, Change{Path: p.Path, State: Edited, was: p.Was, is: p.Is})
		case p.Was.Mode == chest.Folder && i+1 < len(pairs) && chest.Covers(p.Path, pairs[i+1].Path):
			// a bare folder that something was put into
		default:
			out = append(out, Change{Path: p.Path, State: Gone, was: p.Was})
		}
	}
	slices.SortFunc(out, func(a, b Change) int { return strings.Compare(a.Path, b.Path) })
	return out
}

// nameKinds says of each changed artifact its kind, and whether it can be read; it gives what it has found.
func (w *Workspace) nameKinds(ctx context.Context, changes []Change, now []state.File) (map[string]state.Checked, error) {
	if len(changes) == 0 {
		return nil, nil
	}
	r := w.Reader()
	work := state.Listed(w.Work(), now)
	known := map[string]state.Checked{}
	for i := range changes {
		c := &changes[i]
		if c.is.Mode == 0 && c.was.Mode == chest.Folder {
			c.Kind = "folder"
			continue
		}
		if c.is.Mode == 0 {
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
		if c.State == Edited && f.Hidden != (element.Digest{}) && c.was.Mode == c.is.Mode {
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
